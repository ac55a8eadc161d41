"""Closed lines of straights and arcs: polygons with rounded corners."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.chain import Chain, Element

_NONE = 1e-9  # metres or radians that are nothing


def rounded_polygon(corners: ArrayLike, radii: ArrayLike) -> Chain:
    """The closed chain, anticlockwise, along the sides of a polygon with ``corners`` (n, 2) whose corners are arcs of ``radii`` (n,).

    It begins where the arc of the first corner ends. An arc takes radius × tan(half the turn) of both sides; where the arcs at both
    ends of a side meet it is arcs alone. Raises DoesNotFit where a side is too short for them, or two sides cross.
    """
    p, r = np.asarray(corners, dtype=np.float64), np.asarray(radii, dtype=np.float64)
    if len(p) < 3 or np.any(r <= 0):
        raise DoesNotFit("a closed line needs three corners with radii above zero")
    area = 0.5 * float(np.sum(p[:, 0] * np.roll(p[:, 1], -1) - p[:, 1] * np.roll(p[:, 0], -1)))
    if area < 0:
        p, r = p[::-1], r[::-1]
    sides = np.roll(p, -1, axis=0) - p
    lengths = np.hypot(sides[:, 0], sides[:, 1])
    if lengths.min() < _NONE or abs(area) < _NONE:
        raise DoesNotFit("two of its corners are one, or all lie on a line")
    headings = np.arctan2(sides[:, 1], sides[:, 0])
    turns = np.mod(headings - np.roll(headings, 1) + np.pi, 2 * np.pi) - np.pi
    tangents = r * np.tan(0.5 * np.abs(turns))
    left = lengths - tangents - np.roll(tangents, -1)
    if left.min() < -1e-7:
        k = int(np.argmin(left))
        raise DoesNotFit(
            f"its side from corner {k + 1} to corner {(k + 1) % len(p) + 1} is {-left[k]:.2f} m too short for their arcs"
        )
    if abs(float(turns.sum()) - 2 * np.pi) > 1e-6 or _crosses(p):
        raise DoesNotFit("its sides cross one another")
    starts, heads, elements = [], [], []
    ways = sides / lengths[:, None]
    for k in range(len(p)):
        after = (k + 1) % len(p)
        if left[k] > _NONE:
            starts.append(p[k] + tangents[k] * ways[k])
            heads.append(headings[k])
            elements.append(Element(float(left[k]), 0.0, 0.0))
        if abs(turns[after]) > _NONE:
            curve = float(np.sign(turns[after]) / r[after])
            starts.append(p[after] - tangents[after] * ways[k])
            heads.append(headings[k])
            elements.append(Element(float(abs(turns[after]) * r[after]), curve, curve))
    return Chain.assembled(np.array(starts), np.array(heads), elements)


def _crosses(p: Floats) -> bool:
    """Whether two sides of a polygon that do not follow one another cross."""
    q = np.roll(p, -1, axis=0)

    def side_of(a: Floats, b: Floats, c: Floats) -> Floats:
        return np.asarray(
            (b[..., 0] - a[..., 0]) * (c[..., 1] - a[..., 1]) - (b[..., 1] - a[..., 1]) * (c[..., 0] - a[..., 0])
        )

    a, b = p[:, None], q[:, None]
    over = side_of(a, b, p[None]) * side_of(a, b, q[None]) < 0.0
    return bool(np.any(over & over.T))
