"""Which line is at a place."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.street.plan import streets_near
from humble_loop.lines.line import LineId, LinePlan, ThingId, line_plan
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.whole.things import things_by_street

_BESIDE = 60.0  # metres from a street within which what stands on it may have a line


def line_near(
    q: Engine, place: tuple[float, float], reach: float, fit: Callable[[LineId, float], bool] | None = None
) -> tuple[LineId, float] | None:
    """The line nearest to a place, and the chainage there, within ``reach`` metres, of those that are ``fit`` for something; a crown or lip
    sooner than what lies just beside it, and of those that lie alike a street's own.
    """
    best: tuple[float, LineId, float] | None = None
    for thing in _things(q, place):
        for id in _lines(q, thing):
            plan = q.attempt(line_plan, id)
            found = None if isinstance(plan, Unsolved) else _nearest(plan, np.array(place))
            if found is None or found[0] > reach:
                continue
            away = found[0] + (0.0 if getattr(id, "point", "") in _FIRST else _ASIDE)
            if (best is None or away < best[0] - _ALIKE) and (fit is None or fit(id, found[1])):
                best = (away, id, found[1])
    return None if best is None else best[1:]


_ALIKE = 1e-6  # metres between two lines that lie alike
_FIRST = ("crown", "lip", "rim", "island lip")
_ASIDE = 0.5  # metres beside one of these within which another line is not meant


def _things(q: Engine, place: tuple[float, float]) -> list[ThingId]:
    """Streets near, and what stands on them."""
    streets = sorted(streets_near(q, place, _BESIDE))
    found = [ThingId("street", s) for s in streets]
    for kind in kinds():
        if kind.key in ("street", "ground", "lot"):
            continue
        by_street = things_by_street(q, kind.key)
        found += dict.fromkeys(t for s in streets for t in by_street.get(s, ()))
    return found


def _lines(q: Engine, thing: ThingId) -> tuple[LineId, ...]:
    try:
        return kind_of(thing.kind).lines(q, thing)
    except Unsolved:
        return ()


def _nearest(plan: LinePlan, place: Floats) -> tuple[float, float] | None:
    """How far a line passes a place, and its chainage there; None where it is interrupted there."""
    s = float(np.clip(plan.base.feet([place]).chainages[0], plan.start, plan.end))
    if any(a < s < b for a, b in plan.gaps):
        return None
    return float(np.hypot(*(plan.points([s])[0] - place))), s
