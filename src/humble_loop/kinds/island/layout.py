"""Islands in plan and level: the lip runs round on the carriageway as it lies, its kerb stands on that, and its top spans what is within."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import Floats, frozen, left_normals
from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.gradeline import Profile
from humble_loop.geometry.rounded import rounded_polygon
from humble_loop.kinds.island.model import Island, IslandCorner
from humble_loop.kinds.junction.faces import JunctionFace
from humble_loop.kinds.junction.nodes import arms_of, joints_on, require_joint
from humble_loop.kinds.knuckle import KnuckleFace
from humble_loop.kinds.knuckle.layout import knuckles_on, rings_of
from humble_loop.kinds.roundabout import RoundaboutFace, legs_on
from humble_loop.kinds.street.faces import StreetFace
from humble_loop.kinds.street.plan import chain_of, frame_of, is_new, name_of, section_of
from humble_loop.kinds.turning_head import HeadFace
from humble_loop.kinds.turning_head.layout import outline as head_outline
from humble_loop.kinds.turning_head.place import heads_of
from humble_loop.lines.faces import Face, FaceId, Patch, Strip, levels_on
from humble_loop.lines.line import LineId, LinePlan, ThingId, line, line_plan
from humble_loop.lines.rules import Above, Known, LevelRule
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.library import KerbPart, KerbShape
from humble_loop.site.model import SIDES

_CHORD = 0.4  # metres between rows round an island, or a little less
_SAG = 0.003  # metres between a chord and the lip
_SAME = 1e-9  # metres within which both ends are one place
ROOM = 0.95  # of the smaller end's radius that a kerb may take


@dataclass(frozen=True)
class IslandLine(LineId):
    """A line round an island: its lip, or a point of its kerb."""

    island: str
    point: str = "lip"
    kind: ClassVar[str] = "island"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.island)


@dataclass(frozen=True)
class IslandFace(FaceId):
    """The kerb round an island, or its top."""

    island: str
    part: Literal["kerb", "top"]
    kind: ClassVar[str] = "island"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.island)

    @property
    def takes_over(self) -> bool:
        return True


def island_of(q: Engine, id: str) -> Island:
    """An island as the site keeps it."""
    return parts.one(q, Island, id)


def islands_on(q: Engine, street: str) -> tuple[Island, ...]:
    """The islands of a street."""
    return parts.owned(q, Island, street) if is_new(q, street) else ()


def island_name(q: Engine, id: str) -> str:
    """The name that was given, else its street's with where it begins."""
    made = island_of(q, id)
    return made.name or f"{name_of(q, made.street)} island at {placed(q, made)[0]:.0f}"


def placed(q: Engine, made: Island) -> tuple[float, float, float, float, float]:
    """Chainages of an island's ends, its widths there, and how far left it lies, all of the street as it runs now."""
    if not frame_of(q, made.street).turned:
        return made.begin, made.finish, made.wide_begin, made.wide_finish, made.beside
    total = chain_of(q, made.street).total
    return total - made.finish, total - made.begin, made.wide_finish, made.wide_begin, -made.beside


def corners_placed(q: Engine, made: Island) -> tuple[IslandCorner, ...]:
    """Its corners in terms of the street as it runs now."""
    if not frame_of(q, made.street).turned:
        return made.corners
    total = chain_of(q, made.street).total
    return tuple(c.model_copy(update={"at": total - c.at, "beside": -c.beside}) for c in made.corners)


def reaches(q: Engine, street: str) -> tuple[float, float]:
    """Chainages between which islands of a street may stand: as far as it goes, and as far as the heads at its ends do."""
    low, high = 0.0, chain_of(q, street).total
    for end, _ in heads_of(q, street):
        made = q.attempt(head_outline, street, end)
        if not isinstance(made, Unsolved):
            beyond = float(np.hypot(*(made.ring.points_at([made.turn])[0] - made.centre)))
            low, high = (low - beyond, high) if end == "start" else (low, high + beyond)
    return low, high


@query
def kerb_of(q: Engine, made: Island) -> KerbShape:
    """An island's kerb: as chosen, else the first of its street's section."""
    if made.kerb:
        return parts.kerb_shape(q, made.kerb)
    section = section_of(q, made.street)
    for side in SIDES:
        for p in section.side(side).parts:
            if isinstance(p, KerbPart):
                return parts.kerb_shape(q, p.kerb)
    raise Unsolved(island_name(q, made.id), "its street's section has no kerb to take for it", "choose its kerb")


@query
def outline(q: Engine, id: str) -> Chain:
    """The lip of an island in plan, anticlockwise: arcs round both ends, and straights that touch both."""
    made = island_of(q, id)
    begin, finish, wide_begin, wide_finish, beside = placed(q, made)
    chain, name = chain_of(q, made.street), island_name(q, id)
    corners = corners_placed(q, made)
    at = [c.at for c in corners] or [begin, finish]
    low, high = reaches(q, made.street)
    if min(at) < low - _SAME or max(at) > high + _SAME:
        raise Unsolved(name, "its street does not reach so far", "move it back onto its street")
    if corners:
        try:
            places = chain.points_at(at, [c.beside for c in corners])
            return rounded_polygon(places, [c.radius for c in corners])
        except DoesNotFit as error:
            raise Unsolved(name, str(error), "move its corners, or lessen their radii") from None
    a, b = chain.points_at([begin, finish], [beside, beside])
    r, t = 0.5 * wide_begin, 0.5 * wide_finish
    far = float(np.hypot(*(b - a)))
    if far < _SAME:
        r = max(r, t)
        return Chain.from_elements(a + [0.0, -r], 0.0, [Element(2 * np.pi * r, 1.0 / r, 1.0 / r)])
    if far <= abs(r - t):
        raise Unsolved(name, "its ends lie one inside the other", "move them apart, or make it a circle")
    along = float(np.arctan2(*(b - a)[::-1]))
    lean = float(np.arcsin((r - t) / far))  # by which the sides come together towards the narrower end
    heading, side = along + lean, float(np.sqrt(far**2 - (r - t) ** 2))
    start = a - r * left_normals(heading)
    return Chain.from_elements(
        start,
        heading,
        [
            Element(side, 0.0, 0.0),
            Element(t * (np.pi - 2 * lean), 1.0 / t, 1.0 / t),
            Element(side, 0.0, 0.0),
            Element(r * (np.pi + 2 * lean), 1.0 / r, 1.0 / r),
        ],
    )


@query
def rows(q: Engine, id: str) -> Floats:
    """Places round an island at which it is worked out; the last is the first again."""
    chain = outline(q, id)
    return frozen(chain.sampled(sag=_SAG, interval=_CHORD))


@query
def plan_polygon(q: Engine, id: str) -> shapely.Geometry:
    """What an island takes of the carriageway, in plan."""
    return shapely.Polygon(outline(q, id).points_at(rows(q, id)[:-1]))


def beneath(q: Engine, street: str) -> tuple[FaceId, ...]:
    """The faces of carriageway on which islands of a street may stand."""
    found: list[FaceId] = [StreetFace(street, "carriageway", side) for side in SIDES]
    for arm in arms_of(q, street):
        found += [JunctionFace(street, arm, "patch")]
        found += [StreetFace(require_joint(q, street, arm).through, "carriageway", side) for side in SIDES]
    found += [JunctionFace(side, arm, "patch") for side, arm in joints_on(q, street)]
    found += [KnuckleFace(k.id, which, "carriageway") for k in knuckles_on(q, street) for which in rings_of(q, k.id)]
    found += [HeadFace(street, end, "bulb") for end, _ in heads_of(q, street)]
    found += [RoundaboutFace(id, "mouth", leg.key) for id, leg in legs_on(q, street)]
    return tuple(found)


@query
def lip_levels(q: Engine, id: str) -> Floats:
    """Levels (n,) of the carriageway under an island's rows; NaN where it reaches past that."""
    found = levels_on(q, beneath(q, island_of(q, id).street), outline(q, id).points_at(rows(q, id)))
    found[-1] = found[0]
    return frozen(found)


# Lines


def names_of(q: Engine, id: str) -> tuple[str, ...]:
    """The points of an island from its lip inwards."""
    return ("lip", *(p.point for p in kerb_of(q, island_of(q, id)).points))


def plan_of(q: Engine, id: IslandLine) -> LinePlan:
    """A line round an island in plan: inwards from its lip."""
    chain, made = outline(q, id.island), kerb_of(q, island_of(q, id.island))
    out = {"lip": 0.0, **{p.point: p.out / 1000.0 for p in made.points}}
    if id.point not in out:
        raise Unsolved(island_name(q, id.island), f"its kerb has no point '{id.point}'", "choose another line")
    title = f"{island_name(q, id.island)} {id.point}"
    return LinePlan(title, id.point, chain, Varying.steady(out[id.point]), 0.0, chain.total)


def rule_of(q: Engine, id: IslandLine) -> LevelRule:
    """The lip lies on the carriageway; the kerb stands on it by its shape."""
    title, name = line_plan(q, id).title, island_name(q, id.island)
    if id.point == "lip":
        levels = lip_levels(q, id.island)
        if not np.isfinite(levels).all():
            raise Unsolved(name, "it reaches past the carriageway", "make it narrower, or move it inwards")
        return Known(title, "on the carriageway", "worked out", Profile.of(rows(q, id.island), levels))
    lip = IslandLine(id.island)
    up = next(p.up for p in kerb_of(q, island_of(q, id.island)).points if p.point == id.point) / 1000.0
    rises = ((f"its kerb, {1000 * up:.0f} mm", Varying.steady(up)),)
    return Above(title, "above its lip by the kerb's shape", lip, "lip", line(q, lip).rule, rises)


# Faces


def face_of(q: Engine, id: IslandFace) -> Face:
    """The kerb as a strip round, or the top within it."""
    made, name, names = island_of(q, id.island), island_name(q, id.island), names_of(q, id.island)
    wide = kerb_of(q, made).points[-1].out / 1000.0
    least = 1.0 / float(np.max(outline(q, id.island).k0))  # the tightest arc that turns round what is within
    if wide > ROOM * least:
        raise Unsolved(
            name,
            f"its kerb ({wide:.2f} m) does not fit into an end {2 * least:g} m wide",
            f"make its ends at least {np.ceil(200.0 * wide / ROOM) / 100.0:.2f} m wide, or choose a narrower kerb",
        )
    s = rows(q, id.island)
    if id.part == "kerb":
        lines = tuple(IslandLine(id.island, n) for n in names)
        joined = np.ones(len(s) - 1, dtype=bool)
        return Strip(f"{name} kerb", "kerb", lines, s, joined, ("kerb",) * (len(names) - 1))
    inner = IslandLine(id.island, names[-1])
    return Patch(f"{name} top", "path" if made.paved else "verge", line(q, inner).points(s[:-1]), (), (inner,))
