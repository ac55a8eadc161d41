"""The reserve of a street in plan: what lies between its boundaries."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.street.plan import StreetLine, chain_of, is_new, lane_width
from humble_loop.kinds.street.section import side_shape
from humble_loop.lines.kind import Reserve
from humble_loop.lines.line import LineId
from humble_loop.site.model import SIDES, side_sign

SAG = 0.01  # metres between a reserve's edge and the boundary it stands for


@query
def reserves_of(q: Engine, street: str) -> tuple[Reserve, ...]:
    """The reserve of a new street from end to end, corners and heads not included; an existing one's is not known."""
    if not is_new(q, street):
        return ()
    chain, plans, edges = chain_of(q, street), [], []
    for side in SIDES:
        shape = side_shape(q, street, side)
        out = side_sign(side) * (shape.reach + lane_width(q, street, side))
        s = chain.sampled(SAG, 5.0, abs(out))
        plans.append(between(chain.points_at(s), chain.points_at(s, out)))
        edges.append(StreetLine(street, shape.names[-1], side))
    return (Reserve(shapely.union_all(plans), tuple[LineId, ...](edges)),)


def between(inner: Floats, outer: Floats) -> shapely.Geometry:
    """What lies between two lines (n, 2) with points side by side, also where they turn tightly."""
    quads = shapely.polygons(np.stack([inner[:-1], inner[1:], outer[1:], outer[:-1]], axis=1))
    return shapely.union_all(shapely.make_valid(quads[shapely.area(quads) > 1e-9]))
