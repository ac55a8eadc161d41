"""Grade lines and cubics."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.geometry.gradeline import Cubic, Profile
from humble_loop.propose.follow import fewest_straights, straights_in_tube
from tests.conftest import examples, reference


def test_reference_grade_line():
    case = reference("grade_line")
    profile = Profile.of(*([v[k] for v in case["vips"]] for k in ("chainage", "level", "curve_length")))
    s = [a["chainage"] for a in case["at"]]
    assert profile.level(s) == pytest.approx([a["level"] for a in case["at"]], abs=1e-9)
    assert profile.grade(s) == pytest.approx([a["grade"] for a in case["at"]], abs=1e-12)
    found = profile.turning_points()
    assert [t.kind for t in found] == [t["kind"] for t in case["turning_points"]]
    assert [t.chainage for t in found] == pytest.approx([t["chainage"] for t in case["turning_points"]], abs=1e-6)
    assert [t.level for t in found] == pytest.approx([t["level"] for t in case["turning_points"]], abs=1e-6)


def test_nothing_is_invented_outside_the_vips():
    profile = Profile.of([10, 50], [5, 6])
    assert np.isnan(profile.level([9.99, 50.01])).all()
    assert np.isnan(profile.grade([9.99])).all()
    assert profile.level([10, 50]) == pytest.approx([5, 6])


@examples(60)
@given(st.lists(st.floats(-0.12, 0.12), min_size=2, max_size=6), st.floats(0.1, 0.95))
def test_the_grade_is_the_derivative_of_the_level(grades, fullness):
    s = np.arange(len(grades) + 1) * 50.0
    z = 20 + np.concatenate([[0], np.cumsum(np.array(grades) * 50.0)])
    curves = np.full(len(s), 50.0 * fullness)
    curves[[0, -1]] = 0
    profile = Profile.of(s, z, curves)
    at = np.linspace(1.0, s[-1] - 1.0, 57)
    numeric = (profile.level(at + 1e-4) - profile.level(at - 1e-4)) / 2e-4
    assert profile.grade(at) == pytest.approx(numeric, abs=1e-6)


def test_the_middle_of_a_parabola_departs_by_a_l_over_8():
    profile = Profile.of([0, 100, 200], [10, 13, 12], [0, 40, 0])
    # Grade change -0.04, length 40: the offset at the VIP is 0.04 * 40 / 8 = 0.2 below it.
    assert profile.level([100])[0] == pytest.approx(13 - 0.2)


@pytest.mark.parametrize(
    ("s", "z", "c", "words"),
    [
        ([0], [1], [0], "two VIPs"),
        ([0, 0], [1, 2], [0, 0], "must rise"),
        ([0, 10, 20], [1, 2, 3], [0, -1, 0], "negative"),
        ([0, 10], [1, 2], [5, 0], "first and last"),
    ],
)
def test_impossible_grade_lines_are_refused(s, z, c, words):
    with pytest.raises(ValueError, match=words):
        Profile.of(s, z, c)


def test_overlapping_curves_are_found_and_touching_ones_are_not():
    touching = Profile.of([0, 50, 100, 150], [0, 1, 0, 1], [0, 50, 50, 0])
    assert touching.overlaps() == []
    over = Profile.of([0, 50, 100, 150], [0, 1, 0, 1], [0, 60, 50, 0])
    assert over.overlaps() == [(1, pytest.approx(5.0))]


@examples(60)
@given(st.floats(2, 40), st.floats(0, 5), st.floats(-0.1, 0.1), st.floats(0, 5), st.floats(-0.1, 0.1))
def test_a_cubic_meets_both_ends_in_level_and_grade(length, z0, m0, z1, m1):
    c = Cubic(length, z0, m0, z1, m1)
    assert c.level([0, length]) == pytest.approx([z0, z1], abs=1e-9)
    assert c.grade([0, length]) == pytest.approx([m0, m1], abs=1e-9)
    at = np.linspace(0.1, 0.9, 9) * length
    numeric = (c.level(at + 1e-5) - c.level(at - 1e-5)) / 2e-5
    assert c.grade(at) == pytest.approx(numeric, abs=1e-5)
    for t in c.turning_points():
        assert abs(c.grade([t.chainage])[0]) < 1e-7


def test_a_return_that_dips_has_a_low_point():
    found = Cubic(12.0, 10.0, -0.03, 10.05, 0.02).turning_points()
    assert [t.kind for t in found] == ["low"]


@examples(40)
@given(st.integers(0, 10_000), st.floats(0.3, 2.0))
def test_lines_in_a_tube_stay_in_it(seed, tolerance):
    rng = np.random.default_rng(seed)
    s = np.cumsum(rng.uniform(1, 6, 60))
    ground = np.cumsum(rng.normal(0, 0.25, 60))
    corners, levels = straights_in_tube(s, ground - tolerance, ground + tolerance)
    assert corners[0] == s[0]
    assert corners[-1] == s[-1]
    line = np.interp(s, corners, levels)
    assert np.all(np.abs(line - ground) <= tolerance + 1e-9)


def test_straight_ground_takes_a_single_grade():
    s = np.arange(0, 200.0, 5)
    corners, _ = straights_in_tube(s, 0.03 * s - 0.1, 0.03 * s + 0.1)
    assert len(corners) == 2


def test_grades_keep_their_limits_even_where_the_tube_contradicts():
    s = np.arange(0, 200.0, 5)
    corners, levels = straights_in_tube(s, 0 * s - 0.1, 0 * s + 0.1, least=0.005, most=0.1)
    assert np.all(np.abs(np.diff(levels) / np.diff(corners)) >= 0.005 - 1e-12)


def brute_fewest(s, low, high, grid, least, most):
    """The fewest corners by trying every set of corner chainages and levels of a small grid."""
    from itertools import combinations, product

    for count in range(len(s) - 1):
        for inner in combinations(range(1, len(s) - 1), count):
            at = [0, *inner, len(s) - 1]
            for ks in product(range(grid), repeat=len(at)):
                z = [low[i] + (high[i] - low[i]) * k / (grid - 1) for i, k in zip(at, ks)]
                line = np.interp(s, s[at], z)
                grades = np.abs(np.diff(z) / np.diff(s[at]))
                inside = np.all(line >= low - 1e-9) and np.all(line <= high + 1e-9)
                if inside and np.all(grades >= least) and np.all(grades <= most):
                    return count + 2
    return None


@examples(25)
@given(st.integers(0, 10_000))
def test_no_line_in_the_tube_has_fewer_corners(seed):
    from humble_loop.propose import follow

    rng = np.random.default_rng(seed)
    s = np.cumsum(rng.uniform(8, 20, 6))
    ground = np.cumsum(rng.normal(0, 0.9, 6))
    low, high = ground - 0.5, ground + 0.5
    many, follow._LEVELS = follow._LEVELS, 4
    try:
        made = fewest_straights(s, low, high, least=0.005, most=0.2)
    finally:
        follow._LEVELS = many
    fewest = brute_fewest(s, low, high, 4, 0.005, 0.2)
    assert (made is None) == (fewest is None)
    if made is None:
        return
    corners, levels = made
    assert len(corners) == fewest
    line = np.interp(s, corners, levels)
    assert np.all((line >= low - 1e-9) & (line <= high + 1e-9))
    grades = np.abs(np.diff(levels) / np.diff(corners))
    assert np.all((grades >= 0.005 - 1e-9) & (grades <= 0.2 + 1e-9))


def test_both_ends_are_kept_and_a_tie_outside_the_tube_is_reached():
    s = np.arange(0, 301.0, 5)
    ground = 50 + 0.03 * s
    made = fewest_straights(s, ground - 0.3, ground + 0.3, start=53.0, end=59.2, least=0.005, most=0.1, shortest=20.0)
    corners, levels = made
    assert levels[0] == 53.0
    assert levels[-1] == 59.2
    # 3 m above ground that rises at 3 % towards it: at -10 % it takes at least 2.7 / 0.13 = 20.8 m to be within 0.3 m,
    # and at half of that 2.7 / 0.08 = 33.8 m.
    back = s[np.argmax(np.abs(np.interp(s, corners, levels) - ground) <= 0.3 + 1e-9)]
    assert 20.0 <= back <= 45.0
    assert np.all(np.abs(np.diff(levels) / np.diff(corners)) <= 0.1 + 1e-9)


def test_long_lines_are_looked_at_in_stretches_and_stay_in_the_tube():
    s = np.linspace(0, 2000, 5001)
    ground = 20 + 6 * np.sin(s / 170) + 0.01 * s
    corners, levels = fewest_straights(s, ground - 0.6, ground + 0.6, least=0.005, most=0.15, shortest=25.0)
    line = np.interp(s, corners, levels)
    assert np.all(np.abs(line - ground) <= 0.6 + 0.02)
    assert len(corners) < 26
    assert np.diff(corners).min() >= 25.0 - 1e-9


def test_ground_that_no_grade_can_follow_has_no_line_in_the_tube():
    s = np.arange(0, 101.0, 5)
    assert fewest_straights(s, 0.5 * s - 0.3, 0.5 * s + 0.3, most=0.15) is None


def test_cubics_through_levels_worked_by_hand():
    """10 m with a level half way: equal curvature there gives 8 d = 6 (z1 - z0) / 5 - 2 (m0 + m1), here d = (6 * 0.2 / 5 - 2 * 0.05) / 8."""
    c = Cubic(10.0, 20.0, 0.03, 20.2, 0.02, (5.0,), (20.3,))
    assert c.level([0.0, 5.0, 10.0]) == pytest.approx([20.0, 20.3, 20.2])
    assert c.grade([0.0, 5.0, 10.0]) == pytest.approx([0.03, (6 * 0.2 / 5 - 2 * 0.05) / 8, 0.02])
    plain = Cubic(10.0, 20.0, 0.03, 20.2, 0.02)
    same = Cubic(10.0, 20.0, 0.03, 20.2, 0.02, (5.0,), (float(plain.level([5.0])[0]),))
    s = np.linspace(0.0, 10.0, 21)
    assert same.level(s) == pytest.approx(plain.level(s), abs=1e-12)


@examples(50)
@given(
    st.floats(5, 30),
    st.lists(st.floats(-0.5, 0.5), min_size=1, max_size=4),
    st.floats(-0.06, 0.06),
    st.floats(-0.06, 0.06),
)
def test_cubics_through_levels_agree_in_level_grade_and_curvature(length, rises, m0, m1):
    at = tuple(length * (k + 1) / (len(rises) + 1) for k in range(len(rises)))
    c = Cubic(length, 10.0, m0, 10.2, m1, at, tuple(10.0 + r for r in rises))
    assert c.level(at) == pytest.approx([10.0 + r for r in rises])
    assert c.grade([0.0, length]) == pytest.approx([m0, m1], abs=1e-12)
    h = 1e-4
    for s in at:
        before, after = (np.diff(c.grade([s + d, s + d + h]))[0] / h for d in (-2 * h, h))
        assert before == pytest.approx(after, abs=1e-3 * (1.0 + c.sharpest()))
        assert c.grade([s - 1e-9])[0] == pytest.approx(c.grade([s + 1e-9])[0], abs=1e-7 * (1.0 + c.sharpest()))
    # Its weights are its levels' derivatives by what is given, and its turning points lie where it is level.
    s = np.linspace(0.0, length, 33)
    assert c.weights(s) @ np.array([10.0, m0, 10.2, m1, *c.levels]) == pytest.approx(c.level(s))
    for t in c.turning_points():
        assert c.grade([t.chainage])[0] == pytest.approx(0.0, abs=1e-9)
        around = c.level([t.chainage - 1e-3, t.chainage + 1e-3])
        assert (around >= t.level - 1e-12).all() if t.kind == "low" else (around <= t.level + 1e-12).all()


def test_a_level_that_is_the_lowest_point_itself_is_found():
    c = Cubic(10.0, 20.0, -0.04, 20.0, 0.04, (5.0,), (19.8,))
    assert [(round(t.chainage, 9), t.kind) for t in c.turning_points()] == [(5.0, "low")]
