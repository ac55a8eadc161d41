"""The kind: ties."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.street.plan import StreetLine
from humble_loop.kinds.tie import show
from humble_loop.kinds.tie.checks import RULES, tie_findings
from humble_loop.kinds.tie.company import followings_of
from humble_loop.kinds.tie.handles import plan_handles, tie_handles
from humble_loop.kinds.tie.levels import TieLevels, holds_of, levels_of, plan_of, rule_of, source_line, title_of
from humble_loop.kinds.tie.model import LevelTie
from humble_loop.kinds.tie.recut import recut, rejoined
from humble_loop.kinds.tie.tables import TABLES
from humble_loop.lines.describe import Drawing, Handle, Row, SheetOf
from humble_loop.lines.findings import Finding
from humble_loop.lines.kind import Following, Kind
from humble_loop.lines.line import LineId, LinePlan, ThingId, line_plan
from humble_loop.lines.rules import Hold, LevelRule
from humble_loop.site import parts
from humble_loop.site.model import Site


class Ties(Kind):
    """Section points that follow something else."""

    key, title, stage = "tie", "Ties", "Levels"
    models = (LevelTie,)
    worked_on_next = True
    rules = dict.fromkeys(RULES, "Levels")
    tables = TABLES

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(ThingId(self.key, i) for i in parts.ids(q, LevelTie))

    def name(self, q: Engine, thing: ThingId) -> str:
        return title_of(q, thing.id)

    def under(self, q: Engine, thing: ThingId) -> ThingId | None:
        return ThingId("street", parts.one(q, LevelTie, thing.id).street)

    def progress(self, q: Engine) -> dict[str, float]:
        return {}

    def lines(self, q: Engine, thing: ThingId) -> tuple[LineId, ...]:
        return (levels_of(q, thing.id),)

    def line_plan(self, q: Engine, id: LineId) -> LinePlan:
        assert isinstance(id, TieLevels)
        return plan_of(q, id)

    def level_rule(self, q: Engine, id: LineId) -> LevelRule:
        assert isinstance(id, TieLevels)
        return rule_of(q, id)

    def holds(self, q: Engine, line: LineId) -> tuple[Hold, ...]:
        return holds_of(q, line)

    def followings(self, q: Engine) -> tuple[Following, ...]:
        return followings_of(q)

    def recut(self, q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
        return recut(site, street, kept, rest)

    def rejoined(self, q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
        return rejoined(site, gone, street, start, back)

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        return tie_findings(q, thing.id)

    def outline(self, q: Engine, thing: ThingId) -> Drawing:
        return show.drawing_of(q, thing.id)

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        return show.facts_of(q, thing.id)

    def facts_about(self, q: Engine, other: ThingId) -> tuple[Row, ...]:
        return show.facts_about_street(q, other.id) if other.kind == "street" else ()

    def cross_handles_about(self, q: Engine, other: ThingId, chainage: float) -> tuple[Handle, ...]:
        return tie_handles(q, other.id, chainage) if other.kind == "street" else ()

    def handles_about(self, q: Engine, other: ThingId) -> tuple[Handle, ...]:
        return plan_handles(q, other.id) if other.kind == "street" else ()

    def sheets(self, q: Engine, thing: ThingId) -> tuple[SheetOf, ...]:
        return (SheetOf("Tie", lambda q: show.sheet_of(q, thing.id)),)

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        return levels_of(q, thing.id)

    def beside(self, q: Engine, id: LineId) -> tuple[LineId, ...]:
        """What it follows, and its street's crown."""
        if not isinstance(id, TieLevels):
            return ()
        other = q.attempt(source_line, id.id)
        found = (StreetLine(id.street),)
        return found if other is None or isinstance(other, Unsolved) or other in found else (other, *found)

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        plan = q.attempt(line_plan, levels_of(q, thing.id))
        if isinstance(plan, Unsolved):
            return np.inf
        s, beyond = plan.foot([place])
        return abs(float(beyond[0])) if plan.covers(s)[0] else np.inf
