"""The kind: islands."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.island import show
from humble_loop.kinds.island.checks import RULES, island_findings
from humble_loop.kinds.island.layout import (
    IslandFace,
    IslandLine,
    face_of,
    island_name,
    island_of,
    islands_on,
    names_of,
    outline,
    placed,
    plan_of,
    plan_polygon,
    rows,
    rule_of,
)
from humble_loop.kinds.island.model import Island, recut, rejoined
from humble_loop.kinds.island.tables import TABLES
from humble_loop.kinds.street.plan import chain_of, name_of, street_ids
from humble_loop.lines.describe import Drawing, Handle, Row, SetOutPoint, SheetOf
from humble_loop.lines.faces import Face, FaceId
from humble_loop.lines.findings import Finding
from humble_loop.lines.kind import Kind
from humble_loop.lines.line import LineId, LinePlan, ThingId, line
from humble_loop.lines.rules import LevelRule
from humble_loop.lines.setout import divided
from humble_loop.site.model import Site

_INSIDE = 1e-9  # metres


class Islands(Kind):
    """Kerbed islands on the carriageways of streets."""

    key, title, stage = "island", "Islands", "Junctions"
    models = (Island,)
    worked_on_next = True
    rules = dict.fromkeys(RULES, "Junctions")
    tables = TABLES

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(ThingId(self.key, i.id) for s in street_ids(q) for i in islands_on(q, s))

    def name(self, q: Engine, thing: ThingId) -> str:
        return island_name(q, thing.id)

    def lines(self, q: Engine, thing: ThingId) -> tuple[LineId, ...]:
        if isinstance(q.attempt(outline, thing.id), Unsolved):
            return ()
        return tuple(IslandLine(thing.id, n) for n in names_of(q, thing.id))

    def line_plan(self, q: Engine, id: LineId) -> LinePlan:
        assert isinstance(id, IslandLine)
        return plan_of(q, id)

    def level_rule(self, q: Engine, id: LineId) -> LevelRule:
        assert isinstance(id, IslandLine)
        return rule_of(q, id)

    def rows_on(self, q: Engine, line: LineId) -> Floats:
        assert isinstance(line, IslandLine)
        return rows(q, line.island)

    def faces(self, q: Engine, thing: ThingId) -> tuple[FaceId, ...]:
        return IslandFace(thing.id, "kerb"), IslandFace(thing.id, "top")

    def face(self, q: Engine, id: FaceId) -> Face:
        assert isinstance(id, IslandFace)
        return face_of(q, id)

    def obstacles(self, q: Engine, street: str) -> tuple[shapely.Geometry, ...]:
        made = [q.attempt(plan_polygon, i.id) for i in islands_on(q, street)]
        return tuple(m for m in made if not isinstance(m, Unsolved))

    def recut(self, q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
        return recut(site, street, kept, rest)

    def rejoined(self, q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
        return rejoined(site, gone, street, start, back)

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        return island_findings(q, thing.id)

    def set_out(self, q: Engine, thing: ThingId) -> tuple[SetOutPoint, ...]:
        id, street = IslandLine(thing.id), island_of(q, thing.id).street
        if isinstance(q.attempt(line, id), Unsolved):
            return ()
        return tuple(divided(q, id, island_name(q, thing.id), 1.0, chain_of(q, street), name_of(q, street)))

    def outline(self, q: Engine, thing: ThingId) -> Drawing:
        return show.drawing(q, thing.id)

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        return show.facts(q, thing.id)

    def facts_about(self, q: Engine, other: ThingId) -> tuple[Row, ...]:
        offered = {"street": show.about_street, "junction": show.about_junction, "turning_head": show.about_head}
        about = offered.get(other.kind)
        return about(q, other.id) if about is not None else ()

    def details(self, q: Engine, thing: ThingId) -> Drawing:
        return show.details(q, thing.id)

    def sheets(self, q: Engine, thing: ThingId) -> tuple[SheetOf, ...]:
        return (SheetOf("Corners", lambda q: show.corner_sheet(q, thing.id)),) if island_of(q, thing.id).corners else ()

    def handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return show.handles(q, thing.id)

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        return IslandLine(thing.id)

    def street_beside(self, q: Engine, id: LineId) -> str:
        assert isinstance(id, IslandLine)
        return island_of(q, id.island).street

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        made = q.attempt(plan_polygon, thing.id)
        if isinstance(made, Unsolved):
            begin, *_, beside = placed(q, island_of(q, thing.id))
            chain = chain_of(q, island_of(q, thing.id).street)
            at = chain.points_at([min(max(begin, 0.0), chain.total)], [beside])[0]
            return float(np.hypot(*(at - np.array(place))))
        # Inside it is nearer than the centreline on which it stands, and no area that gives way to lines.
        return max(float(shapely.distance(made, shapely.Point(place))), _INSIDE)
