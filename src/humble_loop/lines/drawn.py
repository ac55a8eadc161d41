"""Lines as strokes. Lines on one base are drawn together: what is worked out of that serves them all."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

import numpy as np

from humble_loop.engine.query import Engine
from humble_loop.geometry.arrays import Floats, left_normals
from humble_loop.lines.describe import Drawing, Stroke, joined_up
from humble_loop.lines.line import LineId, LinePlan, line_plan


def drawn_in(q: Engine, lines: Iterable[tuple[str | None, LineId]], sag: float) -> dict[str, list[Floats]]:
    """Points (n, 2) of each unbroken run of some lines, with chords within ``sag`` (m) of them, by the role that each is drawn in.

    Lines without a role, and those that cannot be worked out, are left out.
    """
    plans = ((role, q.attempt(line_plan, id)) for role, id in lines if role is not None)
    return drawn_as(((role, plan) for role, plan in plans if isinstance(plan, LinePlan)), sag)


def drawn_as(plans: Iterable[tuple[str, LinePlan]], sag: float) -> dict[str, list[Floats]]:
    """The same of lines whose plans are at hand."""
    by_base: dict[
        int, list[tuple[str, LinePlan]]
    ] = {}  # a chain is never changed, so that the same object is the same line
    found: dict[str, list[Floats]] = {}
    for role, plan in plans:
        by_base.setdefault(id(plan.base), []).append((role, plan))
        found.setdefault(role, [])
    for beside in by_base.values():
        for (role, _), runs in zip(beside, runs_beside([p for _, p in beside], sag)):
            found[role] += runs
    return found


def runs_beside(plans: Sequence[LinePlan], sag: float) -> list[list[Floats]]:
    """Of each of some lines on one base the points (n, 2) of its unbroken runs, with chords within ``sag`` of it."""
    base, reach = plans[0].base, max(float(np.abs(p.offset.values).max()) for p in plans)
    ends = [_ends(p) for p in plans]
    s = np.unique(np.concatenate([base.sampled(sag=sag, reach=reach), *(p.offset.at for p in plans), *ends]))
    frames = base.at(s)
    normals = left_normals(frames.headings)
    found = []
    for p, own in zip(plans, ends):
        points = frames.points + normals * p.offset(s)[:, None]
        first, last = s.searchsorted(own[::2]).tolist(), s.searchsorted(own[1::2], "right").tolist()
        found.append([points[i:j] for i, j in zip(first, last) if j - i > 1])
    return found


def _ends(plan: LinePlan) -> list[float]:
    """Where its runs begin and end, in turn."""
    return [plan.start, *(v for gap in plan.gaps for v in gap), plan.end]


def strokes(by_role: Mapping[str, list[Floats]]) -> Drawing:
    """Lines by the role that they are drawn in, as a drawing."""
    return Drawing(tuple(Stroke(role, joined_up(runs)) for role, runs in by_role.items()))
