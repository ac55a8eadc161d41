"""What keeps a batter off what is built beside it: the least shift of what it belongs to, or the steepest batter."""

from __future__ import annotations

from collections.abc import Set
from dataclasses import dataclass

import numpy as np
import shapely

from humble_loop.engine.query import Engine
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.united import united
from humble_loop.lines.faces import FaceId, Sheet, face, finished_mesh
from humble_loop.whole.places import footprint

_INSIDE = 1e-3  # metres inside an edge at which its level is read
_NEAR = 0.1  # metres from its hinge within which no batter fits
_LESS = 1e-6  # metres by which a batter may reach too far


@dataclass(frozen=True)
class Kept:
    """What keeps batters off: that they stand ``shift`` metres further away, or rise ``slope`` per metre (None: no batter does, the hinge
    stands too near). ``fill`` tells what they are at the worst place, ``at`` (2,), which is on the edge that they would pass.
    """

    shift: float
    slope: float | None
    fill: bool
    at: tuple[float, float]


def keeping_off(q: Engine, batters: Set[FaceId], built: Set[FaceId]) -> Kept | None:
    """What keeps batters off faces that are built, by each row of them that passes their edge; None where none does.

    Seen along a row, the edge is ``D`` metres from the hinge and ``h`` below it (above, in cut): a batter of ``h / D`` ends there, and one
    that runs out at ``g`` must begin ``h / g - D`` metres further away.
    """
    plan = united([footprint(q, id).plan for id in built])
    hinges, toes = _rows(q, batters)
    if plan.is_empty or not len(hinges):
        return None
    across = np.hypot(*(toes - hinges)[:, :2].T)
    met = shapely.intersection(shapely.linestrings(np.stack([hinges[:, :2], toes[:, :2]], axis=1)), plan)
    on = np.flatnonzero(~shapely.is_empty(met) & (across > 0))
    hinges, toes, across = hinges[on], toes[on], across[on]
    away = shapely.distance(shapely.points(hinges[:, :2]), met[on])
    ways = (toes - hinges)[:, :2] / across[:, None]
    edge = hinges[:, :2] + ways * away[:, None]
    level = _levels(q, built, edge + _INSIDE * ways)
    fill = toes[:, 2] < hinges[:, 2]
    height, slope = np.where(fill, hinges[:, 2] - level, level - hinges[:, 2]), np.abs(toes - hinges)[:, 2] / across
    with np.errstate(divide="ignore", invalid="ignore"):
        shift = height / slope - away
        steep = height / away
    passed = np.isfinite(shift) & (shift > _LESS)
    if not passed.any():
        return None
    k = int(np.argmax(np.where(passed, shift, -np.inf)))
    slopes = steep[passed] if away[passed].min() > _NEAR else None
    return Kept(
        float(shift[k]),
        None if slopes is None else float(slopes.max()),
        bool(fill[k]),
        (float(edge[k, 0]), float(edge[k, 1])),
    )


def _rows(q: Engine, batters: Set[FaceId]) -> tuple[Floats, Floats]:
    """Where rows of batters begin and end, each (n, 3)."""
    none = np.empty((0, 3))
    hinges, toes = [none], [none]
    for id in batters:
        made = face(q, id)
        if isinstance(made, Sheet) and len(made.joined):
            used = np.append(made.joined, False) | np.insert(made.joined, 0, False)
            hinges.append(made.points[used, 0])
            toes.append(made.ends[used])
    return np.concatenate(hinges), np.concatenate(toes)


def _levels(q: Engine, built: Set[FaceId], places: Floats) -> Floats:
    """Levels (n,) of what is built at places (n, 2); NaN where nothing is."""
    found = np.full(len(places), np.nan)
    for id in built:
        level = finished_mesh(q, id).surface.levels(places)
        found = np.where(np.isnan(found), level, found)
    return found
