"""The room that the fall from a bulb's centre leaves its lip."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.kinds.street.plan import StreetLine, class_of, end_chainage
from humble_loop.kinds.turning_head.layout import HeadLine, clear_of, outline
from humble_loop.kinds.turning_head.levels import ring_levels
from humble_loop.kinds.turning_head.place import head_at
from humble_loop.lines.describe import Window, band_below
from humble_loop.lines.findings import share
from humble_loop.lines.line import line, line_plan
from humble_loop.site.model import End

_STEPS = 73  # places round a bulb


def _round(q: Engine, street: str, end: End) -> Floats:
    return np.linspace(*outline(q, street, end).ends, _STEPS)


@query
def radial_falls(q: Engine, street: str, end: End) -> tuple[Floats, Floats]:
    """Distances (n,) round a bulb, and the fall from its centre to the lip at each (n,)."""
    u, levels = _round(q, street, end), ring_levels(q, street, end)
    return u, frozen((levels.centre - levels.rule.levels(u)) / clear_of(q, street, end, u))


@query
def window_of(q: Engine, street: str, end: End) -> Window | None:
    """The levels of a bulb's lip with which it falls from the centre as its class asks, round all that is no return."""
    if head_at(q, street, end).kind != "bulb" or isinstance(q.attempt(outline, street, end), Unsolved):
        return None
    crown, at = q.attempt(line, StreetLine(street)), end_chainage(q, street, end)
    centre = np.nan if isinstance(crown, Unsolved) else float(crown.rule.levels([at])[0])
    if not np.isfinite(centre):
        return None
    u, limits = _round(q, street, end), _limits(q, street)
    low, high = band_below(np.full(len(u), centre), clear_of(q, street, end, u), *limits)
    told = f"{share(limits[0])} to {share(limits[1])} from its centre"
    title = line_plan(q, HeadLine(street, end)).title
    follows = StreetLine(street), frozen(np.full(len(u), at))
    return Window(f"{title}: {told}", frozen(u), frozen(low), frozen(high), told, follows)


def _limits(q: Engine, street: str) -> tuple[float, float]:
    """The least and the most radial fall of a street's class."""
    rules = class_of(q, street)
    return rules.least_radial_fall, rules.most_radial_fall
