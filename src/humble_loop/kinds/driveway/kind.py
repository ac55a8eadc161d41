"""The kind: driveways."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.kinds.driveway import show
from humble_loop.kinds.driveway.check import Passage, passages, place_of, steepest, worst_of
from humble_loop.kinds.driveway.lowering import set_out_points
from humble_loop.kinds.driveway.model import DrivewayChoice, moved_to
from humble_loop.kinds.driveway.place import Way, all_lots, at_the_lip, lowers, name_of, wanted, way_of
from humble_loop.kinds.driveway.profile import EDGES, DriveLine, aside_of, crossing, drive_line, drive_plan
from humble_loop.kinds.driveway.standing import standing_on
from humble_loop.kinds.driveway.tables import TABLES
from humble_loop.kinds.lot.layout import lot, lots_of_row
from humble_loop.kinds.street.plan import StreetLine
from humble_loop.kinds.street.section import own_range
from humble_loop.lines.describe import Drawing, Handle, Mark, Row, SetOutPoint, Standing
from humble_loop.lines.findings import Finding, failed, point, share, too_high
from humble_loop.lines.kind import Kind, Lowers
from humble_loop.lines.line import LineId, LinePlan, ThingId
from humble_loop.lines.rules import LevelRule
from humble_loop.site.model import Site

RULES = (
    "driveway touches",
    "driveway too steep",
    "driveway in a corner",
    "driveways over one another",
    "driveway outside its lot",
)
_ON = 1e-6  # metres by which two may share the kerb, or one may reach over a side line


class Driveways(Kind):
    """Ways into lots."""

    key, title, stage = "driveway", "Driveways", "Lots"
    at_leisure = True
    models = (DrivewayChoice,)
    rules = dict.fromkeys(RULES, "Lots")
    tables = TABLES

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(ThingId(self.key, f.id) for f in all_lots(q) if wanted(q, f.id))

    def name(self, q: Engine, thing: ThingId) -> str:
        return name_of(q, thing.id)

    def under(self, q: Engine, thing: ThingId) -> ThingId | None:
        return ThingId("lot", thing.id)

    def streets_of(self, q: Engine, thing: ThingId) -> tuple[str, ...]:
        return (lot(q, thing.id).row.street,)

    def progress(self, q: Engine) -> dict[str, float]:
        return {}

    def lines(self, q: Engine, thing: ThingId) -> tuple[LineId, ...]:
        if isinstance(q.attempt(drive_line, thing.id), Unsolved):
            return ()
        edges = (DriveLine(thing.id, point) for point in EDGES)
        there = (e for e in edges if not isinstance(q.attempt(crossing, e.lot, aside_of(q, e)), Unsolved))
        return (DriveLine(thing.id), *there)

    def line_plan(self, q: Engine, id: LineId) -> LinePlan:
        assert isinstance(id, DriveLine)
        return drive_plan(q, id)

    def level_rule(self, q: Engine, id: LineId) -> LevelRule:
        assert isinstance(id, DriveLine)
        return drive_line(q, id.lot, aside_of(q, id))

    def lowers(self, q: Engine, lip: LineId) -> tuple[Lowers, ...]:
        return lowers(q, lip)

    def recut(self, q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
        return _moved(q, site)

    def rejoined(self, q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
        return _moved(q, site)

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        return driveway_findings(q, thing.id)

    def set_out(self, q: Engine, thing: ThingId) -> tuple[SetOutPoint, ...]:
        return set_out_points(q, thing.id)

    def outline(self, q: Engine, thing: ThingId) -> Drawing:
        return show.outline(q, thing.id)

    def details(self, q: Engine, thing: ThingId) -> Drawing:
        return show.details(q, thing.id)

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        return show.facts(q, thing.id)

    def facts_about(self, q: Engine, other: ThingId) -> tuple[Row, ...]:
        return show.about_lot(q, other.id) if other.kind == "lot" else ()

    def handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        return show.handles(q, thing.id)

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        return None if isinstance(q.attempt(drive_line, thing.id), Unsolved) else DriveLine(thing.id)

    def ribbon(self, q: Engine, street: str) -> tuple[Mark, ...]:
        return show.ribbon(q, street)

    def standing_on(self, q: Engine, line: LineId, s: float | None) -> Standing | None:
        return standing_on(q, line.lot, s) if isinstance(line, DriveLine) else None

    def street_beside(self, q: Engine, id: LineId) -> str:
        assert isinstance(id, DriveLine)
        return lot(q, id.lot).row.street

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        made = q.attempt(way_of, thing.id)
        if isinstance(made, Unsolved):
            return np.inf
        away = float(shapely.distance(shapely.Polygon(made.ring), shapely.Point(place)))
        return away if away > 0.0 else 1e-6  # within it: before the lot, which it lies in


@query
def driveway_findings(q: Engine, id: str) -> tuple[Finding, ...]:
    """Findings on a driveway: whether it can be laid out, whether something touches, and whether it is too steep."""
    of = ThingId("driveway", id)
    way = q.attempt(way_of, id)
    if isinstance(way, Unsolved):
        return (failed(way, of, point(lot(q, id).first.front)),)
    made, name = q.attempt(passages, id), name_of(q, id)
    if isinstance(made, Unsolved):
        return (failed(made, of, point(way.boundary)),)
    found = [*_in_a_corner(q, of, name, way), *_over_others(q, of, name, way), *_outside(q, of, name, way)]
    worst = worst_of(made)
    if worst is not None and worst.verdict != "clear":
        found.append(_scrapes(of, name, worst, place_of(q, of.id, worst)))
    grade, most = steepest(q, id)
    if too_high(abs(grade), most):
        words = f"it {'climbs' if grade > 0 else 'falls'} at {share(abs(grade))}, more than {share(most)}"
        remedy = (
            f"{'lower' if grade > 0 else 'raise'} the pad, slide it along the frontage, or change the street's level"
        )
        found.append(Finding(RULES[1], of, name, words, remedy, abs(grade), most, place=point(way.boundary)))
    return tuple(found)


def _in_a_corner(q: Engine, of: ThingId, name: str, way: Way) -> list[Finding]:
    """Whether a driveway leaves its street's own kerb: where a return, a head or a roundabout has it."""
    if not isinstance(way.line, StreetLine) or way.line.side is None:
        return []
    (low, high), (begin, finish) = own_range(q, way.line.street, way.line.side), at_the_lip(way)
    over = max(low - begin, finish - high)
    if over <= _ON:
        return []
    words = f"at the lip it reaches {over:.2f} m into the kerb of a corner"
    remedy = f"slide it {over:.2f} m along its frontage, or make it narrower"
    return [Finding(RULES[2], of, name, words, remedy, over, 0.0, place=point(way.lip))]


def _over_others(q: Engine, of: ThingId, name: str, way: Way) -> list[Finding]:
    """Whether the driveway of another lot of its row leaves the kerb where this one does; told by the first of both."""
    begin, finish = at_the_lip(way)
    for frame in lots_of_row(q, of.id.rpartition("#")[0]):
        other = q.attempt(way_of, frame.id) if wanted(q, frame.id) else None
        if not isinstance(other, Way) or frame.id == of.id or other.line != way.line or other.s < way.s:
            continue
        a, b = at_the_lip(other)
        shared = min(finish, b) - max(begin, a)
        if shared > _ON:
            words = f"at the lip it and {name_of(q, frame.id)} share {shared:.2f} m"
            remedy = "slide one of them along its frontage, or make them narrower"
            also = (ThingId("driveway", frame.id),)
            return [Finding(RULES[3], of, name, words, remedy, shared, 0.0, place=point(way.lip), also=also)]
    return []


def _outside(q: Engine, of: ThingId, name: str, way: Way) -> list[Finding]:
    """Whether a driveway reaches over a side line of its lot between the boundary and the pad."""
    frame, corners = lot(q, of.id), way.ring[1:5]
    middle = 0.5 * (frame.first.front + frame.last.front)
    found = []
    for side in (frame.first, frame.last):
        along = side.rear - side.front
        out = np.array([-along[1], along[0]]) / float(np.hypot(*along))
        out = out if (side.front - middle) @ out > 0.0 else -out
        away = (corners - side.front) @ out
        k, over = int(np.argmax(away)), float(away.max())
        if over > _ON:
            words = f"it reaches {over:.2f} m over a side line of its lot"
            remedy = "slide it away from there, turn it, or make it narrower"
            found.append(Finding(RULES[4], of, name, words, remedy, over, 0.0, place=point(corners[k])))
    return found


def _scrapes(of: ThingId, name: str, worst: Passage, place: tuple[float, float]) -> Finding:
    where = f"{abs(worst.at):.2f} m {'beyond' if worst.at >= 0 else 'before'} the lip on its {worst.beside}"
    who = f"a {worst.vehicle.lower()} that goes in {worst.direction}"
    if worst.verdict == "touches":
        words = f"{who} touches by {1000 * -worst.clearance:.0f} mm, {where}"
    else:
        words = f"{who} has {1000 * worst.clearance:.0f} mm left, {where}"
    remedy = "change the level of the kerb or of the pad, or set the pad back"
    severity = "broken" if worst.verdict == "touches" else "near"
    return Finding(RULES[0], of, name, words, remedy, worst.clearance, 0.0, place=place, severity=severity)  # type: ignore[arg-type]


def _moved(q: Engine, site: Site) -> Site:
    """What was chosen of driveways goes with the lots that stand where theirs stood."""
    fresh: Engine | None = None
    for choice in site.all(DrivewayChoice):
        frame = next((f for f in all_lots(q) if f.id == choice.id), None)
        if frame is None:
            continue
        fresh = fresh or Engine(site)
        middle = 0.5 * (frame.first.front + frame.last.front)
        near = min(
            all_lots(fresh),
            key=lambda f: float(np.hypot(*(0.5 * (f.first.front + f.last.front) - middle))),
            default=None,
        )
        if near is not None and near.id != choice.id:
            site = moved_to(site, choice, near.row.id, near.number, near.along)
    return site
