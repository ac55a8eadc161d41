"""Faces of a roundabout: its carriageway and island in rings, a mouth where legs come in, and the roadside and batter beyond each kerb."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen, unique_chainages
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.roundabout.gaps import Kerb
from humble_loop.kinds.roundabout.layout import (
    TIGHT,
    KerbLine,
    boundary_of,
    carriageway_from,
    kerb_after,
    kerb_name,
    kerb_plan,
    kerb_shape,
    leg_edge,
)
from humble_loop.kinds.roundabout.levels import CircleLine, kerb_rule, rim_place, rings_of
from humble_loop.kinds.roundabout.place import Leg, leg_name, leg_of, legs_of, roundabout_name, sizes_of
from humble_loop.kinds.street.batter import batter
from humble_loop.kinds.street.mouth import Edge, edge_across
from humble_loop.kinds.street.plan import StreetLine
from humble_loop.kinds.street.section import slopes_between
from humble_loop.lines.faces import Face, FaceId, Patch, Strip
from humble_loop.lines.line import ThingId, line, line_plan, sampled_at
from humble_loop.lines.standing import kinds
from humble_loop.site import parts
from humble_loop.site.model import SIDES, Side

_CHORD = 1.0  # metres between rows of the circle at most: contours at 0.05 m are smooth
_APART = 2.0  # metres between lines that span a mouth
_SAME = 1e-4  # metres between two rows
_NONE = 1e-6  # metres

Part = Literal["circle", "middle", "mouth", "roadside", "batter"]


@dataclass(frozen=True)
class RoundaboutFace(FaceId):
    """The rings of a roundabout, what lies within the last, the mouth of a leg, or the roadside or batter beyond the kerb after one."""

    roundabout: str
    part: Part
    leg: str = ""
    kind: ClassVar[str] = "roundabout"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.roundabout)

    @property
    def gives_way(self) -> bool:
        return self.part == "batter"


def faces_of(q: Engine, id: str) -> tuple[FaceId, ...]:
    """The faces of a roundabout."""
    legs = q.attempt(legs_of, id)
    if isinstance(legs, Unsolved):
        return ()
    by_leg: tuple[Part, ...] = ("mouth", "roadside", "batter")
    of_legs = (RoundaboutFace(id, part, g.key) for g in legs for part in by_leg)
    return (RoundaboutFace(id, "circle"), RoundaboutFace(id, "middle"), *of_legs)


def face_of(q: Engine, id: RoundaboutFace) -> Face:
    """A face of a roundabout."""
    name = roundabout_name(q, id.roundabout)
    if id.part == "circle":
        rings, s = rings_of(q, id.roundabout), rim_rows(q, id.roundabout)
        lines = tuple(CircleLine(id.roundabout, r.name) for r in rings)
        return Strip(
            f"{name} circle", "carriageway", lines, s, np.ones(len(s) - 1, dtype=bool), tuple(r.role for r in rings[1:])
        )
    if id.part == "middle":
        return _middle(q, id.roundabout)
    if id.part == "mouth":
        return _mouth(q, id.roundabout, id.leg)
    return _outside(q, id)


def _middle(q: Engine, id: str) -> Patch:
    """Within the last ring: rising to its middle by what the island does, or its apron where that is all of it."""
    last, sizes = rings_of(q, id)[-1], sizes_of(q, id)
    inner = CircleLine(id, last.name)
    rise = sizes.apron_rise if last.name == "apron edge" else sizes.mound
    border = line(q, inner).points(rim_rows(q, id)[:-1])
    top = np.append(border[:, :2].mean(axis=0), border[:, 2].mean() + rise * (sizes.radius - last.inwards))
    top[:2] = line_plan(q, inner).base.points_at([0.0], sizes.radius)[0]
    role = "verge" if sizes.kerb_up > 0.0 else "path"
    return Patch(f"{roundabout_name(q, id)} island", role, border, (top[None],), (inner,))


# Rows


@query
def rim_rows(q: Engine, id: str) -> Floats:
    """Chainages of the circle at which it is worked out: evenly, where legs cross it and kerbs leave it, and where the kerbs on it have rows."""
    settings, rim = parts.settings(q), line(q, CircleLine(id))
    total, radius = rim.plan.end, sizes_of(q, id).radius
    keys = [rim_place(q, id, [g.angle for g in legs_of(q, id)])]
    for g in legs_of(q, id):
        made = q.attempt(kerb_after, id, g.key)
        if not isinstance(made, Unsolved):
            keys.append(rim_place(q, id, made.angles))
            a, b = made.ends
            outside = _stations(q, id, g.key)
            on = outside[(outside > a) & (outside < b)]
            keys.append(rim_place(q, id, made.angles[0] + (on - a) / radius))
    even = np.linspace(0.0, total, 1 + int(np.ceil(total / _CHORD)))
    fine = sampled_at(rim.plan, rim.rule.bow(), settings.arc_tolerance, settings.level_tolerance)
    return frozen(
        unique_chainages([0.0, total], *keys, rim.rule.key_places(), fine, even, low=0.0, high=total, gap=_SAME)
    )


def _stations(q: Engine, id: str, key: str) -> Floats:
    """Places along a kerb where what adjoins its boundary has rows, and as close as its boundary's bend needs."""
    if isinstance(q.attempt(kerb_shape, id, key), Unsolved):
        return np.empty(0)
    edge = boundary_of(q, id, key)
    wanted = [kind.stations_on(q, edge) for kind in kinds()]
    fine = sampled_at(kerb_plan(q, edge), (), parts.settings(q).arc_tolerance, 1.0)
    return np.concatenate([np.empty(0), *wanted, fine])


@query
def kerb_rows(q: Engine, id: str, key: str) -> Floats:
    """Distances along a kerb at which its section is worked out: on the circle, where that has its rows."""
    made, settings = kerb_after(q, id, key), parts.settings(q)
    total, (a, b) = made.chain.total, made.ends
    rule, plan = kerb_rule(q, id, key), kerb_plan(q, KerbLine(id, key))
    fine = sampled_at(plan, rule.bow(), settings.arc_tolerance, settings.level_tolerance)
    even = np.concatenate([np.linspace(u, v, 2 + int((v - u) / 1.5)) for u, v in ((0.0, a), (b, total))])
    free = [_stations(q, id, key), rule.key_places(), even, fine]
    ends = [[0.0, total], [a, b]]
    free = [np.asarray(v)[(np.asarray(v) < a - _SAME) | (np.asarray(v) > b + _SAME)] for v in free]
    return frozen(unique_chainages(*ends, _on_circle(q, id, made), *free, low=0.0, high=total, gap=0.5 * _SAME))


def _on_circle(q: Engine, id: str, made: Kerb) -> Floats:
    """The circle's rows as places on the part of a kerb that runs on it, without its ends."""
    radius, (begin, finish) = sizes_of(q, id).radius, made.angles
    first = float(rim_place(q, id, [begin])[0])
    away = np.mod(rim_rows(q, id) - first, 2.0 * np.pi * radius)
    length = (finish - begin) * radius
    return np.sort(away[(away > _SAME) & (away < length - _SAME)]) + made.ends[0]


def rim_between(q: Engine, id: str, begin: float, finish: float) -> Floats:
    """The circle's rows from one angle anticlockwise to another, with both."""
    total = float(rim_rows(q, id)[-1])
    a = float(rim_place(q, id, [begin])[0])
    length = float(np.mod(rim_place(q, id, [finish])[0] - a, total))
    away = np.mod(rim_rows(q, id) - a, total)
    inside = np.unique(away[(away > _SAME) & (away < length - _SAME)])
    inside = inside[np.concatenate([[True], np.diff(inside) > _SAME])] if len(inside) else inside
    return np.mod(a + np.concatenate([[0.0], inside, [length]]), total)


# Mouths


def _edge(q: Engine, id: str, leg: Leg) -> Edge:
    sides: dict[Side, Side] = {seen: leg.own_side(seen) for seen in SIDES}
    kerbs: dict[Side, float] = {seen: leg.along(leg_edge(q, id, leg, seen)) for seen in SIDES}
    begins: dict[Side, float] = {seen: leg.along(carriageway_from(q, id, leg, seen)) for seen in SIDES}
    made = edge_across(q, leg.street, sides, kerbs, begins, leg.way > 0)
    if made is None:
        raise Unsolved(
            f"{roundabout_name(q, id)}, {leg_name(q, id, leg)}",
            "the leg has no carriageway of its own where its kerbs end",
            "lengthen the street, or lessen its radii",
        )
    return made


@query
def across(q: Engine, id: str, key: str) -> Floats:
    """A leg's edge (n, 3) towards its mouth: where the street makes its own carriageway."""
    return np.concatenate(_edge(q, id, leg_of(q, id, key)).points)


def _mouth(q: Engine, id: str, key: str) -> Patch:
    """From the circle out along a leg's right kerb, across the leg, and back along its left kerb; where a kerb does not reach the circle,
    from where it is nearest straight to that.
    """
    legs = legs_of(q, id)
    k = next(i for i, g in enumerate(legs) if g.key == key)
    leg, before_key = legs[k], legs[k - 1].key
    before, after = kerb_after(q, id, before_key), kerb_after(q, id, key)
    edge = _edge(q, id, leg)
    out = _along(q, id, before_key, before.ends[1], before.chain.total)
    back = _along(q, id, key, 0.0, after.ends[0])
    rim = line(q, CircleLine(id)).points(rim_between(q, id, before.angles[1], after.angles[0]))
    outline = np.concatenate([p for p in (out[:-1], *edge.points, back[1:], rim[::-1]) if len(p)])
    inside = shapely.Polygon(outline[:, :2]).buffer(_NONE)
    crown = _crown(q, id, leg, edge)
    spans = _spanning(crown, out, back)
    inner = [p for p in (crown, *spans) if shapely.covers(inside, shapely.LineString(p[:, :2]))]
    name = f"{roundabout_name(q, id)}, {leg_name(q, id, leg)}"
    lines = (CircleLine(id), KerbLine(id, before_key), KerbLine(id, key), StreetLine(leg.street))
    ways_out = [rim, *edge.points]
    ways_out += [p for p, kerb in ((out[:1], before), (back[-1:], after)) if kerb.alone]
    return Patch(name, "junction", outline, tuple(inner), lines, frozen(np.concatenate(ways_out)[:, :2]))


def _along(q: Engine, id: str, key: str, begin: float, finish: float) -> Floats:
    """Points (n, 3) along a kerb between two places."""
    s = kerb_rows(q, id, key)
    return line(q, KerbLine(id, key)).points(s[(s >= begin - 1e-9) & (s <= finish + 1e-9)])


def _crown(q: Engine, id: str, leg: Leg, edge: Edge) -> Floats:
    """A leg's crown in its mouth (n, 3), from the circle outwards to where one of its halves begins."""
    low, high = leg.throat, abs(edge.first - leg.inner)
    u = np.linspace(low, high, max(2, int((high - low) / _APART) + 2))
    made = line(q, StreetLine(leg.street)).points(leg.inner + leg.way * u)
    made[0] = line(q, CircleLine(id)).points(rim_place(q, id, [leg.angle]))[0]
    made[-1] = edge.nearer
    return made


def _spanning(crown: Floats, out: Floats, back: Floats) -> list[Floats]:
    """Lines (each (2, 3)) from both kerbs of a mouth to its crown, in step along both: they keep it from being a few long triangles."""
    found: list[Floats] = []
    if len(crown) < 3:
        return found
    share = np.linspace(0.0, 1.0, len(crown))[1:-1]
    for kerb in (out, back[::-1]):
        if len(kerb) < 3:
            continue
        run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(kerb[:, :2], axis=0).T))])
        nearest = np.argmin(np.abs(run[:, None] - share * run[-1]), axis=0)
        found += list(np.stack([kerb[nearest], crown[1:-1]], axis=1))
    return found


# Outside


def batter_slopes(q: Engine, id: KerbLine, s: Floats) -> Floats:
    """Cut and fill slope (n, 2) beyond a kerb: from the first leg's to the last one's."""
    return slopes_between(*kerb_shape(q, id.roundabout, id.leg), s / kerb_plan(q, id).end)


def _outside(q: Engine, id: RoundaboutFace) -> Face:
    made, (first, last) = kerb_after(q, id.roundabout, id.leg), kerb_shape(q, id.roundabout, id.leg)
    name, reach, tightest = kerb_name(q, id.roundabout, id.leg), max(first.reach, last.reach), made.tightest
    if reach > TIGHT * tightest * (1.0 + 1e-9):
        raise Unsolved(
            name,
            f"verge and path ({reach:.2f} m) do not fit inside a radius of {tightest:.2f} m",
            f"make its tightest radius at least {np.ceil(100.0 * reach / TIGHT) / 100.0:.2f} m, enlarge the circle, or turn its legs apart",
        )
    s = kerb_rows(q, id.roundabout, id.leg)
    joined = np.ones(len(s) - 1, dtype=bool)
    if id.part == "roadside":
        lines = tuple(KerbLine(id.roundabout, id.leg, n) for n in first.names)
        return Strip(f"{name} roadside", "roadside", lines, s, joined, first.roles)
    return batter(q, f"{name} batter", boundary_of(q, id.roundabout, id.leg), s, joined, ground_of(q))
