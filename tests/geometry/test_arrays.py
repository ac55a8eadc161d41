"""Read-only arrays and directions."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.geometry.arrays import bearing_of, frozen, left_normals, row_at, rows_at, tangents, unique_chainages


def test_frozen_arrays_refuse_to_be_written_and_are_copies():
    mine = np.arange(3.0)
    kept = frozen(mine)
    mine[0] = 9
    assert kept[0] == 0
    with pytest.raises(ValueError, match="read-only"):
        kept[0] = 1


@given(st.floats(-10, 10))
def test_left_is_a_quarter_turn_from_along(heading):
    t, n = tangents(heading), left_normals(heading)
    assert t @ n == pytest.approx(0, abs=1e-12)
    assert t[0] * n[1] - t[1] * n[0] == pytest.approx(1)
    assert np.hypot(*t) == pytest.approx(1)


@given(st.floats(-20, 20))
def test_a_bearing_names_the_same_direction(heading):
    b = np.radians(float(bearing_of(heading)))
    assert (np.sin(b), np.cos(b)) == pytest.approx(tuple(tangents(heading)), abs=1e-9)
    assert 0 <= float(bearing_of(heading)) < 360


@given(
    st.lists(st.floats(-5, 105), max_size=30),
    st.lists(st.floats(-5, 105), max_size=30),
    st.sampled_from([1e-6, 1e-3, 0.5]),
)
def test_merged_chainages_rise_keep_the_gap_and_hold_the_first_group(first, second, gap):
    got = unique_chainages(first, second, low=0.0, high=100.0, gap=gap)
    assert np.all(np.diff(got) > 0)
    assert np.all((got >= 0) & (got <= 100))
    alone = unique_chainages(first, low=0.0, high=100.0, gap=gap)
    assert set(alone) <= set(got)
    for value in second:
        if 0 <= value <= 100:
            assert np.min(np.abs(got - value)) <= 2 * gap + 1e-12


def test_nothing_merged_is_nothing():
    assert unique_chainages([], [], low=0.0, high=1.0).size == 0


@given(
    st.lists(st.sampled_from([0.0, 2.0, 2.0, 5.0, 9.0, 20.0]), min_size=1, max_size=6).map(sorted),
    st.lists(st.one_of(st.sampled_from([0.0, 2.0, 5.0, 20.0]), st.floats(-5, 30)), min_size=1, max_size=8),
)
def test_rows_between_places_are_what_each_column_by_itself_says(at, places):
    at, rng = np.array(at), np.random.default_rng(3)
    tables = [rng.uniform(-5, 5, (len(at), m)) for m in (1, 4)]
    for table, rows in zip(tables, rows_at(places, at, *tables)):
        expected = np.column_stack([np.interp(places, at, column) for column in table.T])
        assert np.abs(rows - expected).max() < 1e-12
        assert np.abs(np.array([row_at(s, at, table) for s in places]) - expected).max() < 1e-12
