"""The window driven by mouse and keys, and asserted on what the model then says."""

import numpy as np
import pytest
from PySide6.QtCore import QPointF, Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QLabel, QLineEdit, QPushButton, QToolButton

from humble_loop.desk.fault_report import FaultReport
from humble_loop.desk.session import Chosen, Station
from humble_loop.desk.stretch_button import StretchButton
from humble_loop.desk.theme import DARK, LIGHT, Theme
from humble_loop.engine.query import Engine
from humble_loop.formats.quantities import show_length
from humble_loop.kinds.junction.layout import throat
from humble_loop.kinds.junction.nodes import all_joints
from humble_loop.kinds.lot import LotFace, LotRow
from humble_loop.kinds.lot.layout import lots_on
from humble_loop.kinds.street import Street, StreetLine
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.turning_head import HeadFace, TurningHead
from humble_loop.kinds.turning_head.layout import outline as head_outline
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kinds
from humble_loop.site.libraries import new_site
from humble_loop.whole.trail import trail_at
from tests import edits
from tests.asking import crown_levels, lot_named, pad_of
from tests.conftest import court_site, with_ring


def facts(driver, label):
    """The editable value beside ``label`` in the facts panel."""
    driver.window.facts.refresh()
    if not (found := driver.window.facts._rows.findChildren(QLineEdit, f"fact {label}")):
        driver.settle()  # on a busy machine what is chosen may be shown a little later
        found = driver.window.facts._rows.findChildren(QLineEdit, f"fact {label}")
    return found[0]


def view_range(view):
    return [tuple(r) for r in view.plotItem.vb.viewRange()]


# At the start


def test_a_site_is_drawn_at_once_with_nothing_chosen(drive, brickworks):
    d = drive(brickworks)
    assert d.session.chosen == Chosen()
    lots = [t for t in d.window.plan.drawing.drawn if t.kind == "lot"]
    assert len([t for t in lots if t.id.startswith("kiln-court-")]) == 10
    paths = d.window.plan.drawing.strokes.lines_of(ThingId("street", "kiln-court"))
    assert {"centreline", "left lip", "right lip", "boundary"} <= {role for role, _ in paths}
    assert max(path.boundingRect().width() for _, path in paths) > 90
    there = [kind for kind in kinds() if kind.things(d.session.engine)]
    assert 5 < d.window.index.tree.topLevelItemCount() == len(there) < len(kinds())


# Drawing


def test_a_street_is_drawn_by_clicking_snaps_to_the_other_and_squares_up(drive):
    d = drive(court_site())
    plan = d.window.plan
    plan.look_at(200.0, 50.0, 150.0)
    d.window.draw_street()
    through = chain_of(d.session.engine, "through")
    node, heading = through.points_at([200.0])[0], through.at([200.0]).headings[0]
    square = np.array([np.sin(heading), -np.cos(heading)])  # to the right, away from the court
    d.move(plan, (node[0] + 0.8, node[1] + 0.8))
    d.click(plan, (node[0] + 0.8, node[1] + 0.8))
    aim = node + 45 * square + 4 * np.array([np.cos(heading), np.sin(heading)])
    d.move(plan, tuple(aim))
    assert d.session.dragging  # the sketch is a preview of the real street
    assert len(d.site.all(Street)) == 3
    assert "here" in plan.tag.text()  # cut or fill while sketching
    d.settle()
    (left, right), _ = d.window.long_section.plotItem.vb.viewRange()
    assert left <= 0
    assert 45 < right < 60  # the whole of what is drawn, as it grows
    d.click(plan, tuple(aim))
    d.key(plan, Qt.Key.Key_Return)
    d.settle()
    street = d.site.all(Street)[-1]
    assert all_joints(Engine(d.site))[-1] == (street.id, "start", "through")
    first = np.array(
        [street.bends[1].easting - street.bends[0].easting, street.bends[1].northing - street.bends[0].northing]
    )
    assert abs(first @ [np.cos(heading), np.sin(heading)]) < 1e-6  # exactly square
    assert d.session.chosen.thing == ThingId("street", street.id)
    assert np.isfinite(crown_levels(d.session.engine, street.id, [30.0])[0])  # it has levels the moment it exists
    d.session.undo()
    assert len(d.site.all(Street)) == 2


def test_a_typed_length_takes_over_while_drawing_and_escape_gives_up(drive):
    d = drive(court_site())
    plan = d.window.plan
    plan.look_at(300.0, 150.0, 120.0)
    d.window.draw_street()
    d.move(plan, (300, 120))
    d.click(plan, (300, 120))
    d.move(plan, (320, 120))
    d.type(plan, "37.5")
    d.key(plan, Qt.Key.Key_Return)
    d.key(plan, Qt.Key.Key_Return)
    street = d.site.all(Street)[-1]
    # The click lands on a whole pixel, the length on its last digit.
    length = np.hypot(
        street.bends[1].easting - street.bends[0].easting, street.bends[1].northing - street.bends[0].northing
    )
    assert length == pytest.approx(37.5, abs=1e-9)
    before = d.site
    d.window.draw_street()
    d.click(plan, (300, 170))
    d.move(plan, (320, 170))
    assert len(d.site.all(Street)) == 4
    d.key(plan, Qt.Key.Key_Escape)
    assert d.site is before
    assert plan.sketch is None


# Dragging


def test_a_bend_is_dragged_as_one_undo_step_and_everything_follows(drive):
    d = drive(court_site())
    plan = d.window.plan
    d.session.choose(ThingId("street", "court"))
    plan.look_at(120.0, 70.0, 150.0)
    d.settle()
    before, scale = d.site, view_range(plan)
    handle = next(h for h in plan.handles.handles if h.title == "Court bend 2")
    lots_before = [lot.last.rear.copy() for lot in lots_on(d.session.engine, "court")]
    d.drag(plan, handle.place, (handle.place[0] + 6, handle.place[1] - 5))
    assert view_range(plan) == scale  # nothing rescales during or after a drag
    moved = d.site.find(Street, "court").bends[1]
    assert (moved.easting, moved.northing) == pytest.approx((116, 55), abs=0.7)
    assert any(np.abs(a - lot.last.rear).max() > 0.5 for a, lot in zip(lots_before, lots_on(d.session.engine, "court")))
    assert d.session.undo_words == "Move Court bend 2"
    d.session.undo()
    assert d.site is before


def test_escape_during_a_drag_puts_everything_back(drive):
    d = drive(court_site())
    d.session.choose(ThingId("street", "court"))
    d.window.plan.look_at(120.0, 70.0, 150.0)
    before = d.site
    handle = next(h for h in d.window.plan.handles.handles if h.title == "Court bend 2")
    d.drag(d.window.plan, handle.place, (handle.place[0] + 9, handle.place[1]), release=False)
    assert d.site is not before
    d.key(d.window.plan, Qt.Key.Key_Escape)
    assert d.site is before
    assert d.session.undo_words == ""


def test_typing_during_a_drag_takes_over_from_the_mouse(drive):
    d = drive(court_site())
    d.session.choose(ThingId("street", "court"))
    plan = d.window.plan
    plan.look_at(120.0, 70.0, 150.0)
    handle = next(h for h in plan.handles.handles if h.title == "Court bend 2")
    d.drag(plan, handle.place, (handle.place[0] + 6, handle.place[1]), release=False)
    assert "Court bend 2" in plan.tag.text()
    d.type(plan, "r25")
    assert "25" in plan.tag.text()
    d.move(plan, (handle.place[0] + 30, handle.place[1] + 30))
    d.key(plan, Qt.Key.Key_Return)
    bend = d.site.find(Street, "court").bends[1]
    assert bend.radius == 25.0
    assert (bend.easting, bend.northing) == (110, 60)


def vip(section, i):
    """The handle of a VIP in the long section."""
    return next(h for h in section.handles.handles if h.key[0] == "vip" and h.key[2] == i)


def test_a_vip_is_dragged_and_its_level_typed(drive, brickworks):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "ember-loop"))
    section = d.window.long_section
    d.settle()
    scale = view_range(section)
    handle = vip(section, 2)
    d.drag(section, handle.place, (handle.place[0], handle.place[1] + 0.4))
    got = grade_line(d.session.engine, "ember-loop").profile.levels[2]
    assert got == pytest.approx(handle.place[1] + 0.4, abs=0.03)
    assert view_range(section) == scale
    side = throat(d.session.engine, "kiln-court", "start").level
    handle = vip(section, 2)
    d.drag(section, handle.place, (handle.place[0] + 3, handle.place[1]), release=False)
    d.type(section, "42.75")
    assert "42.75" in section.tag.text()
    assert "keeps the grades" in section.tag.text()
    d.key(section, Qt.Key.Key_Return)
    assert grade_line(d.session.engine, "ember-loop").profile.levels[2] == 42.75
    assert throat(d.session.engine, "kiln-court", "start").level != side  # the court follows its throat


def test_a_grade_can_be_typed_for_a_vip(drive, brickworks):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "ember-loop"))
    section = d.window.long_section
    d.settle()
    d.drag(section, vip(section, 2).place, vip(section, 3).place, release=False)
    d.type(section, "1:50")
    d.key(section, Qt.Key.Key_Return)
    assert d.site.find(Street, "ember-loop").vips[1].grade == pytest.approx(0.02)


def test_a_tied_vip_cannot_be_dragged_and_says_why(drive, brickworks):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "ember-loop"))
    section = d.window.long_section
    d.settle()
    before = d.site
    place = vip(section, 0).place
    d.drag(section, place, (place[0], place[1] + 0.5), release=False)
    assert "tied to the other street" in section.tag.text()
    d.release(section, (place[0], place[1] + 0.5))
    assert d.site is before


def test_dragging_a_proposed_vip_makes_the_grade_line_the_designers(drive, brickworks):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "kiln-court"))
    section = d.window.long_section
    d.settle()
    assert "proposed" in grade_line(d.session.engine, "kiln-court").states
    place = section.handles.handles[-1].place
    d.drag(section, place, (place[0], place[1] - 0.2))
    assert set(grade_line(d.session.engine, "kiln-court").states) == {"tied", "set"}


def test_the_bulb_is_dragged_and_its_radius_typed(drive, brickworks):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "kiln-court"))
    plan = d.window.plan
    plan.look_at(182, 188, 60.0)
    d.settle()
    handle = next(h for h in plan.handles.handles if h.title == "Kiln Court bulb")
    centre = head_outline(d.session.engine, "kiln-court", "end").centre
    away = np.array(handle.place) - centre
    d.drag(plan, handle.place, tuple(centre + away * 11.0 / 9.5))
    assert d.site.all(TurningHead)[0].radius == pytest.approx(11.0, abs=0.15)
    handle = next(h for h in plan.handles.handles if h.title == "Kiln Court bulb")
    d.drag(plan, handle.place, tuple(centre + away), release=False)
    d.type(plan, "10.25")
    d.key(plan, Qt.Key.Key_Return)
    assert d.site.all(TurningHead)[0].radius == 10.25
    assert head_outline(d.session.engine, "kiln-court", "end").ring.total > 66


def test_a_drag_into_nonsense_says_so_and_loses_nothing(drive, brickworks):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "kiln-court"))
    plan = d.window.plan
    plan.look_at(182, 188, 60.0)
    d.settle()
    handle = next(h for h in plan.handles.handles if h.title == "Kiln Court bulb")
    e, n = head_outline(d.session.engine, "kiln-court", "end").centre
    d.drag(plan, handle.place, (e + 0.5, n + 0.5), release=False)
    assert "narrower" in plan.tag.text() or "does not reach" in plan.tag.text()
    d.key(plan, Qt.Key.Key_Escape)
    assert d.site.all(TurningHead)[0].radius == 9.5


def test_an_empty_drag_and_panning_leave_no_undo_step(drive, brickworks):
    d = drive(brickworks)
    plan = d.window.plan
    before = view_range(plan)
    d.drag(plan, (300, 100), (250, 120))
    assert view_range(plan) != before
    assert d.session.undo_words == ""


# Choosing, trail, one cursor


def test_a_click_chooses_and_asks_for_the_trail(drive, brickworks):
    d = drive(brickworks)
    plan = d.window.plan
    plan.look_at(125, 183, 60.0)
    d.settle()
    place = tuple(chain_of(d.session.engine, "kiln-court").points_at([60.0], 2.8)[0])
    d.click(plan, place)
    assert d.session.chosen.thing == ThingId("street", "kiln-court")
    step = trail_at(d.session.engine, *plan.place(QPointF(plan.pixel(place))))
    shown = d.window.facts.trail.tree.topLevelItem(0)
    assert shown.text(1) == f"{step.value:.3f}"
    d.click(plan, (190, 215))
    assert d.session.chosen.thing.kind == "lot"


def test_one_cursor_runs_through_all_views(drive, brickworks):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "ember-loop"))
    d.settle()
    place = chain_of(d.session.engine, "ember-loop").points_at([80.0])[0]
    d.move(d.window.plan, tuple(place))
    assert d.session.station.line == StreetLine("ember-loop")
    assert d.session.station.chainage == pytest.approx(80.0, abs=1.0)
    assert d.window.long_section.cross._at[0] == pytest.approx(80.0, abs=1.0)
    assert "Ember Loop 0+0" in d.window.status.station.text()
    d.move(d.window.long_section, (150.0, 42.0))
    expected = chain_of(d.session.engine, "ember-loop").points_at([150.0])[0]
    assert d.session.cursor == pytest.approx(tuple(expected), abs=1.5)
    assert d.window.plan.cross._at == pytest.approx(tuple(expected), abs=1.5)


def test_the_status_line_reads_ground_finished_and_difference(drive, brickworks):
    d = drive(brickworks)
    d.settle()
    d.move(d.window.plan, (150, 186))
    text = d.window.status.levels.text()
    assert "ground" in text
    assert "finished" in text
    assert "–" not in text.split("finished")[1].split("difference")[0]


# Facts


def test_values_typed_in_facts_change_the_model_in_any_form(drive, brickworks):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "kiln-court"))
    for label, text, read, value in (
        ("bend 2 radius", "180ft", lambda s: s.bends[1].radius, 54.864),
        ("bulb radius", "8.5 + 1.5", lambda s: d.site.all(TurningHead)[0].radius, 10.0),
        ("radial fall", "1:40", lambda s: d.site.all(TurningHead)[0].fall, 0.025),
        ("name", "Kiln Place", lambda s: s.name, "Kiln Place"),
    ):
        edit = facts(d, label)
        edit.setFocus()
        edit.selectAll()
        QTest.keyClicks(edit, text)
        QTest.keyClick(edit, Qt.Key.Key_Return)
        assert read(d.site.find(Street, "kiln-court")) == (pytest.approx(value) if isinstance(value, float) else value)


def test_a_value_that_is_no_number_is_refused_beside_it(drive, brickworks):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "kiln-court"))
    before = d.site
    edit = facts(d, "bend 2 radius")
    edit.setFocus()
    edit.selectAll()
    QTest.keyClicks(edit, "wide")
    QTest.keyClick(edit, Qt.Key.Key_Return)
    assert d.site is before
    assert edit.property("bad") == "true"
    assert "is not a number" in d.window.status.said.text()


def test_a_pads_state_is_a_switch(drive, brickworks):
    d = drive(brickworks)
    d.session.choose(ThingId("lot", lot_named(d.session.engine, "Kiln Court L2").id))
    d.settle()
    made = pad_of(d.session.engine, "Kiln Court L2")
    mark = next(b for b in d.window.facts._rows.findChildren(QToolButton, "mark") if b.isEnabled())
    assert mark.text() == "○"
    mark.click()
    assert pad_of(d.session.engine, "Kiln Court L2").state == "set"
    assert pad_of(d.session.engine, "Kiln Court L2").level == made.level
    d.window.facts.refresh()
    next(b for b in d.window.facts._rows.findChildren(QToolButton, "mark") if b.isEnabled()).click()
    assert pad_of(d.session.engine, "Kiln Court L2").state == "proposed"


def test_a_finding_is_one_click_from_its_place_and_its_remedy(drive, brickworks):
    d = drive(brickworks)
    d.window.stage_row.choose(7)
    d.settle()
    assert "Findings: 6 broken, 2 near" in d.window.facts.title.text()
    d.window.facts.refresh()
    d.window.facts.findChildren(QPushButton, "")  # the list is made
    mends = [b for b in d.window.facts._finding_box.findChildren(QPushButton) if b.text().startswith("Make the curve")]
    mends[0].click()
    d.settle()
    assert not [f for f in d.window.findings if f.rule == "curve too short"]
    show = next(b for b in d.window.facts._finding_box.findChildren(QPushButton) if b.text() == "Show")
    show.click()
    (x0, x1), (y0, y1) = view_range(d.window.plan)
    place = d.session.cursor
    assert x0 < place[0] < x1
    assert y0 < place[1] < y1
    assert x1 - x0 < 150


# Undo, find, stages, theme


def test_undo_and_redo_walk_through_edits(drive, brickworks):
    d = drive(brickworks)
    sites = [d.site]
    for level in (41.0, 41.1, 41.2):
        d.session.do("Set pad", lambda s, level=level: edits.set_pad(s, "Kiln Court L2", level))
        sites.append(d.site)
    QTest.keyClick(d.window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert d.site is sites[2]
    d.session.undo()
    d.session.undo()
    d.session.undo()
    assert d.site is sites[0]
    for expected in sites[1:]:
        QTest.keyClick(d.window, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
        assert d.site is expected


@pytest.mark.parametrize(
    ("text", "chosen"),
    [("kiln court streets", ThingId("street", "kiln-court")), ("ember r4", ThingId("lot", "ember-loop-right#4"))],
)
def test_find_anything_finds_streets_and_lots(drive, brickworks, text, chosen):
    d = drive(brickworks)
    QTest.keyClick(d.window, Qt.Key.Key_K, Qt.KeyboardModifier.ControlModifier)
    assert d.window.finder.isVisible()
    QTest.keyClicks(d.window.finder.box, text)
    QTest.keyClick(d.window.finder.box, Qt.Key.Key_Return)
    assert d.session.chosen.thing == chosen
    assert not d.window.finder.isVisible()


def test_find_anything_goes_to_a_chainage_and_runs_commands(drive, brickworks):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "ember-loop"))
    d.window.finder.open()
    QTest.keyClicks(d.window.finder.box, "0+085")
    QTest.keyClick(d.window.finder.box, Qt.Key.Key_Return)
    assert d.session.station == Station(StreetLine("ember-loop"), 85.0)
    d.window.finder.open()
    QTest.keyClicks(d.window.finder.box, "other theme")
    QTest.keyClick(d.window.finder.box, Qt.Key.Key_Return)
    assert d.window.theme is DARK


def test_stages_change_the_tools_and_not_what_is_shown_where(drive, brickworks):
    d = drive(brickworks)
    tools = []
    for i in range(len(d.window.stage_row.buttons)):
        d.window.stage_row.buttons[i].click()
        d.qtbot.wait(20)
        names = [b.text() for b in d.window._tool_row.findChildren(QToolButton) if b.isVisible()]
        assert "See everything" in names
        tools.append(tuple(names))
        assert d.window.plan.isVisible()
        assert d.window.long_section.isVisible()
    assert len(set(tools)) > 5


def contrast(a: str, b: str) -> float:
    """Contrast ratio by WCAG 2: relative luminances with the sRGB curve."""

    def luminance(colour):
        parts = [int(colour[i : i + 2], 16) / 255 for i in (1, 3, 5)]
        linear = [c / 12.92 if c <= 0.03928 else ((c + 0.055) / 1.055) ** 2.4 for c in parts]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    low, high = sorted((luminance(a), luminance(b)))
    return (high + 0.05) / (low + 0.05)


@pytest.mark.parametrize("theme", [LIGHT, DARK], ids=lambda t: t.name)
@pytest.mark.parametrize("role", ["ink", "quiet", "crown", "chosen", "broken", "near"])
def test_text_has_contrast_on_paper_and_panel(theme: Theme, role):
    for back in (theme.paper, theme.panel):
        assert contrast(getattr(theme, role), back) >= 4.5


# Tables, panes, 3D


def test_the_set_out_table_is_on_screen(drive, brickworks):
    d = drive(brickworks)
    d.window.open_tables()
    tables = d.window.tables
    d.qtbot.waitUntil(lambda: not tables.in_time.busy, timeout=5000)
    model = tables.view.model()
    assert model.rowCount() > 100
    assert model.headerData(1, Qt.Orientation.Horizontal) == "easting"
    tables.which.setCurrentText("lots")
    d.qtbot.waitUntil(lambda: not tables.in_time.busy, timeout=5000)
    assert tables.view.model().rowCount() == len(lots_on(d.session.engine, "ember-loop")) + len(
        lots_on(d.session.engine, "kiln-court")
    )
    tables.copy()
    tables.which.setCurrentText("levels")
    tables.of.setCurrentIndex(0)
    tables.refresh()
    d.qtbot.waitUntil(lambda: "say which street" in tables.note.text(), timeout=5000)
    tables.close()


def test_a_view_leaves_the_window_and_comes_back(drive, brickworks):
    d = drive(brickworks)
    pane = d.window._panes["Plan"]
    pane.toggle()
    assert d.window.plan.window() is not d.window
    pane.toggle()
    d.qtbot.waitUntil(lambda: d.window.plan.window() is d.window, timeout=3000)


def test_the_solid_view_shows_ground_and_pieces_and_only_remakes_what_changed(drive, brickworks):
    d = drive(brickworks)
    d.window.toggle_solid()
    solid = d.window.solid
    d.settle()
    assert {"ground", "contours", ("edges", ThingId("street", "kiln-court"))} <= set(solid._meshes)
    assert HeadFace("kiln-court", "end", "bulb") in solid._meshes
    before = dict(solid._meshes)
    d.session.do("Set pad", lambda s: edits.set_pad(s, "Kiln Court L2", 41.75))
    solid.refresh()
    d.settle()
    changed = [k for k, m in solid._meshes.items() if before.get(k) is not m and before[k][0] is not m[0]]
    edges = {("edges", ThingId(kind, "kiln-court-left#2")) for kind in ("lot", "driveway")}
    assert set(changed) == {LotFace("kiln-court-left#2"), *edges}
    # The eye turns about what is chosen, at the exaggeration that is chosen.
    button = d.window._panes["3D"].findChildren(StretchButton)[0]
    next(a for a in button.menu().actions() if a.text() == "3 ×").trigger()
    assert button.text() == "3 ×"
    eye = np.array(solid._plotter.camera.position) - solid._plotter.camera.focal_point
    d.session.choose(ThingId("turning_head", "kiln-court:end"))
    b = solid._meshes[HeadFace("kiln-court", "end", "bulb")][1].bounds
    focus = np.array(solid._plotter.camera.focal_point)
    assert b[0] < focus[0] < b[1]
    assert b[2] < focus[1] < b[3]
    assert 3 * b[4] - 3 < focus[2] < 3 * b[5] + 3
    assert np.array(solid._plotter.camera.position) - focus == pytest.approx(eye)


def test_adding_lots_and_a_bulb_from_the_tool_row(drive):
    site = court_site()
    site = edits.remove_head(site, "court").replaced("lot_rows", ())
    d = drive(site)
    d.session.choose(ThingId("street", "court"))
    d.window._command("End in a bulb").do()
    d.window._command("Add lots").do()
    assert d.site.find(TurningHead, "court:end") is not None
    assert {r.place for r in d.site.all(LotRow)} == {"left", "right", "head"}
    d.window._command("Add lots").do()
    assert "has room" in d.window.status.said.text()


def test_an_empty_site_says_what_to_do(drive):
    d = drive()
    welcome = d.window.plan.welcome
    assert welcome.isVisible()
    assert any("Drop a survey here" in w.text() for w in welcome.findChildren(QLabel))
    assert d.window.stage_row.buttons[0].isChecked()  # it opens on the stage Ground
    d.window._command("Add lots").do()
    assert "Choose a street first" in d.window.status.said.text()
    next(b for b in welcome.findChildren(QPushButton) if "demo" in b.text()).click()
    d.settle()
    assert not welcome.isVisible()
    assert d.site.name == "The old brickworks"


def test_a_site_that_cannot_be_solved_still_opens_with_its_findings(drive):
    from humble_loop.kinds.street import Bend

    site = with_ring(new_site())
    site = edits.set_head(
        edits.add_street(site, "C", [Bend(easting=300, northing=0), Bend(easting=303, northing=0)]), "c"
    )
    d = drive(site)
    for street in ("a", "b", "c"):
        d.session.choose(ThingId("street", street))
        d.settle()
    assert any(f.rule == "ring of ties" for f in d.window.findings)


def test_deleting_the_chosen_vip_and_adding_one(drive, brickworks):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "ember-loop"))
    d.settle()
    d.window.long_section.add_vip((120.0, 41.9))
    assert len(d.site.find(Street, "ember-loop").vips) == 5
    index = next(i for i, s in enumerate(grade_line(d.session.engine, "ember-loop").profile.chainages) if s == 120.0)
    d.session.choose(ThingId("street", "ember-loop"), ("vip", "ember-loop", index))
    d.window._command("Remove the VIP or bend").do()
    assert len(d.site.find(Street, "ember-loop").vips) == 4


def test_the_sites_own_facts_set_units_and_set_out(drive, brickworks):
    d = drive(brickworks)
    edit = facts(d, "offset outwards")
    edit.setFocus()
    edit.selectAll()
    QTest.keyClicks(edit, "600mm")
    QTest.keyClick(edit, Qt.Key.Key_Return)
    assert d.site.set_out.offset == pytest.approx(0.6)
    edit = facts(d, "first number")
    edit.setFocus()
    edit.selectAll()
    QTest.keyClicks(edit, "501")
    QTest.keyClick(edit, Qt.Key.Key_Return)
    assert d.site.set_out.first_number == 501
    d.session.do("Change units", lambda s: edits.set_settings(s, units="ft"))
    assert facts(d, "offset outwards").text() == "1.97"
    d.session.choose(ThingId("street", "kiln-court"))
    assert facts(d, "length").text() == show_length(chain_of(d.session.engine, "kiln-court").total, "ft", 2)


def test_an_existing_streets_lips_can_be_chosen_and_everything_follows(drive, brickworks):
    from PySide6.QtWidgets import QComboBox

    d = drive(brickworks)
    d.session.choose(ThingId("street", "claypit-road"))
    d.window.facts.refresh()
    before = throat(d.session.engine, "ember-loop", "start").level
    combo = next(c for c in d.window.facts._rows.findChildren(QComboBox) if c.currentText() == "LIP2")
    combo.setCurrentIndex(0)
    combo.activated.emit(0)
    assert d.site.find(Street, "claypit-road").right_lip is None
    after = throat(d.session.engine, "ember-loop", "start").level
    assert after == pytest.approx(before, abs=0.15)
    assert after != before


def test_a_fault_of_ours_is_one_sentence_for_the_designer(drive, brickworks, tmp_path):
    from humble_loop.desk.app import _reporter

    d = drive(brickworks)
    report = _reporter(d.window, tmp_path / "logs" / "faults.log")
    try:
        raise RuntimeError(" ".join(["deep", "inside"]))
    except RuntimeError as error:
        report(type(error), error, error.__traceback__)
    assert "your work is safe" in d.window.status.said.text()
    assert "Traceback" not in d.window.status.said.text()
    text = (tmp_path / "logs" / "faults.log").read_text()
    assert "test_window.py" in text
    assert "RuntimeError" in text
    assert "deep inside" not in text  # it might be the name of a client's street
    assert d.window.status.details.isVisible()
    QTest.mouseClick(d.window.status.details, Qt.MouseButton.LeftButton)
    shown = next(w for w in QApplication.topLevelWidgets() if isinstance(w, FaultReport))
    assert shown.text.toPlainText() in text
    next(b for b in shown.findChildren(QPushButton) if b.text() == "Copy").click()
    assert QApplication.clipboard().text() == shown.text.toPlainText()
    assert not d.window.status.details.isVisible()
    shown.close()


def test_the_strip_chooses_lots_and_carries_the_cursor(drive, brickworks):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "ember-loop"))
    d.settle()
    strip = d.window.strip
    strip.repaint()
    box, thing = strip._boxes[2]
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, box.center().toPoint())
    assert d.session.chosen.thing == thing
    QTest.mouseClick(strip, Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, strip.rect().center())
    assert d.session.chosen.thing == ThingId("street", "ember-loop")


def test_the_index_filters_and_chooses(drive, brickworks):
    d = drive(brickworks)
    index = d.window.index
    QTest.keyClicks(index.search, "h2")
    shown = [i.text(0) for i in index._items() if not i.isHidden()]
    assert "Kiln Court H2" in shown
    assert "Ember Loop" not in shown
    item = next(i for i in (index.tree.findItems("Kiln Court H2", Qt.MatchFlag.MatchRecursive)))
    index.tree.itemClicked.emit(item, 0)
    assert d.session.chosen.thing == ThingId("lot", "kiln-court-head#2")


def test_the_wheel_zooms_about_the_cursor(drive, brickworks):
    from PySide6.QtCore import QPoint
    from PySide6.QtGui import QWheelEvent
    from PySide6.QtWidgets import QApplication

    d = drive(brickworks)
    plan = d.window.plan
    at = plan.pixel((100, 180))
    before = plan.place(QPointF(at))
    turn = QWheelEvent(
        QPointF(at),
        plan.viewport().mapToGlobal(QPointF(at)),
        QPoint(0, 0),
        QPoint(0, 240),
        Qt.MouseButton.NoButton,
        Qt.KeyboardModifier.NoModifier,
        Qt.ScrollPhase.NoScrollPhase,
        False,
    )
    width = view_range(plan)[0][1] - view_range(plan)[0][0]
    QApplication.sendEvent(plan.viewport(), turn)
    assert view_range(plan)[0][1] - view_range(plan)[0][0] == pytest.approx(width * 0.85**2, rel=0.01)
    assert plan.place(QPointF(at)) == pytest.approx(before, abs=0.5)


def test_reversing_and_removing_from_facts(drive, court):
    d = drive(court)
    d.session.choose(ThingId("street", "through"))
    d.window.facts.refresh()
    first = d.site.find(Street, "through").bends[0]
    next(b for b in d.window.facts._rows.findChildren(QPushButton) if b.text() == "Reverse").click()
    assert d.site.find(Street, "through").bends[-1] == first
    assert all_joints(d.session.engine) == (("court", "start", "through"),)
    d.window.facts.refresh()
    next(b for b in d.window.facts._rows.findChildren(QPushButton) if b.text() == "Remove Through").click()
    assert d.site.find(Street, "through") is None
    d.settle()
    assert not d.window.plan.drawing.strokes.lines_of(ThingId("street", "through"))


def test_a_long_sentence_in_the_status_line_shows_its_beginning_and_ends_in_an_ellipsis(drive, court):
    d = drive(court)
    said = d.window.status.said
    d.window.say("Brought in " + "a surface and a street and " * 30)
    d.qtbot.wait(10)
    words = said.fontMetrics().elidedText(said.text(), Qt.TextElideMode.ElideRight, said.width())
    assert words.startswith("Brought in")
    assert words.endswith("…")
    picture = said.grab().toImage()
    blank = picture.pixelColor(picture.width() - 1, 0)
    inked = [
        x for x in range(picture.width()) if any(picture.pixelColor(x, y) != blank for y in range(picture.height()))
    ]
    assert inked[0] < 20  # its beginning is there: it is not pushed out on the left


def test_no_label_outlives_its_site(drive, brickworks):
    d = drive(brickworks)
    plan = d.window.plan
    plan.viewport().repaint()
    plan.pan(4.0, 0.0)
    plan.viewport().repaint()
    assert plan.labels._placed
    d.session.take(new_site())
    d.settle()
    plan.viewport().repaint()
    assert plan.labels._placed == []


def test_labels_go_along_while_the_plan_is_pushed_and_find_new_places_when_it_rests(drive, brickworks, monkeypatch):
    d = drive(brickworks)
    plan = d.window.plan
    plan.viewport().repaint()
    before = {label.text: box for label, _, box, _ in plan.labels._placed}
    assert len(before) > 5
    plan.pan(4.0, 0.0)
    plan.viewport().repaint()
    pixels = 4.0 / plan.plotItem.vb.viewPixelSize()[0]
    pushed = {label.text: box for label, _, box, _ in plan.labels._placed}
    assert pushed.keys() <= before.keys()
    for text, box in pushed.items():
        assert box.center().x() == pytest.approx(before[text].center().x() - pixels, abs=0.6)
        assert box.center().y() == pytest.approx(before[text].center().y(), abs=1e-6)
    placed_anew = []
    place_all = plan.labels._place_all
    monkeypatch.setattr(plan.labels, "_place_all", lambda *a: placed_anew.append(1) or place_all(*a))
    d.qtbot.waitUntil(lambda: bool(placed_anew), timeout=5000)
    boxes = [box for _, _, box, _ in plan.labels._placed]
    assert not any(a.intersects(b) for i, a in enumerate(boxes) for b in boxes[:i])
