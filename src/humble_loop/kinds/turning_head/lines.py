"""The lines round a head in level: the ring's, and what lies outside it by the section, down where its kerb is."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats, frozen, unique_chainages
from humble_loop.kinds.street.lowered import kerb_count, lowered_rises, lowered_rule
from humble_loop.kinds.turning_head.layout import HeadLine, head_shape, outline
from humble_loop.kinds.turning_head.levels import ring_levels
from humble_loop.kinds.turning_head.openings import lowered, opening_stations
from humble_loop.lines.line import line, line_plan, sampled_at
from humble_loop.lines.rules import Above, LevelRule
from humble_loop.lines.standing import kinds
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.model import End


def rule_of(q: Engine, id: HeadLine) -> LevelRule:
    """The ring's grade line, and what lies outside it by the section."""
    if id.point == "lip":
        return ring_levels(q, id.street, id.end).rule
    shape, plan = head_shape(q, id.street, id.end), line_plan(q, id)
    lip = HeadLine(id.street, id.end)
    k, names = shape.first.names.index(id.point), shape.first.names
    rises = tuple(
        (f"{names[i]} to {names[i + 1]}", Varying.of([0.0, plan.end], [float(a), float(b)]))
        for i, (a, b) in enumerate(zip(np.diff(shape.first.rise[: k + 1]), np.diff(shape.last.rise[: k + 1])))
    )
    if (down := lowered(q, id.street, id.end, k)) is not None:
        rises = (*rises, ("down where its kerb is", down))
    own = Above(plan.title, "out from the lip by the typical section", lip, "lip", line(q, lip).rule, rises)
    kerb = kerb_count(shape.first.roles)
    if k > kerb:
        return own
    up = [float(lowered_rises(s.out[: kerb + 1], s.rise[: kerb + 1])[k]) for s in (shape.first, shape.last)]
    return lowered_rule(q, plan.title, lip, own, Varying.of([0.0, plan.end], up))


@query
def ring_rows(q: Engine, street: str, end: End) -> Floats:
    """Distances round a head at which its section is worked out."""
    made, settings = outline(q, street, end), parts.settings(q)
    shape, levels = head_shape(q, street, end), ring_levels(q, street, end)
    boundary = HeadLine(street, end, shape.first.names[-1])
    plan = line_plan(q, boundary)
    fine = sampled_at(plan, levels.rule.bow(), settings.arc_tolerance, settings.level_tolerance)
    stations = [kind.stations_on(q, boundary) for kind in kinds()]
    keys = (made.ring.key_chainages(), [levels.turn], levels.drains, opening_stations(q, street, end))
    return frozen(unique_chainages(*keys, *stations, fine, low=0.0, high=made.ring.total, gap=1e-4))
