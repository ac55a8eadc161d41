"""The smoothest line between two edges: what a draughtsman's spline does that is held off the edges by pins."""

from __future__ import annotations

import numpy as np

from humble_loop.geometry.arrays import Floats


def smoothest(centres: Floats, across: Floats, low: Floats, high: Floats) -> Floats:
    """Places (n, 2) at ``centres`` (n, 2) plus between ``low`` and ``high`` (n,) metres along ``across`` (n, 2) that bend least.

    The sum of squares of second differences is least; places are to stand about evenly, so that these are curvatures. Linear least
    squares within bounds: SciPy's solver within a trust region.
    """
    from scipy.optimize import lsq_linear  # takes long to load, and is seldom wanted

    n, free = len(centres), high - low > _NARROW
    second = np.zeros((n - 2, n))
    rows = np.arange(n - 2)
    second[rows, rows], second[rows, rows + 1], second[rows, rows + 2] = 1.0, -2.0, 1.0
    at = 0.5 * (low + high)
    if free.any():
        pinned = centres + np.where(free, 0.0, at)[:, None] * across
        matrix = np.concatenate([second * across[:, 0], second * across[:, 1]])[:, free]
        wanted = -np.concatenate([second @ pinned[:, 0], second @ pinned[:, 1]])
        at[free] = lsq_linear(matrix, wanted, (low[free], high[free]), method="trf", tol=_EXACT).x
    return np.asarray(centres + at[:, None] * across)


_EXACT = 1e-9  # to which its sum of squares is least
_NARROW = 1e-3  # metres between the edges within which nothing is left to choose


def radii(places: Floats) -> Floats:
    """The radius (n,) of the circle through each place and its neighbours, infinite where they are in a row and at both ends."""
    a, b = np.diff(places[:-1], axis=0), np.diff(places[1:], axis=0)
    c = places[2:] - places[:-2]
    cross = np.abs(a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0])
    product = np.hypot(*a.T) * np.hypot(*b.T) * np.hypot(*c.T)
    found = np.full(len(places), np.inf)
    bent = cross > 1e-12
    found[1:-1][bent] = product[bent] / (2.0 * cross[bent])
    return found


def evenly(places: Floats, every: float) -> Floats:
    """A line through places (n, 2) as places about ``every`` metres apart along it, its ends among them."""
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(places, axis=0).T))])
    at = np.linspace(0.0, run[-1], max(3, int(np.ceil(run[-1] / every)) + 1))
    return np.column_stack([np.interp(at, run, places[:, k]) for k in (0, 1)])


def smoothed(places: Floats, times: int) -> Floats:
    """A line with its corners taken off: each place half way to the middle of its neighbours, so many times; its ends stay."""
    found = places.copy()
    for _ in range(times):
        found[1:-1] = 0.5 * found[1:-1] + 0.25 * (found[:-2] + found[2:])
    return found


def normals(places: Floats) -> Floats:
    """Unit vectors (n, 2) to the left of a line at its places."""
    along = np.gradient(places, axis=0)
    along = along / np.hypot(*along.T)[:, None]
    return np.column_stack([-along[:, 1], along[:, 0]])
