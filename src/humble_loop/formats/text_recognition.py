"""Finding out how a text file of points is laid out, over the whole file.

Surveyors' instruments, spreadsheets and scripts all write points as text, each in its own way. What can be told from
the file is told from it; what cannot is a doubt in words, for whoever brings the file in to settle.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from humble_loop.formats.errors import FormatError
from humble_loop.formats.text_header import doubts_of_header, header_in
from humble_loop.formats.text_layout import (
    DECIMALS,
    MISSING,
    NO_NUMBER,
    PLACE,
    SEPARATORS,
    SKIPPED,
    Layout,
    cells_of,
    number_in,
    skipped,
)

_SAMPLE, _SPREAD = 400, 1600  # lines looked at from the beginning, and spread over the rest


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
    header, roles, unit, first = header_in(lines, best.first, best.separator)
    layout = Layout(best.separator, best.decimal, (), first, unit, header)
    if roles:
        columns = tuple(roles) + (SKIPPED,) * max(0, best.width - len(roles))
        doubts = tuple(doubts_of_header(header, roles))
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
    meant = [v is not None or c.lower().lstrip("+-") in NO_NUMBER for c, v in zip(cells, values) if c not in MISSING]
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
