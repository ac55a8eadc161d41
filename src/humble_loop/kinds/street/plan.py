"""Streets in plan: what queries read of them, their centrelines, and which streets are near which."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, gate, part, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.bends import BendInput, BendProblem, lay_bends
from humble_loop.geometry.chain import Chain
from humble_loop.ground.drape import Draped, drape
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street.model import Street, Vip, Wanted, bend_input
from humble_loop.lines.line import LineId, ThingId
from humble_loop.site import parts
from humble_loop.site.library import StreetClass, TypicalSection
from humble_loop.site.model import End, Side, Site, other_end


@dataclass(frozen=True)
class StreetLine(LineId):
    """A line along a street: the 'crown' (no side), or a section point of one side from the 'lip' outwards."""

    street: str
    point: str = "crown"
    side: Side | None = None
    kind: ClassVar[str] = "street"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.street)


def _street(site: Site, id: str) -> Street:
    found = site.find(Street, id)
    if found is None:
        raise Unsolved(id, "there is no such street")
    return found


@part("streets", keyed="id")
def name_of(site: Site, id: str) -> str:
    """A street's name."""
    return _street(site, id).name


@part("streets", "origin", keyed="id")
def bends_of(site: Site, id: str) -> tuple[BendInput, ...]:
    """A street's bends as plain numbers, measured from the origin, turns in radians."""
    e, n = site.origin or (0.0, 0.0)
    found = (bend_input(b) for b in _street(site, id).bends)
    return tuple(b._replace(easting=b.easting - e, northing=b.northing - n) for b in found)


@part("streets", keyed="id")
def vips_of(site: Site, id: str) -> tuple[Vip, ...]:
    """The VIPs that were set on a street."""
    return _street(site, id).vips


@part("streets", keyed="id")
def frame_of(site: Site, id: str) -> Street:
    """A street with its name, bends, VIPs and what is wanted of them left out of the comparison: kind, class, section, lips."""
    return _street(site, id).model_copy(update={"vips": (), "bends": (), "name": "", "wanted": Wanted()})


@part("streets", keyed="id")
def wanted_of(site: Site, id: str) -> Wanted:
    """What proposals for a street's grade line are to keep."""
    return _street(site, id).wanted


def class_of(q: Engine, id: str) -> StreetClass:
    """The class of a street."""
    return parts.one(q, StreetClass, frame_of(q, id).street_class)


def section_of(q: Engine, id: str) -> TypicalSection:
    """The typical section of a street."""
    return parts.one(q, TypicalSection, frame_of(q, id).section)


def is_new(q: Engine, street: str) -> bool:
    """Whether a street is designed here (existing ones are left as the ground shows them)."""
    return frame_of(q, street).kind == "new"


def street_ids(q: Engine) -> tuple[str, ...]:
    """Ids of all streets, in order."""
    return parts.ids(q, Street)


def drawn_end(q: Engine, street: str, end: End) -> End:
    """The end as it was when the street was drawn, which reversing does not change; and the other way round."""
    return other_end(end) if frame_of(q, street).turned else end


LONGEST = 20_000.0  # metres of one street: rows, lots and set-out of it follow from its length


@dataclass(frozen=True)
class Centreline:
    """A street's line in plan, the bends that did not fit as designed, and the bend of each element.

    A straight belongs to the bend that it leaves.
    """

    chain: Chain
    problems: tuple[BendProblem, ...]
    bend_of: tuple[int, ...]


@query
def centreline(q: Engine, street: str) -> Centreline:
    """The centreline of a street."""
    bends = bends_of(q, street)
    try:
        chain, problems, bend_of = lay_bends(bends)
    except ValueError as error:
        raise Unsolved(name_of(q, street), str(error), "move one of its ends") from None
    if chain.total > LONGEST:
        words = f"it is {chain.total / 1000:,.0f} km long; more than {LONGEST / 1000:.0f} km is not laid out"
        far = _farthest([(e, n) for e, n, *_ in bends])
        raise Unsolved(name_of(q, street), words, f"move bend {far + 1} back, or draw several streets")
    return Centreline(chain, tuple(problems), bend_of)


def _farthest(places: list[tuple[float, float]]) -> int:
    """Which of some places lies farthest from their middle, where most of them are."""
    away = np.array(places) - np.median(places, axis=0)
    return int(np.argmax(np.hypot(*away.T)))


def chain_of(q: Engine, street: str) -> Chain:
    """The chain of a street's centreline."""
    return centreline(q, street).chain


@query
def ground_along(q: Engine, street: str) -> Draped:
    """The long section of the ground along a street's centreline."""
    return drape(ground_of(q), chain_of(q, street))


def end_chainage(q: Engine, street: str, end: End) -> float:
    """The chainage of a street's end."""
    return 0.0 if end == "start" else chain_of(q, street).total


def end_point(q: Engine, street: str, end: End) -> Floats:
    """The place (2,) of a street's end."""
    return np.asarray(chain_of(q, street).points_at([end_chainage(q, street, end)])[0])


@gate
def box(q: Engine, street: str) -> tuple[float, float, float, float]:
    """A box round a centreline, as west, south, east and north.

    Rounded outwards to tens of metres: it only says who may be near, and so seldom changes while a bend is dragged.
    """
    chain = chain_of(q, street)
    p = chain.points_at(chain.sampled(sag=0.2))
    (w, s), (e, n) = np.floor(p.min(axis=0) / 10 - 0.1) * 10, np.ceil(p.max(axis=0) / 10 + 0.1) * 10
    return (float(w), float(s), float(e), float(n))


@dataclass(frozen=True)
class Boxes:
    """Ids of the streets that could be laid out, and their boxes (n, 4)."""

    ids: tuple[str, ...]
    boxes: Floats


@query
def boxes(q: Engine) -> Boxes:
    """The boxes of all streets."""
    found = {i: q.attempt(box, i) for i in street_ids(q)}
    solved = {i: b for i, b in found.items() if not isinstance(b, Unsolved)}
    return Boxes(tuple(solved), frozen(np.array(list(solved.values())).reshape(-1, 4)))


@gate
def near(q: Engine, street: str) -> tuple[str, ...]:
    """Other streets whose boxes meet this one's."""
    return tuple(i for i in streets_in(q, box(q, street)) if i != street)


def streets_in(q: Engine, around: tuple[float, float, float, float]) -> tuple[str, ...]:
    """Streets whose boxes meet a box, given as west, south, east and north."""
    every = boxes(q)
    w, s, e, n = around
    b = every.boxes
    hit = (b[:, 0] <= e) & (b[:, 2] >= w) & (b[:, 1] <= n) & (b[:, 3] >= s)
    return tuple(every.ids[i] for i in np.flatnonzero(hit))


@query
def tree(q: Engine) -> tuple[tuple[str, ...], shapely.STRtree]:
    """Streets by place: ids and a tree of their boxes."""
    every = boxes(q)
    return every.ids, shapely.STRtree(shapely.box(*every.boxes.T) if len(every.ids) else [])


def streets_near(q: Engine, place: tuple[float, float], reach: float) -> tuple[str, ...]:
    """Streets that may lie within ``reach`` metres of a place."""
    ids, found = tree(q)
    e, n = place
    hits = found.query(shapely.box(e - reach, n - reach, e + reach, n + reach))
    return tuple(ids[i] for i in sorted(hits.tolist()))
