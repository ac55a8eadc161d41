"""How a leg's bypass lane shows itself in Facts, and how it is taken in hand."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import left_normals
from humble_loop.kinds.roundabout.bypass import (
    BYPASS,
    Bypass,
    bypass_after,
    bypass_beside,
    bypass_why,
    gap_key,
    taker_of,
)
from humble_loop.kinds.roundabout.gaps import lane_side
from humble_loop.kinds.roundabout.layout import kerb_after, lip_edge
from humble_loop.kinds.roundabout.leg_hand import LegHand, to_leg
from humble_loop.kinds.roundabout.leg_islands import outlines
from humble_loop.kinds.roundabout.model import set_leg
from humble_loop.kinds.roundabout.place import Leg, entry_side, leg_choice, leg_name, legs_of
from humble_loop.lines.describe import Actions, Fact, Handle, Note, Place, Row
from humble_loop.site.edits import Edit, EditError
from humble_loop.site.model import Site, side_sign


def bypass_facts(q: Engine, id: str, leg: Leg) -> list[Row]:
    """The bypass lane that comes from a leg's entry, or that it can have one."""
    if len(legs_of(q, id)) < 2:
        return []
    taker, made = leg_name(q, id, taker_of(q, id, leg)), leg_choice(q, id, leg.street, leg.drawn)
    if made.bypass is None:
        return [Note("Bypass lane"), Actions(((f"A bypass lane to {taker}", _with_bypass(id, leg)),))]
    laid = q.attempt(bypass_after, id, gap_key(q, id, leg, entry_side(q)))
    width, radius = to_leg(id, leg, "bypass"), to_leg(id, leg, "bypass_radius")
    taper = to_leg(id, leg, "bypass_taper")
    rows: list[Row] = [
        Note("Bypass lane"),
        Fact("goes to", "text", taker, inner=True),
        Fact("width", "size", made.bypass, "set", width, inner=True),
    ]
    if isinstance(laid, Bypass):
        state = "proposed" if made.bypass_radius is None else "set"
        switch = radius(None if made.bypass_radius is not None else laid.radius)
        rows.append(Fact("radius of its kerb", "size", laid.radius, state, radius, switch, inner=True))
        rows.append(Fact("island beside the circle", "length", laid.island, inner=True))
        state, switch = ("proposed", taper(laid.taper)) if made.bypass_taper is None else ("set", taper(None))
        rows.append(Fact("comes and goes over", "size", laid.taper, state, taper, switch, inner=True))
        island = q.attempt(outlines, id, leg.key, "bypass")
        if isinstance(island, Unsolved):
            rows.append(Note(f"{island.message}; {island.remedy}", heading=False))
    elif isinstance(laid, Unsolved):
        if made.bypass_radius is not None:
            switch = radius(None)
            rows.append(Fact("radius of its kerb", "size", made.bypass_radius, "set", radius, switch, inner=True))
        rows.append(Note(f"{laid.message}; {laid.remedy}", heading=False))
    away = lambda s: set_leg(s, id, leg.street, leg.drawn, bypass=None, bypass_radius=None, bypass_taper=None)  # noqa: E731
    return [*rows, Actions((("Take the bypass lane away", away),))]


def _with_bypass(id: str, leg: Leg) -> Edit:
    """A bypass lane as wide as one typically is, with the radius that is proposed; or why there is no room for one."""

    def edit(site: Site) -> Site:
        made = set_leg(site, id, leg.street, leg.drawn, bypass=BYPASS)
        q = Engine(made)
        laid = q.attempt(bypass_after, id, gap_key(q, id, leg, entry_side(q)))
        if isinstance(laid, Unsolved):
            raise EditError(f"{laid.thing}: {laid.message}; {laid.remedy}")
        return made

    return edit


def bypass_handles(hand: LegHand) -> list[Handle]:
    """The width of a leg's bypass lane where its kerb leaves the lip, the radius of that half way round, and where the lane begins to come."""
    q, id, leg = hand.q, hand.id, hand.leg
    seen = entry_side(q)
    made, kerb = bypass_beside(q, id, leg, seen), q.attempt(kerb_after, id, gap_key(q, id, leg, seen))
    if made is None or isinstance(kerb, Unsolved):
        return []
    sign, lanes = side_sign(seen), lane_side(q, leg, hand.sizes, seen)
    arc, total = kerb.chain, kerb.chain.total
    half_way = arc.at([0.5 * total])
    middle, outwards = half_way.points[0], -left_normals(float(half_way.headings[0]))
    # Of an arc between two straights the middle lies r (1 / cos(half the turn) - 1) from where these meet, outwards.
    away = made.radius * (1.0 / np.cos(min(0.5 * total / made.radius, 1.4)) - 1.0)
    corner = middle - away * outwards

    def wide(place: Place) -> float:
        return sign * float(leg.chain.feet([place], extend=True).offsets[0]) - lanes

    def radius(place: Place) -> float:
        return float(made.radius * ((np.array(place) - corner) @ outwards) / away)

    def rule(q: Engine) -> str:
        return bypass_why(q, id, gap_key(q, id, leg, seen))

    at, lip = made.leg_at[0 if seen == "left" else 1], lip_edge(q, leg, seen)
    full = max(at, leg.throat + hand.sizes.splitter)
    gone = min(full + made.taper, leg.chain.total)
    width_at, radius_at = hand.beside(at, lip.offset(at)), (float(middle[0]), float(middle[1]))
    return [
        hand.handle("bypass", "width of its bypass lane", width_at, wide, rule),
        hand.handle("bypass_radius", "radius of its bypass lane's kerb", radius_at, radius, rule, was=made.radius),
        hand.handle(
            "bypass_taper",
            "length over which its bypass lane comes",
            hand.beside(gone, lip.offset(gone)),
            lambda place: hand.along(place) - full,
            rule,
        ),
    ]
