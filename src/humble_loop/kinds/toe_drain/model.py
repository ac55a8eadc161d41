"""What the site keeps of drains at the toe of a cut: stretches where one is wanted or left out whatever the ground is, and grade
lines of their own.
"""

from __future__ import annotations

from typing import ClassVar

from pydantic import Field, model_validator

from humble_loop.kinds.street.model import Street
from humble_loop.site.edits import changed, free_id, made, the
from humble_loop.site.model import Chainage, Level, Side, Site, Thing

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


class DrainGrade(Thing):
    """A drain's own grade line: levels of its invert at chainages of a street's side, straight between and beyond.

    Side and chainages are those of the street as it was drawn.
    """

    collection: ClassVar[str] = "drain_grades"
    words: ClassVar[str] = "grade line of a drain"
    owned_by: ClassVar[str] = "streets"

    street: str
    side: Side
    levels: tuple[tuple[Chainage, Level], ...] = Field(min_length=2)

    @model_validator(mode="after")
    def _onwards(self) -> DrainGrade:
        for (a, _), (b, _) in zip(self.levels[:-1], self.levels[1:]):
            if b <= a:
                raise ValueError(f"the levels of a drain's invert must follow one another ({b:.2f} follows {a:.2f})")
        return self

    @property
    def owner(self) -> str | None:
        """The street."""
        return self.street

    @property
    def span(self) -> tuple[float, float]:
        """From its first chainage to its last."""
        return self.levels[0][0], self.levels[-1][0]


def set_drain_grade(site: Site, street: str, side: Side, levels: tuple[tuple[float, float], ...]) -> Site:
    """Give a drain a grade line of its own (side and chainages as drawn), in the place of those that it had there."""
    the(site, Street, street)
    ordered = tuple(sorted(levels))
    fresh = made(DrainGrade, id="new", street=street, side=side, levels=ordered)
    site = follow_the_street(site, street, side, *fresh.span)
    return site.put(changed(fresh, id=free_id(site, DrainGrade, f"{street} {side} drain")))


def follow_the_street(site: Site, street: str, side: Side, begin: float, finish: float) -> Site:
    """Let the drains on a stretch of a side (as drawn) follow the street's levels again."""
    for old in site.owned(DrainGrade, street):
        if old.side == side and old.span[1] > begin and old.span[0] < finish:
            site = site.without(DrainGrade, old.id)
    return site
