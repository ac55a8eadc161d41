"""Islands of the legs of a roundabout: splitters, and those beside bypass lanes. Their lips lie on the carriageway, their kerbs stand on it."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal, get_args

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.roundabout.bypass import bypass_islands, taker_of
from humble_loop.kinds.roundabout.faces import RoundaboutFace
from humble_loop.kinds.roundabout.levels import FACE, KERB
from humble_loop.kinds.roundabout.place import leg_name, leg_of, legs_of, roundabout_name, sizes_of
from humble_loop.kinds.roundabout.splitters import splitters
from humble_loop.kinds.street.faces import StreetFace
from humble_loop.lines.faces import Face, FaceId, Patch, Strip, levels_on
from humble_loop.lines.line import LineId, LinePlan, ThingId, line, line_plan
from humble_loop.lines.rules import Above, Known, LevelRule
from humble_loop.lines.varying import Varying
from humble_loop.site.model import SIDES

_CHORD, _SAG = 0.4, 0.003  # metres between rows, and between a chord and the lip
POINTS = ("lip", "kerb top", "kerb back")
Part = Literal["splitter", "bypass"]
PARTS: tuple[Part, ...] = get_args(Part)
_WORDS: dict[Part, str] = {"splitter": "splitter", "bypass": "bypass island"}


@dataclass(frozen=True)
class LegIslandLine(LineId):
    """A line round a piece of a leg's island, the first being 0: its lip, or a point of its kerb."""

    roundabout: str
    leg: str
    part: Part = "splitter"
    piece: int = 0
    point: str = "lip"
    kind: ClassVar[str] = "roundabout"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.roundabout)


@dataclass(frozen=True)
class LegIslandFace(FaceId):
    """The kerb (``top`` false) or the top of a piece of a leg's island."""

    roundabout: str
    leg: str
    part: Part
    piece: int
    top: bool
    kind: ClassVar[str] = "roundabout"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.roundabout)

    @property
    def takes_over(self) -> bool:
        return True


def island_name(q: Engine, id: str, key: str, part: Part) -> str:
    """'Saggar Street roundabout, splitter of Firebrick Street north'."""
    return f"{roundabout_name(q, id)}, {_WORDS[part]} of {leg_name(q, id, leg_of(q, id, key))}"


@query
def outlines(q: Engine, id: str, key: str, part: Part) -> tuple[Chain, ...]:
    """The outlines of a leg's island, anticlockwise; none where it has none. Raises Unsolved where it does not fit."""
    return splitters(q, id, key) if part == "splitter" else bypass_islands(q, id, key)


def _piece(q: Engine, id: str, key: str, part: Part, piece: int) -> Chain:
    """The outline of a piece. Raises Unsolved where there is none: who asks may have known it from before a change."""
    made = outlines(q, id, key, part)
    if piece >= len(made):
        raise Unsolved(island_name(q, id, key, part), "it has no such piece", "choose another line")
    return made[piece]


@query
def island_rows(q: Engine, id: str, key: str, part: Part, piece: int) -> Floats:
    """Places round a piece at which it is worked out; the last is the first again."""
    return frozen(_piece(q, id, key, part, piece).sampled(sag=_SAG, interval=_CHORD))


@query
def island_polygon(q: Engine, id: str, key: str, part: Part) -> shapely.Geometry:
    """What a leg's island takes of the carriageway, in plan; nothing where it has none, or that does not fit."""
    return shapely.union_all(
        [
            shapely.Polygon(_piece(q, id, key, part, n).points_at(island_rows(q, id, key, part, n)[:-1]))
            for n in pieces_of(q, id, key, part)
        ]
    )


def _beneath(q: Engine, id: str, key: str, part: Part) -> tuple[FaceId, ...]:
    """The faces of carriageway on which an island may stand."""
    leg = leg_of(q, id, key)
    legs = (leg,) if part == "splitter" else (leg, taker_of(q, id, leg))
    streets = [StreetFace(g.street, "carriageway", side) for g in legs for side in SIDES]
    return (*(RoundaboutFace(id, "mouth", g.key) for g in legs), *streets)


@query
def _lip_levels(q: Engine, id: str, key: str, part: Part, piece: int) -> Floats:
    at = _piece(q, id, key, part, piece).points_at(island_rows(q, id, key, part, piece))
    found = np.array(levels_on(q, _beneath(q, id, key, part), at))
    found[-1] = found[0]
    return frozen(found)


def island_plan(q: Engine, id: LegIslandLine) -> LinePlan:
    """A line round a piece in plan: inwards from its lip."""
    made = _piece(q, id.roundabout, id.leg, id.part, id.piece)
    name, several = island_name(q, id.roundabout, id.leg, id.part), len(outlines(q, id.roundabout, id.leg, id.part)) > 1
    inwards = {"lip": 0.0, "kerb top": FACE, "kerb back": KERB}[id.point]
    title = f"{name}{f', piece {id.piece + 1}' if several else ''} {id.point}"
    return LinePlan(title, id.point, made, Varying.steady(inwards), 0.0, made.total)


def island_rule(q: Engine, id: LegIslandLine) -> LevelRule:
    """The lip lies on the carriageway; the kerb stands on it."""
    title = line_plan(q, id).title
    if id.point == "lip":
        levels = _lip_levels(q, id.roundabout, id.leg, id.part, id.piece)
        if not np.isfinite(levels).all():
            name = island_name(q, id.roundabout, id.leg, id.part)
            raise Unsolved(name, "it reaches past the carriageway", _REMEDY[id.part])
        at = island_rows(q, id.roundabout, id.leg, id.part, id.piece)
        return Known(title, "on the carriageway", "worked out", Profile.of(at, levels))
    lip, up = LegIslandLine(id.roundabout, id.leg, id.part, id.piece), sizes_of(q, id.roundabout).kerb_up
    rises = ((f"its kerb, {1000 * up:.0f} mm", Varying.steady(up)),)
    return Above(title, "above its lip by its kerb", lip, "lip", line(q, lip).rule, rises)


_REMEDY: dict[Part, str] = {
    "splitter": "make it narrower or shorter, or offset it less",
    "bypass": "enlarge the radius of the bypass lane, or lengthen the legs",
}


def island_face(q: Engine, id: LegIslandFace) -> Face:
    """The kerb of a piece as a strip round, or the top within it."""
    name = island_name(q, id.roundabout, id.leg, id.part)
    s = island_rows(q, id.roundabout, id.leg, id.part, id.piece)
    if not id.top:
        lines = tuple(LegIslandLine(id.roundabout, id.leg, id.part, id.piece, n) for n in POINTS)
        return Strip(f"{name} kerb", "kerb", lines, s, np.ones(len(s) - 1, dtype=bool), ("kerb", "kerb"))
    inner = LegIslandLine(id.roundabout, id.leg, id.part, id.piece, POINTS[-1])
    return Patch(f"{name} top", "path", line(q, inner).points(s[:-1]), (), (inner,))


def pieces_of(q: Engine, id: str, key: str, part: Part) -> range:
    """The pieces of a leg's island that can be laid out."""
    made = q.attempt(outlines, id, key, part)
    return range(0 if isinstance(made, Unsolved) else len(made))


def _pieces(q: Engine, id: str) -> list[tuple[str, Part, int]]:
    """All pieces of all islands of a roundabout's legs."""
    legs = q.attempt(legs_of, id)
    keys = [] if isinstance(legs, Unsolved) else [g.key for g in legs]
    return [(key, part, n) for key in keys for part in PARTS for n in pieces_of(q, id, key, part)]


def island_lines(q: Engine, id: str) -> tuple[LegIslandLine, ...]:
    """The lines of the islands of a roundabout's legs."""
    return tuple(LegIslandLine(id, *piece, p) for piece in _pieces(q, id) for p in POINTS)


def island_lips(q: Engine, id: str) -> tuple[LegIslandLine, ...]:
    """Their lips."""
    return tuple(LegIslandLine(id, *piece) for piece in _pieces(q, id))


def island_faces(q: Engine, id: str) -> tuple[FaceId, ...]:
    """The faces of the islands of a roundabout's legs."""
    return tuple(LegIslandFace(id, *piece, top) for piece in _pieces(q, id) for top in (False, True))
