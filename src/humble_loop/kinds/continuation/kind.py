"""The kind: continuations."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine
from humble_loop.kinds.continuation import show
from humble_loop.kinds.continuation.checks import RULES, continuation_findings, meeting_findings
from humble_loop.kinds.continuation.meets import Tip, all_continuations, continuations_of, id_of, name_at, of_id
from humble_loop.kinds.continuation.model import ContinuationChoice
from humble_loop.kinds.continuation.recut import recut, rejoined
from humble_loop.kinds.continuation.tables import TABLES
from humble_loop.kinds.street.plan import StreetLine, end_chainage, is_new, name_of
from humble_loop.kinds.street.side import course
from humble_loop.lines.describe import Crossing, Drawing, Note, Row
from humble_loop.lines.findings import Finding
from humble_loop.lines.kind import EndTie, GoesOn, Kind
from humble_loop.lines.line import LineId, ThingId, line
from humble_loop.lines.quantity import elsewhere
from humble_loop.site.model import Site, other_side


class Continuations(Kind):
    """Places at which a street goes on as another, end to end."""

    key, title, stage = "continuation", "Continuations", "Junctions"
    models = (ContinuationChoice,)
    rules = dict.fromkeys(RULES, "Junctions")
    tables = TABLES

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(ThingId(self.key, id_of(q, *made.tips)) for made in all_continuations(q))

    def name(self, q: Engine, thing: ThingId) -> str:
        return name_at(q, of_id(q, thing.id))

    # What it does to streets

    def goes_on(self, q: Engine, street: str) -> tuple[GoesOn, ...]:
        found = []
        for made in continuations_of(q, street):
            own, other = (made.holds, made.follows) if made.holds.street == street else (made.follows, made.holds)
            found.append(GoesOn(own.end, other.street, other.end, own == made.follows, made.taper))
        return tuple(found)

    def end_ties(self, q: Engine, street: str) -> tuple[EndTie, ...]:
        found = []
        for made in continuations_of(q, street):
            if made.follows.street != street:
                continue
            crown, at = StreetLine(made.holds.street), end_chainage(q, made.holds.street, made.holds.end)
            there = line(q, crown)
            level = elsewhere(there.title, crown, at, there.rule.levels([at]))
            found.append(EndTie(made.follows.end, end_chainage(q, street, made.follows.end), level, None))
        return tuple(found)

    def corners_on(self, q: Engine, line: LineId) -> tuple[tuple[float, LineId, float], ...]:
        """The boundary of one goes on as that of the other."""
        if not isinstance(line, StreetLine) or line.side is None:
            return ()
        found = []
        for goes in self.goes_on(q, line.street):
            if is_new(q, goes.other):
                side = line.side if goes.same_way else other_side(line.side)
                boundary = StreetLine(goes.other, course(q, goes.other, side).names[-1], side)
                here, there = end_chainage(q, line.street, goes.end), end_chainage(q, goes.other, goes.other_end)
                found.append((here, boundary, there))
        return tuple(found)

    def recut(self, q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
        return recut(q, site, street, rest)

    def rejoined(self, q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
        return rejoined(q, site, gone, street, back)

    # What is wrong, and what people read

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        return continuation_findings(q, thing.id)

    def findings_about(self, q: Engine, other: ThingId) -> tuple[Finding, ...]:
        return meeting_findings(q, other.id) if other.kind == "street" else ()

    def details(self, q: Engine, thing: ThingId) -> Drawing:
        return show.details(q, of_id(q, thing.id))

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        return show.facts(q, of_id(q, thing.id))

    def facts_about(self, q: Engine, other: ThingId) -> tuple[Row, ...]:
        if other.kind != "street":
            return ()
        rows: list[Row] = []
        for made in continuations_of(q, other.id):
            rows += [Note(f"goes on: {name_at(q, made)}"), *show.facts(q, made)]
        return tuple(rows)

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        return StreetLine(of_id(q, thing.id).follows.street)

    def section_marks(self, q: Engine, line: LineId) -> tuple[Crossing, ...]:
        if not isinstance(line, StreetLine) or line.side is not None:
            return ()
        found = []
        for goes in self.goes_on(q, line.street):
            (made,) = (c for c in continuations_of(q, line.street) if Tip(line.street, goes.end) in c.tips)
            if np.isfinite(z := show.level_at(q, made)):
                at = end_chainage(q, line.street, goes.end)
                found.append(Crossing(name_of(q, goes.other), at, z, StreetLine(goes.other)))
        return tuple(found)

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        return show.at(of_id(q, thing.id), place)
