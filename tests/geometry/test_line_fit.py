"""Centrelines fitted to points: the line they were taken from comes back, and nothing departs farther than is told."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.geometry.bends import BendInput, chain_from_bends
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.line_fit import departures, fit_line
from tests.conftest import examples

E0, N0 = 312_408.0, 6_251_977.0
LINES = {
    "straight": [(0, 0, 0), (200, 10, 0)],
    "one bend": [(0, 0, 0), (150, 0, 60), (220, 120, 0)],
    "kink": [(0, 0, 0), (100, 0, 0), (160, 60, 0)],
    "reverse": [(0, 0, 0), (120, 0, 80), (200, 90, 50), (350, 80, 0)],
    "four bends": [(0, 0, 0), (120, 0, 80), (200, 90, 50), (350, 80, 100), (420, -40, 35), (560, -30, 0)],
}


def bends(rows):
    return [BendInput(E0 + e, N0 + n, float(r)) for e, n, r in rows]


def fitted(points, within):
    steps = fit_line(points, within)
    while True:
        try:
            next(steps)
        except StopIteration as end:
            return end.value


def surveyed(rows, every=4.0, noise=0.0, seed=1):
    chain, _ = chain_from_bends(bends(rows))
    s = np.unique([*np.arange(0.0, chain.total, every), chain.total, *chain.starts])
    return chain.points_at(s) + np.random.default_rng(seed).normal(0.0, noise, (len(s), 2)) * (noise > 0)


@pytest.mark.parametrize("name", list(LINES))
def test_the_line_that_points_were_taken_from_comes_back(name):
    found = fitted(surveyed(LINES[name]), 0.05)
    assert [b.radius for b in found.bends] == pytest.approx([r for _, _, r in LINES[name]], rel=1e-4)
    got = np.array([b[:2] for b in found.bends]) - [E0, N0]
    assert got == pytest.approx(np.array(LINES[name])[:, :2], abs=1e-3)
    assert found.departure < 1e-4


@pytest.mark.parametrize("seed", range(3))
def test_a_noisy_survey_is_fitted_within_its_tolerance_by_as_many_bends(seed):
    points = surveyed(LINES["reverse"], every=6.0, noise=0.02, seed=seed)
    found = fitted(points, 0.1)
    assert len(found.bends) == 4
    assert [b.radius for b in found.bends[1:-1]] == pytest.approx([80.0, 50.0], rel=0.03)
    chain, _ = chain_from_bends(found.bends)
    away = np.abs(chain.feet(points).offsets)
    assert away.max() == pytest.approx(found.departure, abs=1e-9)
    assert found.departure <= 0.1


def test_an_arc_of_more_than_half_a_turn_is_several_bends_of_one_radius():
    turn = np.linspace(0.0, 1.4 * np.pi, 60)
    circle = 30.0 * np.column_stack([np.sin(turn), 1.0 - np.cos(turn)]) + [100.0, 0.0]
    points = np.concatenate([[[0.0, 0.0], [50.0, 0.0]], circle]) + [E0, N0]
    found = fitted(points, 0.05)
    inner = [b.radius for b in found.bends[1:-1]]
    assert len(inner) >= 2
    assert inner == pytest.approx([30.0] * len(inner), rel=0.02)  # the chords' corners lie within the tolerance
    assert np.ptp(inner) < 0.1
    assert found.departure <= 0.05


def test_both_ends_stay_where_they_are():
    points = surveyed(LINES["four bends"], noise=0.02)
    found = fitted(points, 0.1)
    assert np.array([found.bends[0][:2], found.bends[-1][:2]]) == pytest.approx(points[[0, -1]], abs=1e-9)


def test_one_place_is_no_line():
    with pytest.raises(ValueError, match="two different points"):
        fitted(np.array([[E0, N0], [E0, N0]]), 0.1)


@given(st.lists(st.tuples(st.floats(-80, 80), st.floats(-80, 80)), min_size=2, max_size=14))
@examples(8)
def test_whatever_the_points_it_ends_and_tells_how_far_it_departs(places):
    points = np.array(places) + [E0, N0]
    if np.hypot(*(points - points[0]).T).max() < 1e-3:
        return
    found = fitted(points, 0.1)
    chain, _ = chain_from_bends(found.bends)
    assert np.isfinite(found.departure)
    assert np.abs(chain.feet(points).offsets).max() <= found.departure + 1e-6


@pytest.mark.parametrize("name", ["one bend", "reverse", "four bends"])
def test_slopes_of_departures_are_what_moving_a_corner_or_a_radius_does(name):
    """Against differences of offsets of the line laid anew, on a source that lies beside it."""
    rows = LINES[name]
    corners, radii = np.array([r[:2] for r in rows], dtype=float), np.array([r[2] for r in rows[1:-1]], dtype=float)
    source = surveyed(rows, every=7.0, noise=0.05, seed=2) - [E0, N0]
    n, step = len(radii), 1e-5

    def moved(x):
        at = np.concatenate([corners[:1], x[: 2 * n].reshape(n, 2), corners[-1:]])
        return departures(at, np.exp(x[2 * n :]), source)

    x = np.concatenate([corners[1:-1].ravel(), np.log(radii)])
    offsets, slopes = moved(x)
    for k in range(3 * n):
        there, back = (moved(x + side * step * np.eye(3 * n)[k])[0] for side in (1, -1))
        assert slopes[:, k] == pytest.approx((there - back) / (2 * step), abs=1e-3), k
    assert np.abs(offsets).max() < 0.3


def test_a_line_of_many_bends_is_worked_in_short_pieces():
    """The window goes on between two pieces; counted in feet of the source, which are what a piece costs."""
    count = 14
    east = 90.0 * np.arange(count + 2)
    north = np.random.default_rng(4).uniform(-30, 30, count + 2)
    rows = [(e, n, 0 if k in (0, count + 1) else 50) for k, (e, n) in enumerate(zip(east, north))]
    calls, asked = [0], Chain.feet

    def counted(self, *args, **more):
        calls[0] += 1
        return asked(self, *args, **more)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(Chain, "feet", counted)
        steps, most = fit_line(surveyed(rows), 0.05), 0
        while True:
            before = calls[0]
            try:
                next(steps)
            except StopIteration as end:
                found = end.value
                break
            most = max(most, calls[0] - before)
    assert most <= 5
    assert found.departure <= 0.05
    assert len(found.bends) <= 2 * (count + 2)


def test_a_long_straight_line_is_divided_in_short_steps():
    """Every stretch of it is one: all of them are tried, and between a few of them the work may be given up."""
    n = 120
    x = np.linspace(0.0, 400.0, n)
    jagged = np.column_stack([x, 1e-3 * np.sin(7.0 * x)])
    steps = sum(1 for _ in fit_line(jagged, 0.1))
    assert steps > 0.5 * n * (n - 1) / 2 / 40
