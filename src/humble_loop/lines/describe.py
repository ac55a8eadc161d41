"""How things describe themselves to whoever shows them: facts, sheets, handles, drawings, strip marks. No word of a window.

Values are SI and places are measured from the site's origin; who shows them converts.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from humble_loop.engine.query import Engine
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.lines.findings import Finding
from humble_loop.lines.line import LineId, ThingId
from humble_loop.site.edits import Edit

Place = tuple[float, float]
Unit = Literal[
    "level",
    "length",
    "size",
    "grade",
    "chainage",
    "area",
    "volume",
    "count",
    "text",
    "bearing",
    "angle",
    "turn",
    "rate",
    "slope",
    "mm",
]
"""What a value is: how it is shown and read. 'level' has all decimals, 'length' two, 'size' is a length above zero;
'bearing' is in degrees from north, 'angle' in degrees, 'turn' one with its side, left positive; 'rate' is metres of a curve for each percent of change;
'slope' is a batter's, rise per metre, written 1:2; 'mm' is in millimetres, and so written.
"""


# Facts


@dataclass(frozen=True)
class Fact:
    """A value with its state. ``edit`` makes an edit of a typed value (None: it is only read); ``switch`` is what the
    mark does: set what is proposed, or give back what is set. ``accepts`` are other readings of typed text. ``before``
    stands before the value.
    """

    label: str
    unit: Unit
    value: Any
    state: str = "worked out"
    edit: Callable[[Any], Edit] | None = None
    switch: Edit | None = None
    accepts: tuple[tuple[Unit, Callable[[Any], Edit]], ...] = ()
    inner: bool = False
    before: str = ""


@dataclass(frozen=True)
class Choice:
    """A value chosen from a list of (id, name) pairs."""

    label: str
    options: tuple[tuple[str, str], ...]
    current: str
    edit: Callable[[str], Edit]
    inner: bool = False


@dataclass(frozen=True)
class Actions:
    """Buttons: (words, edit)."""

    buttons: tuple[tuple[str, Edit], ...]


@dataclass(frozen=True)
class Note:
    """A line of text between facts: a heading, or what is wrong."""

    words: str
    heading: bool = True


Row = Fact | Choice | Actions | Note


# Sheets: the parts of a line in rows, each with its place in plan


@dataclass(frozen=True)
class SheetRow:
    """A part of a line: a cell for each column (None: empty), the stretch of chainages that it has, and what is wrong.

    ``points`` (n, 2) are lit up in plan; ``held`` is the key of the handle that belongs to it, or (). ``actions`` are
    (words, edit) that are offered while it is chosen. ``across`` is where a piece of a section lies: metres to the right
    of the centreline, from and to. ``ghost`` (n, 2) is drawn in the long section: chainages and levels that are proposed.
    """

    cells: tuple[Fact | Choice | None, ...]
    stretch: tuple[float, float]
    points: Floats
    findings: tuple[Finding, ...] = ()
    held: tuple[Any, ...] = ()
    actions: tuple[tuple[str, Edit], ...] = ()
    across: tuple[float, float] | None = None
    ghost: Floats | None = None


@dataclass(frozen=True)
class Sheet:
    """Rows along a line, in order; ``note`` says what they are of, or why there are none; ``actions`` are of all of it.

    ``shape`` is what the rows describe, to be drawn to scale: points (name, metres out, metres up).
    """

    title: str
    line: LineId
    columns: tuple[str, ...]
    rows: tuple[SheetRow, ...]
    note: str = ""
    actions: tuple[tuple[str, Edit], ...] = ()
    shape: tuple[tuple[str, float, float], ...] = ()


@dataclass(frozen=True)
class SheetOf:
    """A sheet by its title, worked out when it is shown."""

    title: str
    make: Callable[[Engine], Sheet]

    @staticmethod
    def made(sheet: Sheet) -> SheetOf:
        """One that is there already."""
        return SheetOf(sheet.title, lambda q: sheet)


# Handles


@dataclass(frozen=True)
class Told:
    """A value beside the cursor while something moves: what it is, and what it was."""

    label: str
    unit: Unit
    value: float
    was: float | None = None


@dataclass(frozen=True)
class Typed:
    """What typed text may mean: a value of ``unit``, written after ``prefix``; ``asks`` in words."""

    unit: Unit
    asks: str
    edit: Callable[[float], Edit]
    prefix: str = ""


@dataclass(frozen=True)
class Handle:
    """Something to drag, in plan (easting, northing) or in a long section (chainage, level).

    ``moved`` gives for a place the edit and what to tell; ``rule`` gives the nearest rule in words while it moves. ``instead``
    gives for the place where it was let go what else could have been meant: words, and the edit in place of the move.
    ``key`` tells it from all others. ``does`` says what dragging it does, where that is not to move it; a 'ring' stands beside its place, on a stem.
    """

    key: tuple[Any, ...]
    place: Place
    title: str
    shape: Literal["square", "round", "ring"]
    moved: Callable[[Place], tuple[Edit, tuple[Told, ...]]]
    typed: tuple[Typed, ...]
    rule: Callable[[Engine], str] = lambda q: ""
    state: str = "set"
    instead: Callable[[Place], tuple[tuple[str, Edit], ...]] = lambda place: ()
    does: str = ""


# Drawings

LABEL_RANKS = {"street": 0, "throat": 1, "pad": 2, "grade": 3, "name": 4, "spot": 5, "contour": 8}


@dataclass(frozen=True)
class Stroke:
    """Lines of one role in plan, as points (n, 2) with NaN between."""

    role: str
    points: Floats


@dataclass(frozen=True)
class Standing:
    """What stands on a line in its long section: its outline (n, 2) by chainage and level, NaN between, and ``words`` at a ``place`` of it, in the
    colour of a ``role``.
    """

    points: Floats
    words: str
    place: Place
    role: str


@dataclass(frozen=True)
class Area:
    """A filled ring (n, 2) of a role; ``depth`` is its mean cut (−) or fill (+) in metres, NaN where that means nothing."""

    role: str
    ring: Floats
    thing: ThingId
    depth: float = float("nan")
    state: str = "worked out"
    wrong: bool = False


@dataclass(frozen=True)
class Label:
    """Text at a place: words, or a value; lower ranks are placed first. Nudged up by ``lift`` metres."""

    place: Place
    role: str
    rank: int
    words: str = ""
    unit: Unit = "text"
    value: float = float("nan")
    state: str = ""
    centred: bool = False
    weight: int = 400
    size: int = 11


@dataclass(frozen=True)
class Drawing:
    """A thing in plan. ``strokes`` and ``areas`` are drawn, ``labels`` placed."""

    strokes: tuple[Stroke, ...] = ()
    areas: tuple[Area, ...] = ()
    labels: tuple[Label, ...] = ()


_GAP = np.full((1, 2), np.nan)


def joined_up(lines: list[Floats]) -> Floats:
    """Lines (each (k, 2 or 3)) as one array (n, 2) with NaN between."""
    if not lines:
        return np.empty((0, 2))
    return frozen(np.concatenate([p for one in lines for p in (one[:, :2], _GAP)]))


# The strip: a street straightened out


@dataclass(frozen=True)
class Mark:
    """Something beside a street at its chainages: 'left', 'right' or 'across'; drawn as its role says, a driveway as the worst passage on it."""

    role: Literal[
        "lip", "mouth", "box", "head", "crossing", "driveway", "driveway clear", "driveway near", "driveway touches"
    ]
    side: Literal["left", "right", "across"]
    start: float
    end: float
    words: str = ""
    thing: ThingId | None = None


# Long sections


@dataclass(frozen=True)
class Window:
    """A fall window: the band of levels in which ``rule`` holds, from ``low`` to ``high`` (n,) at chainages (n,) of a line and
    straight between; an edge that is open is infinite all along. ``told`` says of all such what they are. Both edges move up and
    down with the line that it ``follows`` at places (n,) along that; None where nothing moves them. One that is not ``asked`` is
    advice: it is drawn, and takes no room.
    """

    rule: str
    chainages: Floats
    low: Floats
    high: Floats
    told: str
    follows: tuple[LineId, Floats] | None = None
    asked: bool = True

    def at(self, s: float) -> tuple[float, float] | None:
        """Lowest and highest level at a chainage; None where it does not reach."""
        at = self.chainages
        if not at[0] - 1e-6 <= s <= at[-1] + 1e-6:
            return None
        low, high = (float(np.interp(s, at, v)) if np.isfinite(v).all() else float(v[0]) for v in (self.low, self.high))
        return low, high


def band_below(levels: Floats, away: Floats, least: float | None, most: float | None) -> tuple[Floats, Floats]:
    """Lowest and highest levels (n,) that a line may have ``away`` (n,) metres from ``levels`` (n,) that are to fall to it by at least
    and at most these ratios; None for no such limit.
    """
    low = np.full_like(levels, -np.inf) if most is None else levels - most * away
    high = np.full_like(levels, np.inf) if least is None else levels - least * away
    return low, high


@dataclass(frozen=True)
class ProfileMark:
    """A place along a line in its own long section, in metres, with its level and what it is."""

    along: float
    level: float
    words: str


@dataclass(frozen=True)
class LineProfile:
    """The long section of one of several lines of a thing that are shown side by side, from ``begin`` on: ``levels`` (n,) at ``places``
    (n,) along it, between ``low`` and ``high`` (n,), the room that rules leave it (infinite where there is none). ``offers`` says what
    can be done at a place (metres along, level): words and edit, the first by a double click.
    """

    title: str
    name: str
    line: LineId
    begin: float
    places: Floats
    levels: Floats
    low: Floats
    high: Floats
    marks: tuple[ProfileMark, ...]
    offers: Callable[[float, float], tuple[tuple[str, Edit], ...]]

    @property
    def length(self) -> float:
        """Metres of it."""
        return float(self.places[-1])


@dataclass(frozen=True)
class Crossing:
    """Another thing met along a line: its words, where, and its level there."""

    words: str
    chainage: float
    level: float
    line: LineId | None = None


@dataclass(frozen=True)
class SetOutPoint:
    """A set-out point, easting and northing from the site's origin.

    ``along`` (m) and ``offset`` (m, left positive) lead to it from ``base``, which is named: the street's
    centreline where that is unambiguous, else the line that it stands on.
    """

    easting: float
    northing: float
    level: float
    base: str
    along: float
    offset: float
    thing: str
    mark: str
