"""Fall windows: the band of levels at a chainage within which a stated rule holds."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.solve import parts
from humble_loop.solve.engine import Engine, Unsolved, query
from humble_loop.solve.lot import find_lot, frontage_stretches, lots, pad
from humble_loop.solve.street import crown_levels, grade_line


@dataclass(frozen=True)
class FallWindow:
    """Levels between ``low`` and ``high`` for the crown from chainage ``start`` to ``end``, and the rule in words."""

    rule: str
    start: float
    end: float
    low: float
    high: float


@query
def pad_windows(q: Engine, street: str) -> tuple[FallWindow, ...]:
    """Where the crown may lie for each lot's pad to stay on the level that the ground wants.

    Pad and crown move together, so the room that a pad has above and below is the crown's as well.
    """
    found = []
    for lot in lots(q, street):
        if lot.row.place == "head":
            continue
        made = q.attempt(pad, street, lot.name)
        if isinstance(made, Unsolved):
            continue
        aim = made.level if made.state == "set" else made.wanted
        if not np.isfinite(aim):
            continue
        stretch = [s for s in frontage_stretches(q, street, find_lot(q, street, lot.name)) if s[0][0] == "side"]
        if not stretch or stretch[0][2] - stretch[0][1] < 0.1:
            continue
        _, a, b = stretch[0]
        crown = float(crown_levels(q, street, [0.5 * (a + b)])[0])
        if np.isfinite(crown):
            found.append(
                FallWindow(f"{lot.name}: pad on the ground", a, b, crown + aim - made.high, crown + aim - made.low)
            )
    return tuple(found)


def vip_window(q: Engine, street: str, i: int) -> FallWindow | None:
    """Levels that VIP ``i`` may take for the legs on both sides to keep the class's least and most grade.

    The falls keep their present direction. None when no level keeps both.
    """
    p, rules = grade_line(q, street).profile, parts.street_class(q, street)
    low, high = -np.inf, np.inf
    for other, leg in ((i - 1, i - 1), (i + 1, i)):
        if not 0 <= other < p.chainages.size:
            continue
        run = abs(float(p.chainages[i] - p.chainages[other]))
        up = (p.grades[leg] >= 0) == (other < i)
        near, far = rules.least_grade * run, rules.most_grade * run
        z = float(p.levels[other])
        low, high = max(low, z + near if up else z - far), min(high, z + far if up else z - near)
    if not low <= high:
        return None
    s = float(p.chainages[i])
    return FallWindow("least and most grade", s, s, low, high)
