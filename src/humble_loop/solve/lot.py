"""Lots: cut along frontages, with pads whose levels sit within what driveway and drainage allow."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from shapely.geometry import LineString, Polygon

from humble_loop.geometry.arrays import Floats, frozen, left_normals
from humble_loop.ground.drape import Crossings, cross_segments
from humble_loop.ground.surface import Surface
from humble_loop.site.model import LotRow, Side, State
from humble_loop.solve import parts
from humble_loop.solve.engine import Engine, Unsolved, query
from humble_loop.solve.head import abeam, head_of, head_outline, require_head, ring_normals
from humble_loop.solve.street import chain_of, ground_of, lane_width, side_sign


@dataclass(frozen=True)
class LotCorner:
    """A front corner of a lot: on which edge of the road, how far along it, and its front and rear points (2,)."""

    edge: tuple[str, ...]
    along: float
    front: Floats
    rear: Floats


@dataclass(frozen=True)
class LotFrame:
    """A lot in plan: its name, row, and its corners in the direction of the row."""

    name: str
    row: LotRow
    first: LotCorner
    last: LotCorner


@query
def lots_of_row(q: Engine, street: str, row_id: str) -> tuple[LotFrame, ...]:
    """The lots of one row, in plan only."""
    row = next(r for r in parts.lot_rows_of(q, street) if r.id == row_id)
    corners = _round_head(q, street, row) if row.place == "head" else _along_side(q, street, row, row.place)
    letter = {"left": "L", "right": "R", "head": "H"}[row.place]
    name = parts.street_name(q, street)
    pairs = [(a, b) for run in corners for a, b in zip(run[:-1], run[1:])]
    return tuple(LotFrame(f"{name} {letter}{row.first_number + i}", row, a, b) for i, (a, b) in enumerate(pairs))


@query
def lots(q: Engine, street: str) -> tuple[LotFrame, ...]:
    """All lots along a street."""
    found: list[LotFrame] = []
    for row in parts.lot_rows_of(q, street):
        made = q.attempt(lots_of_row, street, row.id)
        if not isinstance(made, Unsolved):
            found.extend(made)
    return tuple(found)


@query
def lot_stations(q: Engine, street: str) -> tuple[tuple[tuple[str, ...], float], ...]:
    """Where lots' front corners stand, as (edge, distance along it)."""
    found = [(c.edge, c.along) for lot in lots(q, street) for c in (lot.first, lot.last)]
    return tuple(dict.fromkeys(found))


@query
def lot_cover(q: Engine, edge: tuple[str, ...]) -> tuple[tuple[float, float], ...]:
    """Stretches of an edge that lots adjoin, so that no batter stands there."""
    if edge[0] == "corner":
        return ()
    found = []
    for lot in lots(q, edge[1]):
        for kind, a, b in frontage_stretches(q, edge[1], lot):
            if kind == edge:
                found.append((a, b))
    return tuple(found)


def frontage_stretches(q: Engine, street: str, lot: LotFrame) -> list[tuple[tuple[str, ...], float, float]]:
    """The edges that a lot fronts, each with the stretch (low, high) along it, in the row's direction."""
    from humble_loop.solve.section import head_edge, strip_range

    a, b = lot.first, lot.last
    if a.edge == b.edge:
        return [(a.edge, min(a.along, b.along), max(a.along, b.along))]
    side: Side = "left" if lot.row.place == "left" else "right"
    high = strip_range(q, street, side)[1]
    ring = head_outline(q, street).ring.total
    begin = (0.0, b.along) if side == "left" else (b.along, ring)
    return [(a.edge, a.along, high), (head_edge(street), *begin)]


def _along_side(q: Engine, street: str, row: LotRow, side: Side) -> list[list[LotCorner]]:
    from humble_loop.solve.section import gaps, side_edge, side_shape, strip_range

    low, high = strip_range(q, street, side)
    begin = low if row.start is None else max(low, row.start)
    finish = high if row.end is None else min(high, row.end)
    reach_head = (
        row.end is None and head_of(q, street) is not None and not isinstance(q.attempt(head_outline, street), Unsolved)
    )
    boundary = side_shape(q, street, side).reach + lane_width(q, street, side)
    sign = side_sign(side)
    chain = chain_of(q, street)

    def corner(s: float) -> LotCorner:
        normal = left_normals(chain.at([s]).headings[0]) * sign
        front = chain.points_at([s], sign * boundary)[0]
        return LotCorner(side_edge(street, side), float(s), frozen(front), frozen(front + normal * row.depth))

    runs: list[list[LotCorner]] = []
    starts = [begin, *(b for _, b in gaps(q, street, side))]
    ends = [*(a for a, _ in gaps(q, street, side)), finish]
    for k, (a, b) in enumerate(zip(starts, ends)):
        a, b = max(a, begin), min(b, finish)
        last_run = k == len(starts) - 1
        if b - a < (0.0 if reach_head and last_run else row.frontage):
            continue
        s = np.unique(np.concatenate([np.arange(a, b, 0.5), [b], chain.key_chainages()]))
        s = s[(s >= a) & (s <= b)]
        p = chain.points_at(s, sign * boundary)
        length = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(p, axis=0).T))])
        extra = _head_part(q, street, side, boundary - lane_width(q, street, side)) if reach_head and last_run else 0.0
        straight = float(length[-1])
        n = max(1, int((straight + extra) / row.frontage + 1e-9))
        # The lot at the bulb's return takes all of it, so that its side lines cannot cross.
        last = max((straight + extra) / n, extra) if extra else 0.0
        share = straight - max(0.0, last - extra) if extra else straight
        m = max(1, int(share / row.frontage + 1e-9)) if share >= row.frontage * (1 - 1e-9) else 0
        cuts = np.linspace(0.0, share, m + 1) if m else np.array([share if extra else 0.0])
        run = [corner(float(np.interp(c, length, s))) for c in cuts]
        if extra:
            run.append(_abeam_corner(q, street, side, row))
        if len(run) > 1:
            runs.append(run)
    return runs


def _head_part(q: Engine, street: str, side: Side, reach: float) -> float:
    """Length of the boundary along the bulb's return and round to abeam its centre."""
    outline, head = head_outline(q, street), require_head(q, street)
    u = abeam(q, street, side)
    first = outline.ring.length[0] if side == "left" else outline.ring.length[2]
    on_bulb = u - outline.ring.starts[1] if side == "left" else outline.ring.starts[2] - u
    r = head.return_radius
    return float(first * (r - reach) / r + on_bulb * (head.radius + reach) / head.radius)


def _abeam_corner(q: Engine, street: str, side: Side, row: LotRow) -> LotCorner:
    from humble_loop.solve.section import head_edge, side_shape

    outline, head = head_outline(q, street), require_head(q, street)
    u = abeam(q, street, side)
    normal = ring_normals(outline, np.array([u]))[0]
    t = u / outline.ring.total
    reach = (1 - t) * side_shape(q, street, "left").reach + t * side_shape(q, street, "right").reach
    front = outline.ring.points_at([u])[0] + normal * reach
    # The rear line runs on from the straight row: the bulb eats into the lot's depth.
    depth = max(row.depth - (head.radius - lane_width(q, street, side)), 0.4 * row.depth)
    return LotCorner(head_edge(street), u, frozen(front), frozen(front + normal * depth))


def _round_head(q: Engine, street: str, row: LotRow) -> list[list[LotCorner]]:
    from humble_loop.solve.section import head_edge, side_shape

    outline = head_outline(q, street)
    first, last = abeam(q, street, "left"), abeam(q, street, "right")
    reach = side_shape(q, street, "left").reach
    r = require_head(q, street).radius
    n = max(1, int((last - first) * (r + reach) / r / row.frontage + 1e-9))
    u = np.linspace(first, last, n + 1)[1:-1]
    t = (u / outline.ring.total)[:, None]
    across = (1 - t) * reach + t * side_shape(q, street, "right").reach
    normals = ring_normals(outline, u)
    fronts = outline.ring.points_at(u) + normals * across
    inner = [
        LotCorner(head_edge(street), float(a), frozen(f), frozen(f + m * row.depth))
        for a, f, m in zip(u, fronts, normals)
    ]
    return [[_abeam_corner(q, street, "left", row), *inner, _abeam_corner(q, street, "right", row)]]


@dataclass(frozen=True)
class LotPlan:
    """A lot's outline and pad (open rings of points, (n, 2)), areas in m2, frontage in m."""

    outline: Floats
    pad: Floats
    area: float
    pad_area: float
    frontage: float
    frontage_middle: Floats


def find_lot(q: Engine, street: str, name: str) -> LotFrame:
    """The lot with that name on a street. Raises Unsolved when there is none."""
    found = next((lot for lot in lots(q, street) if lot.name == name), None)
    if found is None:
        raise Unsolved(name, "there is no such lot any more")
    return found


@query
def frontage_levels(q: Engine, street: str, name: str) -> Floats:
    """The boundary points (n, 3) along a lot's frontage, from its first corner to its last."""
    from humble_loop.solve.section import roadside

    lot = find_lot(q, street, name)
    pieces = []
    for edge, low, high in frontage_stretches(q, street, lot):
        side = roadside(q, edge)
        keep = (side.along >= low - 1e-6) & (side.along <= high + 1e-6)
        line = side.points[keep, -1]
        if edge[0] == "head" and lot.row.place == "right":
            line = line[::-1]
        pieces.append(line)
    points = np.concatenate(pieces)
    step = np.hypot(*np.diff(points[:, :2], axis=0).T)
    return frozen(points[np.concatenate([[True], step > 1e-7])])


@query
def frontage_plan(q: Engine, street: str, name: str) -> Floats:
    """The frontage in plan (n, 2): what only lies elsewhere in level leaves the lot as it was."""
    return frozen(frontage_levels(q, street, name)[:, :2])


@query
def lot_plan(q: Engine, street: str, name: str) -> LotPlan:
    """A lot's outline and its pad in plan."""
    lot = find_lot(q, street, name)
    front = frontage_plan(q, street, name)
    outline = np.concatenate([front, [lot.last.rear, lot.first.rear]])
    polygon = Polygon(outline)
    if not polygon.is_valid or polygon.area < 1.0:
        raise Unsolved(name, "its side lines cross, so it encloses nothing", "widen the frontage or lessen the depth")
    row = lot.row
    keep = polygon.difference(LineString(front).buffer(row.setback, cap_style="flat"))
    for a, b in ((lot.first.front, lot.first.rear), (lot.last.front, lot.last.rear)):
        keep = keep.difference(LineString([a, b]).buffer(row.side_gap))
    keep = keep.difference(LineString([lot.first.rear, lot.last.rear]).buffer(row.rear_gap))
    pieces = [g for g in getattr(keep, "geoms", [keep]) if isinstance(g, Polygon) and not g.is_empty]
    pad = max(pieces, key=lambda g: g.area).simplify(0.05) if pieces else Polygon()
    if pad.area < 20.0:
        raise Unsolved(
            name, "there is no room for a pad inside its setbacks", "lessen the setback or gaps, or enlarge the lot"
        )
    lengths = np.hypot(*np.diff(front, axis=0).T)
    middle = np.asarray(LineString(front).interpolate(0.5, normalized=True).coords[0])
    ring = np.asarray(shapely.geometry.polygon.orient(pad).exterior.coords)[:-1]
    return LotPlan(
        frozen(outline), frozen(ring), float(polygon.area), float(pad.area), float(lengths.sum()), frozen(middle)
    )


@dataclass(frozen=True)
class Pad:
    """A pad's level and the window that driveway and drainage leave it.

    ``boundary`` is the boundary's level at the middle of the frontage, ``run`` the distance from there to the
    pad; ``wanted`` the ground's median level under the pad, at which |cut| + |fill| is least.
    """

    level: float
    state: State
    low: float
    high: float
    boundary: float
    run: float
    wanted: float


@query
def pad(q: Engine, street: str, name: str) -> Pad:
    """A lot's pad: its set level, or the level nearest the ground within its window."""
    plan, rules = lot_plan(q, street, name), parts.street_class(q, street)
    front = frontage_levels(q, street, name)
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(front[:, :2], axis=0).T))])
    boundary = float(np.interp(0.5 * along[-1], along, front[:, 2]))
    run = float(Polygon(plan.pad).distance(shapely.Point(plan.frontage_middle)))
    low, high = boundary + rules.least_lot_fall * run, boundary + rules.most_driveway_grade * run
    wanted = ground_under_pad(q, street, name)
    chosen = parts.pad_level(q, name)
    if chosen is not None:
        return Pad(chosen, "set", low, high, boundary, run, wanted)
    level = float(np.clip(wanted, low, high)) if np.isfinite(wanted) else low
    return Pad(level, "proposed", low, high, boundary, run, wanted)


@query
def ground_under_pad(q: Engine, street: str, name: str) -> float:
    """The ground's median level under a pad; NaN where there is no ground."""
    return _median_ground(ground_of(q), lot_plan(q, street, name).pad)


def _median_ground(ground: Surface, ring: Floats) -> float:
    polygon = Polygon(ring)
    west, south, east, north = polygon.bounds
    x, y = np.meshgrid(np.arange(west + 0.5, east, 1.0), np.arange(south + 0.5, north, 1.0))
    points = np.column_stack([x.ravel(), y.ravel()])
    points = points[shapely.contains_xy(polygon, points[:, 0], points[:, 1])]
    z = ground.levels(points) if len(points) else np.array([])
    z = z[np.isfinite(z)]
    return float(np.median(z)) if z.size else float("nan")


@query
def ground_round_lot(q: Engine, street: str, name: str) -> tuple[Crossings, Crossings, Crossings]:
    """The ground along a lot's first side line, its last, and its rear line (from the last side to the first)."""
    lot, ground = find_lot(q, street, name), ground_of(q)
    lines = ((lot.first.front, lot.first.rear), (lot.last.front, lot.last.rear), (lot.last.rear, lot.first.rear))
    first, last, rear = (cross_segments(ground, a[None], b[None]) for a, b in lines)
    return first, last, rear


def side_line(c: Crossings, corner: LotCorner, level: float, cut_slope: float, fill_slope: float) -> Floats:
    """Points (n, 3) along a lot's side line from its front corner (at ``level``) to its rear, over ground ``c``.

    It runs at the batter slope from the boundary until it meets the ground, then lies on the ground, with a
    point at every triangle edge. Both neighbours work out the same line.
    """
    d = corner.rear - corner.front
    length = float(np.hypot(*d))
    unit = d / length
    known = np.isfinite(c.level)
    along, ground_level = c.along[known], c.level[known]
    if len(along) < 2:
        return np.array([[*corner.front, level], [*corner.rear, level]])
    slope = cut_slope if ground_level[0] > level else -fill_slope
    gap = level + slope * along - ground_level
    meets = np.flatnonzero(gap * np.sign(slope) >= 0)
    meets = meets[meets > 0] if abs(gap[0]) > 1e-9 else np.array([0])
    if meets.size:
        i = int(meets[0])
        at = along[i]
        if i > 0 and gap[i] != gap[i - 1]:
            at = along[i - 1] + (along[i] - along[i - 1]) * gap[i - 1] / (gap[i - 1] - gap[i])
        after = along > at + 1e-6
        t = np.concatenate([[0.0], [at] if at > 1e-6 else [], along[after]])
        z = np.concatenate([[level], [level + slope * at] if at > 1e-6 else [], ground_level[after]])
    else:
        t, z = np.array([0.0, length]), np.array([level, ground_level[-1]])
    return np.column_stack([corner.front + t[:, None] * unit, z])
