"""Nodes: where centrelines end on, cross or meet each other.

A node is known by what meets there, with ends as they were drawn: renaming, reversing and moving streets leave it
the same node, and what was chosen for it hangs on that.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, gate, query
from humble_loop.geometry.arrays import Floats, frozen, left_normals
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.crossing import crossings
from humble_loop.kinds.street.plan import (
    box,
    centreline,
    chain_of,
    drawn_end,
    end_point,
    name_of,
    near,
    street_ids,
)
from humble_loop.site.model import ENDS, End, Side, other_end, other_side

JOIN = 0.25  # metres: how near an end must lie to another centreline to be on it
_AWAY = 2.0  # metres from an end within which streets do not cross
_CLEAR = 1.0  # metres from a through street's own ends within which a side street meets its end instead

Meeting = Literal["T", "crossing", "end to end"]


@dataclass(frozen=True)
class NodeId:
    """A node: how streets meet, and who: 'side:start' on 'through' for a T, 'a' and 'b' and a count otherwise."""

    meeting: Meeting
    members: tuple[str, ...]

    @property
    def words(self) -> str:
        """The id as text."""
        return self.members[0] if self.meeting == "T" else f"{self.meeting}:{':'.join(self.members)}"


@dataclass(frozen=True)
class Leg:
    """A street as it leaves a node: from ``chainage`` onwards or (``outwards`` -1) backwards, at ``heading``."""

    street: str
    chainage: float
    outwards: int
    heading: float


@dataclass(frozen=True)
class Node:
    """A node with its place (2,) and its legs anticlockwise from east; corners lie between neighbours."""

    id: NodeId
    place: Floats
    legs: tuple[Leg, ...]

    @property
    def corners(self) -> tuple[tuple[Leg, Leg], ...]:
        """Neighbouring legs, anticlockwise: each pair has a corner between them."""
        return tuple(zip(self.legs, (*self.legs[1:], self.legs[0]), strict=True))


@dataclass(frozen=True)
class Joint:
    """A street's end that lies on another street: the node, and on which side of the through street the leg goes.

    ``through_side`` is +1 when the leg leaves to the through street's left.
    """

    side: str
    end: End
    through: str
    through_chainage: float
    through_side: float
    node: Floats

    @property
    def lip_side(self) -> Side:
        """The through street's side on which the leg leaves."""
        return "left" if self.through_side > 0 else "right"


@query
def _near_end(q: Engine, street: str, end: End) -> tuple[str, ...]:
    """Streets whose bounding box holds this end."""
    x, y = end_point(q, street, end)
    found = []
    for other in near(q, street):
        w, s, e, n = box(q, other)
        if w <= x <= e and s <= y <= n:
            found.append(other)
    return tuple(found)


@query
def joint(q: Engine, street: str, end: End) -> Joint | None:
    """The joint at a street's end, or None where it lies on no other street."""
    point = None
    best: Joint | None = None
    nearest = JOIN
    for other in _near_end(q, street, end):
        point = end_point(q, street, end) if point is None else point
        through = chain_of(q, other)
        foot = through.feet(point)
        distance, at = abs(float(foot.offsets[0])), float(foot.chainages[0])
        if distance > nearest or at < _CLEAR or at > through.total - _CLEAR:
            continue
        leg = leg_of(q, street, end)
        away = leg.points_at([min(5.0, leg.total)])[0] - leg.points_at([0.0])[0]
        normal = left_normals(through.at([at]).headings[0])
        side = 1.0 if float(away @ normal) >= 0 else -1.0
        nearest = distance
        best = Joint(street, end, other, at, side, frozen(point))
    return best


def leg_of(q: Engine, street: str, end: End) -> Chain:
    """The street's chain seen from its end outwards: chainage 0 at the junction."""
    return chain_of(q, street) if end == "start" else _reversed(q, street)


@query
def _reversed(q: Engine, street: str) -> Chain:
    return chain_of(q, street).reversed()


def leg_side(end: End, corner: Side) -> Side:
    """The street's own side that is ``corner`` when seen leaving the junction; and the other way round."""
    return corner if end == "start" else other_side(corner)


@gate
def all_joints(q: Engine) -> tuple[tuple[str, End, str], ...]:
    """Every joint of the site as (side street, end, through street)."""
    found = []
    for street in street_ids(q):
        for end in ENDS:
            j = q.attempt(joint, street, end)
            if isinstance(j, Joint):
                found.append((street, end, j.through))
    return tuple(found)


@gate
def joints_on(q: Engine, through: str) -> tuple[tuple[str, End], ...]:
    """The joints whose through street is ``through``."""
    found = []
    for side in near(q, through):
        for end in ENDS:
            j = q.attempt(joint, side, end)
            if isinstance(j, Joint) and j.through == through:
                found.append((side, end))
    return tuple(found)


def require_joint(q: Engine, street: str, end: End) -> Joint:
    """The joint at a street's end. Raises Unsolved when there is none."""
    found = joint(q, street, end)
    if found is None:
        raise Unsolved(name_of(q, street), f"its {end} lies on no other street")
    return found


def node_id(q: Engine, street: str, end: End) -> str:
    """The id of the node at a street's end on another: the street and its end as drawn."""
    return f"{street}:{drawn_end(q, street, end)}"


def of_node(q: Engine, id: str) -> tuple[str, End]:
    """The side street and its end as it runs now, from a node's id."""
    street, _, end = id.rpartition(":")
    drawn: End = "start" if end == "start" else "end"
    return street, drawn_end(q, street, drawn)


def junction_name(q: Engine, street: str, end: End) -> str:
    """'Side street / Through street', with the end added when both ends leave the same street."""
    j = require_joint(q, street, end)
    name = f"{name_of(q, street)} / {name_of(q, j.through)}"
    other = q.attempt(joint, street, other_end(end))
    if isinstance(other, Joint) and other.through == j.through:
        name += f" ({end})"
    return name


@query
def node(q: Engine, street: str, end: End) -> Node:
    """The T at a street's end, with its legs."""
    j = require_joint(q, street, end)
    side, through = chain_of(q, street), chain_of(q, j.through)
    at = 0.0 if end == "start" else side.total
    legs = [_leg(side, street, at, 1 if end == "start" else -1)]
    legs += [_leg(through, j.through, j.through_chainage, way) for way in (1, -1)]
    ordered = tuple(sorted(legs, key=lambda leg: leg.heading))
    return Node(NodeId("T", (node_id(q, street, end), j.through)), j.node, ordered)


def _leg(chain: Chain, street: str, at: float, outwards: int) -> Leg:
    heading = float(chain.at([at]).headings[0]) + (0.0 if outwards > 0 else np.pi)
    return Leg(street, at, outwards, float(np.mod(heading, 2 * np.pi)))


def _inside(chain: Chain, s: float) -> bool:
    """Whether a place is away from a chain's ends, where streets meet and do not cross."""
    return min(s, chain.total - s) >= _AWAY


@query
def unworked(q: Engine, street: str) -> tuple[Node, ...]:
    """Nodes at which this street crosses others or meets their ends: known, but not laid out yet.

    Each stands with the street whose id comes first.
    """
    found: list[Node] = []
    mine = chain_of(q, street)
    for other in near(q, street):
        if other <= street or isinstance(made := q.attempt(centreline, other), Unsolved):
            continue
        theirs = made.chain
        inside = [(a, b) for a, b in crossings(mine, theirs).tolist() if _inside(mine, a) and _inside(theirs, b)]
        for count, (a, b) in enumerate(inside):
            legs = [_leg(c, i, s, way) for c, i, s in ((mine, street, a), (theirs, other, b)) for way in (1, -1)]
            id, p = NodeId("crossing", (street, other, str(count))), mine.points_at([a])[0]
            found.append(Node(id, frozen(p), tuple(sorted(legs, key=lambda leg: leg.heading))))
        for end in ENDS:
            for other_end_ in ENDS:
                p, r = end_point(q, street, end), end_point(q, other, other_end_)
                if np.hypot(*(p - r)) <= JOIN:
                    legs = [
                        _leg(mine, street, 0.0 if end == "start" else mine.total, 1 if end == "start" else -1),
                        _leg(
                            theirs,
                            other,
                            0.0 if other_end_ == "start" else theirs.total,
                            1 if other_end_ == "start" else -1,
                        ),
                    ]
                    members = (f"{street}:{drawn_end(q, street, end)}", f"{other}:{drawn_end(q, other, other_end_)}")
                    found.append(
                        Node(NodeId("end to end", members), frozen(p), tuple(sorted(legs, key=lambda g: g.heading)))
                    )
    return tuple(found)
