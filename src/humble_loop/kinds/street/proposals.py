"""Grade lines that are proposed for a street, each to be looked at, and taken or left."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np

from humble_loop.engine.in_pieces import InPieces
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.street import edits
from humble_loop.kinds.street.across import across
from humble_loop.kinds.street.checks import place, thing
from humble_loop.kinds.street.company import lines_near
from humble_loop.kinds.street.grades import HELD
from humble_loop.kinds.street.levels import (
    Stops,
    carried,
    end_ties,
    grade_line,
    grade_rules,
    outside_of,
    stops_of,
    tolerances,
)
from humble_loop.kinds.street.model import Vip, Wanted
from humble_loop.kinds.street.plan import (
    StreetLine,
    chain_of,
    class_of,
    ground_along,
    name_of,
    wanted_of,
)
from humble_loop.lines.describe import Choice, Fact, Sheet, SheetRow
from humble_loop.lines.findings import failed
from humble_loop.lines.line import line, line_plan
from humble_loop.propose.balance import NoLine, balanced, weights_of
from humble_loop.propose.through import Course, curves_for, through
from humble_loop.site.edits import Edit

Which = Literal["follow", "overlay", "smooth", "balance", "beside"]
_COLUMNS = ("proposal", "wanted", "VIPs", "cut to", "fill to", "cut", "fill")
_WORDS: dict[Which, str] = {
    "follow": "follow the ground",
    "overlay": "least overlay",
    "smooth": "smooth the line",
    "balance": "balance the earth",
    "beside": "beside a line",
}
_STEP = 2.0  # metres between places at which the present line or another is kept to
_MOST_VIPS = 120  # whose levels are balanced at once
_ABREAST = 0.9  # share of the street that must have a line beside it


@dataclass(frozen=True)
class Proposed:
    """A proposed line, and the VIPs that are set when it is taken."""

    line: Profile
    vips: tuple[Vip, ...]


@dataclass(frozen=True)
class Earth:
    """What a line moves: most cut and fill at the crown (m), cut and fill from boundary to boundary without batters (m3), and
    the least cover of what lies between the lips (m, NaN where there is no ground).
    """

    most_cut: float
    most_fill: float
    cut: float
    fill: float
    cover: float


def earth(q: Engine, street: str, made: Profile) -> Earth:
    """What a line moves where it runs, as the street's sections lie on it."""
    a = across(q, street)
    z = made.level(a.chainages)[:, None]
    up, cover = z - a.touching, z - a.within
    crown = up[:, 0][np.isfinite(up[:, 0])]
    most = (max(0.0, -float(crown.min())), max(0.0, float(crown.max()))) if len(crown) else (np.nan, np.nan)
    moved = np.where(np.isfinite(up), up, 0.0) * a.areas
    least = float(cover[np.isfinite(cover)].min()) if np.isfinite(cover).any() else np.nan
    return Earth(*most, -float(moved[moved < 0].sum()), float(moved[moved > 0].sum()), least)


# The proposals


@query
def proposal(q: Engine, street: str, which: Which) -> Proposed:
    """One of the proposals for a street's grade line. Tied ends and locked VIPs stay as they are."""
    if which == "balance":
        return _balanced(q, street)
    ties, made, over = dict(end_ties(q, street)), grade_line(q, street).profile, carried(q, street)
    stops, fixed = stops_of(q, street, (float(made.chainages[0]), float(made.chainages[-1])), ties, over)
    corners, levels = outside_of(over, *_working(q, street, which, stops).result(q))
    curves = curves_for(corners, levels, grade_rules(class_of(q, street)), wanted_of(q, street).curve)
    locked = {}
    for _, vip in fixed:
        k = int(np.argmin(np.abs(corners - vip.chainage)))
        locked[k] = vip
        curves[k] = vip.curve_length if 0 < k < len(corners) - 1 else 0.0
    tied = {end for end, held in ((0, "start"), (len(corners) - 1, "end")) if held in ties}
    tied |= {int(np.argmin(np.abs(corners - s))) for c in over for s in (c.begin, c.finish)}
    curves[sorted(tied)] = 0.0
    vips = tuple(
        locked.get(k, Vip(chainage=float(s), level=float(z), curve_length=float(c)))
        for k, (s, z, c) in enumerate(zip(corners, levels, curves))
        if k not in tied
    )
    return Proposed(Profile.of(corners, levels, curves), vips)


@query
def _working(q: Engine, street: str, which: Which, stops: Stops) -> InPieces[tuple[Floats, Floats]]:
    return InPieces(through(_course(q, street, which), grade_rules(class_of(q, street)), stops))


def _course(q: Engine, street: str, which: Which) -> Course:
    wanted, name = wanted_of(q, street), name_of(q, street)
    cut, fill = tolerances(q, street)
    if which == "follow":
        ground = ground_along(q, street)
        on = np.isfinite(ground.levels)
        if on.sum() < 2:
            raise Unsolved(name, "there is no ground under it to follow", "move it onto the ground")
        return _within(ground.chainages[on], ground.levels[on] + wanted.raised, cut, fill)
    if which == "overlay":
        a = across(q, street)
        built = np.asarray(np.isfinite(a.within).all(axis=1))
        if built.sum() < 2:
            raise Unsolved(name, "there is no ground between its lips to lay anything over", "move it onto the ground")
        floor = a.within[built].max(axis=1) + wanted.cover
        return replace(_within(a.chainages[built], floor, 0.0, wanted.over), aim=0.0)
    if which == "smooth":
        made = grade_line(q, street).profile
        s = _places(made)
        return _within(s, made.level(s), wanted.within, wanted.within)
    return _beside(q, street, wanted)


def _within(s: Floats, z: Floats, below: float, above: float) -> Course:
    return Course(s, z, np.full_like(s, below), np.full_like(s, above))


def _beside(q: Engine, street: str, wanted: Wanted) -> Course:
    """Levels of another line at the places beside it, carried over at a fixed fall."""
    name = name_of(q, street)
    id = dict(lines_near(q, street)).get(wanted.beside)
    if id is None:
        raise Unsolved(name, "no line is chosen beside which it is to run", "choose one in the list")
    other, chain = line(q, id), chain_of(q, street)
    s = np.linspace(0.0, chain.total, max(2, int(chain.total / _STEP)) + 1)
    feet = other.plan.base.feet(chain.points_at(s))
    z = other.rule.levels(feet.chainages) + wanted.fall * np.abs(feet.offsets)
    on = np.asarray(feet.square & np.isfinite(z))
    if on.mean() < _ABREAST:
        words = f"{other.plan.title} runs beside {100 * on.mean():.0f} % of it only"
        raise Unsolved(name, words, "choose a line that runs beside all of it")
    return _within(s[on], z[on], wanted.within, wanted.within)


def _balanced(q: Engine, street: str) -> Proposed:
    """The present line's VIPs at levels at which cut and fill are alike and least."""
    made, rules, name = grade_line(q, street), class_of(q, street), name_of(q, street)
    p, a = made.profile, across(q, street)
    if len(p.levels) > _MOST_VIPS:
        words = f"it has {len(p.levels)} VIPs; at most {_MOST_VIPS} are balanced at once"
        raise Unsolved(name, words, "smooth the line first")
    on = np.isfinite(a.touching).all(axis=1)
    on = np.asarray(on & (a.chainages >= p.chainages[0]) & (a.chainages <= p.chainages[-1]))
    if on.sum() < 2:
        raise Unsolved(name, "there is no ground across it to balance", "move it onto the ground")
    free = np.array([state not in HELD for state in made.states])
    up = p.grades >= 0
    least = np.where(up, rules.least_grade, -rules.most_grade)
    most = np.where(up, rules.most_grade, -rules.least_grade)
    weights = weights_of(a.chainages[on], p.chainages, p.curves)
    try:
        levels = balanced(weights, a.touching[on], a.areas[on], p, free, (least, most))
    except NoLine as error:
        raise Unsolved(name, str(error), "move a VIP, or change its class") from None
    vips = tuple(
        made.as_it_stands(i).model_copy(update={"level": float(z)})
        for i, (z, state) in enumerate(zip(levels, made.states))
        if state != "tied"
    )
    return Proposed(Profile.of(p.chainages, levels, p.curves), vips)


# As rows


def proposal_sheet(q: Engine, street: str) -> Sheet:
    """The present line and the proposals, with what each moves and what it is to keep; each is a ghost while it is chosen."""
    id = StreetLine(street)
    present = q.attempt(grade_line, street)
    if isinstance(present, Unsolved):
        return Sheet("Proposals", id, _COLUMNS, (), present.message)
    rows = [_row(q, street, "as it stands", Proposed(present.profile, ()))]
    for which, words in _WORDS.items():
        made = q.attempt(proposal, street, which) if which != "beside" or wanted_of(q, street).beside else None
        if isinstance(made, Unsolved):
            wrong = failed(made, thing(street), place(q, street, 0.0))
            rows.append(SheetRow((Fact("proposal", "text", words), *[None] * 6), _NOWHERE, _NO_POINTS, (wrong,)))
        else:
            rows.append(_row(q, street, words, made))
        head = rows[-1]
        for fact in _limits(q, street, which):
            cells = (Fact("proposal", "text", f"    {fact.label}"), fact, *[None] * 5)
            back = fact.switch if isinstance(fact, Fact) else None
            actions = (*head.actions, ("Leave it to the class", back)) if back else head.actions
            rows.append(SheetRow(cells, _NOWHERE, _NO_POINTS, actions=actions, ghost=head.ghost))
    note = (
        "The chosen one is drawn in the long section. Depths are the crown's; volumes are those between the boundaries"
    )
    return Sheet("Proposals", id, _COLUMNS, tuple(rows), note)


_NOWHERE = (0.0, 0.0)
_NO_POINTS = np.empty((0, 2))


def _row(q: Engine, street: str, words: str, made: Proposed | None) -> SheetRow:
    if made is None:
        return SheetRow((Fact("proposal", "text", words), *[None] * 6), _NOWHERE, _NO_POINTS)
    moved = earth(q, street, made.line)
    cells = (
        Fact("proposal", "text", words),
        Fact("least cover", "length", moved.cover, before="covers") if words == _WORDS["overlay"] else None,
        Fact("VIPs", "count", len(made.line.chainages)),
        Fact("cut to", "length", moved.most_cut),
        Fact("fill to", "length", moved.most_fill),
        Fact("cut", "volume", moved.cut),
        Fact("fill", "volume", moved.fill),
    )
    vips = made.vips
    take: tuple[tuple[str, Edit], ...] = (("Take it", lambda s: edits.set_vips(s, street, vips)),) if vips else ()
    return SheetRow(cells, _NOWHERE, _NO_POINTS, actions=take, ghost=_ghost(made.line))


def _ghost(p: Profile) -> Floats:
    s = _places(p)
    return np.column_stack([s, p.level(s)])


def _places(p: Profile) -> Floats:
    """Chainages along a line at which it is looked at, from its first VIP to its last."""
    s = np.union1d(p.key_chainages(), np.arange(p.chainages[0], p.chainages[-1], _STEP))
    return np.asarray(s[(s >= p.chainages[0]) & (s <= p.chainages[-1])])


def _limits(q: Engine, street: str, which: Which) -> list[Fact | Choice]:
    """What a proposal is to keep, to be typed or chosen."""
    wanted, (cut, fill) = wanted_of(q, street), tolerances(q, street)

    def to(key: str) -> Callable[[float | str], Edit]:
        return lambda v: lambda s: edits.set_wanted(s, street, **{key: v})

    def length(label: str, key: str, value: float, own: object) -> Fact:
        reset = None if own is None else lambda s: edits.set_wanted(s, street, **{key: None})
        return Fact(label, "length", value, "proposed" if own is None else "set", to(key), reset)

    if which == "follow":
        curve = wanted.curve
        return [
            length("cut at most", "cut", cut, wanted.cut),
            length("fill at most", "fill", fill, wanted.fill),
            Fact("raised by", "length", wanted.raised, "set", to("raised")),
            length("curves of", "curve", np.nan if curve is None else curve, curve),
        ]
    if which == "overlay":
        return [
            Fact("cover at least", "length", wanted.cover, "set", to("cover")),
            Fact("and over that at most", "length", wanted.over, "set", to("over")),
        ]
    if which == "smooth":
        return [Fact("within", "length", wanted.within, "set", to("within"))]
    if which == "beside":
        names = [("", "choose a line"), *((key, line_plan(q, id).title) for key, id in lines_near(q, street))]
        return [
            Choice("line", tuple(names), wanted.beside, to("beside")),
            Fact("fall from there", "grade", wanted.fall, "set", to("fall")),
        ]
    return []
