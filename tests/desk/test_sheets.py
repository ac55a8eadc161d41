"""Elements and levels beside the plan, typed into and lit up together with the plan."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QAbstractButton, QApplication, QLineEdit

from humble_loop.kinds.street import Street
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.lines.line import ThingId
from tests.kinds.test_joining import two

LOOP = ThingId("street", "ember-loop")


@pytest.fixture
def d(drive, brickworks):
    driver = drive(brickworks)
    driver.session.choose(LOOP)
    driver.window.run(driver.window.toggle_sheets)
    driver.settle()
    return driver


def column(panel, title):
    return panel.model.sheet.columns.index(title)


def shown(panel, row, title):
    return panel.model.index(row, column(panel, title)).data()


def type_into(d, row, title, text):
    """Double-click a cell, type, Enter: as a designer does it."""
    panel = d.window.sheets
    index = panel.model.index(row, column(panel, title))
    at = panel.view.visualRect(index).center()
    QTest.mouseClick(panel.view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
    QTest.mouseDClick(panel.view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)
    editor = next((e for e in panel.view.findChildren(QLineEdit) if e.isVisible()), None)
    assert editor is not None, "the cell cannot be edited"
    editor.selectAll()
    QTest.keyClicks(editor, text)
    QTest.keyClick(editor, Qt.Key.Key_Return)
    d.qtbot.wait(10)  # the view takes it up, and lets its editor go
    d.settle()


def lit(d):
    x, y = d.window.plan._lit.getData()
    return np.column_stack([x, y]) if x is not None and len(x) else np.empty((0, 2))


def test_a_radius_typed_into_the_elements_changes_the_street(d):
    panel = d.window.sheets
    assert shown(panel, 1, "radius") == "90.00"
    type_into(d, 1, "radius", "75")
    assert d.site.find(Street, "ember-loop").bends[1].radius == 75.0
    assert shown(panel, 1, "radius") == "75.00"
    d.session.undo()
    d.settle()
    assert shown(panel, 1, "radius") == "90.00"


def test_a_bearing_and_a_grade_are_typed_as_people_write_them(d):
    panel = d.window.sheets
    type_into(d, 4, "bearing", "S 2°30' W")
    assert shown(panel, 4, "bearing") == "182°30′00″"
    panel.show_sheet("Grade line")
    d.settle()
    type_into(d, 2, "grade in", "1:50")
    assert shown(panel, 2, "grade in") == "2.00 %"
    assert d.site.find(Street, "ember-loop").vips[1].grade == pytest.approx(0.02)


def test_what_makes_no_sense_is_said_and_nothing_is_done(d):
    said = []
    d.session.said.connect(said.append)
    before = d.site
    type_into(d, 1, "length", "nonsense")
    type_into(d, 0, "length", "-5")
    assert d.site is before
    assert "is not a number" in said[0]
    assert "cannot be shorter than nothing" in said[1]
    assert shown(d.window.sheets, 1, "length") == "34.12"


def test_a_row_lights_up_its_element_and_a_click_in_the_plan_its_row(d):
    panel, plan = d.window.sheets, d.window.plan
    chain = chain_of(d.session.engine, "ember-loop")
    panel.view.setCurrentIndex(panel.model.index(1, 0))
    assert np.allclose(lit(d)[[0, -1]], chain.points_at(chain.starts[1:3]), atol=1e-6)
    plan.fit_thing(LOOP)
    d.settle()
    at = chain.points_at([185.0])[0]  # on the last straight
    d.click(plan, (float(at[0]), float(at[1])))
    d.settle()
    assert panel.view.currentIndex().row() == 4
    assert np.allclose(lit(d)[[0, -1]], chain.points_at(chain.starts[4:6]), atol=1e-6)
    d.window.run(d.window.toggle_sheets)
    assert not len(lit(d))


def test_the_row_of_a_bend_that_is_taken_is_chosen_and_follows_the_drag(d):
    panel, plan = d.window.sheets, d.window.plan
    plan.fit_thing(LOOP)
    d.settle()
    handle = next(h for h in plan.handles.handles if h.title == "Ember Loop bend 3")
    d.drag(plan, handle.place, (handle.place[0] + 6.0, handle.place[1] + 4.0), release=False)
    assert panel.model.sheet.rows[panel.view.currentIndex().row()].held == ("bend", "ember-loop", 2)
    d.release(plan, (handle.place[0] + 6.0, handle.place[1] + 4.0))
    d.settle()
    chain = chain_of(d.session.engine, "ember-loop")
    assert shown(panel, 2, "length") == f"{chain.length[2]:.2f}"
    assert panel.view.currentIndex().row() == 3


def test_findings_are_marked_in_their_row(d):
    panel = d.window.sheets
    panel.show_sheet("Grade line")
    d.settle()
    marked = [k for k in range(panel.model.rowCount()) if shown(panel, k, "chainage").startswith("▲")]
    assert [panel.model.sheet.rows[k].cells[0].value for k in marked] == [160.0]
    tip = panel.model.index(marked[0], 0).data(Qt.ItemDataRole.ToolTipRole)
    assert "curve too short" in tip


def test_a_value_being_typed_is_not_taken_away_by_a_change_elsewhere(d):
    panel = d.window.sheets
    panel.view.setCurrentIndex(panel.model.index(1, column(panel, "radius")))
    panel.view.edit(panel.view.currentIndex())
    editor = panel.view.findChild(QLineEdit)
    editor.selectAll()
    QTest.keyClicks(editor, "8")
    d.session.do("Rename", lambda s: s.put(s.find(Street, "kiln-court").model_copy(update={"name": "Oven Court"})))
    QApplication.processEvents()
    QTest.keyClicks(editor, "8")
    QTest.keyClick(editor, Qt.Key.Key_Return)
    QApplication.processEvents()
    d.settle()
    assert d.site.find(Street, "ember-loop").bends[1].radius == 88.0
    assert shown(panel, 1, "radius") == "88.00"


def test_other_things_have_no_sheets_and_it_says_what_to_choose(d):
    panel = d.window.sheets
    d.session.choose(ThingId("street", "kiln-court"))
    d.settle()
    assert panel.model.rowCount() == 3
    d.session.choose(None)
    d.settle()
    assert not panel.view.isVisible()
    assert "Choose a street" in panel.note.text()


def test_a_street_is_made_along_a_survey_line_that_is_chosen(drive, brickworks):
    d = drive(brickworks)
    along = next(c.do for c in d.window._commands if c.words == "Street along a line")
    d.window.run(along)
    assert "Choose a survey line first" in d.window.status.said.text()
    # Clicked where nothing designed is as near.
    line = next(s for s in brickworks.all(SurveyLine) if s.code == "PITTOP")
    at = np.array(line.vertices[7][:2]) - d.session.origin
    d.click(d.window.plan, tuple(at))
    assert d.session.thing == ThingId("survey_line", line.id)
    d.window.run(along)
    d.settle()
    panel = d.window.sheets
    d.qtbot.waitUntil(lambda: "departs by" in panel.note.text(), timeout=8000)
    departs = float(panel.note.text().split("departs by ")[1].split()[0]) / 1000.0
    before = len(d.site.all(Street))
    button = next(b for b in panel._actions._buttons if b.text() == "Street along it")
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)
    d.settle()
    made = d.site.all(Street)
    assert len(made) == before + 1
    assert d.session.thing == ThingId("street", made[-1].id)
    vertices = np.array([v[:2] for v in line.vertices]) - d.session.origin
    away = chain_of(d.session.engine, made[-1].id).feet(vertices).offsets
    assert np.abs(away).max() <= departs + 0.001
    d.session.undo()
    assert len(d.site.all(Street)) == before


def test_a_proposal_is_a_ghost_in_the_long_section_until_it_is_taken(d):
    panel, section = d.window.sheets, d.window.long_section
    panel.show_sheet("Proposals")
    d.settle()
    d.qtbot.waitUntil(lambda: panel.settled and panel.model.sheet.title == "Proposals", timeout=8000)
    names = [panel.model.index(k, 0).data() for k in range(panel.model.rowCount())]
    row = names.index("balance the earth")
    QTest.mouseClick(
        panel.view.viewport(),
        Qt.MouseButton.LeftButton,
        Qt.KeyboardModifier.NoModifier,
        panel.view.visualRect(panel.model.index(row, 0)).center(),
    )
    x, y = section._lines["ghost"].getData()
    assert len(x) > 20
    before = [v.level for v in d.site.find(Street, "ember-loop").vips]
    take = next(b for b in panel.findChildren(QAbstractButton) if b.text() == "Take it" and b.isVisible())
    QTest.mouseClick(take, Qt.MouseButton.LeftButton)
    d.settle()
    after = d.site.find(Street, "ember-loop").vips
    assert [v.level for v in after] != before
    at = np.interp([v.chainage for v in after if not v.curve_length], x, y)
    assert at == pytest.approx([v.level for v in after if not v.curve_length], abs=1e-6)
    type_into(d, names.index("    fill at most"), "wanted", "0.25")
    assert d.site.find(Street, "ember-loop").wanted.fill == 0.25
    panel.show_sheet("Elements")
    d.settle()
    x, _ = section._lines["ghost"].getData()
    assert x is None or not len(x)


def press(panel, words):
    button = next(b for b in panel.findChildren(QAbstractButton) if b.text() == words and b.isVisible())
    QTest.mouseClick(button, Qt.MouseButton.LeftButton)


def choose_row(panel, row):
    at = panel.view.visualRect(panel.model.index(row, 0)).center()
    QTest.mouseClick(panel.view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, at)


def test_what_is_cut_is_lit_up_before_it_is_cut_and_undo_brings_it_back(d):
    panel = d.window.sheets
    d.window.run(d.window._command("Cut back or run on").do)
    d.settle()
    rows = panel.model.sheet.rows
    row = next(k for k, r in enumerate(rows) if r.actions and r.actions[0][0].startswith("Cut back to"))
    choose_row(panel, row)
    length = chain_of(d.session.engine, "ember-loop").total
    cut = rows[row].cells[3].value
    points = lit(d)
    assert np.hypot(*np.diff(points, axis=0).T).sum() == pytest.approx(cut, rel=1e-3)
    press(panel, rows[row].actions[0][0])
    d.settle()
    assert chain_of(d.session.engine, "ember-loop").total == pytest.approx(length - cut)
    d.session.undo()
    d.settle()
    assert chain_of(d.session.engine, "ember-loop").total == pytest.approx(length)


def test_a_street_is_split_at_the_cursor(d):
    command = d.window._command("Split the street here")
    d.window.long_section.point_station(120.0)
    d.window.run(command.do)
    d.settle()
    assert [s.name for s in d.site.all(Street)][-1] == "Ember Loop 2"
    assert chain_of(d.session.engine, "ember-loop").total == pytest.approx(120.0, abs=1e-6)


def test_two_streets_are_joined_by_the_arc_that_was_lit_up(drive):
    d = drive(two([(0, 0), (100, 0)], [(150, 80), (150, 200)]))
    d.session.choose(ThingId("street", "one"))
    d.settle()
    panel = d.window.sheets
    d.window.run(d.window._command("Cut back or run on").do)
    d.settle()
    rows = panel.model.sheet.rows
    row = next(k for k, r in enumerate(rows) if r.actions and r.actions[0][0] == "Join Two")
    choose_row(panel, row)
    points = lit(d)
    arc = points[(points[:, 1] < 50) & (points[:, 0] > 100) & (points[:, 0] < 150)]
    assert np.hypot(arc[:, 0] - 100, arc[:, 1] - 50) == pytest.approx(np.full(len(arc), 50.0))
    press(panel, "Join Two")
    d.settle()
    assert [s.id for s in d.site.all(Street)] == ["one"]
    assert chain_of(d.session.engine, "one").feet(arc).offsets == pytest.approx(np.zeros(len(arc)), abs=1e-6)
    d.session.undo()
    d.settle()
    assert [s.id for s in d.site.all(Street)] == ["one", "two"]
