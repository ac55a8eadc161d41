"""Roundabouts in plan: by how much the legs widen, the kerbs between neighbouring legs, and the lines beyond these."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.corners import EdgeLine, OuterArc
from humble_loop.kinds.roundabout.bypass import Bypass, bypass_after, bypass_beside, gap_key, lip_side
from humble_loop.kinds.roundabout.gaps import (
    Gap,
    Kerb,
    NoKerb,
    gap_after,
    lane_arc,
)
from humble_loop.kinds.roundabout.place import (
    Leg,
    leg_name,
    leg_sizes,
    legs_of,
    legs_on,
    roundabout_name,
)
from humble_loop.kinds.street.section import SideShape, alike, side_shape
from humble_loop.kinds.street.side import drawn_side, lip_width, section_at
from humble_loop.lines.kind import Widens
from humble_loop.lines.line import LineId, LinePlan, ThingId
from humble_loop.lines.varying import Varying
from humble_loop.site.model import Side, side_sign

TIGHT = 0.95  # the most of an arc's radius that verge and path may take
_HOLD = 0.5  # metres beyond where its arc leaves it that a lip is parallel to the centreline: it touches there whatever the last digit
_BACK = 1.0  # metres inside the circle over which a leg comes to its width


@dataclass(frozen=True)
class KerbLine(LineId):
    """A line along the kerb that begins on the left of a leg and ends on the right of the next anticlockwise: its lip or a section point outside it."""

    roundabout: str
    leg: str
    point: str = "lip"
    kind: ClassVar[str] = "roundabout"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.roundabout)


# By how much legs widen


@query
def leg_widens(q: Engine, street: str, side: Side) -> tuple[Widens, ...]:
    """How the legs of roundabouts that a street is widen on a side of it, from centrelines and typical sections alone."""
    found = []
    for id, leg in legs_on(q, street):
        seen, sizes = leg.own_side(side), leg_sizes(q, id, leg)
        section = section_at(q, street, leg.at)[0].side(drawn_side(q, street, side))
        target, touched = lip_side(q, id, leg, seen), _turned_off(q, id, leg, seen)
        beside = bypass_beside(q, id, leg, seen)
        taper = sizes.flare if beside is None else beside.taper
        inside = min(_BACK, 0.5 * leg.throat) if leg.throat > 0 else 0.0
        # Beside a splitter island both ways keep their width.
        full = max(touched + _HOLD, leg.throat + sizes.splitter)
        begin, finish = leg.along(leg.throat - 2.0 * inside), leg.along(full + taper)
        tapers = inside, taper
        if leg.way < 0:
            begin, finish, tapers = finish, begin, (taper, inside)
        found.append(Widens(begin, finish, target - section.width, *tapers))
    return tuple(found)


def _turned_off(q: Engine, id: str, leg: Leg, seen: Side) -> float:
    """How far along a leg (m) the arc touches its lip on a side; its throat where none does."""
    if (bypass := bypass_beside(q, id, leg, seen)) is not None:
        return bypass.leg_at[0 if seen == "left" else 1]
    made = lane_arc(q, id, leg.key, seen)
    return leg.throat if made is None else made.at


# Kerbs


def lip_edge(q: Engine, leg: Leg, seen: Side) -> EdgeLine:
    """A leg's lip along it."""
    width, sign = lip_width(q, leg.street, leg.own_side(seen)), side_sign(seen)
    at, out = (width.at - leg.inner) * leg.way, sign * width.values
    return EdgeLine(leg.chain, at[:: leg.way], out[:: leg.way], sign)


def _lip_gap(q: Engine, id: str, key: str) -> Gap:
    return gap_after(q, id, key, lambda leg, sizes, seen: lip_edge(q, leg, seen))


@query
def kerb_after(q: Engine, id: str, key: str) -> Kerb:
    """The kerb that begins on the left of a leg: round on the circle, or outside a bypass lane. Raises Unsolved where there is none."""
    gap = _lip_gap(q, id, key)
    bypass = q.attempt(bypass_after, id, key)
    if isinstance(bypass, Bypass):
        try:
            return gap.alone(bypass.radius)
        except DoesNotFit as error:
            words = f"its kerb does not fit outside its bypass lane: {error}"
            raise Unsolved(
                _gap_name(q, id, gap), words, "give it another radius, or take the bypass lane away"
            ) from None
    ends: tuple[tuple[Leg, Side], ...] = ((gap.legs[0], "left"), (gap.legs[1], "right"))
    try:
        return gap.kerb(lambda: max(side_shape(q, g.street, g.own_side(s), g.at).reach for g, s in ends) / TIGHT)
    except NoKerb as error:
        raise Unsolved(_gap_name(q, id, gap), error.words, error.remedy) from None


def _gap_name(q: Engine, id: str, gap: Gap) -> str:
    return f"{roundabout_name(q, id)}, from {leg_name(q, id, gap.legs[0])} to {leg_name(q, id, gap.legs[1])}"


@query
def lane_kerb(q: Engine, id: str, key: str) -> Kerb:
    """The edge of the lanes of the circle after a leg: its kerb, or beside a bypass lane where that would be without it. Raises Unsolved."""
    bypass = q.attempt(bypass_after, id, key)
    return bypass.lanes if isinstance(bypass, Bypass) else kerb_after(q, id, key)


def turn_with_room(q: Engine, id: str, leg: Leg, seen: Side, arc: OuterArc) -> float:
    """By how many degrees an outer arc on a side of a leg can turn, at most as far as it does; 0 where there is no room for it."""
    return _lip_gap(q, id, gap_key(q, id, leg, seen)).turn_with_room(seen, arc)


def kerbs_of(q: Engine, id: str) -> tuple[Kerb, ...]:
    """All kerbs of a roundabout, each after its leg. Raises Unsolved where one cannot be made."""
    return tuple(kerb_after(q, id, g.key) for g in legs_of(q, id))


def leg_edge(q: Engine, id: str, leg: Leg, seen: Side) -> float:
    """How far along a leg (m) its own lip begins on a side: where its kerb leaves it, or its throat where that cannot be made."""
    made = q.attempt(kerb_after, id, gap_key(q, id, leg, seen))
    return leg.throat if isinstance(made, Unsolved) else made.leg_at[0 if seen == "left" else 1]


_CLEAR = 0.5  # metres beyond the circle from which a leg makes its own carriageway


def carriageway_from(q: Engine, id: str, leg: Leg, seen: Side) -> float:
    """How far along a leg (m) it makes its own carriageway on a side: where its kerb leaves it, and clear of the circle."""
    return min(max(leg_edge(q, id, leg, seen), leg.throat + _CLEAR), leg.chain.total)


# Lines outside the lip


@query
def kerb_shape(q: Engine, id: str, key: str) -> tuple[SideShape, SideShape]:
    """The section outside a kerb's lip, with the points of either end: the first leg's where it begins, the last one's where it ends."""
    legs, made = legs_of(q, id), kerb_after(q, id, key)
    shapes = (
        side_shape(q, g.street, g.own_side(seen), g.along(u))  # type: ignore[arg-type]
        for g, seen, u in ((legs[made.first], "left", made.leg_at[0]), (legs[made.last], "right", made.leg_at[1]))
    )
    return alike(*shapes)


def legs_beside(q: Engine, line: KerbLine) -> tuple[Leg, Leg]:
    """The leg on whose left a kerb begins, and the next, on whose right it ends."""
    legs, made = legs_of(q, line.roundabout), kerb_after(q, line.roundabout, line.leg)
    return legs[made.first], legs[made.last]


def boundary_of(q: Engine, id: str, key: str) -> KerbLine:
    """The boundary beyond a kerb."""
    return KerbLine(id, key, kerb_shape(q, id, key)[0].names[-1])


@query
def kerb_name(q: Engine, id: str, key: str) -> str:
    """'Firebrick Street / Ember Loop roundabout, Ember Loop west to Firebrick Street south'."""
    legs = legs_of(q, id)
    k = next(i for i, g in enumerate(legs) if g.key == key)
    ends = (leg_name(q, id, g) for g in (legs[k], legs[(k + 1) % len(legs)]))
    return f"{roundabout_name(q, id)}, {' to '.join(ends)}"


@query
def kerb_plans(q: Engine, id: str, key: str) -> dict[str, LinePlan]:
    """The lines along a kerb in plan, by section point; outwards is to their right."""
    made, (first, last) = kerb_after(q, id, key), kerb_shape(q, id, key)
    name, total = kerb_name(q, id, key), made.chain.total
    found = {}
    for k, point in enumerate(first.names):
        offset = Varying.of([0.0, total], [-float(first.out[k]), -float(last.out[k])])
        title, role = (f"{name} kerb", "return") if point == "lip" else (f"{name} {point}", point)
        found[point] = LinePlan(title, role, made.chain, offset, 0.0, total)
    return found


def kerb_plan(q: Engine, id: KerbLine) -> LinePlan:
    """A line along a kerb in plan."""
    return kerb_plans(q, id.roundabout, id.leg)[id.point]


def circle_places(made: Kerb, s: Floats, radius: float) -> Floats:
    """Angles (n,) on the inscribed circle of places (n,) on the part of a kerb that runs on it."""
    return frozen(made.angles[0] + (s - made.ends[0]) / radius)
