"""How levels depend on decisions, through whatever lines lie between: the factors of ``quantity.weights`` followed to their end."""

from __future__ import annotations

from collections.abc import Hashable
from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine
from humble_loop.geometry.arrays import Floats
from humble_loop.lines.line import LineId, line
from humble_loop.lines.quantity import Quantity

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
    return _unfolded(q, quantity, {key: k for k, key in enumerate(keys)}, 0)


def _unfolded(q: Engine, quantity: Quantity, place: dict[Hashable, int], depth: int) -> Linear:
    n, found = quantity.size, quantity.weights()
    constant, factors = found.constant.copy(), np.zeros((n, len(place)))
    for key, (value, factor) in found.decided.items():
        if key in place:
            factors[:, place[key]] += factor
        else:
            constant += value * factor
    for other, values, factor in found.elsewhere:
        on = np.flatnonzero(factor != 0.0)
        if not on.size:
            continue
        if depth >= _DEEP:
            constant[on] += values[on] * factor[on]
            continue
        rule, at = line(q, other.line).rule, other.at[on]  # type: ignore[arg-type]
        inner = _unfolded(q, rule.level(at) if other.reads == "level" else rule.grade(at), place, depth + 1)
        constant[on] += factor[on] * inner.constant
        factors[on] += factor[on, None] * inner.factors
    return Linear(constant, factors)
