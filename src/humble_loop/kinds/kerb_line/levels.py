"""A kerb or boundary line in plan and level, and how it holds its street's lip or boundary."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.kerb_line.model import LINE, KerbLine, KerbVip, Point
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, is_new, name_of
from humble_loop.kinds.street.section import gaps, own_range
from humble_loop.kinds.street.side import boundary_width, course, lip_width
from humble_loop.lines.line import LineId, LinePlan, ThingId, line
from humble_loop.lines.quantity import decided
from humble_loop.lines.rules import Hold, LevelRule, OnGradeLine
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.model import Side, other_side, side_sign

ROLE = "kerb line"
ON = 0.01  # metres along the street within which two ends are one
CLEAR = 3.0  # metres over which a boundary goes back to the section beside a corner that stands in its way
SUDDEN = 0.05  # metres in which a kerb line without a taper begins


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
    point: Point
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
def kerb_lines_on(q: Engine, street: str, side: Side, point: Point) -> tuple[str, ...]:
    """Those of a point on a side of a street as it runs, in order."""
    own = [k.id for k in parts.owned(q, KerbLine, street) if k.point == point]
    found = [id for id in own if as_it_runs(q, id).side == side]
    return tuple(sorted(found, key=lambda id: as_it_runs(q, id).begin))


def governing(q: Engine, street: str, side: Side, point: Point) -> tuple[str, ...]:
    """Those that hold: of two that overlap, as no edit makes them but a file may have them, the one that begins first."""
    found: list[str] = []
    for id in kerb_lines_on(q, street, side, point):
        if not found or as_it_runs(q, id).begin > as_it_runs(q, found[-1]).finish - ON:
            found.append(id)
    return tuple(found)


def title_of(q: Engine, id: str) -> str:
    """What a kerb line is called."""
    k = as_it_runs(q, id)
    return f"{name_of(q, k.street)} {k.side} {LINE[k.point]} from {k.begin:.0f}"


def plan_of(q: Engine, id: KerbLevels) -> LinePlan:
    """Along the lip or the boundary, as far as the street goes."""
    k = as_it_runs(q, id.id)
    width, chain = lip_width if k.point == "lip" else boundary_width, chain_of(q, k.street)
    low, high = (float(np.clip(s, 0.0, chain.total)) for s in (k.begin, k.finish))
    offset = width(q, k.street, k.side).times(side_sign(k.side))
    return LinePlan(title_of(q, id.id), ROLE, chain, offset, low, max(low, high))


def rule_of(q: Engine, id: KerbLevels) -> OnGradeLine:
    """Its own grade line."""
    k, title = as_it_runs(q, id.id), title_of(q, id.id)
    n = len(k.vips)
    curves = [v.curve_length if 0 < i < n - 1 else 0.0 for i, v in enumerate(k.vips)]
    profile = Profile.of([v.chainage for v in k.vips], [v.level for v in k.vips], curves)
    vips = tuple(
        decided(f"{title} VIP at {v.chainage:.2f}", v.level, ("kerb vip", id.id, i), "level set", "set")
        for v, i in zip(k.vips, k.index)
    )
    return OnGradeLine(title, profile, vips)


def point_of(q: Engine, id: StreetLine) -> Point | None:
    """Which of the points that may have their own levels a street's line is."""
    if id.side is None or not is_new(q, id.street):
        return None
    if id.point == "lip":
        return "lip"
    return "boundary" if id.point == course(q, id.street, id.side).names[-1] else None


def holds_of(q: Engine, id: LineId) -> tuple[Hold, ...]:
    """How a street's lip or boundary is held by its own levels."""
    point = point_of(q, id) if isinstance(id, StreetLine) else None
    if point is None or not isinstance(id, StreetLine) or id.side is None:
        return ()
    found = []
    for kerb in governing(q, id.street, id.side, point):
        own, k = KerbLevels(kerb, id.street), as_it_runs(q, kerb)
        rule: LevelRule = line(q, own).rule
        share = _share(k, own_range(q, id.street, id.side))
        if point == "boundary":
            share = _clear_of(share, gaps(q, id.street, id.side))
        found.append(Hold(own, f"its {LINE[point]}", rule, share))
    return tuple(found)


def _share(k: AsItRuns, lip: tuple[float, float]) -> Varying:
    """From nothing to all of it over the tapers; next to at once where there is none.

    Where a kerb line begins or ends without a taper at the ``lip``'s own end, returns and heads meet it there: it has all of
    it. Their roadsides do not know of a boundary's levels: a boundary line goes back to the section before them.
    """
    sudden = min(SUDDEN, 0.25 * (k.finish - k.begin))
    at = [k.begin, k.begin + max(k.taper_in, sudden), k.finish - max(k.taper_out, sudden), k.finish]
    if at[1] > at[2]:
        at[1] = at[2] = 0.5 * (at[1] + at[2])
    first, last = k.begin <= lip[0] + ON and not k.taper_in, k.finish >= lip[1] - ON and not k.taper_out
    meets = k.point == "lip"
    return Varying.of(at, [float(first and meets), 1.0, 1.0, float(last and meets)])


def _clear_of(share: Varying, holes: tuple[tuple[float, float], ...]) -> Varying:
    """A share that is nothing where other things go on in place of the roadside, and comes back over a short way."""
    for a, b in holes:
        out = Varying.of([a - CLEAR, a, b, b + CLEAR], [1.0, 0.0, 0.0, 1.0])
        share = share.times_varying(out)
    return share
