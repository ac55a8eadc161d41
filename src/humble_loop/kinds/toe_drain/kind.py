"""The kind: drains at the toe of a cut."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.kinds.street.plan import StreetLine, chain_of, is_new, name_of, street_ids
from humble_loop.kinds.street.section import side_rows
from humble_loop.kinds.toe_drain.checks import RULES, drain_findings
from humble_loop.kinds.toe_drain.level_sheet import drain_level_sheet
from humble_loop.kinds.toe_drain.model import DrainChoice, DrainGrade
from humble_loop.kinds.toe_drain.place import (
    DrainLine,
    boundary_of,
    drain_id,
    drain_stations,
    drains_of,
    first_shape,
    has_drain,
    lines_of,
    plan_of,
    rule_of,
    shapes_of,
    stretches,
)
from humble_loop.kinds.toe_drain.recut import recut, rejoined
from humble_loop.kinds.toe_drain.runs import invert_line
from humble_loop.kinds.toe_drain.show import drain_facts, drain_sheet, drawing
from humble_loop.kinds.toe_drain.tables import TABLES
from humble_loop.lines.describe import Drawing, Row, SetOutPoint, SheetOf
from humble_loop.lines.faces import Face, FaceId, Strip
from humble_loop.lines.findings import Finding
from humble_loop.lines.kind import Kind
from humble_loop.lines.line import LineId, LinePlan, ThingId, line_plan
from humble_loop.lines.rules import LevelRule
from humble_loop.lines.setout import along_line
from humble_loop.site import parts
from humble_loop.site.model import SIDES, Side, Site, side_sign

_ROW = 1e-4  # metres within which a row stands at the end of a drain


@dataclass(frozen=True)
class DrainFace(FaceId):
    """The drains of one shape on a side of a street."""

    street: str
    side: Side
    shape: str
    kind: ClassVar[str] = "toe_drain"

    @property
    def thing(self) -> ThingId:
        return drain_id(self.street, self.side)


class ToeDrains(Kind):
    """Drains beside streets, one thing for each side whose sections have one."""

    key, title, stage = "toe_drain", "Drains", "Sections"
    models = (DrainChoice, DrainGrade)
    rules = dict.fromkeys(RULES, "Sections")
    tables = TABLES

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(drain_id(s, side) for s in street_ids(q) for side in self._sides(q, s))

    def _sides(self, q: Engine, street: str) -> tuple[Side, ...]:
        return tuple(s for s in SIDES if q.attempt(has_drain, street, s) is True)

    def name(self, q: Engine, thing: ThingId) -> str:
        street, side = of(thing)
        return f"{name_of(q, street)} {side} drain"

    def under(self, q: Engine, thing: ThingId) -> ThingId | None:
        return ThingId("street", of(thing)[0])

    def progress(self, q: Engine) -> dict[str, float]:
        return {}

    def lines(self, q: Engine, thing: ThingId) -> tuple[LineId, ...]:
        return lines_of(q, *of(thing))

    def line_plan(self, q: Engine, id: LineId) -> LinePlan:
        assert isinstance(id, DrainLine)
        return plan_of(q, id)

    def level_rule(self, q: Engine, id: LineId) -> LevelRule:
        assert isinstance(id, DrainLine)
        return rule_of(q, id)

    def stations(self, q: Engine, street: str) -> Floats:
        return np.concatenate([drain_stations(q, street, side) for side in SIDES])

    def beyond(self, q: Engine, line: LineId) -> tuple[tuple[LineId, ...], ...]:
        if not isinstance(line, StreetLine) or line.side is None or not has_drain(q, line.street, line.side):
            return ()
        if line != boundary_of(q, line.street, line.side):
            return ()
        own = lines_of(q, line.street, line.side)
        return tuple(tuple(id for id in own if id.shape == shape) for shape in shapes_of(q, line.street, line.side))

    def faces(self, q: Engine, thing: ThingId) -> tuple[FaceId, ...]:
        street, side = of(thing)
        offered = dict.fromkeys(drain.shape for _, drain in drains_of(q, street, side))
        return tuple(DrainFace(street, side, shape) for shape in offered)  # also where none stands: a drag adds no face

    def face(self, q: Engine, id: FaceId) -> Face:
        assert isinstance(id, DrainFace)
        own = [s for s in stretches(q, id.street, id.side) if s.shape == id.shape]
        s = side_rows(q, id.street, id.side)
        keep = np.zeros(len(s), dtype=bool)
        for d in own:
            keep |= (s >= d.begin - _ROW) & (s <= d.finish + _ROW)
        s = s[keep]
        middle = 0.5 * (s[:-1] + s[1:])
        joined = np.zeros(len(middle), dtype=bool)
        for d in own:
            joined |= (middle > d.begin) & (middle < d.finish)
        lines: tuple[LineId, ...] = tuple(i for i in lines_of(q, id.street, id.side) if i.shape == id.shape)
        boundary = boundary_of(q, id.street, id.side)
        across = (boundary, *(lines or (boundary,)))
        roles = ("drain" if parts.kerb_shape(q, id.shape).lining > 0 else "swale",) * (len(across) - 1)
        return Strip(self.name(q, id.thing), "drain", across, frozen(s), frozen(joined, np.bool_), roles)

    def recut(self, q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
        return recut(site, street, kept, rest)

    def rejoined(self, q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
        return rejoined(site, gone, street, start, back)

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        return drain_findings(q, *of(thing))

    def set_out(self, q: Engine, thing: ThingId) -> tuple[SetOutPoint, ...]:
        """Points along the invert of each drain."""
        street, side = of(thing)
        if isinstance(q.attempt(stretches, street, side), Unsolved):
            return ()
        chain, found = chain_of(q, street), list[SetOutPoint]()
        for shape in shapes_of(q, street, side):
            id = invert_line(q, street, side, shape)
            keys = drain_stations(q, street, side)
            title = f"{self.name(q, thing)} invert"
            found += along_line(q, id, title, keys, side_sign(side), chain, name_of(q, street))
        return tuple(found)

    def details(self, q: Engine, thing: ThingId) -> Drawing:
        return drawing(q, *of(thing))

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        return drain_facts(q, *of(thing))

    def sheets(self, q: Engine, thing: ThingId) -> tuple[SheetOf, ...]:
        return _sheets(q, of(thing)[0])

    def sheets_about(self, q: Engine, other: ThingId) -> tuple[SheetOf, ...]:
        if other.kind != "street" or not is_new(q, other.id):
            return ()
        return _sheets(q, other.id)

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        """The invert by the first section's drain, whether or not that stands: it is asked at every choice."""
        street, side = of(thing)
        shape = first_shape(q, street, side)
        return None if shape is None else invert_line(q, street, side, shape)

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        street, side = of(thing)
        made = q.attempt(stretches, street, side)
        if isinstance(made, Unsolved) or not made:
            return np.inf
        nearest = np.inf
        for shape in shapes_of(q, street, side):
            plan = line_plan(q, invert_line(q, street, side, shape))
            s, beyond = plan.foot([place])
            if plan.covers(s)[0]:
                nearest = min(nearest, abs(float(beyond[0])))
        return nearest


def of(thing: ThingId) -> tuple[str, Side]:
    """The street and the side of a thing."""
    street, side = thing.id.rsplit(":", 1)
    return street, "left" if side == "left" else "right"


def _sheets(q: Engine, street: str) -> tuple[SheetOf, ...]:
    found = [SheetOf("Drains", lambda q: drain_sheet(q, street))]
    if any(has_drain(q, street, side) for side in SIDES):
        found.append(SheetOf("Drain levels", lambda q: drain_level_sheet(q, street)))
    return tuple(found)
