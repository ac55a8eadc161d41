"""Faces of a street: carriageway, roadside and batter of each side, and what closes its open ends."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, left_normals, tangents
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street.batter import Rise, batter, no_batter, sheet
from humble_loop.kinds.street.earthworks import ground_under, onto
from humble_loop.kinds.street.levels import end_ties
from humble_loop.kinds.street.lowered import lowered_stations
from humble_loop.kinds.street.order import built_before
from humble_loop.kinds.street.plan import StreetLine, centreline, chain_of, is_new, name_of
from humble_loop.kinds.street.section import outside, own_range, rows_with_kerb, side_rows, side_shape
from humble_loop.kinds.street.side import course
from humble_loop.lines.faces import Face, FaceId, Sheet, Strip, with_inner
from humble_loop.lines.line import LineId, ThingId, line
from humble_loop.lines.standing import kinds
from humble_loop.site.model import ENDS, SIDES, End, Side

FAN = 7  # directions in which the end of a batter turns round a corner of an open end


@dataclass(frozen=True)
class StreetFace(FaceId):
    """A face of a street: carriageway, roadside or batter of a side, or the batter that closes an open end."""

    street: str
    part: Literal["carriageway", "roadside", "batter", "end batter"]
    side: Side | None = None
    end: End | None = None
    kind: ClassVar[str] = "street"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.street)

    @property
    def gives_way(self) -> bool:
        return self.part in ("batter", "end batter")


def faces_of(q: Engine, street: str) -> tuple[FaceId, ...]:
    """The faces of a new street."""
    if not is_new(q, street) or isinstance(q.attempt(centreline, street), Unsolved):
        return ()
    found: list[FaceId] = []
    for side in SIDES:
        found += [StreetFace(street, part, side) for part in ("carriageway", "roadside", "batter")]
    found += [StreetFace(street, "end batter", end=end) for end in open_ends(q, street)]
    return tuple(found)


@query
def open_ends(q: Engine, street: str) -> tuple[End, ...]:
    """Ends of a street that nothing else takes up."""
    held = {end for end, _ in end_ties(q, street)}
    held |= {goes.end for kind in kinds() for goes in kind.goes_on(q, street)}
    for side in SIDES:
        low, high = own_range(q, street, side)
        if low > 1e-6:
            held.add("start")
        if high < chain_of(q, street).total - 1e-6:
            held.add("end")
    return tuple(e for e in ENDS if e not in held)


def face_of(q: Engine, id: StreetFace) -> Face:
    """A face of a street."""
    name = name_of(q, id.street)
    if id.part == "end batter":
        assert id.end is not None
        return _end_batter(q, id.street, id.end)
    assert id.side is not None
    if id.part == "carriageway":
        s = side_rows(q, id.street, id.side)
        holes = tuple(hole for kind in kinds() for hole in kind.carriageway_breaks(q, id.street, id.side))
        for kind in kinds():
            low, high = kind.carriageway_range(q, id.street, id.side)
            s = s[(s >= low - 1e-6) & (s <= high + 1e-6)]
        s, joined = outside(s, holes)
        made = course(q, id.street, id.side)
        inner = (StreetLine(id.street, n, id.side) for n in made.names[1 : made.lip + 1])
        roles = made.roles[1 : made.lip + 1]
        return Strip(f"{name} carriageway, {id.side}", "carriageway", (StreetLine(id.street), *inner), s, joined, roles)
    if id.part == "roadside":
        made = course(q, id.street, id.side)
        s, joined = rows_with_kerb(q, id.street, id.side)
        s, joined, among = with_inner(s, joined, lowered_stations(q, StreetLine(id.street, "lip", id.side)))
        across = tuple(StreetLine(id.street, n, id.side) for n in made.names[made.lip :])
        return Strip(f"{name} {id.side} roadside", "roadside", across, s, joined, made.roles[made.lip + 1 :], among)
    return _side_batter(q, id.street, id.side)


def _side_batter(q: Engine, street: str, side: Side) -> Sheet:
    s, joined = rows_with_kerb(q, street, side)
    boundary = StreetLine(street, course(q, street, side).names[-1], side)
    title, ground = f"{name_of(q, street)} {side} batter", ground_of(q)
    made = batter(q, title, boundary, s, joined, ground)
    if not built_before(q, street):
        return made
    return onto(made, batter(q, title, boundary, s, joined, ground_under(q, street)), ground_under(q, street))


def _inside(q: Engine, street: str, side: Side) -> tuple[str, ...]:
    """The points of a side between crown and lip."""
    made = course(q, street, side)
    return made.names[1 : made.lip]


def _end_batter(q: Engine, street: str, end: End) -> Sheet:
    """From the left boundary's corner, fanned round, along the end, and round the right boundary's corner."""
    ground = ground_of(q)
    if ground.empty:
        return no_batter(f"{name_of(q, street)} {end} batter")
    chain = chain_of(q, street)
    s = 0.0 if end == "start" else chain.total
    heading = float(chain.at([s]).headings[0])
    ahead = tangents(heading) * (1.0 if end == "end" else -1.0)
    across: list[Floats] = []
    lines: list[LineId] = []
    shapes = []
    for side in SIDES:
        shape = side_shape(q, street, side, s)
        shapes.append(shape)
        ids = [StreetLine(street, n, side) for n in (*_inside(q, street, side), *shape.names)]
        lines += ids
        across.append(np.concatenate([line(q, i).points([s]) for i in ids]))
    crown = line(q, StreetLine(street)).points([s])
    hinges = np.concatenate([across[0][::-1], crown, across[1]])
    if not np.all(np.isfinite(hinges)):
        raise Unsolved(f"{name_of(q, street)} {end}", "its grade line does not reach its end", "add a VIP there")
    left = left_normals(heading)
    turn = np.linspace(0.0, np.pi / 2, FAN)[:-1]
    fan_left = np.cos(turn)[:, None] * left + np.sin(turn)[:, None] * ahead
    fan_right = (np.cos(turn)[:, None] * -left + np.sin(turn)[:, None] * ahead)[::-1]
    n = len(hinges)
    points = np.concatenate(
        [np.repeat(hinges[:1], len(turn), axis=0), hinges, np.repeat(hinges[-1:], len(turn), axis=0)]
    )
    outwards = np.concatenate([fan_left, np.tile(ahead, (n, 1)), fan_right])
    slopes = np.tile([min(p.cut_slope for p in shapes), min(p.fill_slope for p in shapes)], (len(points), 1))
    rise = Rise.steady(slopes)
    joined = np.ones(len(points) - 1, dtype=bool)
    title = f"{name_of(q, street)} {end} batter"
    made = sheet(q, title, tuple(lines), points, outwards, rise, joined, ground)
    if not built_before(q, street):
        return made
    later = ground_under(q, street)
    return onto(made, sheet(q, title, tuple(lines), points, outwards, rise, joined, later), later)
