"""Tables of streets."""

from __future__ import annotations

from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats, bearing_of, unique_chainages
from humble_loop.geometry.chain import ARC
from humble_loop.kinds.street.cross_section import section_points
from humble_loop.kinds.street.earthworks import ground_under
from humble_loop.kinds.street.elements import degree_of_curve, elements
from humble_loop.kinds.street.grades import crossing_rows, vip_rows
from humble_loop.kinds.street.levels import grade_line, own_grades
from humble_loop.kinds.street.plan import (
    StreetLine,
    centreline,
    chain_of,
    frame_of,
    is_new,
    name_of,
    street_ids,
    vips_of,
)
from humble_loop.kinds.street.section import lip_levels, rows
from humble_loop.lines.line import line
from humble_loop.lines.table import NoSuchTable, Table
from humble_loop.site import parts
from humble_loop.site.model import SIDES

_HERE = (("easting", "northing"),)


def one_street(q: Engine, of: str | None) -> str:
    """The street with that id or name, or the only one. Raises NoSuchTable."""
    names = {i: name_of(q, i) for i in street_ids(q)}
    if of is None and len(names) == 1:
        return next(iter(names))
    found = [i for i, name in names.items() if of in (i, name)]
    if found:
        return found[0]
    listed = ", ".join(names.values()) or "none"
    if of is None:
        raise NoSuchTable(f"say which street with --of; there are {listed}")
    raise NoSuchTable(f"there is no street '{of}'; there are {listed}")


def streets(q: Engine, of: str | None) -> list[str]:
    """All streets, or the one asked for."""
    return list(street_ids(q)) if of is None else [one_street(q, of)]


def solved(q: Engine, of: str | None, what: Any, *args: Any) -> Any:
    """A result, or None where it failed; when the thing was asked for by name its failure is raised."""
    made = q.attempt(what, *args)
    if isinstance(made, Unsolved):
        if of is not None:
            raise made
        return None
    return made


def street_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row a street."""
    del every
    out = []
    for i in streets(q, of):
        frame, made, laid = frame_of(q, i), q.attempt(grade_line, i), q.attempt(centreline, i)
        length = None if isinstance(laid, Unsolved) else laid.chain.total
        if isinstance(made, Unsolved):
            state, grades = "unsolved", np.array([np.nan])
        else:
            state = next((s for s in ("proposed", "set", "locked") if s in made.states), "tied")
            grades = np.abs(own_grades(q, i))
            grades = grades[np.isfinite(grades)]
        out.append(
            (name_of(q, i), frame.kind, frame.street_class, frame.section, length, state, grades.min(), grades.max())
        )
    columns = ("street", "kind", "street_class", "section", "length", "grade_line", "flattest", "steepest")
    return Table(columns, tuple(out))


def _chainages(q: Engine, street: str, every: float | None) -> Floats:
    chain = chain_of(q, street)
    step = every or parts.settings(q).row_interval
    return unique_chainages(chain.key_chainages(), np.arange(0.0, chain.total, step), low=0.0, high=chain.total)


def centreline_table(q: Engine, of: str | None, every: float | None) -> Table:
    """A street's centreline at intervals."""
    street = one_street(q, of)
    chain, s = chain_of(q, street), _chainages(q, street, every)
    frames = chain.at(s)
    kinds = [e.kind for e in chain.elements]
    which = chain.element_at(s)
    with np.errstate(divide="ignore"):
        radius = np.abs(1.0 / frames.curvatures)
    out = zip(
        s, frames.points[:, 0], frames.points[:, 1], bearing_of(frames.headings), [kinds[i] for i in which], radius
    )
    return Table(("chainage", "easting", "northing", "bearing_deg", "element", "radius"), tuple(out), _HERE)


def level_table(q: Engine, of: str | None, every: float | None) -> Table:
    """A street's levels at intervals; a lip has none where a return or a bulb takes its place."""
    street = one_street(q, of)
    made, s = grade_line(q, street), _chainages(q, street, every)
    points = chain_of(q, street).points_at(s)
    ground = ground_under(q, street).levels(points)
    crown = line(q, StreetLine(street)).rule.levels(s)
    lips = [lip_levels(q, street, side, s) for side in SIDES]
    out = zip(s, ground, crown, *lips, made.profile.grade(s))
    return Table(("chainage", "ground", "crown", "left_lip", "right_lip", "grade"), tuple(out))


def section_table(q: Engine, of: str | None, every: float | None) -> Table:
    """Every section point at every row."""
    out: list[tuple[Any, ...]] = []
    for street in streets(q, of):
        if not is_new(q, street) or solved(q, of, grade_line, street) is None:
            continue
        wanted = rows(q, street)
        if every is not None:
            wanted = wanted[np.abs(wanted / every - np.round(wanted / every)) < 1e-6]
        out += _section_rows(q, street, wanted)
    columns = ("street", "chainage", "point", "offset", "level", "easting", "northing")
    return Table(columns, tuple(out), _HERE)


def _section_rows(q: Engine, street: str, wanted: Floats) -> list[tuple[Any, ...]]:
    """Crown and section points at chainages, where a side has its own."""
    chain, name = chain_of(q, street), name_of(q, street)
    made = [p for p in section_points(q, street, wanted, batters=False) if p.piece != "drain"]
    on = [p.there for p in made]  # once: a long street has thousands of rows
    own = (
        np.any([t for p, t in zip(made, on) if p.side is not None], axis=0)
        if len(made) > 1
        else np.zeros(0, dtype=bool)
    )
    found = []
    for k in np.flatnonzero(own).tolist():
        there = [p for p, t in zip(made, on) if t[k]]
        offsets = np.array([p.offsets[k] for p in there])
        places = chain.points_at(np.full(len(there), wanted[k]), offsets)
        for p, (e, n) in zip(there, places.tolist()):
            point = p.name if p.side is None else f"{p.side} {p.name}"
            found.append((name, float(wanted[k]), point, float(p.offsets[k]), float(p.levels[k]), e, n))
    return found


def element_table(q: Engine, of: str | None, every: float | None) -> Table:
    """The elements of centrelines; a kink has no length. Radii are None where the line is straight."""
    del every
    out = []
    for street in streets(q, of):
        made = solved(q, of, elements, street)
        for k, e in enumerate(made or (), start=1):
            at = chain_of(q, street).points_at([e.start])[0].tolist()
            degree = degree_of_curve(e.radii[0]) if e.kind == ARC else None
            row = (name_of(q, street), k, e.kind, e.bend + 1, e.start, e.end, e.length, *e.radii, *e.bearings)
            out.append((*row, e.deflection, degree, *at))
    columns = ("street", "element", "kind", "bend", "start", "end", "length", "radius_start", "radius_end")
    angles = ("bearing_start_deg", "bearing_end_deg", "deflection_deg", "degree_of_curve")
    return Table((*columns, *angles, "easting", "northing"), tuple(out), _HERE)


def vip_table(q: Engine, of: str | None, every: float | None) -> Table:
    """The VIPs of new streets, and of existing ones that have any set."""
    del every
    out = []
    for street in streets(q, of):
        if not is_new(q, street) and not vips_of(q, street):
            continue
        for k, v in enumerate(solved(q, of, vip_rows, street) or (), start=1):
            t = v.turning
            turning = (t.kind, t.chainage, t.level) if t else (None, None, None)
            row = (name_of(q, street), k, v.chainage, v.level, v.state, v.grade_in, v.grade_out, v.change)
            out.append((*row, v.curve, v.k, *turning))
    columns = ("street", "vip", "chainage", "level", "state", "grade_in", "grade_out", "change", "curve_length", "k")
    return Table((*columns, "turning", "turning_chainage", "turning_level"), tuple(out))


def crossing_table(q: Engine, of: str | None, every: float | None) -> Table:
    """What meets or crosses streets, with its level, the street's and the ground's."""
    del every
    out = []
    for street in streets(q, of):
        for c in solved(q, of, crossing_rows, street) or ():
            out.append((name_of(q, street), c.words, c.chainage, c.level, c.own, c.own - c.level, c.ground))
    return Table(("street", "with", "chainage", "its_level", "level", "difference", "ground"), tuple(out))


TABLES = {
    "streets": street_table,
    "elements": element_table,
    "vips": vip_table,
    "crossings": crossing_table,
    "centreline": centreline_table,
    "levels": level_table,
    "sections": section_table,
}
