"""What the site keeps of a junction: choices that hang on its node."""

from __future__ import annotations

from typing import Any, ClassVar

from pydantic import Field, model_validator

from humble_loop.site.edits import changed
from humble_loop.site.model import End, Model, Side, Site, Thing, Width


class Corner(Model):
    """A corner of a junction: the return's radius (None: the street class's), and whether a pit stands there.

    Without ``divisions`` its set-out follows the site's spacing.
    """

    radius: Width | None = None
    divisions: int | None = Field(default=None, ge=1, le=200)
    pit: bool = False


class JunctionChoice(Thing):
    """What was decided about the junction at one end of a side street.

    ``end`` is the end as the street was drawn, so that it stays with its node when the street is reversed. Left and
    right are seen leaving the junction along the side street.
    """

    collection: ClassVar[str] = "junctions"
    words: ClassVar[str] = "junction"
    owned_by: ClassVar[str] = "streets"

    side: str
    end: End
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


def set_corner(site: Site, side: str, end: End, corner: Side, **values: Any) -> Site:
    """Change a corner of the junction at ``end`` (as drawn) of street ``side``: radius, pit."""
    old = site.find(JunctionChoice, f"{side}:{end}") or JunctionChoice(side=side, end=end)
    mine: Corner = getattr(old, corner)
    return site.put(changed(old, **{corner: changed(mine, **values)}))
