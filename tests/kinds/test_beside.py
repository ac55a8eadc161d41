"""Paths on the ground and along what was there first."""

import numpy as np
import pytest

from humble_loop.kinds.lot.beside import laid
from tests.conftest import plane_ground, plane_level

# A lot's outline that stands 1 m above the ground along its southern side, with a point of its own at x = 12.
OUTLINE = np.array([[0.0, 10, 5], [12, 10, 7], [20, 10, 8], [20, 30, 9], [0, 30, 9]])


def test_away_from_all_outlines_a_path_lies_on_the_ground():
    path, touched = laid(np.array([[0.0, 0.0], [30.0, 5.0]]), plane_ground(), [OUTLINE])
    assert not touched
    assert path[:, 2] == pytest.approx(plane_level(path[:, :2]), abs=1e-9)
    assert path[[0, -1], :2].tolist() == [[0, 0], [30, 5]]


@pytest.mark.parametrize("turned", [False, True])
def test_along_an_outline_it_has_its_levels_and_its_points(turned):
    line = np.array([[-5.0, 10.0], [25.0, 10.0]])
    path, touched = laid(line[::-1] if turned else line, plane_ground(), [OUTLINE])
    path = path[::-1] if turned else path
    assert touched
    on = (path[:, 0] >= -1e-6) & (path[:, 0] <= 20 + 1e-6)
    assert path[on, 0] == pytest.approx([0.0, 12.0, 20.0], abs=1e-6)
    assert path[on, 2] == pytest.approx([5.0, 7.0, 8.0], abs=1e-6)
    off = path[~on]
    assert off[:, 2] == pytest.approx(plane_level(off[:, :2]), abs=1e-9)


def test_where_it_begins_half_way_along_an_edge_it_begins_at_that_edges_level():
    path, touched = laid(np.array([[6.0, 10.0], [16.0, 10.0]]), plane_ground(), [OUTLINE])
    assert touched
    assert path[:, 0] == pytest.approx([6.0, 12.0, 16.0], abs=1e-6)
    assert path[:, 2] == pytest.approx([6.0, 7.0, 7.5], abs=1e-6)


def test_round_a_corner_of_two_neighbours_it_takes_each_in_turn():
    other = np.array([[20.0, 30, 9], [20, 50, 11], [-10, 50, 11], [-10, 30, 9]])
    path, touched = laid(np.array([[20.0, 10.0], [20.0, 50.0]]), plane_ground(), [OUTLINE, other])
    assert touched
    assert path[:, 1] == pytest.approx([10.0, 30.0, 50.0], abs=1e-6)
    assert path[:, 2] == pytest.approx([8.0, 9.0, 11.0], abs=1e-6)
