"""A line that lies at the level of another line abreast of it, with a difference."""

from __future__ import annotations

from collections.abc import Hashable
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Bools, Floats, as_row
from humble_loop.lines.line import Line, LinePlan
from humble_loop.lines.quantity import Addend, Quantity, amount, elsewhere, summed, times
from humble_loop.lines.rules import LevelRule
from humble_loop.lines.varying import Varying

_AT_END = 1e-6  # metres from a line's end that still count as on it


@dataclass(frozen=True)
class Beside:
    """Where places of one line lie abreast of another: ``at`` (n,) on that other's base, ``away`` (n,) metres between the two lines,
    at a right angle to the other's base, and whether it is ``there`` (n,).
    """

    at: Floats
    away: Floats
    there: Bools


def abreast(plan: LinePlan, places: Floats) -> Beside:
    """Where places (n, 2) lie abreast of a line: at their feet on its base, corners included, ends not."""
    feet = plan.base.feet(places)
    s = feet.chainages
    beyond = ((s <= _AT_END) | (s >= plan.base.total - _AT_END)) & ~feet.square
    if beyond.any():  # a place that is all but abreast of the very end
        ends = plan.base.points_at(s[beyond])
        heading = feet.headings[beyond]
        along = np.einsum("ij,ij->i", places[beyond] - ends, np.column_stack([np.cos(heading), np.sin(heading)]))
        beyond[beyond] = np.abs(along) > _AT_END
    inside = plan.covers(np.clip(s, plan.start, plan.end)) & (s >= plan.start - _AT_END) & (s <= plan.end + _AT_END)
    return Beside(s, np.abs(feet.offsets - plan.offset(s)), inside & ~beyond)


@dataclass(frozen=True)
class Abreast(LevelRule):
    """The level of the line ``there`` abreast of each place of ``here``, and ``rise`` above it; none where it is not there."""

    title: str
    other: Hashable
    words: str
    there: Line
    here: LinePlan
    rise: Varying

    def _beside(self, x: Floats) -> Beside:
        return abreast(self.there.plan, self.here.points(x))

    def level(self, s: ArrayLike) -> Quantity:
        x = as_row(s)
        found = self._beside(x)
        value = np.full_like(x, np.nan)
        value[found.there] = self.there.rule.levels(found.at[found.there])
        return summed(
            lambda k: f"{self.title} at {x[k]:.2f}",
            f"at the level of {self.words} abreast of it",
            times(self.words, elsewhere(self.words, self.other, found.at, value)),
            *self._difference(x),
            source="tied",
        )

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        """The other's grade there, times how fast its place moves: v · t / (1 − κ o), with v the way that this line goes, t and κ
        the tangent and curvature of the other's base, and o how far to the left of it this line lies.
        """
        x = as_row(s)
        found, frames = self._beside(x), self.here.base.at(x)
        t = np.column_stack([np.cos(frames.headings), np.sin(frames.headings)])
        n = np.column_stack([-t[:, 1], t[:, 0]])
        along = 1.0 - frames.curvatures * self.here.offset(x)
        v = t * along[:, None] + n * self.here.offset.slope(x, side)[:, None]
        base = self.there.plan.base.at(found.at)
        on = np.column_stack([np.cos(base.headings), np.sin(base.headings)])
        out = np.einsum("ij,ij->i", self.here.points(x) - base.points, np.column_stack([-on[:, 1], on[:, 0]]))
        rate = np.einsum("ij,ij->i", v, on) / (1.0 - base.curvatures * out)
        value = np.full_like(x, np.nan)
        for same, where in ((rate >= 0.0, side), (rate < 0.0, "before" if side == "after" else "after")):
            rows = np.flatnonzero(found.there & same)
            if rows.size:
                value[rows] = self.there.rule.grades(found.at[rows], where)
        words = f"grade of {self.words}"
        turning = () if self.rise.is_steady else (amount("as the difference changes", self.rise.slope(x, side)),)
        return summed(
            lambda k: f"grade of {self.title} at {x[k]:.2f}",
            f"with {self.words} abreast of it",
            times(words, elsewhere(words, self.other, found.at, value, "grade"), rate),
            *turning,
            source="tied",
            unit="grade",
        )

    def _difference(self, x: Floats) -> tuple[Addend, ...]:
        rise = self.rise(x)
        return (amount("height difference", rise),) if np.any(rise) else ()

    def _there(self, at: Floats) -> Floats:
        """Where places (n,) on the other's base lie abreast on this line's."""
        return self.here.base.feet(self.there.plan.points(at)).chainages

    def key_places(self) -> Floats:
        plan = self.there.plan
        keys = self.there.rule.key_places()
        keys = np.concatenate([keys[(keys >= plan.start) & (keys <= plan.end)], plan.base.key_chainages()])
        return np.unique(np.concatenate([self._there(keys), self.rise.at]))

    def bow(self) -> list[tuple[float, float, float]]:
        found = []
        for a, b, bend in self.there.rule.bow():
            low, high = sorted(self._there(np.array([a, b])).tolist())
            if high > low:
                found.append((low, high, bend * ((b - a) / (high - low)) ** 2))
        return found
