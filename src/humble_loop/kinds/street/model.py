"""What the site keeps of a street: bends, VIPs, class, section."""

from __future__ import annotations

from typing import Annotated, ClassVar, Literal

import numpy as np
from pydantic import Field, model_validator

from humble_loop.geometry.bends import BendInput
from humble_loop.site.model import (
    Anchor,
    Chainage,
    Coordinate,
    Grade,
    Length,
    Level,
    Model,
    Named,
    Side,
    Thing,
    Words,
    between,
)


class Bend(Model):
    """A horizontal intersection point with its radius and transition lengths; the first and last have none.

    A three-centred one has an arc of ``radius_in`` that turns by ``turn_in`` (degrees) before its own, one of ``radius_out`` and
    ``turn_out`` after it, or both.
    """

    easting: Coordinate
    northing: Coordinate
    radius: Length = 0.0
    transition_in: Length = 0.0
    transition_out: Length = 0.0
    radius_in: Length = 0.0
    turn_in: Annotated[float, between(0.0, 180.0)] = 0.0
    radius_out: Length = 0.0
    turn_out: Annotated[float, between(0.0, 180.0)] = 0.0


def bend_input(bend: Bend) -> BendInput:
    """A bend for the geometry, at its own coordinates."""
    b = bend
    outer = (b.radius_in, float(np.radians(b.turn_in)), b.radius_out, float(np.radians(b.turn_out)))
    return BendInput(b.easting, b.northing, b.radius, b.transition_in, b.transition_out, *outer)


class Vip(Model):
    """A vertical intersection point. Either its level is set, or the grade that arrives at it is and the level follows.

    A ``locked`` one stays as it is, whatever is dragged, raised, rounded or proposed, until it is unlocked. One that ``follows`` another line
    is locked, and has its level from that; its own is the one that it had when it began to.
    """

    chainage: Chainage
    level: Level | None = None
    grade: Grade | None = None
    curve_length: Length = 0.0
    locked: bool = False
    follows: Anchor | None = None

    @model_validator(mode="after")
    def _one_of(self) -> Vip:
        if (self.level is None) == (self.grade is None):
            raise ValueError(f"the VIP at chainage {self.chainage:g} needs either a level or a grade, not both")
        if self.locked and self.level is None:
            raise ValueError(f"the VIP at chainage {self.chainage:g} is locked, and so needs a level")
        if self.follows is not None and not self.locked:
            raise ValueError(f"the VIP at chainage {self.chainage:g} follows another line, and so has to be locked")
        return self


class SectionChange(Model):
    """From ``chainage`` a street's section turns into another over ``taper`` metres, and stays that up to the next change."""

    chainage: Chainage
    section: str
    taper: Annotated[float, between(0.1, 500.0)] = 10.0


class Wanted(Model):
    """What proposals for a street's grade line are to keep. None leaves it to the street's class.

    Following the ground: ``cut`` and ``fill`` at most (m), the ground ``raised`` (m), curves of a length (m). Least overlay:
    ``cover`` (m) of everything between the lips, and ``over`` that (m) at most where it can be. Smooth: ``within`` (m) of the present line. Beside another line (its id
    after its kind): ``fall`` from there, as a ratio.
    """

    cut: Annotated[float, between(0.01, 100.0)] | None = None
    fill: Annotated[float, between(0.01, 100.0)] | None = None
    raised: Annotated[float, between(-100.0, 100.0)] = 0.0
    curve: Annotated[float, between(0.0, 1000.0)] | None = None
    cover: Annotated[float, between(0.0, 10.0)] = 0.05
    over: Annotated[float, between(0.005, 10.0)] = 0.1
    within: Annotated[float, between(0.001, 10.0)] = 0.05
    beside: str = ""
    fall: Annotated[float, between(-1.0, 1.0)] = 0.02


class Street(Named):
    """A road, new or existing.

    An existing street's levels are the ground's; its lips are survey lines where these are named. A new street
    without VIPs has its grade line proposed from the ground; one whose line is ``proposed_between`` has it proposed between
    the locked VIPs that it has. ``turned`` tells that it now runs the other way than it
    was drawn: what hangs on its ends is named by the ends as drawn, and so stays where it is.
    """

    collection: ClassVar[str] = "streets"
    words: ClassVar[str] = "street"

    kind: Literal["new", "existing"] = "new"
    street_class: str = "local"
    section: str = "local-street"
    changes: tuple[SectionChange, ...] = ()
    bends: tuple[Bend, ...] = Field(min_length=2)
    vips: tuple[Vip, ...] = ()
    proposed_between: bool = False
    wanted: Wanted = Wanted()
    left_lip: str | None = None
    right_lip: str | None = None
    turned: bool = False
    along: str = ""
    beside: Annotated[float, between(-500.0, 500.0)] = 0.0

    @model_validator(mode="after")
    def _vips_rise(self) -> Street:
        for a, b in zip(self.vips[:-1], self.vips[1:], strict=True):
            if b.chainage <= a.chainage:
                raise ValueError(
                    f"street '{self.name}': VIP chainages must rise ({b.chainage:g} follows {a.chainage:g})"
                )
        return self

    @model_validator(mode="after")
    def _locked_where_proposed_between(self) -> Street:
        if self.proposed_between and not (self.vips and all(v.locked for v in self.vips)):
            raise ValueError(f"street '{self.name}': only between locked VIPs is its grade line proposed")
        return self

    @model_validator(mode="after")
    def _changes_rise(self) -> Street:
        for a, b in zip(self.changes[:-1], self.changes[1:], strict=True):
            if b.chainage <= a.chainage:
                raise ValueError(
                    f"street '{self.name}': its section cannot change at {b.chainage:g} m after it did at {a.chainage:g} m"
                )
        return self

    @property
    def where(self) -> tuple[float, float] | None:
        """Its first bend."""
        return (self.bends[0].easting, self.bends[0].northing)


class FullDepth(Thing):
    """A stretch of a street whose pavement is new in its full depth, where its section would have an overlay.

    Chainages are those of the street as it was drawn.
    """

    collection: ClassVar[str] = "full_depths"
    words: ClassVar[str] = "stretch of full depth"
    owned_by: ClassVar[str] = "streets"

    street: str
    begin: Chainage
    finish: Chainage

    @model_validator(mode="after")
    def _onwards(self) -> FullDepth:
        if self.finish <= self.begin:
            raise ValueError(
                f"a stretch of full depth cannot end at {self.finish:.2f} where it begins at {self.begin:.2f}"
            )
        return self

    @property
    def owner(self) -> str | None:
        """The street."""
        return self.street


class Widening(Thing):
    """A stretch of a street's side along which its lip, or another ``point`` at which a strip ends ('boundary' for the outermost), follows a
    ``line`` in plan, ``beside`` metres further out than it: a survey line, or of the street of that id the point ``of_point`` on its
    ``of_side`` (its 'crown' has none). Over ``taper`` metres at both ends it comes from where the section has it. Sides and chainages
    are those of streets as they were drawn.
    """

    collection: ClassVar[str] = "widenings"
    words: ClassVar[str] = "widening"
    owned_by: ClassVar[str] = "streets"

    street: str
    side: Side
    begin: Chainage
    finish: Chainage
    line: str
    of_point: Words = ""
    of_side: Side | None = None
    beside: Annotated[float, between(-100.0, 100.0)] = 0.0
    point: Words = "lip"
    taper: Annotated[float, between(0.1, 200.0)] = 5.0

    @model_validator(mode="after")
    def _onwards(self) -> Widening:
        if self.finish <= self.begin:
            raise ValueError(f"a widening cannot end at {self.finish:.2f} where it begins at {self.begin:.2f}")
        if (self.of_side is None) == (self.of_point not in ("", "crown")):
            raise ValueError("a crown and a survey line have no side, and every other point of a street has one")
        if self.of_point and (self.line, self.of_side) == (self.street, self.side):
            raise ValueError("a side cannot follow itself in plan; choose something else for it to follow")
        return self

    @property
    def owner(self) -> str | None:
        """The street."""
        return self.street
