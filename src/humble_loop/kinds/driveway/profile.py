"""The grade line of a driveway: over the channel and the lowered kerb, the path and the boundary as the street has them, and on to the pad."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, ClassVar, cast

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.driveway.place import Way, lip_of, met_by, name_of, way_of
from humble_loop.kinds.lot.layout import lot
from humble_loop.kinds.lot.pad import pad
from humble_loop.kinds.street.lowered import kerb_count
from humble_loop.kinds.street.plan import StreetLine, class_of
from humble_loop.kinds.street.section import SideShape, side_shape
from humble_loop.kinds.turning_head.layout import HeadLine, head_shape, outline
from humble_loop.kinds.turning_head.levels import ring_levels
from humble_loop.lines.line import LineId, LinePlan, ThingId, line
from humble_loop.lines.quantity import Quantity, amount, elsewhere, summed, times
from humble_loop.lines.rules import OnGradeLine
from humble_loop.lines.varying import Varying

_PIECE = 1.5  # metres over which it comes to another grade: more than half a wheelbase, typical
_LEAST_PIECE = 0.1  # metres of one that is worth laying
_LEVEL = 1e-9


@dataclass(frozen=True)
class DriveLine(LineId):
    """The middle line of a lot's driveway, from the lip to the pad."""

    lot: str
    kind: ClassVar[str] = "driveway"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.lot)


@dataclass(frozen=True)
class Crossing:
    """What a driveway crosses of its street: distances outwards (k,) from the lip to the boundary, what each place is called and its level.

    Of the kerb only the channel is left, and its back lowered; on the other side of the lip the carriageway falls by ``inside`` towards it
    from its ``crown`` so many metres away. The first ``kerb`` pieces are channel and kerb.
    """

    out: Floats
    names: tuple[str, ...]
    levels: tuple[Quantity, ...]
    inside: float
    crown: float
    kerb: int


@query
def crossing(q: Engine, id: str) -> Crossing:
    """What a driveway crosses of its street. Raises Unsolved where that has no levels there."""
    way, name = way_of(q, id), name_of(q, id)
    shape = _shape(q, way.line, way.s)
    lip = lip_of(way.line)
    made = line(q, lip)
    z = made.rule.levels([way.lip_s])
    if not np.isfinite(z[0]) and way.sizes.skew != 0.0:
        words = "at this angle it meets the kerb where that of its street has ended or a grade line is missing"
        raise Unsolved(name, words, "turn it nearer to square, or slide it along the frontage")
    if not np.isfinite(z[0]):
        raise Unsolved(name, "the street has no level at its kerb", "extend the street's grade line along the lot")
    base = elsewhere(made.title, lip, way.lip_s, z)
    out, names, levels = [0.0], ["lip"], [base]
    done, kerb = 0, [k for k, role in enumerate(shape.roles, start=1) if role == "kerb"]
    for k in range(1, len(shape.names)):
        point = shape.names[k]
        if k in kerb and k != kerb[-1] and shape.rise[k] > _LEVEL:
            continue  # what stands up of the kerb is taken down
        values: Any = way.line
        other = replace(values, point=point)
        there = line(q, other)
        s = met_by(there.plan, way.boundary, way.ahead, way.s)
        if s is None:
            raise Unsolved(name, f"at this angle it does not cross the {there.title}", "turn it nearer to square")
        levels.append(elsewhere(there.title, other, s, there.rule.levels([s])))
        out.append(float((there.plan.points([s])[0] - way.lip) @ way.ahead))
        names.append(point)
        done = len(names) - 1 if k in kerb else done
    return Crossing(frozen(out), tuple(names), tuple(levels), *_inside(q, way, float(z[0])), done)


def kerb_back(q: Engine, way: Way) -> LineId | None:
    """The line along the back of the kerb that a driveway crosses; None where its street has none."""
    shape = _shape(q, way.line, way.s)
    count, values = kerb_count(shape.roles), cast(Any, way.line)
    return replace(values, point=shape.names[count]) if count else None


def _shape(q: Engine, boundary: LineId, s: float) -> SideShape:
    if isinstance(boundary, StreetLine):
        assert boundary.side is not None
        return side_shape(q, boundary.street, boundary.side, s)
    assert isinstance(boundary, HeadLine)
    return head_shape(q, boundary.street, boundary.end).first


def _inside(q: Engine, way: Way, lip: float) -> tuple[float, float]:
    """By how much the carriageway falls towards the lip along a driveway, and how far (m) from there its crown is, or where it passes its head's centre:
    the head rises to that like a cone.
    """
    if isinstance(way.line, StreetLine):
        crown = line(q, StreetLine(way.line.street))
        s = met_by(crown.plan, way.lip, way.ahead, way.lip_s)
        if s is None:
            return 0.0, 0.0
        wide = float((way.lip - crown.plan.points([s])[0]) @ way.ahead)
        rise = float(crown.rule.levels([s])[0]) - lip
        return (rise / wide if wide > 0.0 and np.isfinite(rise) else 0.0), wide
    assert isinstance(way.line, HeadLine)
    made, ring = outline(q, way.line.street, way.line.end), ring_levels(q, way.line.street, way.line.end)
    radius, away = float(np.hypot(*(way.lip - made.centre))), float((way.lip - made.centre) @ way.ahead)
    if away <= 0.0:
        return 0.0, 0.0
    beside = float(np.sqrt(max(radius**2 - away**2, 0.0)))
    return (ring.centre - lip) * (1.0 - beside / radius) / away, away


@query
def drive_line(q: Engine, id: str) -> OnGradeLine:
    """The grade line of a driveway: through what it crosses, and on to the pad.

    Beyond the boundary it comes to its grade in a short piece of half as much of a change, and leaves it so before the pad, which is level: with g before, m
    between and pieces of t, its rise is (g + m) t / 2 + m (run - 2 t) + m t / 2.
    """
    way, made, on, name = way_of(q, id), crossing(q, id), pad(q, id), name_of(q, id)
    before, last = (float(z.value[0]) for z in made.levels[-2:])
    grade, rise = (last - before) / float(made.out[-1] - made.out[-2]), float(on.quantity.value[0]) - last
    piece, out = _eased_over(q, id, way.run, grade, rise), float(made.out[-1])
    at_boundary, at_pad = made.levels[-1], summed(f"{name} at the pad", "on the pad", times("pad", on.quantity))
    at, levels = made.out.tolist(), list(made.levels)
    if piece > 0.0:
        steep = (rise - 0.5 * grade * piece) / (way.run - piece)
        at += [out + piece, out + way.run - piece]
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
    at, levels = [*at, out + way.run], [*levels, at_pad]
    values = [float(z.value[0]) for z in levels]
    return OnGradeLine(name, Profile.of(at, values, [0.0] * len(at)), tuple(levels))


def _eased_over(q: Engine, id: str, run: float, grade: float, rise: float) -> float:
    """How long these pieces are: as long as its street's class lets it be as steep between them; 0 for none."""
    most = class_of(q, lot(q, id).row.street).most_driveway_grade
    up = 1.0 if rise >= 0.0 else -1.0
    longest = (most * run - abs(rise)) / max(most - 0.5 * up * grade, 1e-3)
    piece = min(_PIECE, 0.25 * run, longest)
    return piece if piece >= _LEAST_PIECE else 0.0


def drive_plan(q: Engine, id: DriveLine) -> LinePlan:
    """The middle line of a driveway in plan."""
    way = way_of(q, id.lot)
    chain = Chain.from_points([way.lip, way.pad])
    return LinePlan(name_of(q, id.lot), "driveway", chain, Varying.steady(0.0), 0.0, chain.total)
