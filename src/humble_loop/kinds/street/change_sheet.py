"""What changes along a street, in rows beside the plan: its sections, parking bays, and widenings along lines."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine
from humble_loop.kinds.street import section_edits as edits
from humble_loop.kinds.street.model import SectionChange, Widening
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of
from humble_loop.kinds.street.section import own_range
from humble_loop.kinds.street.section_sheet import bay_at
from humble_loop.kinds.street.side import course, drawn_side, widened_at
from humble_loop.kinds.street.widening import Followed, add_widening, followed, lines_beside, set_widening
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.lines.describe import Choice, Fact, Sheet, SheetRow
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.library import TypicalSection
from humble_loop.site.model import SIDES, Side, side_sign

_COLUMNS = ("what", "side", "from", "to", "over", "becomes")
_LIT = 30  # places along a stretch that is lit up
_ROOM = 5.0  # metres of a stretch beside a line that is offered


def change_sheet(q: Engine, street: str) -> Sheet:
    """Where the section changes, and where a side is widened: from which chainage, over what length, to what."""
    sections = tuple((i, parts.one(q, TypicalSection, i).name) for i in parts.ids(q, TypicalSection))
    changes, total = frame_of(q, street).changes, chain_of(q, street).total
    rows = [(c.chainage, _change_row(q, street, k, c, sections)) for k, c in enumerate(changes)]
    for side in SIDES:
        rows += [(w.begin, _widening_row(q, street, side, w)) for w in followed(q, street, side)]
    rows.sort(key=lambda row: row[0])
    last = max((c.chainage + c.taper for c in changes), default=0.0)
    at = round(0.5 * (last + total))
    add: list[tuple[str, Edit]] = [(f"Change at {at}", lambda s: edits.add_change(s, street, float(at)))]
    for side in SIDES:
        add += [(f"Bay on the {side} at {at}", bay_at(q, street, side, float(at))), *_widening(q, street, side)]
    note = (
        "" if rows else "The section is the same all along; where it is to change, add a change and type its chainage"
    )
    return Sheet("Changes", StreetLine(street), _COLUMNS, tuple(row for _, row in rows), note, tuple(add))


def _change_row(
    q: Engine, street: str, k: int, change: SectionChange, sections: tuple[tuple[str, str], ...]
) -> SheetRow:
    def to(key: str) -> Callable[[Any], Edit]:
        return lambda value: lambda s: edits.set_change(s, street, k, **{key: value})

    chain = chain_of(q, street)
    begin, end = (float(np.clip(v, 0.0, chain.total)) for v in (change.chainage, change.chainage + change.taper))
    cells = (
        Fact("what", "text", "section"),
        None,
        Fact("from", "chainage", change.chainage, "set", to("chainage")),
        None,
        Fact("over", "size", change.taper, "set", to("taper")),
        Choice("becomes", sections, change.section, to("section")),
    )
    points = chain.points_at(np.linspace(begin, end, _LIT)) if end > begin else np.empty((0, 2))
    remove: tuple[tuple[str, Edit], ...] = (("Remove", lambda s: edits.remove_change(s, street, k)),)
    return SheetRow(cells, (begin, end), points, actions=remove)


def _widening_row(q: Engine, street: str, side: Side, w: Followed) -> SheetRow:
    frame, chain = frame_of(q, street), chain_of(q, street)

    def to(key: str) -> Callable[[Any], Edit]:
        return lambda value: lambda s: set_widening(s, w.id, **{key: value})

    def along(key: str) -> Callable[[Any], Edit]:
        """A chainage of the street as it runs, kept as it was drawn."""
        other = {"begin": "finish", "finish": "begin"}[key]
        if frame.turned:
            return lambda value: lambda s: set_widening(s, w.id, **{other: chain.total - value})
        return to(key)

    line = next(x.line for x in parts.owned(q, Widening, street) if x.id == w.id)
    lines = {id: name for id, name, beside, _, _ in lines_beside(q, street) if beside == side}
    if line not in lines:
        lines[line] = parts.one(q, SurveyLine, line).name if line in parts.ids(q, SurveyLine) else "a line that is gone"
    cells = (
        Fact("what", "text", "widening" if w.point == "lip" else f"{w.point} in plan"),
        Fact("side", "text", side),
        Fact("from", "chainage", w.begin, "set", along("begin")),
        Fact("to", "chainage", w.finish, "set", along("finish")),
        Fact("over", "size", w.taper, "set", to("taper")),
        Choice("becomes", tuple(lines.items()), line, to("line")),
    )
    begin, end = (float(np.clip(v, 0.0, chain.total)) for v in (w.begin, w.finish))
    s = np.linspace(begin, end, _LIT)
    made = course(q, street, side)
    offset = made.out(widened_at(made, w.point) or made.lip).times(side_sign(side))
    points = chain.points_at(s, offset(s)) if end > begin else np.empty((0, 2))
    remove: tuple[tuple[str, Edit], ...] = (("Remove", lambda s: s.without(Widening, w.id)),)
    return SheetRow(cells, (begin, end), points, actions=remove)


def _widening(q: Engine, street: str, side: Side) -> list[tuple[str, Edit]]:
    """The nearest line beside a side that it does not follow yet, for all the length that both have."""
    frame, total = frame_of(q, street), chain_of(q, street).total
    low, high = own_range(q, street, side)
    taken = [(w.begin, w.finish) for w in followed(q, street, side) if w.point == "lip"]
    for id, name, beside, first, last in lines_beside(q, street):
        begin, finish = max(first, low), min(last, high)
        if beside != side or finish - begin < _ROOM or any(a < finish and b > begin for a, b in taken):
            continue
        drawn, span = drawn_side(q, street, side), (total - finish, total - begin) if frame.turned else (begin, finish)
        return [(f"Widen the {side} to {name}", _widened(street, drawn, span, id))]
    return []


def _widened(street: str, drawn: Side, span: tuple[float, float], line: str) -> Edit:
    return lambda s: add_widening(s, street, drawn, *span, line)
