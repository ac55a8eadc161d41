"""Arcs that touch two lines."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Floats, frozen, left_normals
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
        short_arc(centre, radius, start, end),
    )


def short_arc(centre: Floats, radius: float, start: Floats, end: Floats) -> Chain:
    """The shorter of the two arcs round a centre from one point (2,) to another, both ``radius`` metres from it."""
    a = np.arctan2(*(start - centre)[::-1])
    b = np.arctan2(*(end - centre)[::-1])
    turn = np.mod(b - a + np.pi, 2 * np.pi) - np.pi
    if abs(turn) < 1e-9:
        raise DoesNotFit("the arc has no length")
    heading = a + np.sign(turn) * np.pi / 2
    return Chain.from_elements(
        start, float(heading), [Element(abs(turn) * radius, np.sign(turn) / radius, np.sign(turn) / radius)]
    )
