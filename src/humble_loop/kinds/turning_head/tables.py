"""The table of turning heads."""

from __future__ import annotations

from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import unique_chainages
from humble_loop.kinds.street.plan import name_of
from humble_loop.kinds.street.tables import solved, streets
from humble_loop.kinds.turning_head.layout import clear_of, leaves_at, outline
from humble_loop.kinds.turning_head.levels import ring_levels
from humble_loop.kinds.turning_head.place import head_name, heads_of
from humble_loop.kinds.turning_head.sizes import head_sizes
from humble_loop.lines.table import Table

_POINTS = tuple(
    f"{side}_{what}_tangent"
    for side, what in (("left", "straight"), ("left", "bulb"), ("right", "bulb"), ("right", "straight"))
)


def head_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row a head: sizes, tangent points, and the lip's own level at its turn."""
    del every
    out = []
    for street in streets(q, of):
        for end, head in heads_of(q, street):
            made = solved(q, of, outline, street, end)
            if made is None:
                continue
            levels = q.attempt(ring_levels, street, end)
            known = None if isinstance(levels, Unsolved) else levels
            ring, sizes = made.ring, head_sizes(q, street, end)
            at = (0.0, *made.ends, ring.total)
            bulb = head.kind == "bulb"
            kinds = (head.kind, sizes.radius if bulb else None, made.returns[0] or made.returns[1], head.offset)
            lengths = (made.ends[1] - made.ends[0], made.ends[0], ring.total - made.ends[1])
            radii = (sizes.radius if bulb else 0.0, *made.returns)
            sweeps = (float(np.degrees(v / r)) if r else None for v, r in zip(lengths, radii))
            out.append(
                (
                    head_name(q, street, end),
                    name_of(q, street),
                    *kinds,
                    known.outlet if known else None,
                    *made.centre,
                    known.centre if known else None,
                    ring.total,
                    *sweeps,
                    leaves_at(q, street, end, "left"),
                    leaves_at(q, street, end, "right"),
                    *(float(v) for p in ring.points_at(np.array(at)) for v in p),
                    float(known.rule.levels([known.turn])[0]) if known else None,
                    known.turn if known else None,
                    head.vehicle,
                    *made.returns,
                    *(
                        (None,) * 5
                        if bulb
                        else (sizes.left_arm, sizes.right_arm, sizes.arm_width, sizes.arm_angle, sizes.corner)
                    ),
                    ("its own" if head.vips else "radial") if known else None,
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
        "vehicle",
        "left_return_radius",
        "right_return_radius",
        "left_arm",
        "right_arm",
        "arm_width",
        "arm_angle_deg",
        "corner_radius",
        "levels",
    )
    places_ = (("centre_easting", "centre_northing"), *((f"{p}_easting", f"{p}_northing") for p in _POINTS))
    return Table(columns, tuple(out), places_)


def lip_table(q: Engine, of: str | None, every: float | None) -> Table:
    """The lip of every head at its key points, or at an interval: place, level, grade, and the fall from the centre."""
    out: list[tuple[Any, ...]] = []
    for street in streets(q, of):
        for end, _ in heads_of(q, street):
            made, levels = solved(q, of, outline, street, end), solved(q, of, ring_levels, street, end)
            if made is None or levels is None:
                continue
            ring = made.ring
            keys = (ring.key_chainages(), levels.rule.profile.key_chainages(), levels.drains)
            if every is not None:
                keys = ([0.0, ring.total], np.arange(0.0, ring.total, every), ())
            s = unique_chainages(*keys, low=0.0, high=ring.total)
            xy, z, away = ring.points_at(s), levels.rule.levels(s), clear_of(q, street, end, s)
            rows = zip(s, xy[:, 0], xy[:, 1], z, levels.rule.grades(s), (levels.centre - z) / away)
            out.extend((head_name(q, street, end), *row) for row in rows)
    columns = ("head", "distance", "easting", "northing", "level", "grade", "fall_from_centre")
    return Table(columns, tuple(out), (("easting", "northing"),))


TABLES = {"heads": head_table, "head_lips": lip_table}
