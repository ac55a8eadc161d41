"""Throats in plan: where a side street's crown crosses the through street's lip, and from where that street is on its own."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.roots import zero_between
from humble_loop.kinds.junction.corners import kerb_return
from humble_loop.kinds.junction.nodes import Arm, junction_name, leg_of, require_joint
from humble_loop.kinds.street.section import lip_course
from humble_loop.site.model import Side

_CLEAR = 0.5  # metres beyond the throat
_FARTHEST_THROAT = 80.0  # metres along the side street


@dataclass(frozen=True)
class ThroatPlace:
    """Where the side crown line crosses the through lip line, in plan.

    ``through_at`` is the chainage on the through lip's base, ``side_chainage`` the side street's own, ``leg_at``
    the distance from the node along the leg.
    """

    point: Floats
    through_at: float
    side_chainage: float
    leg_at: float


@query
def throat_place(q: Engine, street: str, arm: Arm) -> ThroatPlace:
    """The throat in plan."""
    j = require_joint(q, street, arm)
    leg, lip, side = leg_of(q, street, arm), lip_course(q, j.through, j.lip_side), j.through_side

    def beyond(u: Floats) -> Floats:
        feet = lip.base.feet(leg.points_at(u), extend=True)
        return (feet.offsets - lip.offset(feet.chainages)) * side

    # March out to the first crossing, then close in on it: right for any curve, and exact.
    u = np.append(np.arange(0.0, min(leg.total, _FARTHEST_THROAT), 0.5), min(leg.total, _FARTHEST_THROAT))
    out = np.flatnonzero(beyond(u) > 0)
    if out.size and out[0] > 0:
        at = zero_between(beyond, float(u[out[0] - 1]), float(u[out[0]]))
        point = leg.points_at([at])
        foot = float(lip.base.feet(point, extend=True).chainages[0])
        return ThroatPlace(frozen(point[0]), foot, j.along(at), at)
    raise Unsolved(
        junction_name(q, street, arm),
        "the side street never crosses the through street's lip",
        "let it leave at a wider angle, or lengthen it",
    )


@query
def carriageway_from(q: Engine, street: str, arm: Arm, corner: Side) -> float:
    """Chainage from which the side street makes the carriageway on a corner's side.

    That is where the return ends, but not before its section, square to its crown, is clear of the through carriageway.
    """
    made, place = kerb_return(q, street, arm, corner), throat_place(q, street, arm)
    if made.leg_at >= place.leg_at + _CLEAR:
        return made.side_chainage
    j = require_joint(q, street, arm)
    return j.along(min(place.leg_at + _CLEAR, leg_of(q, street, arm).total))
