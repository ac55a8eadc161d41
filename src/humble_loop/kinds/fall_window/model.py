"""What the site keeps of fall windows, and how they are edited. Sides and chainages are those of streets as they were drawn."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar, Literal

from pydantic import model_validator

from humble_loop.kinds.street.model import Street
from humble_loop.kinds.tie.model import Source
from humble_loop.site.edits import EditError, changed, free_id, made, the
from humble_loop.site.model import Chainage, Side, Site, Thing, Words, between

Measure = Literal["fall", "height"]
LEAST = 0.1  # metres of a stretch


class FallWindow(Thing):
    """What a ``source`` asks of a line of a street (its 'crown', or a section ``point`` of a ``side``) over a stretch: that it falls to the
    line by at ``least`` and at ``most`` these ratios, over the distance between them in plan and ``beyond`` metres more, from ``rise``
    metres above it; or, where the ``measure`` is 'height', that the line lies at least and at most so many metres above it.
    """

    collection: ClassVar[str] = "fall_windows"
    words: ClassVar[str] = "fall window"
    owned_by: ClassVar[str] = "streets"

    street: str
    side: Side | None = None
    point: Words = "crown"
    source: Source
    begin: Chainage
    finish: Chainage
    measure: Measure = "fall"
    least: Annotated[float, between(-100.0, 100.0)] | None = None
    most: Annotated[float, between(-100.0, 100.0)] | None = None
    rise: Annotated[float, between(-100.0, 100.0)] = 0.0
    beyond: Annotated[float, between(-100.0, 100.0)] = 0.0

    @model_validator(mode="after")
    def _onwards(self) -> FallWindow:
        if self.finish - self.begin < LEAST:
            raise ValueError(
                f"a fall window must end beyond where it begins ({self.finish:.2f} follows {self.begin:.2f})"
            )
        if (self.point == "crown") != (self.side is None):
            raise ValueError("the crown has no side, and every other point has one")
        s = self.source
        if s.what == "point" and (s.of, s.point, s.side) == (self.street, self.point, self.side):
            raise ValueError("a line cannot fall to itself; choose another source")
        return self

    @property
    def owner(self) -> str | None:
        """The street."""
        return self.street

    @property
    def span(self) -> tuple[float, float]:
        """Chainages from and to."""
        return self.begin, self.finish


def add_window(
    site: Site, street: str, side: Side | None, point: str, source: Source, begin: float, finish: float, **values: Any
) -> Site:
    """Ask of a street's line what a source wants of it over a stretch."""
    the(site, Street, street)
    id = free_id(site, FallWindow, f"{street} {side or ''} {point} window")
    fresh = made(
        FallWindow, id=id, street=street, side=side, point=point, source=source, begin=begin, finish=finish, **values
    )
    return site.put(_upright(fresh))


def set_window(site: Site, id: str, **values: Any) -> Site:
    """Change a fall window."""
    return site.put(_upright(changed(the(site, FallWindow, id), **values)))


def _upright(window: FallWindow) -> FallWindow:
    if window.least is not None and window.most is not None and window.least > window.most:
        raise EditError("the least is more than the most, which leaves no room at all; change the other one first")
    return window
