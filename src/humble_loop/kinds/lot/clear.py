"""Lots clear of other streets' reserves, corner splays included, and of lots that were cut before them.

All of this is in plan and rests on nothing that has a level.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
import shapely

from humble_loop.engine.in_pieces import InPieces, Pieces
from humble_loop.engine.query import Engine, Unsolved, gate, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.united import united
from humble_loop.kinds.lot.layout import LotFrame, lot, lots_of_row, rows_of
from humble_loop.kinds.lot.model import LotRow
from humble_loop.kinds.street.plan import box, boxes, street_ids
from humble_loop.lines.kind import Reserve
from humble_loop.lines.line import LineId, line_plan
from humble_loop.lines.standing import kinds
from humble_loop.site import parts

_SLIVER = 0.05  # m2 that a lot may share with a reserve as a matter of rounding
_ON = 2e-3  # metres from a line within which an edge lies on it
_HAIR = 1e-6  # metres: the width of a spike that is a matter of rounding
_SAG = 0.01
_ROOM = 30.0  # metres beyond the deepest lot within which other streets are looked for

Part = Literal["front", "first", "last", "rear", "cut"]


@dataclass(frozen=True)
class Edge:
    """Part of a lot's outline: points (n, 2), and where it comes from.

    ``line`` is the other street's boundary that it lies on, for a cut; None where another lot was there first.
    """

    part: Part
    points: Floats
    line: LineId | None = None


@dataclass(frozen=True)
class Cleared:
    """A lot that something else has cut into: its outline edge by edge, in the direction of the row, what is left, and
    ``by`` which lots it was cut.
    """

    edges: tuple[Edge, ...]
    polygon: shapely.Polygon
    by: tuple[str, ...]


@gate
def _deepest(q: Engine) -> float:
    """The greatest depth of any lot, in metres."""
    return max((row.depth for street in street_ids(q) for row in rows_of(q, street)), default=0.0)


@gate
def neighbours(q: Engine, street: str) -> tuple[str, ...]:
    """Streets so near that lots of either may reach the other, itself not among them, in order of their ids."""
    every, (w, s, e, n), far = boxes(q), box(q, street), _deepest(q) + _ROOM
    b = every.boxes
    hit = (b[:, 0] <= e + far) & (b[:, 2] >= w - far) & (b[:, 1] <= n + far) & (b[:, 3] >= s - far)
    return tuple(sorted(every.ids[i] for i in np.flatnonzero(hit) if every.ids[i] != street))


def _reserves(q: Engine, street: str) -> list[Reserve]:
    found: list[Reserve] = []
    for kind in kinds():
        try:
            found += kind.reserves(q, street)
        except Unsolved:
            continue  # what cannot be laid out takes no land; that it cannot is a finding of its own
    return found


@query
def reserves_near(q: Engine, street: str) -> tuple[Reserve, ...]:
    """Reserves of a street and of those near it, with their corners and heads."""
    return tuple(r for other in (street, *neighbours(q, street)) for r in _reserves(q, other))


def raw_edges(q: Engine, frame: LotFrame) -> list[Edge]:
    """A lot's outline as it is cut from its row alone."""
    front = np.concatenate(
        [
            _points(q, stretch.line, stretch.begin, stretch.finish)[(0 if k == 0 else 1) :]
            for k, stretch in enumerate(frame.frontage)
        ]
    )
    a, b = frame.first, frame.last
    return [
        Edge("front", front),
        Edge("last", np.array([front[-1], b.rear])),
        Edge("rear", np.array([b.rear, a.rear])),
        Edge("first", np.array([a.rear, front[0]])),
    ]


@query
def _along(q: Engine, id: LineId) -> Floats:
    """Chainages that follow a line: once for all lots along it."""
    plan = line_plan(q, id)
    s, kinks = plan.base.sampled(_SAG, np.inf, float(np.abs(plan.offset.values).max())), plan.offset.at
    return np.union1d(s, kinks[(kinks > 0) & (kinks < plan.base.total)])


def _points(q: Engine, id: LineId, begin: float, finish: float) -> Floats:
    low, high = min(begin, finish), max(begin, finish)
    s = _along(q, id)
    s = np.concatenate([[low], s[np.searchsorted(s, low + 1e-6, "right") : np.searchsorted(s, high - 1e-6)], [high]])
    return line_plan(q, id).points(s if begin <= finish else s[::-1])


def _earlier_rows(q: Engine, row: LotRow) -> list[LotRow]:
    """Rows whose lots stand where this row's might: those that come before it in the order of ids."""
    streets = (row.street, *neighbours(q, row.street))
    return [other for street in streets for other in rows_of(q, street) if other.id < row.id]


@query
def row_land(q: Engine, row: str) -> tuple[tuple[str, shapely.Geometry], ...]:
    """What the lots of a row take, by their ids, each cleared of what came before it."""
    found = []
    for frame in lots_of_row(q, row):
        made = q.attempt(cleared, frame.id)
        if isinstance(made, Unsolved):
            continue
        found.append((frame.id, made.polygon if made else _polygon(raw_edges(q, frame))))
    return tuple(found)


def _polygon(edges: list[Edge]) -> shapely.Polygon:
    return shapely.Polygon(np.concatenate([e.points[:-1] for e in edges]))


@query
def _raw_row(q: Engine, row: str) -> tuple[tuple[LotFrame, shapely.Polygon], ...]:
    """The lots of a row as they are cut from it alone, without those whose side lines cross."""
    made = ((frame, _polygon(raw_edges(q, frame))) for frame in lots_of_row(q, row))
    return tuple((frame, polygon) for frame, polygon in made if polygon.is_valid)


@query
def _folded(q: Engine, row: str) -> tuple[tuple[str, str], ...]:
    """Lots of one row that reach into earlier ones, as they may where the street turns back: (lot, earlier lot)."""
    frames, polygons = zip(*_raw_row(q, row), strict=True) if _raw_row(q, row) else ((), ())
    later, earlier = shapely.STRtree(polygons).query(np.array(polygons, dtype=object), predicate="intersects")
    pairs = [(i, j) for i, j in zip(later.tolist(), earlier.tolist()) if frames[j].number < frames[i].number - 1]
    return tuple((frames[i].id, frames[j].id) for i, j in pairs if _reaches(polygons[i], polygons[j]))


def _earlier_in_row(q: Engine, frame: LotFrame) -> list[tuple[str, shapely.Geometry]]:
    """What is left of earlier lots of the same row that a lot reaches into."""
    raw = {other.id: polygon for other, polygon in _raw_row(q, frame.row.id)}
    found = []
    for id, other in _folded(q, frame.row.id):
        if id == frame.id and not isinstance(made := q.attempt(cleared, other), Unsolved):
            found.append((other, made.polygon if made else raw[other]))
    return found


@query
def cleared(q: Engine, id: str) -> Cleared | None:
    """A lot that reaches into a reserve or an earlier lot, cut clear of it; None where it reaches into nothing.

    Raises Unsolved where nothing of it is left.
    """
    frame = lot(q, id)
    edges = raw_edges(q, frame)
    whole = _polygon(edges)
    if not whole.is_valid:
        return None  # its side lines cross, which is told where it is laid out
    reserves, lands = _reached(q, id).result(q)
    if not reserves and not lands:
        return None
    rest = whole.difference(united([*(r.plan for r in reserves), *(land for _, land in lands)]))
    pieces = [g for g in shapely.get_parts(rest) if isinstance(g, shapely.Polygon) and g.area > _SLIVER]
    front = shapely.LineString(edges[0].points)
    pieces = [g for g in pieces if g.distance(front) < _ON] or pieces
    if not pieces:
        raise Unsolved(
            frame.name, "it lies wholly in other streets or lots", "shorten its row, or move one of the streets"
        )
    polygon = _without_spikes(max(pieces, key=lambda g: g.area))
    ring = shapely.get_coordinates(
        shapely.geometry.polygon.orient(polygon, -1.0 if _clockwise(whole) else 1.0).exterior
    )
    return Cleared(_told(q, frame, edges, reserves, ring), polygon, tuple(other for other, _ in lands))


_Land = tuple[str, shapely.Geometry]


@query
def _reached(q: Engine, id: str) -> InPieces[tuple[list[Reserve], list[_Land]]]:
    """The reserves and the earlier lots that a lot reaches into."""
    frame = lot(q, id)
    rows = [q.attempt(row_land, row.id) for row in _earlier_rows(q, parts.one(q, LotRow, frame.row.id))]
    lands = [one for made in rows if not isinstance(made, Unsolved) for one in made]
    whole = _polygon(raw_edges(q, frame))
    return InPieces(_reaching(whole, reserves_near(q, frame.row.street), [*lands, *_earlier_in_row(q, frame)]))


def _reaching(
    whole: shapely.Polygon, reserves: Sequence[Reserve], lands: Sequence[_Land]
) -> Pieces[tuple[list[Reserve], list[_Land]]]:
    """One after the other: a street that is folded upon itself has a reserve that takes long to be asked."""
    near, there = _meet(whole, [r.plan for r in reserves]), _meet(whole, [land for _, land in lands])
    found: list[Reserve] = []
    for k in near:
        yield
        if _reaches(whole, reserves[k].plan):
            found.append(reserves[k])
    earlier: list[_Land] = []
    for k in there:
        yield
        other, land = lands[k]
        if not land.is_valid:  # a lot whose side lines cross, which is told where it is laid out
            land = shapely.make_valid(land)
        if _reaches(whole, land):
            earlier.append((other, land))
    return found, earlier


def _meet(whole: shapely.Polygon, others: Sequence[shapely.Geometry]) -> list[int]:
    """Which of some geometries have boxes that meet a polygon's."""
    if not others:
        return []
    (w, s, e, n), b = whole.bounds, shapely.bounds(np.array(others, dtype=object))
    return np.flatnonzero((b[:, 0] <= e) & (b[:, 2] >= w) & (b[:, 1] <= n) & (b[:, 3] >= s)).tolist()


def _without_spikes(polygon: shapely.Polygon) -> shapely.Polygon:
    """A polygon without corners at which its outline turns straight back, as it does along an end that lies on a side line."""
    ring = shapely.get_coordinates(polygon.exterior)[:-1].tolist()
    k = 0
    while k < len(ring) and len(ring) > 3:
        a, b, c = (shapely.Point(ring[(k + step) % len(ring)]) for step in (-1, 0, 1))
        if min(shapely.LineString([b, c]).distance(a), shapely.LineString([a, b]).distance(c)) < _HAIR:
            del ring[k]
            k = max(k - 2, 0)
        else:
            k += 1
    return shapely.Polygon(ring, polygon.interiors)


def _reaches(whole: shapely.Geometry, other: shapely.Geometry) -> bool:
    """Whether a lot overlaps what is asked about time and again, lot by lot: its edges are indexed once."""
    shapely.prepare(other)
    if not shapely.intersects(other, whole) or shapely.touches(other, whole):
        return False
    return bool(shapely.intersection(whole, other).area > _SLIVER)


def _clockwise(polygon: shapely.Polygon) -> bool:
    return not polygon.exterior.is_ccw


@query
def _path(q: Engine, id: LineId) -> shapely.LineString:
    """A boundary line in plan: indexed once for all lots that are asked how far they are from it."""
    plan = line_plan(q, id)
    s = np.concatenate([np.empty(0), *plan.runs(_SAG, 5.0)])
    path = shapely.LineString(plan.points(s) if len(s) > 1 else [])  # a head may leave a street nothing of its side
    shapely.prepare(path)
    return path


def _told(q: Engine, frame: LotFrame, edges: list[Edge], reserves: list[Reserve], ring: Floats) -> tuple[Edge, ...]:
    """The ring (n + 1, 2) edge by edge, beginning with the frontage. Raises Unsolved where none of that is left."""
    lines: list[tuple[Part, LineId | None, shapely.LineString]] = [
        (e.part, None, shapely.LineString(e.points)) for e in edges
    ]
    lines += [("cut", id, _path(q, id)) for reserve in reserves for id in reserve.edges]
    middles = shapely.points(0.5 * (ring[:-1] + ring[1:]))
    far = np.array([shapely.distance(path, middles) for _, _, path in lines])
    far[np.isnan(far)] = np.inf  # from a line that has no length
    # The lot's own lines come first, so that they win where a reserve only touches them.
    which = np.where(
        far.min(axis=0) < 2 * _ON + _SAG, np.argmax(far < np.maximum(far.min(axis=0), _ON) + 1e-9, axis=0), -1
    )
    if not (which == 0).any():
        raise Unsolved(frame.name, "other streets or lots take its whole frontage", "shorten its row")
    turns = np.flatnonzero((which == 0) & (np.roll(which, 1) != 0))
    first = int(turns[0]) if len(turns) else 0
    order = np.roll(np.arange(len(which)), -first)
    found: list[Edge] = []
    for i in order:
        part: Part = lines[which[i]][0] if which[i] >= 0 else "cut"
        line = lines[which[i]][1] if which[i] >= 0 else None
        a, b = ring[i], ring[i + 1]
        if found and found[-1].part == part and found[-1].line == line:
            found[-1] = Edge(part, np.concatenate([found[-1].points, b[None]]), line)
        else:
            found.append(Edge(part, np.array([a, b]), line))
    return tuple(Edge(e.part, frozen(e.points), e.line) for e in found)


@gate
def contacts(q: Engine, street: str) -> tuple[tuple[LineId, float, float], ...]:
    """Stretches of boundaries besides their frontage that the lots along a street were cut clear of, and so adjoin."""
    found = []
    for row in rows_of(q, street):
        frames = q.attempt(lots_of_row, row.id)
        for frame in () if isinstance(frames, Unsolved) else frames:
            made = q.attempt(cleared, frame.id)
            if made is None or isinstance(made, Unsolved):
                continue
            for edge in made.edges:
                if edge.line is not None:
                    s, _ = line_plan(q, edge.line).foot(edge.points[[0, -1]])
                    found.append((edge.line, float(s.min()), float(s.max())))
    return tuple(found)


@query
def contacts_on(q: Engine, line: LineId) -> tuple[tuple[float, float], ...]:
    """Stretches of a boundary line that lots adjoin which do not front it there."""
    street = getattr(line, "street", None)
    if street is None:
        return ()
    streets = (street, *neighbours(q, street))
    return tuple((a, b) for other in streets for on, a, b in contacts(q, other) if on == line)
