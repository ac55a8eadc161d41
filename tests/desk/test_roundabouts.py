"""Roundabouts by hand: placed to scale under the cursor, dragged, their legs taken one by one, and their levels in the long section."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QLabel, QLineEdit, QPushButton

from humble_loop.desk.theme import LIGHT
from humble_loop.kinds.roundabout import Roundabout
from humble_loop.kinds.roundabout.bypass import bypass_after
from humble_loop.kinds.roundabout.leg_show import handles
from humble_loop.kinds.roundabout.model import remove_roundabout, set_leg
from humble_loop.kinds.roundabout.place import legs_of
from humble_loop.lines.line import ThingId
from humble_loop.whole.things import all_things
from tests.kinds.test_roundabouts import ID, THING, cross


@pytest.fixture
def d(drive):
    driver = drive(cross(preset="compact"))
    driver.session.choose(THING)
    driver.window.plan.fit_thing(THING)
    driver.settle()
    driver.window.long_section.fit()
    return driver


def made(d):
    return d.site.all(Roundabout)[0]


def handle(d, view, key):
    return next(h for h in view.handles.handles if h.key[: len(key)] == key)


def press(d, words):
    next(b for b in d.window.facts.findChildren(QPushButton) if b.text() == words).click()
    d.settle()


def pick(d, words):
    box = next(
        b for b in d.window.facts.findChildren(QComboBox) if any(words in b.itemText(k) for k in range(b.count()))
    )
    k = next(k for k in range(box.count()) if words in box.itemText(k))
    box.setCurrentIndex(k)
    box.activated.emit(k)
    d.settle()


def lines(drawing, thing):
    """The lines that are shown of a thing, wherever they are drawn."""
    every = [layer.lines_of(thing) for layer in (drawing.strokes, drawing.lifted, drawing.held)]
    (shown,) = [made for made in every if made]
    return {(role, *(round(path.elementAt(k).x, 6) for k in range(path.elementCount()))) for role, path in shown}


@pytest.mark.parametrize("leads", [-1.0, 10.0], ids=["handle first", "all at once"])
def test_its_circle_moves_with_the_hand_and_streets_and_legs_after_it(d, monkeypatch, leads):
    monkeypatch.setattr("humble_loop.desk.plan._LEADS", leads)
    plan, drawing = d.window.plan, d.window.plan.drawing
    middle = next(h for h in plan.handles.handles if h.title.endswith("middle"))
    near = [THING, ThingId("street", "a"), *(t for t in all_things(d.session.engine) if t.kind == "roundabout_leg")]
    before = {t: lines(drawing, t) for t in near}
    painted = []
    d.session.drag_painted.connect(lambda: painted.append(lines(drawing, THING) != before[THING]))
    d.drag(plan, middle.place, (middle.place[0] + 2.0, middle.place[1] + 1.0), release=False)
    # The last move is taken up, and all that changes with it is shown.
    d.qtbot.waitUntil(lambda: not (plan.dragging.waiting or plan._waiting or plan.lines_wait), timeout=10_000)
    assert all(lines(drawing, t) != before[t] for t in near)
    d.qtbot.waitUntil(lambda: bool(painted), timeout=10_000)
    assert all(painted)  # no frame is said to be painted before its own lines have moved
    assert drawing.held.lines_of(THING)
    moved = {t: lines(drawing, t) for t in near}
    handles_moved = {h.key: h.place for h in plan.handles.handles}
    d.release(plan, (middle.place[0] + 2.0, middle.place[1] + 1.0))
    assert not drawing.held.lines_of(THING)  # what is let go is drawn with all others again
    assert all(drawing.strokes.lines_of(t) for t in near)
    d.settle()
    assert {t: lines(drawing, t) for t in near} == moved
    shown = {h.key: h.place for h in plan.handles.handles}
    assert shown[middle.key] == pytest.approx(handles_moved[middle.key], abs=0.05)


def test_the_other_handles_come_along_while_the_hand_still_holds_one(d):
    plan = d.window.plan
    middle, others = (
        next(h for h in plan.handles.handles if h.title.endswith("middle")),
        {h.key: h.place for h in plan.handles.handles},
    )
    d.drag(plan, middle.place, (middle.place[0] + 2.0, middle.place[1]), release=False)
    d.qtbot.waitUntil(
        lambda: any(h.key != middle.key and h.place != others.get(h.key) for h in plan.handles.handles), timeout=10_000
    )
    d.key(plan, Qt.Key.Key_Escape)


def test_it_is_placed_to_scale_under_the_cursor(drive):
    d = drive(remove_roundabout(cross(), ID))
    d.window.run(d.window._command("Roundabout").do)
    plan = d.window.plan
    before = d.site
    d.move(plan, (4.0, 3.0))
    assert [r.preset for r in d.session.site.all(Roundabout)] == ["compact"]  # previewed
    QTest.keyClick(plan, Qt.Key.Key_Tab)
    assert [r.preset for r in d.session.site.all(Roundabout)] == ["single"]
    QTest.keyClick(plan, Qt.Key.Key_1)
    assert plan.sketch.preset.id == "mini"
    QTest.keyClick(plan, Qt.Key.Key_Escape)
    assert d.session.site is before
    assert plan.sketch is None
    d.window.run(d.window._command("Roundabout").do)
    d.move(plan, (4.0, 3.0))
    d.click(plan, (4.0, 3.0))
    assert (made(d).street, made(d).other, made(d).preset) == ("a", "b", "compact")
    assert d.session.thing == THING
    d.session.undo()
    assert not d.site.all(Roundabout)


def test_its_middle_and_rings_are_dragged_and_the_site_follows(d):
    plan = d.window.plan
    middle = handle(d, plan, ("roundabout middle",))
    d.drag(plan, middle.place, (1.6, -1.2))
    assert (made(d).east, made(d).north) == pytest.approx((1.6, -1.2), abs=0.2)
    radius = handle(d, plan, ("roundabout radius",))
    out = np.array(radius.place) - [made(d).east, made(d).north]
    end = np.array(radius.place) + 2.0 * out / np.hypot(*out)
    d.drag(plan, radius.place, (float(end[0]), float(end[1])))
    assert made(d).radius == pytest.approx(15.0, abs=0.2)
    d.settle()
    assert len(legs_of(d.session.engine, ID)) == 4


def test_a_leg_is_taken_by_a_click_and_is_the_only_one_in_facts(d):
    plan = d.window.plan
    d.click(plan, (17.0, -1.5))
    leg = ThingId("roundabout_leg", f"{ID}|a:onwards")
    assert d.session.thing == leg
    d.settle()
    words = [w.text() for w in d.window.facts._rows.findChildren(QLabel)]
    assert {"Entry", "Exit", "Splitter island"} <= set(words)
    assert "inscribed radius" not in words
    entry = handle(d, plan, ("leg entry_radius",))
    d.drag(plan, entry.place, (entry.place[0] - 1.5, entry.place[1]))
    (chosen,) = made(d).legs
    assert (chosen.street, chosen.way) == ("a", "onwards")
    assert chosen.entry_radius < 13.0
    nose = handle(d, plan, ("leg splitter",))
    d.drag(plan, nose.place, (nose.place[0] + 4.0, nose.place[1]))
    assert made(d).legs[0].splitter == pytest.approx(15.0, abs=0.3)


def test_handles_follow_a_change_that_takes_longer_than_a_hand_waits(d, monkeypatch):
    d.session.choose(ThingId("roundabout_leg", f"{ID}|a:onwards"))
    d.settle()
    before = handle(d, d.window.plan, ("leg entry_radius",)).place
    monkeypatch.setattr("humble_loop.desk.plan._PATIENCE", 1e-6)
    d.session.do("Radius", lambda s: set_leg(s, ID, "a", "onwards", entry_radius=9.0))
    d.settle()
    asked = handles(d.session.engine, ID, "a:onwards")
    wanted = next(h.place for h in asked if h.key[:1] == ("leg entry_radius",))
    assert handle(d, d.window.plan, ("leg entry_radius",)).place == pytest.approx(wanted, abs=1e-9)
    assert np.hypot(*np.subtract(before, wanted)) > 1.0


def test_it_becomes_a_junction_again_and_a_roundabout_again(d):
    press(d, "Make it a junction again")
    assert not made(d).laid
    d.session.choose(ThingId("junction", "a:b:0"))
    d.settle()
    press(d, "Make it a roundabout")
    assert made(d).laid


def test_its_own_levels_are_dragged_beside_its_kerbs_and_taken_out(d):
    pick(d, "its own closed grade line")
    assert made(d).levels == "own"
    count = len(made(d).vips)
    view = d.window.profiles
    assert [p.title for p in view.profiles][:2] == ["circle", "east to north"]
    view.fit()
    d.settle()
    one = handle(d, view, ("circle level", ID, 2))
    d.drag(view, one.place, (one.place[0], one.place[1] + 0.1))
    assert made(d).vips[2].level == pytest.approx(one.place[1] + 0.1, abs=0.03)
    d.click(view, handle(d, view, ("circle level", ID, 2)).place)
    d.window.run(d.window._command("Remove the VIP or bend").do)
    assert len(made(d).vips) == count - 1


def test_a_level_is_set_on_a_kerb_by_a_double_click_dragged_and_removed(d):
    d.window.run(d.window._command("Roundabout sheet").do)
    d.settle()
    view = d.window.profiles
    kerb = view.profiles[1]
    place = (kerb.begin + 4.0, float(np.interp(4.0, kerb.places, kerb.levels)))
    QTest.mouseDClick(view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, view.pixel(place))
    d.settle()
    (leg,) = made(d).legs
    assert (leg.street, leg.way, len(leg.exit_levels)) == ("a", "onwards", 1)
    one = handle(d, view, ("leg level",))
    d.drag(view, one.place, (one.place[0], one.place[1] - 0.05))
    assert made(d).legs[0].exit_levels[0].level == pytest.approx(one.place[1] - 0.05, abs=0.02)
    d.click(view, handle(d, view, ("leg level",)).place)
    d.window.run(d.window._command("Remove the VIP or bend").do)
    assert made(d).legs[0].exit_levels == ()


def test_every_label_of_every_thing_has_a_colour(d):
    """A label in a colour that no theme has cannot be drawn."""
    from humble_loop.desk.drawing import details, outline

    q = d.session.engine
    for thing in all_things(q):
        for drawing in (q.attempt(outline, thing), q.attempt(details, thing)):
            for label in getattr(drawing, "labels", ()):
                assert hasattr(LIGHT, label.role)


def test_leg_sizes_typed_in_facts_are_kept_and_given_back(d):
    d.session.choose(ThingId("roundabout_leg", f"{ID}|b:back"))
    d.settle()
    box = d.window.facts._rows.findChildren(QLineEdit, "fact widens over")[0]
    box.setFocus()
    box.selectAll()
    QTest.keyClicks(box, "18")
    QTest.keyClick(box, Qt.Key.Key_Return)
    (chosen,) = made(d).legs
    assert (chosen.street, chosen.way, chosen.flare) == ("b", "back", 18.0)
    d.session.undo()
    assert made(d).legs == ()


def test_a_bypass_lane_is_had_by_its_button_dragged_wider_and_rounder_and_taken_away(d):
    plan = d.window.plan
    d.session.choose(ThingId("roundabout_leg", f"{ID}|b:onwards"))
    d.settle()
    press(d, "A bypass lane to A east")
    (chosen,) = made(d).legs
    assert (chosen.street, chosen.way, chosen.bypass, chosen.bypass_radius) == ("b", "onwards", 4.5, None)
    words = [w.text().strip() for w in d.window.facts._rows.findChildren(QLabel)]
    assert {"goes to", "radius of its kerb", "island beside the circle", "comes and goes over"} <= set(words)
    island = bypass_after(d.session.engine, ID, "a:onwards").island
    hold = handle(d, plan, ("leg bypass_radius",))
    d.drag(plan, hold.place, (hold.place[0] + 1.5, hold.place[1] + 1.5))
    d.settle()
    assert bypass_after(d.session.engine, ID, "a:onwards").island == pytest.approx(island + 1.5 * np.sqrt(2.0), abs=0.3)
    hold = handle(d, plan, ("leg bypass",))
    d.drag(plan, hold.place, (hold.place[0] + 0.8, hold.place[1]))
    d.settle()
    assert made(d).legs[0].bypass == pytest.approx(5.3, abs=0.2)
    press(d, "Take the bypass lane away")
    assert made(d).legs[0].bypass is None
    assert bypass_after(d.session.engine, ID, "a:onwards") is None
