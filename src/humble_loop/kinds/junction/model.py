"""What the site keeps of a junction: choices that hang on its node."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field, model_validator

from humble_loop.site.edits import changed
from humble_loop.site.model import Anchor, End, Length, Level, Model, Name, Side, Site, Thing, Width, between

Turned = Annotated[float, between(0.0, 170.0)]  # degrees


Shape = Literal["arc", "three-centred", "chamfer", "none"]


LEAST_APART = 0.02  # of a return between two levels on it


class ReturnLevel(Model):
    """A level on a return, at a ``share`` of its length from the through lip to the side lip. One that ``follows`` another line has its level from
    that; its own is the one that it had when it began to.
    """

    share: Annotated[float, between(LEAST_APART, 1.0 - LEAST_APART)]
    level: Level
    follows: Anchor | None = None


class CornerRamp(Model):
    """Where the kerb of a corner comes down to the lip: at a ``share`` of its return from the through lip, ``width`` metres wide between
    ``flare`` metres over which it comes down on either side. Typical: room for a wheelchair with somebody beside it.
    """

    share: Annotated[float, between(0.0, 1.0)] = 0.5
    width: Annotated[float, between(0.5, 20.0)] = 1.5
    flare: Annotated[float, between(0.05, 10.0)] = 0.9


class NoseWidening(Model):
    """That both streets are wider beside a sharp corner, whose nose so stands back from their lanes: by ``through`` and ``side`` metres, for
    ``length`` metres from the node (None: as far as the return reaches on each), and back to their width over ``taper``.

    Typical: a metre is what a car that drifts off its lane needs at residential speeds, and 1 in 15 is a taper that nobody feels.
    """

    through: Annotated[float, between(0.0, 10.0)] = 1.0
    side: Annotated[float, between(0.0, 10.0)] = 1.0
    length: Width | None = None
    taper: Annotated[float, between(1.0, 200.0)] = 15.0


class Corner(Model):
    """A corner of a junction: how its return runs in plan, and whether a pit stands there. What is None is proposed.

    An 'arc' has a ``radius``. A 'three-centred' one has an arc of ``radius_through`` that turns by ``turn_through`` (degrees) where it
    leaves the through lip, one of ``radius`` in the middle, and one of ``radius_side`` and ``turn_side`` where it reaches the side lip.
    A 'chamfer' goes straight across from ``back_through`` metres before where the lips would meet to ``back_side`` after it, its ends
    rounded by ``rounding``. With a ``splay`` the boundary goes straight on from both streets and across the corner, from so many metres
    before where they would meet to as many after it; without one it goes round beside the return. At a ``ramp`` the kerb is down. Beside a
    ``nose`` both streets are wider. 'none' is as tight as what lies outside the lip allows. Its lip goes through ``levels``, in order. Without ``divisions`` its set-out follows the
    site's spacing.
    """

    shape: Shape = "arc"
    radius: Width | None = None
    radius_through: Width | None = None
    turn_through: Turned | None = None
    radius_side: Width | None = None
    turn_side: Turned | None = None
    back_through: Width | None = None
    back_side: Width | None = None
    rounding: Width | None = None
    splay: Length | None = None
    ramp: CornerRamp | None = None
    nose: NoseWidening | None = None
    levels: tuple[ReturnLevel, ...] = ()
    divisions: int | None = Field(default=None, ge=1, le=200)
    pit: bool = False

    @model_validator(mode="after")
    def _onwards(self) -> Corner:
        for a, b in zip(self.levels[:-1], self.levels[1:]):
            if b.share - a.share < LEAST_APART:
                raise ValueError(
                    f"levels on a return must be further apart than {100 * a.share:.0f} % and {100 * b.share:.0f} % of it"
                )
        return self


LegName = Literal[
    "through onwards", "through back", "side", "first onwards", "first back", "second onwards", "second back"
]


class TurnLane(Model):
    """A lane of its own for those who turn off a ``leg`` of a junction towards it to the left or the right: the street is wider by ``width``
    metres over ``storage`` and ``deceleration`` metres from the node, and comes to that over ``taper``.

    Legs of a T are the through street's, onwards and back as it was drawn, and the side street's; of a crossing those of its first and
    second street.
    """

    leg: LegName
    turn: Side
    storage: Length = 20.0
    deceleration: Length = 30.0
    taper: Annotated[float, between(1.0, 200.0)] = 20.0
    width: Annotated[float, between(0.5, 10.0)] = 3.0


Crowns = Literal["through", "both"]


class RaisedTable(Model):
    """A junction's carriageway raised ``by`` metres (0: not at all) as far as ``beyond`` metres past its returns, with ramps of ``ramp`` metres
    along the streets. Its top falls as the through street does, or is one ``plane``: that rises by ``fall`` to the side on which the side
    street of a T leaves, or to the left of the through street of a crossing, as that was drawn.

    Typical: it takes most of a kerb's upstand, at 1 on 16, which a bus takes at walking pace and a car at twice that; a plane drains away
    from the side street at what a carriageway falls.
    """

    by: Annotated[float, between(0.0, 0.5)] = 0.1
    ramp: Annotated[float, between(0.2, 50.0)] = 1.6
    beyond: Annotated[float, between(0.0, 20.0)] = 0.5
    plane: bool = False
    fall: Annotated[float, between(-0.1, 0.1)] = 0.025


PLANE = RaisedTable(
    by=0.0, ramp=8.0, plane=True
)  # both streets' falls turn into one plane, over as far as that takes without a jolt


class JunctionChoice(Thing):
    """What was decided about the junction at one end of a side street: its name, whether the through street's crown holds or both run
    through, whether it is a raised table, and how far (m from the node) the side street's section turns back to normal (None: as far as its returns reach).

    ``end`` is the end as the street was drawn, so that it stays with its node when the street is reversed. Left and
    right are seen leaving the junction along the side street.
    """

    collection: ClassVar[str] = "junctions"
    words: ClassVar[str] = "junction"
    owned_by: ClassVar[str] = "streets"

    side: str
    end: End
    name: Name | None = None
    crowns: Crowns = "through"
    table: RaisedTable | None = None
    reach: Width | None = None
    lanes: tuple[TurnLane, ...] = ()
    left: Corner = Corner()
    right: Corner = Corner()

    @model_validator(mode="before")
    @classmethod
    def _default_id(cls, data: Any) -> Any:
        if isinstance(data, dict) and not data.get("id"):
            return {**data, "id": f"{data.get('side')}:{data.get('end')}"}
        return data

    @property
    def owner(self) -> str | None:
        """The side street."""
        return self.side


class CrossingChoice(Thing):
    """What was decided about the junction where two streets cross: its name, whose crown holds (None: as their classes say),
    whether it alone does or both run through, how far each street's section turns where it is carried (m from the node, onwards and back
    as it was drawn), and its corners.

    ``first`` is the street whose id comes first; ``count`` tells several crossings of the two from one another, in its order. A corner
    is named by the side of the first and the side of the second on which it lies, as the streets were drawn.
    """

    collection: ClassVar[str] = "crossings"
    words: ClassVar[str] = "crossing"
    owned_by: ClassVar[str] = "streets"

    first: str
    second: str
    count: int = Field(default=0, ge=0)
    name: Name | None = None
    through: str | None = None
    crowns: Crowns = "through"
    table: RaisedTable | None = None
    first_onwards: Width | None = None
    first_back: Width | None = None
    second_onwards: Width | None = None
    second_back: Width | None = None
    lanes: tuple[TurnLane, ...] = ()
    left_left: Corner = Corner()
    left_right: Corner = Corner()
    right_left: Corner = Corner()
    right_right: Corner = Corner()

    @model_validator(mode="before")
    @classmethod
    def _default_id(cls, data: Any) -> Any:
        if isinstance(data, dict) and not data.get("id"):
            return {**data, "id": f"{data.get('first')}:{data.get('second')}:{data.get('count', 0)}"}
        return data

    @model_validator(mode="after")
    def _in_order(self) -> CrossingChoice:
        if self.first >= self.second:
            raise ValueError(
                f"a crossing is told by its two streets in the order of their ids, {self.second} before {self.first}"
            )
        if self.through not in (None, self.first, self.second):
            raise ValueError(f"the crown that holds at a crossing must be of one of its streets, not of {self.through}")
        return self

    @property
    def owner(self) -> str | None:
        """The street whose id comes first."""
        return self.first


def other_way(corner: Corner) -> Corner:
    """A corner whose return runs the other way, as it does when the other street's crown holds: it stays what it is on the ground."""
    c = corner
    swapped = {"radius_through": c.radius_side, "turn_through": c.turn_side, "back_through": c.back_side}
    swapped |= {"radius_side": c.radius_through, "turn_side": c.turn_through, "back_side": c.back_through}
    levels = tuple(changed(v, share=1.0 - v.share) for v in reversed(c.levels))
    ramp = c.ramp and changed(c.ramp, share=1.0 - c.ramp.share)
    nose = c.nose and changed(c.nose, through=c.nose.side, side=c.nose.through)
    return changed(c, **swapped, levels=levels, ramp=ramp, nose=nose)


def crossing_corner(sides: tuple[Side, Side]) -> str:
    """The name of a crossing's corner by the sides of its first and its second street on which it lies, as they were drawn."""
    return "_".join(sides)


def set_crossing(site: Site, first: str, second: str, count: int, **values: Any) -> Site:
    """Change what was decided about a crossing: ``through``, whose crown holds, or ``crowns``, whether it alone does, its name, or how far sections turn."""
    return site.put(changed(_crossing(site, first, second, count), **values))


def hold_other(site: Site, first: str, second: str, count: int, through: str) -> Site:
    """Let the crown of the street hold at a crossing that has been the lesser one; its corners stay as they are."""
    old = _crossing(site, first, second, count)
    corners = {name: other_way(getattr(old, name)) for name in _CORNERS}
    return site.put(changed(old, through=through, crowns="through", **corners))


_CORNERS = ("left_left", "left_right", "right_left", "right_right")


def set_crossing_corner(
    site: Site, first: str, second: str, count: int, sides: tuple[Side, Side], **values: Any
) -> Site:
    """Change a corner of a crossing, named by the sides of its streets as they were drawn: radius, pit."""
    old, name = _crossing(site, first, second, count), crossing_corner(sides)
    return site.put(changed(old, **{name: changed(getattr(old, name), **values)}))


def _crossing(site: Site, first: str, second: str, count: int) -> CrossingChoice:
    found = site.find(CrossingChoice, f"{first}:{second}:{count}")
    return found or CrossingChoice(first=first, second=second, count=count)


def set_junction(site: Site, side: str, end: End, **values: Any) -> Site:
    """Change what was decided about the junction at ``end`` (as drawn) of street ``side``: ``crowns``, ``name``, ``reach``."""
    return site.put(changed(_junction(site, side, end), **values))


def _junction(site: Site, side: str, end: End) -> JunctionChoice:
    return site.find(JunctionChoice, f"{side}:{end}") or JunctionChoice(side=side, end=end)


def set_corner(site: Site, side: str, end: End, corner: Side, **values: Any) -> Site:
    """Change a corner of the junction at ``end`` (as drawn) of street ``side``: radius, pit."""
    old = _junction(site, side, end)
    mine: Corner = getattr(old, corner)
    return site.put(changed(old, **{corner: changed(mine, **values)}))
