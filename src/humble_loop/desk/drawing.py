"""What the views draw, as queries: a view redraws a thing only when the answer is another object."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.ground.contour import contour_segments
from humble_loop.ground.drape import Draped, drape, level_along
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street.cross_section import section_points
from humble_loop.kinds.street.earthworks import ground_under
from humble_loop.kinds.street.order import built_before
from humble_loop.kinds.street.plan import StreetLine, chain_of, is_new, name_of
from humble_loop.kinds.street.section import whole_at
from humble_loop.lines.describe import Crossing, Drawing, Stroke
from humble_loop.lines.faces import FaceId, finished_mesh
from humble_loop.lines.line import LineId, ThingId, line, line_plan
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.site import parts
from humble_loop.whole.hachures import batter_strokes
from humble_loop.whole.overlaps import standing_surface
from humble_loop.whole.places import face_tree
from humble_loop.whole.things import faces_of, things_of

_MOST_FINE = 40_000  # pieces of fine contours of one face
MOST_FINE_IN_ALL = 300_000  # that are drawn: they are made into one picture between two frames
WITH_CONTOURS = ("carriageway", "junction", "bulb")


@query
def lit(q: Engine, thing: ThingId) -> Floats | None:
    """What of a thing is lit up while it is chosen; None for the line of its long section."""
    return kind_of(thing.kind).lit(q, thing)


@query
def outline(q: Engine, thing: ThingId) -> Drawing:
    """A thing in plan, without levels."""
    return kind_of(thing.kind).outline(q, thing)


@query
def details(q: Engine, thing: ThingId) -> Drawing:
    """What else the plan shows of a thing, its batters among it."""
    made = kind_of(thing.kind).details(q, thing)
    faces = q.attempt(faces_of, thing)
    found = [q.attempt(batter_strokes, id) for id in ([] if isinstance(faces, Unsolved) else faces) if id.gives_way]
    batters = _by_role(s for strokes in found if not isinstance(strokes, Unsolved) for s in strokes)
    return replace(made, strokes=(*made.strokes, *batters))


@query
def outline_of_all(q: Engine, kind: str) -> Drawing:
    """All things of a kind, drawn as one."""
    made = [m for thing in things_of(q, kind) if not isinstance(m := q.attempt(outline, thing), Unsolved)]
    return Drawing(_by_role(s for m in made for s in m.strokes), (), tuple(la for m in made for la in m.labels))


def _by_role(strokes: Iterable[Stroke]) -> tuple[Stroke, ...]:
    """Strokes of one role as one."""
    found: dict[str, list[Floats]] = {}
    for s in strokes:
        found.setdefault(s.role, []).append(s.points)
    return tuple(Stroke(role, frozen(np.concatenate(points))) for role, points in found.items())


_MOST_ARROWS = 20_000  # looked for in the box of a face


@query
def fine_lines(q: Engine, id: FaceId) -> tuple[Floats, Floats]:
    """Fine contours of a face as pairs of points (2k, 2), and flow arrows (n, 4). Raises ValueError where a view could not hold
    them.
    """
    surface = finished_mesh(q, id).surface
    if surface.empty:
        return np.empty((0, 2)), np.empty((0, 4))
    segments, _ = contour_segments(surface, parts.settings(q).fine_contour_interval, most=_MOST_FINE)
    return segments.reshape(-1, 2), _flow(surface)


def _flow(surface: Surface) -> Floats:
    """Arrows (n, 4) on a regular grid: place and unit direction of the steepest fall."""
    west, south, east, north = surface.bounds
    step = max(3.0, np.sqrt((east - west) * (north - south) / _MOST_ARROWS))
    x, y = np.meshgrid(
        np.arange(np.ceil(west / step), np.floor(east / step) + 1) * step,
        np.arange(np.ceil(south / step), np.floor(north / step) + 1) * step,
    )
    at = np.column_stack([x.ravel(), y.ravel()])
    if not len(at):
        return np.empty((0, 4))
    slope = -surface.slopes(at)
    size = np.hypot(slope[:, 0], slope[:, 1])
    keep = np.isfinite(size) & (size > 1e-4)
    return np.column_stack([at[keep], slope[keep] / size[keep, None]])


@dataclass(frozen=True)
class SectionView:
    """A line's long section: chainages (n,) with levels, the ground under it, and other lines at their true place.

    ``beside`` holds (role, chainages, levels); ``crossings`` other things met along it.
    """

    role: str
    chainages: Floats
    levels: Floats
    ground: tuple[Floats, Floats]
    beside: tuple[tuple[str, Floats, Floats], ...]
    crossings: tuple[Crossing, ...]


@query
def _ground_under(q: Engine, id: LineId) -> Draped:
    """The ground under a line: it stays as it is while levels are dragged."""
    plan = line_plan(q, id)
    return drape(ground_of(q), plan.base, float(plan.offset.values[0]))


@query
def earlier_under(q: Engine, id: LineId) -> tuple[Floats, Floats]:
    """Chainages and levels of earthworks under a street's line that are built before it, NaN where the ground is as it was found."""
    if not isinstance(id, StreetLine) or not built_before(q, id.street):
        return np.empty(0), np.empty(0)
    plan = line_plan(q, id)
    s, z = drape(ground_under(q, id.street), plan.base, float(plan.offset.values[0]))
    same = np.abs(z - level_along(_ground_under(q, id), s)) <= _SAME_GROUND
    return frozen(s), frozen(np.where(same, np.nan, z))


_ABREAST, _MOST_ABREAST = 2.0, 400  # metres between places at which other lines are looked at, and how many


@query
def section_view(q: Engine, id: LineId) -> SectionView:
    """What the long section of a line draws."""
    plan, ground = line_plan(q, id), _ground_under(q, id)
    s, z = _levels(q, id, plan.start, plan.end)
    beside = []
    for other in kind_of(id.kind).beside(q, id):
        made = q.attempt(line, other)
        if isinstance(made, Unsolved):
            continue
        at, levels = _levels(q, other, made.plan.start, made.plan.end)
        if made.plan.base is not plan.base and at.size:
            at = plan.base.feet(made.plan.points(at)).chainages
        beside.append((made.plan.role, frozen(at), frozen(levels)))
    crossings = tuple(c for kind in kinds() for c in kind.section_marks(q, id))
    return SectionView(plan.role, s, z, (ground.chainages, ground.levels), tuple(beside), crossings)


def _levels(q: Engine, id: LineId, start: float, end: float) -> tuple[Floats, Floats]:
    made = q.attempt(line, id)
    if isinstance(made, Unsolved) or end <= start:
        s = np.array([start, end])
        return s, np.full(2, np.nan)
    keys = made.rule.key_places()
    keys = keys[(keys > start) & (keys < end)]
    s = np.unique(np.concatenate([np.linspace(start, end, 161), made.plan.base.key_chainages(), keys]))
    s = s[(s >= start) & (s <= end)]
    return s, made.rule.levels(s)


@query
def abreast(q: Engine, id: LineId, other: LineId) -> tuple[Floats, Floats]:
    """Another line as it is met abreast of places along a line: chainages of that (n,), and its levels, NaN where it has none."""
    plan, made = line_plan(q, id), line(q, other)
    s = np.linspace(plan.start, plan.end, max(2, min(_MOST_ABREAST, int((plan.end - plan.start) / _ABREAST))) + 1)
    feet = made.plan.base.feet(plan.points(s))
    inside = feet.square & (feet.chainages >= made.plan.start) & (feet.chainages <= made.plan.end)
    levels = made.rule.levels(np.clip(feet.chainages, made.plan.start, made.plan.end))
    return frozen(s), frozen(np.where(inside, levels, np.nan))


@dataclass(frozen=True)
class CrossView:
    """A cross section, as it is looked at along increasing chainage: distance to the right, and level.

    ``ground`` (n, 2), with what is built before the street; ``found`` (n, 2) as it was found, where that is another; ``design`` (m, 2) from left to right with point ``names`` ('' where only the surface is cut);
    ``words`` say what is cut through where that is not plain carriageway; ``reach`` is how far it goes to either side,
    in metres, some ground beyond the design included.
    """

    ground: Floats
    found: Floats
    design: Floats
    names: tuple[str, ...]
    crown: float
    words: str
    reach: float


_CUT_REACH = 18.0  # metres to either side of a cut through the surface: a bulb's rim and the lots behind it
_MOST_REACH = 80.0  # metres to either side at most
_EARLIER_REACH = 30.0  # metres to either side at which what is built before is looked for
_BESIDE_IT = 1.5  # metres beyond it that are shown
_SAME_GROUND = 0.005  # metres within which the ground is as it was found


def cross_view(q: Engine, street: str, chainage: float, *, batters: bool = True) -> CrossView:
    """The cross section of a street: its own lines where they run, else a cut through the finished surface.

    Batters meet those of other streets: they may take long, and are left out on request.
    """
    s = float(np.clip(chainage, 0.0, chain_of(q, street).total))
    made = q.attempt(line, StreetLine(street))
    crown = float("nan") if isinstance(made, Unsolved) else float(made.rule.levels([s])[0])
    none = np.empty((0, 2))
    if not is_new(q, street):
        return _view(q, street, s, none, (), crown, "an existing street: the ground is its section", not batters)
    if not np.isfinite(crown):
        return _view(q, street, s, none, (), crown, "its grade line does not reach here", not batters)
    if whole_at(q, street, s):
        try:
            design, names = _own_section(q, street, s, batters)
        except Unsolved as unsolved:
            return _view(q, street, s, none, (), crown, unsolved.message, not batters)
        return _view(
            q, street, s, design, names, crown, "" if batters else "batters follow when the hand rests", not batters
        )
    design = _cut(q, *_across(q, street, s, _CUT_REACH))
    names = tuple("crown" if abs(d[0]) < 1e-9 else "" for d in design)
    known = np.flatnonzero(np.isfinite(design[:, 1]))
    if len(known):
        names = tuple("edge" if i in (known[0], known[-1]) else n for i, n in enumerate(names))
    return _view(q, street, s, design, names, crown, "through a junction or a head: the surface is cut", not batters)


def _view(
    q: Engine, street: str, s: float, design: Floats, names: tuple[str, ...], crown: float, words: str, hurried: bool
) -> CrossView:
    widest = float(np.nanmax(np.abs(design[:, 0]))) if len(design) else 10.0
    reach = min(1.3 * widest, _MOST_REACH)
    before = () if hurried else built_before(q, street)
    p, offsets = _across(q, street, s, max(1.5 * reach, _EARLIER_REACH if before else 0.0))
    right = -offsets[::-1]
    found = np.column_stack([right, ground_of(q).levels(p)[::-1]])
    if not before:
        return CrossView(frozen(found), frozen(np.empty((0, 2))), frozen(design), names, crown, words, reach)
    ground = np.column_stack([right, ground_under(q, street).levels(p)[::-1]])
    apart = np.abs(ground[:, 1] - found[:, 1]) > _SAME_GROUND
    if apart.any():
        built = f"the ground is as {' and '.join(name_of(q, o) for o in before)} leaves it"
        words = f"{words}; {built}" if words else built
        reach = max(reach, min(float(np.abs(right[apart]).max()) + _BESIDE_IT, _EARLIER_REACH))
    found[~np.convolve(apart, [1, 1, 1], "same").astype(bool), 1] = np.nan
    return CrossView(frozen(ground), frozen(found), frozen(design), names, crown, words, reach)


def _across(q: Engine, street: str, s: float, reach: float) -> tuple[Floats, Floats]:
    """Points (n, 2) across a street, and their offsets (n,), left positive and rising."""
    offsets = np.linspace(-reach, reach, 2 * int(np.ceil(4 * reach)) + 1)
    return chain_of(q, street).points_at(np.full_like(offsets, s), offsets), offsets


def _own_section(q: Engine, street: str, s: float, batters: bool) -> tuple[Floats, tuple[str, ...]]:
    found = [p for p in section_points(q, street, [s], batters=batters) if p.there[0]]
    return np.array([(-p.offsets[0], p.levels[0]) for p in found]), tuple(p.name for p in found)


def _cut(q: Engine, points: Floats, offsets: Floats) -> Floats:
    """The finished surface along a line of points, as (distance to the right, level); NaN where nothing is built."""
    low, high = points.min(axis=0), points.max(axis=0)
    level = np.full(len(points), np.nan)
    for id in face_tree(q).near(*low, *high):
        made = q.attempt(standing_surface, id)
        if not isinstance(made, Unsolved):
            z = made.levels(points)
            level = np.where(np.isnan(level), z, level)
    return np.column_stack([-offsets[::-1], level[::-1]])
