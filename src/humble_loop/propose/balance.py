"""Levels of a grade line at which cut and fill are alike, and together least."""

from __future__ import annotations

import numpy as np

from humble_loop.geometry.arrays import Bools, Floats
from humble_loop.geometry.gradeline import Profile

_FIRST = 1e3  # times the moved earth that what does not balance counts: it is made least first


class NoLine(ValueError):
    """No levels keep the grades."""


def weights_of(s: Floats, chainages: Floats, curves: Floats) -> Floats:
    """How levels at ``s`` (n,) depend on those of the VIPs (m,): (n, m). Curves stay as long as they are, so it is linear."""
    return np.column_stack([Profile.of(chainages, one, curves).level(s) for one in np.eye(len(chainages))])


def balanced(
    weights: Floats, ground: Floats, areas: Floats, line: Profile, free: Bools, grades: tuple[Floats, Floats]
) -> Floats:
    """Levels (m,) of a line's VIPs for which cut and fill are alike and their sum is least; those not ``free`` stay.

    ``weights`` (n, m) give the line's levels at n places from the VIPs'; at each, points of a section come to the ground
    when the line lies at ``ground`` (n, k), and stand for ``areas`` (n, k) m2. Legs keep ``grades``, the least and greatest
    (m - 1,), falling negative. Where nothing balances, the difference is the least that there is.

    A linear programme: least sum of areas times |line - ground| + 1000 |net|, solved by HiGHS's dual simplex to the
    optimum. Raises NoLine where no levels keep the grades.
    """
    from scipy.optimize import linprog  # takes long to load, and is seldom wanted
    from scipy.sparse import coo_array, csr_array, hstack, vstack

    n, k = ground.shape
    m, runs = len(line.levels), np.diff(line.chainages)
    every, wide = np.arange(n * k), csr_array(np.repeat(weights, k, axis=0))
    each = csr_array(coo_array((np.ones(n * k), (every, every))))
    net = (areas.sum(axis=1) @ weights)[None]
    nothing = csr_array((n * k, 1))
    # Unknowns: levels, how far each point is from the ground, and how far the whole is out of balance.
    rows = [hstack([wide, -each, nothing]), hstack([-wide, -each, nothing])]
    limits = [ground.ravel(), -ground.ravel()]
    whole = float((areas * ground).sum())
    blank = csr_array((1, n * k))
    rows += [hstack([csr_array(net), blank, [[-1.0]]]), hstack([csr_array(-net), blank, [[-1.0]]])]
    limits += [np.array([whole]), np.array([-whole])]
    legs = csr_array((np.eye(m)[1:] - np.eye(m)[:-1]) / runs[:, None])
    none = csr_array((m - 1, n * k + 1))
    rows += [hstack([legs, none]), hstack([-legs, none])]
    limits += [grades[1], -grades[0]]
    cost = np.concatenate([np.zeros(m), areas.ravel(), [_FIRST]])
    held = [(None, None) if f else (float(z), float(z)) for f, z in zip(free, line.levels)]
    bounds = [*held, *[(0.0, None)] * (n * k + 1)]
    found = linprog(cost, A_ub=vstack(rows).tocsr(), b_ub=np.concatenate(limits), bounds=bounds, method="highs-ds")
    if found.status != 0:
        raise NoLine("no levels of its VIPs keep the grades that its class allows")
    return np.asarray(found.x[:m], dtype=np.float64)
