"""How the points of a street's side come by their levels: by the section, and with those of them that are held."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import rows_at
from humble_loop.kinds.street.holding import holds
from humble_loop.kinds.street.inwards import inwards
from humble_loop.kinds.street.levels import raised
from humble_loop.kinds.street.lowered import kerb_count, lowered_rises, lowered_rule
from humble_loop.kinds.street.plan import StreetLine, is_new, name_of
from humble_loop.kinds.street.side import SideCourse, course
from humble_loop.lines.line import line
from humble_loop.lines.quantity import percent
from humble_loop.lines.rules import Above, Held, Hold, LevelRule
from humble_loop.lines.standing import kinds
from humble_loop.lines.varying import Varying
from humble_loop.site.model import Side

_OWN = "as its section has it"


def side_rule(q: Engine, street: str, side: Side, k: int) -> LevelRule:
    """How point ``k`` of a side comes by its levels."""
    made = course(q, street, side)
    if k <= made.lip:
        return _moved(q, street, side, made, k, made.lip)
    own, kerb = _beside(q, street, side, made, k), kerb_count(made.roles[made.lip + 1 :])
    if k > made.lip + kerb:
        return own
    rise = _rise_where_lowered(q, street, made, k, made.lip + kerb)
    title, lip = f"{name_of(q, street)} {side} {made.names[k]}", StreetLine(street, "lip", side)
    holds = [h for j in range(made.lip + 1, made.lip + kerb + 1) for h in _holds(q, street, side, made, j)]
    return lowered_rule(q, title, lip, own, rise, holds)


def _rise_where_lowered(q: Engine, street: str, made: SideCourse, k: int, last: int) -> Varying:
    """How high point ``k`` of a kerb, whose back is point ``last``, stands above the lip where the kerb is lowered."""
    table, first = raised(q, street), made.lip + 1
    at = np.union1d(made.at, table.at)
    out, rise = (
        np.cumsum(v, axis=1)
        for v in rows_at(at, made.at, made.widths[:, first : last + 1], made.rises[:, first : last + 1])
    )
    by, none = table(at), np.zeros(1)
    rows = [lowered_rises(np.concatenate([none, o]), np.concatenate([none, r - b])) for o, r, b in zip(out, rise, by)]
    return Varying.of(at, [row[k - made.lip] for row in rows])


def by_section(q: Engine, street: str, side: Side) -> LevelRule:
    """The boundary as its section and whatever is held before it have it, out from the lip, whether or not it is held elsewhere."""
    return section_rule(q, street, side, len(course(q, street, side).names) - 1)


def section_rule(q: Engine, street: str, side: Side, k: int) -> LevelRule:
    """Point ``k`` of a side where it would be were it not held itself."""
    return _moved(q, street, side, course(q, street, side), k, k - 1)


def _moved(q: Engine, street: str, side: Side, made: SideCourse, k: int, upto: int) -> LevelRule:
    """Point ``k`` of a side as its section has it, with regard to points up to ``upto`` that are held.

    What lies outside of one that is held is carried along. What lies in the carriageway between it and the next one inwards that is
    held, or the crown, moves with it in proportion to its distance. The roadside stands on the lip, whatever holds that.
    """
    driven = k <= made.lip
    if upto <= (0 if driven else made.lip):
        return _by_crossfall(q, street, side, made, k) if driven else _from_lip(q, street, side, made, k)
    own, held = _moved(q, street, side, made, k, upto - 1), _holds(q, street, side, made, upto)
    if not held:
        return own
    if k == upto:
        return _at(q, street, side, made, k, own, held)
    leader = _moved(q, street, side, made, upto, upto - 1)
    ratio = _proportion(q, street, side, made, k, upto) if k < upto else None
    title = f"{name_of(q, street)} {side} {made.names[k]}"
    return Held(title, f"with the {made.names[upto]}, which is held", own, _OWN, held, leader, ratio)


def _beside(q: Engine, street: str, side: Side, made: SideCourse, k: int) -> LevelRule:
    """Point ``k`` of the roadside; all of it moves with a boundary that is held as ``inwards`` says."""
    last = len(made.names) - 1
    own = _moved(q, street, side, made, k, min(k, last - 1))
    held = _holds(q, street, side, made, last)
    if not held:
        return own
    if k == last:
        return _at(q, street, side, made, k, own, held)
    ratio = inwards(q, street, side).of(k)
    if not ratio.values.any():
        return own
    title = f"{name_of(q, street)} {side} {made.names[k]}"
    rule_words = "inwards from the boundary, which is held"
    return Held(title, rule_words, own, _OWN, held, by_section(q, street, side), ratio)


def _holds(q: Engine, street: str, side: Side, made: SideCourse, k: int) -> tuple[Hold, ...]:
    return holds(q, StreetLine(street, made.names[k], side))


def _at(
    q: Engine, street: str, side: Side, made: SideCourse, k: int, own: LevelRule, held: tuple[Hold, ...]
) -> LevelRule:
    by = " and ".join(dict.fromkeys(h.words for h in held))
    return Held(f"{name_of(q, street)} {side} {made.names[k]}", f"held by {by}", own, _OWN, held)


def _proportion(q: Engine, street: str, side: Side, made: SideCourse, k: int, upto: int) -> Varying:
    """How far point ``k`` lies on the way from the next point inwards that is held to point ``upto``."""
    inner, at = Varying.steady(0.0), made.at
    for j in range(1, upto):
        for hold in _holds(q, street, side, made, j):
            at = np.union1d(at, hold.share.at)
            out = made.out(j).times_varying(hold.share)
            places = np.union1d(inner.at, out.at)
            inner = Varying.of(places, np.maximum(inner(places), out(places)))
    at = np.union1d(at, inner.at) if not inner.is_steady else at
    here, there, base = made.out(k)(at), made.out(upto)(at), inner(at)
    return Varying.of(at, np.clip((here - base) / np.maximum(there - base, 1e-9), 0.0, 1.0))


def _from_lip(q: Engine, street: str, side: Side, made: SideCourse, k: int) -> LevelRule:
    """Point ``k`` of the roadside as its section has it: out from the lip."""
    lip, title = StreetLine(street, "lip", side), f"{name_of(q, street)} {side} {made.names[k]}"
    rises = tuple((f"{made.names[i - 1]} to {made.names[i]}", made.rise(i)) for i in range(made.lip + 1, k + 1))
    if (rise := raised(q, street)).values.any():
        rises = (("the kerb stays below the table", rise.times(-1.0)), *rises)
    return Above(title, "out from the lip by the typical section", lip, "lip", line(q, lip).rule, rises)


def _by_crossfall(q: Engine, street: str, side: Side, made: SideCourse, k: int) -> LevelRule:
    """Point ``k`` of the carriageway as its section has it: out from the crown at the falls of its strips."""
    crown, title = StreetLine(street), f"{name_of(q, street)} {side} {made.names[k]}"
    rises = tuple(_strip_rise(q, street, side, made, i) for i in range(1, k + 1))
    return Above(title, "crown and crossfall", crown, "crown", line(q, crown).rule, rises)


def _strip_rise(q: Engine, street: str, side: Side, made: SideCourse, i: int) -> tuple[CrossfallWords, Varying]:
    """What a strip of the carriageway adds to the level, in words and metres."""
    normal, width = made.grade(i), made.width(i)
    fall = _turned(q, street, side, normal)
    return CrossfallWords(fall, width, normal, made.names[i] if made.lip > 1 else ""), fall.times_varying(width)


@query
def crossfall(q: Engine, street: str, side: Side) -> Varying:
    """Grade outwards of the straight from crown to lip along a street; turned near ends that other things hold."""
    made = course(q, street, side)
    inner = slice(1, made.lip + 1)
    normal = Varying.of(made.at, made.rises[:, inner].sum(axis=1) / made.widths[:, inner].sum(axis=1))
    return _turned(q, street, side, normal)


def _turned(q: Engine, street: str, side: Side, normal: Varying) -> Varying:
    """A grade outwards along a street that beside what holds its crown is turned to what that wants.

    What has no room to turn is normal as far as what comes next to it across a junction; between two that run into one another it
    turns through.
    """
    made = [t for kind in kinds() for t in kind.turns(q, street, side)] if is_new(q, street) else []
    turns = sorted((t for t in made if t.finish != t.begin), key=lambda t: t.begin)
    places: list[tuple[float, float]] = []
    free: list[tuple[float, float]] = []  # where it is as the section has it
    since = -np.inf
    for before, t, after in zip([None, *turns[:-1]], turns, [*turns[1:], None]):
        has_room, ends = (t.finish > t.begin) == t.onwards, (t.finish, normal.one(t.finish))
        if t.onwards and (has_room or before is not None):
            runs_into = after is not None and not after.onwards and after.finish < t.finish
            places += [(t.begin, t.across)] * has_room + [ends] * (not runs_into)
            since = t.finish
        elif not t.onwards and (has_room or after is not None):
            if t.finish >= since:
                places.append(ends)
                free.append((since, t.finish))
            places += [(t.begin, t.across)] * has_room
            since = np.inf
    free.append((since, np.inf))
    if not places:
        return normal
    if not normal.is_steady:
        own = zip(normal.at.tolist(), normal.values.tolist())
        places += [(s, v) for s, v in own if any(a < s < b for a, b in free)]
    places.sort(key=lambda place: place[0])
    return Varying.of([s for s, _ in places], [v for _, v in places])


@dataclass(frozen=True)
class CrossfallWords:
    """The fall of a strip of the carriageway in words at a chainage; a value, so that rules that say the same are the same.

    ``to`` names the point at which the strip ends where there are several.
    """

    fall: Varying
    width: Varying
    normal: Varying
    to: str = ""

    def __call__(self, s: float) -> str:
        """'crossfall −3.00 % × 3.40 m', and whether it turns."""
        here = self.fall.one(s)
        turning = ", turned there" if abs(here - self.normal.one(s)) > 1e-12 else ""
        before = f"to {self.to}: " if self.to else ""
        return f"{before}crossfall {percent(here)} × {self.width.one(s):.2f} m{turning}"
