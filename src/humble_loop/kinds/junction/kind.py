"""The kind: junctions. They appear, follow and go with the streets that meet."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.junction import reach, show
from humble_loop.kinds.junction.checks import RULES, junction_findings, meeting_findings
from humble_loop.kinds.junction.faces import JunctionFace, face_of, faces_of
from humble_loop.kinds.junction.layout import (
    ReturnLine,
    batter_slopes,
    corner_shape,
    divisions,
    end_tie,
    kerb_return,
    plan_of,
    return_rows,
    rule_of,
    turn_of,
)
from humble_loop.kinds.junction.model import JunctionChoice
from humble_loop.kinds.junction.nodes import Joint, all_joints, joint, junction_name, node_id, of_node
from humble_loop.kinds.junction.reserve import corner_reserves
from humble_loop.kinds.junction.tables import TABLES
from humble_loop.kinds.street.plan import StreetLine, chain_of, is_new, name_of
from humble_loop.lines.describe import Crossing, Drawing, Handle, Row, SetOutPoint
from humble_loop.lines.faces import Face, FaceId
from humble_loop.lines.findings import Finding
from humble_loop.lines.kind import EndTie, Following, Kind, Reserve, Turn
from humble_loop.lines.line import LineId, LinePlan, ThingId, line
from humble_loop.lines.rules import LevelRule
from humble_loop.lines.setout import told
from humble_loop.site.edits import changed
from humble_loop.site.model import ENDS, SIDES, End, Side, Site, other_end


class Junctions(Kind):
    """Where centrelines meet there is a junction."""

    key, title, stage = "junction", "Junctions", "Junctions"
    models = (JunctionChoice,)
    rules = dict.fromkeys(RULES, "Junctions")
    tables = TABLES

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(ThingId(self.key, node_id(q, side, end)) for side, end, _ in all_joints(q))

    def name(self, q: Engine, thing: ThingId) -> str:
        return junction_name(q, *of_node(q, thing.id))

    def followings(self, q: Engine) -> tuple[Following, ...]:
        return tuple(
            Following(
                ThingId("street", side),
                ThingId("street", through),
                f"its {end}",
                ThingId(self.key, node_id(q, side, end)),
            )
            for side, end, through in all_joints(q)
            if is_new(q, side)
        )

    def lines(self, q: Engine, thing: ThingId) -> tuple[LineId, ...]:
        street, end = of_node(q, thing.id)
        if not is_new(q, street):
            return ()
        found: list[LineId] = []
        for corner in SIDES:
            if not isinstance(q.attempt(kerb_return, street, end, corner), Unsolved):
                names = corner_shape(q, street, end, corner).last.names
                found += [ReturnLine(street, end, corner, n) for n in names]
        return tuple(found)

    def line_plan(self, q: Engine, id: LineId) -> LinePlan:
        assert isinstance(id, ReturnLine)
        return plan_of(q, id)

    def level_rule(self, q: Engine, id: LineId) -> LevelRule:
        assert isinstance(id, ReturnLine)
        return rule_of(q, id)

    def rows_on(self, q: Engine, line: LineId) -> Floats:
        assert isinstance(line, ReturnLine)
        return return_rows(q, line.street, line.end, line.corner)

    def reserves(self, q: Engine, street: str) -> tuple[Reserve, ...]:
        return corner_reserves(q, street)

    def faces(self, q: Engine, thing: ThingId) -> tuple[FaceId, ...]:
        return faces_of(q, *of_node(q, thing.id))

    def face(self, q: Engine, id: FaceId) -> Face:
        assert isinstance(id, JunctionFace)
        return face_of(q, id)

    # What it does to streets

    def end_ties(self, q: Engine, street: str) -> tuple[EndTie, ...]:
        return tuple(end_tie(q, street, end) for end in ENDS if joint(q, street, end) is not None)

    def turns(self, q: Engine, street: str, side: Side) -> tuple[tuple[End, Turn], ...]:
        return tuple((end, turn_of(q, street, end, side)) for end in ENDS if joint(q, street, end) is not None)

    def own_range(self, q: Engine, street: str, side: Side) -> tuple[float, float]:
        return reach.own_range(q, street, side)

    def carriageway_range(self, q: Engine, street: str, side: Side) -> tuple[float, float]:
        return reach.carriageway_range(q, street, side)

    def gaps(self, q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
        return reach.gaps(q, street, side)

    def stations(self, q: Engine, street: str) -> Floats:
        return reach.stations(q, street)

    def slopes(self, q: Engine, line: LineId, s: Floats) -> Floats:
        assert isinstance(line, ReturnLine)
        return batter_slopes(q, line, s)

    def corners_on(self, q: Engine, line: LineId) -> tuple[tuple[float, LineId, float], ...]:
        if isinstance(line, StreetLine) and line.side is not None:
            return reach.corners_on(q, line.street, line.side)
        return ()

    # What is wrong, and what people read

    def recut(self, q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
        choice = site.find(JunctionChoice, f"{street}:end")
        if not rest or choice is None:
            return site
        return site.without(JunctionChoice, choice.id).put(changed(choice, id="", side=rest))

    def rejoined(self, q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
        for choice in site.owned(JunctionChoice, gone):
            end = other_end(choice.end) if back else choice.end
            site = site.without(JunctionChoice, choice.id).put(changed(choice, id="", side=street, end=end))
        return site

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        return junction_findings(q, *of_node(q, thing.id))

    def findings_about(self, q: Engine, other: ThingId) -> tuple[Finding, ...]:
        return meeting_findings(q, other.id) if other.kind == "street" else ()

    def set_out(self, q: Engine, thing: ThingId) -> tuple[SetOutPoint, ...]:
        street, end = of_node(q, thing.id)
        if not is_new(q, street):
            return ()
        found: list[SetOutPoint] = []
        for corner in SIDES:
            id = ReturnLine(street, end, corner)
            made = q.attempt(line, id)
            if not isinstance(made, Unsolved):
                # Outwards from the road is the side on which the return's centre lies.
                outwards = 1.0 if made.plan.base.k0[0] > 0 else -1.0
                n = divisions(q, street, end, corner)
                s = np.linspace(0.0, made.plan.end, n + 1)
                marks = ["tangent point", *["division"] * (n - 1), "tangent point"]
                found += told(q, id, made.title, s, marks, outwards, chain_of(q, street), name_of(q, street))
        return tuple(found)

    # How it shows itself

    def outline(self, q: Engine, thing: ThingId) -> Drawing:
        return show.outline(q, *of_node(q, thing.id))

    def details(self, q: Engine, thing: ThingId) -> Drawing:
        return show.details(q, *of_node(q, thing.id))

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        return show.facts(q, *of_node(q, thing.id))

    def facts_about(self, q: Engine, other: ThingId) -> tuple[Row, ...]:
        return show.about_street(q, other.id) if other.kind == "street" else ()

    def handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return show.handles(q, *of_node(q, thing.id))

    def handles_about(self, q: Engine, other: ThingId) -> tuple[Handle, ...]:
        if other.kind != "street":
            return ()
        ends = [end for end in ENDS if isinstance(q.attempt(joint, other.id, end), Joint)]
        return tuple(h for end in ends for h in show.handles(q, other.id, end))

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        return StreetLine(of_node(q, thing.id)[0])

    def section_marks(self, q: Engine, line: LineId) -> tuple[Crossing, ...]:
        return show.section_marks(q, line)

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        return show.at(q, *of_node(q, thing.id), place)
