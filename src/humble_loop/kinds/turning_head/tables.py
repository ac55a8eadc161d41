"""The table of turning heads."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.street.plan import name_of
from humble_loop.kinds.street.tables import solved, streets
from humble_loop.kinds.turning_head.layout import head_name, heads_of, leaves_at, outline, ring_levels
from humble_loop.lines.table import Table

_POINTS = tuple(
    f"{side}_{what}_tangent"
    for side, what in (("left", "straight"), ("left", "bulb"), ("right", "bulb"), ("right", "straight"))
)


def head_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row a head: sizes, tangent points, and the lip's own level half way round."""
    del every
    out = []
    for street in streets(q, of):
        for end, head in heads_of(q, street):
            made = solved(q, of, outline, street, end)
            if made is None:
                continue
            levels = q.attempt(ring_levels, street, end)
            known = None if isinstance(levels, Unsolved) else levels
            ring = made.ring
            places = [*ring.xy[0], *ring.xy[1], *ring.xy[2], *ring.points_at([ring.total])[0]]
            sizes = (head.kind, head.radius, head.return_radius, head.offset, known.outlet if known else None)
            sweeps = (
                ring.length[1] / head.radius,
                ring.length[0] / head.return_radius,
                ring.length[2] / head.return_radius,
            )
            out.append(
                (
                    head_name(q, street),
                    name_of(q, street),
                    *sizes,
                    *made.centre,
                    known.centre if known else None,
                    ring.total,
                    *(float(np.degrees(v)) for v in sweeps),
                    leaves_at(q, street, end, "left"),
                    leaves_at(q, street, end, "right"),
                    *places,
                    float(known.rule.levels([known.turn])[0]) if known else None,
                    known.turn if known else None,
                )
            )
    columns = (
        "head",
        "street",
        "kind",
        "radius",
        "return_radius",
        "offset",
        "outlet",
        "centre_easting",
        "centre_northing",
        "centre_level",
        "lip_length",
        "bulb_sweep_deg",
        "left_return_sweep_deg",
        "right_return_sweep_deg",
        "left_tangent_chainage",
        "right_tangent_chainage",
        *(f"{p}_{axis}" for p in _POINTS for axis in ("easting", "northing")),
        "turn_level",
        "turn_distance",
    )
    places_ = (("centre_easting", "centre_northing"), *((f"{p}_easting", f"{p}_northing") for p in _POINTS))
    return Table(columns, tuple(out), places_)


TABLES = {"heads": head_table}
