"""Who can turn in a junction: the swept paths of vehicles for every turning movement, against lips and the lanes of others."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from humble_loop.engine.in_pieces import InPieces, Pieces
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arcs import DoesNotFit, OffsetLine, tangent_arc
from humble_loop.geometry.arrays import Floats, left_normals, tangents
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.swept import followed, swept_ring
from humble_loop.geometry.united import united
from humble_loop.kinds.junction.corners import kerb_return
from humble_loop.kinds.junction.nodes import (
    Arm,
    CrossingArm,
    all_joints,
    arms_at,
    junction_name,
    leg_of,
    node_id,
    require_joint,
)
from humble_loop.kinds.junction.vehicles import VEHICLES, Vehicle
from humble_loop.kinds.street.plan import StreetLine, chain_of, is_new, name_of
from humble_loop.kinds.street.side import lip_width
from humble_loop.kinds.street.tables import solved
from humble_loop.lines.describe import Fact, Sheet, SheetRow
from humble_loop.lines.findings import Finding, failed, point
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kinds
from humble_loop.lines.table import NoSuchTable, Table
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.model import Side, other_side, side_sign

_BEFORE, _AFTER = 20.0, 25.0  # metres of the legs on which a vehicle comes and goes, or as far as its arc wants
_FURTHEST = 45.0  # metres from the node at which an arc may begin or end
_STEPS, _PART = 120, 40  # places on a path, and on each of its three parts before they are made even
_SWINGS = ((0.5, 0.5), (0.5, 0.1), (0.15, 0.1), (0.5, -0.35), (0.15, -0.35))
"""Where in the legs' halves a vehicle comes and goes, as shares of them from the crown: in its lane, then swung out more and more."""
_WAYS = tuple((radius, come, go) for come, go in _SWINGS for radius in (1.0, 1.5))  # radii in least ones
_CLEAR = 3.0  # times the half width of a leg from which on lanes are told apart
_REACH = 60.0  # metres along each leg that are carriageway
_FAR = 4.0  # metres beyond it that are another place
_SAG = 0.02  # metres by which the edges of the carriageway may be drawn in chords
_SHORT = 1.0  # metres of a leg that nobody turns into
_STRAIGHT = 0.05  # of the sine between two legs that lead straight on
_ROUNDING = 0.05  # metres over an edge that are told at least: a tyre's play


@dataclass(frozen=True)
class Leg:
    """A street as it leaves a junction: its ``chain`` from the node outwards, and how far its lips are from it on the left and right (m)
    seen so.
    """

    name: str
    street: str
    chain: Chain
    left: Varying
    right: Varying

    def lip(self, side: Side) -> Varying:
        """Metres from the chain to the lip of a side."""
        return self.left if side == "left" else self.right


@dataclass(frozen=True)
class Turning:
    """A vehicle that turns from one leg into another, its front axle led round at ``radius`` (m).

    ``over_lip`` and ``over_crown`` (m) are how far its body reaches over a lip, and into the lanes of those that come towards it on
    the legs; ``corners`` (n, 4, 2) is where its body goes. NaN where it can be led round nowhere.
    """

    vehicle: str
    begin: str
    finish: str
    radius: float
    over_lip: float
    over_crown: float
    corners: Floats
    worst: tuple[float, float]

    @property
    def ring(self) -> Floats:
        """The outline (n, 2) of what it covers."""
        return swept_ring(self.corners)


@query
def legs_of(q: Engine, id: str) -> tuple[Leg, ...]:
    """The legs of a junction: both of the through street, and each arm."""
    arms = arms_at(q, id)
    if not arms:
        return ()
    j = require_joint(q, *arms[0])
    through, at = chain_of(q, j.through), j.through_chainage
    found = []
    if through.total - at > _SHORT:
        found.append(_leg(q, j.through, through.part(at, through.total), at, 1, "onwards"))
    if at > _SHORT:
        found.append(_leg(q, j.through, through.part(0.0, at).reversed(), at, -1, "back"))
    for street, arm in arms:
        own, leg = require_joint(q, street, arm), leg_of(q, street, arm)
        words = str(arm) if isinstance(arm, CrossingArm) else ""
        if leg.total > _SHORT:
            found.append(_leg(q, street, leg, own.side_chainage, own.way, words))
    return tuple(found)


def _leg(q: Engine, street: str, chain: Chain, at: float, way: int, words: str) -> Leg:
    sides: tuple[Side, Side] = ("left", "right") if way > 0 else ("right", "left")
    left, right = (_outwards(lip_width(q, street, side), at, way) for side in sides)
    near = chain.part(0.0, min(_REACH, chain.total))
    return Leg(f"{name_of(q, street)} {words}".strip(), street, near, left, right)


def _outwards(width: Varying, at: float, way: int) -> Varying:
    """A width along a street as one along a leg of it."""
    return Varying.of(((width.at - at) * way)[::way], width.values[::way])


@query
def road(q: Engine, id: str) -> shapely.Geometry:
    """The ground between the lips of a junction and of its legs, in plan, without what stands on it."""
    pieces = [_strip(leg) for leg in legs_of(q, id)]
    for street, arm in arms_at(q, id):
        pieces += _mouth(q, street, arm)
    found = united([shapely.make_valid(p) for p in pieces]).buffer(1e-3)
    streets = dict.fromkeys(leg.street for leg in legs_of(q, id))
    standing = [plan for kind in kinds() for street in streets for plan in kind.obstacles(q, street)]
    return found.difference(united(standing)) if standing else found


def _strip(leg: Leg) -> shapely.Geometry:
    reach = leg.chain.total
    s = np.unique(np.concatenate([leg.chain.sampled(sag=_SAG), leg.left.at, leg.right.at, [0.0, reach]]))
    s = s[(s >= 0.0) & (s <= reach)]
    edges = leg.chain.points_at(s, leg.left(s)), leg.chain.points_at(s, -leg.right(s))[::-1]
    return shapely.Polygon(np.concatenate(edges))


def _mouth(q: Engine, street: str, arm: Arm) -> list[shapely.Geometry]:
    """What lies between the returns of an arm and the node."""
    j, found = require_joint(q, street, arm), []
    corners: tuple[Side, Side] = ("left", "right")
    for corner in corners:
        made = q.attempt(kerb_return, street, arm, corner)
        if not isinstance(made, Unsolved):
            chain = made.curve.chain
            found.append(shapely.Polygon([j.node, *chain.points_at(chain.sampled(sag=_SAG))]))
    return found


@query
def turnings(q: Engine, id: str, vehicle: str) -> tuple[Turning, ...]:
    """Every turning movement of a vehicle in a junction, each led round as a driver would: from the middle of its lane into the middle of
    another where that keeps it off the kerb, else swung out by as little as does.
    """
    return _turnings(q, id, vehicle).result(q)


@query
def _turnings(q: Engine, id: str, vehicle: str) -> InPieces[tuple[Turning, ...]]:
    made, legs = next(v for v in VEHICLES if v.key == vehicle), legs_of(q, id)
    moves = [(a, b) for a in legs for b in legs if a is not b and a.street != b.street]
    return InPieces(_led_round(made, road(q, id), parts.settings(q).traffic, moves))


def _led_round(
    vehicle: Vehicle, ground: shapely.Geometry, keep: Side, moves: list[tuple[Leg, Leg]]
) -> Pieces[tuple[Turning, ...]]:
    shapely.prepare(ground)
    found = []
    for begin, finish in moves:
        best = None
        for radius, come, go in _WAYS:
            yield
            led = _led(vehicle, ground, keep, begin, finish, (radius * vehicle.least_radius, come, go))
            if led is not None and (best is None or led.over_lip < best.over_lip - _ROUNDING):
                best = led
            if best is not None and best.over_lip == 0.0:
                break
        yield
        found.append(_told(vehicle, ground, begin, finish, best))
    return tuple(found)


@dataclass(frozen=True)
class _Led:
    """One way of leading a vehicle round: the radius, how far it reaches over a lip and a crown (m), and where its body's corners go."""

    radius: float
    over_lip: float
    over_crown: float
    corners: Floats


def _led(
    vehicle: Vehicle, ground: shapely.Geometry, keep: Side, begin: Leg, finish: Leg, way: tuple[float, float, float]
) -> _Led | None:
    path = _path(begin, finish, keep, *way)
    if path is None:
        return None
    corners = vehicle.body.corners(path, followed(path, vehicle.body.wheelbase))
    across = max((_into(corners, lane) for lane in _towards(begin, finish, keep)), default=0.0)
    return _Led(way[0], _outside(corners, ground), across, corners)


def _told(vehicle: Vehicle, ground: shapely.Geometry, begin: Leg, finish: Leg, led: _Led | None) -> Turning:
    if led is None:
        nowhere = (float("nan"), float("nan"))
        return Turning(vehicle.name, begin.name, finish.name, np.nan, np.nan, np.nan, np.empty((0, 4, 2)), nowhere)
    places = led.corners.reshape(-1, 2)
    if led.over_lip > 0.0:
        places = places[~shapely.contains_xy(ground, places[:, 0], places[:, 1])]
        places = places[[int(np.argmax(shapely.distance(ground, shapely.points(places))))]]
    at = point(places.mean(axis=0))
    return Turning(vehicle.name, begin.name, finish.name, led.radius, led.over_lip, led.over_crown, led.corners, at)


def _path(begin: Leg, finish: Leg, keep: Side, radius: float, come: float, go: float) -> Floats | None:
    """The path (n, 2) of a front axle's middle from one leg round to another; ``come`` and ``go`` are where in the legs' halves it runs, as
    shares of them from the crown. None where an arc of that radius touches neither.
    """
    # Coming, a vehicle keeps to the side that is the other one seen from the junction.
    own: Side = other_side(keep)
    offsets = side_sign(own) * come * begin.lip(own).one(_BEFORE), side_sign(keep) * go * finish.lip(keep).one(_AFTER)
    # It comes against the first leg's heading; the arc's centre lies a radius to one side of both its ways.
    coming, going = (float(leg.chain.at([0.0]).headings[0]) for leg in (begin, finish))
    turn = float(np.mod(going - coming, 2.0 * np.pi) - np.pi)
    left = 1.0 if turn > 0.0 else -1.0
    asides = np.stack([-left_normals(coming), left_normals(going)])
    if abs(np.linalg.det(asides)) < _STRAIGHT:
        return None
    if _is_straight(begin.chain) and _is_straight(finish.chain):
        return _between_straights(begin.chain, finish.chain, offsets, radius, turn)
    # As if both legs were straight: so far beside each way as its offset and the radius say.
    beside = np.array([-offsets[0], offsets[1]]) + left * radius
    near = begin.chain.points_at([0.0])[0] + np.linalg.solve(asides, beside)
    lines = OffsetLine(begin.chain, offsets[0], -left), OffsetLine(finish.chain, offsets[1], left)
    try:
        made = tangent_arc(*lines, radius, near)
    except DoesNotFit:
        return None
    if max(made.base_start, made.base_end) > _FURTHEST or min(made.base_start, made.base_end) < -radius:
        return None
    before, after = max(_BEFORE, made.base_start + 1.0), max(_AFTER, made.base_end + 1.0)
    path = [
        _beside(begin.chain, offsets[0], np.linspace(before, made.base_start, _PART)),
        made.chain.points_at(np.linspace(0.0, made.length, _PART)),
        _beside(finish.chain, offsets[1], np.linspace(made.base_end, after, _PART)),
    ]
    return _evenly(np.concatenate(path))


def _is_straight(chain: Chain) -> bool:
    """Whether a leg runs straight as far as matters."""
    return chain.k0[0] == chain.k1[0] == 0.0 and (chain.length[0] >= _FURTHEST or len(chain.length) == 1)


def _between_straights(
    begin: Chain, finish: Chain, offsets: tuple[float, float], radius: float, turn: float
) -> Floats | None:
    """The same between straight legs, where it has an answer: its arc touches both lines radius tan(turn / 2) from where they cross."""
    node, ahead = begin.xy[0], np.stack([-tangents(begin.heading[0]), tangents(finish.heading[0])])
    beside = np.stack([offsets[0] * left_normals(begin.heading[0]), offsets[1] * left_normals(finish.heading[0])])
    # node + beside0 + a ahead0 = node + beside1 + b ahead1
    a, b = np.linalg.solve(np.column_stack([ahead[0], -ahead[1]]), beside[1] - beside[0])
    tangent = radius * float(np.tan(0.5 * abs(turn)))
    first, last = a - tangent, b + tangent  # along both ways of travel, from beside the node
    if max(-first, last) > _FURTHEST or max(first, -last) > radius:
        return None
    start, way = node + beside[0] + first * ahead[0], np.sign(turn)
    bearing = float(np.arctan2(ahead[0, 1], ahead[0, 0]))
    centre = start + way * radius * left_normals(bearing)
    before, after, arc = max(_BEFORE, 1.0 - first), max(_AFTER, last + 1.0), radius * abs(turn)
    total = before + first + arc + after - last
    s = np.linspace(0.0, total, _STEPS)
    coming, going = s - (before + first), s - (before + first) - arc
    angles = bearing + way * np.clip(coming, 0.0, arc) / radius
    round_it = centre - way * radius * left_normals(angles)
    found: Floats = round_it + np.minimum(coming, 0.0)[:, None] * ahead[0] + np.maximum(going, 0.0)[:, None] * ahead[1]
    return found


def _beside(chain: Chain, offset: float, s: Floats) -> Floats:
    """Points (n, 2) beside a chain, and straight on before its beginning and beyond its end."""
    inside = np.clip(s, 0.0, chain.total)
    found: Floats = chain.points_at(inside, offset) + (s - inside)[:, None] * tangents(chain.at(inside).headings)
    return found


def _evenly(points: Floats) -> Floats:
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(points, axis=0).T))])
    s = np.linspace(0.0, along[-1], _STEPS)
    return np.column_stack([np.interp(s, along, points[:, 0]), np.interp(s, along, points[:, 1])])


def _towards(begin: Leg, finish: Leg, keep: Side) -> list[tuple[shapely.Geometry, shapely.Geometry]]:
    """The lanes of those that come towards a vehicle on the legs that it leaves and enters, away from the junction, each with its crown."""
    found = []
    for leg, side in ((begin, keep), (finish, other_side(keep))):
        first = min(_CLEAR * max(leg.left.one(0.0), leg.right.one(0.0)), leg.chain.total)
        s = np.linspace(first, min(_AFTER, leg.chain.total), 30)
        crown, lip = leg.chain.points_at(s), leg.chain.points_at(s, side_sign(side) * leg.lip(side)(s))
        lane = shapely.Polygon(np.concatenate([crown, lip[::-1]]))
        if lane.is_valid and lane.area > 0.0:
            shapely.prepare(lane)
            found.append((lane, shapely.LineString(crown)))
    return found


def _outside(corners: Floats, ground: shapely.Geometry) -> float:
    """How far a body whose corners (n, 4, 2) are told reaches beyond some ground (m)."""
    places = corners.reshape(-1, 2)
    beyond = places[~shapely.contains_xy(ground, places[:, 0], places[:, 1])]
    # Far off along the legs nothing is told.
    beyond = beyond[shapely.distance(ground, shapely.points(beyond)) < _FAR] if len(beyond) else beyond
    found = float(shapely.distance(ground, shapely.points(beyond)).max()) if len(beyond) else 0.0
    return found if found > _ROUNDING else 0.0


def _into(corners: Floats, lane: tuple[shapely.Geometry, shapely.Geometry]) -> float:
    """How far a body reaches over a crown into a lane (m)."""
    places = corners.reshape(-1, 2)
    inside = places[shapely.contains_xy(lane[0], places[:, 0], places[:, 1])]
    found = float(shapely.distance(lane[1], shapely.points(inside)).max()) if len(inside) else 0.0
    return found if found > _ROUNDING else 0.0


# What is wrong, and what people read

RULES = ("vehicle over a kerb", "car out of its lane")
_LARGE, _SMALL = "waste", "car"  # who has to be able to turn everywhere, and who has to without another's lane
_OUT_OF_LANE = 0.3  # metres over the crown that a car is let pass with
_COLUMNS = ("vehicle", "from", "to", "radius", "over the lip", "into lanes")


def turning_findings(q: Engine, id: str) -> tuple[Finding, ...]:
    """Where a waste collection vehicle reaches over a lip or cannot be led round, and where a car has to leave its lane."""
    of, found = ThingId("junction", id), []
    arms = arms_at(q, id)
    if not arms or not any(is_new(q, street) for street, _ in arms):
        return ()
    name, node = junction_name(q, *arms[0]), point(require_joint(q, *arms[0]).node)
    made = [q.attempt(turnings, id, vehicle) for vehicle in (_LARGE, _SMALL)]
    bad = next((m for m in made if isinstance(m, Unsolved)), None)
    if bad is not None:
        return (failed(bad, of, node),)
    large, small = ([] if isinstance(m, Unsolved) else m for m in made)
    for t in large:
        if np.isnan(t.radius):
            words = f"a {t.vehicle} cannot be led round from {t.begin} into {t.finish}"
            found.append(Finding(RULES[0], of, name, words, "let the streets meet more squarely", place=node))
        elif t.over_lip > 0.0:
            words = f"a {t.vehicle} that turns from {t.begin} into {t.finish} reaches {t.over_lip:.2f} m over a lip"
            remedy = "enlarge the return there, make it three-centred, or widen a street"
            found.append(Finding(RULES[0], of, name, words, remedy, t.over_lip, 0.0, place=t.worst))
    for t in small:
        if t.over_crown > _OUT_OF_LANE:
            words = (
                f"a car that turns from {t.begin} into {t.finish} reaches {t.over_crown:.2f} m into the lane of others"
            )
            remedy = "enlarge the return there, or widen a street"
            f = Finding(RULES[1], of, name, words, remedy, t.over_crown, _OUT_OF_LANE, place=t.worst, severity="near")
            found.append(f)
    return tuple(found)


def turning_sheet(q: Engine, id: str) -> Sheet:
    """The turning movements of every vehicle, those that reach over a lip first; what the chosen one covers is lit in plan."""
    rows = []
    for vehicle in VEHICLES:
        for t in turnings(q, id, vehicle.key):
            cells = (
                Fact("vehicle", "text", t.vehicle),
                Fact("from", "text", t.begin),
                Fact("to", "text", t.finish),
                Fact("radius", "length", t.radius) if np.isfinite(t.radius) else Fact("radius", "text", "none"),
                Fact("over the lip", "length", t.over_lip) if t.over_lip > 0.0 else None,
                Fact("into lanes", "length", t.over_crown) if t.over_crown > 0.0 else None,
            )
            rows.append((-t.over_lip if np.isfinite(t.over_lip) else -np.inf, SheetRow(cells, (0.0, -1.0), t.ring)))
    rows.sort(key=lambda row: row[0])
    arms = arms_at(q, id)
    note = (
        "Led round off the kerb, from lane to lane where that does, else swung out; the chosen one is lit in the plan"
    )
    line = StreetLine(arms[0][0] if arms else "")
    return Sheet("Turning", line, _COLUMNS, tuple(row for _, row in rows), note if rows else "No street turns off here")


def swept_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row for each vehicle and turning movement of every junction."""
    del every
    names = {
        id: junction_name(q, *arms_at(q, id)[0]) for id in dict.fromkeys(node_id(q, s, a) for s, a, _ in all_joints(q))
    }
    wanted = [id for id, name in names.items() if of in (None, id, name)]
    if not wanted and of is not None:
        raise NoSuchTable(f"there is no junction '{of}'; there are {', '.join(names.values()) or 'none'}")
    out = []
    for id in wanted:
        for vehicle in VEHICLES:
            for t in solved(q, of, turnings, id, vehicle.key) or ():
                out.append((names[id], t.vehicle, t.begin, t.finish, t.radius, t.over_lip, t.over_crown, *t.worst))
    columns = ("junction", "vehicle", "from", "to", "radius", "over_lip", "into_lanes", "easting", "northing")
    return Table(columns, tuple(out), (("easting", "northing"),))
