"""The table of fall windows."""

from __future__ import annotations

from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.fall_window.levels import edges_at, told_of, window_of, window_runs
from humble_loop.kinds.fall_window.model import FallWindow
from humble_loop.kinds.street.plan import name_of
from humble_loop.kinds.street.tables import streets
from humble_loop.lines.line import line
from humble_loop.lines.table import Table
from humble_loop.site import parts

_COLUMNS = ("street", "side", "point", "window", "chainage", "source", "distance", "lowest", "highest", "level", "fall")


def window_table(q: Engine, of: str | None, every: float | None) -> Table:
    """Every fall window at both ends of its stretch, or at an interval: its source's level and how far away that is, the lowest and the
    highest level that it leaves, the level that is built, and the fall from the source to it.
    """
    out: list[tuple[Any, ...]] = []
    for street in streets(q, of):
        for w in parts.owned(q, FallWindow, street):
            out += _rows(q, street, w, every)
    return Table(_COLUMNS, tuple(out))


def _rows(q: Engine, street: str, w: FallWindow, every: float | None) -> list[tuple[Any, ...]]:
    runs = q.attempt(window_runs, w.id)
    if isinstance(runs, Unsolved):
        return []
    first = name_of(q, street), runs.line.side, runs.line.point, told_of(q, w.id)
    if isinstance(q.attempt(window_of, w.id), Unsolved):
        return [(*first, *(None,) * 7)]
    s = np.array([runs.begin, runs.finish])
    if every is not None:
        s = np.unique(np.concatenate([np.arange(runs.begin, runs.finish, every), s]))
    low, high, z, away = edges_at(q, w.id, s)
    made = q.attempt(line, runs.line)
    built = np.full(len(s), np.nan) if isinstance(made, Unsolved) else made.rule.levels(s)
    run = away + w.beyond
    fall = np.divide(z + w.rise - built, run, out=np.full(len(s), np.nan), where=run > 1e-6)
    return [(*first, *row) for row in zip(s, z, away, low, high, built, fall)]


TABLES = {"windows": window_table}
