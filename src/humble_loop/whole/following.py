"""What follows what, and what moves when a level is moved: the trail the other way."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import unique_chainages
from humble_loop.kinds.kerb_line.levels import KerbLevels, all_on
from humble_loop.kinds.kerb_line.levels import rule_of as kerb_rule
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.plan import name_of as street_name
from humble_loop.kinds.street.plan import street_ids
from humble_loop.kinds.street.tables import one_street
from humble_loop.lines.kind import Following
from humble_loop.lines.line import LineId, ThingId, line
from humble_loop.lines.linear import decisions_under
from humble_loop.lines.quantity import Decided, say
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.lines.table import Table
from humble_loop.site.model import SIDES
from humble_loop.whole.things import things_by_street

_PLACES = 40  # along a line at which it is asked how far it moves, besides where its formula changes
_STILL = 1e-4  # of how far a level is moved: what moves less does not
_MOST = 200  # places of a line's formula that are asked


@query
def followings(q: Engine) -> tuple[Following, ...]:
    """Every following of the site, kind by kind."""
    return tuple(f for kind in kinds() for f in kind.followings(q))


@dataclass(frozen=True)
class Around:
    """A thing with what it follows and what follows it."""

    thing: ThingId
    leaders: tuple[Following, ...]
    followers: tuple[Following, ...]


def around(q: Engine, thing: ThingId) -> Around:
    """What a thing follows and what follows it; a part of a street (a tie, a lip's own levels) has its street in its place, unless
    something follows or leads it itself.
    """
    every = followings(q)
    if not any(thing in (f.follower, f.leader) for f in every):
        own = next((f for f in every if f.by == thing), None)
        thing = own.follower if own is not None else kind_of(thing.kind).under(q, thing) or thing
    leaders = tuple(f for f in every if f.follower == thing)
    return Around(thing, leaders, tuple(f for f in every if f.leader == thing and f.follower != thing))


@dataclass(frozen=True)
class Moved:
    """How far a line moves for each metre that a level is moved: ``most`` (signed) at ``chainage`` of it."""

    line: LineId
    title: str
    chainage: float
    most: float


@query
def moves(q: Engine, key: tuple[Any, ...], street: str) -> tuple[Moved, ...]:
    """The lines that move with a decision of a street, by its key, each with its most: on the street, and on all that follows it
    directly or through others. Those that move most come first.
    """
    found = []
    for thing in (t for s in _following(q, street) for t in _on(q, s)):
        try:
            lines = kind_of(thing.kind).lines(q, thing)
        except Unsolved:
            continue
        for id in lines:
            made = q.attempt(_moved, id)
            if not isinstance(made, Unsolved) and key in made:
                found.append(made[key])
    return tuple(sorted(found, key=lambda m: -abs(m.most)))


@query
def _moved(q: Engine, id: LineId) -> dict[Any, Moved]:
    """How far a line moves for each decision that it rests on."""
    made = line(q, id)
    low, high = made.plan.start, made.plan.end
    keys = made.rule.key_places()
    keys = keys[(keys >= low) & (keys <= high)]
    if len(keys) > _MOST:
        keys = keys[:: len(keys) // _MOST + 1]
    s = unique_chainages(np.linspace(low, high, _PLACES), keys, low=low, high=high)
    found = {}
    for key, by in decisions_under(q, id, s).items() if len(s) else ():
        size = np.where(np.isfinite(by), np.abs(by), 0.0)
        k = int(np.argmax(size))
        if size[k] > _STILL:
            found[key] = Moved(id, made.title, float(s[k]), float(by[k]))
    return found


def _following(q: Engine, street: str) -> tuple[str, ...]:
    """A street and all that follow it, directly or through others."""
    every, found = followings(q), [street]
    for s in found:
        for f in every:
            leads = f.leader is not None and f.leader.kind == "street" and f.leader.id == s
            if leads and f.follower.kind == "street" and f.follower.id not in found:
                found.append(f.follower.id)
    return tuple(found)


def _on(q: Engine, street: str) -> tuple[ThingId, ...]:
    """A street and what stands on it, lots apart: those follow pad by pad, and are many."""
    keys = [k.key for k in kinds() if k.key not in ("lot", "ground", "survey_line")]
    under = [t for key in keys for t in things_by_street(q, key).get(street, ())]
    parts = [t for key in ("kerb_line", "tie") for t in kind_of(key).things(q) if _street_of(q, t) == street]
    return tuple(dict.fromkeys((*under, *parts)))


def _street_of(q: Engine, thing: ThingId) -> str:
    try:
        under = kind_of(thing.kind).under(q, thing)
    except Unsolved:
        return ""
    return under.id if under is not None else ""


def decisions_of(q: Engine, street: str) -> tuple[tuple[tuple[Any, ...], str], ...]:
    """The levels of a street that a designer decides, by key, with words: its crown's VIPs, and those of its own levels."""
    made = q.attempt(grade_line, street)
    vips = [] if isinstance(made, Unsolved) else list(made.vips)
    for side in SIDES:
        for id in all_on(q, street, side):
            vips += kerb_rule(q, KerbLevels(id, street)).vips
    return tuple((v.origin.key, say(v.name, 0)) for v in vips if isinstance(v.origin, Decided))  # type: ignore[misc]


def trail_table(q: Engine, of: str | None, every: float | None) -> Table:
    """What would move with each decided level of a street, and how far at most for each metre: the level trail the other way."""
    del every
    out = []
    for street in [one_street(q, of)] if of is not None else street_ids(q):
        for key, words in decisions_of(q, street):
            out += [(street_name(q, street), words, m.title, m.chainage, m.most) for m in moves(q, key, street)]
    return Table(("street", "decided", "moves", "chainage", "per_metre"), tuple(out))
