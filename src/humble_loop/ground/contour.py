"""Contours of a surface."""

from __future__ import annotations

import numpy as np

from humble_loop.geometry.arrays import Floats, Ints
from humble_loop.ground.surface import Surface

MOST = 4_000_000  # pieces of contours: what a view can hold and a file is opened with


def contour_segments(
    surface: Surface, interval: float, *, base: float = 0.0, most: int = MOST
) -> tuple[Floats, Floats]:
    """Contour pieces of every triangle: segments (k, 2, 2) and their levels (k,).

    Levels are ``base`` plus whole multiples of ``interval`` metres. A level that meets a vertex exactly is
    taken as just above it, so that flat triangles make no lines and lines never break. Raises ValueError
    unless the interval is more than zero, and where there would be more pieces than ``most``.
    """
    segments, levels, _ = _cut(surface, interval, base, most)
    return segments, levels


def contour_lines(surface: Surface, interval: float, *, base: float = 0.0) -> list[tuple[float, Floats]]:
    """Contours joined into lines: (level, points (n, 2)) each; closed ones repeat their first point."""
    segments, levels, ids = _cut(surface, interval, base)
    lines: list[tuple[float, Floats]] = []
    for level in np.unique(levels):
        mine = np.flatnonzero(levels == level)
        lines.extend((float(level), line) for line in _join(segments[mine], ids[mine]))
    return lines


def _cut(surface: Surface, interval: float, base: float, most: int = MOST) -> tuple[Floats, Floats, Ints]:
    if not interval > 0:
        raise ValueError("a contour interval must be more than zero")
    if surface.empty:
        return np.empty((0, 2, 2)), np.empty(0), np.empty((0, 2), dtype=np.int64)
    p, t = surface.points, surface.triangles
    z = (p[:, 2] - base) / interval
    zt = z[t]
    first = np.floor(zt.min(axis=1)).astype(np.int64) + 1
    last = np.floor(zt.max(axis=1)).astype(np.int64)
    count = np.maximum(last - first + 1, 0)
    if (pieces := float(count.sum(dtype=np.float64))) > most:
        needed = interval * pieces / most
        raise ValueError(f"contours every {interval:g} m would be {pieces:.1e} pieces; take {needed:.2g} m or more")
    owner = np.repeat(np.arange(len(t)), count)
    k = np.arange(len(owner)) - np.repeat(np.cumsum(count) - count, count) + first[owner]
    # Rank the corners: every level cuts the long side (low to high) and one of the two others.
    order = np.argsort(zt, axis=1, kind="stable")
    sorted_corner = np.take_along_axis(t, order, axis=1)[owner]
    low, middle, high = (sorted_corner[:, i] for i in range(3))
    above = z[middle] < k
    a = np.where(above, middle, low)
    b = np.where(above, high, middle)

    def point(u: Ints, v: Ints) -> Floats:
        # Always from the lower index, so that both triangles of an edge compute the very same point.
        i, j = np.minimum(u, v), np.maximum(u, v)
        share = (k - z[i]) / (z[j] - z[i])
        return np.asarray(p[i, :2] + share[:, None] * (p[j, :2] - p[i, :2]))

    def edge(u: Ints, v: Ints) -> Ints:
        return np.minimum(u, v) * len(p) + np.maximum(u, v)

    segments = np.stack([point(low, high), point(a, b)], axis=1)
    return segments, k * interval + base, np.stack([edge(low, high), edge(a, b)], axis=1)


def _join(segments: Floats, ids: Ints) -> list[Floats]:
    pairs: list[tuple[int, int]] = [(u, v) for u, v in ids.tolist()]
    ends: dict[int, list[int]] = {}
    for i, (u, v) in enumerate(pairs):
        ends.setdefault(u, []).append(i)
        ends.setdefault(v, []).append(i)
    points = segments.reshape(-1, 2)
    used = bytearray(len(pairs))
    open_first = [i for i, (u, v) in enumerate(pairs) if len(ends[u]) == 1 or len(ends[v]) == 1]
    lines = []
    for start in [*open_first, *range(len(pairs))]:
        if used[start]:
            continue
        used[start] = True
        u, v = pairs[start]
        turned = len(ends[v]) == 1 and len(ends[u]) > 1
        line = [2 * start + turned, 2 * start + 1 - turned]
        at = u if turned else v
        while following := [i for i in ends[at] if not used[i]]:
            i = following[0]
            used[i] = True
            side = int(pairs[i][0] == at)
            at = pairs[i][side]
            line.append(2 * i + side)
        lines.append(points[line])
    return lines
