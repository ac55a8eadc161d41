"""A junction close up in the real window: its corners in rows, its returns side by side, levels set on them by hand."""

import pytest
from PySide6.QtCore import Qt
from PySide6.QtGui import QContextMenuEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QMenu

from humble_loop.kinds.junction.corners import ReturnLine, corner_choice, kerb_return
from humble_loop.kinds.junction.layout import reach_of, throat
from humble_loop.lines.line import ThingId, line
from tests.desk.test_sheets import type_into

COURT = ThingId("junction", "kiln-court:start")
LEFT = ("kiln-court", "start", "left")


@pytest.fixture
def d(drive, brickworks):
    driver = drive(brickworks)
    driver.window.stage_row.choose(4)
    driver.session.choose(COURT)
    driver.settle()
    driver.window.open_junction_sheet()
    driver.settle()
    return driver


def levels(d):
    return corner_choice(d.session.engine, *LEFT).levels


def test_it_shows_plan_corners_and_returns_and_goes_with_the_junction(d):
    window = d.window
    assert window.profiles.isVisible()
    assert not window.long_section.isVisible()
    assert window._panes["Long section"].caption.text().startswith("Long sections  Kiln Court / Ember Loop")
    assert [p.title for p in window.profiles.profiles] == ["left", "right"]
    assert window.sheets.model.sheet.title == "Corners"
    assert window.plan.drawing.show_flow
    d.session.choose(ThingId("street", "kiln-court"))
    d.settle()
    assert window.long_section.isVisible()
    assert not window.profiles.isVisible()
    window.open_junction_sheet()  # of a street the junction that is nearest to the cursor
    d.settle()
    assert d.session.thing == COURT
    assert window.profiles.isVisible()


def test_a_site_without_a_junction_says_so(drive):
    alone = drive(None)
    alone.window.open_junction_sheet()
    assert alone.window.status.said.text().startswith("This site has no junction")
    assert alone.session.thing is None


def test_a_level_is_set_by_a_double_click_dragged_typed_and_removed(d):
    view = d.window.profiles
    first = view.profiles[0]
    at = first.begin + 0.5 * first.length
    z = float(line(d.session.engine, ReturnLine(*LEFT)).rule.levels([0.5 * first.length])[0])
    QTest.mouseDClick(
        view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, view.pixel((at, z + 0.05))
    )
    d.settle()
    (made,) = levels(d)
    assert made.level == pytest.approx(z + 0.05, abs=0.01)
    handle = view.handles.handles[0]
    d.drag(view, handle.place, (handle.place[0], handle.place[1] - 0.1), release=False)
    assert "level" in view.tag.text()
    d.release(view, (handle.place[0], handle.place[1] - 0.1))
    d.settle()
    assert levels(d)[0].level == pytest.approx(z - 0.05, abs=0.01)
    assert d.session.chosen.held == ("return level", *LEFT, 0)
    handle = view.handles.handles[0]
    d.drag(view, handle.place, (handle.place[0] + 0.3, handle.place[1]), release=False)
    d.type(view, "43.21")
    d.key(view, Qt.Key.Key_Return)
    d.settle()
    assert levels(d)[0].level == 43.21
    d.key(d.window, Qt.Key.Key_Delete)
    d.settle()
    assert levels(d) == ()
    d.session.undo()
    assert levels(d)[0].level == 43.21


def test_a_corner_is_made_three_centred_in_its_row_and_its_return_is_lit_and_dragged(d):
    panel = d.window.sheets
    panel.model.setData(panel.model.index(0, 1), "three-centred")  # as its list does
    d.settle()
    assert corner_choice(d.session.engine, *LEFT).shape == "three-centred"
    type_into(d, 1, "radius", "7.5")
    made = kerb_return(d.session.engine, *LEFT)
    assert made.curve.radius == 7.5
    handle = next(h for h in d.window.plan.handles.handles if h.key == ("return", *LEFT))
    d.click(d.window.plan, handle.place)
    d.settle()
    assert panel.view.currentIndex().row() == 1  # its middle arc
    assert d.window.plan._lit.xData is not None
    assert len(d.window.plan._lit.xData)


def test_the_reach_is_dragged_along_the_leg(d):
    plan, q = d.window.plan, d.session.engine
    before = reach_of(q, "kiln-court", "start")
    handle = next(h for h in plan.handles.handles if h.key[0] == "reach")
    away = throat(q, "kiln-court", "start").place.point
    out = (handle.place[0] - away[0], handle.place[1] - away[1])
    size = (out[0] ** 2 + out[1] ** 2) ** 0.5
    d.drag(plan, handle.place, (handle.place[0] + 4.0 * out[0] / size, handle.place[1] + 4.0 * out[1] / size))
    d.settle()
    assert reach_of(q, "kiln-court", "start") == pytest.approx(before + 4.0, abs=0.6)


def test_the_right_button_offers_what_can_be_done_there(d, monkeypatch):
    view = d.window.profiles
    offered = []
    monkeypatch.setattr(QMenu, "popup", lambda self, at: offered.extend(a.text() for a in self.actions()))
    first = view.profiles[0]
    at = view.pixel((first.begin + 2.0, first.levels[0]))
    view.contextMenuEvent(QContextMenuEvent(QContextMenuEvent.Reason.Mouse, at, view.mapToGlobal(at)))
    assert offered[0].startswith("Set a level 2.0")
    assert offered[-1] in ("Put a pit on it", "Take its pit away")
