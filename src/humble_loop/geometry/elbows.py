"""Widened elbows in plan: a bulge outside a bend, and an arc inside it, both touching the lips that they leave."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from humble_loop.geometry.arcs import DoesNotFit, OffsetLine, short_arc, tangent_arc
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.chain import STRAIGHT, Chain, Element
from humble_loop.geometry.roots import zero_between

_NONE = 1e-9  # metres that are nothing


@dataclass(frozen=True)
class ElbowRing:
    """A lip beside a bend that is not its street's: ``chain`` runs as the street does, from the place on the street's lip at chainage ``begin``
    to that at ``finish``. ``centre`` (2,) and ``radius`` are its middle arc's, whose middle lies ``middle`` metres along.
    """

    chain: Chain
    begin: float
    finish: float
    centre: Floats
    radius: float
    middle: float


@dataclass(frozen=True)
class Bend:
    """A bend of a chain: the chainages between which it turns, and how (+1 left, -1 right); the pieces of the chain before and after it."""

    begin: float
    finish: float
    turn: float
    before: Chain
    after: Chain

    @property
    def middle(self) -> float:
        """The chainage half way."""
        return 0.5 * (self.begin + self.finish)


def bends_of_chain(chain: Chain) -> list[Bend]:
    """The bends of a chain that have a piece of it on both sides: what turns one way between two straights, or to where it turns back."""
    found: list[Bend] = []
    elements = chain.elements
    signs = [0.0 if e.kind == STRAIGHT else float(np.sign(e.k0 + e.k1)) for e in elements]
    k = 0
    while k < len(elements):
        if signs[k] == 0.0:
            k += 1
            continue
        last = k
        while last + 1 < len(elements) and signs[last + 1] == signs[k]:
            last += 1
        if k > 0 and last + 1 < len(elements):
            before = Chain.assembled(chain.xy[:k], chain.heading[:k], elements[:k])
            after = Chain.assembled(chain.xy[last + 1 :], chain.heading[last + 1 :], elements[last + 1 :])
            found.append(Bend(float(chain.starts[k]), float(chain.starts[last + 1]), signs[k], before, after))
        k = last + 1
    return found


def bulge(
    chain: Chain, bend: Bend, width: Callable[[Floats], Floats], radius: float, own: float, out: float
) -> ElbowRing:
    """The bulge outside a bend: an arc of ``radius`` about a centre ``out`` metres outside the centreline at the bend's middle, with returns of
    radius ``own`` from the lip, which lies ``width`` metres from the centreline.

    A return's centre lies its radius outside the lip, and both radii from the bulge's centre. Raises DoesNotFit.
    """
    if not radius > 0 or not own > 0:
        raise DoesNotFit("radii must be more than zero")
    side, reach = -bend.turn, radius + own

    def lip_at(s: float) -> float:
        return float(width(np.array([s]))[0])

    centre = chain.points_at([bend.middle], side * out)[0]
    if radius + out <= lip_at(bend.middle) + _NONE:
        raise DoesNotFit(f"the bulge (radius {radius:g} m) does not reach past the lip: enlarge its radius")

    def gap(s: Floats) -> Floats:
        across = side * (width(np.asarray(s)) + own)
        return np.asarray(np.hypot(*(chain.points_at(s, across) - centre).T) - reach)

    if gap(np.array([bend.middle]))[0] >= 0:
        raise DoesNotFit(f"the bulge (radius {radius:g} m) does not reach past the lip: enlarge its radius")
    at = []
    for way, limit in ((-1.0, 0.0), (1.0, chain.total)):
        far = bend.middle + way * np.arange(0.0, abs(limit - bend.middle), 1.0)
        over = np.flatnonzero(gap(far) > 0)
        if not over.size:
            raise DoesNotFit(
                f"the street is too short {'before' if way < 0 else 'after'} its bend for the bulge: lessen its radii"
            )
        a, b = sorted((float(far[over[0] - 1]), float(far[over[0]])))
        at.append(zero_between(gap, a, b))
    begin, finish = at
    arcs, touches = [], []
    for s in at:
        lip = chain.points_at([s], side * lip_at(s))[0]
        middle = chain.points_at([s], side * (lip_at(s) + own))[0]
        touch = centre + (middle - centre) * (radius / reach)
        touches.append(touch)
        arcs.append(short_arc(middle, own, lip, touch) if s == begin else short_arc(middle, own, touch, lip))
    angles = [float(np.arctan2(*(t - centre)[::-1])) for t in touches]
    sweep = float(np.mod(bend.turn * (angles[1] - angles[0]), 2 * np.pi))
    curve = bend.turn / radius
    made = Chain.assembled(
        np.array([arcs[0].xy[0], touches[0], touches[1]]),
        np.array([arcs[0].heading[0], angles[0] + bend.turn * np.pi / 2, arcs[1].heading[0]]),
        [arcs[0].elements[0], Element(sweep * radius, curve, curve), arcs[1].elements[0]],
    )
    return ElbowRing(made, begin, finish, frozen(centre), radius, float(made.starts[1] + 0.5 * sweep * radius))


def inner_arc(chain: Chain, bend: Bend, width: float, radius: float) -> ElbowRing:
    """The arc of ``radius`` inside a bend that touches the lips before and after it, ``width`` metres from the centreline. Raises DoesNotFit."""
    side = bend.turn
    lips = [OffsetLine(piece, side * width) for piece in (bend.before, bend.after)]
    ends = chain.at([bend.begin, bend.finish])
    near = ends.points.mean(axis=0) + side * np.array([-np.sin(ends.headings).mean(), np.cos(ends.headings).mean()]) * (
        width + radius
    )
    made = tangent_arc(lips[0], lips[1], radius, near)
    begin, finish = made.base_start, chain.total - bend.after.total + made.base_end
    if begin > bend.begin + 1e-6 or finish < bend.finish - 1e-6:
        least = f"; it needs more than {_least(chain, bend, width):.2f} m"
        raise DoesNotFit(f"an arc of {radius:g} m is tighter than the lip inside the bend is itself{least}")
    if begin < 0.0 or finish > chain.total:
        raise DoesNotFit(f"an arc of {radius:g} m begins before the street or ends beyond it")
    return ElbowRing(made.chain, begin, finish, made.centre, radius, 0.5 * made.length)


def _least(chain: Chain, bend: Bend, width: float) -> float:
    """The radius (m) of the lip inside a bend where that is an arc."""
    curve = float(np.abs(chain.at([bend.middle]).curvatures[0]))
    return max(1.0 / curve - width, 0.0) if curve > 0 else 0.0
