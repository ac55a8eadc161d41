"""Points that are one place: nearer to one another than anything that is meant to be apart."""

from __future__ import annotations

import numpy as np

from humble_loop.geometry.arrays import Floats, Ints


def same_places(xy: Floats, within: float) -> tuple[Ints, Ints]:
    """Indices (k,) of one point of each place, and for every point (n,) which of those places it is.

    Points up to half of ``within`` metres apart are one place (and so are chains of them); points farther apart than
    ``within`` are not, unless others lie between. They are compared in four grids, each shifted by half a cell, since
    two points that are close share a cell of at least one of them.
    """
    n = len(xy)
    leader = np.arange(n)
    if n == 0:
        return leader, leader
    base = xy[:, :2] - xy[:, :2].min(axis=0)
    groups = []
    for dx, dy in ((0.0, 0.0), (0.5, 0.0), (0.0, 0.5), (0.5, 0.5)):
        cell = np.floor(base / within + [dx, dy]).astype(np.int64)
        code = cell[:, 0] * (int(cell[:, 1].max()) + 2) + cell[:, 1]
        _, inverse, counts = np.unique(code, return_inverse=True, return_counts=True)
        if counts.max() > 1:
            groups.append(inverse.ravel())
    while groups:
        before = leader
        for inverse in groups:
            least = np.full(int(inverse.max()) + 1, n)
            np.minimum.at(least, inverse, leader)
            leader = least[inverse]
        leader = leader[leader]
        if np.array_equal(before, leader):
            break
    first, place = np.unique(leader, return_inverse=True)
    return first, place.ravel()
