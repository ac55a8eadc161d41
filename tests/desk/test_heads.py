"""Turning heads by hand: made, shaped, their levels dragged round and in long section, and an island put into one."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QPushButton

from humble_loop.kinds.island import Island
from humble_loop.kinds.kerb_line.model import KerbVip, add_kerb_line
from humble_loop.kinds.knuckle import Knuckle
from humble_loop.kinds.turning_head import TurningHead
from humble_loop.kinds.turning_head.layout import outline
from humble_loop.kinds.turning_head.levels import ring_levels
from humble_loop.lines.line import ThingId
from tests import edits
from tests.kinds.test_heads import HEAD, ended, grounded
from tests.kinds.test_knuckles import bare
from tests.kinds.test_knuckles import grounded as elbow_on_ground


@pytest.fixture
def d(drive):
    driver = drive(grounded(ended()))
    driver.session.choose(HEAD)
    driver.settle()
    driver.window.long_section.fit()
    driver.window.plan.fit_thing(HEAD)
    driver.settle()
    return driver


def head(d):
    return d.site.all(TurningHead)[0]


def pick(d, words):
    """Choose an entry in a list of Facts, as the hand does."""
    box = next(b for b in d.window.facts.findChildren(QComboBox) if b.findText(words) >= 0)
    k = box.findText(words)
    box.setCurrentIndex(k)
    box.activated.emit(k)
    d.settle()


def press(d, words):
    next(b for b in d.window.facts.findChildren(QPushButton) if b.text() == words).click()
    d.settle()


def test_a_street_ends_in_a_hammerhead_by_its_command(drive):
    d = drive(edits.remove_head(ended(), "s"))
    d.session.choose(ThingId("street", "s"))
    d.settle()
    d.window.run(d.window._command("End in a hammerhead").do)
    assert (head(d).kind, head(d).left_arm) == ("hammerhead", None)
    plan = d.window.plan
    d.session.choose(HEAD)
    plan.fit_thing(HEAD)
    d.settle()
    arm = next(h for h in plan.handles.handles if h.title == "S hammerhead left arm")
    d.drag(plan, arm.place, (arm.place[0], arm.place[1] + 2.0))
    assert head(d).left_arm == pytest.approx(12.5, abs=0.1)
    pick(d, "Y")
    assert (head(d).kind, head(d).left_arm) == ("Y", None)


def test_its_low_point_is_dragged_round_the_lip_and_typed(d):
    plan, ring = d.window.plan, outline(d.session.engine, "s", "end").ring
    pit = next(h for h in plan.handles.handles if h.title == "S bulb pit")
    d.drag(plan, pit.place, tuple(ring.points_at([0.35 * ring.total])[0]))
    assert head(d).turn == pytest.approx(0.35, abs=0.005)
    assert ring_levels(d.session.engine, "s", "end").turn == pytest.approx(head(d).turn * ring.total)
    pit = next(h for h in plan.handles.handles if h.title == "S bulb pit")
    d.drag(plan, pit.place, tuple(ring.points_at([0.4 * ring.total])[0]), release=False)
    d.type(plan, "40")
    d.key(plan, Qt.Key.Key_Return)
    assert head(d).turn == pytest.approx(40.0 / ring.total, abs=1e-5)


def test_levels_are_added_dragged_and_taken_out_in_the_long_section(d):
    view, q = d.window.long_section, d.session.engine
    total = outline(q, "s", "end").ring.total
    at = 0.25 * total, float(ring_levels(q, "s", "end").rule.levels([0.25 * total])[0]) + 0.1
    d.move(view, at)
    QTest.mouseDClick(view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, d.at(view, at))
    d.settle()
    assert len(head(d).vips) == 4
    assert len(head(d).outlets) == 1
    fresh = min(head(d).vips, key=lambda v: abs(v.share - 0.25))
    assert fresh.level == pytest.approx(at[1], abs=0.02)
    k = head(d).vips.index(fresh)
    handle = next(h for h in view.handles.handles if h.key == ("head vip", "s", "end", k))
    d.drag(view, handle.place, (handle.place[0], handle.place[1] - 0.15))
    assert head(d).vips[k].level == pytest.approx(fresh.level - 0.15, abs=0.02)
    d.click(view, next(h for h in view.handles.handles if h.key == handle.key).place)
    d.window.run(d.window._command("Remove the VIP or bend").do)
    assert len(head(d).vips) == 3
    pick(d, next(w for w in _ways(d) if w.startswith("fall from its centre (")))
    assert head(d).vips == ()


def _ways(d):
    box = next(b for b in d.window.facts.findChildren(QComboBox) if b.findText("its own grade line") >= 0)
    return [box.itemText(k) for k in range(box.count())]


def test_an_island_is_put_into_a_bulb_and_its_corners_are_dragged(d):
    press(d, "Round island in it")
    island = d.site.all(Island)[0]
    assert island.wide_begin == 12.0
    d.session.choose(ThingId("island", island.id))
    d.settle()
    pick(d, "corners with arcs")
    plan = d.window.plan
    plan.look_at(100, 0, 40.0)
    d.settle()
    corner = plan.handles.handles[0]
    d.drag(plan, corner.place, (corner.place[0] + 1.0, corner.place[1] - 1.0))
    made = d.site.all(Island)[0].corners[0]
    assert np.hypot(made.at - corner.place[0] - 1.0, made.beside - corner.place[1] + 1.0) < 0.2


def test_a_kerb_line_takes_a_vip_by_a_double_click_too(drive):
    vips = [KerbVip(chainage=10.0, level=29.7), KerbVip(chainage=60.0, level=28.7)]
    d = drive(add_kerb_line(grounded(ended()), "s", "left", vips))
    d.session.choose(ThingId("kerb_line", "s-left-kerb-line"))
    d.settle()
    view = d.window.long_section
    view.fit()
    at = 30.0, 29.25
    d.move(view, at)
    QTest.mouseDClick(view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, d.at(view, at))
    kerb = next(k for k in d.site.things["kerb_lines"])
    assert [round(v.chainage) for v in kerb.vips] == [10, 30, 60]


def test_a_knuckle_is_put_on_an_elbow_and_dragged(drive):
    d = drive(elbow_on_ground(bare()))
    d.session.choose(ThingId("street", "s"))
    d.settle()
    press(d, "Knuckle at 58")
    knuckle = d.site.all(Knuckle)[0]
    thing = ThingId("knuckle", knuckle.id)
    d.session.choose(thing)
    d.window.plan.fit_thing(thing)
    d.settle()
    assert d.session.street == "s"  # its street's cross section stays beside it
    assert d.window.strip.isHidden()  # it has the street's chainages, the long section its own
    plan = d.window.plan
    rim = next(h for h in plan.handles.handles if h.title.endswith("radius"))
    d.drag(plan, rim.place, (rim.place[0] + 0.7, rim.place[1] - 0.7))
    assert 8.6 < d.site.all(Knuckle)[0].radius < 9.8
    view = d.window.long_section
    view.fit()
    (level,) = [h for h in view.handles.handles if h.key[0] == "knuckle level"]
    d.drag(view, level.place, (level.place[0], level.place[1] + 0.1))
    assert d.site.all(Knuckle)[0].levels[0].level == pytest.approx(level.place[1] + 0.1, abs=0.02)
    d.click(view, next(h for h in view.handles.handles if h.key[0] == "knuckle level").place)
    d.window.run(d.window._command("Remove the VIP or bend").do)
    assert d.site.all(Knuckle)[0].levels == ()
