"""A vehicle rolled along a line: how its wheels stand on it, exactly, and how far its underside keeps off it.

The line is a polyline of distance and level, steep nowhere. A wheel is a circle that rests on it: it touches a straight, or stands on a corner. With both
axles so, the body between them is rigid. Its underside is a polyline as well, so it comes nearest, measured upright, over a
corner of one of the two.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from humble_loop.geometry.arrays import Floats, Ints

_STEPS = 12  # by which the front axle is found at most: mostly four are enough
_NEARLY = 0.5  # by which the rate of what it is off may differ from 1 and still be trusted
_FOUND = 1e-9  # metres to which that is enough
_COARSE = 0.1  # metres between positions at which it is looked first
_FINER = (14, 14)  # parts into which these are divided where that is needed, and those again
_STRAIGHT = 2e-5  # metres within which what is left under it runs straight from one position to another
_STEEPEST = 0.35  # by which what is left under it changes at most for each metre that it rolls


@dataclass(frozen=True)
class Underside:
    """A vehicle from the side, on the level: its ``wheelbase`` and ``wheel`` radius (m), and its underside, ``points`` (m, 2) of metres ahead of the rear axle and
    above the ground, from the rear to the front.
    """

    wheelbase: float
    wheel: float
    points: Floats

    def turned(self) -> Underside:
        """The same one the other way round."""
        back = np.column_stack([self.wheelbase - self.points[:, 0], self.points[:, 1]])[::-1]
        return Underside(self.wheelbase, self.wheel, back)


@dataclass(frozen=True)
class Course:
    """What it rolls along: levels ``z`` (k,) at rising distances ``s`` (k,), straight between them and on beyond both ends."""

    s: Floats
    z: Floats

    @property
    def slopes(self) -> Floats:
        """Rise per metre of each piece (k - 1,)."""
        found: Floats = np.diff(self.z) / np.diff(self.s)
        return found

    def level(self, x: Floats) -> Floats:
        """Levels at distances of any shape."""
        m = self.slopes
        found = np.interp(x, self.s, self.z)
        found = np.where(x < self.s[0], self.z[0] + m[0] * (x - self.s[0]), found)
        return np.where(x > self.s[-1], self.z[-1] + m[-1] * (x - self.s[-1]), found)


@dataclass(frozen=True)
class Pose:
    """Where it stands in n positions: both axles' middles (n, 2)."""

    rear: Floats
    front: Floats

    def placed(self, wheel: Floats | float, points: Floats) -> Floats:
        """Where points of its body (m, 2), or of each position's (n, m, 2), told as of an ``Underside``, are (n, m, 2)."""
        along = (self.front - self.rear) / np.hypot(*(self.front - self.rear).T)[:, None]
        up = np.column_stack([-along[:, 1], along[:, 0]])
        u, v = points[..., 0], points[..., 1] - np.asarray(wheel)[..., None]
        u, v = np.broadcast_to(u, (len(along), u.shape[-1])), np.broadcast_to(v, (len(along), v.shape[-1]))
        found: Floats = self.rear[:, None] + u[..., None] * along[:, None] + v[..., None] * up[:, None]
        return found


@dataclass(frozen=True)
class Least:
    """Where it keeps least off its course: ``clearance`` (m, upright; below zero: it touches), at the distance ``s`` of the course, with the
    rear axle at ``rear``; and how far ahead of that, of the body as it stands on the level, ``ahead``.
    """

    clearance: float
    s: float
    rear: float
    ahead: float


@dataclass(frozen=True)
class _Rows:
    """The course of each of n positions: distances and levels (n, k) of its corners, and the slopes (n, k - 1) between them."""

    s: Floats
    z: Floats
    slopes: Floats

    @staticmethod
    def of(courses: Sequence[Course], which: Ints) -> _Rows:
        """Those of the courses ``which`` (n,): the shorter go on straight in as many pieces as the longest has."""
        most = max(len(c.s) for c in courses)
        beyond = [np.arange(1.0, most - len(c.s) + 1.0) for c in courses]
        s = np.stack([np.concatenate([c.s, c.s[-1] + more]) for c, more in zip(courses, beyond)])
        z = np.stack([np.concatenate([c.z, c.z[-1] + c.slopes[-1] * more]) for c, more in zip(courses, beyond)])
        slopes = np.diff(z, axis=1) / np.diff(s, axis=1)
        return _Rows(s[which], z[which], slopes[which])

    def level(self, x: Floats) -> Floats:
        """Levels at distances (n, m)."""
        piece = (x[:, :, None] >= self.s[:, None, 1:-1]).sum(axis=2)
        at, level, slope = (np.take_along_axis(v, piece, axis=1) for v in (self.s, self.z, self.slopes))
        found: Floats = level + slope * (x - at)
        return found

    def wheel_levels(self, wheel: Floats, x: Floats) -> Floats:
        """See ``wheel_levels``: one wheel (n,) in each position."""
        m, radius = self.slopes, wheel[:, None]
        stretch = np.sqrt(1.0 + m * m)
        begins, ends = self.s[:, :-1].copy(), self.s[:, 1:].copy()
        begins[:, 0], ends[:, -1] = -np.inf, np.inf  # straight on beyond both ends
        touched = x[:, None] + radius * (m / stretch)
        on = self.z[:, :-1] + m * (x[:, None] - self.s[:, :-1]) + radius * stretch
        highest = np.where((touched >= begins) & (touched <= ends), on, -np.inf).max(axis=1)
        away = radius * radius - (self.s[:, 1:-1] - x[:, None]) ** 2
        if away.shape[1]:
            corner = np.where(away >= 0.0, self.z[:, 1:-1] + np.sqrt(np.maximum(away, 0.0)), -np.inf)
            highest = np.maximum(highest, corner.max(axis=1))
        found: Floats = highest
        return found


def wheel_levels(course: Course, wheel: Floats | float, x: Floats) -> Floats:
    """Levels (n,) of wheels' middles at distances (n,); ``wheel`` is the radius of all of them, or of each.

    On a straight that rises by m it lies wheel × sqrt(1 + m2) above it, and touches it wheel × m / sqrt(1 + m2) further on, if that is
    on it; on a corner d away sqrt(wheel2 - d2) above that. It rests on whatever lifts it highest.
    """
    return _Rows.of([course], np.zeros(len(x), dtype=np.intp)).wheel_levels(np.broadcast_to(wheel, x.shape), x)


def poses(course: Course, under: Underside, rear: Floats) -> Pose:
    """How it stands with its rear axle's middle at distances (n,)."""
    rows = _Rows.of([course], np.zeros(len(rear), dtype=np.intp))
    return _standing(rows, np.full(len(rear), under.wheelbase), np.full(len(rear), under.wheel), rear)


def _standing(on: _Rows, wheelbase: Floats, wheel: Floats, rear: Floats) -> Pose:
    low = on.wheel_levels(wheel, rear)
    # By the secant of the last two: where the front axle comes to is the wheelbase away, which hangs on how high it stands there.
    x, rise = rear + wheelbase, np.zeros_like(rear)
    miss, last = np.zeros_like(rear), x
    for k in range(_STEPS):
        rise = on.wheel_levels(wheel, x) - low
        was, miss = miss, x - rear - np.sqrt(np.maximum(wheelbase**2 - rise * rise, 0.0))
        if np.abs(miss).max(initial=0.0) < _FOUND:
            break
        rate = (miss - was) / np.where(x == last, np.inf, x - last) if k else 1.0
        last, x = x, x - miss / np.where(np.abs(rate - 1.0) < _NEARLY, rate, 1.0)
    return Pose(np.column_stack([rear, low]), np.column_stack([x, low + rise]))


@dataclass(frozen=True)
class _Fleet:
    """Several vehicles: wheelbases and wheels (v,), and undersides (v, m, 2), the last point of the shorter ones again and again."""

    wheelbase: Floats
    wheel: Floats
    points: Floats

    @staticmethod
    def of(unders: Sequence[Underside]) -> _Fleet:
        most = max(len(u.points) for u in unders)
        points = np.stack(
            [np.concatenate([u.points, np.repeat(u.points[-1:], most - len(u.points), axis=0)]) for u in unders]
        )
        return _Fleet(np.array([u.wheelbase for u in unders]), np.array([u.wheel for u in unders]), points)

    def off(self, on: _Rows, which: Ints, rear: Floats) -> tuple[Floats, Floats, Floats]:
        """See ``clearances``; of the vehicle ``which`` (n,) in each position, on that one's course."""
        made = _standing(on, self.wheelbase[which], self.wheel[which], rear)
        points = self.points[which]
        body = made.placed(self.wheel[which], points)
        off = body[..., 1] - on.level(body[..., 0])
        k, rows = np.argmin(off, axis=1), np.arange(len(rear))
        least, at, ahead = off[rows, k], body[rows, k, 0], points[rows, k, 0]
        for i in range(points.shape[1] - 1):
            left, right = body[:, i], body[:, i + 1]
            share = (on.s - left[:, :1]) / np.maximum(right[:, :1] - left[:, :1], 1e-12)
            off = left[:, 1:] + share * (right - left)[:, 1:] - on.z
            off = np.where((share >= 0.0) & (share <= 1.0), off, np.inf)
            j = np.argmin(off, axis=1)
            lower = off[rows, j] < least
            least, at = np.where(lower, off[rows, j], least), np.where(lower, on.s[rows, j], at)
            u = points[:, i, 0] + share[rows, j] * (points[:, i + 1, 0] - points[:, i, 0])
            ahead = np.where(lower, u, ahead)
        return least, at, ahead


def clearances(course: Course, under: Underside, rear: Floats) -> tuple[Floats, Floats, Floats]:
    """What is least left under it (n,) with its rear axle at distances (n,), at which distance of the course (n,), and how far ahead of the rear
    axle on its underside (n,). It comes nearest over a corner of the course or of its underside.
    """
    first = np.zeros(len(rear), dtype=np.intp)
    return _Fleet.of([under]).off(_Rows.of([course], first), first, rear)


def rolled(course: Course, under: Underside, begin: float, finish: float) -> Least:
    """Where it keeps least off, its rear axle rolled from one distance to another: see ``rolled_each``."""
    return rolled_each([course], [under], [begin], [finish])[0]


def rolled_each(
    courses: Sequence[Course],
    unders: Sequence[Underside],
    begins: Sequence[float],
    finishes: Sequence[float],
    together: int = 1,
) -> list[Least]:
    """Where vehicles keep least off, each on its own course, its rear axle rolled from one distance to another: all at once.

    They stand every 10 cm at first. Between two positions they are looked at again where in between less might be left than anywhere so far, since what
    is left changes by at most ``_STEEPEST`` for each metre; but not where it runs straight from one position to the next. Of so many one after
    another as are ``together`` only the one that keeps least off is looked for: of the others no more is known than that they keep off more.
    """
    fleet = _Fleet.of(unders)
    rows = [np.linspace(a, b, 2 + int((b - a) / _COARSE)) for a, b in zip(begins, finishes)]
    which = np.concatenate([np.full(len(x), k) for k, x in enumerate(rows)])
    x = np.concatenate(rows)
    best = [Least(np.inf, 0.0, 0.0, 0.0) for _ in unders]
    for parts in _FINER:
        made = fleet.off(_Rows.of(courses, which), which, x)
        _take_lowest(best, which, x, made)
        least = np.array([b.clearance for b in best]).reshape(-1, together).min(axis=1).repeat(together)
        a, b, of = x[:-1], x[1:], which[:-1]
        z = made[0]
        bent = np.abs(z[:-2] - 2.0 * z[1:-1] + z[2:]) > _STRAIGHT
        bent = np.concatenate([[True], bent, [True]])
        lowest = 0.5 * (z[:-1] + z[1:] - _STEEPEST * (b - a))
        again = (
            (which[:-1] == which[1:])
            & (b > a)
            & (b - a < 2.0 * _COARSE)
            & (lowest < least[of] - _STRAIGHT)
            & (bent[:-1] | bent[1:])
        )
        if not again.any():
            return best
        share = np.linspace(0.0, 1.0, parts + 1)
        x = (a[again][:, None] + share * (b - a)[again][:, None]).reshape(-1)
        which = np.repeat(of[again], parts + 1)
    _take_lowest(best, which, x, fleet.off(_Rows.of(courses, which), which, x))
    return best


def _take_lowest(best: list[Least], which: Ints, rear: Floats, found: tuple[Floats, Floats, Floats]) -> None:
    least, at, ahead = found
    for v in np.unique(which).tolist():
        mine = np.flatnonzero(which == v)
        k = int(mine[np.argmin(least[mine])])
        if least[k] < best[v].clearance:
            best[v] = Least(float(least[k]), float(at[k]), float(rear[k]), float(ahead[k]))
