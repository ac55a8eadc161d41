"""What a vehicle sweeps: the rear axle's path has answers on straights and on circles."""

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.geometry.swept import Body, followed, swept
from humble_loop.kinds.junction.vehicles import VEHICLES
from tests.conftest import examples


def circle(radius, turns, n=4000):
    a = np.linspace(0.0, turns * 2 * np.pi, n)
    return np.column_stack([radius * np.sin(a), radius * (1 - np.cos(a))])


def test_on_a_straight_it_comes_round_by_the_tractrix():
    """Standing 60 degrees off a straight, tan(30) falls by e each wheelbase: with 5 m, after 5 m 2 atan(tan 30 / e)."""
    a = np.radians(60.0)
    path = np.array([[-np.cos(a), -np.sin(a)], [0.0, 0.0], [5.0, 0.0], [10.0, 0.0]])
    headings = followed(path, 5.0)
    assert headings[1] == pytest.approx(a)
    assert headings[2:] == pytest.approx([2 * np.arctan(np.tan(a / 2) * np.exp(-s / 5.0)) for s in (5.0, 10.0)])


@examples(20)
@given(st.floats(6.0, 20.0), st.floats(2.5, 5.5))
def test_on_a_circle_the_rear_axle_settles_on_a_smaller_one(radius, wheelbase):
    """All wheels turn about one place at last: the rear axle's middle runs at sqrt(r2 - wheelbase2)."""
    path = circle(radius, 4.0)
    headings = followed(path, wheelbase)
    rear = path - wheelbase * np.column_stack([np.cos(headings), np.sin(headings)])
    away = np.hypot(rear[:, 0], rear[:, 1] - radius)
    assert away[-1] == pytest.approx(np.sqrt(radius**2 - wheelbase**2), rel=2e-3)
    assert (np.diff(away) < 1e-3).all()  # it cuts in, and never swings out


def test_many_paths_at_once_are_each_as_alone():
    paths = np.stack([circle(8.0, 0.5, 200), circle(15.0, 0.25, 200)])
    both = followed(paths, 4.0)
    assert both[0] == pytest.approx(followed(paths[0], 4.0))
    assert both[1] == pytest.approx(followed(paths[1], 4.0))


def test_a_body_stands_ahead_of_and_behind_its_axles_and_sweeps_its_width():
    body = Body(4.0, 1.0, 2.0, 2.5)
    assert body.length == 7.0
    corners = body.corners(np.array([[10.0, 0.0]]), np.array([0.0]))[0]
    assert corners == pytest.approx(np.array([[11.0, 1.25], [11.0, -1.25], [4.0, -1.25], [4.0, 1.25]]))
    path = np.column_stack([np.linspace(0.0, 20.0, 41), np.zeros(41)])
    covered = swept(body.corners(path, followed(path, 4.0)))
    assert covered.area == pytest.approx(2.5 * (20.0 + 7.0))
    assert shapely.box(-6.0, -1.25, 21.0, 1.25).symmetric_difference(covered).area < 1e-9


@pytest.mark.parametrize("vehicle", VEHICLES, ids=lambda v: v.key)
def test_a_vehicles_least_radius_is_told_by_its_outer_wheel(vehicle):
    """Its front axle's middle led on the least radius, the outer front wheel runs on its turning circle."""
    b, r = vehicle.body, vehicle.least_radius
    rear = np.sqrt(r**2 - b.wheelbase**2)
    assert np.hypot(rear + 0.5 * (b.width - 0.3), b.wheelbase) == pytest.approx(vehicle.turning)
    assert b.wheelbase < r < vehicle.turning
