"""Noses: where two legs part at a sharp angle both carriageways are wider beside the corner between them, so that it stands back from
the lanes, and come back to their width beyond it.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import left_normals, tangents
from humble_loop.kinds.junction.corners import (
    change_corner,
    corner_choice,
    corner_name,
    corner_radius,
    corner_turn,
)
from humble_loop.kinds.junction.model import NoseWidening
from humble_loop.kinds.junction.nodes import Arm, arms_of, joints_on, leg_of, leg_side, require_joint
from humble_loop.kinds.street.plan import chain_of, is_new, name_of
from humble_loop.kinds.street.side import drawn_side, points_of, section_at
from humble_loop.lines.describe import Choice, Fact, Row
from humble_loop.lines.findings import Finding, point
from humble_loop.lines.kind import Widens
from humble_loop.lines.line import ThingId
from humble_loop.site.edits import Edit, changed
from humble_loop.site.model import SIDES, Side, side_sign

RULES = ("nose without room",)
OFFERED = 110.0  # degrees that a return turns, from which on its corner is sharp enough for a nose
_BEGINS = 0.75  # of the side street's half width before its middle crosses the through lip, where that one begins to be wider: in the mouth
_OVER = 0.5  # of it, over which that is done
_AT_NODE = 1.0  # metres over which the side street does the same
_WHOLE = 1.0  # metres to which a proposed length is rounded up
_CHOICES = (("no", "as the streets are"), ("yes", "widened to its nose"))


@dataclass(frozen=True)
class NoseLeg:
    """One of the two legs beside a nose: its street and side, the node's chainage, the direction (+1 onwards) in which it leaves, metres
    from the node at which its widening begins and over which it does, as far as which it has all of it, and where it has come back; and
    how much that is.
    """

    street: str
    side: Side
    node: float
    way: int
    begin: float
    over: float
    full: float
    back: float
    by: float

    @property
    def widens(self) -> Widens:
        """What it does to its street's side."""
        near, far, taper = self.node + self.way * self.begin, self.node + self.way * self.back, self.back - self.full
        if self.way > 0:
            return Widens(near, far, self.by, self.over, taper)
        return Widens(far, near, self.by, taper, self.over)


@query
def nose_legs(q: Engine, street: str, arm: Arm, corner: Side) -> tuple[NoseLeg, NoseLeg] | None:
    """The through street's leg and the side street's beside a nose; None where the corner has none. Worked out from the streets' sections and
    the angle at the node alone, as if both ran straight from there: the returns follow from it.
    """
    nose = corner_choice(q, street, arm, corner).nose
    if nose is None:
        return None
    j = require_joint(q, street, arm)
    outwards = left_normals(leg_of(q, street, arm).at([0.0]).headings[0]) * side_sign(corner)
    onwards = tangents(chain_of(q, j.through).at([j.through_chainage]).headings[0])
    through_way = 1 if float(outwards @ onwards) > 0.0 else -1
    lip_side = leg_side(arm, corner)
    a = _half(q, j.through, j.lip_side, j.through_chainage)
    b = _half(q, street, lip_side, j.side_chainage)
    # Between the legs: the angle that the return does not turn.
    angle = np.radians(180.0 - corner_turn(q, street, arm, corner))
    radius, wide_a, wide_b = corner_radius(q, street, arm, corner), a + nose.through, b + nose.side
    cut = radius / np.tan(0.5 * angle)
    met = [(w + v * np.cos(angle)) / np.sin(angle) + cut for v, w in ((wide_a, wide_b), (wide_b, wide_a))]
    length = [nose.length or float(np.ceil(m / _WHOLE) * _WHOLE) for m in met]
    # On the through street it begins within the mouth, before the side street's middle crosses its lip.
    inside = float(a / np.tan(angle)) - _BEGINS * b
    ends = length[0] + nose.taper, length[1] + nose.taper
    return (
        NoseLeg(
            j.through, j.lip_side, j.through_chainage, through_way, inside, _OVER * b, length[0], ends[0], nose.through
        ),
        NoseLeg(street, lip_side, j.side_chainage, j.way, 0.0, _AT_NODE, length[1], ends[1], nose.side),
    )


def _half(q: Engine, street: str, side: Side, chainage: float) -> float:
    """Metres from the crown to the lip by the section alone."""
    section, _ = section_at(q, street, chainage)
    points = points_of(q, section.side(drawn_side(q, street, side)))
    return float(points.out[points.lip])


def nose_widens(q: Engine, street: str, side: Side) -> tuple[Widens, ...]:
    """Where noses make a side of a street wider."""
    if not is_new(q, street):
        return ()
    places = [(street, arm) for arm in arms_of(q, street)] + list(joints_on(q, street))
    made = [nose_legs(q, *place, corner) for place in places for corner in SIDES if is_new(q, place[0])]
    legs = [leg for pair in made if pair for leg in pair]
    return tuple(g.widens for g in legs if (g.street, g.side) == (street, side) and g.by > 0.0)


def nose_findings(q: Engine, street: str, arm: Arm, corner: Side, of: ThingId) -> list[Finding]:
    """A nose whose widening reaches past the end of a street, or into another junction."""
    name, found = corner_name(q, street, arm, corner), []
    for leg in nose_legs(q, street, arm, corner) or ():
        chain = chain_of(q, leg.street)
        room, met = (chain.total - leg.node if leg.way > 0 else leg.node), "it ends"
        for other, its in joints_on(q, leg.street):
            clear = (require_joint(q, other, its).through_chainage - leg.node) * leg.way
            if (other, its) != (street, arm) and 0.1 < clear < room:
                room, met = clear, f"{name_of(q, other)} meets it"
        if leg.by > 0.0 and leg.back > room + 1e-9:
            at = point(chain.points_at([np.clip(leg.node + leg.way * leg.back, 0.0, chain.total)])[0])
            words = (
                f"beside its nose {name_of(q, leg.street)} is wider for {leg.back:.1f} m, and {met} after {room:.1f} m"
            )
            remedy = f"shorten its length or its taper by {leg.back - room:.1f} m"
            found.append(Finding(RULES[0], of, name, words, remedy, leg.back, room, place=at))
    return found


def nose_rows(q: Engine, street: str, arm: Arm, corner: Side) -> list[Row]:
    """Whether both streets are wider beside a corner, by how much and how far; offered where it is sharp."""
    nose, legs = corner_choice(q, street, arm, corner).nose, nose_legs(q, street, arm, corner)
    if nose is None or legs is None:
        if corner_turn(q, street, arm, corner) < OFFERED:
            return []
        widened = change_corner(q, street, arm, corner, nose=NoseWidening())
        return [Choice("nose", _CHOICES, "no", lambda v: widened, True)]

    def to(key: str) -> Callable[[float], Edit]:
        return lambda v: change_corner(q, street, arm, corner, nose=changed(nose, **{key: v}))

    through, side = legs
    shown = nose.length or max(through.full, side.full)
    back = change_corner(q, street, arm, corner, nose=changed(nose, length=None))
    state, switch = ("set", back) if nose.length else ("proposed", to("length")(shown))
    return [
        Choice("nose", _CHOICES, "yes", lambda v: change_corner(q, street, arm, corner, nose=None), True),
        Fact(f"back from {name_of(q, through.street)}", "length", nose.through, "set", to("through"), inner=True),
        Fact(f"back from {name_of(q, side.street)}", "length", nose.side, "set", to("side"), inner=True),
        Fact("wider from the node for", "size", shown, state, to("length"), switch, inner=True),
        Fact("and back over", "size", nose.taper, "set", to("taper"), inner=True),
    ]
