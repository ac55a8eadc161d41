"""A kerb line by hand in the real window: made from the street's facts, dragged in its long section, typed in rows."""

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QPushButton

from humble_loop.kinds.kerb_line.model import KerbLine
from humble_loop.kinds.street import StreetLine
from humble_loop.lines.line import ThingId, line
from tests.desk.test_sheets import type_into

COURT = ThingId("street", "kiln-court")


@pytest.fixture
def d(drive, brickworks):
    driver = drive(brickworks)
    driver.window.stage_row.choose(2)
    driver.session.choose(COURT)
    driver.settle()
    press(driver, "Own levels for the right lip")
    driver.session.choose(ThingId("kerb_line", kerb(driver).id))
    driver.settle()
    driver.window.long_section.fit()
    driver.settle()
    return driver


def press(d, words):
    button = next(b for b in d.window.facts.findChildren(QPushButton) if b.text() == words)
    button.click()
    d.settle()


def kerb(d):
    return d.site.all(KerbLine)[0]


def lip(d, s):
    return float(line(d.session.engine, StreetLine("kiln-court", "lip", "right")).rule.levels([s])[0])


def test_it_stands_under_its_street_and_is_shown_with_the_streets_cross_section(d):
    window = d.window
    assert window.long_section.line.id == kerb(d).id
    assert window.session.street == "kiln-court"
    window.long_section.point_station(50.0)
    d.settle()
    assert "lip" in window.cross_section._made.names
    assert [h.key for h in window.long_section.handles.handles] == [("kerb vip", kerb(d).id, i) for i in range(2)]


def test_a_vip_is_dragged_and_the_lip_follows_in_one_step_of_undo(d):
    view = d.window.long_section
    end = kerb(d).finish
    before = lip(d, end)
    h = view.handles.handles[-1]
    d.drag(view, h.place, (h.place[0], h.place[1] + 0.1), release=False)
    assert "level" in view.tag.text()
    assert lip(d, end - 1.0) > before + 0.02
    d.release(view, (h.place[0], h.place[1] + 0.1))
    d.settle()
    assert lip(d, end) == pytest.approx(before + 0.1, abs=0.02)
    d.session.undo()
    assert lip(d, end) == pytest.approx(before)


def test_its_window_is_drawn_behind_it_and_named(d):
    caption = d.window._panes["Long section"].caption
    d.qtbot.waitUntil(lambda: caption.text().endswith("bands: crossfall 2.50 % to 4.50 %"), timeout=5000)
    assert len(d.window.long_section.windows._shapes) == 1
    d.session.choose(COURT)
    d.qtbot.waitUntil(lambda: caption.text().endswith("bands: where the crown suits each lot's pad"), timeout=5000)


def test_a_proposal_is_a_ghost_in_the_long_section_until_it_is_taken(d):
    d.window.toggle_sheets()
    d.window.sheets.show_sheet("Proposals")
    d.settle()
    panel, view = d.window.sheets, d.window.long_section
    rows = [r.cells[0].value for r in panel.model.sheet.rows]
    before = kerb(d).vips
    panel.view.setCurrentIndex(panel.model.index(rows.index("at the middle crossfall from the crown"), 0))
    d.settle()
    assert len(view._lines["ghost"].xData) > 10
    assert kerb(d).vips == before
    button = next(b for b in panel._actions._buttons if b.text() == "Take it")
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)
    d.settle()
    assert kerb(d).vips != before
    crown = float(line(d.session.engine, StreetLine("kiln-court")).rule.levels([60.0])[0])
    assert lip(d, 60.0) == pytest.approx(crown - 0.035 * 2.9, abs=0.021)


def test_a_level_is_typed_in_its_row_and_while_it_is_dragged(d):
    d.window.toggle_sheets()
    d.settle()
    assert d.window.sheets.model.sheet.title == "Own levels"
    type_into(d, 0, "level", "41.75")
    assert kerb(d).vips[0].level == 41.75
    view = d.window.long_section
    h = view.handles.handles[0]
    d.press(view, h.place)
    d.move(view, (h.place[0], h.place[1] + 0.05))
    d.type(view, "41.8")
    d.release(view, h.place)
    assert kerb(d).vips[0].level == 41.8


def test_it_is_given_up_and_the_crossfall_holds_again(d):
    press(d, "Back to the crossfall")
    assert not d.site.all(KerbLine)
    assert d.session.thing is None
