"""How a junction shows itself."""

from __future__ import annotations

from itertools import product

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.junction.corner_rows import corner_facts, corner_handle
from humble_loop.kinds.junction.corners import (
    ReturnLine,
    corner_shape,
    kerb_return,
)
from humble_loop.kinds.junction.layout import node_level, reach_of, throat
from humble_loop.kinds.junction.model import PLANE, RaisedTable, hold_other
from humble_loop.kinds.junction.nodes import (
    Arm,
    CrossingArm,
    Joint,
    arm_name,
    arms_at,
    arms_of,
    both_crowns,
    choice_at,
    decided,
    joints_on,
    junction_name,
    leg_of,
    node_id,
    reach_key,
    require_joint,
)
from humble_loop.kinds.junction.raised import chosen_table, table_edges, table_rows
from humble_loop.kinds.junction.throats import throat_place
from humble_loop.kinds.street.levels import grade_line, own_level
from humble_loop.kinds.street.order import order_choice
from humble_loop.kinds.street.plan import StreetLine, is_new, name_of, vips_of
from humble_loop.kinds.street.show import SAG, role_in_plan
from humble_loop.lines.describe import (
    LABEL_RANKS,
    Choice,
    Crossing,
    Drawing,
    Fact,
    Handle,
    Label,
    Note,
    Place,
    Row,
    Told,
    Typed,
)
from humble_loop.lines.drawn import drawn_in, strokes
from humble_loop.lines.line import LineId, line
from humble_loop.lines.rules import CubicBetween
from humble_loop.propose.through import SAME
from humble_loop.site.edits import Edit
from humble_loop.site.model import SIDES

Arms = tuple[tuple[str, Arm], ...]


def outline(q: Engine, arms: Arms) -> Drawing:
    """Returns and the lines round them."""
    lines = (
        (role_in_plan(point, None, corner=True), ReturnLine(street, arm, corner, point))
        for (street, arm), corner in product(arms, SIDES)
        if is_new(q, street) and not isinstance(q.attempt(kerb_return, street, arm, corner), Unsolved)
        for point in corner_shape(q, street, arm, corner).last.names
    )
    by_role = drawn_in(q, lines, SAG)
    if arms and (edges := table_edges(q, node_id(q, *arms[0]))):
        by_role.setdefault("kerb", []).extend(edges)
    return strokes(by_role)


def details(q: Engine, arms: Arms) -> Drawing:
    """The throats' levels, and close up those of the returns."""
    made = [q.attempt(throat, street, arm) for street, arm in arms if is_new(q, street)]
    labels = [_throat_label(t.place.point, t.level) for t in made if not isinstance(t, Unsolved)]
    for (street, arm), corner in product(arms, SIDES):
        lip = q.attempt(line, ReturnLine(street, arm, corner)) if is_new(q, street) else None
        if lip is not None and not isinstance(lip, Unsolved) and isinstance(lip.rule, CubicBetween):
            turning = [t.chainage for t in lip.rule.turning_points()]
            places = lip.points(np.unique(np.concatenate([np.linspace(0.0, lip.plan.end, _SPOTS), turning])))
            labels += [
                Label((e, n), "ink", LABEL_RANKS["spot"], unit="level", value=z, size=10) for e, n, z in places.tolist()
            ]
    return Drawing((), (), tuple(labels))


_SPOTS = 5  # levels along a return, equally apart, its ends among them


def _throat_label(point: Floats, level: float) -> Label:
    return Label((float(point[0]), float(point[1])), "crown", 1, unit="level", value=level, weight=500, size=12)


def facts(q: Engine, id: str) -> tuple[Row, ...]:
    """Whose crown holds, and of each arm the throat level and both corners."""
    rows: list[Row] = []
    for street, arm in arms_at(q, id):
        if not _onwards(arm):
            rows.append(_name(q, street, arm))
        if not _onwards(arm) and (choice := _whose_crown(q, street, arm)) is not None:
            rows.append(choice)
            rows += table_rows(q, street, arm)
        if not _onwards(arm):
            through = require_joint(q, street, arm).through
            if (order := order_choice(q, street, through, "built later")) is not None:
                rows.append(order)
        if isinstance(arm, CrossingArm):
            rows.append(Note(f"{name_of(q, street)}, {arm}"))
        t, place = q.attempt(throat, street, arm), "node" if both_crowns(q, street, arm) else "throat"
        rows.append(Note(t.message) if isinstance(t, Unsolved) else Fact(f"{place} level", "level", t.level, "tied"))
        if not isinstance(t, Unsolved) and is_new(q, street) and not both_crowns(q, street, arm):
            rows.append(_reach(q, street, arm))
        for corner in SIDES:
            rows += corner_facts(q, street, arm, corner)
    return tuple(rows)


def _name(q: Engine, street: str, arm: Arm) -> Fact:
    """The junction's name: given, or made of its streets' until it is."""
    name, chosen = junction_name(q, street, arm), choice_at(q, street, arm)
    given = chosen is not None and bool(chosen.name)
    switch = decided(q, street, arm, name=None if given else name)
    return Fact(
        "name",
        "text",
        name,
        "set" if given else "proposed",
        lambda v: decided(q, street, arm, name=v or None),
        switch,
    )


def _reach(q: Engine, street: str, arm: Arm) -> Fact:
    """How far along its leg a junction reaches: set, or as far as its returns do."""
    key, chosen, now = reach_key(q, street, arm), choice_at(q, street, arm), reach_of(q, street, arm)
    given = chosen is not None and getattr(chosen, key) is not None
    switch = decided(q, street, arm, **{key: None if given else round(now, 2)})
    state = "set" if given else "proposed"
    return Fact("reach along the leg", "size", now, state, lambda v: decided(q, street, arm, **{key: v}), switch)


_BOTH, _TABLE, _PLANE = "both", "table", "plane"


def _whose_crown(q: Engine, street: str, arm: Arm) -> Choice | None:
    """Whose crown holds, with what changing it does to the level at the node, or at the throat where both are to run through; None where
    there is no choice.
    """
    j, both, table = require_joint(q, street, arm), both_crowns(q, street, arm), chosen_table(q, street, arm)
    if not is_new(q, street):
        return None
    options = [(j.through, name_of(q, j.through))]
    if isinstance(arm, CrossingArm):
        options.append((street, f"{name_of(q, street)}{_change(q, street, j)}"))
    if is_new(q, j.through):
        options.append((_BOTH, f"both{'' if both else _change_at_throat(q, street, arm)}"))
        options.append((_TABLE, f"a raised table ({RaisedTable().by:+.2f} m)" if table is None else "a raised table"))
        options.append((_PLANE, "one plane"))
    if len(options) < 2:
        return None
    flat = _PLANE if table is not None and table.plane else _TABLE
    current = flat if table is not None else _BOTH if both else j.through
    return Choice("crown of", tuple(options), current, lambda v: _holding(q, street, arm, v))


def _holding(q: Engine, street: str, arm: Arm, wanted: str) -> Edit:
    """The edit that lets the crown of a street hold, or both run through."""
    if wanted in (_TABLE, _PLANE):
        return decided(q, street, arm, crowns="through", table=PLANE if wanted == _PLANE else RaisedTable())
    if isinstance(arm, CrossingArm) and wanted == street:
        first, second = sorted((street, arm.other))
        return lambda s: hold_other(s, first, second, arm.count, street)
    return decided(q, street, arm, crowns="both" if wanted == _BOTH else "through", table=None)


def _change(q: Engine, street: str, j: Joint) -> str:
    """By how much the level at the node changes if the other crown holds, in words."""
    crown, free = q.attempt(line, StreetLine(j.through)), q.attempt(own_level, street, j.side_chainage)
    if isinstance(crown, Unsolved) or isinstance(free, Unsolved):
        return ""
    return f" ({free - float(crown.rule.levels([j.through_chainage])[0]):+.2f} m there)"


def _change_at_throat(q: Engine, street: str, arm: Arm) -> str:
    """By how much the side crown's level at the throat changes if both crowns run through: its next VIP stays, or the grade that it has."""
    there, node = q.attempt(throat, street, arm), q.attempt(node_level, street, arm)
    made = q.attempt(grade_line, street)
    if isinstance(there, Unsolved) or isinstance(node, Unsolved) or isinstance(made, Unsolved):
        return ""
    j, out, p = require_joint(q, street, arm), there.place.leg_at, made.profile
    beyond = (p.chainages - there.place.side_chainage) * j.way > SAME
    if not beyond.any():
        return ""
    k = int(np.flatnonzero(beyond)[0 if j.way > 0 else -1])
    run = abs(float(p.chainages[k]) - j.side_chainage)
    index = made.index[k]
    vip = vips_of(q, street)[index] if index >= 0 else None
    grade = vip.grade if vip is not None and vip.level is None and vip.grade is not None and j.way > 0 else None
    slope = (float(p.levels[k]) - node.level) / run if grade is None else grade
    return f" ({node.level + slope * out - there.level:+.2f} m at the throat)"


def about_street(q: Engine, street: str) -> tuple[Row, ...]:
    """The junctions at which a street leaves others, for its facts."""
    rows: list[Row] = []
    for id in dict.fromkeys(node_id(q, street, arm) for arm in arms_of(q, street)) if is_new(q, street) else ():
        rows += [Note(junction_name(q, *arms_at(q, id)[0])), *facts(q, id)]
    return tuple(rows)


def handles(q: Engine, street: str, arm: Arm) -> tuple[Handle, ...]:
    """The middle of each return, to drag its radius."""
    if not is_new(q, street):
        return ()
    found = [corner_handle(q, street, arm, c) for c in SIDES]
    return tuple(h for h in (*found, _reach_handle(q, street, arm)) if h is not None)


def _reach_handle(q: Engine, street: str, arm: Arm) -> Handle | None:
    """Where an arm's section is normal again: dragged along the leg, it turns more slowly."""
    now = None if both_crowns(q, street, arm) else q.attempt(_reaches, street, arm)
    if now is None or isinstance(now, Unsolved):
        return None
    leg, key = leg_of(q, street, arm), reach_key(q, street, arm)
    east, north = leg.points_at([now])[0].tolist()

    def edit_for(value: float) -> Edit:
        return decided(q, street, arm, **{key: value})

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        value = max(_LEAST_REACH, round(float(leg.feet([place]).chainages[0]), 1))
        return edit_for(value), (Told("reach", "length", value, now),)

    title, typed = f"{arm_name(q, street, arm)} reach", (Typed("size", "a distance from the node", edit_for),)
    return Handle(
        ("reach", street, arm), (east, north), title, "square", moved, typed, does="Section is normal from here"
    )


@query
def _reaches(q: Engine, street: str, arm: Arm) -> float:
    return reach_of(q, street, arm)


_LEAST_REACH = 0.5  # metres


def section_marks(q: Engine, id: LineId) -> tuple[Crossing, ...]:
    """Where side streets leave a crown line, and where it leaves others, with the throat's level."""
    if not isinstance(id, StreetLine):
        return ()
    found = []
    for other, arm in joints_on(q, id.street):
        t = q.attempt(throat, other, arm)
        if not isinstance(t, Unsolved) and not _onwards(arm):
            at = require_joint(q, other, arm).through_chainage
            found.append(Crossing(name_of(q, other), at, t.level, StreetLine(other)))
    for arm in arms_of(q, id.street):
        t, j = q.attempt(throat, id.street, arm), require_joint(q, id.street, arm)
        if not isinstance(t, Unsolved) and not _onwards(arm):
            found.append(Crossing(name_of(q, j.through), t.place.side_chainage, t.level, StreetLine(j.through)))
    return tuple(found)


def _onwards(arm: Arm) -> bool:
    """Whether it is the second arm of a crossing, which is told by its first."""
    return isinstance(arm, CrossingArm) and arm.onwards


def at(q: Engine, street: str, arm: Arm, place: Place) -> float:
    """How near a place is to the throat."""
    t = q.attempt(throat_place, street, arm)
    return np.inf if isinstance(t, Unsolved) else float(np.hypot(*(t.point - np.array(place))))
