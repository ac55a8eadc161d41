"""The radius of a bend that does what is asked: a tangent or an arc of a given length, or a way through a point.

Transitions keep their lengths. ``turn`` is the bend's deflection in radians, left positive; lengths are in metres.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.bends import BendInput, curve_elements, tangent_lengths, tangents_of
from humble_loop.geometry.chain import Chain

_LEAST_TURN = 1e-6  # radians: what turns less is no bend
_FLAT = 1e7  # metres of radius, beyond which an arc is a straight


class CannotFit(ValueError):
    """No radius does what is asked; the message says why, as the end of a sentence about the bend."""


def radius_wanted(
    before: ArrayLike,
    bend: BendInput,
    after: ArrayLike,
    *,
    tangent_in: float | None = None,
    tangent_out: float | None = None,
    arc: float | None = None,
    through: ArrayLike | None = None,
) -> float:
    """The radius of ``bend``, between the points ``before`` and ``after`` it (2,), that does the one thing asked for."""
    if bend.three_centred:
        raise CannotFit("its three arcs are set one by one; change their radii or turns, or make it simple first")
    both = bend.transition_in, bend.transition_out
    a, v, c = (np.asarray(x, dtype=np.float64)[:2] for x in (before, bend[:2], after))
    if through is not None:
        return radius_through(a - v, (0.0, 0.0), c - v, np.asarray(through, dtype=np.float64) - v, *both)
    turn = turn_between(v - a, c - v)
    if arc is not None:
        return radius_for_arc(turn, arc, *both)
    if tangent_in is not None:
        return radius_for_tangent(turn, tangent_in, *both)
    if tangent_out is not None:
        return radius_for_tangent(turn, tangent_out, *both[::-1])
    raise ValueError("ask for something")


def turn_between(into: Floats, out: Floats) -> float:
    """The deflection from one direction (2,) to another, in radians, left positive."""
    return float(np.arctan2(into[0] * out[1] - into[1] * out[0], into @ out))


def radius_for_arc(turn: float, arc: float, transition_in: float = 0.0, transition_out: float = 0.0) -> float:
    """The radius whose circular part is ``arc`` long: the transitions turn half their length over the radius each."""
    _check(turn)
    if not arc > 0.0:
        raise CannotFit("an arc needs a length of more than nothing")
    return (arc + 0.5 * (transition_in + transition_out)) / abs(turn)


def radius_for_tangent(turn: float, tangent: float, transition_in: float = 0.0, transition_out: float = 0.0) -> float:
    """The radius whose curve begins ``tangent`` before the intersection point; for its end give the transitions in turn."""
    _check(turn)
    least = _least(turn, transition_in, transition_out)

    def over(radius: float) -> float:
        return tangent_lengths(radius, transition_in, transition_out, turn)[0] - tangent

    if not tangent > 0.0 or (least > 0.0 and over(least) > 0.0):
        shortest = tangent_lengths(least, transition_in, transition_out, turn)[0] if least > 0.0 else 0.0
        raise CannotFit(f"its transitions alone take {shortest:.2f} m of the tangent; shorten them, or ask for more")
    if transition_in == transition_out == 0.0:
        return float(tangent / np.tan(abs(turn) / 2.0))
    return _root(over, max(least, 1e-6), tangent / np.tan(abs(turn) / 2.0) + tangent)


def radius_through(
    before: ArrayLike,
    corner: ArrayLike,
    after: ArrayLike,
    point: ArrayLike,
    transition_in: float = 0.0,
    transition_out: float = 0.0,
) -> float:
    """The radius of the bend at ``corner``, between the points ``before`` and ``after`` it, whose curve passes ``point``.

    All points (2,). Of circles that touch both legs and pass a point there are two: the larger has it on the side of the
    corner, where the bend runs. With r the radius, D the deflection, p the point from the corner and b the bisector
    inwards, |p - b r / cos(D/2)| = r.
    """
    a, v, c, at = (np.asarray(x, dtype=np.float64) for x in (before, corner, after, point))
    into, out = _unit(v - a), _unit(c - v)
    turn = turn_between(into, out)
    _check(turn)
    side, p = float(np.sign(turn)), at - v
    within = [side * float(d[0] * p[1] - d[1] * p[0]) for d in (into, out)]
    if min(within) <= 0.0 or p @ (out - into) <= 0.0:
        raise CannotFit("that place lies outside of its angle; a curve that touches both legs does not get there")
    half = abs(turn) / 2.0
    along, tan = float(p @ _unit(out - into)) / np.cos(half), np.tan(half)
    circle = float((along + np.sqrt(max(along**2 - (tan * np.hypot(*p)) ** 2, 0.0))) / tan**2)
    if not circle < _FLAT:
        raise CannotFit("that place is so near one of its legs that the curve would be a straight")
    if transition_in == transition_out == 0.0:
        return circle
    least = _least(turn, transition_in, transition_out)

    def inside(radius: float) -> float:
        """How far the point lies inside the curve; a larger radius takes the curve farther from the corner."""
        start, _ = tangent_lengths(radius, transition_in, transition_out, turn)
        elements = curve_elements(radius, transition_in, transition_out, turn)
        curve = Chain.from_elements(v - into * start, float(np.arctan2(into[1], into[0])), elements)
        return side * float(curve.feet([at], extend=True).offsets[0])

    if circle <= least or inside(least) <= 0.0:
        raise CannotFit("its transitions turn more than the bend where it would pass there; shorten them")
    return _root(inside, least, circle)


def leg_for_straight(before: ArrayLike, bends: tuple[BendInput, BendInput], after: ArrayLike, straight: float) -> float:
    """The length of the leg from the first to the second of two ``bends`` that leaves a ``straight`` of that length.

    ``before`` and ``after`` (2,) are the points before and after the two (an end of the line stands for itself). The
    second bend moves along the leg and what follows stays, so its deflection changes with the leg: of several lengths
    the one nearest to the present is taken.
    """
    first, second = (np.array(b[:2]) for b in bends)
    a, c = (np.asarray(x, dtype=np.float64)[:2] for x in (before, after))
    present = float(np.hypot(*(second - first)))
    along = _unit(second - first)
    out = _tangents(bends[0], turn_between(first - a, along))[1]

    def over(leg: float) -> float:
        turn = turn_between(along, c - (first + leg * along))
        return leg - out - _tangents(bends[1], turn)[0] - straight

    if straight < 0.0:
        raise CannotFit("a straight cannot be shorter than nothing")
    reach = 4.0 * abs(over(present)) + 1.0
    tried = np.unique(np.concatenate([np.linspace(max(present - reach, 1e-3), present + reach, 401), [present]]))
    values = np.array([over(float(leg)) for leg in tried])
    k = np.flatnonzero((np.sign(values[:-1]) != np.sign(values[1:])) & (np.abs(np.diff(values)) < 0.5 * reach))
    if not k.size:
        raise CannotFit("no place of the next bend leaves such a straight; change its radius first")
    nearest = int(k[np.argmin(np.abs(tried[k] - present))])
    return _root(over, float(tried[nearest]), float(tried[nearest + 1]))


def _tangents(bend: BendInput, turn: float) -> tuple[float, float]:
    if bend.radius <= 0.0 or not _LEAST_TURN < abs(turn) < np.pi - _LEAST_TURN:
        return 0.0, 0.0
    return tangents_of(bend, turn)


def _least(turn: float, transition_in: float, transition_out: float) -> float:
    """The radius at which the transitions turn as much as the whole bend."""
    return 0.5 * (transition_in + transition_out) / abs(turn)


def _check(turn: float) -> None:
    if not _LEAST_TURN < abs(turn) < np.pi - _LEAST_TURN:
        raise CannotFit("its legs run on in one line or straight back; there is no curve between them")


def _unit(d: Floats) -> Floats:
    size = float(np.hypot(*d))
    if size < 1e-9:
        raise CannotFit("two of its points lie at one place")
    return np.asarray(d / size)


def _root(of: Callable[[float], float], low: float, high: float) -> float:
    from scipy.optimize import brentq

    while of(low) * of(high) > 0.0 and high < _FLAT:
        high *= 2.0
    if of(low) * of(high) > 0.0:
        raise CannotFit("no radius does that")
    return float(brentq(of, low, high, xtol=1e-12, rtol=1e-14))
