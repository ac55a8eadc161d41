"""What the site keeps of a survey line, and its edits."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated, Any, ClassVar

from pydantic import Field, model_validator

from humble_loop.site.edits import changed, the
from humble_loop.site.model import Coordinate, Finite, Named, Site, Words, bare, between


class SurveyLine(Named):
    """An existing line: vertices of easting, northing and level (None where it has none).

    ``midline_with`` is the other one of two between which a street is wanted, where one is. A service in the ground needs a
    ``least_cover`` (m) over the levels that were surveyed, which are those of its top; 0 for any other line.
    """

    collection: ClassVar[str] = "survey_lines"
    words: ClassVar[str] = "survey line"

    code: Words = ""
    vertices: tuple[tuple[Coordinate, Coordinate, Finite | None], ...] = Field(min_length=2)
    source: Words = ""
    midline_with: str = ""
    least_cover: Annotated[float, between(0.0, 50.0)] = 0.0

    @model_validator(mode="before")
    @classmethod
    def _some_name(cls, data: Any) -> Any:
        """Surveys have lines without a name; their code, or what they are, says enough."""
        if isinstance(data, dict) and isinstance(data.get("name"), str) and not bare(data["name"]):
            return {**data, "name": bare(str(data.get("code", ""))) or "Survey line"}
        return data

    @property
    def where(self) -> tuple[float, float] | None:
        """Its first vertex."""
        return self.vertices[0][:2]


def set_survey_line(site: Site, line: str, **values: Any) -> Site:
    """Change fields of an existing line."""
    return site.put(changed(the(site, SurveyLine, line), **values))


def add_survey_lines(site: Site, lines: Sequence[SurveyLine]) -> Site:
    """Add existing lines; ids are made unique."""
    taken = set(site.collection(SurveyLine.collection).by_id)
    fresh = []
    for line in lines:
        i, n = line.id, 2
        while i in taken:
            i, n = f"{line.id}-{n}", n + 1
        taken.add(i)
        fresh.append(line.model_copy(update={"id": i}))
    return site.replaced(SurveyLine.collection, (*site.all(SurveyLine), *fresh))
