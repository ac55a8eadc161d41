"""Where chains cross."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.crossing import crossings
from tests.conftest import examples


def straight(x, y, heading, length=100.0):
    return Chain.from_elements((x, y), np.radians(heading), [Element(length, 0.0, 0.0)])


def test_two_straights_cross_where_their_equations_say():
    # y = x and y = 30 - x / 2 + ..., through (0, 30) and (60, 0): they meet at x = 20.
    a = straight(0.0, 0.0, 45.0)
    b = straight(0.0, 30.0, np.degrees(np.arctan2(-30.0, 60.0)))
    assert crossings(a, b) == pytest.approx(np.array([[20.0 * np.sqrt(2.0), np.hypot(20.0, 10.0)]]), abs=1e-9)


def test_a_straight_crosses_a_circle_twice_exactly():
    # A circle of radius 50 round (0, 50), run anticlockwise from the origin; the straight lies at y = 20.
    circle = Chain.from_elements((0.0, 0.0), 0.0, [Element(2 * np.pi * 50.0, 0.02, 0.02)])
    across = straight(-60.0, 20.0, 0.0, 120.0)
    half = np.sqrt(50.0**2 - 30.0**2)
    found = crossings(across, circle)
    assert found[:, 0] == pytest.approx([60.0 - half, 60.0 + half], abs=1e-9)
    assert circle.points_at(found[:, 1]) == pytest.approx(np.array([[-half, 20.0], [half, 20.0]]), abs=1e-9)


def test_what_only_runs_side_by_side_does_not_cross():
    assert not len(crossings(straight(0, 0, 0), straight(0, 5, 0)))
    assert not len(crossings(straight(0, 0, 0), straight(20, 0, 0)))
    assert not len(crossings(straight(0, 0, 0), straight(200, -50, 90)))


@given(st.floats(-0.02, 0.02), st.floats(-0.02, 0.02), st.floats(20, 160), st.floats(30, 70), st.floats(0, 9e6))
@examples(60)
def test_chains_laid_through_one_point_cross_there(k0, k1, angle, at, far):
    """Transitions of any bend, far from the origin: both run through the place that the crossing says."""
    base = np.array([far, far / 2])
    a = Chain.from_elements(base, 0.3, [Element(100.0, k0, k1)])
    frame = a.at([at])
    away = float(frame.headings[0]) + np.radians(angle)
    back = Chain.from_elements(frame.points[0], away + np.pi, [Element(40.0, -k1, -k0)])
    through = Chain.from_elements(
        back.points_at([40.0])[0],
        float(back.at([40.0]).headings[0]) + np.pi,
        [Element(40.0, k0, k1), Element(60.0, k1, k0)],
    )
    found = crossings(a, through)
    assert len(found)
    nearest = found[np.argmin(np.abs(found[:, 0] - at))]
    assert nearest == pytest.approx([at, 40.0], abs=1e-5)
