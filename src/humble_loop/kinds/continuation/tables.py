"""The table of continuations."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine
from humble_loop.kinds.continuation.checks import grades_at
from humble_loop.kinds.continuation.meets import all_continuations, name_at
from humble_loop.kinds.continuation.show import level_at
from humble_loop.kinds.street.plan import end_chainage, name_of
from humble_loop.lines.table import NoSuchTable, Table
from humble_loop.site import parts


def continuation_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row a continuation: who holds and who follows, where on each, the level there, and the grade on either side of it."""
    del every
    out = []
    for made in all_continuations(q):
        holds, follows = made.holds, made.follows
        names = [name_of(q, t.street) for t in (holds, follows)]
        if of is not None and of not in (name_at(q, made), holds.street, follows.street, *names):
            continue
        ends = [end_chainage(q, t.street, t.end) for t in (holds, follows)]
        grades = grades_at(q, made) or (None, None)
        east, north = made.place + np.array(parts.origin(q))
        out.append((name_at(q, made), *names, *ends, level_at(q, made), *grades, made.taper, float(east), float(north)))
    if of is not None and not out:
        known = ", ".join(name_at(q, made) for made in all_continuations(q)) or "none"
        raise NoSuchTable(f"there is no continuation '{of}'; there are {known}")
    columns = (
        "continuation",
        "holds",
        "follows",
        "holds_chainage",
        "follows_chainage",
        "level",
        "holds_grade",
        "follows_grade",
        "taper",
        "easting",
        "northing",
    )
    return Table(columns, tuple(out))


TABLES = {"continuations": continuation_table}
