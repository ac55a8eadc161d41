"""A tie's values in facts and rows, and in plan with leaders to what it follows."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.street.plan import StreetLine, centreline, chain_of, is_new
from humble_loop.kinds.street.side import course
from humble_loop.kinds.street.side_levels import section_rule
from humble_loop.kinds.tie.beginning import could_follow, first_source, read, tied, written
from humble_loop.kinds.tie.levels import ROLE, levels_of, plan_of, reach_of, source_line, tie_of, title_of
from humble_loop.kinds.tie.model import LevelTie, set_tie
from humble_loop.kinds.tie.source import beside_source, words_of
from humble_loop.lines.abreast import abreast
from humble_loop.lines.describe import Actions, Choice, Drawing, Fact, Note, Row, Sheet, SheetRow, Stroke, joined_up
from humble_loop.lines.line import line, line_plan
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.model import SIDES

_COLUMNS = ("chainage", "source", "difference", "tied to", "by its section", "built", "moved by")
_HOW = (("at", "at its level"), ("least", "no lower than it"))
_SAG = 0.05  # metres between what is lit up and the line
_LEADERS = 15.0  # metres between leaders in plan
_ROWS = 40  # rows of the sheet at most


def facts_of(q: Engine, id: str) -> tuple[Row, ...]:
    """What it follows, how much above it, where, and leaving it."""
    t, k = parts.one(q, LevelTie, id), q.attempt(tie_of, id)
    remove = Actions((("Remove the tie", lambda s: s.without(LevelTie, id)),))
    if isinstance(k, Unsolved):
        return (Note(f"{k.message}; {k.remedy}"), remove)
    turned = k.side != t.side

    def to(key: str) -> Callable[[Any], Edit]:
        opposite = {"taper_in": "taper_out", "taper_out": "taper_in", "rise_in": "rise_out", "rise_out": "rise_in"}
        kept = opposite[key] if turned else key
        return lambda value: lambda s: set_tie(s, id, **{kept: value})

    def along(key: str) -> Callable[[float], Edit]:
        total = chain_of(q, k.street).total
        if turned:
            return lambda v: lambda s: set_tie(s, id, **{{"begin": "finish", "finish": "begin"}[key]: total - v})
        return lambda v: lambda s: set_tie(s, id, **{key: v})

    options = [(written(s), words) for s, words in could_follow(q, k.street, k.side, k.name)]
    current = written(k.source)
    if current not in [o for o, _ in options]:
        options.insert(0, (current, words_of(q, k.source, k.street)))
    return (
        Choice("follows", tuple(options), current, lambda v: lambda s: set_tie(s, id, source=read(v))),
        Choice("how", _HOW, "least" if k.least else "at", lambda v: lambda s: set_tie(s, id, least=v == "least")),
        Fact("above it at its start", "level", k.rise[0], "set", to("rise_in")),
        Fact("above it at its end", "level", k.rise[1], "set", to("rise_out")),
        Fact("from", "chainage", k.begin, "set", along("begin")),
        Fact("to", "chainage", k.finish, "set", along("finish")),
        Fact("taper at its start", "length", k.taper_in, "set", to("taper_in")),
        Fact("taper at its end", "length", k.taper_out, "set", to("taper_out")),
        remove,
    )


def facts_about_street(q: Engine, street: str) -> tuple[Row, ...]:
    """Tying a street's lips and boundaries."""
    if not is_new(q, street) or isinstance(q.attempt(centreline, street), Unsolved):
        return ()
    found: list[tuple[str, Edit]] = []
    for name, words in (("lip", "lip"), ("", "boundary")):
        for side in SIDES:
            point = name or course(q, street, side).names[-1]
            if not isinstance(q.attempt(line_plan, StreetLine(street, point, side)), Unsolved):
                found.append((f"Tie the {side} {words}", tied(q, street, side, point, first_source(q, street, side))))
    return (Actions(tuple(found)),) if found else ()


def sheet_of(q: Engine, id: str) -> Sheet:
    """A tie's levels along it."""
    k, own = tie_of(q, id), levels_of(q, id)
    there = q.attempt(reach_of, id)
    if isinstance(there, Unsolved) or there is None:
        words = there.message if isinstance(there, Unsolved) else "what it follows is not beside it"
        return Sheet("Tie", own, _COLUMNS, (), f"{title_of(q, id)}: {words}")
    begin, finish = there
    n = int(np.clip(np.ceil((finish - begin) / parts.settings(q).row_interval), 1, _ROWS))
    s = np.linspace(begin, finish, n + 1)
    plan, rule = plan_of(q, own), line(q, own).rule
    source, _ = beside_source(q, k.source, plan, s)
    rise = np.interp(s, [k.begin, k.finish], k.rise)
    before = section_rule(q, k.street, k.side, course(q, k.street, k.side).names.index(k.name)).levels(s)
    built = line(q, StreetLine(k.street, k.name, k.side)).rule.levels(s)
    rows = [_row(plan.points([at]), values) for at, *values in zip(s, s, source, rise, rule.levels(s), before, built)]
    return Sheet("Tie", own, _COLUMNS, tuple(rows), title_of(q, id))


def _row(place: Floats, values: list[float]) -> SheetRow:
    s, source, rise, tied_to, before, built = (float(v) for v in values)
    cells = (
        Fact("chainage", "chainage", s),
        Fact("source", "level", source),
        Fact("difference", "level", rise),
        Fact("tied to", "level", tied_to, "tied"),
        Fact("by its section", "level", before),
        Fact("built", "level", built),
        Fact("moved by", "level", built - before),
    )
    return SheetRow(cells, (s, s), place)


def drawing_of(q: Engine, id: str) -> Drawing:
    """The stretch in plan, with leaders to the line that it follows."""
    plan = plan_of(q, levels_of(q, id))
    runs = [plan.points(s) for s in plan.runs(_SAG)]
    strokes = [Stroke(ROLE, joined_up(runs))]
    followed = q.attempt(source_line, id)
    other = None if followed is None or isinstance(followed, Unsolved) else q.attempt(line_plan, followed)
    if other is not None and not isinstance(other, Unsolved) and plan.end > plan.start:
        n = max(2, int((plan.end - plan.start) / _LEADERS) + 1)
        here = plan.points(np.linspace(plan.start, plan.end, n))
        found = abreast(other, here)
        there = other.points(np.clip(found.at, other.start, other.end))
        leaders = [np.stack([a, b]) for a, b, on in zip(here, there, found.there) if on]
        strokes.append(Stroke("leader", joined_up(leaders)))
    return Drawing(tuple(strokes))
