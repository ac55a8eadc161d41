"""A street's bends: what is told of them, and their handles in plan."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.bend_fit import CannotFit, radius_wanted, turn_between
from humble_loop.geometry.bends import BendInput, tangents_of
from humble_loop.kinds.street import edits
from humble_loop.kinds.street.model import Bend
from humble_loop.kinds.street.plan import bends_of, centreline, class_of, name_of
from humble_loop.kinds.street.snap import snap_to_street
from humble_loop.lines.describe import Choice, Fact, Handle, Note, Place, Row, Told, Typed
from humble_loop.site import parts
from humble_loop.site.edits import Edit, made
from humble_loop.site.library import StreetClass
from humble_loop.site.model import Site

_SNAP = 2.0  # metres within which an end that is dragged is taken to another centreline
_MOST_TOLD = 5  # bends that are told one under another
_SAME = 1e-9  # metres between tangents that are one length
_BENT = 1e-6  # radians: what turns less is no bend


# Facts


def bend_rows(q: Engine, street: str) -> list[Row]:
    """The radius of each bend, what it makes of tangents and arc, and its transitions."""
    rows: list[Row] = []
    bends = bends_of(q, street)
    if len(bends) - 2 > _MOST_TOLD:
        return [Fact("bends", "count", len(bends) - 2), Note("They stand in Elements, beside the plan", heading=False)]
    for i in range(1, len(bends) - 1):
        bend, turn = bends[i], turn_of(bends, i)
        radius, first, second = bend.radius, bend.transition_in, bend.transition_out
        rows.append(Fact(f"bend {i + 1} radius", "length", radius, "set", _to(edits.set_bend, street, i, "radius")))
        rows.append(Fact("deflection", "turn", float(np.degrees(turn)), inner=True))
        if radius > 0 and _BENT < abs(turn) < np.pi - _BENT:
            rows += _curve(street, i, bend, turn)
        for key, label, value in (
            ("transition_in", "transition in", first),
            ("transition_out", "transition out", second),
        ):
            rows.append(Fact(label, "length", value, "set", _to(edits.set_bend, street, i, key), inner=True))
    return rows


def _curve(street: str, i: int, bend: BendInput, turn: float) -> list[Row]:
    """What a bend's radius makes of its tangents and its arc, and its outer arcs where it is three-centred."""
    t_in, t_out = tangents_of(bend, turn)
    fit = None if bend.three_centred else edits.fit_bend
    rows: list[Row] = []
    if abs(t_in - t_out) < _SAME:
        rows.append(_worked("tangent", t_in, fit and _to(fit, street, i, "tangent_in")))
    else:
        rows.append(_worked("tangent in", t_in, fit and _to(fit, street, i, "tangent_in")))
        rows.append(_worked("tangent out", t_out, fit and _to(fit, street, i, "tangent_out")))
    own = bend.radius * max(abs(turn) - bend.used, 0.0)
    rows.append(_worked("arc", own, fit and _to(fit, street, i, "arc")))
    degrees = float(np.degrees(turn))
    options = (("simple", "one arc"), ("three", "three arcs"))
    rows.append(
        Choice(
            "centres",
            options,
            "three" if bend.three_centred else "simple",
            lambda v: lambda s: edits.set_centres(s, street, i, v == "three", degrees),
            inner=True,
        )
    )
    if bend.three_centred:
        for side, words in (("in", "first"), ("out", "last")):
            r, a = getattr(bend, f"radius_{side}"), float(np.degrees(getattr(bend, f"turn_{side}")))
            edit = _to(edits.set_bend, street, i, f"radius_{side}")
            rows.append(Fact(f"{words} radius", "length", r, "set", edit, inner=True))
            edit = _to(edits.set_bend, street, i, f"turn_{side}")
            rows.append(Fact(f"{words} arc turns", "angle", a, "set", edit, inner=True))
    return rows


def _worked(label: str, value: float, edit: Callable[[float], Edit] | None) -> Fact:
    """A length that follows from the radius; typed, the radius follows from it."""
    return Fact(label, "length", value, "worked out", edit, inner=True)


def _to(change: Callable[..., Site], street: str, i: int, key: str) -> Callable[[float], Edit]:
    return lambda value: lambda s: change(s, street, i, **{key: value})


def turn_of(bends: Sequence[BendInput], i: int) -> float:
    """The deflection of a bend that is no end, in radians, left positive."""
    before, at, after = (np.array(b[:2]) for b in bends[i - 1 : i + 2])
    return turn_between(at - before, after - at)


def proposed_radius(rules: StreetClass) -> float:
    """Metres of radius that a bend is given at first: three times the class's least, which is comfortable to drive."""
    return 3.0 * rules.least_radius


def add_bend(q: Engine, street: str, place: Place) -> Edit:
    """The edit that adds a bend at a place, on the leg that is nearest to it."""
    points = np.array([b[:2] for b in bends_of(q, street)])
    a, d = points[:-1], np.diff(points, axis=0)
    t = np.clip(np.einsum("ij,ij->i", np.array(place) - a, d) / np.maximum((d**2).sum(axis=1), 1e-12), 0.0, 1.0)
    leg = int(np.argmin(np.hypot(*(a + t[:, None] * d - np.array(place)).T)))
    e, n = np.array(place) + parts.origin(q)
    fresh = made(Bend, easting=float(e), northing=float(n), radius=proposed_radius(class_of(q, street)))
    return lambda s: edits.insert_bend(s, street, leg + 1, fresh)


# Handles


def handles(q: Engine, street: str) -> tuple[Handle, ...]:
    """A street's bends: their intersection points, and the middles of their curves to be drawn through a point."""
    if isinstance(q.attempt(centreline, street), Unsolved):
        return ()
    count = len(bends_of(q, street))
    arcs = (_arc(q, street, i) for i in range(1, count - 1))
    return (*(arc for arc in arcs if arc is not None), *(_bend(q, street, i) for i in range(count)))


def _bend(q: Engine, street: str, i: int) -> Handle:
    bends, (e0, n0) = bends_of(q, street), parts.origin(q)
    old = bends[i]
    start = np.array(old[:2])
    inner = 0 < i < len(bends) - 1
    direction = {"unit": np.array([1.0, 0.0])}

    def to(at: Floats) -> Edit:
        return lambda site: edits.move_bend(site, street, i, float(at[0]) + e0, float(at[1]) + n0)

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        at = np.array(place)
        if not inner:
            snap = snap_to_street(q, place, _SNAP, street)
            at = np.array(snap.place) if snap else at
        d = at - start
        size = float(np.hypot(*d))
        if size > 1e-9:
            direction["unit"] = d / size
        told = (Told("E", "level", at[0] + e0), Told("N", "level", at[1] + n0), Told("moved", "length", size))
        return to(at), told

    typed = [Typed("length", "a distance", lambda v: to(start + direction["unit"] * v))]
    if inner:
        typed.append(Typed("size", "r and a radius", lambda v: lambda s: edits.set_bend(s, street, i, radius=v), "r"))

    def rule(q: Engine) -> str:
        return _fits(street, i)(q) or (f"radius {old[2]:g}" if inner else "")

    title = f"{name_of(q, street)} bend {i + 1}"
    return Handle(("bend", street, i), (old[0], old[1]), title, "square", moved, tuple(typed), rule)


def _arc(q: Engine, street: str, i: int) -> Handle | None:
    """Where a bend's curve is nearest to its intersection point: dragged, the curve passes the hand."""
    bends, (e0, n0) = bends_of(q, street), parts.origin(q)
    if bends[i].radius <= 0.0 or bends[i].three_centred or abs(turn_of(bends, i)) < _BENT:
        return None
    chain = centreline(q, street).chain
    foot = chain.points_at(chain.feet([bends[i][:2]]).chainages)[0]

    def through(place: Place) -> Edit:
        return lambda site: edits.fit_bend(site, street, i, through=(place[0] + e0, place[1] + n0))

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        try:
            radius = radius_wanted(bends[i - 1][:2], bends[i], bends[i + 1][:2], through=place)
        except CannotFit:
            return through(place), ()  # the edit says why
        return through(place), (Told("radius", "length", radius, bends[i][2]),)

    typed = (Typed("length", "a radius", lambda v: lambda s: edits.set_bend(s, street, i, radius=v)),)
    title = f"{name_of(q, street)} bend {i + 1} curve"
    return Handle(
        ("curve", street, i), (float(foot[0]), float(foot[1])), title, "round", moved, typed, _fits(street, i)
    )


def _fits(street: str, i: int) -> Callable[[Engine], str]:
    """Whether a bend fits as it is, in words."""

    def rule(q: Engine) -> str:
        made = q.attempt(centreline, street)
        if isinstance(made, Unsolved):
            return made.message
        mine = next((p for p in made.problems if p.index == i), None)
        if mine is not None and mine.kind == "radius":
            return f"radius {mine.wanted:g} does not fit; the largest is {mine.largest:.2f}"
        return ""

    return rule
