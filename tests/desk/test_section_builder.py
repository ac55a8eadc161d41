"""A typical section by hand in the real window: rows beside the plan, handles in the cross section, changes along the street."""

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QEnterEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QComboBox

from humble_loop.desk.session import Session, Station
from humble_loop.formats.own_library import OwnLibrary
from humble_loop.kinds.street import Street, StreetLine
from humble_loop.kinds.street.model import Widening
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.street.side import lip_width
from humble_loop.kinds.survey_line.model import SurveyLine, add_survey_lines
from humble_loop.kinds.toe_drain.model import DrainChoice
from humble_loop.kinds.toe_drain.place import stretches
from humble_loop.lines.line import ThingId
from humble_loop.site.library import TypicalSection
from tests.desk.test_sheets import column, lit, shown, type_into

LOOP = ThingId("street", "ember-loop")


@pytest.fixture
def d(drive, brickworks):
    driver = drive(brickworks)
    driver.window.stage_row.choose(3)
    driver.session.choose(LOOP)
    driver.session.station = Station(StreetLine("ember-loop"), 180.0)
    driver.settle()
    driver.window.run(command(driver, "Section piece by piece"))
    driver.settle()
    enter(driver)
    return driver


def command(d, words):
    return next(c.do for c in d.window._commands if c.words == words)


def enter(d):
    d.window.cross_section.enterEvent(QEnterEvent(QPointF(), QPointF(), QPointF()))
    d.settle()


def section(d):
    return d.site.find(TypicalSection, d.site.find(Street, "ember-loop").section)


def handle(d, key):
    return next(h for h in d.window.cross_section.handles.handles if h.key[0] == key[0] and h.key[2:] == key[1:])


def press(d, words):
    button = next(b for b in d.window.sheets._actions._buttons if b.text() == words)
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)
    d.settle()


def choose_row(d, row):
    panel = d.window.sheets
    at = panel.view.visualRect(panel.model.index(row, 0)).center()
    QTest.mouseClick(panel.view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
    d.settle()


def test_the_rows_show_the_pieces_and_take_widths_and_falls(d):
    panel = d.window.sheets
    assert [shown(panel, r, "ends at") for r in range(3)] == ["lip", "back of kerb", "path front"]
    type_into(d, 0, "width", "4.1")
    assert section(d).left.width == section(d).right.width == 4.1
    type_into(d, 0, "fall", "-2.5%")
    assert section(d).left.carriageway[0].grade == pytest.approx(-0.025)
    type_into(d, 5, "fall", "1:3")
    assert section(d).left.cut_slope == pytest.approx(1 / 3)
    assert shown(panel, 5, "fall") == "1:3"
    type_into(d, 5, "fall", "3")
    assert section(d).left.cut_slope == pytest.approx(1 / 3)
    assert "1:2" in d.window.status.said.text()


def test_a_piece_is_chosen_lit_in_plan_and_others_are_added_beside_it(d):
    choose_row(d, 0)
    assert len(lit(d))
    press(d, "Add parking")
    assert [p.piece for p in section(d).left.carriageway] == ["lane", "parking"]
    assert lip_width(d.session.engine, "ember-loop", "right").one(180.0) == pytest.approx(5.6)
    choose_row(d, 1)
    press(d, "Remove")
    assert [p.piece for p in section(d).left.carriageway] == ["lane"]
    d.session.undo()
    assert [p.piece for p in section(d).left.carriageway] == ["lane", "parking"]


def test_what_cannot_be_done_with_a_piece_is_said(d):
    choose_row(d, 0)
    before = d.site
    press(d, "Remove")
    assert d.site is before
    assert "needs a lane" in d.window.status.said.text()


def choose_in_cell(d, index, wanted):
    """Choose from the list in a cell, by mouse."""
    panel = d.window.sheets
    at = panel.view.visualRect(index).center()
    QTest.mouseClick(panel.view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
    combo = next(c for c in panel.view.findChildren(QComboBox) if c.isVisible())
    d.qtbot.wait(20)
    combo.hidePopup()
    combo.setCurrentIndex(combo.findData(wanted))
    combo.activated.emit(combo.currentIndex())
    d.settle()


def test_a_kerb_is_chosen_from_the_library_in_its_cell(d):
    panel = d.window.sheets
    index = panel.model.index(1, column(panel, "piece"))
    choose_in_cell(d, index, "mountable")
    assert [p.kerb for p in section(d).left.outside if hasattr(p, "kerb")] == ["mountable"]


def test_a_drain_is_chosen_for_cuts_and_left_out_where_it_is_not_wanted(d):
    panel = d.window.sheets
    row = next(k for k, r in enumerate(panel.model.sheet.rows) if getattr(r.cells[1], "current", None) == "")
    index = panel.model.index(row, column(panel, "piece"))
    panel.view.scrollTo(index)
    choose_in_cell(d, index, "v-drain")
    assert section(d).right.drain.shape == "v-drain"
    d.window.run(command(d, "Drains in cut"))
    d.settle()
    d.qtbot.waitUntil(lambda: panel.settled and panel.model.sheet.title == "Drains", timeout=8000)
    found = stretches(d.session.engine, "ember-loop", "left")
    rows = [shown(panel, r, "side") for r in range(panel.model.rowCount())]
    assert [words.split(",")[0] for words in rows].count("left") == len(found)
    assert found
    choose_row(d, 0)
    assert len(lit(d))
    press(d, "Leave it out")
    assert [c.stands for c in d.site.owned(DrainChoice, "ember-loop")] == [False]
    assert len(stretches(d.session.engine, "ember-loop", "left")) == len(found) - 1
    d.session.undo()
    d.settle()
    assert stretches(d.session.engine, "ember-loop", "left") == found


def test_a_strip_is_widened_by_its_end_in_the_cross_section(d):
    view = d.window.cross_section
    h = handle(d, ("width", "right", 0))
    d.drag(view, h.place, (h.place[0] + 1.0, h.place[1]), release=False)
    assert "width" in view.tag.text()
    d.release(view, (h.place[0] + 1.0, h.place[1]))
    assert section(d).right.width == pytest.approx(4.4, abs=0.11)
    assert section(d).right.width == section(d).left.width
    assert round(section(d).right.width / 0.05, 6) == round(section(d).right.width / 0.05)
    d.session.undo()
    d.settle()
    h = handle(d, ("width", "left", 0))
    d.press(view, h.place)
    d.move(view, (h.place[0] - 0.5, h.place[1]))
    d.type(view, "3.75")
    d.release(view, h.place)
    assert section(d).left.width == 3.75


def test_a_strip_is_made_steeper_by_its_middle(d):
    view = d.window.cross_section
    h = handle(d, ("fall", "right", 0))
    # 1.7 m out of the crown, 20 mm lower: -3 % becomes about -4.2 %.
    d.drag(view, h.place, (h.place[0], h.place[1] - 0.02))
    assert section(d).right.carriageway[0].grade == pytest.approx(-0.03 - 0.02 / 1.7, abs=0.004)
    d.settle()
    h = handle(d, ("fall", "right", 0))
    d.press(view, h.place)
    d.move(view, (h.place[0], h.place[1] - 0.01))
    d.type(view, "-3.5")
    d.release(view, h.place)
    assert section(d).right.carriageway[0].grade == pytest.approx(-0.035)


def test_handles_are_there_while_the_hand_is(d):
    view = d.window.cross_section
    assert view.handles.handles
    QApplication.sendEvent(view, QEvent(QEvent.Type.Leave))
    assert not view.handles.handles


def test_a_press_of_the_right_button_offers_what_can_be_done_with_the_piece_there(d):
    view = d.window.cross_section
    words = [w for w, _ in view.offers((-2.0, 40.0))]
    assert "Add parking" in words
    assert "Add path" in [w for w, _ in view.offers((4.5, 40.0))]  # a verge on the right side, told as the left one
    assert view.offers((60.0, 40.0)) == ()
    before = section(d)
    d.session.do("Add parking", dict(view.offers((-2.0, 40.0)))["Add parking"])
    assert section(d) != before


def test_a_parking_bay_is_made_where_the_section_is_looked_at(d):
    view = d.window.cross_section
    assert "Parking bay here" not in dict(view.offers((4.5, 40.0)))  # a verge
    for x, side, other in ((2.0, "right", "left"), (-2.0, "left", "right")):
        d.session.do("Parking bay here", dict(view.offers((x, 40.0)))["Parking bay here"])
        q = d.session.engine
        assert lip_width(q, "ember-loop", side).one(180.0) == pytest.approx(5.6)
        assert lip_width(q, "ember-loop", other).one(180.0) == pytest.approx(3.4)
        assert lip_width(q, "ember-loop", side).one(150.0) == pytest.approx(3.4)
        d.session.undo()
        d.settle()


def with_edge(d, out):
    """A survey line beside the street's left lip, from 160 to 200 m."""
    chain = chain_of(d.session.engine, "ember-loop")
    places = chain.points_at(np.linspace(160.0, 200.0, 9), np.full(9, out)) + np.array(d.session.origin)
    line = SurveyLine(name="KERB3", code="KERB", vertices=tuple((float(e), float(n), None) for e, n in places))
    d.session.do("Edge", lambda s: add_survey_lines(s, [line]))
    d.settle()
    enter(d)


def test_a_lip_let_go_near_a_line_may_follow_it_instead(d):
    view, status = d.window.cross_section, d.window.status
    with_edge(d, 4.3)
    h = handle(d, ("width", "left", 0))
    assert h.place[0] == pytest.approx(-3.4)
    d.drag(view, h.place, (-4.2, h.place[1]))
    assert section(d).left.width == pytest.approx(4.2, abs=0.051)
    assert status.said.text().startswith("Ember Loop both sides lip: width 4.")
    assert status.instead.text() == "Let the lip follow KERB3 instead"
    assert status.instead.isVisible()
    QTest.mouseClick(status.instead, Qt.MouseButton.LeftButton)
    d.settle()
    assert not status.instead.isVisible()
    assert section(d).left.width == 3.4
    (made,) = d.site.all(Widening)
    assert (made.side, made.line) == ("left", "kerb3")
    assert (made.begin, made.finish) == (pytest.approx(160.0, abs=0.01), pytest.approx(200.0, abs=0.01))
    assert lip_width(d.session.engine, "ember-loop", "left").one(180.0) == pytest.approx(4.3, abs=2e-3)
    d.session.undo()
    assert not d.site.all(Widening)


def test_nothing_is_offered_far_from_lines_and_an_offer_ends_with_the_next_edit(d):
    view, status = d.window.cross_section, d.window.status
    with_edge(d, 5.3)
    h = handle(d, ("width", "left", 0))
    d.drag(view, h.place, (-4.0, h.place[1]))
    assert not status.instead.isVisible()
    assert "width" in status.said.text()
    enter(d)
    h = handle(d, ("width", "left", 0))
    d.drag(view, h.place, (-5.0, h.place[1]))
    assert status.instead.isVisible()
    d.session.undo()
    assert not status.instead.isVisible()


def test_the_section_changes_from_the_cursor_on(d):
    d.window.run(command(d, "Change the section here"))
    d.settle()
    change = d.site.find(Street, "ember-loop").changes[0]
    assert change.chainage == 180.0
    panel = d.window.sheets
    assert panel.model.sheet.title == "Changes"
    type_into(d, 0, "from", "150")
    type_into(d, 0, "over", "12")
    change = d.site.find(Street, "ember-loop").changes[0]
    assert (change.chainage, change.taper) == (150.0, 12.0)
    panel.show_sheet("Section from 150")
    d.settle()
    type_into(d, 0, "width", "4.4")
    widths = lip_width(d.session.engine, "ember-loop", "left")
    assert [widths.one(s) for s in (150.0, 156.0, 162.0)] == pytest.approx([3.4, 3.9, 4.4])
    # In the taper there is no section to be dragged; beyond it there is.
    view = d.window.cross_section
    d.session.station = Station(StreetLine("ember-loop"), 156.0)
    view.refresh()
    d.settle()
    assert [h.shape for h in view.handles.handles if h.shape != "ring"] == []  # rings tie a point, wherever it lies
    assert view.caption().endswith("turning into Ember Loop from 180")
    d.session.station = Station(StreetLine("ember-loop"), 190.0)
    view.refresh()
    d.settle()
    h = handle(d, ("width", "right", 0))
    d.drag(view, h.place, (h.place[0] + 0.5, h.place[1]))
    assert lip_width(d.session.engine, "ember-loop", "left").one(0.0) == 3.4
    assert lip_width(d.session.engine, "ember-loop", "left").one(200.0) == pytest.approx(4.9, abs=0.06)


def test_a_kerb_is_drawn_and_typed_point_by_point(d):
    panel = d.window.sheets
    panel.show_sheet("Kerb")
    d.settle()
    assert [name for name, _, _ in panel.picture.shape] == ["lip", "invert", "top of kerb", "back of kerb"]
    places = panel.picture.places()
    # One scale both ways: 450 mm out against 150 mm from invert to back.
    wide, high = places[-1].x() - places[0].x(), places[1].y() - places[-1].y()
    assert wide / high == pytest.approx(450 / 150)
    type_into(d, 3, "up", "150")
    assert panel.picture.shape[2] == ("top of kerb", 0.33, 0.15)
    type_into(d, 3, "up", "0.14m")
    assert panel.picture.shape[2][2] == pytest.approx(0.14)
    type_into(d, 3, "out", "200")
    assert panel.picture.shape[2][1] == 0.33
    assert "further out" in d.window.status.said.text()
    panel.grab()


def test_what_is_made_of_a_kerb_is_in_the_library_without_being_asked(d, tmp_path):
    d.session._library = OwnLibrary(tmp_path / "library")
    d.window.sheets.show_sheet("Kerb")
    d.settle()
    type_into(d, 3, "up", "150")
    d.qtbot.waitUntil(lambda: bool(d.session._library.shapes()), timeout=5000)
    assert d.session._library.shapes()[0].points[1].up == 150.0
    (tmp_path / "library" / "kerb_shapes.json").write_text("{")
    type_into(d, 3, "up", "160")
    d.qtbot.waitUntil(lambda: "library" in d.window.status.said.text(), timeout=5000)


def test_a_damaged_library_does_not_keep_a_session_from_beginning(tmp_path):
    (tmp_path / "kerb_shapes.json").write_text("{")
    session = Session(None, OwnLibrary(tmp_path))
    assert "your own library cannot be read" in session.trouble
    assert session.site.all(TypicalSection)
