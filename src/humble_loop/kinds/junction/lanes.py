"""Turn lanes: where a leg of a junction is wider for those who turn off it.

Those who turn to the side on which traffic keeps have a lane beside the kerb: that half is wider up to the node. Those who turn across have
one in the middle: both halves are wider by half of it, and on the through street the lanes go back beyond the node over a taper.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.junction.corners import corner_radius
from humble_loop.kinds.junction.model import JunctionChoice, LegName, TurnLane
from humble_loop.kinds.junction.nodes import (
    Arm,
    CrossingArm,
    all_joints,
    arms_at,
    arms_of,
    choice_at,
    decided,
    joints_on,
    junction_name,
    node_id,
    require_joint,
)
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, is_new, name_of
from humble_loop.lines.describe import Fact, Sheet, SheetRow
from humble_loop.lines.findings import Finding, point
from humble_loop.lines.kind import Widens
from humble_loop.lines.line import ThingId
from humble_loop.lines.table import NoSuchTable, Table
from humble_loop.site import parts
from humble_loop.site.edits import Edit, changed
from humble_loop.site.model import SIDES, Side, other_side

RULES = ("turn lane without room",)
_ENDS_OVER = 1.0  # metres, inside the mouth, over which a lane beside the kerb ends
_BESIDE = 8.0  # metres beside a return's radius between the node and where it ends, at most: half a street and what is oblique
_COLUMNS = ("leg", "turn", "storage", "deceleration", "taper", "width", "from", "to")
_LIT = 40


@dataclass(frozen=True)
class Lane:
    """A turn lane as its street runs: which junction and lane it is, the node's chainage, the direction (+1 onwards) in which its leg leaves
    the node, and the sides of the street that it makes wider, with the stretches.
    """

    junction: str
    index: int
    lane: TurnLane
    street: str
    node: float
    way: int
    stretches: tuple[tuple[Side, Widens], ...]

    @property
    def length(self) -> float:
        """Metres from the node to where the taper begins."""
        return self.lane.storage + self.lane.deceleration + self.lane.taper


@query
def lanes_on(q: Engine, street: str) -> tuple[Lane, ...]:
    """The turn lanes on a street."""
    found: list[Lane] = []
    nodes = [(street, arm) for arm in arms_of(q, street)] + list(joints_on(q, street))
    seen = set()
    for owner, arm in nodes:
        id, chosen = node_id(q, owner, arm), choice_at(q, owner, arm)
        if chosen is None or not chosen.lanes or id in seen:
            continue
        seen.add(id)
        for k, lane in enumerate(chosen.lanes):
            made = _lane(q, id, owner, arm, k, lane)
            if made is not None and made.street == street:
                found.append(made)
    return tuple(found)


def _lane(q: Engine, id: str, owner: str, arm: Arm, k: int, lane: TurnLane) -> Lane | None:
    """A lane where it lies; None where the junction has no such leg."""
    place = _leg(q, owner, arm, lane.leg)
    if place is None or not is_new(q, place[0]):
        return None
    street, node, way = place
    # Those who come towards the node run against the leg, on the side that is the other one of it.
    keep = parts.settings(q).traffic
    beside: Side = keep if way < 0 else other_side(keep)
    out = lane.storage + lane.deceleration + lane.taper
    if lane.turn == keep:
        return Lane(id, k, lane, street, node, way, ((beside, _stretch(node, way, out, lane.taper, lane.width, 0.0)),))
    through = lane.leg != "side"
    past = max(corner_radius(q, owner, arm, corner) for corner in SIDES) + _BESIDE
    both = _stretch(node, way, out, lane.taper, 0.5 * lane.width, past + lane.taper if through else 0.0)
    return Lane(id, k, lane, street, node, way, tuple((side, both) for side in SIDES))


def _stretch(node: float, way: int, out: float, taper: float, by: float, beyond: float) -> Widens:
    """From where a lane begins to the node, or back to nothing ``beyond`` it."""
    ends = taper if beyond else _ENDS_OVER
    far, near = node + way * out, node - way * beyond
    if way < 0:
        return Widens(far, near, by, taper, ends)
    return Widens(near, far, by, ends, taper)


def _leg(q: Engine, owner: str, arm: Arm, leg: LegName) -> tuple[str, float, int] | None:
    """A leg of a junction by its name: the street, the node's chainage on it, and the direction in which it leaves."""
    j = require_joint(q, owner, arm)
    which, _, way = leg.partition(" ")
    if isinstance(arm, CrossingArm):
        first, second = sorted((owner, j.through))
        street = {"first": first, "second": second}.get(which)
    else:
        street = {"through": j.through, "side": owner}.get(which)
    if street is None:
        return None
    at = j.through_chainage if street == j.through else j.side_chainage
    if which == "side":
        return street, at, j.way
    onwards = (way == "onwards") != frame_of(q, street).turned
    return street, at, 1 if onwards else -1


def widens_of(q: Engine, street: str, side: Side) -> tuple[Widens, ...]:
    """Where turn lanes make a side of a street wider."""
    return tuple(w for lane in lanes_on(q, street) for at, w in lane.stretches if at == side)


def legs_at(q: Engine, id: str) -> Iterator[tuple[LegName, str]]:
    """The legs of a junction that are built here, with words for each."""
    arms = arms_at(q, id)
    if not arms:
        return
    owner, arm = arms[0]
    names: tuple[LegName, ...] = ("through onwards", "through back", "side")
    if isinstance(arm, CrossingArm):
        names = ("first onwards", "first back", "second onwards", "second back")
    for leg in names:
        place = _leg(q, owner, arm, leg)
        if place is not None and is_new(q, place[0]):
            street, at, way = place
            room = chain_of(q, street).total - at if way > 0 else at
            if room > _ENDS_OVER:
                yield leg, name_of(q, street) + ("" if leg == "side" else " onwards" if way > 0 else " back")


# Edits


def set_lanes(q: Engine, id: str, lanes: tuple[TurnLane, ...]) -> Edit:
    """The edit that gives a junction its turn lanes."""
    return decided(q, *arms_at(q, id)[0], lanes=lanes)


def _chosen(q: Engine, id: str) -> tuple[TurnLane, ...]:
    arms = arms_at(q, id)
    made = choice_at(q, *arms[0]) if arms else None
    return made.lanes if made else ()


def swapped_legs(choice: JunctionChoice) -> JunctionChoice:
    """A T whose through street runs the other way now, as it was drawn: what was chosen of its legs stays on the ground."""
    other = {"through onwards": "through back", "through back": "through onwards"}
    return changed(choice, lanes=tuple(changed(v, leg=other.get(v.leg, v.leg)) for v in choice.lanes))


# What is wrong, and what people read


def lane_findings(q: Engine, id: str) -> tuple[Finding, ...]:
    """Lanes that are longer than their leg, or reach into another junction."""
    of, found = ThingId("junction", id), []
    for lane in _lanes_at(q, id):
        chain, name = chain_of(q, lane.street), name_of(q, lane.street)
        far = lane.node + lane.way * lane.length
        title = junction_name(q, *arms_at(q, id)[0])
        at = point(chain.points_at([np.clip(far, 0.0, chain.total)])[0])
        words = f"its lane for those who turn {lane.lane.turn} off {name} is {lane.length:.0f} m long with its taper"
        room = chain.total - lane.node if lane.way > 0 else lane.node
        remedy = "shorten its storage, deceleration or taper"
        if lane.length > room:
            words += f", and {name} has {room:.0f} m there"
            found.append(Finding(RULES[0], of, title, words, remedy, lane.length, room, place=at))
            continue
        for other, arm in joints_on(q, lane.street):
            if node_id(q, other, arm) == id:
                continue
            clear = (require_joint(q, other, arm).through_chainage - lane.node) * lane.way
            if 0.0 < clear < lane.length:
                words += f", and {junction_name(q, other, arm)} stands {clear:.0f} m from it"
                found.append(Finding(RULES[0], of, title, words, remedy, lane.length, clear, place=at))
                break
    return tuple(found)


def _lanes_at(q: Engine, id: str) -> tuple[Lane, ...]:
    arms = arms_at(q, id)
    if not arms:
        return ()
    made = [_lane(q, id, *arms[0], k, lane) for k, lane in enumerate(_chosen(q, id))]
    return tuple(lane for lane in made if lane is not None)


def lane_sheet(q: Engine, id: str) -> Sheet:
    """The turn lanes of a junction in rows, and what adds one."""
    chosen, words = _chosen(q, id), dict(legs_at(q, id))
    rows = [_row(q, id, chosen, words, lane) for lane in _lanes_at(q, id)]
    add = []
    for leg, name in words.items():
        for turn in SIDES:
            if not any((v.leg, v.turn) == (leg, turn) for v in chosen):
                fresh = TurnLane(leg=leg, turn=turn)
                add.append((f"Lane to turn {turn} off {name}", set_lanes(q, id, (*chosen, fresh))))
    note = "" if rows else "Nobody has a lane of his own to turn here; add one, and type its lengths"
    arms = arms_at(q, id)
    return Sheet("Lanes", StreetLine(arms[0][0] if arms else ""), _COLUMNS, tuple(rows), note, tuple(add))


def _row(q: Engine, id: str, chosen: tuple[TurnLane, ...], words: dict[LegName, str], lane: Lane) -> SheetRow:
    k = lane.index

    def size(key: str) -> Fact:
        def to(value: Any) -> Edit:
            return set_lanes(q, id, (*chosen[:k], changed(chosen[k], **{key: value}), *chosen[k + 1 :]))

        return Fact(key, "length", getattr(lane.lane, key), "set", to)

    low, high = sorted((lane.node, lane.node + lane.way * lane.length))
    cells = (
        Fact("leg", "text", words.get(lane.lane.leg, name_of(q, lane.street))),
        Fact("turn", "text", lane.lane.turn),
        *(size(key) for key in ("storage", "deceleration", "taper", "width")),
        Fact("from", "chainage", low),
        Fact("to", "chainage", high),
    )
    remove = (("Remove", set_lanes(q, id, (*chosen[:k], *chosen[k + 1 :]))),)
    return SheetRow(cells, (low, high), _along(q, lane), actions=remove)


def _along(q: Engine, lane: Lane) -> Floats:
    """The places along a lane that are lit up."""
    chain = chain_of(q, lane.street)
    s = np.clip(np.linspace(lane.node, lane.node + lane.way * lane.length, _LIT), 0.0, chain.total)
    return chain.points_at(s)


def lane_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row for each turn lane of every junction."""
    del every
    ids = dict.fromkeys(node_id(q, s, a) for s, a, _ in all_joints(q))
    names = {id: junction_name(q, *arms_at(q, id)[0]) for id in ids}
    wanted = [id for id, name in names.items() if of in (None, id, name)]
    if not wanted and of is not None:
        raise NoSuchTable(f"there is no junction '{of}'; there are {', '.join(names.values()) or 'none'}")
    out = []
    for id in wanted:
        for lane in _lanes_at(q, id):
            v, far = lane.lane, lane.node + lane.way * lane.length
            sizes = (v.storage, v.deceleration, v.taper, v.width)
            out.append((names[id], name_of(q, lane.street), v.turn, *sizes, *sorted((lane.node, far))))
    columns = ("junction", "street", "turn", "storage", "deceleration", "taper", "width", "from", "to")
    return Table(columns, tuple(out))
