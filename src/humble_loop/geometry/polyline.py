"""Lines of points in space."""

from __future__ import annotations

import numpy as np

from humble_loop.geometry.arrays import Floats


def thinned(points: Floats, within: float) -> Floats:
    """The points (n, k) without those that lie within ``within`` metres of the line through the others.

    Douglas and Peucker, 1973: a stretch keeps its farthest point from the chord, and each half is looked at again.
    """
    keep = np.zeros(len(points), dtype=bool)
    keep[[0, -1]] = True
    todo = [(0, len(points) - 1)]
    while todo:
        a, b = todo.pop()
        if b - a < 2:
            continue
        chord = points[b] - points[a]
        square = float(chord @ chord)
        d = points[a + 1 : b] - points[a]
        t = np.clip(d @ chord / square, 0.0, 1.0) if square > 0 else np.zeros(len(d))
        away = ((d - t[:, None] * chord) ** 2).sum(axis=1)
        i = int(np.argmax(away))
        if away[i] > within**2:
            keep[a + 1 + i] = True
            todo += [(a, a + 1 + i), (a + 1 + i, b)]
    return points[keep]
