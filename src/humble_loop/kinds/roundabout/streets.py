"""What roundabouts do to the streets that are their legs: ranges, gaps, ties, rows, and the land that they take."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.roundabout.gaps import Kerb
from humble_loop.kinds.roundabout.layout import (
    KerbLine,
    boundary_of,
    carriageway_from,
    kerb_after,
    kerb_plan,
    leg_edge,
)
from humble_loop.kinds.roundabout.levels import carried_by, end_tie, turn_of
from humble_loop.kinds.roundabout.place import Leg, legs_of, legs_on, middle_of, roundabout_name, roundabout_of
from humble_loop.kinds.street.reserve import SAG, between
from humble_loop.lines.anchor import followings_in
from humble_loop.lines.describe import Mark
from humble_loop.lines.kind import Carried, EndTie, Following, Reserve, Turn
from humble_loop.lines.line import LineId, ThingId
from humble_loop.site.model import SIDES, Side


def _pairs(q: Engine, street: str) -> list[tuple[str, Leg | None, Leg | None]]:
    """Each roundabout on a street with the legs by which that comes in and goes out as it runs; None where it ends or begins in it."""
    found: list[tuple[str, Leg | None, Leg | None]] = []
    legs = sorted(legs_on(q, street), key=lambda pair: pair[1].at)
    k = 0
    while k < len(legs):
        id, leg = legs[k]
        if leg.way > 0:
            found.append((id, None, leg))
        elif k + 1 < len(legs) and legs[k + 1][0] == id and legs[k + 1][1].way > 0:
            found.append((id, leg, legs[k + 1][1]))
            k += 1
        else:
            found.append((id, leg, None))
        k += 1
    return found


def _side(leg: Leg, side: Side) -> Side:
    return leg.own_side(side)  # the same both ways


def own_range(q: Engine, street: str, side: Side) -> tuple[float, float]:
    """From where the kerb of a roundabout at the street's start meets its lip to where that of one at its end does."""
    return _range(q, street, side, leg_edge)


def carriageway_range(q: Engine, street: str, side: Side) -> tuple[float, float]:
    """From where the street is clear of a roundabout at its start to where it is of one at its end."""
    return _range(q, street, side, carriageway_from)


def _range(q: Engine, street: str, side: Side, edge) -> tuple[float, float]:  # type: ignore[no-untyped-def]
    low, high = -np.inf, np.inf
    for id, into, out in _pairs(q, street):
        if into is None and out is not None:
            low = max(low, out.along(edge(q, id, out, _side(out, side))))
        elif out is None and into is not None:
            high = min(high, into.along(edge(q, id, into, _side(into, side))))
    return low, high


def breaks(q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
    """Where a street runs through a roundabout: from kerb to kerb."""
    return _breaks(q, street, side, leg_edge)


def carriageway_breaks(q: Engine, street: str, side: Side) -> tuple[tuple[float, float], ...]:
    """The same of its carriageway."""
    return _breaks(q, street, side, carriageway_from)


def _breaks(q: Engine, street: str, side: Side, edge) -> tuple[tuple[float, float], ...]:  # type: ignore[no-untyped-def]
    return tuple(
        (into.along(edge(q, id, into, _side(into, side))), out.along(edge(q, id, out, _side(out, side))))
        for id, into, out in _pairs(q, street)
        if into is not None and out is not None
    )


def stations(q: Engine, street: str) -> Floats:
    """Where legs cross the circle, their kerbs leave them, and from where they make their own carriageway."""
    found: list[float] = []
    for id, leg in legs_on(q, street):
        found.append(leg.at)
        for seen in SIDES:
            found += [leg.along(leg_edge(q, id, leg, seen)), leg.along(carriageway_from(q, id, leg, seen))]
    return np.array(found)


def end_ties(q: Engine, street: str) -> tuple[EndTie, ...]:
    """How roundabouts hold the ends of a street."""
    ends = [(id, into or out) for id, into, out in _pairs(q, street) if (into is None) != (out is None)]
    return tuple(end_tie(q, id, leg) for id, leg in ends if leg is not None)


def carried(q: Engine, street: str) -> tuple[Carried, ...]:
    """How they carry it where it runs through."""
    found = []
    for id, into, out in _pairs(q, street):
        if into is not None and out is not None:
            made = q.attempt(_carried, id, into.key, out.key)
            found += [made] if not isinstance(made, Unsolved) else []
    return tuple(found)


@query
def _carried(q: Engine, id: str, before: str, after: str) -> Carried:
    legs = {g.key: g for g in legs_of(q, id)}
    return carried_by(q, id, legs[before], legs[after])


def turns(q: Engine, street: str, side: Side) -> tuple[Turn, ...]:
    """How they turn its crossfall."""
    found = []
    for id, leg in legs_on(q, street):
        seen = _side(leg, side)
        try:
            found.append(turn_of(q, id, leg, seen, leg_edge(q, id, leg, seen)))
        except Unsolved:  # it has no level there; the roundabout says why
            continue
    return tuple(found)


def corners_on(q: Engine, street: str, side: Side) -> tuple[tuple[float, LineId, float], ...]:
    """Where a street's boundary goes on beyond the kerb of a roundabout."""
    found: list[tuple[float, LineId, float]] = []
    for id, leg in legs_on(q, street):
        seen, legs = _side(leg, side), legs_of(q, id)
        k = next(i for i, g in enumerate(legs) if g.key == leg.key)
        key = leg.key if seen == "left" else legs[k - 1].key
        made = q.attempt(kerb_after, id, key)
        if not isinstance(made, Unsolved):
            on_kerb = 0.0 if seen == "left" else made.chain.total
            found.append((leg.along(made.leg_at[0 if seen == "left" else 1]), boundary_of(q, id, key), on_kerb))
    return tuple(found)


def ribbon(q: Engine, street: str) -> tuple[Mark, ...]:
    """Where roundabouts stand on a street's strip: between their kerbs, or from a kerb to the end that lies in one."""
    found = []
    for id, into, out in _pairs(q, street):
        ends = [leg.along(max(leg_edge(q, id, leg, seen) for seen in SIDES)) for leg in (into, out) if leg is not None]
        ends += [leg.inner for leg in (into, out) if leg is not None and (into is None or out is None)]
        found.append(Mark("head", "across", min(ends), max(ends), roundabout_name(q, id), ThingId("roundabout", id)))
    return tuple(found)


def reserves(q: Engine, street: str) -> tuple[Reserve, ...]:
    """The land beside the kerbs that begin at a street's legs, and the circle itself with the first."""
    found = []
    for id, leg in legs_on(q, street):
        made = q.attempt(kerb_after, id, leg.key)
        if isinstance(made, Kerb):
            edge = boundary_of(q, id, leg.key)
            lip, boundary = kerb_plan(q, KerbLine(id, leg.key)), kerb_plan(q, edge)
            s = np.unique(np.concatenate(boundary.runs(SAG, 5.0)))
            kerb, middle = lip.points(s), middle_of(q, id)
            inside = shapely.make_valid(shapely.Polygon([*kerb, middle]))
            found.append(Reserve(shapely.union(inside, between(kerb, boundary.points(s))), (edge,)))
    return tuple(found)


def followings(q: Engine, id: str) -> tuple[Following, ...]:
    """That its legs take their levels from it, and it those that follow other lines."""
    legs = q.attempt(legs_of, id)
    of = ThingId("roundabout", id)
    streets = dict.fromkeys(g.street for g in (() if isinstance(legs, Unsolved) else legs))
    tied = [Following(ThingId("street", s), of, "its crown where it meets the circle") for s in streets]
    return (*tied, *followings_in(of, roundabout_of(q, id)))
