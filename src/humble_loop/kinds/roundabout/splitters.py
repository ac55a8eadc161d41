"""Splitter islands: between a leg's two ways, from the circle outwards, with the kerbs beside them at the leg's widths all along."""

from __future__ import annotations

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import left_normals
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.splitters import Beside, splitter_outlines
from humble_loop.kinds.roundabout.bypass import gap_key
from humble_loop.kinds.roundabout.gaps import lane_side
from humble_loop.kinds.roundabout.layout import lane_kerb
from humble_loop.kinds.roundabout.place import (
    Leg,
    leg_name,
    leg_of,
    leg_sizes,
    middle_of,
    roundabout_name,
    sizes_of,
)
from humble_loop.site.model import SIDES, Side, side_sign

SETBACK = 0.5  # metres from the circle to a splitter: what a wheel that goes round cuts
_ROUNDING = 0.4  # metres of its corners, where it is wide enough


def splitter_name(q: Engine, id: str, key: str) -> str:
    """'Saggar Street roundabout, splitter of Firebrick Street north'."""
    return f"{roundabout_name(q, id)}, splitter of {leg_name(q, id, leg_of(q, id, key))}"


@query
def splitters(q: Engine, id: str, key: str) -> tuple[Chain, ...]:
    """The outlines of a leg's splitter island, anticlockwise, the piece nearest to the circle first. Raises Unsolved where it does not fit."""
    leg, name = leg_of(q, id, key), splitter_name(q, id, key)
    sizes = leg_sizes(q, id, leg)
    if sizes.splitter <= 0.0:
        return ()
    sides = [_beside(q, id, leg, seen) for seen in SIDES]
    rounding = min(_ROUNDING, 0.3 * sizes.splitter_width)
    nose = leg.throat + sizes.splitter - 0.5 * sizes.splitter_width
    opening = None
    if sizes.crossing > 0.0:
        opening = leg.throat + sizes.crossing, leg.throat + sizes.crossing + sizes.crossing_width
    try:
        return splitter_outlines(
            leg.chain, sides[0], sides[1], middle_of(q, id), sizes_of(q, id).radius + SETBACK, nose, rounding, opening
        )
    except DoesNotFit as error:
        remedy = "make it longer or narrower" if opening is None else "make it longer, or move its opening"
        raise Unsolved(name, str(error), remedy) from None


def _beside(q: Engine, id: str, leg: Leg, seen: Side) -> Beside:
    """A side of a leg's island: an arc about the same centre as the edge of the lanes beside it, as far from that as the leg is wide there."""
    made, sizes = lane_kerb(q, id, gap_key(q, id, leg, seen)), leg_sizes(q, id, leg)
    first = 0 if seen == "left" else -1
    k, at = float(made.chain.k0[first]), made.leg_at[0 if seen == "left" else 1]
    centre = made.chain.xy[first] + left_normals(made.chain.heading[first]) / k
    out = 0.5 * sizes.splitter_width + side_sign(seen) * sizes.splitter_offset
    wide = lane_side(q, leg, sizes, seen) - out
    return Beside(centre, 1.0 / abs(k) + wide, at, out)
