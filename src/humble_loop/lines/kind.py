"""What a kind of thing is: one room that answers all of this, and one line in ``humble_loop.kinds``.

Everything else loops over the kinds that stand (``humble_loop.lines.standing``): index, plan, strip, facts, handles,
tables, findings, reasons, the finished surface, set-out, exports, stage dots and the command line. A kind overrides
what it has something to say about; the rest stays empty.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, fields

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Key
from humble_loop.geometry.arrays import Floats
from humble_loop.lines.describe import (
    Crossing,
    Drawing,
    Handle,
    LineProfile,
    Mark,
    Row,
    SetOutPoint,
    SheetOf,
    SheetRow,
    Standing,
    Window,
)
from humble_loop.lines.faces import Face, FaceId
from humble_loop.lines.findings import Finding
from humble_loop.lines.line import LineId, LinePlan, ThingId
from humble_loop.lines.quantity import Quantity
from humble_loop.lines.rules import Hold, LevelRule
from humble_loop.lines.table import TableMaker
from humble_loop.site.edits import Edit
from humble_loop.site.model import Anchor, End, Side, Site, Thing


@dataclass(frozen=True)
class EndTie:
    """Where a street's end is held by something else: from ``chainage`` inwards its own grade line runs.

    ``level`` is the level there, as a quantity at one place. Beyond it, to the street's end, the crown follows
    ``inside`` (None: nothing is known there).
    """

    end: End
    chainage: float
    level: Quantity
    inside: LevelRule | None


@dataclass(frozen=True)
class Carried:
    """Where something else carries a street's crown, from ``begin`` to ``finish`` (chainages), as ``inside`` says (None: nothing is
    known there). ``first`` and ``last`` are the levels at both, as quantities at one place: from there its own grade line runs.
    Where ``finish`` is ``begin`` it is only held there.
    """

    begin: float
    finish: float
    first: Quantity
    last: Quantity
    inside: LevelRule | None


@dataclass(frozen=True)
class Turn:
    """How a side's crossfall turns beside what holds a street's crown: from ``across`` at ``begin`` to normal at ``finish``.

    It is meant to turn ``onwards``, or back; where ``finish`` lies the other way there is no room for it.
    """

    begin: float
    finish: float
    onwards: bool
    across: float
    words: str


@dataclass(frozen=True)
class Widens:
    """That a side of a street is wider ``by`` so many metres (below zero: narrower) from ``begin`` to ``finish``, coming to that over ``taper_in`` and going back
    over ``taper_out`` inside them.
    """

    begin: float
    finish: float
    by: float
    taper_in: float
    taper_out: float


@dataclass(frozen=True)
class Raise:
    """That a street's carriageway is raised ``by`` metres from ``begin`` to ``finish`` (chainages), coming up over ``ramp`` metres outside
    them; its kerbs and what lies outside them stay where they are.
    """

    begin: float
    finish: float
    by: float
    ramp: float


@dataclass(frozen=True)
class GoesOn:
    """That a street goes on at its ``end`` as another does from its own; where it ``follows`` it has that one's section there, and its own
    after ``taper`` metres.
    """

    end: End
    other: str
    other_end: End
    follows: bool
    taper: float

    @property
    def same_way(self) -> bool:
        """Whether both run the same way there, so that left is left."""
        return self.end != self.other_end


@dataclass(frozen=True)
class Meeting:
    """A circle of ``radius`` about a ``place`` in which the streets that meet there do so, and in no junction."""

    place: tuple[float, float]
    radius: float

    def holds(self, place: Floats) -> bool:
        """Whether a place (2,) lies within it."""
        return float(np.hypot(*(place - np.array(self.place)))) < self.radius


@dataclass(frozen=True)
class Lowers:
    """That the kerb beside a lip is down from ``begin`` to ``finish`` along that, and comes down and goes up over ``taper`` beside it."""

    begin: float
    finish: float
    taper: float


@dataclass(frozen=True)
class Following:
    """That a thing takes levels from another (None: the ground), through the thing ``by`` if that is one; ``words`` say what of it."""

    follower: ThingId
    leader: ThingId | None
    words: str
    by: ThingId | None = None


@dataclass(frozen=True)
class Parcel:
    """A piece of land: its outline (n, 2) and area in m2."""

    name: str
    outline: Floats
    area: float


@dataclass(frozen=True)
class Reserve:
    """Land that belongs to a street, in plan: its polygon, and the boundary lines that are its edges towards the lots."""

    plan: shapely.Geometry
    edges: tuple[LineId, ...]


_TELL_APART = (
    "ring",
    "side",
    "leg",
    "part",
    "piece",
    "point",
)  # fields of a line that tell it from others of its thing


class Kind:
    """Base of all kinds.

    ``key`` is the word in ids, ``title`` heads its group in the index, ``stage`` is the stage of the work where it
    stands. ``models`` are what it keeps in the site; ``rules`` maps each rule that it checks to the stage it belongs to.
    """

    key: str = ""
    title: str = ""
    stage: str = ""
    models: tuple[type[Thing], ...] = ()
    rules: Mapping[str, str] = {}
    beneath = False  # whether what is designed is chosen before its things where both are at a place of the plan
    worked_on_next = False  # whether one that was just made is what the designer turns to
    at_leisure = False  # whether its things are shown when there is time, though they stand on the street in hand
    together = False  # whether the plan draws all its things as one, because they are many and simple
    tables: Mapping[str, TableMaker] = {}

    # What there is

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        """All things of the kind, in order."""
        return ()

    def groups(self, q: Engine) -> Sequence[Key]:
        """Questions on which its things rest and that can be answered one by one, where several processes share work."""
        return ()

    def name(self, q: Engine, thing: ThingId) -> str:
        """What people call it."""
        return thing.id

    def under(self, q: Engine, thing: ThingId) -> ThingId | None:
        """The thing under which the index lists it, or None."""
        return None

    def streets_of(self, q: Engine, thing: ThingId) -> tuple[str, ...]:
        """The streets that it is or stands on, and that change when it does: as its id begins, unless it is said otherwise."""
        return (thing.id.split(":", 1)[0],)

    def progress(self, q: Engine) -> dict[str, float]:
        """By stage, the share of its things that are settled; nothing where there are none."""
        return {self.stage: 1.0} if self.things(q) else {}

    # Lines and faces

    def lines(self, q: Engine, thing: ThingId) -> tuple[LineId, ...]:
        """Its lines."""
        return ()

    def thing_of(self, q: Engine, id: LineId | FaceId) -> ThingId:
        """The thing that one of its lines or faces is of: of those at a street's end, by the end as it was drawn."""
        return id.thing

    def word_of(self, q: Engine, id: LineId) -> str:
        """What one of its lines is called among those of its thing, however the thing runs."""
        words = (getattr(id, f.name) for f in fields(id) if f.name in _TELL_APART)
        return " ".join(str(w) for w in words if w)

    def line_plan(self, q: Engine, id: LineId) -> LinePlan:
        """One of its lines in plan."""
        raise NotImplementedError

    def level_rule(self, q: Engine, id: LineId) -> LevelRule:
        """How one of its lines comes by its levels."""
        raise NotImplementedError

    def faces(self, q: Engine, thing: ThingId) -> tuple[FaceId, ...]:
        """Its faces of the finished surface."""
        return ()

    def face(self, q: Engine, id: FaceId) -> Face:
        """One of its faces."""
        raise NotImplementedError

    def built_with(self, q: Engine, id: FaceId) -> str | None:
        """The street whose place in the order of construction one of its faces has; None where it has none."""
        return None

    def reason(self, q: Engine, id: FaceId, place: tuple[float, float]) -> Quantity | None:
        """The quantity (at one place) that the level at a place of a face rests on, where that is no line's; None
        to take the nearest of the face's lines.
        """
        return None

    # What it does to streets

    def end_ties(self, q: Engine, street: str) -> tuple[EndTie, ...]:
        """How it holds a street's ends."""
        return ()

    def meetings(self, q: Engine, street: str) -> tuple[Meeting, ...]:
        """Circles near a street in which streets that meet do so in what this kind makes of it; resting on centrelines alone."""
        return ()

    def goes_on(self, q: Engine, street: str) -> tuple[GoesOn, ...]:
        """Ends at which it has a street go on as another; resting on nothing that has a level."""
        return ()

    def carried(self, q: Engine, street: str) -> tuple[Carried, ...]:
        """Where it carries a street's crown away from its ends."""
        return ()

    def widens(self, q: Engine, street: str, side: Side) -> tuple[Widens, ...]:
        """Where it makes a street's side wider between crown and lip, resting on nothing but centrelines."""
        return ()

    def raises(self, q: Engine, street: str) -> tuple[Raise, ...]:
        """Where it raises a street's carriageway; resting on nothing that has a level."""
        return ()

    def turns(self, q: Engine, street: str, side: Side) -> tuple[Turn, ...]:
        """How it turns a street's crossfall beside where it holds its crown."""
        return ()

    def own_range(self, q: Engine, street: str, side: Side) -> tuple[float, float]:
        """Chainages between which a street's side has its own lip, as far as this kind is concerned."""
        return (-np.inf, np.inf)

    def carriageway_range(self, q: Engine, street: str, side: Side) -> tuple[float, float]:
        """Chainages between which the street itself makes the carriageway of a side, as far as this kind is concerned."""
        return (-np.inf, np.inf)

    def breaks(self, q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
        """Stretches away from its ends on which a street's side has no lip of its own."""
        return ()

    def carriageway_breaks(self, q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
        """Stretches away from its ends on which the street itself does not make the carriageway of a side."""
        return ()

    def gaps(self, q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
        """Chainages between which it interrupts a side's kerb."""
        return ()

    def stations(self, q: Engine, street: str) -> Floats:
        """Chainages at which a street must have a row."""
        return np.empty(0)

    def obstacles(self, q: Engine, street: str) -> tuple[shapely.Geometry, ...]:
        """What vehicles cannot drive over on a street's carriageway, in plan."""
        return ()

    def built_before(self, q: Engine, street: str) -> tuple[str, ...]:
        """Streets that are built before a street unless it is decided otherwise; resting on nothing that has a level."""
        return ()

    def cover(self, q: Engine, line: LineId) -> tuple[tuple[float, float], ...]:
        """Stretches of a boundary line that it adjoins, so that no batter stands there."""
        return ()

    def claims(self, q: Engine, line: LineId) -> tuple[tuple[float, float], ...]:
        """Stretches of a boundary line that it is there to adjoin, whether or not it can; resting on nothing that has a level."""
        return ()

    def beyond(self, q: Engine, line: LineId) -> tuple[tuple[LineId, ...], ...]:
        """Rows of lines that stand beyond a boundary line of a kind before it, each from the boundary outwards, on the
        same base: where a row stands, the batter begins at its last line.
        """
        return ()

    def holds(self, q: Engine, line: LineId) -> tuple[Hold, ...]:
        """How it holds a line of a kind before it in level, over stretches that do not overlap."""
        return ()

    def lowers(self, q: Engine, lip: LineId) -> tuple[Lowers, ...]:
        """Stretches of a lip of a kind before it along which it has the kerb lowered; resting on nothing that has a level."""
        return ()

    def let_follow(self, q: Engine, line: LineId, s: float, anchor: Anchor, level: float) -> Edit | None:
        """The edit that lets a line follow another at a chainage ``s`` of it, ``level`` being where it lies then; None where it has no level of its own there."""
        return None

    def followings(self, q: Engine) -> tuple[Following, ...]:
        """Which things take levels from which, as far as this kind sees to it; resting on nothing that has a level."""
        return ()

    def slopes(self, q: Engine, line: LineId, s: Floats) -> Floats:
        """Cut and fill slope (n, 2), as rises per metre, of the batter at places on one of its boundary lines."""
        raise NotImplementedError

    def benches(self, q: Engine, line: LineId, s: Floats) -> Floats:
        """Height between benches, their width and grade (n, 3) of the batter at places on one of its boundary lines."""
        return np.zeros((len(s), 3))

    def corners_on(self, q: Engine, line: LineId) -> tuple[tuple[float, LineId, float], ...]:
        """Where a boundary line of a kind before it goes on as one of this kind's: place on it, that line, place on that."""
        return ()

    def stations_on(self, q: Engine, line: LineId) -> Floats:
        """Places on a line of a kind before it at which that line must have a row."""
        return np.empty(0)

    def rows_on(self, q: Engine, line: LineId) -> Floats:
        """Places on one of its boundary lines at which the faces beside it are worked out."""
        raise NotImplementedError

    def reserves(self, q: Engine, street: str) -> tuple[Reserve, ...]:
        """Land that it takes for a street, resting on nothing that has a level."""
        return ()

    def recut(self, q: Engine, site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
        """The site after a street was cut or made longer: what hangs on it stays where it stands.

        Chainages are those of the street as it was drawn, and as ``q`` still has it: what is left of it runs from
        ``kept[0]``, below zero where it is longer there, to ``kept[1]``, and is measured from there. What stands beyond is
        the street ``rest``'s, measured from there ('': it is gone, and what cannot be placed is kept).
        """
        return site

    def rejoined(self, q: Engine, site: Site, gone: str, street: str, start: float, back: bool) -> Site:
        """The site after the street ``gone`` became part of ``street``: what hangs on it hangs on that, and stays where it stands.

        A chainage r of it as it was drawn is ``start + r`` of the street as that was drawn; ``start − r`` where it was drawn
        ``back``, and its sides are swapped then. Raises EditError where something cannot go with it.
        """
        return site

    # What is wrong, and what people read

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        """Rules that it breaks."""
        return ()

    def findings_about(self, q: Engine, other: ThingId) -> tuple[Finding, ...]:
        """Rules that it finds broken on a thing of another kind."""
        return ()

    def set_out(self, q: Engine, thing: ThingId) -> tuple[SetOutPoint, ...]:
        """Its set-out points."""
        return ()

    def parcels(self, q: Engine, thing: ThingId) -> tuple[Parcel, ...]:
        """Its pieces of land."""
        return ()

    # How it shows itself

    def outline(self, q: Engine, thing: ThingId) -> Drawing:
        """It in plan, resting on nothing that has a level: drawn at once, and left alone while levels are dragged."""
        return Drawing()

    def lit(self, q: Engine, thing: ThingId) -> Floats | None:
        """What is lit up in plan while it is chosen, as points (n, 2) with NaN between; None for the line of its long section."""
        return None

    def details(self, q: Engine, thing: ThingId) -> Drawing:
        """What else the plan shows of it, levels and earthworks: drawn when there is time."""
        return Drawing()

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        """Its values."""
        return ()

    def handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        """Its handles in plan."""
        return ()

    def sheets(self, q: Engine, thing: ThingId) -> tuple[SheetOf, ...]:
        """Its lines' parts in rows, to be read and edited beside the plan."""
        return ()

    def sheets_about(self, q: Engine, other: ThingId) -> tuple[SheetOf, ...]:
        """Sheets that it adds to those of a thing of another kind."""
        return ()

    def facts_about(self, q: Engine, other: ThingId) -> tuple[Row, ...]:
        """Values that it adds to the facts of a thing of another kind."""
        return ()

    def handles_about(self, q: Engine, other: ThingId) -> tuple[Handle, ...]:
        """Handles that it adds to those of a thing of another kind."""
        return ()

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        """The line whose long section is shown when it is chosen."""
        return None

    def street_beside(self, q: Engine, id: LineId) -> str:
        """The street that is looked at with one of its lines, where that does not name it itself."""
        return ""

    def beside(self, q: Engine, id: LineId) -> tuple[LineId, ...]:
        """Other lines shown in the long section of one of its lines."""
        return ()

    def section_handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        """Its handles in the long section: (chainage, level)."""
        return ()

    def section_offers(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> tuple[tuple[str, Edit], ...]:
        """What can be done at a place (chainage, level) of its long section: words and edit, the first by a double click."""
        return ()

    def profiles(self, q: Engine, thing: ThingId) -> tuple[LineProfile, ...]:
        """The long sections of its own lines side by side, where these are what it is worked on by."""
        return ()

    def profile_handles(self, q: Engine, thing: ThingId) -> tuple[Handle, ...]:
        """Its handles in those: (metres from where the first begins, level)."""
        return ()

    def cross_handles(self, q: Engine, thing: ThingId, chainage: float) -> tuple[Handle, ...]:
        """Its handles in its cross section at a chainage: (metres to the right, level)."""
        return ()

    def cross_handles_about(self, q: Engine, other: ThingId, chainage: float) -> tuple[Handle, ...]:
        """Handles that it adds to the cross section of a thing of another kind at a chainage."""
        return ()

    def cross_rows(self, q: Engine, thing: ThingId, chainage: float) -> tuple[SheetRow, ...]:
        """The pieces of its section at a chainage, with what can be done with each."""
        return ()

    def section_marks(self, q: Engine, line: LineId) -> tuple[Crossing, ...]:
        """Where it is met along a line, with its level there."""
        return ()

    def standing_on(self, q: Engine, line: LineId, s: float | None) -> Standing | None:
        """What stands on one of its lines in the long section, at a chainage or, for None, where it matters most; None for nothing."""
        return None

    def windows(self, q: Engine, line: LineId) -> tuple[Window, ...]:
        """Fall windows that it leaves a line."""
        return ()

    def ribbon(self, q: Engine, street: str) -> tuple[Mark, ...]:
        """Its marks on a street's strip."""
        return ()

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        """How near (m) a place is to it for choosing by a click; infinite where it cannot be chosen there."""
        return np.inf
