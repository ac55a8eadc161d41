"""Set-out points along any line: exactly on it in plan and level, and told so that one can find them again."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine
from humble_loop.geometry.arrays import Floats, left_normals, unique_chainages
from humble_loop.geometry.chain import ARC, Chain
from humble_loop.lines.describe import SetOutPoint
from humble_loop.lines.line import LineId, line
from humble_loop.site import parts

_LEADS = 1e-6  # metres within which chainage and offset must lead back to the point


def along_line(
    q: Engine,
    id: LineId,
    title: str,
    keys: Floats,
    outwards: float,
    base: Chain | None,
    base_name: str,
    without: tuple[tuple[float, float], ...] = (),
) -> list[SetOutPoint]:
    """Points of a line at intervals, at ``keys`` and its ends, but not inside stretches ``without`` it.

    ``outwards`` (+1 left of the line, -1 right) is the way a parallel line is taken. Chainages and offsets are
    given from ``base`` wherever they lead back to the point, else along the line itself.
    """
    choice, made = parts.set_out(q), line(q, id)
    plan = made.plan
    found: list[SetOutPoint] = []
    ends = [plan.start, *(v for gap in (*plan.gaps, *without) for v in gap), plan.end]
    for low, high in zip(ends[::2], ends[1::2]):
        if high <= low:
            continue
        marks = unique_chainages([low, high], keys, low=low, high=high)
        regular = np.arange(np.ceil(low / choice.interval) * choice.interval, high, choice.interval)
        s = unique_chainages(marks, regular, low=low, high=high, gap=0.01)
        found += told(q, id, title, s, [_mark(v, marks) for v in s], outwards, base, base_name)
    return found


def divided(
    q: Engine, id: LineId, title: str, outwards: float, base: Chain | None, base_name: str, first: bool = True
) -> list[SetOutPoint]:
    """Points of a line made of arcs: each element divided into equal parts, as closely as the set-out asks.

    Without ``first`` the line's first point is left out, since the line before ends there.
    """
    choice, plan = parts.set_out(q), line(q, id).plan
    found: list[SetOutPoint] = []
    for j, element in enumerate(plan.base.elements):
        radius = 1.0 / abs(element.k0) if element.kind == ARC else np.inf
        n = (
            choice.divisions(element.length, radius)
            if np.isfinite(radius)
            else max(1, int(np.ceil(element.length / choice.interval)))
        )
        s = np.linspace(plan.base.starts[j], plan.base.starts[j + 1], n + 1)
        marks = ["tangent point", *["division"] * (n - 1), "tangent point"]
        if j or not first:
            s, marks = s[1:], marks[1:]
        found += told(q, id, title, s, marks, outwards, base, base_name)
    return found


def _mark(s: float, keys: Floats) -> str:
    return "tangent point" if float(np.min(np.abs(keys - s))) < 1e-6 else "interval"


def told(
    q: Engine,
    id: LineId,
    title: str,
    s: Floats,
    marks: list[str],
    outwards: float,
    base: Chain | None,
    base_name: str,
) -> list[SetOutPoint]:
    """Points at chainages ``s`` of a line, with the parallel line's offset and height."""
    choice, made = parts.set_out(q), line(q, id)
    xyz = made.points(s)
    xy = xyz[:, :2] + left_normals(made.plan.base.at(s).headings) * outwards * choice.offset
    z = xyz[:, 2] + choice.height
    named = _leading(base, base_name, xy) if base is not None else None
    if named is None:
        feet = made.plan.base.feet(xy)
        named = [(title, float(a), float(o)) for a, o in zip(feet.chainages, feet.offsets)]
    return [
        SetOutPoint(float(p[0]), float(p[1]), float(v), name, along, offset, title, mark)
        for p, v, (name, along, offset), mark in zip(xy, z, named, marks, strict=True)
        if np.isfinite(v)
    ]


def _leading(base: Chain, name: str, xy: Floats) -> list[tuple[str, float, float]] | None:
    """Chainages and offsets from ``base``, if they lead back to every one of the points."""
    feet = base.feet(xy)
    back = base.points_at(feet.chainages, feet.offsets)
    if np.max(np.hypot(*(back - xy).T), initial=0.0) > _LEADS:
        return None
    return [(name, float(a), float(o)) for a, o in zip(feet.chainages, feet.offsets)]
