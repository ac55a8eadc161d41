"""The kind: streets."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from humble_loop.engine.query import Engine, Key, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.street import bends, show
from humble_loop.kinds.street.checks import LEVEL_RULES, PLAN_RULES, street_findings
from humble_loop.kinds.street.cross_handles import cross_handles
from humble_loop.kinds.street.crossfalls import crossfall_table, overlay_table
from humble_loop.kinds.street.faces import StreetFace, face_of, faces_of
from humble_loop.kinds.street.from_line import street_sheet
from humble_loop.kinds.street.grade_handles import section_handles
from humble_loop.kinds.street.model import FullDepth, Street, Widening
from humble_loop.kinds.street.order import BuildOrder, recut_orders, rejoined_orders
from humble_loop.kinds.street.overlay import depth_stations, recut_full_depth, rejoined_full_depth
from humble_loop.kinds.street.plan import (
    StreetLine,
    centreline,
    chain_of,
    ground_along,
    is_new,
    name_of,
    street_ids,
    vips_of,
)
from humble_loop.kinds.street.reserve import reserves_of
from humble_loop.kinds.street.section import (
    gaps,
    lines_of,
    own_range,
    plan_of,
    rule_of,
    side_rows,
)
from humble_loop.kinds.street.section_checks import SECTION_RULES
from humble_loop.kinds.street.section_sheet import cross_rows
from humble_loop.kinds.street.side import course, drawn_side
from humble_loop.kinds.street.tables import TABLES
from humble_loop.kinds.street.widening import recut_widenings, rejoined_widenings
from humble_loop.lines.anchor import followings_in, rejoined_anchors
from humble_loop.lines.describe import Drawing, Handle, Mark, Row, SetOutPoint, SheetOf, SheetRow
from humble_loop.lines.faces import Face, FaceId
from humble_loop.lines.findings import Finding
from humble_loop.lines.kind import Following, Kind, Reserve
from humble_loop.lines.line import LineId, LinePlan, ThingId, line
from humble_loop.lines.rules import LevelRule
from humble_loop.lines.setout import along_line
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.model import SIDES, Anchor, Site, side_sign


class Streets(Kind):
    """Roads, new or existing."""

    key, title, stage = "street", "Streets", "Streets"
    models = (Street, FullDepth, Widening, BuildOrder)
    worked_on_next = True
    rules = {  # noqa: RUF012 (never changed)
        **dict.fromkeys(PLAN_RULES, "Streets"),
        **dict.fromkeys(LEVEL_RULES, "Levels"),
        "street off the ground": "Ground",
        "ground": "Ground",
        **dict.fromkeys(SECTION_RULES, "Sections"),
    }
    tables = {**TABLES, "crossfalls": crossfall_table, "overlay": overlay_table}  # noqa: RUF012 (never changed)

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(ThingId(self.key, i) for i in street_ids(q))

    def groups(self, q: Engine) -> Sequence[Key]:
        return [(ground_along, i) for i in street_ids(q)]

    def name(self, q: Engine, thing: ThingId) -> str:
        return name_of(q, thing.id)

    def progress(self, q: Engine) -> dict[str, float]:
        ids = street_ids(q)
        new = [i for i in ids if is_new(q, i)]
        found = {"Streets": 1.0, "Sections": 1.0} if ids else {}
        if new:
            found["Levels"] = sum(bool(vips_of(q, i)) for i in new) / len(new)
        return found

    def lines(self, q: Engine, thing: ThingId) -> tuple[LineId, ...]:
        return lines_of(q, thing.id)

    def word_of(self, q: Engine, id: LineId) -> str:
        assert isinstance(id, StreetLine)
        side = None if id.side is None else drawn_side(q, id.street, id.side)
        return id.point if side is None else f"{side} {id.point}"

    def line_plan(self, q: Engine, id: LineId) -> LinePlan:
        assert isinstance(id, StreetLine)
        return plan_of(q, id)

    def level_rule(self, q: Engine, id: LineId) -> LevelRule:
        assert isinstance(id, StreetLine)
        return rule_of(q, id)

    def rows_on(self, q: Engine, line: LineId) -> Floats:
        assert isinstance(line, StreetLine)
        return side_rows(q, line.street, line.side or "left")

    def slopes(self, q: Engine, line: LineId, s: Floats) -> Floats:
        assert isinstance(line, StreetLine)
        assert line.side is not None
        made = course(q, line.street, line.side)
        return np.column_stack([np.interp(s, made.at, slope) for slope in made.slopes.T])

    def benches(self, q: Engine, line: LineId, s: Floats) -> Floats:
        assert isinstance(line, StreetLine)
        assert line.side is not None
        made = course(q, line.street, line.side)
        return np.column_stack([np.interp(s, made.at, values) for values in made.benches.T])

    def stations(self, q: Engine, street: str) -> Floats:
        return depth_stations(q, street)

    def let_follow(self, q: Engine, line: LineId, s: float, anchor: Anchor, level: float) -> Edit | None:
        if isinstance(line, StreetLine) and line.side is None and is_new(q, line.street):
            return show.let_follow(q, line.street, s, anchor, level)
        return None

    def followings(self, q: Engine) -> tuple[Following, ...]:
        streets = [parts.one(q, Street, id) for id in street_ids(q)]
        return tuple(f for s in streets for f in followings_in(ThingId(self.key, s.id), s))

    def recut(self, q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
        site = recut_orders(recut_full_depth(site, street, kept, rest), street, rest)
        return recut_widenings(site, street, kept, rest)

    def rejoined(self, q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
        site = rejoined_orders(rejoined_full_depth(site, gone, street, start, back), gone, street)
        return rejoined_anchors(rejoined_widenings(site, gone, street, start, back), gone, street, back)

    def reserves(self, q: Engine, street: str) -> tuple[Reserve, ...]:
        return reserves_of(q, street)

    def faces(self, q: Engine, thing: ThingId) -> tuple[FaceId, ...]:
        return faces_of(q, thing.id)

    def face(self, q: Engine, id: FaceId) -> Face:
        assert isinstance(id, StreetFace)
        return face_of(q, id)

    def built_with(self, q: Engine, id: FaceId) -> str | None:
        assert isinstance(id, StreetFace)
        return id.street

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        return street_findings(q, thing.id)

    def set_out(self, q: Engine, thing: ThingId) -> tuple[SetOutPoint, ...]:
        """Points along both lips of a new street, between its junctions and heads."""
        street = thing.id
        if not is_new(q, street):
            return ()
        found: list[SetOutPoint] = []
        chain, name = chain_of(q, street), name_of(q, street)
        for side in SIDES:
            id = StreetLine(street, "lip", side)
            made = q.attempt(line, id)
            if isinstance(made, Unsolved):
                continue
            holes, title = gaps(q, street, side), f"{name} {side} lip"
            keys = np.concatenate([own_range(q, street, side), np.ravel(holes), chain.key_chainages()])
            found += along_line(q, id, title, keys, side_sign(side), chain, name, holes)
        return tuple(found)

    def outline(self, q: Engine, thing: ThingId) -> Drawing:
        return show.outline(q, thing.id)

    def details(self, q: Engine, thing: ThingId) -> Drawing:
        return show.details(q, thing.id)

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        return show.facts(q, thing.id)

    def sheets(self, q: Engine, thing: ThingId) -> tuple[SheetOf, ...]:
        return show.sheets(q, thing.id)

    def sheets_about(self, q: Engine, other: ThingId) -> tuple[SheetOf, ...]:
        if other.kind != "survey_line":
            return ()
        return (SheetOf("Street along it", lambda q: street_sheet(q, other.id)),)

    def handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return bends.handles(q, thing.id)

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        return StreetLine(thing.id)

    def section_handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return section_handles(q, thing.id)

    def cross_handles(self, q: Engine, thing: ThingId, chainage: float) -> tuple[Handle, ...]:
        return cross_handles(q, thing.id, chainage)

    def cross_rows(self, q: Engine, thing: ThingId, chainage: float) -> tuple[SheetRow, ...]:
        return cross_rows(q, thing.id, chainage)

    def beside(self, q: Engine, id: LineId) -> tuple[LineId, ...]:
        return show.lines_to_show(q, id.street) if isinstance(id, StreetLine) else ()

    def ribbon(self, q: Engine, street: str) -> tuple[Mark, ...]:
        return show.ribbon(q, street)

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        made = q.attempt(centreline, thing.id)
        return np.inf if isinstance(made, Unsolved) else abs(float(made.chain.feet([place]).offsets[0]))
