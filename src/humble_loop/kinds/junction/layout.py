"""Junctions in plan and level: throats, returns, how the side street's section turns.

The through street keeps its crown, alone or with the side street's. Along each arm the side street's crown line lies on the through street's surface as far as the
throat, where it crosses the through lip line at that lip's level; from there its own grade line runs. A street that crosses another
has two arms there, and its crown goes over that one's surface from throat to throat. Where both crowns run through, the side street's
climbs to the through crown, its own grade line runs from the node, and the surface between is carried by both.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, as_row, frozen, left_normals, tangents, unique_chainages
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.junction.corners import (
    Return,
    ReturnLine,
    corner_choice,
    corner_name,
    corner_shape,
    kerb_return,
    through_lip,
)
from humble_loop.kinds.junction.nodes import (
    Arm,
    CrossingArm,
    Joint,
    both_crowns,
    choice_at,
    junction_name,
    leg_of,
    leg_side,
    reach_key,
    require_joint,
)
from humble_loop.kinds.junction.raised import plane_fall, plane_of, table_end, table_of
from humble_loop.kinds.junction.ramps import lowered, ramp_stations
from humble_loop.kinds.junction.rulings import rulings
from humble_loop.kinds.junction.splay import boundary_offset
from humble_loop.kinds.junction.throats import ThroatPlace, throat_place
from humble_loop.kinds.street.plan import (
    StreetLine,
    chain_of,
    ground_along,
    is_new,
    name_of,
)
from humble_loop.kinds.street.section import (
    lip_course,
    own_range,
    slopes_between,
)
from humble_loop.kinds.street.side_levels import crossfall
from humble_loop.lines.anchor import anchored
from humble_loop.lines.kind import Carried, EndTie, Turn
from humble_loop.lines.line import Line, LineId, LinePlan, line, line_plan, sampled_at
from humble_loop.lines.quantity import Addend, Quantity, amount, decided, elsewhere, known, percent, summed, times
from humble_loop.lines.rules import Above, CubicBetween, InStretches, Known, LevelRule
from humble_loop.lines.standing import kinds
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.model import SIDES, End, Side, side_sign


@dataclass(frozen=True)
class Throat:
    """The throat with its level in metres, and the through lip's grade there along the lip, in its base's direction."""

    place: ThroatPlace
    level: float
    lip_grade: float
    quantity: Quantity


@query
def throat(q: Engine, street: str, arm: Arm) -> Throat:
    """Where the side crown leaves the through street, and the through lip's grade there: at the throat, or at the node where both crowns
    run through.
    """
    if both_crowns(q, street, arm):
        return node_level(q, street, arm)
    place, id = throat_place(q, street, arm), through_lip(require_joint(q, street, arm))
    lip = line(q, id)
    level = float(lip.rule.levels([place.through_at])[0])
    if not np.isfinite(level):
        raise Unsolved(
            junction_name(q, street, arm),
            "the through street has no level at the throat",
            "let the through street's grade line reach past the junction",
        )
    quantity = summed(
        f"{junction_name(q, street, arm)} throat",
        "the through lip's level there",
        times("through lip", elsewhere(lip.title, id, place.through_at, level)),
        source="tied",
    )
    return Throat(place, level, float(lip.grade_along([place.through_at])[0]), quantity)


@query
def node_level(q: Engine, street: str, arm: Arm) -> Throat:
    """The node, where the side crown meets the through crown."""
    j = require_joint(q, street, arm)
    crown = line(q, StreetLine(j.through))
    level = float(crown.rule.levels([j.through_chainage])[0])
    if not np.isfinite(level):
        raise Unsolved(
            junction_name(q, street, arm),
            "the through street has no level where the crowns meet",
            "let the through street's grade line reach past the junction",
        )
    there = elsewhere(crown.title, StreetLine(j.through), j.through_chainage, level)
    name = f"{junction_name(q, street, arm)} node"
    quantity = summed(name, "the through crown's level there", times("through crown", there), source="tied")
    return Throat(ThroatPlace(j.node, j.through_chainage, j.side_chainage, 0.0), level, 0.0, quantity)


@dataclass(frozen=True)
class OnThroughSurface(LevelRule):
    """The side crown between the node and the throat: on the through street's carriageway."""

    title: str
    side: Chain
    through: Chain
    crown_id: LineId
    crown: LevelRule
    fall: Varying
    through_name: str

    def _feet(self, s: ArrayLike) -> tuple[Floats, Floats, Floats, Floats]:
        """Chainages, distances out (positive), and how both change per metre of the side street."""
        x = as_row(s)
        frames = self.side.at(x)
        feet = self.through.feet(frames.points)
        sign = np.where(feet.offsets < 0, -1.0, 1.0)
        turn = frames.headings - feet.headings
        bend = self.through.at(feet.chainages).curvatures
        return feet.chainages, np.abs(feet.offsets), np.cos(turn) / (1.0 - bend * feet.offsets), np.sin(turn) * sign

    def level(self, s: ArrayLike) -> Quantity:
        x = as_row(s)
        at, out, _, _ = self._feet(x)
        fall = self.fall(at)
        return summed(
            lambda k: f"{self.title} at {x[k]:.2f}",
            f"on the surface of {self.through_name}, whose crown holds",
            times("through crown", elsewhere("through crown", self.crown_id, at, self.crown.levels(at))),
            amount(lambda k: f"{percent(fall[k])} × {out[k]:.2f} m", fall * out),
            source="tied",
        )

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        x = as_row(s)
        at, out, along, outwards = self._feet(x)
        return summed(
            lambda k: f"grade of {self.title} at {x[k]:.2f}",
            f"across the surface of {self.through_name}",
            times(
                "through crown's grade",
                elsewhere("through crown", self.crown_id, at, self.crown.grades(at, side), "grade"),
                along,
            ),
            amount("crossfall and its turning", self.fall(at) * outwards + self.fall.slope(at) * out * along),
            source="tied",
            unit="grade",
        )


def end_tie(q: Engine, street: str, end: End) -> EndTie:
    """How the through street holds the side street's end."""
    at, level = own_from(q, street, end), _held_at(q, street, end)
    inside = None if both_crowns(q, street, end) else _within(q, street, end)
    return EndTie(end, at, level, inside)


def own_from(q: Engine, street: str, arm: Arm) -> float:
    """The side street's chainage from which its own grade line runs along an arm: the throat's, the node's where both crowns run through,
    and where a table that is one plane ends.
    """
    if plane_of(q, street, arm) is not None and not both_crowns(q, street, arm):
        return table_end(q, street, arm)
    return throat(q, street, arm).place.side_chainage


def _held_at(q: Engine, street: str, arm: Arm) -> Quantity:
    """The level at which an arm's own grade line begins."""
    at, t = own_from(q, street, arm), throat(q, street, arm)
    if at == t.place.side_chainage:
        return t.quantity
    inside = _within(q, street, arm)
    assert inside is not None
    name = f"{junction_name(q, street, arm)} plane"
    return summed(name, "on the plane of the junction where it ends", times("plane", inside.level([at])), source="tied")


@query
def carried_by(q: Engine, street: str, other: str, count: int) -> Carried:
    """How a street that crosses another is carried over that one's surface, from throat to throat; or held at its crown, at the node."""
    arms = [CrossingArm(other, count, onwards) for onwards in (False, True)]
    before, after = ((own_from(q, street, arm), _held_at(q, street, arm)) for arm in arms)
    node, both = require_joint(q, street, arms[0]).side_chainage, both_crowns(q, street, arms[0])
    first, last = (None if both else _within(q, street, arm) for arm in arms)
    whole = None if first is None or last is None else InStretches((node,), (first, last))
    return Carried(before[0], after[0], before[1], after[1], whole)


def _within(q: Engine, street: str, arm: Arm) -> LevelRule | None:
    """How the side street's crown runs from the node to the throat: on the through street's surface."""
    j, title = require_joint(q, street, arm), f"{name_of(q, street)} crown"
    if is_new(q, j.through):
        crown = StreetLine(j.through)
        return OnThroughSurface(
            title,
            chain_of(q, street),
            chain_of(q, j.through),
            crown,
            line(q, crown).rule,
            crossfall(q, j.through, j.lip_side),
            name_of(q, j.through),
        )
    ground = ground_along(q, street)
    on = np.isfinite(ground.levels)
    profile = Profile.of(ground.chainages[on], ground.levels[on]) if on.sum() >= 2 else None
    return Known(title, "on the existing street's surface", "ground", profile) if profile else None


def reach_of(q: Engine, street: str, arm: Arm) -> float:
    """How far from the node (m) an arm's section has turned back to normal on both sides."""
    chosen, t = choice_at(q, street, arm), throat(q, street, arm)
    wanted = (getattr(chosen, reach_key(q, street, arm)) if chosen else None) or 0.0
    made = [q.attempt(kerb_return, street, arm, corner) for corner in SIDES]
    ends = [r.leg_at if isinstance(r, Return) else t.place.leg_at for r in made]
    return min(max(*ends, wanted), leg_of(q, street, arm).total)


def turn_of(q: Engine, street: str, arm: Arm, side: Side) -> Turn:
    """How the side section turns: at the throat it lies flat along the through lip; where its return ends, or as far as the arm reaches
    beyond that, it is normal.

    The crossfall outwards at the throat is the lip's grade resolved along the section.
    """
    t, leg = throat(q, street, arm), leg_of(q, street, arm)
    j = require_joint(q, street, arm)
    lip = lip_course(q, j.through, j.lip_side)
    corner = leg_side(arm, side)
    outwards = left_normals(leg.at([t.place.leg_at]).headings[0]) * side_sign(corner)
    along = tangents(lip.base.at([t.place.through_at]).headings[0])
    if (plane := plane_of(q, street, arm)) is not None:
        at = table_end(q, street, arm)
        square = left_normals(leg.at([abs(at - j.side_chainage)]).headings[0]) * side_sign(corner)
        onwards = tangents(chain_of(q, j.through).at([j.through_chainage]).headings[0])
        grade = float(line(q, StreetLine(j.through)).rule.grades([j.through_chainage])[0])
        across = grade * float(square @ onwards) + plane_fall(q, street, arm) * float(square @ _towards(onwards, j))
        return Turn(at, at + j.way * plane.ramp, j.way > 0, across, "one plane over the junction")
    made, chosen = q.attempt(kerb_return, street, arm, corner), choice_at(q, street, arm)
    finish = made.leg_at if isinstance(made, Return) else t.place.leg_at
    wanted = getattr(chosen, reach_key(q, street, arm)) if chosen else None
    finish = j.along(min(max(finish, wanted or 0.0), leg.total))
    return Turn(
        t.place.side_chainage, finish, j.way > 0, t.lip_grade * float(outwards @ along), "flat along the through lip"
    )


def _towards(onwards: Floats, j: Joint) -> Floats:
    """The unit vector (2,) square to the through street, which runs ``onwards``, towards the side on which an arm leaves."""
    found: Floats = np.array([-onwards[1], onwards[0]]) * j.through_side
    return found


# Lines round a corner


def batter_slopes(q: Engine, id: ReturnLine, s: Floats) -> Floats:
    """Cut and fill slope (n, 2) round a corner: from the through street's to the side street's."""
    shape = corner_shape(q, id.street, id.arm, id.corner)
    return slopes_between(shape.first, shape.last, s / line_plan(q, id).end)


def plan_of(q: Engine, id: ReturnLine) -> LinePlan:
    """A line round a corner in plan: beside the return, outwards at its centre's side."""
    made = kerb_return(q, id.street, id.arm, id.corner)
    shape = corner_shape(q, id.street, id.arm, id.corner)
    chain, towards = made.curve.chain, made.curve.towards
    k = shape.last.names.index(id.point)
    offset = Varying.of([0.0, chain.total], [towards * float(shape.first.out[k]), towards * float(shape.last.out[k])])
    if k == len(shape.last.names) - 1 and k > 0:
        offset = boundary_offset(q, id.street, id.arm, id.corner) or offset
    name = corner_name(q, id.street, id.arm, id.corner)
    title = f"{name} return" if id.point == "lip" else f"{name} {id.point}"
    return LinePlan(title, "return" if id.point == "lip" else id.point, chain, offset, 0.0, chain.total)


def rule_of(q: Engine, id: ReturnLine) -> LevelRule:
    """A return meets both lips in level and grade; what lies outside it follows by the section."""
    if id.point == "lip":
        return return_rule(q, id.street, id.arm, id.corner)
    shape = corner_shape(q, id.street, id.arm, id.corner)
    lip = ReturnLine(id.street, id.arm, id.corner)
    base = line(q, lip)
    k, total = shape.last.names.index(id.point), base.plan.end
    names = shape.last.names
    rises = tuple(
        (f"{names[i]} to {names[i + 1]}", Varying.of([0.0, total], [float(a), float(b)]))
        for i, (a, b) in enumerate(zip(np.diff(shape.first.rise[: k + 1]), np.diff(shape.last.rise[: k + 1])))
    )
    title, table = line_plan(q, id).title, table_of(q, id.street, id.arm)
    if table is not None:
        rises = (("the kerb stays below the table", Varying.steady(-table.by)), *rises)
    if (down := lowered(q, id.street, id.arm, id.corner, k)) is not None:
        rises = (*rises, ("down to the lip at the ramp", down))
    rule = Above(title, "out from the lip by the section", lip, "lip", base.rule, rises)
    if is_new(q, require_joint(q, id.street, id.arm).through):
        return rule
    plan = line_plan(q, id)
    return GrownFromGround(title, rule, plan, ground_of(q), total)


@dataclass(frozen=True)
class GrownFromGround(LevelRule):
    """Along an existing street nothing is designed: a corner's roadside grows out of the ground there."""

    title: str
    designed: LevelRule
    plan: LinePlan
    ground: object
    total: float

    def level(self, s: ArrayLike) -> Quantity:
        x = as_row(s)
        share = x / self.total
        made = self.designed.level(x)
        under = self.ground.levels(self.plan.points(x))  # type: ignore[attr-defined]
        under = np.where(np.isfinite(under), under, made.value)
        return summed(
            lambda k: f"{self.title} at {x[k]:.2f}",
            "growing out of the ground along an existing street",
            times(
                lambda k: f"{100 * (1 - share[k]):.0f} % of the ground",
                known("ground", under, "", "ground"),
                1.0 - share,
            ),
            times(lambda k: f"{100 * share[k]:.0f} % of the section", made, share),
        )

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        x = as_row(s)
        step = 1e-3 if side == "after" else -1e-3
        return known(
            f"grade of {self.title}", (self.levels(x + step) - self.levels(x)) / step, "over a millimetre", unit="grade"
        )


def _grade_at(name: str, made: Line, id: LineId, at: float, side: str, direction: float) -> Quantity:
    """A lip's grade along itself at a place, in the direction of a return, as a quantity."""
    value = made.rule.grades([at], side)
    factor = direction / float(made.plan.stretch([at])[0])
    return summed(
        name,
        "grade of the lip there, in the direction of the return",
        Addend("lip's grade", np.array([factor]), elsewhere(f"grade of {made.title}", id, at, value, "grade")),
        unit="grade",
    )


def _level(q: Engine, place: tuple[str, Arm, Side], k: int, made: Return) -> Quantity:
    """A level that was set on a return, or follows another line's."""
    v, name = corner_choice(q, *place).levels[k], corner_name(q, *place)
    what = f"{name} level {k + 1}"
    if v.follows is not None:
        return anchored(q, v.follows, made.curve.chain.points_at([v.share * made.curve.length])[0], what, name)
    return decided(what, v.level, ("return level", *place, k), "level set", "set")


def return_rule(q: Engine, street: str, arm: Arm, corner: Side) -> CubicBetween:
    """Levels along a return, from the through lip's level and grade to the side lip's."""
    made, j = kerb_return(q, street, arm, corner), require_joint(q, street, arm)
    name, given = corner_name(q, street, arm, corner), corner_choice(q, street, arm, corner).levels
    through_id, side_id = through_lip(j), StreetLine(street, "lip", leg_side(arm, corner))
    through, side = line(q, through_id), line(q, side_id)
    level_0 = elsewhere(through.title, through_id, made.through_at, through.rule.levels([made.through_at]))
    grade_0 = _grade_at("grade leaving the through lip", through, through_id, made.through_at, "after", made.direction)
    s = made.side_chainage
    level_1 = elsewhere(side.title, side_id, s, side.rule.levels([s]))
    grade_1 = _grade_at(
        "grade reaching the side lip", side, side_id, s, "after" if j.way > 0 else "before", float(j.way)
    )
    if not np.isfinite(level_1.value[0] + grade_1.value[0]):
        raise Unsolved(
            name,
            "the side street has no level where the return ends",
            "let its grade line reach from the throat past the return",
        )
    if not np.isfinite(level_0.value[0] + grade_0.value[0]):
        raise Unsolved(
            name,
            "the through lip has no level where the return starts",
            "let the through street's grade line reach past the junction",
        )
    at = tuple(v.share * made.curve.length for v in given)
    levels = tuple(_level(q, (street, arm, corner), k, made) for k in range(len(given)))
    words = "cubic meeting both lips in level and grade"
    if not given and plane_of(q, street, arm) is not None:
        words = "on the plane of the junction, by a cubic through it"
        at, levels = _on_plane(q, street, arm, name, made)
    return CubicBetween(
        f"{name} return",
        words,
        made.curve.length,
        level_0,
        grade_0,
        level_1,
        grade_1,
        ("through lip's level", "through lip's grade", "side lip's level", "side lip's grade"),
        at,
        levels,
    )


_PIECES = 16  # of a return that lies on a plane: between them a cubic departs from it by less than 1e-6 m


def _on_plane(
    q: Engine, street: str, arm: Arm, name: str, made: Return
) -> tuple[tuple[float, ...], tuple[Quantity, ...]]:
    """Distances along a return, and its levels there on the plane of its junction."""
    j, s = require_joint(q, street, arm), np.linspace(0.0, made.curve.length, _PIECES + 1)[1:-1]
    crown = StreetLine(j.through)
    feet = chain_of(q, j.through).feet(made.curve.chain.points_at(s))
    levels = line(q, crown).rule.levels(feet.chainages)
    rise = plane_fall(q, street, arm) * feet.offsets * j.through_side
    found = []
    for at, foot, level, up in zip(s.tolist(), feet.chainages.tolist(), levels.tolist(), rise.tolist()):
        there = times("through crown", elsewhere("through crown", crown, foot, level))
        found.append(
            summed(f"{name} return at {at:.2f}", "on the plane of the junction", there, amount("across it", up))
        )
    return tuple(s.tolist()), tuple(found)


@query
def return_rows(q: Engine, street: str, arm: Arm, corner: Side) -> Floats:
    """Distances along a return at which its section is worked out."""
    settings, made = parts.settings(q), line(q, ReturnLine(street, arm, corner))
    s = sampled_at(made.plan, made.rule.bow(), settings.arc_tolerance, settings.level_tolerance)
    extra = np.linspace(0.0, made.plan.end, max(2, int(np.ceil(made.plan.end / 2.0)) + 1))
    s = np.concatenate([s, extra[np.min(np.abs(extra[:, None] - s), axis=1) > 0.2]])
    boundary = ReturnLine(street, arm, corner, corner_shape(q, street, arm, corner).last.names[-1])
    stations = [kind.stations_on(q, boundary) for kind in kinds()]
    stations += [rulings(q, street, arm, corner).on_return, ramp_stations(q, street, arm, corner)]
    return frozen(unique_chainages([0.0, made.plan.end], *stations, s, low=0.0, high=made.plan.end, gap=1e-4))


def fits_through(q: Engine, street: str, arm: Arm, corner: Side) -> bool:
    """Whether a return starts where the through street has a lip of its own."""
    j, made = require_joint(q, street, arm), kerb_return(q, street, arm, corner)
    low, high = own_range(q, j.through, j.lip_side)
    return not is_new(q, j.through) or low - 1e-6 <= made.through_at <= high + 1e-6
