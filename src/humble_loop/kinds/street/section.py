"""A street's section: its lines from crown to boundary, and the rows at which they are worked."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Bools, Floats, as_row, frozen, row_at, unique_chainages
from humble_loop.geometry.gradeline import Profile
from humble_loop.ground.drape import drape
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street.holding import holds
from humble_loop.kinds.street.levels import carried, crown_rule, end_ties
from humble_loop.kinds.street.plan import (
    StreetLine,
    centreline,
    chain_of,
    frame_of,
    is_new,
    name_of,
    section_of,
)
from humble_loop.kinds.street.side import SideCourse, boundary_width, course, drawn_side, lip_offset, merged
from humble_loop.kinds.street.side_levels import section_rule, side_rule
from humble_loop.kinds.survey_line.lines import SurveyedLine
from humble_loop.lines.line import LineId, LinePlan, line, line_plan, sampled_at
from humble_loop.lines.quantity import percent
from humble_loop.lines.rules import Above, Known, LevelRule
from humble_loop.lines.standing import kinds
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.model import SIDES, Side, side_sign

_ON = 1e-6  # metres along a street within which places are one


@dataclass(frozen=True)
class SideShape:
    """A section side from its lip outwards: point names, distances out and rises above the lip (k,), in metres.

    ``roles`` (k - 1,) name what lies between each point and the next.
    """

    names: tuple[str, ...]
    out: Floats
    rise: Floats
    roles: tuple[str, ...]
    cut_slope: float
    fill_slope: float

    @property
    def reach(self) -> float:
        """Distance from the lip to the boundary in metres."""
        return float(self.out[-1])


def alike(first: SideShape, last: SideShape) -> tuple[SideShape, SideShape]:
    """Two sides with the same points, those of either: what a side does not have lies on the point before it there."""
    if first.names == last.names:
        return first, last
    names, own = merged(last.names, first.names)
    role = {**dict(zip(own[1:], first.roles)), **dict(zip(last.names[1:], last.roles))}
    roles = tuple(role[n] for n in names[1:])

    def with_all(side: SideShape, mine: tuple[str, ...]) -> SideShape:
        at = np.maximum.accumulate([mine.index(n) if n in mine else 0 for n in names])
        return replace(side, names=names, out=frozen(side.out[at]), rise=frozen(side.rise[at]), roles=roles)

    return with_all(first, own), with_all(last, last.names)


def slopes_between(first: SideShape, last: SideShape, share: Floats) -> Floats:
    """Cut and fill slope (n, 2) on the way from one side's to another's; ``share`` (n,) of the way."""
    a, b = (np.array([v.cut_slope, v.fill_slope]) for v in (first, last))
    between: Floats = a + np.clip(share, 0.0, 1.0)[:, None] * (b - a)
    return between


@query
def side_shape(q: Engine, street: str, side: Side, s: float) -> SideShape:
    """The shape of a street's section outside the lip at a chainage; points that it does not have there are left out."""
    made = course(q, street, side)
    first = made.lip + 1
    width, rise, slopes = (row_at(s, made.at, of_all) for of_all in (made.widths, made.rises, made.slopes))
    width, rise = width[first:], rise[first:]
    there = (width > 0) | (rise != 0)
    names = [n for n, has in zip(made.names[first:], there) if has]
    roles = tuple(r for r, has in zip(made.roles[first:], there) if has)
    out, up = (np.concatenate([[0.0], np.cumsum(v[there])]) for v in (width, rise))
    cut, fill = slopes.tolist()
    return SideShape(("lip", *names), frozen(out), frozen(up), roles, cut, fill)


@query
def own_range(q: Engine, street: str, side: Side) -> tuple[float, float]:
    """Chainages between which a side of a street has its own lip: what junctions and heads leave it."""
    low, high = 0.0, chain_of(q, street).total
    if is_new(q, street):
        for kind in kinds():
            a, b = kind.own_range(q, street, side)
            low, high = max(low, a), min(high, b)
    return low, max(low, high)


@query
def gaps(q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
    """Chainages between which a side's kerb is interrupted, merged where they overlap."""
    return _merged([*(g for kind in kinds() for g in kind.gaps(q, street, side)), *breaks(q, street, side)])


@query
def breaks(q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
    """Chainages between which, away from its ends, a side of a street has no lip of its own, merged where they overlap."""
    if not is_new(q, street):
        return ()
    return _merged([b for kind in kinds() for b in kind.breaks(q, street, side)])


def _merged(spans: list[tuple[float, float]]) -> tuple[tuple[float, float], ...]:
    merged: list[tuple[float, float]] = []
    for a, b in sorted(spans):
        if merged and a <= merged[-1][1]:
            merged[-1] = (merged[-1][0], max(b, merged[-1][1]))
        else:
            merged.append((a, b))
    return tuple(merged)


def whole_at(q: Engine, street: str, s: float) -> bool:
    """Whether a street has its own section on both sides at a chainage."""
    for side in SIDES:
        low, high = own_range(q, street, side)
        if not low - _ON <= s <= high + _ON or any(a + _ON < s < b - _ON for a, b in breaks(q, street, side)):
            return False
    return True


# Lines


def lines_of(q: Engine, street: str) -> tuple[LineId, ...]:
    """A street's lines: its crown, and each side from the lip outwards."""
    if isinstance(q.attempt(centreline, street), Unsolved):
        return ()
    found: list[LineId] = [StreetLine(street)]
    for side in SIDES:
        names = course(q, street, side).names[1:] if is_new(q, street) else ("lip",)
        found += [StreetLine(street, name, side) for name in names]
    return tuple(found)


def inside_points(q: Engine, street: str, side: Side, s: float) -> Floats:
    """The points (n, 3) of a side between its crown and its lip at a chainage, outwards: where lane and parking lane meet, say."""
    made = course(q, street, side)
    found = [line(q, StreetLine(street, n, side)).points([s]) for n in made.names[1 : made.lip]]
    return np.concatenate(found) if found else np.empty((0, 3))


def plan_of(q: Engine, id: StreetLine) -> LinePlan:
    """A street's line in plan: by its section, or for an existing street's lip the survey line that was named."""
    chain, name = chain_of(q, id.street), name_of(q, id.street)
    if id.side is None:
        return LinePlan(f"{name} crown", "crown", chain, Varying.steady(0.0), 0.0, chain.total)
    title = f"{name} {id.side} {id.point}"
    low, high = own_range(q, id.street, id.side)
    if id.point == "lip":
        lip, holes = lip_course(q, id.street, id.side), _clipped(breaks(q, id.street, id.side), low, high)
        return replace(lip, start=low, end=high, gaps=holes) if lip.base is chain else lip
    made = course(q, id.street, id.side)
    k = place_of(made, id)
    holes = _clipped((gaps if k > made.lip else breaks)(q, id.street, id.side), low, high)
    return LinePlan(title, id.point, chain, made.out(k).times(side_sign(id.side)), low, high, holes)


def _clipped(holes: tuple[tuple[float, float], ...], low: float, high: float) -> tuple[tuple[float, float], ...]:
    return tuple((max(a, low), min(b, high)) for a, b in holes if b > low and a < high)


def place_of(made: SideCourse, id: StreetLine) -> int:
    """The place of a line among the points of its side. Raises Unsolved where the section does not have it."""
    if id.point not in made.names:
        raise Unsolved(str(id), "the section does not have this point", "choose another line")
    return made.names.index(id.point)


@query
def lip_course(q: Engine, street: str, side: Side) -> LinePlan:
    """Where a street's lip runs, all along it, whatever junctions and heads take of it.

    By its section, or for an existing street the survey line that was named.
    """
    surveyed = _surveyed(q, StreetLine(street, "lip", side))
    if surveyed is not None:
        return surveyed
    chain, offset = chain_of(q, street), lip_offset(q, street, side)
    return LinePlan(f"{name_of(q, street)} {side} lip", f"{side} lip", chain, offset, 0.0, chain.total)


def _named_lip(q: Engine, id: StreetLine) -> str | None:
    frame = frame_of(q, id.street)
    named = frame.left_lip if id.side == "left" else frame.right_lip
    return named if frame.kind == "existing" and named else None


def _surveyed(q: Engine, id: StreetLine) -> LinePlan | None:
    named = _named_lip(q, id)
    if named is None:
        return None
    plan = line_plan(q, SurveyedLine(named))
    chain = plan.base
    first, last = chain_of(q, id.street).feet(chain.points_at([0.0, chain.total])).chainages
    if first > last:
        chain = chain.reversed()
    return LinePlan(f"{name_of(q, id.street)} {id.side} lip", f"{id.side} lip", chain, plan.offset, 0.0, chain.total)


def rule_of(q: Engine, id: StreetLine) -> LevelRule:
    """How a street's line comes by its levels: the crown's grade line, and from there outwards by the section."""
    name = name_of(q, id.street)
    if id.side is None:
        return crown_rule(q, id.street)
    title = f"{name} {id.side} {id.point}"
    if not is_new(q, id.street):
        return _existing_lip(q, id, title)
    made = course(q, id.street, id.side)
    return side_rule(q, id.street, id.side, place_of(made, id))


def _existing_lip(q: Engine, id: StreetLine, title: str) -> LevelRule:
    """An existing street's lip: as surveyed, else the ground under it, else its section."""
    assert id.side is not None
    named = _named_lip(q, id)
    if named is not None:
        surveyed = line(q, SurveyedLine(named))
        rule = surveyed.rule
        if line_plan(q, id).base is not surveyed.plan.base and isinstance(rule, Known):
            p, total = rule.profile, surveyed.plan.base.total
            turned = Profile.of(total - p.chainages[::-1], p.levels[::-1])
            return Known(rule.title, rule.rule_words, rule.source, turned)
        return rule
    plan = line_plan(q, id)
    ground = drape(ground_of(q), plan.base, float(plan.offset.values[0]))
    on = np.isfinite(ground.levels)
    if on.sum() >= 2:
        profile = Profile.of(ground.chainages[on], ground.levels[on])
        return Known(title, "the ground at the existing lip", "ground", profile)
    normal = section_of(q, id.street).side(drawn_side(q, id.street, id.side))
    crown, fall, width = StreetLine(id.street), normal.crossfall, normal.width
    rises = ((f"crossfall {percent(fall)} × {width:.2f} m", Varying.steady(fall * width)),)
    return Above(title, "crown and crossfall", crown, "crown", line(q, crown).rule, rises)


# Rows


@query
def rows(q: Engine, street: str) -> Floats:
    """Chainages at which sections are worked out.

    Every interval, every key point of the centreline, grade line, junctions, heads and lots, and as close as the
    arc and level tolerances need on the outermost line.
    """
    settings, chain = parts.settings(q), chain_of(q, street)
    keys: list[Floats] = [chain.key_chainages()]
    outermost, made = 0.0, q.attempt(line, StreetLine(street))
    for side in SIDES:
        keys.append(np.array(own_range(q, street, side)))
        keys.append(np.array(gaps(q, street, side)).ravel())
        keys.append(course(q, street, side).at)
        outermost = max(outermost, float(boundary_width(q, street, side).values.max()))
        keys += [kind.stations_on(q, StreetLine(street, "boundary", side)) for kind in kinds()]
        points = [(k, StreetLine(street, name, side)) for k, name in enumerate(course(q, street, side).names) if k]
        for k, hold in ((k, hold) for k, point in points for hold in holds(q, point)):
            if hold.least and not isinstance(made, Unsolved):
                keys.append(hold.takes_over(section_rule(q, street, side, k)))
            begin, finish = float(hold.share.at.min()), float(hold.share.at.max())
            held = LinePlan("", "", chain, Varying.steady(0.0), begin, finish)
            keys += [hold.share.at, hold.rule.key_places()]
            keys.append(sampled_at(held, hold.rule.bow(), settings.arc_tolerance, settings.level_tolerance))
    keys += [kind.stations(q, street) for kind in kinds()]
    keys += [np.array([t.chainage for _, t in end_ties(q, street)])]
    keys += [np.array([c.begin, c.finish]) for c in carried(q, street)]
    if not isinstance(made, Unsolved):
        bows = made.rule.bow()
        places = made.rule.key_places()
        keys.append(places if places.size < 200 else np.empty(0))
        plan = LinePlan(made.title, "", chain, Varying.steady(0.0), 0.0, chain.total)
        keys.append(sampled_at(plan, bows, settings.arc_tolerance, settings.level_tolerance))
    interval = np.arange(0.0, chain.total, settings.row_interval)
    curves = chain.sampled(sag=settings.arc_tolerance, reach=outermost)
    return frozen(unique_chainages(*keys, interval, curves, low=0.0, high=chain.total, gap=1e-4))


@query
def side_rows(q: Engine, street: str, side: Side) -> Floats:
    """The rows at which a side has its own lip and the crown a level."""
    low, high = own_range(q, street, side)
    s = rows(q, street)
    s = s[(s >= low - 1e-6) & (s <= high + 1e-6)]
    return frozen(s[np.isfinite(line(q, StreetLine(street)).rule.levels(s))])


def rows_with_kerb(q: Engine, street: str, side: Side) -> tuple[Floats, Bools]:
    """A side's rows outside its gaps, and whether each is joined to the next."""
    return outside(side_rows(q, street, side), gaps(q, street, side))


def outside(s: Floats, holes: tuple[tuple[float, float], ...]) -> tuple[Floats, Bools]:
    """Rows (n,) outside of stretches, and whether each is joined to the next (n - 1,)."""
    keep = np.ones(len(s), dtype=bool)
    for a, b in holes:
        keep &= (s <= a + 1e-6) | (s >= b - 1e-6)
    s = s[keep]
    middle = 0.5 * (s[:-1] + s[1:])
    joined = np.ones(max(len(s) - 1, 0), dtype=bool)
    for a, b in holes:
        joined &= ~((middle > a) & (middle < b))
    return frozen(s), frozen(joined, np.bool_)


def lip_levels(q: Engine, street: str, side: Side, chainages: ArrayLike) -> Floats:
    """Levels (n,) of a street's lip at chainages of the centreline; NaN where the side has no lip of its own there."""
    made, s = line(q, StreetLine(street, "lip", side)), as_row(chainages)
    if made.plan.base is chain_of(q, street):
        on = (s >= made.plan.start - _ON) & (s <= made.plan.end + _ON)
        for a, b in made.plan.gaps:
            on &= (s < a + _ON) | (s > b - _ON)
        return np.where(on, made.rule.levels(s), np.nan)
    at = made.plan.base.feet(chain_of(q, street).points_at(s, lip_offset(q, street, side)(s))).chainages
    return made.rule.levels(at)
