"""What a face covers in plan, joined in pieces where it overlaps itself."""

import numpy as np
import pytest
import shapely

from humble_loop.lines.faces import rows_of_triangles
from humble_loop.whole.overlaps import place_in
from humble_loop.whole.places import _joined


def folded(rows, turns):
    """A sheet whose rows turn round like a fan's, so that it covers places several times."""
    t = np.linspace(0.0, 2.0 * np.pi * turns, rows)
    base = np.column_stack([3.0 * t, 20.0 * np.sin(0.7 * t)])
    out = np.column_stack([np.cos(t), np.sin(t)])
    points = np.stack([np.column_stack([base + 8.0 * k * out, np.zeros(rows)]) for k in range(5)], axis=1)
    return rows_of_triangles(points, np.ones(rows - 1, dtype=bool))[0]


@pytest.mark.parametrize("turns", [3, 10])
def test_a_folded_sheet_is_joined_in_pieces_to_what_its_triangles_cover(turns):
    surface = folded(600, turns)
    work, pieces = _joined(surface, None), 0
    while True:
        try:
            next(work)
            pieces += 1
        except StopIteration as end:
            found = end.value
            break
    everything = shapely.union_all(shapely.polygons(surface.points[surface.triangles][:, :, :2]))
    assert pieces > 10
    assert found.plan.symmetric_difference(everything).area == pytest.approx(0.0, abs=1e-6)
    assert found.twice == pytest.approx(surface.areas().sum() - everything.area)


def test_a_place_in_nothing_is_none_and_in_a_sliver_there_is_one():
    """Met by random use: what a folded face has twice may leave nothing once it is put together."""
    assert place_in(shapely.Polygon()) is None
    assert place_in(shapely.GeometryCollection()) is None
    assert place_in(shapely.Polygon([(0, 0), (10, 0), (10, 1e-9), (0, 1e-9)])) == pytest.approx((5.0, 0.0), abs=1e-8)
