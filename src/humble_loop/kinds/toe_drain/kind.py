"""The kind: drains at the toe of a cut."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.kinds.junction.corners import ReturnLine
from humble_loop.kinds.knuckle import KnuckleLine
from humble_loop.kinds.roundabout import KerbLine
from humble_loop.kinds.street.plan import StreetLine, chain_of, is_new, name_of, street_ids
from humble_loop.kinds.toe_drain.checks import RULES, drain_findings
from humble_loop.kinds.toe_drain.level_sheet import drain_level_sheet
from humble_loop.kinds.toe_drain.model import DrainChoice, DrainGrade
from humble_loop.kinds.toe_drain.place import (
    DrainLine,
    drain_id,
    drain_stations,
    first_shape,
    has_drain,
    lines_beside,
    lines_of,
    plan_of,
    rooms,
    rule_of,
    shapes_of,
    stretches,
)
from humble_loop.kinds.toe_drain.recut import recut, rejoined
from humble_loop.kinds.toe_drain.roadside import boundary_of, owner, round_of
from humble_loop.kinds.toe_drain.runs import invert_line, inverts
from humble_loop.kinds.toe_drain.show import drain_facts, drain_sheet, drawing
from humble_loop.kinds.toe_drain.tables import TABLES
from humble_loop.kinds.turning_head.layout import HeadLine
from humble_loop.lines.describe import Drawing, Row, SetOutPoint, SheetOf
from humble_loop.lines.faces import Face, FaceId, Strip
from humble_loop.lines.findings import Finding
from humble_loop.lines.kind import Kind
from humble_loop.lines.line import LineId, LinePlan, ThingId, line_plan
from humble_loop.lines.rules import LevelRule
from humble_loop.lines.setout import along_line
from humble_loop.lines.standing import kind_of
from humble_loop.site import parts
from humble_loop.site.model import SIDES, Side, Site

_ROW = 1e-4  # metres within which a row stands at the end of a drain


@dataclass(frozen=True)
class DrainFace(FaceId):
    """The drains of one shape on a side of a street: beside its own boundary, or ``round`` that of a corner or a head."""

    street: str
    side: Side
    shape: str
    round: LineId | None = None
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

    def stations_on(self, q: Engine, line: LineId) -> Floats:
        if not isinstance(line, (ReturnLine, HeadLine, KnuckleLine, KerbLine)):
            return frozen([])
        return drain_stations(q, *owner(q, line), line)

    def beyond(self, q: Engine, line: LineId) -> tuple[tuple[LineId, ...], ...]:
        if not isinstance(line, (StreetLine, ReturnLine, HeadLine, KnuckleLine, KerbLine)):
            return ()
        if isinstance(line, StreetLine) and (line.side is None or line != boundary_of(q, line.street, line.side)):
            return ()
        street, side = owner(q, line)
        if not has_drain(q, street, side):
            return ()
        round = None if isinstance(line, StreetLine) else line
        own = lines_beside(q, street, side, round)
        shapes = shapes_of(q, street, side, round)
        return tuple(tuple(id for id in own if id.shape == shape) for shape in shapes)

    def faces(self, q: Engine, thing: ThingId) -> tuple[FaceId, ...]:
        # Wherever one may stand, also where none does: a drag of levels adds no face.
        street, side = of(thing)
        made = q.attempt(rooms, street, side)
        if isinstance(made, Unsolved):
            return ()
        offered = dict.fromkeys((room.drain.shape, room.beside.boundary) for room in made if not room.tight)
        return tuple(DrainFace(street, side, shape, round_of(boundary)) for shape, boundary in offered)

    def face(self, q: Engine, id: FaceId) -> Face:
        assert isinstance(id, DrainFace)
        own = [s for s in stretches(q, id.street, id.side) if (s.shape, s.round) == (id.shape, id.round)]
        boundary = id.round or boundary_of(q, id.street, id.side)
        s = kind_of(boundary.kind).rows_on(q, boundary)
        keep = np.zeros(len(s), dtype=bool)
        for d in own:
            keep |= (s >= d.begin - _ROW) & (s <= d.finish + _ROW)
        s = s[keep]
        middle = 0.5 * (s[:-1] + s[1:])
        joined = np.zeros(len(middle), dtype=bool)
        for d in own:
            joined |= (middle > d.begin) & (middle < d.finish)
        beside = lines_beside(q, id.street, id.side, id.round)
        lines: tuple[LineId, ...] = tuple(i for i in beside if i.shape == id.shape)
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
        for id in inverts(q, street, side):
            title, outwards = line_plan(q, id).title, float(np.sign(line_plan(q, id).offset.values.sum()))
            keys = drain_stations(q, street, side, id.round)
            found += along_line(q, id, title, keys, outwards, chain, name_of(q, street))
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
        for id in inverts(q, street, side):
            plan = line_plan(q, id)
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
