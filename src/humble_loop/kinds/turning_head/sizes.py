"""Sizes of turning heads as they are used: chosen, or proposed for a design vehicle.

A bulb is as large as the outer front corner of the vehicle reaches on full lock, and half a metre beyond. An arm takes all of the
vehicle that is behind its rear axle when that begins to turn out of it on full lock, is as wide as what it sweeps then, and the return
into it is as tight as its inner rear wheel runs.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.kinds.junction.vehicles import VEHICLES, Vehicle
from humble_loop.kinds.street.plan import class_of, end_chainage
from humble_loop.kinds.street.section import side_shape
from humble_loop.kinds.street.side import lip_width
from humble_loop.kinds.turning_head.model import TurningHead
from humble_loop.kinds.turning_head.place import head_at
from humble_loop.site.model import SIDES, End

_BESIDE = 0.5  # metres between a bulb's lip and the vehicle
_CLEAR = 0.3  # the same beside an arm
_STEP = 0.5  # metres to which sizes are proposed
_RETURN = 1.5  # of a bulb's radius that its returns have
TIGHT = 0.95  # the most of a return's radius that verge and path may take
_CORNER = 1.0  # metres: what kerb machines lay without cutting
_ANGLES = {"Y": 60.0}  # degrees; arms of other heads stand square to the street


@dataclass(frozen=True)
class HeadSizes:
    """Sizes of a head in metres, and its arms' angle in degrees; arms that it does not have are 0 long."""

    radius: float
    returns: tuple[float, float]
    left_arm: float
    right_arm: float
    arm_width: float
    arm_angle: float
    corner: float


def vehicle_of(head: TurningHead) -> Vehicle:
    """A head's design vehicle. Raises Unsolved where there is none of that name."""
    found = next((v for v in VEHICLES if v.key == head.vehicle), None)
    if found is None:
        known = ", ".join(v.key for v in VEHICLES)
        raise Unsolved("turning head", f"there is no design vehicle '{head.vehicle}'", f"choose one of {known}")
    return found


def rear_radius(v: Vehicle) -> float:
    """The radius (m) of the circle on which the middle of a vehicle's rear axle runs on full lock."""
    return float(np.sqrt(v.least_radius**2 - v.body.wheelbase**2))


def outer_radius(v: Vehicle) -> float:
    """The radius (m) of the circle on which its outer front corner runs then."""
    return float(np.hypot(rear_radius(v) + 0.5 * v.body.width, v.body.wheelbase + v.body.front))


def inner_radius(v: Vehicle) -> float:
    """The radius (m) of the circle on which the inner side of its rear axle runs then."""
    return rear_radius(v) - 0.5 * v.body.width


@query
def head_sizes(q: Engine, street: str, end: End) -> HeadSizes:
    """The sizes of a head at a street's end (as it runs)."""
    head = head_at(q, street, end)
    v, armed = vehicle_of(head), head.kind != "bulb"
    shapes = [side_shape(q, street, seen, end_chainage(q, street, end)) for seen in SIDES]
    least_return = _up(max(s.reach for s in shapes) / TIGHT)
    radius = head.radius or max(_up(outer_radius(v) + _BESIDE), class_of(q, street).least_bulb_radius)
    if armed:
        wanted = max(_down(inner_radius(v) - _CLEAR), least_return)
    else:
        wanted = max(_up(_RETURN * radius), least_return)
    shared = head.return_radius or wanted
    returns = head.return_left or shared, head.return_right or shared
    wide, corner = head.arm_width or _up(outer_radius(v) - inner_radius(v) + 2.0 * _CLEAR), head.corner or _CORNER
    angle = head.arm_angle or _ANGLES.get(head.kind, 90.0)
    # Long enough for the vehicle, and for the return and the corner of its near edge.
    between = np.pi - np.radians(angle)
    widths = [lip_width(q, street, side).one(end_chainage(q, street, end)) for side in SIDES]
    edge = (max(widths) + 0.5 * wide * np.cos(between)) / np.sin(between) + max(returns) / np.tan(0.5 * between)
    arm = _up(max(rear_radius(v) + v.body.rear + _BESIDE, edge + corner))
    return HeadSizes(
        radius,
        returns,
        (head.left_arm or arm) if head.kind in ("hammerhead", "Y", "left arm") else 0.0,
        (head.right_arm or arm) if head.kind in ("hammerhead", "Y", "right arm") else 0.0,
        wide,
        angle,
        corner,
    )


def _up(value: float) -> float:
    return float(np.ceil(value / _STEP - 1e-9) * _STEP)


def _down(value: float) -> float:
    return float(np.floor(value / _STEP + 1e-9) * _STEP)
