"""The scrape check: every vehicle rolled along every driveway, forwards and backwards."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.rolling import Course, Underside, rolled_each
from humble_loop.kinds.driveway.place import name_of
from humble_loop.kinds.driveway.profile import crossing, drive_line
from humble_loop.kinds.lot.layout import lot
from humble_loop.kinds.street.plan import class_of
from humble_loop.site import parts
from humble_loop.site.library import DriveVehicle

NEAR = 0.02  # metres of clearance from which on a driveway passes: load and springs take as much, typical
_BEFORE, _AFTER = 8.0, 6.0  # metres on the carriageway and on the pad on which a vehicle stands before and after
Verdict = Literal["clear", "near", "touches"]
Direction = Literal["forwards", "backwards"]


@dataclass(frozen=True)
class Passage:
    """A vehicle on a driveway, forwards or backwards, where it keeps least off: ``clearance`` (m), ``at`` metres out from the lip, and ``ahead`` of its
    rear axle, with that axle ``rear`` metres out.
    """

    vehicle: str
    direction: Direction
    clearance: float
    at: float
    ahead: float
    rear: float

    @property
    def verdict(self) -> Verdict:
        """Whether it is clear, near, or touches."""
        return verdict_of(self.clearance)


def verdict_of(clearance: float) -> Verdict:
    """Whether something is left under a vehicle, little, or nothing."""
    return "touches" if clearance < 0.0 else "near" if clearance < NEAR else "clear"


def underside_of(vehicle: DriveVehicle) -> Underside:
    """A vehicle from the side."""
    points = np.array([[p.ahead, p.up] for p in vehicle.underside])
    return Underside(vehicle.wheelbase, vehicle.wheel, points)


@query
def course_of(q: Engine, id: str) -> Course:
    """What a vehicle rolls over, from the carriageway to the pad; distances outwards from the lip."""
    p, made = drive_line(q, id).profile, crossing(q, id)
    if not np.isfinite(p.levels).all():
        raise Unsolved(
            name_of(q, id),
            "it has no level all along",
            "extend the street's grade line along the lot, or set the pad's level",
        )
    # Over the crown the carriageway falls away as it rose.
    crown = min(made.crown, _BEFORE)
    before = [-_BEFORE, -crown] if 0.0 < crown < _BEFORE else [-_BEFORE]
    rise = [made.inside * (2.0 * crown + s) if s < -crown else -made.inside * s for s in before]
    s = np.concatenate([before, p.chainages, [p.chainages[-1] + _AFTER]])
    z = np.concatenate([p.levels[0] + np.array(rise), p.levels, p.levels[-1:]])
    return Course(s, z)


@query
def passages(q: Engine, id: str) -> tuple[Passage, ...]:
    """Every vehicle forwards and backwards on a driveway. Raises Unsolved where that cannot be laid out."""
    course = course_of(q, id)
    vehicles = [parts.one(q, DriveVehicle, v) for v in parts.ids(q, DriveVehicle)]
    each = [(v.name, way, u) for v in vehicles for way, u in zip(get_args(Direction), _both(underside_of(v)))]
    if not each:
        return ()
    begins = [-float(u.points[-1, 0]) - 1.0 for _, _, u in each]
    made = rolled_each(course, [u for _, _, u in each], begins, float(course.s[-2]) + 1.0)
    return tuple(Passage(name, way, m.clearance, m.s, m.ahead, m.rear) for (name, way, _), m in zip(each, made))


def _both(under: Underside) -> tuple[Underside, Underside]:
    """A vehicle forwards and backwards."""
    return under, under.turned()


def worst_of(made: tuple[Passage, ...]) -> Passage | None:
    """The passage with the least clearance."""
    return min(made, key=lambda p: p.clearance, default=None)


@query
def steepest(q: Engine, id: str) -> tuple[float, float]:
    """The steepest grade of a driveway beyond its lowered kerb, and the most that its street's class allows."""
    own = drive_line(q, id).profile.grades[crossing(q, id).kerb :]
    k = int(np.argmax(np.abs(own)))
    return float(own[k]), class_of(q, lot(q, id).row.street).most_driveway_grade
