"""What the site keeps of drains at the toe of a cut: stretches where one is wanted or left out whatever the ground is."""

from __future__ import annotations

from typing import ClassVar

from pydantic import model_validator

from humble_loop.kinds.street.model import Street
from humble_loop.site.edits import changed, free_id, made, the
from humble_loop.site.model import Chainage, Side, Site, Thing

_SAME = 1e-6  # metres between chainages that are one


class DrainChoice(Thing):
    """A stretch of a street's side where a drain ``stands`` or is left out, whatever the ground beyond is.

    Side and chainages are those of the street as it was drawn.
    """

    collection: ClassVar[str] = "drain_choices"
    words: ClassVar[str] = "stretch of drain"
    owned_by: ClassVar[str] = "streets"

    street: str
    side: Side
    begin: Chainage
    finish: Chainage
    stands: bool = True

    @model_validator(mode="after")
    def _onwards(self) -> DrainChoice:
        if self.finish <= self.begin:
            raise ValueError(f"a stretch of drain cannot end at {self.finish:.2f} where it begins at {self.begin:.2f}")
        return self

    @property
    def owner(self) -> str | None:
        """The street."""
        return self.street


def choose_drain(site: Site, street: str, side: Side, begin: float, finish: float, stands: bool) -> Site:
    """Want a drain on a stretch of a side (as drawn), or leave it out there. What was chosen there before gives way."""
    the(site, Street, street)
    fresh = made(DrainChoice, id="new", street=street, side=side, begin=begin, finish=finish, stands=stands)
    site = by_the_ground(site, street, side, begin, finish)
    return site.put(changed(fresh, id=free_id(site, DrainChoice, f"{street} {side} drain")))


def by_the_ground(site: Site, street: str, side: Side, begin: float, finish: float) -> Site:
    """Let the ground say again whether a drain stands on a stretch of a side (as drawn)."""
    for old in site.owned(DrainChoice, street):
        if old.side != side or old.finish <= begin + _SAME or old.begin >= finish - _SAME:
            continue
        site = site.without(DrainChoice, old.id)
        if old.begin < begin - _SAME:
            site = site.put(changed(old, finish=begin))
        if old.finish > finish + _SAME:
            name = free_id(site, DrainChoice, f"{street} {side} drain")
            site = site.put(changed(old, id=name, begin=finish))
    return site
