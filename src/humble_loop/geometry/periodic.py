"""Closed curves of level: the cubic spline through given levels that begins where it ends, with one grade and one bend there."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Floats, as_row


@dataclass(frozen=True)
class PeriodicCubic:
    """Cubics through ``levels`` (n,) at rising places ``at`` (n >= 3,) on a closed line ``length`` metres long, that agree in level, grade and
    curvature wherever they meet, also where the line closes.

    At each knot, with runs h before and g after it and grades d: d' / h + 2 d (1 / h + 1 / g) + d" / g = 3 ((z - z') / h2 + (z" - z) / g2),
    round and round.
    """

    length: float
    at: tuple[float, ...]

    @cached_property
    def _runs(self) -> Floats:
        """Metres from each knot to the next (n,)."""
        return np.asarray(np.diff([*self.at, self.at[0] + self.length]), dtype=np.float64)

    @cached_property
    def _slopes(self) -> Floats:
        """How the grade at each knot depends on all levels (n, n)."""
        n, g = len(self.at), self._runs
        h: Floats = np.roll(g, 1)
        every = np.arange(n)
        before, after = np.roll(every, 1), np.roll(every, -1)
        matrix, wanted = np.zeros((n, n)), np.zeros((n, n))
        np.add.at(matrix, (every, before), 1.0 / h)
        np.add.at(matrix, (every, every), 2.0 / h + 2.0 / g)
        np.add.at(matrix, (every, after), 1.0 / g)
        np.add.at(wanted, (every, every), 3.0 / h**2 - 3.0 / g**2)
        np.add.at(wanted, (every, before), -3.0 / h**2)
        np.add.at(wanted, (every, after), 3.0 / g**2)
        return np.asarray(np.linalg.solve(matrix, wanted), dtype=np.float64)

    def _within(self, s: ArrayLike) -> tuple[Floats, np.ndarray, np.ndarray, Floats]:
        x = np.mod(as_row(s) - self.at[0], self.length)
        begins = np.array(self.at) - self.at[0]
        i = np.clip(np.searchsorted(begins, x, side="right") - 1, 0, len(begins) - 1)
        run = self._runs[i]
        return (x - begins[i]) / run, i, np.mod(i + 1, len(begins)), run

    def weights(self, s: ArrayLike) -> Floats:
        """Weights (m, n) of the levels in the level at places (m,)."""
        t, i, j, run = self._within(s)
        return self._weighed(
            i, j, (1 + 2 * t) * (1 - t) ** 2, t * t * (3 - 2 * t), t * (1 - t) ** 2 * run, t * t * (t - 1) * run
        )

    def slope_weights(self, s: ArrayLike) -> Floats:
        """Weights (m, n) of the levels in the grade at places (m,)."""
        t, i, j, run = self._within(s)
        rise = 6 * t * (1 - t) / run
        return self._weighed(i, j, -rise, rise, (1 - t) * (1 - 3 * t), t * (3 * t - 2))

    def _weighed(self, i: np.ndarray, j: np.ndarray, zi: Floats, zj: Floats, di: Floats, dj: Floats) -> Floats:
        found: Floats = di[:, None] * self._slopes[i] + dj[:, None] * self._slopes[j]
        rows = np.arange(len(i))
        found[rows, i] += zi
        found[rows, j] += zj
        return found

    def sharpest(self, levels: ArrayLike) -> float:
        """The largest size of the second derivative (1/m): it runs straight between knots, so it stands at one of them."""
        z = as_row(levels)
        d, run = self._slopes @ z, self._runs
        rise, after = (np.roll(z, -1) - z) / run, np.roll(d, -1)
        first, last = (6 * rise - 4 * d - 2 * after) / run, (2 * d + 4 * after - 6 * rise) / run
        return float(max(np.abs(first).max(), np.abs(last).max()))
