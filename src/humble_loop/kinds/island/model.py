"""What the site keeps of an island, and its edits."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, ClassVar

from pydantic import model_validator

from humble_loop.kinds.street.spans import moved_span
from humble_loop.site.edits import changed, free_id
from humble_loop.site.model import Chainage, Model, Name, Site, Thing, between

Beside = Annotated[float, between(-50.0, 50.0)]
Wide = Annotated[float, between(0.2, 50.0)]


class IslandCorner(Model):
    """A corner of an island: ``at`` a chainage, ``beside`` metres to the left of the centreline, with an arc of ``radius``."""

    at: Chainage
    beside: Beside
    radius: Annotated[float, between(0.1, 200.0)] = 1.0


class Island(Thing):
    """An island on a street's carriageway: round at both ends, ``wide_begin`` metres wide (between lips) round the place at ``begin`` and
    ``wide_finish`` round that at ``finish``, with straight sides between; where both are one place it is a circle, where one is much wider a
    teardrop. Or, where it has ``corners``, any closed run of arcs, with straights between them where these leave any.

    Its places lie ``beside`` metres to the left of the centreline; in a turning head they may lie beyond the street's end. Its kerb is a
    ``kerb`` shape, whose lip runs round it. Within it is ``paved`` or planted. Chainages and left are those of the street as it was drawn.
    """

    collection: ClassVar[str] = "islands"
    words: ClassVar[str] = "island"
    owned_by: ClassVar[str] = "streets"

    street: str
    begin: Chainage
    finish: Chainage
    wide_begin: Wide = 2.0
    wide_finish: Wide = 1.2
    beside: Beside = 0.0
    corners: tuple[IslandCorner, ...] = ()
    kerb: str = ""
    paved: bool = True
    name: Name | None = None

    @model_validator(mode="after")
    def _onwards(self) -> Island:
        if self.corners:
            if len(self.corners) < 3:
                raise ValueError("an island needs three corners")
            return self
        if self.finish < self.begin:
            raise ValueError(f"an island cannot end at {self.finish:.2f}, before it begins at {self.begin:.2f}")
        if self.begin != self.finish and self.finish - self.begin <= 0.5 * abs(self.wide_begin - self.wide_finish):
            raise ValueError("its ends lie one inside the other; move them apart, or make it a circle")
        return self

    @property
    def owner(self) -> str | None:
        """The street."""
        return self.street


def add_island(site: Site, street: str, begin: float, finish: float, **values: Any) -> Site:
    """Put an island on a street, between chainages as drawn."""
    id = free_id(site, Island, f"{street} island")
    return site.put(Island(id=id, street=street, begin=begin, finish=finish, **values))


def set_island(site: Site, id: str, **values: Any) -> Site:
    """Change an island."""
    (old,) = (i for i in site.all(Island) if i.id == id)
    return site.put(changed(old, **values))


def set_corners(site: Site, id: str, corners: Sequence[IslandCorner]) -> Site:
    """Give an island corners; without any it is round at both ends again."""
    at = [c.at for c in corners]
    values: dict[str, Any] = {"corners": tuple(corners)}
    if at:
        values |= {"begin": min(at), "finish": max(at)}
    return set_island(site, id, **values)


def moved_by(island: Island, start: float) -> Island:
    """An island whose street begins ``start`` metres further on."""
    corners = tuple(changed(c, at=c.at - start) for c in island.corners)
    return changed(island, begin=island.begin - start, finish=island.finish - start, corners=corners)


def remove_island(site: Site, id: str) -> Site:
    """Take an island away."""
    return site.without(Island, id)


def recut(site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
    """See ``Kind.recut``. One that a cut goes through stays with the part that has most of it."""
    for old in site.owned(Island, street):
        middle = 0.5 * (old.begin + old.finish)
        # One in a head reaches past the end of its street.
        if kept[0] <= middle <= kept[1] or (not rest and kept[0] <= middle and old.begin <= kept[1]):
            site = site.put(moved_by(old, kept[0]))
        elif rest and middle > kept[1]:
            site = site.put(changed(moved_by(old, kept[1]), street=rest))
        else:
            site = site.without(Island, old.id)
    return site


def rejoined(site: Site, gone: str, street: str, start: float, back: bool) -> Site:
    """See ``Kind.rejoined``."""
    for old in site.owned(Island, gone):
        begin, finish = moved_span((old.begin, old.finish), start, back)
        values: dict[str, Any] = {"street": street, "begin": begin, "finish": finish}
        if back:
            values |= {"wide_begin": old.wide_finish, "wide_finish": old.wide_begin, "beside": -old.beside}
        sign = -1.0 if back else 1.0
        values["corners"] = tuple(changed(c, at=start + sign * c.at, beside=sign * c.beside) for c in old.corners)
        site = site.put(changed(old, **values))
    return site
