"""Kerbs that are lowered along stretches of a lip, as driveways need it: what of the kerb stands up is down there, and all behind it stays."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats, as_row
from humble_loop.lines.line import LineId, line
from humble_loop.lines.quantity import Quantity, Reads, amount, elsewhere, summed, times
from humble_loop.lines.rules import Hold, LevelRule
from humble_loop.lines.standing import kinds
from humble_loop.lines.varying import Varying

LOWERED = 0.06  # metres above the lip to which the back of a kerb is lowered: wheels roll over it, and water stays in the channel; typical
TAPER = 0.9  # metres over which it comes down and goes up again: the length of a kerb stone, typical
_STANDS = 1e-9  # metres above the lip from which a point stands up


@query
def lowered_share(q: Engine, lip: LineId) -> Varying | None:
    """How far the kerb beside a lip is down along it, 0 to 1; None where it nowhere is.

    Between two stretches so near one another that the kerb would not come up to its height it stays down.
    """
    spans = sorted((m.begin, m.finish, m.taper) for kind in kinds() for m in kind.lowers(q, lip))
    merged: list[tuple[float, float, float]] = []
    for begin, finish, taper in spans:
        if merged and begin - taper < merged[-1][1] + merged[-1][2]:
            merged[-1] = merged[-1][0], max(finish, merged[-1][1]), taper
        else:
            merged.append((begin, finish, taper))
    if not merged:
        return None
    at = [v for begin, finish, taper in merged for v in (begin - taper, begin, finish, finish + taper)]
    return Varying.of(at, [0.0, 1.0, 1.0, 0.0] * len(merged))


def lowered_stations(q: Engine, lip: LineId) -> Floats:
    """Where along a lip the kerb beside it begins and ends to come down and to go up."""
    share = lowered_share(q, lip)
    return np.empty(0) if share is None else share.at


def lowered_rises(out: Floats, rise: Floats) -> Floats:
    """What is left of the rises above the lip (k,) of a kerb's points, ``out`` metres (k,) outside that, lip first, where it is lowered.

    From the last of them that does not stand up, the channel's, it is straight to the back of the kerb.
    """
    if rise[-1] <= LOWERED:
        return rise
    low = int(np.flatnonzero(rise <= _STANDS)[-1])
    wide = float(out[-1] - out[low])
    straight = (out - out[low]) / wide if wide > 0.0 else np.ones_like(out)
    found: Floats = np.where(np.arange(len(out)) > low, rise[low] + straight * (LOWERED - rise[low]), rise)
    return found


def lowered_rule(
    q: Engine, title: str, lip: LineId, own: LevelRule, rise: Varying, holds: Sequence[Hold] = ()
) -> LevelRule:
    """The rule of a point of a kerb: its own, and ``rise`` (m) above the lip where it is lowered; but not where the kerb is held by a decision: what was
    typed or tied there stands."""
    share = lowered_share(q, lip)
    if share is None:
        return own
    for hold in holds:
        share = share.times_varying(Varying.of(hold.share.at, 1.0 - hold.share.values))
    return LoweredKerb(title, own, lip, line(q, lip).rule, rise, share)


@dataclass(frozen=True)
class LoweredKerb(LevelRule):
    """A kerb point's own level, and by ``share`` (0 to 1 along it) instead of that what is ``rise`` metres above the lip."""

    title: str
    own: LevelRule
    lip: LineId
    lip_rule: LevelRule
    rise: Varying
    share: Varying

    def _lip(self, x: Floats, factor: Floats, reads: Reads, side: str = "after") -> Quantity:
        """The lip's level or grade at places where it counts; nothing elsewhere, where it may have none."""
        value, on = np.zeros_like(x), np.flatnonzero(factor)
        value[on] = self.lip_rule.levels(x[on]) if reads == "level" else self.lip_rule.grades(x[on], side)
        return elsewhere("lip" if reads == "level" else "grade of lip", self.lip, x, value, reads)

    def level(self, s: ArrayLike) -> Quantity:
        x = as_row(s)
        share = self.share(x)
        if not share.any():
            return self.own.level(x)
        return summed(
            lambda k: f"{self.title} at {x[k]:.2f}",
            "lowered for driveways",
            times("as its kerb has it", self.own.level(x), 1.0 - share),
            times("lip", self._lip(x, share, "level"), share),
            amount("lowered kerb", self.rise(x) * share),
        )

    def grade(self, s: ArrayLike, side: str = "after") -> Quantity:
        x = as_row(s)
        share, slope = self.share(x), self.share.slope(x, side)
        if not (share.any() or slope.any()):
            return self.own.grade(x, side)
        return summed(
            lambda k: f"grade of {self.title} at {x[k]:.2f}",
            "lowered for driveways",
            times("grade as its kerb has it", self.own.grade(x, side), 1.0 - share),
            times("as it leaves that", self.own.level(x), -slope),
            times("grade of lip", self._lip(x, share, "grade", side), share),
            times("as it comes to the lip", self._lip(x, slope, "level"), slope),
            amount("lowered kerb", self.rise.slope(x, side) * share + self.rise(x) * slope),
            unit="grade",
        )

    def key_places(self) -> Floats:
        return np.union1d(self.own.key_places(), self.share.at)

    def bow(self) -> list[tuple[float, float, float]]:
        return [*self.own.bow(), *self.lip_rule.bow()]


def kerb_count(roles: Sequence[str]) -> int:
    """How many pieces outside a lip, next to it, are its kerb's."""
    return next((i for i, role in enumerate(roles) if role != "kerb"), len(roles))
