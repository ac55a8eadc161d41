"""Centrelines from bends: intersection points with a radius and two transitions each."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.chain import Chain, Element

_LEAST_ARC = 1e-9  # metres
_FIT = 1e-6  # metres by which two tangent lengths may overlap and still count as meeting exactly: what coordinates hold


class BendInput(NamedTuple):
    """A bend as designed: its intersection point, radius and transition lengths, in metres (0 for none).

    A three-centred one has an arc of ``radius_in`` (m) that turns by ``turn_in`` (radians) before its own, or one of
    ``radius_out`` and ``turn_out`` after it, or both.
    """

    easting: float
    northing: float
    radius: float = 0.0
    transition_in: float = 0.0
    transition_out: float = 0.0
    radius_in: float = 0.0
    turn_in: float = 0.0
    radius_out: float = 0.0
    turn_out: float = 0.0

    @property
    def three_centred(self) -> bool:
        """Whether it has an arc before its own or after it."""
        return self.radius > 0.0 and (
            (self.radius_in > 0.0 and self.turn_in > 0.0) or (self.radius_out > 0.0 and self.turn_out > 0.0)
        )

    @property
    def outer(self) -> tuple[tuple[float, float], tuple[float, float]]:
        """Radius (m) and turn (radians) of the arcs before and after its own; its own radius and no turn where there is none."""
        first = (self.radius_in, self.turn_in) if self.radius_in > 0.0 and self.turn_in > 0.0 else (self.radius, 0.0)
        last = (self.radius_out, self.turn_out) if self.radius_out > 0.0 and self.turn_out > 0.0 else (self.radius, 0.0)
        return first, last

    @property
    def used(self) -> float:
        """Radians that its transitions and outer arcs turn: half their length over the radius, and what they are given."""
        (first, turn_in), (last, turn_out) = self.outer
        return turn_in + turn_out + 0.5 * (self.transition_in / first + self.transition_out / last)


@dataclass(frozen=True)
class BendProblem:
    """A bend that does not fit as designed, and what was drawn instead.

    ``kind`` is 'radius' (needs more than the legs between bends), 'transition' (the transitions turn more
    than the bend; lengths in metres), 'turn' (so do its outer arcs; degrees) or 'repeated' (two points at one place).
    """

    index: int
    kind: str
    wanted: float
    largest: float


class Laid(NamedTuple):
    """A centreline, the bends that do not fit as designed, and for each element the bend that it belongs to.

    A straight belongs to the bend that it leaves.
    """

    chain: Chain
    problems: list[BendProblem]
    bend_of: tuple[int, ...]


class _Curve(NamedTuple):
    tangent_in: float
    tangent_out: float
    elements: tuple[Element, ...]


def chain_from_bends(bends: Sequence[BendInput]) -> tuple[Chain, list[BendProblem]]:
    """The centreline through ``bends``, and those that do not fit: see ``lay_bends``."""
    laid = lay_bends(bends)
    return laid.chain, laid.problems


def lay_bends(bends: Sequence[BendInput]) -> Laid:
    """Build the centreline through ``bends`` (at least two points).

    Bends that do not fit are drawn with the largest radius that does, and reported, so that the rest of the
    line stands. Raises ValueError if fewer than two different points are given.
    """
    problems = [
        BendProblem(i, "repeated", 0.0, 0.0)
        for i in range(1, len(bends))
        if np.hypot(bends[i].easting - bends[i - 1].easting, bends[i].northing - bends[i - 1].northing) < 1e-6
    ]
    dropped = {p.index for p in problems}
    index = [i for i in range(len(bends)) if i not in dropped]
    kept = [bends[i] if bends[i].radius > _FIT else _with_radius(bends[i], 0.0) for i in index]
    if len(kept) < 2:
        raise ValueError("a centreline needs two different points")
    xy = np.array([[b.easting, b.northing] for b in kept])
    legs = np.diff(xy, axis=0)
    lengths = np.hypot(legs[:, 0], legs[:, 1])
    headings = np.arctan2(legs[:, 1], legs[:, 0])
    turns = np.mod(np.diff(headings) + np.pi, 2 * np.pi) - np.pi
    fitted = list(kept)
    for i in range(1, len(kept) - 1):
        fitted[i], problem = _fit_transitions(kept[i], float(turns[i - 1]))
        if problem:
            problems.append(replace(problem, index=index[i]))
    curves = _curves(fitted, turns)
    for i in range(1, len(kept) - 1):
        if _overlap(i, curves, lengths) > _FIT:
            largest = _largest_radius(i, fitted, turns, curves, lengths)
            if largest < fitted[i].radius * (1 - 1e-12):
                problems.append(BendProblem(index[i], "radius", fitted[i].radius, largest))
                fitted[i] = _with_radius(fitted[i], largest)
                curves[i] = _curve(fitted[i], float(turns[i - 1]))
    chain, kept_of = _lay(xy, headings, curves, lengths)
    return Laid(chain, problems, tuple(index[i] for i in kept_of))


def tangent_lengths(radius: float, transition_in: float, transition_out: float, turn: float) -> tuple[float, float]:
    """Distances from the intersection point to the curve's start and end, for a deflection ``turn`` (radians).

    From the two shifted tangents: with shifts p1, p2 and abscissae k1, k2 of the clothoids,
    T_in = k1 + ((R + p2) - (R + p1) cos D) / sin D, and T_out likewise.
    """
    d = abs(turn)
    p1, k1 = _shift(radius, transition_in)
    p2, k2 = _shift(radius, transition_out)
    if transition_in == transition_out:
        # The same formula, without the cancellation that sin D brings near a half turn or none.
        t = k1 + (radius + p1) * np.tan(d / 2.0)
        return float(t), float(t)
    t_in = k1 + ((radius + p2) - (radius + p1) * np.cos(d)) / np.sin(d)
    t_out = k2 + ((radius + p1) - (radius + p2) * np.cos(d)) / np.sin(d)
    return float(t_in), float(t_out)


def _shift(radius: float, length: float) -> tuple[float, float]:
    if length <= 0.0 or radius <= 0.0:
        return 0.0, 0.0
    end = Chain.from_elements((0.0, 0.0), 0.0, [Element(length, 0.0, 1.0 / radius)]).at([length])
    x, y, theta = end.points[0, 0], end.points[0, 1], end.headings[0]
    return float(y - radius * (1.0 - np.cos(theta))), float(x - radius * np.sin(theta))


def _curve(bend: BendInput, turn: float) -> _Curve:
    if bend.radius <= 0.0 or abs(turn) < 1e-12:
        return _Curve(0.0, 0.0, ())
    return _Curve(*tangents_of(bend, turn), elements_of(bend, turn))


def tangents_of(bend: BendInput, turn: float) -> tuple[float, float]:
    """Distances from a bend's intersection point to its curve's start and end, for a deflection ``turn`` (radians).

    Of a three-centred one they follow from where its elements end: laid along x, with the end at (x, y) and D the turn,
    T_out = y / sin D and T_in = x - T_out cos D.
    """
    if not bend.three_centred:
        return tangent_lengths(bend.radius, bend.transition_in, bend.transition_out, turn)
    d = abs(turn)
    laid = Chain.from_elements((0.0, 0.0), 0.0, elements_of(bend, d))
    x, y = laid.points_at([laid.total])[0].tolist()
    t_out = y / np.sin(d)
    return float(x - t_out * np.cos(d)), float(t_out)


def elements_of(bend: BendInput, turn: float) -> tuple[Element, ...]:
    """A bend's transition, arc or arcs, and transition, for a deflection ``turn`` (radians, left positive)."""
    if not bend.three_centred:
        return curve_elements(bend.radius, bend.transition_in, bend.transition_out, turn)
    side = float(np.sign(turn))
    (first, turn_in), (last, turn_out) = bend.outer
    own = max(0.0, abs(turn) - bend.used)
    arcs = [(first, turn_in), (bend.radius, own), (last, turn_out)]
    elements = [Element(bend.transition_in, 0.0, side / first)] if bend.transition_in > 0 else []
    elements += [Element(r * a, side / r, side / r) for r, a in arcs if r * a > _LEAST_ARC]
    if bend.transition_out > 0:
        elements.append(Element(bend.transition_out, side / last, 0.0))
    if not elements:
        elements = [Element(r * a, side / r, side / r) for r, a in [max(arcs, key=lambda arc: arc[0] * arc[1])]]
    return tuple(elements)


def arc_length(radius: float, transition_in: float, transition_out: float, turn: float) -> float:
    """The length of a bend's circular part, for a deflection ``turn`` (radians): transitions turn half their length each.

    Negative where they turn more than the bend.
    """
    return radius * abs(turn) - 0.5 * (transition_in + transition_out)


def curve_elements(radius: float, transition_in: float, transition_out: float, turn: float) -> tuple[Element, ...]:
    """A bend's transition, arc and transition, for a deflection ``turn`` (radians, left positive)."""
    k = float(np.sign(turn)) / radius
    arc = max(0.0, arc_length(radius, transition_in, transition_out, turn))
    elements = [Element(transition_in, 0.0, k)] if transition_in > 0 else []
    if arc > _LEAST_ARC or not (transition_in > 0 or transition_out > 0):
        elements.append(Element(arc, k, k))
    if transition_out > 0:
        elements.append(Element(transition_out, k, 0.0))
    return tuple(elements)


def _curves(bends: Sequence[BendInput], turns: Floats) -> list[_Curve]:
    inner = [_curve(b, float(t)) for b, t in zip(bends[1:-1], turns, strict=True)]
    return [_Curve(0.0, 0.0, ()), *inner, _Curve(0.0, 0.0, ())]


def _fit_transitions(bend: BendInput, turn: float) -> tuple[BendInput, BendProblem | None]:
    if bend.radius <= 0.0:
        return _with_radius(bend, 0.0), None
    if bend.three_centred:
        return _fit_turns(bend, abs(turn))
    need = 0.5 * (bend.transition_in + bend.transition_out)
    have = bend.radius * abs(turn)
    if need <= have * (1 + 1e-12):
        return bend, None
    shrink = have / need
    both = bend.transition_in + bend.transition_out
    return (
        bend._replace(transition_in=bend.transition_in * shrink, transition_out=bend.transition_out * shrink),
        BendProblem(-1, "transition", both, both * shrink),
    )


def _fit_turns(bend: BendInput, turn: float) -> tuple[BendInput, BendProblem | None]:
    """Shrink what lies beside a three-centred bend's own arc until it turns no more than the bend."""
    if bend.used <= turn * (1 + 1e-12):
        return bend, None
    share = turn / bend.used
    fitted = bend._replace(
        transition_in=bend.transition_in * share,
        transition_out=bend.transition_out * share,
        turn_in=bend.turn_in * share,
        turn_out=bend.turn_out * share,
    )
    return fitted, BendProblem(-1, "turn", float(np.degrees(bend.used)), float(np.degrees(turn)))


def _overlap(i: int, curves: Sequence[_Curve], lengths: Floats) -> float:
    before = curves[i - 1].tangent_out + curves[i].tangent_in - lengths[i - 1]
    after = curves[i].tangent_out + curves[i + 1].tangent_in - lengths[i]
    return float(max(before, after))


def _with_radius(bend: BendInput, radius: float) -> BendInput:
    """A bend of the same shape with another radius; without curve where that is nothing."""
    if radius <= 0.0:
        return BendInput(bend.easting, bend.northing)
    share = radius / bend.radius
    return bend._replace(
        radius=radius,
        transition_in=bend.transition_in * share,
        transition_out=bend.transition_out * share,
        radius_in=bend.radius_in * share,
        radius_out=bend.radius_out * share,
    )


def _largest_radius(
    i: int, bends: Sequence[BendInput], turns: Floats, curves: Sequence[_Curve], lengths: Floats
) -> float:
    """Largest radius of bend ``i`` that fits: everything scales with it, so the room left gives it directly.

    A later neighbour that has not been fitted yet is granted its share of the leg by its own need.
    """
    mine = curves[i]
    room_in = lengths[i - 1] - curves[i - 1].tangent_out
    need_after = mine.tangent_out + curves[i + 1].tangent_in
    room_out = lengths[i] if need_after <= 0 else lengths[i] * mine.tangent_out / max(need_after, lengths[i])
    if curves[i + 1].tangent_in + mine.tangent_out <= lengths[i]:
        room_out = mine.tangent_out
    scale = min(room_in / max(mine.tangent_in, 1e-12), room_out / max(mine.tangent_out, 1e-12), 1.0)
    return float(max(0.0, bends[i].radius * scale))


def _lay(xy: Floats, headings: Floats, curves: Sequence[_Curve], lengths: Floats) -> tuple[Chain, list[int]]:
    """Lay the elements leg by leg from the designed points, so that errors do not add up along the line.

    Also the bend of each: for a straight the one that it leaves.
    """
    points: list[Floats] = []
    bend_of: list[int] = []
    starts: list[float] = []
    laid: list[Element] = []
    for i, length in enumerate(lengths):
        along = np.array([np.cos(headings[i]), np.sin(headings[i])])
        straight = float(length) - curves[i].tangent_out - curves[i + 1].tangent_in
        begin = xy[i] + along * curves[i].tangent_out
        if straight > _FIT or not (curves[i].elements or curves[i + 1].elements):
            points.append(begin)
            starts.append(float(headings[i]))
            laid.append(Element(straight, 0.0, 0.0))
            bend_of.append(i)
        if curves[i + 1].elements:
            at = xy[i + 1] - along * curves[i + 1].tangent_in
            piece = Chain.from_elements(at, float(headings[i]), curves[i + 1].elements)
            points.extend(piece.xy)
            starts.extend(float(h) for h in piece.heading)
            laid.extend(piece.elements)
            bend_of += [i + 1] * len(piece.elements)
    return Chain.assembled(np.array(points), np.array(starts), laid), bend_of
