"""What several fall windows on one line leave of one another: the room left, and which of them leave none."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations

import numpy as np

from humble_loop.geometry.arrays import Floats, Ints, frozen
from humble_loop.lines.describe import Window

_FEW = 12  # windows of a stretch up to which places where their edges cross are looked for
_LEAST = 1e-6  # metres of a stretch that is none


@dataclass(frozen=True)
class Room:
    """A stretch along which the same windows lie: at chainages (n,) the levels ``low`` and ``high`` between which all of them hold, no
    room where ``low`` is above ``high``, and the windows ``low_of`` and ``high_of`` (n,) by their place among all that say so.
    """

    windows: tuple[int, ...]
    chainages: Floats
    low: Floats
    high: Floats
    low_of: Ints
    high_of: Ints

    @property
    def short(self) -> Floats:
        """How much too little room there is (n,), in metres; negative where there is some."""
        return self.low - self.high


@dataclass(frozen=True)
class NoRoom:
    """Two windows between which there is none: ``lower`` wants a line at or above what ``upper`` wants it at or below; from ``begin`` to
    ``finish``, worst at ``chainage``, by ``short`` metres.
    """

    lower: int
    upper: int
    begin: float
    finish: float
    chainage: float
    short: float


def rooms(windows: Sequence[Window]) -> tuple[Room, ...]:
    """The room left by windows, stretch by stretch between places where any of them begins or ends."""
    kept = [(i, w) for i, w in enumerate(windows) if w.asked and len(w.chainages) > 1]
    ends = np.unique([v for _, w in kept for v in (w.chainages[0], w.chainages[-1])])
    found = []
    for a, b in zip(ends[:-1], ends[1:]):
        if b - a > _LEAST:
            over = [(i, w) for i, w in kept if w.chainages[0] <= a + _LEAST and w.chainages[-1] >= b - _LEAST]
            if over:
                found.append(_room(over, float(a), float(b)))
    return tuple(found)


def no_room(windows: Sequence[Window]) -> tuple[NoRoom, ...]:
    """Pairs of windows that leave no room between them, each told once at its worst."""
    worst: dict[tuple[int, int], NoRoom] = {}
    for room in rooms(windows):
        short = room.short
        for k in np.flatnonzero(short > _LEAST).tolist():
            pair = int(room.low_of[k]), int(room.high_of[k])
            s, by, old = float(room.chainages[k]), float(short[k]), worst.get(pair)
            if old is None:
                worst[pair] = NoRoom(*pair, s, s, s, by)
            else:
                at, most = (s, by) if by > old.short else (old.chainage, old.short)
                worst[pair] = NoRoom(*pair, min(old.begin, s), max(old.finish, s), at, most)
    return tuple(sorted(worst.values(), key=lambda n: (n.begin, -n.short)))


def _room(over: list[tuple[int, Window]], a: float, b: float) -> Room:
    own = [w.chainages[(w.chainages > a) & (w.chainages < b)] for _, w in over]
    s = np.unique(np.concatenate([[a, b], *own]))
    lows, highs = _edges(over, s)
    if len(over) <= _FEW:
        met = [_crossings(s, p, q) for edges in (lows, highs) for p, q in combinations(edges, 2)]
        met += [_crossings(s, low, high) for low in lows for high in highs]
        s = np.unique(np.concatenate([s, *met]))
        lows, highs = _edges(over, s)
    which = np.array([i for i, _ in over])
    low_of, high_of = lows.argmax(axis=0), highs.argmin(axis=0)
    row = np.arange(len(s))
    return Room(
        tuple(which.tolist()),
        frozen(s),
        frozen(lows[low_of, row]),
        frozen(highs[high_of, row]),
        which[low_of],
        which[high_of],
    )


def _edges(over: list[tuple[int, Window]], s: Floats) -> tuple[Floats, Floats]:
    lows = np.array([_at(s, w.chainages, w.low) for _, w in over])
    return lows, np.array([_at(s, w.chainages, w.high) for _, w in over])


def _at(s: Floats, chainages: Floats, edge: Floats) -> Floats:
    """An edge at places; one that is open is infinite all along."""
    return np.interp(s, chainages, edge) if np.isfinite(edge).all() else np.full(len(s), edge[0])


def _crossings(s: Floats, p: Floats, q: Floats) -> Floats:
    """Places (k,) between those (n,) at which two edges, straight between, cross."""
    with np.errstate(invalid="ignore"):
        d = p - q
        turns = np.flatnonzero((d[:-1] * d[1:] < 0.0) & np.isfinite(d[:-1]) & np.isfinite(d[1:]))
    a, b = d[turns], d[turns + 1]
    found: Floats = s[turns] + (s[turns + 1] - s[turns]) * a / (a - b)
    return found
