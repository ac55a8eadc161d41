"""How a text file of points is laid out: letters, separators, decimal signs, header and columns, found over the whole file.

Surveyors' instruments, spreadsheets and scripts all write points as text, each in its own way. What can be told from
the file is told from it; what cannot is a doubt in words, for whoever brings the file in to settle.
"""

from __future__ import annotations

import codecs
import math
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from humble_loop.formats.bundle import METRES
from humble_loop.formats.errors import FormatError

SEPARATORS = {"comma": ",", "semicolon": ";", "tab": "\t", "bar": "|", "blanks": " "}
DECIMALS = {"point": ".", "comma": ","}
PLACE = ("easting", "northing", "level")
ROLES = ("number", *PLACE, "code", "radius", "transition_in", "transition_out", "unit")
DEFAULT_COLUMNS = ("number", *PLACE, "code")
SKIPPED = ""  # the role of a column that is not read

_LARGEST = 1_000_000_000  # bytes; more points than that come as a point cloud
_LONGEST_LINE = 10_000
_COMMENT = ("#", "//", "!", "%", "--", "*", "'")
_SAMPLE, _SPREAD = 400, 1600  # lines looked at from the beginning, and spread over the rest
_HEADER_LINES = 5  # lines before the first point among which a header is looked for

# Words of headers by what they mean: English ones first, then those of neighbours who send files too.
_WORDS = {
    "number": "number no nr num point pointno pointnumber pointid name id pt ptno ptid n° punkt punktnummer matricule punto",
    "easting": "easting east e x eastings xcoord xcoordinate ost ostwert rechtswert rechts est este",
    "northing": "northing north n y northings ycoord ycoordinate nord nordwert hochwert hoch norte",
    "level": "level elevation elev height z rl h alt altitude reducedlevel zcoord hoehe höhe cote cota",
    "code": "code description feature desc featurecode remark remarks note notes string bezeichnung libelle descripcion",
    "radius": "radius r",
    "transition_in": "transitionin",
    "transition_out": "transitionout",
    "unit": "unit units",
}
_ROLE_OF = {word: role for role, words in _WORDS.items() for word in words.split()}
_UNIT_OF = {
    **{u: u for u in METRES},
    "metre": "m",
    "metres": "m",
    "meter": "m",
    "meters": "m",
    "foot": "ft",
    "feet": "ft",
    "usft": "us-ft",
    "ftus": "us-ft",
    "ussurveyfeet": "us-ft",
    "ussurveyfoot": "us-ft",
    "millimetres": "mm",
    "millimeters": "mm",
    "yards": "yd",
}


@dataclass(frozen=True)
class Layout:
    """How a text file of points is laid out.

    ``columns`` are the roles of its columns in order, '' for one that is not read; ``first`` is the index of the first
    line with a point; ``unit`` is what the header says ('' where it says nothing). ``doubts`` are what the file leaves
    open, in words, and ``refusal`` is why it cannot be read as it is, unless somebody says how.
    """

    separator: str
    decimal: str
    columns: tuple[str, ...]
    first: int
    unit: str = ""
    header: tuple[str, ...] = ()
    doubts: tuple[str, ...] = ()
    refusal: str = ""

    @property
    def certain(self) -> bool:
        """Whether nothing had to be guessed."""
        return not self.doubts and not self.refusal

    @property
    def signature(self) -> str:
        """The same for files that one program writes in one way."""
        return "|".join([self.separator, self.decimal, str(len(self.columns)), *self.header])

    @property
    def words(self) -> str:
        """Separator and columns for people."""
        separator = next(name for name, sign in SEPARATORS.items() if sign == self.separator)
        plural = "blanks" if separator == "blanks" else f"{separator}s"
        return f"{', '.join(c or 'skipped' for c in self.columns)}; between {plural}, decimal {self._decimal}"

    @property
    def _decimal(self) -> str:
        return next(name for name, sign in DECIMALS.items() if sign == self.decimal)

    def with_columns(self, columns: Sequence[str]) -> Layout:
        """The same layout with other roles, as somebody says: nothing is left to doubt."""
        return replace(self, columns=tuple(columns), doubts=(), refusal="")


def read_lines(path: Path) -> list[str]:
    """The lines of a text file, whatever its letters and line ends. Raises FormatError."""
    size = path.stat().st_size
    if size > _LARGEST:
        raise FormatError(
            path, f"it has {size / 1e6:,.0f} MB of text; bring so many points in as LAS, or thin them out"
        )
    data = path.read_bytes()
    if not data.strip(b" \t\r\n\0"):
        raise FormatError(path, "the file is empty; check that it was written completely")
    text = _decoded(data)
    if text is None:
        raise FormatError(path, "it is not a text file of points; choose a text with easting, northing and level")
    lines = text.replace("\r\n", "\n").replace("\r", "\n").split("\n")
    if (longest := max(map(len, lines))) > _LONGEST_LINE:
        where = next(i for i, line in enumerate(lines, 1) if len(line) == longest)
        raise FormatError(
            path, f"line {where} has {longest:,} letters, more than points take; check that it is such a file"
        )
    return lines


def _decoded(data: bytes) -> str | None:
    for mark, encoding in (
        (codecs.BOM_UTF8, "utf-8-sig"),
        (codecs.BOM_UTF16_LE, "utf-16"),
        (codecs.BOM_UTF16_BE, "utf-16"),
    ):
        if data.startswith(mark):
            return data.decode(encoding, errors="replace")
    head = data[:4000]
    # Western text in two bytes a letter has a zero in every second one.
    if len(head) > 3 and head[1::2].count(0) > 0.4 * len(head) / 2 and not head[0::2].count(0):
        return data.decode("utf-16-le", errors="replace")
    if len(head) > 3 and head[0::2].count(0) > 0.4 * len(head) / 2 and not head[1::2].count(0):
        return data.decode("utf-16-be", errors="replace")
    if b"\0" in head:
        return None
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("cp1252", errors="replace")


def cells_of(line: str, separator: str, columns: int = 0) -> list[str]:
    """The cells of a line. Between blanks, what goes beyond ``columns`` belongs to the last of them."""
    if separator == " ":
        cells = line.split()
        return [*cells[: columns - 1], " ".join(cells[columns - 1 :])] if 0 < columns < len(cells) else cells
    if '"' in line:
        return _quoted(line, separator)
    return [c.strip() for c in line.split(separator)]


def _quoted(line: str, separator: str) -> list[str]:
    pattern = rf'\s*(?:"((?:[^"]|"")*)"\s*|([^{re.escape(separator)}]*))(?:{re.escape(separator)}|$)'
    cells, at = [], 0
    while at <= len(line):
        match = re.compile(pattern).match(line, at)
        if match is None or (match.end() == at and at == len(line)):
            break
        quoted, plain = match.group(1), match.group(2)
        cells.append(quoted.replace('""', '"').strip() if quoted is not None else (plain or "").strip())
        if match.end() == len(line) and not line.endswith(separator):
            break
        at = match.end()
    return cells


def skipped(line: str, separator: str) -> bool:
    """Whether a line holds nothing: it is empty, has separators only, or is a comment."""
    bare = line.strip()
    if not bare or bare.startswith(_COMMENT):
        return True
    return (bare.startswith(";") and separator != ";") or not bare.strip(f"{separator} \t\"'")


def number_in(cell: str, decimal: str) -> float | None:
    """The number that a cell holds, or None. No thousands, no infinities: a point that is told in them is left to people."""
    pattern = _NUMBER_POINT if decimal == "." else _NUMBER_COMMA
    if not pattern.match(cell):
        return None
    value = float(cell.replace(",", ".") if decimal == "," else cell)
    return value if math.isfinite(value) else None


MISSING = frozenset({"", "-", "--", "na", "n/a", "null", "none", "?"})  # what stands where a number is not known
_NO_NUMBER = frozenset({"nan", "inf", "infinity"})  # what programs write when they have gone wrong
_NUMBER_POINT = re.compile(r"^[+-]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)(?:[eE][+-]?[0-9]{1,3})?$")
_NUMBER_COMMA = re.compile(r"^[+-]?(?:[0-9]+(?:,[0-9]+)?|,[0-9]+)(?:[eE][+-]?[0-9]{1,3})?$")


@dataclass(frozen=True)
class _Look:
    """What a way of splitting makes of the sample: lines of points by index, their cells, and how well it fits."""

    separator: str
    decimal: str
    rows: tuple[tuple[int, list[str]], ...]
    fit: tuple[float, ...]

    @property
    def first(self) -> int:
        """The index of the first line that is surely one of points."""
        return next((i for i, cells in self.rows if self._numbers(cells) >= 3), self.rows[0][0])

    def first_at(self, columns: Sequence[str]) -> int:
        """The index of the first line with an easting and a northing: a line above that may hold numbers too."""
        at = [columns.index(role) for role in PLACE[:2] if role in columns]
        found = (
            i
            for i, cells in self.rows
            if all(k < len(cells) and number_in(cells[k], self.decimal) is not None for k in at)
        )
        return next(found, self.rows[0][0])

    def _numbers(self, cells: list[str]) -> int:
        return sum(number_in(c, self.decimal) is not None for c in cells)

    @property
    def width(self) -> int:
        return Counter(len(cells) for _, cells in self.rows).most_common(1)[0][0]


def recognised(path: Path, lines: Sequence[str], *, separator: str = "", decimal: str = "") -> Layout:
    """Find out how ``lines`` are laid out; ``separator`` and ``decimal`` hold where they are given.

    Raises FormatError where nothing in it looks like points.
    """
    looks = [
        _look(lines, s, d)
        for s in ([separator] if separator else SEPARATORS.values())
        for d in ([decimal] if decimal else DECIMALS.values())
        if (s, d) != (",", ",")
    ]
    best = max((look for look in looks if look.rows), key=lambda look: look.fit, default=None)
    if best is None:
        where = next((i for i, line in enumerate(lines, 1) if line.strip()), 1)
        if separator == decimal == ",":
            raise FormatError(
                path, "commas cannot both separate columns and be decimal signs; write it with semicolons"
            )
        raise FormatError(path, f"line {where} ('{lines[where - 1].strip()[:40]}') and what follows hold no points")
    header, roles, unit, first = _header(lines, best.first, best)
    layout = Layout(best.separator, best.decimal, (), first, unit, header)
    if roles:
        columns = tuple(roles) + (SKIPPED,) * max(0, best.width - len(roles))
        doubts = tuple(_doubts_of_header(header, roles))
    else:
        columns, doubts = _by_kind(best)
        layout = replace(layout, first=best.first_at(columns))
    return replace(layout, columns=columns, doubts=doubts, refusal=_refusal(best, roles, columns))


def _sample(lines: Sequence[str]) -> Iterator[int]:
    yield from range(min(_SAMPLE, len(lines)))
    rest = len(lines) - _SAMPLE
    if rest > 0:
        step = max(1, rest // _SPREAD)
        yield from range(_SAMPLE, len(lines), step)


def _look(lines: Sequence[str], separator: str, decimal: str) -> _Look:
    rows, full, share = [], 0, 0.0
    for i in _sample(lines):
        if skipped(lines[i], separator):
            continue
        cells = cells_of(lines[i], separator)
        numbers = sum(number_in(c, decimal) is not None for c in cells)
        if numbers >= 2:
            rows.append((i, cells))
            full += numbers >= 3
            share += numbers / len(cells)
    if not rows:
        return _Look(separator, decimal, (), ())
    common = Counter(len(cells) for _, cells in rows).most_common(1)[0][1]
    return _Look(separator, decimal, tuple(rows), (full, len(rows), common, share))


def _header(lines: Sequence[str], first: int, look: _Look) -> tuple[tuple[str, ...], list[str], str, int]:
    """The header's cells, the roles that they name, the unit that they or a line under them name, and the index of the
    line that follows them; ``first`` is that of the first line that is surely one of points.
    """
    unit_line, after = "", first
    for i in range(first - 1, max(-1, first - 1 - _HEADER_LINES), -1):
        bare = lines[i].strip()
        for mark in (*_COMMENT, ";"):
            if bare.startswith(mark) and mark != look.separator:
                bare = bare[len(mark) :].strip()
        cells = cells_of(bare, look.separator)
        if len(cells) < 2 and look.separator != " ":
            cells = cells_of(bare, " ")
        roles, units = _roles(cells)
        if sum(r in PLACE for r in roles) >= 2:
            named = set(units) - {""}
            if len(named) > 1:
                return tuple(cells), roles, "?", after
            return tuple(cells), roles, next(iter(named), unit_line), after if unit_line else i + 1
        only = {_unit(c) for c in cells if c.strip("-() []")}
        if only and "" not in only and len(only) == 1:
            unit_line, after = next(iter(only)), i + 1
    return (), [], unit_line, first


def _roles(cells: Sequence[str]) -> tuple[list[str], list[str]]:
    """The roles and units that header cells name; a role that comes twice is the first's."""
    roles, units = [], []
    for cell in cells:
        role, unit = _meaning(cell)
        roles.append(role if role not in roles else SKIPPED)
        units.append(unit if role in PLACE else "")
    return roles, units


def _meaning(cell: str) -> tuple[str, str]:
    """What a header cell means, with its unit: 'Easting (ft)', 'RL[m]', 'E_m', 'Level, m'."""
    text = cell.strip().strip('"').lower()
    match = re.match(r"^(.*?)[\s_,]*[(\[]\s*([^)\]]*)[)\]]\s*$", text) or re.match(r"^(.+?)[\s_,]+(\S+)$", text)
    if match and _unit(match[2]) and _ROLE_OF.get(_bare(match[1])):
        return _ROLE_OF[_bare(match[1])], _unit(match[2])
    text = match[1] if match and text.endswith((")", "]")) else text
    return _ROLE_OF.get(_bare(text), SKIPPED), ""


def _bare(text: str) -> str:
    return re.sub(r"[^\w°]|_", "", text.lower())


def _unit(text: str) -> str:
    return _UNIT_OF.get(text.strip().strip("()[]").lower()) or _UNIT_OF.get(_bare(text), "")


def _doubts_of_header(header: Sequence[str], roles: Sequence[str]) -> Iterator[str]:
    named = {role: cell.strip().lower() for role, cell in zip(roles, header) if role}
    if named.get("easting") == "x" and named.get("northing") == "y":
        yield "x is taken as easting and y as northing"
    if "level" not in named and "radius" not in named:
        yield "no column is called level"


def _by_kind(look: _Look) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Columns without a header, by what stands in them."""
    rows = [cells for _, cells in look.rows if len(cells) == look.width]
    values = [[number_in(cells[k], look.decimal) for cells in rows] for k in range(look.width)]
    numeric = [k for k in range(look.width) if _mostly_numbers([c[k] for c in rows], values[k])]
    columns = [SKIPPED] * look.width
    whole = {
        k: all(v is None or v == int(v) for v in values[k]) and not any("." in c[k] for c in rows) for k in numeric
    }
    rest = list(numeric)
    if 0 not in numeric:
        columns[0] = "number" if any(any(ch.isdigit() for ch in cells[0]) for cells in rows) else "code"
    elif len(numeric) >= 4 and whole[0] and len({cells[0] for cells in rows}) == len(rows):
        columns[0] = "number"
        rest = rest[1:]
    if len(rest) < 3:
        return tuple(columns), ()
    for role, k in zip(PLACE, rest):
        columns[k] = role
    others = [k for k in range(look.width) if not columns[k] and k not in rest[:3]]
    texts = [k for k in others if k not in numeric]
    code = next(iter(texts), next((k for k in others if k == rest[2] + 1), None))
    if code is not None and "code" not in columns:
        columns[code] = "code"
    doubts = ["it has no header: columns are taken by what stands in them, easting before northing"]
    level = rest[2]
    if look.separator == "," and code == level + 1 and code in numeric and whole[level] and not whole[rest[0]]:
        doubts.append("levels are whole numbers with digits after them: if those are decimals, write it with points")
    return tuple(columns), tuple(doubts)


def _mostly_numbers(cells: Sequence[str], values: Sequence[float | None]) -> bool:
    """Whether a column is one of numbers, of which some may be missing and a few spoilt."""
    meant = [v is not None or c.lower().lstrip("+-") in _NO_NUMBER for c, v in zip(cells, values) if c not in MISSING]
    return bool(meant) and sum(meant) >= 0.5 * len(meant)


def _refusal(look: _Look, roles: Sequence[str], columns: Sequence[str]) -> str:
    """Why a file cannot be read as it is."""
    if look.separator == ",":
        pointless = all("." not in c for _, cells in look.rows for c in cells if number_in(c, ".") is not None)
        widths = {len(cells) for _, cells in look.rows}
        if pointless and (
            (not roles and look.width >= 6) or (roles and max(widths) > len(roles) and look.width > len(roles))
        ):
            return (
                "its columns cannot be told from its decimals, since commas stand for both; write it with decimal "
                "points, or with semicolons between columns"
            )
    if "radius" in columns:
        return ""
    missing = [role for role in PLACE if role not in columns]
    if missing and not roles:
        number, cells = look.rows[0]
        where = f"line {number + 1} ('{look.separator.join(cells)[:40]}')"
        return f"{where} has no easting, northing and level; check that it is the file you meant"
    if missing:
        return f"it has no {missing[0]} column; name the columns in order, e.g. number,easting,northing,level,code"
    return ""
