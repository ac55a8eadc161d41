"""Pads: levels that sit within what driveway and drainage allow; and the lot's surface round them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import shapely
from shapely.geometry import Polygon

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.ground.drape import Crossings, cross_segments
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.lot.beside import laid
from humble_loop.kinds.lot.clear import Cleared, cleared
from humble_loop.kinds.lot.layout import LotCorner, lot, pad_choice
from humble_loop.kinds.lot.model import PadChoice
from humble_loop.kinds.lot.plan import frontage, longest_front, lot_plan
from humble_loop.kinds.street.batter import Rise, corners_of, rise_at
from humble_loop.kinds.street.plan import class_of
from humble_loop.lines.faces import Face, FaceId, Patch
from humble_loop.lines.line import LineId, ThingId, line
from humble_loop.lines.quantity import Quantity, amount, decided, elsewhere, known, percent, summed, times
from humble_loop.lines.standing import kind_of
from humble_loop.site.model import State

_AT = 1e-6  # metres within which places and levels are one


@dataclass(frozen=True)
class PadLine(LineId):
    """The edge of a lot's pad."""

    lot: str
    kind: ClassVar[str] = "lot"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.lot)


@dataclass(frozen=True)
class LotFace(FaceId):
    """A lot's surface: level on its pad, and from there to its frontage, its neighbours and the ground."""

    lot: str
    kind: ClassVar[str] = "lot"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.lot)


@dataclass(frozen=True)
class Pad:
    """A pad's level and the window that driveway and drainage leave it.

    ``boundary`` is the boundary's level at the middle of the frontage, ``run`` the distance from there to the pad;
    ``wanted`` the ground's median level under the pad, at which |cut| + |fill| is least.
    """

    level: float
    state: State
    low: float
    high: float
    boundary: float
    run: float
    wanted: float
    quantity: Quantity
    choice: PadChoice | None


@query
def pad(q: Engine, id: str) -> Pad:
    """A lot's pad: its set level, or the level nearest the ground within its window. Raises Unsolved without room for it."""
    made, plan = lot(q, id), lot_plan(q, id)
    if not len(plan.pad):
        raise Unsolved(
            made.name,
            "there is no room for a pad inside its setbacks",
            "lessen the setback or gaps, or enlarge the lot",
        )
    rules = class_of(q, made.row.street)
    boundary = _boundary_middle(q, id)
    z = float(boundary.value[0])
    run = float(Polygon(plan.pad).distance(shapely.Point(plan.frontage_middle)))
    low, high = z + rules.least_lot_fall * run, z + rules.most_driveway_grade * run
    wanted = ground_under_pad(q, id)
    choice = pad_choice(q, id)
    what = f"{made.name} pad"
    state: State = "proposed"
    if choice is not None:
        quantity, state = decided(what, choice.level, ("pad", choice.id), "level set", "set"), "set"
    elif np.isfinite(wanted) and low <= wanted <= high:
        quantity = known(what, wanted, "median of the ground under it, where cut and fill are least", "ground")
    else:
        least = not np.isfinite(wanted) or wanted < low
        grade = rules.least_lot_fall if least else rules.most_driveway_grade
        rule = "the least that falls to the street" if least else "the most that the driveway can climb"
        quantity = summed(
            what,
            f"{rule} (the ground would have it at {wanted:.3f})",
            times("boundary", boundary),
            amount(f"{percent(grade)} × {run:.2f} m", grade * run),
            source="proposed",
        )
    return Pad(float(quantity.value[0]), state, low, high, z, run, wanted, quantity, choice)


def _boundary_middle(q: Engine, id: str) -> Quantity:
    """The boundary's level at the middle of a lot's frontage."""
    front = frontage(q, id)
    length = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(front.points, axis=0).T))])
    middle = 0.5 * length[-1]
    i = int(np.clip(np.searchsorted(length, middle, side="right") - 1, 0, len(length) - 2))
    step = length[i + 1] - length[i]
    t = (middle - length[i]) / step if step > 0 else 0.0
    which = int(front.which[i + 1])
    a = front.along[i] if front.which[i] == which else front.along[i + 1]
    s = float(a + t * (front.along[i + 1] - a))
    on = front.lines[which]
    made = line(q, on)
    what = elsewhere(made.title, on, s, made.rule.levels([s]))
    return summed(
        f"{lot(q, id).name} boundary at the middle of its frontage", "on the boundary", times("boundary line", what)
    )


@query
def ground_under_pad(q: Engine, id: str) -> float:
    """The ground's median level under a pad; NaN where there is no ground."""
    return median_ground(ground_of(q), lot_plan(q, id).pad)


def median_ground(ground: Surface, ring: Floats) -> float:
    """The median level of the ground inside a ring, read every metre; NaN where there is none."""
    # Widened by more than coordinates are rounded by, so that points on its edge are in wherever the site lies.
    polygon = Polygon(ring).buffer(1e-5, join_style="mitre")
    west, south, east, north = Polygon(ring).bounds
    x, y = np.meshgrid(np.arange(west + 0.5, east + 1e-5, 1.0), np.arange(south + 0.5, north + 1e-5, 1.0))
    points = np.column_stack([x.ravel(), y.ravel()])
    points = points[shapely.contains_xy(polygon, points[:, 0], points[:, 1])]
    z = ground.levels(points) if len(points) else np.array([])
    z = z[np.isfinite(z)]
    return float(np.median(z)) if z.size else float("nan")


# Surface


@query
def frontage_levels(q: Engine, id: str) -> Floats:
    """The boundary points (n, 3) along a lot's frontage, from its first corner to its last."""
    front = frontage(q, id)
    z = np.empty(len(front.points))
    for k, on in enumerate(front.lines):
        mine = front.which == k
        z[mine] = line(q, on).rule.levels(front.along[mine])
    return np.column_stack([front.points, z])


@query
def ground_round(q: Engine, id: str) -> tuple[Crossings, Crossings, Crossings]:
    """The ground along a lot's first side line, its last, and its rear line (from the last side to the first)."""
    made = lot(q, id)
    start = np.array([made.first.front, made.last.front, made.last.rear])
    end = np.array([made.first.rear, made.last.rear, made.first.rear])
    first, last, rear = cross_segments(ground_of(q), start, end).by_line(3)
    return first, last, rear


def side_line(c: Crossings, corner: LotCorner, level: float, rise: Rise) -> Floats:
    """Points (n, 3) along a lot's side line from its front corner (at ``level``) to its rear, over ground ``c``.

    It runs as the batter beside it does from the boundary until it meets the ground, then lies on the ground, with a
    point at every triangle edge. Both neighbours work out the same line.
    """
    d = corner.rear - corner.front
    on = np.isfinite(c.level)
    along, ground_level = c.along[on], c.level[on]
    if len(along) < 2 or not d.any():
        return np.array([[*corner.front, level], [*corner.rear, level]])
    unit = d / np.hypot(*d)
    ground = np.column_stack([corner.front + along[:, None] * unit, ground_level])
    return _sloped(ground, level, rise)


def _on_ground(c: Crossings, start: Floats, end: Floats) -> Floats:
    d = end[:2] - start[:2]
    length = float(np.hypot(*d))
    keep = np.isfinite(c.level) & (c.along > 1e-6) & (c.along < length - 1e-6)
    t = c.along[keep]
    between = np.column_stack([start[:2] + t[:, None] * d / length, c.level[keep]])
    return np.concatenate([start[None], between, end[None]])


def _rise(q: Engine, id: LineId, along: float) -> Rise:
    """How the batter beside a boundary line rises at a place."""
    s = np.array([along])
    corners = corners_of(q, id)
    within = np.array([any(c.begin + _AT < along < c.finish - _AT for c in corners)])
    return rise_at(q, id, s, within)


def face_of(q: Engine, id: LotFace) -> Face:
    """A lot's surface."""
    made, plan, on, outline = lot(q, id.lot), lot_plan(q, id.lot), q.attempt(pad, id.lot), outline_of(q, id.lot)
    fronts = tuple(s.line for s in made.frontage)
    if isinstance(on, Unsolved):
        return Patch(made.name, "lot", outline, (), fronts)
    ring = np.column_stack([plan.pad, np.full(len(plan.pad), on.level)])
    return Patch(made.name, "lot", outline, (np.concatenate([ring, ring[:1]]),), (*fronts, PadLine(id.lot)))


@query
def outline_of(q: Engine, id: str) -> Floats:
    """A lot's outline (n, 3), from its first front corner along its frontage."""
    made, clear = lot(q, id), cleared(q, id)
    front = frontage_levels(q, id)
    first_ground, last_ground, rear_ground = ground_round(q, id)
    first, last = (
        side_line(ground, corner, float(z), _rise(q, corner.line, corner.along))
        for ground, corner, z in ((first_ground, made.first, front[0, 2]), (last_ground, made.last, front[-1, 2]))
    )
    rear = _on_ground(rear_ground, last[-1], first[-1])
    if clear is not None:
        return _cut_outline(q, clear, {"front": front, "last": last, "rear": rear, "first": first[::-1]})
    return np.concatenate([front, last[1:], rear[1:-1], first[::-1][:-1]])


_GROUND, _SIDE, _LOT, _FRONT, _STREET = range(5)  # whose level holds where two edges meet: the greater's


def _cut_outline(q: Engine, clear: Cleared, whole: dict[str, Floats]) -> Floats:
    """The outline (n, 3) of a lot that something has cut into, edge by edge; ``whole`` are its own lines uncut.

    Along another street's boundary it has that boundary's levels, along a lot that was there first that lot's, else it
    lies on the ground.
    """
    edges, front = clear.edges, longest_front(clear.edges)
    others = [outline_of(q, other) for other in clear.by]
    pieces: list[tuple[int, Floats]] = []
    for edge in edges:
        a, b = edge.points[0], edge.points[-1]
        if edge.line is not None:
            pieces.append((_STREET, _on_boundary(q, edge.line, a, b)))
        elif edge is front:
            pieces.append((_FRONT, whole["front"].copy()))
        elif edge.part in ("first", "last", "rear"):
            pieces.append((_SIDE, _stretch(whole[edge.part], a, b)))
        else:
            path, touched = laid(edge.points, ground_of(q), others)
            pieces.append((_LOT if touched else _GROUND, path))
    for k, edge in enumerate(edges):
        after = (k + 1) % len(pieces)
        (rank, points), (next_rank, following) = pieces[k], pieces[after]
        # From a street's boundary the lot's edge slopes to where it lies anyway, as it does from its own.
        if edge.line is not None and next_rank < _LOT:
            rise = _rise(q, edge.line, _foot(q, edge.line, points[-1]))
            pieces[after] = next_rank, _sloped(following, points[-1, 2], rise)
        elif (on := edges[after].line) is not None and rank < _LOT:
            pieces[k] = rank, _sloped(points[::-1], following[0, 2], _rise(q, on, _foot(q, on, following[0])))[::-1]
        elif rank < next_rank:
            points[-1, 2] = following[0, 2]
        else:
            following[0, 2] = points[-1, 2]
    return np.concatenate([p[:-1] for _, p in pieces])


def _sloped(path: Floats, level: float, rise: Rise) -> Floats:
    """A path (n, 3) that begins at ``level`` instead and rises as a batter does until it meets the path as it was; where it
    does not, it runs straight to its end.
    """
    d = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(path[:, :2], axis=0).T))])
    k, sign = (0, 1.0) if path[0, 2] > level else (1, -1.0)
    first, own, bend = sign * rise.first[0, k], sign * rise.own[0, k], float(rise.until[0])
    begin = np.array([[*path[0, :2], level]])
    if abs(path[0, 2] - level) < _AT:
        return np.concatenate([begin, path[1:]])
    if bend < d[-1] and not np.any(np.abs(d - bend) < _AT):  # a point where the slope changes
        i = int(np.searchsorted(d, bend))
        t = (bend - d[i - 1]) / (d[i] - d[i - 1])
        path, d = np.insert(path, i, path[i - 1] + t * (path[i] - path[i - 1]), axis=0), np.insert(d, i, bend)
    sloped = level + first * np.minimum(d, bend) + own * np.maximum(d - bend, 0.0)
    gap = (sloped - path[:, 2]) * sign
    met = np.flatnonzero(gap[1:] >= 0) + 1
    if rise.through[0]:
        met = met[d[met] > bend - _AT]
    if not len(met):
        return np.concatenate([begin, path[-1:]])
    i = int(met[0])
    t = gap[i - 1] / (gap[i - 1] - gap[i])
    toe = path[i - 1] + t * (path[i] - path[i - 1])
    kink = np.flatnonzero(np.abs(d[1:i] - bend) < _AT) + 1
    on_slope = np.column_stack([path[kink, :2], sloped[kink]])
    return np.concatenate([begin, on_slope, [toe], path[i if t < 1 - 1e-9 else i + 1 :]])


def _foot(q: Engine, id: LineId, point: Floats) -> float:
    return float(line(q, id).plan.foot(point[None, :2])[0][0])


def _on_boundary(q: Engine, id: LineId, a: Floats, b: Floats) -> Floats:
    """A boundary line from ``a`` to ``b``, at the rows at which the faces beside it are worked out."""
    made = line(q, id)
    begin, finish = made.plan.foot(np.array([a, b]))[0]
    s = kind_of(id.kind).rows_on(q, id)
    s = s[(s > min(begin, finish) + 1e-6) & (s < max(begin, finish) - 1e-6)]
    points = made.points(np.concatenate([[begin], s if begin <= finish else s[::-1], [finish]]))
    known_ = np.isfinite(points[:, 2])
    if not known_.all():
        points[:, 2] = np.where(known_, points[:, 2], ground_of(q).levels(points[:, :2]))
    return points


def _stretch(path: Floats, a: Floats, b: Floats) -> Floats:
    """The part of a path (n, 3) from ``a`` to ``b``, both on it."""
    d = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(path[:, :2], axis=0).T))])
    plan = shapely.LineString(path[:, :2])
    begin, finish = (plan.project(shapely.Point(p)) for p in (a, b))
    inner = path[(d > begin + 1e-6) & (d < finish - 1e-6)]
    ends = [[*p, np.interp(at, d, path[:, 2])] for p, at in ((a, begin), (b, finish))]
    return np.concatenate([ends[:1], inner, ends[1:]])
