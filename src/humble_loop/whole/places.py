"""Faces by place: their boxes, which are near which, and what each covers."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import shapely

from humble_loop.engine.in_pieces import InPieces, Pieces
from humble_loop.engine.query import Engine, Unsolved, gate, query
from humble_loop.geometry.arrays import Floats
from humble_loop.ground.cut import joined
from humble_loop.ground.surface import Surface
from humble_loop.lines.faces import FaceId, finished_mesh, rim
from humble_loop.whole.things import all_faces

_GROUPS = 64  # of faces, by which their neighbours are looked up
_ROUNDING = 0.001  # m2 by which triangles that overlap nowhere may seem to


@gate
def face_box(q: Engine, id: FaceId) -> tuple[float, float, float, float] | None:
    """West, south, east, north of a face; None where it is empty. Rounded outwards to whole metres, so that small
    changes leave it alone.
    """
    surface = finished_mesh(q, id).surface
    if surface.empty:
        return None
    w, s, e, n = surface.bounds
    return (float(np.floor(w)), float(np.floor(s)), float(np.ceil(e)), float(np.ceil(n)))


@dataclass(frozen=True)
class FaceTree:
    """Faces by place: their boxes, which are near which, and what each covers."""

    ids: tuple[FaceId, ...]
    tree: shapely.STRtree

    def near(self, west: float, south: float, east: float, north: float) -> list[FaceId]:
        """Faces whose boxes meet a box, in their order."""
        return [self.ids[i] for i in sorted(self.tree.query(shapely.box(west, south, east, north)).tolist())]


@query
def face_tree(q: Engine) -> FaceTree:
    """Every face that could be made, by place: what stands in the place of others, what is built, then batters, which give way to all of it."""
    ids, boxes = [], []
    for id in sorted(all_faces(q), key=lambda id: (not id.takes_over, id.gives_way)):
        box = q.attempt(face_box, id)
        if box is not None and not isinstance(box, Unsolved):
            ids.append(id)
            boxes.append(box)
    return FaceTree(tuple(ids), shapely.STRtree(shapely.box(*np.array(boxes).reshape(-1, 4).T)))


class Near(NamedTuple):
    """Faces whose boxes meet a face's own: those before it, and where it is a batter those after it, in their order."""

    before: tuple[FaceId, ...] = ()
    after: tuple[FaceId, ...] = ()


@query
def _neighbours(q: Engine) -> tuple[Mapping[FaceId, Near], ...]:
    """For every face those near it, where there are any; shared out among ``_GROUPS``."""
    ids, tree = face_tree(q).ids, face_tree(q).tree
    own, others = tree.query(tree.geometries)
    keep = (others < own) | (others > own) & np.array([i.gives_way for i in ids], dtype=bool)[own]
    own, others = own[keep], others[keep]
    order = np.lexsort((others, own))
    own, others = own[order], others[order]
    groups: tuple[dict[FaceId, Near], ...] = tuple({} for _ in range(_GROUPS))
    cuts = np.flatnonzero(np.diff(own, prepend=-1))
    for k, those in zip(own[cuts].tolist(), np.split(others, cuts[1:]) if len(cuts) else (), strict=True):
        before, after = those[those < k].tolist(), those[those > k].tolist()
        groups[_group(ids[k])][ids[k]] = Near(tuple(ids[i] for i in before), tuple(ids[i] for i in after))
    return groups


def _group(id: FaceId) -> int:
    return hash(id) % _GROUPS


@gate
def _neighbours_in(q: Engine, group: int) -> Mapping[FaceId, Near]:
    """The share of one group: a change elsewhere stops here for all groups but a few."""
    return _neighbours(q)[group]


@gate
def near(q: Engine, id: FaceId) -> Near:
    """A face's neighbours."""
    return _neighbours_in(q, _group(id)).get(id, Near())


@dataclass(frozen=True)
class Footprint:
    """The plan of a face, and how much of the face lies over itself (m2)."""

    plan: shapely.Geometry
    twice: float


@query
def footprint(q: Engine, id: FaceId) -> Footprint:
    """The plan of a face as polygons."""
    return _plan(q, id).result(q)


@query
def _plan(q: Engine, id: FaceId) -> InPieces[Footprint]:
    surface = finished_mesh(q, id).surface
    return InPieces(_joined(surface, None if surface.empty else rim(q, id)))


def _joined(surface: Surface, outline: Floats | None) -> Pieces[Footprint]:
    """All triangles as polygons. What the outline encloses is all of it, where it is sound and as large; else triangles that
    share edges and overlap nowhere are joined ten times as fast as any others.
    """
    if surface.empty:
        return Footprint(shapely.Polygon(), 0.0)
    total = float(surface.areas().sum())
    if outline is not None and _is_all(plan := shapely.Polygon(outline), total):
        return Footprint(plan, 0.0)
    triangles = shapely.polygons(surface.points[surface.triangles][:, :, :2])
    with contextlib.suppress(shapely.errors.GEOSException):
        plan = shapely.coverage_union_all(triangles)
        if _is_all(plan, total):
            return Footprint(plan, 0.0)
    middles = shapely.get_coordinates(shapely.centroid(triangles))
    order = np.argsort(middles[:, int(np.argmax(np.ptp(middles, axis=0)))])  # so that neighbours join
    plan = yield from joined(list(triangles[order]))
    return Footprint(plan, max(0.0, total - float(plan.area)))


def _is_all(plan: shapely.Geometry, total: float) -> bool:
    return bool(plan.is_valid) and abs(plan.area - total) < _ROUNDING
