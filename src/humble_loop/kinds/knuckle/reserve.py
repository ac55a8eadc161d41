"""The land of knuckles in plan."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.engine.query import Engine, query
from humble_loop.kinds.knuckle.layout import KnuckleLine, boundary_of, knuckles_on, ring, rings_of
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.street.reserve import SAG, between
from humble_loop.lines.kind import Reserve
from humble_loop.lines.line import line_plan


@query
def knuckle_reserves(q: Engine, street: str) -> tuple[Reserve, ...]:
    """Each knuckle of a street, between the centreline and the boundary beyond it."""
    found = []
    for k in knuckles_on(q, street):
        for which in rings_of(q, k.id):
            edge = boundary_of(q, k.id, which)
            lip, boundary = line_plan(q, KnuckleLine(k.id, which)), line_plan(q, edge)
            s = np.unique(np.concatenate(boundary.runs(SAG, 5.0)))
            kerb, made = lip.points(s), ring(q, k.id, which)
            along = chain_of(q, street).points_at(np.linspace(made.finish, made.begin, 25))
            inside = shapely.make_valid(shapely.Polygon([*kerb, *along]))
            found.append(Reserve(shapely.union(inside, between(kerb, boundary.points(s))), (edge,)))
    return tuple(found)
