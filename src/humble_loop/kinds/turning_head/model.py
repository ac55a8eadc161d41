"""What the site keeps of a turning head, and its edits."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import Field, model_validator

from humble_loop.site.edits import changed
from humble_loop.site.model import End, Site, Thing, Width, between


class TurningHead(Thing):
    """A turning head at the end of a street: a bulb, its sizes, and where its water goes.

    ``end`` is the end as the street was drawn: when the street is reversed the head stays where it is. ``offset`` is
    to the left, looking towards the head. Without ``divisions`` its set-out follows the site's spacing.
    """

    collection: ClassVar[str] = "turning_heads"
    words: ClassVar[str] = "turning head"
    owned_by: ClassVar[str] = "streets"

    street: str
    end: End = "end"
    kind: Literal["bulb"] = "bulb"
    radius: Width = 9.5
    return_radius: Width = 15.0
    offset: Annotated[float, between(-500.0, 500.0)] = 0.0
    fall: Annotated[float, between(0.0, 1.0)] = 0.03
    outlet: Literal["auto", "street", "pit"] = "auto"
    divisions: int | None = Field(default=None, ge=1, le=200)

    @model_validator(mode="before")
    @classmethod
    def _default_id(cls, data: Any) -> Any:
        if isinstance(data, dict) and not data.get("id"):
            return {**data, "id": f"{data.get('street')}:{data.get('end', 'end')}"}
        return data

    @property
    def owner(self) -> str | None:
        """The street."""
        return self.street


def set_head(site: Site, street: str, end: End = "end", **values: Any) -> Site:
    """Give a street a bulb at an end (as drawn), or change fields of the one it has there."""
    old = site.find(TurningHead, f"{street}:{end}") or TurningHead(street=street, end=end)
    return site.put(changed(old, **values))


def remove_head(site: Site, street: str, end: End = "end") -> Site:
    """Take a turning head away."""
    return site.without(TurningHead, f"{street}:{end}")
