"""Earthworks as ground: a street that is built after others (see ``order``) has theirs, finished, as its ground.

Its batters run to them, in cut and in fill, and its sections and volumes start from them. What is proposed from the ground, and ties to the
ground, still read the ground as it was found: so nothing follows at last from itself, whichever of two streets is built first.
"""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.engine.in_pieces import InPieces, Pieces
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.ground.cut import cutting
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.reads import NO_GROUND, ground_of
from humble_loop.kinds.street.batter import batter
from humble_loop.kinds.street.order import built_before
from humble_loop.kinds.street.plan import StreetLine, chain_of, name_of
from humble_loop.kinds.street.section import rows_with_kerb
from humble_loop.kinds.street.side import boundary_width, course
from humble_loop.lines.faces import finished_mesh, rows_of_triangles
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of
from humble_loop.site import parts
from humble_loop.site.model import SIDES, Side

_SAG = 1.0  # metres within which a street's place is told
_BEYOND = 5.0  # metres of ground beyond where its batters can reach


@query
def earthworks(q: Engine, street: str) -> Surface:
    """A street's own finished surface with its batters, which run straight to the ground and turn to no corner of another."""
    own = [id for id in kind_of("street").faces(q, ThingId("street", street)) if not id.gives_way]
    made = [m.surface for id in own if not isinstance(m := q.attempt(finished_mesh, id), Unsolved)]
    made += [b for side in SIDES if not isinstance(b := q.attempt(_batter, street, side), Unsolved)]
    return _together([m for m in made if not m.empty])


@query
def _batter(q: Engine, street: str, side: Side) -> Surface:
    """The batter of a side beside nothing else."""
    boundary = StreetLine(street, course(q, street, side).names[-1], side)
    s, joined = rows_with_kerb(q, street, side)
    made = batter(q, f"{name_of(q, street)} {side} batter", boundary, s, joined, ground_under(q, street), alone=True)
    return rows_of_triangles(made.points, made.joined)[0]


@query
def ground_under(q: Engine, street: str) -> Surface:
    """The ground of a street: the current one, and about it the finished earthworks of those that are built before it."""
    return _laid_in(q, street).result(q) if built_before(q, street) else ground_of(q)


@query
def _laid_in(q: Engine, street: str) -> InPieces[Surface]:
    made = [w for o in built_before(q, street) if not isinstance(w := q.attempt(earthworks, o), Unsolved)]
    return InPieces(_laid(ground_of(q), made, _around(q, street)))


def _around(q: Engine, street: str) -> tuple[float, float, float, float]:
    """Where a street's earthworks may be, as west, south, east and north."""
    chain = chain_of(q, street)
    places = chain.points_at(chain.sampled(sag=_SAG))
    wide = max(float(boundary_width(q, street, side).values.max()) for side in SIDES)
    reach = wide + parts.settings(q).batter_reach + _BEYOND
    (w, s), (e, n) = places.min(axis=0) - reach, places.max(axis=0) + reach
    return float(w), float(s), float(e), float(n)


def _laid(ground: Surface, works: list[Surface], around: tuple[float, float, float, float]) -> Pieces[Surface]:
    """The ground within a box, with earthworks in it, each in the place of what was there before it."""
    found = _within(ground, around)
    for more in works:
        mine = _within(more, around)
        if mine.empty:
            continue
        plan = shapely.union_all(shapely.polygons(mine.points[mine.triangles][:, :, :2]))
        rest, _ = yield from cutting(found, plan)
        found = _together([rest, mine])
    return found


def _within(surface: Surface, around: tuple[float, float, float, float]) -> Surface:
    """The triangles of a surface that touch a box."""
    if surface.empty:
        return NO_GROUND
    w, s, e, n = around
    x, y = (surface.points[surface.triangles, k] for k in (0, 1))
    on = (x.max(axis=1) >= w) & (x.min(axis=1) <= e) & (y.max(axis=1) >= s) & (y.min(axis=1) <= n)
    used, triangles = np.unique(surface.triangles[on], return_inverse=True)
    return Surface(surface.points[used], triangles.reshape(-1, 3))


def _together(surfaces: list[Surface]) -> Surface:
    if not surfaces:
        return NO_GROUND
    shift = np.cumsum([0, *(len(s.points) for s in surfaces[:-1])])
    points = np.concatenate([s.points for s in surfaces])
    return Surface(points, np.concatenate([s.triangles + k for s, k in zip(surfaces, shift)]))
