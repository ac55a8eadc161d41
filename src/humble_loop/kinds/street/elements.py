"""A street's line in plan element by element: straights, arcs, transitions, and kinks where it turns without a curve."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import bearing_of
from humble_loop.geometry.bends import BendInput
from humble_loop.geometry.chain import ARC, STRAIGHT, TRANSITION
from humble_loop.kinds.street import edits
from humble_loop.kinds.street.checks import bend_findings
from humble_loop.kinds.street.plan import StreetLine, bends_of, centreline, chain_of
from humble_loop.lines.describe import Fact, Sheet, SheetRow
from humble_loop.lines.findings import Finding
from humble_loop.site import parts
from humble_loop.site.edits import Edit
from humble_loop.site.model import Site

KINK = "kink"
_PART = {"": "", "in": " first", "out": " last"}
_COLUMNS: tuple[str, ...] = ("element", "start", "end", "length", "radius", "bearing", "deflection")
_SAG = 0.02  # metres between what is lit up and the line
_TURNED = 1e-7  # radians: what turns less is no kink
_FEET = 0.3048  # metres
_LIT = 3.0  # metres to either side of a kink that are lit up


@dataclass(frozen=True)
class ElementRow:
    """An element: its ``kind``, the bend that it belongs to (a straight: the one it leaves), chainages, radii at both
    ends (m, infinite where it is straight), bearings there and deflection in degrees, left positive.
    """

    kind: str
    bend: int
    start: float
    end: float
    radii: tuple[float, float]
    bearings: tuple[float, float]
    deflection: float

    @property
    def length(self) -> float:
        """Metres."""
        return self.end - self.start


@query
def elements(q: Engine, street: str) -> tuple[ElementRow, ...]:
    """The elements of a street's centreline in order. Where two of them meet at an angle there is a kink between."""
    laid = centreline(q, street)
    c = laid.chain
    turned = 0.5 * (c.k0 + c.k1) * c.length
    with np.errstate(divide="ignore"):
        radii = 1.0 / np.abs(np.stack([c.k0, c.k1], axis=1))
    bearings = np.stack([bearing_of(c.heading), bearing_of(c.heading + turned)], axis=1)
    found: list[ElementRow] = []
    for i, element in enumerate(c.elements):
        start, end = float(c.starts[i]), float(c.starts[i + 1])
        if i and (kink := _kink(float(c.heading[i - 1] + turned[i - 1]), float(c.heading[i]))):
            both = float(bearings[i - 1, 1]), float(bearings[i, 0])
            at = int(np.argmin(np.hypot(*(np.array(bends_of(q, street))[:, :2] - c.xy[i]).T)))
            found.append(ElementRow(KINK, at, start, start, (0.0, 0.0), both, kink))
        first, last = radii[i].tolist()
        into, out = bearings[i].tolist()
        deflection = float(np.degrees(turned[i]))
        found.append(ElementRow(element.kind, laid.bend_of[i], start, end, (first, last), (into, out), deflection))
    return tuple(found)


def _kink(before: float, after: float) -> float:
    """Degrees, left positive, by which the line turns between two headings; 0 where it runs on."""
    turn = float(np.mod(after - before + np.pi, 2 * np.pi) - np.pi)
    return float(np.degrees(turn)) if abs(turn) > _TURNED else 0.0


def degree_of_curve(radius: float) -> float:
    """Degrees that an arc of ``radius`` (m) turns on 100 feet of its length."""
    return float(np.degrees(100.0 * _FEET / radius)) if radius > 0 else float("nan")


# The sheet


def element_sheet(q: Engine, street: str) -> Sheet:
    """The elements, to be read and edited; those of a bend carry its findings."""
    line = StreetLine(street)
    feet = parts.settings(q).units != "m"
    columns = (*_COLUMNS, "degree of curve") if feet else _COLUMNS
    laid = q.attempt(centreline, street)
    if isinstance(laid, Unsolved):
        return Sheet("Elements", line, columns, (), laid.message)
    wrong = bend_findings(q, street)
    whole = not any(p.kind == "repeated" for p in laid.problems)
    rows, told, made = [], set(), elements(q, street)
    for e, part in zip(made, _parts(bends_of(q, street), made), strict=True):
        mine: tuple[Finding, ...] = ()
        if e.kind != STRAIGHT:
            mine = wrong.get(e.bend, ())
            told.add(e.bend)
        cells = _cells(q, street, e, whole, part)
        rows.append(SheetRow(cells[: len(columns)], (e.start, e.end), _points(q, street, e), mine, _held(street, e)))
    for bend, found in wrong.items():
        if bend not in told and rows:  # a bend that could not be drawn: told on what is drawn instead
            s = float(laid.chain.feet([bends_of(q, street)[bend][:2]]).chainages[0])
            k = next((i for i, r in enumerate(rows) if r.stretch[0] <= s <= r.stretch[1]), 0)
            r = rows[k]
            rows[k] = SheetRow(r.cells, r.stretch, r.points, (*r.findings, *found), r.held)
    return Sheet("Elements", line, columns, tuple(rows))


def _held(street: str, e: ElementRow) -> tuple[str, str, int] | tuple[()]:
    return () if e.kind == STRAIGHT else ("bend", street, e.bend)


def _points(q: Engine, street: str, e: ElementRow) -> np.ndarray:
    chain = chain_of(q, street)
    low, high = (e.start, e.end) if e.kind != KINK else (max(e.start - _LIT, 0.0), min(e.end + _LIT, chain.total))
    s = chain.sampled(sag=_SAG)
    return chain.points_at(np.concatenate([[low], s[(s > low) & (s < high)], [high]]))


def _parts(bends: Sequence[BendInput], rows: Sequence[ElementRow]) -> list[str]:
    """Which arc of a three-centred bend each element is: 'in' or 'out'; '' for its own, and for any other element."""
    found = [""] * len(rows)
    for i, bend in enumerate(bends):
        if not bend.three_centred:
            continue
        arcs = [k for k, e in enumerate(rows) if e.kind == ARC and e.bend == i]
        (_, turn_in), (_, turn_out) = bend.outer
        if arcs and turn_in > 0:
            found[arcs[0]] = "in"
        if arcs and turn_out > 0:
            found[arcs[-1]] = "out"
    return found


def _cells(q: Engine, street: str, e: ElementRow, whole: bool, part: str) -> tuple[Fact | None, ...]:
    """The cells of an element. Straights are edited only where the line is drawn through all its bends (``whole``); ``part``
    is the arc of a three-centred bend.
    """
    bends, i = bends_of(q, street), e.bend
    length: Callable[[float], Edit] | None = None
    radius: Callable[[float], Edit] | None = None
    bearing: Callable[[float], Edit] | None = None
    if e.kind == STRAIGHT and whole:
        length, bearing = _to(edits.lay_leg, street, i, "straight"), _to(edits.lay_leg, street, i, "bearing")
    elif e.kind == ARC and part:
        turn = _to(edits.set_bend, street, i, f"turn_{part}")
        length, radius = (
            lambda v: turn(float(np.degrees(v / e.radii[0]))),
            _to(edits.set_bend, street, i, f"radius_{part}"),
        )
    elif e.kind == ARC:
        length = None if bends[i].three_centred else _to(edits.fit_bend, street, i, "arc")
        radius = _to(edits.set_bend, street, i, "radius")
    elif e.kind == TRANSITION:
        key = "transition_in" if e.radii[0] > e.radii[1] else "transition_out"
        length = _to(edits.set_bend, street, i, key)
    elif e.kind == KINK and 0 < i < len(bends) - 1:
        radius = _to(edits.set_bend, street, i, "radius")
    own = "set" if e.kind in (ARC, KINK) else "worked out"
    return (
        Fact("element", "text", e.kind if e.kind == STRAIGHT else f"{e.kind}, bend {i + 1}{_PART[part]}"),
        Fact("start", "chainage", e.start),
        Fact("end", "chainage", e.end),
        Fact("length", "length", e.length, "set" if e.kind == TRANSITION else "worked out", length),
        _radius(e, own, radius),
        Fact("bearing", "bearing", e.bearings[0], "worked out", bearing),
        Fact("deflection", "turn", e.deflection) if e.kind != STRAIGHT else None,
        Fact("degree of curve", "turn", _degree(e)) if e.kind == ARC else None,
    )


def _radius(e: ElementRow, state: str, edit: Callable[[float], Edit] | None) -> Fact | None:
    if e.kind == STRAIGHT:
        return None
    if e.kind == TRANSITION:
        return Fact("radius", "length", min(e.radii))  # at the arc that it leads to
    return Fact("radius", "length", e.radii[0], state, edit)


def _degree(e: ElementRow) -> float:
    return float(np.copysign(degree_of_curve(e.radii[0]), e.deflection))


def _to(change: Callable[..., Site], street: str, i: int, key: str) -> Callable[[float], Edit]:
    return lambda value: lambda s: change(s, street, i, **{key: value})
