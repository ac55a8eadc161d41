"""Rules of fall windows: they have a source beside them, their line keeps within them, and together they leave it room."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats, unique_chainages
from humble_loop.kinds.fall_window.levels import (
    all_windows,
    edges_at,
    lines_asked,
    title_of,
    told_of,
    window_of,
    window_runs,
    windows_on,
)
from humble_loop.kinds.fall_window.model import FallWindow, set_window
from humble_loop.kinds.street.plan import is_new
from humble_loop.kinds.street.section import side_rows
from humble_loop.kinds.tie.source import words_of
from humble_loop.lines.describe import Window
from humble_loop.lines.findings import Finding, Mend, point, share, too_low
from humble_loop.lines.line import ThingId, line, line_plan
from humble_loop.lines.room import no_room
from humble_loop.site import parts

RULES = (
    "fall window upside-down",
    "fall window without its source",
    "fall window's source ends early",
    "outside its fall window",
    "no room between fall windows",
)
_ON = 0.05  # metres that a source may end before its window does


def window_findings(q: Engine, id: str) -> tuple[Finding, ...]:
    """Findings on a fall window."""
    of, w, title = ThingId("fall_window", id), parts.one(q, FallWindow, id), title_of(q, id)
    runs = window_runs(q, id)
    plan = line_plan(q, runs.line)
    at = point(plan.points([np.clip(runs.begin, plan.start, plan.end)])[0])
    if w.least is not None and w.most is not None and w.least > w.most:
        words, swap = "its least is more than its most, so nothing lies inside it", (w.most, w.least)
        mend = Mend("Swap them", lambda s: set_window(s, id, least=swap[0], most=swap[1]))
        return (Finding("fall window upside-down", of, title, words, "swap them", place=at, mend=mend),)
    made = q.attempt(window_of, id)
    if isinstance(made, Unsolved):
        words = f"{made.message}, and it leaves every level"
        return (Finding("fall window without its source", of, title, words, made.remedy, place=at),)
    source = words_of(q, w.source, w.street)
    if made is None:
        words, remedy = f"{source} is not beside it with a level anywhere", "move the window, or choose another source"
        return (Finding("fall window's source ends early", of, title, words, remedy, place=at),)
    found = []
    low, high = float(made.chainages[0]), float(made.chainages[-1])
    if low > max(runs.begin, plan.start) + _ON or high < min(runs.finish, plan.end) - _ON:
        words = f"{source} is beside it from {low:.2f} to {high:.2f} only, and beyond that nothing is asked"
        remedy = "end the window there, or choose another source"
        found.append(Finding("fall window's source ends early", of, title, words, remedy, place=at))
    return (*found, *_outside(q, id, of, title, made), *_no_room(q, id, of, title, made))


def _outside(q: Engine, id: str, of: ThingId, title: str, window: Window) -> list[Finding]:
    """Where what is built lies below or above the window, at its worst."""
    runs, w = window_runs(q, id), parts.one(q, FallWindow, id)
    made = q.attempt(line, runs.line)
    if isinstance(made, Unsolved):
        return []
    first, last = float(window.chainages[0]), float(window.chainages[-1])
    rows = side_rows(q, w.street, runs.line.side or "left") if is_new(q, w.street) else np.empty(0)
    s = unique_chainages(window.chainages, rows, low=first, high=last)
    z = made.rule.levels(s)
    low, high, _, away = edges_at(q, id, s)
    with np.errstate(invalid="ignore"):
        under, over = low - z, z - high
    found = []
    for by, words, other, edge in ((under, "below", "raise", low), (over, "above", "lower", high)):
        if not np.isfinite(by).any():
            continue
        k = int(np.nanargmax(np.where(np.isfinite(by), by, -np.inf)))
        if too_low(-float(by[k]), 0.0) and by[k] > 5e-7:
            begin, finish = _span(s, by)
            told = (
                f"at {s[k]:.2f} it lies {1000 * by[k]:.0f} mm {words} what {told_of(q, id)} leaves it ({edge[k]:.3f})"
            )
            if w.measure == "fall" and away[k] + w.beyond > 0.05:
                fall = (edges_source(q, id, float(s[k])) + w.rise - float(z[k])) / (float(away[k]) + w.beyond)
                told += f": the fall there is {share(fall)}"
            if finish > begin:
                told += f"; from {begin:.2f} to {finish:.2f} it is beyond that"
            remedy = f"{other} the line there, or change what it falls from"
            place = point(made.plan.points([s[k]])[0])
            rule = "outside its fall window"
            found.append(Finding(rule, of, title, told, remedy, float(z[k]), float(edge[k]), float(s[k]), place))
    return found


def _span(s: Floats, by: Floats) -> tuple[float, float]:
    """From where to where something lies beyond a limit, ``by`` (n,) at places (n,) and straight between."""
    beyond = np.flatnonzero(np.where(np.isfinite(by), by, -np.inf) > 5e-7)
    ends = []
    for k, out in ((int(beyond[0]), -1), (int(beyond[-1]), 1)):
        j = k + out
        if 0 <= j < len(s) and np.isfinite(by[j]):
            ends.append(float(s[k] + (s[j] - s[k]) * by[k] / (by[k] - by[j])))
        else:
            ends.append(float(s[k]))
    return ends[0], ends[1]


def edges_source(q: Engine, id: str, s: float) -> float:
    """The level of a window's source abreast of a place."""
    return float(edges_at(q, id, np.array([s]))[2][0])


def _no_room(q: Engine, id: str, of: ThingId, title: str, window: Window) -> list[Finding]:
    """Where it and another leave no level at all; told on the first of the two that is a fall window of the site."""
    found, runs = [], window_runs(q, id)
    plan = line_plan(q, runs.line)
    for line_id in lines_asked(q, runs.line):
        every = all_windows(q, line_id)
        mine = next((k for k, w in enumerate(every) if w is window), None)
        own = {k for k, w in enumerate(every) if any(w is q.attempt(window_of, i) for i in windows_on(q, runs.line))}
        for n in no_room(every):
            if mine is None or mine not in (n.lower, n.upper) or mine != min({n.lower, n.upper} & own):
                continue
            lower, upper = every[n.lower], every[n.upper]
            words = (
                f"from {n.begin:.2f} to {n.finish:.2f} no level suits both '{lower.told}' and '{upper.told}': "
                f"at {n.chainage:.2f} they are {1000 * n.short:.0f} mm apart"
            )
            remedy = "widen one of them, move what it falls from, or end it before the other begins"
            place = point(plan.points([n.chainage])[0])
            rule = "no room between fall windows"
            found.append(Finding(rule, of, title, words, remedy, n.short, 0.0, n.chainage, place))
    return found
