"""How the plan shows batters: toes, and hachures from the top of their slopes, as far as they stand."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.engine.in_pieces import InPieces, Pieces
from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats
from humble_loop.ground.surface import Surface
from humble_loop.lines.describe import Stroke, joined_up
from humble_loop.lines.faces import FaceId, Sheet, face, finished_mesh
from humble_loop.whole.overlaps import counted, plan_of

_MOST = 500  # hachures of a face; of a longer one every second row has one, and so on
_PIECE = 25  # hachures that are cut at once
_ON = 1e-3  # metres within which lines are one


@query
def batter_strokes(q: Engine, id: FaceId) -> tuple[Stroke, ...]:
    """Toes of a batter, valleys and ridges among them, and hachures, long and short in turn."""
    made = face(q, id)
    if not isinstance(made, Sheet) or not len(made.points):
        return ()
    return _drawing(q, id).result(q)


@query
def _drawing(q: Engine, id: FaceId) -> InPieces[tuple[Stroke, ...]]:
    made, standing = face(q, id), counted(q, id)
    assert isinstance(made, Sheet)
    return InPieces(_strokes(made, None if standing is finished_mesh(q, id).surface else standing))


def _strokes(made: Sheet, standing: Surface | None) -> Pieces[tuple[Stroke, ...]]:
    """The strokes of a batter, or of what is left ``standing`` of it."""
    some = slice(None, None, 1 + len(made.points) // _MOST)
    hinge, toe = made.points[:, 0], made.ends
    if standing is None:
        toes = np.split(toe, np.flatnonzero(~made.joined) + 1)
    else:
        plan = plan_of(standing)
        yield
        shares = yield from _shares_inside(hinge[some], toe[some], plan)
        toe = toe.copy()
        toe[some] = hinge[some] + shares[:, None] * (toe[some] - hinge[some])
        yield
        toes = _rim(plan, made)
    by_role: dict[str, list[Floats]] = {"toe": [t for t in toes if len(t) > 1], "cut hachure": [], "fill hachure": []}
    for k, (h, t) in enumerate(zip(hinge[some], toe[some], strict=True)):
        cut = t[2] > h[2]
        top, bottom = (t, h) if cut else (h, t)
        stroke = np.stack([top, top + (bottom - top) * (0.9 if k % 2 else 0.45)])
        by_role["cut hachure" if cut else "fill hachure"].append(stroke)
    return tuple(Stroke(role, joined_up(runs)) for role, runs in by_role.items())


def _rim(plan: shapely.Geometry, made: Sheet) -> list[Floats]:
    """The outline (each (k, 2)) of what is left of a batter, without its hinges and the rows at which it begins and ends."""
    ends = np.flatnonzero(np.diff(np.concatenate([[0], made.joined.astype(int), [0]])) != 0)
    sides = shapely.linestrings(made.points[ends][:, [0, -1], :2])
    hinges = shapely.linestrings(np.stack([made.points[:-1, 0, :2], made.points[1:, 0, :2]], axis=1)[made.joined])
    rings, of = shapely.get_coordinates(shapely.get_parts(plan.boundary), return_index=True)
    pairs = np.stack([rings[:-1], rings[1:]], axis=1)[of[:-1] == of[1:]]
    if not len(pairs):
        return []
    near = shapely.STRtree(np.concatenate([hinges, sides]))
    on, _ = near.query(shapely.points(pairs.mean(axis=1)), predicate="dwithin", distance=_ON)
    off = np.ones(len(pairs), dtype=bool)
    off[on] = False
    rim = shapely.line_merge(shapely.multilinestrings(pairs[off]))
    return [shapely.get_coordinates(line) for line in shapely.get_parts(rim)]


def _shares_inside(hinge: Floats, toe: Floats, plan: shapely.Geometry) -> Pieces[Floats]:
    """The share (n,) of rows from ``hinge`` to ``toe`` (each (n, 3)) that lies inside ``plan``, seen from their hinges."""
    lines, wide = shapely.linestrings(np.stack([hinge[:, :2], toe[:, :2]], axis=1)), plan.buffer(_ON)
    share = np.zeros(len(hinge))
    for begin in range(0, len(lines), _PIECE):
        yield
        part = slice(begin, begin + _PIECE)
        for k, (line, inside) in enumerate(zip(lines[part], shapely.intersection(lines[part], wide)), begin):
            start = shapely.Point(hinge[k, :2])
            first = next((g for g in shapely.get_parts(inside) if g.distance(start) < _ON), None)
            share[k] = first.length / line.length if first is not None and line.length > _ON else 0.0
    return np.minimum(share, 1.0)
