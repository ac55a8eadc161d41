"""What the site keeps of a continuation, and its edits."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar

from pydantic import model_validator

from humble_loop.site.edits import changed
from humble_loop.site.model import End, Name, Site, Thing, between

TAPER = 10.0  # metres, typical: 0.5 m of width each side come at 1 on 20, which a kerb machine lays without a joint


class ContinuationChoice(Thing):
    """What was decided about the place at which two streets meet end to end: its name, the street whose levels and section ``holds``
    there (None: as their classes say), and over how many metres (``taper``) the other turns into its own.

    ``first`` is the street whose id comes first; ends are those of streets as they were drawn.
    """

    collection: ClassVar[str] = "continuations"
    words: ClassVar[str] = "continuation"
    owned_by: ClassVar[str] = "streets"

    first: str
    first_end: End
    second: str
    second_end: End
    name: Name | None = None
    holds: str | None = None
    taper: Annotated[float, between(0.1, 200.0)] = TAPER

    @model_validator(mode="before")
    @classmethod
    def _default_id(cls, data: Any) -> Any:
        if isinstance(data, dict) and not data.get("id"):
            ends = (f"{data.get('first')}:{data.get('first_end')}", f"{data.get('second')}:{data.get('second_end')}")
            return {**data, "id": "+".join(ends)}
        return data

    @model_validator(mode="after")
    def _in_order(self) -> ContinuationChoice:
        if self.first >= self.second:
            raise ValueError(
                f"a continuation is told by its two streets in the order of their ids, {self.second} before {self.first}"
            )
        if self.holds not in (None, self.first, self.second):
            raise ValueError(f"where '{self.first}' and '{self.second}' meet one of them holds, not '{self.holds}'")
        return self

    @property
    def owner(self) -> str | None:
        """The street whose id comes first."""
        return self.first


def set_continuation(site: Site, first: str, first_end: End, second: str, second_end: End, **values: Any) -> Site:
    """Change what was decided where two streets meet at ends, as drawn: ``name``, ``holds``, ``taper``."""
    fresh = ContinuationChoice(first=first, first_end=first_end, second=second, second_end=second_end)
    return site.put(changed(site.find(ContinuationChoice, fresh.id) or fresh, **values))
