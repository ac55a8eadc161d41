"""The boundaries beside which a side's drains stand: the street's own, and those round the corners and the head at its ends."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.kinds.junction.corners import ReturnLine
from humble_loop.kinds.junction.nodes import CrossingArm, leg_side, require_joint
from humble_loop.kinds.knuckle import KnuckleLine
from humble_loop.kinds.knuckle.layout import knuckle_of, side_of
from humble_loop.kinds.roundabout import KerbLine, legs_beside
from humble_loop.kinds.street.plan import StreetLine, chain_of, end_chainage, is_new
from humble_loop.kinds.street.side import course
from humble_loop.kinds.turning_head.layout import HeadLine
from humble_loop.kinds.turning_head.place import own_side
from humble_loop.lines.line import LineId, line_plan
from humble_loop.lines.standing import kinds
from humble_loop.site.model import SIDES, Side

Span = tuple[float, float]
_ON = 1e-3  # metres along a boundary within which places are one
_NONE = 1e-6  # metres of a stretch that is none


@dataclass(frozen=True)
class Telling:
    """By which chainages of a side of its street a part of a boundary is told: both at its ends, straight between."""

    side: Side
    places: Span
    chainages: Span


@dataclass(frozen=True)
class Roadside:
    """A boundary beside which a side's drains stand, and how places on it are told by chainages.

    Its street's own boundary is told by its own. Round a corner they run from where the return ends to the street's end;
    round a head from where it begins to the street's end, which is half way round, and back by those of the other side; beside a
    roundabout from where the kerb leaves its first leg to the middle of that.
    ``leaves`` is the chainage at which the street's own boundary goes on as it; None of that itself.
    """

    boundary: LineId
    told: tuple[Telling, ...]
    leaves: float | None = None

    def chainage(self, place: float) -> float:
        """The chainage that a place on the boundary is told by."""
        part = next((t for t in self.told if place <= t.places[1]), self.told[-1])
        return float(np.interp(place, part.places, part.chainages))

    def spans(self, side: Side, begin: float, finish: float) -> list[Span]:
        """The stretches of the boundary that chainages of a side tell."""
        found = []
        for t in self.told:
            low, high = max(begin, min(t.chainages)), min(finish, max(t.chainages))
            if t.side == side and high - low > _NONE:
                way = 1 if t.chainages[1] >= t.chainages[0] else -1
                ends = np.interp([low, high], t.chainages[::way], t.places[::way])
                found.append((float(ends.min()), float(ends.max())))
        return found

    def chosen_by(self, begin: float, finish: float) -> tuple[tuple[Side, Span], ...]:
        """The chainages, side by side, that tell a stretch of the boundary."""
        found = []
        for t in self.told:
            a, b = max(begin, t.places[0]), min(finish, t.places[1])
            if b - a > _NONE:
                ends = np.interp([a, b], t.places, t.chainages)
                found.append((t.side, (float(ends.min()), float(ends.max()))))
        return tuple(found)


def boundary_of(q: Engine, street: str, side: Side) -> StreetLine:
    """A street's own boundary on a side."""
    return StreetLine(street, course(q, street, side).names[-1], side)


@query
def roadsides(q: Engine, street: str, side: Side) -> tuple[Roadside, ...]:
    """A side's boundaries: its own first. A head is its left side's, looking towards it."""
    own = boundary_of(q, street, side)
    total = chain_of(q, street).total
    found = [Roadside(own, (Telling(side, (0.0, total), (0.0, total)),))]
    for at, other, place in goes_on_as(q, own):
        if owner(q, other) != (street, side):
            continue
        length = line_plan(q, other).end
        if isinstance(other, KnuckleLine):
            if place == 0.0:  # it is met again where it comes back
                back = next(a for a, o, p in goes_on_as(q, own) if o == other and p != 0.0)
                found.append(Roadside(other, (Telling(side, (0.0, length), (at, back)),), at))
        elif isinstance(other, HeadLine):
            across: Side = "right" if side == "left" else "left"
            back = next(a for a, o, _ in goes_on_as(q, boundary_of(q, street, across)) if o == other)
            half, far = 0.5 * length, end_chainage(q, street, other.end)
            told = Telling(side, (0.0, half), (at, far)), Telling(across, (half, length), (far, back))
            found.append(Roadside(other, told, at))
        elif isinstance(other, KerbLine):
            far = legs_beside(q, other)[0].inner
            found.append(Roadside(other, (Telling(side, (0.0, length), (at, far)),), at))
        else:
            assert isinstance(other, ReturnLine)
            far = require_joint(q, street, other.arm).side_chainage
            found.append(Roadside(other, (Telling(side, (0.0, length), (far, at)),), at))
    return tuple(found)


@query
def goes_on_as(q: Engine, boundary: LineId) -> tuple[tuple[float, LineId, float], ...]:
    """Where a boundary goes on as another: place on it, that line, place on that."""
    if isinstance(boundary, StreetLine):
        return tuple(found for kind in kinds() for found in kind.corners_on(q, boundary))
    found = []
    for street, side in _beside(q, boundary):
        if is_new(q, street):
            own = boundary_of(q, street, side)
            found += [(place, own, at) for at, other, place in goes_on_as(q, own) if other == boundary]
    return tuple(found)


def _beside(q: Engine, boundary: LineId) -> tuple[tuple[str, Side], ...]:
    """The sides whose boundaries go on as one round a corner or a head."""
    if isinstance(boundary, HeadLine):
        return tuple((boundary.street, side) for side in SIDES)
    if isinstance(boundary, KnuckleLine):
        return (owner(q, boundary),)
    if isinstance(boundary, KerbLine):
        last = legs_beside(q, boundary)[1]
        return owner(q, boundary), (last.street, last.own_side("right"))
    assert isinstance(boundary, ReturnLine)
    through = require_joint(q, boundary.street, boundary.arm)
    return owner(q, boundary), (through.through, through.lip_side)


def owner(q: Engine, boundary: LineId) -> tuple[str, Side]:
    """The street and side that a boundary's drains belong to: round a corner the side street's, beside a roundabout that of the leg on whose
    left its kerb begins.
    """
    if isinstance(boundary, KerbLine):
        first = legs_beside(q, boundary)[0]
        return first.street, first.own_side("left")
    if isinstance(boundary, KnuckleLine):
        return knuckle_of(q, boundary.knuckle).street, side_of(q, boundary.knuckle, boundary.ring)
    if isinstance(boundary, ReturnLine):
        return boundary.street, leg_side(boundary.arm, boundary.corner)
    if isinstance(boundary, HeadLine):
        return boundary.street, own_side(boundary.end, "left")
    assert isinstance(boundary, StreetLine)
    assert boundary.side is not None
    return boundary.street, boundary.side


def round_of(boundary: LineId) -> LineId | None:
    """The boundary of a corner or a head; None for a street's own."""
    return None if isinstance(boundary, StreetLine) else boundary


def beside(q: Engine, boundary: LineId) -> Roadside:
    """How places on a boundary are told."""
    return next(r for r in roadsides(q, *owner(q, boundary)) if r.boundary == boundary)


def meets(place: float, other: float) -> bool:
    """Whether two places on a boundary are one."""
    return abs(place - other) < _ON


def where(boundary: LineId) -> str:
    """Where along its street a boundary is, in words; nothing for the street's own."""
    if isinstance(boundary, KnuckleLine):
        return "round the knuckle" if boundary.ring == "outer" else "inside the knuckle"
    if isinstance(boundary, ReturnLine):
        at = f"on the {boundary.arm}" if isinstance(boundary.arm, CrossingArm) else f"at its {boundary.arm}"
        return f"round the corner {at}"
    if isinstance(boundary, KerbLine):
        return "round the roundabout"
    return f"round the head at its {boundary.end}" if isinstance(boundary, HeadLine) else ""
