"""A street's typical sections piece by piece, as rows beside the plan."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.street import section_edits as edits
from humble_loop.kinds.street.plan import StreetLine, frame_of, is_new, name_of, street_ids
from humble_loop.kinds.street.side import drawn_side, points_of, section_at, sections_along
from humble_loop.lines.describe import Choice, Fact, Sheet, SheetOf, SheetRow, joined_up
from humble_loop.lines.line import line_plan
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.library import KerbShape, Part, SectionSide, Strip, TypicalSection
from humble_loop.site.model import SIDES, Side, side_sign

_COLUMNS = ("side", "piece", "width", "fall", "out to", "level", "ends at")
_BAY = 28.0  # metres: four cars that park along the kerb, and the tapers
_SAG = 0.05  # metres between what is lit up and the line


def section_sheets(q: Engine, street: str) -> tuple[SheetOf, ...]:
    """The pieces of each section that a street has along it, from the crown outwards."""
    if not is_new(q, street):
        words = "An existing street's levels are the ground's: it has no section"
        return (SheetOf.made(Sheet("Section", StreetLine(street), _COLUMNS, (), words)),)
    found: list[SheetOf] = []
    shown: set[str] = set()
    for change, section in sections_along(q, street):
        if section.id not in shown:
            shown.add(section.id)
            title = "Section" if change is None else f"Section from {change.chainage:.0f}"
            found.append(SheetOf(title, partial(_section_sheet, street=street, title=title, section=section)))
    return tuple(found)


def cross_rows(q: Engine, street: str, chainage: float) -> tuple[SheetRow, ...]:
    """The pieces of the section that a street has at a chainage; none where it is turning into another."""
    if not is_new(q, street):
        return ()
    section, turning = section_at(q, street, chainage)
    if turning:
        return ()
    found = []
    for side in SIDES:
        bay = bay_at(q, street, side, chainage)
        for row, part in zip(_rows(q, street, side, section), section.side(drawn_side(q, street, side)).parts):
            driven = isinstance(part, Strip) and part.piece in ("lane", "parking")
            found.append(replace(row, actions=(*row.actions, ("Parking bay here", bay))) if driven else row)
    return tuple(found)


def bay_at(q: Engine, street: str, side: Side, chainage: float) -> Edit:
    """A parking bay for four cars about a chainage, on a side of a street as it runs."""
    drawn, begin, finish = drawn_side(q, street, side), chainage - 0.5 * _BAY, chainage + 0.5 * _BAY
    return lambda s: edits.add_bay(s, street, drawn, begin, finish)


def _section_sheet(q: Engine, street: str, title: str, section: TypicalSection) -> Sheet:
    sides: tuple[Side, ...] = ("left",) if section.linked else SIDES
    rows = [row for side in sides for row in _rows(q, street, side, section)]
    rows += _layer_rows(section)
    others = [name_of(q, s) for s in street_ids(q) if s != street and uses(q, s, section.id)]
    note = f"{section.name}, used here only"
    if others:
        told = ", ".join(others[:2]) + (f" and {len(others) - 2} more" if len(others) > 2 else "")
        note = f"{section.name}, used by {told} too: what changes here changes there"
    whole: list[tuple[str, Edit]] = []
    if section.linked:
        whole.append(("Sides apart", lambda s: edits.set_apart(s, section.id, True)))
    else:
        like = drawn_side(q, street, "left")
        whole.append(("Right as left", lambda s: edits.set_apart(s, section.id, False, like)))
    whole.append(("Add a layer", lambda s: edits.add_layer(s, section.id, len(section.layers) - 1)))
    if others:
        whole.append((f"Own copy for {name_of(q, street)}", lambda s: edits.own_section(s, street, section.id)))
    return Sheet(title, StreetLine(street), _COLUMNS, tuple(rows), note, tuple(whole))


def uses(q: Engine, street: str, section: str) -> bool:
    """Whether a new street has a section anywhere along it."""
    frame = frame_of(q, street)
    return frame.kind == "new" and (frame.section == section or any(c.section == section for c in frame.changes))


def _rows(q: Engine, street: str, side: Side, section: TypicalSection) -> list[SheetRow]:
    drawn = drawn_side(q, street, side)
    made = section.side(drawn)
    points = points_of(q, made)
    out, up = points.out, points.rise
    words = "both" if section.linked else side
    lit: tuple[Side, ...] = SIDES if section.linked else (side,)
    rows, k = [], 0
    for i, p in enumerate(made.parts):
        last = k + (1 if isinstance(p, Strip) else len(parts.kerb_shape(q, p.kerb).points))
        width: Fact
        fall: Fact | None = None
        if isinstance(p, Strip):
            width = Fact("width", "size", p.width, "set", _strip(section.id, drawn, i, "width"))
            fall = Fact("fall", "grade", p.grade, "set", _strip(section.id, drawn, i, "grade"))
            piece = _choice_of_piece(section.id, drawn, i, p)
        else:
            width = Fact("width", "size", float(out[last] - out[k]))
            piece = _choice_of_kerb(q, section.id, drawn, i, p.kerb)
        cells = (
            Fact("side", "text", words),
            piece,
            width,
            fall,
            Fact("out to", "length", float(out[last])),
            Fact("level", "level", float(up[last])),
            Fact("ends at", "text", points.names[last]),
        )
        ends = sorted(-side_sign(side) * float(v) for v in (out[k], out[last]))
        rows.append(
            SheetRow(
                cells,
                (0.0, 0.0),
                _lit(q, street, (points.names[k], points.names[last]), lit),
                held=("piece", street, side, i),
                actions=piece_actions(section.id, drawn, i, p),
                across=(ends[0], ends[1]),
            )
        )
        k = last
    for label, key, value in (
        ("batter in cut", "cut_slope", made.cut_slope),
        ("batter in fill", "fill_slope", made.fill_slope),
    ):
        slope = Fact("slope", "slope", value, "set", _batter(section.id, drawn, key))
        first = (Fact("side", "text", words), Fact("piece", "text", label), None)
        rows.append(SheetRow((*first, slope, None, None, None), (0.0, 0.0), np.empty((0, 2))))
    return [*rows, _bench_row(section.id, drawn, made, words), _drain_row(q, section.id, drawn, made, words)]


def _bench_row(section: str, side: Side, made: SectionSide, words: str) -> SheetRow:
    """Whether a side's batters have benches: their width, their grade, and the height between them."""

    def to(key: str) -> Callable[[Any], Edit]:
        return lambda value: lambda s: edits.change_benches(s, section, side, **{key: value})

    some = made.benches
    options = (("no", "no benches"), ("yes", "benches"))
    pick = lambda v: lambda s: edits.set_benches(s, section, side, v == "yes")  # noqa: E731
    piece = Choice("piece", options, "no" if some is None else "yes", pick)
    measures: tuple[Fact | None, ...] = (None, None, None, None)
    if some is not None:
        width = Fact("width", "size", some.width, "set", to("width"))
        fall = Fact("fall", "grade", some.grade, "set", to("grade"))
        measures = (width, fall, None, Fact("level", "size", some.every, "set", to("every"), before="every"))
    return SheetRow((Fact("side", "text", words), piece, *measures, None), (0.0, 0.0), np.empty((0, 2)))


def _drain_row(q: Engine, section: str, side: Side, made: SectionSide, words: str) -> SheetRow:
    """What stands at the toe of a side's cuts, where that is needed."""
    current, width = "", None
    if made.drain is not None:
        current = made.drain.shape
        width = Fact("width", "size", parts.kerb_shape(q, current).points[-1].out / 1000.0)
    shapes = (("", "no drain in cut"), *((id, f"in cut: {name}") for id, name in _shapes(q)))
    piece = Choice("piece", shapes, current, _drain(section, side))
    cells = (Fact("side", "text", words), piece, width, None, None, None, None)
    return SheetRow(cells, (0.0, 0.0), np.empty((0, 2)))


def _layer_rows(section: TypicalSection) -> list[SheetRow]:
    """The layers of the pavement from the top down, and how far below the finished level each ends."""
    rows, under = [], 0.0
    for k, layer in enumerate(section.layers):
        under += layer.thickness
        cells = (
            Fact("side", "text", "layer"),
            Fact("layer", "text", layer.of, "set", _layer(section.id, k, "of")),
            Fact("thickness", "mm", 1000.0 * layer.thickness, "set", _layer(section.id, k, "thickness", 0.001)),
            None,
            None,
            Fact("level", "level", -under),
            None,
        )
        rows.append(SheetRow(cells, (0.0, 0.0), np.empty((0, 2)), actions=_layer_actions(section.id, k)))
    return rows


def _layer(section: str, k: int, key: str, share: float | None = None) -> Callable[[Any], Edit]:
    return lambda value: lambda s: edits.set_layer(s, section, k, **{key: value if share is None else value * share})


def _layer_actions(section: str, k: int) -> tuple[tuple[str, Edit], ...]:
    return (
        ("Add a layer under it", lambda s: edits.add_layer(s, section, k)),
        ("Remove", lambda s: edits.remove_layer(s, section, k)),
    )


def _strip(section: str, side: Side, i: int, key: str) -> Callable[[Any], Edit]:
    return lambda value: lambda s: edits.set_strip(s, section, side, i, **{key: value})


def _batter(section: str, side: Side, key: str) -> Callable[[Any], Edit]:
    return lambda value: lambda s: edits.set_batter(s, section, side, **{key: value})


def _drain(section: str, side: Side) -> Callable[[str], Edit]:
    return lambda shape: lambda s: edits.set_toe_drain(s, section, side, shape)


def _choice_of_piece(section: str, side: Side, i: int, p: Strip) -> Choice:
    options = edits.INSIDE if p.piece in edits.INSIDE else edits.OUTSIDE
    edit = lambda v: lambda s: edits.set_strip(s, section, side, i, piece=v)  # noqa: E731
    return Choice("piece", tuple((o, o) for o in options), p.piece, edit)


def _choice_of_kerb(q: Engine, section: str, side: Side, i: int, kerb: str) -> Choice:
    return Choice("piece", _shapes(q), kerb, lambda v: lambda s: edits.set_kerb(s, section, side, i, v))


def _shapes(q: Engine) -> tuple[tuple[str, str], ...]:
    return tuple((k, parts.kerb_shape(q, k).name) for k in parts.ids(q, KerbShape))


def piece_actions(section: str, side: Side, i: int, p: Part) -> tuple[tuple[str, Edit], ...]:
    """What can be done with a piece: others after it, its place, and its end."""
    inside = isinstance(p, Strip) and p.piece in edits.INSIDE
    to_lip = isinstance(p, Strip) and p.to == "lip"
    add = (*(edits.INSIDE if inside else ()), *((*edits.OUTSIDE, "kerb") if not inside or to_lip else ()))
    found: list[tuple[str, Edit]] = [(f"Add {piece}", _adding(section, side, i, piece)) for piece in add]
    found += [
        ("Inwards", lambda s: edits.move_piece(s, section, side, i, -1)),
        ("Outwards", lambda s: edits.move_piece(s, section, side, i, 1)),
        ("Remove", lambda s: edits.remove_piece(s, section, side, i)),
    ]
    return tuple(found)


def _adding(section: str, side: Side, i: int, piece: Any) -> Edit:
    return lambda s: edits.add_piece(s, section, side, i, piece)


def _lit(q: Engine, street: str, names: tuple[str, str], sides: tuple[Side, ...]) -> Floats:
    """Both lines between which a piece lies, in plan."""
    runs: list[Floats] = []
    for side in sides:
        for name in names:
            id = StreetLine(street) if name == "crown" else StreetLine(street, name, side)
            plan = q.attempt(line_plan, id)
            if not isinstance(plan, Unsolved):
                runs += [plan.points(s) for s in plan.runs(_SAG)]
    return joined_up(runs)
