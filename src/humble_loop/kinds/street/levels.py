"""Levels of streets: grade line, crown, and how crossfall and section carry it outwards."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.in_pieces import InPieces, Pieces
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import unique_chainages
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.street.model import Vip
from humble_loop.kinds.street.plan import chain_of, class_of, frame_of, ground_along, name_of, vips_of
from humble_loop.lines.kind import EndTie
from humble_loop.lines.quantity import Quantity, amount, decided, known, percent, summed, times
from humble_loop.lines.rules import InStretches, LevelRule, OnGradeLine
from humble_loop.lines.standing import kinds
from humble_loop.propose.follow import fewest_straights, straights_in_tube
from humble_loop.site.library import StreetClass
from humble_loop.site.model import ENDS, End, State

_SAME = 1e-6  # metres between two chainages that are one
_SHORTEST = 25.0  # metres: the shortest leg that is proposed
MOST_SHOWN = 60  # VIPs from which a grade line is ground as it was found, not somebody's design


@dataclass(frozen=True)
class GradeLine:
    """A street's grade line.

    ``states`` says for each VIP whether its level is 'proposed', 'set', 'locked' or 'tied'; ``index`` is its place in the
    street's set VIPs, or -1; ``vips`` are the levels as quantities, with their reasons.
    """

    profile: Profile
    states: tuple[State, ...]
    index: tuple[int, ...]
    vips: tuple[Quantity, ...]


@query
def end_ties(q: Engine, street: str) -> tuple[tuple[End, EndTie], ...]:
    """How a street's ends are held by other things. The first kind that holds an end has it."""
    found: dict[End, EndTie] = {}
    if frame_of(q, street).kind == "existing":
        return ()
    for kind in kinds():
        for tie in kind.end_ties(q, street):
            found.setdefault(tie.end, tie)
    return tuple(found.items())


@query
def grade_line(q: Engine, street: str) -> GradeLine:
    """The grade line: set VIPs between tied ends, or a proposal from the ground where nothing was set."""
    frame, vips = frame_of(q, street), vips_of(q, street)
    ties = dict(end_ties(q, street))
    if vips and not frame.proposed_between:
        return _set(q, street, vips, ties)
    if frame.kind == "existing":
        return _found(q, street)
    return _proposed(q, street, ties)


def _found(q: Engine, street: str) -> GradeLine:
    name = name_of(q, street)
    ground = ground_along(q, street)
    on = np.isfinite(ground.levels)
    if on.sum() < 2:
        raise Unsolved(
            name,
            "an existing street has no ground under it to take its levels from",
            "bring in a surface that covers it, or set its VIPs",
        )
    profile = Profile.of(ground.chainages[on], ground.levels[on])
    n = int(on.sum())
    states: tuple[State, ...] = tuple("tied" for _ in range(n))
    vips = tuple(
        known(f"{name} at {s:.2f}", z, "the ground under the existing street", "ground")
        for s, z in zip(profile.chainages, profile.levels)
    )
    return GradeLine(profile, states, (-1,) * n, vips)


def _set(q: Engine, street: str, vips: tuple[Vip, ...], ties: dict[End, EndTie]) -> GradeLine:
    name = name_of(q, street)
    low = ties["start"].chainage if "start" in ties else -np.inf
    high = ties["end"].chainage if "end" in ties else np.inf
    rows: list[tuple[float, float, State, int, Quantity]] = []

    def add(s: float, curve: float, state: State, index: int, level: Quantity) -> None:
        rows.append((s, curve, state, index, level))

    if "start" in ties:
        add(low, 0.0, "tied", -1, _tied(name, ties["start"]))
    for i, v in enumerate(vips):
        if not low + _SAME < v.chainage < high - _SAME:
            continue  # a tied end takes the place of a VIP at or before the throat
        what = f"{name} VIP at {v.chainage:.2f}"
        if v.level is not None:
            level, state = decided(what, v.level, ("vip", street, i), "level set", "set"), _state(v)
            add(v.chainage, v.curve_length, state, i, level)
        elif rows:
            assert v.grade is not None
            run = v.chainage - rows[-1][0]
            level = summed(
                what,
                f"grade set to {percent(v.grade)} from the VIP before",
                times("VIP before", rows[-1][4]),
                amount(f"{percent(v.grade)} × {run:.2f} m", v.grade * run),
                source="set",
            )
            add(v.chainage, v.curve_length, "set", i, level)
        else:
            raise Unsolved(
                name, f"its first VIP, at {v.chainage:.2f}, has a grade but nothing to follow from", "set its level"
            )
    if "end" in ties:
        add(high, 0.0, "tied", -1, _tied(name, ties["end"]))
    if len(rows) < 2:
        raise Unsolved(name, "its grade line has a single VIP", "add another VIP, or clear it to have one proposed")
    return _assembled(
        [r[0] for r in rows],
        [0.0, *(r[1] for r in rows[1:-1]), 0.0],
        [r[2] for r in rows],
        [r[3] for r in rows],
        [r[4] for r in rows],
    )


def _tied(name: str, tie: EndTie) -> Quantity:
    return summed(
        f"{name} VIP at {tie.chainage:.2f}", "tied where it leaves", times("throat", tie.level), source="tied"
    )


def _assembled(
    chainages: list[float], curves: list[float], states: list[State], index: list[int], vips: list[Quantity]
) -> GradeLine:
    profile = Profile.of(chainages, [float(v.value[0]) for v in vips], curves)
    return GradeLine(profile, tuple(states), tuple(index), tuple(vips))


def _proposed(q: Engine, street: str, ties: dict[End, EndTie]) -> GradeLine:
    """Follow the ground with few VIPs, within the class's tolerances and grades, from and to what is tied."""
    rules, name, total = class_of(q, street), name_of(q, street), chain_of(q, street).total
    ground = ground_along(q, street)
    on = np.isfinite(ground.levels)
    begin = ties["start"].chainage if "start" in ties else 0.0
    finish = ties["end"].chainage if "end" in ties else total
    if on.sum() < 2 or finish - begin < 1.0:
        raise Unsolved(
            name,
            "there is no ground under it to propose a grade line from",
            "move it onto the ground, or set its VIPs",
        )
    low, high = begin + _SAME * ("start" in ties), finish - _SAME * ("end" in ties)
    fixed = [(i, v) for i, v in enumerate(vips_of(q, street)) if low <= v.chainage <= high]
    corners, levels = _through(q, street, (begin, finish), ties, [v for _, v in fixed])
    curves = _proposed_curves(corners, levels, rules)
    states: list[State] = ["proposed"] * len(corners)
    index = [-1] * len(corners)
    vips = [
        decided(f"{name} VIP at {c:.2f}", float(v), ("proposed vip", street, i), "proposed from the ground", "proposed")
        for i, (c, v) in enumerate(zip(corners, levels))
    ]
    for i, vip in fixed:
        k = int(np.argmin(np.abs(corners - vip.chainage)))
        states[k], index[k] = "locked", i
        curves[k] = vip.curve_length if 0 < k < len(corners) - 1 else 0.0
        vips[k] = decided(f"{name} VIP at {vip.chainage:.2f}", float(levels[k]), ("vip", street, i), "level set", "set")
    for held, place in (("start", 0), ("end", -1)):
        if held in ties:
            states[place], vips[place] = "tied", _tied(name, ties[held])
    return _assembled([float(c) for c in corners], [float(c) for c in curves], states, index, vips)


def _state(vip: Vip) -> State:
    return "locked" if vip.locked else "set"


def _through(
    q: Engine, street: str, reach: tuple[float, float], ties: dict[End, EndTie], locked: list[Vip]
) -> tuple[np.ndarray, np.ndarray]:
    """Chainages and levels of a line that follows the ground from one chainage to another, through locked VIPs."""
    ends = [float(ties[end].level.value[0]) if end in ties else None for end in ENDS]
    stops: list[tuple[float, float | None]] = [(v.chainage, v.level) for v in locked]
    if not stops or stops[0][0] > reach[0] + _SAME:
        stops.insert(0, (reach[0], ends[0]))
    if stops[-1][0] < reach[1] - _SAME:
        stops.append((reach[1], ends[1]))
    corners, levels = [np.empty(0)], [np.empty(0)]
    for k, ((a, low), (b, high)) in enumerate(zip(stops[:-1], stops[1:])):
        s, z = _fitting(q, street, a, b, low, high).result(q)
        corners.append(s[k > 0 :])
        levels.append(z[k > 0 :])
    return np.concatenate(corners), np.concatenate(levels)


@query
def _fitting(
    q: Engine, street: str, begin: float, finish: float, start: float | None, end: float | None
) -> InPieces[tuple[np.ndarray, np.ndarray]]:
    """The straights that follow the ground from one chainage to another, from and to levels where these are held."""
    ground = ground_along(q, street)
    on = np.isfinite(ground.levels)
    s = unique_chainages([begin, finish], ground.chainages[on], low=begin, high=finish, gap=0.05)
    z = np.interp(s, ground.chainages[on], ground.levels[on])
    return InPieces(_few_straights(s, z, class_of(q, street), start, end, finish - begin))


def _few_straights(
    s: np.ndarray, z: np.ndarray, rules: StreetClass, start: float | None, end: float | None, length: float
) -> Pieces[tuple[np.ndarray, np.ndarray]]:
    """The fewest straights within the class's tolerances; where there are none, within as little more as it takes."""
    least, most = rules.least_grade, 0.9 * rules.most_grade
    for widen in (1.0, 1.25, 1.6, 2.0, 2.5, 3.2, 4.0, 5.0, 6.5, 8.0):
        low, high = z - rules.cut_tolerance * widen, z + rules.fill_tolerance * widen
        made = fewest_straights(
            s, low, high, start=start, end=end, least=least, most=most, shortest=min(_SHORTEST, 0.45 * length)
        )
        if made is not None:
            return made
        yield
    # Grades and levels contradict each other: the grades hold, and how far it leaves the ground is a finding.
    corners, levels = straights_in_tube(s, low, high, start=start, least=least, most=most, shortest=_SHORTEST)
    if end is not None:
        levels = levels.copy()
        levels[-1] = end
    return corners, levels


def _proposed_curves(corners: np.ndarray, levels: np.ndarray, rules: StreetClass) -> np.ndarray:
    changes = np.abs(np.concatenate([[0.0], np.diff(np.diff(levels) / np.diff(corners)), [0.0]]))
    legs = np.diff(corners)
    room = np.concatenate([[0.0], np.minimum(legs[:-1], legs[1:]), [0.0]])
    wanted = np.maximum(rules.least_curve_length, 1.5 * max(rules.least_crest_k, rules.least_sag_k) * changes * 100.0)
    return np.where(changes > 0, np.minimum(wanted, 0.98 * room), 0.0)


def crown_rule(q: Engine, street: str) -> LevelRule:
    """The crown: on the grade line, and beyond held ends as what holds them says."""
    made = grade_line(q, street)
    title = f"{name_of(q, street)} crown"
    rule: LevelRule = OnGradeLine(title, made.profile, made.vips)
    ties = dict(end_ties(q, street))
    upto, rules = [], []
    if "start" in ties and (inside := ties["start"].inside) is not None:
        upto.append(ties["start"].chainage)
        rules.append(inside)
    rules.append(rule)
    if "end" in ties and (inside := ties["end"].inside) is not None:
        upto.append(ties["end"].chainage)
        rules.append(inside)
    return InStretches(tuple(upto), tuple(rules)) if upto else rule


def proposed_vips(q: Engine, street: str) -> list[Vip]:
    """The VIPs of a street's grade line as it stands, without the tied ends, which stay tied."""
    line = grade_line(q, street)
    last = len(line.states) - 1
    return [
        Vip(
            chainage=float(s),
            level=float(z),
            curve_length=0.0 if i in (0, last) else float(c),
            locked=state == "locked",
        )
        for i, (s, z, c, state) in enumerate(
            zip(line.profile.chainages, line.profile.levels, line.profile.curves, line.states, strict=True)
        )
        if state != "tied"
    ]
