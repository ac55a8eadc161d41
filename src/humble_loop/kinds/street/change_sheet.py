"""What changes along a street, in rows beside the plan: its sections, parking bays, and widenings along lines."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine
from humble_loop.kinds.street import section_edits as edits
from humble_loop.kinds.street.model import SectionChange, Widening
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, name_of
from humble_loop.kinds.street.section import own_range
from humble_loop.kinds.street.section_sheet import bay_at
from humble_loop.kinds.street.side import course, drawn_side, followed, lip_width, traced, widened_at
from humble_loop.kinds.street.widening import Followed, add_widening, lines_beside, set_widening, streets_beside
from humble_loop.lines.describe import Choice, Fact, Sheet, SheetRow
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.library import TypicalSection
from humble_loop.site.model import SIDES, Side, side_sign

_COLUMNS = ("what", "side", "from", "to", "over", "becomes", "beside it")
_LIT = 30  # places along a stretch that is lit up
_LONG = 20.0  # metres before and after its middle of a stretch that is widened by measure
_WIDER = 1.0  # metres, to be typed over
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
        None,
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

    kept = next(x for x in parts.owned(q, Widening, street) if x.id == w.id)
    options, now = could_follow(q, street, side), _word(kept.line, kept.of_point, kept.of_side)
    if now not in dict(options):
        options = (*options, (now, traced(q, kept).name or "a line that is gone"))
    cells = (
        Fact("what", "text", "widening" if w.point == "lip" else f"{w.point} in plan"),
        Fact("side", "text", side),
        Fact("from", "chainage", w.begin, "set", along("begin")),
        Fact("to", "chainage", w.finish, "set", along("finish")),
        Fact("over", "size", w.taper, "set", to("taper")),
        Choice("becomes", options, now, lambda word: lambda s: set_widening(s, w.id, **_read(word))),
        Fact("beside it", "length", kept.beside, "set", to("beside")),
    )
    begin, end = (float(np.clip(v, 0.0, chain.total)) for v in (w.begin, w.finish))
    s = np.linspace(begin, end, _LIT)
    made = course(q, street, side)
    offset = made.out(widened_at(made, w.point) or made.lip).times(side_sign(side))
    points = chain.points_at(s, offset(s)) if end > begin else np.empty((0, 2))
    remove: tuple[tuple[str, Edit], ...] = (("Remove", lambda s: s.without(Widening, w.id)),)
    return SheetRow(cells, (begin, end), points, actions=remove)


def could_follow(q: Engine, street: str, side: Side) -> tuple[tuple[str, str], ...]:
    """What a side of a street could follow in plan, as words for a list to choose from: survey lines beside it, its own crown, and
    points of streets that run beside it.
    """
    found = [(_word(id, "", None), name) for id, name, beside, _, _ in lines_beside(q, street) if beside == side]
    found.append((_word(street, "crown", None), "its crown"))
    for id, beside, _, _ in streets_beside(q, street):
        if beside == side:
            found.append((_word(id, "crown", None), f"{name_of(q, id)} crown"))
            for of_side in SIDES:
                for point in ("lip", "boundary"):
                    drawn = drawn_side(q, id, of_side)
                    found.append((_word(id, point, drawn), f"{name_of(q, id)} {of_side} {point}"))
    return tuple(found)


def _word(line: str, of_point: str, of_side: Side | None) -> str:
    return "|".join((line, of_point, of_side or ""))


def _read(word: str) -> dict[str, Any]:
    line, of_point, of_side = word.rsplit("|", 2)
    return {"line": line, "of_point": of_point, "of_side": of_side or None}


def _widening(q: Engine, street: str, side: Side) -> list[tuple[str, Edit]]:
    """The nearest line beside a side that it does not follow yet, for all the length that both have; and a stretch by measure."""
    frame, total, found = frame_of(q, street), chain_of(q, street).total, list[tuple[str, Edit]]()
    low, high = own_range(q, street, side)
    taken = [(w.begin, w.finish) for w in followed(q, street, side) if w.point == "lip"]
    drawn = drawn_side(q, street, side)

    def free(begin: float, finish: float) -> bool:
        return finish - begin >= _ROOM and not any(a < finish and b > begin for a, b in taken)

    def widened(begin: float, finish: float, line: str, **values: Any) -> Edit:
        span = (total - finish, total - begin) if frame.turned else (begin, finish)
        return lambda s: add_widening(s, street, drawn, *span, line, **values)

    for id, name, beside, first, last in lines_beside(q, street):
        begin, finish = max(first, low), min(last, high)
        if beside == side and free(begin, finish):
            found.append((f"Widen the {side} to {name}", widened(begin, finish, id)))
            break
    middle = round(0.5 * (low + high))
    begin, finish = max(middle - _LONG, low), min(middle + _LONG, high)
    if free(begin, finish):
        out = round(lip_width(q, street, side).one(middle) + _WIDER, 2)
        words = f"Widen the {side} by {_WIDER:g} m at {middle}"
        found.append((words, widened(begin, finish, street, of_point="crown", beside=out)))
    return found
