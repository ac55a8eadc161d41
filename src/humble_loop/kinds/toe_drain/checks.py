"""Rules of drains: that they fall, that no water stands in them, and that those that were wanted have room."""

from __future__ import annotations

from functools import partial

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.street import section_edits
from humble_loop.kinds.street.plan import chain_of, frame_of, name_of
from humble_loop.kinds.street.side import drawn_side, section_at
from humble_loop.kinds.toe_drain.model import DrainChoice, by_the_ground
from humble_loop.kinds.toe_drain.place import boundary_of, drain_id, invert_of, own_profile, stretches
from humble_loop.kinds.toe_drain.runs import Run, invert_line, runs
from humble_loop.lines.findings import Finding, Mend, failed, point, share, too_low
from humble_loop.lines.line import line, line_plan
from humble_loop.site import parts
from humble_loop.site.model import Side

RULES = ("drain holds water", "drain falls too little", "drain too shallow", "no room for a drain")
_COVERED = 0.5  # metres of a stretch that was wanted which may be missing at its ends


def drain_findings(q: Engine, street: str, side: Side) -> tuple[Finding, ...]:
    """Findings on the drains of a side."""
    made = q.attempt(runs, street, side)
    of, name = drain_id(street, side), f"{name_of(q, street)} {side} drain"
    if isinstance(made, Unsolved):
        return (failed(made, of),)
    found: list[Finding] = []
    for run in made:
        found += _holding(q, street, side, run) + _shallow(q, street, side, run)
        if not run.ponds and too_low(run.least_fall, run.stretch.least_fall):
            words = f"at {run.flattest:.2f} its invert falls by {share(run.least_fall)}, less than {share(run.stretch.least_fall)}"
            remedy = "change the street's grade there, or allow less fall in the drain"
            found.append(
                Finding(
                    "drain falls too little",
                    of,
                    name,
                    words,
                    remedy,
                    run.least_fall,
                    run.stretch.least_fall,
                    run.flattest,
                    _place(q, street, side, run.flattest),
                    "near",
                    _allow(q, street, side, run),
                )
            )
    return (*found, *_without_room(q, street, side))


def _allow(q: Engine, street: str, side: Side, run: Run) -> Mend | None:
    section = section_at(q, street, run.flattest)[0].id
    fall = int(run.least_fall * 10_000) / 10_000
    edit = partial(section_edits.change_toe_drain, section=section, side=drawn_side(q, street, side), least_fall=fall)
    return Mend(f"Allow {share(fall)} in it", edit)


def _shallow(q: Engine, street: str, side: Side, run: Run) -> list[Finding]:
    """Where a grade line of its own leaves a drain less than half the depth of its shape."""
    if own_profile(q, street, side, run.stretch) is None:
        return []
    shape = parts.kerb_shape(q, run.stretch.shape)
    begin, finish = run.stretch.full
    s = np.linspace(begin, finish, max(2, int(np.ceil(finish - begin)) + 1))
    edge, invert = (
        line(q, id).rule.levels(s) for id in (boundary_of(q, street, side), invert_line(q, street, side, shape.id))
    )
    depth, least = edge - invert, -0.5 * invert_of(shape)
    k = int(np.argmin(depth))
    if not too_low(float(depth[k]), least):
        return []
    of, name = drain_id(street, side), f"{name_of(q, street)} {side} drain"
    words = (
        f"at {s[k]:.2f} its own grade line leaves it {1000 * depth[k]:.0f} mm of depth, less than half of {shape.name}"
    )
    remedy = "lower its invert there, or let it follow the street's levels"
    at = _place(q, street, side, float(s[k]))
    return [Finding("drain too shallow", of, name, words, remedy, float(depth[k]), least, float(s[k]), at, "near")]


def _holding(q: Engine, street: str, side: Side, run: Run) -> list[Finding]:
    of, name = drain_id(street, side), f"{name_of(q, street)} {side} drain"
    found = []
    for s, depth in run.ponds:
        words = f"water stands {1000 * depth:.0f} mm deep in it at {s:.2f}: its invert rises to both sides from there"
        remedy = "put a pit there, or change the street's grade"
        at = _place(q, street, side, s)
        found.append(Finding("drain holds water", of, name, words, remedy, depth, 0.0, s, at, "near"))
    return found


def _without_room(q: Engine, street: str, side: Side) -> list[Finding]:
    """Stretches that were wanted and stand nowhere."""
    of, name, total = drain_id(street, side), f"{name_of(q, street)} {side} drain", chain_of(q, street).total
    own, turned, drawn = stretches(q, street, side), frame_of(q, street).turned, drawn_side(q, street, side)
    found = []
    for c in parts.owned(q, DrainChoice, street):
        if c.side != drawn or not c.stands:
            continue
        a, b = (total - c.finish, total - c.begin) if turned else (c.begin, c.finish)
        stands = sum(max(0.0, min(b, d.finish) - max(a, d.begin)) for d in own)
        if stands < b - a - _COVERED:
            words = f"one is wanted from {a:.2f} to {b:.2f}, and stands on {stands:.2f} m of that"
            remedy = (
                "the rest lies at a junction, a head or lots, inside a tight bend, or the section has no drain there"
            )
            mend = Mend(
                "Leave it to the ground",
                partial(by_the_ground, street=street, side=c.side, begin=c.begin, finish=c.finish),
            )
            s = min(max(0.5 * (a + b), 0.0), total)
            found.append(
                Finding(
                    "no room for a drain",
                    of,
                    name,
                    words,
                    remedy,
                    stands,
                    b - a,
                    s,
                    _place(q, street, side, s),
                    "near",
                    mend,
                )
            )
    return found


def _place(q: Engine, street: str, side: Side, s: float) -> tuple[float, float]:
    return point(line_plan(q, boundary_of(q, street, side)).points([s])[0])
