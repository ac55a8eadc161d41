"""Survey lines whose file is read again: what is another there now, told before any of it is taken."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import shapely

from humble_loop.formats.bring_in import Options, read_file
from humble_loop.formats.errors import FormatError
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.survey_line.model import SurveyLine, add_survey_lines, set_survey_line
from humble_loop.site.edits import remove
from humble_loop.site.model import Site

_SAME = 5e-4  # metres within which a vertex is where it was: half of what files write
_FAR = 50.0  # metres beyond which a line of the same name is another


@dataclass(frozen=True)
class LineChange:
    """What became of a line: ``old`` as the site has it (None: it is new), ``fresh`` as the file has it (None: it is gone), and
    how far it has moved at most in plan and in level (m, NaN where there is nothing to compare).
    """

    old: SurveyLine | None
    fresh: SurveyLine | None
    moved: float = float("nan")
    raised: float = float("nan")

    @property
    def name(self) -> str:
        """Of the line."""
        made = self.old or self.fresh
        assert made is not None
        return made.name

    @property
    def place(self) -> tuple[float, float]:
        """Where to look."""
        made = self.fresh or self.old
        assert made is not None
        return made.vertices[len(made.vertices) // 2][:2]

    @property
    def words(self) -> str:
        """In one line."""
        if self.old is None:
            return f"{self.name}: new"
        if self.fresh is None:
            return f"{self.name}: not in the file any more"
        told = []
        if self.moved > _SAME:
            told.append(f"moved by {self.moved:.3f} m at most")
        if np.isfinite(self.raised) and self.raised > _SAME:
            told.append(f"its level changed by {self.raised:.3f} m at most")
        points, before = len(self.fresh.vertices), len(self.old.vertices)
        if points != before:
            told.append(f"{points} points instead of {before}")
        if points - _known(self.fresh) != before - _known(self.old):
            told.append(f"{points - _known(self.fresh)} of them without a level, {before - _known(self.old)} before")
        return f"{self.name}: {', '.join(told) or 'other points on the same line'}"


def read_again(site: Site, path: Path, options: Options | None = None) -> tuple[LineChange, ...]:
    """What is another in a file than in the lines that the site has from it. Raises FormatError where it has none of them."""
    mine = [line for line in site.all(SurveyLine) if line.source == path.name]
    if not mine:
        known = ", ".join(sorted({line.source for line in site.all(SurveyLine) if line.source})) or "no file"
        raise FormatError(path, f"no line of the site came from it; its lines came from {known}")
    return line_changes(mine, read_file(path, options).lines)


def line_changes(mine: Sequence[SurveyLine], fresh: Sequence[SurveyLine]) -> tuple[LineChange, ...]:
    """Lines of the site against those of a file: of one name and code the nearest are the same. What is as it was is left out."""
    found: list[LineChange] = []
    for key in dict.fromkeys((line.name, line.code) for line in (*mine, *fresh)):
        ours, theirs = ([line for line in some if (line.name, line.code) == key] for some in (mine, fresh))
        pairs = _pairs(ours, theirs)
        for i, j in pairs:
            change = _compared(ours[i], theirs[j])
            if ours[i].vertices != theirs[j].vertices and not _alike(ours[i], theirs[j]):
                found.append(change)
        taken, used = {i for i, _ in pairs}, {j for _, j in pairs}
        found += [LineChange(line, None) for i, line in enumerate(ours) if i not in taken]
        found += [LineChange(None, line) for j, line in enumerate(theirs) if j not in used]
    return tuple(found)


def take(site: Site, changes: Sequence[LineChange]) -> Site:
    """The site with changes taken. Lines keep their ids, so whatever follows them goes on following."""
    new = []
    for c in changes:
        if c.old is None:
            assert c.fresh is not None
            new.append(c.fresh)
        elif site.find(SurveyLine, c.old.id) is None:
            continue  # it was removed meanwhile
        elif c.fresh is None:
            site = remove(site, SurveyLine, c.old.id)
        else:
            site = set_survey_line(site, c.old.id, vertices=c.fresh.vertices)
    return add_survey_lines(site, new) if new else site


def _pairs(ours: Sequence[SurveyLine], theirs: Sequence[SurveyLine]) -> list[tuple[int, int]]:
    """Which are the same: those nearest to one another first."""
    a, b = ([shapely.LineString(_xy(line)) for line in some] for some in (ours, theirs))
    far = sorted((shapely.hausdorff_distance(p, q), i, j) for i, p in enumerate(a) for j, q in enumerate(b))
    found: dict[int, int] = {}
    for distance, i, j in far:
        if i not in found and j not in found.values() and (distance < _FAR or len(ours) == len(theirs) == 1):
            found[i] = j
    return sorted(found.items())


def _compared(old: SurveyLine, fresh: SurveyLine) -> LineChange:
    moved = float(shapely.hausdorff_distance(shapely.LineString(_xy(old)), shapely.LineString(_xy(fresh))))
    path, z = shapely.LineString(_xy(old)), _levels(old)
    if np.isfinite(z).sum() < 2 or not np.isfinite(_levels(fresh)).any():
        return LineChange(old, fresh, moved)
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(_xy(old), axis=0).T))])
    feet = shapely.line_locate_point(path, shapely.points(_xy(fresh)))
    known = np.isfinite(z)
    before = np.interp(feet, along[known], z[known])
    return LineChange(old, fresh, moved, float(np.nanmax(np.abs(_levels(fresh) - before))))


def _alike(old: SurveyLine, fresh: SurveyLine) -> bool:
    if len(old.vertices) != len(fresh.vertices):
        return False
    a, b = _levels(old), _levels(fresh)
    same = np.array_equal(np.isfinite(a), np.isfinite(b)) and np.allclose(_xy(old), _xy(fresh), rtol=0, atol=_SAME)
    return bool(same and np.allclose(a, b, rtol=0, atol=_SAME, equal_nan=True))


def _xy(line: SurveyLine) -> Floats:
    return np.array([v[:2] for v in line.vertices], dtype=np.float64)


def _levels(line: SurveyLine) -> Floats:
    return np.array([np.nan if v[2] is None else v[2] for v in line.vertices])


def _known(line: SurveyLine) -> int:
    return int(np.isfinite(_levels(line)).sum())
