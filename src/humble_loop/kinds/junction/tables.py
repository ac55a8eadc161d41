"""Tables of junctions and returns."""

from __future__ import annotations

from typing import Any

import numpy as np

from humble_loop.engine.query import Engine
from humble_loop.geometry.arrays import unique_chainages
from humble_loop.kinds.junction.checks import hollows_of
from humble_loop.kinds.junction.corners import ReturnLine, divisions, kerb_return, sizes_of
from humble_loop.kinds.junction.faces import JunctionFace
from humble_loop.kinds.junction.lanes import lane_table
from humble_loop.kinds.junction.layout import throat
from humble_loop.kinds.junction.nodes import Arm, all_joints, arm_name, require_joint
from humble_loop.kinds.junction.turns import swept_table
from humble_loop.kinds.junction.windows import side_band, through_band
from humble_loop.kinds.street.plan import name_of
from humble_loop.kinds.street.tables import solved
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import line
from humble_loop.lines.table import NoSuchTable, Table
from humble_loop.site.model import SIDES


def _asked(q: Engine, of: str | None) -> list[tuple[str, Arm, str]]:
    found = [(side, arm, arm_name(q, side, arm)) for side, arm, _ in all_joints(q)]
    if of is None:
        return found
    mine = [f for f in found if of in (f[2], f[0], name_of(q, f[0]))]
    if not mine:
        raise NoSuchTable(f"there is no junction '{of}'; there are {', '.join(f[2] for f in found) or 'none'}")
    return mine


def junction_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row an arm: a T has one, a crossing two."""
    del every
    out = []
    for side, arm, name in _asked(q, of):
        j, t = require_joint(q, side, arm), solved(q, of, throat, side, arm)
        place = (t.place.side_chainage, t.level) if t else (None, None)
        out.append((name, name_of(q, j.through), name_of(q, side), j.through_chainage, *place))
    columns = ("junction", "through", "side", "through_chainage", "side_throat_chainage", "throat_level")
    return Table(columns, tuple(out))


def return_table(q: Engine, of: str | None, every: float | None) -> Table:
    """Points along every return, as it is set out or at intervals."""
    out: list[tuple[Any, ...]] = []
    for side, arm, name in _asked(q, of):
        for corner in SIDES:
            made = solved(q, of, kerb_return, side, arm, corner)
            lip = solved(q, of, line, ReturnLine(side, arm, corner))
            if made is None or lip is None:
                continue
            length = made.curve.length
            s = np.linspace(0.0, length, divisions(q, side, arm, corner) + 1)
            if every is not None:
                s = unique_chainages([0.0, length], np.arange(0.0, length, every), low=0.0, high=length)
            xyz = lip.points(s)
            curve, sizes = made.curve, sizes_of(q, side, arm, corner)
            centre = (None, None) if np.isnan(curve.radius) else tuple(curve.centre)
            radius = sizes.rounding if np.isnan(curve.radius) else curve.radius
            more = (length, sizes.shape, radius, np.degrees(curve.sweep), *centre)
            rows = zip(s, xyz[:, 0], xyz[:, 1], xyz[:, 2], lip.rule.grades(s))
            out.extend((name, corner, *row, *more) for row in rows)
    columns = (
        "junction",
        "corner",
        "distance",
        "easting",
        "northing",
        "level",
        "grade",
        "length",
        "shape",
        "radius",
        "sweep_deg",
        "centre_easting",
        "centre_northing",
    )
    return Table(columns, tuple(out), (("easting", "northing"), ("centre_easting", "centre_northing")))


def window_table(q: Engine, of: str | None, every: float | None) -> Table:
    """Every return at equal divisions of its length, or at an interval: what its crowns leave it, which of them does, and where it lies."""
    out: list[tuple[Any, ...]] = []
    for street, arm, name in _asked(q, of):
        for corner in SIDES:
            made = solved(q, of, line, ReturnLine(street, arm, corner))
            if made is None:
                continue
            s = np.linspace(0.0, made.plan.end, divisions(q, street, arm, corner) + 1)
            if every is not None:
                s = unique_chainages(s[[0, -1]], np.arange(0.0, made.plan.end, every), low=0.0, high=made.plan.end)
            z, through = made.rule.levels(s), name_of(q, require_joint(q, street, arm).through)
            bands = side_band(q, street, arm, corner, s), through_band(q, street, arm, corner, s)
            for k in range(len(s)):
                crown = 0 if bands[0].on[k] else 1 if bands[1].on[k] and not bands[0].beside[k] else None
                room: tuple[object, ...] = (None, None, None)
                if crown is not None:
                    names = name_of(q, street), through
                    room = (names[crown], float(bands[crown].low[k]), float(bands[crown].high[k]))
                out.append((name, corner, float(s[k]), *room, float(z[k])))
    return Table(("junction", "corner", "distance", "crown", "lowest", "highest", "level"), tuple(out))


def hollow_table(q: Engine, of: str | None, every: float | None) -> Table:
    """Where water would stand in junctions: those that a pit drains among them."""
    del every
    out: list[tuple[Any, ...]] = []
    for side, arm, name in _asked(q, of):
        if solved(q, of, finished_mesh, JunctionFace(side, arm, "patch")) is None:
            continue
        stays = {tuple(h.point) for h in hollows_of(q, side, arm, True)}
        for h in hollows_of(q, side, arm, False):
            pit = "no" if tuple(h.point) in stays else "yes"
            out.append((name, *h.point.tolist(), h.depth, h.area, pit))
    columns = ("junction", "easting", "northing", "level", "depth", "area", "pit")
    return Table(columns, tuple(out), (("easting", "northing"),))


TABLES = {
    "junctions": junction_table,
    "returns": return_table,
    "return_windows": window_table,
    "hollows": hollow_table,
    "lanes": lane_table,
    "swept": swept_table,
}
