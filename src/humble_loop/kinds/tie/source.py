"""Sources: what a tie or a fall window takes its levels from, as a line, in words, and abreast of another line."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Bools, Floats, unique_chainages
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.model import Ground
from humble_loop.kinds.ground.reads import surface_of
from humble_loop.kinds.ground.under import UnderLine
from humble_loop.kinds.street.plan import StreetLine, frame_of, is_new, name_of, street_ids
from humble_loop.kinds.street.side import course, drawn_side
from humble_loop.kinds.survey_line.lines import SurveyedLine
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.kinds.tie.model import Source
from humble_loop.lines.abreast import Abreast, abreast
from humble_loop.lines.line import LineId, LinePlan, line
from humble_loop.lines.rules import Above, LevelRule
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.model import other_side

_STEP = 1.0  # metres between places at which it is asked whether a source is there
_GONE = "choose another thing for it to follow, or remove it"


def line_of(q: Engine, source: Source) -> LineId | None:
    """The line that is followed; None for the ground. Raises Unsolved where it is not there any more."""
    if source.what == "ground":
        _surface(q, source)
        return None
    if source.what == "line":
        if source.of not in parts.ids(q, SurveyLine):
            raise Unsolved("tie", "the survey line that it follows is not there any more", _GONE)
        return SurveyedLine(source.of)
    if source.of not in street_ids(q):
        raise Unsolved("tie", "the street that it follows is not there any more", _GONE)
    if source.side is None:
        return StreetLine(source.of)
    side = other_side(source.side) if frame_of(q, source.of).turned else source.side
    names = course(q, source.of, side).names if is_new(q, source.of) else ("crown", "lip")
    name = names[-1] if source.point == "boundary" else source.point
    if name not in names:
        words = f"'{name_of(q, source.of)}' has no point '{source.point}' on its {side}"
        raise Unsolved("tie", words, _GONE)
    return StreetLine(source.of, name, side)


def _surface(q: Engine, source: Source) -> Surface:
    """The surface that is followed. Raises Unsolved where it is not there any more."""
    found = surface_of(q, source.of)
    if found is None:
        raise Unsolved("tie", "the surface that it follows is not there any more", _GONE)
    return found


def source_of(q: Engine, id: LineId | None) -> Source:
    """A line (or the ground) as a source: what ``line_of`` finds again."""
    if id is None:
        return Source()
    if isinstance(id, SurveyedLine):
        return Source(what="line", of=id.id)
    assert isinstance(id, StreetLine)
    if id.side is None:
        return Source(what="point", of=id.street, point="crown")
    outermost = is_new(q, id.street) and id.point == course(q, id.street, id.side).names[-1]
    side = drawn_side(q, id.street, id.side)
    return Source(what="point", of=id.street, point="boundary" if outermost else id.point, side=side)


def words_of(q: Engine, source: Source, street: str = "") -> str:
    """A source in words; those of the ``street`` itself without its name."""
    if source.what == "ground":
        if not source.of:
            return "the ground"
        known = source.of in parts.ids(q, Ground)
        return parts.one(q, Ground, source.of).name if known else "a surface that is gone"
    if source.what == "line":
        known = source.of in parts.ids(q, SurveyLine)
        return parts.one(q, SurveyLine, source.of).name if known else "a survey line that is gone"
    if source.of not in street_ids(q):
        return "a street that is gone"
    side = source.side
    if side is not None and frame_of(q, source.of).turned:
        side = other_side(side)
    what = f"{side} {source.point}" if side else "crown"
    return f"its {what}" if source.of == street else f"{name_of(q, source.of)} {what}"


def rule_beside(q: Engine, source: Source, here: LinePlan, title: str, rise: Varying) -> LevelRule:
    """How a line comes by its levels where it follows a source with a ``rise``."""
    other = line_of(q, source)
    if other is None:
        within = parts.settings(q).level_tolerance
        return UnderLine.along(title, _surface(q, source), here, rise, within, words_of(q, source))
    there = line(q, other)
    words = words_of(q, source)
    if there.plan.base is here.base:
        rises = (("height difference", rise),) if np.any(rise.values) else ()
        return Above(title, f"at the level of {words}", other, words, there.rule, rises, "tied")
    return Abreast(title, other, words, there, here, rise)


def beside_source(q: Engine, source: Source, here: LinePlan, s: Floats) -> tuple[Floats, Floats]:
    """Levels (n,) of a source abreast of places on a line, NaN where it is not there, and metres (n,) from it."""
    other = line_of(q, source)
    places = here.points(s)
    if other is None:
        return _surface(q, source).levels(places), np.zeros(len(s))
    there = line(q, other)
    found = abreast(there.plan, places)
    z = np.full(len(s), np.nan)
    z[found.there] = there.rule.levels(found.at[found.there])
    return z, found.away


def reach(q: Engine, source: Source, here: LinePlan, begin: float, finish: float) -> tuple[float, float] | None:
    """The longest stretch between two chainages of a line along which a source is abreast of it and has a level; None for none."""
    s = unique_chainages([begin, finish], np.arange(begin, finish, _STEP), low=begin, high=finish)
    if len(s) < 2:
        return None

    def known(x: Floats) -> Bools:
        return np.isfinite(beside_source(q, source, here, x)[0])

    on = known(s)
    if on.all():
        return begin, finish
    edges = np.flatnonzero(np.diff(np.concatenate([[0], on.astype(np.int8), [0]])))
    runs = [(int(a), int(b) - 1) for a, b in zip(edges[::2], edges[1::2])]
    if not runs:
        return None
    a, b = max(runs, key=lambda r: float(s[r[1]] - s[r[0]]))
    first = float(s[a]) if a == 0 else _edge(known, float(s[a]), float(s[a - 1]))
    last = float(s[b]) if b == len(s) - 1 else _edge(known, float(s[b]), float(s[b + 1]))
    return (first, last) if last > first else None


def _edge(known: Callable[[Floats], Bools], on: float, off: float) -> float:
    """The last chainage, going from one with a level to one without, that has one."""
    for _ in range(30):
        middle = 0.5 * (on + off)
        if known(np.array([middle]))[0]:
            on = middle
        else:
            off = middle
    return on
