"""Who can drive through a roundabout: what vehicles sweep in every movement, over kerbs and onto the apron.

Its front axle keeps so far from kerbs, islands and splitters that its body clears them by 0.3 m, and bends as little as it can within that. Where its rear
wheels then cut in over something it is led further out round the circle, up to where its outer front corner comes to 0.3 m from the kerb.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from humble_loop.engine.in_pieces import InPieces, Pieces
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.spline_path import evenly, radii
from humble_loop.geometry.swept import followed, swept_ring
from humble_loop.kinds.junction.vehicles import VEHICLES, Vehicle
from humble_loop.kinds.roundabout.levels import CircleLine
from humble_loop.kinds.roundabout.place import asked, leg_name, legs_of, roundabout_name
from humble_loop.kinds.roundabout.ways import Driven, Way, driven, joined, smoothest_on
from humble_loop.lines.describe import Fact, Sheet, SheetRow
from humble_loop.lines.table import Table

_CLEAR = 0.3  # metres between a body and a kerb that a driver keeps
_TRIED = ((np.inf, 0.0), (np.inf, 0.35), (1.2, 0.35), (0.5, 0.35), (0.2, 0.15))
"""Metres from the furthest out within which it is tried to lead a vehicle round, at first as it likes; and how much more (m) it keeps from the
kerbs of its legs, over which its rear wheels cut in.
"""
_LOCK = 0.9  # of the radius on which its front axle runs on a full lock, for a moment
_MOUTH = 3.0  # metres beside a leg's way within which it may go on past the circle
_ACROSS = 0.3  # metres over a leg's centreline that a body may lean before it is clear of a splitter
_EVERY = 0.7  # metres between places at which its body is looked at
_ROUNDING = 0.05  # metres over an edge that are told at least: a tyre's play


@dataclass(frozen=True)
class Driving:
    """A vehicle that drives from a leg to another. ``over_kerb`` (m) is how far its body reaches over a kerb or an island's, ``apron`` how far onto the apron;
    NaN where it can be led round nowhere. ``corners`` (n, 4, 2) is where its body goes; ``worst`` where it reaches furthest.
    """

    vehicle: str
    begin: str
    finish: str
    over_kerb: float
    apron: float
    corners: Floats
    worst: tuple[float, float]

    @property
    def ring(self) -> Floats:
        """The outline (n, 2) of what it covers."""
        return swept_ring(self.corners)


@query
def drivings(q: Engine, id: str, vehicle: str) -> tuple[Driving, ...]:
    """Every movement of a vehicle but those that turn back. Raises Unsolved where a kerb cannot be made."""
    return _drivings(q, id, vehicle).result(q)


@query
def _drivings(q: Engine, id: str, vehicle: str) -> InPieces[tuple[Driving, ...]]:
    return InPieces(_led_round(driven(q, id), next(v for v in VEHICLES if v.key == vehicle)))


def outermost(vehicle: Vehicle, radius: float) -> float:
    """How far (m) from the middle of a circle the middle of a front axle can be led whose outer front corner is to stay within a radius.

    Turning about the middle the rear axle's stands a from it, the outer front corner sqrt((a + width / 2)2 + (wheelbase + front)2), the
    front axle's middle sqrt(a2 + wheelbase2).
    """
    b = vehicle.body
    a = float(np.sqrt(max(radius**2 - (b.wheelbase + b.front) ** 2, 0.0))) - 0.5 * b.width
    return float(np.hypot(max(a, 0.0), b.wheelbase))


def _led_round(made: Driven, vehicle: Vehicle) -> Pieces[tuple[Driving, ...]]:
    found = []
    furthest = outermost(vehicle, made.radius - _CLEAR)
    stands = made.disc(max(made.island - made.apron, 0.0)).union(made.standing)
    everywhere = joined(
        [made.disc(made.radius), *(w.ground(seen, _ACROSS) for w in made.ways for seen in ("left", "right"))]
    )
    drivable = everywhere.difference(stands)
    shapely.prepare(drivable)
    for begin, finish in made.movements():
        best: Driving | None = None
        for outwards, more in _TRIED:
            yield
            led = _led(made, vehicle, (begin, finish), (furthest - outwards, furthest), more, drivable)
            if led is not None and (best is None or _better(led, best)):
                best = led
            if best is not None and best.over_kerb == best.apron == 0.0:
                break
        found.append(best or _nowhere(vehicle, begin, finish))
    return tuple(found)


def _better(one: Driving, other: Driving) -> bool:
    """Whether a way of leading a vehicle is better than another: less over kerbs, then less onto the apron."""
    if abs(one.over_kerb - other.over_kerb) > _ROUNDING:
        return one.over_kerb < other.over_kerb
    return one.apron < other.apron - _ROUNDING


def _nowhere(vehicle: Vehicle, begin: Way, finish: Way) -> Driving:
    none = float("nan")
    return Driving(vehicle.name, begin.leg.key, finish.leg.key, none, none, np.empty((0, 4, 2)), (none, none))


def _led(
    made: Driven,
    vehicle: Vehicle,
    ends: tuple[Way, Way],
    lane: tuple[float, float],
    more: float,
    drivable: shapely.Geometry,
) -> Driving | None:
    """One way of leading it: its front axle's middle between two distances (m) from the middle of the circle where it goes round, and
    ``more`` metres further from the kerbs of its legs.
    """
    (begin, finish), keep = ends, 0.5 * vehicle.body.width + _CLEAR
    ways = shapely.union_all([begin.ground(made.entry, keep), finish.ground(made.exit, keep)])
    inner = max(lane[0], max(made.island - made.apron, 0.0) + keep)
    ring = made.disc(made.radius).difference(made.disc(lane[1])).difference(ways.buffer(_MOUTH))
    whole = joined([made.disc(made.radius), ways]).difference(made.beside)
    kept = whole.buffer(-keep - more).union(whole.buffer(-keep).intersection(made.disc(lane[1] - more)))
    ground = kept.difference(ring).difference(made.disc(inner))
    ground = ground.difference(made.splitters.buffer(keep))
    led = smoothest_on(made.route(begin, finish, 0.5 * (max(inner, made.island) + lane[1])), ground)
    if led is None or float(radii(led).min()) < _LOCK * vehicle.least_radius:
        return None
    path = evenly(led, _EVERY)
    corners = vehicle.body.corners(path, followed(path, vehicle.body.wheelbase))
    places = corners.reshape(-1, 2)
    beyond = np.flatnonzero(~shapely.contains_xy(drivable, places[:, 0], places[:, 1]))
    # Where it comes from and goes to its tail and its nose are beyond what is looked at.
    seen = min(way.far - way.leg.throat for way in ends) - vehicle.body.length
    beyond = beyond[np.hypot(*(places[beyond] - made.middle).T) < made.radius + max(seen, 0.0)]
    away = shapely.distance(drivable, shapely.points(places[beyond])) if len(beyond) else np.zeros(1)
    k = int(np.argmax(away))
    over = float(away[k]) if away[k] > _ROUNDING else 0.0
    sides = _sides(corners)
    inside = made.island - float(np.hypot(*(sides - made.middle).T).min())
    apron = float(np.clip(inside, 0.0, made.apron)) if inside > _ROUNDING else 0.0
    worst = places[beyond[k]] if over else sides[int(np.argmin(np.hypot(*(sides - made.middle).T)))]
    return Driving(
        vehicle.name, begin.leg.key, finish.leg.key, over, apron, corners, (float(worst[0]), float(worst[1]))
    )


def _sides(corners: Floats) -> Floats:
    """Places (m, 2) all along both sides of a body whose corners (n, 4, 2) are told."""
    share = np.linspace(0.0, 1.0, 6)[:, None, None]
    right = corners[:, 1] + share * (corners[:, 2] - corners[:, 1])
    left = corners[:, 0] + share * (corners[:, 3] - corners[:, 0])
    return np.concatenate([right.reshape(-1, 2), left.reshape(-1, 2)])


# As rows, and as a table


def driving_sheet(q: Engine, id: str) -> Sheet:
    """The movements of every vehicle, those that reach over a kerb first; what the chosen one covers is lit in plan."""
    columns, rows = ("vehicle", "from", "to", "over a kerb", "on the apron"), []
    legs = q.attempt(legs_of, id)
    names = {} if isinstance(legs, Unsolved) else {g.key: leg_name(q, id, g) for g in legs}
    for vehicle in VEHICLES:
        for d in drivings(q, id, vehicle.key) if names else ():
            cells = (
                Fact("vehicle", "text", d.vehicle),
                Fact("from", "text", names[d.begin]),
                Fact("to", "text", names[d.finish]),
                Fact("over a kerb", "text", "no way")
                if np.isnan(d.over_kerb)
                else Fact("over a kerb", "length", d.over_kerb)
                if d.over_kerb > 0.0
                else None,
                Fact("on the apron", "length", d.apron) if d.apron > 0.0 else None,
            )
            worst = np.inf if np.isnan(d.over_kerb) else d.over_kerb
            rows.append(((-worst, -np.nan_to_num(d.apron)), SheetRow(cells, (0.0, -1.0), d.ring)))
    rows.sort(key=lambda row: row[0])
    note = "Led round off the kerbs where that can be, and off the apron; the chosen one is lit in the plan"
    return Sheet("Vehicles", CircleLine(id), columns, tuple(row for _, row in rows), note)


def driving_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row for each vehicle and movement of every roundabout."""
    del every
    out = []
    for id in asked(q, of):
        legs = q.attempt(legs_of, id)
        names = {} if isinstance(legs, Unsolved) else {g.key: leg_name(q, id, g) for g in legs}
        for vehicle in VEHICLES:
            made = q.attempt(drivings, id, vehicle.key)
            for d in () if isinstance(made, Unsolved) else made:
                own = (roundabout_name(q, id), d.vehicle, names[d.begin], names[d.finish])
                out.append((*own, d.over_kerb, d.apron, *d.worst))
    columns = ("roundabout", "vehicle", "from", "to", "over_kerb", "on_apron", "easting", "northing")
    return Table(columns, tuple(out), (("easting", "northing"),))
