"""Faces of a knuckle: what lies between the street's lip and its own, and the roadside and batter beyond."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.knuckle.layout import (
    TIGHT,
    KnuckleLine,
    Ring,
    boundary_of,
    knuckle_name,
    knuckle_of,
    lip_of,
    ring,
    ring_rows,
    rings_of,
    shape_of,
    side_of,
)
from humble_loop.kinds.street.batter import batter
from humble_loop.kinds.street.section import side_rows
from humble_loop.lines.abreast import abreast
from humble_loop.lines.faces import Face, FaceId, Patch, Strip
from humble_loop.lines.line import ThingId, line

_APART = 1.5  # metres between lines that span a knuckle from its lip to the street's
_WIDE = 0.5  # metres between the lips from which on lines span it
_NONE = 1e-6  # metres


@dataclass(frozen=True)
class KnuckleFace(FaceId):
    """The carriageway between the street's lip and a ring, or the roadside or batter beyond that."""

    knuckle: str
    ring: Ring
    part: Literal["carriageway", "roadside", "batter"]
    kind: ClassVar[str] = "knuckle"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.knuckle)

    @property
    def gives_way(self) -> bool:
        return self.part == "batter"


def faces_of(q: Engine, id: str) -> tuple[FaceId, ...]:
    """The faces of a knuckle."""
    parts: tuple[Literal["carriageway", "roadside", "batter"], ...] = ("carriageway", "roadside", "batter")
    return tuple(KnuckleFace(id, which, part) for which in rings_of(q, id) for part in parts)


def face_of(q: Engine, id: KnuckleFace) -> Face:
    """A face of a knuckle."""
    name, (first, last) = knuckle_name(q, id.knuckle), shape_of(q, id.knuckle, id.ring)
    made, side = ring(q, id.knuckle, id.ring), side_of(q, id.knuckle, id.ring)
    # Verge and path lie on the centre's side of the returns of a bulge, and of all of an arc inside the bend.
    outwards = 1.0 if side == "left" else -1.0
    bent = made.chain.k0 * outwards
    reach, smallest = max(first.reach, last.reach), 1.0 / float(bent.max()) if bent.max() > 0 else np.inf
    if reach > TIGHT * smallest:
        raise Unsolved(
            name,
            f"verge and path ({reach:.2f} m) do not fit inside a radius of {smallest:g} m",
            f"make that radius at least {np.ceil(10.0 * reach / TIGHT) / 10.0:.1f} m",
        )
    if id.part == "carriageway":
        return _carriageway(q, id.knuckle, id.ring)
    s = ring_rows(q, id.knuckle, id.ring)
    joined = np.ones(len(s) - 1, dtype=bool)
    if id.part == "roadside":
        lines = tuple(KnuckleLine(id.knuckle, id.ring, n) for n in first.names)
        return Strip(f"{name} roadside", "roadside", lines, s, joined, first.roles)
    return batter(q, f"{name} batter", boundary_of(q, id.knuckle, id.ring), s, joined, ground_of(q))


def _carriageway(q: Engine, id: str, which: Ring) -> Patch:
    """Between the street's lip and the ring; lines across keep it straight from one to the other."""
    made, lip_id, own = ring(q, id, which), lip_of(q, id, which), KnuckleLine(id, which)
    lip, rows = line(q, lip_id), side_rows(q, knuckle_of(q, id).street, side_of(q, id, which))
    at = rows[(rows >= made.begin - 1e-6) & (rows <= made.finish + 1e-6)]
    along, s = lip.points(at), ring_rows(q, id, which)
    round_ = line(q, own).points(s)
    border = np.concatenate([along, round_[1:-1][::-1]])
    across = _across(along, round_, abreast(lip.plan, round_).at, at)
    inside = shapely.Polygon(border[:, :2]).buffer(_NONE)
    across = [piece for piece in across if shapely.covers(inside, shapely.LineString(piece[:, :2]))]
    name = knuckle_name(q, id)
    return Patch(f"{name} carriageway", "carriageway", border, tuple(across), (own, lip_id), frozen(along[:, :2]))


def _across(along: Floats, round_: Floats, feet: Floats, rows: Floats) -> list[Floats]:
    """Lines (each (2, 3)) from points round a ring (n, 3) to the street's lip (m, 3), whose rows (m,) stand where they do: each to the row that
    is nearest to its foot, none crossing another.
    """
    found: list[Floats] = []
    last, since = 0, -np.inf
    gone = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(round_[:, :2], axis=0).T))])
    for k in range(1, len(round_) - 1):
        row = int(np.argmin(np.abs(rows - feet[k])))
        if row > last and row < len(rows) - 1 and gone[k] - since > _APART:
            if np.hypot(*(round_[k] - along[row])[:2]) > _WIDE:
                found.append(np.stack([along[row], round_[k]]))
                since = gone[k]
            last = row
    return found
