"""Taking away the part of a surface that something else covers."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.geometry.arrays import Bools, Floats
from humble_loop.ground.surface import Surface


def without(surface: Surface, taken: shapely.Geometry, drop: Bools | None = None) -> Surface:
    """The surface outside ``taken`` (polygons in plan, in the surface's coordinates), and without triangles ``drop`` (m,).

    Triangles that are cut keep their planes; new corners stand exactly on the outline of what was taken.
    """
    plans = shapely.polygons(surface.points[surface.triangles][:, :, :2])
    shapely.prepare(taken)
    touched = shapely.intersects(taken, plans)
    rest = plans.copy()
    rest[touched] = shapely.difference(plans[touched], taken)
    changed = touched & ~shapely.equals(rest, plans)
    gone = np.zeros(len(plans), dtype=bool) if drop is None else drop
    points: list[Floats] = []
    for i in np.flatnonzero(changed & ~gone):
        a, b, c = surface.planes[i]
        for piece in shapely.get_parts(shapely.constrained_delaunay_triangles(rest[i])):
            xy = shapely.get_coordinates(piece)[:3]
            z = a * (xy[:, 0] - surface.origin[0]) + b * (xy[:, 1] - surface.origin[1]) + c
            points.append(np.column_stack([xy, z]))
    extra = np.concatenate(points) if points else np.empty((0, 3))
    more = np.arange(len(extra)).reshape(-1, 3) + len(surface.points)
    kept = surface.triangles[~changed & ~gone]
    return Surface(np.concatenate([surface.points, extra]), np.concatenate([kept, more]))
