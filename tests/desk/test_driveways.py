"""Driveways by hand: slid along the kerb, and a vehicle that goes with the cursor in the long section."""

import numpy as np
import pytest

from humble_loop.kinds.driveway import DrivewayChoice
from humble_loop.kinds.driveway.place import all_lots, way_of
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
