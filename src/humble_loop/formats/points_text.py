"""Points as text: number, easting, northing, level and code, laid out in any way (see ``text_recognition``)."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from humble_loop.formats.bundle import METRES, Bundle, StreetIn
from humble_loop.formats.coordinates import check_coordinates
from humble_loop.formats.errors import FormatError
from humble_loop.formats.text_layout import (
    MISSING,
    PLACE,
    Layout,
    cells_of,
    number_in,
    read_lines,
    skipped,
)
from humble_loop.formats.text_recognition import recognised
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.street.model import Bend, Vip
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.site.model import slug

_STRING = re.compile(r"^([A-Za-z][A-Za-z_ -]*?)[ ._-]?(\d+)$")
_UNUSUAL = frozenset("#/!%*'; \t")  # how a line begins that is a comment, or empty but for blanks
_MOST_STRANGE, _STRANGE_SHARE = 20, 0.02  # lines that are left out with a word; more, and the file is refused


@dataclass(frozen=True)
class Points:
    """The points of a text: coordinates (n, 3) in its own unit, codes, and what was left out, in words."""

    values: Floats
    codes: list[str]
    unit: str
    left_out: tuple[str, ...] = ()


def read_points_text(
    path: Path,
    *,
    layout: Layout | None = None,
    columns: tuple[str, ...] | None = None,
    separator: str = "",
    decimal: str = "",
    units: str = "m",
    breakline_codes: tuple[str, ...] | None = None,
) -> Bundle:
    """Read a text file of points.

    Its ``layout`` is recognised unless it is given; ``columns`` names the columns in order (others than the roles of
    ``text_layout`` are skipped), ``separator`` and ``decimal`` are the signs where they are known. Points that follow
    each other with the same numbered code ('LIP1') make a breakline; ``breakline_codes`` narrows which code words do. A
    file with a radius column is a street's bends. The unit that the file names holds, else ``units``. Raises
    FormatError in one sentence.
    """
    lines = read_lines(path)
    if layout is None:
        layout = recognised(path, lines, separator=separator, decimal=decimal)
        if columns:
            layout = named(path, layout, columns)
    if layout.refusal:
        raise FormatError(path, layout.refusal)
    if "radius" in layout.columns:
        return _street(path, lines, layout, units)
    found = points_in(path, lines, layout, units)
    if not len(found.values):
        raise FormatError(path, "it holds no points; check that it is the file you meant")
    points = found.values * METRES[found.unit]
    check_coordinates(path, points)
    bundle = _bundle(path, points, found.codes, breakline_codes)
    bundle.notes += [f"{path.name}: {words}" for words in (*layout.doubts, *found.left_out)]
    return bundle


def named(path: Path, layout: Layout, columns: Sequence[str]) -> Layout:
    """A layout whose columns somebody has named in order. Raises FormatError."""
    for role in PLACE if "radius" not in columns else PLACE[:2]:
        if columns.count(role) != 1:
            many = "no" if role not in columns else "more than one"
            raise FormatError(
                path, f"it has {many} {role} column; name the columns in order, e.g. number,easting,northing,level,code"
            )
    return layout.with_columns(columns)


def points_in(path: Path, lines: Sequence[str], layout: Layout, units: str = "m", most: int | None = None) -> Points:
    """The points of a text in a layout, the first ``most`` of them. Raises FormatError, naming the line that is to blame.

    A few lines that hold no point are left out and told; where there are many, the file is laid out differently.
    """
    unit = _unit(path, lines, layout) or units
    fast = _fast(lines, layout) if most is None else None
    if fast is not None:
        return Points(*fast, unit)
    at = [layout.columns.index(role) for role in PLACE]
    code = layout.columns.index("code") if "code" in layout.columns else None
    values: list[tuple[float, ...]] = []
    codes: list[str] = []
    strange: list[tuple[int, str]] = []
    without = 0
    for number, line in _rows(lines, layout):
        cells = cells_of(line, layout.separator, len(layout.columns))
        found = [number_in(cells[k], layout.decimal) if k < len(cells) else None for k in at]
        if None in found:
            if None not in found[:2] and (at[2] >= len(cells) or cells[at[2]].lower() in MISSING):
                without += 1
            else:
                strange.append((number, line))
            continue
        values.append(tuple(v for v in found if v is not None))
        codes.append(cells[code] if code is not None and code < len(cells) else "")
        if most is not None and len(values) >= most:
            break
    _judge(path, layout, strange, len(values))
    told = [f"line {number} is left out: '{line.strip()[:40]}'" for number, line in strange]
    if without:
        told.append(f"{without} points without a level are left out")
    return Points(np.array(values, dtype=np.float64).reshape(-1, 3), codes, unit, tuple(told))


def _rows(lines: Sequence[str], layout: Layout) -> Iterator[tuple[int, str]]:
    """Lines that may hold a point, with their numbers."""
    for number, line in enumerate(lines[layout.first :], layout.first + 1):
        if not skipped(line, layout.separator):
            yield number, line


def _judge(path: Path, layout: Layout, strange: list[tuple[int, str]], good: int) -> None:
    if len(strange) > min(_MOST_STRANGE, _STRANGE_SHARE * (good + len(strange))):
        number, line = strange[0]
        raise FormatError(
            path,
            f"line {number} has no easting, northing and level where expected ('{line.strip()[:40]}'); its columns are "
            f"taken as {layout.words}",
        )


def _fast(lines: Sequence[str], layout: Layout) -> tuple[Floats, list[str]] | None:
    """Coordinates and codes by NumPy's own reader, of a file in which every line is a plain point.

    Anything unusual goes the careful way.
    """
    width, separator = len(layout.columns), None if layout.separator == " " else layout.separator
    body = [line for line in lines[layout.first :] if line]
    if any(line[0] in _UNUSUAL or line[:2] == "--" or '"' in line for line in body):
        return None
    at = [layout.columns.index(role) for role in PLACE]
    code = layout.columns.index("code") if "code" in layout.columns else None
    plain = body
    if layout.decimal == ",":
        if any("." in line for line in body):
            return None
        plain = [line.replace(",", ".") for line in body]
    try:
        values = np.loadtxt(plain, delimiter=separator, usecols=at, ndmin=2, comments=None)
        most = width - 1 if separator is None else -1
        codes = [line.split(separator, most)[code].strip() for line in body] if code is not None else [""] * len(body)
    except (ValueError, IndexError):
        return None
    return (values, codes) if len(values) == len(body) and np.all(np.isfinite(values)) else None


def _unit(path: Path, lines: Sequence[str], layout: Layout) -> str:
    """The unit that the header or a column for it names; '' where nothing does."""
    if layout.unit == "?":
        raise FormatError(path, "its columns have different units; write all lengths in one")
    if "unit" not in layout.columns:
        return layout.unit
    at = layout.columns.index("unit")
    rows = (cells_of(line, layout.separator, len(layout.columns)) for _, line in _rows(lines, layout))
    found = {cells[at] for cells in rows if len(cells) > at} - {""}
    if len(found) > 1 or not found <= set(METRES):
        words = ", ".join(f"'{u}'" for u in sorted(found)[:5])
        raise FormatError(path, f"its unit column says {words}; one unit of {', '.join(METRES)} is wanted")
    return next(iter(found), layout.unit)


def _bundle(path: Path, points: Floats, codes: list[str], breakline_codes: tuple[str, ...] | None) -> Bundle:
    bundle = Bundle(points=points)
    runs: dict[str, list[int]] = {}
    for i, code in enumerate(codes):
        match = _STRING.match(code) if code else None
        if match and (breakline_codes is None or match[1].strip().upper() in {c.upper() for c in breakline_codes}):
            runs.setdefault(code, []).append(i)
    for code, index in runs.items():
        if len(index) < 2:
            continue
        line = points[index]
        bundle.breaklines.append(line)
        word = _STRING.match(code)
        assert word
        bundle.lines.append(
            SurveyLine(
                id=slug(f"{path.stem} {code}"),
                name=code,
                code=word[1].strip(),
                source=path.name,
                vertices=tuple((float(e), float(n), float(z)) for e, n, z in line),
            )
        )
    return bundle


def _street(path: Path, lines: Sequence[str], layout: Layout, units: str) -> Bundle:
    scale = METRES[_unit(path, lines, layout) or units]
    bends: list[Bend] = []
    vips: list[Vip] = []
    wanted = ("easting", "northing", "radius", "transition_in", "transition_out")
    for number, line in _rows(lines, layout):
        cells = dict(zip(layout.columns, cells_of(line, layout.separator)))
        values = {k: number_in(cells[k], layout.decimal) if cells.get(k) else 0.0 for k in wanted}
        known = {k: v * scale for k, v in values.items() if v is not None}
        try:
            if len(known) < len(values) or not cells.get("easting") or not cells.get("northing"):
                raise ValueError
            bends.append(Bend(**known))
        except ValueError:
            raise FormatError(
                path, f"line {number} is not a bend: easting, northing, radius and transitions are numbers"
            ) from None
    if len(bends) < 2:
        raise FormatError(path, "a street needs at least two points")
    return Bundle(streets=[StreetIn(path.stem, bends, vips)])
