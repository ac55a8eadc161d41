"""The room that the fall from the street's lip leaves a bulge's."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.kinds.knuckle.layout import KnuckleLine, knuckle_of, lip_of, lip_rule, ring
from humble_loop.kinds.street.plan import class_of
from humble_loop.lines.abreast import abreast
from humble_loop.lines.describe import Window
from humble_loop.lines.findings import share
from humble_loop.lines.line import line, line_plan

_STEPS = 49  # places along a bulge
_WIDE = 1.0  # metres between the lips from which on a fall is told


@query
def _beside(q: Engine, id: str) -> tuple[Floats, Floats, Floats, Floats]:
    """Distances (n,) along a bulge's lip, the chainage of the street's lip abreast (n,), its level (n,), and metres to it (n,)."""
    made, lip = ring(q, id, "outer"), line(q, lip_of(q, id, "outer"))
    s = np.unique(np.append(np.linspace(0.0, made.chain.total, _STEPS), made.middle))
    feet = abreast(lip.plan, made.chain.points_at(s))
    return s, feet.at, lip.rule.levels(feet.at), feet.away


@query
def falls_of(q: Engine, id: str) -> tuple[Floats, Floats]:
    """Distances (n,) along a bulge's lip, and the fall from the street's lip to it at each (n,), NaN where they are nearer than a metre."""
    s, _, z, away = _beside(q, id)
    wide = away > _WIDE
    fall = np.where(wide, (z - lip_rule(q, id, "outer").levels(s)) / np.where(wide, away, 1.0), np.nan)
    return s, frozen(fall)


@query
def window_of(q: Engine, id: str) -> Window | None:
    """The levels of a bulge's lip at which it falls from the street's lip, or rises from it, as the class allows; the way it is meant to."""
    if isinstance(q.attempt(lip_rule, id, "outer"), Unsolved):
        return None
    k, (s, at, z, away) = knuckle_of(q, id), _beside(q, id)
    rules = class_of(q, k.street)
    on = np.flatnonzero((away > _WIDE) & np.isfinite(z))
    if len(on) < 2:
        return None
    least, most = rules.least_radial_fall, rules.most_radial_fall
    up = k.fall < 0
    low, high = (z + least * away, z + most * away) if up else (z - most * away, z - least * away)
    told = f"{share(least)} to {share(most)} {'up ' if up else ''}from the street's lip"
    title = line_plan(q, KnuckleLine(id)).title
    follows = lip_of(q, id, "outer"), frozen(at[on])
    return Window(f"{title}: {told}", frozen(s[on]), frozen(low[on]), frozen(high[on]), told, follows)
