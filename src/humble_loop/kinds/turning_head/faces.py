"""Faces of a turning head: what lies inside its lip, and its roadside and batter."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
import shapely
from shapely.geometry import Polygon

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, left_normals, tangents
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street.batter import batter
from humble_loop.kinds.street.lowered import lowered_stations
from humble_loop.kinds.street.plan import StreetLine, chain_of
from humble_loop.kinds.street.section import inside_points, side_rows
from humble_loop.kinds.turning_head.layout import HeadLine, head_shape, leaves_at, outline
from humble_loop.kinds.turning_head.levels import ring_levels
from humble_loop.kinds.turning_head.lines import ring_rows
from humble_loop.kinds.turning_head.place import approach, head_at, head_name, own_side
from humble_loop.kinds.turning_head.sizes import TIGHT, head_sizes
from humble_loop.lines.faces import Face, FaceId, Patch, Strip, with_inner
from humble_loop.lines.line import ThingId, line
from humble_loop.site.model import SIDES, End, side_sign

_STEP = 1.5  # metres between points along the middle of an arm


@dataclass(frozen=True)
class HeadFace(FaceId):
    """The bulb inside its lip, or its roadside or batter."""

    street: str
    end: End
    part: Literal["bulb", "roadside", "batter"]
    kind: ClassVar[str] = "turning_head"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, f"{self.street}:{self.end}")

    @property
    def gives_way(self) -> bool:
        return self.part == "batter"


def faces_of(street: str, end: End) -> tuple[FaceId, ...]:
    """The faces of a head."""
    return (HeadFace(street, end, "bulb"), HeadFace(street, end, "roadside"), HeadFace(street, end, "batter"))


@query
def fits(q: Engine, street: str, end: End) -> bool:
    """Whether verge and path fit inside the returns. Raises Unsolved when not."""
    made, shape, name = outline(q, street, end), head_shape(q, street, end), head_name(q, street, end)
    reach, sharpest = max(shape.first.reach, shape.last.reach), float(np.max(made.ring.k0))
    smallest = 1.0 / sharpest if sharpest > 0 else np.inf
    if reach > TIGHT * smallest:
        raise Unsolved(
            name,
            f"verge and path ({reach:.2f} m) do not fit inside a return radius of {smallest:g} m",
            f"make its return radius at least {reach / TIGHT:.1f} m",
        )
    return True


def face_of(q: Engine, id: HeadFace) -> Face:
    """A face of a head."""
    name = head_name(q, id.street, id.end)
    fits(q, id.street, id.end)
    if id.part == "bulb":
        return _bulb(q, id.street, id.end)
    shape, s = head_shape(q, id.street, id.end), ring_rows(q, id.street, id.end)
    joined = np.ones(len(s) - 1, dtype=bool)
    if id.part == "roadside":
        lines = tuple(HeadLine(id.street, id.end, n) for n in shape.first.names)
        s, joined, inner = with_inner(s, joined, lowered_stations(q, HeadLine(id.street, id.end)))
        return Strip(f"{name} roadside", "roadside", lines, s, joined, shape.first.roles, inner)
    return batter(q, f"{name} batter", HeadLine(id.street, id.end, shape.first.names[-1]), s, joined, ground_of(q))


def _bulb(q: Engine, street: str, end: End) -> Patch:
    made, levels, chain = outline(q, street, end), ring_levels(q, street, end), chain_of(q, street)
    crown, u = line(q, StreetLine(street)), ring_rows(q, street, end)
    ring = line(q, HeadLine(street, end)).points(u)
    at = {seen: leaves_at(q, street, end, seen) for seen in ("left", "right")}
    last = -1 if end == "end" else 0
    halves = {seen: side_rows(q, street, own_side(end, seen)) for seen in at}  # type: ignore[arg-type]
    tips = {seen: line(q, StreetLine(street, "lip", own_side(end, seen))).points(halves[seen][[last]]) for seen in at}  # type: ignore[arg-type]
    nearer = max(at, key=lambda k: at[k]) if end == "end" else min(at, key=lambda k: at[k])
    s = halves[nearer]
    low, high = sorted(at.values())
    s = s[(s >= low - 1e-6) & (s <= high + 1e-6)]
    s = s if at["right"] <= at["left"] else s[::-1]
    inside = {seen: inside_points(q, street, own_side(end, seen), at[seen]) for seen in at}  # type: ignore[arg-type]
    across = [tips["right"], inside["right"][::-1], crown.points(s), inside["left"]]
    border = np.concatenate([tips["left"], ring[1:-1], *across])
    begin, finish = at[nearer], chain.total if end == "end" else 0.0
    n = max(2, int(abs(finish - begin) / 2.0) + 1)
    path = np.linspace(halves[nearer][last], finish, n)
    middle = crown.points(path)
    centre = np.array([*made.centre, levels.centre])
    on_bulb = (u >= made.ends[0]) & (u <= made.ends[1])
    inner = [middle]
    if head_at(q, street, end).kind == "bulb":
        inner += _spread(border, middle, 0.5 * (ring[on_bulb][::3] + centre))
    else:
        inner += _along_arms(q, street, end, centre)
    if np.hypot(*(middle[-1, :2] - centre[:2])) > 1e-6:
        inner.append(np.stack([middle[-1], centre]))
    return Patch(head_name(q, street, end), "bulb", border, tuple(inner), (HeadLine(street, end), StreetLine(street)))


def _spread(border: Floats, middle: Floats, half: Floats) -> list[Floats]:
    """A ring half way out keeps the bulb a cone instead of a few long triangles; it stays clear of the crown line."""
    polygon = Polygon(border[:, :2])
    keep = shapely.contains_xy(polygon.buffer(-0.3), half[:, 0], half[:, 1])
    keep &= shapely.distance(shapely.points(half[:, :2]), shapely.linestrings(middle[:, :2])) > 0.5
    return [p[None] for p in half[keep]]


def _along_arms(q: Engine, street: str, end: End, centre: Floats) -> list[Floats]:
    """The middle of each arm, from the centre (3,) outwards, half way in level between its lips: it keeps the arm from being a few long triangles."""
    sizes, chain, made = head_sizes(q, street, end), approach(q, street, end), outline(q, street, end)
    lip, heading = line(q, HeadLine(street, end)), float(chain.at([chain.total]).headings[0])
    found = []
    for seen, long in zip(SIDES, (sizes.left_arm, sizes.right_arm)):
        turned = heading + side_sign(seen) * np.radians(sizes.arm_angle)
        out, square = tangents(turned), left_normals(turned)
        far = np.arange(0.5 * sizes.arm_width + _STEP, long - sizes.corner, _STEP)
        if not long or not len(far):
            continue
        along = made.centre + far[:, None] * out
        beside = [along + side * 0.5 * sizes.arm_width * square for side in (1.0, -1.0)]
        levels = [lip.rule.levels(made.ring.feet(p).chainages) for p in beside]
        points = np.column_stack([along, 0.5 * (levels[0] + levels[1])])
        found.append(np.concatenate([centre[None], points]))
    return found
