"""Taking away the parts of a surface that something else has."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import shapely

from humble_loop.geometry.arrays import Floats, Ints
from humble_loop.ground.surface import Surface

_SPIKE = 1e-9  # m2 of a rest that is a matter of rounding


@dataclass(frozen=True)
class Lost:
    """What triangles of a surface lose to something else: which triangles (k,), and polygons (k,) in plan."""

    triangles: Ints
    plans: np.ndarray

    @staticmethod
    def all(parts: Sequence[Lost]) -> Lost:
        """Several together."""
        none = Lost(np.empty(0, dtype=np.int64), np.empty(0, dtype=object))
        every = (none, *parts)
        return Lost(np.concatenate([p.triangles for p in every]), np.concatenate([p.plans for p in every]))


def without(surface: Surface, taken: shapely.Geometry, lost: Lost | None = None) -> tuple[Surface, Ints]:
    """The surface outside ``taken`` (polygons in plan, in the surface's coordinates), each triangle also without what it lost.

    And for each of its triangles which it was or is a part of. Triangles that are cut keep their planes; new corners stand exactly on the outline of what was taken.
    """
    plans = shapely.polygons(surface.points[surface.triangles][:, :, :2])
    shapely.prepare(taken)
    touched = shapely.intersects(taken, plans)
    rest = plans.copy()
    rest[touched] = shapely.difference(plans[touched], taken)
    if lost is not None and len(lost.triangles):
        order = np.argsort(lost.triangles, kind="stable")
        which, begin = np.unique(lost.triangles[order], return_index=True)
        for i, parts in zip(which.tolist(), np.split(lost.plans[order], begin[1:]), strict=True):
            rest[i] = shapely.difference(rest[i], shapely.union_all(parts))
            touched[i] = True
    changed = touched & ~shapely.equals(rest, plans)
    points: list[Floats] = []
    owner = [np.flatnonzero(~changed)]
    for i in np.flatnonzero(changed):
        a, b, c = surface.planes[i]
        for piece in shapely.get_parts(shapely.constrained_delaunay_triangles(rest[i])):
            if piece.area < _SPIKE:
                continue
            xy = shapely.get_coordinates(piece)[:3]
            z = a * (xy[:, 0] - surface.origin[0]) + b * (xy[:, 1] - surface.origin[1]) + c
            points.append(np.column_stack([xy, z]))
            owner.append(np.array([i]))
    extra = np.concatenate(points) if points else np.empty((0, 3))
    more = np.arange(len(extra)).reshape(-1, 3) + len(surface.points)
    triangles = np.concatenate([surface.triangles[~changed], more])
    return Surface(np.concatenate([surface.points, extra]), triangles), np.concatenate(owner)
