"""What the site keeps of ties, and how they are edited. Sides and chainages are those of streets as they were drawn."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import model_validator

from humble_loop.kinds.street.holding import HeldPoint, put_apart
from humble_loop.kinds.street.model import Street
from humble_loop.site.edits import EditError, changed, free_id, made, the
from humble_loop.site.model import Chainage, Model, Side, Site, Words, between

What = Literal["ground", "line", "point"]
LEAST = 0.1  # metres of a stretch
_OWN_KINDS = {"ground": "", "line": "a survey line", "point": "a street"}


class Source(Model):
    """What is followed: the ground (the current one, or the surface ``of``), a survey line (``of`` its id), or a section point of the
    street ``of``: 'crown', or one of a ``side`` by its name, 'boundary' for the outermost.
    """

    what: What = "ground"
    of: Words = ""
    point: Words = ""
    side: Side | None = None

    @model_validator(mode="after")
    def _whole(self) -> Source:
        if self.what != "ground" and not self.of:
            raise ValueError(f"say which one: 'of' is the id of {_OWN_KINDS[self.what]}")
        if self.what == "point" and not self.point:
            raise ValueError("say which point of the street: 'crown', or one of a side by its name")
        if self.what == "point" and (self.point == "crown") != (self.side is None):
            raise ValueError("the crown has no side, and every other point has one")
        return self


class LevelTie(HeldPoint):
    """A stretch of a street's section point that lies at the level of its source, ``rise_in`` metres above it at its beginning and
    ``rise_out`` at its end, straight between. With ``least`` the point only lies no lower than that.
    """

    collection: ClassVar[str] = "ties"
    words: ClassVar[str] = "tie"

    source: Source
    begin: Chainage
    finish: Chainage
    rise_in: Annotated[float, between(-100.0, 100.0)] = 0.0
    rise_out: Annotated[float, between(-100.0, 100.0)] = 0.0
    least: bool = False

    @model_validator(mode="after")
    def _onwards(self) -> LevelTie:
        if self.finish - self.begin < LEAST:
            raise ValueError(f"a tie must end beyond where it begins ({self.finish:.2f} follows {self.begin:.2f})")
        if self.taper_in + self.taper_out > self.finish - self.begin + 1e-9:
            raise ValueError(
                f"the tapers of a tie need {self.taper_in + self.taper_out:g} m of {self.finish - self.begin:g}"
            )
        s = self.source
        if s.what == "point" and (s.of, s.point, s.side) == (self.street, self.point, self.side):
            raise ValueError("a point cannot follow itself; choose something else for it to follow")
        return self

    @property
    def span(self) -> tuple[float, float]:
        """Chainages from and to."""
        return self.begin, self.finish


# Edits


def add_tie(
    site: Site, street: str, side: Side, point: str, source: Source, begin: float, finish: float, **values: Any
) -> Site:
    """Let a section point of a street follow something over a stretch."""
    the(site, Street, street)
    id = free_id(site, LevelTie, f"{street} {side} {point} tie")
    fresh = made(
        LevelTie, id=id, street=street, side=side, point=point, source=source, begin=begin, finish=finish, **values
    )
    return put_apart(site, fresh)


def set_tie(site: Site, id: str, **values: Any) -> Site:
    """Change a tie's ``source``, ``begin``, ``finish``, tapers, differences or ``least``."""
    old = the(site, LevelTie, id)
    if {"begin", "finish"} & values.keys():
        begin, finish = values.get("begin", old.begin), values.get("finish", old.finish)
        if finish - begin < LEAST:
            raise EditError(f"a tie from {begin:.2f} to {finish:.2f} has no length; remove it instead")
        if old.taper_in + old.taper_out > finish - begin:
            shorter = (finish - begin) / (old.taper_in + old.taper_out)
            values = {"taper_in": shorter * old.taper_in, "taper_out": shorter * old.taper_out, **values}
    return put_apart(site, changed(old, **values))
