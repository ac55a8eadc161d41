"""Fixed falls: a level that follows from another line's by a stated fall or difference."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any, Literal, TypeVar

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats, tangents
from humble_loop.lines.describe import Fact, Unit
from humble_loop.lines.findings import share
from humble_loop.lines.kind import Following
from humble_loop.lines.line import LineId, ThingId, line, line_plan
from humble_loop.lines.quantity import Quantity, amount, elsewhere, summed, times
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.site.edits import Edit, EditError, changed
from humble_loop.site.model import Anchor, Model, Site

_DIGITS = 5  # of a fall
_FAR = 80.0  # metres between a level and what it follows, beyond which that cannot be meant
_SAME = 1e-6  # metres between two places that are one
_PAST = 1.0  # metres beyond an end, from which a place lies there


@dataclass(frozen=True)
class Held:
    """Where a level is held from: the line, the place on it nearest (m), its title and level there (m), and metres ``away``."""

    line: LineId
    at: float
    title: str
    level: float
    away: float


def anchor_to(q: Engine, id: LineId, **by: float) -> Anchor:
    """An anchor to a line, by its fall or its rise."""
    kind = kind_of(id.kind)
    thing = kind.thing_of(q, id)
    return Anchor(kind=id.kind, of=thing.id, line=kind.word_of(q, id), **by)


def anchored_line(q: Engine, anchor: Anchor, of: str) -> LineId:
    """The line that an anchor names. Raises Unsolved, of what follows, where it is not there."""
    kind = next((k for k in kinds() if k.key == anchor.kind), None)
    try:
        for id in kind.lines(q, ThingId(anchor.kind, anchor.of)) if kind is not None else ():
            if kind is not None and kind.word_of(q, id) == anchor.line:
                return id
    except Unsolved:
        pass
    raise Unsolved(of, f"a level follows '{anchor.line}' of '{anchor.of}', which is not there", "set that level free")


def held_at(q: Engine, id: LineId, place: Floats) -> Held:
    """Where a place (2,) is held from on a line: where that is nearest to it. Raises Unsolved where that has no level."""
    plan = line_plan(q, id)
    s = float(np.clip(plan.base.feet([place]).chainages[0], plan.start, plan.end))
    made = line(q, id)
    level = float(made.rule.levels([s])[0])
    if not np.isfinite(level):
        raise Unsolved(plan.title, "it has no level there", "let its grade line reach so far")
    return Held(id, s, plan.title, level, float(np.hypot(*(plan.points([s])[0] - place))))


def anchored(q: Engine, anchor: Anchor, place: Floats, name: str, of: str) -> Quantity:
    """The level at a place (2,) that follows from another line's. Raises Unsolved, of the thing ``of``, where that is not there."""
    held = held_at(q, anchored_line(q, anchor, of), place)
    if _goes_on(q, anchor, held, place):
        words = f"a level follows {held.title}, which goes on as another street before it comes abreast"
        raise Unsolved(of, words, "let it follow that street, or set that level free")
    if held.away > _FAR:
        raise Unsolved(of, f"a level follows {held.title}, which is {held.away:.0f} m away", "set that level free")
    there = times(held.title, elsewhere(held.title, held.line, held.at, np.array([held.level])))
    if anchor.rise is not None:
        by = amount(f"{anchor.rise:+.3f} m".replace("-", "−"), anchor.rise)
        return summed(name, f"a fixed difference from {held.title}", there, by, source="tied")
    assert anchor.fall is not None
    down = amount(f"−{share(anchor.fall)} × {held.away:.2f} m", -anchor.fall * held.away)
    return summed(name, f"a fixed fall from {held.title}", there, down, source="tied")


def _goes_on(q: Engine, anchor: Anchor, held: Held, place: Floats) -> bool:
    """Whether a place lies beyond an end of a street at which that goes on as another: it was cut in between."""
    plan = line_plan(q, held.line)
    ends = {e: at for e, at in (("start", plan.start), ("end", plan.end)) if abs(held.at - at) < _SAME}
    if anchor.kind != "street" or not ends:
        return False
    (heading,) = plan.base.at([held.at]).headings
    along = float((place - plan.points([held.at])[0]) @ tangents(heading))
    beyond = {"start": -along, "end": along}
    goes = {g.end for kind in kinds() for g in kind.goes_on(q, anchor.of)}
    return any(beyond[e] > _PAST and e in goes for e in ends)


def fixed(q: Engine, id: LineId, place: Floats, level: float) -> Anchor:
    """The anchor that holds a place (2,) at a level from a line as it lies now: by its fall, or its difference where both are one place."""
    held = held_at(q, id, place)
    if held.away < _SAME:
        return anchor_to(q, id, rise=round(level - held.level, _DIGITS))
    return anchor_to(q, id, fall=round((held.level - level) / held.away, _DIGITS))


def rejoined_anchor(anchor: Anchor, gone: str, street: str, back: bool) -> Anchor:
    """An anchor after the street ``gone`` became part of ``street``, run ``back`` along it or not."""
    if (anchor.kind, anchor.of) != ("street", gone):
        return anchor
    line = anchor.line
    if back:
        first, _, rest = line.partition(" ")
        line = f"{ {'left': 'right', 'right': 'left'}.get(first, first) } {rest}".strip()
    return anchor.model_copy(update={"of": street, "line": line})


def rejoined_anchors(site: Site, gone: str, street: str, back: bool) -> Site:
    """The site after the street ``gone`` became part of another: every level that follows it follows that."""
    for things in site.things.values():
        for thing in things:
            fresh = _with_anchors(thing, lambda a: rejoined_anchor(a, gone, street, back))
            if fresh is not thing:
                site = site.put(fresh)
    return site


def anchors_in(model: Model) -> Iterator[Anchor]:
    """What levels in a model follow, and in what it is made of."""
    for name in type(model).model_fields:
        values = getattr(model, name)
        for value in values if isinstance(values, tuple) else (values,):
            if isinstance(value, Anchor):
                yield value
            elif isinstance(value, Model):
                yield from anchors_in(value)


_M = TypeVar("_M", bound=Model)


def _with_anchors(model: _M, to: Callable[[Anchor], Anchor]) -> _M:
    """A model with its anchors, and those of what it is made of, changed; itself where none is."""
    if not any(to(a) is not a for a in anchors_in(model)):
        return model

    def told(value: Any) -> Any:
        if isinstance(value, Anchor):
            return to(value)
        if isinstance(value, tuple):
            return tuple(told(v) for v in value)
        return _with_anchors(value, to) if isinstance(value, Model) else value

    return changed(model, **{name: told(getattr(model, name)) for name in type(model).model_fields})


def by_words(anchor: Anchor) -> str:
    """'falls 2.50 %', 'rises 1.00 %', or how much higher it lies."""
    if anchor.rise is not None:
        return f"{abs(anchor.rise):.3f} m {'above' if anchor.rise >= 0 else 'below'}"
    fall = anchor.fall or 0.0
    return f"{'falls' if fall >= 0 else 'rises'} {share(abs(fall))} from"


def moved_anchor(q: Engine, anchor: Anchor, place: Floats, level: float) -> Anchor:
    """An anchor by which a place (2,) lies at a level; as it is where what it follows is not there."""
    try:
        return fixed(q, anchored_line(q, anchor, ""), place, level)
    except Unsolved:
        return anchor


FOLLOWING = ("follows", "by")
"""Columns that say what levels in rows follow."""


def following_facts(q: Engine, anchor: Anchor, to: Callable[[Anchor], Edit]) -> tuple[Fact, Fact]:
    """What a level follows and by what fall or difference, as facts; ``to`` makes the edit that gives it another anchor."""
    try:
        title = line_plan(q, anchored_line(q, anchor, "")).title
    except Unsolved:
        title = f"{anchor.line} of {anchor.of}, which is not there"
    key: Literal["fall", "rise"] = "fall" if anchor.fall is not None else "rise"
    unit: Unit = "grade" if key == "fall" else "level"
    by = Fact("by", unit, getattr(anchor, key), "set", lambda v: to(changed(anchor, **{key: v})))
    return Fact("follows", "text", title), by


def followings_in(follower: ThingId, model: Model) -> tuple[Following, ...]:
    """That a thing takes levels from what the anchors in it name, other things than itself."""
    found = (following(follower, a) for a in anchors_in(model))
    return tuple(dict.fromkeys(f for f in found if f.leader != f.follower))


def can_follow(q: Engine, id: LineId, s: float) -> bool:
    """Whether a line has a level of its own at a chainage, that could follow another."""
    anchor = Anchor(kind=id.kind, of="", line="", rise=0.0)
    return any(k.let_follow(q, id, s, anchor, 0.0) is not None for k in kinds())


def let_follow(q: Engine, follower: LineId, s: float, leader: LineId, fall: float | None = None) -> tuple[Edit, Anchor]:
    """The edit that lets a line at a chainage follow another, where that is nearest, by a fall, or by that which it has from there now; and how
    it then follows.

    Raises Unsolved where either has no level there, EditError where the first has none of its own.
    """
    if follower == leader:
        raise EditError("a level does not follow its own line; point at another")
    place, here = line_plan(q, follower).points([s])[0], line(q, follower)
    level = float(here.rule.levels([s])[0])
    if not np.isfinite(level):
        raise Unsolved(here.title, "it has no level there", "let its grade line reach so far")
    anchor = fixed(q, leader, place, level) if fall is None else anchor_to(q, leader, fall=fall)
    edit = next((e for k in kinds() if (e := k.let_follow(q, follower, s, anchor, level)) is not None), None)
    if edit is None:
        raise EditError(f"{here.title} has no levels of its own there; give it some first")
    return edit, anchor


def following(follower: ThingId, anchor: Anchor) -> Following:
    """That a thing takes a level from what an anchor names."""
    return Following(follower, ThingId(anchor.kind, anchor.of), f"its {anchor.line}")
