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
    kept = thinned(points, within)
    assert (kept[0] == points[0]).all()
    assert (kept[-1] == points[-1]).all()
    assert away(points, kept).max() <= within * (1 + 1e-9)


def test_a_straight_keeps_its_ends_and_a_change_of_grade_its_corner():
    s = np.arange(0.0, 101.0)
    level = np.where(s < 40, 0.02 * s, 0.8 - 0.03 * (s - 40))
    kept = thinned(np.column_stack([312_408 + s, 6_251_977 + 0 * s, level]), 0.002)
    assert (kept[:, 0] - 312_408).tolist() == [0, 40, 100]
