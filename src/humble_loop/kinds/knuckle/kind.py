"""The kind: knuckles, the widenings of tight elbows."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.knuckle import show
from humble_loop.kinds.knuckle.checks import RULES, knuckle_findings
from humble_loop.kinds.knuckle.faces import KnuckleFace, face_of, faces_of
from humble_loop.kinds.knuckle.layout import (
    KnuckleLine,
    batter_slopes,
    corners_on,
    elbow,
    gaps,
    knuckle_name,
    knuckle_of,
    knuckles_on,
    lip_rule,
    plan_of,
    ring,
    ring_rows,
    rings_of,
    rule_of,
    shape_of,
    side_of,
    stations,
    turns_of,
)
from humble_loop.kinds.knuckle.model import Knuckle, recut, rejoined
from humble_loop.kinds.knuckle.reserve import knuckle_reserves
from humble_loop.kinds.knuckle.tables import TABLES
from humble_loop.kinds.knuckle.windows import window_of
from humble_loop.kinds.street.plan import StreetLine, chain_of, name_of, street_ids
from humble_loop.lines.anchor import followings_in
from humble_loop.lines.describe import Drawing, Handle, Place, Row, SetOutPoint, Window
from humble_loop.lines.faces import Face, FaceId
from humble_loop.lines.findings import Finding
from humble_loop.lines.kind import Following, Kind, Reserve, Turn
from humble_loop.lines.line import LineId, LinePlan, ThingId, line
from humble_loop.lines.rules import LevelRule
from humble_loop.lines.setout import divided
from humble_loop.site.edits import Edit
from humble_loop.site.model import Anchor, Side, Site, side_sign


class Knuckles(Kind):
    """Tight elbows that are wider."""

    key, title, stage = "knuckle", "Knuckles", "Turning heads"
    models = (Knuckle,)
    worked_on_next = True
    rules = dict.fromkeys(RULES, "Turning heads")
    tables = TABLES

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(ThingId(self.key, k.id) for s in street_ids(q) for k in knuckles_on(q, s))

    def name(self, q: Engine, thing: ThingId) -> str:
        return knuckle_name(q, thing.id)

    def lines(self, q: Engine, thing: ThingId) -> tuple[LineId, ...]:
        return tuple(
            KnuckleLine(thing.id, which, n)
            for which in rings_of(q, thing.id)
            for n in shape_of(q, thing.id, which)[0].names
        )

    def line_plan(self, q: Engine, id: LineId) -> LinePlan:
        assert isinstance(id, KnuckleLine)
        return plan_of(q, id)

    def level_rule(self, q: Engine, id: LineId) -> LevelRule:
        assert isinstance(id, KnuckleLine)
        return rule_of(q, id)

    def rows_on(self, q: Engine, line: LineId) -> Floats:
        assert isinstance(line, KnuckleLine)
        return ring_rows(q, line.knuckle, line.ring)

    def faces(self, q: Engine, thing: ThingId) -> tuple[FaceId, ...]:
        return faces_of(q, thing.id)

    def face(self, q: Engine, id: FaceId) -> Face:
        assert isinstance(id, KnuckleFace)
        return face_of(q, id)

    def slopes(self, q: Engine, line: LineId, s: Floats) -> Floats:
        assert isinstance(line, KnuckleLine)
        return batter_slopes(q, line, s)

    # What it does to its street

    def gaps(self, q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
        return gaps(q, street, side)

    def stations(self, q: Engine, street: str) -> Floats:
        return stations(q, street)

    def turns(self, q: Engine, street: str, side: Side) -> tuple[Turn, ...]:
        return turns_of(q, street, side)

    def corners_on(self, q: Engine, line: LineId) -> tuple[tuple[float, LineId, float], ...]:
        if isinstance(line, StreetLine) and line.side is not None:
            return corners_on(q, line.street, line.side)
        return ()

    def reserves(self, q: Engine, street: str) -> tuple[Reserve, ...]:
        return knuckle_reserves(q, street)

    def recut(self, q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
        return recut(site, street, kept, rest)

    def rejoined(self, q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
        return rejoined(site, gone, street, start, back)

    def let_follow(self, q: Engine, line: LineId, s: float, anchor: Anchor, level: float) -> Edit | None:
        if not isinstance(line, KnuckleLine) or (line.ring, line.point) != ("outer", "lip"):
            return None
        return show.let_follow(q, line.knuckle, s, anchor, level)

    def followings(self, q: Engine) -> tuple[Following, ...]:
        return tuple(f for thing in self.things(q) for f in followings_in(thing, knuckle_of(q, thing.id)))

    # What is wrong, and what people read

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        return knuckle_findings(q, thing.id)

    def set_out(self, q: Engine, thing: ThingId) -> tuple[SetOutPoint, ...]:
        found: list[SetOutPoint] = []
        street = knuckle_of(q, thing.id).street
        for which in rings_of(q, thing.id):
            id = KnuckleLine(thing.id, which)
            if not isinstance(q.attempt(line, id), Unsolved):
                outwards = side_sign(side_of(q, thing.id, which))
                title = knuckle_name(q, thing.id) + (" inside" if which == "inner" else "")
                found += divided(q, id, title, outwards, chain_of(q, street), name_of(q, street))
        return tuple(found)

    # How it shows itself

    def outline(self, q: Engine, thing: ThingId) -> Drawing:
        return show.drawing(q, thing.id)

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        return show.facts(q, thing.id)

    def facts_about(self, q: Engine, other: ThingId) -> tuple[Row, ...]:
        return show.about_street(q, other.id) if other.kind == "street" else ()

    def handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return show.handles(q, thing.id)

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        return None if isinstance(q.attempt(ring, thing.id, "outer"), Unsolved) else KnuckleLine(thing.id)

    def street_beside(self, q: Engine, id: LineId) -> str:
        assert isinstance(id, KnuckleLine)
        return knuckle_of(q, id.knuckle).street

    def section_handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return show.section_handles(q, thing.id)

    def section_offers(self, q: Engine, thing: ThingId, place: Place) -> tuple[tuple[str, Edit], ...]:
        return show.offers(q, thing.id, place)

    def windows(self, q: Engine, line: LineId) -> tuple[Window, ...]:
        if not isinstance(line, KnuckleLine) or (line.ring, line.point) != ("outer", "lip"):
            return ()
        made = q.attempt(window_of, line.knuckle)
        return () if made is None or isinstance(made, Unsolved) else (made,)

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        made = q.attempt(ring, thing.id, "outer")
        if isinstance(made, Unsolved) or isinstance(q.attempt(elbow, thing.id), Unsolved):
            return np.inf
        if isinstance(q.attempt(lip_rule, thing.id, "outer"), Unsolved):
            return np.inf
        return float(np.abs(made.chain.feet([place]).offsets[0]))
