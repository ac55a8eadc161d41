"""ASCII grids as their text stands: the library that reads them takes words for zeros and does not count."""

from __future__ import annotations

import re
from pathlib import Path

from humble_loop.formats.errors import FormatError

WORDS = (b"ncols", b"nrows", b"xll", b"yll", b"cellsize", b"dx", b"dy", b"nodata_value")
_NUMBERS = b"0123456789+-.eE \t\r\n"
_NO_NUMBER = re.compile(rb"(?i)[+-]?(?:nan|inf)")
_AT_ONCE = 16_000_000  # bytes


def check_ascii_grid(path: Path) -> None:
    """Refuse a grid that holds other than numbers, or more or fewer levels than its head says. Raises FormatError."""
    with path.open("rb") as file:
        head = file.read(4000)
        columns, rows, begin = _head(path, head)
        file.seek(begin)
        count, line, rest = 0, 1 + head[:begin].count(b"\n"), b""
        while piece := file.read(_AT_ONCE):
            # A level may stand across two pieces: it is looked at with the second.
            cut = max(piece.rfind(b" "), piece.rfind(b"\n"), piece.rfind(b"\t")) + 1
            text, rest = rest + piece[:cut], piece[cut:]
            _check_numbers(path, text, line)
            count, line = count + len(text.split()), line + text.count(b"\n")
        _check_numbers(path, rest, line)
        count += len(rest.split())
    if count != columns * rows:
        more = "it may be cut short; copy it again" if count < columns * rows else "check its head"
        raise FormatError(path, f"it holds {count:,} levels, and its head says {columns * rows:,}; {more}")


def _head(path: Path, text: bytes) -> tuple[int, int, int]:
    """Columns, rows, and the byte at which levels begin."""
    said: dict[str, str] = {}
    at = 0
    for match in re.finditer(rb"[^\n]*\n?", text):
        words = match[0].split()
        if not match[0].strip():
            at = match.end()
            continue
        if len(words) != 2 or not words[0].lower().startswith(WORDS):
            break
        said[words[0].lower().decode("ascii", "replace")] = words[1].decode("ascii", "replace")
        at = match.end()
    found = []
    for name in ("ncols", "nrows"):
        if not re.fullmatch(r"[0-9]{1,9}", said.get(name, "")):
            raise FormatError(path, f"its head has no whole number as {name}; export it as an ASCII grid again")
        found.append(int(said[name]))
    return found[0], found[1], at


def _check_numbers(path: Path, text: bytes, line: int) -> None:
    if not text.translate(None, _NUMBERS):
        return
    for k, row in enumerate(text.split(b"\n")):
        for word in row.split():
            if word.translate(None, _NUMBERS) and not _NO_NUMBER.fullmatch(word):
                shown = word[:20].decode("utf-8", "replace")
                raise FormatError(
                    path,
                    f"line {line + k} holds '{shown}', which is no level; export it with decimal points and numbers only",
                )
