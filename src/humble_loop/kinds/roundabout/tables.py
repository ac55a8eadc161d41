"""Tables of roundabouts and their legs, and what is set out of them."""

from __future__ import annotations

from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.roundabout.bypass import bypass_beside, gap_key, taker_of
from humble_loop.kinds.roundabout.gaps import outer_arc
from humble_loop.kinds.roundabout.layout import KerbLine, lane_kerb
from humble_loop.kinds.roundabout.leg_islands import island_lips
from humble_loop.kinds.roundabout.levels import CircleLine, circle_plane, rim_place
from humble_loop.kinds.roundabout.paths import KERB, LINE, entry_angle, paths
from humble_loop.kinds.roundabout.place import (
    Leg,
    asked,
    entry_side,
    leg_name,
    leg_sizes,
    legs_of,
    middle_of,
    roundabout_name,
    roundabout_of,
    sizes_of,
)
from humble_loop.kinds.roundabout.turning import driving_table
from humble_loop.kinds.street.plan import chain_of, name_of
from humble_loop.lines.describe import Fact, SetOutPoint, Sheet, SheetRow
from humble_loop.lines.line import LineId, line
from humble_loop.lines.setout import divided, told
from humble_loop.lines.table import Table
from humble_loop.site.model import Side, other_side

_ISLAND = 24  # parts into which an island's lip is divided


def roundabout_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row a roundabout: its middle, sizes and plane."""
    del every
    out = []
    for id in asked(q, of):
        middle, sizes, made = q.attempt(middle_of, id), q.attempt(sizes_of, id), roundabout_of(q, id)
        if isinstance(middle, Unsolved) or isinstance(sizes, Unsolved):
            continue
        legs = q.attempt(legs_of, id)
        plane = q.attempt(line, CircleLine(id))
        lies: tuple[Any, ...] = (None,) * 4
        if not isinstance(plane, Unsolved) and made.levels != "own":
            p = circle_plane(q, id)
            lies = (float(p.level.value[0]), *(float(v) for v in p.slope), p.fall)
        count = 0 if isinstance(legs, Unsolved) else len(legs)
        own = (sizes.radius, sizes.radius - sizes.width, sizes.apron, sizes.width, sizes.lanes)
        out.append((roundabout_name(q, id), sizes.name, *middle.tolist(), *own, count, made.levels, *lies))
    columns = (
        "roundabout",
        "preset",
        "middle_easting",
        "middle_northing",
        "inscribed_radius",
        "island_radius",
        "apron",
        "carriageway",
        "lanes",
        "legs",
        "levels",
        "middle_level",
        "slope_east",
        "slope_north",
        "outward_fall",
    )
    return Table(columns, tuple(out), (("middle_easting", "middle_northing"),))


def leg_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row a leg: where it comes in, its entry and exit with their tangent points, its splitter island, and its bypass lane."""
    del every
    out = []
    for id in asked(q, of):
        legs = q.attempt(legs_of, id)
        for leg in () if isinstance(legs, Unsolved) else legs:
            out.append(_leg_row(q, id, leg))
    ends = ("entry", "exit")
    columns = (
        "roundabout",
        "leg",
        "street",
        "throat_chainage",
        "throat_easting",
        "throat_northing",
        "throat_level",
        "bearing_deg",
        "passes_left",
        *(
            f"{e}_{v}"
            for e in ends
            for v in ("width", "lanes", "chosen_radius", "radius", "outer_radius", "outer_turn")
        ),
        *(
            f"{e}_{v}"
            for e in ends
            for v in ("lip_chainage", "lip_easting", "lip_northing", "circle_easting", "circle_northing")
        ),
        "flare",
        "splitter",
        "splitter_width",
        "crossing",
        "bypass_to",
        "bypass_width",
        "bypass_radius",
    )
    places = (("throat_easting", "throat_northing"),) + tuple(
        (f"{e}_{p}_easting", f"{e}_{p}_northing") for e in ends for p in ("lip", "circle")
    )
    return Table(columns, tuple(out), places)


def _leg_row(q: Engine, id: str, leg: Leg) -> tuple[Any, ...]:
    sizes, entry = leg_sizes(q, id, leg), entry_side(q)
    place, rim = leg.chain.points_at([leg.throat])[0], q.attempt(line, CircleLine(id))
    level = None if isinstance(rim, Unsolved) else float(rim.rule.levels(rim_place(q, id, [leg.angle]))[0])
    bearing = float(np.mod(90.0 - np.degrees(leg.angle), 360.0))
    sides = (entry, other_side(entry))
    ends = [_end(q, id, leg, seen) for seen in sides]
    chosen = ((sizes.entry, sizes.entry_lanes, sizes.entry_radius), (sizes.exit, sizes.exit_lanes, sizes.exit_radius))
    outer = [
        (None, None) if arc is None else (arc.radius, float(np.degrees(arc.turn)))
        for arc in (outer_arc(q, sizes, seen) for seen in sides)
    ]
    widths = [v for given, (radius, _), arc in zip(chosen, ends, outer) for v in (*given, radius, *arc)]
    points = [v for _, places in ends for v in places]
    rest = (sizes.flare, sizes.splitter, sizes.splitter_width, sizes.crossing)
    bypass = bypass_beside(q, id, leg, entry)
    past = (None,) * 3 if bypass is None else (leg_name(q, id, taker_of(q, id, leg)), bypass.width, bypass.radius)
    where = (leg.at, *place.tolist(), level, bearing, leg.offset)
    return (
        roundabout_name(q, id),
        leg_name(q, id, leg),
        name_of(q, leg.street),
        *where,
        *widths,
        *points,
        *rest,
        *past,
    )


def _end(q: Engine, id: str, leg: Leg, seen: Side) -> tuple[float | None, tuple[float | None, ...]]:
    """The radius of a leg's arc on a side, and where it touches lip and circle."""
    made = q.attempt(lane_kerb, id, gap_key(q, id, leg, seen))
    if isinstance(made, Unsolved):
        return None, (None,) * 5
    n = 0 if seen == "left" else 1
    lip, circle = made.chain.points_at([(0.0, made.chain.total)[n], made.ends[n]])
    return made.radii[n], (leg.along(made.leg_at[n]), *lip.tolist(), *circle.tolist())


def path_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row a movement: the fastest path of a car, its least radius and speed on its entry, round the circle and on its exit."""
    del every
    out = []
    for id in asked(q, of):
        made, legs = q.attempt(paths, id), q.attempt(legs_of, id)
        if isinstance(made, Unsolved) or isinstance(legs, Unsolved):
            continue
        names = {g.key: leg_name(q, id, g) for g in legs}
        angles = {g.key: entry_angle(q, id, g) for g in legs}
        for p in made:
            ends = (roundabout_name(q, id), names[p.begin], names[p.finish], p.turn)
            own = [v for size, kmh, at in zip(p.radii, p.speeds, p.at) for v in (size, kmh, *at.tolist())]
            out.append((*ends, angles[p.begin], *own))
    parts = ("entry", "round", "exit")
    columns = (
        "roundabout",
        "from",
        "to",
        "turn",
        "entry_angle_deg",
        *(f"{p}_{v}" for p in parts for v in ("radius", "kmh", "easting", "northing")),
    )
    return Table(columns, tuple(out), tuple((f"{p}_easting", f"{p}_northing") for p in parts))


TABLES = {"roundabouts": roundabout_table, "legs": leg_table, "paths": path_table, "passages": driving_table}


def path_sheet(q: Engine, id: str) -> Sheet:
    """The movements in rows; the path of the one that is chosen is lit up in plan."""
    line_id = CircleLine(id)
    made, legs = q.attempt(paths, id), q.attempt(legs_of, id)
    columns = ("from", "to", "entry", "round", "exit", "km/h")
    if isinstance(made, Unsolved) or isinstance(legs, Unsolved):
        why = made.message if isinstance(made, Unsolved) else ""
        return Sheet("Paths", line_id, columns, (), why)
    names = {g.key: leg_name(q, id, g) for g in legs}
    rows = []
    for p in made:
        cells: list[Fact | None] = [Fact("from", "text", names[p.begin]), Fact("to", "text", names[p.finish])]
        labels, speeds = ("entry", "round", "exit"), " / ".join(f"{v:.0f}" for v in p.speeds)
        radii: list[Fact | None] = [Fact(label, "length", size) for label, size in zip(labels, p.radii)]
        if p.turn == "bypass":  # it has no way round: one radius is all
            radii, speeds = [Fact("entry", "length", min(p.radii)), None, None], f"{min(p.speeds):.0f} past it"
        cells += [*radii, Fact("km/h", "text", speeds)]
        rows.append(SheetRow(tuple(cells), (0.0, -1.0), p.places))
    note = f"Fastest paths {KERB:g} m from kerbs, {LINE:g} m from lines: least radii. The chosen row is lit up"
    return Sheet("Paths", line_id, columns, tuple(rows), note)


def set_out(q: Engine, id: str) -> tuple[SetOutPoint, ...]:
    """Kerbs element by element, the island's lip in equal parts, and splitter islands."""
    legs, street = q.attempt(legs_of, id), roundabout_of(q, id).street
    if isinstance(legs, Unsolved):
        return ()
    base, name, found = chain_of(q, street), name_of(q, street), list[SetOutPoint]()
    lines: list[tuple[LineId, float]] = [(KerbLine(id, g.key), -1.0) for g in legs]
    lines += [(lip, 1.0) for lip in island_lips(q, id)]
    for line_id, outwards in lines:
        made = q.attempt(line, line_id)
        if not isinstance(made, Unsolved):
            found += divided(q, line_id, made.title, outwards, base, name)
    island = CircleLine(id, "island lip")
    made = q.attempt(line, island)
    if not isinstance(made, Unsolved):
        n = roundabout_of(q, id).divisions or _ISLAND
        s = np.linspace(0.0, made.plan.end, n + 1)[:-1]
        found += told(q, island, made.title, s, ["division"] * n, 1.0, base, name)
    return tuple(found)
