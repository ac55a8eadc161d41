"""A centreline fitted to points that were surveyed or drawn along one: straights and arcs, as few as do, tangency kept."""

from __future__ import annotations

from collections.abc import Generator
from typing import NamedTuple

import numpy as np

from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.bends import BendInput, chain_from_bends
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.polyline import thinned

_MOST = 90  # points of the source between which pieces are looked for
_MOST_BENDS, _MOST_TRIES = 24, 30  # of a line that is made better than its stretches, and to leave one out
_SAMPLES = 200  # points of the source with which the line is compared
_RADII = (0.5, 20_000.0)  # metres: sharper is a corner, flatter a straight to the eye and in the ground
_WIDEST = 2.0  # radians of an arc that is one bend; one that turns more is two
_ARC = 1.02  # pieces that an arc counts for: of two that do, a straight is taken
_CLOSE = 0.05  # pieces by which one that stays close is better than one at the tolerance
_EXACT = 1e-6  # metres: nothing is to be made better
_STEP = 1e-5  # metres, and shares of a radius, by which slopes are told
_ROUNDS, _BRIEFLY = 40, 12  # of the search for the least squares; and where it is only tried whether a bend can go


class Fitted(NamedTuple):
    """Bends of a fitted centreline, how far it departs from its source at most (m), and where on it (chainage)."""

    bends: tuple[BendInput, ...]
    departure: float
    at: float


class _Piece(NamedTuple):
    """A stretch of the source: its course at both ends (radians), and the radius of its arc, or 0 for a straight."""

    first: int
    last: int
    into: float
    out: float
    radius: float


def fit_line(points: Floats, within: float) -> Generator[None, None, Fitted]:
    """The centreline of fewest straights and arcs that stays ``within`` metres of ``points`` (n >= 2, 2), in steps.

    The points are divided into stretches that are straight or round to the tolerance, as few as do (Bellman, 1961); where two
    meet the course is one. Intersection points and radii are then moved to where the squares of the departures are least.
    Both ends stay where they are. How far the line departs is told: it may be more than ``within``. Raises ValueError for
    fewer than two different points.
    """
    kept = Chain.from_points(points)
    source = kept.points_at(kept.starts)
    if len(source) > _SAMPLES:
        source = source[np.linspace(0, len(source) - 1, _SAMPLES).astype(np.int64)]
    rough = source
    if len(rough) > _MOST:
        rough = thinned([source], 0.1 * within)[0]
    if len(rough) > _MOST:
        rough = rough[np.linspace(0, len(rough) - 1, _MOST).astype(np.int64)]
    best: Fitted | None = None
    for share in (0.7, 0.35, 1.0):
        pieces = yield from _divided(rough, share * within)
        found = _measured(*_fitted(*_corners(rough, pieces), source), source)
        yield
        if best is None or found.departure < best.departure:
            best = found
        if best.departure <= within:
            break
    assert best is not None
    tried = left = 0
    while best.departure <= within and tried < 2 * len(best.bends) and left < _MOST_TRIES:
        fewer = _fewer(best.bends, tried)
        tried += 1
        if fewer is not None:
            left += 1
            yield
            found = _measured(*_fitted(*fewer, source, _BRIEFLY), source)
            best, tried = (found, 0) if found.departure <= within else (best, tried)
    return best


def _fewer(bends: tuple[BendInput, ...], k: int) -> tuple[Floats, Floats] | None:
    """Corners and radii with one bend less in the k-th way: first two neighbours made one, then each left out."""
    corners, radii = np.array([b[:2] for b in bends]), np.array([max(b.radius, _RADII[0]) for b in bends[1:-1]])
    n = len(radii)
    if k >= n - 1:
        k -= n - 1
        return (np.delete(corners, k + 1, axis=0), np.delete(radii, k)) if k < n else None
    u, v = corners[k + 1] - corners[k], corners[k + 3] - corners[k + 2]
    nowhere = np.full(2, np.nan)
    met = _met(corners[k], float(np.arctan2(*u[::-1])), corners[k + 2], float(np.arctan2(*v[::-1])), nowhere)
    if not np.hypot(*(met - corners[k + 1])) <= 2.0 * np.hypot(*(corners[k + 2] - corners[k + 1])):
        return None
    corners = np.concatenate([corners[: k + 1], [met], corners[k + 3 :]])
    return corners, np.concatenate([radii[:k], [radii[k : k + 2].max()], radii[k + 2 :]])


def _divided(p: Floats, within: float) -> Generator[None, None, list[_Piece]]:
    """The points in as few stretches as are straight or round to ``within``."""
    n = len(p)
    cost = np.full(n, np.inf)
    came: list[_Piece | None] = [None] * n
    cost[0] = 0.0
    for i in range(n - 1):
        if i % 10 == 9:
            yield
        misses = 0
        for j in range(i + 1, n):
            tried = (_straight(p, i, j), _round(p, i, j) if j - i >= 3 else None)
            fits = [x for x in tried if x is not None and x[1] <= within]
            for price, off, piece in fits:
                whole = cost[i] + price + _CLOSE * off / within
                if whole < cost[j]:
                    cost[j], came[j] = whole, piece
            misses = 0 if fits else misses + 1
            if misses > 3:  # a longer stretch from here does no better
                break
    pieces: list[_Piece] = []
    j = n - 1
    while j > 0:
        last = came[j]
        assert last is not None  # two points are always straight
        pieces.append(last)
        j = last.first
    return pieces[::-1]


def _straight(p: Floats, i: int, j: int) -> tuple[float, float, _Piece]:
    """A stretch as a straight: what it counts for, how far it departs, and the piece."""
    q = p[i : j + 1]
    middle = q.mean(axis=0)
    (a, b), (_, c) = np.cov((q - middle).T, bias=True)
    heading = 0.5 * float(np.arctan2(2 * b, a - c))
    d = q[-1] - q[0]
    if np.cos(heading) * d[0] + np.sin(heading) * d[1] < 0:
        heading += np.pi
    off = float(np.abs((q - middle) @ [-np.sin(heading), np.cos(heading)]).max())
    return 1.0, off, _Piece(i, j, heading, heading, 0.0)


def _round(p: Floats, i: int, j: int) -> tuple[float, float, _Piece] | None:
    """A stretch as an arc, by the circle whose squared radii depart least (Kåsa, 1976)."""
    size = float(np.hypot(*(p[j] - p[i]))) or 1.0
    q = (p[i : j + 1] - p[i]) / size
    design = np.column_stack([2 * q, np.ones(len(q))])
    try:
        x, y, c = np.linalg.solve(design.T @ design, design.T @ (q**2).sum(axis=1)).tolist()
    except np.linalg.LinAlgError:  # they lie on a straight
        return None
    q, x, y, c = q * size, x * size, y * size, c * size * size
    radius = float(np.sqrt(max(c + x * x + y * y, 0.0)))
    if not _RADII[0] < radius < _RADII[1]:
        return None
    spokes = q - [x, y]
    off = float(np.abs(np.hypot(spokes[:, 0], spokes[:, 1]) - radius).max())
    angles = np.unwrap(np.arctan2(spokes[:, 1], spokes[:, 0]))
    swept = angles[-1] - angles[0]
    if abs(swept) > 1.8 * np.pi or np.any(np.diff(angles) * np.sign(swept) < -0.05):
        return None
    side = float(np.sign(swept)) * 0.5 * np.pi
    return _ARC, off, _Piece(i, j, float(angles[0] + side), float(angles[-1] + side), radius)


def _corners(p: Floats, pieces: list[_Piece]) -> tuple[Floats, Floats]:
    """Intersection points (k, 2) and radii (k - 2,) of a line of pieces; a straight's course holds where it meets an arc."""
    corners, radii = [p[0]], []
    for k, piece in enumerate(pieces):
        before = pieces[k - 1] if k else None
        after = pieces[k + 1] if k + 1 < len(pieces) else None
        if piece.radius == 0.0:
            if before is not None and before.radius == 0.0:
                corners.append(_met(p[before.first], before.out, p[piece.last], piece.into, p[piece.first]))
                radii.append(_RADII[0])
            continue
        into = before.out if before is not None and before.radius == 0.0 else piece.into
        out = after.into if after is not None and after.radius == 0.0 else piece.out
        a = p[before.first] if before is not None and before.radius == 0.0 else p[piece.first]
        b = p[after.last] if after is not None and after.radius == 0.0 else p[piece.last]
        swept = piece.out - piece.into
        if abs(swept) <= _WIDEST:
            corners.append(_met(a, into, b, out, 0.5 * (p[piece.first] + p[piece.last])))
            radii.append(piece.radius)
            continue
        parts = int(np.ceil(abs(swept) / _WIDEST))
        side = float(np.sign(swept))
        centre = p[piece.first] + piece.radius * side * np.array([-np.sin(piece.into), np.cos(piece.into)])
        for m in range(parts):
            turn = piece.into + swept * (m + 0.5) / parts
            reach = piece.radius / np.cos(0.5 * swept / parts)
            corners.append(centre + reach * side * np.array([np.sin(turn), -np.cos(turn)]))
            radii.append(piece.radius)
    corners.append(p[-1])
    return np.array(corners), np.array(radii)


def _met(a: Floats, u: float, b: Floats, v: float, otherwise: Floats) -> Floats:
    """Where the line from ``a`` in direction ``u`` meets the one through ``b`` in direction ``v`` (radians)."""
    cross = np.sin(v - u)
    if abs(cross) < 1e-6:
        return otherwise
    d = b - a
    t = (d[0] * np.sin(v) - d[1] * np.cos(v)) / cross
    return np.asarray(a + t * np.array([np.cos(u), np.sin(u)]))


def _bends(corners: Floats, radii: Floats) -> tuple[BendInput, ...]:
    inner = [float(r) if r > 2 * _RADII[0] else 0.0 for r in radii]
    return tuple(BendInput(float(e), float(n), r) for (e, n), r in zip(corners, (0.0, *inner, 0.0)))


def _measured(corners: Floats, radii: Floats, source: Floats) -> Fitted:
    bends = _bends(corners, radii)
    feet = chain_from_bends(bends)[0].feet(source)
    worst = int(np.argmax(np.abs(feet.offsets)))
    return Fitted(bends, float(abs(feet.offsets[worst])), float(feet.chainages[worst]))


def _fitted(corners: Floats, radii: Floats, source: Floats, rounds: int = _ROUNDS) -> tuple[Floats, Floats]:
    """Intersection points and radii moved to where the squares of the departures are least; the ends stay."""
    n = len(radii)
    if not 0 < n <= _MOST_BENDS or _measured(corners, radii, source).departure < _EXACT:
        return corners, radii
    middle, size = source.mean(axis=0), float(np.ptp(source, axis=0).max())

    def unpacked(x: Floats) -> tuple[Floats, Floats]:
        inner = x[: 2 * n].reshape(n, 2) + middle
        return np.concatenate([corners[:1], inner, corners[-1:]]), np.exp(x[2 * n :])

    def departures(x: Floats) -> Floats:
        try:
            chain, _ = chain_from_bends(_bends(*unpacked(x)))
        except ValueError:
            return np.full(len(source), size)
        return chain.feet(source).offsets

    def slopes(x: Floats) -> Floats:
        at = departures(x)
        return np.column_stack([(departures(x + step) - at) / _STEP for step in _STEP * np.eye(3 * n)])

    low, high = np.log(_RADII)
    start = np.concatenate([(corners[1:-1] - middle).ravel(), np.clip(np.log(np.maximum(radii, _RADII[0])), low, high)])
    bounds = (np.repeat([-np.inf, low - 1e-6], [2 * n, n]), np.repeat([np.inf, high + 1e-6], [2 * n, n]))
    from scipy.optimize import least_squares  # takes as long to load as all else together, and is seldom wanted

    found = least_squares(departures, start, slopes, bounds=bounds, max_nfev=rounds)
    moved = unpacked(np.asarray(found.x, dtype=np.float64))
    before, after = (_measured(*made, source).departure for made in ((corners, radii), moved))
    return moved if after < before else (corners, radii)
