"""Arcs that touch two lines, and the outline of a bulb."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Floats, frozen, left_normals
from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.roots import zero_between


class DoesNotFit(ValueError):
    """A construction that has no answer for the sizes given; the message says why."""


@dataclass(frozen=True)
class OffsetLine:
    """The line ``offset`` metres to the left of ``chain`` (negative: right).

    ``side`` (+1 left, -1 right) says on which side of it arcs are wanted; it follows from the offset unless
    the line is its own base.
    """

    chain: Chain
    offset: float
    side: float = 0.0

    @property
    def outwards(self) -> float:
        """+1 or -1: the side on which arcs lie."""
        return self.side or float(np.sign(self.offset))


@dataclass(frozen=True)
class TangentArc:
    """An arc that touches two lines.

    ``centre``, ``start`` and ``end`` are points (2,); ``base_start`` and ``base_end`` the chainages of the
    touching points on the two base chains; ``chain`` the arc itself, from the first line to the second.
    """

    centre: Floats
    radius: float
    start: Floats
    end: Floats
    base_start: float
    base_end: float
    chain: Chain

    @property
    def length(self) -> float:
        """Length of the arc in metres."""
        return self.chain.total

    @property
    def sweep(self) -> float:
        """Turn of the arc in radians, positive."""
        return self.length / self.radius


def tangent_arc(first: OffsetLine, second: OffsetLine, radius: float, near: ArrayLike) -> TangentArc:
    """The arc of ``radius`` outside both lines that touches them, in the quadrant away from both base chains.

    The centre is where the two lines' offsets by the radius cross: found by Newton's method on its distances
    to both base chains, from ``near`` (2,), so straights, arcs and transitions all serve. Raises DoesNotFit
    when there is no such place.
    """
    if not radius > 0:
        raise DoesNotFit("the radius must be more than zero")
    if first.outwards == 0 or second.outwards == 0:
        raise DoesNotFit("a lip line must lie beside its centreline, not on it")
    target = np.array([first.offset + first.outwards * radius, second.offset + second.outwards * radius])
    centre = np.asarray(near, dtype=np.float64).copy()
    for _ in range(60):
        a, b = first.chain.feet(centre, extend=True), second.chain.feet(centre, extend=True)
        miss_a, miss_b = a.offsets[0] - target[0], b.offsets[0] - target[1]
        (ax, ay), (bx, by) = left_normals(a.headings[0]), left_normals(b.headings[0])
        det = ax * by - ay * bx
        if abs(det) < 1e-6:
            raise DoesNotFit("the two lines run side by side, so no arc joins them")
        step = np.array([miss_b * ay - miss_a * by, miss_a * bx - miss_b * ax]) / det
        size = float(np.hypot(*step))
        limit = 5.0 * radius + float(max(abs(miss_a), abs(miss_b)))
        centre = centre + step * min(1.0, limit / max(size, 1e-12))
        if size < 1e-7:  # the error left is of the order of its square
            break
    a, b = first.chain.feet(centre, extend=True), second.chain.feet(centre, extend=True)
    if max(abs(a.offsets[0] - target[0]), abs(b.offsets[0] - target[1])) > 1e-7:
        raise DoesNotFit(f"no arc of radius {radius:g} m touches both lines there")
    start = first.chain.points_at(a.chainages, first.offset)[0]
    end = second.chain.points_at(b.chainages, second.offset)[0]
    return TangentArc(
        frozen(centre),
        radius,
        frozen(start),
        frozen(end),
        float(a.chainages[0]),
        float(b.chainages[0]),
        _short_arc(centre, radius, start, end),
    )


def _short_arc(centre: Floats, radius: float, start: Floats, end: Floats) -> Chain:
    a = np.arctan2(*(start - centre)[::-1])
    b = np.arctan2(*(end - centre)[::-1])
    turn = np.mod(b - a + np.pi, 2 * np.pi) - np.pi
    if abs(turn) < 1e-9:
        raise DoesNotFit("the arc has no length")
    heading = a + np.sign(turn) * np.pi / 2
    return Chain.from_elements(
        start, float(heading), [Element(abs(turn) * radius, np.sign(turn) / radius, np.sign(turn) / radius)]
    )


@dataclass(frozen=True)
class BulbOutline:
    """The lip of a bulb: from the left lip's tangent point round the bulb to the right lip's.

    ``base_left`` and ``base_right`` are chainages of the tangent points on the base chain; ``ring`` has three
    arcs: left return, bulb, right return.
    """

    centre: Floats
    ring: Chain
    base_left: float
    base_right: float
    left_return_centre: Floats
    right_return_centre: Floats


def bulb_outline(
    chain: Chain, left: float, right: float, radius: float, return_radius: float, offset: float
) -> BulbOutline:
    """The outline of a bulb whose centre lies at the end of ``chain``, ``offset`` metres to the left.

    ``left`` and ``right`` are the lip's distances from the centreline (positive). A return centre lies
    half width + return radius across and radius + return radius from the bulb's centre; on a straight, that is
    w + r - o across and sqrt((R + r)^2 - (w + r - o)^2) back. Raises DoesNotFit when no such place exists.
    """
    if not radius > 0 or not return_radius > 0:
        raise DoesNotFit("a bulb's radius and return radius must be more than zero")
    end = chain.total
    centre = chain.points_at([end], offset)[0]
    reach = radius + return_radius
    found = []
    for side, width in ((1.0, left), (-1.0, right)):
        across = side * (width + return_radius)
        if width >= radius + side * offset:
            raise DoesNotFit(
                f"the bulb (radius {radius:g} m) is narrower than the street on the {'left' if side > 0 else 'right'}"
            )
        if abs(across - offset) >= reach:
            raise DoesNotFit(
                f"the bulb's lip (radius {radius:g} m) does not reach past the {'left' if side > 0 else 'right'} lip "
                f"at {width:g} m: enlarge the radius or lessen the offset"
            )

        def gap(s: Floats, across: float = across) -> Floats:
            return np.asarray(np.hypot(*(chain.points_at(s, across) - centre).T) - reach)

        low = end - reach
        if low < 0 or gap(np.array([low]))[0] <= 0:
            low = max(0.0, end - 1.5 * reach)
        if gap(np.array([low]))[0] <= 0:
            raise DoesNotFit("the street is too short for its bulb: lengthen it or lessen the radii")
        s = zero_between(gap, low, end)
        found.append((s, chain.points_at([s], across)[0], chain.points_at([s], side * width)[0]))
    (base_l, c_l, t_l), (base_r, c_r, t_r) = found
    touch_l = centre + (c_l - centre) * (radius / reach)
    touch_r = centre + (c_r - centre) * (radius / reach)
    first = _short_arc(c_l, return_radius, t_l, touch_l)
    last = _short_arc(c_r, return_radius, touch_r, t_r)
    a = np.arctan2(*(touch_l - centre)[::-1])
    b = np.arctan2(*(touch_r - centre)[::-1])
    sweep = float(np.mod(a - b, 2 * np.pi))
    elements = [first.elements[0], Element(sweep * radius, -1.0 / radius, -1.0 / radius), last.elements[0]]
    ring = Chain.assembled(
        np.array([t_l, touch_l, touch_r]),
        np.array([first.heading[0], a - np.pi / 2, last.heading[0]]),
        elements,
    )
    return BulbOutline(frozen(centre), ring, base_l, base_r, frozen(c_l), frozen(c_r))
