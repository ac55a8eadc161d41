"""The kind: junctions. They appear, follow and go with the streets that meet."""

from __future__ import annotations

from itertools import product

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.junction import lanes, reach, show, turns
from humble_loop.kinds.junction.checks import RULES, arm_findings, meeting_findings
from humble_loop.kinds.junction.corner_rows import corner_sheet
from humble_loop.kinds.junction.corners import ReturnLine, corner_choice, corner_shape, divisions, kerb_return
from humble_loop.kinds.junction.faces import JunctionFace, face_of, faces_of
from humble_loop.kinds.junction.lanes import lane_findings, lane_sheet, widens_of
from humble_loop.kinds.junction.layout import batter_slopes, carried_by, end_tie, plan_of, return_rows, rule_of, turn_of
from humble_loop.kinds.junction.model import CrossingChoice, JunctionChoice
from humble_loop.kinds.junction.nodes import (
    CrossingArm,
    all_joints,
    arms_at,
    arms_of,
    beside,
    both_crowns,
    joint,
    junction_name,
    node_id,
)
from humble_loop.kinds.junction.nose import nose_widens
from humble_loop.kinds.junction.profiles import let_follow, level_handles, level_sheet, profiles, returns_of
from humble_loop.kinds.junction.raised import RULES as TABLE_RULES
from humble_loop.kinds.junction.raised import raises_of, table_findings, turns_of
from humble_loop.kinds.junction.recut import recut, rejoined
from humble_loop.kinds.junction.reserve import corner_reserves
from humble_loop.kinds.junction.settling import settle_sheet
from humble_loop.kinds.junction.splay import splay_points
from humble_loop.kinds.junction.tables import TABLES
from humble_loop.kinds.junction.turns import turning_findings, turning_sheet
from humble_loop.kinds.junction.windows import return_windows
from humble_loop.kinds.street.plan import StreetLine, chain_of, drawn_end, frame_of, is_new, name_of
from humble_loop.lines.anchor import followings_in
from humble_loop.lines.describe import Crossing, Drawing, Handle, LineProfile, Row, SetOutPoint, SheetOf, Window
from humble_loop.lines.faces import Face, FaceId
from humble_loop.lines.findings import Finding
from humble_loop.lines.kind import Carried, EndTie, Following, Kind, Raise, Reserve, Turn, Widens
from humble_loop.lines.line import LineId, LinePlan, ThingId, line
from humble_loop.lines.rules import LevelRule
from humble_loop.lines.setout import told
from humble_loop.site.edits import Edit
from humble_loop.site.model import ENDS, SIDES, Anchor, Side, Site


class Junctions(Kind):
    """Where centrelines meet there is a junction."""

    key, title, stage = "junction", "Junctions", "Junctions"
    models = (JunctionChoice, CrossingChoice)
    rules = dict.fromkeys((*RULES, *TABLE_RULES, *turns.RULES, *lanes.RULES), "Junctions")
    tables = TABLES

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(
            ThingId(self.key, id) for id in dict.fromkeys(node_id(q, side, arm) for side, arm, _ in all_joints(q))
        )

    def name(self, q: Engine, thing: ThingId) -> str:
        arms = arms_at(q, thing.id)
        return junction_name(q, *arms[0]) if arms else "a junction that is no more"

    def let_follow(self, q: Engine, line: LineId, s: float, anchor: Anchor, level: float) -> Edit | None:
        if not isinstance(line, ReturnLine) or line.point != "lip":
            return None
        made = returns_of(q, node_id(q, line.street, line.arm))
        found = next((r for r in made if r.place == (line.street, line.arm, line.corner)), None)
        return None if found is None else let_follow(q, found, s, anchor, level)

    def followings(self, q: Engine) -> tuple[Following, ...]:
        corners = [
            (thing, corner_choice(q, *arm, side))
            for thing in self.things(q)
            for arm in arms_at(q, thing.id)
            for side in SIDES
        ]
        return (*self._tied(q), *(f for thing, corner in corners for f in followings_in(thing, corner)))

    def _tied(self, q: Engine) -> tuple[Following, ...]:
        return tuple(
            Following(
                ThingId("street", side),
                ThingId("street", through),
                "its crown where it crosses" if isinstance(arm, CrossingArm) else f"its {arm}",
                ThingId(self.key, node_id(q, side, arm)),
            )
            for side, arm, through in all_joints(q)
            if is_new(q, side) and not (isinstance(arm, CrossingArm) and arm.onwards)
        )

    def lines(self, q: Engine, thing: ThingId) -> tuple[LineId, ...]:
        found: list[LineId] = []
        for (street, arm), corner in product(arms_at(q, thing.id), SIDES):
            if is_new(q, street) and not isinstance(q.attempt(kerb_return, street, arm, corner), Unsolved):
                names = corner_shape(q, street, arm, corner).last.names
                found += [ReturnLine(street, arm, corner, n) for n in names]
        return tuple(found)

    def thing_of(self, q: Engine, id: LineId | FaceId) -> ThingId:
        assert isinstance(id, (ReturnLine, JunctionFace))
        return ThingId(self.key, node_id(q, id.street, id.arm))

    def word_of(self, q: Engine, id: LineId) -> str:
        assert isinstance(id, ReturnLine)
        if isinstance(id.arm, CrossingArm):
            onwards = id.arm.onwards != frame_of(q, id.street).turned
            return f"{id.street} {'onwards' if onwards else 'back'} {id.corner} {id.point}"
        return f"{id.street} {drawn_end(q, id.street, id.arm)} {id.corner} {id.point}"

    def line_plan(self, q: Engine, id: LineId) -> LinePlan:
        assert isinstance(id, ReturnLine)
        return plan_of(q, id)

    def level_rule(self, q: Engine, id: LineId) -> LevelRule:
        assert isinstance(id, ReturnLine)
        return rule_of(q, id)

    def rows_on(self, q: Engine, line: LineId) -> Floats:
        assert isinstance(line, ReturnLine)
        return return_rows(q, line.street, line.arm, line.corner)

    def reserves(self, q: Engine, street: str) -> tuple[Reserve, ...]:
        return corner_reserves(q, street)

    def faces(self, q: Engine, thing: ThingId) -> tuple[FaceId, ...]:
        return tuple(id for arm in arms_at(q, thing.id) for id in faces_of(q, *arm))

    def face(self, q: Engine, id: FaceId) -> Face:
        assert isinstance(id, JunctionFace)
        return face_of(q, id)

    # What it does to streets

    def end_ties(self, q: Engine, street: str) -> tuple[EndTie, ...]:
        return tuple(end_tie(q, street, end) for end in ENDS if joint(q, street, end) is not None)

    def carried(self, q: Engine, street: str) -> tuple[Carried, ...]:
        made = [q.attempt(carried_by, street, *c) for c in _crossed(q, street)]
        return tuple(c for c in made if not isinstance(c, Unsolved))

    def widens(self, q: Engine, street: str, side: Side) -> tuple[Widens, ...]:
        return (*widens_of(q, street, side), *nose_widens(q, street, side))

    def raises(self, q: Engine, street: str) -> tuple[Raise, ...]:
        return raises_of(q, street)

    def turns(self, q: Engine, street: str, side: Side) -> tuple[Turn, ...]:
        # Where the other street cannot carry it a street that crosses runs on as it is; the junction says why.
        carried = {c: q.attempt(carried_by, street, *c) for c in _crossed(q, street)}
        found = [*turns_of(q, street, side)]
        for arm in arms_of(q, street):
            over = carried[arm.other, arm.count] if isinstance(arm, CrossingArm) else None
            if not isinstance(over, Unsolved) and not both_crowns(q, street, arm):
                found.append(turn_of(q, street, arm, side))
        return tuple(found)

    def own_range(self, q: Engine, street: str, side: Side) -> tuple[float, float]:
        return reach.own_range(q, street, side)

    def breaks(self, q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
        return reach.breaks(q, street, side)

    def carriageway_breaks(self, q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
        return reach.carriageway_breaks(q, street, side)

    def carriageway_range(self, q: Engine, street: str, side: Side) -> tuple[float, float]:
        return reach.carriageway_range(q, street, side)

    def gaps(self, q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
        return reach.gaps(q, street, side)

    def stations(self, q: Engine, street: str) -> Floats:
        return reach.stations(q, street)

    def built_before(self, q: Engine, street: str) -> tuple[str, ...]:
        return beside(q, street)

    def windows(self, q: Engine, line: LineId) -> tuple[Window, ...]:
        if isinstance(line, ReturnLine) and line.point == "lip":
            return return_windows(q, line.street, line.arm, line.corner)
        return ()

    def slopes(self, q: Engine, line: LineId, s: Floats) -> Floats:
        assert isinstance(line, ReturnLine)
        return batter_slopes(q, line, s)

    def corners_on(self, q: Engine, line: LineId) -> tuple[tuple[float, LineId, float], ...]:
        if isinstance(line, StreetLine) and line.side is not None:
            return reach.corners_on(q, line.street, line.side)
        return ()

    # What is wrong, and what people read

    def recut(self, q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
        return recut(q, site, street, kept, rest)

    def rejoined(self, q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
        return rejoined(q, site, gone, street, start, back)

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        found = [f for arm in arms_at(q, thing.id) for f in arm_findings(q, *arm)]
        return (*found, *table_findings(q, thing.id), *lane_findings(q, thing.id), *turning_findings(q, thing.id))

    def findings_about(self, q: Engine, other: ThingId) -> tuple[Finding, ...]:
        return meeting_findings(q, other.id) if other.kind == "street" else ()

    def set_out(self, q: Engine, thing: ThingId) -> tuple[SetOutPoint, ...]:
        found: list[SetOutPoint] = []
        for (street, arm), corner in product(arms_at(q, thing.id), SIDES):
            id = ReturnLine(street, arm, corner)
            made = q.attempt(line, id) if is_new(q, street) else None
            if made is not None and not isinstance(made, Unsolved):
                outwards = kerb_return(q, street, arm, corner).curve.towards
                n = divisions(q, street, arm, corner)
                s = np.linspace(0.0, made.plan.end, n + 1)
                marks = ["tangent point", *["division"] * (n - 1), "tangent point"]
                found += told(q, id, made.title, s, marks, outwards, chain_of(q, street), name_of(q, street))
                found += splay_points(q, street, arm, corner)
        return tuple(found)

    # How it shows itself

    def outline(self, q: Engine, thing: ThingId) -> Drawing:
        return show.outline(q, arms_at(q, thing.id))

    def details(self, q: Engine, thing: ThingId) -> Drawing:
        return show.details(q, arms_at(q, thing.id))

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        return show.facts(q, thing.id)

    def facts_about(self, q: Engine, other: ThingId) -> tuple[Row, ...]:
        return show.about_street(q, other.id) if other.kind == "street" else ()

    def handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return tuple(h for arm in arms_at(q, thing.id) for h in show.handles(q, *arm))

    def handles_about(self, q: Engine, other: ThingId) -> tuple[Handle, ...]:
        if other.kind != "street":
            return ()
        return tuple(h for arm in arms_of(q, other.id) for h in show.handles(q, other.id, arm))

    def sheets(self, q: Engine, thing: ThingId) -> tuple[SheetOf, ...]:
        return (
            SheetOf("Corners", lambda q: corner_sheet(q, thing.id)),
            SheetOf("Returns", lambda q: level_sheet(q, thing.id)),
            SheetOf("Lanes", lambda q: lane_sheet(q, thing.id)),
            SheetOf("Settle", lambda q: settle_sheet(q, thing.id)),
            SheetOf("Turning", lambda q: turning_sheet(q, thing.id)),
        )

    def profiles(self, q: Engine, thing: ThingId) -> tuple[LineProfile, ...]:
        return profiles(q, thing.id)

    def profile_handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return level_handles(q, thing.id)

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        arms = arms_at(q, thing.id)
        return StreetLine(arms[0][0]) if arms else None

    def section_marks(self, q: Engine, line: LineId) -> tuple[Crossing, ...]:
        return show.section_marks(q, line)

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        return min((show.at(q, *arm, place) for arm in arms_at(q, thing.id)), default=np.inf)


def _crossed(q: Engine, street: str) -> tuple[tuple[str, int], ...]:
    """The streets that a street crosses as the lesser one, each with the count of that crossing."""
    return tuple((arm.other, arm.count) for arm in arms_of(q, street) if isinstance(arm, CrossingArm) and arm.onwards)
