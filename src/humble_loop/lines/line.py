"""Lines: everything with a plan and levels. Whatever works on lines works on every line of every kind."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields
from typing import ClassVar

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Bools, Floats, as_row, left_normals, unique_chainages
from humble_loop.geometry.chain import Chain, Frames
from humble_loop.lines.rules import LevelRule
from humble_loop.lines.standing import kind_of
from humble_loop.lines.varying import Varying

_MOST_ROWS = 5000  # on one vertical curve: 60 are many


@dataclass(frozen=True)
class ThingId:
    """A thing of some kind: a street, a junction, a lot."""

    kind: str
    id: str


@dataclass(frozen=True)
class PartId:
    """Base of the ids of a thing's parts. Each kind has its own small ids; ``kind`` says whose it is."""

    kind: ClassVar[str] = ""

    @property
    def thing(self) -> ThingId:
        """The thing that the part belongs to."""
        raise NotImplementedError

    def __str__(self) -> str:
        return " ".join(str(v) for f in fields(self) if (v := getattr(self, f.name)) is not None)


@dataclass(frozen=True)
class LineId(PartId):
    """Base of the ids of lines."""


@dataclass(frozen=True)
class LinePlan:
    """A line in plan: it lies ``offset`` metres to the left of ``base``, between chainages ``start`` and ``end`` of it.

    What only lies elsewhere in level leaves this as it was.
    """

    title: str
    role: str
    base: Chain
    offset: Varying
    start: float
    end: float
    gaps: tuple[tuple[float, float], ...] = ()

    def points(self, s: ArrayLike, frames: Frames | None = None) -> Floats:
        """Points (n, 2) at chainages of the base, exactly on the line."""
        f = frames or self.base.at(s)
        return f.points + left_normals(f.headings) * self.offset(s)[..., None]

    def stretch(self, s: ArrayLike) -> Floats:
        """Metres of line per metre of base (n,): 1 − curvature × offset, and the slant of a varying offset."""
        f = self.base.at(s)
        along = 1.0 - f.curvatures * self.offset(s)
        return np.hypot(along, self.offset.slope(s)) * np.sign(along)

    def foot(self, points: ArrayLike) -> tuple[Floats, Floats]:
        """Chainages (n,) on the base of the feet of ``points``, and how far beyond the line (left positive) they lie."""
        feet = self.base.feet(points)
        return feet.chainages, feet.offsets - self.offset(feet.chainages)

    def covers(self, s: ArrayLike) -> Bools:
        """Whether places (n,) on the base lie on the line: not beyond its ends, and not inside its gaps."""
        x = as_row(s)
        on = (x >= self.start) & (x <= self.end)
        for a, b in self.gaps:
            on &= (x <= a) | (x >= b)
        return on

    def runs(self, sag: float, interval: float = np.inf) -> list[Floats]:
        """Chainages of each unbroken run, close enough for chords within ``sag`` of the line."""
        reach = float(np.abs(self.offset.values).max())
        s = self.base.sampled(sag=sag, interval=interval, reach=reach)
        ends = [self.start, *(v for gap in self.gaps for v in gap), self.end]
        found = []
        for a, b in zip(ends[::2], ends[1::2]):
            if b > a:
                found.append(unique_chainages([a, b], s, self.offset.at, low=a, high=b))
        return found


@dataclass(frozen=True)
class Line:
    """A line in plan with the rule by which it comes by its levels."""

    plan: LinePlan
    rule: LevelRule

    @property
    def title(self) -> str:
        """Its name."""
        return self.plan.title

    def points(self, s: ArrayLike, frames: Frames | None = None) -> Floats:
        """Points (n, 3) at chainages of the base, exactly on the line in plan and level."""
        x = as_row(s)
        out = np.empty((x.size, 3))
        out[:, :2], out[:, 2] = self.plan.points(x, frames), self.rule.levels(x)
        return out

    def runs(self, sag: float, interval: float = np.inf) -> list[Floats]:
        """Points (n, 3) of each unbroken run, with chords within ``sag`` of the line in plan and at every place where its grade breaks; places without a
        level left out.
        """
        keys = self.rule.key_places()
        runs = [unique_chainages(s, keys, low=float(s[0]), high=float(s[-1])) for s in self.plan.runs(sag, interval)]
        found = [self.points(s) for s in runs]
        known = [p[np.isfinite(p[:, 2])] for p in found]
        return [p for p in known if len(p) > 1]

    def grade_along(self, s: ArrayLike, side: str = "after") -> Floats:
        """Grades (n,) per metre of the line itself, in the direction of its base."""
        return self.rule.grades(s, side) / self.plan.stretch(s)


@query
def line_plan(q: Engine, id: LineId) -> LinePlan:
    """A line in plan."""
    return kind_of(id.kind).line_plan(q, id)


@query
def line(q: Engine, id: LineId) -> Line:
    """A line with its levels."""
    return Line(line_plan(q, id), kind_of(id.kind).level_rule(q, id))


def sampled_at(plan: LinePlan, bows: Sequence[tuple[float, float, float]], sag: float, rise: float) -> Floats:
    """Chainages at which a line keeps ``sag`` in plan and ``rise`` in level from its chords.

    On a stretch of second difference c a chord of length d departs by c d^2 / 8. Raises Unsolved where that takes chainages
    without number.
    """
    reach = float(np.abs(plan.offset.values).max())
    groups = [plan.base.sampled(sag=sag, reach=reach)]
    for a, b, bend in bows:
        if bend > 0 and b > a:
            wanted = np.ceil((b - a) * np.sqrt(bend / (8.0 * rise)) - 1e-9)
            if not wanted <= _MOST_ROWS:
                raise Unsolved(
                    plan.title,
                    f"its levels bend so sharply at {a:.2f} that they take more than {_MOST_ROWS:,} rows",
                    "lengthen the vertical curve there, or lessen the change of grade",
                )
            groups.append(np.linspace(a, b, max(1, int(wanted)) + 1))
    return unique_chainages([plan.start, plan.end], *groups, low=plan.start, high=plan.end, gap=1e-4)
