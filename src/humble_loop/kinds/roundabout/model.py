"""What the site keeps of a roundabout, and its edits."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field, model_validator

from humble_loop.kinds.junction.model import ReturnLevel, Turned
from humble_loop.site.edits import changed, free_id, the
from humble_loop.site.model import Anchor, Chainage, Length, Level, Model, Name, Site, Thing, Width, between

Way = Literal["onwards", "back"]
LevelWay = Literal["plane", "through", "cone", "own"]
Bearing = Annotated[float, between(0.0, 360.0)]
Shift = Annotated[float, between(-200.0, 200.0)]
Lanes = Annotated[int, Field(ge=1, le=3)]
Fall = Annotated[float, between(-0.2, 0.2)]


class CircleLevel(Model):
    """A level on the inscribed circle, at a bearing (degrees from north) from its middle; one that ``follows`` another line has it from that."""

    bearing: Bearing
    level: Level
    follows: Anchor | None = None


class RoundaboutLeg(Model):
    """What was decided about one leg: the ``street`` as it leaves the circle ``onwards`` or ``back``, as it was drawn. What is None is its preset's.

    It comes in on ``entry`` metres in ``entry_lanes`` round ``entry_radius``, leaves by ``exit`` likewise, and widens to that over ``flare``. Where
    ``entry_outer`` is there the entry is compound: an arc of that radius turns by ``entry_turn`` (degrees) at the lip, before the one at the circle. Its
    splitter island is ``splitter`` metres long from the circle (0: none), ``splitter_width`` wide, and lies ``splitter_offset`` to the
    left of the centreline seen leaving; it opens ``crossing_width`` metres for a crossing from ``crossing`` metres before the circle (0: not).
    Where ``bypass`` is there, a lane so wide leaves its entry and goes past the circle to the exit of the next leg on that side; the kerb of that has
    ``bypass_radius``, and it comes and goes over ``bypass_taper``. Its kerbs go through levels: each at a ``share`` of the arc, from the circle outwards.
    """

    street: str
    way: Way
    entry: Width | None = None
    exit: Width | None = None
    entry_lanes: Lanes | None = None
    exit_lanes: Lanes | None = None
    entry_radius: Width | None = None
    exit_radius: Width | None = None
    entry_outer: Width | None = None
    entry_turn: Turned | None = None
    exit_outer: Width | None = None
    exit_turn: Turned | None = None
    flare: Width | None = None
    splitter: Length | None = None
    splitter_width: Width | None = None
    splitter_offset: Annotated[float, between(-10.0, 10.0)] = 0.0
    crossing: Length | None = None
    crossing_width: Width | None = None
    bypass: Width | None = None
    bypass_radius: Width | None = None
    bypass_taper: Width | None = None
    entry_levels: tuple[ReturnLevel, ...] = ()
    exit_levels: tuple[ReturnLevel, ...] = ()

    @property
    def key(self) -> str:
        """What tells it from the others."""
        return f"{self.street}:{self.way}"


class Roundabout(Thing):
    """A roundabout: its middle lies ``east`` and ``north`` of the place ``at`` on a ``street`` (a chainage as drawn), or of where that street meets
    the ``other`` nearest to it. Streets that leave its inscribed circle are its legs. Sizes that are None are those of its ``preset``, which tells what
    they are.

    One that is not ``laid`` is kept for when it is wanted again: a junction stands in its place.

    Its circle lies on the ``plane`` that fits its legs best, on the plane of the ``through`` street, on a ``cone`` about its middle, or goes through
    ``vips`` of its own. The plane's ``level`` in the middle and its ``tilt`` ``towards`` a bearing (the way it falls) are as it fits where they are None; within
    the circle the carriageway lies on it, or falls outwards by ``fall`` besides. Its long section begins at the bearing ``seam``.
    """

    collection: ClassVar[str] = "roundabouts"
    words: ClassVar[str] = "roundabout"
    owned_by: ClassVar[str] = "streets"

    street: str
    at: Chainage
    other: str | None = None
    east: Shift = 0.0
    north: Shift = 0.0
    laid: bool = True
    name: Name | None = None
    preset: str = "compact"
    radius: Annotated[Width, between(3.0, 100.0)] | None = None
    width: Annotated[Width, between(2.5, 40.0)] | None = None
    lanes: Lanes | None = None
    apron: Length | None = None
    apron_up: Annotated[float, between(0.0, 0.2)] | None = None
    apron_rise: Annotated[float, between(-0.1, 0.2)] | None = None
    kerb_up: Annotated[float, between(0.0, 0.5)] | None = None
    mound: Annotated[float, between(-0.2, 0.5)] | None = None
    levels: LevelWay = "plane"
    through: str | None = None
    level: Level | None = None
    tilt: Annotated[float, between(0.0, 0.2)] | None = None
    towards: Bearing | None = None
    fall: Fall | None = None
    seam: Bearing = 0.0
    vips: tuple[CircleLevel, ...] = ()
    pits: tuple[Bearing, ...] = ()
    divisions: int | None = Field(default=None, ge=1, le=400)
    legs: tuple[RoundaboutLeg, ...] = ()

    @property
    def owner(self) -> str | None:
        """The street on which its place is told."""
        return self.street

    @model_validator(mode="after")
    def _apart(self) -> Roundabout:
        at = sorted(v.bearing % 360.0 for v in self.vips)
        if self.levels == "own" and len(at) < 3:
            raise ValueError("a circle's own grade line needs three levels")
        if any(b - a < LEAST_TURN for a, b in zip(at, [*at[1:], at[0] + 360.0] if at else [])) and len(at) > 1:
            raise ValueError(f"levels on a circle must be {LEAST_TURN:g}° apart")
        return self


LEAST_TURN = 2.0  # degrees between two levels on a circle


def add_roundabout(site: Site, street: str, at: float, other: str | None = None, **values: Any) -> Site:
    """Put a roundabout on a street at a chainage as drawn, or where it meets another near there; one that stood there before comes back as it was."""
    for old in site.all(Roundabout):
        if not old.laid and {old.street, old.other} == {street, other} and abs(old.at - at) < _SAME:
            return site.put(changed(old, laid=True, **values))
    id = free_id(site, Roundabout, f"{street} roundabout")
    return site.put(Roundabout(id=id, street=street, at=at, other=other, **values))


_SAME = 30.0  # metres along a street within which a node is meant


def set_roundabout(site: Site, id: str, **values: Any) -> Site:
    """Change a roundabout."""
    return site.put(changed(the(site, Roundabout, id), **values))


def add_pit(site: Site, id: str, bearing: float) -> Site:
    """Put a pit on the kerb at a bearing from the middle."""
    return set_roundabout(site, id, pits=(*the(site, Roundabout, id).pits, bearing))


def remove_roundabout(site: Site, id: str) -> Site:
    """Take a roundabout away for good."""
    return site.without(Roundabout, id)


def set_leg(site: Site, id: str, street: str, way: Way, **values: Any) -> Site:
    """Change what was decided about a leg."""
    old = the(site, Roundabout, id)
    mine = next((g for g in old.legs if (g.street, g.way) == (street, way)), RoundaboutLeg(street=street, way=way))
    rest = tuple(g for g in old.legs if (g.street, g.way) != (street, way))
    return site.put(changed(old, legs=(*rest, changed(mine, **values))))


def recut(site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
    """See ``Kind.recut``. A leg beyond a cut is the new street's."""
    for old in site.all(Roundabout):
        values: dict[str, Any] = {}
        here = old.at if old.street == street else None
        if here is not None and kept[0] <= here <= kept[1]:
            values["at"] = here - kept[0]
        elif here is not None and rest and here > kept[1]:
            values |= {"street": rest, "at": here - kept[1]}
        elif here is not None:
            site = site.without(Roundabout, old.id)
            continue
        if rest:
            # What leaves a roundabout onwards, before which the street was cut, or at which it was, is now the new street.
            moved = "street" in values or (here is not None and abs(here - kept[1]) < _SAME)
            values["legs"] = tuple(
                changed(g, street=rest) if g.street == street and moved and g.way == "onwards" else g for g in old.legs
            )
        if values:
            site = site.put(changed(old, **values))
    return site


def rejoined(site: Site, gone: str, street: str, start: float, back: bool) -> Site:
    """See ``Kind.rejoined``."""
    turned: dict[Way, Way] = {"onwards": "back", "back": "onwards"} if back else {"onwards": "onwards", "back": "back"}
    for old in site.all(Roundabout):
        legs = tuple(changed(g, street=street, way=turned[g.way]) if g.street == gone else g for g in old.legs)
        values: dict[str, Any] = {"legs": legs}
        if old.street == gone:
            values |= {"street": street, "at": start - old.at if back else start + old.at}
        if old.other == gone:
            values["other"] = street
        if old.through == gone:
            values["through"] = street
        if legs != old.legs or len(values) > 1:
            site = site.put(changed(old, **values))
    return site
