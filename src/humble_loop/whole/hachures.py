"""How the plan shows batters: toes, and hachures from the top of their slopes, as far as they stand."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats
from humble_loop.lines.describe import Stroke, joined_up
from humble_loop.lines.faces import FaceId, Sheet, face, finished_mesh
from humble_loop.whole.batters import hinges
from humble_loop.whole.overlaps import counted, plan_of

_MOST = 500  # hachures of a face; of a longer one every second row has one, and so on
_ON = 1e-3  # metres within which lines are one


@query
def batter_strokes(q: Engine, id: FaceId) -> tuple[Stroke, ...]:
    """Toes of a batter, valleys and ridges among them, and hachures, long and short in turn."""
    made = face(q, id)
    if not isinstance(made, Sheet) or not len(made.points):
        return ()
    some = slice(None, None, 1 + len(made.points) // _MOST)
    hinge, toe = made.points[:, 0], made.points[:, -1]
    standing = counted(q, id)
    if standing is finished_mesh(q, id).surface:
        toes = np.split(toe, np.flatnonzero(~made.joined) + 1)
    else:
        plan = plan_of(standing)
        toe = toe.copy()
        toe[some] = _shortened(hinge[some], toe[some], plan)
        sides = np.flatnonzero(np.diff(np.concatenate([[0], made.joined.astype(int), [0]])) != 0)
        rows = shapely.linestrings(made.points[sides][:, [0, -1], :2])
        rim = plan.boundary.difference(shapely.union_all([hinges(q, id), *rows]).buffer(_ON))
        toes = [shapely.get_coordinates(g) for g in shapely.get_parts(rim)]
    by_role: dict[str, list[Floats]] = {"toe": [t for t in toes if len(t) > 1], "cut hachure": [], "fill hachure": []}
    for k, (h, t) in enumerate(zip(hinge[some], toe[some], strict=True)):
        cut = t[2] > h[2]
        top, bottom = (t, h) if cut else (h, t)
        stroke = np.stack([top, top + (bottom - top) * (0.9 if k % 2 else 0.45)])
        by_role["cut hachure" if cut else "fill hachure"].append(stroke)
    return tuple(Stroke(role, joined_up(runs)) for role, runs in by_role.items())


def _shortened(hinge: Floats, toe: Floats, plan: shapely.Geometry) -> Floats:
    """Ends (n, 3) of rows as far as they lie inside ``plan``, seen from their hinges."""
    lines = shapely.linestrings(np.stack([hinge[:, :2], toe[:, :2]], axis=1))
    inside = shapely.intersection(lines, plan.buffer(_ON))
    share = np.zeros(len(hinge))
    for k, (line, part) in enumerate(zip(lines, inside, strict=True)):
        first = next((g for g in shapely.get_parts(part) if g.distance(shapely.Point(hinge[k, :2])) < _ON), None)
        share[k] = first.length / line.length if first is not None and line.length > _ON else 0.0
    out: Floats = hinge + np.minimum(share, 1.0)[:, None] * (toe - hinge)
    return out
