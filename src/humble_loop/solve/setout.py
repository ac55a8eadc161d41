"""Set-out: numbered points for the surveyor along lips, returns and bulbs, or on a parallel line."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.geometry.arrays import Floats, unique_chainages
from humble_loop.site.model import End, Side
from humble_loop.solve import parts
from humble_loop.solve.engine import Engine, Unsolved, query
from humble_loop.solve.head import head_levels, head_of, head_outline, require_head, ring_normals
from humble_loop.solve.junction import (
    ENDS,
    SIDES,
    Joint,
    corner_name,
    joint,
    kerb_return,
    return_levels,
)
from humble_loop.solve.section import gaps, half_road, is_new, strip_range
from humble_loop.solve.street import chain_of, side_sign


@dataclass(frozen=True)
class SetOutPoint:
    """A set-out point: where it is, its chainage and offset (left positive) from ``street``, and what it marks."""

    easting: float
    northing: float
    level: float
    street: str
    chainage: float
    offset: float
    thing: str
    mark: str


@query
def street_set_out(q: Engine, street: str) -> tuple[SetOutPoint, ...]:
    """Set-out points of a new street: its lips, returns and bulb, in that order."""
    if not is_new(q, street):
        return ()
    found: list[SetOutPoint] = []
    for side in SIDES:
        found += _along_lip(q, street, side)
    for end in ENDS:
        if isinstance(q.attempt(joint, street, end), Joint):
            for corner in SIDES:
                levels = q.attempt(return_levels, street, end, corner)
                if not isinstance(levels, Unsolved):
                    found += _round_return(q, street, end, corner)
    if head_of(q, street) is not None and not isinstance(q.attempt(head_levels, street), Unsolved):
        found += _round_bulb(q, street)
    return tuple(found)


def _points(
    q: Engine, street: str, xy: Floats, out: Floats, z: Floats, thing: str, marks: list[str]
) -> list[SetOutPoint]:
    choice = parts.set_out(q)
    at = xy + out * choice.offset
    feet = chain_of(q, street).feet(at)
    return [
        SetOutPoint(float(p[0]), float(p[1]), float(v + choice.height), street, float(s), float(d), thing, m)
        for p, v, s, d, m in zip(at, z, feet.chainages, feet.offsets, marks)
    ]


def _along_lip(q: Engine, street: str, side: Side) -> list[SetOutPoint]:
    half = q.attempt(half_road, street, side)
    if isinstance(half, Unsolved) or len(half.chainages) < 2:
        return []
    low, high = strip_range(q, street, side)
    low, high = max(low, float(half.chainages[0])), min(high, float(half.chainages[-1]))
    chain, interval = chain_of(q, street), parts.set_out(q).interval
    holes = gaps(q, street, side)
    keys = unique_chainages([low, high], np.ravel(holes), chain.key_chainages(), low=low, high=high)
    regular = np.arange(np.ceil(low / interval) * interval, high, interval)
    s = unique_chainages(keys, regular, low=low, high=high, gap=0.01)
    for a, b in holes:
        s = s[(s <= a + 1e-6) | (s >= b - 1e-6)]
    level = np.interp(s, half.chainages, half.lip[:, 2])
    sign = side_sign(side)
    width = sign * np.hypot(*(half.lip[0, :2] - half.crown[0, :2]))
    exact = chain.points_at(s, width)
    normals = (exact - chain.points_at(s)) / abs(width)
    marks = ["tangent point" if np.min(np.abs(keys - v)) < 1e-6 else "interval" for v in s]
    return _points(q, street, exact, normals, level, f"{parts.street_name(q, street)} {side} lip", marks)


def _round_return(q: Engine, street: str, end: End, corner: Side) -> list[SetOutPoint]:
    made, cubic = kerb_return(q, street, end, corner), return_levels(q, street, end, corner).cubic
    n = getattr(parts.junction_choice(q, street, end), corner).divisions
    s = np.linspace(0.0, made.arc.length, n + 1)
    xy = made.arc.chain.points_at(s)
    out = (made.arc.centre - xy) / made.arc.radius
    marks = ["tangent point", *["division"] * (n - 1), "tangent point"]
    return _points(q, street, xy, out, cubic.level(s), f"{corner_name(q, street, end, corner)} return", marks)


def _round_bulb(q: Engine, street: str) -> list[SetOutPoint]:
    outline, levels, n = head_outline(q, street), head_levels(q, street), require_head(q, street).divisions
    found: list[SetOutPoint] = []
    for k, (part, count) in enumerate((("left return", 4), ("bulb", n), ("right return", 4))):
        u = np.linspace(outline.ring.starts[k], outline.ring.starts[k + 1], count + 1)
        marks = ["tangent point", *["division"] * (count - 1), "tangent point"]
        if k:
            u, marks = u[1:], marks[1:]
        xy = outline.ring.points_at(u)
        thing = (
            f"{parts.street_name(q, street)} {part}"
            if part == "bulb"
            else f"{parts.street_name(q, street)} bulb {part}"
        )
        found += _points(q, street, xy, ring_normals(outline, u), levels.profile.level(u), thing, marks)
    return found


def set_out_points(q: Engine) -> list[tuple[int, SetOutPoint]]:
    """Every set-out point of the site with its running number."""
    points = [p for s in parts.street_ids(q) for p in _or_none(q, s)]
    return list(enumerate(points, start=parts.set_out(q).first_number))


def _or_none(q: Engine, street: str) -> tuple[SetOutPoint, ...]:
    made = q.attempt(street_set_out, street)
    return () if isinstance(made, Unsolved) else made
