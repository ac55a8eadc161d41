"""Surfaces whose edges go through every corner that lies on them."""

import numpy as np

from humble_loop.ground.merge import stitched


def edge_counts(triangles):
    edges = np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1)
    return dict(
        zip(*(v.tolist() for v in np.unique(np.unique(edges, axis=0, return_counts=True)[1], return_counts=True)))
    )


# A square of 10 m in two triangles, and beside its right and its upper edge strips with corners half way and at a third.
XY = np.array(
    [[0, 0], [10, 0], [10, 10], [0, 10], [10, 4], [15, 0], [15, 10], [10, 7], [5, 10], [0, 15], [10, 15]], dtype=float
)
SQUARE = [[0, 1, 2], [0, 2, 3]]
RIGHT = [[1, 5, 4], [4, 5, 6], [4, 6, 7], [7, 6, 2]]
ABOVE = [[3, 8, 9], [8, 10, 9], [8, 2, 10]]


def area(xy, triangles):
    a, b, c = (xy[triangles[:, k]] for k in range(3))
    return 0.5 * ((b - a)[:, 0] * (c - a)[:, 1] - (b - a)[:, 1] * (c - a)[:, 0])


def test_an_edge_goes_through_the_corners_that_lie_on_it():
    before = np.array(SQUARE + RIGHT + ABOVE)
    triangles, was = stitched(XY, before, 1e-6)
    # The square's first triangle is in three pieces, its second in two; every triangle turns as it did.
    assert np.bincount(was).tolist() == [3, 2, *[1] * 7]
    assert (area(XY, triangles) > 0).all()
    for k in range(len(before)):
        assert np.isclose(area(XY, triangles)[was == k].sum(), area(XY, before)[k])
    assert edge_counts(triangles)[1] == 8  # around all of it: two sides of the square, and three of each strip
    assert set(edge_counts(triangles)) == {1, 2}


def test_both_edges_of_one_triangle_and_nothing_to_do():
    below = [[0, 1, 2]]
    xy = np.array([[0, 0], [4, 0], [4, 4], [2, 0], [2, -3], [4, 2], [7, 2.0]])
    triangles, was = stitched(xy, np.array([*below, [0, 4, 3], [3, 4, 1], [1, 6, 5], [5, 6, 2]]), 1e-6)
    assert (was == 0).sum() == 3
    assert set(edge_counts(triangles)) == {1, 2}
    alone, same = stitched(xy[:3], np.array(below), 1e-6)
    assert alone.tolist() == below
    assert same.tolist() == [0]
    near, _ = stitched(
        np.array([[0, 0], [4, 0], [4, 4], [2, -1e-3], [2, -3]]), np.array([[0, 1, 2], [0, 4, 3], [3, 4, 1]]), 1e-6
    )
    assert len(near) == 3  # a millimetre beside it is not on it
