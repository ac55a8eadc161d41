"""The scrape check: every vehicle rolled along every driveway, forwards and backwards."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, get_args

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.gradeline import Profile
from humble_loop.geometry.rolling import Course, Underside, rolled_each
from humble_loop.kinds.driveway.place import name_of, way_of
from humble_loop.kinds.driveway.profile import Crossing, beside, crossing, drive_line
from humble_loop.kinds.lot.layout import lot
from humble_loop.kinds.street.plan import class_of
from humble_loop.lines.describe import Place
from humble_loop.site import parts
from humble_loop.site.library import DriveVehicle

NEAR = 0.02  # metres of clearance from which on a driveway passes: load and springs take as much, typical
_BEFORE, _AFTER = 8.0, 6.0  # metres on the carriageway and on the pad on which a vehicle stands before and after
Verdict = Literal["clear", "near", "touches"]
Direction = Literal["forwards", "backwards"]


@dataclass(frozen=True)
class Passage:
    """A vehicle on a driveway, forwards or backwards, where it keeps least off on either wheel track: ``clearance`` (m), ``at`` metres out from the lip,
    and ``ahead`` of its rear axle, with that axle ``rear`` metres out; the track lies ``aside`` metres to the left of the driveway's middle.
    """

    vehicle: str
    direction: Direction
    clearance: float
    at: float
    ahead: float
    rear: float
    aside: float

    @property
    def beside(self) -> str:
        """On which side of the driveway, as it is driven into, that track is."""
        return "left" if self.aside > 0.0 else "right"

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
def course_of(q: Engine, id: str, aside: float = 0.0) -> Course:
    """What a wheel rolls over ``aside`` metres to the left of a driveway's middle, from the carriageway to the pad; distances outwards from the lip."""
    return _course(q, id, crossing(q, id, aside), drive_line(q, id, aside).profile)


def _course(q: Engine, id: str, made: Crossing, p: Profile) -> Course:
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
    """Every vehicle forwards and backwards on a driveway, on both its wheel tracks. Raises Unsolved where that cannot be laid out."""
    course_of(q, id)  # raises where its middle cannot be laid out
    vehicles = [parts.one(q, DriveVehicle, v) for v in parts.ids(q, DriveVehicle)]
    each = [
        (v.name, way, u, aside)
        for v in vehicles
        for way, u in zip(get_args(Direction), _both(underside_of(v)))
        for aside in (0.5 * v.track, -0.5 * v.track)
    ]
    if not each:
        return ()
    asides = tuple(dict.fromkeys(aside for *_, aside in each))
    of = dict(zip(asides, tracks_of(q, id, asides)))
    courses = [of[aside] for *_, aside in each]
    unders = [u for _, _, u, _ in each]
    begins = [-float(u.points[-1, 0]) - 1.0 for u in unders]
    made = rolled_each(courses, unders, begins, [float(c.s[-2]) + 1.0 for c in courses], 2)
    rows = [Passage(name, way, m.clearance, m.s, m.ahead, m.rear, a) for (name, way, _, a), m in zip(each, made)]
    return tuple(min(pair, key=lambda p: p.clearance) for pair in zip(rows[::2], rows[1::2]))


def tracks_of(q: Engine, id: str, asides: tuple[float, ...]) -> list[Course]:
    """What wheels roll over that far to the left of a driveway's middle; where the kerb ends before these, as in a corner, which is told, what is in the
    middle.
    """
    found = []
    for made in beside(q, id, asides):
        try:
            found.append(course_of(q, id) if isinstance(made, Unsolved) else _course(q, id, made[0], made[1].profile))
        except Unsolved:
            found.append(course_of(q, id))
    return found


def _both(under: Underside) -> tuple[Underside, Underside]:
    """A vehicle forwards and backwards."""
    return under, under.turned()


def worst_of(made: tuple[Passage, ...]) -> Passage | None:
    """The passage with the least clearance."""
    return min(made, key=lambda p: p.clearance, default=None)


def place_of(q: Engine, id: str, p: Passage) -> Place:
    """Where a vehicle keeps least off, in plan."""
    way, made = way_of(q, id), q.attempt(crossing, id, p.aside)
    e, n = ((way.lip if isinstance(made, Unsolved) else made.lip) + p.at * way.ahead).tolist()
    return float(e), float(n)


@query
def steepest(q: Engine, id: str) -> tuple[float, float]:
    """The steepest grade of a driveway beyond its lowered kerb, and the most that its street's class allows."""
    own = drive_line(q, id).profile.grades[crossing(q, id).kerb :]
    k = int(np.argmax(np.abs(own)))
    return float(own[k]), class_of(q, lot(q, id).row.street).most_driveway_grade
