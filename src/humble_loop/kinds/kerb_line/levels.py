"""A kerb or boundary line in plan and level, and how it holds its street's lip or boundary."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.kerb_line.model import KerbLine, KerbVip, line_words
from humble_loop.kinds.street.holding import ON
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, is_new, name_of
from humble_loop.kinds.street.share import share_along
from humble_loop.kinds.street.side import course
from humble_loop.lines.anchor import anchored
from humble_loop.lines.line import LineId, LinePlan, ThingId, line, line_plan
from humble_loop.lines.quantity import Quantity, decided
from humble_loop.lines.rules import Hold, LevelRule, OnGradeLine
from humble_loop.site import parts
from humble_loop.site.model import Side, other_side, side_sign

ROLE = "kerb line"


@dataclass(frozen=True)
class KerbLevels(LineId):
    """The line that a kerb line is: the lip's in plan, on a grade line of its own."""

    id: str
    street: str
    kind: ClassVar[str] = "kerb_line"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.id)


@dataclass(frozen=True)
class AsItRuns:
    """A kerb line with side, VIPs and tapers (m) of its street as that runs now; ``index`` tells each VIP's place as it was drawn."""

    street: str
    side: Side
    point: str
    vips: tuple[KerbVip, ...]
    taper_in: float
    taper_out: float
    index: tuple[int, ...]

    @property
    def begin(self) -> float:
        """Chainage of its first VIP."""
        return self.vips[0].chainage

    @property
    def finish(self) -> float:
        """Chainage of its last VIP."""
        return self.vips[-1].chainage


@query
def as_it_runs(q: Engine, id: str) -> AsItRuns:
    """A kerb line in its street's own chainages."""
    k = parts.one(q, KerbLine, id)
    n = len(k.vips)
    if not frame_of(q, k.street).turned:
        return AsItRuns(k.street, k.side, k.point, k.vips, k.taper_in, k.taper_out, tuple(range(n)))
    total = chain_of(q, k.street).total
    vips = tuple(v.model_copy(update={"chainage": total - v.chainage}) for v in reversed(k.vips))
    return AsItRuns(k.street, other_side(k.side), k.point, vips, k.taper_out, k.taper_in, tuple(reversed(range(n))))


def levels_of(q: Engine, id: str) -> KerbLevels:
    """The line that a kerb line is."""
    return KerbLevels(id, as_it_runs(q, id).street)


@query
def kerb_lines_on(q: Engine, street: str, side: Side, point: str) -> tuple[str, ...]:
    """Those of a point on a side of a street as it runs, in order."""
    own = [k.id for k in parts.owned(q, KerbLine, street) if k.point == point]
    found = [id for id in own if as_it_runs(q, id).side == side]
    return tuple(sorted(found, key=lambda id: as_it_runs(q, id).begin))


def all_on(q: Engine, street: str, side: Side) -> tuple[str, ...]:
    """Those on a side of a street as it runs: point by point from the lip outwards, and in order along each."""
    if not parts.owned(q, KerbLine, street) or isinstance(q.attempt(course, street, side), Unsolved):
        return ()
    made = course(q, street, side)
    points = ("lip", "boundary", *(n for n in made.names[1:-1] if n != "lip"))
    return tuple(id for point in points for id in kerb_lines_on(q, street, side, point))


def governing(q: Engine, street: str, side: Side, point: str) -> tuple[str, ...]:
    """Those that hold: of two that overlap, as no edit makes them but a file may have them, the one that begins first."""
    found: list[str] = []
    for id in kerb_lines_on(q, street, side, point):
        if not found or as_it_runs(q, id).begin > as_it_runs(q, found[-1]).finish - ON:
            found.append(id)
    return tuple(found)


def title_of(q: Engine, id: str) -> str:
    """What a kerb line is called."""
    k = as_it_runs(q, id)
    return f"{name_of(q, k.street)} {k.side} {line_words(k.point)} from {k.begin:.0f}"


def plan_of(q: Engine, id: KerbLevels) -> LinePlan:
    """Along the lip or the boundary, as far as the street goes."""
    k = as_it_runs(q, id.id)
    made, chain = course(q, k.street, k.side), chain_of(q, k.street)
    low, high = (float(np.clip(s, 0.0, chain.total)) for s in (k.begin, k.finish))
    name = name_on(q, k.street, k.side, k.point)
    if name not in made.names:
        raise Unsolved(
            title_of(q, id.id), f"the section has no '{k.point}' there", "remove it, or bring the point back"
        )
    offset = made.out(made.names.index(name)).times(side_sign(k.side))
    return LinePlan(title_of(q, id.id), ROLE, chain, offset, low, max(low, high))


def rule_of(q: Engine, id: KerbLevels) -> OnGradeLine:
    """Its own grade line."""
    k, title = as_it_runs(q, id.id), title_of(q, id.id)
    n = len(k.vips)
    curves = [v.curve_length if 0 < i < n - 1 else 0.0 for i, v in enumerate(k.vips)]
    vips = tuple(_level(q, id, v, i, title) for v, i in zip(k.vips, k.index))
    profile = Profile.of([v.chainage for v in k.vips], [float(z.value[0]) for z in vips], curves)
    return OnGradeLine(title, profile, vips)


def _level(q: Engine, id: KerbLevels, v: KerbVip, i: int, title: str) -> Quantity:
    """The level of VIP ``i``: its own, or from what it follows."""
    what = f"{title} VIP at {v.chainage:.2f}"
    if v.follows is not None:
        (place,) = line_plan(q, id).points([v.chainage])
        return anchored(q, v.follows, place, what, title)
    return decided(what, v.level, ("kerb vip", id.id, i), "level set", "set")


def name_on(q: Engine, street: str, side: Side, point: str) -> str:
    """The name that a section has for a point: its outermost for 'boundary'."""
    return course(q, street, side).names[-1] if point == "boundary" else point


def point_of(q: Engine, id: StreetLine) -> str | None:
    """Which point a street's line is for what holds it: 'boundary' for the outermost; None for the crown and for existing streets."""
    if id.side is None or not is_new(q, id.street):
        return None
    return "boundary" if id.point == course(q, id.street, id.side).names[-1] else id.point


def holds_of(q: Engine, id: LineId) -> tuple[Hold, ...]:
    """How a section point of a street is held by its own levels."""
    point = point_of(q, id) if isinstance(id, StreetLine) else None
    if point is None or not isinstance(id, StreetLine) or id.side is None:
        return ()
    found = []
    for kerb in governing(q, id.street, id.side, point):
        own, k = KerbLevels(kerb, id.street), as_it_runs(q, kerb)
        rule: LevelRule = line(q, own).rule
        share = share_along(q, id, (k.begin, k.finish), (k.taper_in, k.taper_out))
        found.append(Hold(own, f"its {line_words(k.point)}", rule, share))
    return tuple(found)
