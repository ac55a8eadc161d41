"""Of two surfaces over the same plan, which governs where: the lower one in cut, the higher one in fill, to the lines where they meet."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.geometry.arrays import Bools, Floats, Ints
from humble_loop.geometry.united import united
from humble_loop.ground.cut import Lost, Remainder, cutting
from humble_loop.ground.surface import Surface

_SAME = 1e-7  # metres of level within which two surfaces are one
_SLIVER = 1e-8  # m2 of overlap between triangles that is a matter of rounding
_ON = 1e-6  # metres within which things touch
_EDGE = 0.02  # metres of an edge that is one


def planes_of(surface: Surface) -> Floats:
    """Coefficients (m, 3) of level = a x + b y + c in the surface's own coordinates."""
    a, b, c = surface.planes.T
    return np.column_stack([a, b, c - a * surface.origin[0] - b * surface.origin[1]])


def divided(shared: np.ndarray, planes_a: Floats, planes_b: Floats, cut: Bools) -> tuple[np.ndarray, np.ndarray]:
    """The parts of convex polygons (k,) that the first and the second of two planes lose to the other."""
    if not len(shared):
        return shared, shared
    d = np.where(cut, 1.0, -1.0)[:, None] * (planes_a - planes_b)  # positive where the first loses
    middle = shapely.get_coordinates(shapely.centroid(shared))
    at_middle = np.einsum("ij,ij->i", d[:, :2], middle) + d[:, 2]
    corners, owner = shapely.get_coordinates(shared, return_index=True)
    over = np.einsum("ij,ij->i", d[owner, :2], corners) + d[owner, 2]
    first_of = np.flatnonzero(np.diff(owner, prepend=-1))
    most, least = np.maximum.reduceat(over, first_of), np.minimum.reduceat(over, first_of)
    none = np.full(len(shared), shapely.Polygon(), dtype=object)
    loses_a = np.where((least > -_SAME) & (most > _SAME), shared, none)
    loses_b = np.where(most <= _SAME, shared, none)
    both = np.flatnonzero((most > _SAME) & (least <= -_SAME))
    if both.size:
        g = d[both, :2]
        steep = np.hypot(*g.T)
        unit = g / steep[:, None]
        along = np.column_stack([-unit[:, 1], unit[:, 0]])
        on = middle[both] - (at_middle[both] / steep)[:, None] * unit
        w, s, e, n = shapely.bounds(shared[both]).T
        far = 2.0 * np.hypot(e - w, n - s)[:, None]
        a, b = on - far * along, on + far * along
        beyond = shapely.polygons(np.stack([a, b, b + 2 * far * unit, a + 2 * far * unit], axis=1))
        before = shapely.polygons(np.stack([a, b, b - 2 * far * unit, a - 2 * far * unit], axis=1))
        loses_a[both] = shapely.intersection(shared[both], beyond)
        loses_b[both] = shapely.intersection(shared[both], before)
    return loses_a, loses_b


def lost_parts(triangles: Ints, plans: np.ndarray) -> Lost:
    """What triangles lose, without those that lose nothing."""
    some = shapely.area(plans) > 0
    return Lost(triangles[some], plans[some])


def going_on(surface: Surface, begin: shapely.Geometry) -> shapely.Geometry:
    """The plan of what goes on from the lines ``begin`` without a gap, a hair wider than it is."""
    parts = shapely.get_parts(united(shapely.polygons(surface.points[surface.triangles][:, :, :2])))
    near = shapely.distance(parts, begin) < _ON
    while True:
        own = united(parts[near]).buffer(_ON)
        others = np.flatnonzero(~near)
        # Rounding may have parted what adjoins: it shares an edge then, and not a corner only.
        more = others[shapely.area(shapely.intersection(parts[others], own)) > _ON * _EDGE]
        if not more.size:
            return own
        near[more] = True


def ended_at(surface: Surface, cut: Bools, ground: Surface, begin: shapely.Geometry) -> Remainder:
    """A surface without what of it lies beyond the ground: above it where it is a ``cut`` (m,), else below; and of each triangle which it
    was. Of what is left only that stays which goes on from the lines ``begin``.
    """
    plans, others = (shapely.polygons(s.points[s.triangles][:, :, :2]) for s in (surface, ground))
    j, i = shapely.STRtree(plans).query(others, predicate="intersects")
    shared = shapely.intersection(plans[i], others[j])
    some = shapely.area(shared) > _SLIVER
    i, j, shared = i[some], j[some], shared[some]
    loses, _ = divided(shared, planes_of(surface)[i], planes_of(ground)[j], cut[i])
    work = cutting(surface, shapely.Polygon(), lost_parts(i, loses))
    while True:
        try:
            next(work)
        except StopIteration as end:
            rest: Surface
            owner: Ints
            rest, owner = end.value
            break
    own = going_on(rest, begin)
    middle = rest.points[rest.triangles].mean(axis=1)
    keep = shapely.contains_xy(own, middle[:, 0], middle[:, 1])
    return Surface(rest.points, rest.triangles[keep]), owner[keep]
