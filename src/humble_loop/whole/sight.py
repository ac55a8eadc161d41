"""What a driver sees who comes out of a side street: over the finished surface and the ground, and past the lots' corners."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, gate, query
from humble_loop.geometry.arrays import Floats, tangents
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.junction.nodes import Arm, all_joints, arm_name, arms_at, leg_of, node_id, require_joint
from humble_loop.kinds.junction.throats import throat_place
from humble_loop.kinds.street.plan import StreetLine, chain_of, class_of, is_new
from humble_loop.kinds.street.side import lip_width
from humble_loop.kinds.street.tables import solved
from humble_loop.lines.describe import Fact, Sheet, SheetOf, SheetRow
from humble_loop.lines.faces import FaceId
from humble_loop.lines.findings import Finding, point
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of
from humble_loop.lines.table import NoSuchTable, Table
from humble_loop.site import parts
from humble_loop.site.model import SIDES, Side, other_side, side_sign
from humble_loop.whole.overlaps import standing_surface
from humble_loop.whole.places import face_tree
from humble_loop.whole.things import thing_of

Position = Literal["waiting", "approaching"]
RULE, LOT_RULE = "sight at a junction", "lot in a sight triangle"
_BACK: dict[Position, float] = {"waiting": 3.0, "approaching": 9.0}
"""Metres from the through street's lip at which the driver's eyes are: a bonnet's length off it, and two lengths of a car before it;
typical."""
_SHARE: dict[Position, float] = {"waiting": 1.0, "approaching": 0.5}
"""Of the through street's sight distance that is wanted from there: who comes on slowly only has to see whether to stop."""
_FIRST, _STEP = (
    8.0,
    4.0,
)  # metres along the through street from the node to the first vehicle looked at, and on to the next
_ALONG = 1.0  # metres along a line of sight between places that are looked at
_TOUCHED = 0.5  # m2 of a lot in a triangle that are a matter of rounding
_COLUMNS = ("from", "position", "looking", "wanted", "seen", "hidden by", "lots in it")


@dataclass(frozen=True)
class Sight:
    """What is seen from a position on an arm one way along the through street: metres ``wanted`` and ``seen``, what hides the first
    vehicle that is not seen and where, and the ``triangle`` (n, 2) that is to be kept clear; ``lots`` tells which lie in it, by m2.
    """

    arm: tuple[str, Arm]
    position: Position
    looking: Side
    wanted: float
    seen: float
    hidden_by: str
    place: tuple[float, float]
    triangle: Floats
    lots: tuple[tuple[ThingId, str, float], ...]


@gate
def _faces_round(q: Engine, id: str) -> tuple[FaceId, ...]:
    """Faces that may stand in what is seen from a junction."""
    arms = arms_at(q, id)
    if not arms:
        return ()
    j = require_joint(q, *arms[0])
    reach = class_of(q, j.through).sight_distance + max(_BACK.values()) + _FIRST
    (e, n), r = j.node, reach
    return tuple(face_tree(q).near(e - r, n - r, e + r, n + r))


@query
def sights(q: Engine, id: str) -> tuple[Sight, ...]:
    """What is seen from each arm of a junction: waiting and approaching, both ways."""
    found = []
    for street, arm in arms_at(q, id):
        if not isinstance(q.attempt(throat_place, street, arm), Unsolved):
            found += [_sight(q, id, street, arm, position, looking) for position in _BACK for looking in SIDES]
    return tuple(found)


@query
def _sight(q: Engine, id: str, street: str, arm: Arm, position: Position, looking: Side) -> Sight:
    """One of them: each is asked for itself, so that others come between."""
    faces, throat = _faces_round(q, id), throat_place(q, street, arm).leg_at
    j, keep = require_joint(q, street, arm), parts.settings(q).traffic
    rules, leg, through = class_of(q, j.through), leg_of(q, street, arm), chain_of(q, j.through)
    back = min(throat + _BACK[position], leg.total)
    # Coming towards the node a driver keeps to the side that is the other one seen from there.
    own: Side = other_side(keep)
    half = lip_width(q, street, own if j.way > 0 else other_side(own)).one(j.along(back))
    eye = leg.points_at([back], side_sign(own) * 0.5 * half)[0]
    # The driver looks against the leg; what is on his left lies onwards along the through street or back.
    ahead, along = -tangents(leg.at([0.0]).headings[0]), tangents(through.at([j.through_chainage]).headings[0])
    leftwards = ahead[0] * along[1] - ahead[1] * along[0] > 0.0
    way = 1.0 if leftwards == (looking == "left") else -1.0
    wanted = _SHARE[position] * rules.sight_distance
    room = (through.total - j.through_chainage) if way > 0 else j.through_chainage
    d = np.append(np.arange(_FIRST, min(wanted, room), _STEP), min(wanted, room))
    s = j.through_chainage + way * d
    # Vehicles from there run against ``way``, on their own side.
    lane: Side = other_side(keep) if way > 0 else keep
    targets = through.points_at(s, side_sign(lane) * 0.5 * lip_width(q, j.through, lane)(s))
    k, hidden_by, at = first_hidden(q, eye, targets, (rules.eye_height, rules.target_height), faces)
    seen = float(d[k - 1]) if 0 < k < len(d) else (0.0 if k == 0 else min(wanted, room) if room < wanted else wanted)
    triangle = np.concatenate([[eye], [j.node], targets])
    lots = lots_in(q, triangle, faces)
    enough = seen if k < len(d) else wanted  # where the through street ends nobody comes from beyond
    return Sight((street, arm), position, looking, wanted, enough, hidden_by, at, triangle, lots)


def first_hidden(
    q: Engine, eye: Floats, targets: Floats, heights: tuple[float, float], faces: tuple[FaceId, ...]
) -> tuple[int, str, tuple[float, float]]:
    """Which target (of n) is the first that is hidden, n for none; what hides it, and where."""
    count = 2 + int(np.hypot(*(targets - eye).T).max() / _ALONG)
    share = np.linspace(0.0, 1.0, count)
    places = eye + share[None, :, None] * (targets[:, None] - eye)
    levels, owner = _levels(q, places.reshape(-1, 2), faces)
    z = levels.reshape(len(targets), count)
    straight = (z[:, :1] + heights[0]) * (1.0 - share) + (z[:, -1:] + heights[1]) * share
    over = np.where(np.isfinite(z), z - straight, -np.inf)
    over[:, [0, -1]] = -np.inf
    hidden = np.flatnonzero(over.max(axis=1) > 0.0)
    if not hidden.size:
        return len(targets), "", (float("nan"), float("nan"))
    k = int(hidden[0])
    worst = int(np.argmax(over[k]))
    face = owner.reshape(z.shape)[k, worst]
    return k, "the ground" if face < 0 else kind_name(q, faces[face]), point(places[k, worst])


def kind_name(q: Engine, face: FaceId) -> str:
    """The name of what a face is of."""
    thing = thing_of(q, face)
    return kind_of(thing.kind).name(q, thing)


def _levels(q: Engine, places: Floats, faces: tuple[FaceId, ...]) -> tuple[Floats, np.ndarray]:
    """Finished levels (n,), the ground's where nothing is built, and which face each is of, -1 for the ground."""
    levels, owner = np.full(len(places), np.nan), np.full(len(places), -1)
    for k, id in enumerate(faces):
        surface = q.attempt(standing_surface, id)
        open_ = np.flatnonzero(np.isnan(levels))
        if isinstance(surface, Unsolved) or surface.empty or not len(open_):
            continue
        w, s, e, n = surface.bounds
        x, y = places[open_].T
        inside = open_[(x >= w) & (x <= e) & (y >= s) & (y <= n)]
        if len(inside):
            z = surface.levels(places[inside])
            known = np.isfinite(z)
            levels[inside[known]], owner[inside[known]] = z[known], k
    open_ = np.flatnonzero(np.isnan(levels))
    if len(open_):
        levels[open_] = ground_of(q).levels(places[open_])
    return levels, owner


def lots_in(q: Engine, triangle: Floats, faces: tuple[FaceId, ...]) -> tuple[tuple[ThingId, str, float], ...]:
    """Lots that reach into a triangle, with how much of them does (m2)."""
    area, found = shapely.make_valid(shapely.Polygon(triangle)), []
    for thing in dict.fromkeys(thing_of(q, id) for id in faces if id.kind == "lot"):
        for parcel in kind_of(thing.kind).parcels(q, thing):
            shared = float(shapely.intersection(area, shapely.make_valid(shapely.Polygon(parcel.outline))).area)
            if shared > _TOUCHED:
                found.append((thing, parcel.name, shared))
    return tuple(found)


# What is wrong, and what people read


@query
def sight_findings(q: Engine, id: str) -> tuple[Finding, ...]:
    """Where less is seen than is wanted; from the approach, and where only a lot lies in between, as near."""
    arms, found = arms_at(q, id), []
    if not any(is_new(q, street) for street, _ in arms):
        return ()
    of = ThingId("junction", id)
    for s in sights(q, id):
        name = arm_name(q, *s.arm)
        if s.seen < s.wanted * (1.0 - 1e-9):
            words = f"{s.position}, a driver sees {s.seen:.0f} m to the {s.looking}, and {s.wanted:.0f} m are wanted: {s.hidden_by} is in the way"
            remedy = "lower what is in the way, or raise the side street"
            severity: Literal["broken", "near"] = "broken" if s.position == "waiting" else "near"
            f = Finding(RULE, of, name, words, remedy, s.seen, s.wanted, place=s.place, severity=severity)
            found.append(f)
        elif s.lots and s.position == "waiting":
            names, area = " and ".join(n for _, n, _ in s.lots), sum(a for _, _, a in s.lots)
            words = f"{area:.0f} m² of {names} lie in what a waiting driver has to see to the {s.looking}"
            remedy = "keep that corner free of fences and hedges, or enlarge the splay"
            at, also = point(s.triangle.mean(axis=0)), tuple(t for t, _, _ in s.lots)
            found.append(Finding(LOT_RULE, of, name, words, remedy, area, 0.0, place=at, severity="near", also=also))
    return tuple(found)


def sight_sheets(q: Engine, thing: ThingId) -> tuple[SheetOf, ...]:
    """The sheet of a junction that says what is seen from it."""
    del q
    return (SheetOf("Sight", lambda q: sight_sheet(q, thing.id)),) if thing.kind == "junction" else ()


def sight_sheet(q: Engine, id: str) -> Sheet:
    """What is seen from each arm, the worst first; the triangle of the chosen row is lit in plan."""
    rows, arms = [], arms_at(q, id)
    for s in sorted(sights(q, id), key=lambda s: s.seen / max(s.wanted, 1e-9)):
        short = s.seen < s.wanted * (1.0 - 1e-9)
        cells = (
            Fact("from", "text", arm_name(q, *s.arm)),
            Fact("position", "text", s.position),
            Fact("looking", "text", s.looking),
            Fact("wanted", "length", s.wanted),
            Fact("seen", "length", s.seen),
            Fact("hidden by", "text", s.hidden_by) if short else None,
            Fact("lots in it", "text", ", ".join(name for _, name, _ in s.lots)) if s.lots else None,
        )
        rows.append(SheetRow(cells, (0.0, -1.0), np.concatenate([s.triangle, s.triangle[:1]])))
    line = StreetLine(arms[0][0] if arms else "")
    note = "From a driver's eyes to vehicles on the through street, over the finished surface and the ground"
    return Sheet("Sight", line, _COLUMNS, tuple(rows), note if rows else "No street joins here")


def sight_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row for each arm, position and direction of every junction."""
    del every
    ids = dict.fromkeys(node_id(q, s, a) for s, a, _ in all_joints(q))
    names = {id: kind_of("junction").name(q, ThingId("junction", id)) for id in ids}
    wanted = [id for id, name in names.items() if of in (None, id, name)]
    if not wanted and of is not None:
        raise NoSuchTable(f"there is no junction '{of}'; there are {', '.join(names.values()) or 'none'}")
    out = []
    for id in wanted:
        for s in solved(q, of, sights, id) or ():
            lots = ", ".join(name for _, name, _ in s.lots)
            row = (arm_name(q, *s.arm), s.position, s.looking, s.wanted, s.seen, s.hidden_by, lots, *s.place)
            out.append(row)
    columns = ("arm", "position", "looking", "wanted", "seen", "hidden_by", "lots", "easting", "northing")
    return Table(columns, tuple(out), (("easting", "northing"),))
