"""One place of a chain of straights and arcs at a time: what ``Chain`` works out for arrays, in plain numbers.

Solvers ask for one place after another, and an array of one costs them ten times as much. The formulas are those of ``Chain``; that both
say the same is tested.
"""

from __future__ import annotations

from bisect import bisect_right
from math import asin, atan2, cos, hypot, pi, sin, sqrt
from typing import NamedTuple

_STRAIGHT = 1e-9  # radians of half a turn below which a chord is as long as its arc


class Piece(NamedTuple):
    """A straight or an arc: where it starts, its heading there, length, curvature (1/m) and chainage; an arc also has its
    ``centre`` and the ``angle`` of its start seen from that.
    """

    x: float
    y: float
    heading: float
    length: float
    curvature: float
    start: float
    centre: tuple[float, float]
    angle: float

    @staticmethod
    def of(x: float, y: float, heading: float, length: float, curvature: float, start: float, flat: float) -> Piece:
        """A piece; one with a curvature of ``flat`` or less is a straight."""
        if abs(curvature) <= flat:
            return Piece(x, y, heading, length, curvature, start, (0.0, 0.0), float("nan"))
        towards = -sin(heading) / curvature, cos(heading) / curvature
        return Piece(
            x,
            y,
            heading,
            length,
            curvature,
            start,
            (x + towards[0], y + towards[1]),
            atan2(-towards[1], -towards[0]),
        )


def run(t: float, curvature: float, heading: float) -> tuple[float, float, float]:
    """East and north from where an arc or straight starts after ``t`` metres, and the heading there."""
    half = 0.5 * curvature * t
    chord = t if abs(half) < _STRAIGHT else t * sin(half) / half
    return chord * cos(heading + half), chord * sin(heading + half), heading + 2.0 * half


def frame(pieces: list[Piece], starts: list[float], s: float) -> tuple[float, float, float, float]:
    """East, north, heading and curvature at a chainage; beyond the ends straight along the tangents."""
    p = pieces[piece_at(starts, s)]
    t = s - p.start
    inside = min(max(t, 0.0), p.length)
    dx, dy, heading = run(inside, p.curvature, p.heading)
    beyond = t - inside
    if beyond == 0.0:
        return p.x + dx, p.y + dy, heading, p.curvature
    return p.x + dx + beyond * cos(heading), p.y + dy + beyond * sin(heading), heading, 0.0


def piece_at(starts: list[float], s: float) -> int:
    """Which piece holds a chainage; ``starts`` has the end as well."""
    return min(max(bisect_right(starts, s) - 1, 0), len(starts) - 2)


def foot(pieces: list[Piece], x: float, y: float, extend: bool) -> tuple[float, float, float, bool]:
    """The nearest foot of a point: chainage, offset (left positive), heading, and whether it is square to it."""
    found = [_foot_on(p, x, y) for p in pieces]
    if extend:
        first, last = pieces[0], pieces[-1]
        begin = _tangent_foot((first.x, first.y), first.heading, x, y)
        if begin[0] < 0.0 and abs(begin[1]) < found[0][0]:
            found[0] = (abs(begin[1]), first.start + begin[0], first.heading, *_aside(first.heading, begin[1]))
        dx, dy, heading = run(last.length, last.curvature, last.heading)
        end = _tangent_foot((last.x + dx, last.y + dy), heading, x, y)
        if end[0] > 0.0 and abs(end[1]) < found[-1][0]:
            found[-1] = (abs(end[1]), last.start + last.length + end[0], heading, *_aside(heading, end[1]))
    least = min(f[0] for f in found) + 1e-12  # of places as near as one another the first
    distance, s, heading, dx, dy = next(f for f in found if f[0] <= least)
    c, n = cos(heading), sin(heading)
    square = abs(dx * c + dy * n) <= 1e-9 * max(1.0, distance)
    return s, -distance if dy * c - dx * n < 0.0 else distance, heading, square


_Found = tuple[float, float, float, float, float]  # distance, chainage, heading, and from the foot to the point


def _foot_on(p: Piece, x: float, y: float) -> _Found:
    dx, dy = x - p.x, y - p.y
    if p.angle != p.angle:  # a straight
        t = min(max(dx * cos(p.heading) + dy * sin(p.heading), 0.0), p.length)
    else:
        turn = atan2(y - p.centre[1], x - p.centre[0]) - p.angle
        radius = abs(1.0 / p.curvature)
        t = (turn if p.curvature > 0.0 else -turn) % (2.0 * pi) * radius
        if t > p.length:  # the nearer of its two ends
            t = p.length if t - p.length <= 2.0 * pi * radius - t else 0.0
    ex, ey, heading = run(t, p.curvature, p.heading)
    return hypot(dx - ex, dy - ey), p.start + t, heading, dx - ex, dy - ey


def _tangent_foot(at: tuple[float, float], heading: float, x: float, y: float) -> tuple[float, float]:
    """How far along a tangent and to its left a point lies."""
    dx, dy, c, s = x - at[0], y - at[1], cos(heading), sin(heading)
    return dx * c + dy * s, dy * c - dx * s


def _aside(heading: float, across: float) -> tuple[float, float]:
    return -sin(heading) * across, cos(heading) * across


def circle_places(p: Piece, x: float, y: float, radius: float) -> list[float]:
    """Chainages at which a piece meets a circle about (x, y), rising; where it only touches that there is none.

    With the middle d to the left of its foot, a place that the piece turns by w beyond the foot is at the distance r² = d² + (1 - k d) (2 sin
    (w / 2) / k)²: so also of an arc so flat that its centre lies beyond all digits.
    """
    k = p.curvature if p.angle == p.angle else 0.0
    along, left = _tangent_foot((p.x, p.y), p.heading, x, y)
    sagged = left - 0.5 * k * (along * along + left * left)
    root = 1.0 - 2.0 * k * sagged
    if root <= 0.0:
        return []  # about the arc's own centre
    off = 2.0 * sagged / (1.0 + sqrt(root))
    square = (radius * radius - off * off) / (1.0 - k * off)
    half = 0.5 * k * sqrt(max(square, 0.0))
    if square <= 0.0 or abs(half) >= 1.0:
        return []
    if k == 0.0:
        places = [along - sqrt(square), along + sqrt(square)]
    else:
        foot, away = atan2(k * along, 1.0 - k * left) / k, 2.0 * asin(half) / k
        places = sorted(t % (2.0 * pi / abs(k)) for t in (foot - away, foot + away))
    return [p.start + t for t in places if 0.0 <= t <= p.length]
