"""The kind: turning heads."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.street.plan import StreetLine, chain_of, drawn_end, frame_of, name_of, street_ids
from humble_loop.kinds.turning_head import show
from humble_loop.kinds.turning_head.checks import RULES, head_findings
from humble_loop.kinds.turning_head.faces import HeadFace, face_of, faces_of
from humble_loop.kinds.turning_head.layout import (
    HeadLine,
    batter_slopes,
    corners_on,
    head_shape,
    leaves_at,
    outline,
    plan_of,
)
from humble_loop.kinds.turning_head.levels import ring_levels
from humble_loop.kinds.turning_head.lines import ring_rows, rule_of
from humble_loop.kinds.turning_head.model import TurningHead
from humble_loop.kinds.turning_head.place import head_at, head_name, heads_of, of_head, own_side
from humble_loop.kinds.turning_head.reserve import head_reserves
from humble_loop.kinds.turning_head.tables import TABLES
from humble_loop.kinds.turning_head.vips import let_follow, lip_sheet, offers, section_handles
from humble_loop.kinds.turning_head.windows import window_of
from humble_loop.lines.anchor import followings_in
from humble_loop.lines.describe import Drawing, Handle, Mark, Place, Row, SetOutPoint, SheetOf, Window
from humble_loop.lines.faces import Face, FaceId
from humble_loop.lines.findings import Finding
from humble_loop.lines.kind import Following, Kind, Reserve
from humble_loop.lines.line import LineId, LinePlan, ThingId, line
from humble_loop.lines.rules import LevelRule
from humble_loop.lines.setout import divided, told
from humble_loop.site.edits import Edit, changed
from humble_loop.site.model import SIDES, Anchor, Side, Site, other_end


class TurningHeads(Kind):
    """Ends of streets where one turns round."""

    key, title, stage = "turning_head", "Turning heads", "Turning heads"
    models = (TurningHead,)
    worked_on_next = True
    rules = dict.fromkeys(RULES, "Turning heads")
    tables = TABLES

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(ThingId(self.key, h.id) for s in street_ids(q) for _, h in heads_of(q, s))

    def name(self, q: Engine, thing: ThingId) -> str:
        return head_name(q, *of_head(q, thing.id))

    def lines(self, q: Engine, thing: ThingId) -> tuple[LineId, ...]:
        street, end = of_head(q, thing.id)
        if isinstance(q.attempt(outline, street, end), Unsolved):
            return ()
        return tuple(HeadLine(street, end, n) for n in head_shape(q, street, end).first.names)

    def thing_of(self, q: Engine, id: LineId | FaceId) -> ThingId:
        assert isinstance(id, (HeadLine, HeadFace))
        return ThingId(self.key, f"{id.street}:{drawn_end(q, id.street, id.end)}")

    def line_plan(self, q: Engine, id: LineId) -> LinePlan:
        assert isinstance(id, HeadLine)
        return plan_of(q, id)

    def level_rule(self, q: Engine, id: LineId) -> LevelRule:
        assert isinstance(id, HeadLine)
        return rule_of(q, id)

    def rows_on(self, q: Engine, line: LineId) -> Floats:
        assert isinstance(line, HeadLine)
        return ring_rows(q, line.street, line.end)

    def slopes(self, q: Engine, line: LineId, s: Floats) -> Floats:
        assert isinstance(line, HeadLine)
        return batter_slopes(q, line, s)

    def corners_on(self, q: Engine, line: LineId) -> tuple[tuple[float, LineId, float], ...]:
        if isinstance(line, StreetLine) and line.side is not None:
            return corners_on(q, line.street, line.side)
        return ()

    def reserves(self, q: Engine, street: str) -> tuple[Reserve, ...]:
        return head_reserves(q, street)

    def faces(self, q: Engine, thing: ThingId) -> tuple[FaceId, ...]:
        return faces_of(*of_head(q, thing.id))

    def face(self, q: Engine, id: FaceId) -> Face:
        assert isinstance(id, HeadFace)
        return face_of(q, id)

    def own_range(self, q: Engine, street: str, side: Side) -> tuple[float, float]:
        """A side gives way to the bulb's lip where its return begins."""
        low, high = -np.inf, np.inf
        for end, _ in heads_of(q, street):
            if isinstance(q.attempt(outline, street, end), Unsolved):
                continue
            seen = next(s for s in SIDES if own_side(end, s) == side)
            at = leaves_at(q, street, end, seen)
            if end == "end":
                high = at
            else:
                low = at
        return low, high

    def recut(self, q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
        head = site.find(TurningHead, f"{street}:end")
        if not rest or head is None:
            return site
        return site.without(TurningHead, head.id).put(changed(head, id="", street=rest))

    def rejoined(self, q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
        for head in site.owned(TurningHead, gone):
            end = other_end(head.end) if back else head.end
            site = site.without(TurningHead, head.id).put(changed(head, id="", street=street, end=end))
        return site

    def let_follow(self, q: Engine, line: LineId, s: float, anchor: Anchor, level: float) -> Edit | None:
        if not isinstance(line, HeadLine) or line.point != "lip":
            return None
        return let_follow(q, line.street, line.end, s, anchor, level)

    def followings(self, q: Engine) -> tuple[Following, ...]:
        return tuple(f for thing in self.things(q) for f in followings_in(thing, head_at(q, *of_head(q, thing.id))))

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        return head_findings(q, *of_head(q, thing.id))

    def set_out(self, q: Engine, thing: ThingId) -> tuple[SetOutPoint, ...]:
        street, end = of_head(q, thing.id)
        id = HeadLine(street, end)
        made = q.attempt(line, id)
        if isinstance(made, Unsolved):
            return ()
        name, chain, chosen = head_name(q, street, end), chain_of(q, street), head_at(q, street, end).divisions
        if chosen is None or head_at(q, street, end).kind != "bulb":
            return tuple(divided(q, id, name, 1.0, chain, name_of(q, street)))
        (a, b), total = outline(q, street, end).ends, made.plan.end
        parts = (("left return", 4, 0.0, a), ("", chosen, a, b), ("right return", 4, b, total))
        found: list[SetOutPoint] = []
        for part, n, begin, finish in parts:
            if finish <= begin:
                continue
            u = np.linspace(begin, finish, n + 1)
            marks = ["tangent point", *["division"] * (n - 1), "tangent point"]
            u, marks = (u[1:], marks[1:]) if found else (u, marks)
            found += told(q, id, f"{name} {part}".strip(), u, marks, 1.0, chain, name_of(q, street))
        return tuple(found)

    def outline(self, q: Engine, thing: ThingId) -> Drawing:
        return show.drawing(q, *of_head(q, thing.id))

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        return show.facts(q, *of_head(q, thing.id))

    def facts_about(self, q: Engine, other: ThingId) -> tuple[Row, ...]:
        return show.about_street(q, other.id) if other.kind == "street" else ()

    def handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return show.handles(q, *of_head(q, thing.id))

    def handles_about(self, q: Engine, other: ThingId) -> tuple[Handle, ...]:
        if other.kind != "street" or frame_of(q, other.id).kind != "new":
            return ()
        return tuple(h for end, _ in heads_of(q, other.id) for h in show.handles(q, other.id, end))

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        return HeadLine(*of_head(q, thing.id))

    def section_handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return section_handles(q, *of_head(q, thing.id))

    def section_offers(self, q: Engine, thing: ThingId, place: Place) -> tuple[tuple[str, Edit], ...]:
        street, end = of_head(q, thing.id)
        return () if isinstance(q.attempt(ring_levels, street, end), Unsolved) else offers(q, street, end, *place)

    def sheets(self, q: Engine, thing: ThingId) -> tuple[SheetOf, ...]:
        street, end = of_head(q, thing.id)
        if isinstance(q.attempt(ring_levels, street, end), Unsolved):
            return ()
        return (SheetOf("Lip levels", lambda q: lip_sheet(q, street, end)),)

    def windows(self, q: Engine, line: LineId) -> tuple[Window, ...]:
        if not isinstance(line, HeadLine) or line.point != "lip":
            return ()
        made = q.attempt(window_of, line.street, line.end)
        return () if made is None or isinstance(made, Unsolved) else (made,)

    def ribbon(self, q: Engine, street: str) -> tuple[Mark, ...]:
        return show.ribbon(q, street)

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        made = q.attempt(outline, *of_head(q, thing.id))
        return np.inf if isinstance(made, Unsolved) else float(np.hypot(*(made.centre - np.array(place))))
