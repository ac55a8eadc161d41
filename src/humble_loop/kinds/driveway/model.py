"""What the site keeps of driveways: what was chosen of single ones; and edits."""

from __future__ import annotations

from typing import Annotated, Any, ClassVar

from pydantic import Field, model_validator

from humble_loop.kinds.lot.model import lot_id
from humble_loop.site.edits import changed, free_id
from humble_loop.site.model import Chainage, Length, Site, Thing, Width, between

MOST_SKEW = 45.0  # degrees from square at which a car still turns in from the street without taking both lanes, typical


class DrivewayChoice(Thing):
    """What was chosen of the driveway of lot ``number`` of a row; what is None is proposed.

    Its middle crosses the boundary ``at`` metres along the lot's frontage from where that begins, turned clockwise by ``skew`` degrees from square to the kerb,
    as it is seen from above. It is ``width`` wide there, and wider by ``flare`` on both
    sides at the lip. Where it is not ``wanted`` there is none. ``along`` is where the middle of the lot's frontage was along the row's: where the row is cut anew the choice goes to the lot that
    stands there.
    """

    collection: ClassVar[str] = "driveways"
    words: ClassVar[str] = "driveway"
    owned_by: ClassVar[str] = "lot_rows"

    row: str
    number: int = Field(ge=0)
    along: Chainage | None = None
    wanted: bool = True
    at: Length | None = None
    skew: Annotated[float, between(-MOST_SKEW, MOST_SKEW)] | None = None
    width: Annotated[Width, between(2.0, 12.0)] | None = None
    flare: Annotated[float, between(0.0, 3.0)] | None = None

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


def set_driveway(site: Site, row: str, number: int, along: float, **values: Any) -> Site:
    """Change what is chosen of a driveway, ``along`` being where its lot stands in the row; a choice of nothing is none."""
    id = lot_id(row, number)
    old = site.find(DrivewayChoice, id) or DrivewayChoice(row=row, number=number)
    fresh = changed(old, along=along, **values)
    nothing = DrivewayChoice(row=row, number=number, along=along)
    return site.without(DrivewayChoice, id) if fresh == nothing else site.put(fresh)


def moved_to(site: Site, choice: DrivewayChoice, row: str, number: int, along: float) -> Site:
    """The site with a choice on another lot."""
    site = site.without(DrivewayChoice, choice.id)
    id = lot_id(row, number)
    if site.find(DrivewayChoice, id) is not None:
        id = free_id(site, DrivewayChoice, id)
    return site.put(changed(choice, id=id, row=row, number=number, along=along))
