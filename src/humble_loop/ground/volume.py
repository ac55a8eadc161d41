"""Volumes between two surfaces, exact over their common refinement."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from humble_loop.geometry.arrays import Floats, Ints, clipped
from humble_loop.ground.surface import Surface


class Volume(NamedTuple):
    """Cut and fill in m3 (both positive), and the plan area in m2 over which both surfaces exist."""

    cut: float
    fill: float
    area: float

    def __add__(self, other: object) -> Volume:
        if not isinstance(other, Volume):
            return NotImplemented
        return Volume(self.cut + other.cut, self.fill + other.fill, self.area + other.area)


def volume_between(ground: Surface, design: Surface) -> Volume:
    """Cut (ground above design) and fill (design above ground), exactly.

    Every design triangle is clipped against every ground triangle that it meets; on each piece the
    difference of levels is a plane, which is integrated on either side of its zero line.
    """
    if ground.empty or design.empty:
        return Volume(0.0, 0.0, 0.0)
    pairs = _meeting(ground, design)
    if not len(pairs):
        return Volume(0.0, 0.0, 0.0)
    d, g = pairs[:, 0], pairs[:, 1]
    origin = ground.origin
    corners = design.points[design.triangles[d]]
    polygon, count = corners[:, :, :2] - origin, np.full(len(d), 3)
    other = ground.points[ground.triangles[g]][:, :, :2] - origin
    for k in range(3):
        a, b = other[:, k], other[:, (k + 1) % 3]
        normal = np.stack([-(b - a)[:, 1], (b - a)[:, 0]], axis=1)
        polygon, count = clip_convex(polygon, count, normal, -np.einsum("ij,ij->i", normal, a))
    plane = design.planes[d] - ground.planes[g]
    shift = design.origin - origin
    plane[:, 2] -= design.planes[d, 0] * shift[0] + design.planes[d, 1] * shift[1]
    area, _ = _integrate(polygon, count, plane)
    fill = _integrate(*clip_convex(polygon, count, plane[:, :2], plane[:, 2]), plane)[1]
    cut = _integrate(*clip_convex(polygon, count, -plane[:, :2], -plane[:, 2]), plane)[1]
    return Volume(max(0.0, float(-cut.sum())), max(0.0, float(fill.sum())), float(area.sum()))


def clip_convex(polygon: Floats, count: Ints, normal: Floats, constant: Floats) -> tuple[Floats, Ints]:
    """Keep the part of each convex polygon where normal . p + constant >= 0.

    ``polygon`` (n, k, 2) padded, ``count`` (n,) corners in use, ``normal`` (n, 2), ``constant`` (n,).
    Returns polygons (n, k + 1, 2) and counts.
    """
    n, k, _ = polygon.shape
    index = np.arange(k)[None, :]
    used = index < count[:, None]
    following = np.where(index + 1 < count[:, None], index + 1, 0)
    nxt = np.take_along_axis(polygon, following[:, :, None], axis=1)
    here = np.einsum("nkj,nj->nk", polygon, normal) + constant[:, None]
    there = np.take_along_axis(here, following, axis=1)
    keep = used & (here >= 0)
    cross = used & ((here >= 0) != (there >= 0))
    gap = here - there
    share = here / np.where(gap == 0, 1.0, gap)
    at = polygon + share[:, :, None] * (nxt - polygon)
    # Each corner yields itself and/or the crossing after it, in that order.
    slots = np.stack([keep, cross], axis=2).reshape(n, 2 * k)
    points = np.stack([polygon, at], axis=2).reshape(n, 2 * k, 2)
    place = np.cumsum(slots, axis=1) - 1
    out = np.zeros((n, k + 1, 2))
    rows, cols = np.nonzero(slots)
    target = place[rows, cols]
    ok = target <= k
    out[rows[ok], target[ok]] = points[rows[ok], cols[ok]]
    return out, np.minimum(slots.sum(axis=1), k + 1)


def _integrate(polygon: Floats, count: Ints, plane: Floats) -> tuple[Floats, Floats]:
    """Area (n,) of each polygon and the integral (n,) of plane a x + b y + c over it, by a fan of triangles."""
    k = polygon.shape[1]
    area, total = np.zeros(len(polygon)), np.zeros(len(polygon))
    a = polygon[:, 0]
    for i in range(1, k - 1):
        b, c = polygon[:, i], polygon[:, i + 1]
        u, v = b - a, c - a
        piece = np.where(i + 1 < count, 0.5 * (u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]), 0.0)
        middle = (a + b + c) / 3.0
        height = plane[:, 0] * middle[:, 0] + plane[:, 1] * middle[:, 1] + plane[:, 2]
        area += piece
        total += piece * height
    return area, total


def _meeting(ground: Surface, design: Surface) -> Ints:
    """Pairs (design triangle, ground triangle) whose bounding boxes meet, through the ground's grid."""
    grid = ground.grid
    p = design.points[design.triangles][:, :, :2] - ground.origin
    low, high = p.min(axis=1), p.max(axis=1)
    top = [grid.columns - 1, grid.rows - 1]
    i0 = np.floor(low / grid.cell).astype(np.int64)
    i1 = np.floor(high / grid.cell).astype(np.int64)
    outside = np.any((i1 < 0) | (i0 > top), axis=1)
    i0, i1 = clipped(i0, 0, top), clipped(i1, 0, top)
    span = i1 - i0 + 1
    count = np.where(outside, 0, span[:, 0] * span[:, 1])
    owner = np.repeat(np.arange(len(p)), count)
    k = np.arange(len(owner)) - np.repeat(np.cumsum(count) - count, count)
    wide = span[owner, 0]
    cell = (i0[owner, 1] + k // wide) * grid.columns + i0[owner, 0] + k % wide
    many = grid.first[cell + 1] - grid.first[cell]
    pair_owner = np.repeat(owner, many)
    j = np.arange(len(pair_owner)) - np.repeat(np.cumsum(many) - many, many)
    member = grid.members[np.repeat(grid.first[cell], many) + j]
    code = np.unique(pair_owner * len(ground.triangles) + member)
    d, g = code // len(ground.triangles), code % len(ground.triangles)
    near = np.unique(g)
    q = ground.local[ground.triangles[near], :2]
    place = np.searchsorted(near, g)
    g_low, g_high = q.min(axis=1)[place], q.max(axis=1)[place]
    meet = np.all((g_low <= high[d]) & (g_high >= low[d]), axis=1)
    return np.stack([d[meet], g[meet]], axis=1)
