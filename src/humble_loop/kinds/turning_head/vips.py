"""Own levels of a head's lip by hand: taken over from what is proposed, in rows, in the long section and in plan; and where it drains."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.street.plan import StreetLine, drawn_end
from humble_loop.kinds.turning_head.layout import HeadLine, clear_of, outline
from humble_loop.kinds.turning_head.levels import RingLevels, own_levels, radial_levels, ring_levels
from humble_loop.kinds.turning_head.model import HeadOutlet, HeadVip, set_head, set_vip, set_vips
from humble_loop.kinds.turning_head.place import head_at, head_name
from humble_loop.kinds.turning_head.windows import window_of
from humble_loop.lines.anchor import by_words, fixed, moved_anchor
from humble_loop.lines.describe import Fact, Handle, Place, Sheet, SheetRow, Told, Typed, Unit
from humble_loop.lines.line import LineId, line_plan
from humble_loop.lines.quantity import percent
from humble_loop.site.edits import Edit, changed
from humble_loop.site.model import Anchor, End, Site

_DIGITS = 3  # of a level in metres
_SHARES = 6  # digits of a share
_COLUMNS = ("what", "round", "level", "curve", "grade", "follows", "by", "fall", "lowest", "highest")
_LIT = 0.5  # metres before and after a place that is lit up
_COMPARED = 200  # places at which the two ways of levels are compared
_AT = 1.0  # metres from an outlet within which a place is its own


def id_of(q: Engine, street: str, end: End) -> str:
    """The id of the head at a street's end as it runs."""
    return f"{street}:{drawn_end(q, street, end)}"


# From one way to the other


def taken_over(q: Engine, street: str, end: End) -> tuple[tuple[HeadVip, ...], tuple[HeadOutlet, ...]]:
    """The VIPs and outlets that a head has by the fall from its centre, as its own."""
    levels, total = radial_levels(q, street, end), outline(q, street, end).ring.total
    p = levels.rule.profile
    vips = tuple(
        HeadVip(
            share=round(float(s) / total, _SHARES), level=round(float(z), _DIGITS + 1), curve_length=round(float(c), 2)
        )
        for s, z, c in zip(p.chainages[2:-2], p.levels[2:-2], p.curves[2:-2])
    )
    if levels.outlet == "street":
        return vips, ()
    return vips, (HeadOutlet(share=round(levels.turn / total, _SHARES), way=levels.outlet),)


def to_own(q: Engine, street: str, end: End) -> Edit:
    """The edit that makes what is proposed a grade line of the lip's own."""
    vips, outlets = taken_over(q, street, end)
    drawn = drawn_end(q, street, end)
    return lambda site: set_head(site, street, drawn, vips=vips, outlets=outlets)


def to_radial(q: Engine, street: str, end: End) -> Edit:
    """The edit that gives a lip back to the fall from the centre."""
    drawn = drawn_end(q, street, end)
    return lambda site: set_head(site, street, drawn, vips=(), outlets=())


def difference(q: Engine, street: str, end: End) -> tuple[float, float] | None:
    """The most by which a lip would go down and up (m, both from zero up) were it given back to the fall from the centre; None where
    it lies on that, or one of the two cannot be worked out.
    """
    if not head_at(q, street, end).vips:
        return None
    made, other = q.attempt(own_levels, street, end), q.attempt(radial_levels, street, end)
    if isinstance(made, Unsolved) or isinstance(other, Unsolved):
        return None
    s = np.linspace(0.0, outline(q, street, end).ring.total, _COMPARED)
    by = other.rule.levels(s) - made.rule.levels(s)
    return max(0.0, -float(by.min())), max(0.0, float(by.max()))


# Edits


def _own(q: Engine, street: str, end: End) -> tuple[HeadVip, ...]:
    """Its VIPs; those that are proposed where it has none of its own."""
    return head_at(q, street, end).vips or taken_over(q, street, end)[0]


def _begun(q: Engine, street: str, end: End, vips: list[HeadVip]) -> Edit:
    """The edit that sets VIPs; a lip that had none of its own takes its outlets over with them."""
    head, id, drawn = head_at(q, street, end), id_of(q, street, end), drawn_end(q, street, end)
    if head.vips:
        return lambda site: set_vips(site, id, vips)
    outlets = taken_over(q, street, end)[1]
    return lambda site: set_vips(set_head(site, street, drawn, outlets=outlets), id, vips)


def adding(q: Engine, street: str, end: End, round_: float, level: float) -> Edit:
    """The edit that adds a VIP ``round_`` metres round."""
    total = outline(q, street, end).ring.total
    fresh = HeadVip(share=round(round_ / total, _SHARES), level=round(level, _DIGITS))
    return _begun(q, street, end, [*_own(q, street, end), fresh])


def removing(q: Engine, street: str, end: End, k: int) -> Edit:
    """The edit that takes VIP ``k`` out; without its last the lip is given back to the fall from the centre."""
    vips = [v for i, v in enumerate(_own(q, street, end)) if i != k]
    return _begun(q, street, end, vips) if vips else to_radial(q, street, end)


def vip_removal(q: Engine, held: tuple[Any, ...]) -> Edit | None:
    """The edit that takes a VIP out by the key of its handle; None for any other handle."""
    return removing(q, *held[1:]) if held[:1] == ("head vip",) else None


def draining(q: Engine, street: str, end: End, round_: float, way: str) -> Edit:
    """The edit that puts a pit or a draw on the lip."""
    total, drawn = outline(q, street, end).ring.total, drawn_end(q, street, end)
    fresh = HeadOutlet.model_validate({"share": round(round_ / total, _SHARES), "way": way})

    def edit(site: Site) -> Site:
        vips, outlets = head_at(q, street, end).vips, head_at(q, street, end).outlets
        if not vips:
            vips, outlets = taken_over(q, street, end)
        kept = [o for o in outlets if abs(o.share - fresh.share) * total > _AT]
        return set_head(site, street, drawn, vips=vips, outlets=tuple(sorted((*kept, fresh), key=lambda o: o.share)))

    return edit


def undrained(q: Engine, street: str, end: End, k: int) -> Edit:
    """The edit that takes outlet ``k`` away."""
    head, drawn = head_at(q, street, end), drawn_end(q, street, end)
    outlets = tuple(o for i, o in enumerate(head.outlets) if i != k)
    return lambda site: set_head(site, street, drawn, outlets=outlets)


def moved_outlet(q: Engine, street: str, end: End, k: int, round_: float) -> Edit:
    """The edit that moves outlet ``k`` to another place round."""
    head, total = head_at(q, street, end), outline(q, street, end).ring.total
    moved = changed(head.outlets[k], share=round(round_ / total, _SHARES))
    outlets = tuple(sorted((*head.outlets[:k], moved, *head.outlets[k + 1 :]), key=lambda o: o.share))
    return lambda site: set_head(site, street, drawn_end(q, street, end), outlets=outlets)


def offers(q: Engine, street: str, end: End, round_: float, level: float) -> tuple[tuple[str, Edit], ...]:
    """What can be done at a place of the lip's long section; the first is done by a double click."""
    made = ring_levels(q, street, end)
    found = [(f"Add a VIP {round_:.2f} m round", adding(q, street, end, round_, level))]
    total = outline(q, street, end).ring.total
    near = [k for k, o in enumerate(head_at(q, street, end).outlets) if abs(o.share * total - round_) <= _AT]
    if near:
        found.append(("Take its outlet away", undrained(q, street, end, near[0])))
    else:
        found += [(f"Put a {way} there", draining(q, street, end, round_, way)) for way in ("pit", "draw")]
    found += holding(q, street, end, round_, level)
    if made.governs == "own":
        found.append(("Give its levels back to the fall from its centre", to_radial(q, street, end)))
    return tuple(found)


# In rows


def lip_sheet(q: Engine, street: str, end: End) -> Sheet:
    """The lip of a head in rows: both straight lips, its VIPs, its high and low points, and its outlets."""
    id, levels = HeadLine(street, end), ring_levels(q, street, end)
    rows = [_row(q, street, end, levels, *place) for place in _places(q, street, end, levels)]
    columns: tuple[str, ...] = _COLUMNS
    if all(r.cells[5] is None for r in rows):
        rows = [replace(r, cells=(*r.cells[:5], *r.cells[7:])) for r in rows]
        columns = (*_COLUMNS[:5], *_COLUMNS[7:])
    if levels.governs == "own":
        note = "The lip goes through VIPs of its own; both ends meet the straight lips in level and grade"
        action = "By the fall from its centre", to_radial(q, street, end)
    else:
        note = "Worked out by the fall from the centre. Change a level, and all of them are its own"
        action = "Take its levels over", to_own(q, street, end)
    return Sheet("Lip levels", id, columns, tuple(rows), note, (action,))


def _places(q: Engine, street: str, end: End, levels: RingLevels) -> list[tuple[float, str, int | None]]:
    """Distance round, what is there, and which VIP or outlet it is."""
    p, total = levels.rule.profile, outline(q, street, end).ring.total
    found: list[tuple[float, str, int | None]] = [(0.0, "left lip", None), (total, "right lip", None)]
    found += [(float(s), "VIP", k) for k, s in enumerate(p.chainages[2:-2])]
    found += [(t.chainage, f"{t.kind} point", None) for t in p.turning_points()]
    ways: list[str] = [o.way for o in head_at(q, street, end).outlets] or [levels.outlet] * len(levels.drains)
    found += [(s, way, k) for k, (s, way) in enumerate(zip(levels.drains, ways))]
    return sorted(found, key=lambda f: (f[0], f[1] != "VIP"))


def _sources(q: Engine, street: str) -> list[LineId]:
    """The lines that a level of a head can be held from: the street's crown and lips."""
    return [StreetLine(street), StreetLine(street, "lip", "left"), StreetLine(street, "lip", "right")]


def holding(q: Engine, street: str, end: End, round_: float, level: float) -> list[tuple[str, Edit]]:
    """What holds the lip ``round_`` metres round at a level, from each line that it can be held from: by a VIP there, or the one that is there."""
    ring, found = outline(q, street, end).ring, list[tuple[str, Edit]]()
    vips = _own(q, street, end)
    near = [k for k, v in enumerate(vips) if abs(v.share * ring.total - round_) <= _AT]
    at = vips[near[0]].share * ring.total if near else round_
    for id in _sources(q, street):
        try:
            anchor = fixed(q, id, ring.points_at([at])[0], level)
        except Unsolved:
            continue
        title = line_plan(q, id).title
        found.append((f"Let it follow {title}: {by_words(anchor)} it", let_follow(q, street, end, at, anchor, level)))
    return found


def let_follow(q: Engine, street: str, end: End, round_: float, anchor: Anchor, level: float) -> Edit:
    """The edit that lets the lip follow another line at a place, ``level`` being where it lies then: by the VIP that is there, or a new one."""
    vips, total = _own(q, street, end), outline(q, street, end).ring.total
    near = [k for k, v in enumerate(vips) if abs(v.share * total - round_) <= _AT][:1]
    fresh = HeadVip(share=round(round_ / total, _SHARES), level=round(level, _DIGITS), follows=anchor)
    if near:
        fresh = changed(vips[near[0]], follows=anchor)
    return _begun(q, street, end, [*(v for k, v in enumerate(vips) if k not in near), fresh])


def _row(q: Engine, street: str, end: End, levels: RingLevels, s: float, what: str, k: int | None) -> SheetRow:
    p, id, own = levels.rule.profile, HeadLine(street, end), levels.governs == "own"
    plan, total = line_plan(q, id), outline(q, street, end).ring.total
    z, away = float(p.level([s])[0]), float(clear_of(q, street, end, np.array([s]))[0])
    around, level = (
        Fact("round", "length", s, "tied" if what.endswith("lip") else "worked out"),
        Fact("level", "level", z),
    )
    curve: Fact | None = None
    actions: tuple[tuple[str, Edit], ...] = ()
    held: tuple[object, ...] = ()
    source: Fact | None = None
    by: Fact | None = None
    state = "set" if own else "proposed"
    if what.endswith("lip"):
        level = Fact("level", "level", z, "tied")
    elif what == "VIP" and k is not None:
        to = partial(_changing, q, street, end, k)
        vip = float(p.levels[k + 2])
        around = Fact("round", "length", s, state, lambda v: to(share=round(v / total, _SHARES)))
        own_vip = head_at(q, street, end).vips[k] if own else None
        follows = own_vip.follows if own_vip is not None else None
        level = Fact("level", "level", vip, state if follows is None else "tied", lambda v: to(level=v))
        curve = Fact("curve", "length", float(p.curves[k + 2]), state, lambda v: to(curve_length=v))
        after = 0.5 * float(p.chainages[k + 2] + p.chainages[k + 3])
        actions = (
            ("Add a VIP after it", adding(q, street, end, after, float(p.level([after])[0]))),
            ("Put a pit there", draining(q, street, end, s, "pit")),
            ("Remove", removing(q, street, end, k)),
        )
        if follows is None:
            actions = (*actions, *holding(q, street, end, s, vip)[:1])  # the others are in the long section
        else:
            actions = (*actions, ("Set its level free", to(follows=None, level=round(vip, _DIGITS))))
            anchor = follows
            what_by: Unit = "grade" if anchor.fall is not None else "level"
            value = anchor.fall if anchor.fall is not None else anchor.rise
            key = "fall" if anchor.fall is not None else "rise"
            source = Fact("follows", "text", f"{anchor.line} of {anchor.of}" if anchor.of != street else anchor.line)
            by = Fact("by", what_by, value, "set", lambda v: to(follows=changed(anchor, **{key: v})))
        held = ("head vip", street, end, k)
    elif what in ("pit", "draw") and own and k is not None:
        actions = (("Take it away", undrained(q, street, end, k)),)
    elif what == "low point":
        actions = (
            ("Put a pit there", draining(q, street, end, s, "pit")),
            ("Put a draw there", draining(q, street, end, s, "draw")),
        )
    window = window_of(q, street, end)
    room = window.at(s) if window is not None else None
    cells = (
        Fact("what", "text", what),
        around,
        level,
        curve,
        Fact("grade", "grade", float(p.grade([s])[0])) if s < total else None,
        source,
        by,
        Fact("fall", "grade", (levels.centre - z) / away),
        Fact("lowest", "level", room[0]) if room else None,
        Fact("highest", "level", room[1]) if room else None,
    )
    lit = plan.points(np.linspace(max(s - _LIT, 0.0), min(s + _LIT, total), 8))
    return SheetRow(cells, (s, s), lit, held=held, actions=actions)


def _changing(q: Engine, street: str, end: End, k: int, **values: Any) -> Edit:
    """The edit that changes VIP ``k``; where they are proposed all are taken over with it. The level of one that follows another line is
    changed by its fall or its difference.
    """
    vips_now = head_at(q, street, end).vips
    if vips_now:
        id, follows = id_of(q, street, end), vips_now[k].follows
        if follows is not None and "level" in values and "follows" not in values:
            ring = outline(q, street, end).ring
            place = ring.points_at([values.get("share", vips_now[k].share) * ring.total])[0]
            values["follows"] = moved_anchor(q, follows, place, values["level"])
        return lambda site: set_vip(site, id, k, **values)
    vips = list(_own(q, street, end))
    return lambda site: _begun(q, street, end, [*vips[:k], changed(vips[k], **values), *vips[k + 1 :]])(site)


# By hand


def section_handles(q: Engine, street: str, end: End) -> tuple[Handle, ...]:
    """The VIPs of a lip in its long section."""
    made = q.attempt(ring_levels, street, end)
    if isinstance(made, Unsolved):
        return ()
    return tuple(_in_section(q, street, end, made, k) for k in range(len(made.rule.profile.chainages) - 4))


def _in_section(q: Engine, street: str, end: End, made: RingLevels, k: int) -> Handle:
    p, total = made.rule.profile, outline(q, street, end).ring.total
    s, z = float(p.chainages[k + 2]), float(p.levels[k + 2])
    to = partial(_changing, q, street, end, k)

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        share, level = _clipped(q, street, end, k, place[0] / total), round(place[1], _DIGITS)
        told = Told("round", "length", share * total, s), Told("level", "level", level, z)
        return to(share=share, level=level), told

    typed = (
        Typed("level", "a level", lambda v: to(level=v)),
        Typed("length", "a distance round", lambda v: to(share=round(v / total, _SHARES)), "d"),
    )
    title, state = f"{head_name(q, street, end)} VIP {k + 1}", "set" if made.governs == "own" else "proposed"
    return Handle(("head vip", street, end, k), (s, z), title, "square", moved, typed, _grades(street, end, k), state)


def plan_handles(q: Engine, street: str, end: End) -> tuple[Handle, ...]:
    """The VIPs of a lip that has its own, and otherwise its turn, dragged round it in plan."""
    made = q.attempt(ring_levels, street, end)
    if isinstance(made, Unsolved):
        return ()
    if made.governs == "own":
        return tuple(_round_it(q, street, end, made, k) for k in range(len(made.rule.profile.chainages) - 4))
    ring, drawn = outline(q, street, end).ring, drawn_end(q, street, end)
    e, n = ring.points_at([made.turn])[0].tolist()

    def at(share: float) -> Edit:
        return lambda site: set_head(site, street, drawn, turn=round(float(np.clip(share, 0.005, 0.995)), _SHARES))

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        s = float(ring.feet([place]).chainages[0])
        return at(s / ring.total), (Told("round", "length", s, made.turn),)

    typed = (Typed("length", "a distance round", lambda v: at(v / ring.total)),)
    words = "high point" if made.outlet == "street" else made.outlet
    title = f"{head_name(q, street, end)} {words}"
    return (Handle(("head turn", street, end), (e, n), title, "round", moved, typed, state="proposed"),)


def _round_it(q: Engine, street: str, end: End, made: RingLevels, k: int) -> Handle:
    p, ring = made.rule.profile, outline(q, street, end).ring
    s = float(p.chainages[k + 2])
    e, n = ring.points_at([s])[0].tolist()
    to = partial(_changing, q, street, end, k)

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        share = _clipped(q, street, end, k, float(ring.feet([place]).chainages[0]) / ring.total)
        return to(share=share), (Told("round", "length", share * ring.total, s),)

    typed = (
        Typed("level", "a level", lambda v: to(level=v)),
        Typed("length", "a distance round", lambda v: to(share=round(v / ring.total, _SHARES)), "d"),
    )
    title = f"{head_name(q, street, end)} VIP {k + 1}"
    return Handle(("head vip", street, end, k), (e, n), title, "square", moved, typed, _grades(street, end, k), "set")


def _clipped(q: Engine, street: str, end: End, k: int, share: float) -> float:
    """A share at which VIP ``k`` may stand: between its neighbours."""
    vips = _own(q, street, end)
    low = vips[k - 1].share + 0.01 if k > 0 else 0.005
    high = vips[k + 1].share - 0.01 if k + 1 < len(vips) else 0.995
    return round(float(np.clip(share, low + 1e-6, max(low + 1e-6, high - 1e-6))), _SHARES)


def _grades(street: str, end: End, k: int) -> Callable[[Engine], str]:
    """The grades on both sides of a VIP in words, while it moves."""

    def rule(q: Engine) -> str:
        made = q.attempt(ring_levels, street, end)
        if isinstance(made, Unsolved):
            return made.message
        grades = made.rule.profile.grades
        return f"{percent(float(grades[k + 1]))} in, {percent(float(grades[k + 2]))} out"

    return rule
