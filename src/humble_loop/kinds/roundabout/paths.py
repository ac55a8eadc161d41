"""How a roundabout is driven: for each movement the fastest path that a car can take with nobody else about, its radii and speeds.

A path is the centre line of a car 2 m wide. It keeps 1.5 m from kerbs, islands and splitters, so half a metre beside the car, and 1 m from the
painted centre line of a leg; within that it bends as little as it can, as a spline does that a draughtsman lays. It begins and ends 50 m from
the circle. Its speed on a radius R is v = sqrt(127 R (e + f)) km/h, with the side friction f that drivers use at that speed and the
crossfall e.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import shapely

from humble_loop.engine.in_pieces import InPieces, Pieces
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen, left_normals, tangents
from humble_loop.geometry.spline_path import evenly, normals, radii, smoothed, smoothest
from humble_loop.kinds.roundabout.layout import Kerb, kerb_after, kerbs_of, lip_edge
from humble_loop.kinds.roundabout.place import (
    Leg,
    LegSizes,
    entry_side,
    leg_name,
    leg_sizes,
    legs_of,
    middle_of,
    roundabout_name,
    sizes_of,
)
from humble_loop.kinds.roundabout.splitters import SETBACK, splitter_polygon
from humble_loop.site.model import Side, other_side, side_sign

KERB, LINE = 1.5, 1.0  # metres that a path keeps from what stands, and from a painted line
FAR = 50.0  # metres from the circle from which a path is looked at
_BEYOND = 4.0  # metres by which the ground goes on past them
_NEAR = 12.0  # metres from the circle from which on the middle of a lane is looked across at the latest
_EVERY = 2.0  # metres between places on it
_REACH = 9.0  # metres beside the middle of a lane that a path may lie
_AROUND = 4  # times the middles of lanes are smoothed before it is looked across them
_SPEEDS = np.array([10.0, 15.0, 20.0, 25.0, 30.0, 40.0, 50.0, 65.0, 80.0])  # km/h
_FRICTION = np.array([0.44, 0.42, 0.39, 0.33, 0.28, 0.23, 0.19, 0.16, 0.14])
"""Side friction that drivers use in built-up places at those speeds: typical."""
SUPER, ADVERSE = 0.02, -0.02  # crossfall on entries and exits, and round the circle: typical

TurnName = Literal["left", "through", "right", "round"]


def speed_on(radius: float, across: float) -> float:
    """km/h on a radius (m) with a crossfall (ratio, above zero towards its centre): v2 = 127 R (e + f(v)); 80 at most."""
    grip = 127.0 * radius * (across + _FRICTION)
    if not np.isfinite(radius) or grip[-1] >= _SPEEDS[-1] ** 2:
        return float(_SPEEDS[-1])
    fine = np.linspace(0.0, _SPEEDS[-1], 1601)
    over = fine**2 - 127.0 * radius * (across + np.interp(fine, _SPEEDS, _FRICTION))
    return float(fine[np.argmax(over >= 0.0)])


@dataclass(frozen=True)
class Path:
    """The fastest path of a movement from a leg to another: its ``places`` (n, 2), and of its entry, of the way round and of its exit the least
    radius (m), where that is (2,), and the speed there (km/h).
    """

    begin: str
    finish: str
    turn: TurnName
    places: Floats
    radii: tuple[float, float, float]
    at: tuple[Floats, Floats, Floats]

    @property
    def speeds(self) -> tuple[float, float, float]:
        """km/h on each of these."""
        entry, round_, exit_ = self.radii
        return speed_on(entry, SUPER), speed_on(round_, ADVERSE), speed_on(exit_, SUPER)


@query
def paths(q: Engine, id: str) -> tuple[Path, ...]:
    """The fastest path of every movement but those that turn back. Raises Unsolved where a kerb cannot be made."""
    return _laying(q, id).result(q)


@query
def _laying(q: Engine, id: str) -> InPieces[tuple[Path, ...]]:
    legs, kerbs, entry = legs_of(q, id), kerbs_of(q, id), entry_side(q)
    sizes, middle, name = sizes_of(q, id), middle_of(q, id), roundabout_name(q, id)
    ways = [_Way(q, id, leg, kerbs[k], kerbs[k - 1], entry) for k, leg in enumerate(legs)]
    inside = shapely.Point(*middle).buffer(sizes.radius, 64)
    island = shapely.Point(*middle).buffer(sizes.radius - sizes.width, 64)
    standing = [q.attempt(splitter_polygon, id, leg.key) for leg in legs]
    island = shapely.union_all([island, *(s for s in standing if not isinstance(s, Unsolved))])
    return InPieces(_laid(name, ways, inside, island, middle, sizes.radius - 0.5 * sizes.width, entry))


class _Way:
    """A leg as it is driven: the middles of its lanes, and the ground of its two ways."""

    def __init__(self, q: Engine, id: str, leg: Leg, left: Kerb, right: Kerb, entry: Side) -> None:
        self.leg, self.sizes = leg, leg_sizes(q, id, leg)
        # The ground goes on past where paths end, or as far as the leg does.
        self.ends = min(leg.throat + FAR + _BEYOND, leg.chain.total)
        self.far = self.ends - _BEYOND
        self.name = leg_name(q, id, leg)
        self.kerbs: dict[Side, Kerb] = {"left": left, "right": right}
        self.entry = entry
        self.lips = {seen: lip_edge(q, leg, seen) for seen in ("left", "right")}

    def lane(self, seen: Side) -> Floats:
        """The middle of the way on a side (n, 2), from the circle outwards."""
        sign, at = side_sign(seen), self.kerbs[seen].leg_at[0 if seen == "left" else 1]
        u = np.linspace(self.leg.throat + min(max(at - self.leg.throat, 1.0), _NEAR), self.far, 30)
        half = _inner(self.sizes, seen)
        offsets = sign * np.array([0.5 * (abs(self.lips[seen].offset(float(v))) + half) for v in u])
        return self.leg.chain.points_at(u, offsets)

    def ground(self, seen: Side) -> shapely.Geometry:
        """What may be driven on of the way on a side, to the painted line beyond a splitter and as far as kerbs beside it."""
        kerb, n = self.kerbs[seen], 0 if seen == "left" else 1
        s = np.linspace(*((0.0, kerb.ends[0]) if n == 0 else (kerb.chain.total, kerb.ends[1])), 41)
        arc = kerb.chain.points_at(s)  # from the lip to the circle
        u = np.linspace(kerb.leg_at[n], self.ends, 40) if kerb.leg_at[n] < self.ends else np.empty(0)
        lip = self.leg.chain.points_at(u, np.array([self.lips[seen].offset(float(v)) for v in u]).reshape(-1))
        over = -side_sign(seen) * (KERB - LINE)
        crown = self.leg.chain.points_at(np.linspace(self.leg.throat, self.ends, 40), over)
        return shapely.make_valid(shapely.Polygon(np.concatenate([arc[::-1], lip, crown[::-1]])))


def _inner(sizes: LegSizes, seen: Side) -> float:
    """How far (m) a way begins from the leg's centreline: at its splitter's side, else at the line."""
    return 0.5 * sizes.splitter_width + side_sign(seen) * sizes.splitter_offset if sizes.splitter > 0.0 else 0.0


def _laid(
    name: str,
    ways: list[_Way],
    inside: shapely.Geometry,
    island: shapely.Geometry,
    middle: Floats,
    lane: float,
    entry: Side,
) -> Pieces[tuple[Path, ...]]:
    found = []
    for i, begin in enumerate(ways):
        for j, finish in enumerate(ways):
            if i == j and len(ways) > 1:
                continue
            yield
            made = _path(begin, finish, inside, island, middle, lane, entry)
            if made is not None:
                found.append(made)
    return tuple(found)


def _path(
    begin: _Way,
    finish: _Way,
    inside: shapely.Geometry,
    island: shapely.Geometry,
    middle: Floats,
    lane: float,
    entry: Side,
) -> Path | None:
    """The fastest path from one leg to another; None where nothing is left to drive on."""
    coming, going = begin.lane(entry)[::-1], finish.lane(other_side(entry))
    way = -1.0 if entry == "right" else 1.0  # clockwise where traffic keeps left
    a, b = (float(np.arctan2(*(p - middle)[::-1])) for p in (coming[-1], going[0]))
    sweep = float(np.mod(way * (b - a), 2.0 * np.pi))
    # Into the next leg one hardly comes to the circle.
    sweep = 0.0 if sweep > 2.0 * np.pi - 0.6 and begin is not finish else sweep
    margin = min(0.35, 0.3 * sweep)
    angles = a + way * np.linspace(margin, sweep - margin, max(2, int(sweep * lane)))
    round_ = middle + lane * tangents(angles) if sweep > 0.3 else np.empty((0, 2))
    centres = smoothed(evenly(np.concatenate([coming, round_, going]), _EVERY), _AROUND)
    ground = (
        shapely.union_all([inside, begin.ground(entry), finish.ground(other_side(entry))])
        .buffer(1e-6)
        .difference(island)
    )
    across = normals(centres)
    span = _between(centres, across, ground.buffer(-KERB))
    if span is None:
        return None
    places = smoothest(centres, across, *span)
    size = radii(places)
    out = np.hypot(*(places - middle).T)
    rim = lane + 0.5 * (np.sqrt(inside.area / np.pi) - lane) * 2.0 - SETBACK
    k = int(np.argmin(out))
    zones = (
        (np.arange(len(places)) <= k) & (out > rim - KERB),
        out <= rim + SETBACK,
        (np.arange(len(places)) >= k) & (out > rim - KERB),
    )
    least = [int(np.argmin(np.where(zone, size, np.inf))) if zone.any() else k for zone in zones]
    turned = _turn_of(places)
    return Path(
        begin.leg.key,
        finish.leg.key,
        turned if begin is not finish else "round",
        frozen(places),
        (float(size[least[0]]), float(size[least[1]]), float(size[least[2]])),
        (places[least[0]], places[least[1]], places[least[2]]),
    )


def _turn_of(places: Floats) -> TurnName:
    first, last = places[1] - places[0], places[-1] - places[-2]
    turn = np.degrees(np.arctan2(first[0] * last[1] - first[1] * last[0], first @ last))
    return "through" if abs(turn) < 45.0 else "left" if turn > 0 else "right"


def _between(centres: Floats, across: Floats, ground: shapely.Geometry) -> tuple[Floats, Floats] | None:
    """How far (n,) one may go to the right (below zero) and to the left of places (n, 2) on a ground; None where there is none."""
    if ground.is_empty:
        return None
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
    return low, high


def entry_angle(q: Engine, id: str, leg: Leg) -> float:
    """Degrees between those who come in and those who go round, where they meet.

    The middle of an entry e wide beside a kerb of radius r runs about the same centre, r + e / 2 from it, and that lies R + r from the
    middle: it crosses the circle R at the angle of the triangle of these three.
    """
    sizes, size, seen = leg_sizes(q, id, leg), sizes_of(q, id).radius, entry_side(q)
    legs = legs_of(q, id)
    k = next(i for i, g in enumerate(legs) if g.key == leg.key)
    kerb = kerb_after(q, id, leg.key if seen == "left" else legs[k - 1].key)
    radius = kerb.radii[0 if seen == "left" else 1]
    first = 0 if seen == "left" else -1
    bent = float(kerb.chain.k0[first])
    centre = kerb.chain.xy[first] + left_normals(kerb.chain.heading[first]) / bent
    away, own = float(np.hypot(*(centre - middle_of(q, id)))), radius + 0.5 * sizes.entry
    cosine = (away**2 - own**2 - size**2) / (2.0 * own * size)
    return float(np.degrees(np.arccos(np.clip(cosine, -1.0, 1.0))))
