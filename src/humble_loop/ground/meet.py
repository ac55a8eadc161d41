"""Where slopes that start at given points meet a surface."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Bools, Floats
from humble_loop.ground.drape import cross_segments
from humble_loop.ground.surface import Surface


class Toes(NamedTuple):
    """Where batters end: distance ``reach`` (n,) in metres, ``points`` (n, 3), ``cut`` (n,), ``met`` (n,).

    Where ``met`` is false the slope found no ground within the reach allowed, and the toe stands on the
    ground at that reach (NaN level if there is none).
    """

    reach: Floats
    points: Floats
    cut: Bools
    met: Bools


def toes(
    surface: Surface, hinges: Floats, directions: Floats, cut_slope: ArrayLike, fill_slope: ArrayLike, most: Floats
) -> Toes:
    """Meet the ground from ``hinges`` (n, 3) along unit ``directions`` (n, 2).

    ``cut_slope`` and ``fill_slope`` are rises per metre (1:2 is 0.5), of all or of each (n,), ``most`` (n,) the reach allowed in
    metres. Cut when the hinge lies below the ground, else fill; the toe is the first exact meeting.
    """
    n = len(hinges)
    under = surface.levels(hinges[:, :2])
    cut = under > hinges[:, 2]
    slope = np.where(cut, cut_slope, -np.asarray(fill_slope))
    reach, met = most.astype(np.float64).copy(), np.zeros(n, dtype=bool)
    level_there = np.abs(under - hinges[:, 2]) < 1e-9
    reach[level_there], met[level_there] = 0.0, True
    todo = np.flatnonzero(np.isfinite(under) & ~met)
    for limit in (12.0, 48.0, np.inf):
        if todo.size == 0:
            break
        far = np.minimum(most[todo], limit)
        found = _first_meeting(surface, hinges[todo], directions[todo], slope[todo], far)
        hit = np.isfinite(found)
        reach[todo[hit]], met[todo[hit]] = found[hit], True
        todo = todo[~hit & (far < most[todo])]
    xy = hinges[:, :2] + directions * reach[:, None]
    level = np.where(met, hinges[:, 2] + slope * reach, surface.levels(xy))
    return Toes(reach, np.column_stack([xy, level]), cut, met)


def _first_meeting(surface: Surface, hinges: Floats, directions: Floats, slope: Floats, far: Floats) -> Floats:
    c = cross_segments(surface, hinges[:, :2], hinges[:, :2] + directions * far[:, None])
    gap = hinges[c.line, 2] + slope[c.line] * c.along - c.level
    out = np.full(len(hinges), np.nan)
    if len(gap) < 2:
        return out
    before, after = gap[:-1], gap[1:]
    sign = np.where(slope[c.line[:-1]] > 0, -1.0, 1.0)  # in cut the gap starts below zero
    with np.errstate(invalid="ignore"):
        hit = (np.diff(c.line) == 0) & (before * sign >= 0) & (after * sign <= 0) & (before != after)
    at = np.flatnonzero(hit)
    line, first = np.unique(c.line[:-1][at], return_index=True)
    i = at[first]
    share = before[i] / (before[i] - after[i])
    out[line] = c.along[i] + share * (c.along[i + 1] - c.along[i])
    return out
