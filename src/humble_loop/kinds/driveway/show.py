"""How driveways show themselves, and how they are taken in hand."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Literal

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.driveway.check import Verdict, passages, place_of, steepest, worst_of
from humble_loop.kinds.driveway.lowering import drawn
from humble_loop.kinds.driveway.model import MOST_SKEW, set_driveway
from humble_loop.kinds.driveway.place import Way, at_the_lip, choice_of, name_of, sizes_of, wanted, way_of
from humble_loop.kinds.driveway.profile import drive_line
from humble_loop.kinds.lot.layout import lot, lots_on
from humble_loop.kinds.lot.plan import frontage, lot_plan
from humble_loop.kinds.street.plan import StreetLine
from humble_loop.lines.describe import (
    LABEL_RANKS,
    Actions,
    Drawing,
    Fact,
    Handle,
    Label,
    Mark,
    Note,
    Place,
    Row,
    Stroke,
    Told,
    Typed,
    Unit,
    joined_up,
)
from humble_loop.lines.line import ThingId
from humble_loop.site.edits import Edit

_DIGITS = 2
_CLEAR = 0.2  # degrees inside a pad's corner to which a hand turns one at most
_SQUARE = 2.0  # degrees from square within which a hand means it to be so
_VERDICTS: dict[Verdict, Literal["driveway clear", "driveway near", "driveway touches"]] = {
    "clear": "driveway clear",
    "near": "driveway near",
    "touches": "driveway touches",
}


def outline(q: Engine, id: str) -> Drawing:
    """Its edges."""
    made = q.attempt(way_of, id)
    if isinstance(made, Unsolved):
        return Drawing()
    ring, kerb = made.ring, drawn(q, made)
    return Drawing((Stroke("driveway", joined_up([np.concatenate([ring, ring[:1]]), kerb])),))


def details(q: Engine, id: str) -> Drawing:
    """Its middle line in the colour of the worst passage, and what is left there if that is little."""
    way, made = q.attempt(way_of, id), q.attempt(passages, id)
    if isinstance(way, Unsolved) or isinstance(made, Unsolved):
        return Drawing()
    worst = worst_of(made)
    if worst is None:
        return Drawing()
    middle = Stroke(_VERDICTS[worst.verdict], np.array([way.lip, way.pad]))
    if worst.verdict == "clear":
        return Drawing((middle,))
    e, n = place_of(q, id, worst)
    role = "broken" if worst.verdict == "touches" else "near"
    words = f"{1000 * worst.clearance:.0f} mm".replace("-", "−")
    return Drawing((middle,), (), (Label((e, n), role, LABEL_RANKS["spot"], words=words),))


def ribbon(q: Engine, street: str) -> tuple[Mark, ...]:
    """Those of a street where they leave its lips, each told by its worst passage; those of a head are not on its strip."""
    lots, found = q.attempt(lots_on, street), []
    for frame in () if isinstance(lots, Unsolved) else lots:
        way = q.attempt(way_of, frame.id) if wanted(q, frame.id) else None
        if not isinstance(way, Way) or not isinstance(way.line, StreetLine) or way.line.side is None:
            continue
        made = q.attempt(passages, frame.id)
        worst = None if isinstance(made, Unsolved) else worst_of(made)
        role = "driveway" if worst is None else _VERDICTS[worst.verdict]
        found.append(Mark(role, way.line.side, *at_the_lip(way), thing=ThingId("driveway", frame.id)))
    return tuple(found)


# Facts


def _to(q: Engine, id: str, key: str) -> Callable[[Any], Edit]:
    frame = lot(q, id)
    return lambda value: lambda s: set_driveway(s, frame.row.id, frame.number, frame.along, **{key: value})


def facts(q: Engine, id: str) -> tuple[Row, ...]:
    """Where it lies, how steep it is, and what every vehicle keeps off it."""
    made, sizes = choice_of(q, id), sizes_of(q, id)

    def size(label: str, key: str, used: float, unit: Unit = "length") -> Fact:
        given, edit = None if made is None else getattr(made, key), _to(q, id, key)
        switch = edit(None) if given is not None else edit(round(used, _DIGITS))
        return Fact(label, unit, used, "proposed" if given is None else "set", edit, switch)

    rows: list[Row] = [
        size("along the frontage", "at", sizes.at),
        size("turned from square by", "skew", sizes.skew, "angle"),
        size("width", "width", sizes.width),
        size("wider at the lip by", "flare", sizes.flare),
    ]
    way = q.attempt(way_of, id)
    if isinstance(way, Unsolved):
        return (*rows, Note(f"{way.message}; {way.remedy}"), _away(q, id))
    passed = q.attempt(passages, id)
    if isinstance(passed, Unsolved):
        return (*rows, Note(f"{passed.message}; {passed.remedy}"), _away(q, id))
    p = drive_line(q, id).profile
    grade, most = steepest(q, id)
    rows += [
        Fact("lip", "level", float(p.levels[0]), "tied"),
        Fact("boundary", "level", float(p.level([way.out])[0]), "tied"),
        Fact("pad", "level", float(p.levels[-1]), "tied"),
        Fact("from the boundary", "length", way.run),
        Fact("steepest", "grade", grade),
        Fact("it may be", "grade", most),
        Note("Clearance"),
    ]
    for v in passed:
        words = "" if v.verdict == "clear" else v.verdict
        rows.append(Fact(f"{v.vehicle}, {v.direction}", "level", v.clearance, before=words, inner=True))
    return (*rows, _away(q, id))


def _away(q: Engine, id: str) -> Actions:
    return Actions((("Take the driveway away", _to(q, id, "wanted")(False)),))


def about_lot(q: Engine, id: str) -> tuple[Row, ...]:
    """A lot's driveway in its facts: the worst passage, or giving it one."""
    if not wanted(q, id):
        return (Actions((("Give it a driveway", _to(q, id, "wanted")(True)),)),)
    made = q.attempt(passages, id)
    if isinstance(made, Unsolved):
        return (Note(f"{made.message}; {made.remedy}", heading=False),)
    worst = worst_of(made)
    if worst is None:
        return ()
    return (
        Note("Driveway"),
        Fact("steepest", "grade", steepest(q, id)[0], inner=True),
        Fact(f"least clearance, {worst.vehicle.lower()}", "level", worst.clearance, inner=True),
    )


# By hand


def handles(q: Engine, id: str) -> tuple[Handle, ...]:
    """Its middle on the boundary, to be slid along the frontage, and at the pad, to be turned."""
    way = q.attempt(way_of, id)
    if isinstance(way, Unsolved):
        return ()
    front, name = frontage(q, id), name_of(q, id)
    d = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(front.points, axis=0).T))])
    low, high = 0.5 * way.sizes.width, float(d[-1]) - 0.5 * way.sizes.width
    to, to_angle = _to(q, id, "at"), _to(q, id, "skew")

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        at = _along(front.points, d, place)
        now = round(float(np.clip(at, low, max(low, high))), _DIGITS)
        return to(now), (Told("along the frontage", "length", now, way.sizes.at),)

    def rule(q: Engine) -> str:
        made, laid = q.attempt(passages, id), q.attempt(way_of, id)
        if isinstance(laid, Unsolved):
            return laid.message
        worst = None if isinstance(made, Unsolved) else worst_of(made)
        return "" if worst is None else f"{worst.vehicle}: {1000 * worst.clearance:.0f} mm".replace("-", "−")

    at = float(way.boundary[0]), float(way.boundary[1])

    def turned(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        now = _angle_to(way, corners, place)
        return to_angle(now or None), (Told("from square", "angle", now, way.sizes.skew),)

    corners = lot_plan(q, id).pad
    end = float(way.pad[0]), float(way.pad[1])
    typed = (Typed("length", "metres along the frontage", to),)
    typed_angle = (Typed("angle", "degrees clockwise from square", to_angle),)
    return (
        Handle(("driveway at", id), at, name, "round", moved, typed, rule),
        Handle(("driveway to", id), end, f"{name} at the pad", "round", turned, typed_angle, rule),
    )


def _angle_to(way: Way, corners: Floats, place: Place) -> float:
    """Clockwise from square to the kerb (degrees) to a place from the boundary, or to the nearest at which it comes to a pad with ``corners`` (n, 2);
    square where it is nearly so.
    """
    to = np.array([place, *corners]) - way.boundary
    turns = np.degrees(np.arctan2(way.ahead[1] * to[:, 0] - way.ahead[0] * to[:, 1], to @ way.ahead)) + way.sizes.skew
    low, high = max(turns[1:].min() + _CLEAR, -MOST_SKEW), min(turns[1:].max() - _CLEAR, MOST_SKEW)
    found = float(np.clip(turns[0], low, max(low, high)))
    return 0.0 if abs(found) < _SQUARE and low <= 0.0 <= high else round(found, 1)


def _along(points: np.ndarray, d: np.ndarray, place: Place) -> float:
    """How far along a frontage a place lies."""
    a, step = points[:-1], np.diff(points, axis=0)
    length = np.maximum(np.hypot(*step.T), 1e-12)
    t = np.clip(np.einsum("ij,ij->i", np.array(place) - a, step) / length**2, 0.0, 1.0)
    away = np.hypot(*(a + t[:, None] * step - place).T)
    k = int(np.argmin(away))
    return float(d[k] + t[k] * length[k])
