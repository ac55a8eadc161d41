"""The ground on which a roundabout is driven, in plan, and the middles of its lanes from leg to leg."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import shapely

from humble_loop.engine.query import Engine
from humble_loop.geometry.arrays import Floats, frozen, tangents
from humble_loop.geometry.corners import EdgeLine
from humble_loop.geometry.spline_path import evenly, normals, smoothed, smoothest
from humble_loop.kinds.roundabout.bypass import Bypass, bypass_beside, taker_of
from humble_loop.kinds.roundabout.gaps import Circle, Kerb, inscribed
from humble_loop.kinds.roundabout.layout import kerbs_of, lane_kerb, lip_edge
from humble_loop.kinds.roundabout.leg_islands import island_polygon
from humble_loop.kinds.roundabout.place import (
    Leg,
    LegSizes,
    entry_side,
    leg_name,
    leg_sizes,
    legs_of,
    sizes_of,
)
from humble_loop.site.model import SIDES, Side, other_side, side_sign

FAR = 50.0  # metres from the circle from which it is looked at how one drives
_BEYOND = 4.0  # metres by which the ground goes on past that
_NEAR = 12.0  # metres from the circle from which on the middle of a lane is looked across at the latest
_EVERY = 2.0  # metres between places on a route
_REACH = 9.0  # metres beside the middle of a lane that one may drive
_AROUND = 4  # times the middles of lanes are smoothed before it is looked across them
_INTO_NEXT = 0.6  # radians short of a whole turn from which on one only turns into the next leg
_INSIDE = 0.5  # metres within the circle to which the ground of a leg reaches where its kerb does not come to it
_JOIN = 1e-6  # metres by which pieces of ground are joined


class Way:
    """A leg as it is driven: the middles of its two ways and of bypass lanes beside them, and their ground. By its sides these have ``kerbs``, and its lanes
    to and from the circle ``edges``, which are the same where there is no bypass lane. The one that comes from its entry goes ``to`` another leg.
    """

    def __init__(self, q: Engine, id: str, leg: Leg, left: Kerb, right: Kerb, edges: dict[Side, Kerb]) -> None:
        self.leg, self.sizes, self.circle = leg, leg_sizes(q, id, leg), inscribed(q, id)
        # The ground goes on past where routes end, or as far as the leg does.
        self.ends = min(leg.throat + FAR + _BEYOND, leg.chain.total)
        self.far = self.ends - _BEYOND
        self.name = leg_name(q, id, leg)
        self.kerbs: dict[Side, Kerb] = {"left": left, "right": right}
        self.edges = edges
        self.lips: dict[Side, EdgeLine] = {seen: lip_edge(q, leg, seen) for seen in SIDES}
        self.beside: dict[Side, Bypass | None] = {seen: bypass_beside(q, id, leg, seen) for seen in SIDES}
        self.to = taker_of(q, id, leg).key if self.beside[entry_side(q)] else ""

    def lane(self, seen: Side) -> Floats:
        """The middle of the way on a side (n, 2), from where its kerb has turned into the leg outwards."""
        return self._middle(seen, np.linspace(self._turned(seen), self.far, 30))

    def driver(self, seen: Side, back: float) -> Floats:
        """Where (2,) a driver sits on the way on a side, ``back`` metres along the leg from the circle, at most where routes end."""
        (place,) = self._middle(seen, np.array([min(self.leg.throat + back, self.far)]))
        return frozen(place)

    def bypass_lane(self, seen: Side, made: Bypass) -> Floats:
        """The middle of a bypass lane (n, 2) beside the way on a side, from where its arc touches the lip outwards: further out it comes to that of the way."""
        begin = made.leg_at[0 if seen == "left" else 1]
        u = np.linspace(begin, max(self.far, begin + _JOIN), 30)  # a leg may end before routes do
        share, out = self._widened(seen, u), self._lip(seen, u) - 0.5 * made.width
        return self._places(seen, u, share * out + (1.0 - share) * self._between(seen, u))

    def _turned(self, seen: Side) -> float:
        at = self.edges[seen].leg_at[0 if seen == "left" else 1]
        return self.leg.throat + min(max(at - self.leg.throat, 1.0), _NEAR)

    def _middle(self, seen: Side, u: Floats) -> Floats:
        """Places at chainages of the leg; nearer than its kerb has turned, as far from the leg as there."""
        return self._places(seen, u, self._between(seen, np.maximum(u, self._turned(seen))))

    def _between(self, seen: Side, u: Floats) -> Floats:
        """How far out (n,) the middle of its lanes lies on a side."""
        made = self.beside[seen]
        beside = 0.0 if made is None else made.width * self._widened(seen, u)
        return 0.5 * (self._lip(seen, u) - beside + _inner(self.sizes, seen))

    def _widened(self, seen: Side, u: Floats) -> Floats:
        """How much (n,) of a bypass lane the leg is wider by on a side."""
        made = self.beside[seen]
        if made is None:
            return np.zeros(len(u))
        full = max(made.leg_at[0 if seen == "left" else 1], self.leg.throat + self.sizes.splitter)
        return np.clip((full + made.taper - u) / max(made.taper, _JOIN), 0.0, 1.0)

    def _lip(self, seen: Side, u: Floats) -> Floats:
        return np.array([abs(self.lips[seen].offset(float(v))) for v in u]).reshape(-1)

    def _places(self, seen: Side, u: Floats, out: Floats) -> Floats:
        return self.leg.chain.points_at(u, side_sign(seen) * out)

    def ground(self, seen: Side, over: float) -> shapely.Geometry:
        """The ground of the way on a side, from its kerb to ``over`` metres across the leg's centreline."""
        kerb, n = self.kerbs[seen], 0 if seen == "left" else 1
        s = np.linspace(*((0.0, kerb.ends[0]) if n == 0 else (kerb.chain.total, kerb.ends[1])), 41)
        arc = kerb.chain.points_at(s)  # from the lip to the circle
        u = np.linspace(kerb.leg_at[n], self.ends, 40) if kerb.leg_at[n] < self.ends else np.empty(0)
        lip = self._places(seen, u, self._lip(seen, u))
        crown = self.leg.chain.points_at(np.linspace(self.leg.throat, self.ends, 40), -side_sign(seen) * over)
        round_ = self._round(kerb, n) if kerb.alone else np.empty((0, 2))
        return shapely.make_valid(shapely.Polygon(np.concatenate([arc[::-1], lip, crown[::-1], round_])))

    def _round(self, kerb: Kerb, n: int) -> Floats:
        """Within the circle, with which it is to be one, (n, 2) from the leg to abreast of where a kerb that does not reach it is nearest."""
        turn = np.mod(kerb.angles[0] - self.leg.angle, 2.0 * np.pi) - (0.0 if n == 0 else 2.0 * np.pi)
        inside = self.circle.radius - _INSIDE
        found: Floats = self.circle.middle + inside * tangents(self.leg.angle + np.linspace(0.0, turn, 20))
        return found


def _inner(sizes: LegSizes, seen: Side) -> float:
    """How far (m) a way begins from the leg's centreline: at its splitter's side, else at the line."""
    return 0.5 * sizes.splitter_width + side_sign(seen) * sizes.splitter_offset if sizes.splitter > 0.0 else 0.0


@dataclass(frozen=True)
class Driven:
    """A roundabout as it is driven: its ways, its inscribed ``circle``, the radius of the island's lip, how wide its apron is (m), the splitter
    islands of its legs and those ``beside`` their bypass lanes, and the side of a leg, seen going outwards, on which one comes in.
    """

    ways: tuple[Way, ...]
    circle: Circle
    island: float
    apron: float
    splitters: shapely.Geometry
    beside: shapely.Geometry
    entry: Side

    @property
    def standing(self) -> shapely.Geometry:
        """The islands of its legs."""
        return self.splitters.union(self.beside)

    @property
    def middle(self) -> Floats:
        """Its middle (2,)."""
        return self.circle.middle

    @property
    def radius(self) -> float:
        """Its inscribed radius (m)."""
        return self.circle.radius

    @property
    def exit(self) -> Side:
        """The side on which one goes out."""
        return other_side(self.entry)

    def disc(self, radius: float) -> shapely.Geometry:
        """What lies within a radius of its middle."""
        return shapely.Point(*self.middle).buffer(radius, 64)

    def movements(self) -> Iterator[tuple[Way, Way]]:
        """Every leg with every other; one alone with itself."""
        for begin in self.ways:
            for finish in self.ways:
                if begin is not finish or len(self.ways) == 1:
                    yield begin, finish

    def route(self, begin: Way, finish: Way, lane: float) -> Floats:
        """Places (n, 2) along the middles of lanes from a leg to another, round the circle ``lane`` metres from its middle or by its bypass lane."""
        past = self.past(begin, finish)
        if past is not None:
            return smoothed(evenly(past, _EVERY), _AROUND)
        coming, going = begin.lane(self.entry)[::-1], finish.lane(self.exit)
        way = -1.0 if self.entry == "right" else 1.0  # clockwise where traffic keeps left
        a, b = (float(np.arctan2(*(p - self.middle)[::-1])) for p in (coming[-1], going[0]))
        sweep = float(np.mod(way * (b - a), 2.0 * np.pi))
        if sweep > 2.0 * np.pi - _INTO_NEXT and begin is not finish:
            sweep = 0.0  # into the next leg one hardly comes to the circle
        margin = min(0.35, 0.3 * sweep)
        angles = a + way * np.linspace(margin, sweep - margin, max(2, int(sweep * lane)))
        round_ = self.middle + lane * tangents(angles) if sweep > 0.3 else np.empty((0, 2))
        return smoothed(evenly(np.concatenate([coming, round_, going]), _EVERY), _AROUND)

    def past(self, begin: Way, finish: Way) -> Floats | None:
        """The middle (n, 2) of the bypass lane from a leg to another; None where there is none."""
        made = begin.beside[self.entry] if begin.to == finish.leg.key else None
        if made is None:
            return None
        side = -0.5 * made.width  # the arc is the island's side, its lane lies on its right
        arc = made.arc.points_at(np.linspace(0.0, made.arc.total, 20)[1:-1], side)
        if self.entry == "right":
            arc = arc[::-1]
        return np.concatenate([begin.bypass_lane(self.entry, made)[::-1], arc, finish.bypass_lane(self.exit, made)])


def driven(q: Engine, id: str) -> Driven:
    """A roundabout as it is driven. Raises Unsolved where a kerb cannot be made."""
    legs, kerbs, sizes = legs_of(q, id), kerbs_of(q, id), sizes_of(q, id)
    edges = [lane_kerb(q, id, leg.key) for leg in legs]
    ways = tuple(
        Way(q, id, leg, kerbs[k], kerbs[k - 1], {"left": edges[k], "right": edges[k - 1]}) for k, leg in enumerate(legs)
    )
    splitters, beside = (
        shapely.union_all([island_polygon(q, id, g.key, part) for g in legs]) for part in ("splitter", "bypass")
    )
    island = sizes.radius - sizes.width
    return Driven(ways, inscribed(q, id), island, sizes.apron, splitters, beside, entry_side(q))


def smoothest_on(centres: Floats, ground: shapely.Geometry) -> Floats | None:
    """The line beside a route (n, 2) that bends least and stays on a ground; None where there is none of it beside the route."""
    if ground.is_empty:
        return None
    across = normals(centres)
    lines = shapely.linestrings(np.stack([centres - _REACH * across, centres + _REACH * across], axis=1))
    pieces = shapely.intersection(lines, ground)
    low, high = np.empty(len(centres)), np.empty(len(centres))
    for k, piece in enumerate(pieces):
        parts = [p for p in shapely.get_parts(piece) if p.length > 0.0]
        if not parts:
            return None
        nearest = min(parts, key=lambda p, k=k: p.distance(shapely.Point(*centres[k])))  # type: ignore[misc]
        ends = np.sort((shapely.get_coordinates(nearest) - centres[k]) @ across[k])
        low[k], high[k] = ends[0], ends[-1]
    return smoothest(centres, across, low, high)


def joined(pieces: list[shapely.Geometry]) -> shapely.Geometry:
    """Pieces of ground as one."""
    return shapely.union_all(pieces).buffer(_JOIN)
