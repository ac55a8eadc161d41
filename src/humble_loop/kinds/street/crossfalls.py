"""Levels across a street all along it: falls of its carriageway and paths, and how far it lies over the old surface."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen, unique_chainages
from humble_loop.ground.drape import cross_segments
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street.faces import StreetFace
from humble_loop.kinds.street.plan import StreetLine, chain_of, is_new, name_of
from humble_loop.kinds.street.section import own_range
from humble_loop.kinds.street.side import course
from humble_loop.kinds.street.tables import streets
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import line
from humble_loop.lines.table import Table
from humble_loop.site import parts
from humble_loop.site.model import SIDES, Side

_NARROW = 0.05  # metres of a strip whose fall is no matter


@dataclass(frozen=True)
class Across:
    """A side of a street at chainages (n,): levels of its lip, the back of its kerb and its boundary, NaN where it has no lip of its own;
    falls outwards to the lip, and of its path to the kerb, as ratios, NaN without a path; and how far the lip lies ``over`` the old
    surface (m). ``lip_out``, ``path_in`` and ``path_out`` are metres from the crown.
    """

    lip: Floats
    back: Floats
    boundary: Floats
    crossfall: Floats
    path_fall: Floats
    over: Floats
    lip_out: Floats
    path_in: Floats
    path_out: Floats


@dataclass(frozen=True)
class Crossfalls:
    """A street at chainages (n,): its crown, how far that lies ``over`` the old surface, and both sides."""

    chainages: Floats
    crown: Floats
    over: Floats
    left: Across
    right: Across

    def side(self, side: Side) -> Across:
        """The left or right side."""
        return self.left if side == "left" else self.right


@query
def crossfalls(q: Engine, street: str, every: float) -> Crossfalls:
    """A new street's levels across it, at intervals and at both ends. Raises Unsolved where it has no levels."""
    total = chain_of(q, street).total
    s = unique_chainages([0.0, total], np.arange(0.0, total, every), low=0.0, high=total)
    crown = line(q, StreetLine(street)).rule.levels(s)
    over = crown - ground_of(q).levels(chain_of(q, street).points_at(s))
    return Crossfalls(frozen(s), frozen(crown), frozen(over), *(_across(q, street, side, s, crown) for side in SIDES))


def _across(q: Engine, street: str, side: Side, s: Floats, crown: Floats) -> Across:
    made, (low, high) = course(q, street, side), own_range(q, street, side)
    on = (s >= low - 1e-6) & (s <= high + 1e-6)
    kerbs = [k for k in range(made.lip + 1, len(made.names)) if made.pieces[k] == "kerb"]
    back = kerbs[-1] if kerbs else made.lip
    path = next((k for k in range(made.lip + 1, len(made.names)) if made.pieces[k] == "path"), None)

    def level(k: int) -> Floats:
        found = line(q, StreetLine(street, made.names[k], side)).rule.levels(s)
        return np.where(on, found, np.nan)

    lip, out = level(made.lip), made.out(made.lip)(s)
    fall, inner, outer = np.full(len(s), np.nan), np.zeros(len(s)), np.zeros(len(s))
    if path is not None:
        inner, outer = made.out(path - 1)(s), made.out(path)(s)
        width = outer - inner
        wide = width > _NARROW
        fall[wide] = ((level(path) - level(path - 1))[wide]) / width[wide]
    sign = 1.0 if side == "left" else -1.0
    old = ground_of(q).levels(chain_of(q, street).points_at(s, sign * out))
    values = (
        lip, level(back), level(len(made.names) - 1), (crown - lip) / np.maximum(out, 1e-9), fall, lip - old, out, inner, outer
    )  # fmt: skip
    return Across(*(frozen(v) for v in values))


def crossfall_table(q: Engine, of: str | None, every: float | None) -> Table:
    """Crown, lips, backs and boundaries of new streets at intervals, with falls, and heights over the old surface."""
    out: list[tuple[Any, ...]] = []
    for street in streets(q, of):
        if not is_new(q, street):
            continue
        made = q.attempt(crossfalls, street, every or parts.settings(q).row_interval)
        if isinstance(made, Unsolved):
            continue
        a, b = made.left, made.right
        columns = (
            made.chainages, a.boundary, a.back, a.lip, made.crown, b.lip, b.back, b.boundary, a.crossfall, b.crossfall,
            a.path_fall, b.path_fall, a.over, made.over, b.over,
        )  # fmt: skip
        out += [(name_of(q, street), *row) for row in zip(*columns)]
    levels = ("left_boundary", "left_back", "left_lip", "crown", "right_lip", "right_back", "right_boundary")
    falls = ("left_crossfall", "right_crossfall", "left_path_fall", "right_path_fall")
    over = ("left_lip_over_old", "crown_over_old", "right_lip_over_old")
    return Table(("street", "chainage", *levels, *falls, *over), tuple(out))


# The overlay's depth everywhere


@dataclass(frozen=True)
class Extreme:
    """How far the carriageway lies over the old surface (m) at a place of it (easting, northing), at a chainage and offset (left positive)."""

    over: float
    place: tuple[float, float]
    chainage: float
    offset: float


@query
def over_the_old(q: Engine, street: str) -> tuple[Extreme, Extreme] | None:
    """The least and the greatest height of a street's own carriageway over the old surface, exact; None where there is none under it.

    Both surfaces are flat between edges, so that the difference is at its least and greatest where edges of one meet edges or
    points of the other.
    """
    ground, found = ground_of(q), []
    for side in SIDES:
        made = q.attempt(finished_mesh, StreetFace(street, "carriageway", side))
        if isinstance(made, Unsolved) or made.surface.empty or ground.empty:
            continue
        new = made.surface
        a, b = new.points[new.edges[:, 0]], new.points[new.edges[:, 1]]
        met = cross_segments(ground, a, b)
        length = np.hypot(*(b - a)[:, :2].T)
        share = met.along / np.where(length > 0.0, length, 1.0)[met.line]
        p = a[met.line] + share[:, None] * (b - a)[met.line]
        found.append(np.column_stack([p[:, :2], p[:, 2] - met.level]))
        (w, s), (e, n) = new.points[:, :2].min(axis=0), new.points[:, :2].max(axis=0)
        g = ground.points[
            (ground.points[:, 0] >= w)
            & (ground.points[:, 0] <= e)
            & (ground.points[:, 1] >= s)
            & (ground.points[:, 1] <= n)
        ]
        found.append(np.column_stack([g[:, :2], new.levels(g) - g[:, 2]]))
    every = np.concatenate(found) if found else np.empty((0, 3))
    every = every[np.isfinite(every[:, 2])]
    if not len(every):
        return None
    ends = [every[k] for k in (int(np.argmin(every[:, 2])), int(np.argmax(every[:, 2])))]
    feet = chain_of(q, street).feet([p[:2] for p in ends])
    made_of = [
        Extreme(float(p[2]), (float(p[0]), float(p[1])), float(s), float(o))
        for p, s, o in zip(ends, feet.chainages, feet.offsets)
    ]
    return made_of[0], made_of[1]


def over_words(q: Engine, street: str) -> str:
    """The least and greatest height over the old surface in words, with where, and the depth to be trimmed; '' without ground."""
    made = q.attempt(over_the_old, street)
    if made is None or isinstance(made, Unsolved):
        return ""
    found = []
    for words, end in zip(("least", "greatest"), made):
        side = "left" if end.offset > 0.0 else "right"
        found.append(f"{words} {end.over:.3f} at {end.chainage:.2f}, {abs(end.offset):.2f} {side}".replace("-", "−"))
    trim = f"; to be trimmed up to {-made[0].over:.3f}" if made[0].over < 0.0 else ""
    return f"Over the old surface: {', '.join(found)}{trim}"


def overlay_table(q: Engine, of: str | None, every: float | None) -> Table:
    """How far each new street's carriageway lies over the old surface: its least with the depth to be trimmed there, and its greatest."""
    del every
    out: list[tuple[Any, ...]] = []
    for street in streets(q, of):
        made = q.attempt(over_the_old, street) if is_new(q, street) else None
        if made is None or isinstance(made, Unsolved):
            continue
        for words, end in zip(("least", "greatest"), made):
            trim = max(0.0, -end.over)
            out.append((name_of(q, street), words, end.over, trim, end.chainage, end.offset, *end.place))
    columns = ("street", "which", "over_old", "trim", "chainage", "offset", "easting", "northing")
    return Table(columns, tuple(out), (("easting", "northing"),))
