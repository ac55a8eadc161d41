"""The vehicle that keeps least off a driveway, as it stands on that, or on the road before it or the pad: where it keeps least, or anywhere."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.rolling import Underside, clearances, poses
from humble_loop.kinds.driveway.check import Passage, passages, tracks_of, underside_of, verdict_of, worst_of
from humble_loop.lines.describe import Standing
from humble_loop.site import parts
from humble_loop.site.library import DriveVehicle

_ROLE = {"clear": "quiet", "near": "near", "touches": "broken"}
_ROUND = np.linspace(0.0, 2.0 * np.pi, 25)
_BONNET, _ROOF = 0.85, 1.45  # metres above the ground: how a body is sketched above its underside
_ABOVE = 0.35  # metres above it at which it is told what is left
_NAN = np.full((1, 2), np.nan)


def standing_on(q: Engine, id: str, s: float | None) -> Standing | None:
    """It with the middle between its axles ``s`` metres out from the lip, or where it keeps least."""
    made = q.attempt(passages, id)
    worst = None if isinstance(made, Unsolved) else worst_of(made)
    if worst is None:
        return None
    under = _under(q, worst)
    rear = worst.rear if s is None else s - 0.5 * under.wheelbase
    (course,) = tracks_of(q, id, (worst.aside,))
    left = float(clearances(course, under, np.array([rear]))[0][0])
    pose = poses(course, under, np.array([rear]))
    body = pose.placed(under.wheel, _body(under, worst.direction == "forwards"))[0]
    wheels = [
        middle[0] + under.wheel * np.column_stack([np.cos(_ROUND), np.sin(_ROUND)])
        for middle in (pose.rear, pose.front)
    ]
    words = f"{worst.vehicle}, {worst.direction}, {worst.beside} wheels: {1000 * left:.0f} mm".replace("-", "−")
    above = float(0.5 * (body[:, 0].min() + body[:, 0].max())), float(body[:, 1].max() + _ABOVE)
    shapes = [body, _NAN, wheels[0], _NAN, wheels[1], _NAN, np.column_stack([course.s, course.z])]
    return Standing(np.concatenate(shapes), words, above, _ROLE[verdict_of(left)])


def _under(q: Engine, worst: Passage) -> Underside:
    found = next(
        v for v in (parts.one(q, DriveVehicle, i) for i in parts.ids(q, DriveVehicle)) if v.name == worst.vehicle
    )
    under = underside_of(found)
    return under if worst.direction == "forwards" else under.turned()


def _body(under: Underside, forwards: bool) -> Floats:
    """A body above an underside, closed: as people draw a car, its bonnet ahead or behind."""
    (rear, low), (front, high) = under.points[0], under.points[-1]
    long = front - rear
    shares = np.array([1.0, 0.98, 0.72, 0.60, 0.20, 0.04, 0.0])
    ups = np.array([high, _BONNET - 0.1, _BONNET, _ROOF, _ROOF, _BONNET, low])
    if not forwards:
        shares, ups = 1.0 - shares[::-1], ups[::-1].copy()
        ups[0], ups[-1] = high, low
    return np.concatenate([under.points, np.column_stack([rear + long * shares, ups])])
