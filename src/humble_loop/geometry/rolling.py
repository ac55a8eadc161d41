"""A vehicle rolled along a line: how its wheels stand on it, exactly, and how far its underside keeps off it.

The line is a polyline of distance and level, steep nowhere. A wheel is a circle that rests on it: it touches a straight, or stands on a corner. With both
axles so, the body between them is rigid. Its underside is a polyline as well, so it comes nearest, measured upright, over a
corner of one of the two.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.geometry.arrays import Bools, Floats

_STEPS = 9  # by which the front axle is found: each lessens what it is off by at least ten times
_COARSE, _FINE = 0.1, 0.0005  # metres between positions at which it is looked first, and about the lowest
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

    def placed(self, wheel: float, points: Floats) -> Floats:
        """Where points of its body (m, 2), told as of an ``Underside``, are (n, m, 2)."""
        along = (self.front - self.rear) / np.hypot(*(self.front - self.rear).T)[:, None]
        up = np.column_stack([-along[:, 1], along[:, 0]])
        u, v = points[:, 0], points[:, 1] - wheel
        found: Floats = self.rear[:, None] + u[:, None] * along[:, None] + v[:, None] * up[:, None]
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


def wheel_levels(course: Course, wheel: float, x: Floats) -> Floats:
    """Levels (n,) of a wheel's middle at distances (n,).

    On a straight that rises by m it lies wheel × sqrt(1 + m2) above it, and touches it wheel × m / sqrt(1 + m2) further on, if that is
    on it; on a corner d away sqrt(wheel2 - d2) above that. It rests on whatever lifts it highest.
    """
    m = course.slopes
    stretch = np.sqrt(1.0 + m * m)
    begins, ends = course.s[:-1].copy(), course.s[1:].copy()
    begins[0], ends[-1] = -np.inf, np.inf  # straight on beyond both ends
    touched = x[:, None] + wheel * m / stretch
    on = course.z[:-1] + m * (x[:, None] - course.s[:-1]) + wheel * stretch
    highest = np.where((touched >= begins) & (touched <= ends), on, -np.inf).max(axis=1)
    away = wheel * wheel - (course.s[1:-1] - x[:, None]) ** 2
    if away.shape[1]:
        corner = np.where(away >= 0.0, course.z[1:-1] + np.sqrt(np.maximum(away, 0.0)), -np.inf)
        highest = np.maximum(highest, corner.max(axis=1))
    found: Floats = highest
    return found


def poses(course: Course, under: Underside, rear: Floats) -> Pose:
    """How it stands with its rear axle's middle at distances (n,)."""
    low = wheel_levels(course, under.wheel, rear)
    x = rear + under.wheelbase
    for _ in range(_STEPS):
        rise = wheel_levels(course, under.wheel, x) - low
        x = rear + np.sqrt(np.maximum(under.wheelbase**2 - rise * rise, 0.0))
    high = wheel_levels(course, under.wheel, x)
    return Pose(np.column_stack([rear, low]), np.column_stack([x, high]))


def clearances(course: Course, under: Underside, rear: Floats) -> tuple[Floats, Floats, Floats]:
    """What is least left under it (n,) with its rear axle at distances (n,), at which distance of the course (n,), and how far ahead of the rear
    axle on its underside (n,).
    """
    made = poses(course, under, rear)
    body = made.placed(under.wheel, under.points)
    least, at, ahead = _over_its_corners(course, under, body)
    for k in range(len(under.points) - 1):
        left, right = body[:, k], body[:, k + 1]
        some, share = _shares(course.s, left[:, 0], right[:, 0])
        off = left[:, 1:] + share * (right - left)[:, 1:] - course.z
        off = np.where(some, off, np.inf)
        j = np.argmin(off, axis=1)
        rows = np.arange(len(rear))
        lower = off[rows, j] < least
        least = np.where(lower, off[rows, j], least)
        at = np.where(lower, course.s[j], at)
        u = under.points[k, 0] + share[rows, j] * (under.points[k + 1, 0] - under.points[k, 0])
        ahead = np.where(lower, u, ahead)
    return least, at, ahead


def _over_its_corners(course: Course, under: Underside, body: Floats) -> tuple[Floats, Floats, Floats]:
    off = body[..., 1] - course.level(body[..., 0])
    k, rows = np.argmin(off, axis=1), np.arange(len(body))
    return off[rows, k], body[rows, k, 0], under.points[k, 0]


def _shares(s: Floats, left: Floats, right: Floats) -> tuple[Bools, Floats]:
    """Which corners of a course (k,) lie under a piece of a body from ``left`` to ``right`` (n,), and at which share of it (n, k)."""
    wide = np.maximum(right - left, 1e-12)[:, None]
    share = (s - left[:, None]) / wide
    return (share >= 0.0) & (share <= 1.0), share


def rolled(course: Course, under: Underside, begin: float, finish: float) -> Least:
    """Where it keeps least off, its rear axle rolled from one distance to another.

    It stands every 10 cm at first. Half way between two positions it is looked again where in between it might keep less than anywhere so far, down
    to half a millimetre; but not where what is left runs straight from one to the other.
    """
    x = np.linspace(begin, finish, 2 + int((finish - begin) / _COARSE))
    found = clearances(course, under, x)
    best, left = _lowest(x, found), found[0]
    a, b, za, zb = x[:-1], x[1:], left[:-1], left[1:]
    while len(a) and b[0] - a[0] > _FINE:
        middle, width = 0.5 * (a + b), b[0] - a[0]
        made = clearances(course, under, middle)
        best = min(best, _lowest(middle, made), key=lambda v: v.clearance)
        z = made[0]
        a, b = np.concatenate([a, middle]), np.concatenate([middle, b])
        za, zb, straight = np.concatenate([za, z]), np.concatenate([z, zb]), np.abs(z - 0.5 * (za + zb)) < _STRAIGHT
        lowest = np.minimum(za, zb) - 0.25 * _STEEPEST * width
        again = (lowest < best.clearance - _STRAIGHT) & ~np.concatenate([straight, straight])
        a, b, za, zb = a[again], b[again], za[again], zb[again]
    return best


def _lowest(rear: Floats, found: tuple[Floats, Floats, Floats]) -> Least:
    least, at, ahead = found
    k = int(np.argmin(least))
    return Least(float(least[k]), float(at[k]), float(rear[k]), float(ahead[k]))
