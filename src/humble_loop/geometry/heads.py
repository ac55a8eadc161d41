"""Outlines of turning heads in plan: from a street's left lip round its end to the right one, smooth all the way."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from humble_loop.geometry.arcs import DoesNotFit, OffsetLine, short_arc, tangent_arc
from humble_loop.geometry.arrays import Floats, frozen, left_normals, tangents
from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.roots import zero_between

_SIDES = ((1.0, "left"), (-1.0, "right"))
_NONE = 1e-9  # metres or radians that are nothing
_SHORT = 1e-7  # metres by which arcs may run into one another: what rounding leaves
_LONGEST = 1e4  # metres of a return's radius at most
_LOOKS = 400  # places along a ring at which is looked for the one opposite the street


@dataclass(frozen=True)
class HeadOutline:
    """The lip of a turning head, from the left lip's tangent point round to the right one's; the road lies on the right of ``ring``.

    ``centre`` (2,) is where those who turn turn about; ``base_left`` and ``base_right`` are chainages of the tangent points on the base
    chain. Between the distances ``ends`` along the ring lies what is no return from a straight lip, and ``returns`` are those' radii,
    0 where a lip runs straight on. ``turn`` is the distance to the place opposite the street.
    """

    centre: Floats
    ring: Chain
    base_left: float
    base_right: float
    ends: tuple[float, float]
    returns: tuple[float, float]
    turn: float


# Bulbs


def bulb_outline(
    chain: Chain,
    left: float,
    right: float,
    radius: float,
    returns: tuple[float | None, float | None],
    offset: float = 0.0,
) -> HeadOutline:
    """The outline of a bulb whose centre lies at the end of ``chain``, ``offset`` metres to the left.

    ``left`` and ``right`` are the lip's distances from the centreline (positive), ``returns`` the radii of the returns. A return centre
    lies half width + return radius across and radius + return radius from the bulb's centre; on a straight, that is
    w + r - o across and sqrt((R + r)^2 - (w + r - o)^2) back. Where a side has no return (None) its lip runs straight on to the bulb,
    which is one-sided: the offset follows. Raises DoesNotFit when no such place exists.
    """
    if not radius > 0 or not all(r is None or r > 0 for r in returns):
        raise DoesNotFit("a bulb's radius and return radius must be more than zero")
    widths = left, right
    if returns[0] is None and returns[1] is None:
        raise DoesNotFit("a bulb needs a return on one side at least")
    for (side, name), width, own in zip(_SIDES, widths, returns):
        if own is None:
            if width >= radius:
                raise DoesNotFit(f"the bulb (radius {radius:g} m) is narrower than the street on the {name}")
            offset = -side * (radius - width)
    end = chain.total
    centre, heading = chain.points_at([end], offset)[0], float(chain.at([end]).headings[0])
    made: list[tuple[float, Floats, Floats, float, Element | None]] = []
    for (side, name), width, own in zip(_SIDES, widths, returns):
        if own is None:
            touch = centre + left_normals(heading) * side * radius
            made.append((end, touch, touch, heading, None))
            continue
        base, start = _return_from(chain, side, name, width, own, radius, offset)
        middle = chain.points_at([base], side * (width + own))[0]
        touch = centre + (middle - centre) * (radius / (radius + own))
        arc = short_arc(middle, own, start, touch) if side > 0 else short_arc(middle, own, touch, start)
        made.append((base, start, touch, float(arc.heading[0]), arc.elements[0]))
    (base_l, start_l, touch_l, heading_l, first), (base_r, _, touch_r, heading_r, last) = made
    a, b = (float(np.arctan2(*(touch - centre)[::-1])) for touch in (touch_l, touch_r))
    round_ = Element(float(np.mod(a - b, 2 * np.pi)) * radius, -1.0 / radius, -1.0 / radius)
    pieces = [_Piece(touch_l, a - np.pi / 2, round_)]
    if first is not None:
        pieces.insert(0, _Piece(start_l, heading_l, first))
    if last is not None:
        pieces.append(_Piece(touch_r, heading_r, last))
    ring = _assembled(pieces)
    begin = first.length if first is not None else 0.0
    ends = (begin, begin + round_.length)
    radii = (returns[0] or 0.0, returns[1] or 0.0)
    return HeadOutline(frozen(centre), ring, base_l, base_r, ends, radii, begin + 0.5 * round_.length)


def _return_from(
    chain: Chain, side: float, name: str, width: float, own: float, radius: float, offset: float
) -> tuple[float, Floats]:
    """Where a return leaves the straight lip: the base's chainage, and the point (2,) on the lip."""
    end, reach, across = chain.total, radius + own, side * (width + own)
    centre = chain.points_at([end], offset)[0]
    if width >= radius + side * offset:
        raise DoesNotFit(f"the bulb (radius {radius:g} m) is narrower than the street on the {name}")
    if abs(across - offset) >= reach:
        raise DoesNotFit(
            f"the bulb's lip (radius {radius:g} m) does not reach past the {name} lip "
            f"at {width:g} m: enlarge the radius or lessen the offset"
        )

    def gap(s: Floats) -> Floats:
        return np.asarray(np.hypot(*(chain.points_at(s, across) - centre).T) - reach)

    low = end - reach
    if low < 0 or gap(np.array([low]))[0] <= 0:
        low = max(0.0, end - 1.5 * reach)
    if gap(np.array([low]))[0] <= 0:
        raise DoesNotFit("the street is too short for its bulb: lengthen it or lessen the radii")
    s = zero_between(gap, low, end)
    return s, chain.points_at([s], side * width)[0]


def return_radius(chain: Chain, side: float, width: float, radius: float, offset: float, approach: float) -> float:
    """The radius of the return that leaves the lip on a ``side`` (+1 left, -1 right) ``approach`` metres before the end of ``chain``.

    On a straight the return centre lies sqrt((R + r)^2 - (w + r - o)^2) back, so that r = (a^2 - R^2 + (w - o)^2) / 2 (R - (w - o)); along
    a curve it is found from there. Raises DoesNotFit when no radius does.
    """
    name, out = "left" if side > 0 else "right", width - side * offset
    if radius <= out:
        raise DoesNotFit(f"the bulb (radius {radius:g} m) is narrower than the street on the {name}")
    least = float(np.sqrt(radius**2 - out**2)) if radius > abs(out) else 0.0
    straight = (approach**2 - radius**2 + out**2) / (2.0 * (radius - out))
    if straight <= _NONE or straight > _LONGEST:
        raise DoesNotFit(
            f"no return on the {name} begins {approach:g} m before the bulb's centre: it needs more than {least:.2f} m"
        )

    def short(r: float) -> float:
        return chain.total - _return_from(chain, side, name, width, r, radius, offset)[0] - approach

    if abs(short(straight)) < _NONE:
        return straight
    low, high = 0.5 * straight, 2.0 * straight
    try:
        return zero_between(lambda r: np.array([short(float(v)) for v in np.atleast_1d(r)]), low, high)
    except (DoesNotFit, ValueError):
        raise DoesNotFit(
            f"no return on the {name} begins {approach:g} m before the bulb's centre along that curve"
        ) from None


# Heads with arms


@dataclass(frozen=True)
class HeadArm:
    """An arm of a turning head: ``length`` metres from the centre along its middle, ``angle`` radians aside of straight ahead."""

    length: float
    angle: float


class _Edge(NamedTuple):
    """A straight edge of a head: a point (2,) on it, the direction (2,) in which the ring runs along it, and what it is called."""

    point: Floats
    way: Floats
    words: str


class _Piece(NamedTuple):
    """An element of a ring: where it begins (2,), its heading there, and itself."""

    start: Floats
    heading: float
    element: Element

    @property
    def end(self) -> Floats:
        """Where it ends (2,)."""
        made = Chain.from_elements(self.start, self.heading, [self.element])
        found: Floats = made.points_at([made.total])[0]
        return found


def armed_outline(
    chain: Chain,
    left: float,
    right: float,
    arms: tuple[HeadArm | None, HeadArm | None],
    wide: float,
    returns: tuple[float, float],
    corner: float,
) -> HeadOutline:
    """The outline of a head with an arm on its left, on its right or on both, ``wide`` metres between their lips, about the end of ``chain``.

    ``returns`` are the radii where the street's lips go over into the arms; corners round which the road lies have the radius ``corner``.
    A lip without an arm on its side runs straight on. Raises DoesNotFit where an edge is too short for its arcs.
    """
    if arms == (None, None):
        raise DoesNotFit("a head needs an arm on one side at least")
    if min(wide, corner, *returns) <= 0:
        raise DoesNotFit("widths and radii of a head must be more than zero")
    heading = float(chain.at([chain.total]).headings[0])
    edges = [
        _Edge(chain.points_at([chain.total], left)[0], tangents(heading), "left lip"),
        *_arm_edges(chain, arms[0], 1.0, wide),
        *_arm_edges(chain, arms[1], -1.0, wide)[::-1],
        _Edge(chain.points_at([chain.total], -right)[0], -tangents(heading), "right lip"),
    ]
    hollow, bases, ends = max(returns), [chain.total, chain.total], [edges[0].point, edges[-1].point]
    arcs: list[tuple[str, _Piece]] = []  # with the edge before each
    for k, (one, two) in enumerate(zip(edges[:-1], edges[1:])):
        street = 0 if k == 0 and arms[0] else 1 if k == len(edges) - 2 and arms[1] else None
        if street is None:
            made = _fillet(one, two, corner, hollow)
        else:
            arm, width = arms[street], (left, right)[street]
            assert arm is not None
            bases[street], ends[street], made = _from_street(
                chain, arm, width, wide, 1.0 - 2.0 * street, returns[street]
            )
        if made is not None:
            arcs.append((one.words, made))
    ring = _assembled(_between_arcs(arcs, ends[0], ends[1], edges[-1].words))
    begin = float(ring.starts[1]) if arms[0] else 0.0
    finish = float(ring.starts[-2]) if arms[1] else ring.total
    centre = chain.points_at([chain.total])[0]
    radii = (returns[0] if arms[0] else 0.0, returns[1] if arms[1] else 0.0)
    return HeadOutline(
        frozen(centre), ring, bases[0], bases[1], (begin, finish), radii, _opposite(ring, centre, tangents(heading))
    )


def _arm_edges(chain: Chain, arm: HeadArm | None, side: float, wide: float) -> list[_Edge]:
    """The edges of an arm on a ``side`` (+1 left) as the ring runs on the left: near, tip, far; on the right it runs the other way."""
    if arm is None:
        return []
    heading = float(chain.at([chain.total]).headings[0]) + side * arm.angle
    centre, out, square = chain.points_at([chain.total])[0], tangents(heading), left_normals(heading)
    name = f"{'left' if side > 0 else 'right'} arm"
    return [
        _Edge(centre + 0.5 * wide * side * square, side * out, f"near edge of its {name}"),
        _Edge(centre + arm.length * out, -square, f"end of its {name}"),
        _Edge(centre - 0.5 * wide * side * square, -side * out, f"far edge of its {name}"),
    ]


def _from_street(
    chain: Chain, arm: HeadArm, width: float, wide: float, side: float, radius: float
) -> tuple[float, Floats, _Piece]:
    """The return from a straight lip into an arm's near edge: the base's chainage, the point (2,) on the lip, and the arc as the ring runs."""
    heading, centre = float(chain.at([chain.total]).headings[0]), chain.points_at([chain.total])[0]
    axis = Chain.from_points([centre, centre + arm.length * tangents(heading + side * arm.angle)])
    # On straights the return's centre lies where both lips' offsets by its radius cross.
    out, along = width + radius, 0.5 * wide + radius
    back = (along + out * np.cos(np.pi - arm.angle)) / np.sin(np.pi - arm.angle)
    near = centre - back * tangents(heading) + side * out * left_normals(heading)
    made = tangent_arc(OffsetLine(chain, side * width), OffsetLine(axis, side * 0.5 * wide), radius, near)
    name = "left" if side > 0 else "right"
    if not 0.0 < made.base_start <= chain.total:
        raise DoesNotFit(
            f"the return into its {name} arm does not begin on the street: change its radius, or the arm's angle"
        )
    arc = made.chain if side > 0 else short_arc(made.centre, radius, made.end, made.start)
    return (
        made.base_start,
        made.start,
        _Piece(made.start if side > 0 else made.end, float(arc.heading[0]), arc.elements[0]),
    )


def _fillet(one: _Edge, two: _Edge, corner: float, hollow: float) -> _Piece | None:
    """The arc between two edges: with the radius ``corner`` where the ring turns right, round the road, ``hollow`` where it turns left;
    None where one goes on as the other.
    """
    cross = float(one.way[0] * two.way[1] - one.way[1] * two.way[0])
    turn = float(np.arctan2(cross, one.way @ two.way))
    if abs(turn) < _NONE:
        return None
    radius, gap = corner if turn < 0 else hollow, two.point - one.point
    along = (gap[0] * two.way[1] - gap[1] * two.way[0]) / cross
    start = one.point + (along - radius * np.tan(0.5 * abs(turn))) * one.way
    curve = float(np.sign(turn) / radius)
    return _Piece(start, float(np.arctan2(one.way[1], one.way[0])), Element(abs(turn) * radius, curve, curve))


def _between_arcs(arcs: list[tuple[str, _Piece]], begin: Floats, finish: Floats, last: str) -> list[_Piece]:
    """A ring from ``begin`` to ``finish``: its arcs, each with the words of the edge before it, and the straights between them."""
    found: list[_Piece] = []
    at = begin
    for words, arc in arcs:
        found += _straight(at, arc.start, arc.heading, words)
        found.append(arc)
        at = arc.end
    turned = found[-1]
    return [*found, *_straight(at, finish, turned.heading + turned.element.length * turned.element.k0, last)]


def _straight(begin: Floats, finish: Floats, heading: float, words: str) -> list[_Piece]:
    length = float((finish - begin) @ tangents(heading))
    if length < -_SHORT:
        raise DoesNotFit(f"the {words} is {-length:.2f} m too short for the arcs at its ends")
    return [_Piece(begin, heading, Element(length, 0.0, 0.0))] if length > _SHORT else []


def _opposite(ring: Chain, centre: Floats, ahead: Floats) -> float:
    """Distance along a ring to where the middle of the street, run on from ``centre``, meets it."""

    def aside(u: Floats) -> Floats:
        away = ring.points_at(u) - centre
        return np.asarray(ahead[0] * away[:, 1] - ahead[1] * away[:, 0])

    s = np.linspace(0.0, ring.total, _LOOKS)
    beside, forward = aside(s), (ring.points_at(s) - centre) @ ahead
    over = np.flatnonzero((beside[:-1] >= 0.0) & (beside[1:] < 0.0) & (forward[:-1] > 0.0))
    if not over.size:
        return float(s[int(np.argmax(forward))])
    return zero_between(aside, float(s[over[0]]), float(s[over[0] + 1]))


def _assembled(pieces: list[_Piece]) -> Chain:
    return Chain.assembled(
        np.array([p.start for p in pieces]), np.array([p.heading for p in pieces]), [p.element for p in pieces]
    )
