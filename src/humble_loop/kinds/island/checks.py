"""Rules of an island: that it stands on the carriageway, leaves lanes beside it, and clear of others."""

from __future__ import annotations

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.island.layout import (
    IslandFace,
    IslandLine,
    island_name,
    island_of,
    islands_on,
    outline,
    placed,
    plan_polygon,
    rows,
)
from humble_loop.kinds.island.way import LEAST_LANE, way_round
from humble_loop.kinds.street.plan import chain_of, name_of
from humble_loop.kinds.street.section import own_range
from humble_loop.kinds.street.side import lip_width
from humble_loop.kinds.turning_head.place import head_at
from humble_loop.kinds.turning_head.sizes import vehicle_of
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.findings import Finding, failed, point, too_low
from humble_loop.lines.line import ThingId, line
from humble_loop.site.model import SIDES, side_sign

RULES = ("lane beside an island", "islands overlap", "way round an island")


def island_findings(q: Engine, id: str) -> tuple[Finding, ...]:
    """Findings on an island."""
    of, made, name = ThingId("island", id), island_of(q, id), island_name(q, id)
    laid = q.attempt(outline, id)
    chain = chain_of(q, made.street)
    at = min(max(placed(q, made)[0], 0.0), chain.total)
    place = point(chain.points_at([at], placed(q, made)[4])[0])
    if isinstance(laid, Unsolved):
        return (failed(laid, of, place),)
    for part in (q.attempt(line, IslandLine(id)), q.attempt(finished_mesh, IslandFace(id, "kerb"))):
        if isinstance(part, Unsolved):
            return (failed(part, of, place),)
    return (*_lanes(q, id, of, name), *_round(q, id, of, name), *_others(q, id, of, name))


def _lanes(q: Engine, id: str, of: ThingId, name: str) -> list[Finding]:
    """What is left of the carriageway beside it, between the returns of junctions, whose mouths are wider."""
    made, chain = island_of(q, id), chain_of(q, island_of(q, id).street)
    feet = chain.feet(outline(q, id).points_at(rows(q, id)))
    found = []
    for side in SIDES:
        low, high = own_range(q, made.street, side)
        on = (feet.chainages >= low) & (feet.chainages <= high)
        if not on.any():
            continue
        left = lip_width(q, made.street, side)(feet.chainages[on]) - side_sign(side) * feet.offsets[on]
        k = int(np.argmin(left))
        width, at = float(left[k]), float(feet.chainages[on][k])
        if too_low(width, LEAST_LANE):
            words = (
                f"it leaves {width:.2f} m to the {side} lip of {name_of(q, made.street)}, less than {LEAST_LANE:g} m"
            )
            remedy = "make it narrower, move it, or widen the street there"
            place = point(chain.points_at([at])[0])
            found.append(Finding(RULES[0], of, name, words, remedy, width, LEAST_LANE, at, place))
    return found


def _round(q: Engine, id: str, of: ThingId, name: str) -> list[Finding]:
    """What is left of a head's carriageway round it, for the head's vehicle."""
    made = q.attempt(way_round, id)
    if made is None or isinstance(made, Unsolved):
        return []
    vehicle = vehicle_of(head_at(q, island_of(q, id).street, made.end)).name
    if not too_low(made.width, made.wanted):
        return []
    words = f"it leaves {max(made.width, 0.0):.2f} m to the lip of the head, and a {vehicle} that goes round wants {made.wanted:.2f} m"
    if made.width <= 0.0:
        words = f"it reaches past the lip of the head, and leaves no way round; a {vehicle} wants {made.wanted:.2f} m"
    remedy = f"make it {made.wanted - made.width:.2f} m smaller there, or enlarge the head"
    return [Finding(RULES[2], of, name, words, remedy, made.width, made.wanted, place=point(made.inside))]


def _others(q: Engine, id: str, of: ThingId, name: str) -> list[Finding]:
    found, mine = [], plan_polygon(q, id)
    for other in islands_on(q, island_of(q, id).street):
        theirs = q.attempt(plan_polygon, other.id)
        if other.id >= id or isinstance(theirs, Unsolved) or not shapely.intersects(mine, theirs):
            continue
        shared = shapely.intersection(mine, theirs)
        at = point(np.array(shapely.point_on_surface(shared).coords[0]))
        words = f"it and {island_name(q, other.id)} lie over one another"
        remedy, area = "move one of them, or make one of both", float(shared.area)
        also = (ThingId("island", other.id),)
        found.append(Finding(RULES[1], of, name, words, remedy, area, 0.0, place=at, also=also))
    return found
