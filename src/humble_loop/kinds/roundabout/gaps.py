"""Between two neighbouring legs of a roundabout: the kerb from one lip round on the circle to the other, for lips and radii that are given.

A kerb leaves one leg's lip by an arc, goes round on the inscribed circle and reaches the next leg's lip by another arc, touching all three. It
runs anticlockwise, with the land on its right. At the lip either may have an outer arc of another radius. Where two legs are so near that
their arcs would meet before they reach the circle both have the largest radius with which they just do not; where that is much less than
was chosen, and than the circle's, the kerb is one arc from lip to lip, outside the circle.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from math import ceil, cos, sin, sqrt
from typing import NamedTuple

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import Floats, left_normals
from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.corners import CornerCurve, EdgeLine, OuterArc, arc_corner, three_centred_corner
from humble_loop.kinds.roundabout.place import (
    Leg,
    LegSizes,
    circle_of,
    entry_side,
    leg_of,
    leg_sizes,
    legs_of,
    middle_of,
    sizes_of,
)
from humble_loop.site.model import SIDES, Side, side_sign

_LEAST_ARC = 0.05  # metres of the inscribed circle between two legs' arcs
_WORTH = 0.5  # of the radii that were chosen, or of the circle's, below which one arc from lip to lip serves better
_SHARES = (1.0, 0.9, 0.8, 0.7, 0.6, 0.5, 0.4)
"""Of the radius that was chosen that one arc from lip to lip is tried with."""
_SHARES_LESSENED = (0.9, 0.7, 0.0)
"""Of the radii that were chosen that lesser ones are looked for above, the least being reached at last."""
_TURN_HALVINGS = 14
_ALIKE = 1e-12  # metres between two edges that are one
_ROUND = 0.01  # metres to which a radius is told, downwards


class NoKerb(Exception):
    """A kerb that cannot be made: why, and what helps."""

    def __init__(self, words: str, remedy: str) -> None:
        super().__init__(words)
        self.words, self.remedy = words, remedy


@dataclass(frozen=True)
class Circle:
    """An inscribed circle: its ``middle`` (2,) and ``radius`` (m)."""

    middle: Floats
    radius: float


def inscribed(q: Engine, id: str) -> Circle:
    """The inscribed circle of a roundabout."""
    return Circle(middle_of(q, id), sizes_of(q, id).radius)


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


# What was chosen on a side of a leg


def lane_side(q: Engine, leg: Leg, sizes: LegSizes, seen: Side) -> float:
    """How far (m) a leg's lanes to and from the circle reach from its centreline, on the side ``seen`` left or right going outwards."""
    half = 0.5 * sizes.splitter_width if sizes.splitter > 0.0 else 0.0
    aside = sizes.splitter_offset * side_sign(seen) if sizes.splitter > 0.0 else 0.0
    return half + aside + (sizes.entry if seen == entry_side(q) else sizes.exit)


def lane_edge(q: Engine, leg: Leg, sizes: LegSizes, seen: Side) -> EdgeLine:
    """The edge of these, parallel to the leg."""
    return EdgeLine.beside(leg.chain, side_sign(seen) * lane_side(q, leg, sizes, seen), side_sign(seen))


def arc_radius(q: Engine, sizes: LegSizes, seen: Side) -> float:
    """The radius that was chosen for a leg's arc on a side."""
    return sizes.entry_radius if seen == entry_side(q) else sizes.exit_radius


def outer_arc(q: Engine, sizes: LegSizes, seen: Side) -> OuterArc | None:
    """The arc at the lip that was chosen for a leg on a side; None for none."""
    outer, turn = (
        (sizes.entry_outer, sizes.entry_turn) if seen == entry_side(q) else (sizes.exit_outer, sizes.exit_turn)
    )
    return OuterArc(outer, float(np.radians(turn))) if outer > 0.0 and turn > 0.0 else None


# One arc, between a lip and the circle


class Touch(NamedTuple):
    """The arc between a leg's edge and the inscribed circle; where it touches the leg (m along it, and m to its left), and the circle (its angle)."""

    curve: CornerCurve
    at: float
    offset: float
    angle: float


def touch(circle: Circle, leg: Leg, edge: EdgeLine, radius: float, seen: Side, outer: OuterArc | None) -> Touch:
    """The arc between a leg's edge and the inscribed circle, with an outer one at the edge if it is to have that.

    On the left it runs inwards, on the right outwards, as the kerb does. Raises DoesNotFit where there is none.
    """
    middle, size, sign = circle.middle, circle.radius, side_sign(seen)
    begin = leg.angle + np.pi
    ring = EdgeLine.beside(circle_of(middle, size, begin), 0.0, -1.0)
    # About where the centre lies if the leg is straight: radius beyond the edge, and beyond the circle.
    x, y, heading, _ = leg.chain.place(leg.throat)
    (mx, my), (ux, uy) = middle.tolist(), (cos(heading), sin(heading))
    aside = sign * (abs(edge.offset(leg.throat)) + radius)
    across = (y - my) * ux - (x - mx) * uy + aside
    if abs(across) >= size + radius:
        raise _passes(abs(across) - radius, size)
    out = sqrt((size + radius) ** 2 - across**2)
    near = mx + out * ux - across * uy, my + out * uy + across * ux
    guess = leg.chain.foot(*near)[0]
    none = OuterArc(radius, 0.0)
    if seen == "left":
        at = (guess, float(np.pi * size))
        if outer is None:
            made = arc_corner(edge, ring, radius, near, at)
        else:
            made = three_centred_corner(edge, ring, outer, radius, none, near, at)
        on_leg, on_circle = made.base_start, made.base_end
    else:
        at = (float(np.pi * size), guess)
        if outer is None:
            made = arc_corner(ring, edge, radius, near, at)
        else:
            made = three_centred_corner(ring, edge, none, radius, outer, near, at)
        on_leg, on_circle = made.base_end, made.base_start
    if on_leg < leg.throat:
        raise _passes(abs(across) - radius, size)
    if not on_leg < leg.chain.total:
        raise _beyond(radius, leg)
    return Touch(made, on_leg, edge.offset(on_leg), begin + on_circle / size)


@query
def lane_arc(q: Engine, id: str, key: str, seen: Side) -> Touch | None:
    """The arc that was chosen for a leg on a side, from the edge of its lanes to the circle; None where there is none."""
    leg = leg_of(q, id, key)
    sizes = leg_sizes(q, id, leg)
    edge, outer = lane_edge(q, leg, sizes, seen), outer_arc(q, sizes, seen)
    try:
        return touch(inscribed(q, id), leg, edge, arc_radius(q, sizes, seen), seen, outer)
    except DoesNotFit:
        return None


def _runs_there(edge: EdgeLine, known: Touch) -> bool:
    """Whether an edge runs along the lanes where an arc at these touches, as it mostly does: then that is its arc as well."""
    return edge.slope(known.at) == 0.0 and abs(edge.offset(known.at) - known.offset) < _ALIKE


def _passes(away: float, radius: float) -> DoesNotFit:
    return DoesNotFit(
        f"its lip passes {away:.2f} m from the middle of a circle of {radius:g} m, too far out to come round into it"
    )


def _beyond(radius: float, leg: Leg) -> DoesNotFit:
    return DoesNotFit(f"with a radius of {radius:g} m it ends beyond the leg, which is {leg.chain.total:.2f} m long")


# From leg to leg


@dataclass(frozen=True)
class _Arcs:
    """The two arcs of a kerb, where each touches its leg (m along it), the angle at which the first comes to the circle, and how many metres of
    the circle are left between them, less than none where they meet before they reach it.
    """

    curves: tuple[CornerCurve, CornerCurve]
    leg_at: tuple[float, float]
    begin: float
    left: float


_Outer = tuple[OuterArc | None, OuterArc | None]
_NEITHER: _Outer = (None, None)


@dataclass(frozen=True)
class Gap:
    """What lies between a leg and the next anticlockwise: their places among the legs, the ``edges`` of what the kerb stands beside, the
    radii and outer arcs that were chosen, and the arcs that these make at the edges of the lanes, where there are such.
    """

    circle: Circle
    at: tuple[int, int]
    legs: tuple[Leg, Leg]
    edges: tuple[EdgeLine, EdgeLine]
    wanted: tuple[float, float]
    outer: _Outer
    at_lanes: tuple[Touch | None, Touch | None] = (None, None)

    def kerb(self, least: Callable[[], float]) -> Kerb:
        """Its kerb; radii that are lessened for want of room are ``least`` (m) or more, which is asked then. Raises NoKerb."""
        most, why, missing = max(self.wanted), None, -np.inf
        try:
            arcs = self._arcs(most, self.outer)
            if (made := self._kerb(most, arcs)) is not None:
                return made
            missing = arcs.left - _LEAST_ARC
        except DoesNotFit as error:
            why = error
        if self.outer != _NEITHER and self.fits(_NEITHER):
            words = f"its kerb does not fit with an outer arc: {why or 'the arcs meet before they reach the circle'}"
            raise NoKerb(words, self._less_turn())
        try:
            worth = _WORTH * min(most, self.circle.radius)
            return self._lessened(most, missing, max(least(), worth)) or self._largest_alone()
        except DoesNotFit as error:
            remedy = "enlarge the circle, or move the leg nearer to its middle"
            raise NoKerb(f"its kerb does not fit: {why or error}", remedy) from None

    def fits(self, outer: _Outer) -> bool:
        """Whether a kerb of the radii that were chosen has room for outer arcs."""
        try:
            return self._laid(max(self.wanted), outer) is not None
        except DoesNotFit:
            return False

    def turn_with_room(self, seen: Side, arc: OuterArc) -> float:
        """By how many degrees an outer arc at the first leg (on its left) or the last (on its right) can turn, at most as far as it does; 0 where
        there is no room for it.
        """

        def fits(share: float) -> bool:
            mine = _part(arc, share)
            return self.fits((mine, self.outer[1]) if seen == "left" else (self.outer[0], mine))

        return _told_turn(_share_with_room(fits) * arc.turn)

    def alone(self, radius: float) -> Kerb:
        """One arc from edge to edge, that passes the circle outside. Raises DoesNotFit."""
        made, middle = self.arc(radius), self.circle.middle
        if float(np.hypot(*(made.centre - middle))) - radius < self.circle.radius - 1e-6:
            raise DoesNotFit("their lips meet where the circle is")
        nearest = float(made.chain.feet([middle]).chainages[0])
        place = made.chain.points_at([nearest])[0] - middle
        first = self.legs[0].angle
        angle = first + float(np.mod(np.arctan2(place[1], place[0]) - first, 2.0 * np.pi))
        leg_at, share = (made.base_start, made.base_end), nearest / made.chain.total
        return Kerb(*self.at, made.chain, (radius, radius), (angle, angle), leg_at, self.wanted, True, share)

    def arc(self, radius: float) -> CornerCurve:
        """An arc that touches both edges outside the circle's throats. Raises DoesNotFit."""
        one, other = self.legs
        headings = [float(g.chain.at([g.throat]).headings[0]) for g in self.legs]
        (px, py), (qx, qy) = (
            g.chain.points_at([g.throat])[0] + left_normals(h) * side_sign(s) * (abs(e.offset(g.throat)) + radius)  # type: ignore[arg-type]
            for g, h, e, s in zip(self.legs, headings, self.edges, ("left", "right"))
        )
        (ux, uy), (vx, vy) = ((np.cos(h), np.sin(h)) for h in headings)
        det = ux * -vy + uy * vx
        if abs(det) < 1e-6:
            raise DoesNotFit("the two legs run side by side")
        t = ((qx - px) * -vy + (qy - py) * vx) / det
        near = np.array([px + t * ux, py + t * uy])
        guess = (one.throat + t, float(other.chain.feet([near], extend=True).chainages[0]))
        made = arc_corner(*self.edges, radius, near, guess)
        for leg, u in zip(self.legs, (made.base_start, made.base_end)):
            if u < leg.throat:
                raise DoesNotFit("it would leave the lip where the circle is")
            if not u < leg.chain.total:
                raise _beyond(radius, leg)
        return made

    def _laid(self, most: float, outer: _Outer) -> Kerb | None:
        """Its kerb with radii of at most ``most``; None where the two arcs meet before they reach the circle. Raises DoesNotFit."""
        return self._kerb(most, self._arcs(most, outer))

    def _arcs(self, most: float, outer: _Outer) -> _Arcs:
        """Its two arcs with radii of at most ``most``, and what is left of the circle between them. Raises DoesNotFit."""
        one, other = self.legs
        radii = min(self.wanted[0], most), min(self.wanted[1], most)
        a, u, _, begin = self._arc(0, radii[0], outer[0])
        b, v, _, finish = self._arc(1, radii[1], outer[1])
        turn = float(np.mod(other.angle - one.angle, 2.0 * np.pi)) or 2.0 * np.pi
        left = turn - _turned(begin - one.angle) - _turned(other.angle - finish)
        return _Arcs((a, b), (u, v), begin, left * self.circle.radius)

    def _arc(self, n: int, radius: float, outer: OuterArc | None) -> Touch:
        """The arc at the first (0) or the last (1) leg. Raises DoesNotFit."""
        edge, known, seen = self.edges[n], self.at_lanes[n], SIDES[n]
        if known is not None and radius == self.wanted[n] and outer == self.outer[n] and _runs_there(edge, known):
            return known
        return touch(self.circle, self.legs[n], edge, radius, seen, outer)

    def _kerb(self, most: float, arcs: _Arcs) -> Kerb | None:
        """The kerb of two arcs; None where they meet before they reach the circle."""
        size, (a, b), left = self.circle.radius, arcs.curves, arcs.left
        if left < _LEAST_ARC:
            return None
        radii = min(self.wanted[0], most), min(self.wanted[1], most)
        first = a.chain.elements
        pieces = [*first, Element(left, 1.0 / size, 1.0 / size), *b.chain.elements]
        chain = Chain.from_elements(a.start, float(a.chain.heading[0]), pieces)
        angles = arcs.begin, arcs.begin + left / size
        return Kerb(*self.at, chain, radii, angles, arcs.leg_at, self.wanted, on_circle=len(first))

    def _less_turn(self) -> str:
        """By how much outer arcs may turn at most, in words."""
        share = _share_with_room(lambda f: self.fits((_part(self.outer[0], f), _part(self.outer[1], f))))
        most = [_told_turn(share * arc.turn) for arc in self.outer if arc is not None]
        if not all(most):
            return "lessen its radius, or have one arc again"
        return f"let it turn by at most {' and '.join(f'{t:.1f}°' for t in most)}"

    def _lessened(self, wanted: float, missing: float, least: float) -> Kerb | None:
        """The kerb with the largest radii, in whole centimetres, at which both arcs leave the circle between them; None for none of ``least`` or more.

        ``missing`` is by how much of the circle (m, negative) too little is left with ``wanted``; infinite where the arcs do not fit.
        """

        def tried(steps: int) -> tuple[Kerb | None, float]:
            try:
                arcs = self._arcs(steps * _ROUND, self.outer)
            except DoesNotFit:
                return None, -np.inf
            return self._kerb(steps * _ROUND, arcs), arcs.left - _LEAST_ARC

        lowest, high = ceil(least / _ROUND), ceil(wanted / _ROUND)
        best, low, spare = None, high, 0.0
        for share in _SHARES_LESSENED:  # mostly it is little
            low = max(ceil(share * wanted / _ROUND), lowest)
            if low >= high:
                return None
            best, spare = tried(low)
            if best is not None or low == lowest:
                break
            high, missing = low, spare
        if best is None:
            return None
        moved = 0
        while high - low > 1:
            # What is spare runs nearly straight against the radius: next is where that crosses nothing. An end that has stayed twice counts
            # half, so that both close in. Halfway where nothing is known of one end.
            share = spare / (spare - missing) if np.isfinite(missing) else 0.5
            middle = min(max(low + int(share * (high - low)), low + 1), high - 1)
            made, more = tried(middle)
            if made is None:
                high, missing, moved = middle, more, min(moved, 0) - 1
                spare *= 0.5 if moved < -1 else 1.0
            else:
                low, best, spare, moved = middle, made, more, max(moved, 0) + 1
                missing *= 0.5 if moved > 1 else 1.0
        return best

    def _largest_alone(self) -> Kerb:
        """One arc from lip to lip: of the greater radius that was chosen, or of as much of that as there is room for."""
        first: DoesNotFit | None = None
        for share in _SHARES:
            try:
                return self.alone(share * max(self.wanted))
            except DoesNotFit as error:
                first = first or error
        raise first or DoesNotFit("it has no room")


def gap_after(q: Engine, id: str, key: str, edge: Callable[[Leg, LegSizes, Side], EdgeLine]) -> Gap:
    """The gap after a leg; ``edge`` is asked for a leg's edge on a side."""
    legs = legs_of(q, id)
    k = next(i for i, g in enumerate(legs) if g.key == key)
    n = (k + 1) % len(legs)
    one, other = legs[k], legs[n]
    a, b = leg_sizes(q, id, one), leg_sizes(q, id, other)
    return Gap(
        inscribed(q, id),
        (k, n),
        (one, other),
        (edge(one, a, "left"), edge(other, b, "right")),
        (arc_radius(q, a, "left"), arc_radius(q, b, "right")),
        (outer_arc(q, a, "left"), outer_arc(q, b, "right")),
        (lane_arc(q, id, one.key, "left"), lane_arc(q, id, other.key, "right")),
    )


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


def _turned(angle: float) -> float:
    """An angle within half a turn."""
    return float(np.mod(angle + np.pi, 2.0 * np.pi) - np.pi)
