"""Taking away the parts of a surface that something else has."""

from __future__ import annotations

from collections.abc import Generator, Sequence
from dataclasses import dataclass

import numpy as np
import shapely

from humble_loop.geometry.arrays import Ints
from humble_loop.geometry.united import united
from humble_loop.ground.surface import Surface

_SPIKE = 1e-9  # m2 of a rest that is a matter of rounding
_TOLD = 250  # triangles of which it is told at once where they lie: up to 0.2 ms each where much is taken
_TOGETHER = 256  # polygons that are joined in one piece of work
_PIECE = 16  # triangles that are cut at once: each takes up to 2 ms where much is taken


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


Remainder = tuple[Surface, Ints]
"""What is left of a surface; and for each of its triangles which it was or is a part of."""


def joined(plans: list[shapely.Geometry]) -> Generator[None, None, shapely.Geometry]:
    """The union of some polygons, one at least, a few at a time."""
    while len(plans) > 1:
        together = []
        for k in range(0, len(plans), _TOGETHER):
            yield
            together.append(united(plans[k : k + _TOGETHER]))
        plans = together
    return plans[0]


def cutting(surface: Surface, taken: shapely.Geometry, lost: Lost | None = None) -> Generator[None, None, Remainder]:
    """The surface without ``taken`` (polygons in plan, in the surface's coordinates), each triangle also without what it
    lost: worked out in pieces, since it can take long.

    Triangles that are cut keep their planes; new corners stand exactly on the outline of what was taken.
    """
    if taken.is_empty and (lost is None or not len(lost.triangles)):
        return surface, np.arange(len(surface.triangles))
    plans = shapely.polygons(surface.points[surface.triangles][:, :, :2])
    # Most triangles only touch what is taken, or lie in it: that is told far sooner than what is left of one is cut out.
    shapely.prepare(taken)
    touched, gone = np.zeros(len(plans), dtype=bool), np.zeros(len(plans), dtype=bool)
    for some in _in_pieces(np.arange(len(plans)), _TOLD):
        met = some[shapely.intersects(taken, plans[some])]
        yield
        met = met[~shapely.touches(taken, plans[met])]
        touched[met], gone[met] = True, shapely.covers(taken, plans[met])
        yield
    rest = plans.copy()
    rest[gone] = shapely.Polygon()
    for some in _in_pieces(np.flatnonzero(touched & ~gone)):
        yield
        rest[some] = shapely.difference(plans[some], taken)
    if lost is not None and len(lost.triangles):
        order = np.argsort(lost.triangles, kind="stable")
        which, begin, count = np.unique(lost.triangles[order], return_index=True, return_counts=True)
        parts = lost.plans[order]
        for some in _in_pieces(np.arange(len(which))):
            yield
            together = [united(parts[begin[k] : begin[k] + count[k]]) for k in some]
            rest[which[some]] = shapely.difference(rest[which[some]], together)
        touched[which] = True
    changed = np.flatnonzero(touched & ~shapely.equals(rest, plans))
    cut = []
    for some in _in_pieces(changed):
        yield
        pieces, of = shapely.get_parts(shapely.constrained_delaunay_triangles(rest[some]), return_index=True)
        keep = shapely.area(pieces) >= _SPIKE
        cut.append((pieces[keep], some[of[keep]]))
    return _put_together(surface, changed, cut)


def _in_pieces(index: Ints, size: int = _PIECE) -> list[Ints]:
    return [index[k : k + size] for k in range(0, len(index), size)]


def _put_together(surface: Surface, changed: Ints, cut: Sequence[tuple[np.ndarray, Ints]]) -> Remainder:
    """The triangles that are as they were, and the pieces of those that changed, each in the plane of its own."""
    if not cut:
        return surface, np.arange(len(surface.triangles))
    of = np.concatenate([of for _, of in cut])
    xy = shapely.get_coordinates(np.concatenate([pieces for pieces, _ in cut])).reshape(-1, 4, 2)[:, :3]
    planes = surface.planes[of][:, None, :]
    local = xy - surface.origin[:2]
    z = planes[..., 0] * local[..., 0] + planes[..., 1] * local[..., 1] + planes[..., 2]
    extra = np.concatenate([xy, z[..., None]], axis=2).reshape(-1, 3)
    more = np.arange(len(extra)).reshape(-1, 3) + len(surface.points)
    whole = np.setdiff1d(np.arange(len(surface.triangles)), changed)
    triangles = np.concatenate([surface.triangles[whole], more])
    return Surface(np.concatenate([surface.points, extra]), triangles), np.concatenate([whole, of])
