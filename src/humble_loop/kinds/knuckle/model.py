"""What the site keeps of a knuckle, and its edits."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar

from pydantic import Field

from humble_loop.kinds.junction.model import ReturnLevel
from humble_loop.site.edits import changed, free_id
from humble_loop.site.model import Chainage, Length, Name, Site, Thing, Width, between

Fall = Annotated[float, between(-0.2, 0.2)]


class Knuckle(Thing):
    """The widening of a tight elbow: the bend of a street nearest to ``at`` (a chainage as drawn) has a bulge outside of it, an arc of
    ``radius`` about a centre ``out`` metres outside the centreline, with returns of ``return_radius``; and where it has an ``inner`` radius
    its lip inside the bend is an arc of that. What is None is proposed.

    From the street's lip to the bulge's it falls by ``fall`` (below zero: rises, so that water runs along the street's lip); or the bulge's
    lip goes through ``levels``, each at a share of the way along it as the street was drawn. Over the bend, and so far beyond it on
    both sides, the carriageway's outer half has the grade ``across`` outwards and its inner half ``inner_across``, where these are
    given, turning to them over ``over`` metres.
    """

    collection: ClassVar[str] = "knuckles"
    words: ClassVar[str] = "knuckle"
    owned_by: ClassVar[str] = "streets"

    street: str
    at: Chainage
    radius: Width | None = None
    return_radius: Width | None = None
    out: Annotated[float, between(-100.0, 100.0)] = 0.0
    inner: Width | None = None
    fall: Fall = -0.025
    levels: tuple[ReturnLevel, ...] = ()
    pit: bool = False
    across: Fall | None = None
    inner_across: Fall | None = None
    beyond: Length = 0.0
    over: Annotated[float, between(1.0, 200.0)] = 12.0
    name: Name | None = None
    divisions: int | None = Field(default=None, ge=1, le=200)

    @property
    def owner(self) -> str | None:
        """The street."""
        return self.street


def add_knuckle(site: Site, street: str, at: float, **values: Any) -> Site:
    """Widen the bend of a street nearest to a chainage, as drawn."""
    id = free_id(site, Knuckle, f"{street} knuckle")
    return site.put(Knuckle(id=id, street=street, at=at, **values))


def set_knuckle(site: Site, id: str, **values: Any) -> Site:
    """Change a knuckle."""
    (old,) = (k for k in site.all(Knuckle) if k.id == id)
    return site.put(changed(old, **values))


def remove_knuckle(site: Site, id: str) -> Site:
    """Take a knuckle away."""
    return site.without(Knuckle, id)


def recut(site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
    """See ``Kind.recut``."""
    for old in site.owned(Knuckle, street):
        if kept[0] <= old.at <= kept[1]:
            site = site.put(changed(old, at=old.at - kept[0]))
        elif rest and old.at > kept[1]:
            site = site.put(changed(old, street=rest, at=old.at - kept[1]))
        else:
            site = site.without(Knuckle, old.id)
    return site


def rejoined(site: Site, gone: str, street: str, start: float, back: bool) -> Site:
    """See ``Kind.rejoined``."""
    for old in site.owned(Knuckle, gone):
        levels = old.levels
        if back:
            levels = tuple(changed(v, share=round(1.0 - v.share, 6)) for v in reversed(levels))
        at = start - old.at if back else start + old.at
        site = site.put(changed(old, street=street, at=at, levels=levels))
    return site
