"""Fixed falls: a level that follows from another line's by a stated fall or difference."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.lines.findings import share
from humble_loop.lines.kind import Following
from humble_loop.lines.line import LineId, ThingId, line, line_plan
from humble_loop.lines.quantity import Quantity, amount, elsewhere, summed, times
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.site.model import Anchor

_DIGITS = 5  # of a fall
_FAR = 80.0  # metres between a level and what it follows, beyond which that cannot be meant
_SAME = 1e-6  # metres between two places that are one


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
    if held.away > _FAR:
        raise Unsolved(of, f"a level follows {held.title}, which is {held.away:.0f} m away", "set that level free")
    there = times(held.title, elsewhere(held.title, held.line, held.at, np.array([held.level])))
    if anchor.rise is not None:
        by = amount(f"{anchor.rise:+.3f} m".replace("-", "−"), anchor.rise)
        return summed(name, f"a fixed difference from {held.title}", there, by, source="tied")
    assert anchor.fall is not None
    down = amount(f"−{share(anchor.fall)} × {held.away:.2f} m", -anchor.fall * held.away)
    return summed(name, f"a fixed fall from {held.title}", there, down, source="tied")


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


def following(follower: ThingId, anchor: Anchor) -> Following:
    """That a thing takes a level from what an anchor names."""
    return Following(follower, ThingId(anchor.kind, anchor.of), f"its {anchor.line}")
