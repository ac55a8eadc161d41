"""Lines drawn step by step: arcs through points, and straights that leave them, tangentially."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.geometry.bends import BendInput, lay_bends
from humble_loop.geometry.tangential import (
    Arc,
    Step,
    drawn,
    heading_towards,
    last_arc,
    place_on_arc,
    radii,
    square_from,
    vertices,
)
from tests.conftest import examples


def line(start, *steps):
    """The line laid through the vertices of some steps, sharp where no radius is drawn."""
    made = vertices(start, [Step(kind, to) for kind, to in steps])
    laid = lay_bends([BendInput(*v.place, v.radius or 0.0) for v in made])
    assert not laid.problems
    return laid.chain


def turned(chain):
    return np.degrees(0.5 * (chain.k0 + chain.k1) * chain.length)


def largest_kink(chain):
    ends = chain.heading + 0.5 * (chain.k0 + chain.k1) * chain.length
    return float(np.abs(np.mod(chain.heading[1:] - ends[:-1] + np.pi, 2 * np.pi) - np.pi).max(initial=0.0))


def test_a_quarter_and_a_half_turn():
    # Ahead and to the left by 30: a quarter of radius 30. Straight across by 60: half a turn.
    quarter = line((0.0, 0.0), ("straight", (50.0, 0.0)), ("arc", (80.0, 30.0)))
    assert turned(quarter) == pytest.approx([0.0, 90.0])
    assert quarter.k0[1] == pytest.approx(1.0 / 30.0)
    half = line((0.0, 0.0), ("straight", (50.0, 0.0)), ("arc", (50.0, 60.0)))
    assert turned(half).sum() == pytest.approx(180.0)
    assert half.length[1:].sum() == pytest.approx(30.0 * np.pi)


def test_three_quarters_round_an_island():
    # Behind and to the right: the circle of radius 20 touches (40, 0) and ends at (20, -20) after three quarters.
    round_it = line((0.0, 0.0), ("straight", (40.0, 0.0)), ("arc", (20.0, -20.0)))
    assert turned(round_it).sum() == pytest.approx(-270.0)
    assert np.hypot(*(round_it.points_at(np.linspace(40.0, round_it.total, 50)) - [40.0, -20.0]).T) == pytest.approx(
        20.0
    )
    assert largest_kink(round_it) < 1e-9


def test_a_straight_leaves_an_arc_where_it_looks_at_the_place():
    # The quarter of radius 30 looks at (80, 90) as it ends: so it does turn 90 degrees and no more.
    on = line((0.0, 0.0), ("straight", (50.0, 0.0)), ("arc", (75.0, 13.0)), ("straight", (80.0, 90.0)))
    assert largest_kink(on) < 1e-9
    assert on.points_at([on.total])[0] == pytest.approx([80.0, 90.0])
    r = 1.0 / on.k0[1]
    # The tangent from a place has the length sqrt(d2 - r2).
    away = np.hypot(80.0 - 50.0, 90.0 - r)
    assert on.length[-1] == pytest.approx(np.sqrt(away**2 - r**2))


def test_arcs_follow_each_other_either_way():
    s = line(
        (0.0, 0.0), ("straight", (30.0, 0.0)), ("arc", (60.0, 20.0)), ("arc", (90.0, 25.0)), ("arc", (130.0, 80.0))
    )
    assert largest_kink(s) < 1e-9
    for place in ((30.0, 0.0), (60.0, 20.0), (90.0, 25.0), (130.0, 80.0)):
        assert abs(s.feet([place]).offsets[0]) < 1e-9


def test_what_leaves_nothing_or_looks_into_its_circle_is_drawn_straight():
    assert len(vertices((0.0, 0.0), [Step("arc", (30.0, 10.0))])) == 2
    inside = vertices(
        (0.0, 0.0), [Step("straight", (50.0, 0.0)), Step("arc", (80.0, 30.0)), Step("straight", (55.0, 25.0))]
    )
    assert [v.place for v in inside[-2:]] == [(80.0, 30.0), (55.0, 25.0)]
    ahead = vertices((0.0, 0.0), [Step("straight", (50.0, 0.0)), Step("arc", (90.0, 0.0))])
    assert [v.place for v in ahead] == [(0.0, 0.0), (90.0, 0.0)]


@given(
    st.tuples(st.floats(20, 200), st.floats(-3, 3)),
    st.lists(st.tuples(st.booleans(), st.floats(10, 150), st.floats(-2.6, 2.6)), min_size=1, max_size=4),
    st.floats(-1e5, 1e5),
)
@examples(80)
def test_whatever_is_drawn_is_tangential_and_passes_its_places(first, steps, far):
    """Every arc ends at its place, whatever its sweep, and nothing has a kink but where a straight follows a straight."""
    at = np.array([far, -far]) + first[0] * np.array([np.cos(first[1]), np.sin(first[1])])
    made, heading = [("straight", tuple(at))], first[1]
    for _, away, turn in steps:
        at = at + away * np.array([np.cos(heading + turn), np.sin(heading + turn)])
        heading += 2 * turn
        made.append(("arc", tuple(at)))
    chain = line((far, -far), *made)
    assert largest_kink(chain) < 1e-6
    for _, place in made:
        assert abs(chain.feet([place]).offsets[0]) < 1e-6


def test_an_arc_of_a_typed_radius_ends_at_the_place_of_its_circle_that_is_nearest():
    end = drawn((0.0, 0.0), [Step("straight", (50.0, 0.0))]).end
    # Centre (50, 20); towards (100, 20) the circle is nearest at (70, 20).
    assert place_on_arc(end, 20.0, (100.0, 20.0)) == pytest.approx((70.0, 20.0))
    assert place_on_arc(end, 20.0, (50.0, -90.0)) == pytest.approx((50.0, -40.0))
    on = line((0.0, 0.0), ("straight", (50.0, 0.0)), ("arc", place_on_arc(end, 20.0, (13.0, 70.0))))
    assert np.abs(1.0 / on.k0[1:]) == pytest.approx(20.0)
    assert drawn((0.0, 0.0), []).end is None


def test_a_proposed_radius_leaves_drawn_arcs_their_room():
    # Corner at (50, 0), a quarter turn; then 40 m to the corner of an arc of radius 25 that takes 25 of them.
    steps = [Step("straight", (50.0, 0.0)), Step("straight", (50.0, 15.0)), Step("arc", (75.0, 40.0))]
    corners = vertices((0.0, 0.0), steps)
    assert [v.radius for v in corners] == [None, None, pytest.approx(25.0), None]
    found = radii(corners, 36.0)
    assert found == [0.0, 15.0, pytest.approx(25.0), 0.0]
    assert radii(corners, 12.0)[1] == 12.0
    laid = lay_bends([BendInput(*v.place, r) for v, r in zip(corners, found)])
    assert not laid.problems


@given(
    st.floats(-3.0, 3.0),
    st.floats(12.0, 60.0),
    st.sampled_from([1.0, -1.0]),
    st.floats(-3.0, 3.0),
    st.floats(-3.0, 3.0),
)
@examples(60)
def test_a_straight_from_an_arc_meets_another_square(heading, radius, side, there, of_other):
    """It lies on the other line, leaves the arc tangentially, and the two headings are a right angle apart."""
    arc = Arc(np.array([312_408.0, 6_251_977.0]), heading, side * radius, side * 0.5)
    at = (312_408.0 + 300.0 * np.cos(there), 6_251_977.0 + 300.0 * np.sin(there))
    place = square_from(arc, at, of_other)
    if place is None:
        return
    d = np.array(place) - at
    along = np.array([np.cos(of_other), np.sin(of_other)])
    assert abs(d[0] * along[1] - d[1] * along[0]) < 1e-6
    arrives = heading_towards(arc, place)
    assert abs(np.cos(arrives - of_other)) < 1e-6


def test_the_last_arc_is_known_only_while_the_line_ends_with_it():
    steps = [Step("straight", (50.0, 0.0)), Step("arc", (80.0, 30.0))]
    assert last_arc((0.0, 0.0), steps).radius == pytest.approx(30.0)
    assert last_arc((0.0, 0.0), steps[:1]) is None
    assert last_arc((0.0, 0.0), [*steps, Step("straight", (80.0, 90.0))]) is None
    assert last_arc((0.0, 0.0), [Step("arc", (50.0, 0.0))]) is None  # it leaves nothing
