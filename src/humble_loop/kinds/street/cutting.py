"""Edits that make a street shorter, longer, or two of it. What stays lies where it lay, in plan and in level."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.bend_cut import CannotCut, cut_bends
from humble_loop.geometry.bends import BendInput
from humble_loop.kinds.street.levels import GradeLine, grade_line
from humble_loop.kinds.street.model import Bend, SectionChange, Street, Vip
from humble_loop.kinds.street.plan import bends_of, chain_of, frame_of, name_of
from humble_loop.lines.standing import kinds
from humble_loop.site import parts
from humble_loop.site.edits import Edit, EditError, changed, free_id, free_name, made, the
from humble_loop.site.model import End, Site

_NEAR = 1e-3  # metres from a VIP or a curve's end at which a cut is there
_LEAST = 0.5  # metres that are left of a street


@dataclass(frozen=True)
class _Part:
    """A stretch of a street as a street of its own: bends, VIPs, first section and changes of it."""

    bends: tuple[Bend, ...]
    vips: tuple[Vip, ...]
    section: str
    changes: tuple[SectionChange, ...]


def split(q: Engine, street: str, s: float) -> Edit:
    """The edit that makes two streets of one at a chainage. What hangs on it goes with the part where it stands.

    The part that was drawn first keeps its name. Levels are set as they stand, so that both parts lie where they lay.
    """

    def edit(site: Site) -> Site:
        old, total, turned = the(site, Street, street), chain_of(q, street).total, frame_of(q, street).turned
        first, second = _parts_of(q, street, s)
        kept, moved = (second, first) if turned else (first, second)
        name = free_name(site, Street, old.name)
        fresh = _as(changed(old, id=free_id(site, Street, name), name=name), moved)
        at = total - s if turned else s
        return _recut(q, site.put(_as(old, kept)).put(fresh), street, (0.0, at), fresh.id)

    return edit


def trimmed(q: Engine, street: str, end: End, s: float) -> Edit:
    """The edit that takes away what lies beyond chainage ``s`` towards an end."""

    def edit(site: Site) -> Site:
        old, total, turned = the(site, Street, street), chain_of(q, street).total, frame_of(q, street).turned
        first, second = _parts_of(q, street, s)
        if not old.vips:
            first, second = (_Part(p.bends, (), p.section, p.changes) for p in (first, second))
        run = (0.0, s) if end == "end" else (s, total)
        drawn = (total - run[1], total - run[0]) if turned else run
        return _recut(q, site.put(_as(old, first if end == "end" else second)), street, drawn, "")

    return edit


def extended(q: Engine, street: str, end: End, by: float) -> Edit:
    """The edit that lets a street run on straight at an end, ``by`` metres, at the grade that it has there."""

    def edit(site: Site) -> Site:
        old, chain, turned = the(site, Street, street), chain_of(q, street), frame_of(q, street).turned
        at = chain.at([0.0 if end == "start" else chain.total])
        way = by if end == "end" else -by
        heading = float(at.headings[0])
        place = at.points[0] + way * np.array([np.cos(heading), np.sin(heading)]) + parts.origin(q)
        k = 0 if end == "start" else len(old.bends) - 1
        bends = list(old.bends)
        bends[k] = changed(bends[k], easting=float(place[0]), northing=float(place[1]))
        line = q.attempt(grade_line, street)
        vips = _run_on(old.vips, None if isinstance(line, Unsolved) else line, end, by)
        changes = tuple(changed(c, chainage=c.chainage + (by if end == "start" else 0.0)) for c in old.changes)
        site = site.put(changed(old, bends=tuple(bends), vips=vips, changes=changes))
        from_start = (end == "start") != turned
        reach = (-by if from_start else 0.0, chain.total + (0.0 if from_start else by))
        return _recut(q, site, street, reach, "")

    return edit


def _recut(q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
    """What hangs on a street, moved with it: see ``Kind.recut``."""
    for kind in kinds():
        site = kind.recut(q, site, street, kept, rest)
    return site


def _as(street: Street, part: _Part) -> Street:
    return changed(
        street, bends=part.bends, vips=part.vips, section=part.section, changes=part.changes, proposed_between=False
    )


def _parts_of(q: Engine, street: str, s: float) -> tuple[_Part, _Part]:
    frame, name, total = frame_of(q, street), name_of(q, street), chain_of(q, street).total
    if not _LEAST <= s <= total - _LEAST:
        raise EditError(f"'{name}' cannot be cut at {s:.2f}: at least {_LEAST:g} m must be left on both sides")
    for c in frame.changes:
        if c.chainage < s < c.chainage + c.taper:
            raise EditError(
                f"'{name}' changes its section from {c.chainage:.2f} to {c.chainage + c.taper:.2f}: cut it before or after"
            )
    try:
        first, second = (tuple(_bend(q, b) for b in part) for part in cut_bends(bends_of(q, street), s))
    except CannotCut as error:
        raise EditError(f"'{name}': {error}") from None
    line = q.attempt(grade_line, street)
    levels = ((), ()) if isinstance(line, Unsolved) or frame.kind == "existing" else cut_line(line, s)
    before = tuple(c for c in frame.changes if c.chainage < s)
    after = tuple(changed(c, chainage=c.chainage - s) for c in frame.changes if c.chainage >= s)
    here = before[-1].section if before else frame.section
    return _Part(first, levels[0], frame.section, before), _Part(second, levels[1], here, after)


def _bend(q: Engine, b: BendInput) -> Bend:
    e, n = parts.origin(q)
    turns = {"turn_in": float(np.degrees(b.turn_in)), "turn_out": float(np.degrees(b.turn_out))}
    return made(Bend, **{**b._asdict(), **turns, "easting": b.easting + e, "northing": b.northing + n})


def cut_line(line: GradeLine, s: float) -> tuple[tuple[Vip, ...], tuple[Vip, ...]]:
    """The VIPs of a grade line up to a chainage, and from there on, measured from there; tied ends stay tied.

    A parabola that is cut is two: each has its VIP in its middle, on the tangent at its other end.
    """
    p, level = line.profile, float(line.profile.level([s])[0])
    before: list[Vip] = []
    after: list[Vip] = []
    for i, (c, x, state) in enumerate(zip(p.curves.tolist(), p.chainages.tolist(), line.states)):
        begin, finish, vip = x - 0.5 * c, x + 0.5 * c, line.as_it_stands(i)
        if c > 0 and begin + _NEAR < s < finish - _NEAR:
            half = 0.5 * (s - begin), 0.5 * (finish - s)
            into, out = (float(p.grade([at], side)[0]) for at, side in ((begin, "before"), (finish, "after")))
            first = float(p.level([begin])[0]) + into * half[0]
            second = float(p.level([finish])[0]) - out * half[1]
            before.append(Vip(chainage=s - half[0], level=first, curve_length=2.0 * half[0]))
            after.append(Vip(chainage=half[1], level=second, curve_length=2.0 * half[1]))
        elif state != "tied" and x < s - _NEAR:
            before.append(vip)
        elif state != "tied" and x > s + _NEAR:
            after.append(vip.model_copy(update={"chainage": x - s}))
    if not np.isfinite(level):
        return tuple(before), tuple(after)
    return (*before, Vip(chainage=s, level=level)), (Vip(chainage=0.0, level=level), *after)


def _run_on(vips: tuple[Vip, ...], line: GradeLine | None, end: End, by: float) -> tuple[Vip, ...]:
    """Set VIPs of a line that is longer by metres at an end: its last leg runs on, where nothing holds it."""
    shift = by if end == "start" else 0.0
    moved = [v.model_copy(update={"chainage": v.chainage + shift}) for v in vips]
    k = 0 if end == "start" else -1
    if not vips or line is None or line.states[k] == "tied":
        return tuple(moved)
    way, grade = (-by, line.profile.grades[0]) if end == "start" else (by, line.profile.grades[-1])
    at = float(line.profile.chainages[k]) + shift + way
    last = Vip(chainage=at, level=float(line.profile.levels[k] + grade * way))
    if not moved[k].locked:
        del moved[k]  # it lies on the leg, which runs on
    return (last, *moved) if end == "start" else (*moved, last)
