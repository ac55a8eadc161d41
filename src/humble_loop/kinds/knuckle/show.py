"""How a knuckle shows itself, and how it is taken in hand."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any, Literal

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.elbows import bends_of_chain
from humble_loop.kinds.junction.model import LEAST_APART, ReturnLevel
from humble_loop.kinds.knuckle.layout import (
    KnuckleLine,
    elbow,
    knuckle_name,
    knuckle_of,
    knuckles_on,
    lip_rule,
    ring,
    rings_of,
    shape_of,
    side_of,
    sizes_of,
)
from humble_loop.kinds.knuckle.meeting import LEAST_TURN, elbow_of, elbows_at
from humble_loop.kinds.knuckle.model import add_knuckle, remove_knuckle, set_knuckle
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, is_new, name_of
from humble_loop.kinds.street.show import SAG, role_in_plan
from humble_loop.kinds.street.side import lip_width
from humble_loop.lines.anchor import by_words, fixed, moved_anchor
from humble_loop.lines.describe import (
    Actions,
    Choice,
    Drawing,
    Fact,
    Handle,
    Note,
    Place,
    Row,
    Told,
    Typed,
    Unit,
)
from humble_loop.lines.drawn import drawn_in, strokes
from humble_loop.lines.line import LineId, line_plan
from humble_loop.site.edits import Edit, changed
from humble_loop.site.model import Anchor

TIGHT_BEND = 40.0  # metres of a bend's radius up to which a knuckle is offered
_LEAST = 0.5  # metres of a size that is dragged
_DIGITS = 3  # of a level in metres
_NEAR = 1.0  # metres from a level within which it is meant
_PITS = (("no", "no pit"), ("yes", "pit"))


def drawing(q: Engine, id: str) -> Drawing:
    """The lines round it."""
    lines = (
        (role_in_plan(point, None, corner=True), KnuckleLine(id, which, point))
        for which in rings_of(q, id)
        for point in shape_of(q, id, which)[0].names
    )
    return strokes(drawn_in(q, lines, SAG))


def _to(id: str, key: str) -> Callable[[Any], Edit]:
    return lambda value: lambda s: set_knuckle(s, id, **{key: value})


def facts(q: Engine, id: str) -> tuple[Row, ...]:
    """Its sizes, and how it falls."""
    k, name = knuckle_of(q, id), knuckle_name(q, id)
    rename, state = _to(id, "name"), "set" if k.name else "proposed"
    rows: list[Row] = [
        Fact("name", "text", name, state, lambda v: rename(v or None), rename(None if k.name else name)),
    ]
    away = Actions(((f"Take {name} away", lambda s: remove_knuckle(s, id)),))
    sizes = q.attempt(sizes_of, id)
    if isinstance(sizes, Unsolved):
        return (*rows, Note(f"{sizes.message}; {sizes.remedy}"), away)
    rows += [
        _size("bulge radius", id, "radius", k.radius, sizes.radius),
        _size("return radius", id, "return_radius", k.return_radius, sizes.returns),
        Fact("centre outside the centreline", "length", k.out, "set", _to(id, "out")),
        _inner(q, id),
    ]
    made = q.attempt(ring, id, "outer")
    if isinstance(made, Unsolved):
        return (*rows, Note(f"{made.message}; {made.remedy}"), away)
    rows += [
        Fact("from", "chainage", made.begin),
        Fact("to", "chainage", made.finish),
        Fact("falls from the street's lip", "grade", k.fall, "set", _to(id, "fall")),
        Choice("pit", _PITS, "yes" if k.pit else "no", lambda v: _to(id, "pit")(v == "yes")),
        *_crossfalls(q, id),
    ]
    if k.levels:
        given = Fact("levels on its lip", "count", len(k.levels), "set", switch=_to(id, "levels")(()))
        rows += [given, *_follow_rows(q, id)]
    return (*rows, away)


def _size(label: str, id: str, key: str, given: float | None, used: float) -> Fact:
    edit = _to(id, key)
    return Fact(label, "size", used, "set" if given else "proposed", edit, edit(None if given else used))


def _inner(q: Engine, id: str) -> Row:
    """The lip inside the bend: as the bend leaves it, or an arc of its own."""
    k, edit = knuckle_of(q, id), _to(id, "inner")
    if k.inner is not None:
        return Fact("inner radius", "size", k.inner, "set", edit, edit(None))
    curve = abs(float(chain_of(q, k.street).at([elbow(q, id).middle]).curvatures[0]))
    width = lip_width(q, k.street, side_of(q, id, "inner")).one(elbow(q, id).middle)
    own = 1.0 / curve - width if curve > 0 else 0.0
    return Fact("inner radius", "size", max(own, _LEAST), "worked out", edit)


def _crossfalls(q: Engine, id: str) -> list[Row]:
    """How both halves of the carriageway lie over the bend, where that is not as the section has it."""
    k, rows = knuckle_of(q, id), list[Row]()
    for key, words, given in (("across", "outer half", k.across), ("inner_across", "inner half", k.inner_across)):
        edit = _to(id, key)
        options = (("section", "as the section"), ("level", "level across"), ("turned", "turned"))
        now = "section" if given is None else "level" if given == 0.0 else "turned"
        values = {"section": None, "level": 0.0, "turned": 0.03 if key == "across" else -0.03}
        rows.append(Choice(words, options, now, lambda v, edit=edit, values=values: edit(values[v])))  # type: ignore[misc]
        if given:
            rows.append(Fact("its grade outwards", "grade", given, "set", edit, inner=True))
    if k.across is not None or k.inner_across is not None:
        rows.append(Fact("and beyond the bend for", "length", k.beyond, "set", _to(id, "beyond"), inner=True))
        rows.append(Fact("turning over", "size", k.over, "set", _to(id, "over"), inner=True))
    return rows


def about_street(q: Engine, street: str) -> tuple[Row, ...]:
    """A street's knuckles, and widening its tight bends, for its facts."""
    if not is_new(q, street):
        return ()
    rows: list[Row] = []
    taken = []
    for k in knuckles_on(q, street):
        rows += [Note(knuckle_name(q, k.id)), *facts(q, k.id)]
        bend = q.attempt(elbow, k.id)
        if not isinstance(bend, Unsolved):
            taken.append(bend.middle)
    chain, offers = chain_of(q, street), []
    for bend in bends_of_chain(chain):
        ends = chain.at([bend.begin, bend.finish]).headings
        turned = abs(float(np.degrees(np.mod(ends[1] - ends[0] + np.pi, 2 * np.pi) - np.pi)))
        curve = abs(float(chain.at([bend.middle]).curvatures[0]))
        tight = curve * TIGHT_BEND >= 1.0 and turned >= LEAST_TURN
        if tight and all(abs(bend.middle - m) > 1e-6 for m in taken):
            at = chain.total - bend.middle if frame_of(q, street).turned else bend.middle
            edit: Edit = lambda s, at=at: add_knuckle(s, street, round(at, 2))  # type: ignore[misc]  # noqa: E731
            offers.append((f"Knuckle at {bend.middle:.0f}", edit))
    for end, other in elbows_at(q, street):
        offers.append((f"Knuckle where it meets {name_of(q, other.street)}", elbow_of(q, street, end, other)))
    if offers:
        rows.append(Actions(tuple(offers)))
    return tuple(rows)


# By hand


def handles(q: Engine, id: str) -> tuple[Handle, ...]:
    """The rim of the bulge, its centre, where it begins, and the middle of the arc inside the bend."""
    k, made, sizes = knuckle_of(q, id), q.attempt(ring, id, "outer"), q.attempt(sizes_of, id)
    if isinstance(made, Unsolved) or isinstance(sizes, Unsolved):
        return ()
    chain, bend, name = chain_of(q, k.street), elbow(q, id), knuckle_name(q, id)
    middle = chain.points_at([bend.middle])[0]
    heading = float(chain.at([bend.middle]).headings[0])
    outwards = -bend.turn * np.array([-np.sin(heading), np.cos(heading)])
    # Aside of the middle, where its level is dragged.
    turned = np.pi / 6
    aside = np.array([[np.cos(turned), -np.sin(turned)], [np.sin(turned), np.cos(turned)]]) @ outwards
    rim, centre = made.centre + aside * made.radius, made.centre

    def radius(place: Place) -> float:
        return float(np.hypot(*(np.array(place) - centre)))

    def out(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        value = round(float((np.array(place) - middle) @ outwards), 2)
        return _to(id, "out")(value), (Told("outside the centreline", "length", value, k.out),)

    found = [_sized(id, "radius", rim, f"{name} radius", made.radius, radius)]
    at = float(centre[0]), float(centre[1])
    typed = (Typed("length", "metres outside the centreline", _to(id, "out")),)
    found.append(Handle(("knuckle out", id), at, f"{name} centre", "round", out, typed))
    inner = q.attempt(ring, id, "inner") if k.inner is not None else None
    if inner is not None and not isinstance(inner, Unsolved):
        place = inner.chain.points_at([inner.middle])[0]
        # Its middle moves outwards by so much per metre of its radius: 1 / cos of half the turn, less one.
        half = 0.5 * inner.chain.total / inner.radius
        rate = 1.0 / np.cos(min(half, 1.4)) - 1.0

        def inside(at: Place, start: Floats = place, radius: float = inner.radius) -> float:
            return float(radius - (np.array(at) - start) @ outwards / max(rate, 0.05))

        found.append(_sized(id, "inner", place, f"{name} inner radius", inner.radius, inside))
    return tuple(found)


def _sized(id: str, key: str, place: Floats, title: str, value: float, measure: Callable[[Place], float]) -> Handle:
    edit = _to(id, key)

    def moved(at: Place) -> tuple[Edit, tuple[Told, ...]]:
        now = max(_LEAST, round(measure(at), 2))
        return edit(now), (Told("radius", "length", now, value),)

    at = float(place[0]), float(place[1])
    return Handle((f"knuckle {key}", id), at, title, "round", moved, (Typed("size", "a radius", edit),))


# Levels of the bulge's lip


def _levels(q: Engine, id: str) -> list[ReturnLevel]:
    """Its levels as its street runs; the one in its middle where none is set."""
    k, made = knuckle_of(q, id), ring(q, id, "outer")
    if not k.levels:
        rule = lip_rule(q, id, "outer")
        share = round(made.middle / made.chain.total, 5)
        return [ReturnLevel(share=share, level=round(float(rule.levels([made.middle])[0]), _DIGITS + 1))]
    if frame_of(q, k.street).turned:
        return [changed(v, share=round(1.0 - v.share, 6)) for v in reversed(k.levels)]
    return list(k.levels)


def levels_edit(q: Engine, id: str, levels: list[ReturnLevel]) -> Edit:
    """The edit that lets a bulge's lip go through levels, told as its street runs."""
    if frame_of(q, knuckle_of(q, id).street).turned:
        levels = [changed(v, share=round(1.0 - v.share, 6)) for v in levels]
    kept = tuple(sorted(levels, key=lambda v: v.share))
    return lambda s: set_knuckle(s, id, levels=kept)


def _level_to(q: Engine, id: str, n: int, share: float, level: float) -> Edit:
    levels = _levels(q, id)
    low = levels[n - 1].share + LEAST_APART if n > 0 else LEAST_APART
    high = levels[n + 1].share - LEAST_APART if n + 1 < len(levels) else 1.0 - LEAST_APART
    at = round(float(np.clip(share, low, max(low, high))), 5)
    follows = levels[n].follows
    if follows is not None:  # it keeps following: by another fall
        made = ring(q, id, "outer").chain
        follows = moved_anchor(q, follows, made.points_at([at * made.total])[0], level)
    levels[n] = ReturnLevel(share=at, level=round(level, _DIGITS), follows=follows)
    return levels_edit(q, id, levels)


def section_handles(q: Engine, id: str) -> tuple[Handle, ...]:
    """The levels of a bulge's lip in its long section."""
    if isinstance(q.attempt(lip_rule, id, "outer"), Unsolved):
        return ()
    total, name, found = ring(q, id, "outer").chain.total, knuckle_name(q, id), []
    state = "set" if knuckle_of(q, id).levels else "proposed"
    rule = lip_rule(q, id, "outer")
    for n, v in enumerate(_levels(q, id)):
        to = partial(_level_to, q, id, n)
        z = float(rule.levels([v.share * total])[0])

        def moved(place: Place, to: Any = to, v: ReturnLevel = v, z: float = z) -> tuple[Edit, tuple[Told, ...]]:
            told = Told("level", "level", place[1], z), Told("along", "length", place[0], v.share * total)
            return to(place[0] / total, place[1]), told

        typed = (
            Typed("level", "a level", lambda z, to=to, v=v: to(v.share, z)),  # type: ignore[misc]
            Typed("length", "a distance along", lambda s, to=to, z=z: to(s / total, z), "d"),  # type: ignore[misc]
        )
        at = v.share * total, z
        found.append(Handle(("knuckle level", id, n), at, f"{name} level", "square", moved, typed, state=state))
    return tuple(found)


def offers(q: Engine, id: str, place: Place) -> tuple[tuple[str, Edit], ...]:
    """What can be done at a place of the lip's long section."""
    if isinstance(q.attempt(lip_rule, id, "outer"), Unsolved):
        return ()
    total = ring(q, id, "outer").chain.total
    share = round(float(np.clip(place[0] / total, LEAST_APART, 1.0 - LEAST_APART)), 5)
    fresh = ReturnLevel(share=share, level=round(place[1], _DIGITS))
    found = [(f"Set a level {place[0]:.2f} m along", levels_edit(q, id, [*_levels(q, id), fresh]))]
    found += _holding(q, id, share, place[1])
    if knuckle_of(q, id).levels:
        n = int(np.argmin([abs(v.share - share) for v in _levels(q, id)]))
        found.append((f"Remove the level {_levels(q, id)[n].share * total:.2f} m along", removing(q, id, n)))
        found.append(("Give its levels back", _to(id, "levels")(())))
    pit = knuckle_of(q, id).pit
    found.append(("Take its pit away" if pit else "Put a pit on it", _to(id, "pit")(not pit)))
    return tuple(found)


def let_follow(q: Engine, id: str, along: float, anchor: Anchor, level: float) -> Edit:
    """The edit that lets the lip follow another line at a place, ``level`` being where it lies then: by the level that is there, or a new one."""
    made, levels = ring(q, id, "outer").chain, _levels(q, id)
    share = round(float(np.clip(along / made.total, LEAST_APART, 1.0 - LEAST_APART)), 5)
    near = [n for n, v in enumerate(levels) if abs(v.share - share) * made.total <= _NEAR]
    held = ReturnLevel(share=levels[near[0]].share if near else share, level=round(level, _DIGITS), follows=anchor)
    return levels_edit(q, id, [*(v for n, v in enumerate(levels) if n not in near[:1]), held])


def _holding(q: Engine, id: str, share: float, level: float) -> list[tuple[str, Edit]]:
    """What holds the lip at a place from the lines that it can be held from: the crown, the lip inside the bend."""
    made, levels, found = ring(q, id, "outer").chain, _levels(q, id), list[tuple[str, Edit]]()
    near = [n for n, v in enumerate(levels) if abs(v.share - share) * made.total <= _NEAR]
    at = levels[near[0]].share if near else share
    street = knuckle_of(q, id).street
    inside: LineId = StreetLine(street, "lip", side_of(q, id, "inner"))
    if "inner" in rings_of(q, id):
        inside = KnuckleLine(id, "inner")
    for source in (StreetLine(street), inside):
        try:
            anchor = fixed(q, source, made.points_at([at * made.total])[0], level)
        except Unsolved:
            continue
        words = f"Let it follow {line_plan(q, source).title}: {by_words(anchor)} it"
        found.append((words, let_follow(q, id, at * made.total, anchor, level)))
    return found


def _follow_rows(q: Engine, id: str) -> list[Row]:
    """By how much levels of the bulge's lip fall from what they follow, or how much higher they lie."""
    rows: list[Row] = []
    levels = _levels(q, id) if knuckle_of(q, id).levels else []
    for n, v in enumerate(levels):
        anchor = v.follows
        if anchor is None:
            continue
        key: Literal["fall", "rise"] = "fall" if anchor.fall is not None else "rise"
        unit: Unit = "grade" if key == "fall" else "level"

        def to(value: float, n: int = n, v: ReturnLevel = v, anchor: Anchor = anchor, key: str = key) -> Edit:
            fresh = changed(v, follows=changed(anchor, **{key: value}))
            return levels_edit(q, id, [*levels[:n], fresh, *levels[n + 1 :]])

        free = levels_edit(q, id, [*levels[:n], changed(v, follows=None), *levels[n + 1 :]])
        label = f"level {n + 1}: {'fall from' if key == 'fall' else 'above'} {anchor.line}"
        rows.append(Fact(label, unit, getattr(anchor, key), "set", to, free, inner=True))
    return rows


def removing(q: Engine, id: str, n: int) -> Edit:
    """The edit that takes a level out."""
    if not knuckle_of(q, id).levels:
        return lambda s: s
    return levels_edit(q, id, [v for i, v in enumerate(_levels(q, id)) if i != n])


def level_removal(q: Engine, held: tuple[Any, ...]) -> Edit | None:
    """The edit that takes a level out by the key of its handle; None for any other handle."""
    return removing(q, held[1], held[2]) if held[:1] == ("knuckle level",) else None
