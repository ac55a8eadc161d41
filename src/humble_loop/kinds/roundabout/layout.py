"""Roundabouts in plan: the kerbs between neighbouring legs, and by how much the legs widen.

A kerb leaves one leg's lip by an arc, goes round on the inscribed circle and reaches the next leg's lip by another arc, touching all three. It
runs anticlockwise, with the land on its right. At the lip either may have an outer arc of another radius. Where two legs are so near that
their arcs would meet before they reach the circle both have the largest radius with which they just do not; where that is much less than
was chosen, and than the circle's, the kerb is one arc from lip to lip, outside the circle.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import Floats, frozen, left_normals
from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.corners import CornerCurve, EdgeLine, OuterArc, arc_corner, three_centred_corner
from humble_loop.kinds.roundabout.place import (
    Leg,
    LegSizes,
    circle_of,
    entry_side,
    leg_name,
    leg_sizes,
    legs_of,
    legs_on,
    middle_of,
    roundabout_name,
    sizes_of,
)
from humble_loop.kinds.street.section import SideShape, alike, side_shape
from humble_loop.kinds.street.side import drawn_side, lip_width, section_at
from humble_loop.lines.kind import Widens
from humble_loop.lines.line import LineId, LinePlan, ThingId
from humble_loop.lines.varying import Varying
from humble_loop.site.model import Side, side_sign

TIGHT = 0.95  # the most of an arc's radius that verge and path may take
_LEAST_ARC = 0.05  # metres of the inscribed circle between two legs' arcs
_HALVINGS = 40
_ROUND = 0.01  # metres to which a radius is told, downwards
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


@dataclass(frozen=True)
class Kerb:
    """The kerb between two legs in plan, anticlockwise. ``first`` and ``last`` are their places among the legs.

    Its ``chain`` is an arc of ``radii[0]``, one of the inscribed circle from the angle ``angles[0]`` to ``angles[1]`` (radians), and one of
    ``radii[1]``, with outer arcs beyond them where they were chosen: its element ``on_circle`` is that of the circle. Or where it is ``alone`` it
    is a single arc, and both angles are the one at which it is nearest to the circle. It leaves the first leg ``leg_at[0]`` metres along that
    and reaches the last at ``leg_at[1]``. ``wanted`` are the radii that were chosen.
    """

    first: int
    last: int
    chain: Chain
    radii: tuple[float, float]
    angles: tuple[float, float]
    leg_at: tuple[float, float]
    wanted: tuple[float, float]
    alone: bool = False
    nearest: float = 0.5
    on_circle: int = 1

    @property
    def ends(self) -> tuple[float, float]:
        """Distances along it between which it runs on the inscribed circle; where it does not both where it is nearest to that."""
        if self.alone:
            middle = float(self.chain.total * self.nearest)
            return middle, middle
        return float(self.chain.starts[self.on_circle]), float(self.chain.starts[self.on_circle + 1])

    @property
    def tightest(self) -> float:
        """The least radius (m) of the arcs that turn into its legs."""
        return 1.0 / float(-self.chain.k0.min())

    def arcs(self, n: int) -> range:
        """Its elements between the circle and the first (0) or the last (1) leg."""
        count = len(self.chain.elements)
        return range(count) if self.alone else (range(self.on_circle), range(self.on_circle + 1, count))[n]

    def beside_circle(self, n: int) -> int:
        """Which of its elements comes to the circle from the first (0) or the last (1) leg."""
        return 0 if self.alone else self.on_circle + (1 if n else -1)


# By how much legs widen


def lane_side(q: Engine, leg: Leg, sizes: LegSizes, seen: Side) -> float:
    """How far (m) a leg's lip is to lie from its centreline at the circle, on the side ``seen`` left or right going outwards."""
    half = 0.5 * sizes.splitter_width if sizes.splitter > 0.0 else 0.0
    aside = sizes.splitter_offset * side_sign(seen) if sizes.splitter > 0.0 else 0.0
    return half + aside + (sizes.entry if seen == entry_side(q) else sizes.exit)


def arc_radius(q: Engine, sizes: LegSizes, seen: Side) -> float:
    """The radius that was chosen for a leg's arc on a side."""
    return sizes.entry_radius if seen == entry_side(q) else sizes.exit_radius


def outer_arc(q: Engine, sizes: LegSizes, seen: Side) -> OuterArc | None:
    """The arc at the lip that was chosen for a leg on a side; None for none."""
    outer, turn = (
        (sizes.entry_outer, sizes.entry_turn) if seen == entry_side(q) else (sizes.exit_outer, sizes.exit_turn)
    )
    return OuterArc(outer, float(np.radians(turn))) if outer > 0.0 and turn > 0.0 else None


@query
def leg_widens(q: Engine, street: str, side: Side) -> tuple[Widens, ...]:
    """How the legs of roundabouts that a street is widen on a side of it, from centrelines and typical sections alone."""
    found = []
    for id, leg in legs_on(q, street):
        seen, sizes = leg.own_side(side), leg_sizes(q, id, leg)
        target = lane_side(q, leg, sizes, seen)
        section = section_at(q, street, leg.at)[0].side(drawn_side(q, street, side))
        edge = EdgeLine.beside(leg.chain, side_sign(seen) * target, side_sign(seen))
        try:
            touched = _touch(q, id, leg, edge, arc_radius(q, sizes, seen), seen, outer_arc(q, sizes, seen))[1]
        except DoesNotFit:
            touched = leg.throat
        inside = min(_BACK, 0.5 * leg.throat) if leg.throat > 0 else 0.0
        # Beside a splitter island both ways keep their width.
        full = max(touched + _HOLD, leg.throat + sizes.splitter)
        begin, finish = leg.along(leg.throat - 2.0 * inside), leg.along(full + sizes.flare)
        tapers = inside, sizes.flare
        if leg.way < 0:
            begin, finish, tapers = finish, begin, (sizes.flare, inside)
        found.append(Widens(begin, finish, target - section.width, *tapers))
    return tuple(found)


# Kerbs


def _touch(
    q: Engine, id: str, leg: Leg, edge: EdgeLine, radius: float, seen: Side, outer: OuterArc | None
) -> tuple[CornerCurve, float, float]:
    """The arc between a leg's edge and the inscribed circle, with an outer one at the edge if it is to have that; where it touches the leg
    (m along it), and the circle (its angle).

    On the left it runs inwards, on the right outwards, as the kerb does. Raises DoesNotFit where there is none.
    """
    middle, size, sign = middle_of(q, id), sizes_of(q, id).radius, side_sign(seen)
    begin = leg.angle + np.pi
    circle = EdgeLine.beside(circle_of(middle, size, begin), 0.0, -1.0)
    # About where the centre lies if the leg is straight: radius beyond the edge, and beyond the circle.
    frame = leg.chain.at([leg.throat])
    aside = sign * (abs(edge.offset(leg.throat)) + radius)
    square = left_normals(frame.headings[0])
    across = float((frame.points[0] - middle) @ square) + aside
    if abs(across) >= size + radius:
        raise _passes(abs(across) - radius, size)
    out = float(np.sqrt((size + radius) ** 2 - across**2))
    along = np.array([square[1], -square[0]])
    near = middle + across * square + out * along
    guess = float(leg.chain.feet([near], extend=True).chainages[0])
    none = OuterArc(radius, 0.0)
    if seen == "left":
        at = (guess, float(np.pi * size))
        if outer is None:
            made = arc_corner(edge, circle, radius, near, at)
        else:
            made = three_centred_corner(edge, circle, outer, radius, none, near, at)
        on_leg, on_circle = made.base_start, made.base_end
    else:
        at = (float(np.pi * size), guess)
        if outer is None:
            made = arc_corner(circle, edge, radius, near, at)
        else:
            made = three_centred_corner(circle, edge, none, radius, outer, near, at)
        on_leg, on_circle = made.base_end, made.base_start
    if on_leg < leg.throat:
        raise _passes(abs(across) - radius, size)
    if not on_leg < leg.chain.total:
        raise DoesNotFit(f"with a radius of {radius:g} m it ends beyond the leg, which is {leg.chain.total:.2f} m long")
    return made, on_leg, begin + on_circle / size


def _passes(away: float, radius: float) -> DoesNotFit:
    return DoesNotFit(
        f"its lip passes {away:.2f} m from the middle of a circle of {radius:g} m, too far out to come round into it"
    )


def lip_edge(q: Engine, leg: Leg, seen: Side) -> EdgeLine:
    """A leg's lip along it."""
    width, sign = lip_width(q, leg.street, leg.own_side(seen)), side_sign(seen)
    at, out = (width.at - leg.inner) * leg.way, sign * width.values
    return EdgeLine(leg.chain, at[:: leg.way], out[:: leg.way], sign)


_Outer = tuple[OuterArc | None, OuterArc | None]


@dataclass(frozen=True)
class _Gap:
    """What lies between a leg and the next anticlockwise: their places among the legs, their lips, and the radii and outer arcs that were chosen."""

    at: tuple[int, int]
    legs: tuple[Leg, Leg]
    edges: tuple[EdgeLine, EdgeLine]
    wanted: tuple[float, float]
    outer: _Outer

    def laid(self, q: Engine, id: str, most: float, outer: _Outer) -> Kerb | None:
        """Its kerb with radii of at most ``most``; None where the two arcs meet before they reach the circle. Raises DoesNotFit."""
        (one, other), size = self.legs, sizes_of(q, id).radius
        radii = min(self.wanted[0], most), min(self.wanted[1], most)
        a, u, begin = _touch(q, id, one, self.edges[0], radii[0], "left", outer[0])
        b, v, finish = _touch(q, id, other, self.edges[1], radii[1], "right", outer[1])
        turn = float(np.mod(other.angle - one.angle, 2.0 * np.pi)) or 2.0 * np.pi
        left = turn - _turned(begin - one.angle) - _turned(other.angle - finish)
        if left * size < _LEAST_ARC:
            return None
        first = a.chain.elements
        pieces = [*first, Element(left * size, 1.0 / size, 1.0 / size), *b.chain.elements]
        chain = Chain.from_elements(a.start, float(a.chain.heading[0]), pieces)
        return Kerb(*self.at, chain, radii, (begin, begin + left), (u, v), self.wanted, on_circle=len(first))


def _gap_after(q: Engine, id: str, key: str) -> _Gap:
    legs = legs_of(q, id)
    k = next(i for i, g in enumerate(legs) if g.key == key)
    n = (k + 1) % len(legs)
    one, other = legs[k], legs[n]
    sizes = leg_sizes(q, id, one), leg_sizes(q, id, other)
    return _Gap(
        (k, n),
        (one, other),
        (lip_edge(q, one, "left"), lip_edge(q, other, "right")),
        (arc_radius(q, sizes[0], "left"), arc_radius(q, sizes[1], "right")),
        (outer_arc(q, sizes[0], "left"), outer_arc(q, sizes[1], "right")),
    )


@query
def kerb_after(q: Engine, id: str, key: str) -> Kerb:
    """The kerb that begins on the left of a leg. Raises Unsolved where there is none."""
    gap = _gap_after(q, id, key)
    (one, other), wanted = gap.legs, gap.wanted
    name = f"{roundabout_name(q, id)}, from {leg_name(q, id, one)} to {leg_name(q, id, other)}"
    ends: tuple[tuple[Leg, Side], ...] = ((one, "left"), (other, "right"))
    reach = max(side_shape(q, g.street, g.own_side(s), g.at).reach for g, s in ends)
    why: DoesNotFit | None = None
    try:
        if (made := gap.laid(q, id, max(wanted), gap.outer)) is not None:
            return made
    except DoesNotFit as error:
        why = error
    if gap.outer != _NEITHER and _fits(q, id, gap, _NEITHER):
        words = f"its kerb does not fit with an outer arc: {why or 'the arcs meet before they reach the circle'}"
        raise Unsolved(name, words, _less_turn(q, id, gap))
    try:
        worth = _WORTH * min(max(wanted), sizes_of(q, id).radius)
        made = _lessened(lambda most: gap.laid(q, id, most, gap.outer), max(wanted), max(reach / TIGHT, worth))
        return made or _largest_alone(q, id, gap.at, gap.legs, gap.edges, wanted)
    except DoesNotFit as error:
        words, remedy = (
            f"its kerb does not fit: {why or error}",
            "enlarge the circle, or move the leg nearer to its middle",
        )
        raise Unsolved(name, words, remedy) from None


_NEITHER: _Outer = (None, None)


def _fits(q: Engine, id: str, gap: _Gap, outer: _Outer) -> bool:
    """Whether a kerb of the radii that were chosen has room for outer arcs."""
    try:
        return gap.laid(q, id, max(gap.wanted), outer) is not None
    except DoesNotFit:
        return False


def _less_turn(q: Engine, id: str, gap: _Gap) -> str:
    """By how much outer arcs may turn at most, in words."""
    share = _share_with_room(lambda f: _fits(q, id, gap, (_part(gap.outer[0], f), _part(gap.outer[1], f))))
    most = [_told_turn(share * arc.turn) for arc in gap.outer if arc is not None]
    if not all(most):
        return "lessen its radius, or have one arc again"
    return f"let it turn by at most {' and '.join(f'{t:.1f}°' for t in most)}"


def turn_with_room(q: Engine, id: str, leg: Leg, seen: Side, arc: OuterArc) -> float:
    """By how many degrees an outer arc on a side of a leg can turn, at most as far as it does; 0 where there is no room for it."""
    legs = legs_of(q, id)
    k = next(i for i, g in enumerate(legs) if g.key == leg.key)
    gap = _gap_after(q, id, leg.key if seen == "left" else legs[k - 1].key)

    def fits(share: float) -> bool:
        mine = _part(arc, share)
        return _fits(q, id, gap, (mine, gap.outer[1]) if seen == "left" else (gap.outer[0], mine))

    return _told_turn(_share_with_room(fits) * arc.turn)


def _part(arc: OuterArc | None, share: float) -> OuterArc | None:
    return None if arc is None else OuterArc(arc.radius, share * arc.turn)


def _told_turn(turn: float) -> float:
    """Radians in tenths of a degree, downwards."""
    return float(np.floor(10.0 * np.degrees(turn) + 1e-9) / 10.0)


def _share_with_room(fits: Callable[[float], bool]) -> float:
    """The largest share, up to the whole, that fits."""
    if fits(1.0):
        return 1.0
    low, high = 0.0, 1.0
    for _ in range(_TURN_HALVINGS):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if fits(middle) else (low, middle)
    return low


_TURN_HALVINGS = 14


def _turned(angle: float) -> float:
    """An angle within half a turn."""
    return float(np.mod(angle + np.pi, 2.0 * np.pi) - np.pi)


_WORTH = 0.5  # of the radii that were chosen, or of the circle's, below which one arc from lip to lip serves better


def _lessened(laid: Callable[[float], Kerb | None], wanted: float, least: float) -> Kerb | None:
    """The kerb with the largest radii at which both arcs leave the circle between them; None for none of ``least`` or more."""

    def tried(most: float) -> Kerb | None:
        try:
            return laid(most)
        except DoesNotFit:
            return None

    low, high = least, wanted
    if least >= wanted or (best := tried(least)) is None:
        return None
    for _ in range(_HALVINGS):
        middle = 0.5 * (low + high)
        made = tried(middle)
        low, high, best = (low, middle, best) if made is None else (middle, high, made)
        if high - low < 0.1 * _ROUND:
            break
    rounded = float(np.floor(low / _ROUND) * _ROUND)
    return (tried(rounded) if rounded > least else None) or best


_SHARES = (
    1.0,
    0.9,
    0.8,
    0.7,
    0.6,
    0.5,
    0.4,
)  # of the radius that was chosen that one arc from lip to lip is tried with


def _largest_alone(
    q: Engine,
    id: str,
    at: tuple[int, int],
    legs: tuple[Leg, Leg],
    edges: tuple[EdgeLine, EdgeLine],
    wanted: tuple[float, float],
) -> Kerb:
    """One arc from lip to lip: of the greater radius that was chosen, or of as much of that as there is room for."""
    first: DoesNotFit | None = None
    for share in _SHARES:
        try:
            return _alone(q, id, at, legs, edges, wanted, share * max(wanted))
        except DoesNotFit as error:
            first = first or error
    raise first or DoesNotFit("it has no room")


def _alone(
    q: Engine,
    id: str,
    at: tuple[int, int],
    legs: tuple[Leg, Leg],
    edges: tuple[EdgeLine, EdgeLine],
    wanted: tuple[float, float],
    radius: float,
) -> Kerb:
    """One arc from lip to lip, that passes the circle outside."""
    one, other = legs
    middle = middle_of(q, id)
    headings = [float(g.chain.at([g.throat]).headings[0]) for g in legs]
    (px, py), (qx, qy) = (
        g.chain.points_at([g.throat])[0] + left_normals(h) * side_sign(s) * (abs(e.offset(g.throat)) + radius)  # type: ignore[arg-type]
        for g, h, e, s in zip(legs, headings, edges, ("left", "right"))
    )
    (ux, uy), (vx, vy) = ((np.cos(h), np.sin(h)) for h in headings)
    det = ux * -vy + uy * vx
    if abs(det) < 1e-6:
        raise DoesNotFit("the two legs run side by side")
    t = ((qx - px) * -vy + (qy - py) * vx) / det
    near = np.array([px + t * ux, py + t * uy])
    guess = (one.throat + t, float(other.chain.feet([near], extend=True).chainages[0]))
    made = arc_corner(edges[0], edges[1], radius, near, guess)
    if float(np.hypot(*(made.centre - middle))) - radius < sizes_of(q, id).radius - 1e-6:
        raise DoesNotFit("their lips meet where the circle is")
    for leg, u in zip(legs, (made.base_start, made.base_end)):
        if u < leg.throat:
            raise DoesNotFit("it would leave the lip where the circle is")
        if not u < leg.chain.total:
            raise DoesNotFit(
                f"with a radius of {radius:g} m it ends beyond the leg, which is {leg.chain.total:.2f} m long"
            )
    nearest = float(made.chain.feet([middle]).chainages[0])
    place = made.chain.points_at([nearest])[0] - middle
    angle = one.angle + float(np.mod(np.arctan2(place[1], place[0]) - one.angle, 2.0 * np.pi))
    leg_at, share = (made.base_start, made.base_end), nearest / made.chain.total
    return Kerb(*at, made.chain, (radius, radius), (angle, angle), leg_at, wanted, True, share)


def kerbs_of(q: Engine, id: str) -> tuple[Kerb, ...]:
    """All kerbs of a roundabout, each after its leg. Raises Unsolved where one cannot be made."""
    return tuple(kerb_after(q, id, g.key) for g in legs_of(q, id))


def leg_edge(q: Engine, id: str, leg: Leg, seen: Side) -> float:
    """How far along a leg (m) its own lip begins on a side: where its kerb leaves it, or its throat where that cannot be made."""
    legs = legs_of(q, id)
    k = next(i for i, g in enumerate(legs) if g.key == leg.key)
    after = leg if seen == "left" else legs[k - 1]
    made = q.attempt(kerb_after, id, after.key)
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


def kerb_name(q: Engine, id: str, key: str) -> str:
    """'Firebrick Street / Ember Loop roundabout, Ember Loop west to Firebrick Street south'."""
    legs = legs_of(q, id)
    k = next(i for i, g in enumerate(legs) if g.key == key)
    ends = (leg_name(q, id, g) for g in (legs[k], legs[(k + 1) % len(legs)]))
    return f"{roundabout_name(q, id)}, {' to '.join(ends)}"


def kerb_plan(q: Engine, id: KerbLine) -> LinePlan:
    """A line along a kerb in plan; outwards is to its right."""
    made, (first, last) = kerb_after(q, id.roundabout, id.leg), kerb_shape(q, id.roundabout, id.leg)
    k, total = first.names.index(id.point), made.chain.total
    offset = Varying.of([0.0, total], [-float(first.out[k]), -float(last.out[k])])
    name = kerb_name(q, id.roundabout, id.leg)
    title, role = (f"{name} kerb", "return") if id.point == "lip" else (f"{name} {id.point}", id.point)
    return LinePlan(title, role, made.chain, offset, 0.0, total)


def circle_places(made: Kerb, s: Floats, radius: float) -> Floats:
    """Angles (n,) on the inscribed circle of places (n,) on the part of a kerb that runs on it."""
    return frozen(made.angles[0] + (s - made.ends[0]) / radius)
