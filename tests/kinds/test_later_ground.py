"""Batters on ground that was changed by what is built before them."""

import numpy as np

from humble_loop.kinds.street.earthworks import onto
from humble_loop.lines.faces import Sheet
from tests.conftest import plane_ground


def fill(reach, level, met):
    """Rows from (0, k) at 10.0 to so many metres out, at a level."""
    points = np.zeros((3, 2, 3))
    points[:, :, 1] = np.arange(3.0)[:, None]
    points[:, 0, 2], points[:, 1, 0], points[:, 1, 2] = 10.0, reach, level
    yes = np.ones(2, dtype=bool)
    return Sheet("b", "batter", points, yes, (), np.full(3, met), np.zeros(3, dtype=bool))


def test_a_batter_goes_further_where_earlier_earthworks_let_it():
    made = onto(fill(2.0, 9.0, True), fill(4.0, 8.0, True), plane_ground(0.0, 0.0, 8.0))
    assert made.ends[:, 0].tolist() == [4.0, 4.0, 4.0]


def test_a_batter_that_would_find_no_ground_there_ends_on_the_ground_as_it_was_found():
    made = onto(fill(2.0, 9.0, True), fill(60.0, 12.0, False), plane_ground(0.0, 0.0, 9.0))
    assert made.ends[:, 0].tolist() == [2.0, 2.0, 2.0]
    assert made.met.all()
