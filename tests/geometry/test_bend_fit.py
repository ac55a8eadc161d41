"""The radius that does what is asked of a bend, on the line that is then laid."""

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from humble_loop.geometry.bend_fit import CannotFit, radius_for_arc, radius_for_tangent, radius_through
from humble_loop.geometry.bends import BendInput, chain_from_bends
from tests.conftest import examples

ORIGIN = np.array([312_408.0, 6_251_977.0])
turns = st.floats(0.05, 2.9).flatmap(lambda t: st.sampled_from([t, -t]))
transitions = st.sampled_from([(0.0, 0.0), (20.0, 20.0), (12.0, 30.0), (0.0, 25.0)])


def laid(turn, radius, both, leg=50_000.0):
    """The line round one bend at (0, 0) of the origin, from the west."""
    ends = ORIGIN - [leg, 0.0], ORIGIN + leg * np.array([np.cos(turn), np.sin(turn)])
    return chain_from_bends(
        [BendInput(*ends[0]), BendInput(*ORIGIN, radius, *both), BendInput(*ends[1])],
    )


@given(turns, st.floats(5.0, 400.0), transitions)
@examples(60)
def test_the_arc_and_the_tangent_are_as_long_as_asked(turn, length, both):
    radius = radius_for_arc(turn, length, *both)
    chain, problems = laid(turn, radius, both)
    assert problems == []
    arc = next(e for e in chain.elements if e.kind == "arc")
    assert arc.length == pytest.approx(length, abs=1e-6)
    try:
        radius = radius_for_tangent(turn, length + sum(both), *both)
    except CannotFit:
        assume(False)
    chain, problems = laid(turn, radius, both)
    assert problems == []
    assert chain.length[0] == pytest.approx(50_000.0 - length - sum(both), abs=1e-6)


@given(turns, st.floats(30.0, 900.0), transitions, st.floats(0.02, 0.98))
@examples(60)
def test_a_curve_through_one_of_its_own_points_is_itself(turn, radius, both, share):
    """On the arc or on a transition, whichever the point lies on."""
    assume(radius * abs(turn) > 0.55 * sum(both) + 1.0)
    chain, _ = laid(turn, radius, both)
    curve = [k for k, e in enumerate(chain.elements) if e.kind != "straight"]
    low, high = chain.starts[curve[0]], chain.starts[curve[-1] + 1]
    point = chain.points_at([low + share * (high - low)])[0]
    # Near the ends of a transition the curve leaves its tangent by less than coordinates hold.
    assume(abs(chain.feet([point]).headings[0] % np.pi) > 0.02)
    assume(abs((chain.feet([point]).headings[0] - turn) % np.pi) > 0.02)
    ends = chain.points_at([0.0, chain.total])
    found = radius_through(ends[0], ORIGIN, ends[1], point, *both)
    again, _ = laid(turn, found, both)
    assert abs(again.feet([point]).offsets[0]) < 1e-6
    assert found == pytest.approx(radius, rel=1e-4)


def test_a_quarter_circle_by_hand():
    """Legs east and north: a circle of radius r passes (r - r/√2) west and north of the corner."""
    away = 60.0 * (1 - 1 / np.sqrt(2))
    point = [1000.0 - away, 2000.0 + away]
    assert radius_through([900.0, 2000.0], [1000.0, 2000.0], [1000.0, 2100.0], point) == pytest.approx(60.0, abs=1e-9)
    assert radius_for_tangent(np.pi / 2, 60.0) == pytest.approx(60.0, abs=1e-9)
    assert radius_for_arc(np.pi / 2, 30.0 * np.pi) == pytest.approx(60.0, abs=1e-9)
    # Two transitions of 20 m turn 10 m worth of arc each.
    assert radius_for_arc(np.pi / 2, 30.0 * np.pi - 20.0, 20.0, 20.0) == pytest.approx(60.0, abs=1e-9)


@pytest.mark.parametrize("point", [(10.0, 5.0), (-50.0, -1.0), (20.0, 60.0), (-50.0, 0.0)])
def test_places_that_no_curve_gets_to_are_refused(point):
    with pytest.raises(CannotFit, match="outside of its angle"):
        radius_through([-100.0, 0.0], [0.0, 0.0], [0.0, 100.0], point)


def test_transitions_that_turn_too_much_say_so():
    with pytest.raises(CannotFit, match="transitions turn more"):
        radius_through([-500.0, 0.0], [0.0, 0.0], [0.0, 500.0], (-1.0, 1.0), 60.0, 60.0)
    with pytest.raises(CannotFit, match=r"transitions alone take \d+\.\d\d m"):
        radius_for_tangent(1.0, 20.0, 60.0, 60.0)
    with pytest.raises(CannotFit, match="one line or straight back"):
        radius_for_arc(np.pi, 10.0)
