"""Chains of straights, arcs and clothoids: positions, feet of points, key points."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import accumulate
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry import one_place
from humble_loop.geometry.arrays import Floats, Ints, clipped, frozen, kept, left_normals, tangents

# 24 nodes integrate a clothoid whose heading turns by up to a full circle to better than 1e-12 m per 100 m.
_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(24)
_NODES, _WEIGHTS = 0.5 * (_NODES + 1.0), 0.5 * _WEIGHTS

_MOST_PAIRS = 20_000  # of points and elements that are looked at all at once
_FEW = 40  # elements that are looked at one by one for a single point
_TOGETHER = 64  # points that are looked at together where there are more pairs
_NOTHING = 1e-9  # metres of an element that is none
_SAME = 1e-6  # metres between two places that are one
_GRID, _NEWTON = 65, 8  # places on a transition between which it is looked for a crossing, and steps to where it is
_FLAT = 1e-12  # curvature (1/m) below which an arc is a straight to every digit that counts
STRAIGHT, ARC, TRANSITION = "straight", "arc", "transition"


class Element(NamedTuple):
    """One piece of a chain: curvature runs linearly from ``k0`` to ``k1`` (1/m, left positive)."""

    length: float
    k0: float
    k1: float

    @property
    def kind(self) -> str:
        """'straight', 'arc' or 'transition'."""
        if self.k0 != self.k1:
            return TRANSITION
        return STRAIGHT if self.k0 == 0.0 else ARC


class Frames(NamedTuple):
    """Where a chain is at some chainages: points (n, 2), headings (n,) in radians, curvatures (n,) in 1/m."""

    points: Floats
    headings: Floats
    curvatures: Floats


class Feet(NamedTuple):
    """Feet of points on a chain: chainages, signed offsets (left positive), headings, and whether each foot is square."""

    chainages: Floats
    offsets: Floats
    headings: Floats
    square: np.ndarray


@dataclass(frozen=True)
class Chain:
    """A line in plan made of elements that follow each other, tangentially unless a kink is stored.

    Arrays have one entry an element: start point ``xy`` (n, 2), start ``heading`` (radians), ``length`` (m),
    start and end curvature ``k0`` and ``k1`` (1/m, left positive). ``starts`` (n + 1,) are the chainages at
    which elements begin, and the end.
    """

    xy: Floats
    heading: Floats
    length: Floats
    k0: Floats
    k1: Floats
    starts: Floats

    @staticmethod
    def from_elements(point: ArrayLike, heading: float, elements: Sequence[Element]) -> Chain:
        """Lay ``elements`` one after the other from ``point`` (2,) along ``heading`` (radians)."""
        (x, y), onwards = (float(v) for v in np.asarray(point)), float(heading)
        places = []
        for e in elements:
            places.append((x, y, onwards))
            if e.k0 == e.k1:
                dx, dy, onwards = one_place.run(e.length, e.k0, onwards)
            else:
                dx, dy, onwards = (float(v[0]) for v in _run(*np.array([[e.length, e.length, *e[1:], onwards]]).T))
            x, y = x + dx, y + dy
        made = np.array(places).reshape(-1, 3)
        return Chain.assembled(made[:, :2], made[:, 2], elements)

    @staticmethod
    def from_points(points: ArrayLike) -> Chain:
        """A chain of straights through ``points`` (n >= 2, 2); repeated points are left out.

        Raises ValueError when fewer than two different points remain.
        """
        p = np.asarray(points, dtype=np.float64)[:, :2]
        keep = np.concatenate([[True], np.hypot(*np.diff(p, axis=0).T) > 1e-9])
        p = p[keep]
        if len(p) < 2:
            raise ValueError("a line needs two different points")
        d = np.diff(p, axis=0)
        lengths = np.hypot(d[:, 0], d[:, 1])
        return Chain.assembled(p[:-1], np.arctan2(d[:, 1], d[:, 0]), [Element(float(v), 0.0, 0.0) for v in lengths])

    @staticmethod
    def assembled(xy: Floats, heading: Floats, elements: Sequence[Element]) -> Chain:
        """A chain whose elements begin at given points (n, 2) and headings (n,); they may meet at kinks."""
        if not elements:
            raise ValueError("a line needs at least one element")
        length, k0, k1 = (frozen(v) for v in zip(*elements))
        starts = frozen([0.0, *accumulate(e.length for e in elements)])
        return Chain(frozen(xy), frozen(heading), length, k0, k1, starts)

    @kept
    def _turns(self) -> bool:
        """Whether there are transitions in it."""
        return bool((self.k0 != self.k1).any())

    @kept
    def _pieces(self) -> tuple[list[one_place.Piece], list[float]]:
        """Its elements in plain numbers, as if none were a transition, and where they start."""
        columns = (self.xy[:, 0], self.xy[:, 1], self.heading, self.length, self.k0, self.starts)
        rows = zip(*(c.tolist() for c in columns))
        return [
            one_place.Piece.of(x, y, h, length, k, at, _FLAT) for x, y, h, length, k, at in rows
        ], self.starts.tolist()

    @kept
    def _rates(self) -> Floats:
        """Change of curvature per metre of each element (n,)."""
        long = self.length > 0
        return np.where(long, (self.k1 - self.k0) / np.where(long, self.length, 1.0), 0.0)

    @property
    def total(self) -> float:
        """Length in metres."""
        return float(self.starts[-1])

    @property
    def elements(self) -> list[Element]:
        """The elements in order."""
        return [Element(float(a), float(b), float(c)) for a, b, c in zip(self.length, self.k0, self.k1, strict=True)]

    def element_at(self, chainages: ArrayLike) -> Ints:
        """Index of the element that holds each chainage; at a joint, the one that begins there."""
        s = np.asarray(chainages, dtype=np.float64)
        return clipped(np.searchsorted(self.starts, s, side="right") - 1, 0, len(self.length) - 1)

    def at(self, chainages: ArrayLike) -> Frames:
        """Positions at ``chainages`` (any shape, flattened).

        Beyond the ends the line runs on straight along its end tangents, so that a caller who cares checks
        against ``total``; nothing is clipped.
        """
        s = np.asarray(chainages, dtype=np.float64).ravel()
        if s.size == 1 and not self._turns:
            east, north, *turn = one_place.frame(*self._pieces, float(s[0]))
            return Frames(np.array([[east, north]]), np.array(turn[:1]), np.array(turn[1:]))
        i = self.element_at(s)
        t, length, k0 = s - self.starts[i], self.length[i], self.k0[i]
        inside = np.minimum(np.maximum(t, 0.0), length)
        beyond = t - inside
        dx, dy, heading = _run(inside, length, k0, self.k1[i] if self._turns else k0, self.heading[i])
        curvature = k0 + self._rates[i] * inside if self._turns else k0
        if beyond.any():
            dx, dy = dx + beyond * np.cos(heading), dy + beyond * np.sin(heading)
            curvature = np.where(beyond == 0.0, curvature, 0.0)
        points = np.empty((s.size, 2))
        points[:, 0], points[:, 1] = self.xy[i, 0] + dx, self.xy[i, 1] + dy
        return Frames(points, heading, curvature)

    def place(self, s: float) -> tuple[float, float, float, float]:
        """East, north, heading and curvature at one chainage."""
        if not self._turns:
            return one_place.frame(*self._pieces, s)
        points, headings, curvatures = self.at([s])
        return float(points[0, 0]), float(points[0, 1]), float(headings[0]), float(curvatures[0])

    def foot(self, east: float, north: float) -> tuple[float, float, float]:
        """Chainage, offset (left positive) and heading of the nearest foot of one point, with the end tangents run on for ever."""
        if not self._turns:
            return one_place.foot(self._pieces[0], east, north, True)[:3]
        feet = self.feet([(east, north)], extend=True)
        return float(feet.chainages[0]), float(feet.offsets[0]), float(feet.headings[0])

    def leaves(self, middle: ArrayLike, radius: float) -> list[float]:
        """Chainages, rising, at which it crosses a circle of ``radius`` about ``middle`` (2,); where it only touches that it does not."""
        x, y = (float(v) for v in np.asarray(middle))
        found: list[float] = []
        for j, piece in enumerate(self._pieces[0]):
            if self.k0[j] == self.k1[j]:
                found += one_place.circle_places(piece, x, y, radius)
            else:
                found += (piece.start + self._leaves_in_turn(j, np.array([x, y]), radius)).tolist()
        found.sort()
        return [s for k, s in enumerate(found) if k == 0 or s - found[k - 1] > _SAME]

    def _leaves_in_turn(self, j: int, middle: Floats, radius: float) -> Floats:
        """Metres into a transition at which it crosses a circle: between places of a grid that lie inside and outside, by Newton's steps."""
        grid = np.linspace(0.0, float(self.length[j]), _GRID)
        outside = np.hypot(*(self._on_element(j, grid)[0] - middle).T) > radius
        k = np.flatnonzero(outside[1:] != outside[:-1])
        t = 0.5 * (grid[k] + grid[k + 1])
        for _ in range(_NEWTON):
            points, headings = self._on_element(j, t)
            out = points - middle
            away = np.hypot(out[:, 0], out[:, 1])
            rate = np.einsum("ij,ij->i", out, tangents(headings)) / away
            t = clipped(t - (away - radius) / np.where(np.abs(rate) < 1e-9, np.inf, rate), grid[k], grid[k + 1])
        return np.asarray(t)

    def points_at(self, chainages: ArrayLike, offset: ArrayLike = 0.0) -> Floats:
        """Points (n, 2) at ``chainages`` and ``offset`` metres to the left."""
        frames = self.at(chainages)
        return (
            frames.points
            + left_normals(frames.headings)
            * np.broadcast_to(np.asarray(offset, dtype=np.float64), frames.headings.shape)[:, None]
        )

    def feet(self, points: ArrayLike, *, extend: bool = False) -> Feet:
        """Nearest feet of ``points`` (n, 2), all feet within the ends considered, to 1e-9 m.

        With ``extend`` the end tangents run on for ever, and chainages may be negative or beyond ``total``.
        Offsets are signed distances, left positive; ``square`` is false where the nearest place is a corner
        or an end instead of a perpendicular foot.
        """
        p = np.atleast_2d(np.asarray(points, dtype=np.float64))[:, :2]
        if len(p) == 1 and len(self.length) <= _FEW and not self._turns:
            s, offset, h, square = one_place.foot(self._pieces[0], float(p[0, 0]), float(p[0, 1]), extend)
            return Feet(np.array([s]), np.array([offset]), np.array([h]), np.array([square]))
        if len(p) * len(self.length) <= _MOST_PAIRS or len(p) == 0:
            return self._feet_of(p, extend)
        pieces = [self._feet_near(piece, extend) for piece in np.array_split(p, -(-len(p) // _TOGETHER))]
        return Feet(*(np.concatenate(column) for column in zip(*pieces)))

    def _feet_near(self, p: Floats, extend: bool) -> Feet:
        """Feet of a few points on a line of many elements: only those are looked at that may hold the nearest place.

        A place of an element is no nearer than its start is less its length; the nearest is no farther than any start.
        """
        to_start = np.hypot(p[:, 0, None] - self.xy[:, 0], p[:, 1, None] - self.xy[:, 1])
        may = (to_start - self.length <= to_start.min(axis=1, keepdims=True) + 1e-9).any(axis=0)
        if extend:
            may[[0, -1]] = True
        i = np.flatnonzero(may)
        some = Chain(
            self.xy[i], self.heading[i], self.length[i], self.k0[i], self.k1[i], np.append(self.starts[i], self.total)
        )
        return some._feet_of(p, extend)

    def _feet_of(self, p: Floats, extend: bool) -> Feet:
        t = self._plain_feet(p)
        for j in np.flatnonzero(self.k0 != self.k1):
            t[:, j] = self._clothoid_foot(int(j), p)
        # Evaluated on the element itself, not by chainage, so that a joint belongs to both neighbours.
        foot, heading = self._on_elements(t)
        d = p[:, None, :] - foot
        distance = np.hypot(d[..., 0], d[..., 1])
        if extend:
            self._extend(p, t, d, heading, distance)
        best = np.argmin(np.where(distance <= distance.min(axis=1, keepdims=True) + 1e-12, 0.0, 1.0), axis=1)
        row = np.arange(len(p))
        d, h, distance = d[row, best], heading[row, best], distance[row, best]
        across = -d[:, 0] * np.sin(h) + d[:, 1] * np.cos(h)
        along = d[:, 0] * np.cos(h) + d[:, 1] * np.sin(h)
        square = np.abs(along) <= 1e-9 * np.maximum(1.0, distance)
        return Feet(t[row, best] + self.starts[best], np.where(across < 0, -distance, distance), h, square)

    def _on_elements(self, t: Floats) -> tuple[Floats, Floats]:
        """Points (m, n, 2) and headings (m, n) at ``t`` (m, n) metres into each of the n elements, run on straight beyond."""
        inside = np.minimum(np.maximum(t, 0.0), self.length)
        dx, dy, heading = _run(inside, self.length, self.k0, self.k1, self.heading)
        beyond = t - inside
        if beyond.any():
            dx, dy = dx + beyond * np.cos(heading), dy + beyond * np.sin(heading)
        points = np.empty((*t.shape, 2))
        points[..., 0], points[..., 1] = self.xy[:, 0] + dx, self.xy[:, 1] + dy
        return points, heading

    def _plain_feet(self, p: Floats) -> Floats:
        """Distances (m, n) into straights and arcs of the foot of each point, held within the element."""
        d = p[:, None, :] - self.xy
        c, s = np.cos(self.heading), np.sin(self.heading)
        straight = clipped(d[..., 0] * c + d[..., 1] * s, 0.0, self.length)
        arcs = (self.k0 == self.k1) & (np.abs(self.k0) > _FLAT)
        if not arcs.any():
            return straight
        k = np.where(arcs, self.k0, 1.0)
        radius = np.abs(1.0 / k)
        # From the centre: the start lies at -normal / k, the point at d - normal / k.
        nx, ny = -s / k, c / k
        rx, ry = d[..., 0] - nx, d[..., 1] - ny
        turn = np.mod((np.arctan2(ry, rx) - np.arctan2(-ny, -nx)) * np.sign(k), 2 * np.pi)
        t = turn * radius
        # Beyond the arc the nearer of its two ends serves.
        t = np.where(t > self.length, np.where(t - self.length <= 2 * np.pi * radius - t, self.length, 0.0), t)
        return np.asarray(np.where(arcs, t, straight))

    def _clothoid_foot(self, j: int, p: Floats) -> Floats:
        length, k0, k1 = float(self.length[j]), float(self.k0[j]), float(self.k1[j])
        grid = np.linspace(0.0, length, 17)
        at, _ = self._on_element(j, grid)
        d2 = ((p[:, None, :] - at[None, :, :]) ** 2).sum(axis=2)
        t = grid[np.argmin(d2, axis=1)]
        for _ in range(12):
            foot, heading = self._on_element(j, t)
            d = p - foot
            along = np.einsum("ij,ij->i", d, tangents(heading))
            across = np.einsum("ij,ij->i", d, left_normals(heading))
            slope = 1.0 - (k0 + (k1 - k0) * t / length) * across
            t = clipped(t + along / np.where(np.abs(slope) < 0.05, 0.05, slope), 0.0, length)
        return np.asarray(t)

    def _on_element(self, j: int, t: Floats) -> tuple[Floats, Floats]:
        only = slice(j, j + 1)
        one = Chain(
            self.xy[only], self.heading[only], self.length[only], self.k0[only], self.k1[only], self.starts[j : j + 2]
        )
        points, headings = one._on_elements(t[:, None])
        return points[:, 0], headings[:, 0]

    def _place_on(self, j: int, t: float) -> tuple[float, float, float]:
        """East, north and heading ``t`` metres into an element."""
        if self.k0[j] == self.k1[j]:
            p = self._pieces[0][j]
            dx, dy, heading = one_place.run(t, p.curvature, p.heading)
            return p.x + dx, p.y + dy, heading
        points, headings = self._on_element(j, np.array([t]))
        return float(points[0, 0]), float(points[0, 1]), float(headings[0])

    def _extend(self, p: Floats, t: Floats, d: Floats, heading: Floats, distance: Floats) -> None:
        """Move feet on the first and last element out along the end tangents, in place, where that is nearer."""
        for j, (xy, h), end in ((0, self._begin, 0.0), (len(self.length) - 1, self._end, float(self.length[-1]))):
            c, s = np.cos(h), np.sin(h)
            w = p - xy
            along, across = w[:, 0] * c + w[:, 1] * s, w[:, 1] * c - w[:, 0] * s
            moved = ((along < 0) if end == 0.0 else (along > 0)) & (np.abs(across) < distance[:, j])
            t[moved, j], heading[moved, j], distance[moved, j] = end + along[moved], h, np.abs(across[moved])
            d[moved, j] = np.stack([-s * across[moved], c * across[moved]], axis=1)

    @kept
    def _begin(self) -> tuple[Floats, float]:
        return self.xy[0], float(self.heading[0])

    @kept
    def _end(self) -> tuple[Floats, float]:
        points, headings = self._on_element(len(self.length) - 1, self.length[-1:])
        return points[0], float(headings[0])

    def moved(self, east: float, north: float) -> Chain:
        """The same line elsewhere."""
        return Chain(frozen(self.xy + [east, north]), self.heading, self.length, self.k0, self.k1, self.starts)

    def key_chainages(self) -> Floats:
        """Chainages of the ends and of every joint between elements."""
        return self.starts

    def sampled(self, sag: float = 0.01, interval: float = np.inf, reach: float = 0.0) -> Floats:
        """Chainages that follow the line with a chord error of at most ``sag`` metres.

        ``interval`` bounds the spacing as well. ``reach`` is the largest offset at which the chord error must
        still hold (on the outside of an arc the same turn makes a longer chord).
        """
        k = np.maximum(np.abs(self.k0), np.abs(self.k1))
        bent = np.where(k > _FLAT, k, 1.0)
        step = np.maximum(np.sqrt(8.0 * sag / (1.0 / bent + abs(reach))) / bent, 0.05)
        step = np.minimum(np.where(k > _FLAT, step, np.inf), interval)
        n = np.maximum(np.ceil(self.length / step - 1e-9), 1.0).astype(np.int64)
        within = np.arange(n.sum()) - np.repeat(np.cumsum(n) - n, n)
        s = np.append(np.repeat(self.starts[:-1], n) + within * np.repeat(self.length / n, n), self.starts[-1])
        apart: Floats = s[np.append(s[1:] > s[:-1], True)]
        return apart

    def part(self, begin: float, finish: float) -> Chain:
        """The line from one chainage to a later one, as a line of its own. Raises ValueError where nothing lies between."""
        points, headings, elements = [], [], []
        for j, (e, start) in enumerate(zip(self.elements, self.starts.tolist())):
            a, b = max(begin - start, 0.0), min(finish - start, e.length)
            if b - a > _NOTHING:
                east, north, heading = self._place_on(j, a)
                rate = (e.k1 - e.k0) / e.length
                points.append((east, north))
                headings.append(heading)
                elements.append(Element(b - a, e.k0 + rate * a, e.k0 + rate * b))
        return Chain.assembled(np.array(points), np.array(headings), elements)

    def reversed(self) -> Chain:
        """The same line run the other way; left becomes right."""
        points, headings = [], []
        for j in reversed(range(len(self.length))):
            east, north, heading = self._place_on(j, float(self.length[j]))
            points.append((east, north))
            headings.append(heading + np.pi)
        elements = [Element(e.length, -e.k1, -e.k0) for e in reversed(self.elements)]
        return Chain.assembled(np.array(points), np.array(headings), elements)


def _run(t: Floats, length: Floats, k0: Floats, k1: Floats, h0: Floats) -> tuple[Floats, Floats, Floats]:
    """East and north from an element's start after ``t`` metres, and the heading there; shapes broadcast."""
    # Straights and arcs: the chord, in a form that does not lose digits as curvature goes to zero.
    half = 0.5 * k0 * t
    flat = np.abs(half) < 1e-9
    chord = t * np.where(flat, 1.0, np.sin(half) / np.where(flat, 1.0, half))
    along = h0 + half
    dx, dy, heading = chord * np.cos(along), chord * np.sin(along), along + half
    if k0 is not k1 and (curved := k0 != k1).any():
        t_, length_, k0_, k1_, h0_, c = np.broadcast_arrays(t, length, k0, k1, h0, curved)
        start, rate = k0_[c], (k1_[c] - k0_[c]) / np.where(length_[c] > 0, length_[c], 1.0)
        u = t_[c][:, None] * _NODES
        phase = h0_[c][:, None] + start[:, None] * u + 0.5 * rate[:, None] * u * u
        dx[c], dy[c] = t_[c] * (np.cos(phase) @ _WEIGHTS), t_[c] * (np.sin(phase) @ _WEIGHTS)
        heading[c] = h0_[c] + start * t_[c] + 0.5 * rate * t_[c] ** 2
    return dx, dy, heading
