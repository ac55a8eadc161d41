"""Lines of points in space."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from humble_loop.geometry.arrays import Floats, clipped


def thinned(lines: Sequence[Floats], within: float) -> list[Floats]:
    """Lines of points (n, k), each without those that lie within ``within`` metres of the line through its others.

    Douglas and Peucker, 1973: a stretch keeps its farthest point from the chord, and each half is looked at again. All
    stretches of all lines are looked at together, as arrays.
    """
    if not lines:
        return []
    p = np.concatenate(lines)
    ends = np.cumsum([len(line) for line in lines])
    a, b = np.concatenate([[0], ends[:-1]]), ends - 1
    keep = np.zeros(len(p), dtype=bool)
    keep[a] = keep[b] = True
    while (inner := b - a > 1).any():
        a, b = a[inner], b[inner]
        count = b - a - 1
        first = np.cumsum(count) - count
        of = np.repeat(np.arange(len(a)), count)
        i = np.arange(len(of)) + (a + 1 - first)[of]
        chord, d = p[b] - p[a], p[i] - p[a][of]
        square = (chord**2).sum(axis=1)
        t = (d * chord[of]).sum(axis=1) / np.where(square > 0, square, np.inf)[of]
        away = ((d - clipped(t, 0.0, 1.0)[:, None] * chord[of]) ** 2).sum(axis=1)
        most = np.maximum.reduceat(away, first)
        at = np.flatnonzero(away == most[of])
        far = i[at[np.unique(of[at], return_index=True)[1]]]
        split = most > within**2
        a, far, b = a[split], far[split], b[split]
        keep[far] = True
        a, b = np.concatenate([a, far]), np.concatenate([far, b])
    return [line[k] for line, k in zip(lines, np.split(keep, ends[:-1]))]
