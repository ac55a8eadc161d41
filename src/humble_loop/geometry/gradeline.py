"""Vertical lines: points joined by grades, rounded by symmetric parabolas; and cubics between two ends."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from typing import Literal, NamedTuple

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Floats, Ints, as_row, clipped, frozen


class Turning(NamedTuple):
    """A high or low point: chainage and level in metres, kind 'high' or 'low'."""

    chainage: float
    level: float
    kind: str


@dataclass(frozen=True)
class Profile:
    """VIPs as arrays: rising ``chainages`` (m), ``levels`` (m), ``curves`` (parabola lengths in m, 0 at ends)."""

    chainages: Floats
    levels: Floats
    curves: Floats

    @staticmethod
    def of(chainages: ArrayLike, levels: ArrayLike, curves: ArrayLike | None = None) -> Profile:
        """Check and freeze. Raises ValueError when there are fewer than two VIPs or chainages do not rise."""
        s, z = frozen(chainages), frozen(levels)
        c = frozen(np.zeros_like(s) if curves is None else curves)
        if s.size < 2:
            raise ValueError("a grade line needs two VIPs")
        if not (s.shape == z.shape == c.shape):
            raise ValueError("chainages, levels and curve lengths must be equally many")
        if np.any(np.diff(s) <= 0):
            i = int(np.argmax(np.diff(s) <= 0))
            raise ValueError(f"VIP chainages must rise: {s[i + 1]:.3f} follows {s[i]:.3f}")
        if np.any(c < 0) or c[0] != 0 or c[-1] != 0:
            raise ValueError("curve lengths must not be negative, and the first and last VIP have none")
        return Profile(s, z, c)

    @cached_property
    def grades(self) -> Floats:
        """Grades (n - 1,) between VIPs, as ratios."""
        return frozen(np.diff(self.levels) / np.diff(self.chainages))

    @cached_property
    def changes(self) -> Floats:
        """Change of grade (n,) at each VIP, as a ratio; 0 at both ends."""
        return frozen(np.concatenate([[0.0], np.diff(self.grades), [0.0]]))

    def level(self, chainages: ArrayLike) -> Floats:
        """Levels in metres; NaN outside the first and last VIP, where nothing is defined."""
        s, i, inside = self._segments(chainages)
        z = self.levels[i] + self.grades[i] * (s - self.chainages[i])
        # A parabola departs from its tangents by (grade change / 2L) times the square of the distance into it.
        for vip in (i, i + 1):
            half = 0.5 * self.curves[vip]
            into = half - np.abs(s - self.chainages[vip])
            on = into > 0
            k = np.where(on, self.changes[vip] / np.where(on, 2.0 * self.curves[vip], 1.0), 0.0)
            z = z + np.where(on, k * into * into, 0.0)
        return np.where(inside, z, np.nan)

    def grade(self, chainages: ArrayLike, side: str = "after") -> Floats:
        """Grades as ratios; at a VIP without a curve, the one 'after' it or 'before' it. NaN outside."""
        s, i, inside = self._segments(chainages, side)
        g = self.grades[i].copy()
        for vip, sign in ((i, -1.0), (i + 1, 1.0)):
            half = 0.5 * self.curves[vip]
            into = half - np.abs(s - self.chainages[vip])
            on = into > 0
            k = np.where(on, self.changes[vip] / np.where(on, self.curves[vip], 1.0), 0.0)
            g = g + np.where(on, sign * k * into, 0.0)
        return np.where(inside, g, np.nan)

    def turning_points(self) -> list[Turning]:
        """High and low points strictly inside the line, exactly; a sharp VIP counts."""
        found = []
        for i in range(1, self.chainages.size - 1):
            before, after = float(self.grades[i - 1]), float(self.grades[i])
            if before * after >= 0:
                continue
            at = self.chainages[i]
            if self.curves[i] > 0:
                at = at - 0.5 * self.curves[i] - before * self.curves[i] / (after - before)
            found.append(Turning(float(at), float(self.level([at])[0]), "high" if before > 0 else "low"))
        return found

    def key_chainages(self) -> Floats:
        """VIPs and both ends of every curve."""
        half = 0.5 * self.curves
        return np.unique(np.concatenate([self.chainages, self.chainages - half, self.chainages + half]))

    def overlaps(self) -> list[tuple[int, float]]:
        """Legs (index of the VIP before) whose two half curves need more than the leg, and by how much (m)."""
        need = 0.5 * (self.curves[:-1] + self.curves[1:])
        have = np.diff(self.chainages)
        over = need - have
        return [(int(i), float(over[i])) for i in np.flatnonzero(over > 1e-9 * np.maximum(1.0, have))]

    def _segments(self, chainages: ArrayLike, side: str = "after") -> tuple[Floats, np.ndarray, np.ndarray]:
        s = as_row(chainages)
        where: Literal["left", "right"] = "right" if side == "after" else "left"
        i = clipped(np.searchsorted(self.chainages, s, side=where) - 1, 0, self.chainages.size - 2)
        slack = 1e-9 * max(1.0, abs(float(self.chainages[-1])))
        inside = (s >= self.chainages[0] - slack) & (s <= self.chainages[-1] + slack)
        return s, i, inside


@dataclass(frozen=True)
class Cubic:
    """The cubic in distance that leaves ``z0`` at grade ``m0`` and reaches ``z1`` at grade ``m1``, ``length`` m on.

    Hermite's form: z = h00 z0 + h10 L m0 + h01 z1 + h11 L m1 with t = s / L. Through ``levels`` (k,) at distances ``at`` (k,) it is
    as many cubics as that makes, which agree in level, grade and curvature: the clamped spline.
    """

    length: float
    z0: float
    m0: float
    z1: float
    m1: float
    at: tuple[float, ...] = ()
    levels: tuple[float, ...] = ()

    @property
    def _given(self) -> Floats:
        """What its levels are made of (4 + k,): z0, m0, z1, m1, and the levels on the way."""
        return np.array([self.z0, self.m0, self.z1, self.m1, *self.levels])

    @cached_property
    def _knots(self) -> tuple[Floats, Floats, Floats]:
        """Where cubics meet (k + 2,); and how levels and grades there (k + 2, 4 + k) depend on what is given.

        Equal curvature on both sides of a knot: with runs h and g before and after it, d' / h + 2 d (1 / h + 1 / g) + d\" / g =
        3 ((z - z') / h2 + (z\" - z) / g2).
        """
        knots = np.array([0.0, *self.at, self.length])
        n, count = len(knots), 4 + len(self.at)
        levels, slopes = np.zeros((n, count)), np.zeros((n, count))
        levels[0, 0] = levels[-1, 2] = slopes[0, 1] = slopes[-1, 3] = 1.0
        levels[np.arange(1, n - 1), np.arange(4, count)] = 1.0
        if n > 2:
            inverse = 1.0 / np.diff(knots)
            h, g = inverse[:-1], inverse[1:]
            matrix = np.diag(2.0 * (h + g)) + np.diag(g[:-1], 1) + np.diag(h[1:], -1)
            rises = np.diff(levels, axis=0)
            wanted = 3.0 * ((h**2)[:, None] * rises[:-1] + (g**2)[:, None] * rises[1:])
            wanted[0] -= h[0] * slopes[0]
            wanted[-1] -= g[-1] * slopes[-1]
            slopes[1:-1] = np.linalg.solve(matrix, wanted)
        return knots, levels, slopes

    def _within(self, s: ArrayLike) -> tuple[Floats, Ints, Floats]:
        """Shares (n,) of the way along the cubic that each place lies on, which that is (n,), and how long (n,)."""
        x, knots = as_row(s), self._knots[0]
        i = clipped(np.searchsorted(knots, x, side="right") - 1, 0, len(knots) - 2)
        run = knots[i + 1] - knots[i]
        return (x - knots[i]) / run, i, run

    def weights(self, s: ArrayLike) -> Floats:
        """Weights (n, 4 + k) of z0, m0, z1, m1 and the levels on the way in the level at ``s`` (m)."""
        (t, i, run), (_, levels, slopes) = self._within(s), self._knots
        h00 = (1 + 2 * t) * (1 - t) ** 2
        h10 = t * (1 - t) ** 2 * run
        h01 = t * t * (3 - 2 * t)
        h11 = t * t * (t - 1) * run
        return _weighed((h00, levels[i]), (h10, slopes[i]), (h01, levels[i + 1]), (h11, slopes[i + 1]))

    def slope_weights(self, s: ArrayLike) -> Floats:
        """Weights (n, 4 + k) of the same in the grade at ``s`` (m): the derivatives of ``weights``."""
        (t, i, run), (_, levels, slopes) = self._within(s), self._knots
        rise = 6 * t * (1 - t) / run
        first, last = (1 - t) * (1 - 3 * t), t * (3 * t - 2)
        return _weighed((-rise, levels[i]), (first, slopes[i]), (rise, levels[i + 1]), (last, slopes[i + 1]))

    @property
    def _pieces(self) -> list[tuple[float, Cubic]]:
        """Its cubics one by one, each with where it begins."""
        knots, levels, slopes = self._knots
        z, m = levels @ self._given, slopes @ self._given
        run, count = np.diff(knots).tolist(), len(knots) - 1
        (z, m), begins = (z.tolist(), m.tolist()), knots.tolist()
        return [(begins[i], Cubic(run[i], z[i], m[i], z[i + 1], m[i + 1])) for i in range(count)]

    def sharpest(self) -> float:
        """The largest size of the second derivative (1/m): it runs straight, so it stands where a cubic ends."""
        if self.at:
            return max(piece.sharpest() for _, piece in self._pieces)
        rise = (self.z1 - self.z0) / self.length
        return max(abs(6 * rise - 4 * self.m0 - 2 * self.m1), abs(2 * self.m0 + 4 * self.m1 - 6 * rise)) / self.length

    def level(self, s: ArrayLike) -> Floats:
        """Levels in metres at distances ``s``."""
        found: Floats = self.weights(s) @ self._given
        return found

    def grade(self, s: ArrayLike) -> Floats:
        """Grades as ratios at distances ``s``."""
        found: Floats = self.slope_weights(s) @ self._given
        return found

    def turning_points(self) -> list[Turning]:
        """High and low points strictly inside."""
        if self.at:
            found = [
                Turning(begin + t.chainage, t.level, t.kind)
                for begin, piece in self._pieces
                for t in piece.turning_points()
            ]
            # A turning point that stands where two cubics meet lies inside neither.
            ends, grades = self._knots[0], self._knots[2] @ self._given
            for s, m in zip(ends[1:-1], grades[1:-1]):
                if abs(m) < _LEVEL:
                    low = bool(self.grade([s + _BESIDE])[0] > 0.0)
                    found.append(Turning(float(s), float(self.level([s])[0]), "low" if low else "high"))
            return sorted(found, key=lambda t: t.chainage)
        rise = (self.z1 - self.z0) / self.length
        a = -6 * rise + 3 * self.m0 + 3 * self.m1
        b = 6 * rise - 4 * self.m0 - 2 * self.m1
        c = self.m0
        roots = np.roots([a, b, c]) if abs(a) > 1e-15 else (np.array([-c / b]) if abs(b) > 1e-15 else np.array([]))
        alone = []
        for t in sorted(float(r.real) for r in np.atleast_1d(roots) if abs(np.imag(r)) < 1e-12):
            if 1e-9 < t < 1 - 1e-9:
                second = 2 * a * t + b
                if abs(second) > 1e-12:
                    s = t * self.length
                    alone.append(Turning(s, float(self.level([s])[0]), "low" if second > 0 else "high"))
        return alone


_LEVEL = 1e-12  # grade that is none
_BESIDE = 1e-6  # metres


def _weighed(*parts: tuple[Floats, Floats]) -> Floats:
    """The sum of weights (n,) times rows (n, k)."""
    return np.asarray(sum(w[:, None] * rows for w, rows in parts))
