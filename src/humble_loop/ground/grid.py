"""An index of triangles by square cells, read by whole arrays of points or lines."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from humble_loop.geometry.arrays import Bools, Floats, Ints, clipped

_BATCH = 1 << 16
_FEW = 2000  # points
_MANY = 100_000  # pairs, beyond which another way of sorting pays for the time that it takes to be loaded


@dataclass(frozen=True)
class TriangleGrid:
    """For each cell, the triangles whose bounding box or shape touches it, in compressed rows."""

    points: Floats
    triangles: Ints
    cell: float
    columns: int
    rows: int
    first: Ints
    members: Ints
    weights: Floats  # (m, 6): the two barycentric functions as a x + b y + c

    @staticmethod
    def build(points: Floats, triangles: Ints) -> TriangleGrid:
        """Index ``triangles`` (m, 3) over ``points`` (n, 2), all coordinates being near zero and positive."""
        a, b, c = (points.take(triangles[:, k], axis=0) for k in range(3))
        low = np.minimum(np.minimum(a, b), c)
        high = np.maximum(np.maximum(a, b), c)
        extent = np.maximum(points.max(axis=0), 1e-6) if len(points) else np.ones(2)
        area = max(float(extent[0] * extent[1]), 1e-9)
        cell = max(np.sqrt(area / max(len(triangles), 1)) * 1.2, float(extent.max()) / 4000.0, 1e-6)
        columns, rows = (int(v) for v in np.floor(extent / cell) + 1)
        top = np.array([columns - 1, rows - 1], dtype=np.int32)
        i0 = clipped((low / cell).astype(np.int32), 0, top)
        i1 = clipped((high / cell).astype(np.int32), 0, top)
        span = i1 - i0 + 1
        count = span[:, 0] * span[:, 1]
        cells, owners = _spread(i0, span, count, columns)
        large = count[owners] > 16
        if np.any(large):
            keep = ~large
            keep[large] = _touches(cells[large], owners[large], a, b, c, cell, columns)
            cells, owners = cells[keep], owners[keep]
        first, members = _in_rows(cells, owners, (columns * rows, len(triangles)))
        return TriangleGrid(points, triangles, float(cell), columns, rows, first, members, weights_of(a, b, c))

    def batches(self, p: Floats) -> list[Ints]:
        """Indices of points (n, 2) in batches that lie together, so the cache already holds their triangles."""
        if len(p) <= _BATCH:
            return [np.arange(len(p))]
        with np.errstate(invalid="ignore"):
            strips = np.nan_to_num(p[:, 1] / self.cell).astype(np.int32) * np.int32(self.columns)
            strips += np.nan_to_num(p[:, 0] / self.cell).astype(np.int32)
        order = np.argsort(strips)
        return [order[start : start + _BATCH] for start in range(0, len(p), _BATCH)]

    def find(self, p: Floats, slack: float) -> Ints:
        """Index of a triangle that holds each point (n, 2), -1 where none does."""
        if len(p) == 1:
            return np.array([self._find_one(float(p[0, 0]), float(p[0, 1]), slack)])
        found = np.full(len(p), -1, dtype=np.int64)
        with np.errstate(invalid="ignore"):
            ok = np.all(np.isfinite(p), axis=1) & np.all(p >= -self.cell, axis=1)
            ok &= (p[:, 0] <= (self.columns + 1) * self.cell) & (p[:, 1] <= (self.rows + 1) * self.cell)
        todo = np.flatnonzero(ok)
        ij = clipped((p[todo] / self.cell).astype(np.int64), 0, [self.columns - 1, self.rows - 1])
        cells = ij[:, 1] * self.columns + ij[:, 0]
        position, end = self.first[cells], self.first[cells + 1]
        x, y = p[todo, 0], p[todo, 1]
        if len(todo) <= _FEW:
            # All triangles of their cells in one go: a few calls of numpy instead of a dozen for each try.
            count = end - position
            of = np.repeat(np.arange(len(todo)), count)
            t = self.members[np.arange(len(of)) + (position - np.cumsum(count) + count)[of]]
            holds = np.flatnonzero(self._hold(t, x[of], y[of], slack))
            first = holds[np.diff(of[holds], prepend=-1) > 0]
            found[todo[of[first]]] = t[first]
            return found
        active = np.flatnonzero(position < end)
        while active.size:
            t = self.members[position[active]]
            hit = self._hold(t, x[active], y[active], slack)
            found[todo[active[hit]]] = t[hit]
            active = active[~hit]
            position[active] += 1
            active = active[position[active] < end[active]]
        return found

    def _hold(self, t: Ints, x: Floats, y: Floats, slack: float) -> Bools:
        """Whether triangles (k,) hold the places (k,) that are paired with them."""
        w = self.weights.take(t, axis=0)
        u = w[:, 0] * x + w[:, 1] * y + w[:, 2]
        v = w[:, 3] * x + w[:, 4] * y + w[:, 5]
        inside: Bools = (u >= -slack) & (v >= -slack) & (u + v <= 1 + slack)
        return inside

    def _find_one(self, x: float, y: float, slack: float) -> int:
        """For one point: all triangles of its cell in one go, which is what a cursor needs."""
        i, j = x / self.cell, y / self.cell
        if not (-1.0 <= i <= self.columns + 1 and -1.0 <= j <= self.rows + 1):  # also where it is no number
            return -1
        cell = min(max(int(j), 0), self.rows - 1) * self.columns + min(max(int(i), 0), self.columns - 1)
        members = self.members[self.first[cell] : self.first[cell + 1]]
        k = holding(self.weights.take(members, axis=0), x, y, slack)
        return int(members[k]) if k >= 0 else -1

    def near_lines(self, start: Floats, end: Floats) -> tuple[Ints, Ints]:
        """Pairs (line, triangle) of every triangle that a straight line from ``start`` to ``end`` may cross.

        ``start``, ``end``: (n, 2). Pairs are unique and sorted by line; they include near misses.
        """
        d = end - start
        length = np.hypot(d[:, 0], d[:, 1])
        steps = np.maximum(1, np.ceil(length / (0.5 * self.cell))).astype(np.int64) + 1
        line = np.repeat(np.arange(len(start)), steps)
        k = np.arange(len(line)) - np.repeat(np.cumsum(steps) - steps, steps)
        t = k / np.maximum(steps - 1, 1)[line]
        p = start[line] + d[line] * t[:, None]
        ij = np.floor(p / self.cell).astype(np.int64)
        shifts = np.array([[i, j] for i in (-1, 0, 1) for j in (-1, 0, 1)])
        ij = (ij[:, None, :] + shifts[None, :, :]).reshape(-1, 2)
        line = np.repeat(line, 9)
        ok = (ij[:, 0] >= 0) & (ij[:, 0] < self.columns) & (ij[:, 1] >= 0) & (ij[:, 1] < self.rows)
        cells = self.columns * self.rows
        code = np.unique(line[ok] * cells + ij[ok, 1] * self.columns + ij[ok, 0])
        line, where = code // cells, code % cells
        count = self.first[where + 1] - self.first[where]
        owner = np.repeat(np.arange(len(where)), count)
        k = np.arange(len(owner)) - np.repeat(np.cumsum(count) - count, count)
        member = self.members[self.first[where[owner]] + k]
        code = np.unique(line[owner] * len(self.triangles) + member)
        return code // len(self.triangles), code % len(self.triangles)


def _in_rows(rows: Ints, members: Ints, shape: tuple[int, int]) -> tuple[Ints, Ints]:
    """Pairs (row, member) as compressed rows: where each begins, and its members.

    Pairs are of numbers below ``shape`` and stand in the order of members.
    """
    if len(rows) > _MANY:
        # A sparse matrix is made by a counting sort, many times faster than sorting the pairs.
        from scipy.sparse import csr_array

        table = csr_array((np.ones(len(rows), dtype=np.int8), (rows, members)), shape=shape)
        return table.indptr, table.indices
    first = np.zeros(shape[0] + 1, dtype=np.int64)
    np.cumsum(np.bincount(rows, minlength=shape[0]), out=first[1:])
    return first, members[np.argsort(rows, kind="stable")]


def _spread(i0: Ints, span: Ints, count: Ints, columns: int) -> tuple[Any, Any]:
    owners = np.repeat(np.arange(len(count), dtype=np.int32), count)
    k = np.arange(len(owners), dtype=np.int32) - np.repeat((np.cumsum(count) - count).astype(np.int32), count)
    wide = span[owners, 0]
    cells = (i0[owners, 1] + k // wide) * columns + i0[owners, 0] + k % wide
    return cells, owners


def _touches(cells: Ints, owners: Ints, a: Floats, b: Floats, c: Floats, cell: float, columns: int) -> np.ndarray:
    """Whether each cell lies on the inner side of all three edges of its triangle, by its nearest corner."""
    middle = (np.stack([cells % columns, cells // columns], axis=1) + 0.5) * cell
    corners = [v[owners] for v in (a, b, c)]
    u, v = corners[1] - corners[0], corners[2] - corners[0]
    turn = np.where(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0] < 0, -1.0, 1.0)
    keep = np.ones(len(cells), dtype=bool)
    for k in range(3):
        p, q = corners[k], corners[(k + 1) % 3]
        n = np.stack([-(q - p)[:, 1], (q - p)[:, 0]], axis=1) * turn[:, None]
        depth = np.einsum("ij,ij->i", middle - p, n) + 0.5001 * cell * np.abs(n).sum(axis=1)
        keep &= depth >= 0
    return keep


def holding(weights: Floats, x: float, y: float, slack: float) -> int:
    """The first of some triangles, given by their weights (m, 6), that holds a point; -1 where none does."""
    u = weights[:, 0] * x + weights[:, 1] * y + weights[:, 2]
    v = weights[:, 3] * x + weights[:, 4] * y + weights[:, 5]
    hit = (u >= -slack) & (v >= -slack) & (u + v <= 1 + slack)
    k = int(hit.argmax()) if len(hit) else 0
    return k if len(hit) and hit[k] else -1


def weights_of(a: Floats, b: Floats, c: Floats) -> Floats:
    """The two barycentric functions (m, 6) of triangles with corners a, b, c (each (m, 2)): a x + b y + c."""
    u, v = b - a, c - a
    det = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
    flat = det == 0
    det = np.where(flat, 1.0, det)
    w = (
        np.stack(
            [
                v[:, 1],
                -v[:, 0],
                -(v[:, 1] * a[:, 0] - v[:, 0] * a[:, 1]),
                -u[:, 1],
                u[:, 0],
                u[:, 1] * a[:, 0] - u[:, 0] * a[:, 1],
            ],
            axis=1,
        )
        / det[:, None]
    )
    # A triangle without area must never be found: its weights say 'far outside'.
    w[flat] = [0.0, 0.0, -1.0, 0.0, 0.0, -1.0]
    return w
