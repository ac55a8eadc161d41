"""A triangulated surface and reading levels from it."""

from __future__ import annotations

from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Floats, Ints, frozen
from humble_loop.ground.grid import TriangleGrid, holding, weights_of

_EDGE = 1e-9  # barycentric slack, so that a point on an edge belongs to a triangle
_FEW = 2000  # triangles that are all tried for one point, sooner than an index of them is made


class Surface:
    """Points (n, 3) as easting, northing, level in metres, and triangles (m, 3) as indices, anticlockwise.

    Read-only. Two surfaces are equal only if they are the same object, which is what sharing them between
    versions of a site needs.
    """

    def __init__(self, points: ArrayLike, triangles: ArrayLike) -> None:
        self.points: Floats = frozen(np.asarray(points, dtype=np.float64).reshape(-1, 3))
        t = np.asarray(triangles, dtype=np.int64).reshape(-1, 3)
        if t.size and (t.min() < 0 or t.max() >= len(self.points)):
            raise ValueError("a triangle names a point that is not there")
        if t.size:
            area = _double_areas(self.points, t)
            if np.any(area < 0):
                t = np.where((area < 0)[:, None], t[:, [0, 2, 1]], t)
        self.triangles: Ints = frozen(t, np.int64)

        self._shifted: dict[tuple[float, float], Surface] = {}

    def shifted(self, east: float, north: float) -> Surface:
        """The same surface moved in plan; the same object for the same move, and itself for none."""
        if east == 0.0 and north == 0.0:
            return self
        if (east, north) not in self._shifted:
            self._shifted[(east, north)] = Surface(self.points + [east, north, 0.0], self.triangles)
        return self._shifted[(east, north)]

    def __reduce__(self) -> tuple[object, ...]:
        """Another process gets the points and triangles; an index is sooner made again than sent."""
        return Surface, (self.points, self.triangles)

    def __repr__(self) -> str:
        return f"Surface({len(self.points)} points, {len(self.triangles)} triangles)"

    @property
    def empty(self) -> bool:
        """Whether there is no triangle."""
        return len(self.triangles) == 0

    @cached_property
    def bounds(self) -> tuple[float, float, float, float]:
        """West, south, east, north of the points; zeros when empty."""
        if self.empty:
            return (0.0, 0.0, 0.0, 0.0)
        p = self.points[:, :2]
        (w, s), (e, n) = p.min(axis=0), p.max(axis=0)
        return (float(w), float(s), float(e), float(n))

    @cached_property
    def origin(self) -> Floats:
        """A corner near the points, subtracted before arithmetic so that large coordinates keep their digits."""
        return np.array(self.bounds[:2])

    @cached_property
    def local(self) -> Floats:
        """The points (n, 3) with eastings and northings measured from ``origin``."""
        return frozen(self.points - [*self.origin, 0.0])

    @cached_property
    def grid(self) -> TriangleGrid:
        """The index of triangles by place."""
        return TriangleGrid.build(self.local[:, :2], self.triangles)

    @cached_property
    def _weights(self) -> Floats:
        return weights_of(*(self.local[:, :2].take(self.triangles[:, k], axis=0) for k in range(3)))

    @cached_property
    def planes(self) -> Floats:
        """Coefficients (m, 3): level = a x + b y + c, with x, y measured from ``origin``."""
        p = self.local
        a, b, c = (p.take(self.triangles[:, k], axis=0) for k in range(3))
        u, v = b - a, c - a
        det = _cross(u[:, :2], v[:, :2])
        safe = np.where(det == 0, 1.0, det)
        gx = (u[:, 2] * v[:, 1] - v[:, 2] * u[:, 1]) / safe
        gy = (v[:, 2] * u[:, 0] - u[:, 2] * v[:, 0]) / safe
        gx, gy = np.where(det == 0, 0.0, gx), np.where(det == 0, 0.0, gy)
        return np.stack([gx, gy, a[:, 2] - gx * a[:, 0] - gy * a[:, 1]], axis=1)

    @cached_property
    def edges(self) -> Ints:
        """Every edge once, as sorted pairs of point indices (k, 2)."""
        t = self.triangles
        a, b = t.ravel(), t[:, [1, 2, 0]].ravel()
        code = np.unique(np.minimum(a, b) * len(self.points) + np.maximum(a, b))
        return np.stack([code // len(self.points), code % len(self.points)], axis=1)

    @cached_property
    def outline_edges(self) -> Ints:
        """Edges (k, 2) with a triangle on one side only, run anticlockwise round the surface."""
        t = self.triangles
        e = np.concatenate([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]])
        key = np.sort(e, axis=1)
        code = key[:, 0] * len(self.points) + key[:, 1]
        _, inverse, counts = np.unique(code, return_inverse=True, return_counts=True)
        return np.asarray(e[counts[inverse] == 1])

    def find(self, points: ArrayLike) -> Ints:
        """Index of the triangle that holds each of ``points`` (n, 2 or more columns); -1 where there is none."""
        p = np.atleast_2d(np.asarray(points, dtype=np.float64))[:, :2] - self.origin
        if self.empty:
            return np.full(len(p), -1)
        if len(p) == 1 and len(self.triangles) <= _FEW and "grid" not in self.__dict__:
            return np.array([holding(self._weights, float(p[0, 0]), float(p[0, 1]), _EDGE)])
        return self.grid.find(p, _EDGE)

    def levels(self, points: ArrayLike) -> Floats:
        """Levels (n,) in metres under ``points`` (n, 2); NaN off the surface."""
        p = np.atleast_2d(np.asarray(points, dtype=np.float64))[:, :2]
        z = np.full(len(p), np.nan)
        if self.empty:
            return z
        if len(p) == 1:
            t = self.find(p)
            x, y = p[0] - self.origin
            a, b, c = self.planes[t[0]]
            return np.array([a * x + b * y + c]) if t[0] >= 0 else z
        x = p - self.origin
        for part in self.grid.batches(x):
            xp = x[part]
            t = self.grid.find(xp, _EDGE)
            plane = self.planes.take(t, axis=0)
            level = plane[:, 0] * xp[:, 0] + plane[:, 1] * xp[:, 1] + plane[:, 2]
            z[part] = np.where(t >= 0, level, np.nan)
        return z

    def slopes(self, points: ArrayLike) -> Floats:
        """Level differences per metre east and north (n, 2) under ``points``; NaN off the surface."""
        t = self.find(points)
        if self.empty:
            return np.full((len(t), 2), np.nan)
        return np.where((t >= 0)[:, None], self.planes[t, :2], np.nan)

    def areas(self) -> Floats:
        """Plan areas (m,) of the triangles in m2."""
        return 0.5 * _double_areas(self.points, self.triangles)


class Problem(NamedTuple):
    """Something suspicious in a survey: what it is in words, and where."""

    kind: str
    message: str
    easting: float
    northing: float


def _double_areas(points: Floats, triangles: Ints) -> Floats:
    x, y = (np.ascontiguousarray(points[:, k]) for k in range(2))
    a, b, c = (triangles[:, k] for k in range(3))
    xa, ya = x.take(a), y.take(a)
    return np.asarray((x.take(b) - xa) * (y.take(c) - ya) - (y.take(b) - ya) * (x.take(c) - xa))


def _cross(u: Floats, v: Floats) -> Floats:
    return np.asarray(u[..., 0] * v[..., 1] - u[..., 1] * v[..., 0])
