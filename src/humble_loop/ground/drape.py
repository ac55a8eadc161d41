"""Lines laid on a surface: a point at every triangle edge that is crossed, no sampling."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Floats, Ints, clipped, left_normals, tangents
from humble_loop.geometry.chain import Chain
from humble_loop.ground.surface import Surface


class Crossings(NamedTuple):
    """Where lines cross triangle edges: ``line`` index (k,), distance ``along`` (k,) in metres, ``level`` (k,).

    Sorted by line, then distance. Each line's two ends are included; a level is NaN off the surface.
    """

    line: Ints
    along: Floats
    level: Floats

    def by_line(self, count: int) -> list[Crossings]:
        """The crossings of each of ``count`` lines."""
        cuts = np.searchsorted(self.line, np.arange(count + 1))
        return [
            Crossings(self.line[a:b], self.along[a:b], self.level[a:b])
            for a, b in zip(cuts[:-1], cuts[1:], strict=True)
        ]


class Draped(NamedTuple):
    """A line on the ground: chainages (n,) and levels (n,), with NaN levels across gaps."""

    chainages: Floats
    levels: Floats


def cross_segments(surface: Surface, start: ArrayLike, end: ArrayLike) -> Crossings:
    """Cross straight segments from ``start`` to ``end`` (each (n, 2)) with every edge of ``surface``."""
    a = np.atleast_2d(np.asarray(start, dtype=np.float64))[:, :2]
    b = np.atleast_2d(np.asarray(end, dtype=np.float64))[:, :2]
    n = len(a)
    length = np.hypot(*(b - a).T)
    ends = np.concatenate([np.zeros(n), length])
    lines = np.concatenate([np.arange(n), np.arange(n)])
    levels = surface.levels(np.concatenate([a, b]))
    if surface.empty or n == 0:
        return _sorted(lines, ends, levels)
    hit = _hits(surface, a - surface.origin, b - surface.origin)
    z = hit.p[:, 2] + hit.u * (hit.q[:, 2] - hit.p[:, 2])
    return _sorted(
        np.concatenate([lines, hit.line]),
        np.concatenate([ends, hit.t * length[hit.line]]),
        np.concatenate([levels, z]),
    )


class _Hits(NamedTuple):
    """Crossings of lines with edges p-q: ``t`` along the line, ``u`` along the edge, both 0 to 1."""

    line: Ints
    t: Floats
    u: Floats
    p: Floats
    q: Floats


def _hits(surface: Surface, a: Floats, b: Floats) -> _Hits:
    line, triangle = surface.grid.near_lines(a, b)
    corner = surface.local
    d = b[line] - a[line]
    found = []
    for k in range(3):
        p, q = corner[surface.triangles[triangle, k]], corner[surface.triangles[triangle, (k + 1) % 3]]
        e = q[:, :2] - p[:, :2]
        det = d[:, 0] * e[:, 1] - d[:, 1] * e[:, 0]
        w = p[:, :2] - a[line]
        with np.errstate(divide="ignore", invalid="ignore"):
            t = (w[:, 0] * e[:, 1] - w[:, 1] * e[:, 0]) / det
            u = (w[:, 0] * d[:, 1] - w[:, 1] * d[:, 0]) / det
        hit = np.isfinite(t) & (t > 0) & (t < 1) & (u >= -1e-12) & (u <= 1 + 1e-12)
        found.append((line[hit], t[hit], u[hit], p[hit], q[hit]))
    return _Hits(*(np.concatenate([f[k] for f in found]) for k in range(5)))


def _sorted(line: Ints, along: Floats, level: Floats) -> Crossings:
    order = np.lexsort((along, line))
    line, along, level = line[order], along[order], level[order]
    if len(line):
        # The same crossing seen from both triangles of an edge, or at a corner, is one point.
        same = (np.diff(line) == 0) & (np.diff(along) < 1e-9)
        first = np.concatenate([[True], ~same])
        group = np.cumsum(first) - 1
        best = np.full(group[-1] + 1, np.nan)
        known = np.isfinite(level)
        best[group[known]] = level[known]
        line, along, level = line[first], along[first], best
    return Crossings(line, along, level)


def drape(surface: Surface, chain: Chain, offset: float = 0.0) -> Draped:
    """The long section of ``surface`` along ``chain`` at ``offset`` (m, left positive).

    There is a point at every edge crossed, at both ends and at every joint of the chain; across a gap in the
    surface two points with NaN stand between. Chainages are those of ``chain``.
    """
    s = chain.sampled(sag=0.002, reach=abs(offset))
    p = chain.points_at(s, offset)
    keys = chain.key_chainages()
    at, level = keys, surface.levels(chain.points_at(keys, offset))
    if not surface.empty:
        hit = _hits(surface, p[:-1] - surface.origin, p[1:] - surface.origin)
        crossing, z = _on_curve(surface, chain, offset, s[hit.line] + hit.t * np.diff(s)[hit.line], hit)
        at, level = np.concatenate([at, crossing]), np.concatenate([level, z])
    ordered = _sorted(np.zeros(len(at), dtype=np.int64), at, level)
    return _with_gaps(surface, chain, offset, ordered.along, ordered.level)


def _on_curve(surface: Surface, chain: Chain, offset: float, at: Floats, hit: _Hits) -> tuple[Floats, Floats]:
    """Slide crossings found on chords along the curve until they lie on the surface edge (Newton's method)."""
    p, q = hit.p[:, :2] + surface.origin, hit.q[:, :2] + surface.origin
    e = q - p
    for _ in range(5):
        frames = chain.at(at)
        w = frames.points + left_normals(frames.headings) * offset - p
        tangent = tangents(frames.headings) * (1.0 - frames.curvatures * offset)[:, None]
        miss = e[:, 0] * w[:, 1] - e[:, 1] * w[:, 0]
        rate = e[:, 0] * tangent[:, 1] - e[:, 1] * tangent[:, 0]
        # A line that only grazes an edge keeps its chord's crossing: there is nothing to divide by.
        step = np.where(np.abs(rate) > 1e-9, miss / np.where(rate == 0, 1.0, rate), 0.0)
        at = clipped(at - clipped(step, -0.5, 0.5), 0.0, chain.total)
    w = chain.points_at(at, offset) - p
    u = clipped(np.einsum("ij,ij->i", w, e) / np.maximum(np.einsum("ij,ij->i", e, e), 1e-300), 0.0, 1.0)
    return at, hit.p[:, 2] + u * (hit.q[:, 2] - hit.p[:, 2])


def _with_gaps(surface: Surface, chain: Chain, offset: float, at: Floats, level: Floats) -> Draped:
    if len(at) < 2:
        return Draped(at, level)
    middle = 0.5 * (at[:-1] + at[1:])
    off = np.isnan(surface.levels(chain.points_at(middle, offset))) & np.isfinite(level[:-1]) & np.isfinite(level[1:])
    gap = np.flatnonzero(off)
    at = np.insert(at, gap + 1, middle[gap])
    level = np.insert(level, gap + 1, np.nan)
    return Draped(at, level)


def level_along(draped: Draped, chainages: ArrayLike) -> Floats:
    """Levels at ``chainages`` by straight lines between draped points; NaN in gaps and outside."""
    s = np.asarray(chainages, dtype=np.float64)
    if len(draped.chainages) == 0:
        return np.full(s.shape, np.nan)
    return np.interp(s, draped.chainages, draped.levels, left=np.nan, right=np.nan)
