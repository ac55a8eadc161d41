"""The way round an island in a turning head: how wide it is where that is least, and how it is travelled.

The travelled way leaves the street's centreline, goes round half way between the island and the head's lip by more than half a circle, and
comes back: arcs that touch, as the lip of a bulb does whose street has no width.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.heads import bulb_outline
from humble_loop.kinds.island.layout import island_of, outline, rows
from humble_loop.kinds.turning_head.layout import outline as head_outline
from humble_loop.kinds.turning_head.place import approach, head_at, heads_of
from humble_loop.kinds.turning_head.sizes import head_sizes, vehicle_of
from humble_loop.site.model import End

_CLEAR = 0.3  # metres on either side of a vehicle that goes round
LEAST_LANE = 2.8  # metres, typical: what a waste collection vehicle passes through at walking pace
_END = 1e-6  # metres from a ring's ends within which it is the street's lip
_NEAR = 2.0  # of a bulb's radius from its centre within which an island is in it


@dataclass(frozen=True)
class WayRound:
    """The way round an island in the head at ``end`` of its street: metres of carriageway where that is tightest, which lies from a place on
    the island (2,) to one on the lip (2,); what the head's vehicle wants there; and the travelled way, None where there is no such.
    """

    end: End
    width: float
    inside: Floats
    outside: Floats
    wanted: float
    travelled: Chain | None


@query
def way_round(q: Engine, id: str) -> WayRound | None:
    """The way round an island; None where it is in no head."""
    made = island_of(q, id)
    laid = q.attempt(outline, id)
    if isinstance(laid, Unsolved):
        return None
    places = laid.points_at(rows(q, id))
    middle = places[:-1].mean(axis=0)
    for end, _ in heads_of(q, made.street):
        head = q.attempt(head_outline, made.street, end)
        if isinstance(head, Unsolved):
            continue
        sizes = head_sizes(q, made.street, end)
        reach = sizes.radius if head_at(q, made.street, end).kind == "bulb" else max(sizes.left_arm, sizes.right_arm)
        if np.hypot(*(middle - head.centre)) > _NEAR * reach:
            continue
        feet = head.ring.feet(places)
        beside = (feet.chainages > _END) & (feet.chainages < head.ring.total - _END)
        away = np.where(beside, -feet.offsets, np.inf)  # the road lies on the right of the ring
        # Where it turns round a bulb the vehicle wants what it sweeps; past the returns, and in arms, a lane.
        turning = (feet.chainages > head.ends[0]) & (feet.chainages < head.ends[1])
        if head_at(q, made.street, end).kind != "bulb":
            turning[:] = False
        wanted = np.where(turning, swept_width(q, made.street, end), LEAST_LANE)
        k = int(np.argmin(away - wanted))
        if not np.isfinite(away[k]):
            return None
        lip = head.ring.points_at([feet.chainages[k]])[0]
        return WayRound(end, float(away[k]), places[k], lip, float(wanted[k]), _travelled(q, id, end))
    return None


def swept_width(q: Engine, street: str, end: End) -> float:
    """Metres of carriageway that a head's vehicle wants where it goes round at the lip of a bulb: what lies between its outer front corner
    and its inner rear wheel, and a little on either side.
    """
    v = vehicle_of(head_at(q, street, end))
    outer = max(head_sizes(q, street, end).radius - _CLEAR, v.body.wheelbase + v.body.front + v.body.width)
    inner = float(np.sqrt(outer**2 - (v.body.wheelbase + v.body.front) ** 2)) - v.body.width
    return outer - inner + 2.0 * _CLEAR


def _travelled(q: Engine, id: str, end: End) -> Chain | None:
    """Arcs that touch, half way between the island and the lip of a bulb about the same centre."""
    street = island_of(q, id).street
    if head_at(q, street, end).kind != "bulb":
        return None
    head, sizes = head_outline(q, street, end), head_sizes(q, street, end)
    chain = approach(q, street, end)
    widest = outline(q, id).points_at(rows(q, id))
    # Round its own centre it reaches as far as its widest end; how far towards the street does not matter.
    heading = float(chain.at([chain.total]).headings[0])
    ahead = np.array([np.cos(heading), np.sin(heading)])
    beyond = widest[(widest - head.centre) @ ahead >= -1e-9]
    if not len(beyond):
        return None
    inner = float(np.hypot(*(beyond - head.centre).T).max())
    middle = 0.5 * (inner + sizes.radius)
    offset = float((head.centre - chain.points_at([chain.total])[0]) @ np.array([-ahead[1], ahead[0]]))
    radii = [r if r else sizes.returns[0] for r in head.returns]
    try:
        made = bulb_outline(chain, 0.0, 0.0, middle, (radii[0], radii[1]), offset)
    except DoesNotFit:
        return None
    return made.ring


def sweep_of(chain: Chain) -> float:
    """Degrees by which a travelled way goes round, in its middle arc."""
    k = int(np.argmax(chain.length * np.abs(chain.k0)))
    return float(np.degrees(chain.length[k] * abs(chain.k0[k])))
