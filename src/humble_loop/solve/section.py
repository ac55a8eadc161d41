"""Sections: rows of section points along streets, returns and bulbs, and batters that meet the ground.

An *edge* of the road is where a lip runs: one side of a street, a return, or the ring of a bulb. Each has the
same make-up, lip, kerb, verge, path, boundary and batter, so one roadside serves for all three.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Bools, Floats, frozen, left_normals, unique_chainages
from humble_loop.ground.meet import Toes, toes
from humble_loop.site.model import End, KerbPart, Side
from humble_loop.solve import parts
from humble_loop.solve.engine import Engine, Unsolved, query
from humble_loop.solve.head import head_levels, head_of, head_outline, ring_normals
from humble_loop.solve.junction import (
    ENDS,
    Return,
    corner_name,
    joint,
    joints_on,
    kerb_return,
    leg_side,
    require_joint,
    return_levels,
    throat,
)
from humble_loop.solve.street import (
    centreline,
    chain_of,
    crossfall,
    crown_levels,
    grade_line,
    ground_of,
    lane_width,
    side_sign,
)

_SHY = 0.9  # batters round a corner stop this far of the way to where they would all meet

Edge = tuple[str, ...]  # ('side', street, side) | ('corner', street, end, corner) | ('head', street)


def side_edge(street: str, side: Side) -> Edge:
    """The edge along one side of a street."""
    return ("side", street, side)


def corner_edge(street: str, end: End, corner: Side) -> Edge:
    """The edge along a return."""
    return ("corner", street, end, corner)


def head_edge(street: str) -> Edge:
    """The edge round a bulb."""
    return ("head", street)


@dataclass(frozen=True)
class SideShape:
    """A section side from its lip outwards: point names, distances out and rises above the lip (k,), in metres."""

    names: tuple[str, ...]
    out: Floats
    rise: Floats
    cut_slope: float
    fill_slope: float

    @property
    def reach(self) -> float:
        """Distance from the lip to the boundary in metres."""
        return float(self.out[-1])


@query
def side_shape(q: Engine, street: str, side: Side) -> SideShape:
    """The shape of a street's typical section outside the lip."""
    made = parts.section(q, street).side(side)
    names, out, rise = ["lip"], [0.0], [0.0]
    for p in made.parts[1:]:
        if isinstance(p, KerbPart):
            base_out, base_rise = out[-1], rise[-1]
            for k in parts.kerb_shape(q, p.kerb).points:
                names.append(k.point)
                out.append(base_out + k.out / 1000.0)
                rise.append(base_rise + k.up / 1000.0)
        else:
            names.append(p.to)
            out.append(out[-1] + p.width)
            rise.append(rise[-1] + p.width * p.grade)
    return SideShape(tuple(names), frozen(out), frozen(rise), made.cut_slope, made.fill_slope)


@query
def strip_range(q: Engine, street: str, side: Side) -> tuple[float, float]:
    """Chainages between which a side of a street has its own lip: from the end of one return to the next, or the bulb."""
    low, high = 0.0, chain_of(q, street).total
    for end in ENDS:
        j = q.attempt(joint, street, end)
        if j is None or isinstance(j, Unsolved):
            continue
        made = q.attempt(kerb_return, street, end, leg_side(end, side))
        if isinstance(made, Return):
            at = made.side_chainage
        else:
            t = q.attempt(throat, street, end)
            at = (0.0 if end == "start" else high) if isinstance(t, Unsolved) else t.side_chainage
        low, high = (max(low, at), high) if end == "start" else (low, min(high, at))
    if head_of(q, street) is not None:
        outline = q.attempt(head_outline, street)
        if not isinstance(outline, Unsolved):
            high = min(high, outline.base_left if side == "left" else outline.base_right)
    return low, max(low, high)


@query
def gaps(q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
    """Chainages between which a side's kerb is interrupted by side streets."""
    found = []
    for other, end in joints_on(q, street):
        j = require_joint(q, other, end)
        if (j.through_side > 0) != (side == "left"):
            continue
        ends = [q.attempt(kerb_return, other, end, c) for c in ("left", "right")]
        at = [r.through_at for r in ends if isinstance(r, Return)]
        if len(at) == 2:
            found.append((min(at), max(at)))
    return tuple(sorted(found))


@query
def rows(q: Engine, street: str) -> Floats:
    """Chainages at which sections are worked out.

    Every interval, every key point of the centreline, grade line, junctions, bulb and lots, and on arcs as
    close as the arc tolerance needs.
    """
    from humble_loop.solve.lot import lot_stations

    settings, chain = parts.settings(q), chain_of(q, street)
    keys: list[Floats] = [chain.key_chainages()]
    outermost = 0.0
    for side in ("left", "right"):
        keys.append(np.array(strip_range(q, street, side)))
        keys.append(np.array(gaps(q, street, side)).ravel())
        outermost = max(outermost, side_shape(q, street, side).reach + lane_width(q, street, side))
    for end in ENDS:
        if q.attempt(joint, street, end) is not None:
            t = q.attempt(throat, street, end)
            if not isinstance(t, Unsolved):
                keys.append(np.array([t.side_chainage]))
    for other, end in joints_on(q, street):
        t = q.attempt(throat, other, end)
        if not isinstance(t, Unsolved):
            keys.append(np.array([t.through_at]))
    keys.append(np.array([s for edge, s in lot_stations(q, street) if edge[0] == "side"]))
    profile = q.attempt(grade_line, street)
    vertical: ArrayLike = (
        profile.profile.key_chainages()
        if not isinstance(profile, Unsolved) and profile.profile.chainages.size < 60
        else []
    )
    interval = np.arange(0.0, chain.total, settings.row_interval)
    curves = chain.sampled(sag=settings.arc_tolerance, reach=outermost)
    return frozen(unique_chainages(*keys, vertical, interval, curves, low=0.0, high=chain.total, gap=1e-4))


@dataclass(frozen=True)
class HalfRoad:
    """One half of a carriageway: rows of crown and lip points (n, 3) at ``chainages`` (n,)."""

    chainages: Floats
    crown: Floats
    lip: Floats


def is_new(q: Engine, street: str) -> bool:
    """Whether a street is designed here (existing ones are left as the ground shows them)."""
    return parts.street_frame(q, street).kind == "new"


@query
def half_road(q: Engine, street: str, side: Side) -> HalfRoad:
    """One half of a street's carriageway, between its junctions and head."""
    low, high = strip_range(q, street, side)
    s = rows(q, street)
    s = s[(s >= low - 1e-6) & (s <= high + 1e-6)]
    chain = chain_of(q, street)
    width = lane_width(q, street, side)
    crown = crown_levels(q, street, s)
    lip = crown + crossfall(q, street, side)(s) * width
    known = np.isfinite(crown)
    s, crown, lip = s[known], crown[known], lip[known]
    return HalfRoad(
        frozen(s),
        frozen(np.column_stack([chain.points_at(s), crown])),
        frozen(np.column_stack([chain.points_at(s, side_sign(side) * width), lip])),
    )


@dataclass(frozen=True)
class Roadside:
    """Rows of section points outside a lip.

    ``along`` (n,) is the chainage of the street or the distance along the return or ring; ``points`` (n, k, 3)
    run from the lip outwards and are named by ``names`` (k,); ``outwards`` (n, 2) are unit vectors; ``joined``
    (n - 1,) is false where the kerb is interrupted between two rows; ``reach`` (n,) bounds the batters.
    """

    title: str
    along: Floats
    points: Floats
    names: tuple[str, ...]
    outwards: Floats
    joined: Bools
    reach: Floats
    cut_slope: float
    fill_slope: float

    def line(self, name: str) -> Floats:
        """Points (n, 3) of the section point ``name``."""
        return np.asarray(self.points[:, self.names.index(name)])


def _swept(lip: Floats, outwards: Floats, out: Floats, rise: Floats) -> Floats:
    """Points (n, k, 3) at ``out`` (n, k) metres along ``outwards`` from ``lip`` (n, 3), ``rise`` (n, k) above it."""
    points = np.repeat(lip[:, None, :], out.shape[1], axis=1)
    points[:, :, :2] += outwards[:, None, :] * out[:, :, None]
    points[:, :, 2] += rise
    return frozen(points)


@query
def roadside(q: Engine, edge: Edge) -> Roadside:
    """The section points outside one edge of the road."""
    if edge[0] == "side":
        return _along_street(q, edge[1], edge[2])  # type: ignore[arg-type]
    if edge[0] == "corner":
        return _round_corner(q, edge[1], edge[2], edge[3])  # type: ignore[arg-type]
    return _round_head(q, edge[1])


def _along_street(q: Engine, street: str, side: Side) -> Roadside:
    half, shape = half_road(q, street, side), side_shape(q, street, side)
    s, lip = half.chainages, half.lip
    keep = np.ones(len(s), dtype=bool)
    holes = gaps(q, street, side)
    for a, b in holes:
        keep &= (s <= a + 1e-6) | (s >= b - 1e-6)
    s, lip = s[keep], lip[keep]
    middle = 0.5 * (s[:-1] + s[1:])
    joined = np.ones(max(len(s) - 1, 0), dtype=bool)
    for a, b in holes:
        joined &= ~((middle > a) & (middle < b))
    outwards = left_normals(chain_of(q, street).at(s).headings) * side_sign(side)
    n = len(s)
    points = _swept(lip, outwards, np.tile(shape.out, (n, 1)), np.tile(shape.rise, (n, 1)))
    reach = np.full(n, parts.settings(q).batter_reach)
    for r, at, shrink in _corners_beside(q, street, side):
        inner = r.arc.radius - shrink
        if inner > 0:
            # Batters of the two legs would cross beyond the line that halves the corner: they stop at it.
            d = np.abs(s - at)
            reach = np.minimum(reach, _SHY * (inner + d / np.tan(0.5 * min(r.arc.sweep, 3.0))))
    title = f"{parts.street_name(q, street)} {side}"
    return Roadside(
        title,
        frozen(s),
        points,
        shape.names,
        frozen(outwards),
        frozen(joined, np.bool_),
        frozen(reach),
        shape.cut_slope,
        shape.fill_slope,
    )


def _corners_beside(q: Engine, street: str, side: Side) -> list[tuple[Return, float, float]]:
    """Returns that touch this side, with the chainage where they do and the reach of their roadside."""
    found = []
    for end in ENDS:
        if q.attempt(joint, street, end) is None:
            continue
        r = q.attempt(kerb_return, street, end, leg_side(end, side))
        if isinstance(r, Return):
            found.append((r, r.side_chainage, side_shape(q, street, side).reach))
    for other, end in joints_on(q, street):
        j = require_joint(q, other, end)
        if (j.through_side > 0) == (side == "left"):
            for c in ("left", "right"):
                r = q.attempt(kerb_return, other, end, c)
                if isinstance(r, Return):
                    found.append((r, r.through_at, side_shape(q, street, side).reach))
    return found


def _round_corner(q: Engine, street: str, end: End, corner: Side) -> Roadside:
    made, levels = kerb_return(q, street, end, corner), return_levels(q, street, end, corner).cubic
    j = require_joint(q, street, end)
    shape = side_shape(q, street, leg_side(end, corner))
    through_new = is_new(q, j.through)
    other = side_shape(q, j.through, "left" if j.through_side > 0 else "right")
    title = corner_name(q, street, end, corner)
    start = other if through_new and other.names == shape.names else shape
    if max(shape.reach, start.reach) > 0.95 * made.arc.radius:
        raise Unsolved(
            title,
            f"verge and path ({max(shape.reach, start.reach):.2f} m) do not fit inside a return of {made.arc.radius:g} m",
            f"make its radius at least {max(shape.reach, start.reach) / 0.95:.1f} m",
        )
    u = made.arc.chain.sampled(sag=parts.settings(q).arc_tolerance, interval=2.0)
    frames = made.arc.chain.at(u)
    outwards = made.arc.centre - frames.points
    outwards = outwards / np.hypot(outwards[:, 0], outwards[:, 1])[:, None]
    t = (u / made.arc.length)[:, None]
    lip = np.column_stack([frames.points, levels.level(u)])
    points = np.array(_swept(lip, outwards, (1 - t) * start.out + t * shape.out, (1 - t) * start.rise + t * shape.rise))
    if not through_new:
        # Nothing is designed along an existing street: the roadside grows out of the ground there.
        ground = ground_of(q).levels(points.reshape(-1, 3)).reshape(points.shape[:2])
        ground = np.where(np.isfinite(ground), ground, points[:, :, 2])
        blended = (1 - t) * ground + t * points[:, :, 2]
        points[:, 1:, 2] = blended[:, 1:]
    reach = _SHY * (made.arc.radius - ((1 - t) * start.reach + t * shape.reach)[:, 0])
    joined = np.ones(len(u) - 1, dtype=bool)
    return Roadside(
        title,
        frozen(u),
        frozen(points),
        shape.names,
        frozen(outwards),
        frozen(joined, np.bool_),
        frozen(reach),
        shape.cut_slope,
        shape.fill_slope,
    )


def _round_head(q: Engine, street: str) -> Roadside:
    from humble_loop.solve.lot import lot_stations

    outline, levels = head_outline(q, street), head_levels(q, street)
    left, right = side_shape(q, street, "left"), side_shape(q, street, "right")
    title = f"{parts.street_name(q, street)} bulb"
    if left.names != right.names:
        raise Unsolved(
            title, "its left and right sections have different points", "use a section with alike sides at a bulb"
        )
    reach = max(left.reach, right.reach)
    smallest = 1.0 / float(np.max(outline.ring.k0))
    if reach > 0.95 * smallest:
        raise Unsolved(
            title,
            f"verge and path ({reach:.2f} m) do not fit inside a return radius of {smallest:g} m",
            f"make its return radius at least {reach / 0.95:.1f} m",
        )
    ring = outline.ring
    stations = np.array([s for edge, s in lot_stations(q, street) if edge[0] == "head"])
    u = unique_chainages(
        ring.key_chainages(),
        [levels.turn],
        stations,
        ring.sampled(sag=parts.settings(q).arc_tolerance, reach=reach),
        low=0.0,
        high=ring.total,
        gap=1e-4,
    )
    outwards = ring_normals(outline, u)
    t = (u / ring.total)[:, None]
    lip = np.column_stack([ring.points_at(u), levels.profile.level(u)])
    points = _swept(lip, outwards, (1 - t) * left.out + t * right.out, (1 - t) * left.rise + t * right.rise)
    limit = np.full(len(u), parts.settings(q).batter_reach)
    concave = ring.at(0.5 * (u + np.roll(u, -1))).curvatures > 0
    concave = concave | np.roll(concave, 1)
    limit = np.where(concave, np.minimum(limit, _SHY * (smallest - reach)), limit)
    joined = np.ones(len(u) - 1, dtype=bool)
    return Roadside(
        title,
        frozen(u),
        points,
        left.names,
        frozen(outwards),
        frozen(joined, np.bool_),
        frozen(limit),
        min(left.cut_slope, right.cut_slope),
        min(left.fill_slope, right.fill_slope),
    )


@query
def edges(q: Engine, street: str) -> tuple[Edge, ...]:
    """The edges that belong to a new street: its sides, its returns, its bulb."""
    if not is_new(q, street) or isinstance(q.attempt(centreline, street), Unsolved):
        return ()
    found: list[Edge] = [side_edge(street, "left"), side_edge(street, "right")]
    for end in ENDS:
        j = q.attempt(joint, street, end)
        if j is not None and not isinstance(j, Unsolved):
            found += [corner_edge(street, end, "left"), corner_edge(street, end, "right")]
    if head_of(q, street) is not None:
        found.append(head_edge(street))
    return tuple(found)


@dataclass(frozen=True)
class Batters:
    """Batters outside an edge: for the rows in ``index`` (n,), their toes; ``joined`` (n - 1,) as in Roadside."""

    index: np.ndarray
    toes: Toes
    joined: Bools


@query
def batters(q: Engine, edge: Edge) -> Batters:
    """Batters from the boundary to the ground, where no lot adjoins."""
    from humble_loop.solve.lot import lot_cover

    side = roadside(q, edge)
    middle = 0.5 * (side.along[:-1] + side.along[1:])
    free = side.joined.copy()
    for low, high in lot_cover(q, edge):
        free &= ~((middle > low) & (middle < high))
    wanted = np.zeros(len(side.along), dtype=bool)
    wanted[:-1] |= free
    wanted[1:] |= free
    index = np.flatnonzero(wanted)
    hinges = side.points[index, -1]
    made = toes(ground_of(q), hinges, side.outwards[index], side.cut_slope, side.fill_slope, side.reach[index])
    joined = np.array([free[a] and b == a + 1 for a, b in zip(index[:-1], index[1:])], dtype=bool)
    return Batters(frozen(index, np.int64), Toes(*(frozen(a, a.dtype) for a in made)), frozen(joined, np.bool_))
