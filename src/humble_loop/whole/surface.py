"""The finished surface: all faces together, probed anywhere, each square metre once."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, gate, query
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.lines.faces import FaceId, finished_mesh
from humble_loop.whole.things import all_faces


class Probe(NamedTuple):
    """What is at a place: ground and finished level (NaN where none), the face, and the finished surface's slope.

    ``fall`` is the steepest fall as a positive ratio, ``fall_heading`` its direction in radians from east.
    """

    ground: float
    finished: float
    face: FaceId | None
    title: str
    fall: float
    fall_heading: float


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
    """Faces by place."""

    ids: tuple[FaceId, ...]
    tree: shapely.STRtree

    def near(self, west: float, south: float, east: float, north: float) -> list[FaceId]:
        """Faces whose boxes meet a box, in their order."""
        return [self.ids[i] for i in sorted(self.tree.query(shapely.box(west, south, east, north)).tolist())]


@query
def face_tree(q: Engine) -> FaceTree:
    """Every face that could be made, by place: what is built first, then batters, which give way to all of it."""
    ids, boxes = [], []
    for id in sorted(all_faces(q), key=lambda id: id.gives_way):
        box = q.attempt(face_box, id)
        if box is not None and not isinstance(box, Unsolved):
            ids.append(id)
            boxes.append(box)
    return FaceTree(tuple(ids), shapely.STRtree(shapely.box(*np.array(boxes).reshape(-1, 4).T)))


def probe(q: Engine, easting: float, northing: float, tree: FaceTree | None = None) -> Probe:
    """The ground and the finished surface at a place (from the site's origin).

    ``tree`` may be an earlier one, where answering at once matters more than what was built since.
    """
    at = np.array([[easting, northing]])
    ground = float(ground_of(q).levels(at)[0])
    for id in (tree or face_tree(q)).near(easting, northing, easting, northing):
        made = q.attempt(finished_mesh, id)
        if isinstance(made, Unsolved):
            continue
        level = float(made.surface.levels(at)[0])
        if np.isfinite(level):
            gx, gy = made.surface.slopes(at)[0]
            return Probe(ground, level, id, made.title, float(np.hypot(gx, gy)), float(np.arctan2(-gy, -gx)))
    gx, gy = ground_of(q).slopes(at)[0]
    return Probe(ground, float("nan"), None, "ground", float(np.hypot(gx, gy)), float(np.arctan2(-gy, -gx)))
