"""Turning heads in plan: the lip round a street's end, and what lies outside it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.heads import HeadArm, HeadOutline, armed_outline, bulb_outline, return_radius
from humble_loop.kinds.junction.nodes import joint, taken
from humble_loop.kinds.street.plan import chain_of, end_chainage, end_point
from humble_loop.kinds.street.section import SideShape, alike, side_shape, slopes_between
from humble_loop.kinds.street.side import lip_width
from humble_loop.kinds.turning_head.model import TurningHead
from humble_loop.kinds.turning_head.place import approach, head_at, head_name, heads_of, own_side
from humble_loop.kinds.turning_head.sizes import HeadSizes, head_sizes
from humble_loop.lines.line import LineId, LinePlan, ThingId, line_plan
from humble_loop.lines.varying import Varying
from humble_loop.site.model import SIDES, End, Side, side_sign

# An offset of less than half a millimetre is none: nobody can build it, and tangent points that lie a hair apart
# would make slivers.
_NO_OFFSET = 0.0005


@dataclass(frozen=True)
class HeadLine(LineId):
    """A line round a head, from the lip that is left looking towards it to the right one: its lip or a point outside."""

    street: str
    end: End
    point: str = "lip"
    kind: ClassVar[str] = "turning_head"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, f"{self.street}:{self.end}")


@query
def outline(q: Engine, street: str, end: End) -> HeadOutline:
    """A head's lip in plan; its base chainages run towards the head."""
    head, name = head_at(q, street, end), head_name(q, street, end)
    if joint(q, street, end) is not None:
        raise Unsolved(
            name,
            "the street ends on another street, where no head can stand",
            "take the head away, or end the street short of the other",
        )
    if taken(q, street, end_point(q, street, end)):
        raise Unsolved(
            name,
            "the street ends in a roundabout, where no head can stand",
            "take the head away, or end the street short of the roundabout",
        )
    chain, sizes = approach(q, street, end), head_sizes(q, street, end)
    left, right = (lip_width(q, street, own_side(end, seen)).one(end_chainage(q, street, end)) for seen in SIDES)
    try:
        if head.kind == "bulb":
            return bulb_outline(
                chain, left, right, sizes.radius, _returns(chain, head, sizes, (left, right)), _offset(head)
            )
        angle = float(np.radians(sizes.arm_angle))
        arms = (HeadArm(v, angle) if v else None for v in (sizes.left_arm, sizes.right_arm))
        one, two = arms
        return armed_outline(chain, left, right, (one, two), sizes.arm_width, sizes.returns, sizes.corner)
    except DoesNotFit as error:
        raise Unsolved(name, str(error), remedy_of(head)) from None


def _offset(head: TurningHead) -> float:
    return head.offset if abs(head.offset) >= _NO_OFFSET else 0.0


def _returns(
    chain: Chain, head: TurningHead, sizes: HeadSizes, widths: tuple[float, float]
) -> tuple[float | None, float | None]:
    """The radii of a bulb's returns: as chosen, or from where they are to begin; None where its lip runs straight on."""
    found: list[float | None] = []
    for seen, sign, width, own, begins in zip(
        SIDES, (1.0, -1.0), widths, sizes.returns, (head.approach_left, head.approach_right)
    ):
        if head.sided not in ("both", seen):
            found.append(None)
        elif begins is None:
            found.append(own)
        else:
            offset = _offset(head)
            if head.sided != "both":  # the other lip touches the bulb
                offset = sign * (sizes.radius - widths[1 if seen == "left" else 0])
            found.append(return_radius(chain, sign, width, sizes.radius, offset, begins))
    return found[0], found[1]


def remedy_of(head: TurningHead) -> str:
    """What helps where a head does not fit."""
    if head.kind == "bulb":
        return "change its radius, its returns or its offset"
    return "lengthen its arms, or lessen its radii or widths"


def clear_of(q: Engine, street: str, end: End, at: Floats) -> Floats:
    """Metres (n,) from a head's centre to places (n,) on its lip."""
    made = outline(q, street, end)
    found: Floats = np.hypot(*(made.ring.points_at(at) - made.centre).T)
    return found


def leaves_at(q: Engine, street: str, end: End, seen: Side) -> float:
    """Chainage of the street at which a lip gives way to the bulb's."""
    made = outline(q, street, end)
    base = made.base_left if seen == "left" else made.base_right
    return base if end == "end" else chain_of(q, street).total - base


# Lines


@dataclass(frozen=True)
class HeadShape:
    """The section outside a bulb's lip: the left side's where it begins, the right side's where it ends."""

    first: SideShape
    last: SideShape


def head_shape(q: Engine, street: str, end: End) -> HeadShape:
    """How the roadside goes round a bulb: both sides have the points of either."""
    return HeadShape(
        *alike(*(side_shape(q, street, own_side(end, seen), end_chainage(q, street, end)) for seen in SIDES))
    )


def batter_slopes(q: Engine, id: HeadLine, s: Floats) -> Floats:
    """Cut and fill slope (n, 2) round a bulb: from the left side's to the right side's."""
    shape = head_shape(q, id.street, id.end)
    return slopes_between(shape.first, shape.last, s / line_plan(q, id).end)


def corners_on(q: Engine, street: str, side: Side) -> tuple[tuple[float, LineId, float], ...]:
    """Where a street's boundary goes on round a bulb: chainage, the bulb's boundary, place on that."""
    found: list[tuple[float, LineId, float]] = []
    for end, _ in heads_of(q, street):
        made = q.attempt(outline, street, end)
        if isinstance(made, Unsolved):
            continue
        seen: Side = "left" if own_side(end, "left") == side else "right"
        at = 0.0 if seen == "left" else made.ring.total
        found.append(
            (leaves_at(q, street, end, seen), HeadLine(street, end, head_shape(q, street, end).first.names[-1]), at)
        )
    return tuple(found)


def plan_of(q: Engine, id: HeadLine) -> LinePlan:
    """A line round a bulb in plan; outwards from the road is left of the ring."""
    ring = outline(q, id.street, id.end).ring
    name = head_name(q, id.street, id.end)
    if id.point == "lip":
        return LinePlan(f"{name} lip", "return", ring, Varying.steady(0.0), 0.0, ring.total)
    shape = head_shape(q, id.street, id.end)
    k = shape.first.names.index(id.point)
    offset = Varying.of([0.0, ring.total], [float(shape.first.out[k]), float(shape.last.out[k])])
    return LinePlan(f"{name} {id.point}", id.point, ring, offset, 0.0, ring.total)


def abeam(q: Engine, street: str, end: End, seen: Side) -> float:
    """Distance round of the place abeam a bulb's centre on one side, square to the street's end."""
    made, chain = outline(q, street, end), approach(q, street, end)
    wanted = float(chain.at([chain.total]).headings[0]) + side_sign(seen) * np.pi / 2
    first = made.ring.points_at([made.ends[0]])[0] - made.centre
    turned = np.mod(np.arctan2(first[1], first[0]) - wanted, 2 * np.pi)
    return float(np.clip(made.ends[0] + turned * float(np.hypot(*first)), *made.ends))
