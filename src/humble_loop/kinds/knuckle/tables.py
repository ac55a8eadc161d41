"""The table of knuckles."""

from __future__ import annotations

from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.knuckle.layout import (
    elbow,
    knuckle_name,
    knuckles_on,
    lip_rule,
    ring,
    rings_of,
    side_of,
    sizes_of,
)
from humble_loop.kinds.street.plan import name_of
from humble_loop.kinds.street.tables import solved, streets
from humble_loop.lines.table import Table

_COLUMNS = (
    "knuckle",
    "street",
    "lip",
    "side",
    "bend_middle",
    "begin",
    "finish",
    "radius",
    "return_radius",
    "sweep_deg",
    "length",
    "centre_easting",
    "centre_northing",
    "begin_easting",
    "begin_northing",
    "middle_easting",
    "middle_northing",
    "finish_easting",
    "finish_northing",
    "begin_level",
    "middle_level",
    "finish_level",
)


def knuckle_table(q: Engine, of: str | None, every: float | None) -> Table:
    """A row for the outer lip of every knuckle, and one for the inner where it has its own."""
    del every
    out: list[tuple[Any, ...]] = []
    for street in streets(q, of):
        for k in knuckles_on(q, street):
            if solved(q, of, ring, k.id, "outer") is None:
                continue
            for which in rings_of(q, k.id):
                made, rule = ring(q, k.id, which), q.attempt(lip_rule, k.id, which)
                at = [0.0, made.middle, made.chain.total]
                z = [None] * 3 if isinstance(rule, Unsolved) else [float(v) for v in rule.levels(at)]
                middle = int(np.argmax(made.chain.length)) if which == "inner" else 1
                sweep = float(np.degrees(made.chain.length[middle] * abs(made.chain.k0[middle])))
                returns = sizes_of(q, k.id).returns if which == "outer" else None
                head = (knuckle_name(q, k.id), name_of(q, street), which, side_of(q, k.id, which))
                sizes = (elbow(q, k.id).middle, made.begin, made.finish, made.radius, returns, sweep, made.chain.total)
                places = (v for p in (made.centre, *made.chain.points_at(at)) for v in p.tolist())
                out.append((*head, *sizes, *places, *z))
    pairs = tuple((f"{p}_easting", f"{p}_northing") for p in ("centre", "begin", "middle", "finish"))
    return Table(_COLUMNS, tuple(out), pairs)


TABLES = {"knuckles": knuckle_table}
