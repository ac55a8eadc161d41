"""The long sections of a junction's returns, one after another, and the levels that are set on them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import partial
from itertools import product
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.kinds.junction.corners import ReturnLine, change_corner, corner_choice, corner_name
from humble_loop.kinds.junction.model import LEAST_APART, ReturnLevel
from humble_loop.kinds.junction.nodes import Arm, CrossingArm, arms_at
from humble_loop.kinds.junction.windows import side_band, through_band
from humble_loop.kinds.street.plan import StreetLine, is_new
from humble_loop.lines.anchor import FOLLOWING, following_facts, moved_anchor
from humble_loop.lines.describe import (
    Fact,
    Handle,
    LineProfile,
    Place,
    ProfileMark,
    Sheet,
    SheetRow,
    Told,
    Typed,
)
from humble_loop.lines.line import Line, line
from humble_loop.lines.rules import CubicBetween
from humble_loop.site.edits import Edit, changed
from humble_loop.site.model import SIDES, Anchor, Side

_LIT = 0.4  # metres before and after a place that is lit up
_STEPS = 48  # places along a return at which its level is shown
_APART = 0.35  # of the longest return that lies between two of them
_DIGITS = 3  # of a level in metres that is dragged
_NEAR = 1.0  # metres from a level within which it is meant


@dataclass(frozen=True)
class WorkedReturn:
    """A return that could be worked out, with where it begins among those beside it."""

    street: str
    arm: Arm
    corner: Side
    begin: float
    made: Line
    rule: CubicBetween

    @property
    def place(self) -> tuple[str, Arm, Side]:
        """What its corner is asked by."""
        return self.street, self.arm, self.corner


@query
def returns_of(q: Engine, id: str) -> tuple[WorkedReturn, ...]:
    """The returns of a junction, one after another."""
    found: list[tuple[str, Arm, Side, Line, CubicBetween]] = []
    for (street, arm), corner in product(arms_at(q, id), SIDES):
        made = q.attempt(line, ReturnLine(street, arm, corner)) if is_new(q, street) else None
        if isinstance(made, Line) and isinstance(made.rule, CubicBetween):
            found.append((street, arm, corner, made, made.rule))
    apart = _APART * max((r.length for *_, r in found), default=0.0)
    begins = np.cumsum([0.0, *(r.length + apart for *_, r in found)])
    return tuple(WorkedReturn(*r[:3], float(s), *r[3:]) for s, r in zip(begins, found))


def profiles(q: Engine, id: str) -> tuple[LineProfile, ...]:
    """The long sections of a junction's returns, with what their fall windows leave them."""
    return tuple(_profile(q, r) for r in returns_of(q, id))


def _profile(q: Engine, r: WorkedReturn) -> LineProfile:
    cubic = r.rule.cubic
    s = np.unique(np.concatenate([np.linspace(0.0, r.rule.length, _STEPS), r.rule.at]))
    low, high = room(q, *r.place, s)
    choice = corner_choice(q, *r.place)
    marks = [ProfileMark(0.0, cubic.z0, "tied"), ProfileMark(r.rule.length, cubic.z1, "tied")]
    marks += [ProfileMark(t.chainage, t.level, f"{t.kind} point") for t in cubic.turning_points()]
    name = corner_name(q, *r.place).removesuffix(" corner")
    short = f"{r.arm}, {r.corner}" if isinstance(r.arm, CrossingArm) else r.corner
    title = f"{short}{', pit' if choice.pit else ''}"
    offers = partial(_offers, q, r)
    return LineProfile(
        title, name, ReturnLine(*r.place), r.begin, s, frozen(cubic.level(s)), low, high, tuple(marks), offers
    )


def room(q: Engine, street: str, arm: Arm, corner: Side, s: Floats) -> tuple[Floats, Floats]:
    """Lowest and highest levels (n,) that its fall windows leave a return at places along it (n,); infinite where there is none."""
    side, through = side_band(q, street, arm, corner, s), through_band(q, street, arm, corner, s)
    alone = through.on & ~side.beside
    low, high = (
        np.where(side.on, a, np.where(alone, b, e))
        for a, b, e in ((side.low, through.low, -np.inf), (side.high, through.high, np.inf))
    )
    return low, high


# Levels that are set


def set_levels(q: Engine, street: str, arm: Arm, corner: Side, levels: Sequence[ReturnLevel]) -> Edit:
    """The edit that lets a return go through levels."""
    return change_corner(q, street, arm, corner, levels=tuple(sorted(levels, key=lambda v: v.share)))


def _levels(q: Engine, r: WorkedReturn) -> tuple[ReturnLevel, ...]:
    return corner_choice(q, *r.place).levels


def _with(q: Engine, r: WorkedReturn, k: int | None, share: float, level: float) -> Edit:
    """The edit that sets the level ``k``, or a new one, at a share of the return."""
    inside, levels = round(float(np.clip(share, LEAST_APART, 1.0 - LEAST_APART)), 5), _levels(q, r)
    follows = None if k is None else levels[k].follows
    if follows is not None:  # it keeps following: by another fall
        follows = moved_anchor(q, follows, r.made.plan.points([inside * r.rule.length])[0], level)
    fresh = ReturnLevel(share=inside, level=round(level, _DIGITS), follows=follows)
    return set_levels(q, *r.place, [*(v for i, v in enumerate(levels) if i != k), fresh])


def let_follow(q: Engine, r: WorkedReturn, along: float, anchor: Anchor, level: float) -> Edit:
    """The edit that lets a return follow another line at a place, ``level`` being where it lies then: by the level that is there, or a new one."""
    levels, length = _levels(q, r), r.rule.length
    near = [k for k, v in enumerate(levels) if abs(v.share * length - along) <= _NEAR]
    share = levels[near[0]].share if near else float(np.clip(along / length, LEAST_APART, 1.0 - LEAST_APART))
    fresh = ReturnLevel(share=round(share, 5), level=round(level, _DIGITS), follows=anchor)
    return set_levels(q, *r.place, [*(v for k, v in enumerate(levels) if k not in near[:1]), fresh])


def _now(q: Engine, r: WorkedReturn, k: int) -> float:
    """The level ``k`` of a return as it lies."""
    return float(r.rule.cubic.level([_levels(q, r)[k].share * r.rule.length])[0])


def _without(q: Engine, r: WorkedReturn, k: int) -> Edit:
    return set_levels(q, *r.place, [v for i, v in enumerate(_levels(q, r)) if i != k])


def _offers(q: Engine, r: WorkedReturn, along: float, level: float) -> tuple[tuple[str, Edit], ...]:
    """What can be done at a place of a return's long section; what comes first is done by a double click."""
    found = [(f"Set a level {along:.2f} m along", _with(q, r, None, along / r.rule.length, level))]
    levels = _levels(q, r)
    if levels:
        k = int(np.argmin([abs(v.share * r.rule.length - along) for v in levels]))
        at = levels[k].share * r.rule.length
        found.append((f"Remove the level {at:.2f} m along", _without(q, r, k)))
        found.append(("Give its levels back", set_levels(q, *r.place, ())))
    pit = not corner_choice(q, *r.place).pit
    found.append(("Put a pit on it" if pit else "Take its pit away", change_corner(q, *r.place, pit=pit)))
    return tuple(found)


def level_removal(q: Engine, held: tuple[Any, ...]) -> Edit | None:
    """The edit that takes a level out by the key of its handle; None for any other handle."""
    if held[:1] != ("return level",):
        return None
    street, arm, corner, k = held[1:]
    levels = corner_choice(q, street, arm, corner).levels
    return set_levels(q, street, arm, corner, [v for i, v in enumerate(levels) if i != k])


def level_handles(q: Engine, id: str) -> tuple[Handle, ...]:
    """The levels set on a junction's returns, to be dragged in their long sections."""
    return tuple(_level_handle(q, r, k) for r in returns_of(q, id) for k in range(len(_levels(q, r))))


def _level_handle(q: Engine, r: WorkedReturn, k: int) -> Handle:
    old, length, was = _levels(q, r)[k], r.rule.length, _now(q, r, k)

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        share = (place[0] - r.begin) / length
        edit = _with(q, r, k, share, place[1])
        told = Told("level", "level", place[1], was), Told("along", "length", share * length, old.share * length)
        return edit, told

    typed = (
        Typed("level", "a level", lambda v: _with(q, r, k, old.share, v)),
        Typed("length", "a distance along", lambda v: _with(q, r, k, v / length, was), "d"),
    )
    key = ("return level", *r.place, k)
    title = f"{corner_name(q, *r.place)} level"
    return Handle(key, (r.begin + old.share * length, was), title, "square", moved, typed)


_COLUMNS = ("corner", "what", "along", "level", "grade in", "grade out", "lowest", "highest")


def level_sheet(q: Engine, id: str) -> Sheet:
    """The returns of a junction in rows: their ends, the levels set on them, and their high and low points."""
    rows: list[SheetRow] = []
    for r in returns_of(q, id):
        rows += _rows(q, r)
    arms = arms_at(q, id)
    note = "" if rows else "No return could be worked out"
    columns = (*_COLUMNS, *FOLLOWING) if any(len(r.cells) > len(_COLUMNS) for r in rows) else _COLUMNS
    filled = [replace(r, cells=(*r.cells, *[None] * (len(columns) - len(r.cells)))) for r in rows]
    return Sheet("Returns", StreetLine(arms[0][0] if arms else ""), columns, tuple(filled), note)


def _rows(q: Engine, r: WorkedReturn) -> list[SheetRow]:
    cubic, length, levels = r.rule.cubic, r.rule.length, _levels(q, r)
    name = f"{r.arm}, {r.corner}" if isinstance(r.arm, CrossingArm) else r.corner
    places: list[tuple[float, str, int | None]] = [(0.0, "through lip", None), (length, "side lip", None)]
    places += [(v.share * length, "level", k) for k, v in enumerate(levels)]
    places += [(t.chainage, f"{t.kind} point", None) for t in cubic.turning_points()]
    found: list[SheetRow] = []
    for s, what, k in sorted(places, key=lambda p: (p[0], p[2] is None)):
        z, grade = float(cubic.level([s])[0]), float(cubic.grade([s])[0])
        along, level, actions = Fact("along", "length", s), Fact("level", "level", z, "tied"), _add(q, r, s)
        held: tuple[object, ...] = ()
        source: tuple[Fact, ...] = ()
        if k is not None:
            along = Fact("along", "length", s, "set", partial(_moved, q, r, k))
            level = Fact("level", "level", z, "set", partial(_relevelled, q, r, k))
            actions, held = (("Remove", _without(q, r, k)),), ("return level", *r.place, k)
            if (anchor := levels[k].follows) is not None:
                level = Fact("level", "level", z, "tied", partial(_relevelled, q, r, k))
                source = following_facts(q, anchor, partial(_anchored, q, r, k))
                actions = (*actions, ("Set its level free", _anchored(q, r, k, None)))
        elif what not in ("through lip", "side lip"):
            level = Fact("level", "level", z)
        first = Fact("corner", "text", name if not found else "")
        grades = (
            Fact("grade in", "grade", grade) if s > 0.0 else None,
            Fact("grade out", "grade", grade) if s < length else None,
        )
        edges = [
            Fact(label, "level", float(v[0])) if np.isfinite(v[0]) else None
            for label, v in zip(("lowest", "highest"), room(q, *r.place, np.array([s])))
        ]
        lit = r.made.plan.points(np.linspace(max(s - _LIT, 0.0), min(s + _LIT, length), 8))
        cells = (first, Fact("what", "text", what), along, level, *grades, *edges, *source)
        found.append(SheetRow(cells, (0.0, -1.0), lit, held=held, actions=actions))
    return found


def _add(q: Engine, r: WorkedReturn, s: float) -> tuple[tuple[str, Edit], ...]:
    """What can be done with a row of a place that has no level of its own: set one there, or from an end half way to what comes next."""
    length = r.rule.length
    stops = [0.0, *(v.share * length for v in _levels(q, r)), length]
    if s in (0.0, length):
        s = 0.5 * (stops[0] + stops[1]) if s == 0.0 else 0.5 * (stops[-2] + stops[-1])
    z = float(r.rule.cubic.level([s])[0])
    return ((f"Set the level at {s:.2f}", _with(q, r, None, s / length, z)),)


def _moved(q: Engine, r: WorkedReturn, k: int, along: float) -> Edit:
    return _with(q, r, k, along / r.rule.length, _now(q, r, k))


def _anchored(q: Engine, r: WorkedReturn, k: int, anchor: Anchor | None) -> Edit:
    """The edit that lets the level ``k`` follow by another anchor, or sets it free where it lies."""
    levels = list(_levels(q, r))
    levels[k] = changed(levels[k], follows=anchor, level=round(_now(q, r, k), _DIGITS))
    return set_levels(q, *r.place, levels)


def _relevelled(q: Engine, r: WorkedReturn, k: int, level: float) -> Edit:
    return _with(q, r, k, _levels(q, r)[k].share, level)
