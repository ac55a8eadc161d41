"""The table of drains."""

from __future__ import annotations

from humble_loop.engine.query import Engine
from humble_loop.kinds.street.plan import is_new, name_of
from humble_loop.kinds.street.tables import solved, streets
from humble_loop.kinds.toe_drain.place import has_drain
from humble_loop.kinds.toe_drain.roadside import beside, where
from humble_loop.kinds.toe_drain.runs import lining_volume, runs
from humble_loop.lines.table import Table
from humble_loop.site import parts
from humble_loop.site.model import SIDES

_COLUMNS = (
    "street",
    "side",
    "place",
    "from",
    "to",
    "goes_on_at",
    "length",
    "shape",
    "state",
    "invert_from",
    "invert_to",
    "least_fall",
    "runs",
    "outlet_chainage",
    "outlet_level",
    "lining_volume",
)


def drain_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row a drain: where it stands, its invert between its tapers, and what its lining takes."""
    del every
    rows = []
    for street in streets(q, of):
        for side in SIDES if is_new(q, street) else ():
            if not has_drain(q, street, side):
                continue
            for run in solved(q, of, runs, street, side) or ():
                s, told = run.stretch, beside(q, run.stretch.boundary)
                shape = parts.kerb_shape(q, s.shape).name
                state = "set" if s.chosen else "proposed"
                span = (told.chainage(s.begin), told.chainage(s.finish))
                place = (
                    name_of(q, street),
                    side,
                    where(s.boundary),
                    *span,
                    s.goes_on_at,
                    s.finish - s.begin,
                    shape,
                    state,
                )
                at, level = run.outlet
                outlet = (told.chainage(at), level)
                rows.append((*place, run.first, run.last, run.least_fall, run.runs_to, *outlet, lining_volume(q, run)))
    return Table(_COLUMNS, tuple(rows))


TABLES = {"drains": drain_table}
