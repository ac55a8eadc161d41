"""Driveways by hand: slid along the kerb, and a vehicle that goes with the cursor in the long section."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from humble_loop.kinds.driveway import DrivewayChoice
from humble_loop.kinds.driveway.place import all_lots, way_of
from humble_loop.kinds.lot.model import set_pad
from humble_loop.kinds.lot.pad import pad
from humble_loop.lines.line import ThingId
from tests.kinds.test_driveways import lined


@pytest.fixture
def d(drive):
    driver = drive(lined())
    driver.frame = all_lots(driver.session.engine)[3]
    driver.session.choose(ThingId("driveway", driver.frame.id))
    driver.window.plan.fit_thing(ThingId("driveway", driver.frame.id))
    driver.settle()
    return driver


def test_it_is_chosen_by_a_click_and_slid_along_the_frontage(d):
    plan, way = d.window.plan, way_of(d.session.engine, d.frame.id)
    d.session.choose(None)
    d.settle()
    middle = 0.5 * (way.boundary + way.pad)
    d.click(plan, (float(middle[0]), float(middle[1])))
    assert d.session.thing == ThingId("driveway", d.frame.id)
    d.settle()
    hold = next(h for h in plan.handles.handles if h.key[0] == "driveway at")
    d.drag(plan, hold.place, (hold.place[0] + 4.0, hold.place[1] + 1.0))
    (choice,) = d.site.all(DrivewayChoice)
    assert choice.at == pytest.approx(way.sizes.at + 4.0, abs=0.2)
    d.session.undo()
    assert d.site.all(DrivewayChoice) == ()


def test_it_is_turned_by_its_handle_at_the_pad_and_taken_back(d):
    plan, way = d.window.plan, way_of(d.session.engine, d.frame.id)
    hold = next(h for h in plan.handles.handles if h.key[0] == "driveway to")
    step = way.run * np.tan(np.radians(10.0))
    d.drag(plan, hold.place, (hold.place[0] + step, hold.place[1]))
    turned = way_of(d.session.engine, d.frame.id)
    assert turned.sizes.skew == pytest.approx(10.0, abs=0.6)
    assert turned.boundary == pytest.approx(way.boundary, abs=1e-9)
    d.session.undo()
    assert d.site.all(DrivewayChoice) == ()


def test_a_vehicle_goes_with_the_cursor_in_its_long_section_at_true_scale(d):
    view = d.window.long_section
    across, up = view.plotItem.vb.viewPixelSize()
    assert across == pytest.approx(up, rel=0.05)
    shown = view._lines["standing"]
    before = np.nanmean(shown.xData[:20])
    d.move(view, (2.0, float(view._shown.levels[0]) + 0.5))
    near = np.nanmean(shown.xData[:20])
    d.move(view, (5.0, float(view._shown.levels[0]) + 0.5))
    assert np.nanmean(shown.xData[:20]) - near == pytest.approx(3.0, abs=0.2)
    assert before != near
    d.session.choose(None)
    d.settle()
    assert shown.xData is None or not len(shown.xData)


def test_the_strip_shows_where_each_leaves_the_kerb_and_what_is_left_there(d):
    strip = d.window.strip
    d.session.choose(ThingId("street", "line"))
    d.settle()
    strip.repaint()
    shown = {m.thing.id: m for m in strip._later if m.role.startswith("driveway")}
    assert set(shown) == {f.id for f in all_lots(d.session.engine)}
    assert {m.role for m in shown.values()} == {"driveway clear"}
    way, mark = way_of(d.session.engine, d.frame.id), shown[d.frame.id]
    assert (mark.side, mark.start, mark.end) == ("left", pytest.approx(way.s - 2.0), pytest.approx(way.s + 2.0))
    box = next(b for b, thing in strip._boxes if thing == ThingId("driveway", d.frame.id))
    assert box.bottom() < strip.height() / 2  # the left side is above
    seen = strip.grab().toImage().pixelColor(box.center().toPoint())
    assert seen == strip._theme.colour("fill")

    # With its pad 2.5 m below the boundary, 6 m from there, a car's nose meets the pad; its neighbours stay clear.
    deep = float(pad(d.session.engine, d.frame.id).boundary) - 2.5
    d.session.do("Set pad", lambda s: set_pad(s, d.frame.row.id, d.frame.number, deep))
    d.settle()
    roles = {m.thing.id: m.role for m in strip._later if m.role.startswith("driveway")}
    assert roles.pop(d.frame.id) == "driveway touches"
    assert set(roles.values()) == {"driveway clear"}
    strip.repaint()
    assert strip.grab().toImage().pixelColor(box.center().toPoint()) == strip._theme.colour("broken")
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, box.center().toPoint())
    assert d.session.thing == ThingId("driveway", d.frame.id)
