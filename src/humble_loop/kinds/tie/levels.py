"""A tie as a line: the section point's in plan, at the level of what it follows; and how it holds that point."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.kinds.street.holding import as_it_runs
from humble_loop.kinds.street.plan import StreetLine, chain_of, is_new, name_of
from humble_loop.kinds.street.share import share_along
from humble_loop.kinds.street.side import course
from humble_loop.kinds.tie.model import LevelTie, Source
from humble_loop.kinds.tie.rings import in_a_ring
from humble_loop.kinds.tie.source import line_of, reach, rule_beside, words_of
from humble_loop.lines.line import LineId, LinePlan, ThingId, line, line_plan
from humble_loop.lines.rules import Hold, LevelRule
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.model import Side, side_sign

ROLE = "tie"


@dataclass(frozen=True)
class TieLevels(LineId):
    """The line that a tie is."""

    id: str
    street: str
    kind: ClassVar[str] = "tie"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.id)


@dataclass(frozen=True)
class TieRuns:
    """A tie as its street runs: side, the ``name`` that the section has for its point, from ``begin`` to ``finish``, tapers (m), and how
    far above its source it lies at both ends (m).
    """

    street: str
    side: Side
    point: str
    name: str
    source: Source
    begin: float
    finish: float
    taper_in: float
    taper_out: float
    rise: tuple[float, float]
    least: bool


@query
def tie_of(q: Engine, id: str) -> TieRuns:
    """A tie in its street's own chainages. Raises Unsolved where the section does not have its point."""
    t = parts.one(q, LevelTie, id)
    side, begin, finish, taper_in, taper_out = as_it_runs(q, t)
    rise = (t.rise_in, t.rise_out) if side == t.side else (t.rise_out, t.rise_in)
    names = course(q, t.street, side).names
    name = names[-1] if t.point == "boundary" else t.point
    if name not in names[1:]:
        words = f"the section has no point '{t.point}' on its {side}"
        raise Unsolved(f"{name_of(q, t.street)} {side} {t.point} tie", words, "remove the tie, or bring the point back")
    return TieRuns(
        t.street, side, t.point, name, t.source, begin, finish, taper_in, taper_out, rise, t.least
    )  # fmt: skip


def levels_of(q: Engine, id: str) -> TieLevels:
    """The line that a tie is."""
    return TieLevels(id, parts.one(q, LevelTie, id).street)


def title_of(q: Engine, id: str) -> str:
    """What a tie is called."""
    t = parts.one(q, LevelTie, id)
    side, begin, *_ = as_it_runs(q, t)
    words = words_of(q, t.source, t.street)
    return f"{name_of(q, t.street)} {side} {t.point} to {words} from {begin:.0f}"


def plan_of(q: Engine, id: TieLevels) -> LinePlan:
    """Along its section point, as far as the street goes."""
    t = tie_of(q, id.id)
    made, chain = course(q, t.street, t.side), chain_of(q, t.street)
    low, high = (float(np.clip(s, 0.0, chain.total)) for s in (t.begin, t.finish))
    offset = made.out(made.names.index(t.name)).times(side_sign(t.side))
    return LinePlan(title_of(q, id.id), ROLE, chain, offset, low, max(low, high))


def rule_of(q: Engine, id: TieLevels) -> LevelRule:
    """The level of what it follows, and the difference. Raises Unsolved where that is gone, or follows from the tie itself."""
    t = tie_of(q, id.id)
    if in_a_ring(q, id.id):
        remedy = "let it follow something that does not rest on it, or remove it"
        raise Unsolved(title_of(q, id.id), f"{words_of(q, t.source, t.street)} at last follows from it", remedy)
    rise = Varying.of([t.begin, t.finish], list(t.rise))
    return rule_beside(q, t.source, line_plan(q, id), title_of(q, id.id), rise)


@query
def reach_of(q: Engine, id: str) -> tuple[float, float] | None:
    """The stretch of a tie along which its source is there; None for none. Raises Unsolved where its rule does."""
    own = levels_of(q, id)
    line(q, own)
    plan = line_plan(q, own)
    return reach(q, tie_of(q, id).source, plan, plan.start, plan.end) if plan.end > plan.start else None


@query
def ties_on(q: Engine, street: str, side: Side, name: str) -> tuple[str, ...]:
    """Ties of a section point of a side of a street as it runs, in order."""
    found = []
    for t in parts.owned(q, LevelTie, street):
        made = q.attempt(tie_of, t.id)
        if not isinstance(made, Unsolved) and (made.side, made.name) == (side, name):
            found.append((made.begin, t.id))
    return tuple(id for _, id in sorted(found))


def holds_of(q: Engine, id: LineId) -> tuple[Hold, ...]:
    """How a street's section point is held by ties; those that cannot be solved hold nothing."""
    if not isinstance(id, StreetLine) or id.side is None:
        return ()
    if not parts.owned(q, LevelTie, id.street) or not is_new(q, id.street):
        return ()
    found = []
    for tie in ties_on(q, id.street, id.side, id.point):
        there = q.attempt(reach_of, tie)
        if isinstance(there, Unsolved) or there is None or there[1] - there[0] < 1e-6:
            continue
        found.append(_hold(q, id, tie, there))
    return tuple(found)


def _hold(q: Engine, id: StreetLine, tie: str, there: tuple[float, float]) -> Hold:
    assert id.side is not None
    t, own = tie_of(q, tie), levels_of(q, tie)
    span = max(t.begin, there[0]), min(t.finish, there[1])
    room = span[1] - span[0]
    share = share_along(q, id, span, (min(t.taper_in, room), min(t.taper_out, room)))
    rule = line(q, own).rule
    return Hold(own, f"a tie to {words_of(q, t.source, t.street)}", rule, share, t.least)


@query
def source_line(q: Engine, id: str) -> LineId | None:
    """The line that a tie follows; None for the ground."""
    return line_of(q, parts.one(q, LevelTie, id).source)
