"""Building a surface from points and breaklines, and finding what is wrong with a survey."""

from __future__ import annotations

from collections.abc import Sequence

import condeltri
import numpy as np
import shapely
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Floats, Ints
from humble_loop.ground.surface import Problem, Surface

_SAME = 1e-6  # metres within which two points are one place
_ON = 0.005  # metres from a breakline within which a point lies on it: what a survey can tell apart
_APART = 0.05  # metres of level beyond which such a point and the breakline contradict each other
_MOST_CROSSINGS, _PAIRS = 20_000, 4_000_000  # crossings of breaklines; pairs of them looked at at once
_FAR = 20_000.0  # metres: no site is as wide


class CannotTriangulate(ValueError):
    """Points from which no surface can be made; the message says why."""


def build_surface(
    points: ArrayLike,
    breaklines: Sequence[ArrayLike] = (),
    *,
    longest_edge: float | None = None,
) -> tuple[Surface, list[Problem]]:
    """Triangulate ``points`` (n, 3) with ``breaklines`` (each (k, 3)) as edges.

    Points at one place are merged (the first level holds, and a difference is reported). Where two
    breaklines cross, a point is put at the crossing with the mean of the two levels, and a difference is
    reported, as is a point on a breakline with another level. Slivers along the outside with an edge longer than ``longest_edge`` metres are peeled off.
    Raises CannotTriangulate for fewer than three different places or when all lie on one line.
    """
    vertices, edges, problems = _gather(np.asarray(points, dtype=np.float64).reshape(-1, 3), breaklines)
    xy = vertices[:, :2]
    if len(xy) < 3:
        raise CannotTriangulate("a surface needs at least three points at different places")
    middle = xy.mean(axis=0)
    spread = np.linalg.svd((xy - middle)[:: max(1, len(xy) // 5000)], compute_uv=False)
    if spread[-1] < 1e-9 * max(spread[0], 1.0):
        raise CannotTriangulate("all points lie on one line, so they make no surface")
    _check_crossings(xy, edges)
    corners, triangles = constrained_delaunay(xy, edges)
    triangles = _in_strips(corners, triangles)
    levels, crossing = _levels_at_crossings(corners, vertices, edges)
    problems.extend(crossing)
    problems.extend(_points_on_breaklines(vertices, edges))
    surface = Surface(np.column_stack([corners, levels]), triangles)
    if longest_edge:
        surface = peel(surface, longest_edge)
    return surface, problems


def constrained_delaunay(xy: Floats, edges: Ints) -> tuple[Floats, Ints]:
    """Delaunay triangles of ``xy`` (n, 2) that keep ``edges`` (k, 2); crossings become new points at the end.

    Returns points (n + crossings, 2) and triangles (m, 3).
    """
    origin = xy.min(axis=0)
    cdt = condeltri.Triangulation(
        condeltri.VertexInsertionOrder.AUTO, condeltri.IntersectingConstraintEdges.TRY_RESOLVE, _SAME
    )
    cdt.insert_vertices(np.ascontiguousarray(xy - origin))
    if len(edges):
        cdt.insert_edges(np.ascontiguousarray(edges, dtype=np.uint32))
    cdt.erase_super_triangle()
    made = cdt.vertices_array()
    corners = np.stack([made["x"], made["y"]], axis=1) + origin
    corners[: len(xy)] = xy
    return corners, np.asarray(cdt.triangles_array()["vertices"], dtype=np.int64)


def _in_strips(points: Floats, triangles: Ints) -> Ints:
    """Order triangles by place: neighbours on the ground become neighbours in memory, which halves reading."""
    corner = points.take(triangles[:, 0], axis=0) - points.min(axis=0)
    size = max(float(corner.max()) / max(np.sqrt(len(triangles)), 1.0), 1e-9)
    cell = (corner / size).astype(np.int32)
    return triangles.take(np.argsort(cell[:, 1] * np.int32(cell[:, 0].max() + 1) + cell[:, 0], kind="stable"), axis=0)


def peel(surface: Surface, longest_edge: float) -> Surface:
    """Remove triangles with an edge longer than ``longest_edge`` from the outside inwards."""
    t = surface.triangles
    p = surface.points[:, :2]
    side = np.stack([np.hypot(*(p[t[:, i]] - p[t[:, (i + 1) % 3]]).T) for i in range(3)], axis=1)
    code = np.sort(np.stack([t, np.roll(t, -1, axis=1)], axis=2), axis=2)
    code = code[:, :, 0] * len(p) + code[:, :, 1]
    keep = np.ones(len(t), dtype=bool)
    while True:
        _values, inverse, counts = np.unique(code[keep], return_inverse=True, return_counts=True)
        outside = (counts[inverse] == 1).reshape(-1, 3)
        drop = np.any(outside & (side[keep] > longest_edge), axis=1)
        if not drop.any() or drop.all():
            return Surface(surface.points, t[keep])
        keep[np.flatnonzero(keep)[drop]] = False


def _gather(points: Floats, breaklines: Sequence[ArrayLike]) -> tuple[Floats, Ints, list[Problem]]:
    lines = [np.asarray(b, dtype=np.float64).reshape(-1, 3) for b in breaklines]
    lines = [b[np.all(np.isfinite(b), axis=1)] for b in lines]
    points = points[np.all(np.isfinite(points), axis=1)]
    everything = np.concatenate([points, *lines]) if lines else points
    if not len(everything):
        return everything, np.empty((0, 2), dtype=np.int64), []
    origin = everything[:, :2].min(axis=0)
    cells = np.round((everything[:, :2] - origin) / _SAME).astype(np.int64)
    code = cells[:, 0] * (int(cells[:, 1].max()) + 1) + cells[:, 1]
    order = np.argsort(code, kind="stable")
    new = np.concatenate([[True], np.diff(code[order]) != 0])
    place = np.empty(len(order), dtype=np.int64)
    place[order] = np.cumsum(new) - 1
    leader = order[new]
    # Places are numbered by where they first occur, so that results do not depend on how coordinates sort.
    rank = np.argsort(leader, kind="stable")
    back = np.empty_like(rank)
    back[rank] = np.arange(len(rank))
    place = back[place]
    vertices = everything[leader[rank]]
    problems = []
    difference = np.abs(everything[:, 2] - vertices[place, 2])
    for i in np.flatnonzero(difference > 1e-3)[:200]:
        e, n, z = everything[i]
        problems.append(
            Problem("duplicate", f"two levels at one place: {vertices[place[i], 2]:.3f} kept, {z:.3f} left out", e, n)
        )
    edges = []
    start = len(points)
    for line in lines:
        at = place[start : start + len(line)]
        start += len(line)
        edges.append(np.stack([at[:-1], at[1:]], axis=1))
    pairs = np.concatenate(edges) if edges else np.empty((0, 2), dtype=np.int64)
    pairs = np.sort(pairs[pairs[:, 0] != pairs[:, 1]], axis=1)
    return vertices, np.unique(pairs, axis=0), problems


def _levels_at_crossings(corners: Floats, vertices: Floats, edges: Ints) -> tuple[Floats, list[Problem]]:
    """Levels of all corners: where breaklines cross, the mean of theirs; and the crossings at which they differ."""
    levels = np.concatenate([vertices[:, 2], np.zeros(len(corners) - len(vertices))])
    new = corners[len(vertices) :]
    if not len(new):
        return levels, []
    a, b = vertices[edges[:, 0]], vertices[edges[:, 1]]
    tree = shapely.STRtree(shapely.linestrings(np.stack([a[:, :2], b[:, :2]], axis=1)))
    places = shapely.points(new)
    at, on = tree.query(places, predicate="dwithin", distance=1e-5)
    missed = np.setdiff1d(np.arange(len(new)), at)
    at, on = np.concatenate([at, missed]), np.concatenate([on, tree.nearest(places[missed])])
    d = b[on, :2] - a[on, :2]
    t = np.einsum("ij,ij->i", new[at] - a[on, :2], d) / np.einsum("ij,ij->i", d, d)
    z = a[on, 2] + t * (b[on, 2] - a[on, 2])
    low, high = np.full(len(new), np.inf), np.full(len(new), -np.inf)
    np.minimum.at(low, at, z)
    np.maximum.at(high, at, z)
    levels[len(vertices) :] = np.bincount(at, z, len(new)) / np.bincount(at, minlength=len(new))
    return levels, [
        Problem("crossing breaklines", f"breaklines cross with levels {low[i]:.3f} and {high[i]:.3f}", *new[i])
        for i in np.flatnonzero(high - low > 0.01)
    ]


def _check_crossings(xy: Floats, edges: Ints) -> None:
    """Refuse breaklines that cross at more places than a survey's do: each crossing becomes a point."""
    if not len(edges):
        return
    lines = shapely.linestrings(np.stack([xy[edges[:, 0]], xy[edges[:, 1]]], axis=1))
    tree, found = shapely.STRtree(lines), 0
    for start in range(0, len(lines), step := max(1, _PAIRS // len(lines))):
        found += len(tree.query(lines[start : start + step], predicate="crosses")[0])
        if found > 2 * _MOST_CROSSINGS:
            raise CannotTriangulate(
                f"its breaklines cross one another at more than {_MOST_CROSSINGS:,} places; check which codes are strings"
            )


def _points_on_breaklines(vertices: Floats, edges: Ints) -> list[Problem]:
    """Points that lie on a breakline, between its ends, at another level than it has there."""
    if not len(edges):
        return []
    a, b = vertices[edges[:, 0]], vertices[edges[:, 1]]
    tree = shapely.STRtree(shapely.linestrings(np.stack([a[:, :2], b[:, :2]], axis=1)))
    point, edge = tree.query(shapely.points(vertices[:, :2]), predicate="dwithin", distance=_ON)
    d = b[edge, :2] - a[edge, :2]
    size = np.hypot(d[:, 0], d[:, 1])
    t = np.einsum("ij,ij->i", vertices[point, :2] - a[edge, :2], d) / (size * size)
    between = (t * size > _ON) & ((1 - t) * size > _ON)
    level = a[edge, 2] + t * (b[edge, 2] - a[edge, 2])
    found = np.flatnonzero(between & (np.abs(vertices[point, 2] - level) > _APART))
    problems = []
    for i in found[:200]:
        e, n, z = vertices[point[i]]
        words = f"a point at level {z:.3f} lies on a breakline that is at {level[i]:.3f} there"
        problems.append(Problem("point on a breakline", words, e, n))
    return problems


def far_away(points: Floats) -> list[Problem]:
    """Points that lie much farther from the middle of all than nearly all others do: mistyped, or zeros."""
    if len(points) < 10:
        return []
    away = np.hypot(*(points[:, :2] - np.median(points[:, :2], axis=0)).T)
    far = np.flatnonzero(away > max(_FAR, 10.0 * float(np.quantile(away, 0.9))))
    return [
        Problem("far away", f"lies {away[i] / 1000:,.0f} km from the others; check its coordinates", *points[i, :2])
        for i in far[:200]
    ]


def spikes(surface: Surface, steepness: float = 0.7) -> list[Problem]:
    """Points that stand alone above or below all their neighbours on faces steeper than ``steepness`` (ratio)."""
    p, t = surface.points, surface.triangles
    top, bottom = np.full(len(p), np.inf), np.full(len(p), -np.inf)
    for i, j in ((0, 1), (1, 2), (2, 0)):
        a, b = t[:, i], t[:, j]
        d = p.take(b, axis=0) - p.take(a, axis=0)
        grade = d[:, 2] / np.maximum(np.hypot(d[:, 0], d[:, 1]), 1e-9)
        for at, g in ((a, grade), (b, -grade)):
            np.minimum.at(top, at, g)
            np.maximum.at(bottom, at, g)
    found = np.flatnonzero((top > steepness) & np.isfinite(top) | (bottom < -steepness) & np.isfinite(bottom))
    return [
        Problem(
            "spike", f"level {p[i, 2]:.3f} stands {'below' if top[i] > 0 else 'above'} all its neighbours", *p[i, :2]
        )
        for i in found[:200]
    ]
