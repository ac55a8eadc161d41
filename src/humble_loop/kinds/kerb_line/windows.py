"""Fall windows: where a kerb line may lie for the carriageway to fall to it as its street's class asks, and a boundary for its
verge to fall to the kerb.
"""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import frozen, unique_chainages
from humble_loop.kinds.kerb_line.levels import as_it_runs, levels_of, plan_of, title_of
from humble_loop.kinds.kerb_line.model import POINTS
from humble_loop.kinds.street.inwards import LEAST_VERGE, MOST_VERGE, verge_falls
from humble_loop.kinds.street.plan import StreetLine, class_of
from humble_loop.kinds.street.side import course
from humble_loop.kinds.street.side_levels import by_section
from humble_loop.lines.describe import Window, band_below
from humble_loop.lines.findings import share
from humble_loop.lines.line import line

_STEP = 2.0  # metres between places at which a window is worked out, besides where crown and width change


@query
def window_of(q: Engine, id: str) -> Window | None:
    """The window of a kerb line from the crown, or of a boundary line from the kerb; None where it has none."""
    point = as_it_runs(q, id).point
    if point not in POINTS:
        return None
    return _from_the_crown(q, id) if point == "lip" else _from_the_kerb(q, id)


def _from_the_kerb(q: Engine, id: str) -> Window | None:
    """Levels at which what takes the rest falls to the kerb, and no more than is easy to walk and mow."""
    k, plan = as_it_runs(q, id), plan_of(q, levels_of(q, id))
    own, made = by_section(q, k.street, k.side), course(q, k.street, k.side)
    if plan.end <= plan.start:
        return None
    even = np.arange(plan.start, plan.end, _STEP)
    s = unique_chainages([plan.start, plan.end], own.key_places(), made.at, even, low=plan.start, high=plan.end)
    z = own.levels(s)
    # A strip's fall is a straight line of what the boundary is raised by: from two of them follow the ends.
    flat, raised = (verge_falls(q, k.street, k.side, s, np.full(len(s), by)) for by in (0.0, 1.0))
    with np.errstate(invalid="ignore"):
        lowest, highest = ((fall - flat) / (raised - flat) for fall in (LEAST_VERGE, MOST_VERGE))
    on = np.isfinite(z) & np.isfinite(lowest).any(axis=1)
    if on.sum() < 2:
        return None
    told = f"verge {share(LEAST_VERGE)} to {share(MOST_VERGE)} to the kerb"
    low, high = z[on] + np.nanmax(lowest[on], axis=1), z[on] + np.nanmin(highest[on], axis=1)
    lip = StreetLine(k.street, "lip", k.side)
    return Window(f"{title_of(q, id)}: {told}", frozen(s[on]), frozen(low), frozen(high), told, (lip, frozen(s[on])))


def _from_the_crown(q: Engine, id: str) -> Window | None:
    """Levels that the class's least and most crossfall leave a kerb line below the crown, over the width of the carriageway there;
    None where the crown has no levels.
    """
    k, plan = as_it_runs(q, id), plan_of(q, levels_of(q, id))
    crown, rules = q.attempt(line, StreetLine(k.street)), class_of(q, as_it_runs(q, id).street)
    if isinstance(crown, Unsolved) or plan.end <= plan.start:
        return None
    even = np.arange(plan.start, plan.end, _STEP)
    s = unique_chainages(
        [plan.start, plan.end], crown.rule.key_places(), plan.offset.at, even, low=plan.start, high=plan.end
    )
    z, width = crown.rule.levels(s), np.abs(plan.offset(s))
    on = np.isfinite(z)
    if on.sum() < 2:
        return None
    s, z, width = s[on], z[on], width[on]
    told = f"crossfall {share(rules.least_crossfall)} to {share(rules.most_crossfall)}"
    low, high = band_below(z, width, rules.least_crossfall, rules.most_crossfall)
    crowned = StreetLine(k.street), frozen(s)
    return Window(f"{title_of(q, id)}: {told}", frozen(s), frozen(low), frozen(high), told, crowned)
