"""Tables of the worked-out site: plain columns, SI values, for the command line, the window and hand-over."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from humble_loop.geometry.arrays import Floats, bearing_of, unique_chainages
from humble_loop.solve import parts
from humble_loop.solve.checks import findings
from humble_loop.solve.engine import Engine, Unsolved
from humble_loop.solve.head import head_levels, head_of, head_outline, require_head
from humble_loop.solve.junction import (
    SIDES,
    all_joints,
    junction_name,
    kerb_return,
    require_joint,
    return_levels,
    throat,
)
from humble_loop.solve.lot import lot_plan, lots, pad
from humble_loop.solve.section import half_road, is_new, roadside, rows, side_edge
from humble_loop.solve.setout import set_out_points
from humble_loop.solve.street import (
    centreline,
    chain_of,
    crown_levels,
    grade_line,
    ground_of,
    lip_levels,
    lip_line,
)
from humble_loop.solve.surface import all_pieces, finished_mesh, piece_volume


class NoSuchTable(ValueError):
    """A table, or a thing in it, that does not exist; the message lists those that do."""


@dataclass(frozen=True)
class Table:
    """Named columns and rows of plain values; None where a value is not known."""

    columns: tuple[str, ...]
    rows: tuple[tuple[Any, ...], ...]


def table(q: Engine, name: str, of: str | None = None, every: float | None = None) -> Table:
    """The table ``name``, narrowed to the thing called ``of`` and taken at intervals of ``every`` metres.

    Raises NoSuchTable for an unknown table or thing, Unsolved when the thing asked for could not be worked out.
    """
    if name not in TABLES:
        raise NoSuchTable(f"there is no table '{name}'; there are {', '.join(TABLES)}")
    if every is not None and not (np.isfinite(every) and every > 0):
        raise NoSuchTable("the interval must be more than zero")
    made = TABLES[name](q, of, every)
    return Table(made.columns, tuple(tuple(_plain(v) for v in row) for row in made.rows))


def _plain(value: Any) -> Any:
    if isinstance(value, (float, np.floating)):
        number = float(value)
        return number + 0.0 if np.isfinite(number) else None
    if isinstance(value, np.integer):
        return int(value)
    return value


def _one_street(q: Engine, of: str | None) -> str:
    ids = parts.street_ids(q)
    names = {i: parts.street_name(q, i) for i in ids}
    if of is None and len(ids) == 1:
        return ids[0]
    found = [i for i in ids if of in (i, names[i])]
    if found:
        return found[0]
    listed = ", ".join(names.values()) or "none"
    if of is None:
        raise NoSuchTable(f"say which street with --of; there are {listed}")
    raise NoSuchTable(f"there is no street '{of}'; there are {listed}")


def _streets(q: Engine, of: str | None) -> list[str]:
    return list(parts.street_ids(q)) if of is None else [_one_street(q, of)]


def _solved(q: Engine, of: str | None, what: Any, *args: Any) -> Any:
    """A result, or None where it failed; when the thing was asked for by name its failure is raised."""
    made = q.attempt(what, *args)
    if isinstance(made, Unsolved):
        if of is not None:
            raise made
        return None
    return made


def _street_table(q: Engine, of: str | None, every: float | None) -> Table:
    del every
    out = []
    for i in _streets(q, of):
        frame = parts.street_frame(q, i)
        made = q.attempt(grade_line, i)
        profile = None if isinstance(made, Unsolved) else made.profile
        line = q.attempt(centreline, i)
        length = None if isinstance(line, Unsolved) else line.chain.total
        grades = np.abs(profile.grades) if profile is not None else np.array([np.nan])
        state = "unsolved" if isinstance(made, Unsolved) else ("set" if "set" in made.states else made.states[-1])
        head = frame.head.kind if frame.head else None
        out.append(
            (frame.name, frame.kind, frame.street_class, frame.section, length, state, grades.min(), grades.max(), head)
        )
    columns = ("street", "kind", "street_class", "section", "length", "grade_line", "flattest", "steepest", "head")
    return Table(columns, tuple(out))


def _chainages(q: Engine, street: str, every: float | None) -> Floats:
    chain = chain_of(q, street)
    step = every or parts.settings(q).row_interval
    return unique_chainages(chain.key_chainages(), np.arange(0.0, chain.total, step), low=0.0, high=chain.total)


def _centreline(q: Engine, of: str | None, every: float | None) -> Table:
    street = _one_street(q, of)
    chain = chain_of(q, street)
    s = _chainages(q, street, every)
    frames = chain.at(s)
    kinds = [e.kind for e in chain.elements]
    which = chain.element_at(s)
    with np.errstate(divide="ignore"):
        radius = np.abs(1.0 / frames.curvatures)
    out = zip(
        s, frames.points[:, 0], frames.points[:, 1], bearing_of(frames.headings), [kinds[i] for i in which], radius
    )
    return Table(("chainage", "easting", "northing", "bearing_deg", "element", "radius"), tuple(out))


def _levels(q: Engine, of: str | None, every: float | None) -> Table:
    street = _one_street(q, of)
    made = grade_line(q, street)
    s = _chainages(q, street, every)
    points = chain_of(q, street).points_at(s)
    ground = ground_of(q).levels(points)
    lips = []
    for side in SIDES:
        if is_new(q, street):
            lips.append(lip_levels(q, street, side, s))
        else:
            lip = lip_line(q, street, side)
            lips.append(lip.profile.level(lip.chain.feet(points).chainages))
    out = zip(s, ground, crown_levels(q, street, s), *lips, made.profile.grade(s))
    return Table(("chainage", "ground", "crown", "left_lip", "right_lip", "grade"), tuple(out))


def _sections(q: Engine, of: str | None, every: float | None) -> Table:
    out: list[tuple[Any, ...]] = []
    for street in _streets(q, of):
        if not is_new(q, street) or _solved(q, of, grade_line, street) is None:
            continue
        name = parts.street_name(q, street)
        wanted = rows(q, street)
        if every is not None:
            wanted = wanted[np.abs(wanted / every - np.round(wanted / every)) < 1e-6]
        for side in SIDES:
            half, beside = _solved(q, of, half_road, street, side), _solved(q, of, roadside, side_edge(street, side))
            if half is None or beside is None:
                continue
            for s, p in zip(half.chainages, half.crown):
                if side == "left" and np.min(np.abs(wanted - s), initial=np.inf) < 1e-6:
                    out.append((name, s, "crown", 0.0, p[2], p[0], p[1]))
            sign = 1.0 if side == "left" else -1.0
            base = chain_of(q, street).points_at(beside.along)
            for s, b, row in zip(beside.along, base, beside.points):
                if np.min(np.abs(wanted - s), initial=np.inf) < 1e-6:
                    offsets = sign * np.hypot(*(row[:, :2] - b).T)
                    out.extend(
                        (name, s, f"{side} {n}", o, p[2], p[0], p[1]) for n, o, p in zip(beside.names, offsets, row)
                    )
    out.sort(key=lambda r: (r[0], r[1], -r[3]))
    return Table(("street", "chainage", "point", "offset", "level", "easting", "northing"), tuple(out))


def _of_joint(q: Engine, of: str | None) -> list[tuple[Any, Any, str]]:
    found = [(side, end, junction_name(q, side, end)) for side, end, _ in all_joints(q)]
    if of is None:
        return found
    mine = [f for f in found if of in (f[2], f[0], parts.street_name(q, f[0]))]
    if not mine:
        raise NoSuchTable(f"there is no junction '{of}'; there are {', '.join(f[2] for f in found) or 'none'}")
    return mine


def _junctions(q: Engine, of: str | None, every: float | None) -> Table:
    del every
    out = []
    for side, end, name in _of_joint(q, of):
        j, t = require_joint(q, side, end), _solved(q, of, throat, side, end)
        out.append(
            (
                name,
                parts.street_name(q, j.through),
                parts.street_name(q, side),
                j.through_chainage,
                t.side_chainage if t else None,
                t.level if t else None,
            )
        )
    columns = ("junction", "through", "side", "through_chainage", "side_throat_chainage", "throat_level")
    return Table(columns, tuple(out))


def _returns(q: Engine, of: str | None, every: float | None) -> Table:
    out: list[tuple[Any, ...]] = []
    for side, end, name in _of_joint(q, of):
        for corner in SIDES:
            made = _solved(q, of, kerb_return, side, end, corner)
            levels = _solved(q, of, return_levels, side, end, corner)
            if made is None or levels is None:
                continue
            length = made.arc.length
            n = getattr(parts.junction_choice(q, side, end), corner).divisions
            s = np.linspace(0.0, length, n + 1)
            if every is not None:
                s = unique_chainages([0.0, length], np.arange(0.0, length, every), low=0.0, high=length)
            xy = made.arc.chain.points_at(s)
            more = (length, made.arc.radius, np.degrees(made.arc.sweep), *made.arc.centre)
            rows_ = zip(s, xy[:, 0], xy[:, 1], levels.cubic.level(s), levels.cubic.grade(s))
            out.extend((name, corner, *row, *more) for row in rows_)
    columns = (
        "junction",
        "corner",
        "distance",
        "easting",
        "northing",
        "level",
        "grade",
        "length",
        "radius",
        "sweep_deg",
        "centre_easting",
        "centre_northing",
    )
    return Table(columns, tuple(out))


def _heads(q: Engine, of: str | None, every: float | None) -> Table:
    del every
    out = []
    for street in _streets(q, of):
        if head_of(q, street) is None:
            continue
        head, outline = require_head(q, street), _solved(q, of, head_outline, street)
        if outline is None:
            continue
        levels = q.attempt(head_levels, street)
        known = None if isinstance(levels, Unsolved) else levels
        ring = outline.ring
        points = [*ring.xy[0], *ring.xy[1], *ring.xy[2], *ring.points_at([ring.total])[0]]
        out.append(
            (
                f"{parts.street_name(q, street)} bulb",
                parts.street_name(q, street),
                head.kind,
                head.radius,
                head.return_radius,
                head.offset,
                known.outlet if known else None,
                *outline.centre,
                known.centre if known else None,
                ring.total,
                np.degrees(ring.length[1] / head.radius),
                np.degrees(ring.length[0] / head.return_radius),
                np.degrees(ring.length[2] / head.return_radius),
                outline.base_left,
                outline.base_right,
                *points,
                float(known.profile.levels[2]) if known else None,
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
        "left_straight_tangent_easting",
        "left_straight_tangent_northing",
        "left_bulb_tangent_easting",
        "left_bulb_tangent_northing",
        "right_bulb_tangent_easting",
        "right_bulb_tangent_northing",
        "right_straight_tangent_easting",
        "right_straight_tangent_northing",
        "turn_level",
        "turn_distance",
    )
    return Table(columns, tuple(out))


def _lots(q: Engine, of: str | None, every: float | None) -> Table:
    del every
    out: list[tuple[Any, ...]] = []
    found = False
    for street in parts.street_ids(q):
        for lot in lots(q, street):
            if of is not None and of not in (lot.name, street, parts.street_name(q, street)):
                continue
            found = True
            plan, level = q.attempt(lot_plan, street, lot.name), q.attempt(pad, street, lot.name)
            if isinstance(plan, Unsolved) or isinstance(level, Unsolved):
                out.append((lot.name, *[None] * 7))
                continue
            volume = q.attempt(piece_volume, ("lot", street, lot.name))
            cut, fill = (None, None) if isinstance(volume, Unsolved) else (volume.cut, volume.fill)
            out.append((lot.name, plan.area, plan.frontage, level.level, level.low, level.high, cut, fill))
    if of is not None and not found:
        raise NoSuchTable(f"there is no lot or street with lots called '{of}'")
    return Table(("lot", "area", "frontage", "pad_level", "window_low", "window_high", "cut", "fill"), tuple(out))


def _setout(q: Engine, of: str | None, every: float | None) -> Table:
    del every
    out = []
    for number, p in set_out_points(q):
        name = parts.street_name(q, p.street)
        if of is None or of in (name, p.street, p.thing):
            out.append((number, p.easting, p.northing, p.level, name, p.chainage, p.offset, p.thing, p.mark))
    columns = ("number", "easting", "northing", "level", "street", "chainage", "offset", "thing", "mark")
    return Table(columns, tuple(out))


def _findings(q: Engine, of: str | None, every: float | None) -> Table:
    del every
    out = [
        (f.severity, f.rule, f.thing, f.message, f.remedy, f.value, f.limit, f.chainage, *(f.place or (None, None)))
        for f in findings(q)
        if of is None or of in f.thing
    ]
    columns = ("severity", "rule", "thing", "message", "remedy", "value", "limit", "chainage", "easting", "northing")
    return Table(columns, tuple(out))


def _volumes(q: Engine, of: str | None, every: float | None) -> Table:
    del every
    out = []
    for piece in all_pieces(q):
        made, volume = q.attempt(finished_mesh, piece), q.attempt(piece_volume, piece)
        if isinstance(made, Unsolved) or isinstance(volume, Unsolved) or made.surface.empty:
            continue
        if of is None or of in (piece[1], parts.street_name(q, piece[1]), made.title):
            out.append((made.title, made.kind, volume.cut, volume.fill, volume.area, float(made.surface.areas().sum())))
    return Table(("piece", "kind", "cut", "fill", "area_over_ground", "area"), tuple(out))


TABLES: dict[str, Callable[[Engine, str | None, float | None], Table]] = {
    "streets": _street_table,
    "centreline": _centreline,
    "levels": _levels,
    "sections": _sections,
    "junctions": _junctions,
    "returns": _returns,
    "heads": _heads,
    "lots": _lots,
    "setout": _setout,
    "findings": _findings,
    "volumes": _volumes,
}
