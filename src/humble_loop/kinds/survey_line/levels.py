"""Levels of a survey line in rows, those that break their run, and their correction."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.kinds.survey_line.lines import SurveyedLine, vertices
from humble_loop.kinds.survey_line.model import SurveyLine, set_survey_line
from humble_loop.lines.describe import Fact, Sheet, SheetRow
from humble_loop.lines.findings import Finding, Mend, point
from humble_loop.lines.line import ThingId
from humble_loop.propose.run import Odd, odd_levels
from humble_loop.site import parts
from humble_loop.site.edits import Edit, EditError, the
from humble_loop.site.model import Site

RULE = "level out of its run"
_COLUMNS = ("vertex", "along", "level", "off its run", "likely", "because")
_ROWS = 2_000  # rows of the sheet: a line may have a hundred times as many vertices
_TOLD = 5  # findings of one line: the rest stands in its sheet


@query
def odd_vertices(q: Engine, id: str) -> tuple[Odd, ...]:
    """The vertices of a survey line whose levels break its run, by their place among all vertices; the worst first."""
    xyz = vertices(q, id)
    along = _along(xyz)
    known = np.flatnonzero(np.isfinite(xyz[:, 2]) & np.concatenate([[True], np.diff(along) > 1e-6]))
    found = odd_levels(along[known], xyz[known, 2], parts.settings(q).level_decimals)
    return tuple(Odd(int(known[o.index]), o.off, o.smooth, o.likely, o.why, o.times) for o in found)


def _along(xyz: np.ndarray) -> np.ndarray:
    return np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(xyz[:, :2], axis=0).T))])


def set_level(id: str, index: int, level: float) -> Edit:
    """The edit that gives a vertex another level."""

    def edit(site: Site) -> Site:
        found = list(the(site, SurveyLine, id).vertices)
        if not 0 <= index < len(found):
            raise EditError(f"the line has no vertex {index + 1}")
        found[index] = (*found[index][:2], level)
        return set_survey_line(site, id, vertices=tuple(found))

    return edit


def _to(id: str, index: int) -> Callable[[float], Edit]:
    return lambda level: set_level(id, index, level)


def level_findings(q: Engine, id: str) -> tuple[Finding, ...]:
    """Levels out of their run, the worst first."""
    name, xyz, of = parts.one(q, SurveyLine, id).name, vertices(q, id), ThingId("survey_line", id)
    along, found = _along(xyz), []
    for o in odd_vertices(q, id)[:_TOLD]:
        z, s = float(xyz[o.index, 2]), float(along[o.index])
        words = (
            f"its level {z:.3f} at {s:.2f} along it lies {1000 * abs(o.off):.0f} mm {'above' if o.off > 0 else 'below'} its run,"
            f" {o.times:.0f} times as uneven as the rest; {o.likely:.3f} is likely ({o.why})"
        )
        mend = Mend(f"Set it to {o.likely:.3f}", set_level(id, o.index, o.likely))
        remedy = "look at the survey again; set the likely level if that is it"
        place = point(xyz[o.index])
        found.append(Finding(RULE, of, name, words, remedy, z, o.smooth, s, place, "near", mend))
    return tuple(found)


def level_sheet(q: Engine, id: str) -> Sheet:
    """The vertices in order, with what breaks their run; levels can be typed."""
    xyz, odd = vertices(q, id), {o.index: o for o in odd_vertices(q, id)}
    along, told = _along(xyz), {f.mend.words: f for f in level_findings(q, id) if f.mend}
    rows = []
    shown = sorted({*range(min(len(xyz), _ROWS)), *odd})  # what breaks the run is shown wherever it is
    for i in shown:
        s, z = float(along[i]), float(xyz[i, 2])
        o = odd.get(i)
        cells = (
            Fact("vertex", "count", i + 1),
            Fact("along", "length", s),
            Fact("level", "level", z, "set", _to(id, i)),
            Fact("off its run", "level", o.off) if o else None,
            Fact("likely", "level", o.likely) if o else None,
            Fact("because", "text", o.why) if o else None,
        )
        actions = ((f"Set it to {o.likely:.3f}", set_level(id, i, o.likely)),) if o else ()
        wrong = tuple(f for f in told.values() if f.place == point(xyz[i]))
        rows.append(SheetRow(cells, (s, s), xyz[i : i + 1, :2], findings=wrong, actions=actions))
    note = f"{parts.one(q, SurveyLine, id).name}: {len(odd)} of {len(xyz)} levels break their run"
    if len(shown) < len(xyz):
        note += f"; the first {_ROWS:,} are shown, and those that do"
    return Sheet("Levels", SurveyedLine(id), _COLUMNS, tuple(rows), note)
