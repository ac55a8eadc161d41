"""The kind: roundabouts."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.roundabout import leg_show, profiles, show, streets, vips
from humble_loop.kinds.roundabout.checks import RULES, roundabout_findings
from humble_loop.kinds.roundabout.faces import RoundaboutFace, batter_slopes, face_of, faces_of, kerb_rows, rim_rows
from humble_loop.kinds.roundabout.layout import KerbLine, kerb_after, kerb_plan, kerb_shape, leg_widens
from humble_loop.kinds.roundabout.leg_islands import (
    PARTS,
    LegIslandFace,
    LegIslandLine,
    island_face,
    island_faces,
    island_lines,
    island_plan,
    island_polygon,
    island_rows,
    island_rule,
)
from humble_loop.kinds.roundabout.levels import CircleLine, circle_line_plan, circle_rule, kerb_line_rule, rings_of
from humble_loop.kinds.roundabout.model import Roundabout, recut, rejoined
from humble_loop.kinds.roundabout.place import (
    leg_name,
    leg_of,
    legs_of,
    legs_on,
    middle_of,
    roundabout_ids,
    roundabout_name,
    roundabout_of,
    rounds_near,
    sizes_of,
)
from humble_loop.kinds.roundabout.tables import TABLES, path_sheet, set_out
from humble_loop.kinds.roundabout.turning import driving_sheet
from humble_loop.kinds.street.plan import StreetLine
from humble_loop.lines.describe import Crossing, Drawing, Handle, LineProfile, Mark, Place, Row, SetOutPoint, SheetOf
from humble_loop.lines.faces import Face, FaceId
from humble_loop.lines.findings import Finding
from humble_loop.lines.kind import Carried, EndTie, Following, Kind, Meeting, Reserve, Turn, Widens
from humble_loop.lines.line import LineId, LinePlan, ThingId
from humble_loop.lines.rules import LevelRule
from humble_loop.site.edits import Edit
from humble_loop.site.model import Anchor, Side, Site


class Roundabouts(Kind):
    """Circles in which streets meet."""

    key, title, stage = "roundabout", "Roundabouts", "Junctions"
    models = (Roundabout,)
    worked_on_next = True
    rules = dict.fromkeys(RULES, "Junctions")
    tables = TABLES

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(ThingId(self.key, i) for i in roundabout_ids(q))

    def name(self, q: Engine, thing: ThingId) -> str:
        return roundabout_name(q, thing.id)

    def streets_of(self, q: Engine, thing: ThingId) -> tuple[str, ...]:
        return _streets(q, thing.id)

    def lines(self, q: Engine, thing: ThingId) -> tuple[LineId, ...]:
        rings, legs = q.attempt(rings_of, thing.id), q.attempt(legs_of, thing.id)
        found: list[LineId] = []
        if not isinstance(rings, Unsolved) and not isinstance(q.attempt(middle_of, thing.id), Unsolved):
            found += [CircleLine(thing.id, r.name) for r in rings]
        for leg in () if isinstance(legs, Unsolved) else legs:
            if not isinstance(q.attempt(kerb_after, thing.id, leg.key), Unsolved):
                found += [KerbLine(thing.id, leg.key, n) for n in kerb_shape(q, thing.id, leg.key)[0].names]
        return (*found, *island_lines(q, thing.id))

    def line_plan(self, q: Engine, id: LineId) -> LinePlan:
        if isinstance(id, LegIslandLine):
            return island_plan(q, id)
        assert isinstance(id, (CircleLine, KerbLine))
        return circle_line_plan(q, id) if isinstance(id, CircleLine) else kerb_plan(q, id)

    def level_rule(self, q: Engine, id: LineId) -> LevelRule:
        if isinstance(id, LegIslandLine):
            return island_rule(q, id)
        assert isinstance(id, (CircleLine, KerbLine))
        return circle_rule(q, id) if isinstance(id, CircleLine) else kerb_line_rule(q, id)

    def rows_on(self, q: Engine, line: LineId) -> Floats:
        if isinstance(line, LegIslandLine):
            return island_rows(q, line.roundabout, line.leg, line.part, line.piece)
        assert isinstance(line, (CircleLine, KerbLine))
        return rim_rows(q, line.roundabout) if isinstance(line, CircleLine) else kerb_rows(q, line.roundabout, line.leg)

    def faces(self, q: Engine, thing: ThingId) -> tuple[FaceId, ...]:
        return (*faces_of(q, thing.id), *island_faces(q, thing.id))

    def face(self, q: Engine, id: FaceId) -> Face:
        if isinstance(id, LegIslandFace):
            return island_face(q, id)
        assert isinstance(id, RoundaboutFace)
        return face_of(q, id)

    def slopes(self, q: Engine, line: LineId, s: Floats) -> Floats:
        assert isinstance(line, KerbLine)
        return batter_slopes(q, line, s)

    # What it does to streets

    def meetings(self, q: Engine, street: str) -> tuple[Meeting, ...]:
        return tuple(m for _, m in rounds_near(q, street))

    def widens(self, q: Engine, street: str, side: Side) -> tuple[Widens, ...]:
        return leg_widens(q, street, side)

    def end_ties(self, q: Engine, street: str) -> tuple[EndTie, ...]:
        return streets.end_ties(q, street)

    def carried(self, q: Engine, street: str) -> tuple[Carried, ...]:
        return streets.carried(q, street)

    def turns(self, q: Engine, street: str, side: Side) -> tuple[Turn, ...]:
        return streets.turns(q, street, side)

    def own_range(self, q: Engine, street: str, side: Side) -> tuple[float, float]:
        return streets.own_range(q, street, side)

    def carriageway_range(self, q: Engine, street: str, side: Side) -> tuple[float, float]:
        return streets.carriageway_range(q, street, side)

    def breaks(self, q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
        return streets.breaks(q, street, side)

    def carriageway_breaks(self, q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
        return streets.carriageway_breaks(q, street, side)

    def stations(self, q: Engine, street: str) -> Floats:
        return streets.stations(q, street)

    def obstacles(self, q: Engine, street: str) -> tuple[shapely.Geometry, ...]:
        made = [island_polygon(q, id, leg.key, part) for id, leg in legs_on(q, street) for part in PARTS]
        return tuple(m for m in made if not m.is_empty)

    def ribbon(self, q: Engine, street: str) -> tuple[Mark, ...]:
        return streets.ribbon(q, street)

    def corners_on(self, q: Engine, line: LineId) -> tuple[tuple[float, LineId, float], ...]:
        if isinstance(line, StreetLine) and line.side is not None:
            return streets.corners_on(q, line.street, line.side)
        return ()

    def reserves(self, q: Engine, street: str) -> tuple[Reserve, ...]:
        return streets.reserves(q, street)

    def let_follow(self, q: Engine, line: LineId, s: float, anchor: Anchor, level: float) -> Edit | None:
        if isinstance(line, CircleLine) and line.point == "rim":
            return vips.let_follow(q, line.roundabout, s, anchor, level)
        if isinstance(line, KerbLine) and line.point == "lip":
            return profiles.let_follow(q, line.roundabout, line.leg, s, anchor, level)
        return None

    def followings(self, q: Engine) -> tuple[Following, ...]:
        return tuple(f for i in roundabout_ids(q) for f in streets.followings(q, i))

    def recut(self, q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
        return recut(site, street, kept, rest)

    def rejoined(self, q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
        return rejoined(site, gone, street, start, back)

    # What is wrong, and what people read

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        return roundabout_findings(q, thing.id)

    def set_out(self, q: Engine, thing: ThingId) -> tuple[SetOutPoint, ...]:
        return set_out(q, thing.id)

    # How it shows itself

    def outline(self, q: Engine, thing: ThingId) -> Drawing:
        return show.drawing(q, thing.id)

    def details(self, q: Engine, thing: ThingId) -> Drawing:
        return show.details(q, thing.id)

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        return show.facts(q, thing.id)

    def facts_about(self, q: Engine, other: ThingId) -> tuple[Row, ...]:
        return show.about_junction(q, other.id) if other.kind == "junction" else ()

    def handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return show.handles(q, thing.id)

    def sheets(self, q: Engine, thing: ThingId) -> tuple[SheetOf, ...]:
        return (
            SheetOf("Levels", lambda q: profiles.level_sheet(q, thing.id)),
            SheetOf("Paths", lambda q: path_sheet(q, thing.id)),
            SheetOf("Vehicles", lambda q: driving_sheet(q, thing.id)),
        )

    def profiles(self, q: Engine, thing: ThingId) -> tuple[LineProfile, ...]:
        return profiles.profiles(q, thing.id)

    def profile_handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return profiles.profile_handles(q, thing.id)

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        return None if isinstance(q.attempt(legs_of, thing.id), Unsolved) else CircleLine(thing.id)

    def section_handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return vips.section_handles(q, thing.id)

    def section_offers(self, q: Engine, thing: ThingId, place: Place) -> tuple[tuple[str, Edit], ...]:
        return vips.offers(q, thing.id, place)

    def section_marks(self, q: Engine, line: LineId) -> tuple[Crossing, ...]:
        return show.section_marks(q, line)

    def street_beside(self, q: Engine, id: LineId) -> str:
        return roundabout_of(q, id.thing.id).street

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        middle, sizes = q.attempt(middle_of, thing.id), q.attempt(sizes_of, thing.id)
        if isinstance(middle, Unsolved) or isinstance(sizes, Unsolved):
            return np.inf
        away = float(np.hypot(*(middle - np.array(place))))
        return max(away - (sizes.radius - sizes.width), 1e-9)


def _streets(q: Engine, id: str) -> tuple[str, ...]:
    legs = q.attempt(legs_of, id)
    if isinstance(legs, Unsolved):
        return (roundabout_of(q, id).street,)
    return tuple(dict.fromkeys(g.street for g in legs))


class RoundaboutLegs(Kind):
    """The streets that come in to a roundabout, each of which is chosen and worked on by itself."""

    key, title, stage = "roundabout_leg", "Roundabout legs", "Junctions"

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        found = []
        for id in roundabout_ids(q):
            legs = q.attempt(legs_of, id)
            found += [
                ThingId(self.key, leg_show.leg_thing(id, g.key)) for g in (() if isinstance(legs, Unsolved) else legs)
            ]
        return tuple(found)

    def name(self, q: Engine, thing: ThingId) -> str:
        id, key = leg_show.of_thing(thing.id)
        return f"{roundabout_name(q, id)}, {leg_name(q, id, leg_of(q, id, key))}"

    def under(self, q: Engine, thing: ThingId) -> ThingId | None:
        return ThingId(Roundabouts.key, leg_show.of_thing(thing.id)[0])

    def streets_of(self, q: Engine, thing: ThingId) -> tuple[str, ...]:
        return _streets(q, leg_show.of_thing(thing.id)[0])

    def progress(self, q: Engine) -> dict[str, float]:
        return {}

    def lit(self, q: Engine, thing: ThingId) -> Floats | None:
        return leg_show.lit(q, *leg_show.of_thing(thing.id))

    def outline(self, q: Engine, thing: ThingId) -> Drawing:
        return leg_show.drawing(q, *leg_show.of_thing(thing.id))

    def details(self, q: Engine, thing: ThingId) -> Drawing:
        return leg_show.details(q, *leg_show.of_thing(thing.id))

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        return leg_show.facts(q, *leg_show.of_thing(thing.id))

    def handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return leg_show.handles(q, *leg_show.of_thing(thing.id))

    def profiles(self, q: Engine, thing: ThingId) -> tuple[LineProfile, ...]:
        return profiles.profiles_of_leg(q, *leg_show.of_thing(thing.id))

    def profile_handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return profiles.handles_of_leg(q, *leg_show.of_thing(thing.id))

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        return StreetLine(leg_of(q, *leg_show.of_thing(thing.id)).street)

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        return leg_show.at(q, *leg_show.of_thing(thing.id), place)
