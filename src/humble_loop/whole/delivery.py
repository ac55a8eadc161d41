"""What the site delivers to writers: one description, and the only thing that formats read of the worked-out site.

Eastings and northings are as people know them.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from humble_loop.engine.query import Engine, Key, Unsolved, query
from humble_loop.engine.together import SLICES, aside, ask_together
from humble_loop.geometry.arrays import Bools, Floats, frozen
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.gradeline import Profile
from humble_loop.geometry.polyline import thinned
from humble_loop.ground.drape import cross_segments
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street.cross_section import SectionPoint, across_at, has_all_points, section_points
from humble_loop.kinds.street.earthworks import ground_under
from humble_loop.kinds.street.plan import StreetLine, chain_of, is_new
from humble_loop.lines.describe import SetOutPoint
from humble_loop.lines.line import LineId, ThingId, line, line_plan
from humble_loop.lines.rules import InStretches, OnGradeLine
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.site import parts
from humble_loop.site.model import SIDES, Side
from humble_loop.whole.finished import whole_surface
from humble_loop.whole.kerbs import kerb_lines
from humble_loop.whole.overlaps import counted
from humble_loop.whole.places import face_box
from humble_loop.whole.tables import set_out_of, set_out_points
from humble_loop.whole.things import all_faces, all_things, faces_of, name_of

_FEW = 6  # streets and rows of lots that one process has worked out before another has begun
_BESIDE = 3.0  # metres of ground that a cross section shows beyond the design
_SAG = 0.002  # metres between a delivered chord and its curve


@dataclass(frozen=True)
class Across:
    """Cross sections of a street at chainages (n,): its section points from left to right, and at each chainage the ground
    (k, 2), offsets (left positive) falling from left to right and levels. ``whole`` (n,) tells where a side has all its points.
    """

    chainages: Floats
    points: tuple[SectionPoint, ...]
    whole: Mapping[Side, Bools]
    ground: tuple[Floats, ...]


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
class Kerb:
    """A lip that is no street's own: its title, its chain, and its level (n + 1,) where each of its n elements begins, and at its end."""

    title: str
    chain: Chain
    levels: Floats


@dataclass(frozen=True)
class Land:
    """A parcel: outline (n, 2) and area in m2."""

    name: str
    outline: Floats
    area: float


@query
def _lines_of(q: Engine, thing: ThingId) -> tuple[LineId, ...]:
    return tuple(kind_of(thing.kind).lines(q, thing))


@query
def _parcels_of(q: Engine, thing: ThingId) -> tuple[Land, ...]:
    return tuple(Land(p.name, p.outline, p.area) for p in kind_of(thing.kind).parcels(q, thing))


@query
def _runs(q: Engine, id: LineId) -> tuple[DeliveredLine, ...]:
    """The unbroken runs of a line, densely and from the site's origin."""
    made = line(q, id)
    return tuple(DeliveredLine(made.title, made.plan.role, points) for points in made.runs(_SAG, 5.0))


@query
def _alignment(q: Engine, id: LineId) -> Alignment:
    """A crown as a centreline with its grade line, from the site's origin."""
    made = q.attempt(line, id)
    profile = None if isinstance(made, Unsolved) else _profile(made.rule)
    return Alignment(name_of(q, id.thing), line_plan(q, id).base, profile)


@query
def _across(q: Engine, id: LineId) -> Across | None:
    """The cross sections of a crown's street, where that is a new one and has any of its own."""
    if not isinstance(id, StreetLine) or not is_new(q, id.street):
        return None
    street = id.street
    s, chain = across_at(q, street), chain_of(q, street)
    made = section_points(q, street, s)
    own = np.any([p.there for p in made if p.side is not None], axis=0)
    if not own.any():
        return None
    s, points = s[own], [replace(p, offsets=p.offsets[own], levels=p.levels[own]) for p in made]
    whole = {side: has_all_points(q, street, side, points) for side in SIDES}
    every = np.array([p.offsets for p in points])
    left, right = np.nanmax(every, axis=0) + _BESIDE, np.nanmin(every, axis=0) - _BESIDE
    cut = cross_segments(ground_under(q, street), chain.points_at(s, left), chain.points_at(s, right))
    ground = []
    for start, found in zip(left, cut.by_line(len(s))):
        known = np.isfinite(found.level)
        ground.append(frozen(np.column_stack([start - found.along, found.level])[known]))
    return Across(frozen(s), tuple(p for p in points if p.there.any()), whole, tuple(ground))


class Delivery:
    """The site for writers, in metres. Each part is worked out when a writer first asks for it, by ``processes``."""

    def __init__(self, q: Engine, processes: int = 1) -> None:
        self._q, self._processes = q, processes
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
        return tuple(replace(a, chain=a.chain.moved(*self._shift)) for _, a in self._aligned)

    @cached_property
    def _aligned(self) -> list[tuple[LineId, Alignment]]:
        made = [(id, self._q.attempt(_alignment, id)) for id in self._crowns]
        return [(id, a) for id, a in made if not isinstance(a, Unsolved)]

    @cached_property
    def cross_sections(self) -> tuple[Across | None, ...]:
        """Of each alignment its street's cross sections, None where it has none."""
        made = [self._q.attempt(_across, id) for id, _ in self._aligned]
        return tuple(None if isinstance(a, Unsolved) else a for a in made)

    def lines_but(self, roles: frozenset[str]) -> tuple[DeliveredLine, ...]:
        """Every line with levels that has another role, in unbroken runs."""
        made = [self._q.attempt(_runs, id) for id in self._lines_but(roles)]
        found = [run for runs in made if not isinstance(runs, Unsolved) for run in runs]
        kept = thinned([run.points for run in found], _SAG)
        shift = [*self._shift, 0.0]
        return tuple(replace(run, points=points + shift) for run, points in zip(found, kept))

    @cached_property
    def kerbs(self) -> tuple[Kerb, ...]:
        """Lips of returns, heads, knuckles and islands."""
        return tuple(
            Kerb(k.title, k.plan.base.moved(*self._shift), k.rule.levels(k.plan.base.starts))
            for k in kerb_lines(self._q)
        )

    @cached_property
    def parcels(self) -> tuple[Land, ...]:
        """Pieces of land."""
        made = [self._q.attempt(_parcels_of, thing) for thing in all_things(self._q)]
        found = [land for lands in made if not isinstance(lands, Unsolved) for land in lands]
        return tuple(replace(land, outline=land.outline + [*self._shift]) for land in found)

    @cached_property
    def set_out(self) -> tuple[tuple[int, SetOutPoint], ...]:
        """Numbered set-out points."""
        e, n = self._shift
        return tuple(
            (k, replace(p, easting=p.easting + e, northing=p.northing + n)) for k, p in set_out_points(self._q)
        )

    @cached_property
    def _line_ids(self) -> list[LineId]:
        made = [self._q.attempt(_lines_of, thing) for thing in all_things(self._q)]
        return [id for ids in made if not isinstance(ids, Unsolved) for id in ids]

    @property
    def _crowns(self) -> list[LineId]:
        plans = [(id, self._q.attempt(line_plan, id)) for id in self._line_ids]
        return [id for id, plan in plans if not isinstance(plan, Unsolved) and plan.role == "crown"]

    def _lines_but(self, roles: frozenset[str]) -> list[LineId]:
        plans = [(id, self._q.attempt(line_plan, id)) for id in self._line_ids]
        return [id for id, plan in plans if not isinstance(plan, Unsolved) and plan.role not in roles]

    def expect(
        self,
        *,
        surface: bool = False,
        sections: bool = False,
        lines_but: frozenset[str] | None = None,
        meanwhile: Callable[[], object] = lambda: None,
    ) -> None:
        """Have what a writer is going to ask worked out ahead by several processes, where there are several.

        ``meanwhile`` is done by this process when the others have begun.
        """
        ahead = [list(kind.groups(self._q)) for kind in kinds()]
        if self._processes < 2 or sum(map(len, ahead)) < _FEW:
            meanwhile()
            return

        def groups(q: Engine) -> list[list[Key]]:
            del q  # known before anything is worked out
            return self._in_shares(ahead)

        def things(q: Engine) -> list[list[Key]]:
            return self._shared_out([(ask, t) for t in all_things(q) for ask in (faces_of, _lines_of, _parcels_of)])

        def meshes(q: Engine) -> list[list[Key]]:
            asked: list[Key] = [(face_box, id) for id in all_faces(q) if surface]
            return self._shared_out([*asked, *((line_plan, id) for id in self._line_ids)])

        def rest(q: Engine) -> list[list[Key]]:
            asked: list[Key] = [(counted, id) for id in all_faces(q) if surface]
            asked += [(_alignment, id) for id in self._crowns]
            asked += [(_across, id) for id in self._crowns if sections]
            asked += [(_runs, id) for id in self._lines_but(lines_but)] if lines_but is not None else []
            return self._shared_out([*asked, *((set_out_of, thing) for thing in all_things(q))])

        ask_together(self._q, self._processes, [groups, things, meshes, rest], meanwhile)

    def aside(self, work: Callable[[], bytes]) -> Callable[[], bytes]:
        """Have ``work`` done by another process meanwhile, where there are several; () gives the result."""
        return aside(work, self._processes)

    def _shared_out(self, keys: list[Key]) -> list[list[Key]]:
        """Questions about things, faces or lines in shares: each a stretch of the things of every kind."""
        by_kind: dict[tuple[object, str], list[Key]] = {}
        for key in keys:
            thing = key[1] if isinstance(key[1], ThingId) else key[1].thing
            by_kind.setdefault((key[0], thing.kind), []).append(key)
        return self._in_shares(list(by_kind.values()))

    def _in_shares(self, groups: list[list[Key]]) -> list[list[Key]]:
        n = self._processes * SLICES
        return [[key for g in groups for key in g[len(g) * k // n : len(g) * (k + 1) // n]] for k in range(n)]


def delivery(q: Engine, processes: int = 1) -> Delivery:
    """Describe the site as it is now; ``q`` must stay with it while writers read.

    With more ``processes`` than one it is worked out by several at once: see ``ask_together`` for who may do so.
    """
    return Delivery(q, processes)


def _profile(rule: object) -> Profile | None:
    """The grade line of a crown's rule."""
    if isinstance(rule, InStretches):
        rule = next((r for r in rule.rules if isinstance(r, OnGradeLine)), None)
    return rule.profile if isinstance(rule, OnGradeLine) else None
