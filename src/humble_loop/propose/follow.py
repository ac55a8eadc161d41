"""Few straight lines within a tube of levels along a line."""

from __future__ import annotations

import numpy as np

from humble_loop.geometry.arrays import Bools, Floats, Ints

_APART = 8.0  # metres between chainages at which a corner may stand, if that makes no more than
_PLACES = 120
_LEVELS = 9  # levels of a corner at each of these, from the bottom of the tube to its top
_BACK = 0.5  # share of the steepest grade at which the tube closes from a fixed end outside of it
_SAMPLES = 400  # stretches in which the tube is looked at


def fewest_straights(
    s: Floats,
    low: Floats,
    high: Floats,
    *,
    start: float | None = None,
    end: float | None = None,
    least: float = 0.0,
    most: float = np.inf,
    shortest: float = 0.0,
    aim: float = 0.5,
) -> tuple[Floats, Floats] | None:
    """The line with the fewest corners that stays in [low, high], or None where there is none.

    Of all lines whose corners stand at chainages some 8 m apart, at one of nine levels of the tube there, the one with the
    fewest corners; of those with as many, the one whose corners are nearest to ``aim`` between the tube's bottom (0) and
    top (1). Grades keep ``least`` <=
    abs(grade) <= ``most``, legs are at least ``shortest`` metres, ``start`` and ``end`` fix the levels there. Towards a
    fixed end outside of it the tube opens at half the steepest grade, or over the shortest leg if that is longer, so that
    it can be reached. Shapes: s, low,
    high (n,), s rising. Returns arrays (m,), m >= 2.

    Found by stages: a straight from one place may go to another if its grade lies between the steepest fall and rise
    that stay in the tube all the way there, which accumulate along it.
    """
    low, high = _opened(s, low, high, start, (most, shortest), 0)
    low, high = _opened(s, low, high, end, (most, shortest), -1)
    s, low, high = _thinned(s, low, high)
    if np.any(low > high):
        return None
    places = np.linspace(s[0], s[-1], min(int((s[-1] - s[0]) / _APART) + 2, _PLACES))
    at = np.unique(np.argmin(np.abs(s[:, None] - places), axis=0))
    z = low[at][:, None] + (high - low)[at][:, None] * np.linspace(0.0, 1.0, _LEVELS)
    if start is not None:
        z[0] = start
    if end is not None:
        z[-1] = end
    half = np.maximum(0.5 * (high - low)[at], 1e-9)
    away = (
        np.abs(z - (low + aim * (high - low))[at][:, None]) / half[:, None] / (20.0 * len(at))
    )  # in all less than a corner
    cost = np.full(z.shape, np.inf)
    cost[0] = away[0]
    came = np.full((*z.shape, 2), -1)
    for i in range(len(at) - 1):
        if not np.isfinite(cost[i]).any():
            continue
        fits = _straights(s, low, high, at, z, i, (least, most, min(shortest, s[-1] - s[0])))
        total = np.where(fits, cost[i][:, None, None] + 1.0, np.inf) + away[i + 1 :][None]
        best = np.argmin(total, axis=0)
        value = np.take_along_axis(total, best[None], axis=0)[0]
        better = value < cost[i + 1 :] - 1e-12
        cost[i + 1 :][better] = value[better]
        came[i + 1 :, :, 0][better] = i
        came[i + 1 :, :, 1][better] = best[better]
    if not np.isfinite(cost[-1]).any():
        return None
    i, k = len(at) - 1, int(np.argmin(cost[-1]))
    corners, levels = [], []
    while i >= 0:
        corners.append(float(s[at[i]]))
        levels.append(float(z[i, k]))
        i, k = came[i, k]
    return np.array(corners[::-1]), np.array(levels[::-1])


def _straights(
    s: Floats, low: Floats, high: Floats, at: Ints, z: Floats, i: int, limits: tuple[float, float, float]
) -> Bools:
    """Which straights from the levels at place ``i`` to those at each later place stay in the tube: (levels, places, levels).

    ``limits`` are the least and greatest grade and the shortest run.
    """
    least, most, shortest = limits
    ahead, run = at[i + 1 :], s[at[i] + 1 :] - s[at[i]]
    down = np.maximum.accumulate((low[at[i] + 1 :] - z[i][:, None]) / run, axis=1)[:, ahead - at[i] - 1]
    up = np.minimum.accumulate((high[at[i] + 1 :] - z[i][:, None]) / run, axis=1)[:, ahead - at[i] - 1]
    grade = (z[i + 1 :][None] - z[i][:, None, None]) / (s[ahead] - s[at[i]])[None, :, None]
    fits = (grade >= down[..., None] - 1e-12) & (grade <= up[..., None] + 1e-12)
    fits &= (s[ahead] - s[at[i]] >= shortest - 1e-9)[None, :, None]
    fits &= (np.abs(grade) >= least - 1e-12) & (np.abs(grade) <= most + 1e-12)
    return np.asarray(fits)


def _opened(
    s: Floats, low: Floats, high: Floats, level: float | None, limits: tuple[float, float], place: int
) -> tuple[Floats, Floats]:
    """The tube, opened towards a fixed level at its beginning (``place`` 0) or end (-1). ``limits`` are the greatest grade and
    the shortest leg: a line that is to enter the tube from outside of it may take that leg.
    """
    if level is None:
        return low, high
    most, shortest = limits
    if not np.isfinite(most):
        return np.where(s == s[place], level, low), np.where(s == s[place], level, high)
    far = np.abs(s - s[place])
    leg = min(max(shortest, 1e-9), float(far.max()))
    order = np.argsort(far)
    found = []
    for edge, outside, sign in ((low, level < low[place], 1.0), (high, level > high[place], -1.0)):
        way_in = level + sign * _BACK * most * far
        if outside:  # straight to where the tube's edge is a leg farther on
            there = float(np.interp(leg, far[order], edge[order]))
            way_in = np.where(
                far < leg, sign * np.minimum(sign * way_in, sign * (level + (there - level) * far / leg)), way_in
            )
        found.append(sign * np.minimum(sign * edge, sign * way_in))
    return found[0], found[1]


def _thinned(s: Floats, low: Floats, high: Floats) -> tuple[Floats, Floats, Floats]:
    """The tube at no more than so many places, each with the narrowest of its surroundings; both ends stay."""
    if len(s) <= _SAMPLES:
        return s, low, high
    first = np.unique(np.searchsorted(s, np.linspace(s[0], s[-1], _SAMPLES)))
    first[-1] = len(s) - 1
    return s[first], np.maximum.reduceat(low, first), np.minimum.reduceat(high, first)


def straights_in_tube(
    s: Floats,
    low: Floats,
    high: Floats,
    *,
    start: float | None = None,
    least: float = 0.0,
    most: float = np.inf,
    shortest: float = 0.0,
) -> tuple[Floats, Floats]:
    """Chainages and levels of the corners of a line that stays in [low, high] as long as it can.

    From the last corner the fan of grades that stay within the tube is narrowed point by point; when it
    closes, a corner is put at the last chainage reached. Grades keep ``least`` <= abs(grade) <= ``most``;
    where the tube and the grades contradict each other the grades win, so the line may leave the tube.
    ``start`` fixes the first level (else the middle of the tube); legs are at least ``shortest`` metres.
    Shapes: s, low, high (n,), s rising. Returns arrays (m,), m >= 2.
    """
    middle = 0.5 * (low + high)
    corners = [float(s[0])]
    levels = [float(middle[0]) if start is None else float(start)]
    i = 0
    n = len(s)
    while i < n - 1:
        s0, z0 = corners[-1], levels[-1]
        run = s[i + 1 :] - s0
        down = np.maximum.accumulate((low[i + 1 :] - z0) / run)
        up = np.minimum.accumulate((high[i + 1 :] - z0) / run)
        closed = np.flatnonzero((down > up) & (run >= shortest))
        j = int(closed[0]) if closed.size else len(run)
        last = max(0, j - 1)
        lo, hi = float(down[last]), float(up[last])
        aim = (float(middle[i + 1 + last]) - z0) / float(run[last])
        grade = _allowed(float(np.clip(aim, min(lo, hi), max(lo, hi))), least, most)
        i = i + 1 + last
        if s[-1] - s[i] < shortest and i < n - 1:
            i = n - 1
        corners.append(float(s[i]))
        levels.append(z0 + grade * (float(s[i]) - s0))
    return np.array(corners), np.array(levels)


def _allowed(grade: float, least: float, most: float) -> float:
    size = min(max(abs(grade), least), most)
    return size if grade >= 0 else -size
