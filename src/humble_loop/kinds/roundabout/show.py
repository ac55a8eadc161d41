"""How a roundabout shows itself, and how it is taken in hand; its legs do so by themselves (``leg_show``)."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats, tangents
from humble_loop.kinds.roundabout.bypass import bypass_why
from humble_loop.kinds.roundabout.checks import drained
from humble_loop.kinds.roundabout.layout import KerbLine, kerb_after, kerb_plans
from humble_loop.kinds.roundabout.levels import CircleLine, plane_as, rim_place, rings_of
from humble_loop.kinds.roundabout.making import of_junction
from humble_loop.kinds.roundabout.model import LevelWay, remove_roundabout, set_roundabout
from humble_loop.kinds.roundabout.place import (
    Leg,
    leg_name,
    legs_of,
    legs_on,
    middle_of,
    roundabout_name,
    roundabout_of,
    sizes_of,
)
from humble_loop.kinds.roundabout.vips import to_own
from humble_loop.kinds.street.plan import StreetLine, name_of
from humble_loop.kinds.street.show import SAG, role_in_plan
from humble_loop.lines.describe import (
    LABEL_RANKS,
    Actions,
    Choice,
    Crossing,
    Drawing,
    Fact,
    Handle,
    Label,
    Note,
    Place,
    Row,
    Told,
    Typed,
    Unit,
)
from humble_loop.lines.drawn import drawn_as, strokes
from humble_loop.lines.line import LineId, line, line_plan
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.library import RoundaboutPreset

_SPOTS = 7  # levels written along a kerb
_LEAST = 0.5  # metres of a size that is dragged
_DIGITS = 2  # of a size or a place that is dragged
_WAYS: tuple[tuple[LevelWay, str], ...] = (
    ("plane", "on the plane that fits its legs"),
    ("through", "on the plane of a street through it"),
    ("cone", "on a cone about its middle"),
    ("own", "its own closed grade line"),
)
_AROUND = np.linspace(0.0, 2.0 * np.pi, 73)  # angles at which two ways are compared


def drawing(q: Engine, id: str) -> Drawing:
    """Its kerbs with what lies beyond them, and the lines of its island."""
    rings, legs = q.attempt(rings_of, id), q.attempt(legs_of, id)
    plans = [
        ("return" if ring.name == "island lip" else "kerb", q.attempt(line_plan, CircleLine(id, ring.name)))
        for ring in (() if isinstance(rings, Unsolved) else rings[1:])
    ]
    for leg in () if isinstance(legs, Unsolved) else legs:
        made = q.attempt(kerb_plans, id, leg.key)
        beside = {} if isinstance(made, Unsolved) else made
        plans += [(role, p) for point, p in beside.items() if (role := role_in_plan(point, None, corner=True))]
    return strokes(drawn_as(((role, plan) for role, plan in plans if not isinstance(plan, Unsolved)), SAG))


def details(q: Engine, id: str) -> Drawing:
    """The circle's levels where its legs cross it."""
    legs, rim = q.attempt(legs_of, id), q.attempt(line, CircleLine(id))
    if isinstance(legs, Unsolved) or isinstance(rim, Unsolved):
        return Drawing()
    labels = []
    for leg in legs:
        e, n = leg.chain.points_at([leg.throat])[0].tolist()
        at, level = (float(e), float(n)), _level(q, id, leg)
        labels.append(Label(at, "crown", LABEL_RANKS["throat"], unit="level", value=level, weight=500, size=12))
        kerb = q.attempt(line, KerbLine(id, leg.key))
        if not isinstance(kerb, Unsolved):
            places = kerb.points(np.linspace(0.0, kerb.plan.end, _SPOTS))
            labels += [
                Label((e, n), "ink", LABEL_RANKS["spot"], unit="level", value=z, size=10) for e, n, z in places.tolist()
            ]
    return Drawing((), (), tuple(labels))


def section_marks(q: Engine, id: LineId) -> tuple[Crossing, ...]:
    """Where a street's crown meets the circles of roundabouts, and where legs cross a circle, with the level there."""
    if isinstance(id, StreetLine) and id.side is None:
        made = [(i, leg, q.attempt(line, CircleLine(i))) for i, leg in legs_on(q, id.street)]
        return tuple(
            Crossing(roundabout_name(q, i), leg.at, _level(q, i, leg), CircleLine(i))
            for i, leg, rim in made
            if not isinstance(rim, Unsolved)
        )
    if isinstance(id, CircleLine) and id.point == "rim" and not isinstance(q.attempt(legs_of, id.roundabout), Unsolved):
        return tuple(
            Crossing(
                leg_name(q, id.roundabout, leg),
                float(rim_place(q, id.roundabout, [leg.angle])[0]),
                _level(q, id.roundabout, leg),
                StreetLine(leg.street),
            )
            for leg in legs_of(q, id.roundabout)
        )
    return ()


def _level(q: Engine, id: str, leg: Leg) -> float:
    return float(line(q, CircleLine(id)).rule.levels(rim_place(q, id, [leg.angle]))[0])


# Facts


def _to(id: str, key: str) -> Callable[[Any], Edit]:
    return lambda value: lambda s: set_roundabout(s, id, **{key: value})


def facts(q: Engine, id: str) -> tuple[Row, ...]:
    """Its sizes and how it lies."""
    made, name = roundabout_of(q, id), roundabout_name(q, id)
    rename, state = _to(id, "name"), "set" if made.name else "proposed"
    presets = tuple((i, parts.one(q, RoundaboutPreset, i).name) for i in parts.ids(q, RoundaboutPreset))
    rows: list[Row] = [
        Fact("name", "text", name, state, lambda v: rename(v or None), rename(None if made.name else name)),
        Choice("preset", presets, made.preset, _to(id, "preset")),
    ]
    sizes = q.attempt(sizes_of, id)
    if not isinstance(sizes, Unsolved):
        rows += [
            _size("inscribed radius", id, "radius", made.radius, sizes.radius),
            _size("carriageway round it", id, "width", made.width, sizes.width),
            _size("lanes round it", id, "lanes", made.lanes, sizes.lanes, "count"),
            _size("apron", id, "apron", made.apron, sizes.apron, "length"),
            Fact("island radius", "length", sizes.radius - sizes.width, inner=True),
        ]
    for part in (q.attempt(middle_of, id), q.attempt(rings_of, id), q.attempt(legs_of, id)):
        if isinstance(part, Unsolved):
            return (*rows, Note(f"{part.message}; {part.remedy}"), _away(q, id))
    rows += _island_rows(q, id)
    rows += _level_rows(q, id)
    rows.append(Fact("pits", "count", len(made.pits), switch=_to(id, "pits")(()) if made.pits else None))
    rows.append(Actions((("Put pits where water stands", lambda s: drained(q, s, id)),)))
    rows.append(Note("A leg is chosen by a click where it comes in", heading=False))
    return (*rows, _away(q, id))


def _size(label: str, id: str, key: str, given: float | None, used: float, unit: Unit = "size") -> Fact:
    edit = _to(id, key)
    typed = edit if unit != "count" else (lambda v: edit(int(v)))
    return Fact(
        label, unit, used, "proposed" if given is None else "set", typed, edit(None if given is not None else used)
    )


def _island_rows(q: Engine, id: str) -> list[Row]:
    """How high its apron, the kerb of its islands and what lies within that stand, and rise inwards."""
    made, sizes = roundabout_of(q, id), sizes_of(q, id)
    rows: list[Row] = []
    if sizes.apron > 0.0:
        rows.append(_size("apron's edge stands", id, "apron_up", made.apron_up, sizes.apron_up, "length"))
        rows.append(_size("apron rises", id, "apron_rise", made.apron_rise, sizes.apron_rise, "grade"))
    rows.append(_size("kerbs of islands stand", id, "kerb_up", made.kerb_up, sizes.kerb_up, "length"))
    return [*rows, _size("island rises", id, "mound", made.mound, sizes.mound, "grade")]


def _level_rows(q: Engine, id: str) -> list[Row]:
    made = roundabout_of(q, id)
    rows: list[Row] = [_ways(q, id)]
    plane = q.attempt(plane_as, id, made.levels)
    if isinstance(plane, Unsolved):
        rows.append(Note(f"{plane.message}; {plane.remedy}", heading=False))
        rows.append(_proposed("level in its middle", "level", id, "level", made.level, made.level or 0.0, 3))
        rows.append(_proposed("tilts by", "grade", id, "tilt", made.tilt, made.tilt or 0.0, 5))
        return [*rows, _proposed("towards", "bearing", id, "towards", made.towards, made.towards or 0.0, 2)]
    if made.levels == "own":
        rows.append(
            Fact(
                "falls outwards",
                "grade",
                _fall(q, id),
                "set" if made.fall is not None else "proposed",
                _to(id, "fall"),
                inner=True,
            )
        )
        return [*rows, _seam(q, id)]
    if made.levels == "through":
        streets = dict.fromkeys(g.street for g in legs_of(q, id))
        now = made.through or made.street
        rows.append(Choice("through", tuple((s, name_of(q, s)) for s in streets), now, _to(id, "through"), inner=True))
    level, tilt = float(plane.level.value[0]), float(np.hypot(*plane.slope))
    towards = float(np.mod(90.0 - np.degrees(np.arctan2(-plane.slope[1], -plane.slope[0])), 360.0))
    rows.append(_proposed("level in its middle", "level", id, "level", made.level, level, 3))
    if made.levels != "cone" or made.tilt:
        rows.append(_proposed("tilts by", "grade", id, "tilt", made.tilt, tilt, 5))
        if tilt > 0.0:
            rows.append(_proposed("towards", "bearing", id, "towards", made.towards, towards, 2))
    rows.append(_proposed("falls outwards", "grade", id, "fall", made.fall, plane.fall, 5))
    return [*rows, _seam(q, id)]


def _fall(q: Engine, id: str) -> float:
    made = roundabout_of(q, id)
    return sizes_of(q, id).fall if made.fall is None else made.fall


def _proposed(label: str, unit: Unit, id: str, key: str, given: float | None, used: float, digits: int) -> Fact:
    edit = _to(id, key)
    switch = edit(None) if given is not None else edit(round(used, digits))
    return Fact(label, unit, used, "set" if given is not None else "proposed", edit, switch, inner=True)


def _seam(q: Engine, id: str) -> Fact:
    seam = _to(id, "seam")
    return Fact("long section begins at", "bearing", roundabout_of(q, id).seam, "set", lambda v: seam(float(v) % 360.0))


def difference(q: Engine, id: str, way: LevelWay) -> tuple[float, float] | None:
    """By how much (m) its circle would at most sink and rise in another way of levels; None where it cannot be said, or is as it is."""
    made, rim = roundabout_of(q, id), q.attempt(line, CircleLine(id))
    if way in (made.levels, "own") or isinstance(rim, Unsolved):
        return None
    other = q.attempt(plane_as, id, way)
    if isinstance(other, Unsolved):
        return None
    places = other.middle + other.radius * tangents(_AROUND)
    by = other.at(places) - rim.rule.levels(rim.plan.base.feet(places).chainages)
    return max(0.0, -float(by.min())), max(0.0, float(by.max()))


def _ways(q: Engine, id: str) -> Choice:
    """The ways of levels, and what going over to another would do."""
    made, options = roundabout_of(q, id), []
    for way, words in _WAYS:
        by = difference(q, id, way)
        options.append((way, words if by is None else f"{words} (−{by[0]:.3f} to +{by[1]:.3f} m)"))

    def edit(value: str) -> Edit:
        return to_own(q, id) if value == "own" and made.levels != "own" else _to(id, "levels")(value)

    return Choice("levels", tuple(options), made.levels, edit)


def _away(q: Engine, id: str) -> Actions:
    made = roundabout_of(q, id)
    back = [("Make it a junction again", _to(id, "laid")(False))] if made.other else []
    return Actions((*back, ("Take the roundabout away", lambda s: remove_roundabout(s, id))))


def about_junction(q: Engine, id: str) -> tuple[Row, ...]:
    """That a junction can be made a roundabout."""
    seat = of_junction(q, id)
    if seat is None or not parts.ids(q, RoundaboutPreset):
        return ()
    preset = "compact" if "compact" in parts.ids(q, RoundaboutPreset) else parts.ids(q, RoundaboutPreset)[0]
    return (Actions((("Make it a roundabout", seat.edit(preset)),)),)


# By hand


def handles(q: Engine, id: str) -> tuple[Handle, ...]:
    """Its middle, the circle, the island and its apron."""
    middle, sizes = q.attempt(middle_of, id), q.attempt(sizes_of, id)
    if isinstance(middle, Unsolved) or isinstance(sizes, Unsolved):
        return ()
    found = [_middle(q, id, middle), _radius(q, id, middle, sizes.radius)]
    found.append(_ring(q, id, middle, "width", "carriageway", sizes.radius - sizes.width, sizes.width))
    if sizes.apron > 0.0:
        inside = sizes.radius - sizes.width - sizes.apron
        found.append(_ring(q, id, middle, "apron", "apron", max(inside, 0.0), sizes.apron))
    return tuple(found)


def _rule(q_id: str) -> Callable[[Engine], str]:
    def rule(q: Engine) -> str:
        for part in (q.attempt(rings_of, q_id), q.attempt(legs_of, q_id)):
            if isinstance(part, Unsolved):
                return part.message
        legs = q.attempt(legs_of, q_id)
        for leg in () if isinstance(legs, Unsolved) else legs:
            made = q.attempt(kerb_after, q_id, leg.key)
            if isinstance(made, Unsolved):
                return made.message
            if why := bypass_why(q, q_id, leg.key):
                return why
        return ""

    return rule


def _middle(q: Engine, id: str, middle: Floats) -> Handle:
    made = roundabout_of(q, id)
    seat = middle - [made.east, made.north]

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        by = [round(float(np.clip(a - b, -200.0, 200.0)), _DIGITS) for a, b in zip(place, seat)]
        told = Told("east", "length", by[0], made.east), Told("north", "length", by[1], made.north)
        return (lambda s: set_roundabout(s, id, east=by[0], north=by[1])), told

    at = float(middle[0]), float(middle[1])
    title = f"{roundabout_name(q, id)} middle"
    typed = (
        Typed("length", "metres to the east", _to(id, "east"), "e"),
        Typed("length", "metres to the north", _to(id, "north"), "n"),
    )
    return Handle(("roundabout middle", id), at, title, "square", moved, typed, _rule(id))


_TAKEN = {"radius": 0.35, "width": -0.35, "apron": -0.75}  # radians from north-east where each ring is taken


def _radius(q: Engine, id: str, middle: Floats, radius: float) -> Handle:
    edit, at = _to(id, "radius"), middle + radius * tangents(np.pi / 4 + _TAKEN["radius"])

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        now = max(3.0, round(float(np.hypot(*(np.array(place) - middle))), _DIGITS))
        return edit(now), (Told("radius", "length", now, radius),)

    title = f"{roundabout_name(q, id)} inscribed radius"
    return Handle(
        ("roundabout radius", id),
        (float(at[0]), float(at[1])),
        title,
        "round",
        moved,
        (Typed("size", "a radius", edit),),
        _rule(id),
    )


def _ring(q: Engine, id: str, middle: Floats, key: str, words: str, inside: float, used: float) -> Handle:
    """A width inwards from the ring outside it, which stays."""
    edit, at = _to(id, key), middle + inside * tangents(np.pi / 4 + _TAKEN[key])

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        away = float(np.hypot(*(np.array(place) - middle)))
        now = max(_LEAST, round(inside + used - away, _DIGITS))
        return edit(now), (Told(words, "length", now, used),)

    title = f"{roundabout_name(q, id)} {words}"
    typed = (Typed("size", f"a width of the {words}", edit),)
    return Handle((f"roundabout {key}", id), (float(at[0]), float(at[1])), title, "round", moved, typed, _rule(id))
