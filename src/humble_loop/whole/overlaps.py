"""Nothing is built twice: faces that overlap are found, told, and counted once."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import shapely

from humble_loop.engine.query import Engine, gate, query
from humble_loop.ground.cut import without
from humble_loop.ground.surface import Surface
from humble_loop.ground.volume import Volume, volume_between
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.lines.faces import FaceId, finished_mesh
from humble_loop.lines.findings import Finding
from humble_loop.whole.surface import face_tree

_GROUPS = 64  # of faces, by which their neighbours are looked up
_SLIVER = 0.01  # m2 of overlap that is a matter of rounding


@dataclass(frozen=True)
class Footprint:
    """The plan of a face, and how much of the face lies over itself (m2)."""

    plan: shapely.Geometry
    twice: float


@query
def footprint(q: Engine, id: FaceId) -> Footprint:
    """The plan of a face as polygons."""
    surface = finished_mesh(q, id).surface
    if surface.empty:
        return Footprint(shapely.Polygon(), 0.0)
    triangles = shapely.polygons(surface.points[surface.triangles][:, :, :2])
    total = float(surface.areas().sum())
    # Triangles that share edges and overlap nowhere are joined ten times as fast as any others.
    with contextlib.suppress(shapely.errors.GEOSException):
        plan = shapely.coverage_union_all(triangles)
        if plan.is_valid and abs(plan.area - total) < 0.1 * _SLIVER:
            return Footprint(plan, 0.0)
    plan = shapely.union_all(triangles)
    return Footprint(plan, max(0.0, total - float(plan.area)))


@dataclass(frozen=True)
class Overlap:
    """Where a face lies over an earlier one: area in m2 and a place."""

    earlier: FaceId
    area: float
    place: tuple[float, float]


Earlier = Mapping[FaceId, tuple[FaceId, ...]]


@query
def _neighbours(q: Engine) -> tuple[Earlier, ...]:
    """For every face the earlier ones whose boxes meet its own, in their order; shared out among ``_GROUPS``."""
    ids, tree = face_tree(q).ids, face_tree(q).tree
    later, earlier = tree.query(tree.geometries)
    later, earlier = later[earlier < later], earlier[earlier < later]
    order = np.lexsort((earlier, later))
    later, earlier = later[order], earlier[order]
    groups: tuple[dict[FaceId, tuple[FaceId, ...]], ...] = tuple({} for _ in range(_GROUPS))
    cuts = np.flatnonzero(np.diff(later, prepend=-1))
    for own, others in zip(later[cuts].tolist(), np.split(earlier, cuts[1:]) if len(cuts) else (), strict=True):
        groups[_group(ids[own])][ids[own]] = tuple(ids[i] for i in others.tolist())
    return groups


def _group(id: FaceId) -> int:
    return hash(id) % _GROUPS


@gate
def _neighbours_in(q: Engine, group: int) -> Earlier:
    """The share of one group: a change elsewhere stops here for all groups but a few."""
    return _neighbours(q)[group]


@gate
def _before(q: Engine, id: FaceId) -> tuple[FaceId, ...]:
    """A face's earlier neighbours."""
    return _neighbours_in(q, _group(id)).get(id, ())


@query
def overlaps_of(q: Engine, id: FaceId) -> tuple[Overlap, ...]:
    """Where a face lies over faces that come before it: what is built before batters, then by order."""
    earlier = _before(q, id)
    if not earlier:
        return ()
    mine, found = footprint(q, id).plan, []
    for other in earlier:
        theirs = footprint(q, other).plan
        if not shapely.intersects(mine, theirs) or shapely.touches(mine, theirs):
            continue
        shared = shapely.intersection(mine, theirs)
        if shared.area > _SLIVER:
            at = shapely.point_on_surface(shared)
            found.append(Overlap(other, float(shared.area), (float(at.x), float(at.y))))
    return tuple(found)


@query
def counted(q: Engine, id: FaceId) -> Surface:
    """A face's mesh without what earlier faces have there, so that each square metre counts once.

    Where a face lies over itself, whole triangles are left out: there it is counted once to the nearest triangle.
    """
    surface = finished_mesh(q, id).surface
    over = overlaps_of(q, id)
    twice = footprint(q, id).twice > _SLIVER
    if not over and not twice:
        return surface
    taken = shapely.union_all([footprint(q, o.earlier).plan for o in over])
    plans = shapely.polygons(surface.points[surface.triangles][:, :, :2])
    return without(surface, taken, _covered_before(plans) if twice else None)


def _covered_before(plans: np.ndarray) -> np.ndarray:
    """Whether the middle of each triangle lies in one that comes before it."""
    middles = shapely.centroid(plans)
    inner, outer = shapely.STRtree(plans).query(middles, predicate="within")
    out = np.zeros(len(plans), dtype=bool)
    out[inner[outer < inner]] = True
    return out


@query
def counted_volume(q: Engine, id: FaceId) -> Volume:
    """Cut and fill of a face against the current ground, each square metre once."""
    return volume_between(ground_of(q), counted(q, id))


@query
def overlap_findings(q: Engine, id: FaceId) -> tuple[Finding, ...]:
    """Findings on what a face lies over."""
    found = []
    twice = footprint(q, id).twice
    if twice > _SLIVER:
        at = shapely.point_on_surface(footprint(q, id).plan)
        words = f"{twice:.2f} m² of it lie over itself; there it is counted once"
        remedy = "enlarge the radius of the bend there, or narrow the section"
        place = (float(at.x), float(at.y))
        title = finished_mesh(q, id).title
        found.append(Finding("built twice", id.thing, title, words, remedy, twice, 0.0, place=place))
    for o in overlaps_of(q, id):
        a, b = finished_mesh(q, id).title, finished_mesh(q, o.earlier).title
        words = f"{o.area:.2f} m² of it lie over {b}; there it is not counted"
        remedy = "move one of them, or lessen a depth, a radius or a batter's height"
        also = (o.earlier.thing,)
        found.append(Finding("built twice", id.thing, a, words, remedy, o.area, 0.0, place=o.place, also=also))
    return tuple(found)


@query
def ground_left(q: Engine) -> Surface:
    """The current ground where nothing is designed."""
    plans = [footprint(q, id).plan for id in face_tree(q).ids]
    return without(ground_of(q), shapely.union_all(plans)) if plans else ground_of(q)
