"""Where the kerb of a head is down: at the end of an arm, for a driveway, and at a draw, where water leaves over it and what lies behind is
dished.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen, tangents
from humble_loop.kinds.street.lowered import kerb_count
from humble_loop.kinds.street.section import SideShape
from humble_loop.kinds.turning_head.layout import head_shape, outline
from humble_loop.kinds.turning_head.levels import ring_levels
from humble_loop.kinds.turning_head.place import approach, head_at
from humble_loop.kinds.turning_head.sizes import head_sizes
from humble_loop.lines.varying import Varying
from humble_loop.site.model import SIDES, End, side_sign

_FLARE = 0.9  # metres over which the kerb comes down beside a driveway
_DRAW = 2.0  # metres of a draw that are all down
_DISHED = 1.5  # metres over which it comes down to a draw
_OUT = 0.02  # of fall outwards over a draw


@dataclass(frozen=True)
class Opening:
    """The kerb is down from ``begin`` to ``finish`` round a head, with ``flare`` metres on either side; all that lies outside it too where it is
    a ``draw``.
    """

    begin: float
    finish: float
    flare: float
    draw: bool

    @property
    def places(self) -> Floats:
        """Where it begins to come down, is down, begins to go up, and is up (4,)."""
        return np.array([self.begin - self.flare, self.begin, self.finish, self.finish + self.flare])


@query
def openings(q: Engine, street: str, end: End) -> tuple[Opening, ...]:
    """The openings of a head in order, without those that overlap one before."""
    head, made = head_at(q, street, end), outline(q, street, end)
    sizes, chain, total = head_sizes(q, street, end), approach(q, street, end), made.ring.total
    found = []
    heading, centre = float(chain.at([chain.total]).headings[0]), made.centre
    for seen, long in zip(SIDES, (sizes.left_arm, sizes.right_arm)):
        if long and seen in head.open_ends:
            turned = heading + side_sign(seen) * np.radians(sizes.arm_angle)
            tip = float(made.ring.feet([centre + long * tangents(turned)]).chainages[0])
            half = 0.5 * sizes.arm_width - sizes.corner
            found.append(Opening(tip - half, tip + half, _FLARE, False))
    draws = [o.share * total for o in head.outlets if o.way == "draw"]
    if not head.vips and head.outlet == "draw":
        levels = q.attempt(ring_levels, street, end)
        draws = [] if isinstance(levels, Unsolved) else list(levels.drains)
    found += [Opening(s - 0.5 * _DRAW, s + 0.5 * _DRAW, _DISHED, True) for s in draws]
    kept: list[Opening] = []
    for one in sorted(found, key=lambda o: o.begin):
        inside = one.places[0] > 0.0 and one.places[-1] < total
        if inside and (not kept or one.places[0] >= kept[-1].places[-1]):
            kept.append(one)
    return tuple(kept)


def lowered(q: Engine, street: str, end: End, k: int) -> Varying | None:
    """By how much (m, below zero) point ``k`` of a head's roadside is lowered round it; None where it nowhere is."""
    shape, total = head_shape(q, street, end), outline(q, street, end).ring.total
    kerb = kerb_count(shape.first.roles)
    at: list[float] = [0.0]
    down: list[float] = [0.0]
    for one in openings(q, street, end):
        if one.draw or k <= kerb:
            for s, share in zip(one.places.tolist(), (0.0, 1.0, 1.0, 0.0)):
                at.append(s)
                down.append(-share * _by(shape.first, shape.last, k, s / total, one.draw))
    return Varying.of([*at, total], [*down, 0.0]) if len(at) > 1 else None


def _by(first: SideShape, last: SideShape, k: int, share: float, draw: bool) -> float:
    """Metres by which a point is lowered: a kerb's to the lip, and at a draw all points to what falls outwards from there."""
    rise = (1.0 - share) * float(first.rise[k]) + share * float(last.rise[k])
    out = (1.0 - share) * float(first.out[k]) + share * float(last.out[k])
    return rise + _OUT * out if draw else max(rise, 0.0)


def opening_stations(q: Engine, street: str, end: End) -> Floats:
    """Distances round a head at which its kerb begins and ends to come down and to go up."""
    return frozen(np.concatenate([np.empty(0), *(o.places for o in openings(q, street, end))]))
