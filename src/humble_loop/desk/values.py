"""Values between people and the core: shown in the site's units, read in the forms in which people write them."""

from __future__ import annotations

import math
from typing import Any

from humble_loop.formats.bearings import parse_angle, parse_bearing, show_angle, show_bearing, show_turn
from humble_loop.formats.quantities import (
    NotAQuantity,
    looks_like_chainage,
    looks_like_grade,
    parse_chainage,
    parse_grade,
    parse_length,
    parse_slope,
    show_area,
    show_chainage,
    show_grade,
    show_length,
    show_slope,
    show_volume,
)
from humble_loop.lines.describe import Typed, Unit
from humble_loop.site.edits import Edit
from humble_loop.site.model import Settings


def show(unit: Unit, value: Any, settings: Settings, *, signed: bool = False) -> str:
    """A value as text, in the site's units."""
    if unit == "text":
        return str(value)
    if unit == "count":
        return str(value)
    text = _number(unit, float(value), settings)
    return f"+{text}" if signed and float(value) > 0 else text


def _number(unit: Unit, value: float, settings: Settings) -> str:
    if unit == "level":
        return show_length(value, settings.units, settings.level_decimals)
    if unit in ("length", "size"):
        return show_length(value, settings.units, 2)
    if unit == "chainage":
        return show_chainage(value, settings.chainage_format, settings.units)
    if unit == "area":
        return show_area(value, settings.units)
    if unit == "volume":
        return show_volume(value, settings.units)
    if unit == "bearing":
        return show_bearing(value)
    if unit == "angle":
        return show_angle(value)
    if unit == "turn":
        return show_turn(value)
    if unit == "mm":
        return f"{value:.1f}".removesuffix(".0").replace("-", "−")
    if unit == "rate":
        return show_length(value, settings.units, 1)
    return show_slope(value) if unit == "slope" else show_grade(value)


def read(unit: Unit, text: str, settings: Settings) -> Any:
    """A value from text. Raises NotAQuantity in one sentence."""
    if unit == "text":
        return text.strip()
    if unit == "count":
        try:
            return int(text.strip())
        except ValueError:
            raise NotAQuantity(f"'{text.strip()}' is not a whole number: write, for example, 8") from None
    if unit == "grade":
        return parse_grade(text)
    if unit == "slope":
        return parse_slope(text)
    if unit == "chainage":
        return parse_chainage(text, settings.units)
    if unit == "bearing":
        return parse_bearing(text)
    if unit in ("angle", "turn"):
        return parse_angle(text)
    if unit == "mm":
        return _millimetres(text, settings)
    value = parse_length(text, settings.units)
    if unit == "size" and not value > 0:
        raise NotAQuantity(f"'{text.strip()}' must be more than zero")
    return value


def _millimetres(text: str, settings: Settings) -> float:
    """A plain number is millimetres; with a unit it is what it says."""
    if any(c.isalpha() or c in "'\"" for c in text):
        return round(1000.0 * parse_length(text, settings.units), 6)
    return parse_length(text, "m")


def fits(unit: Unit, text: str) -> bool:
    """Whether text is written as this unit is and no other: 2.5% and 1:20 are grades, 0+085 is a chainage."""
    if unit == "grade":
        return looks_like_grade(text)
    return unit == "chainage" and looks_like_chainage(text)


def read_typed(text: str, offers: tuple[Typed, ...], settings: Settings) -> Edit:
    """The edit that typed text means, among what a handle offers. Raises NotAQuantity."""
    clean = text.strip()
    for offer in offers:
        if offer.prefix and clean.lower().startswith(offer.prefix):
            return offer.edit(read(offer.unit, clean[len(offer.prefix) :].lstrip(" ="), settings))
    plain = [o for o in offers if not o.prefix]
    chosen = next((o for o in plain if fits(o.unit, clean)), None)
    chosen = chosen or next((o for o in plain if o.unit not in ("grade", "chainage")), plain[0] if plain else None)
    if chosen is None:
        raise NotAQuantity(f"'{clean}' means nothing here")
    value = read(chosen.unit, clean, settings)
    if isinstance(value, float) and not math.isfinite(value):
        raise NotAQuantity(f"'{clean}' is too large to be used")
    return chosen.edit(value)
