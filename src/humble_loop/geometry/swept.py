"""What a vehicle sweeps whose front axle is led along a path: the rear axle follows, and the body stands on both."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from humble_loop.geometry.arrays import Floats


@dataclass(frozen=True)
class Body:
    """A rigid vehicle with one axle that is steered: ``wheelbase``, ``front`` and ``rear`` overhang, and ``width``, in metres."""

    wheelbase: float
    front: float
    rear: float
    width: float

    @property
    def length(self) -> float:
        """Metres from end to end."""
        return self.front + self.wheelbase + self.rear

    def corners(self, front: Floats, headings: Floats) -> Floats:
        """The body's corners (…, 4, 2), from the left one at its front clockwise, where its front axle's middle is (…, 2)."""
        ahead = np.stack([np.cos(headings), np.sin(headings)], axis=-1)
        left = np.stack([-ahead[..., 1], ahead[..., 0]], axis=-1)
        nose, tail = front + self.front * ahead, front - (self.wheelbase + self.rear) * ahead
        half = 0.5 * self.width * left
        return np.stack([nose + half, nose - half, tail - half, tail + half], axis=-2)


def followed(path: Floats, wheelbase: float) -> Floats:
    """The heading (…, n) of a vehicle all along a path (…, n, 2) of its front axle's middle, whose first leg it stands along.

    The rear axle rolls straight on, so per metre of path the heading turns by sin(b - h) / wheelbase, b being the bearing of the
    path. Along a straight leg that has an answer: tan((h - b) / 2) falls by exp(-s / wheelbase).
    """
    legs = np.diff(path, axis=-2)
    lengths = np.hypot(legs[..., 0], legs[..., 1])
    bearings = np.arctan2(legs[..., 1], legs[..., 0])
    found = np.empty(path.shape[:-1])
    found[..., 0] = bearings[..., 0]
    left = np.exp(-lengths / wheelbase)
    for k in range(legs.shape[-2]):
        behind = np.mod(found[..., k] - bearings[..., k] + np.pi, 2.0 * np.pi) - np.pi
        found[..., k + 1] = bearings[..., k] + 2.0 * np.arctan(np.tan(0.5 * behind) * left[..., k])
    return found


def swept(corners: Floats) -> shapely.Geometry:
    """The ground that a body covers whose corners (n, 4, 2) stand one after the other."""
    pairs = np.concatenate([corners[:-1], corners[1:]], axis=1)
    return shapely.union_all(shapely.convex_hull(shapely.multipoints(pairs)))


def swept_ring(corners: Floats) -> Floats:
    """The outline (n, 2) of what a body at corners (n, 4, 2) covers, without the holes in it; empty for none."""
    if not len(corners):
        return np.empty((0, 2))
    found: Floats = shapely.get_coordinates(shapely.get_exterior_ring(shapely.get_parts(swept(corners))[0]))
    return found
