"""The land of turning heads in plan."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.kinds.street.reserve import SAG, between
from humble_loop.kinds.turning_head.layout import HeadLine, head_shape, outline
from humble_loop.kinds.turning_head.place import heads_of
from humble_loop.lines.kind import Reserve
from humble_loop.lines.line import line_plan


@query
def head_reserves(q: Engine, street: str) -> tuple[Reserve, ...]:
    """Each head of a street, inside the boundary round it."""
    found = []
    for end, _ in heads_of(q, street):
        if isinstance(q.attempt(outline, street, end), Unsolved):
            continue
        edge = HeadLine(street, end, head_shape(q, street, end).first.names[-1])
        lip, boundary = line_plan(q, HeadLine(street, end)), line_plan(q, edge)
        s = np.unique(np.concatenate(boundary.runs(SAG, 5.0)))
        inside = shapely.make_valid(shapely.Polygon(lip.points(s)))
        found.append(Reserve(shapely.union(inside, between(lip.points(s), boundary.points(s))), (edge,)))
    return tuple(found)
