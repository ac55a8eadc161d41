"""Ties by hand in the real window: made by dragging in the cross section, read in the tie map, cut in the facts."""

import numpy as np
import pytest
from PySide6.QtCore import QPoint, QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QComboBox, QFileDialog, QPushButton

from humble_loop.desk.colouring import CROSSFALL, NOTHING, OVER
from humble_loop.desk.layers import RING
from humble_loop.kinds.fall_window.model import FallWindow
from humble_loop.kinds.kerb_line.model import KerbLine
from humble_loop.kinds.street import StreetLine
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.survey_line.model import SurveyLine, add_survey_lines
from humble_loop.kinds.tie.model import LevelTie, Source, add_tie
from humble_loop.lines.line import ThingId, line, line_plan

COURT = ThingId("street", "kiln-court")


@pytest.fixture
def d(drive, brickworks):
    driver = drive(brickworks)
    driver.window.stage_row.choose(2)
    driver.session.choose(COURT)
    driver.settle()
    driver.window.long_section.point_station(60.0)
    driver.settle()
    QTest.mouseMove(driver.window.cross_section.viewport(), QPoint(60, 40))
    driver.settle()
    driver.window.cross_section.show_hand(True)
    driver.settle()
    return driver


def press(d, words):
    """Press a button of the facts that are shown: those shown before may not be gone yet."""
    d.qtbot.wait(60)
    shown = [b for b in d.window.facts.findChildren(QPushButton) if b.isVisible()]
    assert words in [b.text() for b in shown], [b.text() for b in shown]
    next(b for b in shown if b.text() == words).click()
    d.settle()


def ring(d, name, side="right"):
    return next(h for h in d.window.cross_section.handles.handles if h.key == ("tie", "kiln-court", side, name))


def level(d, point, s=60.0, side="right"):
    id = StreetLine("kiln-court", point, side) if point != "crown" else StreetLine("kiln-court")
    return float(line(d.session.engine, id).rule.levels([s])[0])


def drag_ring(d, handle, to, release=True):
    """Take a ring, which stands below its place, and drag it to a place."""
    view = d.window.cross_section
    start = view.place(QPointF(view.pixel(handle.place) + QPoint(0, int(RING))))
    d.drag(view, start, to, release=release)


def test_a_lip_is_tied_by_dragging_its_ring_onto_the_crown(d):
    crown = level(d, "crown")
    drag_ring(d, ring(d, "lip"), (0.0, crown), release=False)
    assert "tie it to its crown" in d.window.cross_section.tag.text()
    d.release(d.window.cross_section, (0.0, crown))
    d.settle()
    (tie,) = d.site.all(LevelTie)
    assert (tie.point, tie.source) == ("lip", Source(what="point", of="kiln-court", point="crown"))
    assert level(d, "lip") == pytest.approx(level(d, "crown"))
    # What a tie holds has no ring any more.
    assert ("tie", "kiln-court", "right", "lip") not in [h.key for h in d.window.cross_section.handles.handles]
    d.window.session.undo()
    d.settle()
    assert d.site.all(LevelTie) == ()


def test_a_boundary_is_tied_by_dragging_its_ring_in_plan_onto_a_survey_line(d):
    """A fence 2 m beyond the right boundary of Kiln Court, along its straight."""
    q = d.session.engine
    plan = line_plan(q, StreetLine("kiln-court", "boundary", "right"))
    s = np.linspace(plan.start, plan.end, 40)
    beyond = chain_of(q, "kiln-court").points_at(s, plan.offset(s) - 2.0) + np.array(d.session.origin)
    levels = line(q, StreetLine("kiln-court", "boundary", "right")).rule.levels(s) + 0.1
    fence = SurveyLine(name="Fence", vertices=tuple((e, n, z) for (e, n), z in zip(beyond.tolist(), levels.tolist())))
    d.session.do("Fence", lambda site: add_survey_lines(site, [fence]))
    d.window.plan.fit_thing(COURT)
    d.settle()
    view = d.window.plan
    handle = next(h for h in view.handles.handles if h.key == ("tie", "kiln-court", "right", "boundary"))
    middle = 0.5 * (plan.start + plan.end)
    to = chain_of(q, "kiln-court").points_at([middle], plan.offset.one(middle) - 2.0)[0]
    d.drag(view, view.place(QPointF(view.pixel(handle.place) + QPoint(0, int(RING)))), tuple(to))
    d.settle()
    (tie,) = d.site.all(LevelTie)
    assert (tie.point, tie.source) == ("boundary", Source(what="line", of="fence"))


def test_let_go_on_nothing_nothing_is_tied(d):
    away = (0.0, level(d, "crown") + 2.0)
    drag_ring(d, ring(d, "lip"), away, release=False)
    assert "drag it onto what it is to follow" in d.window.cross_section.tag.text()
    d.release(d.window.cross_section, away)
    d.settle()
    assert d.site.all(LevelTie) == ()


def test_a_tie_is_made_changed_and_cut_in_the_facts(d):
    press(d, "Tie the right boundary")
    (tie,) = d.site.all(LevelTie)
    d.session.choose(ThingId("tie", tie.id))
    d.settle()
    box = next(b for b in d.window.facts.findChildren(QComboBox) if b.findText("the ground") >= 0)
    box.setCurrentIndex(box.findText("its left boundary"))
    box.activated.emit(box.currentIndex())
    d.settle()
    assert d.site.all(LevelTie)[0].source.point == "boundary"
    before = level(d, "boundary")
    press(d, "Cut it, and keep the levels")
    assert d.site.all(LevelTie) == ()
    assert d.site.all(KerbLine)[0].point == "boundary"
    assert level(d, "boundary") == pytest.approx(before, abs=2e-3)


def test_the_tie_map_leads_from_the_follower_to_what_it_follows(d):
    follow = Source(what="point", of="ember-loop", point="crown")
    d.session.do("Tie", lambda s: add_tie(s, "kiln-court", "right", "lip", follow, 20.0, 40.0))
    d.settle()
    d.window.facts.reasons.show_part(1)
    d.settle()
    drawing = d.window.facts.reasons.map.drawing
    drawing.repaint()
    assert {f.leader.id for f in drawing.around.leaders} == {"ember-loop"}
    box = next(b for b, thing in drawing._places if thing == ThingId("street", "ember-loop"))
    QTest.mouseClick(drawing, Qt.MouseButton.LeftButton, pos=box.center().toPoint())
    d.settle()
    assert d.session.thing == ThingId("street", "ember-loop")
    assert "kiln-court" in {f.follower.id for f in drawing.around.followers}
    assert drawing.thing_at(QPointF(2.0, 2.0)) is None


def test_what_moves_with_a_vip_in_hand_is_listed_in_the_map(d):
    d.session.do("Set", lambda s: s)
    press(d, "Own levels for the right lip")
    kerb = d.site.all(KerbLine)[0]
    d.session.choose(ThingId("kerb_line", kerb.id), ("kerb vip", kerb.id, 0))
    d.window.facts.reasons.show_part(1)
    d.settle()
    titles = [m.title for m in d.window.facts.reasons.map.drawing.moved]
    assert "Kiln Court right lip" in titles


def test_windows_are_added_to_a_kerb_line_and_named_at_the_cursor(d):
    press(d, "Own levels for the right lip")
    kerb = d.site.all(KerbLine)[0]
    d.session.choose(ThingId("kerb_line", kerb.id))
    d.settle()
    press(d, "Add a fall window")
    assert d.site.all(FallWindow)[0].point == "lip"
    view = d.window.long_section
    view.point_station(60.0)
    d.qtbot.waitUntil(lambda: any("crossfall" in label.text for label in view._bounds), timeout=8000)
    d.settle()
    assert any("from its right boundary" in label.text for label in view._bounds)
    assert view.room._shapes
    d.window.toggle_sheets()
    d.window.sheets.show_sheet("Room left")
    d.settle()
    assert d.window.sheets.model.rowCount() > 3
    d.window.sheets.show_sheet("Settle")
    d.settle()
    assert d.window.sheets.model.rowCount() >= 2


def test_add_buttons_are_there_for_street_crowns(d):
    words = [b.text() for b in d.window.facts.findChildren(QPushButton)]
    assert "Add a fall window" in words
    assert "Tie the left lip" in words


def test_the_plan_is_coloured_by_crossfall_with_figures(d):
    d.window.colouring.choose(CROSSFALL)
    d.settle()
    assert len(d.window.colouring.pieces._shapes) > 50
    assert any("3.00 %" in label.text for label in d.window.colouring.figures._labels)
    assert d.window.strip.coloured[10][2] is not None
    d.window.colouring.choose(OVER)
    d.settle()
    assert d.window.colouring.legend().startswith("teal over")
    d.window.colouring.choose(NOTHING)
    d.settle()
    assert not d.window.colouring.pieces._shapes
    assert d.window.strip.coloured == []


def test_a_table_is_saved_as_a_spreadsheet(d, monkeypatch, tmp_path):
    d.window.open_tables()
    d.settle()
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "a.xlsx"), ""))
    said = []
    d.session.said.connect(said.append)
    d.window.tables.which.setCurrentText("crossfalls")
    d.window.tables.save()
    assert (tmp_path / "a.xlsx").stat().st_size > 1000
    assert "Wrote a.xlsx" in said[-1]
    monkeypatch.setattr(QFileDialog, "getSaveFileName", lambda *a, **k: (str(tmp_path / "a.odd"), ""))
    d.window.tables.save()
    assert ".csv or .xlsx" in said[-1]
