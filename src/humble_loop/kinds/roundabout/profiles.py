"""The long sections of a roundabout side by side, its circle and the kerbs from leg to leg, and the levels that are set on them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, Literal

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.kinds.junction.model import LEAST_APART, ReturnLevel
from humble_loop.kinds.roundabout.bypass import gap_key
from humble_loop.kinds.roundabout.gaps import Kerb
from humble_loop.kinds.roundabout.layout import KerbLine, kerb_after
from humble_loop.kinds.roundabout.leg_islands import LegIslandLine, island_lips
from humble_loop.kinds.roundabout.levels import CircleLine
from humble_loop.kinds.roundabout.model import set_leg
from humble_loop.kinds.roundabout.place import (
    Leg,
    compass,
    entry_side,
    leg_choice,
    leg_name,
    leg_of,
    legs_of,
    middle_of,
    roundabout_of,
)
from humble_loop.kinds.roundabout.vips import anchoring, bearing_at, offers, pit_offers, section_handles, vip_facts
from humble_loop.lines.anchor import FOLLOWING, following_facts, moved_anchor
from humble_loop.lines.describe import (
    Fact,
    Handle,
    LineProfile,
    Place,
    ProfileMark,
    Sheet,
    SheetRow,
    Told,
    Typed,
)
from humble_loop.lines.line import Line, LineId, line
from humble_loop.site.edits import Edit, changed
from humble_loop.site.model import Anchor, Side, other_side

_EVERY = 0.5  # metres between places at which a level is shown
_APART = 0.12  # of the circle's length that lies between two lines
_DIGITS = 3  # of a level in metres
_LEVEL = 1e-9
_LIT = 0.4  # metres before and after a place that is lit up
Arc = Literal["entry", "exit"]


@dataclass(frozen=True)
class Worked:
    """A line that could be worked out, with what it is called and where it begins among those beside it; of a kerb how that lies in plan."""

    id: LineId
    title: str
    begin: float
    made: Line
    kerb: Kerb | None = None


@query
def worked(q: Engine, id: str) -> tuple[Worked, ...]:
    """The circle of a roundabout and its kerbs, one after another; those that have levels."""
    rim, legs = q.attempt(line, CircleLine(id)), q.attempt(legs_of, id)
    if isinstance(rim, Unsolved) or isinstance(legs, Unsolved):
        return ()
    found = [Worked(CircleLine(id), "circle", 0.0, rim)]
    begin, apart = rim.plan.end * (1.0 + _APART), _APART * rim.plan.end
    for k, leg in enumerate(legs):
        kerb, made = q.attempt(kerb_after, id, leg.key), q.attempt(line, KerbLine(id, leg.key))
        if isinstance(kerb, Unsolved) or isinstance(made, Unsolved) or not np.isfinite(made.rule.levels([0.0])).all():
            continue
        title = f"{compass(leg)} to {compass(legs[(k + 1) % len(legs)])}"
        found.append(Worked(KerbLine(id, leg.key), title, begin, made, kerb))
        begin += made.plan.end + apart
    return tuple(found)


@query
def worked_of_leg(q: Engine, id: str, key: str) -> tuple[Worked, ...]:
    """The lips beside a leg, one after another: the kerbs of its entry and its exit, and of its islands; those that have levels."""
    entry, leg = entry_side(q), leg_of(q, id, key)
    sides: list[tuple[str, Side]] = [("entry kerb", entry), ("exit kerb", other_side(entry))]
    wanted: list[tuple[str, LineId]] = [(words, KerbLine(id, gap_key(q, id, leg, seen))) for words, seen in sides]
    wanted = list({line_id: (words, line_id) for words, line_id in reversed(wanted)}.values())[
        ::-1
    ]  # one leg has one kerb
    for lip in island_lips(q, id):
        if lip.leg == key:
            words = "splitter" if lip.part == "splitter" else "bypass island"
            wanted.append((f"{words} {lip.piece + 1}" if lip.piece else words, lip))
    found, begin = list[Worked](), 0.0
    for words, line_id in wanted:
        made = q.attempt(line, line_id)
        kerb = q.attempt(kerb_after, id, line_id.leg) if isinstance(line_id, KerbLine) else None
        if isinstance(made, Unsolved) or isinstance(kerb, Unsolved) or not np.isfinite(made.rule.levels([0.0])).all():
            continue
        found.append(Worked(line_id, words, begin, made, kerb))
        begin += made.plan.end + _BETWEEN
    return tuple(found)


_BETWEEN = 6.0  # metres between the lines of a leg


def profiles_of_leg(q: Engine, id: str, key: str) -> tuple[LineProfile, ...]:
    """The long sections of the lips beside a leg."""
    return tuple(_profile(q, id, w) for w in worked_of_leg(q, id, key))


def handles_of_leg(q: Engine, id: str, key: str) -> tuple[Handle, ...]:
    """The levels set on the kerbs beside a leg, to be dragged in their long sections."""
    return _level_handles(q, id, _places(q, id, worked_of_leg(q, id, key)))


def profiles(q: Engine, id: str) -> tuple[LineProfile, ...]:
    """The long sections of a roundabout's circle and kerbs."""
    return tuple(_profile(q, id, w) for w in worked(q, id))


def _profile(q: Engine, id: str, w: Worked) -> LineProfile:
    total = w.made.plan.end
    s = np.unique(np.concatenate([np.linspace(0.0, total, 2 + int(total / _EVERY)), w.made.rule.key_places()]))
    s = s[(s >= 0.0) & (s <= total)]
    z = w.made.rule.levels(s)
    none = np.full(len(s), np.inf)
    # What lies on triangles has low points without number: its lowest and its highest tell where it lies.
    ends = [(int(np.argmin(z)), "low point"), (int(np.argmax(z)), "high point")]
    turning = ends if isinstance(w.id, LegIslandLine) else _turning(z)
    marks = [ProfileMark(float(s[k]), float(z[k]), what) for k, what in turning]
    if isinstance(w.id, KerbLine):
        marks += [ProfileMark(at, float(w.made.rule.levels([at])[0]), "tied") for at in (0.0, total)]
    made = partial(_offers, q, id, w) if not isinstance(w.id, LegIslandLine) else _nothing
    return LineProfile(
        w.title, w.made.title, w.id, w.begin, frozen(s), frozen(z), frozen(-none), frozen(none), tuple(marks), made
    )


def _nothing(along: float, level: float) -> tuple[tuple[str, Edit], ...]:
    """What can be done on a line that lies on what is beneath it."""
    return ()


def _turning(z: np.ndarray) -> list[tuple[int, str]]:
    """Which of levels in a row are low and high points."""
    inner, before, after = z[1:-1], z[:-2], z[2:]
    low = np.flatnonzero((inner < before - _LEVEL) & (inner < after - _LEVEL)) + 1
    high = np.flatnonzero((inner > before + _LEVEL) & (inner > after + _LEVEL)) + 1
    return [*((int(k), "low point") for k in low), *((int(k), "high point") for k in high)]


# Levels on kerbs


def _arc_at(q: Engine, id: str, w: Worked, along: float) -> tuple[Leg, Arc, float] | None:
    """The leg and which of its arcs a place on a kerb is on, with its share of that from the circle outwards; None on the circle."""
    assert w.kerb is not None
    legs, (a, b), total = legs_of(q, id), w.kerb.ends, w.made.plan.end
    seen: Side = "left" if along < a else "right"
    leg = legs[w.kerb.first if seen == "left" else w.kerb.last]
    if a <= along <= b:
        return None
    share = (a - along) / a if seen == "left" else (along - b) / (total - b)
    return leg, ("entry" if seen == entry_side(q) else "exit"), share


def _given(q: Engine, id: str, leg: Leg, arc: Arc) -> tuple[ReturnLevel, ...]:
    found: tuple[ReturnLevel, ...] = getattr(leg_choice(q, id, leg.street, leg.drawn), f"{arc}_levels")
    return found


def _set(id: str, leg: Leg, arc: Arc, levels: list[ReturnLevel]) -> Edit:
    kept = tuple(sorted(levels, key=lambda v: v.share))
    return lambda s: set_leg(s, id, leg.street, leg.drawn, **{f"{arc}_levels": kept})


def _with(q: Engine, id: str, place: tuple[Leg, Arc, float], k: int | None, level: float) -> Edit:
    """The edit that sets the level ``k``, or a new one, at a share of an arc; one that follows another line keeps following, by another fall."""
    leg, arc, share = place
    inside = round(float(np.clip(share, LEAST_APART, 1.0 - LEAST_APART)), 5)
    given = _given(q, id, leg, arc)
    others = [v for i, v in enumerate(given) if i != k and abs(v.share - inside) >= LEAST_APART]
    follows = None if k is None else given[k].follows
    if follows is not None:
        follows = moved_anchor(q, follows, _place_of(q, id, leg, arc, inside), level)
    return _set(id, leg, arc, [*others, ReturnLevel(share=inside, level=round(level, _DIGITS), follows=follows)])


def _place_of(q: Engine, id: str, leg: Leg, arc: Arc, share: float) -> Floats:
    """The place (2,) at a share of one of a leg's arcs from the circle outwards."""
    seen: Side = entry_side(q) if arc == "entry" else other_side(entry_side(q))
    made = kerb_after(q, id, gap_key(q, id, leg, seen))
    a, b = made.ends
    at = a * (1.0 - share) if seen == "left" else b + share * (made.chain.total - b)
    found: Floats = made.chain.points_at([at])[0]
    return found


def let_follow(q: Engine, id: str, key: str, along: float, anchor: Anchor, level: float) -> Edit | None:
    """The edit that lets a kerb follow another line at a place, ``level`` being where it lies then; None on the circle."""
    w = next((w for w in worked(q, id) if w.id == KerbLine(id, key)), None)
    place = None if w is None else _arc_at(q, id, w, along)
    if place is None:
        return None
    leg, arc, share = place
    inside = round(float(np.clip(share, LEAST_APART, 1.0 - LEAST_APART)), 5)
    others = [v for v in _given(q, id, leg, arc) if abs(v.share - inside) >= LEAST_APART]
    return _set(id, leg, arc, [*others, ReturnLevel(share=inside, level=round(level, _DIGITS), follows=anchor)])


def _offers(q: Engine, id: str, w: Worked, along: float, level: float) -> tuple[tuple[str, Edit], ...]:
    """What can be done at a place of a line's long section; what comes first is done by a double click."""
    if w.kerb is None:
        return offers(q, id, (along, level))
    found: list[tuple[str, Edit]] = []
    place = _arc_at(q, id, w, along)
    if place is not None:
        leg, arc, share = place
        found.append((f"Set a level {along:.2f} m along", _with(q, id, place, None, level)))
        given = list(_given(q, id, leg, arc))
        if given:
            k = int(np.argmin([abs(v.share - share) for v in given]))
            rest = [v for i, v in enumerate(given) if i != k]
            found.append((f"Remove the nearest level of its {arc}", _set(id, leg, arc, rest)))
    at = w.made.plan.points([along])[0] - middle_of(q, id)
    bearing = float(np.mod(90.0 - np.degrees(np.arctan2(at[1], at[0])), 360.0))
    return (*found, *pit_offers(q, id, round(bearing, 2)))


_Placed = tuple[Worked, Leg, Arc, int, float, ReturnLevel]


def _places(q: Engine, id: str, lines: tuple[Worked, ...]) -> list[_Placed]:
    """Every level that was set on a kerb among lines: its line, leg and arc, which it is, and metres along the line."""
    found = []
    legs = legs_of(q, id)
    for w in lines:
        if w.kerb is None:
            continue
        (a, b), total = w.kerb.ends, w.made.plan.end
        for n, seen in enumerate(("left", "right")):
            leg = legs[w.kerb.first if n == 0 else w.kerb.last]
            arc: Arc = "entry" if seen == entry_side(q) else "exit"
            for k, v in enumerate(_given(q, id, leg, arc)):
                at = a * (1.0 - v.share) if n == 0 else b + (total - b) * v.share
                found.append((w, leg, arc, k, at, v))
    return found


def profile_handles(q: Engine, id: str) -> tuple[Handle, ...]:
    """The levels set on the circle and on its kerbs, to be dragged in their long sections."""
    return (*section_handles(q, id), *_level_handles(q, id, _places(q, id, worked(q, id))))


def _level_handles(q: Engine, id: str, placed: list[_Placed]) -> tuple[Handle, ...]:
    found = list[Handle]()
    for w, leg, arc, k, at, v in placed:

        def moved(place: Place, w: Worked = w, leg: Leg = leg, arc: Arc = arc, k: int = k, at: float = at, v: ReturnLevel = v) -> tuple[Edit, tuple[Told, ...]]:  # fmt: skip
            now = _arc_at(q, id, w, place[0] - w.begin)
            to = now if now is not None and now[:2] == (leg, arc) else (leg, arc, v.share)
            told = Told("level", "level", place[1], _now(w, at)), Told("along", "length", place[0] - w.begin, at)
            return _with(q, id, to, k, place[1]), told

        def typed(z: float, leg: Leg = leg, arc: Arc = arc, k: int = k, v: ReturnLevel = v) -> Edit:
            return _with(q, id, (leg, arc, v.share), k, z)

        key, title, was = ("leg level", id, leg.key, arc, k), f"{leg_name(q, id, leg)} {arc} level", _now(w, at)
        found.append(Handle(key, (w.begin + at, was), title, "square", moved, (Typed("level", "a level", typed),)))
    return tuple(found)


def _now(w: Worked, at: float) -> float:
    """The level of a line at a place."""
    return float(w.made.rule.levels([at])[0])


def level_removal(q: Engine, held: tuple[Any, ...]) -> Edit | None:
    """The edit that takes a level out of a kerb by the key of its handle; None for any other handle."""
    if held[:1] != ("leg level",):
        return None
    _, id, key, arc, k = held
    leg = leg_of(q, id, key)
    return _set(id, leg, arc, [v for i, v in enumerate(_given(q, id, leg, arc)) if i != k])


# In rows

_COLUMNS = ("line", "what", "along", "bearing", "level", "grade")


def level_sheet(q: Engine, id: str) -> Sheet:
    """The circle and the kerbs in rows: levels that are set on them, their ends, and their high and low points."""
    rows: list[SheetRow] = []
    placed = _places(q, id, worked(q, id))
    for w in worked(q, id):
        rows += _rows(q, id, w, [p for p in placed if p[0] is w])
    note = "" if rows else "Its levels cannot be worked out"
    columns = (*_COLUMNS, *FOLLOWING) if any(len(r.cells) > len(_COLUMNS) for r in rows) else _COLUMNS
    rows = [replace(r, cells=(*r.cells, *[None] * (len(columns) - len(r.cells)))) for r in rows]
    return Sheet("Levels", CircleLine(id), columns, tuple(rows), note)


def _rows(q: Engine, id: str, w: Worked, placed: list[_Placed]) -> list[SheetRow]:
    profile = _profile(q, id, w)
    found: list[tuple[float, str, Callable[[float], Edit] | None, tuple[Any, ...], tuple[tuple[str, Edit], ...]]] = []
    source: dict[tuple[Any, ...], tuple[Fact, Fact]] = {}
    found += [(m.along, "lip" if m.words == "tied" else m.words, None, (), ()) for m in profile.marks]
    held: tuple[Any, ...]
    actions: tuple[tuple[str, Edit], ...]
    if w.kerb is None and roundabout_of(q, id).levels == "own":
        for n, s, relevel, out in vip_facts(q, id):
            held, anchor, actions = ("circle level", id, n), roundabout_of(q, id).vips[n].follows, (("Remove", out),)
            if anchor is not None:
                source[held] = following_facts(q, anchor, anchoring(q, id, n))
                actions = (*actions, ("Set its level free", anchoring(q, id, n)(None)))
            found.append((s, "level", relevel, held, actions))
    for _, leg, arc, k, at, v in placed:
        edit: Callable[[float], Edit] = lambda z, leg=leg, arc=arc, k=k, v=v: _with(q, id, (leg, arc, v.share), k, z)  # type: ignore[misc]  # noqa: E731
        given = list(_given(q, id, leg, arc))
        actions = (("Remove", _set(id, leg, arc, given[:k] + given[k + 1 :])),)
        held = ("leg level", id, leg.key, arc, k)
        if v.follows is not None:

            def to_anchor(anchor: Anchor | None, leg: Leg = leg, arc: Arc = arc, k: int = k, given: list[ReturnLevel] = given, at: float = at) -> Edit:  # fmt: skip
                fresh = changed(given[k], follows=anchor, level=round(_now(w, at), _DIGITS))
                return _set(id, leg, arc, [*given[:k], fresh, *given[k + 1 :]])

            source[held] = following_facts(q, v.follows, to_anchor)
            actions = (*actions, ("Set its level free", to_anchor(None)))
        found.append((at, f"{arc} level", edit, held, actions))
    rows: list[SheetRow] = []
    for s, what, to, held, actions in sorted(found, key=lambda row: row[0]):
        z, grade = float(w.made.rule.levels([s])[0]), float(w.made.rule.grades([s])[0])
        state = "set" if to is not None else "tied" if what == "lip" else "worked out"
        state = "tied" if held in source else state
        bearing = Fact("bearing", "bearing", bearing_at(q, id, s)) if w.kerb is None else None
        lit = w.made.plan.points(np.linspace(max(s - _LIT, 0.0), min(s + _LIT, w.made.plan.end), 8))
        cells = (
            Fact("line", "text", w.title if not rows else ""),
            Fact("what", "text", what),
            Fact("along", "length", s),
            bearing,
            Fact("level", "level", z, state, to),
            Fact("grade", "grade", grade),
            *source.get(held, ()),
        )
        rows.append(SheetRow(cells, (0.0, -1.0), lit, held=held, actions=actions))
    return rows
