"""Tying by hand: in a cross section each section point, and in plan each lip and boundary, has a ring that is dragged onto what the
point is to follow.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street.holding import holds
from humble_loop.kinds.street.plan import StreetLine, centreline, chain_of, is_new, name_of
from humble_loop.kinds.street.section import own_range
from humble_loop.kinds.street.side import course
from humble_loop.kinds.street.widening import lines_beside
from humble_loop.kinds.survey_line.lines import SurveyedLine
from humble_loop.kinds.tie.beginning import could_follow, tied
from humble_loop.kinds.tie.model import Source
from humble_loop.kinds.tie.source import line_of, source_of, words_of
from humble_loop.lines.abreast import abreast
from humble_loop.lines.describe import Handle, Place, Told
from humble_loop.lines.line import LinePlan, line, line_plan
from humble_loop.site.edits import Edit
from humble_loop.site.model import SIDES, Side

_NEAR = 0.8  # metres from a source within which it is meant; levels count five times, as they are usually drawn
_HIGHER = 5.0
_LINES = 24  # survey lines beside a street that are looked at


@dataclass(frozen=True)
class Target:
    """Something in a cross section that can be followed: where it is (metres to the right, level)."""

    source: Source
    words: str
    place: Place


def tie_handles(q: Engine, street: str, chainage: float) -> tuple[Handle, ...]:
    """A ring for each point from the lip outwards that nothing holds at a chainage."""
    if not is_new(q, street):
        return ()
    points = _points(q, street, chainage)
    targets = [*_own(q, street, points), *_surveyed(q, street, chainage)]
    found = []
    # Where there is no room for all of them, lips and boundaries are wanted most.
    ends = {(side, name) for side in SIDES for name in ("lip", course(q, street, side).names[-1])}
    for (side, name), place in sorted(points.items(), key=lambda p: p[0] not in ends):
        if side is None or course(q, street, side).names.index(name) < course(q, street, side).lip:
            continue
        if _is_held(q, StreetLine(street, name, side), chainage):
            continue
        under = float(ground_of(q).levels(chain_of(q, street).points_at([chainage], -place[0]))[0])
        found.append(_ring(q, street, side, name, place, under, targets))
    return tuple(found)


def _is_held(q: Engine, id: StreetLine, s: float) -> bool:
    """Whether anything holds a point at a chainage: what is held can be tied once that is gone."""
    made = q.attempt(holds, id)
    return not isinstance(made, Unsolved) and any(h.share.at.min() <= s <= h.share.at.max() for h in made)


def _points(q: Engine, street: str, chainage: float) -> dict[tuple[Side | None, str], Place]:
    """The section points that are there at a chainage, and where they are."""
    found: dict[tuple[Side | None, str], Place] = {}
    ids = [StreetLine(street), *(StreetLine(street, n, s) for s in SIDES for n in course(q, street, s).names[1:])]
    for id in ids:
        made = q.attempt(line, id)
        if isinstance(made, Unsolved):
            continue
        if id.side is not None:
            low, high = own_range(q, street, id.side)
            if not low - 1e-6 <= chainage <= high + 1e-6:
                continue
        level = float(made.rule.levels([chainage])[0])
        if np.isfinite(level):
            found[id.side, id.point] = (-made.plan.offset.one(chainage), level)
    return found


def _own(q: Engine, street: str, points: dict[tuple[Side | None, str], Place]) -> list[Target]:
    found = []
    for (side, name), place in points.items():
        id = StreetLine(street, name, side) if side else StreetLine(street)
        source = source_of(q, id)
        found.append(Target(source, words_of(q, source, street), place))
    return found


def _surveyed(q: Engine, street: str, chainage: float) -> list[Target]:
    """Survey lines where they pass the section."""
    chain, found = chain_of(q, street), []
    centre = chain.points_at([chainage])
    for id, name, _, low, high in lines_beside(q, street)[:_LINES]:
        made = q.attempt(line, SurveyedLine(id))
        if isinstance(made, Unsolved) or not low <= chainage <= high:
            continue
        met = abreast(made.plan, centre)
        if not met.there[0]:
            continue
        offset = float(chain.feet(made.plan.points(met.at)).offsets[0])
        source = Source(what="line", of=id)
        found.append(Target(source, name, (-offset, float(made.rule.levels(met.at)[0]))))
    return found


def _ring(q: Engine, street: str, side: Side, name: str, place: Place, ground: float, targets: list[Target]) -> Handle:
    own = source_of(q, StreetLine(street, name, side))
    others = [t for t in targets if t.source != own]
    if np.isfinite(ground):
        others.append(Target(Source(), "the ground", (place[0], ground)))
    title, met = f"{name_of(q, street)} {side} {name}", _Met()

    def moved(at: Place) -> tuple[Edit, tuple[Told, ...]]:
        met.target = _nearest(others, at)
        if met.target is None:
            return (lambda s: s), ()
        level = met.target.place[1]
        return tied(q, street, side, name, met.target.source), (Told("to", "level", level, place[1]),)

    return Handle(("tie", street, side, name), place, title, "ring", moved, (), met.rule, does=f"Tie the {side} {name}")


class _Met:
    """What the hand is at."""

    def __init__(self) -> None:
        self.target: Target | None = None

    def rule(self, q: Engine) -> str:
        """What would be followed, in words."""
        del q
        return f"tie it to {self.target.words}" if self.target else "drag it onto what it is to follow"


def _nearest(targets: list[Target], at: Place) -> Target | None:
    """What a place is on, if anything."""
    best, least = None, _NEAR
    for t in targets:
        away = float(np.hypot(t.place[0] - at[0], _HIGHER * (t.place[1] - at[1])))
        if away < least:
            best, least = t, away
    return best


# In plan

_ON = 1.5  # metres in plan from a line within which it is meant


def plan_handles(q: Engine, street: str) -> tuple[Handle, ...]:
    """A ring for each lip and boundary that nothing holds where it stands, half way along; dragged onto another line it follows that."""
    if not is_new(q, street) or isinstance(q.attempt(centreline, street), Unsolved):
        return ()
    found = []
    for side in SIDES:
        for name in ("lip", course(q, street, side).names[-1]):
            plan = q.attempt(line_plan, StreetLine(street, name, side))
            if isinstance(plan, Unsolved) or plan.end <= plan.start:
                continue
            s = 0.5 * (plan.start + plan.end)
            if not _is_held(q, StreetLine(street, name, side), s):
                east, north = plan.points([s])[0].tolist()
                found.append(_plan_ring(q, street, side, name, (east, north)))
    return tuple(found)


def _plan_ring(q: Engine, street: str, side: Side, name: str, place: Place) -> Handle:
    met, own = _Met(), source_of(q, StreetLine(street, name, side))
    lines: list[tuple[Source, str, LinePlan]] = []  # looked for when it is first dragged

    def moved(at: Place) -> tuple[Edit, tuple[Told, ...]]:
        if not lines:
            lines.extend(_lines(q, street, side, name, own))
        best, least = None, _ON
        for source, words, plan in lines:
            s, away = plan.foot([at])
            if plan.covers(s)[0] and abs(float(away[0])) < least:
                best, least = Target(source, words, at), abs(float(away[0]))
        met.target = best
        if best is None:
            return (lambda s: s), ()
        return tied(q, street, side, name, best.source), ()

    title = f"{name_of(q, street)} {side} {name}"
    return Handle(("tie", street, side, name), place, title, "ring", moved, (), met.rule, does=f"Tie the {side} {name}")


def _lines(q: Engine, street: str, side: Side, name: str, own: Source) -> list[tuple[Source, str, LinePlan]]:
    """What a point could follow, as lines in plan."""
    found = []
    for source, words in could_follow(q, street, side, name):
        id = None if source == own else line_of(q, source)
        plan = None if id is None else q.attempt(line_plan, id)
        if plan is not None and not isinstance(plan, Unsolved):
            found.append((source, words, plan))
    return found
