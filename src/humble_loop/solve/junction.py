"""T-junctions: where a street starts or ends on another's centreline there is one, by itself.

The through leg keeps its crown. The side street's crown line lies on the through street's surface as far as the
throat, where it crosses the through lip line at that lip's level; from there its own grade line runs.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.geometry.arcs import DoesNotFit, OffsetLine, TangentArc, tangent_arc
from humble_loop.geometry.arrays import Floats, frozen, left_normals, tangents
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.gradeline import Cubic
from humble_loop.geometry.roots import zero_between
from humble_loop.ground.drape import level_along
from humble_loop.site.model import End, Side
from humble_loop.solve import parts
from humble_loop.solve.engine import Engine, Unsolved, query
from humble_loop.solve.street import (
    LipLine,
    LipPlan,
    chain_of,
    crown_levels,
    grade_line,
    ground_along,
    lane_width,
    lip_line,
    lip_plan,
    side_sign,
)

_FARTHEST_THROAT = 80.0  # metres along the side street
JOIN = 0.25  # metres: how near an end must lie to another centreline to be on it
SIDES: tuple[Side, Side] = ("left", "right")
ENDS: tuple[End, End] = ("start", "end")


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


@query
def _boxes(q: Engine) -> tuple[tuple[str, ...], Floats]:
    """Ids and bounding boxes (n, 4) of all centrelines that could be worked out."""
    found = {i: q.attempt(_box, i) for i in parts.street_ids(q)}
    solved = {i: box for i, box in found.items() if not isinstance(box, Unsolved)}
    return tuple(solved), frozen(np.array(list(solved.values())).reshape(-1, 4))


@query
def _box(q: Engine, street: str) -> tuple[float, float, float, float]:
    """A box round a centreline, as west, south, east and north.

    Rounded outwards to tens of metres: it only says who may be near, and so seldom changes while a bend is dragged.
    """
    chain = chain_of(q, street)
    p = chain.points_at(chain.sampled(sag=0.2))
    (w, s), (e, n) = np.floor(p.min(axis=0) / 10 - 0.1) * 10, np.ceil(p.max(axis=0) / 10 + 0.1) * 10
    return (float(w), float(s), float(e), float(n))


def _end_point(q: Engine, street: str, end: End) -> Floats:
    chain = chain_of(q, street)
    return np.asarray(chain.points_at([0.0 if end == "start" else chain.total])[0])


@query
def _near(q: Engine, street: str, end: End) -> tuple[str, ...]:
    """Streets whose bounding box holds this end."""
    ids, boxes = _boxes(q)
    x, y = _end_point(q, street, end)
    hit = (boxes[:, 0] <= x) & (x <= boxes[:, 2]) & (boxes[:, 1] <= y) & (y <= boxes[:, 3])
    return tuple(ids[i] for i in np.flatnonzero(hit) if ids[i] != street)


@query
def joint(q: Engine, street: str, end: End) -> Joint | None:
    """The joint at a street's end, or None where it lies on no other street."""
    point = None
    best: Joint | None = None
    nearest = JOIN
    for other in _near(q, street, end):
        point = _end_point(q, street, end) if point is None else point
        through = chain_of(q, other)
        foot = through.feet(point)
        distance, at = abs(float(foot.offsets[0])), float(foot.chainages[0])
        if distance > nearest or at < 1.0 or at > through.total - 1.0:
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
    chain = chain_of(q, street)
    return chain if end == "start" else chain.reversed()


def leg_side(end: End, corner: Side) -> Side:
    """The street's own side that is ``corner`` when seen leaving the junction."""
    if end == "start":
        return corner
    return "right" if corner == "left" else "left"


@query
def all_joints(q: Engine) -> tuple[tuple[str, End, str], ...]:
    """Every joint of the site as (side street, end, through street)."""
    found = []
    for street in parts.street_ids(q):
        for end in ENDS:
            j = q.attempt(joint, street, end)
            if isinstance(j, Joint):
                found.append((street, end, j.through))
    return tuple(found)


@query
def joints_on(q: Engine, through: str) -> tuple[tuple[str, End], ...]:
    """The joints whose through street is ``through``."""
    return tuple((side, end) for side, end, t in all_joints(q) if t == through)


def require_joint(q: Engine, street: str, end: End) -> Joint:
    """The joint at a street's end. Raises Unsolved when there is none."""
    found = joint(q, street, end)
    if found is None:
        raise Unsolved(parts.street_name(q, street), f"its {end} lies on no other street")
    return found


def junction_name(q: Engine, street: str, end: End) -> str:
    """'Side street / Through street', with the end added when both ends leave the same street."""
    j = require_joint(q, street, end)
    name = f"{parts.street_name(q, street)} / {parts.street_name(q, j.through)}"
    other = q.attempt(joint, street, "end" if end == "start" else "start")
    if isinstance(other, Joint) and other.through == j.through:
        name += f" ({end})"
    return name


@dataclass(frozen=True)
class Return:
    """A kerb return in plan, from the through lip to the side lip.

    ``through_at`` is the chainage of its start on the through lip's base line, ``leg_at`` that of its end along
    the leg (from the junction outwards), ``side_chainage`` the same in the side street's chainage.
    """

    arc: TangentArc
    through_at: float
    leg_at: float
    side_chainage: float
    through_direction: float


def through_lip(q: Engine, street: str, end: End) -> LipLine:
    """The lip line of the through street on the side where this leg leaves."""
    j = require_joint(q, street, end)
    return lip_line(q, j.through, "left" if j.through_side > 0 else "right")


def through_lip_plan(q: Engine, street: str, end: End) -> LipPlan:
    """The same lip in plan only, so that returns and throats stay where they are when levels change."""
    j = require_joint(q, street, end)
    return lip_plan(q, j.through, "left" if j.through_side > 0 else "right")


@query
def kerb_return(q: Engine, street: str, end: End, corner: Side) -> Return:
    """The return at a corner ('left' or 'right' seen leaving along the side street), as a simple arc."""
    j = require_joint(q, street, end)
    choice = getattr(parts.junction_choice(q, street, end), corner)
    radius = choice.radius or parts.street_class(q, street).return_radius
    leg = leg_of(q, street, end)
    lip = through_lip_plan(q, street, end)
    sign = side_sign(corner)
    width = lane_width(q, street, leg_side(end, corner))
    through = chain_of(q, j.through)
    near = j.node + (
        left_normals(through.at([j.through_chainage]).headings[0]) * j.through_side * (abs(lip.offset) + radius)
        + left_normals(leg.at([0.0]).headings[0]) * sign * (width + radius)
    )
    try:
        arc = tangent_arc(OffsetLine(lip.chain, lip.offset, lip.side), OffsetLine(leg, sign * width), radius, near)
    except DoesNotFit as error:
        raise Unsolved(
            f"{junction_name(q, street, end)} {corner} corner",
            f"its return cannot be made: {error}",
            "change the radius, or move the side street",
        ) from None
    if not 0.0 < arc.base_end < leg.total:
        raise Unsolved(
            f"{junction_name(q, street, end)} {corner} corner",
            f"its return (radius {radius:g} m) ends beyond the side street, which is {leg.total:.2f} m long",
            "lessen the radius or lengthen the street",
        )
    heading = arc.chain.at([0.0]).headings[0]
    along = float(tangents(heading) @ tangents(lip.chain.at([arc.base_start]).headings[0]))
    side_chainage = arc.base_end if end == "start" else leg.total - arc.base_end
    return Return(arc, arc.base_start, arc.base_end, side_chainage, 1.0 if along >= 0 else -1.0)


@dataclass(frozen=True)
class Throat:
    """Where the side crown line crosses the through lip line.

    ``through_at`` is the chainage on the through lip's base line, ``side_chainage`` the side street's own,
    ``leg_at`` the distance from the node along the leg; ``lip_grade`` is along the through lip, in its direction.
    """

    point: Floats
    through_at: float
    side_chainage: float
    leg_at: float
    level: float
    lip_grade: float


@query
def _throat_place(q: Engine, street: str, end: End) -> tuple[float, float]:
    """Distance along the leg and chainage on the through lip's base line of the throat. In plan only."""
    leg = leg_of(q, street, end)
    lip = through_lip_plan(q, street, end)

    def beyond(u: Floats) -> Floats:
        feet = lip.chain.feet(leg.points_at(u), extend=True)
        return (feet.offsets - lip.offset) * lip.side

    # March out to the first crossing, then close in on it: right for any curve, and exact.
    u = np.append(np.arange(0.0, min(leg.total, _FARTHEST_THROAT), 0.5), min(leg.total, _FARTHEST_THROAT))
    out = np.flatnonzero(beyond(u) > 0)
    if out.size and out[0] > 0:
        low, high = float(u[out[0] - 1]), float(u[out[0]])
        at = zero_between(beyond, low, high)
        return at, float(lip.chain.feet(leg.points_at([at]), extend=True).chainages[0])
    raise Unsolved(
        junction_name(q, street, end),
        "the side street never crosses the through street's lip",
        "let it leave at a wider angle, or lengthen it",
    )


@query
def throat(q: Engine, street: str, end: End) -> Throat:
    """The throat with its level and the through lip's grade there."""
    u, at = _throat_place(q, street, end)
    leg = leg_of(q, street, end)
    lip = through_lip(q, street, end)
    level = lip.level(at)
    if not np.isfinite(level):
        raise Unsolved(
            junction_name(q, street, end),
            "the through street has no level at the throat",
            "let the through street's grade line reach past the junction",
        )
    side_chainage = u if end == "start" else leg.total - u
    return Throat(frozen(leg.points_at([u])[0]), at, side_chainage, u, level, lip.grade(at))


def turning_crossfall(q: Engine, street: str, end: End, side: Side) -> tuple[float, float, float]:
    """How the side section turns: chainage of the throat, chainage where it is normal, crossfall at the throat.

    At the throat the section lies flat along the through lip: the crossfall outwards is the lip's grade
    resolved along the section.
    """
    t = throat(q, street, end)
    lip = through_lip(q, street, end)
    leg = leg_of(q, street, end)
    corner = leg_side(end, side)
    outwards = left_normals(leg.at([t.leg_at]).headings[0]) * side_sign(corner)
    along = tangents(lip.chain.at([t.through_at]).headings[0])
    across = t.lip_grade * float(outwards @ along)
    made = q.attempt(kerb_return, street, end, corner)
    finish = made.side_chainage if isinstance(made, Return) else t.side_chainage
    return t.side_chainage, finish, across


def inside_levels(q: Engine, street: str, s: Floats, z: Floats) -> Floats:
    """Fill in crown levels between a through centreline and the throat, on the through street's surface."""
    out = z
    for end in ENDS:
        j = joint(q, street, end)
        if j is None or parts.street_frame(q, street).kind == "existing":
            continue
        t = throat(q, street, end)
        inside = (s < t.side_chainage - 1e-9) if end == "start" else (s > t.side_chainage + 1e-9)
        inside &= (s >= -1e-9) & (s <= chain_of(q, street).total + 1e-9)
        if not np.any(inside):
            continue
        out = out.copy()
        points = chain_of(q, street).points_at(s[inside])
        if parts.street_frame(q, j.through).kind == "existing":
            out[inside] = level_along(ground_along(q, street), s[inside])
        else:
            side: Side = "left" if j.through_side > 0 else "right"
            feet = chain_of(q, j.through).feet(points)
            crown = grade_line(q, j.through).profile.level(feet.chainages)
            fall = parts.section(q, j.through).side(side).lane.grade
            out[inside] = crown + fall * np.abs(feet.offsets)
    return out


@dataclass(frozen=True)
class ReturnLevels:
    """A return's levels: a cubic in distance that meets both lips in level and grade."""

    cubic: Cubic


@query
def return_levels(q: Engine, street: str, end: End, corner: Side) -> ReturnLevels:
    """Levels along a return, from the through lip's level and grade to the side lip's."""
    made = kerb_return(q, street, end, corner)
    lip = through_lip(q, street, end)
    side = leg_side(end, corner)
    z0, m0 = lip.level(made.through_at), lip.grade(made.through_at) * made.through_direction
    profile = grade_line(q, street).profile
    width, sign = lane_width(q, street, side), side_sign(side)
    normal = parts.section(q, street).side(side).lane.grade
    s = made.side_chainage
    # An oblique corner's return may end before the throat, where the crown still lies on the through street.
    crown = crown_levels(q, street, [s])[0]
    t = throat(q, street, end).side_chainage
    graded = max(s, t) if end == "start" else min(s, t)
    if not np.isfinite(crown):
        raise Unsolved(
            f"{junction_name(q, street, end)} {corner} corner",
            "the side street has no level where the return ends",
            "let its grade line reach from the throat past the return",
        )
    stretch = 1.0 - float(chain_of(q, street).at([s]).curvatures[0]) * sign * width
    outwards = 1.0 if end == "start" else -1.0
    m1 = float(profile.grade([graded], side="after" if end == "start" else "before")[0]) * outwards / stretch
    z1 = float(crown + normal * width)
    if not np.isfinite(z0 + m0):
        raise Unsolved(
            f"{junction_name(q, street, end)} {corner} corner",
            "the through lip has no level where the return starts",
            "let the through street's grade line reach past the junction",
        )
    return ReturnLevels(Cubic(made.arc.length, z0, m0, z1, m1))


def corner_name(q: Engine, street: str, end: End, corner: Side) -> str:
    """'Side street / Through street left corner'."""
    return f"{junction_name(q, street, end)} {corner} corner"
