"""Which thing is at a place of the plan."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.desk.drawing import outline
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.kinds.street.plan import streets_near
from humble_loop.lines.describe import Place
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.whole.places import face_tree
from humble_loop.whole.things import thing_of, things_of


def thing_at(q: Engine, place: Place, reach: float) -> ThingId | None:
    """The nearest thing within ``reach`` metres: lines before areas, so that a street is taken before the lot beside it, and what is
    designed before the lines that were surveyed there.

    Streets and faces are found by place; kinds that have no faces are asked thing by thing.
    """
    near = {ThingId("street", s) for s in streets_near(q, place, reach)}
    e, n = place
    near |= {thing_of(q, id) for id in face_tree(q).near(e - reach, n - reach, e + reach, n + reach)}
    near |= set(_without_faces(q).near(place, reach))
    best, nearest, inside = None, reach, None
    beneath, closest = None, reach
    for kind in kinds():
        for thing in sorted((t for t in near if t.kind == kind.key), key=lambda t: t.id):
            try:
                distance = kind_of(thing.kind).at(q, thing, place)
            except Unsolved:
                continue
            if kind.beneath:
                if distance < closest:
                    beneath, closest = thing, distance
            elif distance == 0.0:
                inside = inside or thing
            elif distance < nearest:
                best, nearest = thing, distance
    return best or beneath or inside


class _Loose:
    """Things that have lines in plan but no faces, by place."""

    def __init__(self, ids: list[ThingId], boxes: list[tuple[float, float, float, float]]) -> None:
        self._ids = ids
        self._tree = shapely.STRtree(shapely.box(*np.array(boxes).reshape(-1, 4).T))

    def near(self, place: Place, reach: float) -> list[ThingId]:
        """Those whose boxes come within ``reach`` metres of a place."""
        e, n = place
        return [
            self._ids[i] for i in self._tree.query(shapely.box(e - reach, n - reach, e + reach, n + reach)).tolist()
        ]


@query
def _without_faces(q: Engine) -> _Loose:
    ids, found = [], []
    for kind in kinds():
        if kind.key in ("ground", "street", "lot", "junction", "turning_head", "knuckle", "island"):
            continue
        for thing in things_of(q, kind.key):
            made = q.attempt(outline, thing)
            points = [s.points for s in made.strokes] if not isinstance(made, Unsolved) else []
            p = np.concatenate(points) if points else np.empty((0, 2))
            p = p[np.isfinite(p[:, 0])]
            if len(p):
                (w, s), (e, n) = p.min(axis=0), p.max(axis=0)
                ids.append(thing)
                found.append((float(w), float(s), float(e), float(n)))
    return _Loose(ids, found)
