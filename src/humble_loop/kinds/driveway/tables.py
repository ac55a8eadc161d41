"""Tables of driveways and of what vehicles keep off them."""

from __future__ import annotations

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.driveway.check import passages, steepest, worst_of
from humble_loop.kinds.driveway.place import all_lots, wanted, way_of
from humble_loop.kinds.driveway.profile import drive_line
from humble_loop.kinds.lot.layout import LotFrame
from humble_loop.lines.table import NoSuchTable, Table


def _asked(q: Engine, of: str | None) -> list[LotFrame]:
    found = [f for f in all_lots(q) if wanted(q, f.id) and of in (None, f.id, f.name, f.row.street, f.row.name)]
    if of is not None and not found:
        raise NoSuchTable(f"there is no lot with a driveway called '{of}'")
    return found


def driveway_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row a driveway: where it leaves the lip, crosses the boundary and comes to the pad, with levels, its steepest grade and the worst passage."""
    del every
    out = []
    for frame in _asked(q, of):
        way, made = q.attempt(way_of, frame.id), q.attempt(passages, frame.id)
        if isinstance(way, Unsolved) or isinstance(made, Unsolved):
            continue
        p = drive_line(q, frame.id).profile
        z = p.level([0.0, way.out, way.out + way.run]).tolist()
        worst, grade = worst_of(made), steepest(q, frame.id)[0]
        told = (None,) * 3 if worst is None else (worst.clearance, worst.vehicle, worst.verdict)
        places = (*way.lip.tolist(), z[0], *way.boundary.tolist(), z[1], *way.pad.tolist(), z[2])
        out.append(
            (
                frame.name,
                way.sizes.at,
                way.sizes.skew,
                way.sizes.width,
                way.sizes.flare,
                way.out,
                way.run,
                *places,
                grade,
                *told,
            )
        )
    ends = ("lip", "boundary", "pad")
    columns = (
        "lot",
        "along_frontage",
        "skew",
        "width",
        "flare",
        "lip_to_boundary",
        "boundary_to_pad",
        *(f"{e}_{v}" for e in ends for v in ("easting", "northing", "level")),
        "steepest",
        "least_clearance",
        "vehicle",
        "verdict",
    )
    return Table(columns, tuple(out), tuple((f"{e}_easting", f"{e}_northing") for e in ends))


def clearance_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row for each vehicle on each driveway, forwards and backwards: what is least left under it, and where."""
    del every
    out = []
    for frame in _asked(q, of):
        made = q.attempt(passages, frame.id)
        for p in () if isinstance(made, Unsolved) else made:
            out.append((frame.name, p.vehicle, p.direction, p.clearance, p.verdict, p.beside, p.at, p.ahead, p.rear))
    columns = (
        "lot",
        "vehicle",
        "direction",
        "clearance",
        "verdict",
        "wheels",
        "beyond_lip",
        "ahead_of_rear_axle",
        "rear_axle_beyond_lip",
    )
    return Table(columns, tuple(out))


TABLES = {"driveways": driveway_table, "clearances": clearance_table}
