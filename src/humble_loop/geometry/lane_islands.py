"""Islands between a lane that goes past on an arc and the edge of a carriageway from which it parts and to which it comes back, in plan."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import Floats, left_normals, tangents
from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.outlines import backwards, closed
from humble_loop.geometry.roots import zero_between

_EVERY = 0.25  # metres between places at which a nose or a corner is looked for
_LEAST = 0.5  # metres of a piece along edge and lane, or it is left out


@dataclass(frozen=True)
class Across:
    """A line square across the lane through a ``place`` (2,): ``forward`` (radians) is the way on, square to it."""

    place: Floats
    forward: float


@dataclass(frozen=True)
class _Cap:
    """An end of a piece: where its rounding touches the edge and the lane (chainages), with the line across where it has one."""

    on_edge: float
    on_lane: float
    across: Across | None = None


def lane_islands(
    edge: Chain,
    lane: Chain,
    nose: float,
    rounding: float,
    openings: Sequence[tuple[Across, Across]] = (),
) -> tuple[Chain, ...]:
    """The outlines, anticlockwise, of what lies to the right of an ``edge`` and to the left of a ``lane``'s, an arc to the right; both run the same way.

    It begins and ends where it is wide enough for a round nose with the radius ``nose``. Every one of the ``openings``, in order, is left out
    from its first line to its second, with corners rounded by ``rounding``. Raises DoesNotFit where it is narrower than a nose.
    """
    radius = -1.0 / float(lane.k0[0])
    centre = lane.xy[0] - radius * left_normals(lane.heading[0])
    first, last = _noses(edge, lane, nose, centre, radius)
    found, begin = [], first
    for ends, begins in openings:
        found.append((begin, _cut(edge, lane, (first, last), ends, -rounding)))
        begin = _cut(edge, lane, (first, last), begins, rounding)
    pieces = [(a, b) for a, b in (*found, (begin, last)) if _long(a, b)]
    if not pieces:
        raise DoesNotFit("its openings leave nothing of it")
    return tuple(_outline(edge, lane, a, b, nose, rounding) for a, b in pieces)


def _long(a: _Cap, b: _Cap) -> bool:
    return b.on_edge - a.on_edge > _LEAST and b.on_lane - a.on_lane > _LEAST


def _places(chain: Chain, low: float, high: float) -> Floats:
    return np.linspace(low, high, 2 + int((high - low) / _EVERY))


def _noses(edge: Chain, lane: Chain, nose: float, centre: Floats, radius: float) -> tuple[_Cap, _Cap]:
    """Where a circle of the nose's radius lies between both, at the beginning and at the end."""

    def room(s: Floats) -> Floats:
        return np.asarray(np.hypot(*(edge.points_at(s, -nose) - centre).T) - radius - nose)

    s = _places(edge, 0.0, edge.total)
    clear = room(s) > 0.0
    if not clear.any():
        raise DoesNotFit(
            f"it is {float(room(s).max()) + 2.0 * nose:.2f} m wide at most, and has {2.0 * nose:g} m at its ends"
        )
    a, b = int(np.argmax(clear)), len(s) - 1 - int(np.argmax(clear[::-1]))
    if not clear[a : b + 1].all():
        least = float(room(s[a : b + 1]).min()) + 2.0 * nose
        raise DoesNotFit(f"it is only {least:.2f} m wide on its way, and has {2.0 * nose:g} m at its ends")
    if a == 0 or b == len(s) - 1:
        raise DoesNotFit("it does not come to an end where its lane does")
    places = zero_between(room, float(s[a - 1]), float(s[a])), zero_between(room, float(s[b]), float(s[b + 1]))
    on_lane = lane.feet(edge.points_at(places, -nose)).chainages
    return _Cap(places[0], float(on_lane[0])), _Cap(places[1], float(on_lane[1]))


def _cut(edge: Chain, lane: Chain, noses: tuple[_Cap, _Cap], line: Across, away: float) -> _Cap:
    """Where corners that touch a line across touch edge and lane, their centres ``away`` metres beyond it (before it below zero).

    Where the line lies outside a nose it is that.
    """
    way, (first, last) = tangents(line.forward), noses

    def crossed(chain: Chain, aside: float, low: float, high: float) -> float:
        def beyond(s: Floats) -> Floats:
            return np.asarray((chain.points_at(s, aside) - line.place) @ way - away)

        s = _places(chain, low, high)
        over = beyond(s) > 0.0
        k = int(np.argmax(over)) if over.any() else len(s)
        return low if k == 0 else high if k == len(s) else zero_between(beyond, float(s[k - 1]), float(s[k]))

    on_edge = crossed(edge, -abs(away), first.on_edge, last.on_edge)
    on_lane = crossed(lane, abs(away), first.on_lane, last.on_lane)
    if on_edge == first.on_edge or on_lane == first.on_lane:
        return first
    return last if on_edge == last.on_edge or on_lane == last.on_lane else _Cap(on_edge, on_lane, line)


def _outline(edge: Chain, lane: Chain, begin: _Cap, finish: _Cap, nose: float, rounding: float) -> Chain:
    """Back along the edge, round the beginning, on along the lane, and round the end."""
    frames = [
        line.at([a, b]) for line, a, b in ((edge, begin.on_edge, finish.on_edge), (lane, begin.on_lane, finish.on_lane))
    ]
    (e0, e1), (l0, l1) = (f.headings.tolist() for f in frames)
    centres = [
        (edge.points_at([c.on_edge], -r)[0], lane.points_at([c.on_lane], r)[0])
        for c in (begin, finish)
        for r in (rounding if c.across else nose,)
    ]
    elements = [
        *backwards(edge.part(begin.on_edge, finish.on_edge).elements),
        *_end(begin, e0 + np.pi, l0, -0.5 * np.pi, centres[0], nose, rounding),
        *lane.part(begin.on_lane, finish.on_lane).elements,
        *_end(finish, l1, e1 + np.pi, 0.5 * np.pi, centres[1], nose, rounding),
    ]
    return closed(frames[0].points[1], e1 + np.pi, elements)


def _end(
    cap: _Cap, before: float, after: float, aside: float, centres: tuple[Floats, Floats], nose: float, rounding: float
) -> list[Element]:
    """The elements of an end, from one heading to another (radians): a round nose, or two corners and a straight ``aside`` of its line's way."""
    if cap.across is None:
        return [Element(_turn(before, after) * nose, 1.0 / nose, 1.0 / nose)]
    across, bent = cap.across.forward + aside, 1.0 / rounding
    straight = abs(float((centres[1] - centres[0]) @ tangents(across)))
    return [
        Element(_turn(before, across) * rounding, bent, bent),
        Element(straight, 0.0, 0.0),
        Element(_turn(across, after) * rounding, bent, bent),
    ]


def _turn(before: float, after: float) -> float:
    """How far (radians) it is to the left from one heading to another."""
    return float(np.mod(after - before, 2.0 * np.pi))
