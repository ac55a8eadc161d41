"""What the site delivers to writers: one description, and the only thing that formats read of the worked-out site.

Eastings and northings are as people know them.
"""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, replace
from functools import cached_property

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.gradeline import Profile
from humble_loop.geometry.polyline import thinned
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.lines.describe import SetOutPoint
from humble_loop.lines.line import LineId, ThingId, line, line_plan
from humble_loop.lines.rules import InStretches, OnGradeLine
from humble_loop.lines.standing import kind_of
from humble_loop.site import parts
from humble_loop.whole.finished import whole_surface
from humble_loop.whole.tables import set_out_points
from humble_loop.whole.things import all_things, name_of

_SAG = 0.002  # metres between a delivered chord and its curve


@dataclass(frozen=True)
class Alignment:
    """A centreline with its grade line: the chain, and the profile or None."""

    name: str
    chain: Chain
    profile: Profile | None


@dataclass(frozen=True)
class DeliveredLine:
    """An unbroken run of a line: points (n, 3), its title and its role."""

    title: str
    role: str
    points: Floats


@dataclass(frozen=True)
class Land:
    """A parcel: outline (n, 2) and area in m2."""

    name: str
    outline: Floats
    area: float


class Delivery:
    """The site for writers, in metres. Each part is worked out when a writer first asks for it."""

    def __init__(self, q: Engine) -> None:
        self._q = q
        self._shift = parts.origin(q)

    @property
    def name(self) -> str:
        """The site's name."""
        return parts.site_name(self._q)

    @property
    def contour_interval(self) -> float:
        """Metres of level between contours."""
        return parts.settings(self._q).contour_interval

    @cached_property
    def ground(self) -> Surface:
        """The current ground."""
        return ground_of(self._q).shifted(*self._shift)

    @cached_property
    def finished(self) -> Surface:
        """The finished surface."""
        return whole_surface(self._q).surface.shifted(*self._shift)

    @cached_property
    def alignments(self) -> tuple[Alignment, ...]:
        """Centrelines with their grade lines."""
        found = []
        for thing, id in self._line_ids:
            plan = self._q.attempt(line_plan, id)
            if isinstance(plan, Unsolved) or plan.role != "crown":
                continue
            made = self._q.attempt(line, id)
            profile = None if isinstance(made, Unsolved) else _profile(made.rule)
            found.append(Alignment(name_of(self._q, thing), plan.base.moved(*self._shift), profile))
        return tuple(found)

    @cached_property
    def lines(self) -> tuple[DeliveredLine, ...]:
        """Every line with levels, in unbroken runs."""
        found = []
        for _, id in self._line_ids:
            made = self._q.attempt(line, id)
            if not isinstance(made, Unsolved):
                found += [(made, points) for points in made.runs(_SAG, 5.0)]
        kept = thinned([points for _, points in found], _SAG)
        shift = [*self._shift, 0.0]
        return tuple(DeliveredLine(made.title, made.plan.role, points + shift) for (made, _), points in zip(found, kept))

    @cached_property
    def parcels(self) -> tuple[Land, ...]:
        """Pieces of land."""
        return tuple(
            Land(p.name, p.outline + [*self._shift], p.area)
            for thing in all_things(self._q)
            for p in kind_of(thing.kind).parcels(self._q, thing)
        )

    @cached_property
    def set_out(self) -> tuple[tuple[int, SetOutPoint], ...]:
        """Numbered set-out points."""
        e, n = self._shift
        return tuple(
            (k, replace(p, easting=p.easting + e, northing=p.northing + n)) for k, p in set_out_points(self._q)
        )

    @cached_property
    def _line_ids(self) -> list[tuple[ThingId, LineId]]:
        found: list[tuple[ThingId, LineId]] = []
        for thing in all_things(self._q):
            with suppress(Unsolved):
                found += [(thing, id) for id in kind_of(thing.kind).lines(self._q, thing)]
        return found


def delivery(q: Engine) -> Delivery:
    """Describe the site as it is now; ``q`` must stay with it while writers read."""
    return Delivery(q)


def _profile(rule: object) -> Profile | None:
    """The grade line of a crown's rule."""
    if isinstance(rule, InStretches):
        rule = next((r for r in rule.rules if isinstance(r, OnGradeLine)), None)
    return rule.profile if isinstance(rule, OnGradeLine) else None
