"""The finished surface: one watertight mesh in pieces, probed anywhere and measured against the ground.

Pieces share the points along which they meet: a roadside's boundary row is a lot's frontage, a return's points
are the junction's outline, a lot's side line is its neighbour's.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import shapely
from shapely.geometry import Polygon

from humble_loop.geometry.arrays import Bools, Floats, Ints
from humble_loop.ground.build import constrained_delaunay
from humble_loop.ground.drape import Crossings
from humble_loop.ground.surface import Surface
from humble_loop.ground.volume import Volume, volume_between
from humble_loop.site.model import End, Side
from humble_loop.solve import parts
from humble_loop.solve.engine import Engine, Unsolved, query
from humble_loop.solve.head import head_levels, head_of, head_outline
from humble_loop.solve.junction import (
    ENDS,
    Joint,
    joint,
    junction_name,
    kerb_return,
    leg_of,
    leg_side,
    require_joint,
    throat,
    through_lip,
)
from humble_loop.solve.lot import find_lot, frontage_levels, ground_round_lot, lot_plan, lots, pad, side_line
from humble_loop.solve.section import (
    Edge,
    batters,
    corner_edge,
    edges,
    half_road,
    head_edge,
    is_new,
    roadside,
)
from humble_loop.solve.street import chain_of, crown_levels, ground_of

PieceId = tuple[str, ...]


@dataclass(frozen=True)
class Piece:
    """A piece of the finished surface: its title, its kind and its mesh."""

    title: str
    kind: str
    surface: Surface


@query
def street_pieces(q: Engine, street: str) -> tuple[PieceId, ...]:
    """The pieces that belong to a street: carriageway, roadsides, batters, junctions at its ends, bulb, lots."""
    if not is_new(q, street):
        return ()
    found: list[PieceId] = [("carriageway", street, "left"), ("carriageway", street, "right")]
    for edge in edges(q, street):
        found += [("roadside", *edge), ("batter", *edge)]
    for end in ENDS:
        if isinstance(q.attempt(joint, street, end), Joint):
            found.append(("junction", street, end))
    if head_of(q, street) is not None:
        found.append(("bulb", street))
    found += [("lot", street, lot.name) for lot in lots(q, street)]
    return tuple(found)


@query
def all_pieces(q: Engine) -> tuple[PieceId, ...]:
    """Every piece of the site."""
    return tuple(p for s in parts.street_ids(q) for p in street_pieces(q, s))


@query
def finished_mesh(q: Engine, piece: PieceId) -> Piece:
    """The mesh of one piece."""
    kind, rest = piece[0], piece[1:]
    if kind == "carriageway":
        return _carriageway(q, rest[0], rest[1])  # type: ignore[arg-type]
    if kind == "roadside":
        side = roadside(q, rest)
        return Piece(f"{side.title} roadside", "roadside", _strips(side.points, side.joined))
    if kind == "batter":
        return _batter(q, rest)
    if kind == "junction":
        return _junction(q, rest[0], rest[1])  # type: ignore[arg-type]
    if kind == "bulb":
        return _bulb(q, rest[0])
    return _lot(q, rest[0], rest[1])


def _strips(points: Floats, joined: Bools) -> Surface:
    """Triangles between rows of points (n, k, 3), except between rows that are not joined."""
    n, k, _ = points.shape
    if n < 2:
        return Surface(np.empty((0, 3)), np.empty((0, 3), dtype=np.int64))
    i, j = np.meshgrid(np.flatnonzero(joined), np.arange(k - 1), indexing="ij")
    a = (i * k + j).ravel()
    b, c, d = a + 1, a + k, a + k + 1
    triangles = np.concatenate([np.stack([a, b, d], axis=1), np.stack([a, d, c], axis=1)])
    flat = points.reshape(-1, 3)
    return Surface(flat, _with_area(flat, triangles))


def _with_area(points: Floats, triangles: Ints) -> Ints:
    p = points[triangles]
    u, v = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    return triangles[np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]) > 1e-9]


def _carriageway(q: Engine, street: str, side: Side) -> Piece:
    half = half_road(q, street, side)
    points = np.stack([half.crown, half.lip], axis=1)
    joined = np.ones(max(len(points) - 1, 0), dtype=bool)
    return Piece(f"{parts.street_name(q, street)} carriageway, {side}", "carriageway", _strips(points, joined))


def _batter(q: Engine, edge: Edge) -> Piece:
    side, made = roadside(q, edge), batters(q, edge)
    hinge, toe = side.points[made.index, -1], made.toes.points.copy()
    toe[:, 2] = np.where(np.isfinite(toe[:, 2]), toe[:, 2], hinge[:, 2])
    return Piece(f"{side.title} batter", "batter", _strips(np.stack([hinge, toe], axis=1), made.joined))


def filled(outline: Floats, inner: list[Floats]) -> Surface:
    """Triangles inside a closed outline (n, 3), with the lines of ``inner`` (each (k, 3)) as edges.

    Points of the inner lines that stand on the outline are the outline's own.
    """
    everything = np.concatenate([outline, *inner]) if inner else outline
    keys = np.round(everything[:, :2] / 1e-6).astype(np.int64)
    _, first, inverse = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    inverse = inverse.ravel()
    points = everything[first]
    n = len(outline)
    ring = np.stack([inverse[np.arange(n)], inverse[(np.arange(n) + 1) % n]], axis=1)
    pairs, start = [ring], n
    for line in inner:
        at = inverse[start : start + len(line)]
        start += len(line)
        pairs.append(np.stack([at[:-1], at[1:]], axis=1))
    edges_ = np.concatenate(pairs)
    edges_ = edges_[edges_[:, 0] != edges_[:, 1]]
    corners, triangles = constrained_delaunay(points[:, :2], edges_)
    if len(corners) > len(points):
        raise ValueError("lines that should not cross do")
    middle = corners[triangles].mean(axis=1)
    polygon = Polygon(outline[:, :2])
    inside = shapely.contains_xy(polygon.buffer(1e-7), middle[:, 0], middle[:, 1])
    return Surface(points, _with_area(points, triangles[inside]))


def _between(points: Floats, along: Floats, low: float, high: float) -> Floats:
    keep = (along >= min(low, high) - 1e-6) & (along <= max(low, high) + 1e-6)
    return points[keep] if low <= high else points[keep][::-1]


def _junction(q: Engine, street: str, end: End) -> Piece:
    """From the through lip between the two returns, round both returns, to the side street's own carriageway."""
    t, name = throat(q, street, end), junction_name(q, street, end)
    returns = {c: kerb_return(q, street, end, c) for c in ("left", "right")}
    lips = {c: roadside_or_return(q, street, end, c) for c in ("left", "right")}
    through = _through_lip_points(q, street, end, returns["left"].through_at, returns["right"].through_at)
    halves = {c: half_road(q, street, leg_side(end, c)) for c in ("left", "right")}
    right, left = returns["right"].side_chainage, returns["left"].side_chainage
    near = 0 if end == "start" else -1
    longer = halves["right"] if (right < left) == (end == "start") else halves["left"]
    crown = _between(longer.crown, longer.chainages, right, left)
    outline = np.concatenate(
        [
            through[:-1],
            lips["right"][:-1],
            halves["right"].lip[[near]],
            crown,
            halves["left"].lip[[near]],
            lips["left"][::-1][1:-1],
        ]
    )
    nearest = min(returns["left"].leg_at, returns["right"].leg_at)
    u = np.linspace(t.leg_at, nearest, max(2, int((nearest - t.leg_at) / 1.0) + 1))
    leg = leg_of(q, street, end)
    s = u if end == "start" else leg.total - u
    s[0] = t.side_chainage
    line = np.column_stack([leg.points_at(u), crown_levels(q, street, s)])
    line[0] = [*t.point, t.level]
    inner = halves["left"] if returns["left"].leg_at <= returns["right"].leg_at else halves["right"]
    line[-1] = inner.crown[near]
    return Piece(f"{name} junction", "junction", filled(outline, [line]))


def roadside_or_return(q: Engine, street: str, end: End, corner: Side) -> Floats:
    """The return's lip points (n, 3): the roadside's own where it could be made, else sampled afresh."""
    from humble_loop.solve.junction import return_levels

    side = q.attempt(roadside, corner_edge(street, end, corner))
    if not isinstance(side, Unsolved):
        return side.line("lip")
    made, levels = kerb_return(q, street, end, corner), return_levels(q, street, end, corner).cubic
    u = made.arc.chain.sampled(sag=parts.settings(q).arc_tolerance, interval=2.0)
    return np.column_stack([made.arc.chain.points_at(u), levels.level(u)])


def _through_lip_points(q: Engine, street: str, end: End, begin: float, finish: float) -> Floats:
    """The through lip's points (n, 3) from one return to the other, the throat among them."""
    j, lip, t = require_joint(q, street, end), through_lip(q, street, end), throat(q, street, end)
    if is_new(q, j.through):
        half = half_road(q, j.through, "left" if j.through_side > 0 else "right")
        return _between(half.lip, half.chainages, begin, finish)
    low, high = min(begin, finish), max(begin, finish)
    s = np.unique(np.concatenate([lip.profile.chainages, lip.chain.key_chainages(), [low, high, t.through_at]]))
    s = s[(s >= low) & (s <= high)]
    s = s[np.concatenate([[True], np.diff(s) > 1e-6])]
    points = np.column_stack([lip.chain.points_at(s, lip.offset), [lip.level(float(v)) for v in s]])
    return points if begin <= finish else points[::-1]


def _bulb(q: Engine, street: str) -> Piece:
    outline, levels = head_outline(q, street), head_levels(q, street)
    side = q.attempt(roadside, head_edge(street))
    if isinstance(side, Unsolved):
        u = outline.ring.sampled(sag=parts.settings(q).arc_tolerance)
        ring = np.column_stack([outline.ring.points_at(u), levels.profile.level(u)])
    else:
        u, ring = side.along, side.line("lip")
    left, right = half_road(q, street, "left"), half_road(q, street, "right")
    longer = right if outline.base_right > outline.base_left else left
    crown = _between(longer.crown, longer.chainages, outline.base_right, outline.base_left)
    border = np.concatenate([left.lip[[-1]], ring[1:-1], right.lip[[-1]], crown])
    chain = chain_of(q, street)
    begin = max(outline.base_left, outline.base_right)
    s = np.linspace(begin, chain.total, max(2, int((chain.total - begin) / 2.0) + 1))
    line = np.column_stack([chain.points_at(s), crown_levels(q, street, s)])
    line[0] = longer.crown[-1]
    centre = np.array([*outline.centre, levels.centre])
    on_bulb = (u >= outline.ring.starts[1]) & (u <= outline.ring.starts[2])
    # A ring half way out keeps the bulb a cone instead of a few long triangles; it stays clear of the crown line.
    half = 0.5 * (ring[on_bulb][::3] + centre)
    polygon = Polygon(border[:, :2])
    keep = shapely.contains_xy(polygon.buffer(-0.3), half[:, 0], half[:, 1])
    keep &= shapely.distance(shapely.points(half[:, :2]), shapely.linestrings(line[:, :2])) > 0.5
    inner = [line]
    if np.hypot(*(line[-1, :2] - centre[:2])) > 1e-6:
        inner.append(np.stack([line[-1], centre]))
    inner += [point[None] for point in half[keep]]
    return Piece(f"{parts.street_name(q, street)} bulb", "bulb", filled(border, inner))


def _lot(q: Engine, street: str, name: str) -> Piece:
    lot, plan, level = find_lot(q, street, name), lot_plan(q, street, name), pad(q, street, name).level
    front = frontage_levels(q, street, name)
    side = roadside(q, lot.first.edge)
    ground_first, ground_last, ground_rear = ground_round_lot(q, street, name)
    first = side_line(ground_first, lot.first, float(front[0, 2]), side.cut_slope, side.fill_slope)
    last = side_line(ground_last, lot.last, float(front[-1, 2]), side.cut_slope, side.fill_slope)
    rear = _on_ground(ground_rear, last[-1], first[-1])
    outline = np.concatenate([front, last[1:], rear[1:-1], first[::-1][:-1]])
    ring = np.column_stack([plan.pad, np.full(len(plan.pad), level)])
    return Piece(name, "lot", filled(outline, [np.concatenate([ring, ring[:1]])]))


def _on_ground(c: Crossings, start: Floats, end: Floats) -> Floats:
    d = end[:2] - start[:2]
    length = float(np.hypot(*d))
    keep = np.isfinite(c.level) & (c.along > 1e-6) & (c.along < length - 1e-6)
    t = c.along[keep]
    between = np.column_stack([start[:2] + t[:, None] * d / length, c.level[keep]])
    return np.concatenate([start[None], between, end[None]])


@query
def piece_volume(q: Engine, piece: PieceId) -> Volume:
    """Cut and fill of one piece against the current ground."""
    return volume_between(ground_of(q), finished_mesh(q, piece).surface)


class Probe(NamedTuple):
    """What is at a place: ground and finished level (NaN where none), the piece, and the finished surface's slope.

    ``fall`` is the steepest fall as a positive ratio, ``fall_heading`` its direction in radians from east.
    """

    ground: float
    finished: float
    piece: PieceId | None
    title: str
    fall: float
    fall_heading: float


def probe(q: Engine, easting: float, northing: float) -> Probe:
    """The ground and the finished surface at a place."""
    at = np.array([[easting, northing]])
    ground = float(ground_of(q).levels(at)[0])
    for piece in all_pieces(q):
        made = q.attempt(finished_mesh, piece)
        if isinstance(made, Unsolved) or made.surface.empty:
            continue
        west, south, east, north = made.surface.bounds
        if not (west <= easting <= east and south <= northing <= north):
            continue
        level = float(made.surface.levels(at)[0])
        if np.isfinite(level):
            gx, gy = made.surface.slopes(at)[0]
            return Probe(ground, level, piece, made.title, float(np.hypot(gx, gy)), float(np.arctan2(-gy, -gx)))
    gx, gy = ground_of(q).slopes(at)[0]
    return Probe(ground, float("nan"), None, "ground", float(np.hypot(gx, gy)), float(np.arctan2(-gy, -gx)))


def whole_surface(q: Engine) -> Surface:
    """All pieces that could be made as one surface, their shared points merged."""
    meshes = [m.surface for p in all_pieces(q) if not isinstance(m := q.attempt(finished_mesh, p), Unsolved)]
    meshes = [m for m in meshes if not m.empty]
    if not meshes:
        return Surface(np.empty((0, 3)), np.empty((0, 3), dtype=np.int64))
    shift = np.cumsum([0, *(len(m.points) for m in meshes[:-1])])
    points = np.concatenate([m.points for m in meshes])
    triangles = np.concatenate([m.triangles + s for m, s in zip(meshes, shift)])
    keys = np.round(points[:, :2] / 1e-5).astype(np.int64)
    _, first, inverse = np.unique(keys, axis=0, return_index=True, return_inverse=True)
    merged = inverse.ravel()[triangles]
    merged = merged[(merged[:, 0] != merged[:, 1]) & (merged[:, 1] != merged[:, 2]) & (merged[:, 0] != merged[:, 2])]
    return Surface(points[first], merged)
