"""Offsets from a line to straight legs beside it: exact, though the line bends."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arrays import Floats, as_row, frozen, left_normals, tangents
from humble_loop.geometry.chain import Chain
from humble_loop.lines.varying import Varying

_INTERVAL = 0.5  # metres between places at which values are kept
_BESIDE = 1e-7  # metres within which a place is just after or before another
_PAST = 1e-6  # metres by which one may seem to pass between two legs
_ALONG = 1e-9  # metres by which a leg may be missed at its ends


@dataclass(frozen=True)
class ToLegs(Varying):
    """How far, square to ``base`` (left positive), legs lie that join ``corners`` (k, 2): to the left of it where ``side`` is +1.

    Called, it is exact; ``at`` and ``values`` are of places close by one another, those abreast of the corners among them.
    """

    base: Chain
    corners: Floats
    side: float

    @staticmethod
    def beside(base: Chain, corners: ArrayLike, side: float) -> ToLegs:
        """To legs that begin abreast of the base's start and end abreast of its end."""
        p = frozen(np.asarray(corners, dtype=np.float64))
        keys = base.feet(p).chainages
        even = np.linspace(0.0, base.total, max(2, int(np.ceil(base.total / _INTERVAL)) + 1))
        at = np.unique(np.concatenate([even, np.clip(keys, 0.0, base.total)]))
        at = at[np.concatenate([[True], np.diff(at) > 1e-6])]
        return ToLegs(frozen(at), frozen(_met(base, p, side, at)[0]), base, p, side)

    @property
    def is_steady(self) -> bool:
        """It is not, though it may be at some places."""
        return False

    def __call__(self, s: ArrayLike) -> Floats:
        """Values at ``s`` (any shape)."""
        x = np.asarray(s, dtype=np.float64)
        found: Floats = _met(self.base, self.corners, self.side, np.clip(x.ravel(), 0.0, self.base.total))[0].reshape(
            x.shape
        )
        return found

    def one(self, s: float) -> float:
        """The value at one place."""
        return float(self([s])[0])

    def slope(self, s: ArrayLike, side: str = "after") -> Floats:
        """Change per metre (n,) just after (or before) each of ``s`` (n,): with m square to the leg, T and n along and square to the base
        and k its curvature, -(1 - k t) (m T) / (m n).
        """
        x = as_row(s)
        step = _BESIDE if side == "after" else -_BESIDE
        near = np.clip(x + step, 0.0, self.base.total)
        t, leg = _met(self.base, self.corners, self.side, near)
        f = self.base.at(near)
        along = (self.corners[1:] - self.corners[:-1])[leg]
        square = np.column_stack([-along[:, 1], along[:, 0]])
        across = np.einsum("ij,ij->i", square, left_normals(f.headings))
        onwards = np.einsum("ij,ij->i", square, tangents(f.headings))
        found: Floats = -(1.0 - f.curvatures * t) * onwards / across
        return found


def _met(base: Chain, corners: Floats, side: float, s: Floats) -> tuple[Floats, np.ndarray]:
    """Offsets (n,) at which normals of the base first meet the legs on a side, and which leg (n,) each is; none where they lie on the other."""
    f = base.at(s)
    normals = left_normals(f.headings)
    a, d = corners[:-1], corners[1:] - corners[:-1]
    length = np.maximum(np.hypot(*d.T), 1e-12)
    w = a[None] - f.points[:, None]  # (n, k, 2)
    det = normals[:, None, 0] * d[None, :, 1] - normals[:, None, 1] * d[None, :, 0]
    with np.errstate(divide="ignore", invalid="ignore"):
        t = (w[..., 0] * d[None, :, 1] - w[..., 1] * d[None, :, 0]) / det
        u = (w[..., 0] * normals[:, None, 1] - w[..., 1] * normals[:, None, 0]) / det
    slack = _ALONG / length[None]
    hit = np.isfinite(t) & (u >= -slack) & (u <= 1.0 + slack) & (t * side > 0)
    # Where rounding lets a normal pass between two legs, the one that is missed by least.
    miss = np.where(np.isfinite(t) & (t * side > 0), np.maximum(np.maximum(-u, u - 1.0), 0.0) * length[None], np.inf)
    far = np.where(hit, np.abs(t), np.inf)
    leg = np.where(hit.any(axis=1), np.argmin(far, axis=1), np.argmin(miss, axis=1))
    row = np.arange(len(s))
    return np.where(hit.any(axis=1) | (miss[row, leg] < _PAST), t[row, leg], 0.0), leg
