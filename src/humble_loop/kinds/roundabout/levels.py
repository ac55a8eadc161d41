"""Levels of a roundabout: its inscribed circle on a plane, a cone or its own closed grade line, and what follows from that inwards and outwards.

The plane fits the crown levels that the legs have of their own where they cross the circle, by least squares: z = z0 + gx (x - x0) + gy (y - y0),
which is linear in them. A leg's own level there rests on what was set on its street and on the ground alone, never on what ties it, so
there is no ring.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, as_row, bearing_of, frozen, left_normals, tangents
from humble_loop.geometry.gradeline import Profile
from humble_loop.geometry.periodic import PeriodicCubic
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.junction.model import ReturnLevel
from humble_loop.kinds.roundabout.gaps import Kerb
from humble_loop.kinds.roundabout.layout import KerbLine, kerb_after, kerb_name, kerb_plan, kerb_shape
from humble_loop.kinds.roundabout.model import LevelWay
from humble_loop.kinds.roundabout.place import (
    Leg,
    circle_of,
    entry_side,
    leg_choice,
    leg_name,
    legs_of,
    middle_of,
    roundabout_name,
    roundabout_of,
    sizes_of,
)
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, name_of, vips_of
from humble_loop.lines.anchor import anchored
from humble_loop.lines.kind import Carried, EndTie, Turn
from humble_loop.lines.line import LineId, LinePlan, ThingId, line, line_plan
from humble_loop.lines.quantity import (
    Addend,
    Quantity,
    Reads,
    amount,
    decided,
    elsewhere,
    known,
    percent,
    summed,
    times,
)
from humble_loop.lines.rules import Above, CubicBetween, InStretches, LevelRule, Shifted
from humble_loop.lines.varying import Varying
from humble_loop.site.model import Side, side_sign

EDGE = 0.1  # metres over which the edge of an apron rises: a wheel climbs it
FACE, KERB = 0.03, 0.15  # metres that the face of the island's kerb takes, and all of it


@dataclass(frozen=True)
class CircleLine(LineId):
    """A line round a roundabout about its middle: its 'rim' (the inscribed circle), or one within that."""

    roundabout: str
    point: str = "rim"
    kind: ClassVar[str] = "roundabout"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.roundabout)


# The plane


def leg_level(q: Engine, id: str, leg: Leg) -> Quantity:
    """The level that a leg's crown has of its own where it crosses the circle: on the VIPs that were set on its street, else the ground's."""
    name = f"{leg_name(q, id, leg)} at the circle, of its own"
    if (set_ := _on_vips(q, leg, name)) is not None:
        return set_
    level = ground_of(q).levels(leg.chain.points_at([leg.throat]))
    if not np.isfinite(level[0]):
        raise Unsolved(
            roundabout_name(q, id),
            f"there is no ground where {leg_name(q, id, leg)} crosses its circle to take a level from",
            "move it onto the ground, set VIPs on its streets, or set its level and its tilt",
        )
    return known(name, level, "the ground there", "ground")


@dataclass(frozen=True)
class CirclePlane:
    """z = ``level`` + ``east`` dx + ``north`` dy + ``fall`` (R - r), from the ``middle`` (2,) and r metres from it; R is the ``radius``.

    ``level``, ``east`` and ``north`` are quantities at one place.
    """

    middle: Floats
    radius: float
    level: Quantity
    east: Quantity
    north: Quantity
    fall: float

    @property
    def slope(self) -> Floats:
        """Its rise per metre to the east and to the north (2,)."""
        return np.array([self.east.value[0], self.north.value[0]])

    def at(self, places: ArrayLike) -> Floats:
        """Levels (n,) at places (n, 2)."""
        d = np.atleast_2d(places) - self.middle
        found: Floats = self.level.value[0] + d @ self.slope + self.fall * (self.radius - np.hypot(*d.T))
        return found


def circle_plane(q: Engine, id: str) -> CirclePlane:
    """The plane or cone on which a roundabout lies."""
    return plane_as(q, id, roundabout_of(q, id).levels)


@query
def plane_as(q: Engine, id: str, way: LevelWay) -> CirclePlane:
    """The plane or cone on which a roundabout would lie in one of the ways of levels."""
    made, sizes, middle, name = roundabout_of(q, id), sizes_of(q, id), middle_of(q, id), roundabout_name(q, id)
    cone = way == "cone" or len(legs_of(q, id)) == 1
    set_level = made.level is not None and (cone or made.tilt is not None)
    level, east, north = _nothing_of(name) if set_level else _of_legs(q, id, way, cone)
    if made.level is not None:
        level = decided(f"{name} in the middle", made.level, ("roundabout level", id), "level set", "set")
    if made.tilt is not None or made.towards is not None:
        slope = np.array([float(east.value[0]), float(north.value[0])])
        steep = float(np.hypot(*slope)) if made.tilt is None else made.tilt
        heading = np.arctan2(-slope[1], -slope[0]) if made.towards is None else np.radians(90.0 - made.towards)
        east, north = (
            known(f"{name} slope to the {w}", [-steep * v], "tilt set", "set", "grade")
            for w, v in (("east", np.cos(heading)), ("north", np.sin(heading)))
        )
    fall = made.fall if made.fall is not None else (sizes.fall if cone else 0.0)
    return CirclePlane(middle, sizes.radius, level, east, north, fall)


_WHAT: tuple[tuple[str, Reads], ...] = (
    ("in the middle", "level"),
    ("slope to the east", "grade"),
    ("slope to the north", "grade"),
)


def _nothing_of(name: str) -> tuple[Quantity, Quantity, Quantity]:
    """A level plane, of which everything is said otherwise."""
    level, east, north = (known(f"{name} {what}", [0.0], "not asked of its legs", unit=unit) for what, unit in _WHAT)
    return level, east, north


def _of_legs(q: Engine, id: str, way: LevelWay, cone: bool) -> tuple[Quantity, Quantity, Quantity]:
    """The level in the middle and the slopes to the east and the north that the legs leave."""
    legs, name, middle = legs_of(q, id), roundabout_name(q, id), middle_of(q, id)
    levels = [leg_level(q, id, g) for g in legs]
    d = np.array([g.chain.points_at([g.throat])[0] for g in legs]) - middle
    weights, words = _fitted(d), "the plane that fits its legs best"
    if cone:
        weights, words = _cone(len(legs)), "the mean of its legs"
    elif way == "through":
        weights, words = _through(q, id, d, legs), "the plane of the street that runs through"
    called = [leg_name(q, id, g) for g in legs]
    level, east, north = (
        summed(f"{name} {what}", words, *(times(n, z, f) for n, z, f in zip(called, levels, row)), unit=unit)
        for (what, unit), row in zip(_WHAT, weights)
    )
    return level, east, north


def _cone(n: int) -> Floats:
    """Weights (3, n) of the legs' levels in the level, and no slope."""
    found = np.zeros((3, n))
    found[0] = 1.0 / n
    return found


def _fitted(d: Floats) -> Floats:
    """Weights (3, n) of levels at places (n, 2) in the plane that fits them by least squares; level across where they lie in a row."""
    n, about = len(d), d.mean(axis=0)
    slopes = np.linalg.pinv(d - about, rcond=1e-6) @ (np.eye(n) - 1.0 / n)
    found: Floats = np.vstack([np.full(n, 1.0 / n) - about @ slopes, slopes])
    return found


def _through(q: Engine, id: str, d: Floats, legs: tuple[Leg, ...]) -> Floats:
    """The same of the plane that holds both legs of the street that runs through, and fits the others as it can across that."""
    street = roundabout_of(q, id).through or roundabout_of(q, id).street
    pair = [k for k, g in enumerate(legs) if g.street == street]
    if len(pair) < 2:
        pair = _opposite(d)
    a, b = pair[0], pair[1]
    run = float(np.hypot(*(d[b] - d[a])))
    along = (d[b] - d[a]) / run
    across = np.array([-along[1], along[0]])
    n = len(d)
    held = np.zeros((n, n))  # the level of the through street abreast of each place, from the levels
    share = (d - d[a]) @ along / run
    held[:, a], held[:, b] = 1.0 - share, share
    beside = (d - d[a]) @ across
    total = float(beside @ beside)
    square = (beside @ (np.eye(n) - held)) / total if total > 1e-6 else np.zeros(n)
    grade = (np.eye(n)[b] - np.eye(n)[a]) / run
    slopes = along[:, None] * grade + across[:, None] * square
    level = np.eye(n)[a] - d[a] @ slopes
    return np.vstack([level, slopes])


def _opposite(d: Floats) -> list[int]:
    """The two places that lie farthest apart."""
    away = np.hypot(*(d[:, None] - d[None]).transpose(2, 0, 1))
    a, b = np.unravel_index(int(np.argmax(away)), away.shape)
    return [int(a), int(b)]


def _on_vips(q: Engine, leg: Leg, name: str) -> Quantity | None:
    """A leg's level on the two VIPs round where it crosses the circle, those nearest to it at an end, with their curves; None where these
    have no levels of their own.
    """
    vips = vips_of(q, leg.street)
    if len(vips) < 2 or frame_of(q, leg.street).proposed_between:
        return None
    s = float(np.clip(leg.at, 0.0, chain_of(q, leg.street).total))
    k = int(np.clip(np.searchsorted([v.chainage for v in vips], s) - 1, 0, len(vips) - 2))
    if vips[k].level is None or vips[k + 1].level is None:
        return None
    # Those beside them that have levels, for the bend of their curves.
    low, high = k, k + 1
    while low > 0 and vips[low - 1].level is not None:
        low -= 1
    while high + 1 < len(vips) and vips[high + 1].level is not None:
        high += 1
    run = vips[low : high + 1]
    curves = [0.0, *(v.curve_length for v in run[1:-1]), 0.0]
    profile = Profile.of([v.chainage for v in run], [float(v.level or 0.0) for v in run], curves)
    share = (s - vips[k].chainage) / (vips[k + 1].chainage - vips[k].chainage)
    ends = [
        decided(
            f"{name_of(q, leg.street)} VIP at {vips[j].chainage:.2f}",
            float(vips[j].level or 0.0),
            ("vip", leg.street, j),
            "level set",
            "set",
        )
        for j in (k, k + 1)
    ]
    straight = (1.0 - share) * float(ends[0].value[0]) + share * float(ends[1].value[0])
    curve = float(profile.level([s])[0]) - straight if 0.0 <= share <= 1.0 else 0.0
    return summed(
        name,
        "on the VIPs set on its street, whatever ties it",
        times("VIP before", ends[0], 1.0 - share),
        times("VIP after", ends[1], share),
        amount("vertical curve", curve),
    )


# The circle


@query
def rim_chain(q: Engine, id: str):  # type: ignore[no-untyped-def]
    """The inscribed circle, anticlockwise from its seam."""
    return circle_of(middle_of(q, id), sizes_of(q, id).radius, seam_of(q, id))


def seam_of(q: Engine, id: str) -> float:
    """The angle (radians from east) at which the circle's long section begins."""
    return float(np.radians(90.0 - roundabout_of(q, id).seam))


def rim_place(q: Engine, id: str, angles: ArrayLike) -> Floats:
    """Chainages (n,) of the inscribed circle at angles (n,) seen from its middle."""
    found: Floats = np.mod(as_row(angles) - seam_of(q, id), 2.0 * np.pi) * sizes_of(q, id).radius
    return found


@dataclass(frozen=True)
class Ring:
    """A line within the circle: its name, metres in from the rim, how far it rises from the line before it, and what lies between these."""

    name: str
    inwards: float
    rise: float
    role: str


@query
def rings_of(q: Engine, id: str) -> tuple[Ring, ...]:
    """The lines of a roundabout from its rim inwards. Raises Unsolved where its sizes leave no room for them."""
    sizes, name = sizes_of(q, id), roundabout_name(q, id)
    found, at = [Ring("rim", 0.0, 0.0, "")], sizes.width
    island = sizes.radius - sizes.width
    if island <= 0.0:
        raise Unsolved(
            name,
            f"its circle of {sizes.radius:g} m is too small for a carriageway of {sizes.width:g} m",
            f"make its radius at least {sizes.width + sizes.apron + _LEAST_ISLAND:.1f} m, or its carriageway narrower",
        )
    if sizes.apron > island:
        raise Unsolved(
            name,
            f"its apron of {sizes.apron:g} m is wider than its island, which has a radius of {island:.2f} m",
            f"make the apron at most {island:.2f} m wide",
        )
    found.append(Ring("island lip", at, 0.0, "carriageway"))
    if sizes.apron > EDGE:
        found.append(Ring("apron edge", at + EDGE, sizes.apron_up, "kerb"))
        at += sizes.apron
        if sizes.radius - at <= _LEAST_ISLAND:
            return tuple(found)  # it is an apron all over
        found.append(Ring("apron back", at, sizes.apron_rise * (sizes.apron - EDGE), "path"))
    if sizes.kerb_up > 0.0 and sizes.radius - at - KERB > _LEAST_ISLAND:
        found.append(Ring("kerb top", at + FACE, sizes.kerb_up, "kerb"))
        found.append(Ring("kerb back", at + KERB, 0.0, "kerb"))
    return tuple(found)


_LEAST_ISLAND = 0.3  # metres of a radius within the last line


def circle_line_plan(q: Engine, id: CircleLine) -> LinePlan:
    """A line round a roundabout in plan; inwards is to its left."""
    ring = next((r for r in rings_of(q, id.roundabout) if r.name == id.point), None)
    if ring is None:
        raise Unsolved(roundabout_name(q, id.roundabout), f"it has no line '{id.point}'", "choose another line")
    chain = rim_chain(q, id.roundabout)
    title = f"{roundabout_name(q, id.roundabout)} {'circle' if ring.name == 'rim' else ring.name}"
    return LinePlan(
        title, "return" if ring.name == "rim" else ring.name, chain, Varying.steady(ring.inwards), 0.0, chain.total
    )


@dataclass(frozen=True)
class OnPlane(LevelRule):
    """On a roundabout's plane or cone, along a line about its middle."""

    title: str
    plan: LinePlan
    plane: CirclePlane

    def level(self, s: ArrayLike) -> Quantity:
        x, p = as_row(s), self.plane
        d = self.plan.points(x) - p.middle
        down = p.fall * (p.radius - np.hypot(*d.T))
        return summed(
            lambda k: f"{self.title} at {x[k]:.2f}",
            "on the plane of the roundabout" if not p.fall else "on the cone of the roundabout",
            times("level in its middle", p.level),
            times(lambda k: f"slope to the east × {d[k, 0]:.2f} m", p.east, d[:, 0]),
            times(lambda k: f"slope to the north × {d[k, 1]:.2f} m", p.north, d[:, 1]),
            amount(lambda k: f"{percent(p.fall)} inwards × {p.radius - np.hypot(*d[k]):.2f} m", down),
        )

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        del side
        x = as_row(s)
        way = tangents(self.plan.base.at(x).headings) * self.plan.stretch(x)[:, None]
        return summed(
            lambda k: f"grade of {self.title} at {x[k]:.2f}",
            "along the plane of the roundabout",
            times("slope to the east", self.plane.east, way[:, 0]),
            times("slope to the north", self.plane.north, way[:, 1]),
            unit="grade",
        )

    def bow(self) -> list[tuple[float, float, float]]:
        steep = float(np.hypot(*self.plane.slope))
        return [(self.plan.start, self.plan.end, steep / self.plane.radius)]


@dataclass(frozen=True)
class Closed(LevelRule):
    """Through levels of its own round a closed line: one level, grade and bend where it closes."""

    title: str
    spline: PeriodicCubic
    levels_: tuple[Quantity, ...]

    def _sum(self, weights: Floats, name: str, x: Floats, **unit: str) -> Quantity:
        addends = [
            times(f"level at {at:.2f}", z, weights[:, k]) for k, (at, z) in enumerate(zip(self.spline.at, self.levels_))
        ]
        return summed(lambda k: f"{name} at {x[k]:.2f}", "by its own closed grade line", *addends, **unit)  # type: ignore[arg-type]

    def level(self, s: ArrayLike) -> Quantity:
        x = as_row(s)
        return self._sum(self.spline.weights(x), self.title, x)

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        del side
        x = as_row(s)
        return self._sum(self.spline.slope_weights(x), f"grade of {self.title}", x, unit="grade")

    def key_places(self) -> Floats:
        return np.array(self.spline.at)

    def bow(self) -> list[tuple[float, float, float]]:
        return [(0.0, self.spline.length, self.spline.sharpest([float(z.value[0]) for z in self.levels_]))]


def circle_rule(q: Engine, id: CircleLine) -> LevelRule:
    """How a line round a roundabout comes by its levels."""
    made, rings = roundabout_of(q, id.roundabout), rings_of(q, id.roundabout)
    plan = line_plan(q, id)
    k = next(i for i, r in enumerate(rings) if r.name == id.point)
    own = made.levels == "own" and len(made.vips) >= 3
    if k == 0 and own:
        return _own(q, id.roundabout, plan)
    if k <= 1 and not own:
        return OnPlane(plan.title, plan, circle_plane(q, id.roundabout))
    base = CircleLine(id.roundabout, "rim" if own else "island lip")
    rises = tuple((f"{a.name} to {b.name}", Varying.steady(b.rise)) for a, b in zip(rings[1:k], rings[2 : k + 1]))
    if own:
        fall = sizes_of(q, id.roundabout).fall if made.fall is None else made.fall
        rises = (
            (f"{percent(fall)} inwards × {rings[1].inwards:.2f} m", Varying.steady(fall * rings[1].inwards)),
            *rises,
        )
    return Above(plan.title, "inwards by the roundabout's sizes", base, base.point, line(q, base).rule, rises)


def _own(q: Engine, id: str, plan: LinePlan) -> LevelRule:
    made, title = roundabout_of(q, id), plan.title
    at = rim_place(q, id, np.radians([90.0 - v.bearing for v in made.vips]))
    order = np.argsort(at)
    levels = tuple(_circle_level(q, id, int(k), float(at[k]), plan) for k in order.tolist())
    return Closed(title, PeriodicCubic(plan.end, tuple(at[order].tolist())), levels)


def _circle_level(q: Engine, id: str, k: int, at: float, plan: LinePlan) -> Quantity:
    """A level of a circle that has its own: set, or as it follows another line's."""
    v, name = roundabout_of(q, id).vips[k], f"{plan.title} level at {at:.2f}"
    if v.follows is not None:
        return anchored(q, v.follows, plan.base.points_at([at])[0], name, roundabout_name(q, id))
    return decided(name, v.level, ("circle level", id, k), "level set", "set")


def rim_level(q: Engine, id: str, angle: float) -> Quantity:
    """The circle's level at an angle, as a quantity at one place."""
    rim = CircleLine(id)
    at = rim_place(q, id, [angle])
    made = line(q, rim)
    return elsewhere(made.title, rim, at, made.rule.levels(at))


def rim_grade(q: Engine, id: str, angle: float) -> Quantity:
    """Its grade there, anticlockwise."""
    rim = CircleLine(id)
    at = rim_place(q, id, [angle])
    made = line(q, rim)
    return elsewhere(f"grade of {made.title}", rim, at, made.rule.grades(at), "grade")


# Kerbs


@dataclass(frozen=True)
class AlongRim(LevelRule):
    """A stretch of another line that runs on the inscribed circle: that one's level. From place ``begin`` on it is at ``rim_begin`` of the circle."""

    title: str
    rim: LineId
    rule: LevelRule
    total: float
    begin: float
    finish: float
    rim_begin: float

    def _on(self, s: ArrayLike) -> Floats:
        found: Floats = np.mod(self.rim_begin + as_row(s) - self.begin, self.total)
        return found

    def level(self, s: ArrayLike) -> Quantity:
        x, at = as_row(s), self._on(s)
        there = elsewhere("circle", self.rim, at, self.rule.levels(at))
        return summed(lambda k: f"{self.title} at {x[k]:.2f}", "on the circle", times("circle", there), source="tied")

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        x, at = as_row(s), self._on(s)
        there = elsewhere("grade of the circle", self.rim, at, self.rule.grades(at, side), "grade")
        return summed(
            lambda k: f"grade of {self.title} at {x[k]:.2f}",
            "on the circle",
            times("circle", there),
            source="tied",
            unit="grade",
        )

    def bow(self) -> list[tuple[float, float, float]]:
        most = max((b for _, _, b in self.rule.bow()), default=0.0)
        return [(self.begin, self.finish, most)]


@query
def kerb_rule(q: Engine, id: str, key: str) -> LevelRule:
    """Levels along a kerb: from a leg's lip to the circle, along that, and out to the next leg's lip, meeting each in level and grade."""
    made, legs, name = kerb_after(q, id, key), legs_of(q, id), kerb_name(q, id, key)
    one, other = legs[made.first], legs[made.last]
    (z0, m0), (z1, m1) = _lip(q, id, one, "left", made.leg_at[0]), _lip(q, id, other, "right", made.leg_at[1])
    title = f"{name} kerb"
    ends = ("first lip's level", "first lip's grade", "last lip's level", "last lip's grade")
    a, b = made.ends
    total = made.chain.total
    if made.alone:
        # Levels are set on it as on the arcs of both legs, which come together where it is nearest to the circle.
        at, levels = _levels(q, id, one, "left", made, title)
        on, more = _levels(q, id, other, "right", made, title)
        inner = (*at, *(b + s for s in on)), (*levels, *more)
        return CubicBetween(title, "cubic meeting both lips in level and grade", total, z0, m0, z1, m1, ends, *inner)
    words = "cubic meeting the lip and the circle in level and grade"
    (r0, g0), (r1, g1) = ((rim_level(q, id, t), rim_grade(q, id, t)) for t in made.angles)
    first = CubicBetween(
        title,
        words,
        a,
        z0,
        m0,
        r0,
        g0,
        ("lip's level", "lip's grade", "circle's level", "circle's grade"),
        *_levels(q, id, one, "left", made, title),
    )
    last = CubicBetween(
        title,
        words,
        total - b,
        r1,
        g1,
        z1,
        m1,
        ("circle's level", "circle's grade", "lip's level", "lip's grade"),
        *_levels(q, id, other, "right", made, title),
    )
    rim = CircleLine(id)
    circle = line(q, rim)
    round_ = AlongRim(title, rim, circle.rule, circle.plan.end, a, b, float(rim_place(q, id, [made.angles[0]])[0]))
    return InStretches((a, b), (first, round_, Shifted(last, b)))


def _levels(
    q: Engine, id: str, leg: Leg, seen: Side, made: Kerb, title: str
) -> tuple[tuple[float, ...], tuple[Quantity, ...]]:
    """Distances along a leg's arc of a kerb at which it goes through levels that were set, in the way that it runs, and these."""
    chosen, key = leg_choice(q, id, leg.street, leg.drawn), "entry" if seen == entry_side(q) else "exit"
    given: tuple[ReturnLevel, ...] = getattr(chosen, f"{key}_levels")
    inwards, (a, b), total = seen == "left", made.ends, made.chain.total
    length, before = (a, 0.0) if inwards else (total - b, b)
    rows = sorted(((1.0 - v.share if inwards else v.share) * length, k) for k, v in enumerate(given))
    levels = []
    for s, k in rows:
        name, follows = f"{title} level at {s:.2f}", given[k].follows
        if follows is not None:
            place = made.chain.points_at([before + s])[0]
            levels.append(anchored(q, follows, place, name, roundabout_name(q, id)))
        else:
            key_ = ("leg level", id, leg.key, key, k)
            levels.append(decided(name, given[k].level, key_, "level set", "set"))
    return tuple(s for s, _ in rows), tuple(levels)


def _lip(q: Engine, id: str, leg: Leg, seen: Side, u: float) -> tuple[Quantity, Quantity]:
    """Level and grade of a leg's lip where a kerb leaves it inwards on the left, or reaches it outwards on the right."""
    lip = StreetLine(leg.street, "lip", leg.own_side(seen))
    made, s = line(q, lip), leg.along(u)
    level = elsewhere(made.title, lip, s, made.rule.levels([s]))
    grade = made.rule.grades([s], "after" if leg.way > 0 else "before")
    way = leg.way * (-1.0 if seen == "left" else 1.0)
    factor = way / float(made.plan.stretch([s])[0])
    if not np.isfinite(level.value[0] + grade[0]):
        raise Unsolved(
            roundabout_name(q, id),
            f"{leg_name(q, id, leg)} has no level where its kerb leaves the lip",
            "let its grade line reach from the circle past that",
        )
    there = elsewhere(f"grade of {made.title}", lip, s, grade, "grade")
    words = "grade of the lip there, as the kerb runs"
    return level, summed(words, words, Addend("lip's grade", np.array([factor]), there), unit="grade")


def kerb_line_rule(q: Engine, id: KerbLine) -> LevelRule:
    """A kerb meets lips and circle; what lies outside it follows by the sections of both streets."""
    if id.point == "lip":
        return kerb_rule(q, id.roundabout, id.leg)
    first, last = kerb_shape(q, id.roundabout, id.leg)
    plan, lip = kerb_plan(q, id), KerbLine(id.roundabout, id.leg)
    k, names = first.names.index(id.point), first.names
    rises = tuple(
        (f"{names[i]} to {names[i + 1]}", Varying.of([0.0, plan.end], [float(a), float(b)]))
        for i, (a, b) in enumerate(zip(np.diff(first.rise[: k + 1]), np.diff(last.rise[: k + 1])))
    )
    return Above(plan.title, "out from the lip by the section", lip, "lip", line(q, lip).rule, rises)


# What it does to its legs


def throat_level(q: Engine, id: str, leg: Leg) -> Quantity:
    """The level at which a leg's own grade line begins: the circle's where its crown crosses that."""
    name = f"{roundabout_name(q, id)} throat of {leg_name(q, id, leg)}"
    return summed(name, "the circle's level there", times("circle", rim_level(q, id, leg.angle)), source="tied")


def end_tie(q: Engine, id: str, leg: Leg) -> EndTie:
    """How a roundabout holds the end of a street that ends in it."""
    return EndTie("start" if leg.way > 0 else "end", leg.at, throat_level(q, id, leg), None)


def carried_by(q: Engine, id: str, before: Leg, after: Leg) -> Carried:
    """How it carries a street that runs through, from where that comes in to where it goes out."""
    return Carried(before.at, after.at, throat_level(q, id, before), throat_level(q, id, after), None)


def turn_of(q: Engine, id: str, leg: Leg, seen: Side, finish: float) -> Turn:
    """How a leg's section turns on a side: flat along the circle at the throat, normal ``finish`` metres along the leg."""
    heading = float(leg.chain.at([leg.throat]).headings[0])
    outwards = left_normals(heading) * side_sign(seen)
    round_ = tangents(leg.angle + 0.5 * np.pi)
    across = float(rim_grade(q, id, leg.angle).value[0]) * float(outwards @ round_)
    return Turn(leg.at, leg.along(max(finish, leg.throat)), leg.way > 0, across, "flat along the roundabout's circle")


def bearing(angles: ArrayLike) -> Floats:
    """Bearings (n,) in degrees of angles (n,) in radians."""
    return frozen(bearing_of(angles))
