"""How a street shows itself: in plan, facts, handles, long section and on its strip."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.street import edits
from humble_loop.kinds.street.bends import bend_rows
from humble_loop.kinds.street.change_sheet import change_sheet
from humble_loop.kinds.street.class_sheet import class_sheet
from humble_loop.kinds.street.crossfalls import over_words
from humble_loop.kinds.street.elements import element_sheet
from humble_loop.kinds.street.ends import end_sheet
from humble_loop.kinds.street.from_line import laid_again, laid_along
from humble_loop.kinds.street.grade_handles import rounded
from humble_loop.kinds.street.grades import crossing_sheet, grade_sheet
from humble_loop.kinds.street.kerbs import kerb_sheets
from humble_loop.kinds.street.levels import grade_line, own_grades, proposed_vips
from humble_loop.kinds.street.model import Street, Vip
from humble_loop.kinds.street.order import order_choice, ordered_beside
from humble_loop.kinds.street.overlay import overlay_sheet
from humble_loop.kinds.street.plan import (
    StreetLine,
    centreline,
    chain_of,
    frame_of,
    is_new,
    name_of,
    vips_of,
)
from humble_loop.kinds.street.proposals import proposal_sheet
from humble_loop.kinds.street.section import gaps, lines_of, own_range
from humble_loop.kinds.street.section_sheet import section_sheets
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.lines.describe import (
    Actions,
    Choice,
    Drawing,
    Fact,
    Label,
    Mark,
    Note,
    Row,
    Sheet,
    SheetOf,
)
from humble_loop.lines.drawn import drawn_in, strokes
from humble_loop.lines.line import LineId
from humble_loop.site import parts
from humble_loop.site.edits import Edit, EditError, changed, made
from humble_loop.site.library import StreetClass, TypicalSection
from humble_loop.site.model import SIDES, Anchor, Site

_BESIDE = 0.01  # metres from a VIP at which a new one takes its place
_ALONG, _UP = 10.0, 0.02  # metres to which VIPs are rounded: what is easily set out and read
_MOST_TOLD = 8  # VIPs that are told one under another
SAG = 0.03  # metres between a drawn chord and its curve

_DRAWN = {"back of kerb": "kerb", "path front": "path", "path back": "path", "boundary": "boundary"}


def role_in_plan(point: str, side: str | None, corner: bool = False) -> str | None:
    """The role in which a section point's line is drawn, or None where it is not."""
    if point == "lip":
        return "return" if corner else f"{side} lip"
    name, _, number = point.rpartition(" ")
    if number.isdigit():  # the second of its name
        point = name
    if point.endswith(" edge"):
        return "path"
    return _DRAWN.get(point)


def outline(q: Engine, street: str) -> Drawing:
    """The centreline and the lines beside it."""
    centre = [chain_of(q, street).points_at(chain_of(q, street).sampled(sag=SAG))]
    lines = (id for id in lines_of(q, street) if isinstance(id, StreetLine) and id.side)
    beside = drawn_in(q, ((role_in_plan(id.point, id.side), id) for id in lines), SAG)
    return strokes({"centreline": centre, **beside})


def details(q: Engine, street: str) -> Drawing:
    """The name, and grades along the centreline."""
    chain = chain_of(q, street)
    e, n = chain.points_at([0.5 * chain.total])[0]
    labels = [Label((float(e), float(n)), "crown", 0, name_of(q, street), weight=600, size=14)]
    made = q.attempt(grade_line, street)
    if not isinstance(made, Unsolved) and len(made.states) <= 12:
        p = made.profile
        middle = 0.5 * (p.chainages[:-1] + p.chainages[1:])
        own = own_grades(q, street)
        for at, g in zip(chain.points_at(middle)[np.isfinite(own)], own[np.isfinite(own)]):
            labels.append(Label((float(at[0]), float(at[1])), "crown", 3, unit="grade", value=float(g)))
    return Drawing((), (), tuple(labels))


# Facts


def facts(q: Engine, street: str) -> tuple[Row, ...]:
    """A street's values."""
    frame, name = frame_of(q, street), name_of(q, street)

    def field(key: str) -> Callable[[Any], Edit]:
        return lambda value: lambda s: edits.set_street(s, street, **{key: value})

    rows: list[Row] = [
        Fact("name", "text", name, "set", lambda t: lambda s: edits.rename_street(s, street, t)),
        Choice("kind", (("new", "new"), ("existing", "existing")), frame.kind, field("kind")),
        Choice("class", _library(q, StreetClass), frame.street_class, field("street_class")),
        Choice("section", _library(q, TypicalSection), frame.section, field("section")),
    ]
    made = q.attempt(centreline, street)
    if isinstance(made, Unsolved):
        return (*rows, Note(f"{made.message}; {made.remedy}"))
    rows.append(Fact("length", "length", made.chain.total))
    rows += bend_rows(q, street)
    if frame.kind == "existing":
        lines = (("", "by the section"), *((i, parts.one(q, SurveyLine, i).name) for i in parts.ids(q, SurveyLine)))
        for key, label in (("left_lip", "left lip"), ("right_lip", "right lip")):
            current = getattr(frame, key) or ""
            rows.append(Choice(label, lines, current, _lip_field(street, key)))
    if (line := laid_along(q, street)) is not None:
        beside = Fact("beside it", "length", frame.beside, "set", field("beside"))
        rows += [Fact("along", "text", line), beside, Actions(((f"Lay it along {line} again", laid_again(q, street)),))]
    for other in ordered_beside(q, street):
        if (choice := order_choice(q, street, other, f"built later, it or {name_of(q, other)}")) is not None:
            rows.append(choice)
    rows += _vips(q, street)
    total = made.chain.total
    rows.append(
        Actions(
            (
                ("Reverse", lambda s: edits.reverse_street(s, street, total)),
                (f"Remove {name}", lambda s: edits.remove_street(s, street)),
            )
        )
    )
    return tuple(rows)


def _lip_field(street: str, key: str) -> Callable[[str], Edit]:
    return lambda value: lambda s: edits.set_street(s, street, **{key: value or None})


def _library(q: Engine, model: type[StreetClass] | type[TypicalSection]) -> tuple[tuple[str, str], ...]:
    return tuple((i, parts.one(q, model, i).name) for i in parts.ids(q, model))


def keep(q: Engine, street: str) -> Edit:
    """The edit that sets a proposed grade line as it stands."""
    vips = proposed_vips(q, street)
    return lambda s: edits.set_vips(s, street, vips)


def _vips(q: Engine, street: str) -> list[Row]:
    made = q.attempt(grade_line, street)
    if isinstance(made, Unsolved):
        return [Note(f"{made.message}; {made.remedy}")]
    if not is_new(q, street) and not vips_of(q, street):
        return []
    p = made.profile
    proposed = "proposed" in made.states
    switch: Edit = keep(q, street) if proposed else lambda s: edits.propose_again(s, street)
    rows: list[Row] = [
        Fact("grade line", "text", f"{len(made.states)} VIPs", "proposed" if proposed else "set", None, switch)
    ]
    round_off = (f"Round to {_ALONG:g} m and {_UP:g} m", rounded(q, street, _ALONG, _UP))
    rows.append(Actions((round_off,)))
    standing = proposed_vips(q, street)
    raised = lambda v: lambda s: edits.raise_vips(s, street, v, standing)  # noqa: E731
    rows.append(Fact("raise all by", "level", 0.0, "worked out", raised))
    if len(made.states) > _MOST_TOLD:
        return [*rows, Note("They stand in Grade line, beside the plan", heading=False)]
    grades = own_grades(q, street)
    for i, state in enumerate(made.states):
        k = made.index[i]
        chainage = float(p.chainages[i])
        level: Callable[[Any], Edit] | None = None
        accepts: tuple[Any, ...] = ()
        if k >= 0 and state != "locked":
            level = lambda v, k=k: lambda s: edits.set_vip(s, street, k, level=v)  # noqa: E731
            accepts = (("chainage", lambda v, k=k: lambda s: edits.set_vip(s, street, k, chainage=v)),)
        rows.append(Fact(f"VIP {chainage:.2f}", "level", float(p.levels[i]), state, level, accepts=accepts))
        if level is not None and 0 < i < len(made.states) - 1:
            curve = lambda v, k=k: lambda s: edits.set_vip(s, street, k, curve_length=v)  # noqa: E731
            rows.append(Fact("curve length", "length", float(p.curves[i]), "set", curve, inner=True))
        if i < len(p.grades) and np.isfinite(grades[i]):
            own = made.index[i + 1]
            free = own >= 0 and made.states[i + 1] != "locked"
            typed = (lambda v, k=own: lambda s: edits.set_vip(s, street, k, grade=v)) if free else None
            rows.append(Fact("grade", "grade", float(p.grades[i]), "worked out", typed, inner=True))
    return rows


def _overlay(q: Engine, street: str) -> Sheet:
    """The overlay, and how far all of the carriageway lies over the old surface."""
    made = overlay_sheet(q, street)
    over = over_words(q, street)
    return replace(made, note=". ".join(part for part in (made.note.rstrip("."), over) if part))


def sheets(q: Engine, street: str) -> tuple[SheetOf, ...]:
    """A street's elements, grade line, proposals for it, crossings, sections and where these change, in rows."""
    proposals = (SheetOf("Proposals", lambda q: proposal_sheet(q, street)),) if is_new(q, street) else ()
    overlay = (SheetOf("Overlay", lambda q: _overlay(q, street)),) if is_new(q, street) else ()
    return (
        SheetOf("Elements", lambda q: element_sheet(q, street)),
        SheetOf("Ends", lambda q: end_sheet(q, street)),
        SheetOf("Grade line", lambda q: grade_sheet(q, street)),
        *proposals,
        SheetOf("Crossings", lambda q: crossing_sheet(q, street)),
        *section_sheets(q, street),
        *([SheetOf("Changes", lambda q: change_sheet(q, street))] if is_new(q, street) else ()),
        *kerb_sheets(q, street),
        *overlay,
        SheetOf("Class", lambda q: class_sheet(q, street)),
    )


def add_vip(q: Engine, street: str, chainage: float, level: float) -> Edit:
    """The edit that adds a VIP to a grade line, setting a proposed one first."""
    line = q.attempt(grade_line, street)
    kept = [] if isinstance(line, Unsolved) or "proposed" not in line.states else proposed_vips(q, street)

    def edit(site: Site) -> Site:
        fresh = made(Vip, chainage=round(chainage, 2), level=round(level, 3))
        found = site.find(Street, street)
        old = kept or list(found.vips if found else ())
        if any(v.locked and abs(v.chainage - fresh.chainage) <= _BESIDE for v in old):
            raise EditError(f"a locked VIP stands at {fresh.chainage:.2f}: unlock it first")
        return edits.set_vips(site, street, [*(v for v in old if abs(v.chainage - fresh.chainage) > _BESIDE), fresh])

    return edit


_MEANT = 1.0  # metres from a VIP within which it is the one that is to follow


def let_follow(q: Engine, street: str, chainage: float, anchor: Anchor, level: float) -> Edit:
    """The edit that lets a grade line follow another line at a chainage, by a VIP there that is locked; what is proposed goes on being proposed."""
    line = q.attempt(grade_line, street)
    fresh = made(Vip, chainage=round(chainage, 2), level=round(level, 6), locked=True, follows=anchor)
    if not isinstance(line, Unsolved) and "proposed" in line.states:
        return lambda site: edits.lock_proposed(site, street, fresh)

    def edit(site: Site) -> Site:
        found = site.find(Street, street)
        old = found.vips if found else ()
        beside = sorted(
            (v for v in old if abs(v.chainage - chainage) <= _MEANT), key=lambda v: abs(v.chainage - chainage)
        )[:1]
        if any(v.locked and v.follows is None for v in beside):
            raise EditError(f"a locked VIP stands at {beside[0].chainage:.2f}: unlock it first")
        if beside:
            at = {"chainage": beside[0].chainage, "curve_length": beside[0].curve_length}
            return edits.set_vips(site, street, [*(v for v in old if v not in beside), changed(fresh, **at)])
        return edits.set_vips(site, street, [*old, fresh])

    return edit


def removal(q: Engine, held: tuple[Any, ...]) -> Edit | None:
    """The edit that takes out the VIP or bend whose handle is ``held``; None where it is neither. Raises EditError for a
    VIP that nobody set.
    """
    if len(held) != 3 or held[0] not in ("vip", "bend", "curve"):
        return None
    what, street, i = held
    if what != "vip":
        return lambda s: edits.remove_bend(s, street, i)
    line = q.attempt(grade_line, street)
    if isinstance(line, Unsolved) or i >= len(line.index):
        return None
    index = line.index[i]
    if index < 0:
        raise EditError("that VIP is tied or proposed; only set VIPs can be removed")
    return lambda s: edits.remove_vip(s, street, index)


def ribbon(q: Engine, street: str) -> tuple[Mark, ...]:
    """The lips of a street on its strip, broken where side streets leave."""
    found = []
    for side in SIDES:
        low, high = own_range(q, street, side)
        holes = gaps(q, street, side)
        starts, ends = [low, *(b for _, b in holes)], [*(a for a, _ in holes), high]
        found += [Mark("lip", side, a, b) for a, b in zip(starts, ends) if b > a]
        found += [Mark("mouth", side, a, b) for a, b in holes]
    return tuple(found)


def lines_to_show(q: Engine, street: str) -> tuple[LineId, ...]:
    """The lines of a street's long section beside the crown."""
    return tuple(StreetLine(street, "lip", side) for side in SIDES)
