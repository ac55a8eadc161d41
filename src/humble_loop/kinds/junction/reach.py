"""What junctions do to the streets that meet in them: ranges, gaps, rows."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.junction.layout import Return, boundary_of, carriageway_from, kerb_return, throat_place
from humble_loop.kinds.junction.nodes import joint, joints_on, leg_side, require_joint
from humble_loop.kinds.street.plan import chain_of
from humble_loop.lines.line import LineId
from humble_loop.site.model import ENDS, SIDES, Side


def own_range(q: Engine, street: str, side: Side) -> tuple[float, float]:
    """From the end of one return to the end of the next."""
    low, high = -np.inf, np.inf
    for end in ENDS:
        j = q.attempt(joint, street, end)
        if j is None or isinstance(j, Unsolved):
            continue
        made = q.attempt(kerb_return, street, end, leg_side(end, side))
        if isinstance(made, Return):
            at = made.side_chainage
        else:
            t = q.attempt(throat_place, street, end)
            edge = 0.0 if end == "start" else chain_of(q, street).total
            at = edge if isinstance(t, Unsolved) else t.side_chainage
        if end == "start":
            low = at
        else:
            high = at
    return low, high


def carriageway_range(q: Engine, street: str, side: Side) -> tuple[float, float]:
    """From where a street is clear of the junction at its start to where it is of that at its end."""
    found = {"start": -np.inf, "end": np.inf}
    for end in ENDS:
        j = q.attempt(joint, street, end)
        if j is None or isinstance(j, Unsolved):
            continue
        c = leg_side(end, side)
        made = (q.attempt(kerb_return, street, end, c), q.attempt(throat_place, street, end))
        if not any(isinstance(m, Unsolved) for m in made):
            found[end] = carriageway_from(q, street, end, c)
    return found["start"], found["end"]


def gaps(q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
    """Where side streets interrupt a side's kerb."""
    found = []
    for other, end in joints_on(q, street):
        if require_joint(q, other, end).lip_side != side:
            continue
        ends = [q.attempt(kerb_return, other, end, c) for c in SIDES]
        at = [r.through_at for r in ends if isinstance(r, Return)]
        if len(at) == 2:
            found.append((min(at), max(at)))
    return tuple(found)


def stations(q: Engine, street: str) -> Floats:
    """Throats at a street's own ends and along it."""
    found = []
    for end in ENDS:
        if q.attempt(joint, street, end) is not None:
            t = q.attempt(throat_place, street, end)
            if not isinstance(t, Unsolved):
                found.append(t.side_chainage)
            found += [v for side in SIDES for v in carriageway_range(q, street, side) if np.isfinite(v)]
    for other, end in joints_on(q, street):
        t = q.attempt(throat_place, other, end)
        if not isinstance(t, Unsolved):
            found.append(t.through_at)
    return np.array(found)


def corners_on(q: Engine, street: str, side: Side) -> tuple[tuple[float, LineId, float], ...]:
    """Where a street's boundary goes on round a return: chainage, the return's boundary, place on that."""
    found: list[tuple[float, LineId, float]] = []
    for end in ENDS:
        if q.attempt(joint, street, end) is None:
            continue
        c = leg_side(end, side)
        r = q.attempt(kerb_return, street, end, c)
        if isinstance(r, Return):
            found.append((r.side_chainage, boundary_of(q, street, end, c), r.arc.length))
    for other, end in joints_on(q, street):
        if require_joint(q, other, end).lip_side != side:
            continue
        for c in SIDES:
            r = q.attempt(kerb_return, other, end, c)
            if isinstance(r, Return):
                found.append((r.through_at, boundary_of(q, other, end, c), 0.0))
    return tuple(found)
