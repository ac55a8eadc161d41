"""Corners of junctions: three-centred, chamfered and tight ones, what fits, and how they are read and changed."""

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.corner_rows import corner_facts, corner_handle, corner_sheet
from humble_loop.kinds.junction.corners import ReturnLine, corner_turn, kerb_return, through_lip
from humble_loop.kinds.junction.model import JunctionChoice
from humble_loop.kinds.junction.nodes import require_joint
from humble_loop.kinds.street import Bend, StreetLine, Vip
from humble_loop.kinds.street.widening import add_widening, set_widening
from humble_loop.lines.describe import Choice, Fact
from humble_loop.lines.line import line
from humble_loop.whole.findings import findings
from humble_loop.whole.tables import table
from tests import edits
from tests.conftest import examples, plane_ground, t_site
from tests.whole.test_batters import tee
from tests.whole.test_surface import assert_watertight

E0, N0 = 312_400.0, 6_251_900.0


def with_corner(site, corner="left", **values):
    return edits.set_corner(site, "side", "start", corner, **values)


def sheet_rows(q):
    return corner_sheet(q, "side:start").rows


def test_a_three_centred_return_worked_by_hand():
    """The reference junction: lips 3.5 m and 3 m from their crowns. Radii 20, 8 and 20, 15 degrees each: the middle's centre lies
    20 - 12 cos 15 = 8.4089 m from both lips, and the return starts 12 sin 15 = 3.1058 m further on.
    """
    values = {"radius": 8.0, "radius_through": 20.0, "turn_through": 15.0, "radius_side": 20.0, "turn_side": 15.0}
    q = Engine(with_corner(t_site(), shape="three-centred", **values))
    made = kerb_return(q, "side", "start", "left")
    out, more = 20.0 - 12.0 * np.cos(np.radians(15.0)), 12.0 * np.sin(np.radians(15.0))
    # The side street goes north from x = 100; its left is west.
    assert made.curve.start == pytest.approx([97.0 - out - more, 3.5], abs=1e-9)
    assert made.curve.end == pytest.approx([97.0, 3.5 + out + more], abs=1e-9)
    lip = line(q, ReturnLine("side", "start", "left"))
    # 20 + 0.02 x - 0.03 * 3.5 on the through lip, and its grade eastwards.
    assert lip.rule.levels([0.0])[0] == pytest.approx(20 + 0.02 * (97.0 - out - more) - 0.105, abs=1e-9)
    assert lip.rule.grades([0.0])[0] == pytest.approx(0.02, abs=1e-9)
    assert made.curve.length == pytest.approx(40.0 * np.radians(15.0) + 8.0 * np.radians(60.0), abs=1e-9)


def test_what_is_not_said_is_proposed():
    """At a right angle a fifth of its turn is 18 degrees; 2.5 times a radius of 6 m is 15 m; a chamfer is cut back by the class's
    radius and rounded no tighter than what lies outside its lip.
    """
    q = Engine(with_corner(t_site(), shape="three-centred", radius=6.0))
    assert corner_turn(q, "side", "start", "left") == pytest.approx(90.0)
    made = kerb_return(q, "side", "start", "left")
    assert [float(1.0 / abs(k)) for k in made.curve.chain.k0] == pytest.approx([15.0, 6.0, 15.0])
    turns = made.curve.chain.length * np.abs(made.curve.chain.k0)
    assert np.degrees(turns) == pytest.approx([18.0, 54.0, 18.0])
    q = Engine(with_corner(t_site(), shape="chamfer"))
    facts = {f.label: f for f in corner_facts(q, "side", "start", "left") if isinstance(f, Fact)}
    assert facts["back along the through lip"].state == "proposed"
    assert facts["ends rounded by"].value == pytest.approx(4.65 / 0.95)  # of which verge and path may take 95 %
    q = Engine(with_corner(tee(90.0, plane_ground(0.0, 0.0, 50.0)), shape="none"))
    reach = line(q, StreetLine("side", "boundary", "left")).plan.offset.one(30.0) - 3.2
    assert kerb_return(q, "side", "start", "left").curve.tightest == pytest.approx(max(reach / 0.95, 0.1))


SHAPES = st.sampled_from(["arc", "three-centred", "chamfer", "none"])


@examples(16)
@given(
    st.floats(40.0, 140.0),
    SHAPES,
    SHAPES,
    st.floats(-0.04, 0.04),
    st.floats(-0.04, 0.04),
    st.floats(6.0, 10.0),
    st.floats(1.3, 3.0),
)
@example(
    95.14835862057512, "three-centred", "none", -0.0213562118060603, 0.0, 6.235566149307534, 2.3
)  # a speck by itself
@example(40.0, "chamfer", "chamfer", 0.03, 2e-06, 10.0, 2.2307665894676614)  # one that touches the rest at a point
def test_every_shape_meets_both_lips_in_plan_level_and_grade_and_is_watertight(
    angle, left, right, main, side, radius, more
):
    site = tee(angle, plane_ground(0.0, 0.0, 46.0), fall=0.03, grades=(main, side), at=(E0, N0))
    for corner, shape in (("left", left), ("right", right)):
        site = with_corner(
            site,
            corner,
            shape=shape,
            radius=radius,
            radius_through=more * radius,
            back_through=12.0,
            back_side=more * 12.0,
        )
    q = Engine(site)
    j = require_joint(q, "side", "start")
    for corner in ("left", "right"):
        made = kerb_return(q, "side", "start", corner)
        here = line(q, ReturnLine("side", "start", corner))
        through, own = line(q, through_lip(j)), line(q, StreetLine("side", "lip", corner))
        for s, other, at, after in (
            (0.0, through, made.through_at, "after"),
            (made.curve.length, own, made.side_chainage, "before"),
        ):
            assert here.points([s]) == pytest.approx(other.points([at]), abs=1e-9)
            sense = made.direction if other is through else 1.0
            grade = sense * other.rule.grades([at])[0] / other.plan.stretch([at])[0]
            assert here.rule.grades([s], after)[0] == pytest.approx(grade, abs=1e-9)
    # Where a corner is tight batters that meet in it may overlap, and are counted once.
    assert not [f for f in findings(q) if f.rule == "cannot be worked out"]
    assert not [f for f in findings(q) if f.rule == "built twice" and "batter" not in f.thing]
    assert_watertight(q)


@pytest.mark.parametrize("angle", [30.0, 150.0])
def test_very_acute_and_obtuse_corners_take_every_shape(angle):
    for shape in ("arc", "three-centred", "chamfer"):
        site = tee(angle, plane_ground(0.0, 0.0, 50.0), fall=0.03)
        for corner in ("left", "right"):
            site = with_corner(site, corner, shape=shape, radius=8.0, back_through=18.0, back_side=19.0)
        q = Engine(site)
        turns = [kerb_return(q, "side", "start", c).curve.sweep for c in ("left", "right")]
        assert sorted(np.degrees(turns)) == pytest.approx([30.0, 150.0])
        assert not [f for f in findings(q) if f.rule in ("cannot be worked out", "built twice")]


def test_a_radius_that_does_not_fit_says_the_largest_that_does_and_mends_it():
    """The side street is 60 m long and the lips are 3 and 3.5 m out: at a right angle the return ends 3.5 + R along it."""
    q = Engine(with_corner(t_site(), radius=70.0))
    (found,) = [f for f in findings(q) if "does not fit" in f.message]
    assert "the largest radius that does is 56.50 m" in found.message
    mended = Engine(found.mend.edit(q.site))
    assert kerb_return(mended, "side", "start", "left").curve.radius == pytest.approx(56.5)
    q = Engine(with_corner(t_site(), shape="chamfer", rounding=6.0, back_through=3.0, back_side=3.0))
    (found,) = [f for f in findings(q) if "does not fit" in f.message]
    assert "have no room on its straight of 4.24 m" in found.message
    assert found.mend is None


def test_returns_that_overlap_are_mended_by_a_smaller_radius():
    site = t_site()
    ends = [Bend(easting=120.0, northing=0.0), Bend(easting=120.0, northing=60.0)]
    site = edits.add_street(site, "Next", ends, section="side", vips=(Vip(chainage=60, grade=0.01),))
    for street in ("side", "next"):
        for corner in ("left", "right"):
            site = edits.set_corner(site, street, "start", corner, radius=9.0)
    (found,) = [f for f in findings(Engine(site)) if f.rule == "corners run into one another"]
    # 20 m apart, 3 m of half width each: 14 m for both returns, of which the other keeps 9.
    assert found.mend.words == "Radius 5.00 m"
    after = Engine(found.mend.edit(site))
    assert not [f for f in findings(after) if f.rule == "corners run into one another"]


def test_a_return_on_a_taper_touches_the_slanting_lip_and_is_told():
    site = edits.add_ground(t_site(), Ground(name="g", surface=plane_ground(0.0, 0.0, 22.0)))
    widened = add_widening(site, "through", "left", 60.0, 110.0, "through", of_point="crown", beside=6.5)
    wide = set_widening(widened, "through-left-widening", taper=2.0)
    q = Engine(wide)
    made = kerb_return(q, "side", "start", "left")
    # Before the mouth the lip lies 6.5 m out, beyond it 3.5 m again.
    assert made.curve.start == pytest.approx([97.0 - made.curve.radius, 6.5], abs=1e-9)
    assert kerb_return(q, "side", "start", "right").curve.start[1] == pytest.approx(3.5, abs=1e-9)
    assert not [f for f in findings(q) if f.rule == "return on a taper"]
    slanting = Engine(set_widening(widened, "through-left-widening", begin=60.0, finish=140.0, taper=60.0))
    told = [f for f in findings(slanting) if f.rule == "return on a taper"]
    assert told
    assert {f.thing for f in told} == {"Side / Through left corner", "Side / Through right corner"}
    lip = line(slanting, ReturnLine("side", "start", "left"))
    made = kerb_return(slanting, "side", "start", "left")
    there = line(slanting, StreetLine("through", "lip", "left")).points([made.through_at])
    assert lip.points([0.0]) == pytest.approx(there, abs=1e-9)


def test_corners_in_rows_are_typed_lit_and_held():
    q = Engine(with_corner(t_site(), shape="three-centred", radius=6.0))
    rows = sheet_rows(q)
    assert [r.cells[2].value for r in rows] == ["through", "middle", "side", "arc"]
    assert [r.cells[4].value for r in rows] == pytest.approx([18.0, 54.0, 18.0, 90.0])
    assert [r.held for r in rows] == [(), ("return", "side", "start", "left"), (), ("return", "side", "start", "right")]
    made = kerb_return(q, "side", "start", "left")
    assert rows[0].points[0] == pytest.approx(made.curve.start)
    assert rows[2].points[-1] == pytest.approx(made.curve.end)
    site = rows[0].cells[3].edit(25.0)(q.site)
    assert site.all(JunctionChoice)[0].left.radius_through == 25.0
    site = rows[3].cells[1].edit("chamfer")(site)
    rows = sheet_rows(Engine(site))
    assert isinstance(rows[3].cells[1], Choice)
    assert [r.cells[2].value for r in rows[3:]] == ["through", "side"]
    site = rows[3].cells[5].edit(4.0)(site)
    assert site.all(JunctionChoice)[0].right.back_through == 4.0
    back = rows[3].cells[5].switch
    assert back is not None


@pytest.mark.parametrize(
    ("shape", "key"), [("arc", "radius"), ("three-centred", "radius"), ("chamfer", "back_through")]
)
def test_the_hand_takes_a_return_by_its_middle(shape, key):
    site = with_corner(t_site(), shape=shape, radius=8.0, back_through=8.0, back_side=8.0)
    q = Engine(site)
    handle = corner_handle(q, "side", "start", "left")
    # The middle goes along as the hand does: from where it is to where it is with 10 m.
    aim = Engine(
        with_corner(site, **{"radius": 10.0} if shape != "chamfer" else {"back_through": 10.0, "back_side": 10.0})
    )
    there = kerb_return(aim, "side", "start", "left").curve
    edit, told = handle.moved(tuple(there.chain.points_at([0.5 * there.length])[0]))
    made = getattr(edit(site).all(JunctionChoice)[0].left, key)
    assert made == pytest.approx(10.0, abs=0.06)
    assert told[0].value == pytest.approx(made)


def test_shapes_are_kept_with_the_site_and_told_in_tables(tmp_path):
    site = with_corner(t_site(), shape="three-centred", radius=6.0, turn_through=20.0)
    site = with_corner(site, "right", shape="chamfer", back_through=4.0, back_side=5.0)
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").all(JunctionChoice) == site.all(JunctionChoice)
    q = Engine(site)
    made = table(q, "returns", None, None)
    at = {name: made.columns.index(name) for name in ("corner", "shape", "radius", "sweep_deg", "centre_easting")}
    by_corner = {r[at["corner"]]: [r[k] for k in at.values()] for r in made.rows}
    assert by_corner["left"][1:4] == pytest.approx(["three-centred", 6.0, 90.0])
    assert by_corner["right"][1] == "chamfer"
    assert by_corner["right"][4] is None
    assert not isinstance(q.attempt(kerb_return, "side", "start", "right"), Unsolved)
