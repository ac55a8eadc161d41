"""Where drains stand along the toe of a side's cut, round the corners and the head at its ends, and their lines.

A drain is wanted where the ground stands above its invert across its whole width: there water from the ground beyond would
come down onto the road. Gaps that are too short are closed, stretches that are too short are left out; then what was chosen
holds. None stands where the boundary is interrupted or something adjoins it, nor inside a bend that has no room for it.
Where the drain of one boundary meets that of the next it goes on; everywhere else it rises out at its ends.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import ClassVar

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.gradeline import Profile
from humble_loop.ground.drape import cross_segments
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street.batter import outwards
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, is_new, name_of
from humble_loop.kinds.street.side import drawn_side, sections_along, stations
from humble_loop.kinds.toe_drain.model import DrainChoice, DrainGrade
from humble_loop.kinds.toe_drain.roadside import (
    Roadside,
    Span,
    boundary_of,
    goes_on_as,
    meets,
    owner,
    roadsides,
    round_of,
    where,
)
from humble_loop.lines.line import LineId, LinePlan, ThingId, line, line_plan
from humble_loop.lines.rules import Above, LevelRule, Pull, Pulled
from humble_loop.lines.standing import kinds
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.library import KerbShape, ToeDrain
from humble_loop.site.model import Side, other_side

_STEP = 2.0  # metres between the places at which the ground is asked
_ROOM = 0.1  # of its length along the centreline that the far edge of a drain keeps inside a bend, at least
_NONE = 1e-6  # metres of a stretch that is none


@dataclass(frozen=True)
class DrainLine(LineId):
    """A line of a street's drains of one shape on a side: a point of the shape, all along the stretches where it stands.

    ``round`` is the boundary of the corner or head that it goes round; None along the street's own.
    """

    street: str
    side: Side
    shape: str
    point: str
    round: LineId | None = None
    kind: ClassVar[str] = "toe_drain"

    @property
    def thing(self) -> ThingId:
        return drain_id(self.street, self.side)


def drain_id(street: str, side: Side) -> ThingId:
    """The drains of a side of a street, as one thing."""
    return ThingId("toe_drain", f"{street}:{side}")


@dataclass(frozen=True)
class Stretch:
    """A drain from ``begin`` to ``finish`` of a ``boundary`` (chainages, on the street's own), of a ``shape``.

    At both ends it rises out over ``taper`` metres, unless it ``goes_on`` there beside the next boundary.
    """

    boundary: LineId
    begin: float
    finish: float
    shape: str
    taper: float
    least_fall: float
    chosen: bool
    goes_on: tuple[bool, bool] = (False, False)

    @property
    def full(self) -> Span:
        """Between its tapers; they meet where it is too short for both."""
        first, last = (0.0 if on else self.taper for on in self.goes_on)
        share = min(1.0, (self.finish - self.begin) / max(first + last, _NONE))
        return self.begin + share * first, self.finish - share * last

    @property
    def goes_on_at(self) -> str:
        """At which of its ends it goes on, in words."""
        first, last = self.goes_on
        return "both ends" if first and last else "its beginning" if first else "its end" if last else "neither"

    @property
    def round(self) -> LineId | None:
        """The boundary of the corner or head that it stands round; None on the street's own."""
        return round_of(self.boundary)


def drains_of(q: Engine, street: str, side: Side) -> tuple[tuple[Span, ToeDrain], ...]:
    """The drains that the sections of a side have, each with the chainages between which it is offered.

    Where one section turns into another with the same drain it goes on.
    """
    if not is_new(q, street):
        return ()
    along, drawn = sections_along(q, street), drawn_side(q, street, side)
    changes = [c for c, _ in along if c is not None]
    cuts = [0.0, *(stations(changes)[0] if changes else ()), chain_of(q, street).total]
    found: list[tuple[Span, ToeDrain]] = []
    last = None
    for k, (_, section) in enumerate(along):
        drain = section.side(drawn).drain
        goes_on = drain is not None and drain == last  # through the taper too
        begin, finish = max(cuts[2 * k - goes_on], 0.0), min(cuts[2 * k + 1], cuts[-1])
        if drain is not None and finish > begin:
            if goes_on and found and found[-1][0][1] == begin:
                begin = found.pop()[0][0]
            found.append(((begin, finish), drain))
        last = drain
    return tuple(found)


def first_shape(q: Engine, street: str, side: Side) -> str | None:
    """The shape of the first drain that the sections of a side have."""
    drawn = drawn_side(q, street, side)
    drains = (s.side(drawn).drain for _, s in sections_along(q, street))
    return next((d.shape for d in drains if d is not None), None)


@query
def has_drain(q: Engine, street: str, side: Side) -> bool:
    """Whether any section of a street has a drain on a side."""
    drawn = drawn_side(q, street, side)
    return is_new(q, street) and any(s.side(drawn).drain is not None for _, s in sections_along(q, street))


def width_of(shape: KerbShape) -> float:
    """Metres from a drain's edge at the road to its far edge."""
    return shape.points[-1].out / 1000.0


def invert_of(shape: KerbShape) -> float:
    """Metres of its lowest point above its edge at the road: below zero."""
    return min(p.up for p in shape.points) / 1000.0


@dataclass(frozen=True)
class Room:
    """Where a drain may stand beside a boundary, from ``begin`` to ``finish``: the lowest level (n,) of the ground across its
    whole width at places ``s`` (n,); NaN where there is none. Inside a ``tight`` bend none may, whatever the ground is.
    """

    beside: Roadside
    drain: ToeDrain
    begin: float
    finish: float
    s: Floats
    ground: Floats
    tight: bool = False


@query
def rooms(q: Engine, street: str, side: Side) -> tuple[Room, ...]:
    """Where a side's drains may stand, and the bends that are too tight for them.

    This rests on nothing that has a level but the ground, so a drag leaves it alone.
    """
    offered = drains_of(q, street, side)
    found: list[Room] = []
    for beside in roadsides(q, street, side) if offered else ():
        plan = line_plan(q, beside.boundary)
        taken = [*plan.gaps, *(span for kind in kinds() for span in kind.claims(q, beside.boundary))]
        for (begin, finish), drain in offered if beside.leaves is None else _going_round(beside.leaves, plan, offered):
            width = width_of(parts.kerb_shape(q, drain.shape))
            low, high = max(begin, plan.start), min(finish, plan.end)
            tight = clip(_tight(plan, low, high, width), low, high)
            wide = without([(low, high)], [*taken, *tight])
            for a, b in sorted([*wide, *without(tight, taken)]):
                s = np.linspace(a, b, max(2, int(np.ceil((b - a) / _STEP)) + 1))
                ground = _lowest(q, plan, s, width)
                found.append(Room(beside, drain, a, b, frozen(s), frozen(ground), (a, b) not in wide))
    return tuple(found)


def _going_round(
    leaves: float, plan: LinePlan, offered: tuple[tuple[Span, ToeDrain], ...]
) -> list[tuple[Span, ToeDrain]]:
    """Round a corner or a head goes the drain that a side has where its own boundary ends."""
    return [((plan.start, plan.end), drain) for (a, b), drain in offered if a - _NONE <= leaves <= b + _NONE][:1]


@dataclass(frozen=True)
class Wet:
    """A stretch beside a boundary, however short, on which the ground wants a drain."""

    room: Room
    begin: float
    finish: float

    @property
    def boundary(self) -> LineId:
        return self.room.beside.boundary

    def goes_on_as(self, other: Wet, place: float) -> bool:
        """Whether a drain on it and one on another that ends at a place would be one."""
        alike = other.room.drain.shape == self.room.drain.shape and not (self.room.tight or other.room.tight)
        return alike and _ends_at(other, place)


@query
def wet_on(q: Engine, street: str, side: Side) -> tuple[Wet, ...]:
    """Where the ground stands above the invert that a drain of a side would have, gaps closed."""
    found = []
    for room in rooms(q, street, side) if not ground_of(q).empty else ():
        made = q.attempt(line, room.beside.boundary)
        if isinstance(made, Unsolved):
            if room.beside.boundary == boundary_of(q, street, side):
                raise made
            continue  # the corner or the head itself says what is wrong
        above = room.ground - made.rule.levels(room.s) - invert_of(parts.kerb_shape(q, room.drain.shape))
        above = np.where(np.isfinite(above), above, -1.0)
        found += [Wet(room, a, b) for a, b in joined(_positive(room.s, above), room.drain.least_gap)]
    return tuple(found)


@query
def _standing(q: Engine, street: str, side: Side) -> tuple[Stretch, ...]:
    """The drains of a side, long enough or chosen, as if each rose out at both ends."""
    wet, chosen, found = wet_on(q, street, side), _chosen(q, street), list[Stretch]()
    for room in rooms(q, street, side) if not ground_of(q).empty else ():
        beside, drain = room.beside, room.drain
        if room.tight or isinstance(q.attempt(line, beside.boundary), Unsolved):
            continue
        own = [w for w in wet if (w.boundary, w.room.begin) == (beside.boundary, room.begin)]
        long = [(w.begin, w.finish) for w in own if whole_length(q, w) >= drain.least_length]
        forced, left_out = (
            [span for s, low, high, stands in chosen if stands is wanted for span in beside.spans(s, low, high)]
            for wanted in (True, False)
        )
        for s, e in without(joined([*long, *clip(forced, room.begin, room.finish)], 0.0), left_out):
            by_choice = any(s < f and e > b for b, f in forced)
            found.append(Stretch(beside.boundary, s, e, drain.shape, drain.taper, drain.least_fall, by_choice))
    order = {beside.boundary: beside for beside in roadsides(q, street, side)}
    return tuple(sorted(found, key=lambda d: order[d.boundary].chainage(0.5 * (d.begin + d.finish))))


def whole_length(q: Engine, wet: Wet) -> float:
    """Metres of a wet stretch with all that it would go on as, one after another."""
    found, waiting = {(str(wet.boundary), wet.begin): wet.finish - wet.begin}, [wet]
    while waiting:
        here = waiting.pop()
        for at, other, place in goes_on_as(q, here.boundary):
            if not _ends_at(here, at):
                continue
            made = q.attempt(wet_on, *owner(q, other))
            for w in () if isinstance(made, Unsolved) else made:
                key = str(other), w.begin
                if w.boundary == other and key not in found and here.goes_on_as(w, place):
                    found[key] = w.finish - w.begin
                    waiting.append(w)
    return sum(found.values())


def _ends_at(stretch: Wet | Stretch, place: float) -> bool:
    return meets(stretch.begin, place) or meets(stretch.finish, place)


@query
def stretches(q: Engine, street: str, side: Side) -> tuple[Stretch, ...]:
    """The drains of a side, in order along it: beside its own boundary, and round the corners and the head at its ends."""
    found = []
    for d in _standing(q, street, side):
        on = _next(q, d, d.begin) is not None, _next(q, d, d.finish) is not None
        found.append(replace(d, goes_on=on))
    return tuple(found)


def _next(q: Engine, stretch: Stretch, place: float) -> Stretch | None:
    """The drain that one goes on as at one of its ends, as it stands. One with a grade line of its own goes on nowhere."""
    if own_levels(q, stretch) is not None:
        return None
    for at, other, there in goes_on_as(q, stretch.boundary):
        if not meets(at, place):
            continue
        made = q.attempt(_standing, *owner(q, other))
        for d in () if isinstance(made, Unsolved) else made:
            same = d.boundary == other and d.shape == stretch.shape
            if same and _ends_at(d, there) and own_levels(q, d) is None:
                return d
    return None


def next_of(q: Engine, stretch: Stretch, *, onwards: bool) -> tuple[Stretch, bool] | None:
    """The drain that one goes on as at its end or its beginning, and whether one comes into that at its beginning."""
    place = stretch.finish if onwards else stretch.begin
    found = _next(q, stretch, place) if stretch.goes_on[1 if onwards else 0] else None
    if found is None:
        return None
    there = next(p for at, other, p in goes_on_as(q, stretch.boundary) if meets(at, place) and other == found.boundary)
    made = next(
        d for d in stretches(q, *owner(q, found.boundary)) if (d.boundary, d.begin) == (found.boundary, found.begin)
    )
    return made, meets(made.begin, there)


def _chosen(q: Engine, street: str) -> list[tuple[Side, float, float, bool]]:
    """What was chosen of a street's drains: side, from and to (chainages of the street as it runs), and whether one stands."""
    total, turned = chain_of(q, street).total, frame_of(q, street).turned
    found = []
    for c in parts.owned(q, DrainChoice, street):
        span = (total - c.finish, total - c.begin) if turned else (c.begin, c.finish)
        found.append((other_side(c.side) if turned else c.side, *span, c.stands))
    return found


def _tight(plan: LinePlan, low: float, high: float, width: float) -> list[Span]:
    """Where the bend of the street leaves a drain of a width no room outside of the boundary."""
    chain, side = plan.base, float(np.sign(plan.offset.values.sum()))
    found = []
    for k in range(len(chain.starts) - 1):
        a, b = float(chain.starts[k]), float(chain.starts[k + 1])
        s = np.linspace(a, b, 9 if chain.k0[k] != chain.k1[k] else 2)
        out = np.abs(plan.offset(s)) + width
        curvature = np.linspace(chain.k0[k], chain.k1[k], len(s)) * side
        if b > low and a < high and np.any(1.0 - curvature * out < _ROOM):
            found.append((a, b))
    return found


def _lowest(q: Engine, plan: LinePlan, s: Floats, width: float) -> Floats:
    """The lowest ground (n,) across a width outside of a boundary at places on it; NaN where some of it has none."""
    hinges = plan.points(s)
    met = cross_segments(ground_of(q), hinges, hinges + outwards(plan, s) * width)
    found = np.full(len(s), np.inf)
    np.minimum.at(found, met.line, np.where(np.isfinite(met.level), met.level, -np.inf))
    return np.where(np.isfinite(found), found, np.nan)


def _positive(s: Floats, values: Floats) -> list[Span]:
    """Stretches on which values, on straight lines between places, are above zero."""
    inside = values > 0
    found: list[Span] = []
    begin = float(s[0]) if inside[0] else None
    for k in np.flatnonzero(inside[1:] != inside[:-1]).tolist():
        at = float(s[k] + (s[k + 1] - s[k]) * values[k] / (values[k] - values[k + 1]))
        if begin is None:
            begin = at
        else:
            found.append((begin, at))
            begin = None
    return [*found, (begin, float(s[-1]))] if begin is not None else found


def joined(spans: list[Span], gap: float) -> list[Span]:
    """Stretches in order, those that overlap or lie less than ``gap`` apart made one."""
    found: list[Span] = []
    for a, b in sorted(spans):
        if found and a <= found[-1][1] + gap:
            found[-1] = (found[-1][0], max(b, found[-1][1]))
        else:
            found.append((a, b))
    return found


def without(spans: list[Span], holes: list[Span]) -> list[Span]:
    """What is left of stretches, in order, outside of others."""
    for low, high in holes:
        spans = [part for a, b in spans for part in ((a, min(b, low)), (max(a, high), b)) if part[1] - part[0] > _NONE]
    return sorted(set(spans))


def clip(spans: list[Span], low: float, high: float) -> list[Span]:
    """The parts of stretches between two places."""
    return [(max(a, low), min(b, high)) for a, b in spans if min(b, high) - max(a, low) > _NONE]


# Lines


@query
def shapes_of(q: Engine, street: str, side: Side, round: LineId | None = None) -> tuple[str, ...]:
    """The shapes of the drains that stand beside a side's own boundary, or ``round`` another of its boundaries."""
    return tuple(dict.fromkeys(s.shape for s in stretches(q, street, side) if s.round == round))


def lines_beside(q: Engine, street: str, side: Side, round: LineId | None = None) -> tuple[DrainLine, ...]:
    """The lines of the drains beside a boundary of a side, from there outwards."""
    return tuple(
        DrainLine(street, side, shape, p.point, round)
        for shape in shapes_of(q, street, side, round)
        for p in parts.kerb_shape(q, shape).points
    )


def lines_of(q: Engine, street: str, side: Side) -> tuple[DrainLine, ...]:
    """All lines of a side's drains."""
    boundaries = dict.fromkeys(s.round for s in stretches(q, street, side))
    return tuple(id for round in boundaries for id in lines_beside(q, street, side, round))


def host_of(q: Engine, id: DrainLine) -> LineId:
    """The boundary beside which a line of drains lies."""
    return id.round or boundary_of(q, id.street, id.side)


def _title(q: Engine, id: DrainLine) -> str:
    place = f" {where(id.round)}" if id.round else ""
    return f"{name_of(q, id.street)} {id.side} drain{place} {id.point}"


def plan_of(q: Engine, id: DrainLine) -> LinePlan:
    """A drain's line in plan: where no drain of the shape stands it has a gap."""
    shape, own = parts.kerb_shape(q, id.shape), _own(q, id)
    out = next(p.out for p in shape.points if p.point == id.point) / 1000.0
    boundary = line_plan(q, host_of(q, id))
    offset = boundary.offset.plus(_scaled(own, out), float(np.sign(boundary.offset.values.sum())))
    gaps = tuple((a.finish, b.begin) for a, b in zip(own[:-1], own[1:]))
    return LinePlan(_title(q, id), "drain", boundary.base, offset, own[0].begin, own[-1].finish, gaps)


def rule_of(q: Engine, id: DrainLine) -> LevelRule:
    """A drain's line lies below the boundary by its shape, less in the tapers; where the drain has a grade line of its own, by
    as much of its depth there as the shape says.
    """
    shape, own = parts.kerb_shape(q, id.shape), _own(q, id)
    up = next(p.up for p in shape.points if p.point == id.point) / 1000.0
    boundary, title = host_of(q, id), _title(q, id)
    base, words = line(q, boundary).rule, f"boundary to {id.point} of {shape.name}"
    graded: list[tuple[Stretch, Profile]] = [(d, p) for d in own if (p := own_profile(q, d)) is not None]
    if not graded:
        whole = ((words, _scaled(own, up)),)
        return Above(title, "out from the boundary by the drain's shape", boundary, "boundary", base, whole)
    free = [d for d in own if all(d is not g for g, _ in graded)]
    share = up / invert_of(shape)
    pulls = tuple(Pull(f"its own grade line, {share:.2f} of its depth", p, _scaled([d], share)) for d, p in graded)
    rises = ((words, _scaled(free, up)),) if free else ()
    return Pulled(title, "between the boundary and the drain's own invert", boundary, "boundary", base, rises, pulls)


def own_levels(q: Engine, stretch: Stretch) -> tuple[Floats, Floats] | None:
    """The chainages and levels that were set for a drain's invert, as its street runs; None where it follows the street."""
    if not isinstance(stretch.boundary, StreetLine):
        return None
    street, side = owner(q, stretch.boundary)
    drawn, total, turned = drawn_side(q, street, side), chain_of(q, street).total, frame_of(q, street).turned
    for g in parts.owned(q, DrainGrade, street):
        s, z = np.array(g.levels).T
        if turned:
            s, z = total - s[::-1], z[::-1]
        if g.side == drawn and s[0] < stretch.finish and s[-1] > stretch.begin:
            return s, z
    return None


def own_profile(q: Engine, stretch: Stretch) -> Profile | None:
    """The grade line that was set for a drain's invert, run on straight to both its ends; None where it follows the street."""
    found = own_levels(q, stretch)
    if found is None:
        return None
    s, z = found
    for end, k in ((stretch.begin, 0), (stretch.finish, -1)):
        beyond = s[k] - end if k == 0 else end - s[k]
        if beyond > _NONE:
            grade = (z[1] - z[0]) / (s[1] - s[0]) if k == 0 else (z[-1] - z[-2]) / (s[-1] - s[-2])
            level = z[k] + grade * (end - s[k])
            s, z = (
                (np.insert(s, 0, end), np.insert(z, 0, level)) if k == 0 else (np.append(s, end), np.append(z, level))
            )
    return Profile.of(s, z)


def _own(q: Engine, id: DrainLine) -> list[Stretch]:
    found = [s for s in stretches(q, id.street, id.side) if s.shape == id.shape and s.round == id.round]
    if not found:
        raise Unsolved(str(id), "no drain of this shape stands there", "choose another line")
    return found


def _scaled(own: list[Stretch], value: float) -> Varying:
    """A measure of a drain along it: nothing where it begins and ends, whole between its tapers and where it goes on."""
    at, values = list[float](), list[float]()
    for d in own:
        first, last = (value if on else 0.0 for on in d.goes_on)
        at += [d.begin, *d.full, d.finish]
        values += [first, value, value, last]
    return Varying.of(at, values)


@query
def drain_stations(q: Engine, street: str, side: Side, round: LineId | None = None) -> Floats:
    """Places on a boundary of a side at which it must have a row for its drains."""
    if not has_drain(q, street, side):
        return frozen([])
    found = q.attempt(stretches, street, side)
    own = () if isinstance(found, Unsolved) else [d for d in found if d.round == round]
    return frozen([s for d in own for s in (d.begin, *d.full, d.finish)])
