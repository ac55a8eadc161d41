"""Levels that are those of the ground under a line, with a difference."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Floats, as_row, frozen
from humble_loop.ground.drape import cross_segments
from humble_loop.ground.surface import Surface
from humble_loop.lines.line import LinePlan
from humble_loop.lines.quantity import Quantity, amount, known, summed, times
from humble_loop.lines.rules import LevelRule
from humble_loop.lines.varying import Varying

_SAG = 0.01  # metres between a line in plan and its chords, to find where it crosses edges of the ground
_MOST = 2_000  # rows that one stretch of ground is given


@dataclass(frozen=True)
class UnderLine(LevelRule):
    """The level of ``surface`` under each place of a line, and ``rise`` above it; none off the surface. ``keys`` are where it bends.
    ``words`` say which surface.
    """

    title: str
    surface: Surface
    here: LinePlan
    rise: Varying
    keys: Floats
    words: str = "the ground"

    @staticmethod
    def along(
        title: str, surface: Surface, here: LinePlan, rise: Varying, within: float, words: str = "the ground"
    ) -> UnderLine:
        """With its bends: where the line crosses edges of the surface, as many as keep chords ``within`` metres of level."""
        keys = [_bends(surface, here, s, within) for s in here.runs(_SAG)]
        return UnderLine(title, surface, here, rise, frozen(np.concatenate([np.empty(0), *keys])), words)

    def level(self, s: ArrayLike) -> Quantity:
        x = as_row(s)
        z = self.surface.levels(self.here.points(x))
        ground = known(lambda k: f"{self.words} under {self.title} at {x[k]:.2f}", z, self.words, "ground")
        rise = self.rise(x)
        more = (amount("height difference", rise),) if np.any(rise) else ()
        words = f"at the level of {self.words} under it"
        return summed(lambda k: f"{self.title} at {x[k]:.2f}", words, times(self.words, ground), *more, source="tied")

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        """The slope of the surface the way that the line goes, just after or before each place."""
        x = as_row(s)
        near = x + (_STEP if side == "after" else -_STEP)
        frames = self.here.base.at(near)
        t = np.column_stack([np.cos(frames.headings), np.sin(frames.headings)])
        n = np.column_stack([-t[:, 1], t[:, 0]])
        v = t * (1.0 - frames.curvatures * self.here.offset(near))[:, None]
        v = v + n * self.here.offset.slope(x, side)[:, None]
        slope = np.einsum("ij,ij->i", self.surface.slopes(self.here.points(near)), v) + self.rise.slope(x, side)
        name = lambda k: f"grade of {self.title} at {x[k]:.2f}"  # noqa: E731
        return known(name, slope, f"the slope of {self.words} under it", "ground", "grade")

    def key_places(self) -> Floats:
        return np.unique(np.concatenate([self.keys, self.rise.at]))


_STEP = 1e-4  # metres on to the side that is asked for, so that a place on an edge lies in the triangle there


def _bends(surface: Surface, here: LinePlan, s: Floats, within: float) -> Floats:
    points = here.points(s)
    met = cross_segments(surface, points[:-1], points[1:])
    length = np.hypot(*np.diff(points, axis=0).T)
    run = np.diff(s) / np.where(length > 0.0, length, 1.0)
    at: Floats = s[met.line] + met.along * run[met.line]
    on = np.isfinite(met.level)
    at, z = at[on], met.level[on]
    keep = np.concatenate([[True], np.diff(at) > 1e-6]) if len(at) else np.zeros(0, dtype=bool)
    at, z = at[keep], z[keep]
    if len(at) < 3:
        return at
    thin = shapely.simplify(shapely.LineString(np.column_stack([at, z])), within)
    keys: Floats = np.array(shapely.get_coordinates(thin)[:, 0], dtype=np.float64)
    return keys[:0] if len(keys) > _MOST else keys
