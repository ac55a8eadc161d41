"""The kind: lots."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import partial

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Key, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.chain import Chain
from humble_loop.kinds.ground.volumes import face_volume
from humble_loop.kinds.lot.clear import contacts_on
from humble_loop.kinds.lot.layout import LotFrame, lot, lots_of_row, lots_on, placed_pads, rows_of
from humble_loop.kinds.lot.model import LotRow, PadChoice, add_lot_row, remove_lot_row, set_lot_row, set_pad
from humble_loop.kinds.lot.pad import LotFace, Pad, PadLine, face_of, pad
from humble_loop.kinds.lot.plan import lot_plan
from humble_loop.kinds.lot.recut import recut, rejoined
from humble_loop.kinds.street.plan import StreetLine, frame_of, is_new, name_of, street_ids
from humble_loop.kinds.street.section import own_range
from humble_loop.kinds.turning_head.place import heads_of
from humble_loop.lines.describe import Actions, Area, Drawing, Fact, Label, Mark, Note, Row, Window
from humble_loop.lines.faces import Face, FaceId, finished_mesh
from humble_loop.lines.findings import Finding, Mend, failed, point, too_high, too_low
from humble_loop.lines.kind import Kind, Parcel
from humble_loop.lines.line import LineId, LinePlan, ThingId, line
from humble_loop.lines.quantity import Quantity
from humble_loop.lines.rules import Fixed, LevelRule
from humble_loop.lines.table import NoSuchTable, Table
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.edits import Edit, EditError
from humble_loop.site.model import SIDES, Site, other_side

FRONTAGE, DEPTH, HEAD_FRONTAGE = 18.0, 30.0, 14.0  # metres; typical of detached houses


class Lots(Kind):
    """Parcels along streets, each with a pad for a house."""

    key, title, stage = "lot", "Lots", "Lots"
    at_leisure = True
    models = (LotRow, PadChoice)
    rules = dict.fromkeys(("pad out of its window", "lots", "pad without its lot"), "Lots")

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(ThingId(self.key, f.id) for s in street_ids(q) for f in _lots(q, s))

    def groups(self, q: Engine) -> Sequence[Key]:
        return [(lots_of_row, row.id) for street in street_ids(q) for row in rows_of(q, street)]

    def name(self, q: Engine, thing: ThingId) -> str:
        return lot(q, thing.id).name

    def under(self, q: Engine, thing: ThingId) -> ThingId | None:
        return ThingId("street", parts.one(q, LotRow, thing.id.rpartition("#")[0]).street)

    def lines(self, q: Engine, thing: ThingId) -> tuple[LineId, ...]:
        return () if isinstance(q.attempt(pad, thing.id), Unsolved) else (PadLine(thing.id),)

    def line_plan(self, q: Engine, id: LineId) -> LinePlan:
        assert isinstance(id, PadLine)
        ring = lot_plan(q, id.lot).pad
        chain = Chain.from_points(np.concatenate([ring, ring[:1]]))
        return LinePlan(f"{lot(q, id.lot).name} pad", "pad", chain, Varying.steady(0.0), 0.0, chain.total)

    def level_rule(self, q: Engine, id: LineId) -> LevelRule:
        assert isinstance(id, PadLine)
        return Fixed(f"{lot(q, id.lot).name} pad", pad(q, id.lot).quantity)

    def faces(self, q: Engine, thing: ThingId) -> tuple[FaceId, ...]:
        return (LotFace(thing.id),)

    def face(self, q: Engine, id: FaceId) -> Face:
        assert isinstance(id, LotFace)
        return face_of(q, id)

    def reason(self, q: Engine, id: FaceId, place: tuple[float, float]) -> Quantity | None:
        assert isinstance(id, LotFace)
        return pad(q, id.lot).quantity

    # What it does to streets

    def cover(self, q: Engine, line: LineId) -> tuple[tuple[float, float], ...]:
        return _cover(q, line)

    def claims(self, q: Engine, line: LineId) -> tuple[tuple[float, float], ...]:
        return _claims(q, line)

    def stations_on(self, q: Engine, line: LineId) -> Floats:
        return _corners_on(q, line)

    # What is wrong, and what people read

    def recut(self, q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
        return recut(q, site, street, kept, rest)

    def rejoined(self, q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
        return rejoined(q, site, gone, street, start, back)

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        return lot_findings(q, thing.id)

    def findings_about(self, q: Engine, other: ThingId) -> tuple[Finding, ...]:
        if other.kind != "street":
            return ()
        return tuple(f for row in rows_of(q, other.id) for f in row_findings(q, row.id))

    def parcels(self, q: Engine, thing: ThingId) -> tuple[Parcel, ...]:
        plan = q.attempt(lot_plan, thing.id)
        return () if isinstance(plan, Unsolved) else (Parcel(lot(q, thing.id).name, plan.outline, plan.area),)

    # How it shows itself

    def details(self, q: Engine, thing: ThingId) -> Drawing:
        return lot_drawing(q, thing.id)

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        return _facts(q, thing.id)

    def facts_about(self, q: Engine, other: ThingId) -> tuple[Row, ...]:
        if other.kind != "street" or not is_new(q, other.id):
            return ()
        return (Actions((("Add lots", line_with_lots(q, other.id)),)),)

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        return StreetLine(parts.one(q, LotRow, thing.id.rpartition("#")[0]).street)

    def windows(self, q: Engine, line: LineId) -> tuple[Window, ...]:
        return pad_windows(q, line.street) if isinstance(line, StreetLine) and line.side is None else ()

    def ribbon(self, q: Engine, street: str) -> tuple[Mark, ...]:
        return _ribbon(q, street)

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        plan = q.attempt(lot_plan, thing.id)
        if isinstance(plan, Unsolved):
            return np.inf
        return 0.0 if shapely.contains_xy(shapely.Polygon(plan.outline), *place) else np.inf

    tables = {"lots": lambda q, of, every: _table(q, of, every)}  # noqa: RUF012 (never changed)


def _lots(q: Engine, street: str) -> tuple[LotFrame, ...]:
    made = q.attempt(lots_on, street)
    return () if isinstance(made, Unsolved) else made


@query
def _cover(q: Engine, line: LineId) -> tuple[tuple[float, float], ...]:
    """Stretches of a boundary line that lots adjoin; where a lot cannot be laid out there is nothing to adjoin."""
    frames = _fronting(q, line)
    own = [f for f in frames if not isinstance(q.attempt(lot_plan, f.id), Unsolved)]
    return (*_frontages(own, line), *contacts_on(q, line))


@query
def _claims(q: Engine, line: LineId) -> tuple[tuple[float, float], ...]:
    return (*_frontages(_fronting(q, line), line), *contacts_on(q, line))


def _fronting(q: Engine, line: LineId) -> tuple[LotFrame, ...]:
    """Lots that may front a line: those of its street."""
    street = getattr(line, "street", None)
    return _lots(q, street) if street is not None and line.kind in ("street", "turning_head") else ()


def _frontages(frames: Sequence[LotFrame], line: LineId) -> list[tuple[float, float]]:
    return [(min(s.begin, s.finish), max(s.begin, s.finish)) for f in frames for s in f.frontage if s.line == line]


@query
def _corners_on(q: Engine, line: LineId) -> Floats:
    """Where lots' front corners stand on a boundary line."""
    street = getattr(line, "street", None)
    if street is None:
        return np.empty(0)
    own = _fronting(q, line)
    touched = [s for contact in contacts_on(q, line) for s in contact]
    return np.array([*(c.along for f in own for c in (f.first, f.last) if c.line == line), *touched])


@query
def lot_findings(q: Engine, id: str) -> tuple[Finding, ...]:
    """Findings on one lot: whether it can be made, and its pad's window."""
    frame, of = lot(q, id), ThingId("lot", id)
    at = point(frame.first.front)
    plan, surface, made = q.attempt(lot_plan, id), q.attempt(finished_mesh, LotFace(id)), q.attempt(pad, id)
    if isinstance(plan, Unsolved):
        return (failed(plan, of, at),)
    bad = tuple(failed(found, of, at) for found in (surface, made) if isinstance(found, Unsolved))
    if isinstance(made, Unsolved):
        return bad
    return (*bad, *_pad_findings(frame, point(plan.pad.mean(axis=0)), made))


def _pad_findings(frame: LotFrame, place: tuple[float, float], made: Pad) -> list[Finding]:
    low, high = too_low(made.level, made.low), too_high(made.level, made.high)
    if not (low or high):
        return []
    limit = made.low if low else made.high
    why = "to fall to the street" if low else "for its driveway's grade"
    words = f"pad {made.level:.3f} is {'below' if low else 'above'} {limit:.3f}, the limit {why}"
    remedy = f"{'raise' if low else 'lower'} it by {abs(limit - made.level):.3f} m, or change the street's level"
    choice = made.choice
    mend = Mend("Give the level back to the proposal", lambda s: s.without(PadChoice, choice.id)) if choice else None
    of = ThingId("lot", frame.id)
    return [Finding("pad out of its window", of, frame.name, words, remedy, made.level, limit, place=place, mend=mend)]


@query
def row_findings(q: Engine, row_id: str) -> tuple[Finding, ...]:
    """A row of lots that could not be cut or holds none, and pad levels that found no lot."""
    row = parts.one(q, LotRow, row_id)
    of, name = ThingId("street", row.street), f"Lots {row.name}"
    made = q.attempt(lots_of_row, row_id)
    if isinstance(made, Unsolved):
        return (failed(made, of),)
    if not made:
        return (Finding("lots", of, name, "no lot fits between its ends", "lessen the frontage or widen its stretch"),)
    found = []
    for choice in placed_pads(q, row_id).lost:
        words = f"the pad level {choice.level:.3f}, set on lot {choice.number}, has no lot to stand on any more"
        mend = Mend("Forget that level", partial(_without_pad, id=choice.id))
        place = point(made[-1].last.front)
        remedy = "cut the row so that a lot stands there again, or forget the level"
        found.append(Finding("pad without its lot", of, name, words, remedy, place=place, severity="near", mend=mend))
    return tuple(found)


@query
def pad_windows(q: Engine, street: str) -> tuple[Window, ...]:
    """Where the crown may lie for each lot's pad to stay on the level that the ground wants.

    Pad and crown move together, so the room that a pad has above and below is the crown's as well.
    """
    found = []
    for frame in _lots(q, street):
        made = q.attempt(pad, frame.id)
        stretch = next((s for s in frame.frontage if isinstance(s.line, StreetLine)), None)
        if isinstance(made, Unsolved) or stretch is None:
            continue
        aim = made.level if made.state == "set" else made.wanted
        a, b = sorted((stretch.begin, stretch.finish))
        if not np.isfinite(aim) or b - a < 0.1:
            continue
        crown = float(line(q, StreetLine(street)).rule.levels([0.5 * (a + b)])[0])
        if np.isfinite(crown):
            low, high = crown + aim - made.high, crown + aim - made.low
            ends, told = frozen([a, b]), "where the crown suits each lot's pad"
            found.append(
                Window(
                    f"{frame.name}: pad on the ground", ends, frozen([low] * 2), frozen([high] * 2), told, asked=False
                )
            )
    return tuple(found)


@query
def lot_drawing(q: Engine, id: str) -> Drawing:
    """A lot's outline and pad, with its level and number."""
    plan, made, frame = lot_plan(q, id), q.attempt(pad, id), lot(q, id)
    of = ThingId("lot", id)
    e, n = plan.pad.mean(axis=0) if len(plan.pad) else plan.outline.mean(axis=0)
    number = Label((float(e), float(n) + 4.5), "quiet", 4, frame.name.rsplit(" ", 1)[-1], centred=True)
    if isinstance(made, Unsolved):
        return Drawing((), (Area("lot", plan.outline, of),), (number,))
    wrong = too_low(made.level, made.low) or too_high(made.level, made.high)
    areas = (
        Area("lot", plan.outline, of),
        Area("pad", plan.pad, of, made.level - made.wanted, made.state, wrong),
    )
    level = Label(
        (float(e), float(n)),
        "ink",
        2,
        unit="level",
        value=made.level,
        state=made.state,
        centred=True,
        weight=500,
        size=12,
    )
    return Drawing((), areas, (level, number))


def _facts(q: Engine, id: str) -> tuple[Row, ...]:
    frame = lot(q, id)
    plan, made = q.attempt(lot_plan, id), q.attempt(pad, id)
    rows: list[Row] = []
    if isinstance(plan, Unsolved) or isinstance(made, Unsolved):
        bad = plan if isinstance(plan, Unsolved) else made
        assert isinstance(bad, Unsolved)
        return (Note(f"{bad.message}; {bad.remedy}"), *_row_facts(frame))

    def edit(level: float | None) -> Edit:
        return pad_edit(made, frame, level)

    switch = edit(None) if made.state == "set" else edit(made.level)
    rows += [
        Fact("pad level", "level", made.level, made.state, edit, switch),
        Fact("lowest it may be", "level", made.low),
        Fact("highest it may be", "level", made.high),
        Fact("ground wants", "level", made.wanted),
        Fact("boundary", "level", made.boundary, "tied"),
        Fact("area", "area", plan.area),
        Fact("frontage", "length", plan.frontage),
        Fact("pad area", "area", plan.pad_area),
    ]
    volume = q.attempt(face_volume, LotFace(id))
    if not isinstance(volume, Unsolved):
        rows += [Fact("cut", "volume", volume.cut), Fact("fill", "volume", volume.fill)]
    return (*rows, *_row_facts(frame))


def pad_edit(made: Pad, frame: LotFrame, level: float | None) -> Edit:
    """The edit that sets a lot's pad level, or gives it back: it remembers where the lot stands in its row."""

    def edit(site: Site) -> Site:
        fresh = site.without(PadChoice, made.choice.id) if made.choice else site
        return set_pad(fresh, frame.row.id, frame.number, level, frame.along) if level is not None else fresh

    return edit


def _row_facts(frame: LotFrame) -> tuple[Row, ...]:
    row = frame.row
    rows: list[Row] = [Note(f"Row {row.name}")]
    for key, label in (
        ("frontage", "least frontage"),
        ("depth", "depth"),
        ("setback", "setback"),
        ("side_gap", "side gap"),
        ("rear_gap", "rear gap"),
    ):
        rows.append(Fact(label, "length", getattr(row, key), "set", _row_field(row.id, key)))
    rows.append(Actions(((f"Remove the row {row.name}", lambda s: remove_lot_row(s, row.id)),)))
    return tuple(rows)


def _row_field(row: str, key: str) -> Callable[[float], Edit]:
    return lambda value: lambda s: set_lot_row(s, row, **{key: value})


def _without_pad(site: Site, id: str) -> Site:
    return site.without(PadChoice, id)


def line_with_lots(q: Engine, street: str, frontage: float = FRONTAGE, depth: float = DEPTH) -> Edit:
    """The edit that puts a row of lots on each side of a street and round its bulb, where none stands yet.

    It raises EditError when the street has no room for a single lot.
    """
    taken = {row.place for row in rows_of(q, street)}
    turned, name = frame_of(q, street).turned, name_of(q, street)
    places: list[tuple[str, float]] = []
    for side in SIDES:
        low, high = own_range(q, street, side)
        drawn = other_side(side) if turned else side
        if drawn not in taken and high - low >= frontage:
            places.append((drawn, frontage))
    if any(h.kind == "bulb" for _, h in heads_of(q, street)) and "head" not in taken:
        places.append(("head", min(frontage, HEAD_FRONTAGE)))

    def edit(site: Site) -> Site:
        if not places:
            raise EditError(f"{name}: no side without lots has room for a frontage of {frontage:g} m")
        for place, width in places:
            site = add_lot_row(site, street, place, frontage=width, depth=depth)
        return site

    return edit


def _ribbon(q: Engine, street: str) -> tuple[Mark, ...]:
    found = []
    for frame in _lots(q, street):
        for s in frame.frontage:
            if isinstance(s.line, StreetLine) and s.line.side is not None:
                a, b = sorted((s.begin, s.finish))
                found.append(Mark("box", s.line.side, a, b, frame.name.rsplit(" ", 1)[-1], ThingId("lot", frame.id)))
    return tuple(found)


def _table(q: Engine, of: str | None, every: float | None) -> Table:
    del every
    out: list[tuple[object, ...]] = []
    found = False
    for street in street_ids(q):
        for frame in _lots(q, street):
            if of is not None and of not in (frame.name, frame.id, street, name_of(q, street)):
                continue
            found = True
            plan, made = q.attempt(lot_plan, frame.id), q.attempt(pad, frame.id)
            if isinstance(plan, Unsolved) or isinstance(made, Unsolved):
                out.append((frame.name, *[None] * 7))
                continue
            volume = q.attempt(face_volume, LotFace(frame.id))
            cut, fill = (None, None) if isinstance(volume, Unsolved) else (volume.cut, volume.fill)
            out.append((frame.name, plan.area, plan.frontage, made.level, made.low, made.high, cut, fill))
    if of is not None and not found:
        raise NoSuchTable(f"there is no lot or street with lots called '{of}'")
    return Table(("lot", "area", "frontage", "pad_level", "window_low", "window_high", "cut", "fill"), tuple(out))
