"""The bulb at a street's end, in plan and level: a closed, kink-free lip that drains."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arcs import BulbOutline, DoesNotFit, bulb_outline
from humble_loop.geometry.arrays import Floats, frozen, unique_chainages
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.junction.nodes import joint, leg_of
from humble_loop.kinds.street.plan import StreetLine, chain_of, class_of, drawn_end, end_chainage, is_new, name_of
from humble_loop.kinds.street.section import SideShape, alike, side_shape, slopes_between
from humble_loop.kinds.street.side import lip_width
from humble_loop.kinds.turning_head.model import TurningHead
from humble_loop.lines.line import LineId, LinePlan, ThingId, line, line_plan, sampled_at
from humble_loop.lines.quantity import Quantity, amount, elsewhere, percent, summed, times
from humble_loop.lines.rules import Above, LevelRule, OnGradeLine
from humble_loop.lines.standing import kinds
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.model import SIDES, End, Side, other_end, other_side, side_sign

# An offset of less than half a millimetre is none: nobody can build it, and tangent points that lie a hair apart
# would make slivers.
_NO_OFFSET = 0.0005
_ROUNDING = 6.0  # metres of parabola where the ring leaves the straight lips and at its high or low point


@dataclass(frozen=True)
class HeadLine(LineId):
    """A line round a bulb, from the lip that is left looking towards it to the right one: its lip or a point outside."""

    street: str
    end: End
    point: str = "lip"
    kind: ClassVar[str] = "turning_head"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, f"{self.street}:{self.end}")


def heads_of(q: Engine, street: str) -> tuple[tuple[End, TurningHead], ...]:
    """The heads of a street, with the ends where they stand as it runs now."""
    if not is_new(q, street):
        return ()
    return tuple((drawn_end(q, street, h.end), h) for h in parts.owned(q, TurningHead, street))


def of_head(q: Engine, id: str) -> tuple[str, End]:
    """The street and its end as it runs now, from a head's id."""
    street, _, end = id.rpartition(":")
    return street, drawn_end(q, street, "start" if end == "start" else "end")


def head_at(q: Engine, street: str, end: End) -> TurningHead:
    """The head at a street's end. Raises Unsolved when there is none."""
    found = next((h for e, h in heads_of(q, street) if e == end), None)
    if found is None:
        raise Unsolved(name_of(q, street), f"it has no turning head at its {end}")
    return found


def head_name(q: Engine, street: str) -> str:
    """The bulb's name."""
    return f"{name_of(q, street)} bulb"


def approach(q: Engine, street: str, end: End) -> Chain:
    """The street's chain run towards the head, which stands at its end."""
    return leg_of(q, street, other_end(end))


def own_side(end: End, seen: Side) -> Side:
    """The street's own side that is ``seen`` left or right looking towards the head."""
    return seen if end == "end" else other_side(seen)


@query
def outline(q: Engine, street: str, end: End) -> BulbOutline:
    """The bulb's lip in plan; its base chainages run towards the head."""
    head, name = head_at(q, street, end), head_name(q, street)
    if joint(q, street, end) is not None:
        raise Unsolved(
            name,
            "the street ends on another street, where no bulb can stand",
            "take the bulb away, or end the street short of the other",
        )
    try:
        return bulb_outline(
            approach(q, street, end),
            _lip_width(q, street, end, "left"),
            _lip_width(q, street, end, "right"),
            head.radius,
            head.return_radius,
            head.offset if abs(head.offset) >= _NO_OFFSET else 0.0,
        )
    except DoesNotFit as error:
        raise Unsolved(name, str(error), "change its radius, return radius or offset") from None


def _lip_width(q: Engine, street: str, end: End, seen: Side) -> float:
    return lip_width(q, street, own_side(end, seen)).one(end_chainage(q, street, end))


def leaves_at(q: Engine, street: str, end: End, seen: Side) -> float:
    """Chainage of the street at which a lip gives way to the bulb's."""
    made = outline(q, street, end)
    base = made.base_left if seen == "left" else made.base_right
    return base if end == "end" else chain_of(q, street).total - base


@dataclass(frozen=True)
class RingLevels:
    """The grade line round a bulb's lip.

    ``turn`` is the distance round of its high point (outlet 'street') or low point (outlet 'pit'); ``governs`` says
    what its level there follows from: the 'radial' fall, or the least kerb fall from one of the straight lips.
    ``centre`` is the bulb centre's level in metres.
    """

    rule: OnGradeLine
    turn: float
    outlet: Literal["street", "pit"]
    centre: float
    governs: Literal["radial", "left", "right"]


def _lip_end(q: Engine, street: str, end: End, seen: Side) -> tuple[Quantity, Quantity]:
    """Level and grade (towards the head, along the lip) where a straight lip meets the bulb."""
    id = StreetLine(street, "lip", own_side(end, seen))
    lip, s = line(q, id), leaves_at(q, street, end, seen)
    towards = 1.0 if end == "end" else -1.0
    level = elsewhere(lip.title, id, s, lip.rule.levels([s]))
    grade = lip.rule.grades([s], "before" if end == "end" else "after")
    factor = towards / float(lip.plan.stretch([s])[0])
    made = summed(
        "grade of the straight lip",
        "along the lip, towards the bulb",
        times("lip's grade", elsewhere(f"grade of {lip.title}", id, s, grade, "grade"), factor),
        unit="grade",
    )
    return level, made


@query
def ring_levels(q: Engine, street: str, end: End) -> RingLevels:
    """A closed, kink-free grade line round the bulb.

    It leaves each straight lip at that lip's level and grade. Half way round, the lip itself (rounded as it is)
    stands at the wanted radial fall below the centre, raised (or with a pit lowered) as far as the least kerb fall
    along the lip needs.
    """
    head, made, name = head_at(q, street, end), outline(q, street, end), head_name(q, street)
    centre = _centre(q, street, end)
    (z0, m0), (z1, m1) = _lip_end(q, street, end, "left"), _lip_end(q, street, end, "right")
    if not np.isfinite(centre.value[0] + z0.value[0] + z1.value[0] + m0.value[0] + m1.value[0]):
        raise Unsolved(name, "the street's grade line does not reach the bulb's centre", "lengthen the grade line")
    outlet, total = _outlet(q, street, end), made.ring.total
    turn = float(made.ring.starts[1] + 0.5 * made.ring.length[1])
    c = min(_ROUNDING, 0.3 * turn, 0.3 * (total - turn))
    za, zb = _runs_on(name, c / 2, z0, m0, c / 2), _runs_on(name, total - c / 2, z1, m1, c / 2)
    runs = (turn - c / 2, total - c / 2 - turn)
    sign = 1.0 if outlet == "street" else -1.0
    least = sign * class_of(q, street).least_kerb_fall
    candidates: dict[Literal["radial", "left", "right"], Quantity] = {
        "radial": _radial_vip(name, head, centre, (za, zb), runs, c),
        "left": _least(name, za, runs[0], least, outlet),
        "right": _least(name, zb, runs[1], least, outlet),
    }
    governs = max(candidates, key=lambda k: sign * float(candidates[k].value[0]))
    vips = (z0, za, candidates[governs], zb, z1)
    profile = Profile.of(
        [0.0, c / 2, turn, total - c / 2, total], [float(v.value[0]) for v in vips], [0.0, c, c, c, 0.0]
    )
    rule = OnGradeLine(f"{name} lip", profile, vips)
    return RingLevels(rule, turn, outlet, float(centre.value[0]), governs)


def _end_chainage(q: Engine, street: str, end: End) -> float:
    return 0.0 if end == "start" else chain_of(q, street).total


def _centre(q: Engine, street: str, end: End) -> Quantity:
    """The level of a bulb's centre: the crown's at the street's end."""
    crown, at = StreetLine(street), _end_chainage(q, street, end)
    return elsewhere("bulb centre", crown, at, line(q, crown).rule.levels([at]))


def _outlet(q: Engine, street: str, end: End) -> Literal["street", "pit"]:
    """Where a bulb drains to: as chosen, or to the street where that falls away from it."""
    chosen = head_at(q, street, end).outlet
    if chosen != "auto":
        return chosen
    rule, at = line(q, StreetLine(street)).rule, [_end_chainage(q, street, end)]
    rising = float(rule.grades(at, "before" if end == "end" else "after")[0]) * (1 if end == "end" else -1)
    return "street" if rising >= 0 else "pit"


def _runs_on(name: str, at: float, lip: Quantity, grade: Quantity, run: float) -> Quantity:
    """The level to which a straight lip runs on round the bulb."""
    return summed(
        f"{name}, {at:.2f} m round",
        "runs on at the straight lip's grade",
        times("straight lip", lip),
        times("its grade × half the rounding", grade, run),
    )


def _radial_vip(
    name: str,
    head: TurningHead,
    centre: Quantity,
    beside: tuple[Quantity, Quantity],
    runs: tuple[float, float],
    rounding: float,
) -> Quantity:
    """The VIP half way round with which the rounded lip stands at the wanted radial fall.

    The rounded lip stands (after − before) c / 8 from its VIP, which is linear in that level and in those ``beside`` it,
    ``runs`` away.
    """
    wanted = summed(
        f"{name} lip, half way round",
        "the wanted radial fall from the centre",
        times("bulb centre", centre),
        amount(f"−{100 * head.fall:.2f} % × {head.radius:.2f} m", -head.fall * head.radius),
        source="proposed",
    )
    left, right = (rounding / 8 / run for run in runs)
    share = 1.0 - left - right
    return summed(
        f"{name}, VIP half way round",
        "so that the rounded lip stands at the wanted radial fall",
        times("wanted lip", wanted, 1 / share),
        times("its rounding, left", beside[0], -left / share),
        times("its rounding, right", beside[1], -right / share),
        source="proposed",
    )


def _least(name: str, begin: Quantity, run: float, grade: float, outlet: str) -> Quantity:
    return summed(
        f"{name}, VIP half way round",
        f"least kerb fall of {100 * abs(grade):.2f} % along the lip to the {outlet}",
        times("where the ring's own grade begins", begin),
        amount(f"{percent(grade)} × {run:.2f} m", grade * run),
        source="proposed",
    )


# Lines


@dataclass(frozen=True)
class HeadShape:
    """The section outside a bulb's lip: the left side's where it begins, the right side's where it ends."""

    first: SideShape
    last: SideShape


def head_shape(q: Engine, street: str, end: End) -> HeadShape:
    """How the roadside goes round a bulb: both sides have the points of either."""
    return HeadShape(
        *alike(*(side_shape(q, street, own_side(end, seen), end_chainage(q, street, end)) for seen in SIDES))
    )


def batter_slopes(q: Engine, id: HeadLine, s: Floats) -> Floats:
    """Cut and fill slope (n, 2) round a bulb: from the left side's to the right side's."""
    shape = head_shape(q, id.street, id.end)
    return slopes_between(shape.first, shape.last, s / line_plan(q, id).end)


def corners_on(q: Engine, street: str, side: Side) -> tuple[tuple[float, LineId, float], ...]:
    """Where a street's boundary goes on round a bulb: chainage, the bulb's boundary, place on that."""
    found: list[tuple[float, LineId, float]] = []
    for end, _ in heads_of(q, street):
        made = q.attempt(outline, street, end)
        if isinstance(made, Unsolved):
            continue
        seen: Side = "left" if own_side(end, "left") == side else "right"
        at = 0.0 if seen == "left" else made.ring.total
        found.append(
            (leaves_at(q, street, end, seen), HeadLine(street, end, head_shape(q, street, end).first.names[-1]), at)
        )
    return tuple(found)


def plan_of(q: Engine, id: HeadLine) -> LinePlan:
    """A line round a bulb in plan; outwards from the road is left of the ring."""
    ring = outline(q, id.street, id.end).ring
    name = head_name(q, id.street)
    if id.point == "lip":
        return LinePlan(f"{name} lip", "return", ring, Varying.steady(0.0), 0.0, ring.total)
    shape = head_shape(q, id.street, id.end)
    k = shape.first.names.index(id.point)
    offset = Varying.of([0.0, ring.total], [float(shape.first.out[k]), float(shape.last.out[k])])
    return LinePlan(f"{name} {id.point}", id.point, ring, offset, 0.0, ring.total)


def rule_of(q: Engine, id: HeadLine) -> LevelRule:
    """The ring's grade line, and what lies outside it by the section."""
    if id.point == "lip":
        return ring_levels(q, id.street, id.end).rule
    shape, plan = head_shape(q, id.street, id.end), line_plan(q, id)
    lip = HeadLine(id.street, id.end)
    k, names = shape.first.names.index(id.point), shape.first.names
    rises = tuple(
        (f"{names[i]} to {names[i + 1]}", Varying.of([0.0, plan.end], [float(a), float(b)]))
        for i, (a, b) in enumerate(zip(np.diff(shape.first.rise[: k + 1]), np.diff(shape.last.rise[: k + 1])))
    )
    return Above(plan.title, "out from the lip by the typical section", lip, "lip", line(q, lip).rule, rises)


@query
def ring_rows(q: Engine, street: str, end: End) -> Floats:
    """Distances round a bulb at which its section is worked out."""
    made, settings = outline(q, street, end), parts.settings(q)
    shape, levels = head_shape(q, street, end), ring_levels(q, street, end)
    boundary = HeadLine(street, end, shape.first.names[-1])
    plan = line_plan(q, boundary)
    fine = sampled_at(plan, levels.rule.bow(), settings.arc_tolerance, settings.level_tolerance)
    stations = [kind.stations_on(q, boundary) for kind in kinds()]
    keys = (made.ring.key_chainages(), [levels.turn])
    return frozen(unique_chainages(*keys, *stations, fine, low=0.0, high=made.ring.total, gap=1e-4))


def abeam(q: Engine, street: str, end: End, seen: Side) -> float:
    """Distance round of the place abeam the bulb's centre on one side, square to the street's end."""
    made, head, chain = outline(q, street, end), head_at(q, street, end), approach(q, street, end)
    wanted = float(chain.at([chain.total]).headings[0]) + side_sign(seen) * np.pi / 2
    first = made.ring.xy[1] - made.centre
    turned = np.mod(np.arctan2(first[1], first[0]) - wanted, 2 * np.pi)
    return float(np.clip(made.ring.starts[1] + turned * head.radius, made.ring.starts[1], made.ring.starts[2]))
