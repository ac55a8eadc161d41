"""Hollows: where water would stand on a surface that it can leave over its outline only."""

from __future__ import annotations

import heapq
from typing import NamedTuple

import numpy as np

from humble_loop.geometry.arrays import Floats
from humble_loop.ground.surface import Surface


class Hollow(NamedTuple):
    """The lowest point (3,) of a hollow, and how deep (m) water stands over it before it runs over."""

    point: Floats
    depth: float


def hollows(surface: Surface, least: float) -> list[Hollow]:
    """Hollows deeper than ``least`` metres, the deepest first.

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
    rim = np.unique(surface.outline_edges)
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
        found.append(Hollow(surface.points[i], float(depth[i])))
        wet = [i]
        while wet:  # all that stands under the same water is one hollow
            k = wet.pop()
            if not seen[k]:
                seen[k] = True
                wet += [j for j in beside[k] if not seen[j]]
    return found
