"""Points that are one place, nearer to one another than anything that is meant to be apart; and those that lie on edges of others."""

from __future__ import annotations

import numpy as np
import shapely

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


def stitched(xy: Floats, triangles: Ints, within: float) -> tuple[Ints, Ints]:
    """Triangles (m, 3) whose edges go through every corner of others that lies on them, to ``within`` metres; and of each which it was.

    Only open edges are looked at, those of one triangle: where three surfaces meet in a line, one may have a corner where its
    neighbour has none, and a crack would stand between them.
    """
    owner = np.arange(len(triangles))
    while True:
        at, side, on = _on_open_edges(xy, triangles, within)
        if not len(at):
            return triangles, owner
        here = side == side[0]  # a triangle may have such corners on two edges: one side at a time
        at, on = at[here], on[here]
        a, b, c = (triangles[:, (side[0] + k) % 3] for k in range(3))
        along = np.einsum("ij,ij->i", xy[on] - xy[a[at]], xy[b[at]] - xy[a[at]])
        order = np.lexsort((along, at))
        at, on = at[order], on[order]
        # From the first corner to the first point on the edge, from point to point, and from the last to the second corner.
        first = np.concatenate([[True], at[1:] != at[:-1]])
        last = np.concatenate([at[1:] != at[:-1], [True]])
        begins = np.where(first, a[at], np.roll(on, 1))
        pieces = np.column_stack([begins, on, c[at]])
        ends = np.column_stack([on[last], b[at[last]], c[at[last]]])
        keep = np.setdiff1d(np.arange(len(triangles)), at)
        triangles = np.concatenate([triangles[keep], pieces, ends])
        owner = np.concatenate([owner[keep], owner[at], owner[at[last]]])


def _on_open_edges(xy: Floats, triangles: Ints, within: float) -> tuple[Ints, Ints, Ints]:
    """Triangles (k,) and which of their edges (k,) no other shares, and corners (k,) of such edges that lie on it."""
    every = np.sort(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]), axis=1)
    _, inverse, count = np.unique(every[:, 0] * len(xy) + every[:, 1], return_inverse=True, return_counts=True)
    single = np.flatnonzero(count[inverse] == 1)
    corners = np.unique(every[single])
    edges = shapely.linestrings(xy[every[single]])
    on, edge = shapely.STRtree(edges).query(shapely.points(xy[corners]), predicate="dwithin", distance=within)
    which, on = single[edge], corners[on]
    other = (every[which] != on[:, None]).all(axis=1)
    which, on = which[other], on[other]
    return which % len(triangles), which // len(triangles), on
