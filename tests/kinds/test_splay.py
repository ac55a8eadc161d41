"""Boundary splays: straight on from both streets' boundaries, and straight across the corner."""

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.geometry.chain import Chain, Element
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.corners import ReturnLine, boundary_of, kerb_return
from humble_loop.kinds.junction.model import set_corner
from humble_loop.kinds.junction.splay import proposed_splay, splay
from humble_loop.kinds.street import StreetLine
from humble_loop.kinds.street.side import boundary_width
from humble_loop.lines.beside import ToLegs
from humble_loop.lines.describe import Choice, Fact
from humble_loop.lines.line import ThingId, line, line_plan
from humble_loop.lines.standing import kind_of
from humble_loop.whole.findings import findings
from tests import edits
from tests.conftest import examples, plane_ground, t_site
from tests.whole.test_batters import tee
from tests.whole.test_surface import assert_watertight

NODE = ThingId("junction", "side:start")


def splayed(value, corner="right", **more):
    site = edits.add_ground(t_site(), Ground(name="g", surface=plane_ground(0.0, 0.0, 21.0)))
    return set_corner(site, "side", "start", corner, splay=value, **more)


def told(q, rule):
    return [f for f in findings(q) if f.rule == rule]


def test_the_boundary_by_hand():
    """Right corner: the boundaries y = 3.5 + w and x = 103 + w meet at one point, w beyond the lips; 3 m are cut from both."""
    q = Engine(splayed(3.0))
    w = boundary_width(q, "through", "left").one(0.0) - 3.5
    meet = np.array([103.0 + w, 3.5 + w])
    made = splay(q, "side", "start", "right")
    assert made.corners == pytest.approx(
        np.array([[111.0, 3.5 + w], meet + [3.0, 0.0], meet + [0.0, 3.0], [103.0 + w, 11.5]]), abs=1e-9
    )
    boundary = line_plan(q, boundary_of(q, "side", "start", "right"))
    points = boundary.points(np.linspace(0.0, boundary.end, 201))
    legs = shapely.LineString(made.corners)
    assert shapely.distance(shapely.points(points), legs).max() < 1e-9
    # It goes on as both streets' boundaries, in plan, level and direction.
    lines = (
        line(q, boundary_of(q, "side", "start", "right")),
        line(q, StreetLine("through", "boundary", "left")),
        line(q, StreetLine("side", "boundary", "right")),
    )
    assert lines[0].points([0.0])[0] == pytest.approx(lines[1].points([111.0])[0], abs=1e-9)
    assert lines[0].points([boundary.end])[0] == pytest.approx(lines[2].points([11.5])[0], abs=1e-9)
    near = boundary.points([0.0, 1e-3])
    assert near[1, 1] == pytest.approx(near[0, 1], abs=1e-9)
    assert_watertight(q)
    points = [p for p in kind_of("junction").set_out(q, NODE) if p.mark == "splay"]
    assert np.array([[p.easting, p.northing] for p in points]) == pytest.approx(made.corners[1:3], abs=1e-9)


def test_at_most_it_goes_from_tangent_to_tangent():
    q = Engine(splayed(50.0))
    made = splay(q, "side", "start", "right")
    assert len(made.corners) == 2
    w = boundary_width(q, "through", "left").one(0.0) - 3.5
    assert made.corners == pytest.approx(np.array([[111.0, 3.5 + w], [103.0 + w, 11.5]]))
    assert made.back_through == pytest.approx(8.0 - w)
    assert proposed_splay(q, "side", "start", "right") == pytest.approx(np.floor((8.0 - w) / 0.05) * 0.05)
    assert_watertight(q)


def test_one_that_cuts_the_path_says_the_least_that_does_not():
    site = splayed(0.0)
    (found,) = told(Engine(site), "splay without room")
    assert found.mend.words == f"Splay {found.limit:.2f} m"
    assert not told(Engine(found.mend.apply(site)), "splay without room")
    assert told(Engine(set_corner(site, "side", "start", "right", splay=found.limit - 0.06)), "splay without room")


def test_it_is_chosen_in_rows_and_facts():
    site = splayed(None)
    (right,) = [
        r
        for r in kind_of("junction").sheets(Engine(site), NODE)[0].make(Engine(site)).rows
        if r.cells[0].value == "right"
    ]
    choice = next(c for c in right.cells if isinstance(c, Choice) and c.label == "boundary")
    assert choice.current == "round"
    q = Engine(made := choice.edit("splay")(site))
    assert splay(q, "side", "start", "right").back_side > 0
    assert splay(q, "side", "start", "left") is None
    facts = [f for f in kind_of("junction").facts(q, NODE) if isinstance(f, Fact) and f.label == "splay"]
    assert [f.value for f in facts] == [proposed_splay(q, "side", "start", "right")]
    assert splay(Engine(facts[0].switch(made)), "side", "start", "right") is None


def test_offsets_to_legs_are_exact_in_value_and_slope():
    """From a straight of 10 m along x: legs from (0, 2) up to (5, 4) and down to (10, 3)."""
    base = Chain.from_elements((0.0, 0.0), 0.0, [Element(10.0, 0.0, 0.0)])
    legs = ToLegs.beside(base, [[0.0, 2.0], [5.0, 4.0], [10.0, 3.0]], 1.0)
    assert legs([0.0, 2.5, 5.0]) == pytest.approx([2.0, 3.0, 4.0])
    assert legs.slope([1.0, 5.0]) == pytest.approx([0.4, -0.2])
    assert legs.slope([5.0], "before") == pytest.approx([0.4])
    assert not legs.is_steady


@given(
    st.floats(55.0, 125.0),
    st.sampled_from(["arc", "three-centred", "chamfer"]),
    st.floats(9.0, 14.0),
    st.floats(0.0, 8.0),
)
@examples(8)
def test_any_splay_is_straight_and_watertight(angle, shape, radius, size):
    site = tee(angle, plane_ground(0.0, 0.0, 49.0))
    for corner in ("left", "right"):
        site = set_corner(site, "side", "start", corner, shape=shape, radius=radius, splay=size)
    q = Engine(site)
    if told(q, "splay without room"):
        return
    for corner in ("left", "right"):
        id = boundary_of(q, "side", "start", corner)
        plan = line_plan(q, id)
        s = np.linspace(0.0, plan.end, 101)
        made = splay(q, "side", "start", corner)
        assert shapely.distance(shapely.points(plan.points(s)), shapely.LineString(made.corners)).max() < 1e-9
        numeric = (plan.offset(s[1:-1] + 1e-5) - plan.offset(s[1:-1] - 1e-5)) / 2e-5
        near = np.abs(numeric - plan.offset.slope(s[1:-1])) < 1e-3 * (1 + np.abs(numeric))
        assert near.mean() > 0.9  # but where a leg begins
        assert kerb_return(q, "side", "start", corner).curve.length == pytest.approx(
            line_plan(q, ReturnLine("side", "start", corner)).end
        )
    if not told(q, "cannot be worked out"):
        assert_watertight(q)
