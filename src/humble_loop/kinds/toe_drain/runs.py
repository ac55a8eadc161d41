"""How water runs in each drain: the fall of its invert, where it ends, and where it would stand."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Bools, Floats, Ints
from humble_loop.kinds.toe_drain.place import DrainLine, Stretch, next_of, stretches
from humble_loop.kinds.toe_drain.roadside import owner
from humble_loop.lines.line import LineId, line
from humble_loop.site import parts
from humble_loop.site.library import KerbShape
from humble_loop.site.model import Side

_STEP = 1.0  # metres between the places at which an invert is looked at


def invert_line(q: Engine, street: str, side: Side, shape: str, round: LineId | None = None) -> DrainLine:
    """The line of a drain's lowest point; of several as low the one nearest to the road."""
    return DrainLine(street, side, shape, _lowest(parts.kerb_shape(q, shape)), round)


def invert_of_stretch(q: Engine, stretch: Stretch) -> DrainLine:
    """The line in which the lowest point of a drain lies."""
    return invert_line(q, *owner(q, stretch.boundary), stretch.shape, stretch.round)


def inverts(q: Engine, street: str, side: Side) -> tuple[DrainLine, ...]:
    """The inverts of all drains of a side."""
    return tuple(dict.fromkeys(invert_of_stretch(q, d) for d in stretches(q, street, side)))


def _lowest(shape: KerbShape) -> str:
    return min(shape.points, key=lambda p: p.up).point


@dataclass(frozen=True)
class Run:
    """A drain between its tapers: its invert at both ends, its length, the least fall (per metre of drain) and where, and
    where water stands in it: (chainage, depth in m), deepest first.

    Where water parts, on a crest of the invert, no fall is asked for. ``ways`` tell where it runs: (back, onwards).
    """

    stretch: Stretch
    first: float
    last: float
    length: float
    least_fall: float
    flattest: float
    ponds: tuple[tuple[float, float], ...]
    ways: tuple[bool, bool]

    @property
    def outlet(self) -> tuple[float, float]:
        """The chainage and level of the lower end of its invert."""
        begin, finish = self.stretch.full
        return (begin, self.first) if self.first < self.last else (finish, self.last)

    @property
    def runs_to(self) -> str:
        """Where its water runs, in words."""
        back, onwards = self.ways
        return "both ways" if back and onwards else "back" if back else "onwards" if onwards else "nowhere"


@query
def runs(q: Engine, street: str, side: Side) -> tuple[Run, ...]:
    """How water runs in each drain of a side."""
    found = []
    for stretch in stretches(q, street, side):
        s, xyz = _along(q, stretch)
        along = np.hypot(*np.diff(xyz[:, :2], axis=0).T)
        rise = np.diff(xyz[:, 2])
        fall = np.abs(rise) / np.maximum(along, 1e-9)
        asked = ~_parting(rise, fall < stretch.least_fall)
        k = int(np.argmin(np.where(asked, fall, np.inf))) if asked.any() else int(np.argmin(fall))
        found.append(
            Run(
                stretch,
                float(xyz[0, 2]),
                float(xyz[-1, 2]),
                float(along.sum()),
                float(fall[k]) if asked.any() else stretch.least_fall,
                float(0.5 * (s[k] + s[k + 1])),
                _standing_in(q, stretch, s, xyz[:, 2]),
                (bool(rise[0] > 0), bool(rise[-1] < 0)),
            )
        )
    return tuple(found)


def _along(q: Engine, stretch: Stretch) -> tuple[Floats, Floats]:
    """Places (n,) along a drain between its tapers, and its invert (n, 3) there."""
    begin, finish = stretch.full
    s = np.linspace(begin, finish, max(2, int(np.ceil((finish - begin) / _STEP)) + 1))
    return s, line(q, invert_of_stretch(q, stretch)).points(s)


def _standing_in(q: Engine, stretch: Stretch, s: Floats, level: Floats) -> tuple[tuple[float, float], ...]:
    """Where water stands in a drain of levels (n,) at places (n,): what it goes on as, both ways, holds it up or lets it go.

    What stands in several of them is told by one.
    """
    onwards, closed = _beyond(q, stretch, onwards=True)
    back = [] if closed else [(d, z[::-1]) for d, z in reversed(_beyond(q, stretch, onwards=False)[0])]
    pieces = [*back, (stretch, level), *onwards]
    whole, mine = np.concatenate([z for _, z in pieces]), len(back)
    of = np.repeat(np.arange(len(pieces)), [len(z) for _, z in pieces])
    at = np.full(len(whole), np.nan)
    at[of == mine] = s
    if closed:  # it is looked at from its highest place round to there again
        order = np.roll(np.arange(len(whole)), -int(np.argmax(whole)))
        order = np.append(order, order[0])
        whole, at, of = whole[order], at[order], of[order]
    keys, found = [(str(d.boundary), d.begin) for d, _ in pieces], []
    for lowest, depth in _ponds(whole):
        if min(keys[k] for k in of[lowest].tolist()) == keys[mine]:
            found.append((float(at[lowest[of[lowest] == mine][0]]), depth))
    return tuple(sorted(found, key=lambda p: -p[1]))


def _beyond(q: Engine, stretch: Stretch, *, onwards: bool) -> tuple[list[tuple[Stretch, Floats]], bool]:
    """The drains that one goes on as one way, with their inverts' levels, from it outwards; and whether that leads back into it."""
    found, gone = list[tuple[Stretch, Floats]](), [stretch]
    here, way = stretch, onwards
    while (made := next_of(q, here, onwards=way)) is not None and made[0] not in gone:
        here, way = made
        gone.append(here)
        level = _along(q, here)[1][:, 2]
        found.append((here, level if way else level[::-1]))
    return found, made is not None


def _parting(rise: Floats, flat: Bools) -> Bools:
    """Which steps of a line lie on a crest: flat ones in a row, before which it rises and after which it falls."""
    found = np.zeros(len(rise), dtype=bool)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], flat, [False]]).astype(np.int64)))
    for a, b in zip(edges[::2].tolist(), edges[1::2].tolist()):
        part = rise[a:b]
        if part[0] > 0 and part[-1] < 0 and np.all(np.diff(np.sign(part)) <= 0):
            found[a:b] = True
    return found


def _ponds(level: Floats) -> list[tuple[Ints, float]]:
    """Where water stands along a line of levels whose ends are open: the lowest places of each pond and its depth."""
    brim = np.minimum(np.maximum.accumulate(level), np.maximum.accumulate(level[::-1])[::-1])
    deep = brim - level
    wet = np.flatnonzero(deep > 1e-3)
    groups = np.split(wet, np.flatnonzero(np.diff(wet) > 1) + 1) if wet.size else []
    return [(g[deep[g] > deep[g].max() - 1e-9], float(deep[g].max())) for g in groups]


def lining_volume(q: Engine, run: Run) -> float:
    """Cubic metres of a drain's lining between its tapers: its thickness square to the shape, along the whole of it."""
    shape = parts.kerb_shape(q, run.stretch.shape)
    at = np.array([(0.0, 0.0), *((p.out, p.up) for p in shape.points)]) / 1000.0
    round_it = float(np.hypot(*np.diff(at, axis=0).T).sum())
    return round_it * shape.lining / 1000.0 * run.length
