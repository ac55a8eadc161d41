"""The table of islands."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.island.layout import island_name, islands_on, kerb_of, lip_levels, placed, plan_polygon
from humble_loop.kinds.street.plan import name_of
from humble_loop.kinds.street.tables import streets
from humble_loop.lines.table import Table


def island_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row an island: where it stands, its widths, its kerb, its area within the lip, and its lowest and highest lip."""
    del every
    out = []
    for street in streets(q, of):
        for made in islands_on(q, street):
            plan, levels, kerb = (
                q.attempt(plan_polygon, made.id),
                q.attempt(lip_levels, made.id),
                q.attempt(kerb_of, made),
            )
            known = not isinstance(levels, Unsolved) and bool(np.isfinite(levels).all())
            low, high = (float(np.min(levels)), float(np.max(levels))) if known else (None, None)  # type: ignore[arg-type]
            area = None if isinstance(plan, Unsolved) else float(plan.area)
            shape = None if isinstance(kerb, Unsolved) else kerb.name
            out.append((island_name(q, made.id), name_of(q, street), *placed(q, made), shape, area, low, high))
    columns = (
        "island",
        "street",
        "begin",
        "finish",
        "wide_begin",
        "wide_finish",
        "left",
        "kerb",
        "area",
        "lowest_lip",
        "highest_lip",
    )
    return Table(columns, tuple(out))


TABLES = {"islands": island_table}
