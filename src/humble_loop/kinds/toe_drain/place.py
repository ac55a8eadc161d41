"""Where drains stand along the toe of a side's cut, and their lines.

A drain is wanted where the ground stands above its invert across its whole width: there water from the ground beyond would
come down onto the road. Gaps that are too short are closed, stretches that are too short are left out; then what was chosen
holds. None stands where the boundary is interrupted or something adjoins it, nor inside a bend that has no room for it.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.gradeline import Profile
from humble_loop.ground.drape import cross_segments
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street.batter import outwards
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, is_new, name_of
from humble_loop.kinds.street.side import course, drawn_side, sections_along, stations
from humble_loop.kinds.toe_drain.model import DrainChoice, DrainGrade
from humble_loop.lines.line import LineId, LinePlan, ThingId, line, line_plan
from humble_loop.lines.rules import Above, LevelRule, Pull, Pulled
from humble_loop.lines.standing import kinds
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.library import KerbShape, ToeDrain
from humble_loop.site.model import Side, side_sign

Span = tuple[float, float]
_STEP = 2.0  # metres between the places at which the ground is asked
_ROOM = 0.1  # of its length along the centreline that the far edge of a drain keeps inside a bend, at least
_NONE = 1e-6  # metres of a stretch that is none


@dataclass(frozen=True)
class DrainLine(LineId):
    """A line of a street's drains of one shape on a side: a point of the shape, all along the stretches where it stands."""

    street: str
    side: Side
    shape: str
    point: str
    kind: ClassVar[str] = "toe_drain"

    @property
    def thing(self) -> ThingId:
        return drain_id(self.street, self.side)


def drain_id(street: str, side: Side) -> ThingId:
    """The drains of a side of a street, as one thing."""
    return ThingId("toe_drain", f"{street}:{side}")


@dataclass(frozen=True)
class Stretch:
    """A drain from ``begin`` to ``finish`` of the street as it runs, of a ``shape``, with ``taper`` metres at both ends."""

    begin: float
    finish: float
    shape: str
    taper: float
    least_fall: float
    chosen: bool

    @property
    def full(self) -> Span:
        """Between its tapers; at its middle where it is too short for both."""
        taper = min(self.taper, 0.5 * (self.finish - self.begin))
        return self.begin + taper, self.finish - taper


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


def boundary_of(q: Engine, street: str, side: Side) -> StreetLine:
    """The line beyond which a side's drains stand."""
    return StreetLine(street, course(q, street, side).names[-1], side)


def width_of(shape: KerbShape) -> float:
    """Metres from a drain's edge at the road to its far edge."""
    return shape.points[-1].out / 1000.0


def invert_of(shape: KerbShape) -> float:
    """Metres of its lowest point above its edge at the road: below zero."""
    return min(p.up for p in shape.points) / 1000.0


@dataclass(frozen=True)
class Room:
    """Where a drain may stand, from ``begin`` to ``finish``: the lowest level (n,) of the ground across its whole width at
    places ``s`` (n,); NaN where there is none.
    """

    drain: ToeDrain
    begin: float
    finish: float
    s: Floats
    ground: Floats


@query
def rooms(q: Engine, street: str, side: Side) -> tuple[Room, ...]:
    """Where a side's drains may stand. This rests on nothing that has a level but the ground, so a drag leaves it alone."""
    boundary = boundary_of(q, street, side)
    plan = line_plan(q, boundary)
    taken = [*plan.gaps, *(span for kind in kinds() for span in kind.claims(q, boundary))]
    found = []
    for span, drain in drains_of(q, street, side):
        width = width_of(parts.kerb_shape(q, drain.shape))
        low, high = max(span[0], plan.start), min(span[1], plan.end)
        for a, b in without([(low, high)], [*taken, *_tight(plan, low, high, width)]):
            s = np.linspace(a, b, max(2, int(np.ceil((b - a) / _STEP)) + 1))
            found.append(Room(drain, a, b, frozen(s), frozen(_lowest(q, plan, s, width))))
    return tuple(found)


@query
def stretches(q: Engine, street: str, side: Side) -> tuple[Stretch, ...]:
    """The drains of a side, in order."""
    if ground_of(q).empty:
        return ()
    boundary, chosen = line(q, boundary_of(q, street, side)), _chosen(q, street, side)
    forced = [(a, b) for a, b, stands in chosen if stands]
    left_out = [(a, b) for a, b, stands in chosen if not stands]
    found: list[Stretch] = []
    for room in rooms(q, street, side):
        drain, (a, b) = room.drain, (room.begin, room.finish)
        above = room.ground - boundary.rule.levels(room.s) - invert_of(parts.kerb_shape(q, drain.shape))
        wet = joined(_positive(room.s, np.where(np.isfinite(above), above, -1.0)), drain.least_gap)
        inside = [*((s, e) for s, e in wet if e - s >= drain.least_length), *clip(forced, a, b)]
        for s, e in without(joined(inside, 0.0), left_out):
            by_choice = any(s < f and e > b0 for b0, f in forced)
            found.append(Stretch(s, e, drain.shape, drain.taper, drain.least_fall, by_choice))
    return tuple(sorted(found, key=lambda f: f.begin))


def _chosen(q: Engine, street: str, side: Side) -> list[tuple[float, float, bool]]:
    """What was chosen on a side, at the chainages of the street as it runs."""
    drawn, total, turned = drawn_side(q, street, side), chain_of(q, street).total, frame_of(q, street).turned
    found = []
    for c in parts.owned(q, DrainChoice, street):
        if c.side == drawn:
            span = (total - c.finish, total - c.begin) if turned else (c.begin, c.finish)
            found.append((*span, c.stands))
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
def shapes_of(q: Engine, street: str, side: Side) -> tuple[str, ...]:
    """The shapes of the drains that stand on a side."""
    return tuple(dict.fromkeys(s.shape for s in stretches(q, street, side)))


def lines_of(q: Engine, street: str, side: Side) -> tuple[DrainLine, ...]:
    """The lines of a side's drains, from the boundary outwards."""
    return tuple(
        DrainLine(street, side, shape, p.point)
        for shape in shapes_of(q, street, side)
        for p in parts.kerb_shape(q, shape).points
    )


def plan_of(q: Engine, id: DrainLine) -> LinePlan:
    """A drain's line in plan: where no drain of the shape stands it has a gap."""
    shape, own = parts.kerb_shape(q, id.shape), _own(q, id)
    out = next(p.out for p in shape.points if p.point == id.point) / 1000.0
    boundary = line_plan(q, boundary_of(q, id.street, id.side))
    title = f"{name_of(q, id.street)} {id.side} drain {id.point}"
    offset = boundary.offset.plus(_scaled(own, out), side_sign(id.side))
    gaps = tuple((a.finish, b.begin) for a, b in zip(own[:-1], own[1:]))
    return LinePlan(title, "drain", boundary.base, offset, own[0].begin, own[-1].finish, gaps)


def rule_of(q: Engine, id: DrainLine) -> LevelRule:
    """A drain's line lies below the boundary by its shape, less in the tapers; where the drain has a grade line of its own, by
    as much of its depth there as the shape says.
    """
    shape, own = parts.kerb_shape(q, id.shape), _own(q, id)
    up = next(p.up for p in shape.points if p.point == id.point) / 1000.0
    title = f"{name_of(q, id.street)} {id.side} drain {id.point}"
    boundary = boundary_of(q, id.street, id.side)
    base, words = line(q, boundary).rule, f"boundary to {id.point} of {shape.name}"
    graded: list[tuple[Stretch, Profile]] = [
        (d, p) for d in own if (p := own_profile(q, id.street, id.side, d)) is not None
    ]
    if not graded:
        whole = ((words, _scaled(own, up)),)
        return Above(title, "out from the boundary by the drain's shape", boundary, "boundary", base, whole)
    free = [d for d in own if all(d is not g for g, _ in graded)]
    share = up / invert_of(shape)
    pulls = tuple(Pull(f"its own grade line, {share:.2f} of its depth", p, _scaled([d], share)) for d, p in graded)
    rises = ((words, _scaled(free, up)),) if free else ()
    return Pulled(title, "between the boundary and the drain's own invert", boundary, "boundary", base, rises, pulls)


def own_profile(q: Engine, street: str, side: Side, stretch: Stretch) -> Profile | None:
    """The grade line that was set for a drain's invert, run on straight to both its ends; None where it follows the street."""
    drawn, total, turned = drawn_side(q, street, side), chain_of(q, street).total, frame_of(q, street).turned
    for g in parts.owned(q, DrainGrade, street):
        s, z = np.array(g.levels).T
        if turned:
            s, z = total - s[::-1], z[::-1]
        if g.side != drawn or s[0] >= stretch.finish or s[-1] <= stretch.begin:
            continue
        for end, k in ((stretch.begin, 0), (stretch.finish, -1)):
            beyond = s[k] - end if k == 0 else end - s[k]
            if beyond > _NONE:
                grade = (z[1] - z[0]) / (s[1] - s[0]) if k == 0 else (z[-1] - z[-2]) / (s[-1] - s[-2])
                level = z[k] + grade * (end - s[k])
                s, z = (
                    (np.insert(s, 0, end), np.insert(z, 0, level))
                    if k == 0
                    else (np.append(s, end), np.append(z, level))
                )
        return Profile.of(s, z)
    return None


def _own(q: Engine, id: DrainLine) -> list[Stretch]:
    found = [s for s in stretches(q, id.street, id.side) if s.shape == id.shape]
    if not found:
        raise Unsolved(str(id), "no drain of this shape stands on this side", "choose another line")
    return found


def _scaled(own: list[Stretch], value: float) -> Varying:
    """A measure of a drain along it: nothing where it begins and ends, whole between its tapers."""
    at = [s for d in own for s in (d.begin, *d.full, d.finish)]
    return Varying.of(at, [v for _ in own for v in (0.0, value, value, 0.0)])


@query
def drain_stations(q: Engine, street: str, side: Side) -> Floats:
    """Chainages at which a street must have a row for a side's drains."""
    if not has_drain(q, street, side):
        return frozen([])
    found = q.attempt(stretches, street, side)
    own = () if isinstance(found, Unsolved) else found
    return frozen([s for d in own for s in (d.begin, *d.full, d.finish)])
