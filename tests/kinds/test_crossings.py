"""Four-way junctions: a street that crosses another, whose crown holds, as two arms that leave it."""

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.corners import Return, change_corner, kerb_return
from humble_loop.kinds.junction.layout import throat
from humble_loop.kinds.junction.model import CrossingChoice, set_crossing
from humble_loop.kinds.junction.nodes import CrossingArm, arms_of, crossings_of
from humble_loop.kinds.street import Bend, Street, StreetLine, Vip
from humble_loop.kinds.street.cutting import split
from humble_loop.kinds.street.grades import vip_rows
from humble_loop.kinds.street.joining import joined, joints
from humble_loop.kinds.street.levels import grade_line, own_grades
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.street.section import breaks, gaps, side_rows
from humble_loop.lines.describe import Choice
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.site.libraries import new_site
from humble_loop.site.library import StreetClass
from humble_loop.whole.findings import findings
from humble_loop.whole.surface import probe
from humble_loop.whole.tables import table
from humble_loop.whole.things import all_faces, all_things
from tests import edits
from tests.asking import crown_levels
from tests.conftest import examples, lane_section, plane_ground
from tests.whole.test_surface import assert_watertight

BACK, ON = CrossingArm("through", 0, False), CrossingArm("through", 0, True)
NODE = ThingId("junction", "across:through:0")


def cross(angle=90.0, through_fall=0.02, across_vips=None, across_class=None, ground=None, bends=None):
    """The through street of the reference case, 20 + 0.02 x from x = 0 to 200, and one that crosses it at x = 100 at an angle,
    150 m long.
    """
    site = edits.set_section(new_site("X"), lane_section("side", 3.0))
    site = edits.set_section(site, lane_section("through", 3.5))
    if ground is not None:
        site = edits.add_ground(site, Ground(name="g", surface=ground))
    vips = (Vip(chainage=0, level=20), Vip(chainage=200, level=20 + 200 * through_fall))
    ends = [Bend(easting=0, northing=0), Bend(easting=200, northing=0)]
    site = edits.add_street(site, "Through", ends, section="through", vips=vips)
    u = 75.0 * np.array([np.cos(np.radians(angle)), np.sin(np.radians(angle))])
    ends = bends or [Bend(easting=100 - u[0], northing=-u[1]), Bend(easting=100 + u[0], northing=u[1])]
    vips = across_vips or (Vip(chainage=0, level=21.0), Vip(chainage=150, level=23.0))
    more = {"street_class": across_class} if across_class else {}
    return edits.add_street(site, "Across", ends, section="side", vips=vips, **more)


def test_where_two_streets_cross_there_is_a_junction_that_goes_with_them():
    q = Engine(cross())
    assert NODE in all_things(q)
    assert kind_of("junction").name(q, NODE) == "Through × Across"
    assert arms_of(q, "across") == (BACK, ON)
    assert arms_of(q, "through") == ()
    assert not [f for f in findings(q) if f.rule in ("streets meet unworked", "cannot be worked out", "overlap")]
    q.use(edits.move_bend(edits.move_bend(q.site, "across", 0, 300, -75), "across", 1, 300, 75))
    assert NODE not in all_things(q)
    assert breaks(q, "across", "left") == ()
    assert gaps(q, "through", "left") == ()


def test_the_lesser_crown_goes_over_the_others_surface_from_throat_to_throat():
    q = Engine(cross())
    # At x = 100 the through crown is 22; its carriageway falls 3 % to both lips, 3.5 m out.
    s = 75.0 + np.array([-3.5, -2.0, 0.0, 1.0, 3.5])
    assert crown_levels(q, "across", s) == pytest.approx(22.0 - 0.03 * np.abs(s - 75.0), abs=1e-9)
    made = grade_line(q, "across")
    assert made.profile.chainages == pytest.approx([0.0, 71.5, 78.5, 150.0], abs=1e-9)
    assert made.profile.levels == pytest.approx([21.0, 21.895, 21.895, 23.0], abs=1e-9)
    assert made.states == ("set", "tied", "tied", "set")
    # Between the throats no grade is told: those are the through street's falls.
    assert own_grades(q, "across") == pytest.approx([0.895 / 71.5, np.nan, 1.105 / 71.5], abs=1e-9, nan_ok=True)
    assert [np.isnan(r.grade_out) for r in vip_rows(q, "across")] == [False, True, False, True]
    row = next(r for r in table(q, "streets").rows if r[0] == "Across")
    assert row[-2:] == pytest.approx((0.895 / 71.5, 1.105 / 71.5), abs=1e-9)
    # A VIP that was set there gives way, one beyond it follows from the throat by its grade.
    vips = (Vip(chainage=0, level=21.0), Vip(chainage=74, level=30.0), Vip(chainage=150, grade=0.01))
    q.use(edits.set_vips(q.site, "across", vips))
    assert crown_levels(q, "across", [75.0, 150.0]) == pytest.approx([22.0, 21.895 + 0.01 * 71.5], abs=1e-9)


def test_its_section_lies_flat_along_the_lip_at_both_throats_and_is_normal_from_the_returns_on():
    q = Engine(cross())
    for arm, s, way in ((BACK, 71.5, -1), (ON, 78.5, 1)):
        left, right = (line(q, StreetLine("across", "lip", side)).rule for side in ("left", "right"))
        # The through lip rises 2 % to the east; of a street that runs north the left side lies west.
        assert left.levels([s])[0] == pytest.approx(21.895 - 0.06, abs=1e-9)
        assert right.levels([s])[0] == pytest.approx(21.895 + 0.06, abs=1e-9)
        end = s + way * 8.0
        assert kerb_return(q, "across", arm, "left").side_chainage == pytest.approx(end, abs=1e-9)
        crown = crown_levels(q, "across", [end])[0]
        assert left.levels([end])[0] == pytest.approx(crown - 0.09, abs=1e-9)
    assert breaks(q, "across", "left")[0] == pytest.approx((63.5, 86.5), abs=1e-9)
    for side in ("left", "right"):
        assert gaps(q, "through", side)[0] == pytest.approx((89.0, 111.0), abs=1e-9)


@examples(20)
@given(
    st.floats(40.0, 140.0),
    st.floats(-0.05, 0.05),
    st.floats(17.0, 27.0),
    st.floats(17.0, 27.0),
    st.floats(5.0, 12.0),
    st.booleans(),
)
def test_its_arms_are_the_two_ts_that_cutting_it_makes(angle, fall, first, last, radius, turned):
    site = cross(angle, fall, (Vip(chainage=0, level=first), Vip(chainage=150, level=last)))
    if turned:
        site = edits.reverse_street(site, "across", 150.0)
    q = Engine(site)
    for arm in (BACK, ON):
        for corner in ("left", "right"):
            site = change_corner(q, "across", arm, corner, radius=radius)(site)
    q = Engine(site)
    two = split(q, "across", 75.0)(site)
    # The part that was drawn first keeps the name: as it runs now, that is the last where the street was reversed.
    parts = (("across-2", "end"), ("across", "start")) if turned else (("across", "end"), ("across-2", "start"))
    for street, end in parts:
        for corner in ("left", "right"):
            two = change_corner(Engine(two), street, end, corner, radius=radius)(two)
    p = Engine(two)
    for arm, (street, end) in zip((BACK, ON), parts):
        for corner in ("left", "right"):
            a, b = q.attempt(kerb_return, "across", arm, corner), p.attempt(kerb_return, street, end, corner)
            assert isinstance(a, Return) == isinstance(b, Return)
            assume(isinstance(a, Return))
            for point in ("lip", "kerb", "boundary"):
                ids = [
                    id
                    for id in kind_of("junction").lines(q, NODE)
                    if (id.arm, id.corner, id.point) == (arm, corner, point)
                ]
                for id in ids:
                    twin = type(id)(street, end, corner, point)
                    s = np.linspace(0.0, a.curve.length, 9)
                    assert line(q, id).points(s) == pytest.approx(line(p, twin).points(s), abs=1e-7)
    s = np.array([1.0, 40.0, 60.0])
    assert crown_levels(q, "across", s) == pytest.approx(crown_levels(p, parts[0][0], s), abs=1e-7)
    assert crown_levels(q, "across", 150.0 - s) == pytest.approx(crown_levels(p, parts[1][0], 75.0 - s), abs=1e-7)


@pytest.mark.parametrize("angle", [90.0, 60.0, 125.0, 35.0])
def test_it_is_watertight_and_smooth_at_its_seams(angle):
    q = Engine(cross(angle, ground=plane_ground(0.01, 0.005, 20.5)))
    assert_watertight(q)
    assert not [p for p in all_faces(q) if isinstance(q.attempt(finished_mesh, p), Unsolved)]
    assert probe(q, 100.0, 0.0).finished == pytest.approx(22.0, abs=1e-6)
    for arm in (BACK, ON):
        for corner in ("left", "right"):
            made = kerb_return(q, "across", arm, corner)
            (id,) = (
                i for i in kind_of("junction").lines(q, NODE) if (i.arm, i.corner, i.point) == (arm, corner, "lip")
            )
            here = line(q, id)
            side = "left" if (corner == "left") == arm.onwards else "right"
            lip = line(q, StreetLine("across", "lip", side))
            s = made.side_chainage
            assert here.points([made.curve.length]) == pytest.approx(lip.points([s]), abs=1e-9)
            way = "after" if arm.onwards else "before"
            grade = lip.grade_along([s], way)[0] * (1 if arm.onwards else -1)
            assert here.rule.grades([made.curve.length], "before")[0] == pytest.approx(grade, abs=1e-9)


def test_it_goes_on_over_a_curve_and_with_lots_drains_and_heads_beside_it():
    bends = [Bend(easting=70, northing=-90), Bend(easting=90, northing=5, radius=60), Bend(easting=160, northing=70)]
    vips = (Vip(chainage=0, level=21.0), Vip(chainage=195, level=23.0))
    site = cross(bends=bends, across_vips=vips, ground=plane_ground(0.02, 0.01, 21.5))
    q = Engine(site)
    assert NODE in all_things(q)
    assert_watertight(q)
    site = edits.add_lot_row(site, "across", "left", frontage=15, start=125)
    q = Engine(site)
    a, b = breaks(q, "across", "left")[0]
    lots = kind_of("lot")
    assert len(lots.things(q)) > 2
    assert b - a > 15.0
    assert_watertight(q)


def test_whose_crown_holds_is_chosen_and_its_change_of_level_told_first():
    site = cross()
    q = Engine(site)
    facts = kind_of("junction").facts(q, NODE)
    crown = next(r for r in facts if isinstance(r, Choice) and r.label == "crown of")
    assert crown.current == "through"
    # Across would be half way between 21 and 23 at the node: as high as Through, which is at 22.
    assert dict(crown.options)["across"] == "Across (+0.00 m there)"
    q = Engine(crown.edit("across")(site))
    assert arms_of(q, "across") == ()
    assert arms_of(q, "through") == (CrossingArm("across", 0, False), CrossingArm("across", 0, True))
    assert crown_levels(q, "through", [100.0])[0] == pytest.approx(22.0, abs=1e-9)
    # Its crown runs straight from 21 to 23; the through street's goes over its surface: 3 m out 3 % lower.
    assert crown_levels(q, "through", [103.0])[0] == pytest.approx(22.0 - 0.09, abs=1e-9)
    assert kind_of("junction").name(q, NODE) == "Across × Through"


def test_the_street_that_is_made_for_more_speed_holds_and_an_existing_one_always_does():
    least = new_site().find(StreetClass, cross().find(Street, "through").street_class).sight_distance
    faster = next(c for c in new_site().all(StreetClass) if c.sight_distance > least)
    q = Engine(cross(across_class=faster.id))
    assert crossings_of(q, "across", "through")[0].holder == "across"
    existing = edits.set_street(cross(ground=plane_ground(0.0, 0.0, 22.0)), "across", kind="existing")
    existing = set_crossing(existing, "across", "through", 0, through="through")
    assert crossings_of(Engine(existing), "across", "through")[0].holder == "across"


def test_what_was_set_at_a_corner_stays_there_when_streets_are_reversed_or_the_crown_changes(tmp_path):
    site = cross()
    q = Engine(site)
    site = change_corner(q, "across", ON, "left", radius=11.0)(site)  # the north-west corner
    save_site(site, tmp_path / "a.hloop")
    site = load_site(tmp_path / "a.hloop")
    assert [c.id for c in site.all(CrossingChoice)] == ["across:through:0"]

    def corner_of_11(site):
        q = Engine(site)
        found = []
        for street in ("across", "through"):
            for arm in arms_of(q, street):
                for corner in ("left", "right"):
                    made = kerb_return(q, street, arm, corner)
                    if made.curve.radius == 11.0:
                        found.append(made.curve.centre)
        return found

    for changed in (
        site,
        edits.reverse_street(site, "across", 150.0),
        edits.reverse_street(site, "through", 200.0),
        set_crossing(site, "across", "through", 0, through="across"),
    ):
        (centre,) = corner_of_11(changed)
        assert centre == pytest.approx([100 - 3.0 - 11.0, 3.5 + 11.0], abs=1e-9)


def test_streets_cut_and_joined_keep_what_was_set_at_their_crossings():
    site = cross()
    site = change_corner(Engine(site), "across", ON, "left", radius=11.0)(site)
    two = split(Engine(site), "across", 30.0)(site)
    (choice,) = two.all(CrossingChoice)
    assert (choice.first, choice.second, choice.count) == ("across-2", "through", 0)
    q = Engine(two)
    assert kerb_return(q, "across-2", CrossingArm("through", 0, True), "left").curve.radius == 11.0


def test_crossings_that_cannot_be_laid_out_say_why():
    told = [f for f in findings(Engine(cross(angle=14.0))) if f.rule == "streets meet unworked"]
    assert len(told) == 1
    assert "they cross at 14°, less than 20°" in told[0].message
    three = edits.add_street(cross(), "Third", [Bend(easting=50, northing=-50), Bend(easting=150, northing=50)])
    told = [f for f in findings(Engine(three)) if f.rule == "streets meet unworked"]
    assert len(told) == 3
    assert all("another street runs through the same point" in f.message for f in told)


def test_it_is_told_in_tables_and_set_out():
    q = Engine(cross())
    rows = [dict(zip(table(q, "junctions").columns, r)) for r in table(q, "junctions").rows]
    assert [r["junction"] for r in rows] == ["Through × Across near side", "Through × Across far side"]
    assert [r["side_throat_chainage"] for r in rows] == pytest.approx([71.5, 78.5], abs=1e-9)
    assert len({r[:2] for r in table(q, "returns").rows}) == 4
    points = kind_of("junction").set_out(q, NODE)
    assert len({p.thing for p in points}) == 4
    states = grade_line(q, "across").states
    assert states.count("tied") == 2
    assert np.isfinite(throat(q, "across", ON).level)
    assert not [s for s in side_rows(q, "across", "left") if np.isnan(s)]


def test_several_crossings_of_two_streets_are_told_apart():
    bends = [
        Bend(easting=40, northing=-60),
        Bend(easting=40, northing=60, radius=30),
        Bend(easting=150, northing=60, radius=30),
        Bend(easting=150, northing=-60),
    ]
    q = Engine(cross(bends=bends, across_vips=(Vip(chainage=0, level=21.0), Vip(chainage=300, level=23.0))))
    things = [t for t in all_things(q) if t.kind == "junction"]
    assert [t.id for t in things] == ["across:through:0", "across:through:1"]
    assert [kind_of("junction").name(q, t) for t in things] == ["Through × Across (1)", "Through × Across (2)"]
    assert len(breaks(q, "across", "left")) == 2
    # What was set at the second stays there when the first of the two is reversed.
    site = change_corner(q, "across", CrossingArm("through", 1, True), "left", radius=6.0)(q.site)
    total = chain_of(q, "across").total

    def of_six(q):
        arms = [CrossingArm("through", n, onwards) for n in (0, 1) for onwards in (False, True)]
        made = [kerb_return(q, "across", arm, corner) for arm in arms for corner in ("left", "right")]
        (found,) = (m for m in made if m.curve.radius == 6.0)
        return found.curve.centre

    assert of_six(Engine(edits.reverse_street(site, "across", total))) == pytest.approx(of_six(Engine(site)), abs=1e-6)


def test_a_street_joined_to_one_that_runs_the_other_way_keeps_its_corners():
    site = cross()
    site = change_corner(Engine(site), "across", ON, "left", radius=11.0)(site)
    was = kerb_return(Engine(site), "across", ON, "left").curve.centre
    # Another street begins where Across begins, so that joining them runs one of the two back.
    ends = [Bend(easting=100, northing=-75), Bend(easting=100, northing=-130)]
    site = edits.add_street(
        site, "South", ends, section="side", vips=(Vip(chainage=0, level=21), Vip(chainage=55, level=20))
    )
    q = Engine(site)
    (joint,) = (j for j in joints(q, "south", "start") if j.other == "across" and len(j.points) == 1)
    both = Engine(joined(q, "south", "start", joint)(site))
    made = [kerb_return(both, "south", arm, c) for arm in arms_of(both, "south") for c in ("left", "right")]
    (kept,) = (m for m in made if m.curve.radius == 11.0)
    assert kept.curve.centre == pytest.approx(was, abs=1e-6)


def test_where_the_other_street_has_no_level_there_the_street_runs_on_and_the_junction_says_why():
    # The through street's grade line ends before the crossing.
    site = edits.set_vips(cross(), "through", (Vip(chainage=0, level=20), Vip(chainage=60, level=21)))
    q = Engine(site)
    assert crown_levels(q, "across", [40.0, 75.0]) == pytest.approx([21.0 + 40 / 75, 22.0], abs=1e-9)
    left = line(q, StreetLine("across", "lip", "left")).rule
    assert left.levels([40.0])[0] == pytest.approx(21.0 + 40 / 75 - 0.09, abs=1e-9)
    told = [f for f in findings(q) if f.of == NODE]
    assert any("no level at the throat" in f.message for f in told)
