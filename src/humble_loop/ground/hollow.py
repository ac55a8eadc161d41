"""Hollows: where water would stand on a surface that it can leave over its outline, or over a part of that, only."""

from __future__ import annotations

import heapq
from typing import NamedTuple

import numpy as np

from humble_loop.geometry.arrays import Floats, Ints
from humble_loop.ground.surface import Surface


class Hollow(NamedTuple):
    """The lowest point (3,) of a hollow, how deep (m) water stands over it before it runs over, and how far it spreads (m2)."""

    point: Floats
    depth: float
    area: float


def hollows(surface: Surface, least: float, outlets: Ints | None = None) -> list[Hollow]:
    """Hollows deeper than ``least`` metres, the deepest first. Water leaves over ``outlets`` (points of the surface), or over all of its
    outline.

    Water rises from the outline inwards, always over the lowest edge next to what is wet (Barnes, Lehman and Mulla's
    priority flood, 2014, on the edges of the triangles): what it finds lower than that level lies in a hollow.
    """
    if surface.empty:
        return []
    z = surface.points[:, 2]
    beside: list[list[int]] = [[] for _ in z]
    for a, b in surface.edges.tolist():
        beside[a].append(b)
        beside[b].append(a)
    filled = np.full(len(z), np.inf)
    rim = np.unique(surface.outline_edges) if outlets is None else outlets
    filled[rim] = z[rim]
    todo = [(float(z[i]), int(i)) for i in rim]
    heapq.heapify(todo)
    while todo:
        level, i = heapq.heappop(todo)
        for j in beside[i]:
            if filled[j] == np.inf:
                filled[j] = max(level, z[j])
                heapq.heappush(todo, (float(filled[j]), j))
    depth = np.where(np.isfinite(filled), filled - z, 0.0)
    found, seen = [], depth <= least
    for i in np.argsort(-depth).tolist():
        if seen[i]:
            continue
        wet, under = [i], set[int]()
        while wet:  # all that stands under the same water is one hollow
            k = wet.pop()
            if not seen[k]:
                seen[k] = True
                under.add(k)
                wet += [j for j in beside[k] if not seen[j]]
        area = _spread(surface, np.array(sorted(under)), float(z[i] + depth[i]))
        found.append(Hollow(surface.points[i], float(depth[i]), area))
    return found


def _spread(surface: Surface, under: Ints, level: float) -> float:
    """The area (m2) of the triangles at some points that lies below a level: of each, a part that its corners' depths tell."""
    touched = np.isin(surface.triangles, under).any(axis=1)
    corners = surface.triangles[touched]
    below = np.sort(level - surface.points[corners, 2], axis=1)[:, ::-1]  # the deepest corner first
    a, b, c = below.T
    with np.errstate(divide="ignore", invalid="ignore"):
        one = a * a / ((a - b) * (a - c))  # only its deepest corner is under water
        two = 1.0 - c * c / ((a - c) * (b - c))  # all but its highest
    share = np.where(c >= 0.0, 1.0, np.where(b >= 0.0, two, np.where(a > 0.0, one, 0.0)))
    return float(np.sum(surface.areas()[touched] * share))
