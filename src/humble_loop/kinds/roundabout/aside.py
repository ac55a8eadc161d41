"""How far beside the middle of its roundabout a leg passes: laid anew by its street's end."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats, left_normals, tangents
from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.crossing import crossings
from humble_loop.kinds.roundabout.model import set_roundabout
from humble_loop.kinds.roundabout.place import Leg, leg_name, middle_of, roundabout_of, sizes_of
from humble_loop.kinds.street.edits import move_bend
from humble_loop.kinds.street.model import Street
from humble_loop.kinds.street.plan import chain_of, street_ids
from humble_loop.site import parts
from humble_loop.site.edits import Edit, EditError, the
from humble_loop.site.model import Site

_DIGITS = 6  # of a metre to which the end of a street is laid


def passes_by(q: Engine, id: str, leg: Leg) -> Callable[[float], Edit] | None:
    """What lays a leg so that it passes so many metres left of the middle, seen leaving; None for a street that runs on through the circle.

    The end of its street moves, the last bend before it and the roundabout's middle stay.
    """
    ends = leg.inner == (0.0 if leg.way > 0 else chain_of(q, leg.street).total)
    return (lambda offset: lambda site: _laid(q, id, leg, offset, site)) if ends else None


def _laid(q: Engine, id: str, leg: Leg, offset: float, site: Site) -> Site:
    name, middle, size = leg_name(q, id, leg), middle_of(q, id), sizes_of(q, id).radius
    bends, at = the(site, Street, leg.street).bends, 0 if leg.way > 0 else -1
    if not _straight(leg):
        raise EditError(f"{name} bends where it crosses the circle; move its bends to lay it beside the middle")
    if abs(offset) >= size:
        raise EditError(
            f"{name}: {offset:g} m beside the middle lies outside the circle of {size:g} m; give less than that"
        )
    last = bends[1 if at == 0 else -2]
    origin = np.array(parts.origin(q))  # bends are kept as people know them, and worked out from there
    outer = np.array([last.easting, last.northing]) - origin
    end = _end(outer, middle, offset, _through(q, id, leg))
    index, (e, n) = at % len(bends), np.round(end + origin, _DIGITS).tolist()
    return _held(move_bend(site, leg.street, index, e, n), id, middle, name)


def _straight(leg: Leg) -> bool:
    """Whether a leg runs straight from where it begins until it has left the circle."""
    k = int(np.searchsorted(leg.chain.starts, leg.throat, side="right"))
    return not (leg.chain.k0[:k].any() or leg.chain.k1[:k].any())


def _end(outer: Floats, middle: Floats, offset: float, through: Chain | None) -> Floats:
    """Where the straight from its last bend (2,) ends: abreast of the middle (2,), or on the street that it comes to there.

    It leaves in the direction in which the last bend lies ``offset`` to the left of the middle; sin of the angle from there to the last bend is offset / distance.
    """
    away = outer - middle
    distance = float(np.hypot(*away))
    heading = float(np.arctan2(away[1], away[0]) - np.arcsin(offset / distance))
    abreast: Floats = middle + offset * left_normals(heading)
    if through is None:
        return abreast
    reach = 0.5 * distance
    line = Chain.from_elements(abreast - reach * tangents(heading), heading, [Element(reach + distance, 0.0, 0.0)])
    found = crossings(line, through)[:, 0]
    return abreast if not len(found) else line.points_at([found[np.argmin(abs(found - reach))]])[0]


def _through(q: Engine, id: str, leg: Leg) -> Chain | None:
    """The centreline of the other street of the two where it stands, if this is one of them: they go on meeting."""
    made = roundabout_of(q, id)
    other = {made.street: made.other, made.other: made.street}.get(leg.street)
    return chain_of(q, other) if other in street_ids(q) and other is not None else None


def _held(site: Site, id: str, middle: Floats, name: str) -> Site:
    """With the middle where it was, whatever became of the place that it is told from."""
    q = Engine(site)
    now = q.attempt(middle_of, id)
    if isinstance(now, Unsolved):
        raise EditError(f"{name} cannot be laid there: {now.message}")
    made, by = roundabout_of(q, id), middle - now
    return set_roundabout(site, id, east=float(made.east + by[0]), north=float(made.north + by[1]))
