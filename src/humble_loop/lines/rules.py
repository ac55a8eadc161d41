"""Level rules: how a line comes by its levels. One object gives levels, grades, reasons and weights.

Places are chainages of the line's base, in metres; grades are level differences per metre of base.
"""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Hashable
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Floats, as_row, clipped
from humble_loop.geometry.gradeline import Cubic, Profile, Turning
from humble_loop.lines.quantity import (
    Addend,
    Quantity,
    Reads,
    Source,
    Weights,
    Words,
    amount,
    elsewhere,
    known,
    percent,
    say,
    summed,
    times,
)
from humble_loop.lines.varying import Varying


class LevelRule(ABC):
    """How levels come about along a line. NaN where there are none."""

    @abstractmethod
    def level(self, s: ArrayLike) -> Quantity:
        """The level at places (n,), with its formula."""

    @abstractmethod
    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        """The grade at places (n,), just 'after' or 'before' them, with its formula."""

    def levels(self, s: ArrayLike) -> Floats:
        """Levels (n,) in metres."""
        return self.level(s).value

    def grades(self, s: ArrayLike, side: str = "after") -> Floats:
        """Grades (n,) as ratios."""
        return self.grade(s, side).value

    def weights(self, s: ArrayLike) -> Weights:
        """How the level at each place depends on decisions and on other lines."""
        return self.level(s).weights()

    def key_places(self) -> Floats:
        """Places at which the rule changes its formula, where rows should stand."""
        return np.empty(0)

    def bow(self) -> list[tuple[float, float, float]]:
        """Stretches (from, to) with the largest second difference per m2 on them, for the spacing of rows."""
        return []


@dataclass(frozen=True)
class Fixed(LevelRule):
    """The same level everywhere, by a quantity at one place."""

    title: str
    what: Quantity

    def level(self, s: ArrayLike) -> Quantity:
        x = as_row(s)
        return summed(self.title, "level throughout", times("level", self.what, np.ones_like(x)))

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        del side
        return known(f"grade of {self.title}", np.zeros_like(as_row(s)), "level throughout", unit="grade")


@dataclass(frozen=True)
class OnGradeLine(LevelRule):
    """VIPs joined by grades and symmetric parabolas. ``vips`` are the VIPs' levels as quantities."""

    title: str
    profile: Profile
    vips: tuple[Quantity, ...]

    def _legs(self, s: Floats, side: str) -> tuple[np.ndarray, np.ndarray]:
        p = self.profile
        i = clipped(
            np.searchsorted(p.chainages, s, side="right" if side == "after" else "left") - 1, 0, p.chainages.size - 2
        )
        slack = 1e-9 * max(1.0, abs(float(p.chainages[-1])))
        inside = (s >= p.chainages[0] - slack) & (s <= p.chainages[-1] + slack)
        return i, np.where(inside, 1.0, np.nan)

    def leg(self, i: np.ndarray) -> Quantity:
        """Grades of legs (n,) by their index."""
        p = self.profile
        run = p.chainages[i + 1] - p.chainages[i]
        return summed(
            lambda k: f"grade from {p.chainages[i[k]]:.2f} to {p.chainages[i[k] + 1]:.2f}",
            lambda k: f"({p.levels[i[k] + 1]:.3f} − {p.levels[i[k]]:.3f}) / {run[k]:.2f}",
            Addend("VIP after", 1.0 / run, choices=self.vips, pick=i + 1),
            Addend("VIP before", -1.0 / run, choices=self.vips, pick=i),
            unit="grade",
        )

    def _into(self, s: Floats, vip: np.ndarray) -> Floats:
        """How far each place lies inside the curve at a VIP; 0 outside."""
        into: Floats = np.maximum(0.5 * self.profile.curves[vip] - np.abs(s - self.profile.chainages[vip]), 0.0)
        return into

    def _change(self, vip: np.ndarray) -> Quantity:
        """The change of grade at VIPs (n,)."""
        last = self.profile.chainages.size - 2
        after, before = clipped(vip, 0, last), clipped(vip - 1, 0, last)
        inner = ((vip > 0) & (vip <= last)).astype(np.float64)
        return summed(
            lambda k: f"change of grade at {self.profile.chainages[vip[k]]:.2f}",
            "grade after less grade before",
            times("grade after", self.leg(after), inner),
            times("grade before", self.leg(before), -inner),
            unit="grade",
        )

    def _curve_words(self, vip: np.ndarray, change: Quantity, into: Floats) -> Words:
        curves = self.profile.curves
        return lambda k: (
            f"parabola of {curves[vip[k]]:.2f} m, {percent(change.value[k])} change, {into[k]:.2f} m into it"
        )

    def level(self, s: ArrayLike) -> Quantity:
        """On the tangent from the VIP before, and the parabolas' departure from it: change / 2L times the distance into it squared."""
        x, p = as_row(s), self.profile
        i, inside = self._legs(x, "after")
        run = x - p.chainages[i]
        addends = [Addend("VIP before", inside, choices=self.vips, pick=i)]
        if np.any(run != 0):
            leg = self.leg(i)
            addends.append(times(lambda k: f"{percent(leg.value[k])} × {run[k]:.2f} m", leg, run))
        for vip in (i, i + 1):
            into = self._into(x, vip)
            if np.any(into > 0):
                length = np.where(p.curves[vip] > 0, p.curves[vip], 1.0)
                change = self._change(vip)
                words = self._curve_words(vip, change, into)
                addends.append(times(words, change, into * into / (2.0 * length)))
        return summed(lambda k: f"{self.title} at {x[k]:.2f}", "on the grade line", *addends)

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        """The leg's grade, turned within curves at an even rate."""
        x, p = as_row(s), self.profile
        i, inside = self._legs(x, side)
        leg = self.leg(i)
        addends = [times("leg of the grade line", leg, inside)]
        for vip, sign in ((i, -1.0), (i + 1, 1.0)):
            into = self._into(x, vip)
            if np.any(into > 0):
                length = np.where(p.curves[vip] > 0, p.curves[vip], 1.0)
                addends.append(times("turned by its curve", self._change(vip), sign * into / length))
        return summed(lambda k: f"grade of {self.title} at {x[k]:.2f}", "on the grade line", *addends, unit="grade")

    def key_places(self) -> Floats:
        return self.profile.key_chainages()

    def bow(self) -> list[tuple[float, float, float]]:
        p = self.profile
        return [
            (float(s - c / 2), float(s + c / 2), abs(float(a)) / float(c))
            for s, c, a in zip(p.chainages, p.curves, p.changes, strict=True)
            if c > 0 and a != 0
        ]


@dataclass(frozen=True)
class Above(LevelRule):
    """Another line's level at the same chainage plus differences that vary along it.

    ``rises`` are (words, level difference) pairs; words may be a function of the chainage.
    """

    title: str
    rule_words: str
    base: Hashable
    base_words: str
    base_rule: LevelRule
    rises: tuple[tuple[str | Callable[[float], str], Varying], ...]
    source: Source = "worked out"

    def level(self, s: ArrayLike) -> Quantity:
        x = as_row(s)
        under = elsewhere(self.base_words, self.base, x, self.base_rule.levels(x))
        rises = [amount(_at(words, x), rise(x)) for words, rise in self.rises]
        return summed(
            lambda k: f"{self.title} at {x[k]:.2f}",
            self.rule_words,
            times(self.base_words, under),
            *rises,
            source=self.source,
        )

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        x = as_row(s)
        under = elsewhere(f"grade of {self.base_words}", self.base, x, self.base_rule.grades(x, side), "grade")
        rises = [
            amount("as it turns", slope)
            for _, rise in self.rises
            if not rise.is_steady and np.any(slope := rise.slope(x, side))
        ]
        return summed(
            lambda k: f"grade of {self.title} at {x[k]:.2f}",
            self.rule_words,
            times(f"grade of {self.base_words}", under),
            *rises,
            unit="grade",
        )

    def key_places(self) -> Floats:
        return np.unique(np.concatenate([self.base_rule.key_places(), *(r.at for _, r in self.rises if r.at.size > 1)]))

    def bow(self) -> list[tuple[float, float, float]]:
        return self.base_rule.bow()


@dataclass(frozen=True)
class Raised(LevelRule):
    """As another rule has it, and ``rise`` more."""

    title: str
    words: str
    own: LevelRule
    rise: Varying

    def level(self, s: ArrayLike) -> Quantity:
        x = as_row(s)
        return summed(
            lambda k: f"{self.title} at {x[k]:.2f}",
            self.words,
            times("without that", self.own.level(x)),
            amount(self.words, self.rise(x)),
        )

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        x = as_row(s)
        own, slope = self.own.grade(x, side), self.rise.slope(x, side)
        if not slope.any():
            return own
        title: Words = lambda k: f"grade of {self.title} at {x[k]:.2f}"  # noqa: E731
        return summed(title, self.words, times("without that", own), amount("its ramp", slope), unit="grade")

    def key_places(self) -> Floats:
        return np.union1d(self.own.key_places(), self.rise.at)

    def bow(self) -> list[tuple[float, float, float]]:
        return self.own.bow()


@dataclass(frozen=True)
class Pull:
    """Part of the way (``share``, 0 to 1 along the line) from a base towards levels of its own, joined by straight lines."""

    words: str
    profile: Profile
    share: Varying

    def at(self, s: Floats) -> tuple[Floats, Floats]:
        """The level (n,) that pulls, and the share (n,); beyond its ends the level is that of the end, where nothing is shared."""
        p = self.profile
        return p.level(np.clip(s, p.chainages[0], p.chainages[-1])), self.share(s)


@dataclass(frozen=True)
class Pulled(LevelRule):
    """Another line's level at the same chainage, pulled towards levels of its own, plus differences that vary along it."""

    title: str
    rule_words: str
    base: Hashable
    base_words: str
    base_rule: LevelRule
    rises: tuple[tuple[str, Varying], ...]
    pulls: tuple[Pull, ...]

    def level(self, s: ArrayLike) -> Quantity:
        x = as_row(s)
        under = elsewhere(self.base_words, self.base, x, self.base_rule.levels(x))
        own = [(p.words, *p.at(x)) for p in self.pulls]
        left = 1.0 - sum((share for _, _, share in own), np.zeros_like(x))
        return summed(
            lambda k: f"{self.title} at {x[k]:.2f}",
            self.rule_words,
            times(self.base_words, under, left),
            *(amount(words, share * z) for words, z, share in own if np.any(share)),
            *(amount(words, rise(x)) for words, rise in self.rises),
        )

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        x = as_row(s)
        under = elsewhere(f"grade of {self.base_words}", self.base, x, self.base_rule.grades(x, side), "grade")
        here, addends, left = self.base_rule.levels(x), [], np.ones_like(x)
        for p in self.pulls:
            z, share = p.at(x)
            inside = (x >= p.profile.chainages[0]) & (x <= p.profile.chainages[-1])
            own = np.where(inside, p.profile.grade(np.clip(x, *p.profile.chainages[[0, -1]]), side), 0.0)
            left = left - share
            addends.append(amount(p.words, share * own + p.share.slope(x, side) * (z - here)))
        addends += [amount("as it turns", rise.slope(x, side)) for _, rise in self.rises]
        words = f"grade of {self.base_words}"
        title = lambda k: f"grade of {self.title} at {x[k]:.2f}"  # noqa: E731
        return summed(title, self.rule_words, times(words, under, left), *addends, unit="grade")

    def key_places(self) -> Floats:
        own = [v for p in self.pulls for v in (p.profile.chainages, p.share.at)]
        return np.unique(np.concatenate([self.base_rule.key_places(), *own, *(r.at for _, r in self.rises)]))

    def bow(self) -> list[tuple[float, float, float]]:
        return self.base_rule.bow()


@dataclass(frozen=True)
class Hold:
    """How a line is held: by ``share`` (0 to 1 along it) at the level of another line at the same chainages, told in ``words``.

    With ``least`` it is only kept from lying lower than that.
    """

    line: Hashable
    words: str
    rule: LevelRule
    share: Varying
    least: bool = False

    def part(self, x: Floats, lead: LevelRule) -> Floats:
        """The share (n,) at places of a line that without it would lie as ``lead`` does."""
        share = self.share(x)
        on = np.flatnonzero(share) if self.least else np.empty(0, dtype=np.int64)
        if on.size:
            higher = self.rule.levels(x[on]) > lead.levels(x[on])
            share[on[~higher]] = 0.0
        return share

    def takes_over(self, lead: LevelRule) -> Floats:
        """Places at which a line comes to lie as it is held, and no longer as ``lead`` has it."""
        if not self.least:
            return np.empty(0)
        low, high = float(self.share.at.min()), float(self.share.at.max())
        even = np.linspace(low, high, max(2, int(np.ceil((high - low) / _NEAR)) + 1))
        keys = np.concatenate([self.rule.key_places(), lead.key_places(), self.share.at])
        x = np.union1d(even, keys[(keys > low) & (keys < high)])
        above = self.rule.levels(x) - lead.levels(x)
        turns = np.flatnonzero(above[:-1] * above[1:] < 0.0)
        a, b = above[turns], above[turns + 1]
        found: Floats = x[turns] + (x[turns + 1] - x[turns]) * a / (a - b)
        return found


_NEAR = 1.0  # metres between places at which it is asked whether a line is held or higher


@dataclass(frozen=True)
class Held(LevelRule):
    """A line's own levels, and where it is held those that hold it.

    With a ``leader``, which is held in its place, it moves with that: by ``ratio`` of how far the leader is moved.
    """

    title: str
    rule_words: str
    own: LevelRule
    own_words: str
    holds: tuple[Hold, ...]
    leader: LevelRule | None = None
    ratio: Varying | None = None

    def _shares(self, x: Floats, side: str = "after") -> list[tuple[Floats, Floats]]:
        """The share of each hold (n,) and its change per metre (n,)."""
        lead, found = self.own if self.leader is None else self.leader, []
        for hold in self.holds:
            share = hold.share if self.ratio is None else hold.share.times_varying(self.ratio)
            on = (hold.part(x, lead) != 0.0) if hold.least else 1.0
            found.append((share(x) * on, share.slope(x, side) * on))
        return found

    def _there(self, hold: Hold, x: Floats, share: Floats, reads: Reads, side: str = "after") -> Quantity:
        """The level or grade that holds, at places where it counts; nothing elsewhere."""
        value = np.zeros_like(x)
        on = np.flatnonzero(share)
        value[on] = hold.rule.levels(x[on]) if reads == "level" else hold.rule.grades(x[on], side)
        words = hold.words if reads == "level" else f"grade of {hold.words}"
        return elsewhere(words, hold.line, x, value, reads)

    def level(self, s: ArrayLike) -> Quantity:
        x = as_row(s)
        shares = [share for share, _ in self._shares(x)]
        left = 1.0 - sum(shares, np.zeros_like(x)) if self.leader is None else np.ones_like(x)
        addends = [times(self.own_words, self.own.level(x), left)]
        for hold, share in zip(self.holds, shares):
            if np.any(share):
                addends.append(times(hold.words, self._there(hold, x, share, "level"), share))
                if self.leader is not None:
                    addends.append(times("less what it would be there", self.leader.level(x), -share))
        return summed(lambda k: f"{self.title} at {x[k]:.2f}", self.rule_words, *addends, source="tied")

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        x = as_row(s)
        shares = self._shares(x, side)
        left = np.ones_like(x) if self.leader else 1.0 - sum((share for share, _ in shares), np.zeros_like(x))
        lead = self.own if self.leader is None else self.leader
        addends = [times(f"grade of {self.own_words}", self.own.grade(x, side), left)]
        for hold, (share, slope) in zip(self.holds, shares):
            if np.any(share):
                addends.append(times(hold.words, self._there(hold, x, share, "grade", side), share))
                if self.leader is not None:
                    addends.append(times("less what it would be there", self.leader.grade(x, side), -share))
            if np.any(slope):
                addends.append(times("as it comes to it", self._there(hold, x, slope, "level"), slope))
                addends.append(times("as it leaves its own", lead.level(x), -slope))
        title = lambda k: f"grade of {self.title} at {x[k]:.2f}"  # noqa: E731
        return summed(title, self.rule_words, *addends, source="tied", unit="grade")

    def key_places(self) -> Floats:
        lead, found = self.own if self.leader is None else self.leader, [self.own.key_places()]
        for hold in self.holds:
            at, own = hold.share.at, hold.rule.key_places()
            found += [at, own[(own > at.min()) & (own < at.max())], hold.takes_over(lead)]
        return np.unique(np.concatenate(found))

    def bow(self) -> list[tuple[float, float, float]]:
        return [*self.own.bow(), *(b for hold in self.holds for b in hold.rule.bow())]


def _at(words: str | Callable[[float], str], x: Floats) -> Words:
    return words if isinstance(words, str) else lambda k: words(float(x[k]))


@dataclass(frozen=True)
class Known(LevelRule):
    """Levels as they were found: (chainage, level) joined by straight lines. Nothing can move them from here."""

    title: str
    rule_words: str
    source: Source
    profile: Profile

    def level(self, s: ArrayLike) -> Quantity:
        x = as_row(s)
        return known(lambda k: f"{self.title} at {x[k]:.2f}", self.profile.level(x), self.rule_words, self.source)

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        x = as_row(s)
        return known(
            lambda k: f"grade of {self.title} at {x[k]:.2f}",
            self.profile.grade(x, side),
            self.rule_words,
            self.source,
            "grade",
        )

    def key_places(self) -> Floats:
        return self.profile.chainages


@dataclass(frozen=True)
class CubicBetween(LevelRule):
    """The cubic in distance that meets two ends in level and grade. Ends are quantities at one place.

    With ``inner`` levels at distances ``at`` on the way, cubics that go through these: see ``Cubic``.
    """

    title: str
    rule_words: str
    length: float
    level_0: Quantity
    grade_0: Quantity
    level_1: Quantity
    grade_1: Quantity
    end_words: tuple[str, str, str, str] = (
        "level at its start",
        "grade at its start",
        "level at its end",
        "grade at its end",
    )
    at: tuple[float, ...] = ()
    inner: tuple[Quantity, ...] = ()

    @property
    def cubic(self) -> Cubic:
        """The same as plain numbers."""
        z0, m0, z1, m1, *levels = (float(e.value[0]) for _, e in self._given)
        return Cubic(self.length, z0, m0, z1, m1, self.at, tuple(levels))

    @property
    def _given(self) -> list[tuple[str, Quantity]]:
        ends = zip(self.end_words, (self.level_0, self.grade_0, self.level_1, self.grade_1))
        return [*ends, *((f"level at {s:.2f} m", level) for s, level in zip(self.at, self.inner))]

    def level(self, s: ArrayLike) -> Quantity:
        x = as_row(s)
        w = self.cubic.weights(x)
        addends = [times(words, given, w[:, j]) for j, (words, given) in enumerate(self._given)]
        return summed(lambda k: f"{self.title}, {x[k]:.2f} m along", self.rule_words, *addends, source="tied")

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        del side
        x = as_row(s)
        w = self.cubic.slope_weights(x)
        addends = [times(words, given, w[:, j]) for j, (words, given) in enumerate(self._given)]
        return summed(
            lambda k: f"grade of {self.title}, {x[k]:.2f} m along",
            self.rule_words,
            *addends,
            source="tied",
            unit="grade",
        )

    def turning_points(self) -> list[Turning]:
        """High and low points strictly inside."""
        return self.cubic.turning_points()

    def key_places(self) -> Floats:
        return np.array(self.at)

    def bow(self) -> list[tuple[float, float, float]]:
        return [(0.0, self.length, self.cubic.sharpest())]


@dataclass(frozen=True)
class Shifted(LevelRule):
    """A rule of places that are measured from ``begin``."""

    rule: LevelRule
    begin: float

    def level(self, s: ArrayLike) -> Quantity:
        return self.rule.level(as_row(s) - self.begin)

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        return self.rule.grade(as_row(s) - self.begin, side)

    def key_places(self) -> Floats:
        return self.rule.key_places() + self.begin

    def bow(self) -> list[tuple[float, float, float]]:
        return [(a + self.begin, b + self.begin, bend) for a, b, bend in self.rule.bow()]


@dataclass(frozen=True)
class InStretches(LevelRule):
    """Different rules on stretches that follow each other: ``rules[i]`` holds up to ``upto[i]``, the last beyond."""

    upto: tuple[float, ...]
    rules: tuple[LevelRule, ...]

    def _which(self, x: Floats, side: str) -> np.ndarray:
        return np.searchsorted(np.array(self.upto), x + (1e-9 if side == "after" else -1e-9), side="right")

    def _merged(self, x: Floats, side: str, reads: str) -> Quantity:
        which = self._which(x, side)
        first = int(which[0]) if x.size else 0
        if (which == first).all():
            return self._of(first, x, side, reads)
        found = []
        for i in np.unique(which).tolist():
            at = np.flatnonzero(which == i)
            found.append((at, self._of(i, x[at], side, reads)))
        return _spliced(x.size, found)

    def _of(self, i: int, x: Floats, side: str, reads: str) -> Quantity:
        rule = self.rules[i]
        return rule.level(x) if reads == "level" else rule.grade(x, side)

    def level(self, s: ArrayLike) -> Quantity:
        return self._merged(as_row(s), "after", "level")

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        return self._merged(as_row(s), side, "grade")

    def key_places(self) -> Floats:
        return np.unique(np.concatenate([np.array(self.upto), *(r.key_places() for r in self.rules)]))

    def bow(self) -> list[tuple[float, float, float]]:
        return [b for r in self.rules for b in r.bow()]


def _spliced(n: int, pieces: list[tuple[np.ndarray, Quantity]]) -> Quantity:
    """Quantities of some of n places each, as one: every piece is an addend that counts at its own places only."""
    owner, inner = np.empty(n, dtype=np.int64), np.zeros((len(pieces), n), dtype=np.int64)
    addends = []
    for j, (at, quantity) in enumerate(pieces):
        owner[at], inner[j, at] = j, np.arange(len(at))
        factor = np.zeros(n)
        factor[at] = 1.0
        addends.append(Addend("", factor, quantity, rows=inner[j] if quantity.size > 1 else None))
    return summed(
        lambda k: say(pieces[owner[k]][1].name, int(inner[owner[k], k])), "", *addends, unit=pieces[0][1].unit
    )
