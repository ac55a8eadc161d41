"""Where two chains cross."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.geometry.arrays import Floats, tangents
from humble_loop.geometry.chain import Chain

_SAG = 0.05  # metres between a chain and the chords by which a crossing is found
_STEPS = 8
_APART = 1e-6  # metres between the two at what is no crossing
_BESIDE = 1e-6  # sine of the angle at which they run side by side


def crossings(a: Chain, b: Chain) -> Floats:
    """Chainages (n, 2) on ``a`` and ``b`` at which they cross, exactly, in the order of ``a``.

    Found on chords and led on by Newton's steps: with tangents u and v, the gap between the two is taken to nothing by ds u
    - dt v. Where they run side by side there is no crossing.
    """
    p, q = (c.points_at(c.sampled(sag=_SAG)) for c in (a, b))
    meet = shapely.get_coordinates(shapely.intersection(shapely.linestrings(p), shapely.linestrings(q)))
    if not len(meet):
        return np.empty((0, 2))
    s, t = a.feet(meet).chainages, b.feet(meet).chainages
    for _ in range(_STEPS):
        on_a, on_b = a.at(s), b.at(t)
        u, v, gap = tangents(on_a.headings), tangents(on_b.headings), on_b.points - on_a.points
        cross = u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]
        safe = np.where(np.abs(cross) > _BESIDE, cross, np.inf)
        s = np.clip(s + (gap[:, 0] * v[:, 1] - gap[:, 1] * v[:, 0]) / safe, 0.0, a.total)
        t = np.clip(t + (gap[:, 0] * u[:, 1] - gap[:, 1] * u[:, 0]) / safe, 0.0, b.total)
    on_a, on_b = a.at(s), b.at(t)
    u, v = tangents(on_a.headings), tangents(on_b.headings)
    met = np.hypot(*(on_a.points - on_b.points).T) < _APART
    met &= np.abs(u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]) > _BESIDE
    found = np.column_stack([s, t])[met]
    found = found[np.argsort(found[:, 0], kind="stable")]
    return np.asarray(found[np.diff(found[:, 0], prepend=-np.inf) > _APART])
