"""How the surface of a junction is spanned: by straight lines from each return to what lies opposite it.

From where a return leaves the through lip up to where it is nearest to the throat its lines run to that lip, from there on to the side
street's crown; so the surface is smooth, and falls from the kerb to the through street's channel wherever the kerb lies higher. Where
both crowns run through they run to these, and the node is in the throat's place.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.kinds.junction.corners import kerb_return
from humble_loop.kinds.junction.nodes import Arm, both_crowns, leg_of, require_joint
from humble_loop.kinds.junction.throats import carriageway_from, throat_place
from humble_loop.kinds.street.plan import chain_of, is_new
from humble_loop.kinds.street.section import lip_course
from humble_loop.site.model import SIDES, Side

_APART = 2.0  # metres along a return between two lines, or a little less
_LEAST = 0.3  # metres of a part of a return that has any


@dataclass(frozen=True)
class Rulings:
    """Lines across a junction from a return: at places ``on_return`` (n,) along it, to chainages ``across`` (n,) of the through street
    (the first ``through`` of them) or distances from the node along the leg.
    """

    on_return: Floats
    across: Floats
    through: int


_NONE = Rulings(frozen(np.empty(0)), frozen(np.empty(0)), 0)


@query
def rulings(q: Engine, street: str, arm: Arm, corner: Side) -> Rulings:
    """The lines of a return, in plan; none where they would cross one another or what they lie in."""
    j = require_joint(q, street, arm)
    made, throat = q.attempt(kerb_return, street, arm, corner), q.attempt(throat_place, street, arm)
    if isinstance(made, Unsolved) or isinstance(throat, Unsolved) or not is_new(q, j.through):
        return _NONE
    both, leg, chain = both_crowns(q, street, arm), leg_of(q, street, arm), made.curve.chain
    lip, through = lip_course(q, j.through, j.lip_side), chain_of(q, j.through)
    middle = (j.through_chainage, 0.0, j.node) if both else (throat.through_at, throat.leg_at, throat.point)
    # Beyond where a half of the side street begins its crown is not inside the junction any more.
    halves = [q.attempt(carriageway_from, street, arm, c) for c in SIDES]
    if any(isinstance(at, Unsolved) for at in halves):
        return _NONE
    begins = min(abs(at - j.side_chainage) for at in halves if not isinstance(at, Unsolved))
    nearest = float(chain.feet(middle[2]).chainages[0])
    if not (_LEAST < nearest < chain.total - _LEAST) or begins < middle[1] + _LEAST or made.leg_at < middle[1]:
        return _NONE
    s, at, count = list[float](), list[float](), []
    for (a, b), (u, v) in (
        ((0.0, nearest), (made.through_at, middle[0])),
        ((nearest, chain.total), (middle[1], min(made.leg_at, begins))),
    ):
        n = int(np.ceil((b - a) / _APART))
        share = np.arange(1, n) / n
        s += (a + share * (b - a)).tolist()
        at += (u + share * (v - u)).tolist()
        count.append(n - 1)
    found = Rulings(frozen(np.array(s)), frozen(np.array(at)), count[0])
    ends = np.concatenate(
        [
            through.points_at(found.across[: count[0]]) if both else lip.points(found.across[: count[0]]),
            leg.points_at(found.across[count[0] :]),
        ]
    )
    lines = np.stack([chain.points_at(found.on_return), ends], axis=1)
    return found if _clear(lines, chain.points_at(np.linspace(0.0, chain.total, 33))) else _NONE


def _clear(lines: Floats, along: Floats) -> bool:
    """Whether lines (n, 2, 2) cross neither one another nor the return that they begin on."""
    if not len(lines):
        return True
    made = shapely.linestrings(lines)
    inwards = shapely.linestrings(lines + 1e-3 * (lines[:, ::-1] - lines) * [[[1.0], [0.0]]])
    if shapely.intersects(inwards, shapely.LineString(along)).any():
        return False
    first, second = shapely.STRtree(made).query(made, predicate="intersects")
    return not np.any(first != second)
