"""The grade line of a driveway: over the channel and the lowered kerb, the path and the boundary as the street has them, and on to the pad."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, ClassVar, Literal, cast

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.driveway.place import Way, all_met_by, lip_of, name_of, shape_at, way_of
from humble_loop.kinds.lot.layout import lot
from humble_loop.kinds.lot.pad import pad
from humble_loop.kinds.street.lowered import kerb_count
from humble_loop.kinds.street.plan import StreetLine, class_of
from humble_loop.kinds.turning_head.layout import HeadLine, outline
from humble_loop.kinds.turning_head.levels import ring_levels
from humble_loop.lines.line import Line, LineId, LinePlan, ThingId, line
from humble_loop.lines.quantity import Quantity, amount, elsewhere, summed, times
from humble_loop.lines.rules import OnGradeLine
from humble_loop.lines.varying import Varying

_PIECE = 1.5  # metres over which it comes to another grade: more than half a wheelbase, typical
_LEAST_PIECE = 0.1  # metres of one that is worth laying
_LEVEL = 1e-9


DrivePoint = Literal["middle", "left edge", "right edge"]
EDGES: tuple[DrivePoint, DrivePoint] = ("left edge", "right edge")


@dataclass(frozen=True)
class DriveLine(LineId):
    """A line of a lot's driveway, from the lip to the pad: its middle, or an edge as it is driven into."""

    lot: str
    point: DrivePoint = "middle"
    kind: ClassVar[str] = "driveway"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.lot)


@dataclass(frozen=True)
class Crossing:
    """What a driveway crosses of its street: distances outwards (k,) from the lip to the boundary, what each place is called and its level.

    Of the kerb only the channel is left, and its back lowered; on the other side of the lip the carriageway falls by ``inside`` towards it
    from its ``crown`` so many metres away. The first ``kerb`` pieces are channel and kerb. ``lip`` (2,) is where it leaves that.
    """

    lip: Floats
    out: Floats
    names: tuple[str, ...]
    levels: tuple[Quantity, ...]
    inside: float
    crown: float
    kerb: int


@query
def crossing(q: Engine, id: str, aside: float = 0.0) -> Crossing:
    """What a driveway crosses of its street, ``aside`` metres to the left of its middle. Raises Unsolved where that has no levels there."""
    return next(_crossings(q, id, (aside,)))()


def _crossings(q: Engine, id: str, asides: tuple[float, ...]) -> Iterator[Callable[[], Crossing]]:
    """What it crosses beside its middle in several places, worked out all together; each is had, or raises Unsolved, when it is asked for."""
    way, name = way_of(q, id), name_of(q, id)
    shape, lip = shape_at(q, way.line, way.s), lip_of(way.line)
    through = way.boundary + np.array(asides)[:, None] * np.array([-way.ahead[1], way.ahead[0]])
    kerb = [k for k, role in enumerate(shape.roles, start=1) if role == "kerb"]
    # What stands up of the kerb before its back is taken down.
    kept = [k for k in range(1, len(shape.names)) if k not in kerb[:-1] or shape.rise[k] <= _LEVEL]
    values: Any = way.line
    ids = [lip, *(replace(values, point=shape.names[k]) for k in kept)]
    met = [_Met.of(q, i, through, way.ahead, way.lip_s if i == lip else way.s) for i in ids]
    inside = _inside(q, way, met[0])
    done = sum(k in kerb for k in kept)

    def one(j: int) -> Crossing:
        if not np.isfinite(met[0].s[j]):
            raise Unsolved(
                name, f"{asides[j]:.2f} m beside its middle it does not come to the lip", "turn it nearer to square"
            )
        if not np.isfinite(met[0].z[j]) and way.sizes.skew != 0.0:
            words = "at this angle it meets the kerb where that of its street has ended or a grade line is missing"
            raise Unsolved(name, words, "turn it nearer to square, or slide it along the frontage")
        if not np.isfinite(met[0].z[j]):
            raise Unsolved(name, "the street has no level at its kerb", "extend the street's grade line along the lot")
        for m in met:
            if not np.isfinite(m.s[j]):
                raise Unsolved(name, f"at this angle it does not cross the {m.line.title}", "turn it nearer to square")
        levels = tuple(elsewhere(m.line.title, i, float(m.s[j]), m.z[j : j + 1]) for i, m in zip(ids, met))
        out = np.stack([m.points[j] - met[0].points[j] for m in met]) @ way.ahead
        names = ("lip", *(shape.names[k] for k in kept))
        fall, crown = (float(v[j]) for v in inside)
        return Crossing(frozen(met[0].points[j]), frozen(out), names, levels, fall, crown, done)

    return (partial(one, j) for j in range(len(asides)))


@dataclass(frozen=True)
class _Met:
    """Where several straights cross a line: chainages (n,), points (n, 2) and levels (n,), NaN where they do not."""

    line: Line
    s: Floats
    points: Floats
    z: Floats

    @staticmethod
    def of(q: Engine, id: LineId, through: Floats, ahead: Floats, near: float) -> _Met:
        made = line(q, id)
        s = all_met_by(made.plan, through, ahead, near)
        at = np.where(np.isfinite(s), s, near)
        return _Met(made, s, made.plan.points(at), np.where(np.isfinite(s), made.rule.levels(at), np.nan))


def kerb_back(q: Engine, way: Way) -> LineId | None:
    """The line along the back of the kerb that a driveway crosses; None where its street has none."""
    shape = shape_at(q, way.line, way.s)
    count, values = kerb_count(shape.roles), cast(Any, way.line)
    return replace(values, point=shape.names[count]) if count else None


def _inside(q: Engine, way: Way, lip: _Met) -> tuple[Floats, Floats]:
    """By how much (n,) the carriageway falls towards where straights cross the lip, along these, and how far (n,) from there its crown is, or where they
    pass their head's centre: the head rises to that like a cone.
    """
    if isinstance(way.line, StreetLine):
        crown = _Met.of(q, StreetLine(way.line.street), lip.points, way.ahead, way.lip_s)
        wide = (lip.points - crown.points) @ way.ahead
        there, rise = np.isfinite(crown.s), crown.z - lip.z
        falls = there & (wide > 0.0) & np.isfinite(rise)
        return np.where(falls, rise / np.where(falls, wide, 1.0), 0.0), np.where(there, wide, 0.0)
    assert isinstance(way.line, HeadLine)
    made, ring = outline(q, way.line.street, way.line.end), ring_levels(q, way.line.street, way.line.end)
    from_centre = lip.points - made.centre
    radius, away = np.hypot(from_centre[:, 0], from_centre[:, 1]), from_centre @ way.ahead
    before = away > 0.0
    beside = np.sqrt(np.maximum(radius**2 - away**2, 0.0))
    fall = (ring.centre - lip.z) * (1.0 - beside / radius) / np.where(before, away, 1.0)
    return np.where(before, fall, 0.0), np.where(before, away, 0.0)


@query
def drive_line(q: Engine, id: str, aside: float = 0.0) -> OnGradeLine:
    """The grade line of a driveway ``aside`` metres to the left of its middle: through what it crosses, and on to the pad.

    Beyond the boundary it comes to its grade in a short piece of half as much of a change, and leaves it so before the pad, which is level: with g before, m
    between and pieces of t, its rise is (g + m) t / 2 + m (run - 2 t) + m t / 2.
    """
    return _grade_line(q, id, crossing(q, id, aside), aside)


def beside(q: Engine, id: str, asides: tuple[float, ...]) -> list[tuple[Crossing, OnGradeLine] | Unsolved]:
    """What a driveway crosses, and its grade line, in several places beside its middle: worked out all together."""
    found: list[tuple[Crossing, OnGradeLine] | Unsolved] = []
    for aside, ask in zip(asides, _crossings(q, id, asides)):
        try:
            made = ask()
            found.append((made, _grade_line(q, id, made, aside)))
        except Unsolved as unsolved:
            found.append(unsolved)
    return found


def _grade_line(q: Engine, id: str, made: Crossing, aside: float) -> OnGradeLine:
    way, on, name = way_of(q, id), pad(q, id), name_of(q, id)
    run = float((_at_pad(way, aside) - made.lip) @ way.ahead) - float(made.out[-1])
    before, last = (float(z.value[0]) for z in made.levels[-2:])
    grade, rise = (last - before) / float(made.out[-1] - made.out[-2]), float(on.quantity.value[0]) - last
    piece, out = _eased_over(q, id, run, grade, rise), float(made.out[-1])
    at_boundary, at_pad = made.levels[-1], summed(f"{name} at the pad", "on the pad", times("pad", on.quantity))
    at, levels = made.out.tolist(), list(made.levels)
    if piece > 0.0:
        steep = (rise - 0.5 * grade * piece) / (run - piece)
        at += [out + piece, out + run - piece]
        levels += [
            summed(
                f"{name} {piece:.2f} m beyond the boundary",
                "half way from one grade to the other",
                times("boundary", at_boundary),
                amount("rise", 0.5 * (grade + steep) * piece),
            ),
            summed(
                f"{name} {piece:.2f} m before the pad",
                "half way from its grade to the level pad",
                times("pad", at_pad),
                amount("rise", -0.5 * steep * piece),
            ),
        ]
    at, levels = [*at, out + run], [*levels, at_pad]
    values = [float(z.value[0]) for z in levels]
    return OnGradeLine(name, Profile.of(at, values, [0.0] * len(at)), tuple(levels))


def _eased_over(q: Engine, id: str, run: float, grade: float, rise: float) -> float:
    """How long these pieces are: as long as its street's class lets it be as steep between them; 0 for none."""
    most = class_of(q, lot(q, id).row.street).most_driveway_grade
    up = 1.0 if rise >= 0.0 else -1.0
    longest = (most * run - abs(rise)) / max(most - 0.5 * up * grade, 1e-3)
    piece = min(_PIECE, 0.25 * run, longest)
    return piece if piece >= _LEAST_PIECE else 0.0


def _at_pad(way: Way, aside: float) -> Floats:
    """Where a driveway comes to its pad ``aside`` metres to the left of its middle (2,)."""
    across = float(way.ahead[0] * way.edge[1] - way.ahead[1] * way.edge[0])
    found: Floats = way.pad + aside / across * way.edge
    return found


def aside_of(q: Engine, id: DriveLine) -> float:
    """How far a line of a driveway lies to the left of its middle."""
    half = 0.5 * way_of(q, id.lot).sizes.width
    return {"middle": 0.0, "left edge": half, "right edge": -half}[id.point]


def drive_plan(q: Engine, id: DriveLine) -> LinePlan:
    """A line of a driveway in plan."""
    way, aside = way_of(q, id.lot), aside_of(q, id)
    chain = Chain.from_points([crossing(q, id.lot, aside).lip if aside else way.lip, _at_pad(way, aside)])
    title = name_of(q, id.lot) if id.point == "middle" else f"{name_of(q, id.lot)} {id.point}"
    return LinePlan(title, "driveway", chain, Varying.steady(0.0), 0.0, chain.total)
