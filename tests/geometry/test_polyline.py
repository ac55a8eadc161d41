"""Lines of points: thinning keeps the line."""

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.geometry.polyline import thinned
from tests.conftest import examples


def away(points, line):
    """Distances (n,) of points from a line of points in space."""
    a, d = line[:-1], np.diff(line, axis=0)
    t = np.clip(np.einsum("ijk,jk->ij", points[:, None] - a, d) / np.maximum((d**2).sum(axis=1), 1e-30), 0, 1)
    return np.sqrt(((points[:, None] - a - t[..., None] * d) ** 2).sum(axis=2)).min(axis=1)


@examples(60)
@given(st.integers(0, 10_000), st.sampled_from([0.002, 0.05, 1.0]))
def test_what_is_left_out_lies_on_what_is_kept(seed, within):
    rng = np.random.default_rng(seed)
    points = np.cumsum(rng.normal(0, 1, (60, 3)), axis=0)
    (kept,) = thinned([points], within)
    assert (kept[0] == points[0]).all()
    assert (kept[-1] == points[-1]).all()
    assert away(points, kept).max() <= within * (1 + 1e-9)


def test_a_straight_keeps_its_ends_and_a_change_of_grade_its_corner():
    s = np.arange(0.0, 101.0)
    level = np.where(s < 40, 0.02 * s, 0.8 - 0.03 * (s - 40))
    (kept,) = thinned([np.column_stack([312_408 + s, 6_251_977 + 0 * s, level])], 0.002)
    assert (kept[:, 0] - 312_408).tolist() == [0, 40, 100]


def one_by_one(points, within):
    """Douglas and Peucker as it reads in the paper, one stretch after another."""
    if len(points) < 3:
        return points
    distances = away(points[1:-1], points[[0, -1]])
    far = int(np.argmax(distances)) + 1
    if distances[far - 1] <= within:
        return points[[0, -1]]
    return np.vstack([one_by_one(points[: far + 1], within)[:-1], one_by_one(points[far:], within)])


@examples(40)
@given(st.integers(0, 10_000), st.lists(st.integers(2, 40), min_size=1, max_size=6))
def test_many_lines_together_are_thinned_as_each_alone(seed, counts):
    rng = np.random.default_rng(seed)
    lines = [np.cumsum(rng.normal(0, 1, (n, 3)), axis=0) for n in counts]
    for kept, line in zip(thinned(lines, 0.8), lines, strict=True):
        assert kept.tolist() == one_by_one(line, 0.8).tolist()


def test_a_ring_is_thinned_from_where_it_begins():
    ring = np.array([[0, 0, 0], [4, 0, 0], [4, 3, 0], [4, 4, 0], [0, 4, 0], [0, 0, 0]], dtype=float)
    (kept,) = thinned([ring], 0.01)
    assert kept.tolist() == ring[[0, 1, 3, 4, 5]].tolist()
    assert thinned([], 0.01) == []
