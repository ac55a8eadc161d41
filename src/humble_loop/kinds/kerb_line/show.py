"""A kerb line's values in facts and rows, and its handles in its long section."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.kerb_line.beginning import own_levels
from humble_loop.kinds.kerb_line.levels import (
    ROLE,
    KerbLevels,
    as_it_runs,
    governing,
    kerb_lines_on,
    levels_of,
    plan_of,
    point_of,
    rule_of,
    title_of,
)
from humble_loop.kinds.kerb_line.model import (
    BESIDE,
    POINTS,
    KerbLine,
    KerbVip,
    add_kerb_vip,
    remove_kerb_vip,
    set_kerb_line,
    set_kerb_vip,
)
from humble_loop.kinds.kerb_line.windows import window_of
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, is_new
from humble_loop.lines.anchor import FOLLOWING, following_facts
from humble_loop.lines.describe import (
    Actions,
    Drawing,
    Fact,
    Handle,
    Place,
    Row,
    Sheet,
    SheetRow,
    Stroke,
    Told,
    Typed,
    joined_up,
)
from humble_loop.lines.line import LineId, line
from humble_loop.lines.quantity import percent
from humble_loop.site import parts
from humble_loop.site.edits import Edit, made, the
from humble_loop.site.model import SIDES, Anchor, Site

_COLUMNS = ("VIP", "chainage", "level", "curve length", "grade", "crossfall")
_SAG = 0.05  # metres between what is lit up and the line


def _along(q: Engine, id: str, value: float) -> float:
    """A chainage of the street as it runs, as it was drawn."""
    street = as_it_runs(q, id).street
    return chain_of(q, street).total - value if frame_of(q, street).turned else value


def facts_of(q: Engine, id: str) -> tuple[Row, ...]:
    """Where it begins and ends, its tapers, and leaving it."""
    k = as_it_runs(q, id)
    turned = frame_of(q, k.street).turned
    first, last = ("taper_out", "taper_in") if turned else ("taper_in", "taper_out")

    def to(key: str) -> Callable[[Any], Edit]:
        return lambda value: lambda s: set_kerb_line(s, id, **{key: value})

    n = len(k.vips)
    return (
        Fact("from", "chainage", k.begin, "set", _vip_to(q, id, 0, "chainage")),
        Fact("to", "chainage", k.finish, "set", _vip_to(q, id, n - 1, "chainage")),
        Fact("taper at its start", "length", k.taper_in, "set", to(first)),
        Fact("taper at its end", "length", k.taper_out, "set", to(last)),
        Fact("VIPs", "count", n),
        Fact("proposals keep within", "length", parts.one(q, KerbLine, id).within, "set", to("within")),
        Actions(
            ((f"Back to the {'crossfall' if k.point == 'lip' else 'section'}", lambda s: s.without(KerbLine, id)),)
        ),
    )


def facts_about_street(q: Engine, street: str) -> tuple[Row, ...]:
    """Giving a street's lips and boundaries their own levels."""
    if not is_new(q, street):
        return ()
    found: list[tuple[str, Edit]] = []
    for point in POINTS:
        for side in SIDES:
            edit = own_levels(q, street, side, point)
            if edit is not None:
                words = "More own levels" if kerb_lines_on(q, street, side, point) else "Own levels"
                found.append((f"{words} for the {side} {point}", edit))
    return (Actions(tuple(found)),) if found else ()


def _vip_to(q: Engine, id: str, i: int, key: str) -> Callable[[float], Edit]:
    """An edit of VIP ``i``, told as the street runs."""
    index = as_it_runs(q, id).index[i]
    if key != "chainage":
        return lambda value: lambda s: set_kerb_vip(s, id, index, **{key: value})
    return lambda value: lambda s: set_kerb_vip(s, id, index, chainage=_along(q, id, value))


def sheet_of(q: Engine, id: str) -> Sheet:
    """The VIPs of a kerb line, with the crossfall from the crown there."""
    k, rule = as_it_runs(q, id), rule_of(q, levels_of(q, id))
    p, plan = rule.profile, plan_of(q, levels_of(q, id))
    crown = q.attempt(line, StreetLine(k.street))
    rows, any_follows = [], any(v.follows for v in k.vips)
    for i, v in enumerate(k.vips):
        inner = 0 < i < len(k.vips) - 1
        fall = None
        if not isinstance(crown, Unsolved) and k.point == "lip":
            rise = float(p.level([v.chainage])[0] - crown.rule.levels([v.chainage])[0])
            width = abs(plan.offset.one(v.chainage))
            fall = Fact("crossfall", "grade", rise / width) if width > 0 and np.isfinite(rise) else None
        cells: tuple[Fact | None, ...] = (
            Fact("VIP", "count", i + 1),
            Fact("chainage", "chainage", v.chainage, "set", _vip_to(q, id, i, "chainage")),
            Fact("level", "level", float(p.levels[i]), "locked" if v.locked else "set", _vip_to(q, id, i, "level")),
            Fact("curve length", "length", v.curve_length, "set", _vip_to(q, id, i, "curve_length")) if inner else None,
            Fact("grade", "grade", float(p.grades[i])) if i < len(p.grades) else None,
            fall,
        )
        ends = max(v.chainage - 2.0, plan.start), min(v.chainage + 2.0, plan.end)
        lit = plan.points(np.linspace(*ends, 5)) if ends[1] > ends[0] else np.empty((0, 2))
        index = k.index[i]
        actions: tuple[tuple[str, Edit], ...] = ()
        if i < len(p.grades):
            s = 0.5 * float(p.chainages[i] + p.chainages[i + 1])
            actions = (("Add a VIP after it", _adding(q, id, s, float(p.level([s])[0]))),)
        z = float(p.levels[i])
        if v.follows is None:
            words = "Unlock" if v.locked else "Lock"
            actions = (*actions, (words, lambda s, index=index, on=not v.locked: set_kerb_vip(s, id, index, locked=on)))  # type: ignore[misc]
        else:
            to = partial(_following, id, index, round(z, 6))
            actions = (*actions, ("Set its level free", to(None)))
            cells = (*cells, *following_facts(q, v.follows, to))
        actions = (*actions, ("Remove", lambda s, index=index: remove_kerb_vip(s, id, index)))  # type: ignore[misc]
        rows.append(SheetRow(cells, (v.chainage, v.chainage), lit, held=("kerb vip", id, i), actions=actions))
    follows = (
        "the path follows, and the verge takes the rest" if k.point == "boundary" else "what lies outside of it follows"
    )
    note = f"{title_of(q, id)}: the {k.point} has these levels; {follows}"
    columns = (*_COLUMNS, *FOLLOWING) if any_follows else _COLUMNS
    return Sheet("Own levels", levels_of(q, id), columns, tuple(rows), note)


def _following(id: str, index: int, level: float, anchor: Anchor | None) -> Edit:
    """The edit that lets a VIP follow, or sets it free where it lies; it stays locked."""
    return lambda s: set_kerb_vip(s, id, index, follows=anchor, locked=True, level=level)


def let_follow(q: Engine, line: LineId, s: float, anchor: Anchor, level: float) -> Edit | None:
    """The edit that lets own levels follow another line at a chainage, by the VIP there or a new one; None where there are none."""
    id = line.id if isinstance(line, KerbLevels) else None
    if isinstance(line, StreetLine) and line.side is not None and (point := point_of(q, line)) is not None:
        held = [
            k
            for k in governing(q, line.street, line.side, point)
            if as_it_runs(q, k).begin <= s <= as_it_runs(q, k).finish
        ]
        id = held[0] if held else None
    if id is None:
        return None
    k, kerb = as_it_runs(q, id), id
    beside = [i for i, v in zip(k.index, k.vips) if abs(v.chainage - s) <= BESIDE]
    if beside:
        return _following(kerb, beside[0], round(level, 6), anchor)
    fresh = made(KerbVip, chainage=round(_along(q, id, s), 2), level=round(level, 6), locked=True, follows=anchor)

    def edit(site: Site) -> Site:
        vips = (*the(site, KerbLine, kerb).vips, fresh)
        return set_kerb_line(site, kerb, vips=tuple(sorted(vips, key=lambda v: v.chainage)))

    return edit


def _adding(q: Engine, id: str, s: float, level: float) -> Edit:
    at = round(_along(q, id, s), 2)
    return lambda site: add_kerb_vip(site, id, at, round(level, 3))


def offers_at(q: Engine, id: str, place: Place) -> tuple[tuple[str, Edit], ...]:
    """A VIP at a place of its long section."""
    k = as_it_runs(q, id)
    if not k.begin < place[0] < k.finish:
        return ()
    return ((f"Add a VIP at {place[0]:.2f}", _adding(q, id, *place)),)


def drawing_of(q: Engine, id: str) -> Drawing:
    """The stretch in plan."""
    plan = plan_of(q, levels_of(q, id))
    runs = [plan.points(s) for s in plan.runs(_SAG)]
    return Drawing((Stroke(ROLE, joined_up(runs)),))


def handles_of(q: Engine, id: str) -> tuple[Handle, ...]:
    """Its VIPs in its long section."""
    return tuple(_vip(q, id, i) for i in range(len(as_it_runs(q, id).vips)))


def _vip(q: Engine, id: str, i: int) -> Handle:
    k = as_it_runs(q, id)
    v, index = k.vips[i], k.index[i]
    level = float(rule_of(q, levels_of(q, id)).profile.levels[i])

    def to(place: Place) -> Edit:
        s, z = round(_along(q, id, place[0]), 2), round(place[1], 3)
        return lambda site: set_kerb_vip(site, id, index, chainage=s, level=z)

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        told = (
            Told("at", "chainage", round(place[0], 2)),
            Told("level", "level", round(place[1], 3), level),
        )
        return to(place), told

    def rule(q: Engine) -> str:
        grades = rule_of(q, levels_of(q, id)).profile.grades
        before = percent(float(grades[i - 1])) if 0 < i <= len(grades) else "–"
        after = percent(float(grades[i])) if i < len(grades) else "–"
        window = window_of(q, id)
        now = as_it_runs(q, id).vips
        room = window.at(now[min(i, len(now) - 1)].chainage) if window is not None else None
        keeps = "the crossfall" if as_it_runs(q, id).point == "lip" else "the verge's fall"
        words = f"; {room[0]:.3f} to {room[1]:.3f} keeps {keeps}" if room else ""
        return f"{before} in, {after} out{words}"

    typed = (Typed("level", "a level", lambda z: lambda s: set_kerb_vip(s, id, index, level=z)),)
    title = f"{title_of(q, id)} VIP {i + 1}"
    return Handle(("kerb vip", id, i), (v.chainage, level), title, "square", moved, typed, rule)
