"""A line of bends cut in two, both parts as they lay."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.bends import BendInput, Laid, lay_bends
from humble_loop.geometry.chain import ARC, STRAIGHT, TRANSITION

_TURNED = 1e-9  # radians: what turns less is no bend
_SHORTEST = 0.01  # metres of a part


class CannotCut(ValueError):
    """A place at which a line cannot be cut; the message says why, and where it can."""


def cut_bends(bends: Sequence[BendInput], s: float) -> tuple[tuple[BendInput, ...], tuple[BendInput, ...]]:
    """The bends of a line up to chainage ``s`` and from there on. Arcs are divided, and stay where they are.

    A part of an arc is a bend whose legs are the arc's tangents at both ends of the part. Raises CannotCut within a
    transition, part of which is no clothoid from a straight, within a centimetre of an end, and where a bend does not fit.
    """
    laid = lay_bends(bends)
    chain = laid.chain
    if laid.problems:
        raise CannotCut(f"its bend {laid.problems[0].index + 1} does not fit as designed; mend that first")
    if not _SHORTEST <= s <= chain.total - _SHORTEST:
        raise CannotCut(f"{s:.2f} is not inside it; it runs from 0 to {chain.total:.2f}")
    j = int(chain.element_at([s])[0])
    kind, i, at = chain.elements[j].kind, laid.bend_of[j], chain.at([s])
    place = BendInput(float(at.points[0, 0]), float(at.points[0, 1]))
    if kind == TRANSITION:
        begin, end = chain.starts[j : j + 2]
        raise CannotCut(f"{s:.2f} lies within a transition; cut it before {begin:.2f} or after {end:.2f}")
    if kind == STRAIGHT:
        return (*bends[: i + 1], place), (place, *bends[i + 1 :])
    before, after = _parts(bends[i], laid, j, s)
    return (*bends[:i], *before, place), (place, *after, *bends[i + 1 :])


def _parts(bend: BendInput, laid: Laid, j: int, s: float) -> tuple[list[BendInput], list[BendInput]]:
    """A bend that is cut within its arc ``j`` at chainage ``s``: what is before and what is after, as bends."""
    chain = laid.chain
    mine = [
        k for k, (of, e) in enumerate(zip(laid.bend_of, chain.elements)) if of == laid.bend_of[j] and e.kind != STRAIGHT
    ]
    arcs = [k for k in mine if chain.elements[k].kind == ARC]
    (first, turn_in), (last, turn_out) = bend.outer
    turned = float(abs(chain.k0[j]) * (s - chain.starts[j]))
    none_in, none_out = {"radius_in": 0.0, "turn_in": 0.0}, {"radius_out": 0.0, "turn_out": 0.0}
    if turn_in > 0 and j == arcs[0]:
        before = BendInput(0.0, 0.0, first, bend.transition_in)
        after = bend._replace(transition_in=0.0, turn_in=turn_in - turned)
    elif turn_out > 0 and j == arcs[-1]:
        before = bend._replace(transition_out=0.0, turn_out=turned)
        after = BendInput(0.0, 0.0, last, 0.0, bend.transition_out)
    else:
        before = bend._replace(transition_out=0.0, **none_out)
        after = bend._replace(transition_in=0.0, **none_in)
    begin, finish = float(chain.starts[mine[0]]), float(chain.starts[mine[-1] + 1])
    at = chain.at([begin, s, finish - 1e-12])
    ends = chain.points_at([finish])[0]
    return (
        _between(before, at.points[0], float(at.headings[0]), at.points[1], float(at.headings[1])),
        _between(after, at.points[1], float(at.headings[1]), ends, float(at.headings[2])),
    )


def _between(bend: BendInput, a: Floats, u: float, b: Floats, v: float) -> list[BendInput]:
    """The bend whose legs leave ``a`` along ``u`` and arrive at ``b`` along ``v`` (radians); none where they are one straight."""
    turn = float(np.sin(v - u))
    if abs(turn) < _TURNED:
        return []
    d = b - a
    t = (d[0] * np.sin(v) - d[1] * np.cos(v)) / turn
    return [bend._replace(easting=float(a[0] + t * np.cos(u)), northing=float(a[1] + t * np.sin(u)))]
