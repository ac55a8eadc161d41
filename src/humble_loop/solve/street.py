"""Streets: centreline, ground along it, grade line, crown and lip levels."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Floats, frozen, unique_chainages
from humble_loop.geometry.bends import BendInput, BendProblem, chain_from_bends
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.gradeline import Profile
from humble_loop.geometry.tube import straights_in_tube
from humble_loop.ground.drape import Draped, drape
from humble_loop.ground.surface import Surface
from humble_loop.site.model import Side, State, Vip
from humble_loop.solve import parts
from humble_loop.solve.engine import Engine, Unsolved, query

NO_GROUND = Surface(np.empty((0, 3)), np.empty((0, 3), dtype=np.int64))


@dataclass(frozen=True)
class Centreline:
    """A street's line in plan and the bends that did not fit as designed."""

    chain: Chain
    problems: tuple[BendProblem, ...]


@query
def centreline(q: Engine, street: str) -> Centreline:
    """The centreline of a street."""
    bends = parts.street_bends(q, street)
    try:
        chain, problems = chain_from_bends([BendInput(*b) for b in bends])
    except ValueError as error:
        raise Unsolved(parts.street_name(q, street), str(error), "move one of its ends") from None
    return Centreline(chain, tuple(problems))


def chain_of(q: Engine, street: str) -> Chain:
    """The chain of a street's centreline."""
    return centreline(q, street).chain


def ground_of(q: Engine) -> Surface:
    """The current ground; an empty surface when there is none."""
    return parts.current_surface(q) or NO_GROUND


@query
def ground_along(q: Engine, street: str) -> Draped:
    """The long section of the ground along a street's centreline."""
    return drape(ground_of(q), chain_of(q, street))


@dataclass(frozen=True)
class GradeLine:
    """A street's grade line.

    ``profile`` holds the VIPs in the chainage of the street; ``states`` says for each whether its level is
    'proposed', 'set' or 'tied'; ``index`` is its place in the street's set VIPs, or -1.
    """

    profile: Profile
    states: tuple[State, ...]
    index: tuple[int, ...]


@query
def grade_line(q: Engine, street: str) -> GradeLine:
    """The grade line: set VIPs between tied ends, or a proposal from the ground where nothing was set.

    A street that leaves another has its first VIP at the throat, tied to the other's lip there.
    """
    from humble_loop.solve.junction import joint, throat  # the throat's level rests on another street's grade line

    frame = parts.street_frame(q, street)
    total = chain_of(q, street).total
    if frame.kind == "existing":
        return _existing(q, street)
    ties = {}
    for end in ("start", "end"):
        if joint(q, street, end) is not None:
            t = throat(q, street, end)
            ties[end] = (t.side_chainage, t.level)
    vips = parts.street_vips(q, street)
    if vips:
        return _set(frame.name, vips, ties)
    return _proposed(q, street, ties, total)


def _existing(q: Engine, street: str) -> GradeLine:
    vips = parts.street_vips(q, street)
    if vips:
        return _set(parts.street_name(q, street), vips, {})
    ground = ground_along(q, street)
    known = np.isfinite(ground.levels)
    if known.sum() < 2:
        raise Unsolved(
            parts.street_name(q, street),
            "an existing street has no ground under it to take its levels from",
            "bring in a surface that covers it, or set its VIPs",
        )
    profile = Profile.of(ground.chainages[known], ground.levels[known])
    n = int(known.sum())
    states: list[State] = ["tied"] * n
    return GradeLine(profile, tuple(states), (-1,) * n)


def _set(name: str, vips: tuple[Vip, ...], ties: dict[str, tuple[float, float]]) -> GradeLine:
    rows: list[tuple[float, float, float, State, int]] = []
    low = ties["start"][0] if "start" in ties else -np.inf
    high = ties["end"][0] if "end" in ties else np.inf
    if "start" in ties:
        rows.append((*ties["start"], 0.0, "tied", -1))
    for i, v in enumerate(vips):
        if not low + 1e-6 < v.chainage < high - 1e-6:
            continue  # a tied end takes the place of a VIP at or before the throat
        if v.level is not None:
            level = v.level
        elif rows:
            assert v.grade is not None
            level = rows[-1][1] + v.grade * (v.chainage - rows[-1][0])
        else:
            raise Unsolved(
                name, f"its first VIP, at {v.chainage:.2f}, has a grade but nothing to follow from", "set its level"
            )
        rows.append((v.chainage, level, v.curve_length, "set", i))
    if "end" in ties:
        rows.append((*ties["end"], 0.0, "tied", -1))
    if len(rows) < 2:
        raise Unsolved(name, "its grade line has a single VIP", "add another VIP, or clear it to have one proposed")
    curves = [0.0, *(r[2] for r in rows[1:-1]), 0.0]
    profile = Profile.of([r[0] for r in rows], [r[1] for r in rows], curves)
    return GradeLine(profile, tuple(r[3] for r in rows), tuple(r[4] for r in rows))


def _proposed(q: Engine, street: str, ties: dict[str, tuple[float, float]], total: float) -> GradeLine:
    """Follow the ground with few VIPs, within the class's tolerances and grades, from and to what is tied."""
    rules = parts.street_class(q, street)
    ground = ground_along(q, street)
    known = np.isfinite(ground.levels)
    begin = ties["start"][0] if "start" in ties else 0.0
    finish = ties["end"][0] if "end" in ties else total
    if known.sum() < 2 or finish - begin < 1.0:
        raise Unsolved(
            parts.street_name(q, street),
            "there is no ground under it to propose a grade line from",
            "move it onto the ground, or set its VIPs",
        )
    s = unique_chainages([begin, finish], ground.chainages[known], low=begin, high=finish, gap=0.05)
    z = np.interp(s, ground.chainages[known], ground.levels[known])
    least, most = rules.least_grade, 0.9 * rules.most_grade
    start = ties["start"][1] if "start" in ties else None
    best: tuple[Floats, Floats] | None = None
    for widen in (1.0, 1.5, 2.2, 3.2, 4.6, 6.6):
        corners, levels = straights_in_tube(
            s,
            z - rules.cut_tolerance * widen,
            z + rules.fill_tolerance * widen,
            start=start,
            least=least,
            most=most,
            shortest=25.0,
        )
        best = (corners, levels)
        if len(corners) <= 2 + (finish - begin) / 60.0:
            break
    assert best is not None
    corners, levels = best
    if "end" in ties:
        levels = levels.copy()
        levels[-1] = ties["end"][1]
    changes = np.abs(np.concatenate([[0.0], np.diff(np.diff(levels) / np.diff(corners)), [0.0]]))
    legs = np.diff(corners)
    room = np.concatenate([[0.0], np.minimum(legs[:-1], legs[1:]), [0.0]])
    wanted = np.maximum(rules.least_curve_length, 1.5 * max(rules.least_crest_k, rules.least_sag_k) * changes * 100.0)
    curves = np.where(changes > 0, np.minimum(wanted, 0.98 * room), 0.0)
    states: list[State] = ["proposed"] * len(corners)
    for end, place in (("start", 0), ("end", -1)):
        if end in ties:
            states[place] = "tied"
    return GradeLine(Profile.of(corners, levels, curves), tuple(states), (-1,) * len(corners))


def crown_levels(q: Engine, street: str, chainages: ArrayLike) -> Floats:
    """Levels of the crown line (n,) in metres; NaN where the grade line is undefined.

    Within a junction, from the other street's centreline to the throat, the crown line lies on the other
    street's surface.
    """
    from humble_loop.solve.junction import inside_levels

    s = np.atleast_1d(np.asarray(chainages, dtype=np.float64))
    z = grade_line(q, street).profile.level(s)
    return inside_levels(q, street, s, z)


@dataclass(frozen=True)
class Piecewise:
    """Values joined by straight lines; constant beyond both ends."""

    at: Floats
    values: Floats

    def __call__(self, s: ArrayLike) -> Floats:
        """Values at ``s``."""
        return np.interp(np.asarray(s, dtype=np.float64), self.at, self.values)

    def slope(self, s: ArrayLike) -> Floats:
        """Change per metre just after each ``s``."""
        x = np.atleast_1d(np.asarray(s, dtype=np.float64))
        if self.at.size < 2:
            return np.zeros_like(x)
        i = np.clip(np.searchsorted(self.at, x, side="right") - 1, 0, self.at.size - 2)
        rate = np.diff(self.values) / np.maximum(np.diff(self.at), 1e-12)
        return np.where((x >= self.at[0]) & (x < self.at[-1]), rate[i], 0.0)


@query
def crossfall(q: Engine, street: str, side: Side) -> Piecewise:
    """Grade outwards from crown to lip along a street; turned to lie along the through lip at a throat."""
    from humble_loop.solve.junction import joint, turning_crossfall

    normal = parts.section(q, street).side(side).lane.grade
    at, values = [0.0], [normal]
    if joint(q, street, "start") is not None:
        begin, finish, across = turning_crossfall(q, street, "start", side)
        if finish > begin:
            at, values = [begin, finish], [across, normal]
    if joint(q, street, "end") is not None:
        begin, finish, across = turning_crossfall(q, street, "end", side)
        if finish < begin:
            at, values = [*at, finish, begin], [*values, normal, across]
    return Piecewise(frozen(at), frozen(values))


def lane_width(q: Engine, street: str, side: Side) -> float:
    """Width from crown to lip in metres."""
    return parts.section(q, street).side(side).lane.width


def side_sign(side: Side) -> float:
    """+1 for left, -1 for right."""
    return 1.0 if side == "left" else -1.0


def lip_levels(q: Engine, street: str, side: Side, chainages: ArrayLike) -> Floats:
    """Levels of a street's lip by its section: crown level plus crossfall times lane width."""
    s = np.atleast_1d(np.asarray(chainages, dtype=np.float64))
    return crown_levels(q, street, s) + crossfall(q, street, side)(s) * lane_width(q, street, side)


@dataclass(frozen=True)
class LipPlan:
    """A lip in plan: it lies ``offset`` metres to the left of ``chain``; ``side`` is +1 for the street's left lip.

    Where the lip was surveyed the chain is the lip itself and the offset 0.
    """

    chain: Chain
    offset: float
    side: float


@dataclass(frozen=True)
class LipLine:
    """A lip with levels.

    Its level at a chainage of ``chain`` is ``profile`` plus ``crossfall`` times ``width``.
    """

    plan: LipPlan
    profile: Profile
    crossfall: Piecewise
    width: float
    surveyed: bool

    @property
    def chain(self) -> Chain:
        """The line that chainages are measured along."""
        return self.plan.chain

    @property
    def offset(self) -> float:
        """How far to the left of the chain the lip lies, in metres."""
        return self.plan.offset

    def level(self, s: float) -> float:
        """Level in metres at a chainage of ``chain``."""
        return float(self.profile.level([s])[0] + self.crossfall(s) * self.width)

    def grade(self, s: float) -> float:
        """Grade along the lip itself, per metre of lip, in the direction of ``chain``."""
        slope = float(self.profile.grade([s])[0] + self.crossfall.slope([s])[0] * self.width)
        return slope / (1.0 - float(self.chain.at([s]).curvatures[0]) * self.offset)


@query
def lip_plan(q: Engine, street: str, side: Side) -> LipPlan:
    """A street's lip in plan: by its section, or for an existing street the survey line that was named."""
    sign, named = side_sign(side), _surveyed_lip(q, street, side)
    if named is None:
        return LipPlan(chain_of(q, street), sign * lane_width(q, street, side), sign)
    base, xyz = chain_of(q, street), _vertices(q, named)
    first, last = base.feet(xyz[[0, -1]]).chainages
    return LipPlan(Chain.from_points(xyz if first <= last else xyz[::-1]), 0.0, sign)


@query
def lip_line(q: Engine, street: str, side: Side) -> LipLine:
    """A street's lip with its levels: the section's, the survey's, or for an existing street the ground's."""
    plan, named = lip_plan(q, street, side), _surveyed_lip(q, street, side)
    level_as_it_is = Piecewise(frozen([0.0]), frozen([0.0]))
    if named is not None:
        return LipLine(plan, _surveyed_levels(q, street, plan, named), level_as_it_is, 0.0, True)
    if parts.street_frame(q, street).kind == "existing":
        ground = drape(ground_of(q), plan.chain, plan.offset)
        known = np.isfinite(ground.levels)
        if known.sum() >= 2:
            return LipLine(plan, Profile.of(ground.chainages[known], ground.levels[known]), level_as_it_is, 0.0, True)
    steady = Piecewise(frozen([0.0]), frozen([parts.section(q, street).side(side).lane.grade]))
    return LipLine(plan, grade_line(q, street).profile, steady, lane_width(q, street, side), False)


def _surveyed_lip(q: Engine, street: str, side: Side) -> str | None:
    """The survey line that an existing street's lip is, or None."""
    frame = parts.street_frame(q, street)
    named = frame.left_lip if side == "left" else frame.right_lip
    return named if frame.kind == "existing" and named else None


def _vertices(q: Engine, line: str) -> Floats:
    """Vertices (n, 3) of a survey line; NaN where it has no level."""
    found = parts.survey_line(q, line)
    return np.array([[e, n, np.nan if z is None else z] for e, n, z in found.vertices])


def _surveyed_levels(q: Engine, street: str, plan: LipPlan, line: str) -> Profile:
    """The levels of a surveyed lip along itself; draped on the ground where the survey has none."""
    xyz = _vertices(q, line)
    s = plan.chain.feet(xyz).chainages
    order = np.argsort(s, kind="stable")
    s, z = s[order], xyz[order, 2]
    keep = np.concatenate([[True], np.diff(s) > 1e-9])
    s, z = s[keep], z[keep]
    if np.isnan(z).any():
        ground = drape(ground_of(q), plan.chain)
        known = np.isfinite(ground.levels)
        s, z = ground.chainages[known], ground.levels[known]
    if len(s) < 2:
        name = parts.survey_line(q, line).name
        raise Unsolved(
            parts.street_name(q, street),
            f"its lip '{name}' has no levels and no ground under it",
            "survey its levels, or bring in a surface that covers it",
        )
    return Profile.of(s, z)
