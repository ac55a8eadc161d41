"""Bypass lanes: from a leg's entry to the exit of the next leg on that side, outside the circle, with an island between.

The lane lies outside the edge that the lanes of the circle have there, which stays as it would be without it: along both lips, by their arcs, and round
on the circle. From that its island reaches to the lane, which goes round on one arc. Its kerb is an arc about the same centre.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.corners import CornerCurve
from humble_loop.geometry.lane_islands import Across, lane_islands
from humble_loop.geometry.outlines import backwards, parallel
from humble_loop.kinds.roundabout.gaps import Gap, Kerb, NoKerb, gap_after, lane_edge, lane_side
from humble_loop.kinds.roundabout.place import Leg, LegSizes, entry_side, leg_name, leg_sizes, legs_of, roundabout_name
from humble_loop.site.model import Side

BYPASS = 4.5  # metres that a bypass lane has between kerbs unless it is said otherwise: what a service vehicle sweeps on its arc, typical
_ISLAND = 2.0  # metres of its island beside the circle with the radius that is proposed: somebody with a pram can wait on it, typical
_NOSE = 0.4  # metres of the radius of its island's ends
_ROUNDING = 0.3  # metres of its island's corners at an opening
_STEP, _MOST = 0.5, 200.0  # metres between radii that are proposed, and the largest of them
_TYPICAL = 25.0  # metres of a radius with which it is seen why none fits


@dataclass(frozen=True)
class Bypass:
    """A bypass lane after a leg anticlockwise. ``giver`` is the key of the leg from whose entry it comes.

    It is ``width`` wide and comes and goes over ``taper`` (m), ``radius`` is its kerb's, and its ``island`` so many metres wide beside the circle.
    ``lanes`` is the kerb that the lanes of the circle would have without it, ``edge`` that with the
    lips as far as the lane's ``arc`` at the island touches them, ``leg_at`` metres along both legs.
    """

    giver: str
    width: float
    radius: float
    taper: float
    lanes: Kerb
    edge: Chain
    arc: Chain
    leg_at: tuple[float, float]
    island: float


def giver_of(q: Engine, id: str, key: str) -> Leg:
    """The leg from whose entry a bypass lane would come in the gap after a leg: that one, or the next anticlockwise."""
    legs = legs_of(q, id)
    k = next(i for i, g in enumerate(legs) if g.key == key)
    return legs[k] if entry_side(q) == "left" else legs[(k + 1) % len(legs)]


def taker_of(q: Engine, id: str, leg: Leg) -> Leg:
    """The leg by which a bypass lane that comes from a leg's entry goes out."""
    legs = legs_of(q, id)
    k = next(i for i, g in enumerate(legs) if g.key == leg.key)
    return legs[(k + 1) % len(legs)] if entry_side(q) == "left" else legs[k - 1]


def gap_key(q: Engine, id: str, leg: Leg, seen: Side) -> str:
    """The leg after which the gap on a side of a leg lies."""
    legs = legs_of(q, id)
    return leg.key if seen == "left" else legs[next(i for i, g in enumerate(legs) if g.key == leg.key) - 1].key


def bypass_beside(q: Engine, id: str, leg: Leg, seen: Side) -> Bypass | None:
    """The bypass lane on a side of a leg; None where there is none, or it has no room."""
    made = q.attempt(bypass_after, id, gap_key(q, id, leg, seen))
    return None if isinstance(made, Unsolved) else made


def bypass_why(q: Engine, id: str, key: str) -> str:
    """Why the bypass lane after a leg does not fit; '' where it does, or none is wanted."""
    made = q.attempt(bypass_after, id, key)
    return f"{made.message}; {made.remedy}" if isinstance(made, Unsolved) else ""


def lip_side(q: Engine, id: str, leg: Leg, seen: Side) -> float:
    """How far (m) a leg's lip is to lie from its centreline at the circle: beyond its lanes, and the bypass lane beside them."""
    beside = bypass_beside(q, id, leg, seen)
    return lane_side(q, leg, leg_sizes(q, id, leg), seen) + (0.0 if beside is None else beside.width)


@query
def bypass_after(q: Engine, id: str, key: str) -> Bypass | None:
    """The bypass lane after a leg anticlockwise; None where none is wanted. Raises Unsolved where it does not fit."""
    giver = giver_of(q, id, key)
    sizes = leg_sizes(q, id, giver)
    if sizes.bypass <= 0.0:
        return None
    name = f"{roundabout_name(q, id)}, bypass lane of {leg_name(q, id, giver)}"
    if len(legs_of(q, id)) < 2:
        raise Unsolved(
            name, "there is no other leg to which it could go", "draw a street to it, or take the bypass lane away"
        )
    gap = gap_after(q, id, key, partial(lane_edge, q))
    try:
        lanes = gap.kerb(lambda: 0.0)
    except NoKerb as error:
        raise Unsolved(name, error.words, error.remedy) from None
    if lanes.alone:
        raise Unsolved(
            name,
            "its legs are so near one another that their kerb does not come to the circle as it is",
            "lessen their radii, turn the legs apart, or take the bypass lane away",
        )
    proposed = _proposed(gap, lanes, sizes.bypass)
    radius = sizes.bypass_radius or proposed
    if radius is None:
        raise Unsolved(
            name, _why(gap, sizes.bypass), "turn the legs towards one another, lengthen them, or take it away"
        )
    try:
        return _laid(gap, lanes, giver.key, sizes, radius)
    except DoesNotFit as error:
        remedy = f"give its kerb a radius of {proposed:g} m" if proposed else "make the legs longer, or take it away"
        raise Unsolved(name, f"with a radius of {radius:g} m it does not fit: {error}", remedy) from None


def _laid(gap: Gap, lanes: Kerb, giver: str, sizes: LegSizes, radius: float) -> Bypass:
    """A lane whose kerb has a radius. Raises DoesNotFit."""
    made, width = gap.arc(radius + sizes.bypass), sizes.bypass
    leg_at = (made.base_start, made.base_end)
    for at, before in zip(leg_at, lanes.leg_at):
        if at < before:
            raise DoesNotFit(
                f"it leaves the lip {before - at:.2f} m nearer to the circle than the lanes to that turn off"
            )
    (one, other), (a, b) = gap.legs, gap.edges
    elements = [
        *backwards(parallel(one.chain, lanes.leg_at[0], leg_at[0], a.offset(0.0))),
        *lanes.chain.elements,
        *parallel(other.chain, lanes.leg_at[1], leg_at[1], b.offset(0.0)),
    ]
    heading = float(one.chain.at([leg_at[0]]).headings[0]) + np.pi
    edge = Chain.from_elements(one.chain.points_at([leg_at[0]], a.offset(0.0))[0], heading, elements)
    lane_islands(edge, made.chain, _NOSE, _ROUNDING)  # that there is room for one
    return Bypass(giver, width, radius, sizes.bypass_taper, lanes, edge, made.chain, leg_at, _past(gap, made))


def _past(gap: Gap, made: CornerCurve) -> float:
    """How far (m) an arc goes past the circle outside it."""
    return float(np.hypot(*(made.centre - gap.circle.middle))) - made.radius - gap.circle.radius


def _proposed(gap: Gap, lanes: Kerb, width: float) -> float | None:
    """The least radius of its kerb with which its island is wide enough beside the circle, in steps; None for none up to the largest."""

    def fits(count: int) -> bool:
        try:
            made = gap.arc(count * _STEP + width)
        except DoesNotFit:
            return False
        turned_off = made.base_start >= lanes.leg_at[0] and made.base_end >= lanes.leg_at[1]
        return turned_off and _past(gap, made) >= _ISLAND

    good = bad = _guessed(gap, width)
    step, most = 1, int(_MOST / _STEP)
    if fits(good):
        while (bad := max(good - step, 0)) and fits(bad):
            good, step = bad, 2 * step
    else:
        while not fits(good := min(bad + step, most)):
            if good == most:
                return None
            bad, step = good, 2 * step
    while good - bad > 1:
        middle = (good + bad) // 2
        good, bad = (middle, bad) if fits(middle) else (good, middle)
    return good * _STEP


def _guessed(gap: Gap, width: float) -> int:
    """About how many steps that radius is: how far an arc goes past the circle nearly grows as its radius does."""
    near, far = gap.circle.radius, 2.0 * gap.circle.radius
    try:
        a, b = (_past(gap, gap.arc(r + width)) for r in (near, far))
    except DoesNotFit:
        return int(near / _STEP)
    radius = near + (far - near) * (_ISLAND - a) / max(b - a, _STEP * _STEP)
    return int(np.clip(np.ceil(radius / _STEP), 1, int(_MOST / _STEP) - 1))


def _why(gap: Gap, width: float) -> str:
    """Why no radius is proposed."""
    try:
        gap.arc(_TYPICAL + width)
    except DoesNotFit as error:
        return f"it finds no way from leg to leg: {error}"
    return f"no radius up to {_MOST:g} m leaves {_ISLAND:g} m for its island beside the circle"


# Its island


@query
def bypass_islands(q: Engine, id: str, key: str) -> tuple[Chain, ...]:
    """The outlines, anticlockwise, of the island beside the bypass lane that comes from a leg, which opens where the legs have crossings; none where
    it has no bypass lane. Raises Unsolved where the crossings leave nothing of it.
    """
    giver = next(g for g in legs_of(q, id) if g.key == key)
    made = bypass_beside(q, id, giver, entry_side(q))
    if made is None:
        return ()
    legs = legs_of(q, id)
    first, last = legs[made.lanes.first], legs[made.lanes.last]
    openings = [*_opening(q, id, first, inwards=True), *_opening(q, id, last, inwards=False)]
    try:
        return lane_islands(made.edge, made.arc, _NOSE, _ROUNDING, openings)
    except DoesNotFit as error:
        name = f"{roundabout_name(q, id)}, bypass island of {leg_name(q, id, giver)}"
        raise Unsolved(name, str(error), "move a crossing, or enlarge the radius of the bypass lane") from None


def _opening(q: Engine, id: str, leg: Leg, inwards: bool) -> list[tuple[Across, Across]]:
    """Where a leg's crossing goes through it, in the way in which the kerb runs along the leg."""
    sizes = leg_sizes(q, id, leg)
    if sizes.splitter <= 0.0 or sizes.crossing <= 0.0:
        return []
    near = leg.throat + sizes.crossing
    at = np.clip([near, near + sizes.crossing_width], 0.0, leg.chain.total)
    frames = leg.chain.at(at)
    lines = [Across(p, float(h) + (np.pi if inwards else 0.0)) for p, h in zip(frames.points, frames.headings)]
    return [(lines[1], lines[0]) if inwards else (lines[0], lines[1])]
