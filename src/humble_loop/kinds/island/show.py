"""How an island shows itself, and how it is taken in hand."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.island.checks import LEAST_LANE
from humble_loop.kinds.island.layout import IslandLine, island_name, island_of, islands_on, names_of, outline, placed
from humble_loop.kinds.island.model import add_island, remove_island, set_island
from humble_loop.kinds.junction.corners import Return, kerb_return
from humble_loop.kinds.junction.layout import throat
from humble_loop.kinds.junction.nodes import Arm, CrossingArm, arms_at, require_joint
from humble_loop.kinds.street.plan import chain_of, frame_of, is_new, name_of
from humble_loop.kinds.street.side import lip_width
from humble_loop.lines.describe import (
    Actions,
    Choice,
    Drawing,
    Fact,
    Handle,
    Note,
    Place,
    Row,
    Stroke,
    Told,
    Typed,
    joined_up,
)
from humble_loop.lines.line import line_plan
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.library import KerbShape
from humble_loop.site.model import SIDES

_SAG = 0.01  # metres between a drawn chord and its curve
_BACK = 1.0  # metres from the throat to an island that is proposed there
_NARROWEST, _WIDEST = 1.0, 2.0  # metres that it is wide there: a shipped kerb on both sides, or somebody with a pram
_BEHIND = 1.2  # metres that it is wide at its other end, at most
_LONG = 10.0  # metres that it is long
_LEAST = 0.4  # metres of a width that is dragged


def drawing(q: Engine, id: str) -> Drawing:
    """The lip, and the back of its kerb."""
    by_role: dict[str, list[Floats]] = {}
    for name, role in ((names_of(q, id)[0], "return"), (names_of(q, id)[-1], "kerb")):
        plan = q.attempt(line_plan, IslandLine(id, name))
        if not isinstance(plan, Unsolved):
            by_role.setdefault(role, []).extend(plan.points(s) for s in plan.runs(_SAG))
    return Drawing(tuple(Stroke(role, joined_up(runs)) for role, runs in by_role.items()))


def facts(q: Engine, id: str) -> tuple[Row, ...]:
    """Where an island stands, its widths and its kerb."""
    made, name = island_of(q, id), island_name(q, id)
    begin, finish, wide_begin, wide_finish, beside = placed(q, made)
    given = bool(made.name)
    rename = _to(id, "name")
    rows: list[Row] = [
        Fact(
            "name",
            "text",
            name,
            "set" if given else "proposed",
            lambda v: rename(v or None),
            rename(None if given else name),
        )
    ]
    turned, total = frame_of(q, made.street).turned, chain_of(q, made.street).total

    def place(key: str) -> Callable[[float], Edit]:
        return lambda v: _to(id, key)(total - v if turned else v)

    first, last = ("finish", "begin") if turned else ("begin", "finish")
    rows += [
        Fact("from", "chainage", begin, "set", place(first)),
        Fact("to", "chainage", finish, "set", place(last)),
        Fact("wide where it begins", "size", wide_begin, "set", _to(id, f"wide_{first}")),
        Fact("wide where it ends", "size", wide_finish, "set", _to(id, f"wide_{last}")),
        Fact("left of the centreline", "length", beside, "set", lambda v: _to(id, "beside")(-v if turned else v)),
    ]
    kerbs = [("", "as the section's"), *((i, parts.one(q, KerbShape, i).name) for i in parts.ids(q, KerbShape))]
    rows.append(Choice("kerb", tuple(kerbs), made.kerb, _to(id, "kerb")))
    rows.append(Actions(((f"Take {name} away", lambda s: remove_island(s, id)),)))
    return tuple(rows)


def _to(id: str, key: str) -> Callable[[Any], Edit]:
    return lambda value: lambda s: set_island(s, id, **{key: value})


def about_street(q: Engine, street: str) -> tuple[Row, ...]:
    """A street's islands, for its facts."""
    rows: list[Row] = []
    for made in islands_on(q, street):
        rows += [Note(island_name(q, made.id)), *facts(q, made.id)]
    return tuple(rows)


def splitter(q: Engine, street: str, arm: Arm) -> Edit | None:
    """The edit that puts an island before a junction, on the side street's centreline: it begins a metre behind the throat; None where
    the street is existing, or too short for one.
    """
    t = q.attempt(throat, street, arm)
    if isinstance(t, Unsolved) or not is_new(q, street):
        return None
    j, total = require_joint(q, street, arm), chain_of(q, street).total
    ends = sorted(t.place.side_chainage + j.way * u for u in (_BACK + 1.0, _BACK + _LONG))
    if ends[0] < 0.0 or ends[1] > total:
        return None
    # As wide as leaves a lane on both sides, if its kerb has room in that.
    room = sum(lip_width(q, street, side).one(t.place.side_chainage) for side in SIDES) - 2.0 * LEAST_LANE
    near = float(np.clip(np.floor(10.0 * room) / 10.0, _NARROWEST, _WIDEST))
    wide = (near, min(near, _BEHIND)) if j.way > 0 else (min(near, _BEHIND), near)
    if frame_of(q, street).turned:
        ends, wide = [total - ends[1], total - ends[0]], wide[::-1]
    return lambda s: add_island(s, street, ends[0], ends[1], wide_begin=wide[0], wide_finish=wide[1])


def nose(q: Engine, id: str, way: int) -> tuple[str, Edit] | None:
    """Words and the edit that put an island on the centreline of the street that runs through a junction, beyond its returns onwards (+1) or
    back (-1): the nose of a median, or a refuge. None where the street is existing or too short.
    """
    arms = arms_at(q, id)
    through = require_joint(q, *arms[0]).through if arms else ""
    if not through or not is_new(q, through):
        return None
    made = [q.attempt(kerb_return, *arm, corner) for arm in arms for corner in SIDES]
    at = [m.through_at for m in made if isinstance(m, Return)]
    total = chain_of(q, through).total
    if not at:
        return None
    begin = max(at) if way > 0 else min(at)
    low, high = sorted(begin + way * u for u in (_BACK + 0.5 * _BEHIND, _BACK + _LONG))
    if low < 0.0 or high > total:
        return None
    if frame_of(q, through).turned:
        low, high = total - high, total - low
    words = f"Island on {name_of(q, through)} {'beyond' if way > 0 else 'before'} it"
    return words, lambda s: add_island(s, through, low, high, wide_begin=_BEHIND, wide_finish=_BEHIND)


def about_junction(q: Engine, id: str) -> tuple[Row, ...]:
    """Islands that can be put on the legs of a junction, for its facts."""
    offers = []
    for street, arm in arms_at(q, id):
        if (edit := splitter(q, street, arm)) is not None:
            where = f", {arm}" if isinstance(arm, CrossingArm) else ""
            offers.append((f"Island on {name_of(q, street)}{where}", edit))
    offers += [made for way in (-1, 1) if (made := nose(q, id, way)) is not None]
    return (Actions(tuple(offers)),) if offers else ()


def handles(q: Engine, id: str) -> tuple[Handle, ...]:
    """Both ends, dragged along the street and beside it, and the sides at the ends, to make it wider."""
    made = island_of(q, id)
    if isinstance(q.attempt(outline, id), Unsolved):
        return ()
    return tuple(h for end in ("begin", "finish") for h in (_end(q, id, end), _width(q, id, end)) if made)


def _end(q: Engine, id: str, end: str) -> Handle:
    made, chain = island_of(q, id), chain_of(q, island_of(q, id).street)
    begin, finish, *_, beside = placed(q, made)
    at = begin if end == "begin" else finish
    turned = frame_of(q, made.street).turned
    key = {"begin": "finish", "finish": "begin"}[end] if turned else end
    east, north = chain.points_at([at], [beside])[0].tolist()

    def edit_for(s: float) -> Edit:
        return _to(id, key)(chain.total - s if turned else s)

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        s = float(np.clip(chain.feet([place]).chainages[0], 0.0, chain.total))
        s = round(min(s, finish) if end == "begin" else max(s, begin), 1)
        return edit_for(s), (Told("at", "chainage", s, at),)

    title = f"{island_name(q, id)} {'beginning' if end == 'begin' else 'end'}"
    return Handle(
        ("island end", id, end), (east, north), title, "square", moved, (Typed("chainage", "a chainage", edit_for),)
    )


def _width(q: Engine, id: str, end: str) -> Handle:
    made, chain = island_of(q, id), chain_of(q, island_of(q, id).street)
    begin, finish, wide_begin, wide_finish, beside = placed(q, made)
    at, wide = (begin, wide_begin) if end == "begin" else (finish, wide_finish)
    key = {"begin": "finish", "finish": "begin"}[end] if frame_of(q, made.street).turned else end
    east, north = chain.points_at([at], [beside + 0.5 * wide])[0].tolist()

    def edit_for(value: float) -> Edit:
        return _to(id, f"wide_{key}")(value)

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        value = max(_LEAST, round(2.0 * abs(float(chain.feet([place]).offsets[0]) - beside), 2))
        return edit_for(value), (Told("wide", "length", value, wide),)

    title = f"{island_name(q, id)} width"
    return Handle(
        ("island width", id, end), (east, north), title, "round", moved, (Typed("size", "a width", edit_for),)
    )
