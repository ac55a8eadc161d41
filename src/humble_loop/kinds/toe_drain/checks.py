"""Rules of drains: that they fall, that no water stands in them, and that those that were wanted have room."""

from __future__ import annotations

from functools import partial

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.street import section_edits
from humble_loop.kinds.street.plan import chain_of, frame_of, name_of
from humble_loop.kinds.street.side import drawn_side, section_at
from humble_loop.kinds.toe_drain.model import DrainChoice, by_the_ground
from humble_loop.kinds.toe_drain.place import (
    Stretch,
    drain_id,
    has_drain,
    invert_of,
    own_profile,
    stretches,
    wet_on,
    width_of,
)
from humble_loop.kinds.toe_drain.roadside import beside, boundary_of, goes_on_as, meets, owner, where
from humble_loop.kinds.toe_drain.runs import Run, invert_of_stretch, runs
from humble_loop.lines.findings import Finding, Mend, failed, point, share, too_low
from humble_loop.lines.line import LineId, line, line_plan
from humble_loop.site import parts
from humble_loop.site.model import SIDES, Side

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
            place = _told(run.stretch, run.flattest)
            words = f"{place} its invert falls by {share(run.least_fall)}, less than {share(run.stretch.least_fall)}"
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
                    beside(q, run.stretch.boundary).chainage(run.flattest),
                    _place(q, run.stretch, run.flattest),
                    "near",
                    _allow(q, street, side, run),
                )
            )
    return (*found, *_without_room(q, street, side), *_too_tight(q, street, side))


def _allow(q: Engine, street: str, side: Side, run: Run) -> Mend | None:
    section = section_at(q, street, beside(q, run.stretch.boundary).chainage(run.flattest))[0].id
    fall = int(run.least_fall * 10_000) / 10_000
    edit = partial(section_edits.change_toe_drain, section=section, side=drawn_side(q, street, side), least_fall=fall)
    return Mend(f"Allow {share(fall)} in it", edit)


def _shallow(q: Engine, street: str, side: Side, run: Run) -> list[Finding]:
    """Where a grade line of its own leaves a drain less than half the depth of its shape."""
    if own_profile(q, run.stretch) is None:
        return []
    shape = parts.kerb_shape(q, run.stretch.shape)
    begin, finish = run.stretch.full
    s = np.linspace(begin, finish, max(2, int(np.ceil(finish - begin)) + 1))
    edge, invert = (line(q, id).rule.levels(s) for id in (run.stretch.boundary, invert_of_stretch(q, run.stretch)))
    depth, least = edge - invert, -0.5 * invert_of(shape)
    k = int(np.argmin(depth))
    if not too_low(float(depth[k]), least):
        return []
    of, name = drain_id(street, side), f"{name_of(q, street)} {side} drain"
    words = (
        f"at {s[k]:.2f} its own grade line leaves it {1000 * depth[k]:.0f} mm of depth, less than half of {shape.name}"
    )
    remedy = "lower its invert there, or let it follow the street's levels"
    at = _place(q, run.stretch, float(s[k]))
    return [Finding("drain too shallow", of, name, words, remedy, float(depth[k]), least, float(s[k]), at, "near")]


def _holding(q: Engine, street: str, side: Side, run: Run) -> list[Finding]:
    of, name = drain_id(street, side), f"{name_of(q, street)} {side} drain"
    full, found = -invert_of(parts.kerb_shape(q, run.stretch.shape)), []
    for s, depth in run.ponds:
        place = _told(run.stretch, s)
        deep = f"stands {1000 * depth:.0f} mm deep in it" if depth < full else "fills it and runs over onto the road"
        words = f"water {deep} {place}: its invert rises to both sides from there"
        remedy = "put a pit there, or change the street's grade"
        at, chainage = _place(q, run.stretch, s), beside(q, run.stretch.boundary).chainage(s)
        found.append(Finding("drain holds water", of, name, words, remedy, depth, 0.0, chainage, at, "near"))
    return found


def _without_room(q: Engine, street: str, side: Side) -> list[Finding]:
    """Stretches that were wanted and stand nowhere."""
    of, name, total = drain_id(street, side), f"{name_of(q, street)} {side} drain", chain_of(q, street).total
    turned, drawn = frame_of(q, street).turned, drawn_side(q, street, side)
    own = _told_on(q, street, side)
    found = []
    for c in parts.owned(q, DrainChoice, street):
        if c.side != drawn or not c.stands:
            continue
        a, b = (total - c.finish, total - c.begin) if turned else (c.begin, c.finish)
        stands = sum(max(0.0, min(b, high) - max(a, low)) for low, high in own)
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
                    point(line_plan(q, boundary_of(q, street, side)).points([s])[0]),
                    "near",
                    mend,
                )
            )
    return found


def _too_tight(q: Engine, street: str, side: Side) -> list[Finding]:
    """Bends that are too tight for a drain which the ground wants: as long as one must be, or where one ends that comes there."""
    found = []
    for wet in (w for w in wet_on(q, street, side) if w.room.tight):
        arrives = any(_arrives(q, wet.boundary, s) for s in (wet.begin, wet.finish))
        length = wet.finish - wet.begin
        if not arrives and length < wet.room.drain.least_length:
            continue
        of, name, middle = drain_id(street, side), f"{name_of(q, street)} {side} drain", 0.5 * (wet.begin + wet.finish)
        shape = parts.kerb_shape(q, wet.room.drain.shape)
        place = where(wet.boundary) or f"from {wet.begin:.2f} to {wet.finish:.2f}"
        words = (
            f"{place} the ground stands above its invert, and inside the bend is no room for the "
            f"{width_of(shape):.2f} m of {shape.name}: water comes down onto the road there"
        )
        remedy = "enlarge the radius of the bend or of the return, choose a narrower drain, or put a pit where it ends"
        chainage, at = wet.room.beside.chainage(middle), point(line_plan(q, wet.boundary).points([middle])[0])
        found.append(Finding("no room for a drain", of, name, words, remedy, 0.0, length, chainage, at, "near"))
    return found


def _arrives(q: Engine, boundary: LineId, s: float) -> bool:
    """Whether a drain ends at a place on a boundary, or on another where this one goes on as that."""
    places = [(boundary, s), *((other, there) for at, other, there in goes_on_as(q, boundary) if meets(at, s))]
    return any(
        d.boundary == b and (meets(d.begin, v) or meets(d.finish, v))
        for b, v in places
        for d in stretches(q, *owner(q, b))
    )


def _told_on(q: Engine, street: str, side: Side) -> list[tuple[float, float]]:
    """From which chainage to which of a side its drains stand, those round its corners and head among them."""
    found = []
    for each in SIDES:
        made = q.attempt(stretches, street, each) if has_drain(q, street, each) else ()
        for d in () if isinstance(made, Unsolved) else made:
            found += [span for s, span in beside(q, d.boundary).chosen_by(d.begin, d.finish) if s == side]
    return found


def _told(stretch: Stretch, place: float) -> str:
    """Where a place in a drain is, in words: the chainage of its street, or that it lies round a corner or the head."""
    return where(stretch.boundary) or f"at {place:.2f}"


def _place(q: Engine, stretch: Stretch, place: float) -> tuple[float, float]:
    return point(line_plan(q, stretch.boundary).points([place])[0])
