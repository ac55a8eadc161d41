"""The ground across a street: at which crown level each part of its section would lie on it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.street.side import course
from humble_loop.site.model import SIDES, side_sign

_STEP = 3.0  # metres between two places along the street
_MOST = 160  # places
_ACROSS = 7  # points of a side from the crown to its boundary, or to its lip


@dataclass(frozen=True)
class Across:
    """At chainages (n,): crown levels (n, k) at which points from boundary to boundary come to lie on the ground, NaN where
    there is none; the plan areas (n, k) in m2 that they stand for; and crown levels (n, j) of points from lip to lip.
    """

    chainages: Floats
    touching: Floats
    areas: Floats
    within: Floats


@query
def across(q: Engine, street: str) -> Across:
    """The ground across a street, by its sections, widths and falls; junctions and heads are left out of it."""
    chain, ground = chain_of(q, street), ground_of(q)
    s = np.linspace(0.0, chain.total, int(np.clip(np.ceil(chain.total / _STEP), 2, _MOST)) + 1)
    along = np.gradient(s)
    along[[0, -1]] *= 0.5
    touching: list[Floats] = []
    areas: list[Floats] = []
    within: list[Floats] = []
    for side in SIDES:
        made = course(q, street, side)
        out = np.column_stack([made.out(k)(s) for k in range(len(made.names))])
        rise = np.cumsum(np.column_stack([made.rise(k)(s) for k in range(len(made.names))]), axis=1)
        for to, into in ((out[:, -1], touching), (out[:, made.lip], within)):
            at = to[:, None] * np.linspace(0.0, 1.0, _ACROSS)
            above = np.array([np.interp(a, o, r) for a, o, r in zip(at, out, rise)])
            places = chain.points_at(np.repeat(s, _ACROSS), side_sign(side) * at.ravel())
            into.append(ground.levels(places).reshape(at.shape) - above)
        share = np.full(_ACROSS, 1.0 / (_ACROSS - 1))
        share[[0, -1]] *= 0.5
        areas.append(along[:, None] * out[:, -1:] * share)
    return Across(frozen(s), *(frozen(np.concatenate(v, axis=1)) for v in (touching, areas, within)))
