"""Nodes: where centrelines end on, cross or meet each other.

At a node one street's crown holds; each arm of another leaves it as a side street does. A T has one arm, a crossing two: the
street that crosses, as it goes on and as it goes back. A node is known by what meets there, with ends as they were drawn:
renaming, reversing and moving streets leave it the same node, and what was chosen for it hangs on that.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any, Literal, TypeAlias

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, gate, query
from humble_loop.geometry.arrays import Floats, frozen, left_normals, tangents
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.crossing import crossings
from humble_loop.kinds.junction.model import CrossingChoice, JunctionChoice, set_crossing, set_junction
from humble_loop.kinds.street.plan import (
    box,
    centreline,
    chain_of,
    class_of,
    drawn_end,
    end_point,
    frame_of,
    is_new,
    name_of,
    near,
    street_ids,
)
from humble_loop.lines.standing import kinds
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.model import ENDS, End, Side, other_end, other_side

JOIN = 0.25  # metres: how near an end must lie to another centreline to be on it
_AWAY = 2.0  # metres from an end within which streets do not cross
_CLEAR = 1.0  # metres from a through street's own ends within which a side street meets its end instead

_NARROWEST = np.radians(20.0)  # the least angle at which streets cross in a junction
_ONE_POINT = 1.0  # metres within which crossings are at one point

Meeting = Literal["T", "crossing"]


@dataclass(frozen=True)
class CrossingArm:
    """An arm of a street that crosses ``other``: onwards along the street as it runs, or back.

    ``count`` tells the crossings of the two from one another, in the order of the one whose id comes first.
    """

    other: str
    count: int
    onwards: bool

    def __str__(self) -> str:
        """In words."""
        return "far side" if self.onwards else "near side"


Arm: TypeAlias = End | CrossingArm


@dataclass(frozen=True)
class NodeId:
    """A node: how streets meet, and who: 'side:start' on 'through' for a T, 'a' and 'b' and a count otherwise."""

    meeting: Meeting
    members: tuple[str, ...]


@dataclass(frozen=True)
class Leg:
    """A street as it leaves a node: from ``chainage`` onwards or (``outwards`` -1) backwards, at ``heading``."""

    street: str
    chainage: float
    outwards: int
    heading: float


@dataclass(frozen=True)
class Node:
    """A node with its place (2,) and its legs anticlockwise from east; ``why`` says why it is not laid out."""

    id: NodeId
    place: Floats
    legs: tuple[Leg, ...]
    why: str = ""


@dataclass(frozen=True)
class Joint:
    """An arm of a street that leaves another: the node, and on which side of the through street the arm goes.

    ``through_side`` is +1 when the arm leaves to the through street's left. The arm leaves the node at the side street's
    ``side_chainage``, in the direction ``way`` (+1 onwards, -1 back).
    """

    side: str
    arm: Arm
    through: str
    through_chainage: float
    through_side: float
    node: Floats
    side_chainage: float
    way: int

    @property
    def lip_side(self) -> Side:
        """The through street's side on which the arm leaves."""
        return "left" if self.through_side > 0 else "right"

    def along(self, u: float) -> float:
        """The side street's chainage ``u`` metres along the arm."""
        return self.side_chainage + self.way * u


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


def taken(q: Engine, street: str, place: Floats) -> bool:
    """Whether streets that meet at a place (2,) of a street do so in something else than a junction."""
    return any(m.holds(place) for kind in kinds() for m in kind.meetings(q, street))


@query
def joint(q: Engine, street: str, arm: Arm) -> Joint | None:
    """The joint of an arm, or None where the street's end lies on no other, or it does not cross there as the lesser one."""
    return _crossing_joint(q, street, arm) if isinstance(arm, CrossingArm) else _end_joint(q, street, arm)


def _end_joint(q: Engine, street: str, end: End) -> Joint | None:
    point = None
    best: Joint | None = None
    nearest = JOIN
    for other in _near_end(q, street, end):
        if point is None:
            point = end_point(q, street, end)
            if taken(q, street, point):
                return None
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
        own, way = (0.0, 1) if end == "start" else (leg.total, -1)
        best = Joint(street, end, other, at, side, frozen(point), own, way)
    return best


def _crossing_joint(q: Engine, street: str, arm: CrossingArm) -> Joint | None:
    made = worked_crossings(q, *sorted((street, arm.other)))
    place = next((c for c in made if c.count == arm.count), None)
    if place is None or place.holder != arm.other:
        return None
    own, at = place.chainages if street < arm.other else place.chainages[::-1]
    heading = float(chain_of(q, street).at([own]).headings[0])
    across = float(tangents(heading) @ left_normals(chain_of(q, arm.other).at([at]).headings[0]))
    way = 1 if arm.onwards else -1
    return Joint(street, arm, arm.other, at, 1.0 if across * way > 0 else -1.0, place.point, own, way)


@dataclass(frozen=True)
class Crossing:
    """Where two streets cross: chainages on the one whose id comes first and on the other, the angle between them (radians, at
    most a right one), and the street whose crown holds. ``why`` says why no junction can be laid out, where none can; where something
    else is in its place it is ``taken``.
    """

    count: int
    point: Floats
    chainages: tuple[float, float]
    angle: float
    holder: str
    why: str = ""
    taken: bool = False


@query
def _crossed(q: Engine, first: str, second: str) -> list[list[float]]:
    """The chainages of both streets at which their centrelines cross: these stay when a roundabout is moved."""
    made: list[list[float]] = crossings(chain_of(q, first), chain_of(q, second)).tolist()
    return made


@query
def crossings_of(q: Engine, first: str, second: str) -> tuple[Crossing, ...]:
    """Where two streets cross away from their ends, in the order of ``first``, whose id comes first, as it was drawn."""
    mine, theirs = chain_of(q, first), chain_of(q, second)
    found: list[Crossing] = []
    pairs = _crossed(q, first, second)
    for a, b in pairs[::-1] if frame_of(q, first).turned else pairs:
        if not (_inside(mine, a) and _inside(theirs, b)):
            continue
        turn = float(mine.at([a]).headings[0] - theirs.at([b]).headings[0])
        angle, point = abs(float(np.arcsin(np.sin(turn)))), mine.points_at([a])[0]
        count = len(found)
        holder = holder_of(q, first, second, count)
        why, elsewhere = "", taken(q, first, point)
        if elsewhere:
            why = "a roundabout stands there"
        elif angle < _NARROWEST:
            why = f"they cross at {np.degrees(angle):.0f}°, less than {np.degrees(_NARROWEST):.0f}°"
        elif not any(is_new(q, s) for s in (first, second)):
            why = "both are existing streets"
        found.append(Crossing(count, frozen(point), (a, b), angle, holder, why, elsewhere))
    return tuple(found)


def holder_of(q: Engine, first: str, second: str, count: int) -> str:
    """The street whose crown holds at a crossing: an existing one, else as chosen, else the one whose class is made for more speed,
    else the one that was drawn first.
    """
    if is_new(q, first) != is_new(q, second):
        return second if is_new(q, first) else first
    chosen = crossing_choice(q, first, second, count)
    if chosen is not None and chosen.through in (first, second):
        return chosen.through
    sight = [class_of(q, s).sight_distance for s in (first, second)]
    if sight[0] != sight[1]:
        return first if sight[0] > sight[1] else second
    return min((first, second), key=street_ids(q).index)


def crossing_choice(q: Engine, first: str, second: str, count: int) -> CrossingChoice | None:
    """What was decided about a crossing."""
    made = parts.owned(q, CrossingChoice, first)
    return next((c for c in made if (c.second, c.count) == (second, count)), None)


def choice_at(q: Engine, street: str, arm: Arm) -> JunctionChoice | CrossingChoice | None:
    """What was decided about the junction of an arm."""
    if isinstance(arm, CrossingArm):
        first, second = sorted((street, arm.other))
        return crossing_choice(q, first, second, arm.count)
    drawn = node_id(q, street, arm)
    return next((c for c in parts.owned(q, JunctionChoice, street) if c.id == drawn), None)


def decided(q: Engine, street: str, arm: Arm, **values: Any) -> Edit:
    """The edit that decides about the junction of an arm."""
    if isinstance(arm, CrossingArm):
        first, second = sorted((street, arm.other))
        return lambda s: set_crossing(s, first, second, arm.count, **values)
    drawn = drawn_end(q, street, arm)
    return lambda s: set_junction(s, street, drawn, **values)


def reach_key(q: Engine, street: str, arm: Arm) -> str:
    """What the reach of an arm is called in what was decided about its junction."""
    if not isinstance(arm, CrossingArm):
        return "reach"
    onwards = arm.onwards != frame_of(q, street).turned
    return f"{'first' if street < arm.other else 'second'}_{'onwards' if onwards else 'back'}"


def both_crowns(q: Engine, street: str, arm: Arm) -> bool:
    """Whether both crowns run through a junction; never on an existing street, whose surface is the ground's."""
    chosen = choice_at(q, street, arm)
    return chosen is not None and chosen.crowns == "both" and is_new(q, require_joint(q, street, arm).through)


_BESIDE = np.radians(50.0)  # typical: streets that leave at less run beside one another as far as their batters go


@query
def beside(q: Engine, street: str) -> tuple[str, ...]:
    """The streets that a street leaves at a sharp angle: unless it is decided otherwise, they are built before it."""
    found = []
    for arm in arms_of(q, street):
        j = require_joint(q, street, arm)
        here, there = ((street, j.side_chainage), (j.through, j.through_chainage))
        turn = np.diff([float(chain_of(q, s).at([at]).headings[0]) for s, at in (here, there)])[0]
        if abs(np.sin(turn)) < np.sin(_BESIDE):
            found.append(j.through)
    return tuple(dict.fromkeys(found))


@query
def worked_crossings(q: Engine, first: str, second: str) -> tuple[Crossing, ...]:
    """The crossings of two streets at which a junction is laid out."""
    return tuple(c for c in crossings_of(q, first, second) if not c.why and not _at_one_point(q, first, second, c))


def _at_one_point(q: Engine, first: str, second: str, here: Crossing) -> bool:
    """Whether a third street runs through the place as well."""
    for other in near(q, first):
        if other == second or isinstance(made := q.attempt(centreline, other), Unsolved):
            continue
        foot = made.chain.feet(here.point)
        if abs(float(foot.offsets[0])) < _ONE_POINT and foot.square[0]:
            return True
    return False


@query
def arms_of(q: Engine, street: str) -> tuple[Arm, ...]:
    """The arms in which a street leaves others: at its ends, and where it crosses one whose crown holds."""
    if isinstance(q.attempt(centreline, street), Unsolved):
        return ()
    found: list[Arm] = [end for end in ENDS if isinstance(q.attempt(joint, street, end), Joint)]
    for other in near(q, street):
        made = q.attempt(worked_crossings, *sorted((street, other)))
        for c in () if isinstance(made, Unsolved) else made:
            if c.holder == other:
                found += [CrossingArm(other, c.count, onwards) for onwards in (False, True)]
    return tuple(found)


def leg_of(q: Engine, street: str, arm: Arm) -> Chain:
    """The street's chain seen along an arm: chainage 0 at the junction."""
    if isinstance(arm, CrossingArm):
        return _part(q, street, arm)
    return chain_of(q, street) if arm == "start" else _reversed(q, street)


@query
def _reversed(q: Engine, street: str) -> Chain:
    return chain_of(q, street).reversed()


@query
def _part(q: Engine, street: str, arm: CrossingArm) -> Chain:
    at, chain = require_joint(q, street, arm).side_chainage, chain_of(q, street)
    return chain.part(at, chain.total) if arm.onwards else chain.part(0.0, at).reversed()


def leg_side(arm: Arm, corner: Side) -> Side:
    """The street's own side that is ``corner`` when seen leaving the junction; and the other way round."""
    onwards = arm.onwards if isinstance(arm, CrossingArm) else arm == "start"
    return corner if onwards else other_side(corner)


@gate
def all_joints(q: Engine) -> tuple[tuple[str, Arm, str], ...]:
    """Every joint of the site as (side street, arm, through street)."""
    found = []
    for street in street_ids(q):
        for arm in arms_of(q, street):
            found.append((street, arm, require_joint(q, street, arm).through))
    return tuple(found)


@gate
def joints_on(q: Engine, through: str) -> tuple[tuple[str, Arm], ...]:
    """The joints whose through street is ``through``."""
    found = []
    for side in near(q, through):
        found += [(side, arm) for arm in arms_of(q, side) if require_joint(q, side, arm).through == through]
    return tuple(found)


def require_joint(q: Engine, street: str, arm: Arm) -> Joint:
    """The joint of an arm. Raises Unsolved when there is none."""
    found = joint(q, street, arm)
    if found is None:
        words = (
            "it does not cross there as the lesser street"
            if isinstance(arm, CrossingArm)
            else f"its {arm} lies on no other street"
        )
        raise Unsolved(name_of(q, street), words)
    return found


def name_of_node(street: str, arm: Arm) -> str:
    """The id of the thing that a line or a face of an arm belongs to."""
    return (
        ":".join((*sorted((street, arm.other)), str(arm.count))) if isinstance(arm, CrossingArm) else f"{street}:{arm}"
    )


def node_id(q: Engine, street: str, arm: Arm) -> str:
    """The id of the node at an arm: the street and its end as drawn, or the two that cross and the count of that."""
    return name_of_node(street, arm if isinstance(arm, CrossingArm) else drawn_end(q, street, arm))


def arms_at(q: Engine, id: str) -> tuple[tuple[str, Arm], ...]:
    """The arms of a node by its id, each with its street; none where streets do not meet so any more."""
    street, _, last = id.rpartition(":")
    if last in ENDS:
        drawn: End = "start" if last == "start" else "end"
        return ((street, drawn_end(q, street, drawn)),)
    first, _, second = street.partition(":")
    made = next((c for c in worked_crossings(q, first, second) if c.count == int(last)), None)
    if made is None:
        return ()
    lesser = first if made.holder == second else second
    return tuple((lesser, CrossingArm(made.holder, made.count, onwards)) for onwards in (False, True))


def nearest_junction(q: Engine, street: str, place: tuple[float, float] | None) -> str:
    """The id of the junction nearest to a place, of those of a street if one is named; '' where there is none."""
    best, least = "", np.inf
    for side, arm, through in all_joints(q):
        if street in ("", side, through):
            node = require_joint(q, side, arm).node
            away = 0.0 if place is None else float(np.hypot(*(node - np.array(place))))
            if away < least:
                best, least = node_id(q, side, arm), away
    return best


def junction_name(q: Engine, street: str, arm: Arm) -> str:
    """The name that was given, else 'Side street / Through street', with the end added when both ends leave the same street; 'Through street × Side street' where
    they cross.
    """
    j, chosen = require_joint(q, street, arm), choice_at(q, street, arm)
    if chosen is not None and chosen.name:
        return chosen.name
    if isinstance(arm, CrossingArm):
        name = f"{name_of(q, j.through)} × {name_of(q, street)}"
        return name if len(worked_crossings(q, *sorted((street, j.through)))) == 1 else f"{name} ({arm.count + 1})"
    name = f"{name_of(q, street)} / {name_of(q, j.through)}"
    other = q.attempt(joint, street, other_end(arm))
    if isinstance(other, Joint) and other.through == j.through:
        name += f" ({arm})"
    return name


def arm_name(q: Engine, street: str, arm: Arm) -> str:
    """The junction's name, and of a crossing which arm of its side street, by where that goes."""
    name = junction_name(q, street, arm)
    return f"{name} {arm}" if isinstance(arm, CrossingArm) else name


def _leg(chain: Chain, street: str, at: float, outwards: int) -> Leg:
    heading = float(chain.at([at]).headings[0]) + (0.0 if outwards > 0 else np.pi)
    return Leg(street, at, outwards, float(np.mod(heading, 2 * np.pi)))


def _inside(chain: Chain, s: float) -> bool:
    """Whether a place is away from a chain's ends, where streets meet and do not cross."""
    return min(s, chain.total - s) >= _AWAY


@query
def unworked(q: Engine, street: str) -> tuple[Node, ...]:
    """Nodes at which this street crosses others: known, but not laid out.

    Each stands with the street whose id comes first.
    """
    found: list[Node] = []
    mine = chain_of(q, street)
    for other in near(q, street):
        if other <= street or isinstance(made := q.attempt(centreline, other), Unsolved):
            continue
        theirs = made.chain
        worked = {c.count for c in worked_crossings(q, street, other)}
        for c in crossings_of(q, street, other):
            if c.count in worked or c.taken:
                continue
            a, b = c.chainages
            legs = [_leg(line, i, s, way) for line, i, s in ((mine, street, a), (theirs, other, b)) for way in (1, -1)]
            id, why = (
                NodeId("crossing", (street, other, str(c.count))),
                c.why or "another street runs through the same point",
            )
            found.append(Node(id, c.point, tuple(sorted(legs, key=lambda leg: leg.heading)), why))
    return tuple(found)
