"""Batters that overlap make a valley or a ridge: the lower governs in cut, the higher in fill, to the line where they meet."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from humble_loop.engine.in_pieces import InPieces, Pieces
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Bools
from humble_loop.geometry.united import united
from humble_loop.ground.cut import Lost, Remainder, cutting
from humble_loop.ground.govern import divided, going_on, lost_parts, planes_of
from humble_loop.ground.surface import Surface
from humble_loop.kinds.street.order import built_before
from humble_loop.lines.faces import FaceId, Sheet, face, finished_mesh, hinges_of
from humble_loop.lines.standing import kind_of
from humble_loop.whole.places import footprint, near

_SLIVER = 1e-8  # m2 of overlap between triangles that is a matter of rounding
_ROUNDING = 1e-6  # m2 of overlap between faces that is
_MOST = 2000  # pairs of triangles of two batters that lie over one another; hundreds have been seen in sound sites
_PIECE = 200  # pairs that are divided at once
_AT_ONCE = 16  # triangles that are compared with all others before the pairs are counted


@dataclass(frozen=True)
class Meeting:
    """Two batters that overlap, or one with itself: what each loses, and where a cut lies on a fill (``clash``).

    Where one is built after the other it is that one's ground: a cut goes on into its fill and a fill over its cut, so nothing clashes.
    """

    first: Lost
    second: Lost
    clash: shapely.Geometry


@query
def is_batter(q: Engine, id: FaceId) -> bool:
    """Whether a face is a sheet that gives way."""
    return id.gives_way and isinstance(face(q, id), Sheet)


@dataclass(frozen=True)
class Clear:
    """A batter without what is built: its surface, which of its triangles (m,) rise from their hinges, and ``over``
    which faces it would lie, with their part of its plan.
    """

    surface: Surface
    cut: Bools
    over: tuple[tuple[FaceId, shapely.Geometry], ...]


def hinges(q: Engine, id: FaceId) -> shapely.Geometry:
    """The lines in plan from which a batter runs."""
    made = face(q, id)
    assert isinstance(made, Sheet)
    return hinges_of(made)


@query
def clear_batter(q: Engine, id: FaceId) -> Clear:
    """A batter where nothing is built. What lies behind that, seen from its hinges, is not its own any more."""
    made, surface = face(q, id), finished_mesh(q, id).surface
    assert isinstance(made, Sheet)
    if surface.empty:
        return Clear(surface, np.empty(0, dtype=bool), ())
    rise = made.points[:, -1, 2] - made.points[:, 0, 2]
    cut: Bools = rise[finished_mesh(q, id).rows].sum(axis=1) > 0
    over = _built_under(q, id)
    if not over:
        return Clear(surface, cut, ())
    rest, owner = _beside_what_is_built(q, id).result(q)
    own = going_on(rest, hinges(q, id))
    middle = rest.points[rest.triangles].mean(axis=1)
    keep = shapely.contains_xy(own, middle[:, 0], middle[:, 1])
    return Clear(Surface(rest.points, rest.triangles[keep]), cut[owner][keep], over)


@query
def _built_under(q: Engine, id: FaceId) -> tuple[tuple[FaceId, shapely.Geometry], ...]:
    """What is built where a batter would lie, with its part of the batter's plan."""
    mine, over = footprint(q, id).plan, []
    for other in near(q, id).before:
        if not other.gives_way and shapely.intersects(mine, theirs := footprint(q, other).plan):
            shared = shapely.intersection(mine, theirs)
            if shared.area > _ROUNDING:
                over.append((other, shared))
    return tuple(over)


@query
def _beside_what_is_built(q: Engine, id: FaceId) -> InPieces[Remainder]:
    taken = united([plan for _, plan in _built_under(q, id)])
    return InPieces(cutting(finished_mesh(q, id).surface, taken))


@query
def meeting(q: Engine, first: FaceId, second: FaceId) -> Meeting:
    """How two batters meet: exactly, triangle by triangle, each a plane. Of equals, the second gives way."""
    return _meeting(q, first, second).result(q)


@query
def _meeting(q: Engine, first: FaceId, second: FaceId) -> InPieces[Meeting]:
    names = face(q, first).title, "itself" if first == second else face(q, second).title
    later = 1 if _is_ground(q, first, second) else 0 if _is_ground(q, second, first) else None
    return InPieces(_meet(clear_batter(q, first), clear_batter(q, second), first == second, names, later))


def _is_ground(q: Engine, first: FaceId, second: FaceId) -> bool:
    """Whether a face is of a street that is built before that of a second one, and so its ground."""
    before, after = (kind_of(id.kind).built_with(q, id) for id in (first, second))
    return before is not None and after is not None and before in built_before(q, after)


def _meet(one: Clear, other: Clear, itself: bool, names: tuple[str, str], later: int | None) -> Pieces[Meeting]:
    a, b = one.surface, other.surface
    if a.empty or b.empty:
        return Meeting(Lost.all(()), Lost.all(()), shapely.Polygon())
    plans_a, plans_b = (shapely.polygons(s.points[s.triangles][:, :, :2]) for s in (a, b))
    tree, pairs, count = shapely.STRtree(plans_b), [], 0
    for begin in range(0, len(plans_a), _AT_ONCE):
        yield
        i, j = tree.query(plans_a[begin : begin + _AT_ONCE], predicate="intersects")
        i += begin
        pairs.append(np.stack([i, j])[:, i < j] if itself else np.stack([i, j]))
        count += pairs[-1].shape[1]
        _check_count(names, count, 20 * _MOST)
    i, j = np.concatenate(pairs, axis=1)
    shared = np.empty(len(i), dtype=object)
    some = np.zeros(len(i), dtype=bool)
    for begin in range(0, len(i), _PIECE):
        yield
        part = slice(begin, begin + _PIECE)
        shared[part] = shapely.intersection(plans_a[i[part]], plans_b[j[part]])
        some[part] = shapely.area(shared[part]) > _SLIVER
        _check_count(names, int(some.sum()), _MOST)
    yield
    i, j, shared = i[some], j[some], shared[some]
    cut_a, cut_b = one.cut[i], other.cut[j]
    clash, alike = shared[cut_a != cut_b], cut_a == cut_b
    # Of a cut and a fill that which is built later stands, or else the first; then that they clash is told.
    loses_a, loses_b = divided(shared[alike], planes_of(a)[i[alike]], planes_of(b)[j[alike]], cut_a[alike])
    none = np.full(len(clash), shapely.Polygon(), dtype=object)
    of_first, of_second = (clash, none) if later == 1 else (none, clash)
    first_lost = lost_parts(np.concatenate([i[alike], i[~alike]]), np.concatenate([loses_a, of_first]))
    second_lost = lost_parts(np.concatenate([j[alike], j[~alike]]), np.concatenate([loses_b, of_second]))
    if later is not None:
        clash = none
    together = []
    for begin in range(0, len(clash), _PIECE):
        yield
        together.append(united(clash[begin : begin + _PIECE]))
    yield
    return Meeting(first_lost, second_lost, united(together))


def _check_count(names: tuple[str, str], count: int, most: int) -> None:
    """Refuse batters whose triangles lie over one another without number: a street folded many times upon itself."""
    if count > most:
        raise Unsolved(
            names[0],
            f"it lies over {names[1]} too many times to be divided",
            "move the street's bends apart, or give steeper batters",
        )
