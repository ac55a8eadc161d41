"""The long section in the real window: legs and curves by their handles, and how much levels are exaggerated."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QRectF, Qt
from PySide6.QtGui import QContextMenuEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QMenu

from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street import Street, StreetLine
from humble_loop.kinds.street.edits import set_bend
from humble_loop.kinds.street.elements import elements
from humble_loop.kinds.street.grades import vip_rows
from humble_loop.kinds.street.plan import chain_of
from humble_loop.lines.line import ThingId, line

LOOP = ThingId("street", "ember-loop")


@pytest.fixture
def d(drive, brickworks):
    driver = drive(brickworks)
    driver.session.choose(LOOP)
    driver.settle()
    driver.window.long_section.fit()
    driver.settle()
    return driver


def handle(d, title):
    return next(h for h in d.window.long_section.handles.handles if h.title == title)


def rows(d):
    return vip_rows(d.session.engine, "ember-loop")


def test_a_leg_is_dragged_and_the_tag_tells_its_grade(d):
    view, before = d.window.long_section, rows(d)
    h = handle(d, "Ember Loop leg 2")
    d.drag(view, h.place, (h.place[0], h.place[1] + 0.3), release=False)
    assert "raised" in view.tag.text()
    assert "grade" in view.tag.text()
    d.release(view, (h.place[0], h.place[1] + 0.3))
    after = rows(d)
    rise = after[1].level - before[1].level
    assert rise == pytest.approx(0.3, abs=0.03)  # a pixel or so
    assert after[2].level - before[2].level == pytest.approx(rise, abs=2e-3)
    d.session.undo()
    assert [r.level for r in rows(d)] == pytest.approx([r.level for r in before])


def test_a_curve_is_dragged_by_its_end_and_takes_a_typed_k(d):
    view = d.window.long_section
    h = handle(d, "Ember Loop VIP 3 curve")
    end = next(x for x in view.handles.handles if x.key == ("curve end", "ember-loop", 2))
    d.drag(view, end.place, (end.place[0] + 8.0, end.place[1]))
    assert rows(d)[2].curve == pytest.approx(40.0, abs=2.0)
    d.settle()
    end = next(x for x in view.handles.handles if x.key == ("curve end", "ember-loop", 2))
    d.press(view, end.place)
    d.move(view, (end.place[0] + 3.0, end.place[1]))
    d.type(view, "k50")
    d.release(view, end.place)
    assert rows(d)[2].k == pytest.approx(50.0, abs=0.2)
    assert h.shape == "round"


def test_the_tangents_go_through_vips_only(d):
    s, _ = d.window.long_section._lines["tangents"].getData()
    assert list(s) == pytest.approx([r.chainage for r in rows(d)])


@pytest.mark.parametrize("stretch", [1.0, 10.0])
def test_levels_are_drawn_as_large_as_was_chosen(d, stretch):
    view, told = d.window.long_section, []
    view.stretched.connect(told.append)
    view.choose_stretch(stretch)
    d.settle()
    across, up = view.plotItem.vb.viewPixelSize()
    assert across / up == pytest.approx(stretch, rel=0.02)
    assert told[-1] == pytest.approx(stretch, rel=0.03)
    (low, high) = view.plotItem.vb.viewRange()[1]
    middle = [r.level for r in rows(d)]
    assert low < sum(middle) / len(middle) < high
    view.choose_stretch(None)
    d.settle()
    across, up = view.plotItem.vb.viewPixelSize()
    assert across / up > 10.0


def test_vips_are_rounded_with_one_click(d):
    from PySide6.QtWidgets import QPushButton

    button = next(b for b in d.window.facts.findChildren(QPushButton) if b.text().startswith("Round to"))
    button.click()
    vips = d.site.find(Street, "ember-loop").vips
    assert [v.chainage for v in vips[1:-1]] == pytest.approx([90.0, 160.0])
    assert all(abs(v.level / 0.02 - round(v.level / 0.02)) < 1e-6 for v in vips if v.level is not None)


def colour_at(strip, piece):
    """The colour of the strip's band in the middle of a piece, clear of the centreline."""
    s = strip.depths.chainages
    x = round(strip.pixel(float(0.5 * (s[piece] + s[piece + 1]))))
    return strip.grab().toImage().pixelColor(x, strip.height() // 2 + 4)


def test_the_strip_tells_cut_and_fill_between_the_lips(d):
    """The band is as deep as the crown lies above the ground, and brown where it lies below."""
    strip, q = d.window.strip, d.session.engine
    made = strip.depths
    s = made.chainages[::10]
    points = chain_of(q, "ember-loop").points_at(s)
    crown = line(q, StreetLine("ember-loop")).rule.levels(s)
    assert made.depths[::10] == pytest.approx(crown - ground_of(q).levels(points), nan_ok=True)
    deepest = colour_at(strip, int(np.nanargmin(made.depths[:-1])))
    assert deepest.red() > deepest.blue() + 10  # brown
    d.session.choose(ThingId("street", "kiln-court"))  # part of which lies in fill
    d.settle()
    highest = int(np.nanargmax(strip.depths.depths[:-1]))
    assert strip.depths.depths[highest] > 0.1
    assert colour_at(strip, highest).green() > colour_at(strip, highest).red()  # teal
    strip._session.choose(None)
    d.settle()
    assert strip.depths is None


def test_a_vip_is_locked_by_the_command_and_then_refuses_the_hand(d):
    view = d.window.long_section
    h = handle(d, "Ember Loop VIP 3")
    d.click(view, h.place)
    assert d.session.chosen.held == h.key
    d.window.run(d.window._command("Lock or unlock the VIP").do)
    d.settle()
    assert handle(d, "Ember Loop VIP 3").state == "locked"
    before = [r.level for r in rows(d)]
    h = handle(d, "Ember Loop VIP 3")
    d.drag(view, h.place, (h.place[0], h.place[1] + 0.4))
    assert [r.level for r in rows(d)] == before
    d.click(view, h.place)
    d.window.run(d.window._command("Lock or unlock the VIP").do)
    d.settle()
    h = handle(d, "Ember Loop VIP 3")
    d.drag(view, h.place, (h.place[0], h.place[1] + 0.4))
    assert rows(d)[2].level == pytest.approx(before[2] + 0.4, abs=0.05)


def menu_at(d, view, place):
    at = d.at(view, place)
    d.qtbot.waitExposed(d.window)
    view.contextMenuEvent(QContextMenuEvent(QContextMenuEvent.Reason.Mouse, at, view.mapToGlobal(at)))
    return next(m for m in view.findChildren(QMenu) if m.isVisible())


def test_other_lines_are_shown_on_the_same_axis_abreast_of_the_street(d):
    view, q = d.window.long_section, d.session.engine
    menu = menu_at(d, view, (60.0, 45.0))
    action = next(a for a in menu.actions() if a.text() == "Show Kiln Court crown")
    assert not action.isChecked()
    action.trigger()
    menu.close()
    d.settle()
    s, z = view._lines["also 0"].getData()
    assert len(s) > 50
    there = np.isfinite(z)
    assert there.any()
    k = int(np.flatnonzero(there)[len(np.flatnonzero(there)) // 2])
    court = line(q, StreetLine("kiln-court"))
    place = chain_of(q, "ember-loop").points_at([s[k]])
    foot = chain_of(q, "kiln-court").feet(place)
    assert z[k] == pytest.approx(float(court.rule.levels(foot.chainages)[0]))
    assert any(x.text == court.plan.title for x in view._named)
    for title in ("Claypit Road crown", "Claypit Road left lip", "Claypit Road right lip"):
        id = next(id for words, id, _ in view.offered() if words == title)
        view.show_also(id, True)
    assert len(view.also) == 3  # the first has made room
    assert StreetLine("kiln-court") not in view.also
    d.session.choose(ThingId("street", "kiln-court"))
    d.settle()
    assert not view.also  # each street has its own
    d.session.choose(LOOP)
    assert len(view.also) == 3


def test_the_menu_locks_the_vip_under_the_mouse(d):
    view = d.window.long_section
    h = handle(d, "Ember Loop VIP 3")
    menu = menu_at(d, view, h.place)
    next(a for a in menu.actions() if a.text() == "Lock the VIP").trigger()
    menu.close()
    d.settle()
    assert handle(d, "Ember Loop VIP 3").state == "locked"


def test_near_to_the_strip_its_colours_stay_at_their_chainages(d):
    strip, view = d.window.strip, d.window.long_section
    deepest = int(np.nanargmin(strip.depths.depths[:-1]))
    s = strip.depths.chainages
    middle = float(0.5 * (s[deepest] + s[deepest + 1]))
    wanted = colour_at(strip, deepest)
    (_, _), (low, high) = view.plotItem.vb.viewRange()
    view.plotItem.vb.setRange(QRectF(middle - 6.0, low, 12.0, high - low), padding=0)
    d.settle()
    assert colour_at(strip, deepest) == wanted


# The band of curvature


def band_colour(band, chainage, up):
    """The colour of the band some pixels above its axis (``up``) or below it."""
    return band.grab().toImage().pixelColor(round(band.pixel(chainage)), round(0.5 * band.height() - up))


def test_the_band_shows_curves_on_the_side_to_which_they_turn(d):
    band = d.window.curvature
    assert band.elements == elements(d.session.engine, "ember-loop")
    paper = band.grab().toImage().pixelColor(1, 1)
    right, left = (e for e in band.elements if e.kind == "arc")  # R 90 to the right, then R 80 to the left
    assert right.deflection < 0 < left.deflection
    for e, up in ((right, -4.0), (left, 4.0)):
        at = e.start + 0.1 * e.length  # clear of the words
        assert band_colour(band, at, up) != paper
        assert band_colour(band, at, -up) == paper
    # On both ends of a transition the shape begins at the axis: it is curved there by nothing.
    bend = d.site.find(Street, "ember-loop").bends[1]
    assert bend.radius == 90.0
    d.session.do("Transitions", lambda s: set_bend(s, "ember-loop", 1, transition_in=12.0))
    d.settle()
    first = next(e for e in band.elements if e.kind == "transition")
    assert band_colour(band, first.start + 0.1 * first.length, -5.0) == paper
    assert band_colour(band, first.end - 0.1 * first.length, -5.0) != paper


def test_an_element_is_chosen_by_a_click_and_told_under_the_mouse(d):
    band = d.window.curvature
    arc = next(e for e in band.elements if e.kind == "arc")
    place = QPoint(round(band.pixel(0.5 * (arc.start + arc.end))), 15)
    QTest.mouseClick(band, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, place)
    assert d.session.chosen.held == ("bend", "ember-loop", 1)
    assert band.words(arc).startswith("arc, 34.12, radius 90.00, turns 21")
    QTest.mouseMove(band, place)
    d.settle()
    assert d.session.station is not None
    assert d.session.station.chainage == pytest.approx(0.5 * (arc.start + arc.end), abs=1.0)
    straight = QPoint(round(band.pixel(0.5 * arc.start)), 15)
    QTest.mouseClick(band, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, straight)
    assert d.session.chosen.held == ()
    assert band.words(band.elements[0]) == f"straight, {band.elements[0].length:.2f}"


def test_a_kink_stands_in_the_band_and_an_existing_or_no_street_is_shown_as_it_is(d):
    band = d.window.curvature
    d.session.do("Kink", lambda s: set_bend(s, "ember-loop", 1, radius=0.0))
    d.settle()
    kink = next(e for e in band.elements if e.kind == "kink")
    assert band.at(band.pixel(kink.start) + 2.0) == kink
    assert band.words(kink).startswith("kink, turns 21")
    red = band_colour(band, kink.start, 7.0)
    assert red.red() > red.blue() + 60
    d.session.choose(ThingId("street", "claypit-road"))
    d.settle()
    assert [e.kind for e in band.elements] == ["straight", "arc", "straight"]
    d.session.choose(None)
    d.settle()
    assert band.elements == ()
    band.repaint()
