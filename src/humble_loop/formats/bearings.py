"""Bearings and angles as people write them: degrees, minutes and seconds, decimals, or from north or south to a side."""

from __future__ import annotations

import math
import re

from humble_loop.formats.quantities import NotAQuantity

_NUMBER = r"(\d+(?:[.,]\d*)?)"
_PARTS = re.compile(rf"^\s*{_NUMBER}\s*[°d:\- ]?\s*(?:{_NUMBER}\s*['′m:\- ]?\s*)?(?:{_NUMBER}\s*(?:\"|″|''|s)?)?\s*$")
_QUADRANT = re.compile(r"^\s*([ns])(.*)([ew])\s*$")


def parse_bearing(text: str) -> float:
    """Degrees clockwise from north, in [0, 360), from ``112°30'15"``, ``112.504``, ``112 30 15`` or ``S 67°30' E``."""
    clean = text.strip().lower()
    quadrant = _QUADRANT.match(clean)
    if quadrant is None:
        return parse_angle(clean, original=text) % 360.0
    pole, between, side = quadrant.groups()
    away = parse_angle(between, original=text)
    if away > 90.0:
        raise NotAQuantity(f"'{text.strip()}' turns more than 90° from {pole.upper()}: write, for example, N 67°30' E")
    turn = away if side == "e" else -away
    return (turn if pole == "n" else 180.0 - turn) % 360.0


def parse_angle(text: str, original: str = "") -> float:
    """Degrees, not negative, from ``12°30'15"``, ``12.504`` or ``12 30 15``."""
    said = (original or text).strip()
    match = _PARTS.match(text.strip().lower())
    if match is None:
        raise NotAQuantity(f"'{said}' is not an angle: write, for example, 112°30'15\", 112.504 or N 67°30' E")
    degrees, minutes, seconds = (float(part.replace(",", ".")) if part else 0.0 for part in match.groups())
    if minutes >= 60.0 or seconds >= 60.0:
        raise NotAQuantity(f"'{said}' has 60 minutes or seconds or more: write, for example, 112°30'15\"")
    if (match[2] and degrees % 1) or (match[3] and minutes % 1):
        raise NotAQuantity(f"'{said}' has both decimals and what is smaller: write, for example, 112°30'15\"")
    value = degrees + minutes / 60.0 + seconds / 3600.0
    if not value <= 360.0:
        raise NotAQuantity(f"'{said}' is more than a full turn: write degrees from 0 to 360")
    return value


def show_bearing(degrees: float) -> str:
    """A bearing to the second, e.g. ``112°30′15″``; '–' where it is not known."""
    return "–" if not math.isfinite(degrees) else _parts(round(degrees * 3600.0) % 1_296_000)


def show_angle(degrees: float) -> str:
    """An angle to the second, e.g. ``12°30′15″``."""
    return "–" if not math.isfinite(degrees) else _parts(round(abs(degrees) * 3600.0))


def show_turn(degrees: float) -> str:
    """A deflection to the second with its side, left positive, e.g. ``12°30′15″ R``."""
    if not math.isfinite(degrees):
        return "–"
    return f"{show_angle(degrees)} {'L' if degrees > 0 else 'R'}"


def _parts(seconds: int) -> str:
    minutes, s = divmod(seconds, 60)
    d, m = divmod(minutes, 60)
    return f"{d}°{m:02d}′{s:02d}″"
