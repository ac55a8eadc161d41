"""The land of a junction's corners in plan: from the streets' boundaries to the splay."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.kinds.junction.corners import ReturnLine, corner_shape, kerb_return
from humble_loop.kinds.junction.nodes import arms_of, require_joint
from humble_loop.kinds.street.plan import is_new
from humble_loop.kinds.street.reserve import SAG, between
from humble_loop.lines.kind import Reserve
from humble_loop.lines.line import line_plan
from humble_loop.site.model import SIDES


@query
def corner_reserves(q: Engine, street: str) -> tuple[Reserve, ...]:
    """The corners of a side street's arms, each round its splay."""
    found = []
    for arm in arms_of(q, street) if is_new(q, street) else ():
        at = require_joint(q, street, arm)
        for corner in SIDES:
            if isinstance(q.attempt(kerb_return, street, arm, corner), Unsolved):
                continue
            edge = ReturnLine(street, arm, corner, corner_shape(q, street, arm, corner).last.names[-1])
            lip, boundary = line_plan(q, ReturnLine(street, arm, corner)), line_plan(q, edge)
            s = np.unique(np.concatenate(boundary.runs(SAG, 5.0)))
            kerb = lip.points(s)
            inside = shapely.make_valid(shapely.Polygon([*kerb, at.node]))
            found.append(Reserve(shapely.union(inside, between(kerb, boundary.points(s))), (edge,)))
    return tuple(found)
