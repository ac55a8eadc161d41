"""Fall windows of returns: the levels that the crown lines on both sides of a corner leave its lip.

Where a return runs nearer to the side street's crown than to the through street's, that street's section turns beside it from lying along
the through street to its normal fall, and what its class leaves the lip turns with it. Where only the through street's crown is abreast,
short of the throat, the return falls from that. Between the two it has to come from one lip to the other, and neither asks anything.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Bools, Floats, frozen
from humble_loop.kinds.junction.corners import ReturnLine, corner_name, through_lip
from humble_loop.kinds.junction.layout import own_from, turn_of
from humble_loop.kinds.junction.nodes import Arm, both_crowns, leg_side, require_joint
from humble_loop.kinds.street.plan import StreetLine, chain_of, class_of, is_new, name_of
from humble_loop.kinds.street.side_levels import crossfall
from humble_loop.lines.abreast import abreast
from humble_loop.lines.describe import Window, band_below
from humble_loop.lines.findings import Finding, point, share
from humble_loop.lines.line import ThingId, line
from humble_loop.site.model import Side

RULES = ("return outside its fall window",)
_ALLOWED = 0.01  # of fall from a crown, by which a return may differ from its window: how a section turns is a habit, not a law
_OPEN = 0.02  # metres of a window from which on it is judged
_STEPS = 49  # places along a return at which a window is worked out
_AT = 1e-9  # metres within which two places are one


@dataclass(frozen=True)
class Band:
    """What a crown leaves a return at places along it: lowest and highest levels (n,), the crown's chainages abreast (n,), how far
    away it is (n,), where it holds (n,), and where it lies beside the return at all (n,).
    """

    low: Floats
    high: Floats
    at: Floats
    away: Floats
    on: Bools
    beside: Bools


@query
def return_windows(q: Engine, street: str, arm: Arm, corner: Side) -> tuple[Window, ...]:
    """The fall windows of a return: from the side street's crown, and from the through street's where only that is abreast of it. They
    are advice: the return meets both lips whatever they say.
    """
    made = q.attempt(line, ReturnLine(street, arm, corner))
    if isinstance(made, Unsolved):
        return ()
    s, through = np.linspace(0.0, made.plan.end, _STEPS), require_joint(q, street, arm).through
    side, other = side_band(q, street, arm, corner, s), through_band(q, street, arm, corner, s)
    found = []
    for id, band, on, up, more in (
        (street, side, side.on, rises(q, street, arm, corner), ", turning from the junction"),
        (through, other, other.on & ~side.beside, False, ""),
    ):
        told, (first, last) = f"{asked(q, id, up)}{more}", _longest(on)
        if last - first > 1:
            k, rule = slice(first, last), f"{made.title}: {told}"
            follows = StreetLine(id), frozen(band.at[k])
            found.append(Window(rule, frozen(s[k]), frozen(band.low[k]), frozen(band.high[k]), told, follows, False))
    return tuple(found)


def asked(q: Engine, street: str, up: bool = False) -> str:
    """What a street's class asks of the fall from its crown, or of the rise, in words."""
    rules = class_of(q, street)
    least, most = share(rules.least_crossfall), share(rules.most_crossfall)
    return f"{least} to {most} {'up ' if up else ''}from the crown of {name_of(q, street)}"


def _longest(on: Bools) -> tuple[int, int]:
    """From where to before where the longest run of places (n,) is that are on."""
    edges = np.flatnonzero(np.diff(np.concatenate([[0], on.astype(np.int8), [0]])))
    runs = zip(edges[::2].tolist(), edges[1::2].tolist())
    return max(runs, key=lambda e: e[1] - e[0], default=(0, 0))


def side_band(q: Engine, street: str, arm: Arm, corner: Side, s: Floats) -> Band:
    """What the side street's crown leaves a return at places along it (n,), past its throat and where no other crown is nearer: as its
    section turns there, so much of it by its class's falls, and the rest flat along the through lip.
    """
    j, made, rules = require_joint(q, street, arm), line(q, ReturnLine(street, arm, corner)), class_of(q, street)
    crown = q.attempt(line, StreetLine(street))
    if isinstance(crown, Unsolved):
        return _nothing(len(s))
    places = made.points(s)[:, :2]
    feet, turn = abreast(crown.plan, places), turn_of(q, street, arm, leg_side(arm, corner))
    past = feet.there & ((feet.at - own_from(q, street, arm)) * j.way >= -_AT)
    z = np.full(len(s), np.nan)
    z[past] = crown.rule.levels(feet.at[past])
    room = turn.finish - turn.begin
    turned = np.clip((feet.at - turn.begin) / room, 0.0, 1.0) if abs(room) > _AT else np.ones(len(s))
    rise = _along_through(q, street, arm, places, crown.plan.points(feet.at))
    rise = np.where(np.isfinite(rise), rise, turn.across * feet.away)
    least, most = rules.least_crossfall, rules.most_crossfall
    if rises(q, street, arm, corner):
        least, most = -most, -least
    low, high = band_below(z + (1.0 - turned) * rise, turned * feet.away, least, most)
    nearer = feet.away <= np.abs(chain_of(q, j.through).feet(places).offsets) + _AT
    return Band(low, high, feet.at, feet.away, past & nearer & np.isfinite(z), past)


def rises(q: Engine, street: str, arm: Arm, corner: Side) -> bool:
    """Whether the side street falls one way there, so that it rises from its crown to this lip."""
    side = leg_side(arm, corner)
    return float(crossfall(q, street, side)(turn_of(q, street, arm, side).finish)) > 0.0


def _along_through(q: Engine, street: str, arm: Arm, places: Floats, crown: Floats) -> Floats:
    """How much the through lip, or where both crowns run through its crown, is higher abreast of places (n, 2) than abreast of those on the
    side crown (n, 2): what a section that lies flat along it rises from crown to lip.
    """
    j = require_joint(q, street, arm)
    along = q.attempt(line, StreetLine(j.through) if both_crowns(q, street, arm) else through_lip(j))
    if isinstance(along, Unsolved):
        return np.full(len(places), np.nan)
    here, there = (along.rule.levels(along.plan.base.feet(p).chainages) for p in (places, crown))
    return here - there


def through_band(q: Engine, street: str, arm: Arm, corner: Side, s: Floats) -> Band:
    """What the through street's crown leaves a return at places along it (n,), where it is built and abreast."""
    j, made = require_joint(q, street, arm), line(q, ReturnLine(street, arm, corner))
    crown, rules = q.attempt(line, StreetLine(j.through)), class_of(q, j.through)
    if isinstance(crown, Unsolved) or not is_new(q, j.through):
        return _nothing(len(s))
    feet, z = abreast(crown.plan, made.points(s)[:, :2]), np.full(len(s), np.nan)
    z[feet.there] = crown.rule.levels(feet.at[feet.there])
    low, high = band_below(z, feet.away, rules.least_crossfall, rules.most_crossfall)
    return Band(low, high, feet.at, feet.away, feet.there & np.isfinite(z), feet.there)


def _nothing(n: int) -> Band:
    none, nowhere = np.full(n, np.nan), np.zeros(n, dtype=bool)
    return Band(none, none, none, none, nowhere, nowhere)


# What is wrong


def window_findings(q: Engine, street: str, arm: Arm, corner: Side, of: ThingId) -> list[Finding]:
    """Where a return falls from the side street's crown by clearly more or less than its window asks, at its worst. Where that street falls
    one way its window is only shown: nobody means its rise to go on across a wide mouth.
    """
    if rises(q, street, arm, corner):
        return []
    made = line(q, ReturnLine(street, arm, corner))
    s = np.linspace(0.0, made.plan.end, _STEPS)
    band, z = side_band(q, street, arm, corner, s), made.rule.levels(s)
    judged = band.on & (band.high - band.low > _OPEN)  # where the section has hardly turned the through lip decides
    by = np.where(judged, np.maximum(band.low - z, z - band.high), -np.inf)
    k = int(np.argmax(by - _ALLOWED * band.away))
    if not judged[k] or by[k] <= _ALLOWED * band.away[k]:
        return []
    below = band.low[k] > z[k]
    words = (
        f"{s[k]:.2f} m along its return it lies {1000.0 * by[k]:.0f} mm {'below' if below else 'above'} what "
        f"{asked(q, street)} leaves it ({band.low[k]:.3f} to {band.high[k]:.3f})"
    )
    remedy = f"{'raise' if below else 'lower'} it there by a level on its return, or settle the junction"
    limit = float(band.low[k] if below else band.high[k])
    place, rule = point(made.plan.points([s[k]])[0]), RULES[0]
    name = corner_name(q, street, arm, corner)
    return [Finding(rule, of, name, words, remedy, float(z[k]), limit, float(s[k]), place, severity="near")]
