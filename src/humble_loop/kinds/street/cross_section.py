"""A street's own cross section: its section points at chainages, what stands beyond its boundaries, and its batters."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Bools, Floats, as_row, frozen, unique_chainages
from humble_loop.kinds.street.faces import StreetFace
from humble_loop.kinds.street.plan import StreetLine, chain_of
from humble_loop.kinds.street.section import own_range
from humble_loop.kinds.street.side import course
from humble_loop.kinds.street.side_levels import crossfall
from humble_loop.lines.faces import Sheet, face
from humble_loop.lines.line import LineId, line
from humble_loop.lines.standing import kinds
from humble_loop.site import parts
from humble_loop.site.model import SIDES, Side

_STILL = 1e-6  # metres between points across the street, and along it, that are one


@dataclass(frozen=True)
class SectionPoint:
    """A point of a cross section at chainages (n,): ``offsets`` (n,) in metres, left positive, and ``levels`` (n,), both NaN
    where the section does not have it. ``piece`` is what lies between it and its neighbour towards the crown.
    """

    name: str
    side: Side | None
    piece: str
    offsets: Floats
    levels: Floats

    @property
    def there(self) -> Bools:
        """Where the section has it (n,)."""
        found: Bools = np.isfinite(self.levels)
        return found


@query
def across_at(q: Engine, street: str) -> Floats:
    """Chainages at which a street's cross sections are delivered: every interval, ends of its elements, and wherever its
    section begins or ends to change.
    """
    chain, keys = chain_of(q, street), []
    for side in SIDES:
        keys += [course(q, street, side).at, crossfall(q, street, side).at, np.array(own_range(q, street, side))]
    interval = np.arange(0.0, chain.total, parts.settings(q).row_interval)
    return frozen(unique_chainages(chain.key_chainages(), *keys, interval, low=0.0, high=chain.total, gap=1e-4))


def section_points(q: Engine, street: str, chainages: ArrayLike, *, batters: bool = True) -> list[SectionPoint]:
    """A new street's own section points at chainages, from left to right. A side that junctions or heads take has none there.

    Batters meet those of other streets: they may take long, and are left out on request.
    """
    s = as_row(chainages)
    crown = line(q, StreetLine(street)).rule.levels(s)
    found = [SectionPoint("crown", None, "", np.where(np.isfinite(crown), 0.0, np.nan), crown)]
    for side in SIDES:
        out = [*_side_points(q, street, side, tuple(s.tolist()))]
        boundary = next((p for p in out if p.name == course(q, street, side).names[-1]), None)
        if batters and boundary is not None:
            out += _batter_points(q, street, side, s, boundary.there)
        found = [*out[::-1], *found] if side == "left" else [*found, *out]
    return found


def has_all_points(q: Engine, street: str, side: Side, points: Sequence[SectionPoint]) -> Bools:
    """Where (n,) a side has all the points of its section: not where a junction, say, goes on in its place."""
    names = course(q, street, side).names[1:]
    own = {p.name: p.there for p in points if p.side == side and p.piece not in ("drain", "batter")}
    found: Bools = np.all([own.get(n, np.zeros_like(points[0].there)) for n in names], axis=0)
    return found


@query
def _side_points(q: Engine, street: str, side: Side, chainages: tuple[float, ...]) -> tuple[SectionPoint, ...]:
    """Those of a side from the crown outwards, batters left out."""
    made, s, found = course(q, street, side), np.array(chainages), []
    for name, piece in zip(made.names[1:], made.pieces[1:]):
        if (point := _on_line(q, StreetLine(street, name, side), side, piece, s)) is not None:
            found.append(point)
    for kind in kinds():
        for row in kind.beyond(q, StreetLine(street, made.names[-1], side)):
            found += [p for id in row if (p := _on_line(q, id, side, "drain", s)) is not None]
    return tuple(found)


def _on_line(q: Engine, id: LineId, side: Side, piece: str, s: Floats) -> SectionPoint | None:
    """The point that a line has in the section; None where it has no levels at all."""
    made = q.attempt(line, id)
    if isinstance(made, Unsolved):
        return None
    plan = made.plan
    on = (s >= plan.start - _STILL) & (s <= plan.end + _STILL)
    for a, b in plan.gaps:
        on &= (s <= a) | (s >= b)
    levels = np.where(on, made.rule.levels(s), np.nan)
    offsets = np.where(np.isfinite(levels), plan.offset(s), np.nan)
    return SectionPoint(getattr(id, "point", ""), side, piece, offsets, levels)


@query
def _batter_along(q: Engine, street: str, side: Side) -> tuple[Floats, Floats, Floats, Bools]:
    """A side's batter in the street's terms: chainages (n,) of its rows, their offsets and levels (n, k), which rows are joined."""
    made, none = q.attempt(face, StreetFace(street, "batter", side)), np.empty((0, 0))
    if not isinstance(made, Sheet) or not len(made.points):
        return np.empty(0), none, none, np.empty(0, dtype=bool)
    n, k = made.points.shape[:2]
    points = np.concatenate([made.points[:, :-1], made.ends[:, None]], axis=1)
    feet = chain_of(q, street).feet(points.reshape(-1, 3))
    at, beside = feet.chainages.reshape(n, k)[:, -1], feet.offsets.reshape(n, k)
    return frozen(at), frozen(beside), frozen(points[:, :, 2]), made.joined


def _batter_points(q: Engine, street: str, side: Side, s: Floats, there: Bools) -> list[SectionPoint]:
    """Edges of benches and the toe of the batter of a side, where its boundary stands."""
    at, beside, level, joined = _batter_along(q, street, side)
    if not joined.any():
        return []
    before = np.clip(np.searchsorted(at, s - _STILL) - 1, 0, len(joined) - 1)
    on = np.zeros(len(s), dtype=bool)
    row = before
    for i in (
        before,
        np.minimum(before + 1, len(joined) - 1),
    ):  # at the first row of a stretch the one before does not reach
        here = there & ~on & joined[i] & (at[i + 1] > at[i]) & (s >= at[i] - _STILL) & (s <= at[i + 1] + _STILL)
        row, on = np.where(here, i, row), on | here
    with np.errstate(invalid="ignore", divide="ignore"):
        share = np.where(on, np.clip((s - at[row]) / (at[row + 1] - at[row]), 0.0, 1.0), np.nan)[:, None]
    offsets, levels = ((1.0 - share) * v[row] + share * v[row + 1] for v in (beside, level))
    # Rows that end before others stand still at their toes, and straight ones at first where others bend.
    still = np.abs(offsets - offsets[:, :1]) <= _STILL
    still[:, :-1] |= np.abs(np.diff(offsets, axis=1)) <= _STILL
    offsets[still], levels[still] = np.nan, np.nan
    found = [SectionPoint("bench", side, "batter", *v) for v in zip(offsets.T[1:-1], levels.T[1:-1])]
    return [*found, SectionPoint("toe", side, "batter", offsets[:, -1], levels[:, -1])]
