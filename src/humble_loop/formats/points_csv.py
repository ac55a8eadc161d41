"""Points as text: number, easting, northing, level and code in any order, with breaklines by code."""

from __future__ import annotations

import csv
import io
import re
from pathlib import Path

import numpy as np

from humble_loop.formats.bundle import METRES, Bundle, StreetIn
from humble_loop.formats.errors import FormatError
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.street.model import Bend, Vip
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.site.model import slug

DEFAULT_COLUMNS = ("number", "easting", "northing", "level", "code")
_WORDS = {
    "number": {"number", "no", "point", "name", "id", "pt", "n°"},
    "easting": {"easting", "east", "e", "x"},
    "northing": {"northing", "north", "n", "y"},
    "level": {"level", "elevation", "height", "z", "rl", "h"},
    "code": {"code", "description", "feature", "desc"},
    "radius": {"radius", "r"},
    "transition_in": {"transition_in"},
    "transition_out": {"transition_out"},
    "chainage": {"chainage"},
    "curve_length": {"curve_length"},
    "unit": {"unit", "units"},
}
_STRING = re.compile(r"^([A-Za-z][A-Za-z_ -]*?)[ ._-]?(\d+)$")


def read_points_csv(
    path: Path,
    *,
    columns: tuple[str, ...] | None = None,
    units: str = "m",
    breakline_codes: tuple[str, ...] | None = None,
) -> Bundle:
    """Read a text file of points, separated by commas, semicolons, tabs or spaces.

    ``columns`` names the columns in order (number, easting, northing, level, code; others are skipped); without
    it a header line is used, or else that order. Points that follow each other with the same numbered code
    ('LIP1') make a breakline; ``breakline_codes`` narrows which code words do. A file whose header has a radius
    column is a street's bends. A column 'unit' says the unit of its lengths; ``units`` holds where there is none.
    Raises FormatError in one sentence.
    """
    text = _text(path)
    first = text.split("\n", 1)[0]
    header = columns or _header(first)
    body = text if columns or header is None else text.partition("\n")[2]
    names = tuple(header or DEFAULT_COLUMNS)
    units = _unit(path, names, body) or units
    if "radius" in names:
        return _street(path, names, body, units)
    for wanted in ("easting", "northing", "level"):
        if wanted not in names:
            raise FormatError(
                path, f"it has no {wanted} column; name the columns in order, e.g. number,easting,northing,level,code"
            )
    numbers, codes = _columns(path, names, body, 1 if body is text else 2)
    if not len(numbers):
        raise FormatError(path, "it holds no points; check that it is the file you meant")
    points = numbers * METRES[units]
    check_coordinates(path, points)
    return _bundle(path, points, codes, breakline_codes)


def _unit(path: Path, names: tuple[str, ...], body: str) -> str | None:
    """The unit that the column for it names, in every row the same, or None where there is no such column."""
    if "unit" not in names:
        return None
    at, rows = names.index("unit"), csv.reader(io.StringIO(body), delimiter=_separator(body.split("\n", 1)[0]))
    found = {row[at].strip() for row in rows if len(row) > at} - {""}
    if len(found) > 1 or not found <= set(METRES):
        words = ", ".join(f"'{u}'" for u in sorted(found))
        raise FormatError(path, f"its unit column says {words}; one unit of {', '.join(METRES)} is wanted")
    return next(iter(found), None)


def _text(path: Path) -> str:
    try:
        data = path.read_bytes()
    except OSError as error:
        raise FormatError(path, f"it cannot be read ({error.strerror or error})") from None
    if not data.strip():
        raise FormatError(path, "the file is empty; check that it was written completely")
    if b"\0" in data[:4096]:
        raise FormatError(path, "it is not a text file of points; choose a CSV with easting, northing and level")
    return data.decode("utf-8-sig", errors="replace").replace("\r\n", "\n").replace("\r", "\n")


def _separator(line: str) -> str:
    return max((",", ";", "\t"), key=line.count) if any(c in line for c in ",;\t") else " "


def _header(line: str) -> tuple[str, ...] | None:
    cells = [c.strip().strip('"').lower() for c in line.split(_separator(line)) if c.strip() or _separator(line) != " "]
    known = [next((k for k, words in _WORDS.items() if c in words), c) for c in cells]
    return tuple(known) if "easting" in known or "northing" in known else None


def _columns(path: Path, names: tuple[str, ...], body: str, first_line: int) -> tuple[Floats, list[str]]:
    """Numbers (n, 3) and codes; a bad line is named by its number."""
    separator = _separator(body.split("\n", 1)[0])
    at = [names.index(k) for k in ("easting", "northing", "level")]
    code_at = names.index("code") if "code" in names else None
    fast = _fast(body, separator, at, code_at)
    if fast is not None:
        return fast
    numbers: list[list[float]] = []
    codes: list[str] = []
    rows = csv.reader(io.StringIO(body), delimiter=separator, skipinitialspace=True)
    for number, row in enumerate(rows, start=first_line):
        if not row or not "".join(row).strip() or row[0].lstrip().startswith("#"):
            continue
        try:
            values = [float(row[i]) for i in at]
        except (IndexError, ValueError):
            raise FormatError(
                path,
                f"line {number} has no easting, northing and level where expected ('{separator.join(row)[:40]}'); "
                f"the columns are taken as {', '.join(names)}",
            ) from None
        if not np.all(np.isfinite(values)):
            raise FormatError(path, f"line {number} holds a value that is not a number; correct or remove it")
        numbers.append(values)
        codes.append(row[code_at].strip() if code_at is not None and code_at < len(row) else "")
    return np.array(numbers).reshape(-1, 3), codes


def _fast(body: str, separator: str, at: list[int], code_at: int | None) -> tuple[Floats, list[str]] | None:
    """A plain file of numbers is read by NumPy's own reader; anything unusual goes the careful way."""
    if code_at is not None or separator == " " or '"' in body[:2000] or "#" in body[:2000]:
        return None
    try:
        values = np.loadtxt(io.StringIO(body), delimiter=separator, usecols=at, ndmin=2)
    except ValueError:
        return None
    return (values, [""] * len(values)) if np.all(np.isfinite(values)) else None


def check_coordinates(path: Path, points: Floats, *, may_be_degrees: bool = True) -> None:
    """Refuse coordinates that cannot be metres on a site. Raises FormatError.

    ``may_be_degrees`` is false where a small extent is normal, as for a single line of a drawing.
    """
    if np.any(np.abs(points[:, :2]) > 1e8) or np.any(np.abs(points[:, 2]) > 1e5):
        i = int(np.argmax((np.abs(points[:, :2]).max(axis=1) > 1e8) | (np.abs(points[:, 2]) > 1e5)))
        e, n, z = points[i]
        raise FormatError(
            path,
            f"point {i + 1} lies at {e:.6g}, {n:.6g}, level {z:.6g}, too far away for metres; check its units and columns",
        )
    west, south = points[:, :2].min(axis=0)
    east, north = points[:, :2].max(axis=0)
    if (
        may_be_degrees
        and len(points) > 3
        and west >= -180
        and east <= 180
        and south >= -90
        and north <= 90
        and max(east - west, north - south) < 0.5
    ):
        raise FormatError(
            path, "its coordinates look like degrees of longitude and latitude; project them to a grid in metres first"
        )


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


def _street(path: Path, names: tuple[str, ...], body: str, units: str) -> Bundle:
    scale = METRES[units]
    bends: list[Bend] = []
    vips: list[Vip] = []
    for number, row in enumerate(csv.reader(io.StringIO(body), delimiter=_separator(body.split("\n", 1)[0])), start=2):
        if not "".join(row).strip():
            continue
        cells = dict(zip(names, row))
        try:
            values = {
                k: float(cells.get(k) or 0.0) * scale
                for k in ("easting", "northing", "radius", "transition_in", "transition_out")
            }
            bends.append(Bend(**values))
        except ValueError:
            raise FormatError(
                path, f"line {number} is not a bend: easting, northing, radius and transitions are numbers"
            ) from None
    if len(bends) < 2:
        raise FormatError(path, "a street needs at least two points")
    return Bundle(streets=[StreetIn(path.stem, bends, vips)])
