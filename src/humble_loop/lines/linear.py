"""How levels depend on decisions, through whatever lines lie between: the factors of ``quantity.weights`` followed to their end."""

from __future__ import annotations

from collections.abc import Hashable
from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats
from humble_loop.lines.line import LineId, line
from humble_loop.lines.quantity import Quantity, Reads, Weights

_DEEP = 24  # lines one after the other: nothing real goes on further


@dataclass(frozen=True)
class Linear:
    """value = ``constant`` (n,) + ``factors`` (n, k) times the values of k decisions. Exact while places stay where they are and what is
    only kept from lying lower stays on the side on which it is.
    """

    constant: Floats
    factors: Floats

    def less(self, other: Linear) -> Linear:
        """The difference."""
        return Linear(self.constant - other.constant, self.factors - other.factors)

    def value(self, decisions: Floats) -> Floats:
        """Values (n,) for decisions (k,)."""
        return self.constant + self.factors @ decisions


def levels_by(q: Engine, id: LineId, s: Floats, keys: tuple[Hashable, ...]) -> Linear:
    """How a line's levels at places (n,) depend on the decisions with those keys; all others are constant."""
    return unfolded(q, line(q, id).rule.level(s), keys)


def unfolded(q: Engine, quantity: Quantity, keys: tuple[Hashable, ...]) -> Linear:
    """How a quantity depends on the decisions with those keys."""
    constant, by = np.zeros(quantity.size), np.zeros((quantity.size, len(keys)))
    rest, found = _to_the_end(q, quantity, 0)
    constant += rest
    for key, (value, factor) in found.items():
        if key in keys:
            by[:, keys.index(key)] += factor
        else:
            constant += value * factor
    return Linear(constant, by)


def decisions_under(q: Engine, id: LineId, s: Floats) -> dict[Hashable, Floats]:
    """The decisions on which a line's levels at places (n,) rest, each with its factors (n,)."""
    return {key: factor for key, (_, factor) in _to_the_end(q, line(q, id).rule.level(s), 0)[1].items()}


def _to_the_end(q: Engine, quantity: Quantity, depth: int) -> tuple[Floats, dict[Hashable, tuple[float, Floats]]]:
    """What is constant (n,), and each decision's value and factors (n,)."""
    n, weights = quantity.size, quantity.weights()
    constant, found = weights.constant.copy(), dict(weights.decided)
    for (id, reads, _), (at_all, values, factor) in _together(weights).items():
        on = np.flatnonzero(factor != 0.0)
        if not on.size:
            continue
        if depth >= _DEEP:
            constant[on] += values[on] * factor[on]
            continue
        # What is tied to one place of another line asks for that place once, whatever the number of rows that rest on it.
        at, row = np.unique(at_all[on], return_inverse=True)
        if at.size == 1:
            rest, inner = _at_one(q, id, float(at[0]), reads)  # type: ignore[arg-type]
        else:
            rule = line(q, id).rule  # type: ignore[arg-type]
            rest, inner = _to_the_end(q, rule.level(at) if reads == "level" else rule.grade(at), depth + 1)
        constant[on] += factor[on] * rest[row]
        for key, (value, by) in inner.items():
            more = np.zeros(n)
            more[on] = factor[on] * by[row]
            old = found.get(key)
            found[key] = value, more if old is None else old[1] + more
    return constant, found


@query
def _at_one(q: Engine, id: LineId, s: float, reads: Reads) -> tuple[Floats, dict[Hashable, tuple[float, Floats]]]:
    """The same of a line's level or grade at one place: what is tied there is asked for by many."""
    rule = line(q, id).rule
    return _to_the_end(q, rule.level([s]) if reads == "level" else rule.grade([s]), 0)


def _together(weights: Weights) -> dict[tuple[Hashable, Reads, bytes], tuple[Floats, Floats, Floats]]:
    """Other lines with places, levels and factors (n,), each once: a grade line names the line that it is tied to leg by leg."""
    found: dict[tuple[Hashable, Reads, bytes], tuple[Floats, Floats, Floats]] = {}
    for other, values, factor in weights.elsewhere:
        at = np.broadcast_to(other.at, factor.shape)
        key = other.line, other.reads, at.tobytes()
        old = found.get(key)
        found[key] = (at, values, factor if old is None else old[2] + factor)
    return found
