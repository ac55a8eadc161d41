"""Levels of streets: grade line, crown, and how crossfall and section carry it outwards."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from humble_loop.engine.in_pieces import InPieces
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.street.model import Vip
from humble_loop.kinds.street.plan import chain_of, class_of, frame_of, ground_along, name_of, vips_of, wanted_of
from humble_loop.lines.anchor import anchored
from humble_loop.lines.kind import Carried, EndTie
from humble_loop.lines.quantity import Quantity, amount, decided, known, percent, summed, times
from humble_loop.lines.rules import InStretches, LevelRule, OnGradeLine, Raised
from humble_loop.lines.standing import kinds
from humble_loop.lines.varying import Varying
from humble_loop.propose.through import SAME, Course, GradeRules, Stop, curves_for, through
from humble_loop.site.library import StreetClass
from humble_loop.site.model import ENDS, Anchor, End, State

MOST_SHOWN = 60  # VIPs from which a grade line is ground as it was found, not somebody's design


@dataclass(frozen=True)
class GradeLine:
    """A street's grade line.

    ``states`` says for each VIP whether its level is 'proposed', 'set', 'locked' or 'tied'; ``index`` is its place in the
    street's set VIPs, or -1; ``vips`` are the levels as quantities, with their reasons; ``follows`` what they follow (nothing for none at all).
    """

    profile: Profile
    states: tuple[State, ...]
    index: tuple[int, ...]
    vips: tuple[Quantity, ...]
    follows: tuple[Anchor | None, ...] = ()

    def as_it_stands(self, i: int) -> Vip:
        """VIP ``i`` with the level that it has here; at an end without a curve."""
        p, inner = self.profile, 0 < i < len(self.states) - 1
        return Vip(
            chainage=float(p.chainages[i]),
            level=float(p.levels[i]),
            curve_length=float(p.curves[i]) if inner else 0.0,
            locked=self.states[i] == "locked",
            follows=self.follows[i] if self.follows else None,
        )


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
def carried(q: Engine, street: str) -> tuple[Carried, ...]:
    """Where other things carry a street's crown away from its ends, in order; what lies within another or a tied end is left out."""
    if frame_of(q, street).kind == "existing":
        return ()
    ties = dict(end_ties(q, street))
    low = ties["start"].chainage if "start" in ties else 0.0
    high = ties["end"].chainage if "end" in ties else chain_of(q, street).total
    found: list[Carried] = []
    for c in sorted((c for kind in kinds() for c in kind.carried(q, street)), key=lambda c: c.begin):
        if low + SAME < c.begin <= c.finish < high - SAME:
            found.append(c)
            low = c.finish
    return tuple(found)


@query
def raised(q: Engine, street: str) -> Varying:
    """How far a street's carriageway is raised above its grade line (m)."""
    found = Varying.steady(0.0)
    for kind in kinds() if frame_of(q, street).kind == "new" else ():
        for r in kind.raises(q, street):
            at = [r.begin - r.ramp, r.begin, r.finish, r.finish + r.ramp]
            more = Varying.of(at, [0.0, r.by, r.by, 0.0])
            places = np.union1d(found.at, more.at)
            found = Varying.of(places, np.maximum(found(places), more(places)))
    return found


@query
def grade_line(q: Engine, street: str) -> GradeLine:
    """The grade line, below what raises the carriageway: set VIPs between tied ends and what carries the crown, or a proposal from the ground where nothing was set."""
    return _made(q, street, carried(q, street))


@query
def own_grades(q: Engine, street: str) -> Floats:
    """Grade of each leg (n - 1,) of a street's grade line; NaN where something else carries the crown, whose falls those are."""
    p, over = grade_line(q, street).profile, carried(q, street)
    begins = np.array([c.begin for c in over if c.finish - c.begin > SAME])
    other = (np.abs(p.chainages[:-1, None] - begins) < SAME).any(axis=1)
    return frozen(np.where(other, np.nan, p.grades))


@query
def own_grade_line(q: Engine, street: str) -> GradeLine:
    """The grade line if nothing carried the crown away from its ends."""
    return _made(q, street, ())


@query
def own_level(q: Engine, street: str, s: float) -> float:
    """The level of the crown at a chainage, if nothing carried it there."""
    return float(own_grade_line(q, street).profile.level([s])[0])


def _made(q: Engine, street: str, over: tuple[Carried, ...]) -> GradeLine:
    vips, made = vips_of(q, street), _worked_out(q, street, over)
    follows = tuple(vips[i].follows if i >= 0 else None for i in made.index)
    return replace(made, follows=follows) if any(follows) else made


def vip_level(q: Engine, street: str, i: int) -> Quantity:
    """The level of set VIP ``i`` of a street that has one: its own, or from what it follows."""
    v, name = vips_of(q, street)[i], name_of(q, street)
    what = f"{name} VIP at {v.chainage:.2f}"
    if v.follows is not None:
        return anchored(q, v.follows, chain_of(q, street).points_at([v.chainage])[0], what, name)
    return decided(what, float(v.level or 0.0), ("vip", street, i), "level set", "set")


def _worked_out(q: Engine, street: str, over: tuple[Carried, ...]) -> GradeLine:
    frame, vips = frame_of(q, street), vips_of(q, street)
    ties = dict(end_ties(q, street))
    if (rise := raised(q, street)).values.any():
        # What holds it holds the carriageway, of which the grade line lies as far below as that is raised there.
        ties = {end: replace(t, level=_below(t.level, rise.one(t.chainage))) for end, t in ties.items()}
        over = tuple(
            replace(c, first=_below(c.first, rise.one(c.begin)), last=_below(c.last, rise.one(c.finish))) for c in over
        )
    if vips and not frame.proposed_between:
        return _set(q, street, vips, ties, over)
    if frame.kind == "existing":
        return _found(q, street)
    return _proposed(q, street, ties, over)


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


def _set(
    q: Engine, street: str, vips: tuple[Vip, ...], ties: dict[End, EndTie], over: tuple[Carried, ...]
) -> GradeLine:
    name = name_of(q, street)
    low = ties["start"].chainage if "start" in ties else -np.inf
    high = ties["end"].chainage if "end" in ties else np.inf
    rows: list[tuple[float, float, State, int, Quantity]] = []

    def add(s: float, curve: float, state: State, index: int, level: Quantity) -> None:
        rows.append((s, curve, state, index, level))

    def pass_over(before: float) -> None:
        while waiting and waiting[0].begin < before:
            c = waiting.pop(0)
            add(c.begin, 0.0, "tied", -1, _tied(name, c.begin, c.first))
            if c.finish - c.begin > SAME:
                add(c.finish, 0.0, "tied", -1, _tied(name, c.finish, c.last))

    waiting = list(over)
    if "start" in ties:
        add(low, 0.0, "tied", -1, _tied(name, low, ties["start"].level))
    for i, v in enumerate(vips):
        if not low + SAME < v.chainage < high - SAME or _within(over, v.chainage):
            continue  # what is tied takes the place of a VIP at or before the throat
        pass_over(v.chainage)
        what = f"{name} VIP at {v.chainage:.2f}"
        if v.level is not None:
            add(v.chainage, v.curve_length, _state(v), i, vip_level(q, street, i))
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
    pass_over(np.inf)
    if "end" in ties:
        add(high, 0.0, "tied", -1, _tied(name, high, ties["end"].level))
    if len(rows) < 2:
        raise Unsolved(name, "its grade line has a single VIP", "add another VIP, or clear it to have one proposed")
    return _assembled(
        [r[0] for r in rows],
        [0.0, *(r[1] for r in rows[1:-1]), 0.0],
        [r[2] for r in rows],
        [r[3] for r in rows],
        [r[4] for r in rows],
    )


def _tied(name: str, s: float, level: Quantity) -> Quantity:
    return summed(f"{name} VIP at {s:.2f}", "tied where it leaves", times("throat", level), source="tied")


def _below(level: Quantity, by: float) -> Quantity:
    if not by:
        return level
    return summed(
        level.name, "below the table", times("on the table", level), amount("less the table", -by), source="tied"
    )


def _within(over: tuple[Carried, ...], s: float) -> bool:
    """Whether a chainage lies where something else carries the crown."""
    return any(c.begin - SAME <= s <= c.finish + SAME for c in over)


def _assembled(
    chainages: list[float], curves: list[float], states: list[State], index: list[int], vips: list[Quantity]
) -> GradeLine:
    profile = Profile.of(chainages, [float(v.value[0]) for v in vips], curves)
    return GradeLine(profile, tuple(states), tuple(index), tuple(vips))


def _proposed(q: Engine, street: str, ties: dict[End, EndTie], over: tuple[Carried, ...]) -> GradeLine:
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
    stops, fixed = stops_of(q, street, (begin, finish), ties, over)
    corners, levels = outside_of(over, *_following(q, street, stops).result(q))
    curves = curves_for(corners, levels, grade_rules(rules), wanted_of(q, street).curve)
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
        vips[k] = vip_level(q, street, i)
    held = [(k, ties[end].chainage, ties[end].level) for end, k in (("start", 0), ("end", -1)) if end in ties]
    for c in over:
        ends = (
            (int(np.argmin(np.abs(corners - s))), s, level) for s, level in ((c.begin, c.first), (c.finish, c.last))
        )
        held += list(ends)
    for k, s, level in held:
        states[k], vips[k], curves[k] = "tied", _tied(name, s, level), 0.0
    return _assembled([float(c) for c in corners], [float(c) for c in curves], states, index, vips)


def _state(vip: Vip) -> State:
    return "locked" if vip.locked else "set"


Stops = tuple[Stop, ...]


def stops_of(
    q: Engine, street: str, reach: tuple[float, float], ties: dict[End, EndTie], over: tuple[Carried, ...]
) -> tuple[Stops, list[tuple[int, Vip]]]:
    """Where a proposed line is held between two chainages: at tied ends, where the crown is carried and at locked VIPs, and those VIPs
    with their place.
    """
    low, high = reach[0] + SAME * ("start" in ties), reach[1] - SAME * ("end" in ties)
    locked = [(i, v) for i, v in enumerate(vips_of(q, street)) if v.locked and low <= v.chainage <= high]
    fixed = [(i, v) for i, v in locked if not _within(over, v.chainage)]
    ends = [float(ties[end].level.value[0]) if end in ties else None for end in ENDS]
    stops: list[Stop] = [(v.chainage, float(vip_level(q, street, i).value[0])) for i, v in fixed]
    stops += [(c.begin, float(c.first.value[0])) for c in over]
    stops += [(c.finish, float(c.last.value[0])) for c in over if c.finish - c.begin > SAME]
    stops.sort(key=lambda stop: stop[0])
    if not stops or stops[0][0] > reach[0] + SAME:
        stops.insert(0, (reach[0], ends[0]))
    if stops[-1][0] < reach[1] - SAME:
        stops.append((reach[1], ends[1]))
    return tuple(stops), fixed


def outside_of(over: tuple[Carried, ...], corners: Floats, levels: Floats) -> tuple[Floats, Floats]:
    """The corners of a line without those on stretches where something else carries the crown."""
    keep = np.ones(len(corners), dtype=bool)
    for c in over:
        keep &= (corners <= c.begin + SAME) | (corners >= c.finish - SAME)
    return corners[keep], levels[keep]


def grade_rules(rules: StreetClass) -> GradeRules:
    """What a street's class asks of a line that is proposed."""
    rate = max(rules.least_crest_k, rules.least_sag_k)
    return GradeRules(rules.least_grade, rules.most_grade, rules.least_curve_length, rate)


def tolerances(q: Engine, street: str) -> tuple[float, float]:
    """Cut and fill (m) within which a street's line follows the ground: its own, or its class's."""
    rules, wanted = class_of(q, street), wanted_of(q, street)
    return wanted.cut or rules.cut_tolerance, wanted.fill or rules.fill_tolerance


@query
def _following(q: Engine, street: str, stops: Stops) -> InPieces[tuple[np.ndarray, np.ndarray]]:
    """The straights that follow the ground within the street's tolerances, raised as is wanted."""
    ground, wanted = ground_along(q, street), wanted_of(q, street)
    on = np.isfinite(ground.levels)
    s, z = ground.chainages[on], ground.levels[on] + wanted.raised
    below, above = (np.full_like(s, v) for v in tolerances(q, street))
    return InPieces(through(Course(s, z, below, above), grade_rules(class_of(q, street)), stops))


def crown_rule(q: Engine, street: str) -> LevelRule:
    """The crown: on the grade line, and beyond held ends as what holds them says."""
    made = grade_line(q, street)
    title = f"{name_of(q, street)} crown"
    rule: LevelRule = OnGradeLine(title, made.profile, made.vips)
    if (rise := raised(q, street)).values.any():
        rule = Raised(title, "raised by a table", rule, rise)
    ties = dict(end_ties(q, street))
    upto, rules = [], []
    if "start" in ties and (inside := ties["start"].inside) is not None:
        upto.append(ties["start"].chainage)
        rules.append(inside)
    for c in carried(q, street):
        if c.inside is not None:
            upto += [c.begin, c.finish]
            rules += [rule, c.inside]
    rules.append(rule)
    if "end" in ties and (inside := ties["end"].inside) is not None:
        upto.append(ties["end"].chainage)
        rules.append(inside)
    return InStretches(tuple(upto), tuple(rules)) if upto else rule


def proposed_vips(q: Engine, street: str) -> list[Vip]:
    """The VIPs of a street's grade line as it stands, without the tied ends, which stay tied."""
    line = grade_line(q, street)
    return [line.as_it_stands(i) for i, state in enumerate(line.states) if state != "tied"]
