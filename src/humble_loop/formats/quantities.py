"""Numbers as people write them, and as the site's settings want them shown.

``12ft``, ``150mm``, ``2.5%``, ``1:20``, ``0.35+1.2``, ``0+123.45`` are all accepted; inside everything is SI.
"""

from __future__ import annotations

import ast
import math
import operator
import re
import warnings
from collections.abc import Callable

from humble_loop.formats.bundle import METRES

_OPERATORS: dict[type, Callable[[float, float], float]] = {
    ast.Add: operator.add,
    ast.Sub: operator.sub,
    ast.Mult: operator.mul,
    ast.Div: operator.truediv,
}
_NUMBER = r"(?:\d+(?:\.\d*)?|\.\d+)"
_UNIT = re.compile(rf"({_NUMBER})\s*(us-ft|mm|cm|km|m|ft|in|'|\")(?![a-z])")
_RATIO = re.compile(rf"^\s*([+-]?{_NUMBER})\s*:\s*({_NUMBER})\s*$")
_CHAINAGE = re.compile(r"^\s*(\d+)\+(\d{2,3}(?:\.\d*)?)\s*$")
_SPELT = {"'": "ft", '"': "in"}


class NotAQuantity(ValueError):
    """Text that is not a number in any accepted form; the message gives examples."""


def parse_length(text: str, unit: str = "m") -> float:
    """Metres from text; a number without a unit is in ``unit`` ('m', 'ft', 'us-ft')."""
    clean = _clean(text)
    if not _UNIT.search(clean):
        return _evaluate(clean, text) * METRES[unit]
    metres = _UNIT.sub(lambda m: f"({m[1]}*{METRES[_SPELT.get(m[2], m[2])]!r})", clean)
    # What stands side by side, as in 5ft 6in, is added.
    metres = re.sub(r"\)\s*\(", ")+(", metres)
    rest = re.sub(r"\([^()]*\)", "", metres)
    if re.search(r"\d", rest):
        raise NotAQuantity(f"'{text.strip()}' mixes numbers with and without a unit: write, for example, 0.35m + 1.2m")
    return _evaluate(metres, text)


def parse_grade(text: str) -> float:
    """A ratio from '2.5%', '1:20', or a plain number, which is percent: '0.4' is 0.4 %, as people mean it."""
    clean = _clean(text)
    ratio = _RATIO.match(clean)
    if ratio:
        if float(ratio[2]) == 0:
            raise NotAQuantity(f"'{text.strip()}' divides by zero: write, for example, 1:20")
        return float(ratio[1]) / float(ratio[2])
    if "%" in clean:
        return _evaluate(clean.replace("%", ""), text) / 100.0
    return _evaluate(clean, text) / 100.0


def parse_slope(text: str) -> float:
    """The slope of a batter as a rise per metre, from '1:2' or '50%'; a plain number could mean either."""
    if not looks_like_grade(text):
        raise NotAQuantity(f"'{text.strip()}' is not a slope: write, for example, 1:2 or 50%")
    slope = abs(parse_grade(text))
    if not slope > 0:
        raise NotAQuantity(f"'{text.strip()}' is flat: write, for example, 1:2")
    return slope


def looks_like_grade(text: str) -> bool:
    """Whether text is written as a grade and as nothing else: '2.5%', '1:20'."""
    return "%" in text or _RATIO.match(_clean(text)) is not None


def looks_like_chainage(text: str) -> bool:
    """Whether text is written as a chainage and as nothing else: '0+123.45', '1+23'."""
    return _CHAINAGE.match(text) is not None


def parse_chainage(text: str, unit: str = "m") -> float:
    """Metres along a line from '0+123.45', '1+23.45' or a plain length."""
    match = _CHAINAGE.match(text)
    if match:
        whole = float(match[1]) * (1000.0 if len(match[2].split(".")[0]) == 3 else 100.0)
        return (whole + float(match[2])) * METRES[unit]
    return parse_length(text, unit)


def _clean(text: str) -> str:
    return text.strip().lower().replace("−", "-").replace("×", "*").replace("÷", "/").replace(",", ".")


def _evaluate(expression: str, original: str) -> float:
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")  # Python's words about '12ft' are not for whoever typed it
            value = _value(ast.parse(expression, mode="eval").body)
    except (SyntaxError, ValueError, TypeError, ZeroDivisionError, OverflowError, RecursionError, MemoryError):
        raise NotAQuantity(
            f"'{original.strip()}' is not a number: write, for example, 12.5, 12ft, 150mm, 2.5%, 1:20 or 0.35+1.2"
        ) from None
    if not math.isfinite(value):
        raise NotAQuantity(f"'{original.strip()}' is too large to be used")
    return value


def _value(node: ast.expr) -> float:
    if isinstance(node, ast.Constant) and isinstance(node.value, (int, float)) and not isinstance(node.value, bool):
        return float(node.value)
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, (ast.USub, ast.UAdd)):
        inner = _value(node.operand)
        return -inner if isinstance(node.op, ast.USub) else inner
    if isinstance(node, ast.BinOp) and type(node.op) in _OPERATORS:
        return _OPERATORS[type(node.op)](_value(node.left), _value(node.right))
    raise ValueError("not arithmetic")


def show_length(metres: float, unit: str = "m", decimals: int = 3) -> str:
    """A length or level in the site's unit, e.g. '38.064'; '–' where it is not known."""
    if not math.isfinite(metres):
        return "–"
    places = decimals if unit == "m" else max(decimals - 1, 0)
    return _signed(f"{metres / METRES[unit]:.{places}f}")


def show_area(square_metres: float, unit: str = "m") -> str:
    """An area with its unit, e.g. '612.4 m²'."""
    word = "m²" if unit == "m" else "ft²"
    return "–" if not math.isfinite(square_metres) else _signed(f"{square_metres / METRES[unit] ** 2:.1f} {word}")


def show_volume(cubic_metres: float, unit: str = "m") -> str:
    """A volume with its unit, e.g. '35.2 m³'."""
    word = "m³" if unit == "m" else "ft³"
    return "–" if not math.isfinite(cubic_metres) else _signed(f"{cubic_metres / METRES[unit] ** 3:.1f} {word}")


def show_grade(ratio: float) -> str:
    """A grade in percent to two decimals, e.g. '−2.50 %'."""
    return "–" if not math.isfinite(ratio) else _signed(f"{100 * ratio:.2f} %")


def show_slope(rise: float) -> str:
    """The slope of a batter, '1:2', '1:1.5'."""
    return "–" if not (math.isfinite(rise) and rise > 0) else f"1:{1.0 / rise:.2f}".rstrip("0").rstrip(".")


def show_chainage(metres: float, style: str = "0+000.00", unit: str = "m") -> str:
    """A chainage by the project's habit: '0+123.45', '1+23.45' or '123.45'."""
    if not math.isfinite(metres):
        return "–"
    value = round(metres / METRES[unit], 2)
    if style == "0.00":
        return _signed(f"{value:.2f}")
    step, width = (1000, 6) if style == "0+000.00" else (100, 5)
    sign = "−" if value < 0 else ""
    whole, rest = divmod(abs(value), step)
    return f"{sign}{int(whole)}+{rest:0{width}.2f}"


def _signed(text: str) -> str:
    return ("" if float(text.split()[0]) == 0 else "−") + text[1:] if text.startswith("-") else text
