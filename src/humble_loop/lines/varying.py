"""Values that vary along a line: joined by straight lines, constant beyond both ends."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Floats, as_row, clipped, frozen


@dataclass(frozen=True)
class Varying:
    """Values (k,) at rising places (k,) along a line, in metres."""

    at: Floats
    values: Floats

    @staticmethod
    def steady(value: float) -> Varying:
        """The same value everywhere."""
        return Varying(frozen([0.0]), frozen([value]))

    @staticmethod
    def of(at: ArrayLike, values: ArrayLike) -> Varying:
        """Values at places that rise or stay (a step stands where two places are one)."""
        return Varying(frozen(at), frozen(values))

    @property
    def is_steady(self) -> bool:
        """Whether it is the same everywhere."""
        return bool(np.all(self.values == self.values[0]))

    def __call__(self, s: ArrayLike) -> Floats:
        """Values at ``s`` (any shape)."""
        return np.interp(np.asarray(s, dtype=np.float64), self.at, self.values)

    def one(self, s: float) -> float:
        """The value at one place."""
        return float(np.interp(s, self.at, self.values))

    def slope(self, s: ArrayLike, side: str = "after") -> Floats:
        """Change per metre (n,) just after (or before) each of ``s`` (n,)."""
        x = as_row(s)
        if self.at.size < 2:
            return np.zeros_like(x)
        i = np.searchsorted(self.at, x, side="right" if side == "after" else "left") - 1
        inside = (i >= 0) & (i < self.at.size - 1)
        i = clipped(i, 0, self.at.size - 2)
        run = np.diff(self.at)
        rate = np.where(run > 0, np.diff(self.values) / np.where(run > 0, run, 1.0), 0.0)
        return np.where(inside, rate[i], 0.0)

    def plus(self, other: Varying, factor: float = 1.0) -> Varying:
        """The sum of this and ``factor`` times another."""
        at = np.union1d(self.at, other.at)
        return Varying.of(at, self(at) + factor * other(at))

    def times_varying(self, other: Varying, within: float = 1e-4) -> Varying:
        """The product of this and another, to ``within``: where both vary at once it is a parabola, laid in chords."""
        if self.is_steady or other.is_steady:
            one, steady = (other, self) if self.is_steady else (self, other)
            return one.times(float(steady.values[0]))
        at = np.union1d(self.at, other.at)
        bow = np.abs(np.diff(self(at)) * np.diff(other(at)))  # four times what a single chord departs by
        n = np.maximum(np.ceil(np.sqrt(bow / (4.0 * within))), 1).astype(np.int64)
        fine = [np.linspace(a, b, k, endpoint=False) for a, b, k in zip(at[:-1], at[1:], n.tolist())]
        at = np.concatenate([*fine, at[-1:]])
        return Varying.of(at, self(at) * other(at))

    def times(self, factor: float) -> Varying:
        """This, ``factor`` times as large."""
        return Varying.of(self.at, self.values * factor)
