"""Settling a junction: levels of its returns, and of the side street's next VIP, so that water leaves it; by the least change.

A return runs one way where both lips do, and is asked to fall all along it. Where both lips fall into it, water has to cross the mouth to
the through street's kerb, so the return is asked to lie above that; where it cannot, or both crowns run through, it needs a pit.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable
from dataclasses import dataclass
from functools import partial

import numpy as np

from humble_loop.engine.in_pieces import InPieces, Pieces
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.gradeline import Cubic
from humble_loop.kinds.junction.checks import hollows_of
from humble_loop.kinds.junction.corners import (
    ReturnLine,
    change_corner,
    corner_choice,
    kerb_return,
    through_lip,
)
from humble_loop.kinds.junction.model import ReturnLevel
from humble_loop.kinds.junction.nodes import Arm, arms_at, both_crowns, require_joint
from humble_loop.kinds.junction.profiles import WorkedReturn, returns_of
from humble_loop.kinds.junction.rulings import Rulings, rulings
from humble_loop.kinds.street.edits import set_vip
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.plan import StreetLine, class_of, name_of, vips_of
from humble_loop.lines.describe import Fact, Sheet, SheetRow
from humble_loop.lines.findings import share
from humble_loop.lines.line import line, line_plan
from humble_loop.lines.linear import unfolded
from humble_loop.propose.settle import NotSolved, Rule, Settled, Wanted, settled
from humble_loop.site.edits import Edit, changed
from humble_loop.site.model import Side, Site

_SHARES = (0.25, 0.5, 0.75)  # of a return, where it is given levels if it has none
_SAMPLES = np.linspace(0.0, 1.0, 81)  # of a return, where rules are asked
_NEAR_ENDS = 0.12  # of a return beside its ends and its turn, where its grade is all but theirs
_MARGIN = 1e-4  # of a fall, by which a rule is kept more strictly, since levels are rounded
_GENTLE = 5e-4  # of a fall beside the ends of a return that turns, so that levels that are rounded make no second turn
_MILDER = 1.2  # times the steepest fall that is asked where that cannot be kept
_MOST_MOVED = 0.1  # metres of a street's VIP: what a designer lets pass without another look at the street
_STREET = 40.0  # metres of a return that a metre of a street's VIP counts for
_SAME = 5e-5  # metres of a level that is not moved
_MOST_ROUNDS = 12
_COLUMNS = ("proposal", "levels", "moves down to", "moves up to", "VIPs", "pits", "cannot be kept")


@dataclass(frozen=True)
class Settling:
    """What would be set: by return, its levels and whether it has a pit; by street and VIP, its level (m). ``moved`` (k,) is by how much
    levels of returns move, ``given_up`` which rules cannot be kept, in words, and ``lines`` (n, 2) are the returns as they would be, side by
    side as ``profiles`` shows them.
    """

    returns: tuple[tuple[tuple[str, Arm, Side], tuple[ReturnLevel, ...], bool], ...]
    vips: tuple[tuple[str, int, float, float], ...]
    moved: Floats
    pits: int
    given_up: tuple[str, ...]
    lines: Floats


@dataclass(frozen=True)
class _Asked:
    """A rule, by which return (None: of a street). If it cannot be kept that is said and a milder one asked ``instead``; one that ``leads``
    water across the mouth gives way to a pit on the return, and with it goes what is only asked for its sake: ``if_pit`` is asked then.
    """

    rule: Rule
    of: int | None = None
    instead: Rule | None = None
    leads: bool = False
    if_pit: tuple[Rule, Rule] | None = None


@dataclass(frozen=True)
class _Begun:
    returns: tuple[WorkedReturn, ...]
    shares: tuple[tuple[float, ...], ...]
    vips: tuple[tuple[str, int, float], ...]
    before: Floats
    pits: tuple[bool, ...]
    courses: tuple[_Course, ...]
    work: InPieces[tuple[Settled, tuple[bool, ...], tuple[str, ...]]]


@query
def settling(q: Engine, id: str) -> Settling:
    """A junction's levels so that water leaves it. Raises Unsolved where none of its returns could be worked out."""
    begun = _begun(q, id)
    try:
        made, pits, given_up = begun.work.result(q)
    except NotSolved as error:
        raise Unsolved("settling", str(error), "set a level by hand, and settle again") from None
    k, found, moved = 0, [], made.levels - begun.before
    for r, at, pit in zip(begun.returns, begun.shares, pits):
        given = corner_choice(q, *r.place).levels or tuple(ReturnLevel(share=s, level=0.0) for s in at)
        levels = tuple(changed(v, level=round(float(z), 4)) for v, z in zip(given, made.levels[k : k + len(at)]))
        # One that stays as it is is not given levels of its own.
        alone = not corner_choice(q, *r.place).levels and np.all(np.abs(moved[k : k + len(at)]) < _SAME)
        found.append((r.place, () if alone else levels, pit))
        k += len(at)
    vips = [(*v, float(z)) for v, z in zip(begun.vips, made.levels[k:]) if abs(z - v[2]) > _SAME]
    fresh = sum(pits) - sum(begun.pits)
    drawn = [np.full((1, 2), np.nan)]
    for r, course in zip(begun.returns, begun.courses):
        z = course.level[0] + course.level[1] @ made.levels
        drawn += [np.column_stack([r.begin + course.s, z]), drawn[0]]
    return Settling(tuple(found), tuple(vips), moved[:k], fresh, given_up, np.concatenate(drawn))


@query
def _begun(q: Engine, id: str) -> _Begun:
    returns = returns_of(q, id)
    if not returns:
        raise Unsolved("settling", "no return could be worked out", "see what its corners say")
    vips = _vips(q, id)
    keys: tuple[Hashable, ...] = tuple(("vip", street, i) for street, i, _ in vips)
    shares = tuple(tuple(v.share for v in corner_choice(q, *r.place).levels) or _SHARES for r in returns)
    starts = np.cumsum([0, *(len(s) for s in shares)]).tolist()
    count = starts[-1] + len(vips)
    asked: list[_Asked] = []
    wanted: list[tuple[Floats, Floats, Floats]] = []
    before = np.zeros(count)
    pits, courses = tuple(corner_choice(q, *r.place).pit for r in returns), list[_Course]()
    for k, r in enumerate(returns):
        own = slice(starts[k], starts[k + 1])
        at = partial(_Course.of, q, r, shares[k], keys, own, count)
        course = at(_SAMPLES * r.rule.length)
        courses.append(course)
        before[own] = r.rule.cubic.level(np.array(shares[k]) * r.rule.length)
        asked += [*_asked(q, r, course, at, k, pits[k]), *_following(q, r, own, before)]
        now = r.rule.cubic.level(course.s)
        constant, factors = course.level
        wanted.append((factors, now - constant, np.full(len(course.s), r.rule.length / len(course.s))))
    before[starts[-1] :] = [z for *_, z in vips]
    for i, (_, _, z) in enumerate(vips):
        row = np.zeros((1, count))
        row[0, starts[-1] + i] = 1.0
        wanted.append((row, np.array([z]), np.array([_STREET])))
        asked.append(_Asked(Rule("the street", row, np.array([z - _MOST_MOVED]), np.array([z + _MOST_MOVED]))))
    whole = Wanted(*(np.concatenate(parts) for parts in zip(*wanted)))
    return _Begun(returns, shares, vips, before, pits, tuple(courses), InPieces(_worked(before, asked, whole, pits)))


def _following(q: Engine, r: WorkedReturn, own: slice, before: Floats) -> list[_Asked]:
    """That levels which follow another line stay where they are."""
    found = []
    for i, v in enumerate(corner_choice(q, *r.place).levels):
        if v.follows is not None:
            row = np.zeros((1, len(before)))
            row[0, own.start + i] = 1.0
            z = before[own.start + i : own.start + i + 1]
            found.append(_Asked(Rule("what it follows", row, z, z)))
    return found


def _worked(
    before: Floats, asked: list[_Asked], wanted: Wanted, pits: tuple[bool, ...]
) -> Pieces[tuple[Settled, tuple[bool, ...], tuple[str, ...]]]:
    """Levels that keep what is asked; of rules in conflict one is given up after the other, those first that a pit stands in for."""
    left, given_up, stands = list(asked), list[str](), list(pits)
    for _ in range(_MOST_ROUNDS):
        made = yield from settled(before, np.ones(len(before), dtype=bool), [a.rule for a in left], wanted)
        if not made.conflict:
            return made, tuple(stands), tuple(given_up)
        those = [a for a in left if a.rule.words in made.conflict and a.of is not None]
        leading = next((a for a in left if a.leads and a.of in {t.of for t in those}), None)
        if leading is not None and leading.of is not None:
            stands[leading.of] = True
            left.remove(leading)
            left = [_with_pit(a) if a.of == leading.of else a for a in left]
            continue
        goes = those[0]
        left.remove(goes)
        if goes.rule.words not in given_up:
            given_up.append(goes.rule.words)
        left += [] if goes.instead is None else [_Asked(goes.instead, goes.of)]
    raise NotSolved("too many of its rules contradict one another")


def _with_pit(asked: _Asked) -> _Asked:
    """What is asked of a return once it has a pit."""
    return asked if asked.if_pit is None else _Asked(asked.if_pit[0], asked.of, asked.if_pit[1])


def _vips(q: Engine, id: str) -> tuple[tuple[str, int, float], ...]:
    """Of each side street the VIP next to the junction that may be moved: set, with a level, and not locked."""
    found = {}
    for street, arm in arms_at(q, id):
        made, j = q.attempt(grade_line, street), require_joint(q, street, arm)
        if isinstance(made, Unsolved):
            continue
        beyond = np.flatnonzero((made.profile.chainages - j.side_chainage) * j.way > kerb_reach(q, street, arm))
        if not beyond.size:
            continue
        k = made.index[int(beyond[0 if j.way > 0 else -1])]
        vips = vips_of(q, street)
        if k >= 0 and (z := vips[k].level) is not None and not vips[k].locked:
            found[street, k] = z
    return tuple((street, k, z) for (street, k), z in found.items())


def kerb_reach(q: Engine, street: str, arm: Arm) -> float:
    """How far along an arm (m) its returns reach; a VIP nearer than that is not the street's next one."""
    corners: tuple[Side, Side] = ("left", "right")
    made = [q.attempt(kerb_return, street, arm, c) for c in corners]
    return max((0.0 if isinstance(r, Unsolved) else r.leg_at for r in made), default=0.0)


@dataclass(frozen=True)
class _Course:
    """A return at places ``s`` (n,) along it: its ``level`` and ``grade`` as constants (n,) and factors (n, k) of what is decided."""

    s: Floats
    level: tuple[Floats, Floats]
    grade: tuple[Floats, Floats]

    @staticmethod
    def of(
        q: Engine,
        r: WorkedReturn,
        shares: tuple[float, ...],
        keys: tuple[Hashable, ...],
        own: slice,
        count: int,
        s: Floats,
    ) -> _Course:
        """With levels at some shares of it, decided in the places ``own`` of ``count``; the last of those are the VIPs with ``keys``."""
        at = tuple(v * r.rule.length for v in shares)
        shape = Cubic(r.rule.length, 0.0, 0.0, 0.0, 0.0, at, (0.0,) * len(at))
        ends = [unfolded(q, v, keys) for v in (r.rule.level_0, r.rule.grade_0, r.rule.level_1, r.rule.grade_1)]
        constants = np.array([float(e.constant[0]) for e in ends])
        found = []
        for weights in (shape.weights(s), shape.slope_weights(s)):
            factors = np.zeros((len(s), count))
            factors[:, own] = weights[:, 4:]
            if keys:
                factors[:, count - len(keys) :] += weights[:, :4] @ np.concatenate([e.factors for e in ends])
            found.append((weights[:, :4] @ constants, factors))
        return _Course(s, found[0], found[1])


_At = Callable[[Floats], _Course]


def _asked(q: Engine, r: WorkedReturn, course: _Course, at: _At, k: int, pit: bool) -> list[_Asked]:
    """What a return is asked: to fall one way where its lips do; else to let what runs into it cross the mouth, or to have a pit."""
    rules, cubic = class_of(q, r.street), r.rule.cubic
    least, most = rules.least_return_fall, max(rules.most_return_fall, abs(cubic.m0), abs(cubic.m1))
    if cubic.m0 * cubic.m1 >= 0.0:
        return [_Asked(_one_way(r, course, least, most), k, _one_way(r, course, 0.0, _MILDER * most))]
    turns = _one_turn(r, course, least, most), _one_turn(r, course, 0.0, most)
    if pit or not cubic.m0 < 0.0 < cubic.m1:
        return [_Asked(turns[0], k, turns[1])]
    spans = rulings(q, *r.place)
    # Water only crosses from where the return lies opposite the through lip.
    last = float(spans.on_return[spans.through - 1]) if spans.through else None
    return [
        _Asked(_one_turn(r, course, least, most, last), k, turns[1], if_pit=turns),
        _Asked(_across(q, r, at, spans, least), k, leads=True),
    ]


def _one_way(r: WorkedReturn, course: _Course, least: float, most: float) -> Rule:
    """That a return falls all along it the way its lips do; at its ends no more than these."""
    first, last, length = r.rule.cubic.m0, r.rule.cubic.m1, r.rule.length
    way = 1.0 if first + last >= 0.0 else -1.0
    least = min([least, *(abs(m) for m in (first, last) if m != 0.0)])
    inside = (course.s > _NEAR_ENDS * length) & (course.s < (1.0 - _NEAR_ENDS) * length)
    constant, factors = course.grade[0][inside], course.grade[1][inside]
    low, high = min(least + _MARGIN, most - _MARGIN), most - _MARGIN
    words = f"{r.made.title}: one way, at {share(least)} to {share(most)}"
    return Rule(words, way * factors, low - way * constant, high - way * constant)


def _one_turn(r: WorkedReturn, course: _Course, least: float, most: float, last: float | None = None) -> Rule:
    """That a return has one high or low point, where it is now, or no further along than ``last``: it falls before a low one and rises
    beyond it, or the other way round, away from it and from its ends by ``least``.
    """
    cubic, turning = r.rule.cubic, r.rule.turning_points()
    middle = sum(t.chainage for t in turning) / len(turning) if turning else 0.5 * r.rule.length
    middle = middle if last is None else min(middle, last)
    rises = np.where(course.s < middle, cubic.m0, cubic.m1) > 0.0
    constant, factors = course.grade
    around = np.abs(course.s[:, None] - [0.0, middle, r.rule.length]) < _NEAR_ENDS * r.rule.length
    ends = min(_GENTLE, abs(cubic.m0), abs(cubic.m1))
    gentle = np.where(
        around[:, 1], 0.0, np.where(around.any(axis=1), ends, max(least + _MARGIN if least else 0.0, ends))
    )
    low, high = np.where(rises, gentle, -most), np.where(rises, most, -gentle)
    return Rule(
        f"{r.made.title}: one turn, at {share(least)} to {share(most)}", factors, low - constant, high - constant
    )


def _across(q: Engine, r: WorkedReturn, at: _At, spans: Rulings, least: float) -> Rule:
    """That where a return lies opposite the through lip it lies so far above that that water crosses to it; always broken where both
    crowns run through or nothing spans the junction so, since nothing leads water away there.
    """
    words = f"{r.made.title}: water crosses the mouth at {share(least)}"
    course = at(spans.on_return[: spans.through])
    constant, factors = course.level
    if both_crowns(q, r.street, r.arm) or not spans.through:
        return Rule(words, np.zeros((1, factors.shape[1])), np.ones(1), np.ones(1))
    lip = line(q, through_lip(require_joint(q, r.street, r.arm))).points(spans.across[: spans.through])
    away = np.hypot(*(r.made.points(course.s) - lip)[:, :2].T)
    low = lip[:, 2] + (least + _MARGIN) * away - constant
    return Rule(words, factors, low, np.full(len(low), np.inf))


# Shown and taken


def told(q: Engine, made: Settling) -> str:
    """What settling does, in words."""
    count, most = int((np.abs(made.moved) > _SAME).sum()), float(np.abs(made.moved).max(initial=0.0))
    words = [f"{count} levels of returns moved by up to {most:.3f} m" if count else "its returns stay"]
    words += [f"the VIP {k + 1} of {name_of(q, s)} by {z - was:+.3f} m" for s, k, was, z in made.vips]
    words += [f"{made.pits} more pits"] if made.pits else []
    words += [f"cannot be kept: {w}" for w in made.given_up]
    return "; ".join(words)


def settle_sheet(q: Engine, id: str) -> Sheet:
    """What settling a junction would do, in a row with the edit that takes it."""
    arms = arms_at(q, id)
    shown = StreetLine(arms[0][0] if arms else "")
    made = q.attempt(settling, id)
    if isinstance(made, Unsolved):
        return Sheet("Settle", shown, _COLUMNS, (), f"{made.message}; {made.remedy}")
    down, up = -min(0.0, float(made.moved.min(initial=0.0))), max(0.0, float(made.moved.max(initial=0.0)))
    vips = ", ".join(f"{name_of(q, s)} {z - was:+.3f}" for s, _, was, z in made.vips)
    cells = (
        Fact("proposal", "text", "least change"),
        Fact("levels", "count", int((np.abs(made.moved) > _SAME).sum())),
        Fact("moves down to", "level", down),
        Fact("moves up to", "level", up),
        Fact("VIPs", "text", vips or "none"),
        Fact("pits", "count", made.pits),
        Fact("cannot be kept", "text", "; ".join(made.given_up)) if made.given_up else None,
    )
    row = SheetRow(cells, (0.0, -1.0), np.empty((0, 2)), actions=(("Take it", taken(q, made)),), ghost=made.lines)
    note = "Returns and the side street's next VIP, moved as little as they can be so that water leaves the junction"
    return Sheet("Settle", shown, _COLUMNS, (row,), note)


def taken(q: Engine, made: Settling) -> Edit:
    """The edit that sets what was settled, with a pit on the nearest return where water still stands then."""

    def edit(site: Site) -> Site:
        site = _set(q, made, site)
        trial = Engine(site)
        for place, _, pit in made.returns:
            for hollow in hollows_of(trial, *place[:2], True):
                nearest = min(made.returns, key=lambda r: _away(trial, r[0], hollow.point[:2]))
                if nearest[0] == place and not pit:
                    site = change_corner(q, *place, pit=True)(site)
        return site

    return edit


def _away(q: Engine, place: tuple[str, Arm, Side], point: Floats) -> float:
    """How far (m) a place lies from a return."""
    made = q.attempt(line_plan, ReturnLine(*place))
    return np.inf if isinstance(made, Unsolved) else float(abs(made.foot([point])[1][0]))


def _set(q: Engine, made: Settling, site: Site) -> Site:
    for place, levels, pit in made.returns:
        choice = corner_choice(q, *place)
        if levels != choice.levels or pit != choice.pit:
            site = change_corner(q, *place, levels=levels, pit=pit)(site)
    for street, k, _, z in made.vips:
        site = set_vip(site, street, k, level=round(z, 4))
    return site
