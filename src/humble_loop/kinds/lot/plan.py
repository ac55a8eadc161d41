"""The frontage and the plan of one lot: what is left of it clear of reserves and earlier lots, and the pad's room in it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from shapely.geometry import LineString, Polygon

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, Ints, frozen
from humble_loop.kinds.lot.clear import Edge, cleared
from humble_loop.kinds.lot.layout import lot
from humble_loop.lines.line import LineId, line_plan
from humble_loop.lines.standing import kind_of

_LEAST_PAD = 20.0  # m2: what is smaller is no pad
_PAD_CHORD = 0.01  # metres: how far a pad's edge may leave the curve of its setback


@dataclass(frozen=True)
class Frontage:
    """A lot's frontage in plan: points (n, 2) in the row's direction, and which boundary line and place each is."""

    points: Floats
    lines: tuple[LineId, ...]
    which: Ints
    along: Floats


@query
def frontage(q: Engine, id: str) -> Frontage:
    """The rows of the boundary along a lot's frontage: what only lies elsewhere in level leaves it as it was."""
    found, lines, which, along = [], [], [], []
    for k, stretch in enumerate(lot(q, id).frontage):
        s = kind_of(stretch.line.kind).rows_on(q, stretch.line)
        low, high = sorted((stretch.begin, stretch.finish))
        s = s[(s >= low - 1e-6) & (s <= high + 1e-6)]
        s = s if stretch.begin <= stretch.finish else s[::-1]
        found.append(line_plan(q, stretch.line).points(s))
        lines.append(stretch.line)
        which.append(np.full(len(s), k))
        along.append(s)
    points = np.concatenate(found)
    if len(points) < 2:
        raise Unsolved(
            lot(q, id).name, "the street along its frontage has no levels", "extend the street's grade line along it"
        )
    keep = np.concatenate([[True], np.hypot(*np.diff(points, axis=0).T) > 1e-7])
    made = Frontage(
        frozen(points[keep]),
        tuple(lines),
        frozen(np.concatenate(which)[keep], np.int64),
        frozen(np.concatenate(along)[keep]),
    )
    clear = cleared(q, id)
    return made if clear is None else _trimmed(made, longest_front(clear.edges))


def longest_front(edges: tuple[Edge, ...]) -> Edge:
    """The longest part of a lot's frontage that is left."""
    return max((e for e in edges if e.part == "front"), key=lambda e: LineString(e.points).length)


def _trimmed(made: Frontage, edge: Edge) -> Frontage:
    """A frontage from the beginning of ``edge`` to its end, both of which lie on it."""
    path = LineString(made.points)
    d = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(made.points, axis=0).T))])
    begin, finish = sorted(path.project(shapely.Point(p)) for p in edge.points[[0, -1]])
    inner = np.flatnonzero((d > begin + 1e-6) & (d < finish - 1e-6))
    ends = []
    for at in (begin, finish):
        i = int(np.clip(np.searchsorted(d, at, side="right") - 1, 0, len(d) - 2))
        t = (at - d[i]) / (d[i + 1] - d[i])
        which = int(made.which[i + 1])
        a = made.along[i] if made.which[i] == which else made.along[i + 1]
        ends.append(
            (made.points[i] + t * (made.points[i + 1] - made.points[i]), which, a + t * (made.along[i + 1] - a))
        )
    (p0, w0, s0), (p1, w1, s1) = ends
    return Frontage(
        frozen(np.concatenate([[p0], made.points[inner], [p1]])),
        made.lines,
        frozen(np.concatenate([[w0], made.which[inner], [w1]]), np.int64),
        frozen(np.concatenate([[s0], made.along[inner], [s1]])),
    )


@dataclass(frozen=True)
class LotPlan:
    """A lot's outline and pad (open rings of points, (n, 2)), areas in m2, frontage in m.

    Without room for a pad, that is empty. ``edges`` are the outline's where something has cut into the lot; none where it is whole.
    """

    outline: Floats
    pad: Floats
    area: float
    pad_area: float
    frontage: float
    frontage_middle: Floats
    edges: tuple[Edge, ...] = ()


@query
def lot_plan(q: Engine, id: str) -> LotPlan:
    """A lot's outline and its pad in plan."""
    made, front, clear = lot(q, id), frontage(q, id).points, cleared(q, id)
    outline_ = np.concatenate([front, [made.last.rear, made.first.rear]])
    if clear is not None:
        outline_ = np.concatenate([e.points[:-1] for e in clear.edges])
    polygon = Polygon(outline_)
    if not polygon.is_valid or polygon.area < 1.0:
        raise Unsolved(
            made.name, "its side lines cross, so it encloses nothing", "widen the frontage or lessen the depth"
        )
    row = made.row
    keep = polygon.difference(LineString(front).buffer(row.setback, cap_style="flat"))
    for a, b in ((made.first.front, made.first.rear), (made.last.front, made.last.rear)):
        keep = keep.difference(LineString([a, b]).buffer(row.side_gap))
    keep = keep.difference(LineString([made.first.rear, made.last.rear]).buffer(row.rear_gap))
    for edge in clear.edges if clear else ():
        if edge.part == "cut":
            keep = keep.difference(LineString(edge.points).buffer(row.side_gap))
    pieces = [g for g in getattr(keep, "geoms", [keep]) if isinstance(g, Polygon) and not g.is_empty]
    pad = max(pieces, key=lambda g: g.area).normalize().simplify(_PAD_CHORD) if pieces else Polygon()
    lengths = np.hypot(*np.diff(front, axis=0).T)
    middle = np.asarray(LineString(front).interpolate(0.5, normalized=True).coords[0])
    ring = (
        np.asarray(shapely.geometry.polygon.orient(pad).exterior.coords)[:-1]
        if pad.area >= _LEAST_PAD
        else np.empty((0, 2))
    )
    return LotPlan(
        frozen(outline_),
        frozen(ring),
        float(polygon.area),
        float(pad.area) if len(ring) else 0.0,
        float(lengths.sum()),
        frozen(middle),
        clear.edges if clear else (),
    )
