"""The finished surface: all faces together, probed anywhere, each square metre once."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.lines.faces import FaceId, finished_mesh
from humble_loop.whole.overlaps import standing_surface
from humble_loop.whole.places import FaceTree, face_tree


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


def probe(q: Engine, easting: float, northing: float, tree: FaceTree | None = None) -> Probe:
    """The ground and the finished surface at a place (from the site's origin).

    ``tree`` may be an earlier one, where answering at once matters more than what was built since.
    """
    at = np.array([[easting, northing]])
    ground = float(ground_of(q).levels(at)[0])
    for id in (tree or face_tree(q)).near(easting, northing, easting, northing):
        surface = q.attempt(standing_surface, id)
        if isinstance(surface, Unsolved):
            continue
        level = float(surface.levels(at)[0])
        if np.isfinite(level):
            gx, gy = surface.slopes(at)[0]
            return Probe(
                ground, level, id, finished_mesh(q, id).title, float(np.hypot(gx, gy)), float(np.arctan2(-gy, -gx))
            )
    gx, gy = ground_of(q).slopes(at)[0]
    return Probe(ground, float("nan"), None, "ground", float(np.hypot(gx, gy)), float(np.arctan2(-gy, -gx)))
