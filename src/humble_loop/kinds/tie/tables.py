"""The table of ties."""

from __future__ import annotations

from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.street.plan import StreetLine, name_of
from humble_loop.kinds.street.side import course
from humble_loop.kinds.street.side_levels import section_rule
from humble_loop.kinds.street.tables import streets
from humble_loop.kinds.tie.levels import levels_of, plan_of, reach_of, tie_of
from humble_loop.kinds.tie.model import LevelTie
from humble_loop.kinds.tie.source import beside_source, words_of
from humble_loop.lines.line import line
from humble_loop.lines.table import Table
from humble_loop.site import parts

_COLUMNS = (
    "street", "side", "point", "from", "to", "follows", "no_lower", "chainage", "source", "difference", "tied", "section", "built"
)  # fmt: skip


def tie_table(q: Engine, of: str | None, every: float | None) -> Table:
    """Every tie at both ends of its stretch, or at an interval: its source's level, the difference, the level that it is tied to, where
    the section would have it, and what is built.
    """
    out: list[tuple[Any, ...]] = []
    for street in streets(q, of):
        for t in parts.owned(q, LevelTie, street):
            out += _rows(q, street, t.id, every)
    return Table(_COLUMNS, tuple(out))


def _rows(q: Engine, street: str, id: str, every: float | None) -> list[tuple[Any, ...]]:
    k = q.attempt(tie_of, id)
    if isinstance(k, Unsolved):
        return []
    first = name_of(q, street), k.side, k.point, k.begin, k.finish, words_of(q, k.source, street), k.least
    if isinstance(q.attempt(reach_of, id), Unsolved):
        return [(*first, *(None,) * 6)]
    s = np.array([k.begin, k.finish])
    if every is not None:
        s = np.unique(np.concatenate([np.arange(k.begin, k.finish, every), s]))
    own, plan = line(q, levels_of(q, id)).rule, plan_of(q, levels_of(q, id))
    source, _ = beside_source(q, k.source, plan, s)
    rise = np.interp(s, [k.begin, k.finish], k.rise)
    before = section_rule(q, street, k.side, course(q, street, k.side).names.index(k.name)).levels(s)
    built = line(q, StreetLine(street, k.name, k.side)).rule.levels(s)
    return [(*first, *row) for row in zip(s, source, rise, own.levels(s), before, built)]


TABLES = {"ties": tie_table}
