"""How a text file of points is laid out, and its lines, cells and numbers in that layout."""

from __future__ import annotations

import codecs
import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from humble_loop.formats.errors import FormatError

SEPARATORS = {"comma": ",", "semicolon": ";", "tab": "\t", "bar": "|", "blanks": " "}
DECIMALS = {"point": ".", "comma": ","}
PLACE = ("easting", "northing", "level")
ROLES = ("number", *PLACE, "code", "radius", "transition_in", "transition_out", "unit")
SKIPPED = ""  # the role of a column that is not read

_LARGEST = 1_000_000_000  # bytes; more points than that come as a point cloud
_LONGEST_LINE = 10_000
COMMENT = ("#", "//", "!", "%", "--", "*", "'")  # how a line begins that is one


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
    if not bare or bare.startswith(COMMENT):
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
NO_NUMBER = frozenset({"nan", "inf", "infinity"})  # what programs write when they have gone wrong
_NUMBER_POINT = re.compile(r"^[+-]?(?:[0-9]+(?:\.[0-9]*)?|\.[0-9]+)(?:[eE][+-]?[0-9]{1,3})?$")
_NUMBER_COMMA = re.compile(r"^[+-]?(?:[0-9]+(?:,[0-9]+)?|,[0-9]+)(?:[eE][+-]?[0-9]{1,3})?$")
