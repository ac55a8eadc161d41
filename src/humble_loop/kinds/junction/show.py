"""How a junction shows itself."""

from __future__ import annotations

from itertools import product

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.junction.corner_rows import corner_facts, corner_handle
from humble_loop.kinds.junction.corners import (
    ReturnLine,
    corner_shape,
    kerb_return,
)
from humble_loop.kinds.junction.layout import throat, throat_place
from humble_loop.kinds.junction.model import set_crossing
from humble_loop.kinds.junction.nodes import (
    Arm,
    CrossingArm,
    arms_at,
    arms_of,
    joints_on,
    junction_name,
    node_id,
    require_joint,
)
from humble_loop.kinds.street.levels import own_level
from humble_loop.kinds.street.plan import StreetLine, is_new, name_of
from humble_loop.kinds.street.show import SAG, role_in_plan
from humble_loop.lines.describe import (
    Choice,
    Crossing,
    Drawing,
    Fact,
    Handle,
    Label,
    Note,
    Place,
    Row,
    Stroke,
    joined_up,
)
from humble_loop.lines.line import LineId, line, line_plan
from humble_loop.site.model import SIDES

Arms = tuple[tuple[str, Arm], ...]


def outline(q: Engine, arms: Arms) -> Drawing:
    """Returns and the lines round them."""
    by_role: dict[str, list[Floats]] = {}
    for (street, arm), corner in product(arms, SIDES):
        if not is_new(q, street) or isinstance(q.attempt(kerb_return, street, arm, corner), Unsolved):
            continue
        for point in corner_shape(q, street, arm, corner).last.names:
            role = role_in_plan(point, None, corner=True)
            plan = q.attempt(line_plan, ReturnLine(street, arm, corner, point))
            if role is not None and not isinstance(plan, Unsolved):
                by_role.setdefault(role, []).extend(plan.points(s) for s in plan.runs(SAG))
    return Drawing(tuple(Stroke(role, joined_up(runs)) for role, runs in by_role.items()))


def details(q: Engine, arms: Arms) -> Drawing:
    """The throats' levels."""
    made = [q.attempt(throat, street, arm) for street, arm in arms if is_new(q, street)]
    return Drawing((), (), tuple(_throat_label(t.place.point, t.level) for t in made if not isinstance(t, Unsolved)))


def _throat_label(point: Floats, level: float) -> Label:
    return Label((float(point[0]), float(point[1])), "crown", 1, unit="level", value=level, weight=500, size=12)


def facts(q: Engine, id: str) -> tuple[Row, ...]:
    """Whose crown holds, and of each arm the throat level and both corners."""
    rows: list[Row] = []
    for street, arm in arms_at(q, id):
        if isinstance(arm, CrossingArm):
            if not arm.onwards:
                rows.append(_whose_crown(q, street, arm))
            rows.append(Note(f"{name_of(q, street)}, {arm}"))
        t = q.attempt(throat, street, arm)
        rows.append(Note(t.message) if isinstance(t, Unsolved) else Fact("throat level", "level", t.level, "tied"))
        for corner in SIDES:
            rows += corner_facts(q, street, arm, corner)
    return tuple(rows)


def _whose_crown(q: Engine, street: str, arm: CrossingArm) -> Choice:
    """Whose crown holds, with what changing it does to the level at the node."""
    first, second = sorted((street, arm.other))
    crowns = [q.attempt(line, StreetLine(s)) for s in (arm.other, street)]
    j = require_joint(q, street, arm)
    free = q.attempt(own_level, street, j.side_chainage)
    words = ""
    if not isinstance(crowns[0], Unsolved) and not isinstance(free, Unsolved):
        change = free - float(crowns[0].rule.levels([j.through_chainage])[0])
        words = f" ({change:+.2f} m there)"
    options = ((arm.other, name_of(q, arm.other)), (street, f"{name_of(q, street)}{words}"))
    return Choice(
        "crown of", options, arm.other, lambda v: lambda s: set_crossing(s, first, second, arm.count, through=v)
    )


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
    return tuple(h for h in found if h is not None)


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
