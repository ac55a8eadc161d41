"""Splitter islands: between a leg's two ways, from the circle outwards, with the kerbs beside them at the leg's widths all along."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import Floats, frozen, left_normals
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.gradeline import Profile
from humble_loop.geometry.splitters import Beside, splitter_outlines
from humble_loop.kinds.roundabout.faces import RoundaboutFace
from humble_loop.kinds.roundabout.layout import kerb_after, lip_edge
from humble_loop.kinds.roundabout.levels import FACE, KERB
from humble_loop.kinds.roundabout.place import (
    Leg,
    leg_name,
    leg_of,
    leg_sizes,
    legs_of,
    middle_of,
    roundabout_name,
    sizes_of,
)
from humble_loop.kinds.street.faces import StreetFace
from humble_loop.lines.faces import Face, FaceId, Patch, Strip, levels_on
from humble_loop.lines.line import LineId, LinePlan, ThingId, line, line_plan
from humble_loop.lines.rules import Above, Known, LevelRule
from humble_loop.lines.varying import Varying
from humble_loop.site.model import SIDES, Side, side_sign

SETBACK = 0.5  # metres from the circle to a splitter: what a wheel that goes round cuts
_ROUNDING = 0.4  # metres of its corners, where it is wide enough
_CHORD, _SAG = 0.4, 0.003  # metres between rows, and between a chord and the lip
POINTS = ("lip", "kerb top", "kerb back")


@dataclass(frozen=True)
class SplitterLine(LineId):
    """A line round a piece of a leg's splitter island, the nearest to the circle being 0: its lip, or a point of its kerb."""

    roundabout: str
    leg: str
    piece: int = 0
    point: str = "lip"
    kind: ClassVar[str] = "roundabout"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.roundabout)


@dataclass(frozen=True)
class SplitterFace(FaceId):
    """The kerb (``top`` false) or the top of a piece of a splitter island."""

    roundabout: str
    leg: str
    piece: int
    top: bool
    kind: ClassVar[str] = "roundabout"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.roundabout)

    @property
    def takes_over(self) -> bool:
        return True


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
    legs = legs_of(q, id)
    k = next(i for i, g in enumerate(legs) if g.key == key)
    sides = [_beside(q, id, leg, seen, key if seen == "left" else legs[k - 1].key) for seen in SIDES]
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


def _beside(q: Engine, id: str, leg: Leg, seen: Side, key: str) -> Beside:
    """A side of a leg's island: an arc about the same centre as the kerb beside it, as far from that as the leg is wide there."""
    made, sizes = kerb_after(q, id, key), leg_sizes(q, id, leg)
    first = 0 if seen == "left" else -1
    k, at = float(made.chain.k0[first]), made.leg_at[0 if seen == "left" else 1]
    centre = made.chain.xy[first] + left_normals(made.chain.heading[first]) / k
    out = 0.5 * sizes.splitter_width + side_sign(seen) * sizes.splitter_offset
    wide = abs(lip_edge(q, leg, seen).offset(at)) - out
    return Beside(centre, 1.0 / abs(k) + wide, at, out)


@query
def splitter_rows(q: Engine, id: str, key: str, piece: int) -> Floats:
    """Places round a piece at which it is worked out; the last is the first again."""
    return frozen(splitters(q, id, key)[piece].sampled(sag=_SAG, interval=_CHORD))


@query
def splitter_polygon(q: Engine, id: str, key: str) -> shapely.Geometry:
    """What a leg's splitter island takes of its carriageway, in plan."""
    pieces = range(len(splitters(q, id, key)))
    return shapely.union_all(
        [shapely.Polygon(splitters(q, id, key)[n].points_at(splitter_rows(q, id, key, n)[:-1])) for n in pieces]
    )


def _beneath(leg: Leg, id: str) -> tuple[FaceId, ...]:
    streets = (StreetFace(leg.street, "carriageway", side) for side in SIDES)
    return (RoundaboutFace(id, "mouth", leg.key), *streets)


@query
def _lip_levels(q: Engine, id: str, key: str, piece: int) -> Floats:
    at = splitters(q, id, key)[piece].points_at(splitter_rows(q, id, key, piece))
    found = np.array(levels_on(q, _beneath(leg_of(q, id, key), id), at))
    found[-1] = found[0]
    return frozen(found)


def splitter_plan(q: Engine, id: SplitterLine) -> LinePlan:
    """A line round a piece in plan: inwards from its lip."""
    made = splitters(q, id.roundabout, id.leg)
    if id.piece >= len(made):
        raise Unsolved(splitter_name(q, id.roundabout, id.leg), "it has no such piece", "choose another line")
    inwards = {"lip": 0.0, "kerb top": FACE, "kerb back": KERB}[id.point]
    title = f"{splitter_name(q, id.roundabout, id.leg)}{f', piece {id.piece + 1}' if len(made) > 1 else ''} {id.point}"
    return LinePlan(title, id.point, made[id.piece], Varying.steady(inwards), 0.0, made[id.piece].total)


def splitter_rule(q: Engine, id: SplitterLine) -> LevelRule:
    """The lip lies on the carriageway; the kerb stands on it."""
    title = line_plan(q, id).title
    if id.point == "lip":
        levels = _lip_levels(q, id.roundabout, id.leg, id.piece)
        if not np.isfinite(levels).all():
            name = splitter_name(q, id.roundabout, id.leg)
            raise Unsolved(name, "it reaches past the carriageway", "make it narrower or shorter, or offset it less")
        at = splitter_rows(q, id.roundabout, id.leg, id.piece)
        return Known(title, "on the carriageway", "worked out", Profile.of(at, levels))
    lip, up = SplitterLine(id.roundabout, id.leg, id.piece), sizes_of(q, id.roundabout).kerb_up
    rises = ((f"its kerb, {1000 * up:.0f} mm", Varying.steady(up)),)
    return Above(title, "above its lip by its kerb", lip, "lip", line(q, lip).rule, rises)


def splitter_face(q: Engine, id: SplitterFace) -> Face:
    """The kerb of a piece as a strip round, or the top within it."""
    name, s = splitter_name(q, id.roundabout, id.leg), splitter_rows(q, id.roundabout, id.leg, id.piece)
    if not id.top:
        lines = tuple(SplitterLine(id.roundabout, id.leg, id.piece, n) for n in POINTS)
        return Strip(f"{name} kerb", "kerb", lines, s, np.ones(len(s) - 1, dtype=bool), ("kerb", "kerb"))
    inner = SplitterLine(id.roundabout, id.leg, id.piece, POINTS[-1])
    return Patch(f"{name} top", "path", line(q, inner).points(s[:-1]), (), (inner,))


def pieces_of(q: Engine, id: str, key: str) -> range:
    """The pieces of a leg's splitter island that can be laid out."""
    made = q.attempt(splitters, id, key)
    return range(0 if isinstance(made, Unsolved) else len(made))


def splitter_lines(q: Engine, id: str) -> tuple[LineId, ...]:
    """The lines of a roundabout's splitter islands."""
    legs = q.attempt(legs_of, id)
    keys = [] if isinstance(legs, Unsolved) else [g.key for g in legs]
    return tuple(SplitterLine(id, key, n, p) for key in keys for n in pieces_of(q, id, key) for p in POINTS)


def splitter_faces(q: Engine, id: str) -> tuple[FaceId, ...]:
    """The faces of a roundabout's splitter islands."""
    legs = q.attempt(legs_of, id)
    keys = [] if isinstance(legs, Unsolved) else [g.key for g in legs]
    return tuple(SplitterFace(id, key, n, top) for key in keys for n in pieces_of(q, id, key) for top in (False, True))
