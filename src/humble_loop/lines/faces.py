"""Faces: the finished surface is made of strips between lines and patches bounded by lines.

They share their lines' points: a strip takes its lines at given rows, and a patch takes the same lines at the same
rows, so there is nothing to sew.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
import shapely
from shapely.geometry import Polygon

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Bools, Floats, Ints, frozen
from humble_loop.ground.build import constrained_delaunay
from humble_loop.ground.govern import ended_at
from humble_loop.ground.merge import same_places
from humble_loop.ground.surface import Surface
from humble_loop.lines.line import LineId, PartId, line
from humble_loop.lines.standing import kind_of

SAME = 2e-6  # metres within which points of lines that meet are one


@dataclass(frozen=True)
class FaceId(PartId):
    """Base of the ids of faces."""

    @property
    def gives_way(self) -> bool:
        """Whether the face is there only where nothing else is, as a batter is."""
        return False

    @property
    def takes_over(self) -> bool:
        """Whether the face stands in the place of what it lies over, as an island does on a carriageway."""
        return False


@dataclass(frozen=True)
class Strip:
    """Between lines side by side, at common ``rows`` (n,) of their bases.

    ``roles`` name what lies between each line and the next; ``joined`` (n - 1,) is false where nothing is built
    between two rows. ``inner`` (n,) are rows of the lines between the first and the last alone: what lies beside the strip knows nothing of
    them, and meets it in the same points as without them.
    """

    title: str
    role: str
    lines: tuple[LineId, ...]
    rows: Floats
    joined: Bools
    roles: tuple[str, ...]
    inner: Bools | None = None


def with_inner(rows: Floats, joined: Bools, inner: Floats) -> tuple[Floats, Bools, Bools]:
    """The ``rows``, ``joined`` and ``inner`` of a strip with further rows between those that are joined; others are left out."""
    inner = np.unique(inner)
    i = rows.searchsorted(inner) - 1
    there = (i >= 0) & (i < len(rows) - 1)
    there[there] = (
        joined[i[there]] & (inner[there] - rows[i[there]] > _NEAR) & (rows[i[there] + 1] - inner[there] > _NEAR)
    )
    more = inner[there]
    at = np.concatenate([rows, more])
    order = np.argsort(at, kind="stable")
    is_inner = np.concatenate([np.zeros(len(rows), dtype=bool), np.ones(len(more), dtype=bool)])[order]
    before = np.cumsum(~is_inner) - 1  # the row of the strip itself at or before each
    last = len(rows) - 1
    return (
        frozen(at[order]),
        frozen(joined[before[:-1].clip(0, max(last - 1, 0))], np.bool_),
        frozen(is_inner, np.bool_),
    )


_NEAR = 1e-3  # metres from a row within which another makes none


@dataclass(frozen=True)
class Patch:
    """Inside a closed outline (n, 3), with the lines of ``inner`` (each (k, 3)) as edges in it.

    Water leaves it over ``outlets`` (k, 2), points of the outline; over all of that where they are not told.
    """

    title: str
    role: str
    outline: Floats
    inner: tuple[Floats, ...] = ()
    lines: tuple[LineId, ...] = ()
    outlets: Floats | None = None


@dataclass(frozen=True)
class Sheet:
    """Any other shape, as rows of points (n, k, 3) outwards from ``lines[0]``: batters, whose far edge is the ground.

    ``met`` (n,) is false where a row found no ground within the reach allowed; ``at_centre`` (n,) is true where it ends
    off the ground, at the centre of a corner, beyond which other sheets go on.

    Where a ``ground`` is told, rows may run beyond it so that what is between them ends on it exactly; rows themselves end at ``toes`` (n, 3).
    """

    title: str
    role: str
    points: Floats
    joined: Bools
    lines: tuple[LineId, ...]
    met: Bools
    at_centre: Bools
    ground: Surface | None = None
    toes: Floats | None = None

    @property
    def ends(self) -> Floats:
        """Where its rows end (n, 3)."""
        found: Floats = self.points[:, -1] if self.toes is None else self.toes
        return found


Face = Strip | Patch | Sheet


@dataclass(frozen=True)
class Piece:
    """A piece of the finished surface: its title, its role, its mesh, and which role each triangle has.

    ``rows`` (m, 3) are of a sheet the rows that each triangle lies between; none of other faces.
    """

    title: str
    role: str
    surface: Surface
    lines: tuple[LineId, ...]
    roles: tuple[str, ...]
    role_of: Ints
    rows: Ints = field(default_factory=lambda: np.empty((0, 3), dtype=np.int64))


@query
def face(q: Engine, id: FaceId) -> Face:
    """A face as its kind describes it."""
    return kind_of(id.kind).face(q, id)


@query
def strip_points(q: Engine, id: FaceId) -> Floats:
    """The points (n, k, 3) of a strip: each of its k lines at its n rows."""
    made = face(q, id)
    assert isinstance(made, Strip)
    first = line(q, made.lines[0]).plan
    frames = first.base.at(made.rows)
    found = []
    for i in made.lines:
        one = line(q, i)
        found.append(one.points(made.rows, frames if one.plan.base is first.base else None))
    points = np.stack(found, axis=1) if found else np.empty((0, 0, 3))
    return points if made.inner is None or not made.inner.any() else _fanned(points, made.rows, made.inner)


def _fanned(points: Floats, rows: Floats, inner: Bools) -> Floats:
    """A strip's points (n, k, 3) with those of its inner rows on the chords between its own, and along both edges at the nearest of these, from which
    what lies between is fanned out.
    """
    own = np.flatnonzero(~inner)
    after = np.clip(rows[own].searchsorted(rows), 1, len(own) - 1)
    a, b = own[after - 1], own[after]
    t = ((rows - rows[a]) / (rows[b] - rows[a]))[:, None, None]
    out = points.copy()
    on_chords = points[a, :, :2] + t * (points[b, :, :2] - points[a, :, :2])
    out[inner, :, :2] = on_chords[inner]
    nearest = np.where(t[:, 0, 0] < 0.5, a, b)
    out[:, [0, -1]] = points[nearest][:, [0, -1]]
    return out


@query
def finished_mesh(q: Engine, id: FaceId) -> Piece:
    """The mesh of one face."""
    made = face(q, id)
    if isinstance(made, Strip):
        surface, column = rows_of_triangles(strip_points(q, id), made.joined)
        return Piece(made.title, made.role, surface, made.lines, made.roles, column)
    if isinstance(made, Sheet):
        surface = rows_of_triangles(made.points, made.joined)[0]
        rows = surface.triangles // made.points.shape[1]
        if made.ground is not None and not surface.empty:
            cut = (made.points[:, -1, 2] - made.points[:, 0, 2])[rows].sum(axis=1) > 0
            surface, was = ended_at(surface, cut, made.ground, hinges_of(made))
            rows = rows[was]
        none = np.zeros(len(surface.triangles), dtype=np.int64)
        return Piece(made.title, made.role, surface, made.lines, (made.role,), none, rows)
    surface = filled(made.outline, list(made.inner))
    return Piece(made.title, made.role, surface, made.lines, (made.role,), np.zeros(len(surface.triangles), np.int64))


def levels_on(q: Engine, ids: tuple[FaceId, ...], places: Floats) -> Floats:
    """Levels (n,) at places (n, 2) of the first of some faces that has each; NaN where none has."""
    found = np.full(len(places), np.nan)
    for id in ids:
        made = q.attempt(finished_mesh, id)
        open_: Bools = np.isnan(found)
        if open_.any() and not isinstance(made, Unsolved) and not made.surface.empty:
            found[open_] = made.surface.levels(places[open_])
    return found


def hinges_of(made: Sheet) -> shapely.Geometry:
    """The lines in plan from which a sheet runs."""
    return shapely.multilinestrings(np.stack([made.points[:-1, 0, :2], made.points[1:, 0, :2]], axis=1)[made.joined])


def rim(q: Engine, id: FaceId) -> Floats | None:
    """The outline (n, 2) of a face that is one unbroken piece, as it is described; None for one that has gaps.

    It may cross itself, where the face does.
    """
    made = face(q, id)
    if isinstance(made, Patch):
        return made.outline[:, :2]
    points = strip_points(q, id) if isinstance(made, Strip) else made.points
    if min(points.shape[:2]) < 2 or not made.joined.all():
        return None
    return np.concatenate([points[0, :-1], points[:-1, -1], points[-1, :0:-1], points[:0:-1, 0]])[:, :2]


def rows_of_triangles(points: Floats, joined: Bools) -> tuple[Surface, Ints]:
    """Triangles between rows of points (n, k, 3), except between rows that are not joined; and each one's column."""
    n, k = points.shape[:2]
    if n < 2 or k < 2 or not joined.any():
        return Surface(np.empty((0, 3)), np.empty((0, 3), dtype=np.int64)), np.empty(0, dtype=np.int64)
    i, j = np.meshgrid(np.flatnonzero(joined), np.arange(k - 1), indexing="ij")
    a = (i * k + j).ravel()
    b, c, d = a + 1, a + k, a + k + 1
    triangles = np.concatenate([np.stack([a, b, d], axis=1), np.stack([a, d, c], axis=1)])
    column = np.concatenate([j.ravel(), j.ravel()])
    flat = points.reshape(-1, 3)
    keep = _areas(flat, triangles) > 1e-9
    return Surface(flat, triangles[keep]), column[keep]


def _areas(points: Floats, triangles: Ints) -> Floats:
    p = points[triangles]
    u, v = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
    return np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0])


def filled(outline: Floats, inner: list[Floats]) -> Surface:
    """Triangles inside a closed outline (n, 3), with the lines of ``inner`` (each (k, 3)) as edges.

    Points of the inner lines that stand on the outline are the outline's own. Raises ValueError when lines cross.
    """
    everything = np.concatenate([outline, *inner]) if inner else outline
    if not np.all(np.isfinite(everything)):
        raise ValueError("one of its lines has no level somewhere")
    first, inverse = same_places(everything, SAME)
    points = everything[first]
    n = len(outline)
    pairs, start = [np.stack([inverse[np.arange(n)], inverse[(np.arange(n) + 1) % n]], axis=1)], n
    for path in inner:
        at = inverse[start : start + len(path)]
        start += len(path)
        pairs.append(np.stack([at[:-1], at[1:]], axis=1))
    edges = np.concatenate(pairs)
    edges = edges[edges[:, 0] != edges[:, 1]]
    corners, triangles = constrained_delaunay(points[:, :2], edges)
    if len(corners) > len(points):
        raise ValueError("lines that should not cross do")
    middle = corners[triangles].mean(axis=1)
    polygon = Polygon(outline[:, :2])
    inside = shapely.contains_xy(polygon.buffer(1e-7), middle[:, 0], middle[:, 1])
    triangles = triangles[inside]
    return Surface(points, triangles[_areas(points, triangles) > 1e-9])
