"""What the site keeps of a ground, and its edits."""

from __future__ import annotations

from typing import Annotated, ClassVar

from pydantic import Field, SkipValidation, WithJsonSchema

from humble_loop.ground.surface import Surface
from humble_loop.site.edits import free_id, the
from humble_loop.site.model import Named, Site, Words


class Ground(Named):
    """A surface of what is there today, and the file that it came from. Its arrays are files of their own.

    A ``proposed`` one is a design that came in from a file: it is the current ground only when someone chooses it.
    """

    collection: ClassVar[str] = "grounds"
    words: ClassVar[str] = "ground"

    surface: Annotated[SkipValidation[Surface], WithJsonSchema({})] = Field(exclude=True, repr=False)
    source: Words = ""
    proposed: bool = False

    @property
    def where(self) -> tuple[float, float] | None:
        """Its south-west corner."""
        return None if self.surface.empty else self.surface.bounds[:2]


def add_ground(site: Site, ground: Ground) -> Site:
    """Add a surface and make it the current one, unless it is a design."""
    fresh = ground.model_copy(update={"id": free_id(site, Ground, ground.name)})
    site = site.put(fresh)
    return site if ground.proposed else site.model_copy(update={"current_ground": fresh.id})


def choose_ground(site: Site, ground: str) -> Site:
    """Make a surface the current one."""
    return site.model_copy(update={"current_ground": the(site, Ground, ground).id})
