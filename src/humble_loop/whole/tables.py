"""Tables of the whole site: those of every kind, and findings, set-out and volumes."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.kinds.street.plan import is_new, street_ids
from humble_loop.kinds.street.plan import name_of as street_name
from humble_loop.lines.describe import SetOutPoint
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.lines.table import NoSuchTable, Table, TableMaker, plain
from humble_loop.site import parts
from humble_loop.whole.cover import cover_table
from humble_loop.whole.findings import findings
from humble_loop.whole.following import trail_table
from humble_loop.whole.kerbs import kerb_table
from humble_loop.whole.overlaps import built_over, counted, counted_volume
from humble_loop.whole.pavement import pavement
from humble_loop.whole.round_sight import round_sight_table
from humble_loop.whole.sight import sight_table
from humble_loop.whole.things import all_faces, all_things, name_of, thing_of

_LEAST_INTERVAL = 0.05  # metres: closer than anything is set out; the longest street has 400,000 rows then
_NONE = 1e-6  # m3 that are none
_HERE = (("easting", "northing"),)


def table(q: Engine, name: str, of: str | None = None, every: float | None = None) -> Table:
    """The table ``name``, narrowed to the thing called ``of`` and taken at intervals of ``every`` metres.

    Eastings and northings are as people know them. Raises NoSuchTable for an unknown table or thing, Unsolved when
    the thing asked for could not be worked out.
    """
    known = tables()
    if name not in known:
        raise NoSuchTable(f"there is no table '{name}'; there are {', '.join(known)}")
    if every is not None and not _LEAST_INTERVAL <= every < np.inf:
        raise NoSuchTable(f"the interval must be {_LEAST_INTERVAL} m or more")
    made = known[name](q, of, every)
    shift = dict.fromkeys(range(len(made.columns)), 0.0)
    e, n = parts.origin(q)
    for east, north in made.places:
        shift[made.columns.index(east)], shift[made.columns.index(north)] = e, n
    rows = tuple(
        tuple(v + shift[k] if shift[k] and isinstance(v, float) else v for k, v in enumerate(map(plain, row)))
        for row in made.rows
    )
    return Table(made.columns, rows)


def tables() -> dict[str, TableMaker]:
    """Every table by its name."""
    found: dict[str, TableMaker] = {}
    for kind in kinds():
        found.update(kind.tables)
    return {
        **found,
        "kerbs": kerb_table,
        "setout": _setout,
        "findings": _findings,
        "volumes": _volumes,
        "pavement": _pavement,
        "cover": cover_table,
        "sight": sight_table,
        "round_sight": round_sight_table,
        "trail": trail_table,
    }


@query
def set_out_of(q: Engine, thing: ThingId) -> tuple[SetOutPoint, ...]:
    """The set-out points of a thing."""
    return tuple(kind_of(thing.kind).set_out(q, thing))


def set_out_points(q: Engine) -> list[tuple[int, SetOutPoint]]:
    """Every set-out point of the site with its running number: street by street, with what stands at its ends."""
    points: list[SetOutPoint] = []
    for thing in all_things(q):
        made = q.attempt(set_out_of, thing)
        points += () if isinstance(made, Unsolved) else made
    return list(enumerate(points, start=parts.set_out(q).first_number))


def _setout(q: Engine, of: str | None, every: float | None) -> Table:
    del every
    out = []
    for number, p in set_out_points(q):
        if of is None or of in (p.base, p.thing) or p.thing.startswith(f"{of} "):
            out.append((number, p.easting, p.northing, p.level, p.base, p.along, p.offset, p.thing, p.mark))
    columns = ("number", "easting", "northing", "level", "street", "chainage", "offset", "thing", "mark")
    return Table(columns, tuple(out), _HERE)


def _findings(q: Engine, of: str | None, every: float | None) -> Table:
    del every
    out = []
    for f in findings(q):
        names = {name_of(q, t) for t in (f.of, *f.also)} | {f.thing}
        if of is None or any(of in name for name in names):
            place = f.place or (None, None)
            out.append((f.severity, f.rule, f.thing, f.message, f.remedy, f.value, f.limit, f.chainage, *place))
    columns = ("severity", "rule", "thing", "message", "remedy", "value", "limit", "chainage", "easting", "northing")
    return Table(columns, tuple(out), _HERE)


def _volumes(q: Engine, of: str | None, every: float | None) -> Table:
    del every
    out = []
    for id in all_faces(q):
        made, volume = q.attempt(finished_mesh, id), q.attempt(counted_volume, id)
        if isinstance(made, Unsolved) or isinstance(volume, Unsolved) or made.surface.empty:
            continue
        if of is None or of in (thing_of(q, id).id, made.title) or made.title.startswith(of):
            area = float(counted(q, id).areas().sum())
            out.append((made.title, made.role, volume.cut, volume.fill, volume.area, area))
    for street in street_ids(q):
        earlier = q.attempt(built_over, street)
        if isinstance(earlier, Unsolved) or not earlier.cut + earlier.fill > _NONE:
            continue
        if of is None or of == street or street_name(q, street).startswith(of):
            title = f"earlier earthworks under {street_name(q, street)}"
            out.append((title, "earthworks", earlier.cut, earlier.fill, 0.0, 0.0))
    return Table(("piece", "kind", "cut", "fill", "area_over_ground", "area"), tuple(out))


def _pavement(q: Engine, of: str | None, every: float | None) -> Table:
    del every
    out = []
    for street in street_ids(q):
        if not is_new(q, street) or of not in (None, street, street_name(q, street)):
            continue
        for p in pavement(q, street):
            out.append((p.street, p.section, p.build, p.of, p.thickness, p.area, p.volume))
    return Table(("street", "section", "build", "layer", "thickness", "area", "volume"), tuple(out))
