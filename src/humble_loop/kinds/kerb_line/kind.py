"""The kind: kerb lines."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.kerb_line import show
from humble_loop.kinds.kerb_line.checks import RULES, kerb_findings
from humble_loop.kinds.kerb_line.crossfall_sheet import crossfall_sheet
from humble_loop.kinds.kerb_line.cutting import facts_about_tie
from humble_loop.kinds.kerb_line.levels import (
    KerbLevels,
    as_it_runs,
    holds_of,
    levels_of,
    plan_of,
    rule_of,
    title_of,
)
from humble_loop.kinds.kerb_line.model import KerbLine
from humble_loop.kinds.kerb_line.proposals import proposal_sheet
from humble_loop.kinds.kerb_line.recut import recut, rejoined
from humble_loop.kinds.kerb_line.tables import TABLES
from humble_loop.kinds.kerb_line.windows import window_of
from humble_loop.kinds.street.plan import StreetLine, centreline, is_new
from humble_loop.lines.anchor import followings_in
from humble_loop.lines.describe import Drawing, Handle, Place, Row, SheetOf, Window
from humble_loop.lines.findings import Finding
from humble_loop.lines.kind import Following, Kind
from humble_loop.lines.line import LineId, LinePlan, ThingId, line_plan
from humble_loop.lines.rules import Hold, LevelRule
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.model import Anchor, Site


class KerbLines(Kind):
    """Lips and boundaries with levels of their own."""

    key, title, stage = "kerb_line", "Own levels", "Levels"
    models = (KerbLine,)
    worked_on_next = True
    rules = dict.fromkeys(RULES, "Levels")
    tables = TABLES

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(ThingId(self.key, i) for i in parts.ids(q, KerbLine))

    def name(self, q: Engine, thing: ThingId) -> str:
        return title_of(q, thing.id)

    def under(self, q: Engine, thing: ThingId) -> ThingId | None:
        return ThingId("street", parts.one(q, KerbLine, thing.id).street)

    def progress(self, q: Engine) -> dict[str, float]:
        return {}

    def lines(self, q: Engine, thing: ThingId) -> tuple[LineId, ...]:
        return (levels_of(q, thing.id),)

    def line_plan(self, q: Engine, id: LineId) -> LinePlan:
        assert isinstance(id, KerbLevels)
        return plan_of(q, id)

    def level_rule(self, q: Engine, id: LineId) -> LevelRule:
        assert isinstance(id, KerbLevels)
        return rule_of(q, id)

    def holds(self, q: Engine, line: LineId) -> tuple[Hold, ...]:
        return holds_of(q, line)

    def let_follow(self, q: Engine, line: LineId, s: float, anchor: Anchor, level: float) -> Edit | None:
        return show.let_follow(q, line, s, anchor, level)

    def followings(self, q: Engine) -> tuple[Following, ...]:
        found: list[Following] = []
        for id in parts.ids(q, KerbLine):
            made = q.attempt(as_it_runs, id)
            if not isinstance(made, Unsolved):
                own = ThingId(self.key, id)
                found.append(Following(ThingId("street", made.street), own, f"{made.side} {made.point}", own))
                found += followings_in(own, parts.one(q, KerbLine, id))
        return tuple(found)

    def recut(self, q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
        return recut(site, street, kept, rest)

    def rejoined(self, q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
        return rejoined(site, gone, street, start, back)

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        return kerb_findings(q, thing.id)

    def outline(self, q: Engine, thing: ThingId) -> Drawing:
        return show.drawing_of(q, thing.id)

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        return show.facts_of(q, thing.id)

    def facts_about(self, q: Engine, other: ThingId) -> tuple[Row, ...]:
        if other.kind == "tie":
            return facts_about_tie(q, other.id)
        return show.facts_about_street(q, other.id) if other.kind == "street" else ()

    def sheets(self, q: Engine, thing: ThingId) -> tuple[SheetOf, ...]:
        return (
            SheetOf("Own levels", lambda q: show.sheet_of(q, thing.id)),
            SheetOf("Proposals", lambda q: proposal_sheet(q, thing.id)),
        )

    def sheets_about(self, q: Engine, other: ThingId) -> tuple[SheetOf, ...]:
        if other.kind != "street" or not is_new(q, other.id) or isinstance(q.attempt(centreline, other.id), Unsolved):
            return ()
        return (SheetOf("Crossfalls", lambda q: crossfall_sheet(q, other.id)),)

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        return levels_of(q, thing.id)

    def section_offers(self, q: Engine, thing: ThingId, place: Place) -> tuple[tuple[str, Edit], ...]:
        return show.offers_at(q, thing.id, place)

    def section_handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return show.handles_of(q, thing.id)

    def beside(self, q: Engine, id: LineId) -> tuple[LineId, ...]:
        """The crown, and the other lip."""
        if not isinstance(id, KerbLevels):
            return ()
        k = as_it_runs(q, id.id)
        return (StreetLine(k.street), StreetLine(k.street, "lip", "right" if k.side == "left" else "left"))

    def windows(self, q: Engine, line: LineId) -> tuple[Window, ...]:
        made = window_of(q, line.id) if isinstance(line, KerbLevels) else None
        return () if made is None else (made,)

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        plan = q.attempt(line_plan, levels_of(q, thing.id))
        if isinstance(plan, Unsolved):
            return np.inf
        s, beyond = plan.foot([place])
        return abs(float(beyond[0])) if plan.covers(s)[0] else np.inf
