"""Corners as people read and change them: in facts, in rows beside the plan, and by the middle of each return in the hand."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from itertools import product
from typing import Any, NamedTuple

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.junction.corners import (
    CornerSizes,
    Return,
    ReturnLine,
    change_corner,
    corner_choice,
    divisions,
    kerb_return,
    laid_return,
    sizes_of,
)
from humble_loop.kinds.junction.nodes import Arm, CrossingArm, arms_at
from humble_loop.kinds.junction.nose import nose_rows
from humble_loop.kinds.junction.ramps import ramp_rows
from humble_loop.kinds.junction.splay import proposed_splay
from humble_loop.kinds.street.plan import StreetLine, is_new, name_of
from humble_loop.lines.describe import Choice, Fact, Handle, Note, Place, Row, Sheet, SheetRow, Told, Typed, Unit
from humble_loop.lines.line import line
from humble_loop.lines.rules import CubicBetween
from humble_loop.site.edits import Edit
from humble_loop.site.model import SIDES, Side

SHAPES = (("arc", "arc"), ("three-centred", "three-centred"), ("chamfer", "chamfer"), ("none", "none"))
_PITS = (("no", "no pit"), ("yes", "pit"))
_BOUNDARIES = (("round", "round"), ("splay", "splay"))
_COLUMNS = ("corner", "shape", "part", "radius", "turns", "back", "from", "to", "pit", "boundary", "splay")
_NOTE = "Left and right are seen leaving along the side street. Type a size, or drag a return by its middle"
_EXISTING = "The side street is an existing one: nothing is built here"
_LIT = 24  # places along a part that is lit up
_LEAST = 0.5  # metres of a size that is dragged
_STEP = 0.1  # metres by which a size is changed to see how the return's middle moves
_SLOWEST = 0.05  # metres that the middle moves for each of the size, at least


class Part(NamedTuple):
    """A part of a return that has sizes of its own: what it is called, and the names of its radius, turn and distance back."""

    name: str
    radius: str = ""
    turn: str = ""
    back: str = ""


PARTS: dict[str, tuple[Part, ...]] = {
    "arc": (Part("arc", "radius"),),
    "three-centred": (
        Part("through", "radius_through", "turn_through"),
        Part("middle", "radius"),
        Part("side", "radius_side", "turn_side"),
    ),
    "chamfer": (Part("through", "rounding", back="back_through"), Part("side", "rounding", back="back_side")),
    "none": (),
}
_WORDS = {
    "radius": "radius",
    "radius_through": "radius at the through lip",
    "turn_through": "turns",
    "radius_side": "radius at the side lip",
    "turn_side": "turns",
    "back_through": "back along the through lip",
    "back_side": "back along the side lip",
    "rounding": "ends rounded by",
}


class _Corner:
    """A corner with what was chosen of it, and the facts and edits of its sizes."""

    def __init__(self, q: Engine, street: str, arm: Arm, corner: Side) -> None:
        self.q, self.place = q, (street, arm, corner)
        self.choice, self.sizes = corner_choice(q, *self.place), sizes_of(q, *self.place)
        self.made = q.attempt(kerb_return, *self.place)

    def to(self, key: str) -> Callable[[Any], Edit]:
        return lambda value: change_corner(self.q, *self.place, **{key: value})

    def size(self, key: str, label: str = "", inner: bool = False) -> Fact:
        """A size as it is used: set, or proposed until it is."""
        unit: Unit = "angle" if key.startswith("turn") else "size"
        value, given = getattr(self.sizes, key), getattr(self.choice, key) is not None
        edit = self.to(key)
        switch = edit(None) if given else edit(round(value, 4))
        state = "set" if given else "proposed"
        return Fact(label or _WORDS[key], unit, value, state, edit, switch, inner=inner)

    def shape(self, label: str) -> Choice:
        return Choice(label, SHAPES, self.choice.shape, self.to("shape"))

    def pit(self) -> Choice:
        edit = self.to("pit")
        return Choice("pit", _PITS, "yes" if self.choice.pit else "no", lambda v: edit(v == "yes"), True)

    def boundary(self) -> Choice:
        edit, far = self.to("splay"), proposed_splay(self.q, *self.place)
        now = "round" if self.choice.splay is None else "splay"
        return Choice("boundary", _BOUNDARIES, now, lambda v: edit(far if v == "splay" else None), True)

    def splay(self) -> Fact | None:
        if self.choice.splay is None:
            return None
        return Fact("splay", "size", self.choice.splay, "set", self.to("splay"), self.to("splay")(None), inner=True)

    def levels(self) -> tuple[float, float] | None:
        """Levels (m) at the through lip and at the side lip."""
        lip = self.q.attempt(line, ReturnLine(*self.place))
        if isinstance(lip, Unsolved) or not isinstance(lip.rule, CubicBetween):
            return None
        return lip.rule.cubic.z0, lip.rule.cubic.z1


def corner_facts(q: Engine, street: str, arm: Arm, corner: Side) -> list[Row]:
    """Shape and sizes of a corner, its levels and its pit."""
    c = _Corner(q, street, arm, corner)
    rows: list[Row] = [c.shape(f"{corner} corner")]
    for part in PARTS[c.sizes.shape]:
        rows += [c.size(key, inner=True) for key in (part.radius, part.turn, part.back) if key]
    if c.sizes.shape == "chamfer":
        del rows[3]  # both ends are rounded by one size
    if c.sizes.shape == "none":
        rows.append(Fact("radius", "length", c.sizes.radius, inner=True))
    if isinstance(c.made, Unsolved):
        return [*rows, Note(f"{c.made.message}; {c.made.remedy}")]
    levels = c.levels()
    if levels is not None:
        rows.append(Fact("at the through lip", "level", levels[0], "tied", inner=True))
        rows.append(Fact("at the side lip", "level", levels[1], "tied", inner=True))
        given, n, count = c.choice.divisions, divisions(q, street, arm, corner), c.to("divisions")
        state, switch = ("set", count(None)) if given else ("proposed", count(n))
        rows.append(Fact("divisions", "count", n, state, count, switch, inner=True))
    rows.append(c.boundary())
    if (splayed := c.splay()) is not None:
        rows.append(splayed)
    return [*rows, *ramp_rows(q, street, arm, corner), *nose_rows(q, street, arm, corner), c.pit()]


def corner_sheet(q: Engine, id: str) -> Sheet:
    """The corners of a junction in rows: a row for each part of a return that has a size of its own."""
    rows, arms = list[SheetRow](), arms_at(q, id)
    for (street, arm), corner in product(arms, SIDES):
        if is_new(q, street):
            rows += _rows(_Corner(q, street, arm, corner))
    note = _NOTE if rows else _EXISTING
    seldom = ("back", "splay")
    columns = [k for k, name in enumerate(_COLUMNS) if name not in seldom or any(r.cells[k] is not None for r in rows)]
    rows = [replace(r, cells=tuple(r.cells[k] for k in columns)) for r in rows]
    line_id = StreetLine(arms[0][0] if arms else "")
    return Sheet("Corners", line_id, tuple(_COLUMNS[k] for k in columns), tuple(rows), note)


def _rows(c: _Corner) -> list[SheetRow]:
    street, arm, corner = c.place
    name = f"{arm}, {corner}" if isinstance(arm, CrossingArm) else corner
    levels = c.levels() or (float("nan"), float("nan"))
    found = []
    parts = PARTS[c.sizes.shape] or (Part("tight"),)
    for k, part in enumerate(parts):
        turn: Fact | None = c.size(part.turn, "turns") if part.turn else None
        if turn is None and not isinstance(c.made, Unsolved) and not part.back:
            turn = Fact("turns", "angle", _turn(c.made, k, len(parts)))
        radius = c.size(part.radius, "radius") if part.radius else Fact("radius", "length", c.sizes.radius)
        cells = (
            Fact("corner", "text", name if k == 0 else ""),
            c.shape("shape") if k == 0 else None,
            Fact("part", "text", part.name),
            radius,
            turn,
            c.size(part.back, "back") if part.back else None,
            Fact("from", "level", levels[0], "tied") if k == 0 and np.isfinite(levels[0]) else None,
            Fact("to", "level", levels[1], "tied") if k == 0 and np.isfinite(levels[1]) else None,
            c.pit() if k == 0 else None,
            c.boundary() if k == 0 else None,
            c.splay() if k == 0 else None,
        )
        lit = np.empty((0, 2)) if isinstance(c.made, Unsolved) else _lit(c.made, k, len(parts))
        held = ("return", street, arm, corner) if k == len(parts) // 2 else ()
        found.append(SheetRow(cells, (0.0, -1.0), lit, held=held))
    return found


def _span(made: Return, k: int, parts: int) -> tuple[float, float]:
    """From where to where along a return one of its parts runs: an element, or of a chamfer each half."""
    starts = made.curve.chain.starts
    if len(starts) == parts + 1:
        return float(starts[k]), float(starts[k + 1])
    return made.curve.length * k / parts, made.curve.length * (k + 1) / parts


def _turn(made: Return, k: int, parts: int) -> float:
    """By how many degrees a part of a return turns."""
    if parts == 1:
        return float(np.degrees(made.curve.sweep))
    a, b = _span(made, k, parts)
    chain = made.curve.chain
    headings = chain.at([a + 1e-6, b - 1e-6]).headings
    return float(np.degrees(abs(headings[1] - headings[0])))


def _lit(made: Return, k: int, parts: int) -> Floats:
    found: Floats = made.curve.chain.points_at(np.linspace(*_span(made, k, parts), _LIT))
    return found


# By hand


def corner_handle(q: Engine, street: str, arm: Arm, corner: Side) -> Handle | None:
    """The middle of a return: dragged, its radius changes, or how far a chamfer is cut back."""
    made, sizes = q.attempt(kerb_return, street, arm, corner), sizes_of(q, street, arm, corner)
    if isinstance(made, Unsolved) or sizes.shape == "none":
        return None
    keys = ("back_through", "back_side") if sizes.shape == "chamfer" else ("radius",)
    middle = _middle(made)
    away = _moves(q, street, arm, corner, sizes, keys, middle)
    rate = float(np.hypot(*away))
    size = float(getattr(sizes, keys[0]))

    def edit_for(value: float) -> Edit:
        more = value - size
        return change_corner(q, street, arm, corner, **{k: max(_LEAST, getattr(sizes, k) + more) for k in keys})

    def moved(place: Place) -> tuple[Edit, tuple[Told, ...]]:
        outwards = float((np.array(place) - middle) @ away) / max(rate, 1e-9)
        value = max(_LEAST, round(size + outwards / max(rate, _SLOWEST), 2))
        return edit_for(value), (Told("cut back" if len(keys) > 1 else "radius", "length", value, size),)

    title = f"{name_of(q, street)} {arm} {corner} return"
    typed = (Typed("size", "how far back" if len(keys) > 1 else "a radius", edit_for),)
    return Handle(("return", street, arm, corner), (float(middle[0]), float(middle[1])), title, "round", moved, typed)


def _middle(made: Return) -> Floats:
    found: Floats = made.curve.chain.points_at([0.5 * made.curve.length])[0]
    return found


def _moves(
    q: Engine, street: str, arm: Arm, corner: Side, sizes: CornerSizes, keys: tuple[str, ...], middle: Floats
) -> Floats:
    """How the middle of a return moves (2,) per metre of its sizes: seen by a small change of them."""
    choice = corner_choice(q, street, arm, corner)
    for step in (_STEP, -_STEP):
        changed = choice.model_copy(update={k: getattr(sizes, k) + step for k in keys})
        try:
            made = laid_return(q, street, arm, corner, sizes_of(q, street, arm, corner, changed))
            moved: Floats = (_middle(made) - middle) / step
        except DoesNotFit:
            continue
        return moved
    return np.zeros(2)
