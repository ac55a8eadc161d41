"""The site and everything a designer decides about it, as frozen models.

Metres, ratios (grades and falls as rise over run) and ids, not references. A change makes a new Site that
shares all untouched parts (see ``humble_loop.site.edits``).
"""

from __future__ import annotations

import math
import re
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, SkipValidation, WithJsonSchema, model_validator

from humble_loop.ground.surface import Surface

State = Literal["proposed", "set", "tied"]
Side = Literal["left", "right"]
End = Literal["start", "end"]

_FARTHEST = 1e8  # metres; anything beyond is a mistake in units or columns


def _coordinate(value: float) -> float:
    if not math.isfinite(value) or abs(value) > _FARTHEST:
        raise ValueError(f"{value} is not a usable coordinate: give metres within ±{_FARTHEST:.0f}")
    return value


def _finite(value: float) -> float:
    if not math.isfinite(value):
        raise ValueError(f"{value} is not a number that can be used here")
    return value


def _not_negative(value: float) -> float:
    if not math.isfinite(value) or value < 0:
        raise ValueError(f"{value} must not be negative")
    return value


def _positive(value: float) -> float:
    if not math.isfinite(value) or value <= 0:
        raise ValueError(f"{value} must be more than zero")
    return value


Coordinate = Annotated[float, AfterValidator(_coordinate)]
Finite = Annotated[float, AfterValidator(_finite)]
Length = Annotated[float, AfterValidator(_not_negative)]
Size = Annotated[float, AfterValidator(_positive)]


def slug(name: str) -> str:
    """An id made from a name: lower case, words joined by hyphens."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or "unnamed"


class Model(BaseModel):
    """Base of everything in the site: frozen, and strict about unknown fields."""

    model_config = ConfigDict(frozen=True, extra="forbid", arbitrary_types_allowed=True)


class Named(Model):
    """A thing with an id that never changes and a name that people give it; the id defaults to the name's slug."""

    id: str = ""
    name: str

    @model_validator(mode="before")
    @classmethod
    def _default_id(cls, data: Any) -> Any:
        if isinstance(data, dict) and not data.get("id") and isinstance(data.get("name"), str):
            return {**data, "id": slug(data["name"])}
        return data


class Settings(Model):
    """How this site is measured and written; SI inside whatever is chosen here."""

    units: Literal["m", "ft", "us-ft"] = "m"
    traffic: Literal["left", "right"] = "left"
    chainage_format: Literal["0+000.00", "0+00.00", "0.00"] = "0+000.00"
    level_decimals: int = Field(default=3, ge=0, le=6)
    row_interval: Size = 10.0
    arc_tolerance: Size = 0.01
    contour_interval: Size = 0.5
    fine_contour_interval: Size = 0.05
    batter_reach: Size = 60.0


class Ground(Named):
    """A surface of what is there today, and the file that it came from."""

    surface: Annotated[SkipValidation[Surface], WithJsonSchema({})] = Field(exclude=True, repr=False)
    source: str = ""


class SurveyLine(Named):
    """An existing line: vertices of easting, northing and level (None where it has none)."""

    code: str = ""
    vertices: tuple[tuple[Coordinate, Coordinate, Finite | None], ...] = Field(min_length=2)
    source: str = ""


class StreetClass(Named):
    """The rules that a street is checked against. Typical values: check your authority's."""

    least_grade: Length = 0.005
    most_grade: Size = 0.16
    least_crest_k: Length = 3.0
    least_sag_k: Length = 3.0
    least_curve_length: Length = 10.0
    least_crossfall: Length = 0.02
    most_crossfall: Length = 0.05
    least_radius: Length = 12.0
    return_radius: Size = 8.0
    least_return_fall: Length = 0.005
    most_return_fall: Size = 0.12
    least_kerb_fall: Length = 0.005
    least_bulb_radius: Size = 8.5
    least_radial_fall: Length = 0.01
    most_radial_fall: Size = 0.05
    most_driveway_grade: Size = 0.20
    least_lot_fall: Length = 0.01
    cut_tolerance: Size = 0.6
    fill_tolerance: Size = 0.6


class KerbPoint(Model):
    """A point of a kerb shape: mm outwards from the lip and mm above it."""

    point: str
    out: Finite
    up: Finite


class KerbShape(Named):
    """A kerb's cross-section from its lip (0, 0) outwards; each point lies further out than the one before."""

    points: tuple[KerbPoint, ...] = Field(min_length=1)

    @model_validator(mode="after")
    def _outwards(self) -> KerbShape:
        out = [0.0, *(p.out for p in self.points)]
        for a, b in zip(out[:-1], out[1:], strict=True):
            if b <= a:
                raise ValueError(f"kerb shape '{self.name}': each point must lie further out than the one before")
        return self


class Strip(Model):
    """A strip of a section side ending at a named point: its width and its grade outwards (rising positive)."""

    to: str
    width: Size
    grade: Finite = 0.0


class KerbPart(Model):
    """A kerb in a section side, by the id of its shape."""

    kerb: str


class SectionSide(Model):
    """One side of a typical section, from the crown outwards; the first strip ends at the lip.

    Batter slopes are rises per metre: 1 on 2 is 0.5.
    """

    parts: tuple[Strip | KerbPart, ...] = Field(min_length=1)
    cut_slope: Size = 0.5
    fill_slope: Size = 0.5

    @model_validator(mode="after")
    def _lip_first(self) -> SectionSide:
        first = self.parts[0]
        if not isinstance(first, Strip) or first.to != "lip":
            raise ValueError("a section side must begin with the strip from the crown to the lip")
        return self

    @property
    def lane(self) -> Strip:
        """The strip from crown to lip."""
        first = self.parts[0]
        assert isinstance(first, Strip)
        return first


class TypicalSection(Named):
    """The section points of a street, left and right of the crown."""

    left: SectionSide
    right: SectionSide

    def side(self, side: Side) -> SectionSide:
        """The left or right side."""
        return self.left if side == "left" else self.right


class Bend(Model):
    """A horizontal intersection point with its radius and transition lengths; the first and last have none."""

    easting: Coordinate
    northing: Coordinate
    radius: Length = 0.0
    transition_in: Length = 0.0
    transition_out: Length = 0.0


class Vip(Model):
    """A vertical intersection point. Either its level is set, or the grade that arrives at it is and the level follows."""

    chainage: Finite
    level: Finite | None = None
    grade: Finite | None = None
    curve_length: Length = 0.0

    @model_validator(mode="after")
    def _one_of(self) -> Vip:
        if (self.level is None) == (self.grade is None):
            raise ValueError(f"the VIP at chainage {self.chainage:g} needs either a level or a grade, not both")
        return self


class Head(Model):
    """A turning head at the end of a street: a bulb, its sizes, and where its water goes."""

    kind: Literal["bulb"] = "bulb"
    radius: Size = 9.5
    return_radius: Size = 15.0
    offset: Finite = 0.0
    fall: Length = 0.03
    outlet: Literal["auto", "street", "pit"] = "auto"
    divisions: int = Field(default=8, ge=1, le=200)


class Street(Named):
    """A road, new or existing.

    An existing street's levels are the ground's; its lips are survey lines where these are named. A new
    street without VIPs has its grade line proposed from the ground.
    """

    kind: Literal["new", "existing"] = "new"
    street_class: str = "local"
    section: str = "local-street"
    bends: tuple[Bend, ...] = Field(min_length=2)
    vips: tuple[Vip, ...] = ()
    left_lip: str | None = None
    right_lip: str | None = None
    head: Head | None = None

    @model_validator(mode="after")
    def _vips_rise(self) -> Street:
        for a, b in zip(self.vips[:-1], self.vips[1:], strict=True):
            if b.chainage <= a.chainage:
                raise ValueError(
                    f"street '{self.name}': VIP chainages must rise ({b.chainage:g} follows {a.chainage:g})"
                )
        return self


class Corner(Model):
    """A corner of a junction: the return's radius (None: the street class's), its set-out, whether a pit stands there."""

    radius: Size | None = None
    divisions: int = Field(default=4, ge=1, le=200)
    pit: bool = False


class JunctionChoice(Model):
    """What was decided about the junction at one end of a side street. Left and right are seen leaving it."""

    side: str
    end: End
    left: Corner = Corner()
    right: Corner = Corner()


class LotRow(Named):
    """Lots in a row along one side of a street or round its head.

    Chainages None reach as far as the street's junctions and head allow. Lots are numbered from
    ``first_number`` in the direction of chainage (round a head: from its left to its right).
    """

    street: str
    place: Literal["left", "right", "head"]
    start: Finite | None = None
    end: Finite | None = None
    frontage: Size = 18.0
    depth: Size = 30.0
    setback: Length = 6.0
    side_gap: Length = 1.5
    rear_gap: Length = 4.0
    first_number: int = Field(default=1, ge=0)


class PadChoice(Model):
    """A pad level that a designer set, by the lot's name."""

    lot: str
    level: Finite

    @property
    def id(self) -> str:
        """The lot's name, which tells one choice from another."""
        return self.lot


class SetOut(Model):
    """How set-out points are taken: the interval on straights, and a parallel line's offset and height."""

    interval: Size = 10.0
    offset: Finite = 0.0
    height: Finite = 0.0
    first_number: int = Field(default=1, ge=0)


class Site(Model):
    """The whole job."""

    name: str = "New site"
    settings: Settings = Settings()
    grounds: tuple[Ground, ...] = ()
    current_ground: str | None = None
    survey_lines: tuple[SurveyLine, ...] = ()
    street_classes: tuple[StreetClass, ...] = ()
    kerb_shapes: tuple[KerbShape, ...] = ()
    sections: tuple[TypicalSection, ...] = ()
    streets: tuple[Street, ...] = ()
    junctions: tuple[JunctionChoice, ...] = ()
    lot_rows: tuple[LotRow, ...] = ()
    pads: tuple[PadChoice, ...] = ()
    set_out: SetOut = SetOut()

    @model_validator(mode="after")
    def _names_agree(self) -> Site:
        for words, things in (
            ("ground", self.grounds),
            ("survey line", self.survey_lines),
            ("street class", self.street_classes),
            ("kerb shape", self.kerb_shapes),
            ("typical section", self.sections),
            ("street", self.streets),
            ("lot row", self.lot_rows),
        ):
            seen: set[str] = set()
            for thing in things:
                if thing.id in seen:
                    raise ValueError(f"two of the {words}s share the id '{thing.id}'")
                seen.add(thing.id)
        return self

    def find(self, collection: str, id: str) -> Any:
        """The thing with ``id`` in ``collection`` (e.g. 'streets'), or None."""
        return next((t for t in getattr(self, collection) if t.id == id), None)
