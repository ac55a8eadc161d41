"""The kerb that is down for a driveway: where along the lip, how that is drawn, and how it is set out."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.driveway.place import Way, lip_of, name_of, way_of
from humble_loop.kinds.driveway.profile import DriveLine, drive_line, kerb_back
from humble_loop.kinds.lot.layout import lot
from humble_loop.kinds.street.lowered import lowered_share
from humble_loop.kinds.street.plan import StreetLine, chain_of
from humble_loop.kinds.street.plan import name_of as street_name
from humble_loop.lines.describe import SetOutPoint
from humble_loop.lines.line import LineId, line, line_plan
from humble_loop.lines.setout import told
from humble_loop.lines.standing import kind_of
from humble_loop.site.model import side_sign

_MARKS = ("kerb begins to go down", "kerb down", "kerb down", "kerb up again")


def stretch_of(q: Engine, way: Way) -> Floats:
    """Where the kerb beside a driveway begins to go down, is down, begins to go up and is up (4,), along its lip; maybe for others beside it as well."""
    share = lowered_share(q, lip_of(way.line))
    if share is None:
        return np.empty(0)
    stretches = share.at.reshape(-1, 4)
    found: Floats = stretches[(stretches[:, 0] <= way.lip_s) & (stretches[:, 3] >= way.lip_s)]
    return found[0] if len(found) else np.empty(0)


def drawn(q: Engine, way: Way) -> Floats:
    """It in plan (n, 2): from the lip where it begins to go down, along the back of the kerb where it is down, to the lip where it is up again."""
    at, back = stretch_of(q, way), kerb_back(q, way)
    plan = q.attempt(line_plan, back) if back is not None and len(at) else None
    lip = q.attempt(line_plan, lip_of(way.line))
    if plan is None or isinstance(plan, Unsolved) or isinstance(lip, Unsolved):
        return np.empty((0, 2))
    between = np.linspace(at[1], at[2], 2 + int(at[2] - at[1]))
    return np.concatenate([lip.points(at[:1]), plan.points(between), lip.points(at[3:])])


def set_out_points(q: Engine, id: str) -> tuple[SetOutPoint, ...]:
    """Where its kerb goes down and up again, at the lip and at its back, and its middle line where the grade changes."""
    way, made = q.attempt(way_of, id), q.attempt(drive_line, id)
    if isinstance(way, Unsolved) or isinstance(made, Unsolved):
        return ()
    name, street = name_of(q, id), lot(q, id).row.street
    on_street = chain_of(q, street), street_name(q, street)
    found: list[SetOutPoint] = []
    lines: list[tuple[LineId | None, str]] = [(lip_of(way.line), "lip"), (kerb_back(q, way), "back of kerb")]
    at, outwards = stretch_of(q, way), _outwards(way.line)
    for id_of, what in lines if len(at) else []:
        there = None if id_of is None else q.attempt(line, id_of)
        if id_of is None or there is None or isinstance(there, Unsolved):
            continue
        on = np.flatnonzero(there.plan.covers(at))
        # Round a head places are told along that, whose lip all its lines are beside.
        thing = way.line.thing
        base = on_street if thing.kind == "street" else (there.plan.base, kind_of(thing.kind).name(q, thing))
        found += told(q, id_of, f"{name} {what}", at[on], [_MARKS[k] for k in on], outwards, *base)
    s = made.profile.chainages
    return (*found, *told(q, DriveLine(id), name, s, ["change of grade"] * len(s), 1.0, None, ""))


def _outwards(boundary: LineId) -> float:
    """On which side of the lines of its street or head the land is: +1 left, -1 right."""
    return side_sign(boundary.side) if isinstance(boundary, StreetLine) and boundary.side is not None else 1.0
