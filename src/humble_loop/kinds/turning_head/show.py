"""How a turning head shows itself."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.junction.nodes import joint
from humble_loop.kinds.street.plan import chain_of, drawn_end, is_new, name_of
from humble_loop.kinds.street.show import SAG, role_in_plan
from humble_loop.kinds.turning_head.layout import (
    HeadLine,
    HeadShape,
    approach,
    head_at,
    head_shape,
    heads_of,
    leaves_at,
    outline,
    ring_levels,
)
from humble_loop.kinds.turning_head.model import remove_head, set_head
from humble_loop.lines.describe import (
    Actions,
    Choice,
    Drawing,
    Fact,
    Handle,
    Mark,
    Note,
    Place,
    Row,
    Stroke,
    Told,
    Typed,
    joined_up,
)
from humble_loop.lines.line import line_plan
from humble_loop.site.edits import Edit
from humble_loop.site.model import ENDS, End


def drawing(q: Engine, street: str, end: End) -> Drawing:
    """The lines round a bulb."""
    by_role: dict[str, list[Floats]] = {}
    shape = _shape(q, street, end)
    names = ("lip",) if shape is None else shape.first.names
    for point in names:
        role = role_in_plan(point, None, corner=True)
        plan = q.attempt(line_plan, HeadLine(street, end, point))
        if role is not None and not isinstance(plan, Unsolved):
            by_role.setdefault(role, []).extend(plan.points(s) for s in plan.runs(SAG))
    return Drawing(tuple(Stroke(role, joined_up(runs)) for role, runs in by_role.items()))


def _shape(q: Engine, street: str, end: End) -> HeadShape | None:
    try:
        return head_shape(q, street, end)
    except Unsolved:
        return None


def facts(q: Engine, street: str, end: End) -> tuple[Row, ...]:
    """Sizes and levels of a bulb."""
    head, drawn = head_at(q, street, end), drawn_end(q, street, end)

    def field(key: str) -> Callable[[Any], Edit]:
        return lambda value: lambda s: set_head(s, street, drawn, **{key: value})

    outlets = (("auto", "by itself"), ("street", "to the street"), ("pit", "to a pit"))
    rows: list[Row] = [
        Fact("bulb radius", "size", head.radius, "set", field("radius")),
        Fact("return radius", "size", head.return_radius, "set", field("return_radius")),
        Fact("offset left", "length", head.offset, "set", field("offset")),
        Fact("radial fall", "grade", head.fall, "set", field("fall")),
        Choice("drains", outlets, head.outlet, field("outlet")),
    ]
    laid, levels = q.attempt(outline, street, end), q.attempt(ring_levels, street, end)
    if isinstance(laid, Unsolved):
        return (*rows, Note(f"{laid.message}; {laid.remedy}"), _away(street, drawn))
    if not isinstance(levels, Unsolved):
        turn = float(levels.rule.levels([levels.turn])[0])
        rows.append(Fact("centre", "level", levels.centre, "tied"))
        rows.append(Fact("pit" if levels.outlet == "pit" else "high point of the lip", "level", turn, "proposed"))
        rows.append(Fact("radial fall there", "grade", (levels.centre - turn) / head.radius))
    return (*rows, _away(street, drawn))


def _away(street: str, drawn: End) -> Actions:
    return Actions((("Take the bulb away", lambda s: remove_head(s, street, drawn)),))


def about_street(q: Engine, street: str) -> tuple[Row, ...]:
    """A street's bulbs, or the offer of one, for its facts."""
    if not is_new(q, street):
        return ()
    rows: list[Row] = []
    taken = dict(heads_of(q, street))
    offers = []
    for end in ENDS:
        if end in taken:
            rows += [Note("Bulb" if end == "end" else "Bulb at its start"), *facts(q, street, end)]
        elif joint(q, street, end) is None:
            drawn = drawn_end(q, street, end)
            words = "End it in a bulb" if end == "end" else "Begin it with a bulb"
            offers.append((words, lambda s, d=drawn: set_head(s, street, d)))
    if offers and not taken:
        rows.append(Actions(tuple(offers)))
    return tuple(rows)


def handles(q: Engine, street: str, end: End) -> tuple[Handle, ...]:
    """A bulb's radius and offset."""
    head, chain, drawn = head_at(q, street, end), approach(q, street, end), drawn_end(q, street, end)
    laid, name = q.attempt(outline, street, end), name_of(q, street)
    heading = float(chain.at([chain.total]).headings[0])
    ahead, left = np.array([np.cos(heading), np.sin(heading)]), np.array([-np.sin(heading), np.cos(heading)])
    tip = chain.points_at([chain.total])[0]
    centre = tip + left * head.offset if isinstance(laid, Unsolved) else laid.centre

    def rule(q: Engine) -> str:
        made = q.attempt(outline, street, end)
        return made.message if isinstance(made, Unsolved) else f"lip {made.ring.total:.2f} round"

    def edit(key: str, value: float) -> Edit:
        return lambda site: set_head(site, street, drawn, **{key: value})

    def radius_moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        value = max(0.5, round(float(np.hypot(*(np.array(place) - centre))), 2))
        return edit("radius", value), (Told("radius", "length", value, head.radius),)

    def offset_moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        value = round(float((np.array(place) - tip) @ left), 2)
        return edit("offset", value), (Told("offset to the left", "length", value, head.offset),)

    back, inside = centre + ahead * head.radius, centre + ahead * 0.35 * head.radius
    by_radius = (Typed("size", "a radius", lambda v: edit("radius", v)),)
    by_offset = (Typed("length", "an offset to the left", lambda v: edit("offset", v)),)
    return (
        Handle(
            ("bulb", street, end),
            (float(back[0]), float(back[1])),
            f"{name} bulb",
            "round",
            radius_moved,
            by_radius,
            rule,
        ),
        Handle(
            ("bulb offset", street, end),
            (float(inside[0]), float(inside[1])),
            f"{name} bulb offset",
            "round",
            offset_moved,
            by_offset,
            rule,
        ),
    )


def ribbon(q: Engine, street: str) -> tuple[Mark, ...]:
    """Bulbs at the ends of a street's strip."""
    found = []
    for end, head in heads_of(q, street):
        if isinstance(q.attempt(outline, street, end), Unsolved):
            continue
        at = [leaves_at(q, street, end, seen) for seen in ("left", "right")]
        total = chain_of(q, street).total
        a, b = (min(at), total + head.radius) if end == "end" else (-head.radius, max(at))
        found.append(Mark("head", "across", a, b, "bulb"))
    return tuple(found)
