"""Fall windows in facts and rows, in plan, and the room that they leave a line."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.fall_window.levels import (
    all_windows,
    edges_at,
    room_on,
    target_of,
    title_of,
    window_of,
    window_runs,
)
from humble_loop.kinds.fall_window.model import FallWindow, add_window, set_window
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, is_new
from humble_loop.kinds.street.side import drawn_side
from humble_loop.kinds.tie.beginning import could_follow, point_name, read, written
from humble_loop.kinds.tie.model import Source
from humble_loop.kinds.tie.source import words_of
from humble_loop.lines.describe import (
    Actions,
    Choice,
    Drawing,
    Fact,
    Note,
    Row,
    Sheet,
    SheetRow,
    Stroke,
    Unit,
    joined_up,
)
from humble_loop.lines.line import LineId, line, line_plan
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.model import SIDES

ROLE = "fall window"
_MEASURES = (("fall", "fall to the line"), ("height", "height of the line above it"))
_COLUMNS = ("chainage", "source", "distance", "lowest", "level", "highest", "fall")
_ROOM = ("chainage", "lowest", "because of", "level", "highest", "because of it", "room")
_SAG = 0.05  # metres between what is lit up and the line
_ROWS = 60  # rows of a sheet at most


def facts_of(q: Engine, id: str) -> tuple[Row, ...]:
    """What it asks, of what and from what, and leaving it."""
    w, runs = parts.one(q, FallWindow, id), q.attempt(window_runs, id)
    remove: tuple[str, Edit] = ("Remove the window", lambda s: s.without(FallWindow, id))
    if isinstance(runs, Unsolved):
        return (Note(f"{runs.message}; {runs.remedy}"), Actions((remove,)))
    turned, total = frame_of(q, w.street).turned, chain_of(q, w.street).total
    unit: Unit = "grade" if w.measure == "fall" else "level"

    def to(key: str) -> Callable[[Any], Edit]:
        return lambda value: lambda s: set_window(s, id, **{key: value})

    def along(key: str) -> Callable[[float], Edit]:
        if turned:
            return lambda v: lambda s: set_window(s, id, **{{"begin": "finish", "finish": "begin"}[key]: total - v})
        return to(key)

    options = [(written(s), words) for s, words in _sources(q, runs.line)]
    current = written(w.source)
    if current not in [o for o, _ in options]:
        options.insert(0, (current, words_of(q, w.source, w.street)))
    rows: list[Row] = [
        Choice("from", tuple(options), current, lambda v: lambda s: set_window(s, id, source=read(v))),
        Choice("asks for", _MEASURES, w.measure, lambda v: _measured(id, v)),
        _limit("at least", unit, w.least, to("least")),
        _limit("at most", unit, w.most, to("most")),
        Fact("from so much above it", "level", w.rise, "set", to("rise")),
    ]
    if w.measure == "fall":
        rows.append(Fact("over more than the distance", "length", w.beyond, "set", to("beyond")))
    rows += [
        Fact("begins", "chainage", runs.begin, "set", along("begin")),
        Fact("ends", "chainage", runs.finish, "set", along("finish")),
    ]
    open_ends: list[tuple[str, Edit]] = []
    for key, words in (("least", "No least"), ("most", "No most")):
        if getattr(w, key) is not None:
            open_ends.append((words, lambda s, key=key: set_window(s, id, **{key: None})))  # type: ignore[misc]
    return (*rows, Actions((*open_ends, remove)))


def _limit(label: str, unit: Unit, value: float | None, to: Callable[[Any], Edit]) -> Fact:
    return Fact(label, unit, float("nan") if value is None else value, "set", to)


def _measured(id: str, measure: str) -> Edit:
    """Another measure, with limits that are typical of it."""
    least, most = (0.01, 0.06) if measure == "fall" else (0.04, None)
    return lambda s: set_window(s, id, measure=measure, least=least, most=most)


def _sources(q: Engine, target: StreetLine) -> tuple[tuple[Source, str], ...]:
    sides = SIDES if target.side is None else (target.side,)
    found: dict[str, tuple[Source, str]] = {}
    for side in sides:
        for source, words in could_follow(q, target.street, side, target.point):
            found.setdefault(written(source), (source, words))
    return tuple(found.values())


def adding(q: Engine, target: StreetLine, span: tuple[float, float]) -> Edit | None:
    """The edit that gives a line a fall window over a stretch, with a source and limits that are typical: a crown 40 mm above the
    ground, as an overlay needs; a lip falls of a path from its boundary; any other point falls from its lip up.
    """
    street, turned, total = target.street, frame_of(q, target.street).turned, chain_of(q, target.street).total
    if not is_new(q, street) or span[1] - span[0] < 1.0:
        return None
    begin, finish = (total - span[1], total - span[0]) if turned else span
    begin, finish = round(begin, 4), round(finish, 4)
    if target.side is None:
        return lambda s: add_window(s, street, None, "crown", Source(), begin, finish, measure="height", least=0.04)
    drawn, point = drawn_side(q, street, target.side), point_name(q, street, target.side, target.point)
    if point == "lip":
        source = Source(what="point", of=street, point="boundary", side=drawn)
        return lambda s: add_window(s, street, drawn, point, source, begin, finish, least=0.01, most=0.06)
    source = Source(what="point", of=street, point="lip", side=drawn)
    return lambda s: add_window(s, street, drawn, point, source, begin, finish, least=-0.06, most=-0.01)


def facts_about_line(q: Engine, id: LineId) -> tuple[Row, ...]:
    """Asking something of a line."""
    target = target_of(q, id)
    plan = None if target is None else q.attempt(line_plan, id)
    if target is None or plan is None or isinstance(plan, Unsolved):
        return ()
    edit = adding(q, target, (plan.start, plan.end))
    return () if edit is None else (Actions((("Add a fall window", edit),)),)


def sheet_of(q: Engine, id: str) -> Sheet:
    """A fall window along its line."""
    runs, made = window_runs(q, id), q.attempt(window_of, id)
    if isinstance(made, Unsolved) or made is None:
        return Sheet("Fall window", runs.line, _COLUMNS, (), f"{title_of(q, id)}: its source is not there")
    w, plan = parts.one(q, FallWindow, id), line_plan(q, runs.line)
    s = _even(q, float(made.chainages[0]), float(made.chainages[-1]))
    low, high, z, away = edges_at(q, id, s)
    own = q.attempt(line, runs.line)
    built = np.full(len(s), np.nan) if isinstance(own, Unsolved) else own.rule.levels(s)
    rows = []
    for at, lowest, highest, source, run, level in zip(s, low, high, z, away, built):
        over = float(run) + w.beyond
        cells = (
            Fact("chainage", "chainage", float(at)),
            Fact("source", "level", float(source)),
            Fact("distance", "length", float(run)),
            Fact("lowest", "level", float(lowest)) if np.isfinite(lowest) else None,
            Fact("level", "level", float(level)),
            Fact("highest", "level", float(highest)) if np.isfinite(highest) else None,
            Fact("fall", "grade", (float(source) + w.rise - float(level)) / over) if over > 0.05 else None,
        )
        rows.append(SheetRow(cells, (float(at), float(at)), plan.points([at])))
    return Sheet("Fall window", runs.line, _COLUMNS, tuple(rows), title_of(q, id))


def _even(q: Engine, begin: float, finish: float) -> np.ndarray:
    n = int(np.clip(np.ceil((finish - begin) / parts.settings(q).row_interval), 1, _ROWS))
    return np.linspace(begin, finish, n + 1)


def room_sheet(q: Engine, id: LineId) -> Sheet:
    """The room that all fall windows of a line leave together, and which of them bound it."""
    every, plan, made = all_windows(q, id), line_plan(q, id), q.attempt(line, id)
    rows = []
    for room in room_on(q, id):
        for s in _even(q, float(room.chainages[0]), float(room.chainages[-1])):
            k = int(np.argmin(np.abs(room.chainages - s)))
            at, low, high = float(room.chainages[k]), float(room.low[k]), float(room.high[k])
            level = np.nan if isinstance(made, Unsolved) else float(made.rule.levels([at])[0])
            left = high - low
            cells = (
                Fact("chainage", "chainage", at),
                Fact("lowest", "level", low) if np.isfinite(low) else None,
                Fact("because of", "text", every[int(room.low_of[k])].told) if np.isfinite(low) else None,
                Fact("level", "level", float(level)),
                Fact("highest", "level", high) if np.isfinite(high) else None,
                Fact("because of it", "text", every[int(room.high_of[k])].told) if np.isfinite(high) else None,
                Fact("room", "level", left, "worked out" if left >= 0 else "set") if np.isfinite(left) else None,
            )
            rows.append(SheetRow(cells, (at, at), plan.points([np.clip(at, plan.start, plan.end)])))
    note = f"{len(every)} fall windows of {plan.title}" if every else "No fall windows; add one in the facts"
    return Sheet("Room left", id, _ROOM, tuple(rows[:_ROWS]), note)


def drawing_of(q: Engine, id: str) -> Drawing:
    """The stretch of its line in plan."""
    runs = window_runs(q, id)
    plan = line_plan(q, runs.line)
    low, high = max(runs.begin, plan.start), min(runs.finish, plan.end)
    runs_of = [np.unique(np.clip(s, low, high)) for s in plan.runs(_SAG)]
    return Drawing((Stroke(ROLE, joined_up([plan.points(s) for s in runs_of if len(s) > 1])),))
