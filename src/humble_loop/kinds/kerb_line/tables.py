"""The table of kerb lines."""

from __future__ import annotations

from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.kerb_line.levels import all_on, as_it_runs, levels_of, name_on, rule_of
from humble_loop.kinds.street.plan import StreetLine, name_of
from humble_loop.kinds.street.tables import streets
from humble_loop.lines.line import line
from humble_loop.lines.table import Table
from humble_loop.site.model import SIDES


def kerb_line_table(q: Engine, of: str | None, every: float | None) -> Table:
    """The VIPs of every kerb and boundary line, or its levels at an interval, with what is built there, the crown's level and a
    lip's crossfall from it.
    """
    out: list[tuple[Any, ...]] = []
    for street in streets(q, of):
        for side in SIDES:
            for id in all_on(q, street, side):
                k, p = as_it_runs(q, id), rule_of(q, levels_of(q, id)).profile
                s = np.array([v.chainage for v in k.vips])
                if every is not None:
                    s = np.unique(np.concatenate([np.arange(k.begin, k.finish, every), [k.finish]]))
                made = q.attempt(line, StreetLine(street))
                crown = np.full(len(s), np.nan) if isinstance(made, Unsolved) else made.rule.levels(s)
                own = line(q, StreetLine(street, name_on(q, street, side, k.point), side))
                width = np.abs(own.plan.offset(s)) if k.point == "lip" else np.full(len(s), np.nan)
                z, grade = p.level(s), p.grade(s)
                rows = zip(s, z, grade, own.rule.levels(s), crown, (crown - z) / width)
                out += [(name_of(q, street), side, k.point, *row) for row in rows]
    columns = ("street", "side", "point", "chainage", "level", "grade", "built", "crown", "crossfall")
    return Table(columns, tuple(out))


TABLES = {"kerblines": kerb_line_table}
