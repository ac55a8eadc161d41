"""Medians of sections: one that runs on through a junction is in the way of all who turn across it."""

from __future__ import annotations

from humble_loop.engine.query import Engine
from humble_loop.kinds.junction.nodes import Arm, CrossingArm, arm_name, require_joint
from humble_loop.kinds.street.plan import chain_of, is_new, name_of
from humble_loop.kinds.street.side import course
from humble_loop.lines.findings import Finding, point
from humble_loop.lines.line import ThingId
from humble_loop.site.model import SIDES

RULES = ("median through a junction",)
_SOME = 0.05  # metres of a median that is one


def median_findings(q: Engine, street: str, arm: Arm, of: ThingId) -> list[Finding]:
    """That the through street's median, or at a crossing that of either, is there at the node; told once, on the first arm."""
    if isinstance(arm, CrossingArm) and arm.onwards:
        return []
    j, found = require_joint(q, street, arm), []
    places = [(j.through, j.through_chainage)]
    if isinstance(arm, CrossingArm):
        places.append((street, j.side_chainage))
    for id, at in places:
        wide = median_at(q, id, at)
        if wide > _SOME:
            words = f"the median of {name_of(q, id)}, {wide:.2f} m wide, runs on through it: nobody can turn across it"
            remedy = (
                "give that street a section without one over the junction, and put islands on its legs for its ends"
            )
            where = point(chain_of(q, id).points_at([at])[0])
            found.append(
                Finding(RULES[0], of, arm_name(q, street, arm), words, remedy, wide, 0.0, at, where, severity="near")
            )
    return found


def median_at(q: Engine, street: str, chainage: float) -> float:
    """Metres of median that a street has at a chainage, both sides together."""
    if not is_new(q, street):
        return 0.0
    sides = [course(q, street, side) for side in SIDES]
    return sum(c.width(k).one(chainage) for c in sides for k, piece in enumerate(c.pieces) if piece == "median")
