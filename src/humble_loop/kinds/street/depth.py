"""How deep a street lies in the ground or above it, and how far its batters reach, piece by piece along it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.ground.meet import toes
from humble_loop.kinds.street.batter import outwards
from humble_loop.kinds.street.earthworks import ground_under
from humble_loop.kinds.street.plan import StreetLine, chain_of
from humble_loop.kinds.street.side import course
from humble_loop.lines.line import line
from humble_loop.site import parts
from humble_loop.site.model import SIDES, Side

_STEP = 4.0  # metres along the street of a piece
_MOST = 250  # pieces


@dataclass(frozen=True)
class DepthBand:
    """At chainages (n,): depths (n,) of the crown against the ground (m, fill above zero, NaN where there is no ground),
    and both edges (n, 2, 2) of what is built, left and right, with its batters; ``reach`` (n, 2) is how far those go (m).
    """

    chainages: Floats
    depths: Floats
    edges: Floats
    reach: Floats


@dataclass(frozen=True)
class Depths:
    """At chainages (n,): how far the crown lies above the ground (n,), m, below zero in cut, NaN where there is no ground."""

    chainages: Floats
    depths: Floats


@query
def depths_along(q: Engine, street: str) -> Depths:
    """A street's depths along its crown."""
    chain = chain_of(q, street)
    s = np.linspace(0.0, chain.total, int(np.clip(np.ceil(chain.total / _STEP), 1, _MOST)) + 1)
    return Depths(s, line(q, StreetLine(street)).rule.levels(s) - ground_under(q, street).levels(chain.points_at(s)))


@query
def depth_band(q: Engine, street: str) -> DepthBand:
    """A street's depths and reach, as its own section and batter slopes have them; what else stands there is left out."""
    made = depths_along(q, street)
    s, depths = made.chainages, made.depths
    centre = chain_of(q, street).points_at(s)
    edges, reach = np.stack([centre, centre], axis=1), np.zeros((len(s), 2))
    for k, side in enumerate(SIDES):
        edges[:, k], reach[:, k] = _edge(q, street, side, s)
    return DepthBand(s, depths, edges, reach)


def _edge(q: Engine, street: str, side: Side, s: Floats) -> tuple[Floats, Floats]:
    """Where the batters of a side end (n, 2), and how far they go (n,); the boundary where they find no ground."""
    across = course(q, street, side)
    made = q.attempt(line, StreetLine(street, across.names[-1], side))  # whatever a section calls its outermost point
    if isinstance(made, Unsolved):
        return chain_of(q, street).points_at(s), np.zeros(len(s))
    within = np.clip(s, made.plan.start, made.plan.end)
    hinges = made.points(within)
    most = np.full(len(s), parts.settings(q).batter_reach)
    ground = ground_under(q, street)
    if ground.empty:
        return hinges[:, :2], np.zeros(len(s))
    cut, fill = (np.interp(within, across.at, slope) for slope in across.slopes.T)
    found = toes(ground, hinges, outwards(made.plan, within), cut, fill, most)
    ends = np.isfinite(hinges[:, 2]) & found.met
    return np.where(ends[:, None], found.points[:, :2], hinges[:, :2]), np.where(ends, found.reach, 0.0)
