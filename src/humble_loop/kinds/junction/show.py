"""How a junction shows itself."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.junction.layout import (
    ReturnLine,
    corner_choice,
    corner_shape,
    divisions,
    kerb_return,
    radius_of,
    throat,
    throat_place,
)
from humble_loop.kinds.junction.model import set_corner
from humble_loop.kinds.junction.nodes import Joint, joint, joints_on, junction_name, require_joint
from humble_loop.kinds.street.plan import StreetLine, drawn_end, is_new, name_of
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
    Told,
    Typed,
    joined_up,
)
from humble_loop.lines.line import LineId, line, line_plan
from humble_loop.lines.rules import CubicBetween
from humble_loop.site.edits import Edit
from humble_loop.site.model import ENDS, SIDES, End, Side


def outline(q: Engine, street: str, end: End) -> Drawing:
    """Returns and the lines round them."""
    by_role: dict[str, list[Floats]] = {}
    if not is_new(q, street):
        return Drawing()
    for corner in SIDES:
        if isinstance(q.attempt(kerb_return, street, end, corner), Unsolved):
            continue
        for point in corner_shape(q, street, end, corner).last.names:
            role = role_in_plan(point, None, corner=True)
            plan = q.attempt(line_plan, ReturnLine(street, end, corner, point))
            if role is not None and not isinstance(plan, Unsolved):
                by_role.setdefault(role, []).extend(plan.points(s) for s in plan.runs(SAG))
    return Drawing(tuple(Stroke(role, joined_up(runs)) for role, runs in by_role.items()))


def details(q: Engine, street: str, end: End) -> Drawing:
    """The throat's level."""
    if not is_new(q, street):
        return Drawing()
    t = q.attempt(throat, street, end)
    labels = () if isinstance(t, Unsolved) else (_throat_label(t.place.point, t.level),)
    return Drawing((), (), labels)


def _throat_label(point: Floats, level: float) -> Label:
    return Label((float(point[0]), float(point[1])), "crown", 1, unit="level", value=level, weight=500, size=12)


def facts(q: Engine, street: str, end: End) -> tuple[Row, ...]:
    """Throat level and both corners."""
    rows: list[Row] = []
    t = q.attempt(throat, street, end)
    rows.append(Note(t.message) if isinstance(t, Unsolved) else Fact("throat level", "level", t.level, "tied"))
    for corner in SIDES:
        rows += _corner(q, street, end, corner)
    return tuple(rows)


def _corner(q: Engine, street: str, end: End, corner: Side) -> list[Row]:
    made, choice, drawn = (
        q.attempt(kerb_return, street, end, corner),
        corner_choice(q, street, end, corner),
        drawn_end(q, street, end),
    )
    radius = radius_of(q, street, end, corner)
    state = "set" if choice.radius else "proposed"

    def edit(radius: float | None) -> Edit:
        return lambda s: set_corner(s, street, drawn, corner, radius=radius)

    switch = edit(None) if state == "set" else edit(radius)
    rows: list[Row] = [Fact(f"{corner} radius", "size", radius, state, edit, switch)]
    if isinstance(made, Unsolved):
        return [*rows, Note(f"{made.message}; {made.remedy}")]
    lip = q.attempt(line, ReturnLine(street, end, corner))
    if not isinstance(lip, Unsolved) and isinstance(lip.rule, CubicBetween):
        rows.append(Fact("at the through lip", "level", lip.rule.cubic.z0, "tied", inner=True))
        rows.append(Fact("at the side lip", "level", lip.rule.cubic.z1, "tied", inner=True))
    if not isinstance(lip, Unsolved):

        def count(n: int | None) -> Edit:
            return lambda s: set_corner(s, street, drawn, corner, divisions=n)

        given = "set" if choice.divisions else "proposed"
        n = divisions(q, street, end, corner)
        rows.append(
            Fact("divisions", "count", n, given, count, count(None) if choice.divisions else count(n), inner=True)
        )
    pits = (("no", "no pit"), ("yes", "pit at the low point"))
    pit = "yes" if choice.pit else "no"
    rows.append(
        Choice("pit", pits, pit, lambda v: lambda s: set_corner(s, street, drawn, corner, pit=v == "yes"), True)
    )
    return rows


def about_street(q: Engine, street: str) -> tuple[Row, ...]:
    """The junctions at a street's own ends, for its facts."""
    rows: list[Row] = []
    for end in ENDS:
        if is_new(q, street) and isinstance(q.attempt(joint, street, end), Joint):
            rows += [Note(junction_name(q, street, end)), *facts(q, street, end)]
    return tuple(rows)


def handles(q: Engine, street: str, end: End) -> tuple[Handle, ...]:
    """The middle of each return, to drag its radius."""
    if not is_new(q, street):
        return ()
    found = [_radius(q, street, end, c) for c in SIDES]
    return tuple(h for h in found if h is not None)


def _radius(q: Engine, street: str, end: End, corner: Side) -> Handle | None:
    made, drawn = q.attempt(kerb_return, street, end, corner), drawn_end(q, street, end)
    if isinstance(made, Unsolved):
        return None
    middle = made.arc.chain.points_at([0.5 * made.arc.length])[0]
    away = (middle - made.arc.centre) / made.arc.radius
    radius, half = made.arc.radius, 0.5 * made.arc.sweep
    # Between tangents that turn by 2h, the arc's middle moves by r (1 / cos h − 1).
    rate = 1.0 / max(np.cos(half), 0.1) - 1.0

    def edit_for(value: float) -> Edit:
        return lambda site: set_corner(site, street, drawn, corner, radius=value)

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        outwards = -float((np.array(place) - middle) @ away)
        value = max(0.5, round(radius + outwards / max(rate, 0.05), 2))
        return edit_for(value), (Told("radius", "length", value, radius),)

    title = f"{name_of(q, street)} {end} {corner} return"
    typed = (Typed("size", "a radius", edit_for),)
    return Handle(("return", street, end, corner), (float(middle[0]), float(middle[1])), title, "round", moved, typed)


def section_marks(q: Engine, id: LineId) -> tuple[Crossing, ...]:
    """Where side streets leave a crown line, and where it leaves others, with the throat's level."""
    if not isinstance(id, StreetLine):
        return ()
    found = []
    for other, end in joints_on(q, id.street):
        t = q.attempt(throat, other, end)
        if not isinstance(t, Unsolved):
            at = require_joint(q, other, end).through_chainage
            found.append(Crossing(name_of(q, other), at, t.level, StreetLine(other)))
    for end in ENDS:
        j = q.attempt(joint, id.street, end)
        if isinstance(j, Joint):
            t = q.attempt(throat, id.street, end)
            if not isinstance(t, Unsolved):
                found.append(Crossing(name_of(q, j.through), t.place.side_chainage, t.level, StreetLine(j.through)))
    return tuple(found)


def at(q: Engine, street: str, end: End, place: Place) -> float:
    """How near a place is to the throat."""
    t = q.attempt(throat_place, street, end)
    return np.inf if isinstance(t, Unsolved) else float(np.hypot(*(t.point - np.array(place))))
