"""T-junctions: the reference case, laws of returns, and that the side street follows the through street."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.junction.corners import kerb_return, through_lip
from humble_loop.kinds.junction.faces import JunctionFace
from humble_loop.kinds.junction.layout import throat
from humble_loop.kinds.junction.nodes import all_joints, joint, junction_name, require_joint
from humble_loop.kinds.street import Bend, StreetFace, Vip
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.plan import StreetLine
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import line
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from tests import edits
from tests.asking import crown_levels, lip_levels, return_rule
from tests.conftest import examples, plane_ground, reference, t_site, with_ring
from tests.whole.test_batters import tee

WEST_EAST = (("left", "west"), ("right", "east"))


def test_the_reference_junction():
    case, q = reference("t_junction"), Engine(t_site())
    t = throat(q, "side", "start")
    assert t.place.side_chainage == pytest.approx(case["throat"]["side_chainage"], abs=1e-6)
    assert t.level == pytest.approx(case["throat"]["level"], abs=1e-6)
    end = case["throat"]["side_chainage"] + 8.0
    assert crown_levels(q, "side", [end])[0] == pytest.approx(case["side_crown_at_return_end"]["level"], abs=1e-6)
    for corner, name in WEST_EAST:
        e = case["returns"][name]
        made, cubic = kerb_return(q, "side", "start", corner), return_rule(q, "side", "start", corner).cubic
        assert made.curve.start == pytest.approx(e["tangent_through"], abs=1e-6)
        assert made.curve.end == pytest.approx(e["tangent_side"], abs=1e-6)
        assert cubic.length == pytest.approx(e["length"], abs=1e-6)
        assert (cubic.z0, cubic.m0) == pytest.approx((e["start_level"], e["start_grade"]), abs=1e-6)
        assert (cubic.z1, cubic.m1) == pytest.approx((e["end_level"], e["end_grade"]), abs=1e-6)
        for share, level in e["levels"].items():
            assert cubic.level([float(share) * cubic.length])[0] == pytest.approx(level, abs=1e-6)
        side = "left" if corner == "left" else "right"
        assert lip_levels(q, "side", side, [end])[0] == pytest.approx(case["side_lip_at_return_end"], abs=1e-6)


def test_the_junction_found_from_a_streets_end_is_the_same_seen_the_other_way():
    site = t_site()
    turned = edits.set_vips(site, "side", [Vip(chainage=60, level=22.46)])
    turned = edits.reverse_street(turned, "side", 60.0)
    a, b = Engine(edits.set_vips(site, "side", [Vip(chainage=60, level=22.46)])), Engine(turned)
    assert all_joints(b) == (("side", "end", "through"),)
    ta, tb = throat(a, "side", "start"), throat(b, "side", "end")
    assert (tb.level, 60.0 - tb.place.side_chainage) == pytest.approx((ta.level, ta.place.side_chainage), abs=1e-9)
    for corner in ("left", "right"):
        ca, cb = return_rule(a, "side", "start", corner).cubic, return_rule(b, "side", "end", corner).cubic
        assert (cb.z0, cb.m0, cb.z1, cb.m1) == pytest.approx((ca.z0, ca.m0, ca.z1, ca.m1), abs=1e-9)


def test_within_the_through_carriageway_the_side_crown_lies_on_its_surface():
    q = Engine(t_site())
    # On the through street: level 20 + 0.02 x, falling 3 % from its crown.
    assert crown_levels(q, "side", [0.0, 1.0, 2.5]) == pytest.approx([22.0, 21.97, 21.925], abs=1e-9)


def test_at_the_throat_the_section_lies_flat_along_the_through_lip():
    q = Engine(t_site())
    # The through lip rises 2 % to the east: west of the side crown it is 3 m x 2 % lower, east as much higher.
    crown = crown_levels(q, "side", [3.5])[0]
    left, right = (line(q, StreetLine("side", "lip", s)).rule for s in ("left", "right"))
    assert left.levels([3.5])[0] == pytest.approx(crown - 0.06, abs=1e-9)
    assert right.levels([3.5])[0] == pytest.approx(crown + 0.06, abs=1e-9)
    # The returns take the lips' place there, so the street has none of its own to tell.
    assert np.isnan(lip_levels(q, "side", "left", [3.5])[0])


@examples(30)
@given(st.floats(-0.05, 0.05), st.floats(-0.06, 0.06), st.floats(65, 115), st.floats(4, 12))
def test_returns_meet_both_lips_in_level_and_grade(through_grade, side_grade, angle, radius):
    site = t_site(through_fall=through_grade)
    b = np.radians(angle)
    site = edits.move_bend(site, "side", 1, 100 + 80 * np.cos(b), 80 * np.sin(b))
    site = edits.set_vips(site, "side", [Vip(chainage=80, grade=side_grade)])
    site = edits.set_corner(site, "side", "start", "left", radius=radius)
    q = Engine(site)
    made, cubic = kerb_return(q, "side", "start", "left"), return_rule(q, "side", "start", "left").cubic
    lip = line(q, through_lip(require_joint(q, "side", "start")))
    assert cubic.level([0])[0] == pytest.approx(lip.rule.levels([made.through_at])[0], abs=1e-9)
    assert cubic.level([cubic.length])[0] == pytest.approx(
        lip_levels(q, "side", "left", [made.side_chainage])[0], abs=1e-9
    )
    # Just past the return's end the side lip goes on at the same grade.
    s = made.side_chainage + np.array([0.1, 0.2])
    z = lip_levels(q, "side", "left", s)
    assert cubic.grade([cubic.length])[0] == pytest.approx((z[1] - z[0]) / 0.1, abs=1e-9)


def test_moving_the_through_streets_level_moves_the_side_street():
    site = t_site()
    q = Engine(site)
    before = (throat(q, "side", "start").level, grade_line(q, "side").profile.levels.copy())
    q.use(edits.set_vip(site, "through", 1, level=25.0))
    after = throat(q, "side", "start").level
    assert after == pytest.approx(before[0] + 0.5, abs=1e-9)  # half way along, a metre more at the end
    assert grade_line(q, "side").profile.levels == pytest.approx(before[1] + 0.5, abs=1e-9)


def test_moving_the_through_street_in_plan_takes_the_tie_along_or_cuts_it():
    site = t_site()
    q = Engine(edits.move_bend(site, "through", 1, 200, 0.2))
    assert joint(q, "side", "start").through_chainage == pytest.approx(100.0, abs=1e-3)
    q.use(edits.move_bend(site, "through", 1, 200, 20))
    assert joint(q, "side", "start") is None


def test_an_end_on_another_streets_end_is_no_t_junction():
    site = new_site()
    site = edits.add_street(site, "A", [Bend(easting=0, northing=0), Bend(easting=50, northing=0)])
    site = edits.add_street(site, "B", [Bend(easting=50, northing=0), Bend(easting=90, northing=30)])
    assert all_joints(Engine(site)) == ()


def test_two_junctions_of_one_street_with_another_are_told_apart():
    site = t_site()
    loop = [
        Bend(easting=20, northing=0),
        Bend(easting=20, northing=60, radius=20),
        Bend(easting=150, northing=60, radius=20),
        Bend(easting=150, northing=0),
    ]
    site = edits.add_street(site, "Loop", loop)
    q = Engine(site)
    assert {junction_name(q, "loop", e) for e in ("start", "end")} == {"Loop / Through (start)", "Loop / Through (end)"}


def test_a_side_street_on_the_right_has_its_through_side_right():
    site = t_site()
    site = edits.move_bend(site, "side", 1, 100, -60)
    q = Engine(site)
    assert joint(q, "side", "start").through_side == -1.0
    # The right lip lies at the same fall: 22 - 0.105.
    assert throat(q, "side", "start").level == pytest.approx(21.895, abs=1e-9)
    assert kerb_return(q, "side", "start", "left").curve.start == pytest.approx([111.0, -3.5], abs=1e-9)


def test_a_return_that_does_not_fit_is_a_failure_of_its_corner_only():
    site = edits.set_corner(t_site(), "side", "start", "left", radius=70)
    q = Engine(site)
    bad = q.attempt(kerb_return, "side", "start", "left")
    assert isinstance(bad, Unsolved)
    assert "left corner" in bad.thing
    assert not isinstance(return_rule(q, "side", "start", "right"), Unsolved)
    assert np.isfinite(crown_levels(q, "side", [30.0])[0])


def test_two_streets_that_each_leave_the_other_are_a_ring():
    q = Engine(with_ring(new_site()))
    assert all_joints(q) == (("a", "start", "b"), ("b", "start", "a"))
    bad = q.attempt(grade_line, "a")
    assert isinstance(bad, Unsolved)
    assert "throat a start" in bad.message
    assert "throat b start" in bad.message
    assert "line b lip" in bad.message


@pytest.mark.parametrize("angle", [42, 138])
def test_an_oblique_return_that_ends_before_the_throat_still_meets_the_side_lip(angle):
    b = np.radians(angle)
    site = edits.move_bend(t_site(), "side", 1, 100 + 80 * np.cos(b), 80 * np.sin(b))
    site = edits.set_corner(site, "side", "start", "left" if angle < 90 else "right", radius=2.0)
    corner = "left" if angle < 90 else "right"
    q = Engine(site)
    made, cubic = kerb_return(q, "side", "start", corner), return_rule(q, "side", "start", corner).cubic
    assert made.side_chainage < throat(q, "side", "start").place.side_chainage
    assert cubic.level([cubic.length])[0] == pytest.approx(
        lip_levels(q, "side", corner, [made.side_chainage])[0], abs=1e-9
    )


@pytest.mark.parametrize("angle", [30.0, 37.0, 44.0, 136.0, 150.0])
def test_a_very_acute_side_street_has_its_patch_and_overlaps_nothing(angle):
    q = Engine(tee(angle, plane_ground(0.0, 0.0, 51.0), fall=0.03))
    patch = finished_mesh(q, JunctionFace("side", "start", "patch")).surface
    assert patch.areas().sum() > 10.0
    assert not [f for f in findings(q) if f.rule in ("built twice", "cannot be worked out")]
    # Its own carriageway begins where its section, square to its crown, is clear of the through street's lip.
    for side in ("left", "right"):
        strip = finished_mesh(q, StreetFace("side", "carriageway", side)).surface
        assert strip.points[:, 1].min() > 3.2 - 1e-6


def test_returns_that_overlap_along_the_through_street_are_told_once():
    def beside(x, y, radius=8.0):
        site = t_site()
        ends = [Bend(easting=x, northing=0), Bend(easting=x, northing=y)]
        site = edits.add_street(site, "Next", ends, section="side", vips=(Vip(chainage=60, grade=0.01),))
        for street, end in (("next", "start"), ("side", "start")):
            for corner in ("left", "right"):
                site = edits.set_corner(site, street, end, corner, radius=radius)
        return [f for f in findings(Engine(site)) if f.rule == "corners run into one another"]

    # Each leaves over 2 x (3 + 8) m: at 18 m apart they overlap by 4 m.
    (told,) = beside(118.0, 60.0)
    assert told.value == pytest.approx(4.0, abs=1e-6)
    assert told.place == pytest.approx((109.0, 3.5), abs=1e-6)
    assert {told.of.id, *(t.id for t in told.also)} == {"next:start", "side:start"}
    assert beside(118.0, 60.0, radius=5.9) == []
    assert beside(118.0, -60.0) == []
