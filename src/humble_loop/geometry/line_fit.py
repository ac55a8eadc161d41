"""A centreline fitted to points that were surveyed or drawn along one: straights and arcs, as few as do, tangency kept."""

from __future__ import annotations

from collections.abc import Generator
from typing import NamedTuple

import numpy as np

from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.bends import BendInput, chain_from_bends, lay_bends
from humble_loop.geometry.chain import Chain

_MOST = 250  # points of the source between which pieces are looked for
_MOST_BENDS, _MOST_TRIES = 60, 60  # of a line that is made better than its stretches, and to leave one out
_AT_ONCE = 40  # stretches that are tried before the work may be given up
_SAMPLES = 400  # points of the source with which the line is compared
_RADII = (0.5, 20_000.0)  # metres: sharper is a corner, flatter a straight to the eye and in the ground
_WIDEST = 2.0  # radians of an arc that is one bend; one that turns more is two
_ARC = 1.02  # pieces that an arc counts for: of two that do, a straight is taken
_CLOSE = 0.05  # pieces by which one that stays close is better than one at the tolerance
_EXACT = 1e-6  # metres: nothing is to be made better
_STEP = 1e-6  # metres, and shares of a radius, by which an arc's centre is moved to tell its slopes
_DAMPED, _UNDAMPED, _HOPELESS = 1e-3, 1e-12, 1e8  # share of the squares' own slopes by which a step is shortened
_SHORTER = 4.0  # times that it is more, where a step leads up
_FLAT = 1e-9  # a slope of the squares, below which a corner or radius has nothing to do with them
_ENOUGH = 1e-9  # share of the sum of squares: a round that gains less is the last
_ROUNDS, _BRIEFLY = 60, 30  # of the search for the least squares; and where it is only tried whether a bend can go


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
        rough = rough[np.linspace(0, len(rough) - 1, _MOST).astype(np.int64)]
    best: Fitted | None = None
    for share in (0.7, 0.35, 1.0, 0.1):
        pieces = yield from _divided(rough, share * within)
        try:
            found = _measured(*(yield from _fitted(*_corners(rough, pieces), source)), source)
        except ValueError:  # corners upon one another: a line that folds back
            continue
        yield
        if best is None or found.departure < best.departure:
            best = found
        if best.departure <= within:
            break
    if best is None:
        return _measured(rough, np.full(len(rough) - 2, _RADII[0]), source)
    tried = left = 0
    while best.departure <= within and tried < 2 * len(best.bends) and left < _MOST_TRIES:
        fewer = _fewer(best.bends, tried)
        tried += 1
        if fewer is not None:
            left += 1
            yield
            found = _measured(*(yield from _fitted(*fewer, source, _BRIEFLY)), source)
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
    count = 0
    for i in range(n - 1):
        misses = 0
        for j in range(i + 1, n):
            count += 1
            if count % _AT_ONCE == 0:
                yield
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


def _fitted(
    corners: Floats, radii: Floats, source: Floats, rounds: int = _ROUNDS
) -> Generator[None, None, tuple[Floats, Floats]]:
    """Intersection points and radii moved to where the squares of the departures are least; the ends stay.

    Gauss's steps, shortened where they lead up (Levenberg, 1944; scaled as by Marquardt, 1963). In pieces, which is why
    no library does it.
    """
    n = len(radii)
    if not 0 < n <= _MOST_BENDS or _measured(corners, radii, source).departure < _EXACT:
        return corners, radii
    low, high = np.log(_RADII)

    def unpacked(x: Floats) -> tuple[Floats, Floats]:
        return np.concatenate([corners[:1], x[: 2 * n].reshape(n, 2), corners[-1:]]), np.exp(x[2 * n :])

    x = np.concatenate([corners[1:-1].ravel(), np.clip(np.log(np.maximum(radii, _RADII[0])), low, high)])
    try:
        at, slopes = departures(corners, np.exp(x[2 * n :]), source)
    except ValueError:
        return corners, radii
    damping = _DAMPED
    for _ in range(rounds):
        normal, down = slopes.T @ slopes, -slopes.T @ at
        scale = np.diag(np.maximum(np.diag(normal), _FLAT))
        gained = 0.0
        while not gained and damping < _HOPELESS:
            yield
            try:
                tried = x + np.linalg.solve(normal + damping * scale, down)
                tried[2 * n :] = np.clip(tried[2 * n :], low, high)
                then, there = departures(*unpacked(tried), source)
            except ValueError:  # no step, or corners upon one another
                damping *= _SHORTER
                continue
            if then @ then < at @ at:
                gained = 1.0 - float(then @ then) / float(at @ at)
                x, at, slopes, damping = tried, then, there, max(damping / _SHORTER, _UNDAMPED)
            else:
                damping *= _SHORTER
        if gained < _ENOUGH:
            break
    moved = unpacked(x)
    before, after = (_measured(*made, source).departure for made in ((corners, radii), moved))
    return moved if after < before else (corners, radii)


def departures(corners: Floats, radii: Floats, source: Floats) -> tuple[Floats, Floats]:
    """Offsets (m,) of the source from the line, left positive, and their slopes (m, 3 n) by the n inner corners' eastings
    and northings in turn and the logarithms of their radii.

    A point that is nearest to a straight goes with the straight's two corners, one that is nearest to an arc with the arc's
    centre and radius. Raises ValueError for a line that cannot be laid.
    """
    chain, problems, bend_of = lay_bends(_bends(corners, radii))
    if any(p.kind == "repeated" for p in problems):
        raise ValueError("two of its corners lie upon one another")
    feet = chain.feet(source)
    on = chain.element_at(feet.chainages)
    bend, straight = np.array(bend_of)[on], (chain.k0 == 0.0)[on]
    n, m = len(radii), len(source)
    by_corner, by_radius = np.zeros((m, n + 2, 2)), np.zeros((m, n + 2))

    k, rows = bend[straight], np.flatnonzero(straight)
    d = corners[k + 1] - corners[k]
    length = np.hypot(d[:, 0], d[:, 1])
    normal = np.column_stack([-d[:, 1], d[:, 0]]) / length[:, None]
    t = (((source[straight] - corners[k]) * d).sum(axis=1) / length**2)[:, None]
    by_corner[rows, k] = -(1.0 - t) * normal
    by_corner[rows, k + 1] = -t * normal

    k, rows = bend[~straight], np.flatnonzero(~straight)
    if len(k):
        three = corners[np.stack([k - 1, k, k + 1])]
        size = radii[k - 1]
        centre, side = _centre(three, size)
        out = source[~straight] - centre
        out *= (side / np.hypot(out[:, 0], out[:, 1]))[:, None]
        for j in range(3):
            for axis in range(2):
                moved = three.copy()
                moved[j, :, axis] += _STEP
                by_corner[rows, k - 1 + j, axis] = ((_centre(moved, size)[0] - centre) * out).sum(axis=1) / _STEP
        wider = (_centre(three, size * (1.0 + _STEP))[0] - centre) / _STEP
        by_radius[rows, k] = side * size + (wider * out).sum(axis=1)
    return feet.offsets, np.concatenate([by_corner[:, 1:-1].reshape(m, 2 * n), by_radius[:, 1:-1]], axis=1)


def _centre(three: Floats, radius: Floats) -> tuple[Floats, Floats]:
    """Centres (k, 2) of arcs at the second of ``three`` corners (3, k, 2), and the side to which they turn (1: left)."""
    u, v = three[1] - three[0], three[2] - three[1]
    u, v = (w / np.hypot(w[:, 0], w[:, 1])[:, None] for w in (u, v))
    across, along = v - u, u + v  # the bisector, and twice the cosine of half the turn
    scale = 2.0 * radius / np.maximum(np.hypot(*along.T) * np.hypot(*across.T), 1e-12)
    return three[1] + scale[:, None] * across, np.sign(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0])
