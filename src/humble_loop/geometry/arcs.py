"""Arcs that touch two lines."""

from __future__ import annotations

from dataclasses import dataclass
from math import atan2, copysign, cos, hypot, pi, sin

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.chain import Chain, Element


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
    wanted = first.offset + first.outwards * radius, second.offset + second.outwards * radius
    x, y = (float(v) for v in np.asarray(near, dtype=np.float64))
    for _ in range(60):
        (_, offset_a, heading_a), (_, offset_b, heading_b) = first.chain.foot(x, y), second.chain.foot(x, y)
        miss_a, miss_b = offset_a - wanted[0], offset_b - wanted[1]
        ax, ay, bx, by = -sin(heading_a), cos(heading_a), -sin(heading_b), cos(heading_b)
        det = ax * by - ay * bx
        if abs(det) < 1e-6:
            raise DoesNotFit("the two lines run side by side, so no arc joins them")
        dx, dy = (miss_b * ay - miss_a * by) / det, (miss_a * bx - miss_b * ax) / det
        size = hypot(dx, dy)
        share = min(1.0, (5.0 * radius + max(abs(miss_a), abs(miss_b))) / max(size, 1e-12))
        x, y = x + share * dx, y + share * dy
        if size < 1e-7:  # the error left is of the order of its square
            break
    (s_a, offset_a, _), (s_b, offset_b, _) = first.chain.foot(x, y), second.chain.foot(x, y)
    if max(abs(offset_a - wanted[0]), abs(offset_b - wanted[1])) > 1e-7:
        raise DoesNotFit(f"no arc of radius {radius:g} m touches both lines there")
    centre, start, end = np.array([x, y]), _beside(first, s_a), _beside(second, s_b)
    arc = short_arc(centre, radius, start, end)
    return TangentArc(frozen(centre), radius, frozen(start), frozen(end), s_a, s_b, arc)


def _beside(line: OffsetLine, s: float) -> Floats:
    """The place (2,) on a line at a chainage of its chain."""
    east, north, heading, _ = line.chain.place(s)
    return np.array([east - line.offset * sin(heading), north + line.offset * cos(heading)])


def short_arc(centre: Floats, radius: float, start: Floats, end: Floats) -> Chain:
    """The shorter of the two arcs round a centre from one point (2,) to another, both ``radius`` metres from it."""
    a, b = (atan2(float(p[1] - centre[1]), float(p[0] - centre[0])) for p in (start, end))
    turn = (b - a + pi) % (2.0 * pi) - pi
    if abs(turn) < 1e-9:
        raise DoesNotFit("the arc has no length")
    curvature = copysign(1.0 / radius, turn)
    return Chain.from_elements(start, a + copysign(0.5 * pi, turn), [Element(abs(turn) * radius, curvature, curvature)])
