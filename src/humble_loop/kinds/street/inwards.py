"""A roadside levelled inwards from its boundary: which strips take what the boundary is raised or lowered by."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.kinds.street.side import course
from humble_loop.lines.varying import Varying
from humble_loop.site.model import Side

_PATH = 1.0  # metres of path beyond which strips behind it keep their own falls


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
    there is no path, everything behind the kerb does, each strip by its width.
    """
    made = course(q, street, side)
    weights, path = np.zeros_like(made.widths), np.zeros(len(made.at))
    behind = [k for k in range(made.lip + 1, len(made.names)) if made.pieces[k] != "kerb"]
    for k in behind:
        if made.pieces[k] == "path":
            path = path + made.widths[:, k]
        else:
            weights[:, k] = made.widths[:, k] * np.clip(1.0 - path / _PATH, 0.0, 1.0)
    # A path right behind the kerb stays with that, and what lies behind it takes the rest; nothing but a path takes it itself.
    for spared in ("path", ""):
        none = weights.sum(axis=1) <= 0.0
        for k in behind:
            if made.pieces[k] != spared:
                weights[none, k] = made.widths[none, k]
    total = weights.sum(axis=1, keepdims=True)
    part = np.divide(weights, total, out=np.zeros_like(weights), where=total > 0)
    steeper = np.divide(part, made.widths, out=np.zeros_like(part), where=made.widths > 0)
    share = np.cumsum(part, axis=1)
    return Inwards(made.at, frozen(share), frozen(steeper))
