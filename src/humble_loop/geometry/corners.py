"""Curves round a corner, from one line to another: an arc, arcs of several radii, or a straight across with rounded ends."""

from __future__ import annotations

from dataclasses import dataclass
from math import atan2, cos, hypot, sin

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arcs import DoesNotFit, OffsetLine, tangent_arc
from humble_loop.geometry.arrays import Floats, frozen, left_normals
from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.roots import zero_between

_ON = 1e-9  # metres to which places are solved
_MOST_STEPS = 60
_NEAR = 1e-5  # metres over which it is seen how a place moves
_MISSED = 1e-7  # metres between two places that are one
_SIDE_BY_SIDE = 1e-6  # of the sine between two lines that do not meet
_NOTHING = 1e-9  # radians of an arc that is none


@dataclass(frozen=True)
class CornerCurve:
    """A curve that leaves one line and joins another, touching both.

    ``chain`` runs from the first to the second; ``base_start`` and ``base_end`` are the chainages of the touching points on the
    lines' base chains; ``towards`` is the side of the chain on which its centres lie (+1 left, -1 right). ``centre`` (2,) and
    ``radius`` are those of its one arc, or of the middle one; NaN for a straight.
    """

    chain: Chain
    base_start: float
    base_end: float
    towards: float
    centre: Floats
    radius: float

    @property
    def length(self) -> float:
        """Length in metres."""
        return self.chain.total

    @property
    def start(self) -> Floats:
        """Where it leaves the first line (2,)."""
        found: Floats = self.chain.points_at([0.0])[0]
        return found

    @property
    def end(self) -> Floats:
        """Where it joins the second (2,)."""
        found: Floats = self.chain.points_at([self.length])[0]
        return found

    @property
    def sweep(self) -> float:
        """How far it turns in all, in radians, positive."""
        return float(np.sum(np.abs(self.chain.k0) * self.chain.length))

    @property
    def tightest(self) -> float:
        """The least radius (m) of its arcs."""
        return 1.0 / float(np.abs(self.chain.k0).max())


@dataclass(frozen=True)
class EdgeLine:
    """A line ``offsets`` (k,) metres to the left of ``chain`` at chainages ``places`` (k,), straight between them and steady beyond.

    ``outwards`` (+1 left, -1 right) says on which side of it curves are wanted.
    """

    chain: Chain
    places: Floats
    offsets: Floats
    outwards: float

    @staticmethod
    def beside(chain: Chain, offset: float, outwards: float = 0.0) -> EdgeLine:
        """A line that is parallel to ``chain``, curves being wanted away from it unless it is said otherwise."""
        return EdgeLine(chain, np.zeros(1), np.array([offset]), outwards or float(np.sign(offset)))

    def offset(self, s: float) -> float:
        """Metres to the left of the chain at a chainage."""
        return float(np.interp(s, self.places, self.offsets))

    def slope(self, s: float) -> float:
        """How that changes per metre, after the chainage."""
        k = int(np.searchsorted(self.places, s, side="right"))
        if k in (0, len(self.places)):
            return 0.0
        run = float(self.places[k] - self.places[k - 1])
        return float(self.offsets[k] - self.offsets[k - 1]) / run if run > 0.0 else 0.0

    def flat(self, s: float) -> OffsetLine:
        """The parallel line that it is at a chainage."""
        return OffsetLine(self.chain, self.offset(s), self.outwards)

    def seen(self, s: float, onwards: float = 0.0, aside: float = 0.0) -> Floats:
        """The place (2,) ``onwards`` metres along it from a chainage and ``aside`` to its outer side."""
        (east, north, heading, curvature), offset, slope = self.chain.place(s), self.offset(s), self.slope(s)
        ux, uy, along = cos(heading), sin(heading), 1.0 - curvature * offset
        wx, wy = along * ux - slope * uy, along * uy + slope * ux
        size, out = hypot(wx, wy), aside * self.outwards
        east, north = east - offset * uy, north + offset * ux
        return np.array([east + (onwards * wx - out * wy) / size, north + (onwards * wy + out * wx) / size])

    def heading(self, s: float) -> float:
        """Its heading at a chainage, in radians."""
        _, _, heading, curvature = self.chain.place(s)
        return heading + atan2(self.slope(s), 1.0 - curvature * self.offset(s))


@dataclass(frozen=True)
class OuterArc:
    """An arc before or after the middle one: its radius (m) and how far it turns (radians); none where it does not turn."""

    radius: float
    turn: float


def arc_corner(
    first: EdgeLine, second: EdgeLine, radius: float, near: ArrayLike, at: tuple[float, float] = (0.0, 0.0)
) -> CornerCurve:
    """One arc that touches both lines outside them: see ``tangent_arc``. Of lines that are not parallel to their chains those at the
    chainages ``at`` are tried first. Raises DoesNotFit where there is none.
    """
    try:
        made = tangent_arc(first.flat(at[0]), second.flat(at[1]), radius, near)
    except DoesNotFit:
        if len(first.places) + len(second.places) == 2:
            raise
        raise DoesNotFit(f"no arc of radius {radius:g} m touches both lines there") from None
    towards = float(np.sign(made.chain.k0[0]))
    u, v = made.base_start, made.base_end
    if _is_flat(first, at[0], u) and _is_flat(second, at[1], v):
        return CornerCurve(made.chain, u, v, towards, made.centre, radius)
    u, v, centre = _meet((first, 0.0, radius), (second, 0.0, radius), u, v)
    heading, whole = _turn(first, second, u, v, towards)
    chain = Chain.from_elements(first.seen(u), heading, [Element(whole * radius, towards / radius, towards / radius)])
    return CornerCurve(chain, u, v, towards, frozen(centre), radius)


def _is_flat(line: EdgeLine, at: float, s: float) -> bool:
    """Whether a line is parallel to its chain at a chainage, as far from it as at another."""
    return line.offset(s) == line.offset(at) and line.slope(s) == 0.0


def _turn(first: EdgeLine, second: EdgeLine, u: float, v: float, towards: float) -> tuple[float, float]:
    """The heading in which a curve leaves the first line, and how far (radians) it turns until it joins the second."""
    headings = [
        line.heading(s) + (0.0 if towards * line.outwards > 0 else np.pi) for line, s in ((first, u), (second, v))
    ]
    return headings[0], float(np.mod(towards * (headings[1] - headings[0]), 2.0 * np.pi))


def three_centred_corner(
    first: EdgeLine,
    second: EdgeLine,
    before: OuterArc,
    radius: float,
    after: OuterArc,
    near: ArrayLike,
    at: tuple[float, float] = (0.0, 0.0),
) -> CornerCurve:
    """An arc of ``radius`` with one of its own before it and one after it, all turning the same way.

    Seen from where it leaves the first line, the middle arc's centre lies (r1 - r) sin t1 onwards and r1 + (r - r1) cos t1 aside
    (r1, t1 the first arc's radius and turn), however the line runs; from its end likewise. Both are one place for one pair of
    chainages, found by Newton's method. Raises DoesNotFit where there is none, or the outer arcs turn more than the corner.
    """
    simple = arc_corner(first, second, radius, near, at)
    towards = simple.towards
    (a, aside_a), (b, aside_b) = (
        ((r.radius - radius) * np.sin(r.turn), r.radius + (radius - r.radius) * np.cos(r.turn)) for r in (before, after)
    )
    u, v, centre = _meet(
        (first, towards * first.outwards * a, aside_a),
        (second, -towards * second.outwards * b, aside_b),
        simple.base_start,
        simple.base_end,
    )
    heading, whole = _turn(first, second, u, v, towards)
    middle = whole - before.turn - after.turn
    if middle < _NOTHING:
        raise DoesNotFit(
            f"its outer arcs turn by {np.degrees(before.turn + after.turn):.1f}°, and the corner by {np.degrees(whole):.1f}° only"
        )
    arcs = [(before.turn, before.radius), (middle, radius), (after.turn, after.radius)]
    elements = [Element(t * r, towards / r, towards / r) for t, r in arcs if t > _NOTHING]
    return CornerCurve(Chain.from_elements(first.seen(u), heading, elements), u, v, towards, frozen(centre), radius)


def chamfer_corner(
    first: EdgeLine,
    second: EdgeLine,
    backs: tuple[float, float],
    rounding: float,
    near: ArrayLike,
    at: tuple[float, float] = (0.0, 0.0),
) -> CornerCurve:
    """A straight from ``backs[0]`` metres (as the crow flies) before where the lines meet to ``backs[1]`` beyond on the second, and arcs
    of ``rounding`` (m) where it leaves them. Raises DoesNotFit where there is none, or the roundings have no room on it.
    """
    simple = arc_corner(first, second, rounding, near, at)
    towards = simple.towards
    u, v, meet = _meet((first, 0.0, 0.0), (second, 0.0, 0.0), simple.base_start, simple.base_end)
    begin = _away(first, u, -towards * first.outwards, meet, backs[0])
    finish = _away(second, v, towards * second.outwards, meet, backs[1])
    places = [first.seen(begin), second.seen(finish)]
    across = Chain.from_points(places)
    line = EdgeLine.beside(across, 0.0, towards)
    inwards = rounding * towards * left_normals(float(across.heading[0]))
    opening = arc_corner(first, line, rounding, places[0] + inwards, (begin, 0.0))
    closing = arc_corner(line, second, rounding, places[1] + inwards, (across.total, finish))
    straight = closing.base_start - opening.base_end
    if straight < _ON:
        raise DoesNotFit(
            f"roundings of {rounding:g} m have no room on its straight of {across.total:.2f} m; cut it further back"
        )
    elements = [*opening.chain.elements, Element(straight, 0.0, 0.0), *closing.chain.elements]
    chain = Chain.from_elements(opening.start, float(opening.chain.heading[0]), elements)
    nowhere = frozen(np.full(2, np.nan))
    return CornerCurve(chain, opening.base_start, closing.base_end, towards, nowhere, float("nan"))


_SeenFrom = tuple[EdgeLine, float, float]  # a line, metres onwards along it, and metres to its outer side


def _meet(first: _SeenFrom, second: _SeenFrom, u: float, v: float) -> tuple[float, float, Floats]:
    """Chainages at which two lines see one place each in its way, and the place (2,)."""
    (one, *of_one), (other, *of_other) = first, second

    def moves(line: EdgeLine, s: float, how: list[float]) -> Floats:
        a, b = max(s - _NEAR, 0.0), min(s + _NEAR, line.chain.total)
        found: Floats = (line.seen(b, *how) - line.seen(a, *how)) / max(b - a, _NEAR)
        return found

    for _ in range(_MOST_STEPS):
        apart = other.seen(v, *of_other) - one.seen(u, *of_one)
        dp, dq = moves(one, u, of_one), moves(other, v, of_other)
        det = float(dq[0] * dp[1] - dp[0] * dq[1])
        if abs(det) < _SIDE_BY_SIDE:
            raise DoesNotFit("the two lines run side by side, so they do not meet in a corner")
        du = float(dq[0] * apart[1] - dq[1] * apart[0]) / det
        dv = float(dp[0] * apart[1] - dp[1] * apart[0]) / det
        u, v = u + du, v + dv
        if not (0.0 <= u <= one.chain.total and 0.0 <= v <= other.chain.total):
            raise DoesNotFit("it would begin or end beyond one of the two lines")
        if abs(du) + abs(dv) < _ON:
            break
    place = one.seen(u, *of_one)
    if float(np.hypot(*(place - other.seen(v, *of_other)))) > _MISSED:
        raise DoesNotFit("no such curve touches both lines there; one of them bends where it would")
    return u, v, place


def _away(line: EdgeLine, at: float, way: float, meet: Floats, distance: float) -> float:
    """The chainage of the place on a line that lies ``distance`` from a place on it, going ``way`` along its base."""

    def beyond(x: Floats) -> Floats:
        return np.array([np.hypot(*(line.seen(at + way * float(v)) - meet)) for v in x]) - distance

    most = min(2.0 * distance, line.chain.total - at if way > 0 else at)
    if most <= 0.0 or beyond(np.array([most]))[0] < 0.0:
        raise DoesNotFit(f"its line has no room for {distance:g} m back from the corner")
    return at + way * zero_between(beyond, 0.0, most)
