"""The table of islands."""

from __future__ import annotations

from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.island.layout import island_name, islands_on, kerb_of, lip_levels, placed, plan_polygon
from humble_loop.kinds.island.way import way_round
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
            round_ = q.attempt(way_round, made.id)
            width = None if round_ is None or isinstance(round_, Unsolved) else round_.width
            corners = len(made.corners) or None
            row = (island_name(q, made.id), name_of(q, street), *placed(q, made), shape, area, low, high)
            out.append((*row, corners, "paved" if made.paved else "planted", width))
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
        "corners",
        "top",
        "least_way_round",
    )
    return Table(columns, tuple(out))


def way_table(q: Engine, of: str | None, every: float | None) -> Table:
    """The travelled ways round islands in heads: an element a row."""
    del every
    out: list[tuple[Any, ...]] = []
    for street in streets(q, of):
        for made in islands_on(q, street):
            round_ = q.attempt(way_round, made.id)
            if round_ is None or isinstance(round_, Unsolved) or round_.travelled is None:
                continue
            chain = round_.travelled
            for k, element in enumerate(chain.elements):
                ends = chain.points_at([chain.starts[k], chain.starts[k + 1]])
                radius = 1.0 / abs(element.k0) if element.k0 else None
                sweep = float(np.degrees(element.length * abs(element.k0)))
                turns = "left" if element.k0 > 0 else "right" if element.k0 < 0 else None
                out.append(
                    (
                        island_name(q, made.id),
                        k + 1,
                        element.kind,
                        turns,
                        element.length,
                        radius,
                        sweep,
                        *ends[0],
                        *ends[1],
                    )
                )
    columns = (
        "island",
        "element",
        "kind",
        "turns",
        "length",
        "radius",
        "sweep_deg",
        "start_easting",
        "start_northing",
        "end_easting",
        "end_northing",
    )
    return Table(columns, tuple(out), (("start_easting", "start_northing"), ("end_easting", "end_northing")))


TABLES = {"islands": island_table, "ways_round": way_table}
