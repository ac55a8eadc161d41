"""Fall windows worked out: the levels that they leave their line."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen, unique_chainages
from humble_loop.kinds.fall_window.model import FallWindow
from humble_loop.kinds.kerb_line.levels import KerbLevels, kerb_lines_on, name_on
from humble_loop.kinds.kerb_line.levels import as_it_runs as kerb_line_runs
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, is_new, name_of
from humble_loop.kinds.street.side import course
from humble_loop.kinds.tie.beginning import point_name
from humble_loop.kinds.tie.levels import TieLevels, tie_of
from humble_loop.kinds.tie.source import beside_source, line_of, reach, words_of
from humble_loop.lines.abreast import abreast
from humble_loop.lines.describe import Window, band_below
from humble_loop.lines.findings import share
from humble_loop.lines.line import LineId, line, line_plan
from humble_loop.lines.room import Room, rooms
from humble_loop.lines.standing import kinds
from humble_loop.site import parts
from humble_loop.site.model import other_side

_STEP = 2.0  # metres between places at which a window is worked out, besides where its source bends
_MOST = 4_000  # such places


@dataclass(frozen=True)
class WindowRuns:
    """A fall window as its street runs: the line that it is of, and from where to where."""

    line: StreetLine
    begin: float
    finish: float


@query
def window_runs(q: Engine, id: str) -> WindowRuns:
    """A fall window in its street's own chainages. Raises Unsolved where the section does not have its point."""
    w = parts.one(q, FallWindow, id)
    turned = frame_of(q, w.street).turned
    total = chain_of(q, w.street).total
    begin, finish = (total - w.finish, total - w.begin) if turned else w.span
    if w.side is None:
        return WindowRuns(StreetLine(w.street), begin, finish)
    side = other_side(w.side) if turned else w.side
    names = course(q, w.street, side).names if is_new(q, w.street) else ("crown", "lip")
    name = names[-1] if w.point == "boundary" else w.point
    if name not in names[1:]:
        words = f"the section has no point '{w.point}' on its {side}"
        title = f"{name_of(q, w.street)} {side} {w.point} window"
        raise Unsolved(title, words, "remove the window, or bring the point back")
    return WindowRuns(StreetLine(w.street, name, side), begin, finish)


def title_of(q: Engine, id: str) -> str:
    """What a fall window is called."""
    w = parts.one(q, FallWindow, id)
    side = w.side
    if side is not None and frame_of(q, w.street).turned:
        side = other_side(side)
    of = f"{side} {w.point}" if side else "crown"
    return f"{name_of(q, w.street)} {of} {told_of(q, id)}"


def told_of(q: Engine, id: str) -> str:
    """What a fall window asks, in words: '2.50 % to 4.50 % from its crown'."""
    w = parts.one(q, FallWindow, id)
    said = [
        None if v is None else share(v) if w.measure == "fall" else f"{v:.3f} m".replace("-", "−")
        for v in (w.least, w.most)
    ]
    least, most = said
    if least and most:
        asked = f"{least} to {most}"
    else:
        asked = f"at least {least}" if least else f"at most {most}" if most else "anything"
    return f"{asked} {'from' if w.measure == 'fall' else 'above'} {words_of(q, w.source, w.street)}"


def edges_at(q: Engine, id: str, s: Floats) -> tuple[Floats, Floats, Floats, Floats]:
    """Lowest and highest levels (n,) of a window at chainages of its line, its source's levels (n,) and metres (n,) from that; NaN
    where the source is not there. Raises Unsolved where it is gone.
    """
    w, plan = parts.one(q, FallWindow, id), line_plan(q, window_runs(q, id).line)
    z, away = beside_source(q, w.source, plan, s)
    if w.measure == "height":
        low = np.full(len(s), -np.inf) if w.least is None else z + w.rise + w.least
        high = np.full(len(s), np.inf) if w.most is None else z + w.rise + w.most
    else:
        low, high = band_below(z + w.rise, away + w.beyond, w.least, w.most)
    low, high = (np.where(np.isfinite(z), v, np.nan) for v in (low, high))
    return low, high, z, away


@query
def window_of(q: Engine, id: str) -> Window | None:
    """A fall window along its line; None where its source is nowhere beside it. Raises Unsolved where it is gone."""
    w, runs = parts.one(q, FallWindow, id), window_runs(q, id)
    plan = line_plan(q, runs.line)
    begin, finish = max(runs.begin, plan.start), min(runs.finish, plan.end)
    # The longest stretch along which the source is there: nothing is asked across a gap in it.
    there_from = reach(q, w.source, plan, begin, finish) if finish - begin > 1e-6 else None
    if there_from is None:
        return None
    begin, finish = there_from
    keys = [plan.offset.at, plan.base.key_chainages(), np.arange(begin, finish, _STEP)]
    other = line_of(q, w.source)
    if other is not None:
        there = line(q, other)
        own = there.rule.key_places()
        own = own[(own >= there.plan.start) & (own <= there.plan.end)]
        if len(own) <= _MOST:
            keys.append(abreast(plan, there.plan.points(own)).at)
    s = unique_chainages([begin, finish], *keys, low=begin, high=finish)
    low, high, *_ = edges_at(q, id, s)
    on = ~np.isnan(low)
    if on.sum() < 2:
        return None
    s, low, high = s[on], low[on], high[on]
    follows = None if other is None else (other, frozen(abreast(line(q, other).plan, plan.points(s)).at))
    return Window(title_of(q, id), frozen(s), frozen(low), frozen(high), told_of(q, id), follows)


def target_of(q: Engine, id: LineId) -> StreetLine | None:
    """The street's line whose windows are a line's: itself, or the section point that a kerb line or a tie holds."""
    if isinstance(id, StreetLine):
        return id
    if isinstance(id, KerbLevels):
        k = kerb_line_runs(q, id.id)
        return StreetLine(k.street, name_on(q, k.street, k.side, k.point), k.side)
    if isinstance(id, TieLevels):
        t = tie_of(q, id.id)
        return StreetLine(t.street, t.name, t.side)
    return None


@query
def windows_on(q: Engine, line: StreetLine) -> tuple[str, ...]:
    """Fall windows of a street's line, in order."""
    found = []
    for w in parts.owned(q, FallWindow, line.street):
        runs = q.attempt(window_runs, w.id)
        if not isinstance(runs, Unsolved) and runs.line == line:
            found.append((runs.begin, w.id))
    return tuple(id for _, id in sorted(found))


@query
def all_windows(q: Engine, line: LineId) -> tuple[Window, ...]:
    """The fall windows of a line, of whatever kind leaves them."""
    return tuple(w for kind in kinds() for w in kind.windows(q, line))


@query
def room_on(q: Engine, line: LineId) -> tuple[Room, ...]:
    """The room that the fall windows of a line leave."""
    return rooms(all_windows(q, line))


def lines_asked(q: Engine, target: StreetLine) -> tuple[LineId, ...]:
    """The lines whose windows a street's line has to keep: its own levels where it has some, else itself."""
    if target.side is None:
        return (target,)
    point = point_name(q, target.street, target.side, target.point) if is_new(q, target.street) else target.point
    own = kerb_lines_on(q, target.street, target.side, point)
    return tuple(KerbLevels(id, target.street) for id in own) or (target,)


@query
def asked_of(q: Engine, street: str) -> tuple[str, ...]:
    """The fall windows of a street's lines that its section has."""
    return tuple(
        w.id for w in parts.owned(q, FallWindow, street) if not isinstance(q.attempt(window_runs, w.id), Unsolved)
    )
