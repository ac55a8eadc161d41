"""Polygons as one, also where rounding has parted what adjoins."""

import numpy as np
import shapely
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.geometry.united import united
from tests.conftest import examples


def test_two_that_adjoin_along_an_edge_that_rounding_has_parted_are_both_there():
    """As seen: with corners 1e-14 m apart a union left the second out."""
    first = shapely.Polygon(
        [
            (119.05344317351458, 1.7011953769538897),
            (121.99999999999996, 2.7322235822838775e-14),
            (119.21246558661095, 3.3305968397817404e-14),
            (117.78658941385517, 1.2976161444485548),
        ]
    )
    second = shapely.Polygon(
        [
            (117.78658941385517, 1.2976161444485548),
            (119.21246558661099, -1.9571951684048065e-15),
            (113.71331269695258, -3.199774504639283e-15),
        ]
    )
    assert abs(united([first, second]).area - first.area - second.area) < 1e-7


@examples(60)
@given(st.integers(0, 10_000), st.integers(2, 12))
def test_triangles_of_one_fan_make_what_they_cover(seed, n):
    rng = np.random.default_rng(seed)
    at = np.sort(rng.uniform(0.0, np.pi, n + 1)) + rng.uniform(0.0, np.pi)
    rim = 300.0 + np.column_stack([np.cos(at), np.sin(at)]) * rng.uniform(1.0, 40.0)
    parts = [shapely.Polygon([(300.0, 300.0), a, b + rng.uniform(-1e-14, 1e-14, 2)]) for a, b in zip(rim[:-1], rim[1:])]
    area = sum(p.area for p in parts)
    assert abs(united(parts).area - area) < 1e-6 * max(area, 1.0)


def test_none_are_nothing():
    assert united([]).is_empty
