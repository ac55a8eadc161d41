"""Headers of text files of points: which column is what, and in which unit, in the words of many programs."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from humble_loop.formats.bundle import METRES
from humble_loop.formats.text_layout import COMMENT, PLACE, SKIPPED, cells_of

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


def header_in(lines: Sequence[str], first: int, separator: str) -> tuple[tuple[str, ...], list[str], str, int]:
    """The header's cells, the roles that they name, the unit that they or a line under them name, and the index of the
    line that follows them; ``first`` is that of the first line that is surely one of points.
    """
    unit_line, after = "", first
    for i in range(first - 1, max(-1, first - 1 - _HEADER_LINES), -1):
        bare = lines[i].strip()
        for mark in (*COMMENT, ";"):
            if bare.startswith(mark) and mark != separator:
                bare = bare[len(mark) :].strip()
        cells = cells_of(bare, separator)
        if len(cells) < 2 and separator != " ":
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


def doubts_of_header(header: Sequence[str], roles: Sequence[str]) -> Iterator[str]:
    """What a header leaves open, in words."""
    named = {role: cell.strip().lower() for role, cell in zip(roles, header) if role}
    if named.get("easting") == "x" and named.get("northing") == "y":
        yield "x is taken as easting and y as northing"
    if "level" not in named and "radius" not in named:
        yield "no column is called level"
