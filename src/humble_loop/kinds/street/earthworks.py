"""Earthworks as ground: a street that is built after others (see ``order``) has theirs, finished, as its ground.

Its batters run to them, in cut and in fill, and its sections and volumes start from them. What is proposed from the ground, and ties to the
ground, still read the ground as it was found: so nothing follows at last from itself, whichever of two streets is built first.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import shapely

from humble_loop.engine.in_pieces import InPieces, Pieces
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.ground.cut import cutting, joined
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.reads import NO_GROUND, ground_of
from humble_loop.kinds.street.order import built_before
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.street.side import boundary_width
from humble_loop.lines.faces import Sheet, finished_mesh
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of
from humble_loop.site import parts
from humble_loop.site.model import SIDES

_STILL = 1e-6  # metres that are none
_ROUNDING = 0.001  # m2 by which a plan may seem to differ from its triangles
_SAG = 1.0  # metres within which a street's place is told
_BEYOND = 5.0  # metres of ground beyond where its batters can reach


@query
def earthworks(q: Engine, street: str) -> Surface:
    """A street's own finished surface with its batters as they run to its ground, whatever others take of them later."""
    own = kind_of("street").faces(q, ThingId("street", street))
    made = [m.surface for id in own if not isinstance(m := q.attempt(finished_mesh, id), Unsolved)]
    return _together([m for m in made if not m.empty])


@query
def ground_under(q: Engine, street: str) -> Surface:
    """The ground of a street: the current one, and about it the finished earthworks of those that are built before it."""
    return _laid_in(q, street).result(q) if built_before(q, street) else ground_of(q)


@query
def _laid_in(q: Engine, street: str) -> InPieces[Surface]:
    made = [w for o in built_before(q, street) if not isinstance(w := q.attempt(earthworks, o), Unsolved)]
    return InPieces(_laid(ground_of(q), made, _around(q, street)))


def onto(found: Sheet, later: Sheet, ground: Surface) -> Sheet:
    """A batter whose rows run to the ground as it was found, and as ``later`` has them where earlier earthworks let them go further.

    A cut goes on into a fill that is there already, and a fill comes down on a cut. Where earlier earthworks stop it sooner, both are of one
    sense, and meet as any two batters do.
    """
    if not len(found.points):
        return found
    columns = max(found.points.shape[1], later.points.shape[1])
    mine, theirs = _wide(found.points, columns), _wide(later.points, columns)
    rise_a, rise_b = (p[:, -1, 2] - p[:, 0, 2] for p in (mine, theirs))
    reach_a, reach_b = (np.hypot(*(p[:, -1] - p[:, 0])[:, :2].T) for p in (mine, theirs))
    turned = (rise_a * rise_b < 0) & (reach_b > _STILL)
    # One that would find no ground any more stays as it was found.
    beyond = (turned | (reach_b > reach_a + _STILL)) & (later.met | ~found.met)
    if not beyond.any():
        return found
    points = np.where(beyond[:, None, None], theirs, mine)
    toes = points[:, -1].copy()
    reach, rise = np.hypot(*(toes - points[:, 0])[:, :2].T), toes[:, 2] - points[:, 0, 2]
    # What stands between two rows ends on the ground by being cut there: each goes as far as the one beside it, if that is beyond.
    most, pair = reach.copy(), np.flatnonzero(found.joined)
    for a, b in ((pair, pair + 1), (pair + 1, pair)):
        alike = beyond[b] & (rise[a] * rise[b] >= 0)
        np.maximum.at(most, a[alike], reach[b[alike]])
    points[:, -1] = toes + np.where(reach > _STILL, most - reach, 0.0)[:, None] * _onwards(points)
    met, centre = (np.where(beyond, b, a) for a, b in ((found.met, later.met), (found.at_centre, later.at_centre)))
    return replace(found, points=points, met=met, at_centre=centre, ground=ground, toes=toes)


def _wide(points: Floats, columns: int) -> Floats:
    """Rows of points (n, k, 3) with as many columns as wanted: the last point again and again."""
    more = np.repeat(points[:, -1:], columns - points.shape[1], axis=1)
    return np.concatenate([points, more], axis=1)


def _onwards(points: Floats) -> Floats:
    """By how much (n, 3) rows of points (n, k, 3) go on for each metre outwards, as their last pieces do."""
    found = np.zeros((len(points), 3))
    for k in range(points.shape[1] - 1):
        step = points[:, k + 1] - points[:, k]
        run = np.hypot(*step[:, :2].T)
        some = run > _STILL
        found[some] = step[some] / run[some, None]
    return found


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
        plan = yield from _plan(mine)
        yield
        rest, _ = yield from cutting(found, plan)
        found = _together([rest, mine])
    return found


def _plan(surface: Surface) -> Pieces[shapely.Geometry]:
    """The plan of a surface: by its outline, which is soon told, unless it lies over itself."""
    found = shapely.build_area(shapely.multilinestrings(surface.points[surface.outline_edges][:, :, :2]))
    if found.is_valid and abs(found.area - float(surface.areas().sum())) < _ROUNDING:
        return found
    return (yield from joined(list(shapely.polygons(surface.points[surface.triangles][:, :, :2]))))


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
