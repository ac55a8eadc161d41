"""Knuckles in plan and level: the lips that take the place of a street's at a tight elbow, outside and inside of it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import Floats, frozen, unique_chainages
from humble_loop.geometry.elbows import Bend, ElbowRing, bends_of_chain, bulge, inner_arc
from humble_loop.kinds.knuckle.model import Knuckle
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, is_new, name_of
from humble_loop.kinds.street.section import SideShape, alike, own_range, side_shape, slopes_between
from humble_loop.kinds.street.side import lip_width
from humble_loop.lines.anchor import anchored
from humble_loop.lines.kind import Turn
from humble_loop.lines.line import Line, LineId, LinePlan, ThingId, line, line_plan, sampled_at
from humble_loop.lines.quantity import Addend, Quantity, amount, decided, elsewhere, summed, times
from humble_loop.lines.rules import Above, CubicBetween, LevelRule
from humble_loop.lines.standing import kinds
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.model import Side, other_side, side_sign

Ring = Literal["outer", "inner"]
RINGS: tuple[Ring, ...] = ("outer", "inner")

TIGHT = 0.95  # the most of a return's radius that verge and path may take
_BEYOND = 5.0  # metres that a bulge is proposed to reach beyond the lip: a car that stands square to it
_RETURN = 1.5  # of the bulge's radius that its returns have
_STEP = 0.5  # metres to which sizes are proposed
_FAR = 60.0  # metres from its chainage within which its bend is looked for


@dataclass(frozen=True)
class KnuckleLine(LineId):
    """A line round a knuckle's outside or inside, as its street runs: the lip or a section point beyond it."""

    knuckle: str
    ring: Ring = "outer"
    point: str = "lip"
    kind: ClassVar[str] = "knuckle"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.knuckle)


def knuckle_of(q: Engine, id: str) -> Knuckle:
    """A knuckle as the site keeps it."""
    return parts.one(q, Knuckle, id)


def knuckles_on(q: Engine, street: str) -> tuple[Knuckle, ...]:
    """The knuckles of a street."""
    return parts.owned(q, Knuckle, street) if is_new(q, street) else ()


@query
def elbow(q: Engine, id: str) -> Bend:
    """The bend that a knuckle widens. Raises Unsolved where there is none near."""
    k = knuckle_of(q, id)
    chain = chain_of(q, k.street)
    at = chain.total - k.at if frame_of(q, k.street).turned else k.at
    found = bends_of_chain(chain)
    near = min(found, key=lambda b: abs(b.middle - at), default=None)
    if near is None or abs(near.middle - at) > _FAR:
        raise Unsolved(
            knuckle_name(q, id), "its street has no bend there any more", "remove it, or bring the bend back"
        )
    return near


def knuckle_name(q: Engine, id: str) -> str:
    """The name that was given, else its street's with where it stands."""
    k = knuckle_of(q, id)
    chain = chain_of(q, k.street)
    at = chain.total - k.at if frame_of(q, k.street).turned else k.at
    return k.name or f"{name_of(q, k.street)} knuckle at {at:.0f}"


def side_of(q: Engine, id: str, ring: Ring) -> Side:
    """The side of the street, as it runs, on which a ring lies."""
    outer: Side = "right" if elbow(q, id).turn > 0 else "left"
    return outer if ring == "outer" else other_side(outer)


@dataclass(frozen=True)
class KnuckleSizes:
    """The radius of the bulge and of its returns (m), chosen or proposed."""

    radius: float
    returns: float


@query
def sizes_of(q: Engine, id: str) -> KnuckleSizes:
    """A knuckle's sizes: as chosen; else a bulge that reaches a car's length beyond the lip, and returns of half as much again, no tighter
    than verge and path allow.
    """
    k, bend = knuckle_of(q, id), elbow(q, id)
    side = side_of(q, id, "outer")
    width = lip_width(q, k.street, side).one(bend.middle)
    radius = k.radius or float(np.ceil((width + _BEYOND - k.out) / _STEP) * _STEP)
    least = float(np.ceil(side_shape(q, k.street, side, bend.middle).reach / TIGHT / _STEP) * _STEP)
    return KnuckleSizes(radius, k.return_radius or max(float(np.ceil(_RETURN * radius / _STEP) * _STEP), least))


@query
def ring(q: Engine, id: str, which: Ring) -> ElbowRing:
    """A knuckle's lip in plan. Raises Unsolved where it has none, or it does not fit."""
    k, bend, name = knuckle_of(q, id), elbow(q, id), knuckle_name(q, id)
    side, chain = side_of(q, id, which), chain_of(q, k.street)
    width = lip_width(q, k.street, side)
    try:
        if which == "outer":
            sizes = sizes_of(q, id)
            made = bulge(chain, bend, width, sizes.radius, sizes.returns, k.out)
        else:
            if k.inner is None:
                raise Unsolved(name, "it has no lip of its own inside the bend", "give it an inner radius")
            made = inner_arc(chain, bend, width.one(bend.middle), k.inner)
    except DoesNotFit as error:
        remedy = "change its radii" if which == "outer" else "change its inner radius, or take it away"
        raise Unsolved(name, str(error), remedy) from None
    low, high = own_range(q, k.street, side)
    if made.begin < low - 1e-6 or made.finish > high + 1e-6:
        raise Unsolved(
            name,
            f"it reaches from {made.begin:.2f} to {made.finish:.2f}, and the street has its own {side} lip from {low:.2f} to {high:.2f}",
            "lessen its radii, or move what stands beside it",
        )
    return made


def rings_of(q: Engine, id: str) -> tuple[Ring, ...]:
    """The rings that a knuckle has and that can be made."""
    wanted: tuple[Ring, ...] = RINGS if knuckle_of(q, id).inner is not None else ("outer",)
    return tuple(r for r in wanted if not isinstance(q.attempt(ring, id, r), Unsolved))


def lip_of(q: Engine, id: str, which: Ring) -> StreetLine:
    """The street's lip that a ring leaves and comes back to."""
    return StreetLine(knuckle_of(q, id).street, "lip", side_of(q, id, which))


# Lines


def shape_of(q: Engine, id: str, which: Ring) -> tuple[SideShape, SideShape]:
    """The section outside a ring's lip where it begins and where it ends, with the points of either."""
    made, street, side = ring(q, id, which), knuckle_of(q, id).street, side_of(q, id, which)
    return alike(side_shape(q, street, side, made.begin), side_shape(q, street, side, made.finish))


def boundary_of(q: Engine, id: str, which: Ring) -> KnuckleLine:
    """The boundary beyond a ring."""
    return KnuckleLine(id, which, shape_of(q, id, which)[0].names[-1])


def plan_of(q: Engine, id: KnuckleLine) -> LinePlan:
    """A line round a knuckle in plan."""
    made, (first, last) = ring(q, id.knuckle, id.ring), shape_of(q, id.knuckle, id.ring)
    sign, total = side_sign(side_of(q, id.knuckle, id.ring)), made.chain.total
    k = first.names.index(id.point)
    offset = Varying.of([0.0, total], [sign * float(first.out[k]), sign * float(last.out[k])])
    name = knuckle_name(q, id.knuckle) + (" inside" if id.ring == "inner" else "")
    role = "return" if id.point == "lip" else id.point
    return LinePlan(f"{name} {id.point}", role, made.chain, offset, 0.0, total)


def rule_of(q: Engine, id: KnuckleLine) -> LevelRule:
    """The lip meets the street's in level and grade at both ends; what lies outside it follows by the section."""
    if id.point == "lip":
        return lip_rule(q, id.knuckle, id.ring)
    plan, (first, last) = line_plan(q, id), shape_of(q, id.knuckle, id.ring)
    k, names, lip = first.names.index(id.point), first.names, KnuckleLine(id.knuckle, id.ring)
    rises = tuple(
        (f"{names[i]} to {names[i + 1]}", Varying.of([0.0, plan.end], [float(a), float(b)]))
        for i, (a, b) in enumerate(zip(np.diff(first.rise[: k + 1]), np.diff(last.rise[: k + 1])))
    )
    return Above(plan.title, "out from the lip by the section", lip, "lip", line(q, lip).rule, rises)


def _end(name: str, lip: Line, id: LineId, at: float, when: str) -> tuple[Quantity, Quantity]:
    """Level and grade along itself of the street's lip at a place."""
    level = elsewhere(lip.title, id, at, lip.rule.levels([at]))
    grade = lip.rule.grades([at], when)
    factor = 1.0 / float(lip.plan.stretch([at])[0])
    there = elsewhere(f"grade of {lip.title}", id, at, grade, "grade")
    words = "grade of the lip there, along itself"
    return level, summed(name, words, Addend("lip's grade", np.array([factor]), there), unit="grade")


@query
def lip_rule(q: Engine, id: str, which: Ring) -> CubicBetween:
    """Levels along a ring: from the street's lip to the street's lip by cubics, in the middle of the bulge as far below its lip as is wanted."""
    k, made, name = knuckle_of(q, id), ring(q, id, which), knuckle_name(q, id)
    lip_id = lip_of(q, id, which)
    lip = line(q, lip_id)
    (level_0, grade_0), (level_1, grade_1) = (
        _end(f"grade {words}", lip, lip_id, at, when)
        for words, at, when in (("leaving the lip", made.begin, "after"), ("reaching the lip", made.finish, "before"))
    )
    if not np.isfinite(sum(float(v.value[0]) for v in (level_0, grade_0, level_1, grade_1))):
        raise Unsolved(
            name, "the street has no level where its lip leaves it", "let its grade line reach past the bend"
        )
    at: tuple[float, ...] = ()
    levels: tuple[Quantity, ...] = ()
    total = made.chain.total
    if which == "outer" and k.levels:
        turned = frame_of(q, k.street).turned
        rows = sorted((1.0 - v.share if turned else v.share, n) for n, v in enumerate(k.levels))
        at = tuple(share * total for share, _ in rows)
        levels = tuple(_level(q, id, n, made.chain.points_at([share * total])[0], name) for share, n in rows)
    elif which == "outer":
        at, levels = (made.middle,), (_in_the_middle(q, id, made, name),)
    words = "cubic meeting the street's lip in level and grade"
    ends = ("lip's level where it leaves", "lip's grade there", "lip's level where it comes back", "lip's grade there")
    return CubicBetween(f"{name} lip", words, total, level_0, grade_0, level_1, grade_1, ends, at, levels)


def _level(q: Engine, id: str, n: int, place: Floats, name: str) -> Quantity:
    """A level that was set on a bulge's lip, or follows another line's."""
    given, title = knuckle_of(q, id).levels[n], f"{name} level {n + 1}"
    if given.follows is not None:
        return anchored(q, given.follows, place, title, name)
    return decided(title, given.level, ("knuckle level", id, n), "level set", "set")


def _in_the_middle(q: Engine, id: str, made: ElbowRing, name: str) -> Quantity:
    """The level of the bulge's lip in its middle: the street's lip abreast, and what it falls from there."""
    k, bend, lip_id = knuckle_of(q, id), elbow(q, id), lip_of(q, id, "outer")
    lip = line(q, lip_id)
    place = made.chain.points_at([made.middle])[0]
    away = float(np.hypot(*(place - lip.plan.points([bend.middle])[0])))
    return summed(
        f"{name} lip, in its middle",
        "as far below the street's lip as it is to fall",
        times("street's lip", elsewhere(lip.title, lip_id, bend.middle, lip.rule.levels([bend.middle]))),
        amount(f"−{100 * k.fall:.2f} % × {away:.2f} m", -k.fall * away),
        source="proposed",
    )


@query
def ring_rows(q: Engine, id: str, which: Ring) -> Floats:
    """Distances along a ring at which its section is worked out."""
    settings, made = parts.settings(q), ring(q, id, which)
    boundary = boundary_of(q, id, which)
    rule = lip_rule(q, id, which)
    fine = sampled_at(line_plan(q, boundary), rule.bow(), settings.arc_tolerance, settings.level_tolerance)
    stations = [kind.stations_on(q, boundary) for kind in kinds()]
    even = np.linspace(0.0, made.chain.total, 2 + int(made.chain.total / 2.0))
    keys = (made.chain.key_chainages(), rule.key_places(), [made.middle])
    return frozen(unique_chainages(*keys, *stations, fine, even, low=0.0, high=made.chain.total, gap=1e-2))


def batter_slopes(q: Engine, id: KnuckleLine, s: Floats) -> Floats:
    """Cut and fill slope (n, 2) outside a ring: the street's."""
    return slopes_between(*shape_of(q, id.knuckle, id.ring), s / line_plan(q, id).end)


# What it does to its street


def gaps(q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
    """Where rings take the place of a side's kerb."""
    found = []
    for k in knuckles_on(q, street):
        for which in rings_of(q, k.id):
            if side_of(q, k.id, which) == side:
                made = ring(q, k.id, which)
                found.append((made.begin, made.finish))
    return tuple(found)


def stations(q: Engine, street: str) -> Floats:
    """Where rings leave the street's lips, and the middle of the bend."""
    found: list[float] = []
    for k in knuckles_on(q, street):
        for which in rings_of(q, k.id):
            made = ring(q, k.id, which)
            found += [made.begin, made.finish, elbow(q, k.id).middle]
    return np.array(found)


def corners_on(q: Engine, street: str, side: Side) -> tuple[tuple[float, LineId, float], ...]:
    """Where a street's boundary goes on beyond a ring."""
    found: list[tuple[float, LineId, float]] = []
    for k in knuckles_on(q, street):
        for which in rings_of(q, k.id):
            if side_of(q, k.id, which) == side:
                made, edge = ring(q, k.id, which), boundary_of(q, k.id, which)
                found += [(made.begin, edge, 0.0), (made.finish, edge, made.chain.total)]
    return tuple(found)


def turns_of(q: Engine, street: str, side: Side) -> tuple[Turn, ...]:
    """How the carriageway's halves are turned over a bend."""
    found = []
    for k in knuckles_on(q, street):
        made = q.attempt(elbow, k.id)
        if isinstance(made, Unsolved):
            continue
        across = k.across if side == side_of(q, k.id, "outer") else k.inner_across
        if across is not None:
            begin, finish = made.begin - k.beyond, made.finish + k.beyond
            found.append(Turn(begin, begin - k.over, False, across, "the knuckle's"))
            found.append(Turn(finish, finish + k.over, True, across, "the knuckle's"))
    return tuple(found)
