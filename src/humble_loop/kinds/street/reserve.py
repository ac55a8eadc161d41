"""The reserve of a street in plan: what lies between its boundaries."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import shapely

from humble_loop.engine.in_pieces import InPieces, Pieces
from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.united import united
from humble_loop.kinds.street.plan import StreetLine, chain_of, is_new
from humble_loop.kinds.street.side import boundary_width, course
from humble_loop.lines.kind import Reserve
from humble_loop.lines.line import LineId
from humble_loop.site.model import SIDES, side_sign

_PIECE, _TOGETHER = 100, 2  # quads, and unions of them, that are united at once
SAG = 0.01  # metres between a reserve's edge and the boundary it stands for


@query
def reserves_of(q: Engine, street: str) -> tuple[Reserve, ...]:
    """The reserve of a new street from end to end, corners and heads not included; an existing one's is not known."""
    return _laying(q, street).result(q) if is_new(q, street) else ()


@query
def _laying(q: Engine, street: str) -> InPieces[tuple[Reserve, ...]]:
    chain, quads, edges = chain_of(q, street), [], []
    for side in SIDES:
        made, out = course(q, street, side), boundary_width(q, street, side)
        s = np.union1d(chain.sampled(SAG, 5.0, float(out.values.max())), out.at[(out.at > 0) & (out.at < chain.total)])
        quads.append(_quads(chain.points_at(s), chain.points_at(s, side_sign(side) * out(s))))
        edges.append(StreetLine(street, made.names[-1], side))
    return InPieces(_reserve(quads, tuple[LineId, ...](edges)))


def _reserve(sides: Sequence[np.ndarray], edges: tuple[LineId, ...]) -> Pieces[tuple[Reserve, ...]]:
    """The union of both sides' quads: of a street that is folded upon itself they lie over one another by the thousand."""
    plans = []
    for side in sides:
        for k in range(0, len(side), _PIECE):
            plans.append(united(side[k : k + _PIECE]))
            yield
    while len(plans) > _TOGETHER:
        yield
        plans = [*plans[_TOGETHER:], united(plans[:_TOGETHER])]
    yield
    return (Reserve(united(plans), edges),)


def between(inner: Floats, outer: Floats) -> shapely.Geometry:
    """What lies between two lines (n, 2) with points side by side, also where they turn tightly."""
    return united(_quads(inner, outer))


def _quads(inner: Floats, outer: Floats) -> np.ndarray:
    quads = shapely.polygons(np.stack([inner[:-1], inner[1:], outer[1:], outer[:-1]], axis=1))
    return np.asarray(shapely.make_valid(quads[shapely.area(quads) > 1e-9]))
