"""The finished surface: all faces together as one."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Bools, Ints
from humble_loop.ground.merge import same_places, stitched
from humble_loop.ground.surface import Surface
from humble_loop.lines.faces import FaceId
from humble_loop.whole.overlaps import counted
from humble_loop.whole.things import all_faces

SAME = 1e-5  # metres within which points of neighbouring faces are one
_SPECK = 1e-6  # m2 of surface, joined to nothing, that cutting left over by rounding


@dataclass(frozen=True)
class Whole:
    """All faces as one surface, each square metre once, their shared points merged; ``face_of`` (m,) is each triangle's place in ``faces``."""

    surface: Surface
    faces: tuple[FaceId, ...]
    face_of: Ints


@query
def whole_surface(q: Engine) -> Whole:
    """All faces that could be made as one surface: where some lie over one another, the first of them only."""
    made = [(id, s) for id in all_faces(q) if not isinstance(s := q.attempt(counted, id), Unsolved) and not s.empty]
    if not made:
        return Whole(Surface(np.empty((0, 3)), np.empty((0, 3), dtype=np.int64)), (), np.empty(0, dtype=np.int64))
    points = np.concatenate([s.points for _, s in made])
    shift = np.cumsum([0, *(len(s.points) for _, s in made[:-1])])
    triangles = np.concatenate([s.triangles + k for (_, s), k in zip(made, shift)])
    owner = np.repeat(np.arange(len(made)), [len(s.triangles) for _, s in made])
    first, place = same_places(points, 2 * SAME)
    merged = place[triangles]
    keep = (merged[:, 0] != merged[:, 1]) & (merged[:, 1] != merged[:, 2]) & (merged[:, 0] != merged[:, 2])
    triangles, was = stitched(points[first][:, :2], merged[keep], SAME)
    surface, owner = Surface(points[first], triangles), owner[keep][was]
    stays = ~_specks(surface)
    return Whole(Surface(surface.points, triangles[stays]), tuple(id for id, _ in made), owner[stays])


def _specks(surface: Surface) -> Bools:
    """Which triangles (m,) belong to a part that shares no edge with others and is too small to be meant."""
    from scipy.sparse import coo_array  # takes long to load, and is seldom wanted
    from scipy.sparse.csgraph import connected_components

    t, n, m = surface.triangles, len(surface.points), len(surface.triangles)
    ends = np.sort(np.concatenate([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]]), axis=1)
    edges, edge = np.unique(ends[:, 0] * n + ends[:, 1], return_inverse=True)
    has = (np.tile(np.arange(m), 3), m + edge.ravel())  # a graph of triangles and, after them, their edges
    size = m + len(edges)
    part = connected_components(coo_array((np.ones(3 * m), has), shape=(size, size)), directed=False)[1][:m]
    speck: Bools = np.bincount(part, surface.areas())[part] < _SPECK
    return speck
