"""What the site keeps of lots: rows of them, and what was set on single ones; and edits."""

from __future__ import annotations

import math
from typing import Any, ClassVar, Literal

from pydantic import Field, model_validator

from humble_loop.kinds.street.model import Street
from humble_loop.site.edits import EditError, by_name, changed, free_id, free_name, made, remove, the
from humble_loop.site.model import Chainage, Length, Level, Named, Site, Thing, Width


class LotRow(Named):
    """Lots in a row along one side of a street or round its head.

    Side and chainages are those of the street as it was drawn, so that lots stay where they are when it is reversed.
    Chainages None reach as far as the street's junctions and head allow. Lots are numbered from ``first_number``.
    """

    collection: ClassVar[str] = "lot_rows"
    words: ClassVar[str] = "row of lots"
    owned_by: ClassVar[str] = "streets"

    street: str
    place: Literal["left", "right", "head"]
    start: Chainage | None = None
    end: Chainage | None = None
    frontage: Width = 18.0
    depth: Width = 30.0
    setback: Length = 6.0
    side_gap: Length = 1.5
    rear_gap: Length = 4.0
    first_number: int = Field(default=1, ge=0)

    @property
    def owner(self) -> str | None:
        """The street."""
        return self.street


class PadChoice(Thing):
    """A pad level that a designer set, on lot ``number`` of a row.

    ``along`` is where the middle of that lot's frontage was, in metres along the row's frontage from its beginning:
    when the row is cut anew, the choice goes to the lot that stands there.
    """

    collection: ClassVar[str] = "pads"
    words: ClassVar[str] = "pad level"
    owned_by: ClassVar[str] = "lot_rows"

    row: str
    number: int = Field(ge=0)
    level: Level
    along: Chainage | None = None

    @model_validator(mode="before")
    @classmethod
    def _default_id(cls, data: Any) -> Any:
        if isinstance(data, dict) and not data.get("id"):
            return {**data, "id": f"{data.get('row')}#{data.get('number')}"}
        return data

    @property
    def owner(self) -> str | None:
        """The row of lots."""
        return self.row


def lot_id(row: str, number: int) -> str:
    """The id of a lot."""
    return f"{row}#{number}"


def add_lot_row(site: Site, street: str, place: str, **values: Any) -> Site:
    """Add a row of lots; ``values`` are fields of LotRow."""
    s = by_name(site, Street, street)
    name = free_name(site, LotRow, f"{s.name} {place}")
    return site.put(made(LotRow, id=free_id(site, LotRow, name), name=name, street=s.id, place=place, **values))


def set_lot_row(site: Site, row: str, **values: Any) -> Site:
    """Change fields of a row of lots."""
    return site.put(changed(the(site, LotRow, row), **values))


def remove_lot_row(site: Site, row: str) -> Site:
    """Take a row of lots away, with what was set on its lots."""
    return remove(site, LotRow, row)


def set_pad(site: Site, row: str, number: int, level: float | None, along: float | None = None) -> Site:
    """Set a pad's level on lot ``number`` of a row, or give it back to the proposal with None."""
    id = lot_id(row, number)
    if level is None:
        return site.without(PadChoice, id)
    if not math.isfinite(level):
        raise EditError("a pad level must be a number")
    return site.put(PadChoice(row=row, number=number, level=level, along=along))
