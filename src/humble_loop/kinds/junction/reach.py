"""What junctions do to the streets that meet in them: ranges, gaps, rows."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.junction.corners import Return, boundary_of, kerb_return, mouth
from humble_loop.kinds.junction.nodes import (
    Arm,
    CrossingArm,
    Joint,
    arms_of,
    both_crowns,
    joint,
    joints_on,
    leg_side,
    require_joint,
)
from humble_loop.kinds.junction.rulings import rulings
from humble_loop.kinds.junction.throats import carriageway_from, throat_place
from humble_loop.lines.line import LineId
from humble_loop.site.model import ENDS, SIDES, Side


def _edge(q: Engine, street: str, arm: Arm, side: Side) -> float:
    """The chainage at which a side's own lip begins beyond an arm's return, or its throat where that cannot be made."""
    made = q.attempt(kerb_return, street, arm, leg_side(arm, side))
    if isinstance(made, Return):
        return made.side_chainage
    t = q.attempt(throat_place, street, arm)
    return require_joint(q, street, arm).side_chainage if isinstance(t, Unsolved) else t.side_chainage


def own_range(q: Engine, street: str, side: Side) -> tuple[float, float]:
    """From the end of the return at the street's start to the end of that at its end."""
    low, high = -np.inf, np.inf
    for end in ENDS:
        if isinstance(q.attempt(joint, street, end), Joint):
            at = _edge(q, street, end, side)
            low, high = (at, high) if end == "start" else (low, at)
    return low, high


def breaks(q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
    """Where a street crosses others whose crown holds: from the end of one return to the end of the next; and its mouths where both
    crowns run through.
    """
    found = [tuple(_edge(q, street, arm, side) for arm in arms) for arms in _across(q, street)]
    return tuple((a, b) for a, b in [*found, *_shared(q, street, side)] if b > a)


def _shared(q: Engine, street: str, side: Side) -> list[tuple[float, float]]:
    """Where a street's half of the carriageway is carried by its crown and that of one that leaves it, from return to return."""
    found = []
    for other, arm in joints_on(q, street):
        if both_crowns(q, other, arm) and require_joint(q, other, arm).lip_side == side:
            between = mouth(q, other, arm)
            if between is not None:
                found.append(between)
    return found


def _across(q: Engine, street: str) -> list[tuple[CrossingArm, CrossingArm]]:
    """The two arms of each crossing that carries a street over another."""
    back = [arm for arm in arms_of(q, street) if isinstance(arm, CrossingArm) and not arm.onwards]
    return [(arm, CrossingArm(arm.other, arm.count, onwards=True)) for arm in back]


def carriageway_range(q: Engine, street: str, side: Side) -> tuple[float, float]:
    """From where a street is clear of the junction at its start to where it is of that at its end."""
    found = {"start": -np.inf, "end": np.inf}
    for end in ENDS:
        if isinstance(q.attempt(joint, street, end), Joint):
            at = _clear_of(q, street, end, side)
            found[end] = found[end] if at is None else at
    return found["start"], found["end"]


def carriageway_breaks(q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
    """Where a street that crosses others makes no carriageway itself."""
    found = []
    for arms in _across(q, street):
        a, b = (_clear_of(q, street, arm, side) for arm in arms)
        if a is not None and b is not None and b > a:
            found.append((a, b))
    return (*found, *_shared(q, street, side))


def _clear_of(q: Engine, street: str, arm: Arm, side: Side) -> float | None:
    corner = leg_side(arm, side)
    made = (q.attempt(kerb_return, street, arm, corner), q.attempt(throat_place, street, arm))
    return None if any(isinstance(m, Unsolved) for m in made) else carriageway_from(q, street, arm, corner)


def gaps(q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
    """Where side streets interrupt a side's kerb."""
    found = []
    for other, arm in joints_on(q, street):
        if require_joint(q, other, arm).lip_side != side:
            continue
        between = mouth(q, other, arm)
        if between is not None:
            found.append(between)
    return tuple(found)


def stations(q: Engine, street: str) -> Floats:
    """Throats of a street's own arms and along it."""
    found = []
    for arm in arms_of(q, street):
        t = q.attempt(throat_place, street, arm)
        if not isinstance(t, Unsolved):
            found.append(t.side_chainage)
        clear = [_clear_of(q, street, arm, side) for side in SIDES]
        found += [v for v in clear if v is not None]
    for other, arm in joints_on(q, street):
        t = q.attempt(throat_place, other, arm)
        if not isinstance(t, Unsolved):
            found.append(t.through_at)
        if both_crowns(q, other, arm):
            found.append(require_joint(q, other, arm).through_chainage)
        for made in (rulings(q, other, arm, corner) for corner in SIDES):
            found += made.across[: made.through].tolist()
    return np.array(found)


def corners_on(q: Engine, street: str, side: Side) -> tuple[tuple[float, LineId, float], ...]:
    """Where a street's boundary goes on round a return: chainage, the return's boundary, place on that."""
    found: list[tuple[float, LineId, float]] = []
    for arm in arms_of(q, street):
        c = leg_side(arm, side)
        r = q.attempt(kerb_return, street, arm, c)
        if isinstance(r, Return):
            found.append((r.side_chainage, boundary_of(q, street, arm, c), r.curve.length))
    for other, arm in joints_on(q, street):
        if require_joint(q, other, arm).lip_side != side:
            continue
        for c in SIDES:
            r = q.attempt(kerb_return, other, arm, c)
            if isinstance(r, Return):
                found.append((r.through_at, boundary_of(q, other, arm, c), 0.0))
    return tuple(found)
