"""Corners of a junction in plan: what was decided about each, the return round it, and what lies outside its lip."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any, ClassVar

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import left_normals, tangents
from humble_loop.geometry.corners import (
    CornerCurve,
    EdgeLine,
    OuterArc,
    arc_corner,
    chamfer_corner,
    three_centred_corner,
)
from humble_loop.kinds.junction.model import (
    Corner,
    Shape,
    crossing_corner,
    set_corner,
    set_crossing_corner,
)
from humble_loop.kinds.junction.nodes import (
    Arm,
    CrossingArm,
    Joint,
    arm_name,
    choice_at,
    leg_of,
    leg_side,
    name_of_node,
    require_joint,
)
from humble_loop.kinds.street.plan import StreetLine, chain_of, class_of, drawn_end, is_new
from humble_loop.kinds.street.section import SideShape, alike, lip_course, side_shape
from humble_loop.kinds.street.side import drawn_side, lip_width
from humble_loop.lines.line import LineId, ThingId
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.model import SIDES, Side, side_sign

TIGHT = 0.95  # the most of a return's tightest radius that verge and path may take


@dataclass(frozen=True)
class ReturnLine(LineId):
    """A line round a corner, from the through street to the side street: its lip or a section point outside it.

    ``corner`` is 'left' or 'right' seen leaving the junction along the side street.
    """

    street: str
    arm: Arm
    corner: Side
    point: str = "lip"
    kind: ClassVar[str] = "junction"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, name_of_node(self.street, self.arm))


def corner_choice(q: Engine, street: str, arm: Arm, corner: Side) -> Corner:
    """What was decided about a corner."""
    made = choice_at(q, street, arm)
    name: str = corner
    if isinstance(arm, CrossingArm):
        name = crossing_corner(corner_sides(q, street, arm, corner))
    return getattr(made, name) if made else Corner()


def corner_sides(q: Engine, street: str, arm: CrossingArm, corner: Side) -> tuple[Side, Side]:
    """The sides of a crossing's first and second street on which a corner lies, as they were drawn."""
    own = drawn_side(q, street, leg_side(arm, corner))
    through = drawn_side(q, arm.other, require_joint(q, street, arm).lip_side)
    return (own, through) if street < arm.other else (through, own)


def change_corner(q: Engine, street: str, arm: Arm, corner: Side, **values: Any) -> Edit:
    """The edit that changes what was decided about a corner."""
    if isinstance(arm, CrossingArm):
        first, second = sorted((street, arm.other))
        sides, count = corner_sides(q, street, arm, corner), arm.count
        return lambda site: set_crossing_corner(site, first, second, count, sides, **values)
    drawn = drawn_end(q, street, arm)
    return lambda site: set_corner(site, street, drawn, corner, **values)


def corner_name(q: Engine, street: str, arm: Arm, corner: Side) -> str:
    """'Side street / Through street left corner'."""
    return f"{arm_name(q, street, arm)} {corner} corner"


def through_lip(j: Joint) -> StreetLine:
    """The lip line of the through street on the side where the leg leaves."""
    return StreetLine(j.through, "lip", j.lip_side)


@dataclass(frozen=True)
class Return:
    """A kerb return in plan, from the through lip to the side lip.

    ``through_at`` is the chainage of its start on the through lip's base, ``leg_at`` that of its end along the leg
    (from the junction outwards), ``side_chainage`` the same in the side street's chainage. ``direction`` is +1
    where the return leaves in the direction of the through lip's base. ``slants`` are how much (m per m) the through lip where it
    starts and the side lip where it ends come nearer to their streets, or go further from them.
    """

    curve: CornerCurve
    through_at: float
    leg_at: float
    side_chainage: float
    direction: float
    slants: tuple[float, float] = (0.0, 0.0)


@dataclass(frozen=True)
class CornerSizes:
    """A corner's sizes as they are used, chosen or proposed; lengths in metres, turns in degrees. See ``Corner``."""

    shape: Shape
    radius: float
    radius_through: float
    turn_through: float
    radius_side: float
    turn_side: float
    back_through: float
    back_side: float
    rounding: float


_OUTER = 2.5  # times the middle radius of a three-centred return's outer arcs: typical of what a turning wheel follows
_OUTER_TURN = 0.2  # of the corner's turn that each of them takes
_SHARPEST = 0.1  # metres of a return's radius at least


def corner_radius(q: Engine, street: str, arm: Arm, corner: Side) -> float:
    """The radius of a corner (m): as chosen, else the street class's."""
    return corner_choice(q, street, arm, corner).radius or class_of(q, street).return_radius


def sizes_of(q: Engine, street: str, arm: Arm, corner: Side, chosen: Corner | None = None) -> CornerSizes:
    """The sizes of a corner, those that its shape has: as chosen (or would be), else a radius of the street class's, a chamfer that is cut back by as much, outer arcs of
    two and a half times the radius that turn a fifth of the corner each, and roundings no tighter than what lies outside them.
    """
    chosen = chosen or corner_choice(q, street, arm, corner)
    radius = chosen.radius or class_of(q, street).return_radius
    least = turn = 0.0
    if chosen.shape in ("chamfer", "none"):
        least = max(reach_outside(q, street, arm, corner) / TIGHT, _SHARPEST)
    if chosen.shape == "three-centred":
        turn = _OUTER_TURN * corner_turn(q, street, arm, corner)
    return CornerSizes(
        chosen.shape,
        least if chosen.shape == "none" else radius,
        chosen.radius_through or _OUTER * radius,
        turn if chosen.turn_through is None else chosen.turn_through,
        chosen.radius_side or _OUTER * radius,
        turn if chosen.turn_side is None else chosen.turn_side,
        chosen.back_through or class_of(q, street).return_radius,
        chosen.back_side or class_of(q, street).return_radius,
        chosen.rounding or least,
    )


def corner_turn(q: Engine, street: str, arm: Arm, corner: Side) -> float:
    """By how many degrees a return turns from the through street, towards the side street, at the node."""
    j = require_joint(q, street, arm)
    leaving = float(leg_of(q, street, arm).at([0.0]).headings[0])
    along = float(chain_of(q, j.through).at([j.through_chainage]).headings[0])
    # A return on the leg's left comes along the through street from the leg's left.
    outwards = leaving + side_sign(corner) * 0.5 * np.pi
    if np.cos(along - outwards) < 0.0:
        along += np.pi
    between = abs(float(np.mod(leaving - along + np.pi, 2.0 * np.pi) - np.pi))
    return 180.0 - float(np.degrees(between))


@query
def kerb_return(q: Engine, street: str, arm: Arm, corner: Side) -> Return:
    """The return at a corner. In plan only."""
    sizes = sizes_of(q, street, arm, corner)
    try:
        return laid_return(q, street, arm, corner, sizes)
    except DoesNotFit as error:
        largest = largest_radius(q, street, arm, corner) if sizes.shape == "arc" else 0.0
        fits = f"; the largest radius that does is {largest:.2f} m" if largest else ""
        remedy = f"lessen its radius to {largest:.2f} m" if largest else "change its sizes, or move the side street"
        name = corner_name(q, street, arm, corner)
        raise Unsolved(name, f"its return does not fit: {error}{fits}", remedy) from None


def laid_return(q: Engine, street: str, arm: Arm, corner: Side, sizes: CornerSizes) -> Return:
    """A corner's return with given sizes. Raises DoesNotFit where there is none."""
    j = require_joint(q, street, arm)
    leg, lip = leg_of(q, street, arm), lip_course(q, j.through, j.lip_side)
    width = lip_width(q, street, leg_side(arm, corner))
    node, at = chain_of(q, j.through).at([j.through_chainage]), float(lip.base.feet(j.node, extend=True).chainages[0])
    first = EdgeLine(lip.base, lip.offset.at, lip.offset.values, j.through_side)
    # The side lip along the leg, whose chainages run from the node.
    from_node, out = (width.at - j.side_chainage) * j.way, side_sign(corner) * width.values
    second = EdgeLine(leg, from_node[:: j.way], out[:: j.way], side_sign(corner))
    radius = sizes.rounding if sizes.shape == "chamfer" else sizes.radius
    near = j.node + (
        left_normals(node.headings[0]) * j.through_side * (abs(first.offset(at)) + radius)
        + left_normals(leg.at([0.0]).headings[0]) * side_sign(corner) * (abs(second.offset(0.0)) + radius)
    )
    if sizes.shape == "chamfer":
        backs = (sizes.back_through, sizes.back_side)
        curve = chamfer_corner(first, second, backs, radius, near, (at, 0.0))
    elif sizes.shape == "three-centred":
        before = OuterArc(sizes.radius_through, float(np.radians(sizes.turn_through)))
        after = OuterArc(sizes.radius_side, float(np.radians(sizes.turn_side)))
        curve = three_centred_corner(first, second, before, radius, after, near, (at, 0.0))
    else:
        curve = arc_corner(first, second, radius, near, (at, 0.0))
    if not 0.0 < curve.base_end < leg.total:
        size = "it" if sizes.shape == "chamfer" else f"with a radius of {radius:g} m it"
        raise DoesNotFit(f"{size} ends beyond the side street, which is {leg.total:.2f} m long")
    heading = curve.chain.at([0.0]).headings[0]
    along = float(tangents(heading) @ tangents(lip.base.at([curve.base_start]).headings[0]))
    slants = (first.slope(curve.base_start), second.slope(curve.base_end))
    return Return(curve, curve.base_start, curve.base_end, j.along(curve.base_end), 1.0 if along >= 0 else -1.0, slants)


_ROUND = 0.01  # metres to which a largest radius is told, downwards
_ALMOST = 0.01  # of that, by which it may be less than a round one
_HALVINGS = 20


def largest_radius(
    q: Engine, street: str, arm: Arm, corner: Side, fits: Callable[[Return], bool] = lambda made: True
) -> float:
    """The largest radius (m) less than the one there is with which a simple return can be made and ``fits``; 0 for none."""
    wanted = sizes_of(q, street, arm, corner)

    def good(radius: float) -> bool:
        try:
            return fits(laid_return(q, street, arm, corner, replace(wanted, shape="arc", radius=radius)))
        except DoesNotFit:
            return False

    low, high = max(reach_outside(q, street, arm, corner) / TIGHT, _SHARPEST), wanted.radius
    if low >= high or not good(low):
        return 0.0
    for _ in range(_HALVINGS):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if good(middle) else (low, middle)
    rounded = float(np.floor(low / _ROUND + _ALMOST) * _ROUND)
    return rounded if rounded > 0.0 and good(rounded) else low


def mouth(q: Engine, street: str, arm: Arm) -> tuple[float, float] | None:
    """Between which chainages of the through lip's base an arm leaves, from return to return; None where one cannot be made."""
    made = [q.attempt(kerb_return, street, arm, corner) for corner in SIDES]
    at = [r.through_at for r in made if isinstance(r, Return)]
    return (min(at), max(at)) if len(at) == 2 else None


def divisions(q: Engine, street: str, arm: Arm, corner: Side) -> int:
    """Into how many equal parts a return is divided: as chosen, else as closely as the site's set-out asks."""
    curve = kerb_return(q, street, arm, corner).curve
    return corner_choice(q, street, arm, corner).divisions or parts.set_out(q).divisions(curve.length, curve.tightest)


@dataclass(frozen=True)
class CornerShape:
    """The section outside a return's lip: the through street's at its start, the side street's at its end."""

    first: SideShape
    last: SideShape


@query
def corner_shape(q: Engine, street: str, arm: Arm, corner: Side) -> CornerShape:
    """How the roadside goes round a corner: both ends have the points of either."""
    j = require_joint(q, street, arm)
    last = side_shape(q, street, leg_side(arm, corner), j.side_chainage)
    other = side_shape(q, j.through, j.lip_side, j.through_chainage)
    return CornerShape(*alike(other, last)) if is_new(q, j.through) else CornerShape(last, last)


def reach_outside(q: Engine, street: str, arm: Arm, corner: Side) -> float:
    """How far from the lip what lies outside it reaches round a corner, in metres."""
    shape = corner_shape(q, street, arm, corner)
    return max(shape.first.reach, shape.last.reach)


def boundary_of(q: Engine, street: str, arm: Arm, corner: Side) -> ReturnLine:
    """The boundary round a corner."""
    return ReturnLine(street, arm, corner, corner_shape(q, street, arm, corner).last.names[-1])
