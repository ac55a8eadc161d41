"""Lots in plan: cut along frontages, with room for a pad inside their setbacks."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen, left_normals
from humble_loop.geometry.chain import Chain
from humble_loop.kinds.lot.model import LotRow, PadChoice, lot_id
from humble_loop.kinds.street.plan import StreetLine, chain_of, end_chainage, frame_of, name_of
from humble_loop.kinds.street.section import gaps, own_range, side_shape
from humble_loop.kinds.street.side import boundary_width, course, lip_width
from humble_loop.kinds.turning_head.layout import HeadLine, abeam, head_shape, outline
from humble_loop.kinds.turning_head.place import head_at, heads_of, own_side
from humble_loop.kinds.turning_head.sizes import head_sizes
from humble_loop.lines.line import LineId, line_plan
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.model import End, Side, other_side, side_sign

_MOST_LOTS = 500  # in one row: beyond that a frontage is a slip of the hand
_LETTER = {"left": "L", "right": "R", "head": "H"}


@dataclass(frozen=True)
class LotCorner:
    """A front corner of a lot: on which boundary line, how far along it, and its front and rear points (2,)."""

    line: LineId
    along: float
    front: Floats
    rear: Floats


@dataclass(frozen=True)
class Stretch:
    """A stretch of a boundary line, from ``begin`` to ``finish`` along it in the direction of the row."""

    line: LineId
    begin: float
    finish: float


@dataclass(frozen=True)
class LotFrame:
    """A lot in plan: its id and name, its row, its corners and frontage in the direction of the row.

    ``along`` is where the middle of its frontage lies, in metres along the row's frontage from its beginning.
    """

    id: str
    number: int
    name: str
    row: LotRow
    first: LotCorner
    last: LotCorner
    frontage: tuple[Stretch, ...]
    along: float
    width: float


def rows_of(q: Engine, street: str) -> tuple[LotRow, ...]:
    """The rows of lots along one street."""
    return parts.owned(q, LotRow, street)


@dataclass(frozen=True)
class _Run:
    """The street along which a row runs, in the direction in which it was drawn."""

    street: str
    side: Side
    chain: Chain
    turned: bool

    def now(self, r: float) -> float:
        """The street's chainage as it runs now, of a chainage as drawn; and the other way round."""
        return self.chain.total - r if self.turned else r


def far_end(q: Engine, street: str) -> End:
    """The end towards which a street was drawn, as it runs now."""
    return "start" if frame_of(q, street).turned else "end"


def _has_bulb(q: Engine, street: str, end: End) -> bool:
    taken = any(e == end and h.kind == "bulb" for e, h in heads_of(q, street))
    return taken and not isinstance(q.attempt(outline, street, end), Unsolved)


@query
def lots_of_row(q: Engine, row_id: str) -> tuple[LotFrame, ...]:
    """The lots of one row, in plan only."""
    row = parts.one(q, LotRow, row_id)
    length = chain_of(q, row.street).total
    if length / row.frontage > _MOST_LOTS:
        raise Unsolved(
            f"Lots {row.name}",
            f"a frontage of {row.frontage:g} m would cut more than {_MOST_LOTS} lots",
            f"widen the frontage to at least {length / _MOST_LOTS:.1f} m",
        )
    runs = _round_head(q, row) if row.place == "head" else _along_side(q, row)
    found: list[LotFrame] = []
    street, along = name_of(q, row.street), 0.0
    for corners in runs:
        for a, b in zip(corners[:-1], corners[1:]):
            number = row.first_number + len(found)
            frontage = _frontage(q, row, a, b)
            width = float(np.hypot(*(b.front - a.front)))
            name = f"{street} {_LETTER[row.place]}{number}"
            found.append(
                LotFrame(lot_id(row.id, number), number, name, row, a, b, frontage, along + 0.5 * width, width)
            )
            along += width
    return tuple(found)


@query
def lots_on(q: Engine, street: str) -> tuple[LotFrame, ...]:
    """All lots along a street."""
    found: list[LotFrame] = []
    for row in rows_of(q, street):
        made = q.attempt(lots_of_row, row.id)
        if not isinstance(made, Unsolved):
            found.extend(made)
    return tuple(found)


@query
def lot(q: Engine, id: str) -> LotFrame:
    """A lot by its id. Raises Unsolved when it is there no more."""
    row = id.rpartition("#")[0]
    found = next((f for f in lots_of_row(q, row) if f.id == id), None)
    if found is None:
        raise Unsolved(id, "there is no such lot any more")
    return found


def _frontage(q: Engine, row: LotRow, a: LotCorner, b: LotCorner) -> tuple[Stretch, ...]:
    if a.line == b.line:
        return (Stretch(a.line, a.along, b.along),)
    assert isinstance(a.line, StreetLine)
    assert isinstance(b.line, HeadLine)
    low, high = own_range(q, row.street, a.line.side or "left")
    leaves = high if b.line.end == "end" else low
    ring = line_plan(q, HeadLine(row.street, b.line.end)).base.total
    begin = 0.0 if row.place == "left" else ring
    return (Stretch(a.line, a.along, leaves), Stretch(b.line, begin, b.along))


def _along_side(q: Engine, row: LotRow) -> list[list[LotCorner]]:
    street, turned = row.street, frame_of(q, row.street).turned
    drawn: Side = "left" if row.place == "left" else "right"
    side = other_side(drawn) if turned else drawn
    run = _Run(street, side, chain_of(q, street), turned)
    low, high = sorted(run.now(s) for s in own_range(q, street, side))
    begin = low if row.start is None else max(low, row.start)
    finish = high if row.end is None else min(high, row.end)
    reach_head = row.end is None and _has_bulb(q, street, far_end(q, street))
    boundary = boundary_width(q, street, side).times(side_sign(side))
    line = StreetLine(street, course(q, street, side).names[-1], side)
    sign = side_sign(side)

    def corner(r: float) -> LotCorner:
        s = run.now(r)
        normal = left_normals(run.chain.at([s]).headings[0]) * sign
        front = run.chain.points_at([s], boundary(s))[0]
        return LotCorner(line, float(s), frozen(front), frozen(front + normal * row.depth))

    holes = sorted(tuple(sorted(run.now(s) for s in hole)) for hole in gaps(q, street, side))
    starts, ends = [begin, *(b for _, b in holes)], [*(a for a, _ in holes), finish]
    runs: list[list[LotCorner]] = []
    for k, (a, b) in enumerate(zip(starts, ends)):
        a, b = max(a, begin), min(b, finish)
        to_head = reach_head and k == len(starts) - 1
        if b - a < (0.0 if to_head else row.frontage):
            continue
        r, length = _boundary_lengths(run, a, b, boundary)
        extra = (
            _head_part(q, row, side_shape(q, street, side, end_chainage(q, street, far_end(q, street))).reach)
            if to_head
            else 0.0
        )
        cuts = _cuts(float(length[-1]), extra, row.frontage)
        corners = [corner(float(np.interp(c, length, r))) for c in cuts]
        if extra:
            corners.append(_abeam_corner(q, row, drawn))
        if len(corners) > 1:
            runs.append(corners)
    return runs


def _boundary_lengths(run: _Run, a: float, b: float, offset: Varying) -> tuple[Floats, Floats]:
    """Chainages as drawn from a to b, and the length of the boundary from a to each."""
    keys = np.array([run.now(float(s)) for s in (*run.chain.key_chainages(), *offset.at)])
    r = np.unique(np.concatenate([np.arange(a, b, 0.5), [b], keys]))
    r = r[(r >= a) & (r <= b)]
    s = np.array([run.now(float(v)) for v in r])
    p = run.chain.points_at(s, offset(s))
    return r, np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(p, axis=0).T))])


def _cuts(straight: float, extra: float, frontage: float) -> Floats:
    """Where lots are cut along ``straight`` metres; the lot at the bulb's return takes all ``extra`` metres of it, so
    that its side lines cannot cross.
    """
    n = max(1, int((straight + extra) / frontage + 1e-9))
    last = max((straight + extra) / n, extra) if extra else 0.0
    share = straight - max(0.0, last - extra) if extra else straight
    m = max(1, int(share / frontage + 1e-9)) if share >= frontage * (1 - 1e-9) else 0
    return np.linspace(0.0, share, m + 1) if m else np.array([share if extra else 0.0])


def _head_part(q: Engine, row: LotRow, reach: float) -> float:
    """Length of the boundary along the bulb's return and round to abeam its centre."""
    end = far_end(q, row.street)
    made, radius = outline(q, row.street, end), head_sizes(q, row.street, end).radius
    seen: Side = "left" if row.place == "left" else "right"
    u = abeam(q, row.street, end, seen)
    first = made.ends[0] if seen == "left" else made.ring.total - made.ends[1]
    on_bulb = u - made.ends[0] if seen == "left" else made.ends[1] - u
    r = made.returns[0 if seen == "left" else 1]
    along = first * (r - reach) / r if r else 0.0  # a lip that runs straight on has no return
    return float(along + on_bulb * (radius + reach) / radius)


def _head_corner(q: Engine, row: LotRow, u: float, depth: float) -> LotCorner:
    end = far_end(q, row.street)
    line = HeadLine(row.street, end, head_shape(q, row.street, end).first.names[-1])
    plan = line_plan(q, line)
    front, normal = plan.points([u])[0], left_normals(plan.base.at([u]).headings[0])
    return LotCorner(line, float(u), frozen(front), frozen(front + normal * depth))


def _abeam_corner(q: Engine, row: LotRow, seen: Side) -> LotCorner:
    """The corner abeam the bulb's centre: its rear lies on the straight row's rear line, so the bulb eats into the depth."""
    end = far_end(q, row.street)
    radius = head_sizes(q, row.street, end).radius
    width = lip_width(q, row.street, own_side(end, seen)).one(end_chainage(q, row.street, end))
    return _head_corner(q, row, abeam(q, row.street, end, seen), max(row.depth - (radius - width), 0.4 * row.depth))


def _round_head(q: Engine, row: LotRow) -> list[list[LotCorner]]:
    end = far_end(q, row.street)
    if head_at(q, row.street, end).kind != "bulb":
        raise Unsolved(
            f"Lots {row.name}",
            "its street ends in a head with arms, round which no lots are cut yet",
            "remove this row, or end the street in a bulb",
        )
    radius = head_sizes(q, row.street, end).radius
    first, last = abeam(q, row.street, end, "left"), abeam(q, row.street, end, "right")
    reach = head_shape(q, row.street, end).first.reach
    n = max(1, int((last - first) * (radius + reach) / radius / row.frontage + 1e-9))
    inner = [_head_corner(q, row, float(u), row.depth) for u in np.linspace(first, last, n + 1)[1:-1]]
    return [[_abeam_corner(q, row, "left"), *inner, _abeam_corner(q, row, "right")]]


# Which lot has what was set


@dataclass(frozen=True)
class Placed:
    """Pad levels that were set on a row's lots: the choice of each lot by its id, and those that found no lot."""

    choices: tuple[tuple[str, PadChoice], ...]
    lost: tuple[PadChoice, ...]


def _nearest(lots: tuple[LotFrame, ...], along: float) -> LotFrame | None:
    return min(lots, key=lambda f: abs(f.along - along), default=None)


@query
def placed_pads(q: Engine, row: str) -> Placed:
    """Each choice goes to the lot of its number if that still stands where it did, else to the lot that stands there."""
    made = lots_of_row(q, row)
    found: dict[str, PadChoice] = {}
    lost: list[PadChoice] = []
    for choice in sorted(parts.owned(q, PadChoice, row), key=lambda c: c.number):
        by_number = next((f for f in made if f.number == choice.number), None)
        here = by_number
        if choice.along is not None and (
            by_number is None or abs(choice.along - by_number.along) > 0.5 * by_number.width
        ):
            here = _nearest(made, choice.along)
            if here is not None and abs(here.along - choice.along) > 0.5 * here.width:
                here = None
        if here is None or here.id in found:
            lost.append(choice)
        else:
            found[here.id] = choice
    return Placed(tuple(found.items()), tuple(lost))


@query
def pad_choice(q: Engine, id: str) -> PadChoice | None:
    """The pad level that was set for a lot, or None: asked lot by lot, so that one that is set concerns no other."""
    return dict(placed_pads(q, id.rpartition("#")[0]).choices).get(id)
