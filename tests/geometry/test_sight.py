"""How far one sees over a crest: against the formula of parabolas, and against the straight itself."""

import numpy as np
import pytest

from humble_loop.geometry.gradeline import Profile
from humble_loop.geometry.sight import curve_for_sight, sight_along

EYE, TARGET = 1.1, 0.2
HEIGHTS = (np.sqrt(EYE) + np.sqrt(TARGET)) ** 2


def crest(change, curve, length=600.0):
    """A symmetric crest in the middle of a line at a real site's level."""
    rise = 0.25 * change * length
    return Profile.of([0.0, 0.5 * length, length], [312.0, 312.0 + rise, 312.0], [0.0, curve, 0.0])


@pytest.mark.parametrize(("k", "change"), [(3.0, 0.20), (7.0, 0.12), (3.57, 0.25)])
def test_on_a_long_crest_sight_follows_from_its_rate(k, change):
    """K = S^2 / (200 (sqrt h1 + sqrt h2)^2), K in metres for each percent, where the curve is longer than the sight."""
    wanted = np.sqrt(200.0 * k * HEIGHTS)
    assert wanted < 100.0 * k * change
    s, seen = sight_along(crest(change, 100.0 * k * change), 120.0, EYE, TARGET)
    assert seen.min() == pytest.approx(wanted, abs=120.0 / 50)
    assert seen[0] == 120.0
    assert abs(s[np.argmin(seen)] - 300.0) < 60.0


def test_on_a_short_crest_sight_is_longer_than_the_curve():
    """S = L / 2 + 100 (sqrt h1 + sqrt h2)^2 / A, A in percent."""
    change, curve = 0.08, 20.0
    wanted = 0.5 * curve + 100.0 * HEIGHTS / (100.0 * change)
    assert wanted > curve
    _, seen = sight_along(crest(change, curve), 80.0, EYE, TARGET)
    assert seen.min() == pytest.approx(wanted, abs=80.0 / 50)


@pytest.mark.parametrize("change", [0.04, 0.08, 0.15, 0.3])
def test_a_curve_that_is_long_enough_for_a_distance_is_seen_over(change):
    for reach in (25.0, 35.0, 55.0):
        length = curve_for_sight(reach, change, EYE, TARGET)
        _, seen = sight_along(crest(change, length), 2.0 * reach, EYE, TARGET)
        assert seen.min() >= reach - 2.0 * reach / 50
        if length > 5.0:
            _, less = sight_along(crest(change, 0.8 * length), 2.0 * reach, EYE, TARGET)
            assert less.min() < reach


def test_nothing_is_hidden_in_a_sag_or_on_a_straight():
    sag = Profile.of([0.0, 100.0, 200.0], [10.0, 4.0, 10.0], [0.0, 20.0, 0.0])
    assert sight_along(sag, 60.0, EYE, TARGET)[1].min() == 60.0
    assert sight_along(Profile.of([0.0, 200.0], [10.0, 40.0]), 60.0, EYE, TARGET)[1].min() == 60.0


def test_a_straight_from_the_eyes_to_what_is_seen_stays_above_the_line():
    line = Profile.of([0.0, 60.0, 90.0, 160.0, 240.0], [5.0, 10.0, 10.5, 6.0, 8.0], [0.0, 18.0, 24.0, 30.0, 0.0])
    s, seen = sight_along(line, 70.0, EYE, TARGET)
    for k in range(0, len(s), 7):
        for way in (1.0, -1.0):
            there = s[k] + way * seen[k]
            if not 0.0 <= there <= 240.0:
                continue
            between = np.linspace(s[k], there, 200)
            ends = line.level([s[k]])[0] + EYE, line.level([there])[0] + TARGET
            straight = np.interp(np.linspace(0, 1, 200), [0, 1], ends)
            assert np.all(straight >= line.level(between) - 0.02)
