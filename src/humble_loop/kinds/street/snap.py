"""Where a line that is drawn or dragged takes hold: centrelines, and the places at which two of them cross."""

from __future__ import annotations

from itertools import combinations
from typing import NamedTuple

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.crossing import crossings
from humble_loop.geometry.tangential import Arc, heading_towards, square_from
from humble_loop.kinds.street.plan import centreline, chain_of, name_of, streets_near
from humble_loop.lines.describe import Place

_STEPS, _THERE = 30, 1e-9  # of the search for a square meeting with a street that bends, and metres that end it
_END = 1.0  # metres from a street's end in which it is no place for a junction
SQUARE = np.radians(14.0)  # what meets a street this near to square is made square


class Snap(NamedTuple):
    """A place on a street's centreline, its heading there (radians), what it is in words, and whether two cross there."""

    street: str
    place: Place
    heading: float
    words: str
    crossing: bool = False


def snap_to_street(q: Engine, place: Place, reach: float, without: str = "") -> Snap | None:
    """The crossing of two centrelines within ``reach`` metres, or else the nearest centreline, inside its ends."""
    near = [i for i in streets_near(q, place, reach) if i != without]
    near = [i for i in near if not isinstance(q.attempt(centreline, i), Unsolved)]
    return _crossing(q, near, place, reach) or _nearest(q, near, place, reach)


def _crossing(q: Engine, near: list[str], place: Place, reach: float) -> Snap | None:
    best, nearest = None, reach
    for a, b in combinations(near, 2):
        for s, _ in _crossings_of(q, a, b):
            frame = chain_of(q, a).at([s])
            away = float(np.hypot(*(frame.points[0] - place)))
            if away < nearest:
                at = (float(frame.points[0, 0]), float(frame.points[0, 1]))
                words = f"the crossing of {name_of(q, a)} and {name_of(q, b)}"
                best, nearest = Snap(a, at, float(frame.headings[0]), words, crossing=True), away
    return best


@query
def _crossings_of(q: Engine, a: str, b: str) -> tuple[tuple[float, float], ...]:
    return tuple((float(s), float(t)) for s, t in crossings(chain_of(q, a), chain_of(q, b)))


def _nearest(q: Engine, near: list[str], place: Place, reach: float) -> Snap | None:
    best, nearest = None, reach
    for street in near:
        chain = chain_of(q, street)
        foot = chain.feet([place])
        away, s = abs(float(foot.offsets[0])), float(foot.chainages[0])
        if away < nearest and _END < s < chain.total - _END:
            best, nearest = _snap_at(q, street, s), away
    return best


def _snap_at(q: Engine, street: str, s: float) -> Snap:
    frame = chain_of(q, street).at([s])
    at = (float(frame.points[0, 0]), float(frame.points[0, 1]))
    return Snap(street, at, float(frame.headings[0]), name_of(q, street))


def angle_between(snap: Snap, before: Place) -> float:
    """The angle in degrees, at most 90, at which a leg that comes from ``before`` meets the street."""
    d = np.array(snap.place) - before
    turn = float(np.degrees(np.arctan2(d[1], d[0]) - snap.heading)) % 180.0
    return min(turn, 180.0 - turn)


def squared_from_arc(q: Engine, snap: Snap, arc: Arc) -> Snap:
    """The snap moved along its street so that a straight that leaves an arc tangentially meets it square, where it nearly does."""
    heading = heading_towards(arc, snap.place)
    if heading is None or snap.crossing or np.abs(np.cos(heading - snap.heading)) > np.sin(SQUARE):
        return snap
    chain, moved = chain_of(q, snap.street), snap
    for _ in range(_STEPS):
        at = square_from(arc, moved.place, moved.heading)
        if at is None:
            return snap
        s = float(chain.feet([at]).chainages[0])
        moved = _snap_at(q, snap.street, s)
        if not _END < s < chain.total - _END:
            return snap
        if np.hypot(moved.place[0] - at[0], moved.place[1] - at[1]) < _THERE:
            return moved
    return snap


def squared_up(q: Engine, snap: Snap, before: Place) -> Snap:
    """The snap moved along its street so that a leg from ``before`` meets it square, where it nearly does."""
    if angle_between(snap, before) < 90.0 - np.degrees(SQUARE) or snap.crossing:
        return snap
    chain = chain_of(q, snap.street)
    foot = chain.feet([before])
    s = float(foot.chainages[0])
    moved = _snap_at(q, snap.street, s)
    away = float(np.hypot(moved.place[0] - snap.place[0], moved.place[1] - snap.place[1]))
    leg = float(np.hypot(snap.place[0] - before[0], snap.place[1] - before[1]))
    return moved if bool(foot.square[0]) and _END < s < chain.total - _END and away <= leg * np.tan(SQUARE) else snap
