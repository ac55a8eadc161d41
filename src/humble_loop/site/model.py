"""The frame of the document: the site, its settings, and things with ids that kinds keep in it.

Metres, ratios (grades and falls as rise over run) and ids, not references. Everything is frozen; a change makes a
new Site that shares all untouched parts. What kinds of things there are is not known here: each kind's room defines
its own models (subclasses of ``Thing``), and the site keeps them by collection.
"""

from __future__ import annotations

import math
import re
import unicodedata
from collections.abc import Iterable, Mapping
from functools import cached_property
from types import MappingProxyType
from typing import Annotated, Any, ClassVar, Literal, TypeVar

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, SkipValidation, WithJsonSchema, model_validator

State = Literal["proposed", "set", "locked", "tied"]
Side = Literal["left", "right"]
End = Literal["start", "end"]

SIDES: tuple[Side, Side] = ("left", "right")
ENDS: tuple[End, End] = ("start", "end")

_FARTHEST = 1e8  # metres; anything beyond is a mistake in units or columns
_LONGEST = 120  # characters of a name
_ORIGIN_STEP = 1000.0  # metres: origins are whole kilometres, so that a place can still be recognised


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


def between(low: float, high: float) -> AfterValidator:
    """A check that a number lies between two that no real work goes beyond: counts that follow from it stay small."""

    def check(value: float) -> float:
        if not low <= value <= high:
            raise ValueError(f"{value:g} must be between {low:g} and {high:g}")
        return value

    return AfterValidator(check)


def words(text: str) -> str:
    """A text in one line without control characters, lone surrogates and marks that turn the direction of writing."""
    kept = "".join(c if unicodedata.category(c)[0] != "C" else " " * c.isspace() for c in text)
    return " ".join(kept.split())[:_LONGEST]


def name_of_words(text: str) -> str:
    """A text as a name: no spreadsheet takes it for a formula."""
    name = bare(text)
    if not name:
        raise ValueError("a name needs a letter or a digit")
    return name


def bare(text: str) -> str:
    """What is left of a text as a name; perhaps nothing."""
    return words(text).lstrip("=+-@ ")


Words = Annotated[str, AfterValidator(words)]
Name = Annotated[str, AfterValidator(name_of_words)]
Coordinate = Annotated[float, AfterValidator(_coordinate)]
Finite = Annotated[float, AfterValidator(_finite)]
Length = Annotated[float, AfterValidator(_not_negative)]
Size = Annotated[float, AfterValidator(_positive)]
Level = Annotated[float, between(-20_000.0, 20_000.0)]
Grade = Annotated[float, between(-10.0, 10.0)]
Chainage = Annotated[float, between(-1e6, 1e6)]
Width = Annotated[float, AfterValidator(_positive), between(0.0, 500.0)]


def slug(name: str) -> str:
    """An id made from a name: lower case, words joined by hyphens."""
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or "unnamed"


def side_sign(side: Side) -> float:
    """+1 for left, -1 for right."""
    return 1.0 if side == "left" else -1.0


def other_side(side: Side) -> Side:
    """The other side."""
    return "right" if side == "left" else "left"


def other_end(end: End) -> End:
    """The other end."""
    return "end" if end == "start" else "start"


class Model(BaseModel):
    """Base of everything in the site: frozen, and strict about unknown fields."""

    model_config = ConfigDict(frozen=True, extra="forbid", arbitrary_types_allowed=True)


class Anchor(Model):
    """That a level follows from another line's where that is nearest: the line called ``line`` of the thing ``of`` of a ``kind``. It lies so far
    below it that it falls from there by ``fall`` (a ratio, below zero: rises), or ``rise`` metres above it.
    """

    kind: str
    of: str
    line: str
    fall: Annotated[float, between(-1.0, 1.0)] | None = None
    rise: Annotated[float, between(-100.0, 100.0)] | None = None

    @model_validator(mode="after")
    def _one(self) -> Anchor:
        if (self.fall is None) == (self.rise is None):
            raise ValueError("a level follows another by a fall or by a rise, one of them")
        return self


class Thing(Model):
    """Something that the site keeps, found again by its ``id``. ``collection`` names where, in code and file alike.

    A thing that belongs to another (lots to a street) says so by ``owner``, an id in the collection ``owned_by``.
    ``where`` is a point of it, from which the site's origin can be chosen.
    """

    collection: ClassVar[str] = ""
    words: ClassVar[str] = "thing"
    owned_by: ClassVar[str] = ""
    id: str = ""

    @property
    def owner(self) -> str | None:
        """Id of the thing that this one belongs to, or None."""
        return None

    @property
    def where(self) -> tuple[float, float] | None:
        """Easting and northing of some point of it, or None."""
        return None


class Named(Thing):
    """A thing with an id that never changes and a name that people give it; the id defaults to the name's slug."""

    name: Name

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
    row_interval: Annotated[float, between(0.5, 200.0)] = 10.0
    arc_tolerance: Annotated[float, between(0.001, 1.0)] = 0.01
    level_tolerance: Annotated[float, between(0.0005, 1.0)] = 0.002
    fit_tolerance: Annotated[float, between(0.001, 50.0)] = 0.1
    contour_interval: Annotated[float, between(0.02, 200.0)] = 0.5
    fine_contour_interval: Annotated[float, between(0.005, 20.0)] = 0.05
    batter_reach: Annotated[float, between(1.0, 500.0)] = 60.0


class SetOut(Model):
    """How set-out points are taken: the interval on straights, how closely returns and bulbs are divided, a parallel line.

    Arcs are divided so that neighbouring points are at most ``spacing`` metres apart and the arc rises at most
    ``rise`` metres over the chord between them.
    """

    interval: Annotated[float, between(0.2, 500.0)] = 10.0
    spacing: Annotated[float, between(0.1, 100.0)] = 2.5
    rise: Annotated[float, between(0.001, 10.0)] = 0.05
    offset: Annotated[float, between(-100.0, 100.0)] = 0.0
    height: Annotated[float, between(-100.0, 100.0)] = 0.0
    first_number: int = Field(default=1, ge=0)

    def divisions(self, length: float, radius: float) -> int:
        """Into how many equal parts an arc of ``length`` and ``radius`` metres is divided.

        The rise of an arc over a chord c is about c^2 / (8 R).
        """
        chord = min(self.spacing, math.sqrt(8.0 * radius * self.rise))
        return max(1, math.ceil(length / chord - 1e-9))


T = TypeVar("T", bound=Thing)


class Things(tuple[Any, ...]):
    """The things of one collection, in order, found by id and by owner without a search."""

    @cached_property
    def by_id(self) -> dict[str, Any]:
        """Each thing by its id."""
        return {t.id: t for t in self}

    @cached_property
    def by_owner(self) -> dict[str, tuple[Any, ...]]:
        """The things of each owner, in order."""
        found: dict[str, list[Any]] = {}
        for t in self:
            if t.owner is not None:
                found.setdefault(t.owner, []).append(t)
        return {k: tuple(v) for k, v in found.items()}


_NONE = Things()


class Site(Model):
    """The whole job: settings, and the things of every kind by collection.

    ``origin`` is a round point near the site. Everything is worked out from there, so that large coordinates keep
    their digits; it is chosen with the first thing that has a place, and then stays.
    """

    name: Name = "New site"
    settings: Settings = Settings()
    set_out: SetOut = SetOut()
    current_ground: str | None = None
    origin: tuple[Finite, Finite] | None = None
    things: Annotated[Mapping[str, Things], SkipValidation, WithJsonSchema({})] = Field(
        default_factory=lambda: MappingProxyType({})
    )

    def fields(self) -> dict[str, Any]:
        """Every field and collection by name, as the engine compares them."""
        plain = {k: getattr(self, k) for k in ("name", "settings", "set_out", "current_ground", "origin")}
        return {**plain, **self.things}

    def collection(self, name: str) -> Things:
        """The things of a collection, in order; none where there is no such collection."""
        return self.things.get(name, _NONE)

    def all(self, kind: type[T]) -> tuple[T, ...]:
        """The things of one model, in order."""
        return self.collection(kind.collection)

    def find(self, kind: type[T], id: str) -> T | None:
        """The thing with that id, or None."""
        found: T | None = self.collection(kind.collection).by_id.get(id)
        return found

    def owned(self, kind: type[T], owner: str) -> tuple[T, ...]:
        """The things that belong to ``owner``, in order."""
        return self.collection(kind.collection).by_owner.get(owner, ())

    def replaced(self, collection: str, things: Iterable[Any]) -> Site:
        """The site with another content of a collection."""
        fresh = Things(things)
        site = self.model_copy(update={"things": MappingProxyType({**self.things, collection: fresh})})
        if self.origin is None and fresh:
            place = next((p for t in fresh if (p := t.where) is not None), None)
            if place is not None:
                site = site.model_copy(update={"origin": origin_near(*place)})
        return site

    def put(self, thing: Thing) -> Site:
        """The site with ``thing`` in place of the one with its id, or added at the end."""
        old = self.collection(thing.collection)
        if thing.id in old.by_id:
            return self.replaced(thing.collection, (thing if t.id == thing.id else t for t in old))
        return self.replaced(thing.collection, (*old, thing))

    def without(self, kind: type[Thing], *ids: str) -> Site:
        """The site without the things with those ids."""
        old = self.collection(kind.collection)
        if not any(i in old.by_id for i in ids):
            return self
        return self.replaced(kind.collection, (t for t in old if t.id not in ids))


def origin_near(easting: float, northing: float) -> tuple[float, float]:
    """The round point from which a site near a place is worked out."""
    e, n = (round(v / _ORIGIN_STEP) * _ORIGIN_STEP + 0.0 for v in (easting, northing))
    return (e, n)
