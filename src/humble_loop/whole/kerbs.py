"""The table of kerbs that are no street's own: of junctions, roundabouts, heads, knuckles and islands, element by element with centres and radii."""

from __future__ import annotations

from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import left_normals
from humble_loop.lines.line import Line, ThingId, line
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.lines.table import NoSuchTable, Table
from humble_loop.whole.things import name_of, things_of

KINDS = ("junction", "roundabout", "turning_head", "knuckle", "island")
_COLUMNS = (
    "thing",
    "line",
    "element",
    "kind",
    "turns",
    "length",
    "radius",
    "sweep_deg",
    "centre_easting",
    "centre_northing",
    "start_easting",
    "start_northing",
    "start_level",
    "start_grade",
    "end_easting",
    "end_northing",
    "end_level",
    "end_grade",
)


def kerb_table(q: Engine, of: str | None, every: float | None) -> Table:
    """Each element of each lip: straights, and arcs with their centres, with place, level and grade at both ends."""
    del every
    things = [thing for thing in _things(q) if of in (None, name_of(q, thing), thing.id)]
    if of is not None and not things:
        raise NoSuchTable(f"there is no junction, roundabout, head, knuckle or island called '{of}'")
    out = [row for thing in things for made in _lips(q, thing) for row in _elements(name_of(q, thing), made)]
    places = tuple((f"{p}_easting", f"{p}_northing") for p in ("centre", "start", "end"))
    return Table(_COLUMNS, tuple(out), places)


def kerb_lines(q: Engine) -> list[Line]:
    """The lips of all returns, roundabouts, heads, knuckles and islands that have levels."""
    return [made for thing in _things(q) for made in _lips(q, thing)]


def _things(q: Engine) -> list[ThingId]:
    return [thing for kind in kinds() if kind.key in KINDS for thing in things_of(q, kind.key)]


def _lips(q: Engine, thing: ThingId) -> list[Line]:
    ids = [id for id in kind_of(thing.kind).lines(q, thing) if getattr(id, "point", "") in ("lip", "island lip")]
    made = [q.attempt(line, id) for id in ids]
    return [m for m in made if not isinstance(m, Unsolved)]


def _elements(name: str, made: Line) -> list[tuple[Any, ...]]:
    base, found = made.plan.base, []
    for k, element in enumerate(base.elements):
        begin, end = float(base.starts[k]), float(base.starts[k + 1])
        ends = base.xy[k], base.points_at([end])[0]
        curve = element.k0
        centre: tuple[float | None, float | None] = (None, None)
        if curve and element.k0 == element.k1:
            at = base.xy[k] + left_normals(base.heading[k]) / curve
            centre = float(at[0]), float(at[1])
        arc = centre[0] is not None
        out = (
            name,
            made.title,
            k + 1,
            element.kind,
            "left" if curve > 0 else "right" if curve < 0 else None,
            element.length,
            1.0 / abs(curve) if arc else None,
            float(np.degrees(element.length * abs(curve))) if arc else None,
            *centre,
            *ends[0].tolist(),
            float(made.rule.levels([begin])[0]),
            float(made.rule.grades([begin], "after")[0]),
            *ends[1].tolist(),
            float(made.rule.levels([end])[0]),
            float(made.rule.grades([end], "before")[0]),
        )
        found.append(out)
    return found
