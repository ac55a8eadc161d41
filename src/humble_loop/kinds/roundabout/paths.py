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

from humble_loop.engine.in_pieces import InPieces, Pieces
from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats, frozen, left_normals
from humble_loop.geometry.spline_path import radii
from humble_loop.kinds.roundabout.bypass import gap_key
from humble_loop.kinds.roundabout.layout import lane_kerb
from humble_loop.kinds.roundabout.place import Leg, entry_side, leg_sizes, middle_of, sizes_of
from humble_loop.kinds.roundabout.splitters import SETBACK
from humble_loop.kinds.roundabout.ways import Driven, Way, driven, joined, smoothest_on

KERB, LINE = 1.5, 1.0  # metres that a path keeps from what stands, and from a painted line
_SPEEDS = np.array([10.0, 15.0, 20.0, 25.0, 30.0, 40.0, 50.0, 65.0, 80.0])  # km/h
_FRICTION = np.array([0.44, 0.42, 0.39, 0.33, 0.28, 0.23, 0.19, 0.16, 0.14])
"""Side friction that drivers use in built-up places at those speeds: typical."""
SUPER, ADVERSE = 0.02, -0.02  # crossfall on entries and exits, and round the circle: typical

TurnName = Literal["left", "through", "right", "round", "bypass"]


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
    return InPieces(_laid(driven(q, id)))


def _laid(made: Driven) -> Pieces[tuple[Path, ...]]:
    found = []
    for begin, finish in made.movements():
        yield
        path = _path(made, begin, finish)
        if path is not None:
            found.append(path)
    return tuple(found)


def _path(made: Driven, begin: Way, finish: Way) -> Path | None:
    """The fastest path from one leg to another; None where nothing is left to drive on."""
    over = KERB - LINE  # a line is passed nearer than a kerb, from which all of the ground's edge is kept away alike
    ground = joined([made.disc(made.radius), begin.ground(made.entry, over), finish.ground(made.exit, over)])
    ground = ground.difference(made.disc(made.island)).difference(made.standing)
    lane = 0.5 * (made.radius + made.island)
    places = smoothest_on(made.route(begin, finish, lane), ground.buffer(-KERB))
    if places is None:
        return None
    size, out, n = radii(places), np.hypot(*(places - made.middle).T), np.arange(len(places))
    k, rim = int(np.argmin(out)), made.radius - SETBACK
    outside = out > rim - KERB
    zones = (n <= k) & outside, out <= rim + SETBACK, (n >= k) & outside
    least = [int(np.argmin(np.where(zone, size, np.inf))) if zone.any() else k for zone in zones]
    turn: TurnName = "round" if begin is finish else _turn_of(places)
    if made.past(begin, finish) is not None:
        turn = "bypass"
    own = float(size[least[0]]), float(size[least[1]]), float(size[least[2]])
    return Path(
        begin.leg.key, finish.leg.key, turn, frozen(places), own, (places[least[0]], places[least[1]], places[least[2]])
    )


def _turn_of(places: Floats) -> TurnName:
    first, last = places[1] - places[0], places[-1] - places[-2]
    turn = np.degrees(np.arctan2(first[0] * last[1] - first[1] * last[0], first @ last))
    return "through" if abs(turn) < 45.0 else "left" if turn > 0 else "right"


def entry_angle(q: Engine, id: str, leg: Leg) -> float:
    """Degrees between those who come in and those who go round, where they meet.

    The middle of an entry e wide beside a kerb of radius r runs about the same centre, r + e / 2 from it, and that lies R + r from the
    middle: it crosses the circle R at the angle of the triangle of these three.
    """
    sizes, size, seen = leg_sizes(q, id, leg), sizes_of(q, id).radius, entry_side(q)
    kerb = lane_kerb(q, id, gap_key(q, id, leg, seen))
    radius = kerb.radii[0 if seen == "left" else 1]
    first = kerb.beside_circle(0 if seen == "left" else 1)
    bent = float(kerb.chain.k0[first])
    centre = kerb.chain.xy[first] + left_normals(kerb.chain.heading[first]) / bent
    away, own = float(np.hypot(*(centre - middle_of(q, id)))), radius + 0.5 * sizes.entry
    cosine = (away**2 - own**2 - size**2) / (2.0 * own * size)
    return float(np.degrees(np.arccos(np.clip(cosine, -1.0, 1.0))))
