"""A roadside levelled inwards from its boundary: which strips take what the boundary is raised or lowered by."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats, frozen, rows_at
from humble_loop.kinds.street.holding import holds
from humble_loop.kinds.street.plan import StreetLine
from humble_loop.kinds.street.side import SideCourse, course
from humble_loop.lines.varying import Varying
from humble_loop.site.model import Side

_AT_ONCE = 1e-3  # metres in which a strip gives way to those outside of it
_PATH = 1.0  # metres of path beyond which strips behind it keep their own falls

_NARROW = 0.05  # metres of a strip whose fall is no matter
_NEXT_TO_NONE = 1e-9
LEAST_VERGE, MOST_VERGE = 0.0, 0.20  # its falls to the kerb: a wheelchair and a mower cope, and water leaves lots


@dataclass(frozen=True)
class Inwards:
    """How a side's points move with its boundary. At chainages ``at`` (m,), straight between: ``share`` (m, n) is how much of what
    the boundary is raised by each point is, ``steeper`` (m, n) how much steeper (outwards rising) the strip that ends at it becomes
    for each metre; nothing within the kerb's back.
    """

    at: Floats
    share: Floats
    steeper: Floats

    def of(self, k: int) -> Varying:
        """The share of point ``k`` along the street."""
        return Varying.of(self.at, self.share[:, k])


@query
def inwards(q: Engine, street: str, side: Side) -> Inwards:
    """The verge between kerb and path takes all of it, so that the path lies inwards from the boundary as its section has it; where
    there is no path, everything behind the kerb does, each strip by its width. A point that is held itself stays, with all within it.
    """
    made = course(q, street, side)
    at, open = _open(q, street, side, made)
    (widths,) = rows_at(at, made.at, made.widths)
    weights, path = np.zeros_like(widths), np.zeros(len(at))
    behind = [k for k in range(made.lip + 1, len(made.names)) if made.pieces[k] != "kerb"]
    for k in behind:
        if made.pieces[k] == "path":
            path = path + widths[:, k]
        else:
            weights[:, k] = widths[:, k] * np.clip(1.0 - path / _PATH, 0.0, 1.0) * open[:, k]
    # A path right behind the kerb stays with that, and what lies behind it takes the rest; nothing but a path takes it itself.
    for spared in ("path", ""):
        none = weights.sum(axis=1) <= 0.0
        for k in behind:
            if made.pieces[k] != spared:
                weights[none, k] = widths[none, k] * open[none, k]
    total = weights.sum(axis=1, keepdims=True)
    part = np.divide(weights, total, out=np.zeros_like(weights), where=total > 0)
    steeper = np.divide(part, widths, out=np.zeros_like(part), where=widths > 0)
    share = np.cumsum(part, axis=1)
    return Inwards(frozen(at), frozen(share), frozen(steeper))


def _open(q: Engine, street: str, side: Side, made: SideCourse) -> tuple[Floats, np.ndarray]:
    """Chainages (m,) between which nothing begins or ends, and which strips (m, n) lie outside of all points that are held there."""
    held = [
        (k, h)
        for k in range(made.lip + 1, len(made.names) - 1)
        for h in holds(q, StreetLine(street, made.names[k], side))
    ]
    spans = [(k, float(h.share.at.min()), float(h.share.at.max())) for k, h in held]
    ends = [v + by for _, a, b in spans for v, by in ((a, 0.0), (a, _AT_ONCE), (b, -_AT_ONCE), (b, 0.0))]
    at = np.union1d(made.at, ends)
    open = np.ones((len(at), len(made.names)), dtype=bool)
    for k, a, b in spans:
        open[(at > a) & (at < b), : k + 1] = False
    return at, open


def verge_falls(q: Engine, street: str, side: Side, s: Floats, raised: Floats) -> Floats:
    """Falls to the kerb (n, k) of the strips behind it where the boundary is ``raised`` (n,) over where the section has it; NaN
    for strips that keep their own or have no width there.
    """
    made, moved = course(q, street, side), inwards(q, street, side)
    falls = np.full((len(s), len(made.names)), np.nan)
    for k in range(made.lip + 1, len(made.names)):
        steeper, width = np.interp(s, moved.at, moved.steeper[:, k]), made.width(k)(s)
        on = (steeper > _NEXT_TO_NONE) & (width > _NARROW)
        falls[on, k] = (made.rise(k)(s)[on] / width[on]) + raised[on] * steeper[on]
    return falls
