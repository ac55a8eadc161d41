"""Quantities and how they come about: one formula that is evaluated, explained, and taken apart into weights.

A quantity holds its values at n places at once. It is the sum of addends, each a factor times another quantity, or a
plain amount. Levels are such sums read off (``value``); a level trail is one of the n places told in words
(``humble_loop.whole.trail``); the matrix of an optimiser is the factors multiplied out (``weights``). There is no
second formula that could disagree.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Floats, Ints, as_row

Words = str | Callable[[int], str]
Source = Literal["set", "proposed", "tied", "ground", "survey", "worked out"]
Reads = Literal["level", "grade"]


def say(words: Words, k: int) -> str:
    """The words for place ``k``."""
    return words if isinstance(words, str) else words(k)


@dataclass(frozen=True)
class Decided:
    """A value that a designer fixes (or leaves to a proposal): what an optimiser may move. Told by its key."""

    key: Hashable


@dataclass(frozen=True)
class Elsewhere:
    """The level (or grade) of another line at places (n,) along it: where a trail goes on to that line."""

    line: Hashable
    at: Floats
    reads: Reads = "level"


@dataclass(frozen=True)
class Addend:
    """A part of a quantity: ``factor`` (n,) times ``of``, or the plain amount ``factor`` where there is no ``of``.

    ``of`` has n places or one that serves all; with ``rows`` (n,), place k takes its place ``rows[k]``. With
    ``pick`` (n,), place k takes entry ``pick[k]`` of ``choices``, each a quantity at a single place: a VIP chosen by
    the leg that the place is on.
    """

    words: Words
    factor: Floats
    of: Quantity | None = None
    rows: Ints | None = None
    choices: tuple[Quantity, ...] = ()
    pick: Ints | None = None

    @property
    def amount(self) -> Floats:
        """What it adds, (n,); nothing where the factor is zero, whatever the other quantity is there."""
        if self.of is None and self.pick is None:
            return self.factor
        if self.pick is not None:
            if self.pick.size < len(self.choices):  # one place of a street whose levels are thousands of the ground's
                value = np.array([self.choices[j].value[0] for j in self.pick.tolist()])
            else:
                value = np.array([c.value[0] for c in self.choices])[self.pick]
        else:
            assert self.of is not None
            value = self.of.value if self.rows is None else self.of.value[self.rows]
        made = self.factor * value
        return made if np.count_nonzero(self.factor) == self.factor.size else np.where(self.factor == 0.0, 0.0, made)

    def at(self, k: int) -> tuple[str, float, Quantity | None]:
        """Words, factor, and the other quantity (at a single place) for place ``k``."""
        words, factor = say(self.words, k), float(self.factor[k if self.factor.size > 1 else 0])
        if self.pick is not None:
            return words, factor, self.choices[int(self.pick[k])]
        if self.of is None:
            return words, factor, None
        row = k if self.rows is None else int(self.rows[k])
        return words, factor, self.of.at(row)


@dataclass(frozen=True)
class Quantity:
    """``value`` (n,) of something called ``name`` at n places, by a ``rule`` in words.

    ``origin`` is set where it rests on a decision or on another line; then it has no addends. ``unit`` is 'level'
    (metres) or 'grade' (ratio).
    """

    name: Words
    value: Floats
    rule: Words = ""
    source: Source = "worked out"
    addends: tuple[Addend, ...] = ()
    origin: Decided | Elsewhere | None = None
    unit: Reads = "level"

    @property
    def size(self) -> int:
        """The number of places."""
        return int(self.value.size)

    def at(self, k: int) -> Quantity:
        """The same quantity at one place only."""
        if self.size == 1:
            return self
        origin = self.origin
        if isinstance(origin, Elsewhere):
            origin = replace(origin, at=np.broadcast_to(origin.at, self.value.shape)[k : k + 1])
        addends = []
        for a in self.addends:
            words, factor, of = a.at(k)
            addends.append(Addend(words, np.array([factor]), of))
        name, rule = say(self.name, k), say(self.rule, k)
        return Quantity(name, self.value[k : k + 1], rule, self.source, tuple(addends), origin, self.unit)

    def weights(self) -> Weights:
        """The factors multiplied out: how each value depends on decisions and on other lines."""
        found = Weights(np.zeros(self.size))
        _collect(self, np.ones(self.size), np.arange(self.size), found)
        return found


@dataclass
class Weights:
    """value = constant + Σ decided · factor + Σ elsewhere · factor, for n places.

    ``constant`` (n,); ``decided`` maps a decision's key to its value and factors (n,); ``elsewhere`` lists other
    lines' quantities with factors (n,).
    """

    constant: Floats
    decided: dict[Hashable, tuple[float, Floats]] = field(default_factory=dict)
    elsewhere: list[tuple[Elsewhere, Floats, Floats]] = field(default_factory=list)

    def total(self) -> Floats:
        """The sum (n,): the quantity's value again."""
        out = self.constant.copy()
        for value, factor in self.decided.values():
            out = out + value * factor
        for _, levels, factor in self.elsewhere:
            out = out + levels * factor
        return out


def _collect(quantity: Quantity, factor: Floats, rows: Ints, found: Weights) -> None:
    """Add ``factor`` (n,) times the quantity, of which place k takes row ``rows[k]``."""

    def here(values: Floats) -> Floats:
        return values[rows] if values.size > 1 else np.broadcast_to(values, factor.shape)

    if isinstance(quantity.origin, Decided):
        value, old = found.decided.get(quantity.origin.key, (float(quantity.value[0]), np.zeros_like(factor)))
        found.decided[quantity.origin.key] = value, old + factor
    elif isinstance(quantity.origin, Elsewhere):
        other = replace(quantity.origin, at=here(quantity.origin.at))
        found.elsewhere.append((other, here(quantity.value), factor))
    elif not quantity.addends:
        found.constant += np.where(factor == 0.0, 0.0, factor * here(quantity.value))
    one = np.zeros(rows.size, dtype=np.int64)
    for a in quantity.addends:
        f = factor * here(a.factor)
        if a.pick is not None:
            pick = a.pick[rows] if a.pick.size > 1 else np.broadcast_to(a.pick, rows.shape)
            for j in np.unique(pick):
                _collect(a.choices[j], np.where(pick == j, f, 0.0), one, found)
        elif a.of is not None:
            _collect(a.of, f, one if a.of.size == 1 else rows if a.rows is None else a.rows[rows], found)
        else:
            found.constant += f


def known(
    name: Words, value: ArrayLike, rule: Words = "", source: Source = "worked out", unit: Reads = "level"
) -> Quantity:
    """Values that rest on nothing further: the ground, a survey, a library."""
    return Quantity(name, as_row(value), rule, source, unit=unit)


def decided(name: Words, value: float, key: Hashable, rule: Words, source: Source) -> Quantity:
    """One decision."""
    return Quantity(name, np.array([value]), rule, source, origin=Decided(key))


def elsewhere(name: Words, line: Hashable, at: ArrayLike, value: ArrayLike, reads: Reads = "level") -> Quantity:
    """Another line's level or grade."""
    s = as_row(at)
    v = as_row(value)
    return Quantity(name, v, "", "tied", origin=Elsewhere(line, s, reads), unit=reads)


def summed(
    name: Words, rule: Words, *addends: Addend, source: Source = "worked out", unit: Reads = "level"
) -> Quantity:
    """The sum of addends."""
    value = addends[0].amount
    for a in addends[1:]:
        value = value + a.amount
    return Quantity(name, as_row(value), rule, source, addends, unit=unit)


def amount(words: Words, values: ArrayLike) -> Addend:
    """A plain amount."""
    return Addend(words, as_row(values))


def times(words: Words, of: Quantity, factor: ArrayLike = 1.0) -> Addend:
    """``factor`` times another quantity; a quantity at one place serves all places."""
    f = as_row(factor)
    return Addend(words, np.full(of.size, f[0]) if f.size == 1 else f, of)


def percent(value: float) -> str:
    """A grade in words, '+2.50 %'."""
    return f"{100 * value:+.2f} %".replace("-", "−")
