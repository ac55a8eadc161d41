"""Islands that part the two ways of a road before a circle, in plan: arcs and offsets of the road's own line, closed and without a kink."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import Floats, left_normals, tangents
from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.outlines import backwards, closed, parallel
from humble_loop.geometry.roots import zero_between


@dataclass(frozen=True)
class Beside:
    """What an island has on one side: an arc about ``centre`` (2,) with ``radius`` that touches its straight side ``at`` metres along the
    road; that lies ``out`` metres from the road's line.
    """

    centre: Floats
    radius: float
    at: float
    out: float


@dataclass(frozen=True)
class _Side:
    """A side as it is laid: parallel to the road from ``begin`` metres along it outwards; before that it turns by ``bend`` (radians) on an arc
    of ``radius``, and by ``turn`` in its corner about ``fillet`` (2,).
    """

    out: float
    begin: float
    radius: float
    bend: float
    turn: float
    fillet: Floats


def splitter_outlines(
    road: Chain,
    left: Beside,
    right: Beside,
    middle: Floats,
    radius: float,
    nose: float,
    rounding: float,
    opening: tuple[float, float] | None = None,
) -> tuple[Chain, ...]:
    """The outlines, anticlockwise, of an island about a ``road`` that runs away from a circle about ``middle`` (2,) with ``radius``.

    Its sides are parallel to the road out to ``nose`` metres along it, where it ends round. Towards the circle they bend away from one another as the
    kerbs beside them do, where it is long enough for that, and end at the circle in corners rounded by ``rounding``. With an ``opening``
    from one place along the road to another it is in two pieces, the nearer one first. Raises DoesNotFit where it has no room.
    """
    wide = left.out + right.out
    if wide < 2.0 * rounding or min(left.out, right.out) < 0.0:
        raise DoesNotFit(f"it is {wide:.2f} m wide, less than its corners take, or lies beside the road's line")
    far = nose if opening is None else opening[0] - rounding
    sides = [_side(road, b, middle, radius, rounding, far, k) for k, b in enumerate((left, right))]
    least = max(s.begin for s in sides)
    if far < least:
        what = "it ends" if opening is None else "its opening begins"
        raise DoesNotFit(f"{what} {least - far:.2f} m too near to the circle")
    if opening is None:
        return (_outline(road, sides, middle, radius, rounding, far, _round(wide)),)
    if opening[1] > nose - rounding:
        raise DoesNotFit(f"its opening ends {opening[1] - nose + rounding:.2f} m beyond its end")
    near = _outline(road, sides, middle, radius, rounding, far, _across(wide, rounding))
    return near, _far(road, left.out, right.out, opening[1], nose, rounding)


def _side(road: Chain, b: Beside, middle: Floats, radius: float, rounding: float, far: float, k: int) -> _Side:
    """The left (0) or right (1) side."""
    if b.at <= far:
        fillet = _fillet(b, middle, radius, rounding, road)
        towards = b.centre - fillet
        bend, begin, size = _bend(b, road, fillet), b.at, b.radius
    else:
        # Too short to bend with its kerb: parallel to the road up to its corner.
        sign = 1.0 if k == 0 else -1.0
        begin = _meets(road, sign * (b.out - rounding), middle, radius + rounding)
        frame = road.at([begin])
        towards = sign * left_normals(frame.headings[0])
        fillet, bend, size = frame.points[0] + (b.out - rounding) * towards, 0.0, np.inf
    # Seen from the corner's centre it touches the side in one direction, and the circle towards the middle.
    turn = _angle(towards, middle - fillet) if k == 0 else _angle(middle - fillet, towards)
    return _Side(b.out, begin, size, bend, float(np.mod(turn, 2.0 * np.pi)), fillet)


def _meets(road: Chain, offset: float, middle: Floats, away: float) -> float:
    """Where along the road a line ``offset`` to its left leaves a circle about a place."""

    def beyond(u: Floats) -> Floats:
        return np.asarray(np.hypot(*(road.points_at(u, offset) - middle).T) - away)

    u = np.linspace(0.0, min(road.total, 3.0 * away), 400)
    out = np.flatnonzero(beyond(u) > 0.0)
    if not out.size:
        raise DoesNotFit("its road is too short")
    return 0.0 if out[0] == 0 else zero_between(beyond, float(u[out[0] - 1]), float(u[out[0]]))


def _across(wide: float, rounding: float) -> list[Element]:
    """Square across from one side to the other, with both corners."""
    corner = Element(0.5 * np.pi * rounding, 1.0 / rounding, 1.0 / rounding)
    straight = wide - 2.0 * rounding
    return [corner, *([Element(straight, 0.0, 0.0)] if straight > 1e-9 else []), corner]


def _round(wide: float) -> list[Element]:
    return [Element(0.5 * np.pi * wide, 2.0 / wide, 2.0 / wide)]


def _far(road: Chain, left: float, right: float, begin: float, nose: float, rounding: float) -> Chain:
    """The piece beyond an opening."""
    a = begin + rounding
    up, down = parallel(road, a, nose, -right), backwards(parallel(road, a, nose, left))
    frame = road.at([a])
    elements = [*up, *_round(left + right), *down, *_across(left + right, rounding)]
    return closed(frame.points[0] - right * left_normals(frame.headings[0]), float(frame.headings[0]), elements)


def _outline(
    road: Chain, sides: list[_Side], middle: Floats, radius: float, rounding: float, far: float, end: list[Element]
) -> Chain:
    """From the circle out to ``far`` metres along the road, where it has an ``end``."""
    left, right = sides
    sweep = _angle(
        right.fillet - middle, left.fillet - middle
    )  # clockwise round the circle, from its left to its right
    if sweep <= 0.0:
        raise DoesNotFit("its corners at the circle have no room beside one another")
    elements = [
        *parallel(road, right.begin, far, -right.out),
        *end,
        *backwards(parallel(road, left.begin, far, left.out)),
        *_bent(left),
        Element(left.turn * rounding, 1.0 / rounding, 1.0 / rounding),
        Element(sweep * radius, -1.0 / radius, -1.0 / radius),
        Element(right.turn * rounding, 1.0 / rounding, 1.0 / rounding),
        *_bent(right),
    ]
    frame = road.at([right.begin])
    return closed(frame.points[0] - right.out * left_normals(frame.headings[0]), float(frame.headings[0]), elements)


def _bent(side: _Side) -> list[Element]:
    return [Element(side.bend * side.radius, -1.0 / side.radius, -1.0 / side.radius)] if side.bend > 0.0 else []


def _fillet(side: Beside, middle: Floats, radius: float, rounding: float, road: Chain) -> Floats:
    """The centre (2,) of the corner between a side's arc and the circle: ``rounding`` beyond both, on the road's side."""
    apart = side.centre - middle
    d, a, b = float(np.hypot(*apart)), radius + rounding, side.radius + rounding
    along = (d * d + a * a - b * b) / (2.0 * d)
    square = a * a - along * along
    if square <= 0.0:
        raise DoesNotFit("its side does not come as near as the circle")
    unit = apart / d
    foot, aside = middle + along * unit, np.sqrt(square) * np.array([-unit[1], unit[0]])
    away = [float(np.abs(road.feet([p], extend=True).offsets[0])) for p in (foot + aside, foot - aside)]
    found: Floats = foot + aside if away[0] < away[1] else foot - aside
    return found


def _bend(side: Beside, road: Chain, fillet: Floats) -> float:
    """By how much (radians) a side's arc turns between its straight and its corner."""
    frame = road.at([side.at])
    sign = np.sign((side.centre - frame.points[0]) @ left_normals(frame.headings[0]))
    straight = frame.points[0] + sign * side.out * left_normals(frame.headings[0]) - side.centre
    turn = abs(_angle(straight, fillet - side.centre))
    inwards = -tangents(frame.headings[0])
    if float((fillet - side.centre) @ inwards) < 0.0:
        raise DoesNotFit("its corners at the circle lie beyond its sides; lengthen it, or lessen its width")
    return turn


def _angle(a: Floats, b: Floats) -> float:
    """The angle from one direction anticlockwise to another, within half a turn."""
    return float(np.arctan2(a[0] * b[1] - a[1] * b[0], a @ b))
