"""How a roundabout shows itself, and how it is taken in hand."""

from __future__ import annotations

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.roundabout.layout import KerbLine, kerb_after, kerb_shape
from humble_loop.kinds.roundabout.levels import CircleLine, rings_of
from humble_loop.kinds.roundabout.place import legs_of
from humble_loop.kinds.street.show import SAG, role_in_plan
from humble_loop.lines.describe import Drawing, Handle, Row, Stroke, joined_up
from humble_loop.lines.line import line_plan


def drawing(q: Engine, id: str) -> Drawing:
    """Its kerbs with what lies beyond them, and the lines of its island."""
    by_role: dict[str, list[Floats]] = {}
    rings, legs = q.attempt(rings_of, id), q.attempt(legs_of, id)
    for ring in () if isinstance(rings, Unsolved) else rings[1:]:
        plan = q.attempt(line_plan, CircleLine(id, ring.name))
        if not isinstance(plan, Unsolved):
            role = "return" if ring.name == "island lip" else "kerb"
            by_role.setdefault(role, []).extend(plan.points(s) for s in plan.runs(SAG))
    for leg in () if isinstance(legs, Unsolved) else legs:
        if isinstance(q.attempt(kerb_after, id, leg.key), Unsolved):
            continue
        for point in kerb_shape(q, id, leg.key)[0].names:
            beyond = role_in_plan(point, None, corner=True)
            plan = q.attempt(line_plan, KerbLine(id, leg.key, point))
            if beyond is not None and not isinstance(plan, Unsolved):
                by_role.setdefault(beyond, []).extend(plan.points(s) for s in plan.runs(SAG))
    return Drawing(tuple(Stroke(role, joined_up(runs)) for role, runs in by_role.items()))


def facts(q: Engine, id: str) -> tuple[Row, ...]:
    return ()


def handles(q: Engine, id: str) -> tuple[Handle, ...]:
    return ()
