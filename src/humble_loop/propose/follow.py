"""Few straight lines within a tube of levels along a line."""

from __future__ import annotations

import numpy as np

from humble_loop.geometry.arrays import Floats


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
