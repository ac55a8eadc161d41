"""Typical sections piece by piece, and sections that change along a street. Expected values are worked out by hand."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.demo import first_stage
from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.ground.model import Ground
from humble_loop.kinds.lot.layout import lot
from humble_loop.kinds.street import Bend, Street, Vip
from humble_loop.kinds.street import section_edits as change
from humble_loop.kinds.street.change_sheet import change_sheet
from humble_loop.kinds.street.faces import StreetFace
from humble_loop.kinds.street.plan import StreetLine, chain_of
from humble_loop.kinds.street.section import lines_of, side_shape
from humble_loop.kinds.street.section_sheet import section_sheets
from humble_loop.kinds.street.side import boundary_width, course, lip_width
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import line
from humble_loop.lines.varying import Varying
from humble_loop.site.edits import EditError
from humble_loop.site.libraries import new_site
from humble_loop.site.library import TypicalSection
from humble_loop.whole.findings import findings
from humble_loop.whole.tables import table
from humble_loop.whole.things import all_things
from tests import edits
from tests.conftest import court_site, examples, plane_ground
from tests.kinds.test_elements import E0, N0, street
from tests.whole.test_surface import assert_watertight

LOCAL = "local-street"  # 3.4 m lane at -3 %, kerb of 0.45 m, then 1.8 + 1.8 + 0.6 m at +2 %


def straight(length=200.0, **choices):
    """A street due east at level 60 with a grade of 1 %, away from the origin."""
    vips = (Vip(chainage=0.0, level=60.0), Vip(chainage=length, level=60.0 + length / 100.0))
    return street((0.0, 0.0), (length, 0.0), vips=vips, **choices)


def section(site, id=LOCAL):
    return site.find(TypicalSection, id)


def level(site, point, side, s):
    return float(line(Engine(site), StreetLine("line", point, side)).rule.levels([s])[0])


# Pieces


def test_a_width_changes_on_both_sides_while_they_are_alike():
    site = change.set_strip(straight(), LOCAL, "left", 0, width=4.0)
    q = Engine(site)
    for side in ("left", "right"):
        assert lip_width(q, "line", side).one(50.0) == 4.0
        assert boundary_width(q, "line", side).one(50.0) == pytest.approx(4.0 + 0.45 + 4.2)
        # 60.5 at the crown, then 4 m at -3 %.
        assert level(site, "lip", side, 50.0) == pytest.approx(60.5 - 0.12)


def test_sides_that_are_apart_change_each_for_itself_and_can_be_made_alike_again():
    site = change.set_apart(straight(), LOCAL, True)
    site = change.set_strip(site, LOCAL, "right", 0, width=5.0)
    assert [section(site).side(s).width for s in ("left", "right")] == [3.4, 5.0]
    assert not section(site).linked
    site = change.set_apart(site, LOCAL, False, like="right")
    assert section(site).linked
    assert section(site).left.width == 5.0


def test_a_parking_lane_lies_between_lane_and_lip():
    site = change.add_piece(straight(), LOCAL, "left", 0, "parking")
    site = change.set_strip(site, LOCAL, "left", 1, width=2.5, grade=-0.04)
    q = Engine(site)
    assert course(q, "line", "left").names[:3] == ("crown", "lane edge", "lip")
    assert line(q, StreetLine("line", "lip", "left")).plan.offset.one(10.0) == pytest.approx(5.9)
    assert line(q, StreetLine("line", "lip", "right")).plan.offset.one(10.0) == pytest.approx(-5.9)
    # 61 at the crown; 3.4 m at -3 %, then 2.5 m at -4 %.
    assert level(site, "lane edge", "left", 100.0) == pytest.approx(61.0 - 0.102)
    assert level(site, "lip", "left", 100.0) == pytest.approx(61.0 - 0.102 - 0.1)
    piece = finished_mesh(q, StreetFace("line", "carriageway", "left"))
    assert set(piece.roles) == {"carriageway", "parking"}
    middle = piece.surface.levels(chain_of(q, "line").points_at([100.0], 3.4 + 1.25))
    assert middle[0] == pytest.approx(61.0 - 0.102 - 0.05, abs=1e-6)


def test_pieces_outside_the_lip_are_added_moved_and_removed_and_named_by_what_they_are():
    site = change.add_piece(straight(), LOCAL, "left", 1, "buffer")  # behind the kerb
    names = [p.to if hasattr(p, "to") else p.kerb for p in section(site).left.parts]
    assert names == ["lip", "barrier", "buffer edge", "path front", "path back", "boundary"]
    site = change.move_piece(site, LOCAL, "left", 2, 1)  # past the verge
    pieces = [getattr(p, "piece", "kerb") for p in section(site).left.parts]
    assert pieces == ["lane", "kerb", "verge", "buffer", "path", "verge"]
    assert section(site).left.parts[3].to == "path front"
    site = change.remove_piece(site, LOCAL, "left", 4)
    assert [getattr(p, "piece", "kerb") for p in section(site).left.parts] == [
        "lane",
        "kerb",
        "verge",
        "buffer",
        "verge",
    ]
    assert section(site).left.parts[-1].to == "boundary"


@pytest.mark.parametrize(
    ("do", "words"),
    [
        (lambda s: change.remove_piece(s, LOCAL, "left", 0), "needs a lane"),
        (lambda s: change.add_piece(s, LOCAL, "left", 3, "parking"), "within the lip"),
        (lambda s: change.add_piece(s, LOCAL, "left", -1, "path"), "outside of the lip"),
        (lambda s: change.add_piece(s, LOCAL, "left", -1, "kerb"), "outside of the lip"),
        (lambda s: change.move_piece(s, LOCAL, "left", 0, 1), "last piece"),
        (lambda s: change.set_strip(s, LOCAL, "left", 1, width=1.0), "kerb"),
        (lambda s: change.set_kerb(s, LOCAL, "left", 0, "barrier"), "no kerb"),
        (lambda s: change.set_kerb(s, LOCAL, "left", 1, "nothing"), "no kerb shape"),
        (lambda s: change.set_strip(s, LOCAL, "left", 0, width=-1.0), "width"),
        (lambda s: change.set_strip(s, LOCAL, "left", 0, width=61.0), "must be between 0 and 60"),
        (lambda s: change.set_strip(s, LOCAL, "left", 9, width=1.0), "no piece 10"),
        (lambda s: change.set_strip(s, "nothing", "left", 0, width=1.0), "no typical section"),
    ],
)
def test_what_makes_no_section_is_refused_in_a_sentence(do, words):
    with pytest.raises(EditError, match=words):
        do(straight())


def test_the_last_strip_outside_the_lip_stays():
    site = straight()
    for _ in range(2):
        site = change.remove_piece(site, LOCAL, "left", 2)
    with pytest.raises(EditError, match="boundary"):
        change.remove_piece(site, LOCAL, "left", 2)
    with pytest.raises(EditError, match="boundary"):
        change.add_piece(site, LOCAL, "left", 2, "kerb")  # nothing would lie beyond it


def test_two_kerbs_have_points_of_their_own():
    site = change.add_piece(straight(), LOCAL, "left", 2, "kerb")
    names = course(Engine(site), "line", "left").names
    assert names.count("invert") == 1
    assert "invert 2" in names
    assert len(set(names)) == len(names)


def test_a_kerb_shape_is_chosen():
    site = change.set_kerb(straight(), LOCAL, "left", 1, "flush")
    assert "invert" not in course(Engine(site), "line", "left").names


def test_a_street_gets_a_copy_of_its_own_and_others_keep_theirs():
    site = edits.add_street(straight(), "Other", site_bends())
    site = change.own_section(site, "line", LOCAL)
    mine = site.find(Street, "line").section
    assert mine != LOCAL
    site = change.set_strip(site, mine, "left", 0, width=5.0)
    q = Engine(site)
    assert lip_width(q, "line", "left").one(0.0) == 5.0
    assert lip_width(q, "other", "left").one(0.0) == 3.4


def site_bends():
    return [Bend(easting=E0, northing=N0 + 300), Bend(easting=E0 + 200, northing=N0 + 300)]


def test_reversing_a_street_leaves_its_uneven_sides_where_they_are():
    site = change.set_strip(change.set_apart(straight(), LOCAL, True), LOCAL, "right", 0, width=5.0)
    before = line(Engine(site), StreetLine("line", "lip", "right")).points([0.0, 200.0])
    site = edits.reverse_street(site, "line", 200.0)
    after = line(Engine(site), StreetLine("line", "lip", "left")).points([200.0, 0.0])
    assert after == pytest.approx(before)


# Along the street


def wider(site, at=80.0, taper=20.0, **values):
    """A site whose street becomes another section from ``at`` on, with a lane of 4.4 m."""
    site = change.add_change(site, "line", at)
    fresh = site.find(Street, "line").changes[-1].section
    site = change.set_strip(site, fresh, "left", 0, width=4.4, **values)
    return change.set_change(site, "line", len(site.find(Street, "line").changes) - 1, taper=taper)


def test_a_lane_widens_over_its_taper_and_all_that_lies_outside_moves_with_it():
    site = wider(straight())
    q = Engine(site)
    made = lip_width(q, "line", "left")
    assert made(np.array([0.0, 80.0, 85.0, 90.0, 100.0, 200.0])) == pytest.approx([3.4, 3.4, 3.65, 3.9, 4.4, 4.4])
    edge = line(q, StreetLine("line", "boundary", "right")).plan
    assert -edge.offset(np.array([80.0, 90.0, 100.0])) == pytest.approx([8.05, 8.55, 9.05])
    # The line runs out by 1 m in 20: so much longer is a metre of it.
    assert edge.stretch([90.0])[0] == pytest.approx(np.hypot(1.0, 0.05))
    # 60.9 at the crown, 3.9 m at -3 %.
    assert level(site, "lip", "left", 90.0) == pytest.approx(60.9 - 0.117)
    grade = line(q, StreetLine("line", "lip", "left")).rule.grades([90.0])[0]
    assert grade == pytest.approx(0.01 - 0.03 * 0.05)


def test_the_surface_has_rows_where_tapers_begin_and_end():
    q = Engine(wider(straight()))
    mesh = finished_mesh(q, StreetFace("line", "carriageway", "left")).surface
    along = np.unique(np.round(mesh.points[:, 0] - mesh.points[:, 0].min(), 6))
    assert {80.0, 100.0} <= set(along)
    # 80 m of 3.4, a trapezoid, and 100 m of 4.4.
    assert mesh.areas().sum() == pytest.approx(80 * 3.4 + 20 * 3.9 + 100 * 4.4, rel=1e-9)


def test_width_and_fall_that_change_together_are_followed_closely():
    site = wider(straight(), grade=-0.01)
    rise = line(Engine(site), StreetLine("line", "lip", "left")).rule
    for s in (82.5, 90.0, 97.5):
        share = (s - 80.0) / 20.0
        wanted = 60.0 + s / 100.0 + (-0.03 + 0.02 * share) * (3.4 + share)
        assert rise.levels([s])[0] == pytest.approx(wanted, abs=1e-4)


def test_a_path_that_begins_along_the_street_grows_out_of_the_kerb():
    site = straight()
    for _ in range(2):
        site = change.remove_piece(site, LOCAL, "left", 2)  # only 0.6 m of verge behind the kerb
    site = change.add_change(site, "line", 100.0)
    fresh = site.find(Street, "line").changes[0].section
    site = change.add_piece(site, fresh, "left", 1, "path")
    q = Engine(site)
    names = course(q, "line", "left").names
    assert names[-2:] == ("path back", "boundary")
    back = line(q, StreetLine("line", "path back", "left")).plan
    kerb = line(q, StreetLine("line", "back of kerb", "left")).plan
    assert back.offset.one(50.0) == kerb.offset.one(50.0)
    assert back.offset.one(105.0) - kerb.offset.one(105.0) == pytest.approx(0.75)
    assert back.offset.one(150.0) - kerb.offset.one(150.0) == pytest.approx(1.5)
    assert "path back" not in side_shape(q, "line", "left", 50.0).names
    assert "path back" in side_shape(q, "line", "left", 150.0).names


def test_pieces_in_another_order_are_other_points():
    site = change.add_change(straight(), "line", 100.0)
    fresh = site.find(Street, "line").changes[0].section
    site = change.move_piece(site, fresh, "left", 2, 1)  # path before verge
    q = Engine(site)
    names = course(q, "line", "left").names
    assert len(set(names)) == len(names)
    for s in (50.0, 105.0, 150.0):
        offsets = [line(q, StreetLine("line", n, "left")).plan.offset.one(s) for n in names[1:]]
        assert np.all(np.diff(offsets) >= -1e-12)
    there = section(site, fresh).left
    assert side_shape(q, "line", "left", 150.0).reach == pytest.approx(
        0.45 + sum(p.width for p in there.outside if hasattr(p, "width"))
    )


def test_tapers_that_meet_the_next_change_end_there():
    site = wider(wider(straight(), 80.0, 30.0), 100.0, 10.0)
    made = lip_width(Engine(site), "line", "left")
    assert made(np.array([80.0, 90.0, 100.0])) == pytest.approx([3.4, 3.9, 4.4])
    assert any(f.rule == "section change" and "next change" in f.message for f in findings(Engine(site)))


def test_a_change_beyond_the_end_is_told():
    site = wider(straight(), 195.0)
    found = [f for f in findings(Engine(site)) if f.rule == "section change"]
    assert len(found) == 1
    assert "end" in found[0].message
    assert not [f for f in findings(Engine(wider(straight()))) if f.rule == "section change"]


def test_changes_turn_round_with_the_street():
    site = wider(straight(), 80.0, 20.0)
    before = line(Engine(site), StreetLine("line", "lip", "left")).points([0.0, 85.0, 90.0, 150.0])
    turned = edits.reverse_street(site, "line", 200.0)
    after = line(Engine(turned), StreetLine("line", "lip", "right")).points([200.0, 115.0, 110.0, 50.0])
    assert after == pytest.approx(before)
    assert edits.reverse_street(turned, "line", 200.0).find(Street, "line") == site.find(Street, "line")


def test_a_change_that_is_not_there_is_said():
    for do in (lambda s: change.set_change(s, "line", 0, taper=5.0), lambda s: change.remove_change(s, "line", 0)):
        with pytest.raises(EditError, match="no change of section 1"):
            do(straight())


def test_a_change_whose_chainage_stands_twice_is_refused():
    with pytest.raises(EditError, match="cannot change at"):
        change.add_change(change.add_change(straight(), "line", 80.0), "line", 80.0)


@given(
    st.lists(
        st.tuples(st.floats(1.0, 190.0), st.floats(0.5, 60.0), st.floats(2.0, 6.0)),
        max_size=4,
        unique_by=lambda c: round(c[0]),
    )
)
@examples(15)
def test_sides_are_continuous_and_points_keep_their_order_whatever_changes(changes):
    site = straight()
    for at, taper, width in sorted(changes):
        site = change.add_change(site, "line", at)
        k = len(site.find(Street, "line").changes) - 1
        site = change.set_change(site, "line", k, taper=taper)
        site = change.set_strip(site, site.find(Street, "line").changes[k].section, "left", 0, width=width)
    q = Engine(site)
    s = np.linspace(0.0, 200.0, 4001)
    offsets = np.array([line(q, id).plan.offset(s) for id in lines_of(q, "line") if id.side == "left"])
    assert np.all(np.diff(offsets, axis=0) >= -1e-9)
    # 4 m of lane over half a metre at most in one step of 0.05 m.
    assert np.abs(np.diff(offsets, axis=1)).max() <= 4.0 * 0.05 / 0.5 + 1e-9 or any(
        b[0] - a[0] < 0.5 for a, b in zip(sorted(changes)[:-1], sorted(changes)[1:])
    )
    assert not [f for f in findings(q) if f.rule == "could not be worked out"]


@given(st.lists(st.floats(-1, 1), min_size=2, max_size=5), st.lists(st.floats(-5, 5), min_size=2, max_size=5))
@examples(50)
def test_a_product_of_two_that_vary_is_as_near_as_asked(a, b):
    first = Varying.of(np.linspace(0, 10, len(a)), a)
    second = Varying.of(np.linspace(2, 9, len(b)), b)
    s = np.linspace(-1, 11, 500)
    assert first.times_varying(second, 1e-3)(s) == pytest.approx(first(s) * second(s), abs=1.001e-3)


# As rows


def sheets(site):
    q = Engine(site)
    return {s.title: s.make(q) for s in section_sheets(q, "line")}


def test_the_rows_of_a_section_read_from_the_crown_outwards_and_are_typed_into():
    site = straight()
    sheet = sheets(site)["Section"]
    ends = [r.cells[6].value for r in sheet.rows if r.cells[6]]
    assert ends == ["lip", "back of kerb", "path front", "path back", "boundary"]
    assert [r.cells[4].value for r in sheet.rows if r.cells[4]] == pytest.approx([3.4, 3.85, 5.65, 7.45, 8.05])
    # 3.4 m at -3 %, 125 mm of kerb, 4.2 m at +2 %.
    assert sheet.rows[4].cells[5].value == pytest.approx(-0.102 + 0.125 + 0.084)
    site = sheet.rows[2].cells[2].edit(2.4)(site)
    site = sheets(site)["Section"].rows[2].cells[3].edit(0.03)(site)
    assert (section(site).left.parts[2].width, section(site).left.parts[2].grade) == (2.4, 0.03)
    fill = next(
        r for r in sheets(site)["Section"].rows if r.cells[1] and getattr(r.cells[1], "value", "") == "batter in fill"
    )
    site = fill.cells[3].edit(0.25)(site)
    assert section(site).right.fill_slope == 0.25


def test_who_else_uses_a_section_is_told_and_a_copy_is_offered():
    site = straight()
    assert "used here only" in sheets(site)["Section"].note
    site = edits.add_street(site, "Other", site_bends())
    sheet = sheets(site)["Section"]
    assert "Other" in sheet.note
    own = dict(sheet.actions)["Own copy for Line"](site)
    assert own.find(Street, "line").section != own.find(Street, "other").section


def changes(site):
    return change_sheet(Engine(site), "line")


def test_changes_are_added_typed_and_removed_as_rows():
    site = straight()
    sheet = changes(site)
    assert not sheet.rows
    site = sheet.actions[0][1](site)
    row = changes(site).rows[0]
    assert row.cells[2].value == 100.0
    site = row.cells[2].edit(60.0)(site)
    site = changes(site).rows[0].cells[4].edit(15.0)(site)
    got = site.find(Street, "line").changes[0]
    assert (got.chainage, got.taper) == (60.0, 15.0)
    assert "Section from 60" in sheets(site)
    site = changes(site).rows[0].cells[5].edit("access-place")(site)
    assert site.find(Street, "line").changes[0].section == "access-place"
    site = changes(site).rows[0].actions[0][1](site)
    assert site.find(Street, "line").changes == ()


def test_an_existing_street_has_no_section():
    assert not sheets(straight(kind="existing"))["Section"].rows


def test_a_missing_point_is_said():
    q = Engine(straight())
    made = q.attempt(line, StreetLine("line", "moat", "left"))
    assert isinstance(made, Unsolved)
    assert "does not have this point" in made.message


def widened_loop(share):
    """Ember Loop of the demo with wider verges from a share of its length on; the rules that it breaks then and did not."""
    site = first_stage()
    before = {f.rule for f in findings(Engine(site))}
    site = change.add_change(site, "ember-loop", share * chain_of(Engine(site), "ember-loop").total)
    fresh = site.find(Street, "ember-loop").changes[0].section
    site = change.set_strip(site, fresh, "left", 2, width=3.0)
    return site, {f.rule for f in findings(Engine(site))} - before


def test_lots_batters_and_reserves_follow_a_widening_without_knowing_of_it():
    site, fresh_rules = widened_loop(0.6)
    assert fresh_rules == set()
    q = Engine(site)
    edge = line(q, StreetLine("ember-loop", "boundary", "left")).plan
    assert edge.offset.one(200.0) - edge.offset.one(100.0) == pytest.approx(1.2)
    for thing in (t for t in all_things(q) if t.kind == "lot" and t.id.startswith("ember-loop")):
        made = lot(q, thing.id)
        for corner in (made.first, made.last):
            plan = line(q, corner.line).plan
            assert plan.points([corner.along])[0] == pytest.approx(corner.front, abs=1e-6)


def test_a_taper_in_the_mouth_of_a_side_street_is_told():
    _, fresh_rules = widened_loop(0.45)  # the mouth is from 102 to 122 m, the taper from 96 m on
    assert "section change" in fresh_rules


def test_a_carriageway_that_falls_to_one_side_is_no_finding_and_one_too_flat_is():
    site = change.set_strip(change.set_apart(straight(), LOCAL, True), LOCAL, "left", 0, grade=0.03)
    assert not [f for f in findings(Engine(site)) if f.rule == "crossfall"]
    site = change.set_strip(site, LOCAL, "left", 0, grade=0.01)
    assert len([f for f in findings(Engine(site)) if f.rule == "crossfall"]) == 1


# Pavement


def test_layers_are_added_typed_and_removed_as_rows():
    site = straight()
    rows = [r for r in sheets(site)["Section"].rows if r.cells[0].value == "layer"]
    assert [(r.cells[1].value, r.cells[2].value) for r in rows] == [
        ("asphalt", 30.0),
        ("base", 150.0),
        ("subbase", 150.0),
    ]
    assert rows[-1].cells[5].value == pytest.approx(-0.33)
    site = rows[1].cells[2].edit(200.0)(site)
    assert section(site).layers[1].thickness == pytest.approx(0.2)
    site = dict(rows[0].actions)["Add a layer under it"](site)
    assert [x.of for x in section(site).layers] == ["asphalt", "layer", "base", "subbase"]
    site = change.remove_layer(site, LOCAL, 3)
    assert [x.of for x in section(site).layers] == ["asphalt", "layer", "base"]
    for do in (
        lambda: change.set_layer(site, LOCAL, 7, of="x"),
        lambda: change.set_layer(site, LOCAL, 0, thickness=0.0),
    ):
        with pytest.raises(EditError):
            do()


def pavement_of(site):
    made = table(Engine(site), "pavement", "line")
    return [dict(zip(made.columns, row)) for row in made.rows]


def test_pavement_takes_the_carriageway_times_its_thickness():
    site = change.add_piece(straight(), LOCAL, "left", 0, "parking")  # 2.2 m on both sides
    rows = pavement_of(site)
    assert [r["layer"] for r in rows] == ["asphalt", "base", "subbase"]
    assert rows[0]["area"] == pytest.approx(200.0 * 2 * (3.4 + 2.2))
    assert rows[1]["volume"] == pytest.approx(200.0 * 11.2 * 0.15)


def test_where_the_section_changes_each_has_its_own_pavement():
    site = wider(straight(), 80.0, 20.0)
    fresh = site.find(Street, "line").changes[0].section
    site = change.remove_layer(site, fresh, 2)
    rows = pavement_of(site)
    assert [(r["section"] == section(site).name, r["layer"]) for r in rows] == [
        (True, "asphalt"),
        (True, "base"),
        (True, "subbase"),
        (False, "asphalt"),
        (False, "base"),
    ]
    assert rows[0]["area"] + rows[3]["area"] == pytest.approx(2 * (80 * 3.4 + 20 * 3.9 + 100 * 4.4))
    assert rows[0]["area"] == pytest.approx(2 * 90.0 * 3.4, rel=0.03)


def test_junctions_and_heads_are_paved_as_their_own_streets_end():
    site = first_stage()
    q = Engine(site)
    made = table(q, "pavement", "Kiln Court")
    area = made.rows[0][made.columns.index("area")]
    volumes = table(q, "volumes")
    named = [dict(zip(volumes.columns, row)) for row in volumes.rows]
    wanted = sum(
        r["area"]
        for r in named
        if r["piece"].startswith("Kiln Court") and r["kind"] in ("carriageway", "junction", "bulb")
    )
    assert area == pytest.approx(wanted, rel=1e-6)
    assert area > 600.0


def narrow_parking(site, id, grade):
    """A parking lane of 0.5 m, so that nothing else runs out of room."""
    site = change.add_piece(site, id, "left", 0, "parking")
    return change.set_strip(site, id, "left", 1, width=0.5, grade=grade)


def with_changed_court(site):
    """The court's verge and lane become wider half way along."""
    site = change.add_change(site, "court", 50.0)
    fresh = site.find(Street, "court").changes[0].section
    verge = next(i for i, p in enumerate(section(site, fresh).left.parts) if getattr(p, "piece", "") == "verge")
    return change.set_strip(change.set_strip(site, fresh, "left", 0, width=3.4), fresh, "left", verge, width=2.6)


@pytest.mark.parametrize(
    "do",
    [
        lambda s: narrow_parking(s, "access-place", -0.03),
        lambda s: narrow_parking(s, "access-place", -0.06),
        lambda s: narrow_parking(narrow_parking(s, LOCAL, -0.05), "access-place", 0.02),
        lambda s: change.set_strip(change.set_apart(s, "access-place", True), "access-place", "left", 0, width=3.2),
        with_changed_court,
        lambda s: with_changed_court(narrow_parking(s, "access-place", -0.05)),
    ],
)
def test_the_surface_stays_watertight_where_lanes_meet_junctions_and_bulbs(do):
    assert_watertight(Engine(do(court_site())))


def test_a_side_may_end_at_its_lip():
    site = straight()
    bare = section(site).model_dump(mode="json") | {"id": "bare", "name": "Bare"}
    for side in ("left", "right"):
        bare[side] = {"parts": [{"to": "lip", "width": 3.0, "grade": -0.03}]}
    site = edits.set_street(site.put(TypicalSection.model_validate(bare)), "line", section="bare")
    q = Engine(site)
    assert course(q, "line", "left").names == ("crown", "lip")
    assert boundary_width(q, "line", "left").one(0.0) == 3.0
    assert [r.cells[6].value for r in sheets(site)["Section"].rows if r.cells[6]] == ["lip"]
    site = change.add_piece(site, "bare", "left", 0, "verge")
    assert section(site, "bare").left.parts[-1].to == "boundary"
    with pytest.raises(EditError, match="behind the kerb"):
        change.add_piece(site, "bare", "left", 1, "kerb")


@pytest.mark.parametrize("section", [s.id for s in new_site().all(TypicalSection)])
def test_every_shipped_section_is_built_and_breaks_no_rule_of_its_own(section):
    """On a street at a real site's coordinates that leaves another: its surface closes, and its section has no finding."""
    site = edits.add_ground(new_site(), Ground(name="ground", surface=plane_ground().shifted(312_400.0, 6_251_970.0)))
    for name, ends in (("Through", ((-150.0, 0.0), (150.0, 0.0))), ("Side", ((0.0, 0.0), (0.0, 120.0)))):
        bends = [Bend(easting=312_400.0 + e, northing=6_251_970.0 + n) for e, n in ends]
        site = edits.add_street(site, name, bends, section=section)
    q = Engine(site)
    wrong = [
        f for f in findings(q) if f.rule in ("crossfall", "section change", "surface gap", "bends that do not fit")
    ]
    assert not wrong
    assert_watertight(q)


@pytest.mark.parametrize(
    ("through", "side"),
    [
        ("collector-parking", "local-one-path"),
        ("local-one-path", "service-lane"),
        ("service-lane", "collector-parking"),
        ("access-one-way-fall", "local-parking-left"),
    ],
)
def test_corners_and_bulbs_join_roadsides_of_other_pieces(through, side):
    """What one side has and the other has not begins with no width: nothing gapes, and there is no step."""
    site = edits.add_ground(new_site(), Ground(name="ground", surface=plane_ground()))
    for name, section, ends in (
        ("Through", through, ((-150.0, 0.0), (150.0, 0.0))),
        ("Side", side, ((0.0, 0.0), (0.0, 110.0))),
    ):
        site = edits.add_street(site, name, [Bend(easting=e, northing=n) for e, n in ends], section=section)
    assert_watertight(Engine(edits.set_head(site, "side")))


@pytest.mark.parametrize("shape", ["dish-drain", "v-drain"])
def test_a_lined_drain_stands_behind_the_path_as_a_piece_of_the_section(shape):
    """0.9 m dish 75 mm deep, 0.8 m V 130 mm deep: the far edge is as high as the near one, and the surface closes."""
    site = court_site()
    side = section(site).left
    last = len(side.parts) - 2  # behind the path, before the strip up to the boundary
    site = change.set_apart(site, LOCAL, True)
    site = change.add_piece(site, LOCAL, "left", last, "kerb")
    site = change.set_kerb(site, LOCAL, "left", last + 1, shape)
    q = Engine(site)
    made = course(q, "through", "left")
    k, edge = (made.names.index(n) for n in ("invert 2", "drain edge"))
    assert made.rise(k).one(0.0) == pytest.approx({"dish-drain": -0.02, "v-drain": -0.13}[shape])
    assert sum(made.rise(i).one(0.0) for i in range(made.names.index("path back") + 1, edge + 1)) == pytest.approx(0.0)
    assert_watertight(q)
