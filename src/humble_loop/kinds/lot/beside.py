"""Paths on the ground, and along the outlines of what was there first."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from humble_loop.geometry.arrays import Floats
from humble_loop.ground.drape import cross_segments
from humble_loop.ground.surface import Surface

_ON = 1e-3  # metres from an outline within which a path lies on it
_SAME = 1e-5  # metres within which points are one


def laid(points: Floats, ground: Surface, outlines: Sequence[Floats] = ()) -> tuple[Floats, bool]:
    """A path (n, 2) with levels, as (k, 3), and whether it lies along an outline anywhere.

    Along the edges of closed outlines (each (m, 3)) it has their levels and a point wherever they have one, so that both
    share their edges; elsewhere it lies on the ground, with a point at every triangle edge.
    """
    edges = np.concatenate([np.empty((0, 2, 3)), *(np.stack([o, np.roll(o, -1, axis=0)], axis=1) for o in outlines)])
    pieces, touched = [], False
    for a, b in zip(points[:-1], points[1:], strict=True):
        length = float(np.hypot(*(b - a)))
        if length < _SAME:
            continue
        unit = (b - a) / length
        shared = _shared(edges, a, unit, length)
        touched = touched or len(shared) > 0
        c = cross_segments(ground, a[None], b[None])
        known = np.isfinite(c.level)
        t, z = c.along[known], c.level[known]
        at_ends = ground.levels(np.array([a, b]))
        t, z = np.concatenate([[0.0], t, [length]]), np.concatenate([at_ends[:1], z, at_ends[1:]])
        for (u, v), (p, r) in shared:
            inside = (t > u - _ON) & (t < v + _ON)
            u, v = max(u, 0.0), min(v, length)
            t, z = np.concatenate([t[~inside], [u, v]]), np.concatenate([z[~inside], [p, r]])
        order = np.argsort(t, kind="stable")
        t, z = t[order], z[order]
        keep = np.concatenate([[True], np.diff(t) > _SAME])
        pieces.append(np.column_stack([a + t[keep, None] * unit, z[keep]]))
    joined = [p if k == 0 else p[1:] for k, p in enumerate(pieces)]
    return np.concatenate(joined), touched


def _shared(edges: Floats, a: Floats, unit: Floats, length: float) -> list[tuple[Floats, Floats]]:
    """Stretches of a straight path from ``a`` that edges (m, 2, 3) lie along: distances and levels where each begins and ends."""
    x, y = (edges[:, :, :2] - a) @ unit, (edges[:, :, :2] - a) @ np.array([-unit[1], unit[0]])
    low, high = x.min(axis=1), x.max(axis=1)
    on = (np.abs(y).max(axis=1) < _ON) & (high > _ON) & (low < length - _ON) & (high - low > _ON)
    found = []
    for along, levels in zip(x[on], edges[on, :, 2], strict=True):
        order = np.argsort(along)
        within = np.clip(along[order], 0.0, length)
        found.append((along[order], np.interp(within, along[order], levels[order])))
    return found
