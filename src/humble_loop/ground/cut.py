"""Taking away the parts of a surface that something else has."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import shapely

from humble_loop.geometry.arrays import Ints
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
    # Most triangles only touch what is taken, or lie in it: that is told far sooner than what is left of one is cut out.
    shapely.prepare(taken)
    touched = shapely.intersects(taken, plans) & ~shapely.touches(taken, plans)
    gone = touched & shapely.covers(taken, plans)
    rest = plans.copy()
    rest[gone] = shapely.Polygon()
    rest[touched & ~gone] = shapely.difference(plans[touched & ~gone], taken)
    if lost is not None and len(lost.triangles):
        order = np.argsort(lost.triangles, kind="stable")
        which, begin, count = np.unique(lost.triangles[order], return_index=True, return_counts=True)
        parts = lost.plans[order]
        together = parts[begin]
        for k in np.flatnonzero(count > 1):
            together[k] = shapely.union_all(parts[begin[k] : begin[k] + count[k]])
        rest[which] = shapely.difference(rest[which], together)
        touched[which] = True
    changed = np.flatnonzero(touched & ~shapely.equals(rest, plans))
    pieces, of = shapely.get_parts(shapely.constrained_delaunay_triangles(rest[changed]), return_index=True)
    keep = shapely.area(pieces) >= _SPIKE
    pieces, of = pieces[keep], changed[of[keep]]
    xy = shapely.get_coordinates(pieces).reshape(-1, 4, 2)[:, :3]
    planes = surface.planes[of][:, None, :]
    local = xy - surface.origin[:2]
    z = planes[..., 0] * local[..., 0] + planes[..., 1] * local[..., 1] + planes[..., 2]
    extra = np.concatenate([xy, z[..., None]], axis=2).reshape(-1, 3)
    more = np.arange(len(extra)).reshape(-1, 3) + len(surface.points)
    whole = np.setdiff1d(np.arange(len(plans)), changed)
    triangles = np.concatenate([surface.triangles[whole], more])
    return Surface(np.concatenate([surface.points, extra]), triangles), np.concatenate([whole, of])
