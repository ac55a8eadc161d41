"""A side of a street all along it: which points it has from the crown outwards, and where the typical sections put them."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from difflib import SequenceMatcher

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen, row_at, rows_at
from humble_loop.kinds.street.model import SectionChange, Widening
from humble_loop.kinds.street.plan import centreline, chain_of, frame_of, is_new, name_of, section_of, street_ids
from humble_loop.kinds.street.widening import MOST, STEP, Followed, Traced, beside_it, sides_in_a_ring
from humble_loop.kinds.survey_line.lines import vertices
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.lines.kind import GoesOn, Widens
from humble_loop.lines.standing import kinds
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.library import Benches, SectionSide, Strip, TypicalSection
from humble_loop.site.model import Side, other_side, side_sign

LEAST_STRIP = 0.05  # metres: what is left of a strip at least where its lip comes near
_ROLES = {"lane": "carriageway", "buffer": "verge"}  # of the surface, where a piece has none of its own


@dataclass(frozen=True)
class SidePoints:
    """The points of a section side from the crown outwards: names (k,), and of the piece that ends at each its width (m),
    its rise (m) and what it is; the crown's own are nothing. ``lip`` is the lip's place among them.
    """

    names: tuple[str, ...]
    widths: tuple[float, ...]
    rises: tuple[float, ...]
    pieces: tuple[str, ...]
    lip: int

    @property
    def out(self) -> Floats:
        """Metres from the crown (k,)."""
        return np.cumsum(self.widths)

    @property
    def rise(self) -> Floats:
        """Metres above the crown (k,), as designed."""
        return np.cumsum(self.rises)


@dataclass(frozen=True)
class SideCourse:
    """A side along a street. At chainages ``at`` (m,) its points lie ``widths`` (m, k) metres beyond one another, each
    ``rises`` (m, k) above the one before; between these chainages they are on straight lines, and beyond them stay.

    A point that the section does not have somewhere lies on the one before it there. ``slopes`` (m, 2) are those of
    batters in cut and fill; ``benches`` (m, 3) the height between their benches, the width and the grade of each, no
    width where there are none.
    """

    names: tuple[str, ...]
    pieces: tuple[str, ...]
    lip: int
    at: Floats
    widths: Floats
    rises: Floats
    slopes: Floats
    benches: Floats

    @property
    def roles(self) -> tuple[str, ...]:
        """The role of the surface of the piece that ends at each point."""
        return tuple(_ROLES.get(p, p) for p in self.pieces)

    def width(self, k: int) -> Varying:
        """The width of the piece that ends at point ``k``."""
        return Varying.of(self.at, self.widths[:, k])

    def rise(self, k: int) -> Varying:
        """The rise of the piece that ends at point ``k``."""
        return Varying.of(self.at, self.rises[:, k])

    def out(self, k: int) -> Varying:
        """How far point ``k`` lies from the crown."""
        return Varying.of(self.at, self.widths[:, : k + 1].sum(axis=1))

    def grade(self, k: int) -> Varying:
        """The grade outwards of the piece that ends at point ``k``; where it has no width, that of where it has some."""
        width, rise = self.widths[:, k], self.rises[:, k]
        there = width > 0
        if not there.any():
            return Varying.steady(0.0)
        return Varying.of(self.at, np.interp(self.at, self.at[there], rise[there] / width[there]))


def points_of(q: Engine, side: SectionSide) -> SidePoints:
    """The points of a section side. Where two would have one name the outer is numbered."""
    names, widths, rises, pieces = ["crown"], [0.0], [0.0], [""]

    def add(name: str, width: float, rise: float, piece: str) -> None:
        again = sum(n == name or (n.startswith(f"{name} ") and n[len(name) + 1 :].isdigit()) for n in names)
        names.append(f"{name} {again + 1}" if again else name)
        widths.append(width)
        rises.append(rise)
        pieces.append(piece)

    for p in side.parts:
        if isinstance(p, Strip):
            add(p.to, p.width, p.width * p.grade, p.piece)
            continue
        before = (0.0, 0.0)
        for k in parts.kerb_shape(q, p.kerb).points:
            add(k.point, (k.out - before[0]) / 1000.0, (k.up - before[1]) / 1000.0, "kerb")
            before = (k.out, k.up)
    return SidePoints(tuple(names), tuple(widths), tuple(rises), tuple(pieces), names.index("lip"))


def drawn_side(q: Engine, street: str, side: Side) -> Side:
    """The side of its sections that lies on a side of a street as it runs now: reversing it turns nothing over."""
    return other_side(side) if frame_of(q, street).turned else side


def sections_along(q: Engine, street: str) -> tuple[tuple[SectionChange | None, TypicalSection], ...]:
    """A street's typical sections in order, each with the change that brings it; the first is there from the beginning."""
    found: list[tuple[SectionChange | None, TypicalSection]] = [(None, section_of(q, street))]
    found += [(c, parts.one(q, TypicalSection, c.section)) for c in frame_of(q, street).changes]
    return tuple(found)


def section_at(q: Engine, street: str, chainage: float) -> tuple[TypicalSection, bool]:
    """The typical section that a street has at a chainage, or turns into there; and whether it is turning."""
    along = sections_along(q, street)
    found, turning = along[0][1], False
    for change, section in along[1:]:
        assert change is not None
        if chainage > change.chainage:
            found, turning = section, chainage < change.chainage + change.taper
    return found, turning


@query
def _by_sections(q: Engine, street: str, side: Side) -> SideCourse:
    """A side of a street all along it as its sections have it, whatever widens it."""
    along = sections_along(q, street)
    sides = [section.side(drawn_side(q, street, side)) for _, section in along]
    points = [points_of(q, s) for s in sides]
    names, own = points[0].names, [points[0].names]  # the names that the points of each section have among all
    for p in points[1:]:
        names, mine = merged(names, p.names)
        own.append(mine)
    pieces = tuple(next(p.pieces[mine.index(n)] for p, mine in zip(points, own) if n in mine) for n in names)
    widths, rises = (
        [[values[mine.index(n)] if n in mine else 0.0 for n in names] for mine, values in zip(own, of_all)]
        for of_all in ([p.widths for p in points], [p.rises for p in points])
    )
    at, which = stations([c for c, _ in along if c is not None])
    slopes = [(s.cut_slope, s.fill_slope) for s in sides]
    varying = (frozen(np.array(v, dtype=np.float64)[which]) for v in (widths, rises, slopes, _benches(sides)))
    return SideCourse(names, pieces, names.index("lip"), frozen(at), *varying)


@query
def course(q: Engine, street: str, side: Side) -> SideCourse:
    """A side of a street all along it."""
    made = _by_sections(q, street, side)
    for kind in kinds():
        for more in kind.widens(q, street, side):
            made = _wider(made, more)
    # From the inside outwards: what lies further out moves with what lies within.
    for widening in sorted(followed(q, street, side), key=lambda w: widened_at(made, w.point) or 0):
        made = _widened(made, widening)
    for kind in kinds():
        for goes in kind.goes_on(q, street):
            if goes.follows and is_new(q, goes.other):
                theirs = course(q, goes.other, side if goes.same_way else other_side(side))
                made = _going_on(made, chain_of(q, street).total, goes, theirs, chain_of(q, goes.other).total)
    return made


def _going_on(made: SideCourse, total: float, goes: GoesOn, theirs: SideCourse, their_total: float) -> SideCourse:
    """A side that at its end has the section of another, from which it turns into its own."""
    here, there = (
        0.0 if end == "start" else length for end, length in ((goes.end, total), (goes.other_end, their_total))
    )
    own = abs(here - goes.taper)  # where it is its own again: a taper is not longer than its street
    names, their_names = merged(made.names, theirs.names)
    low, high = min(here, own), max(here, own)
    at = np.unique(np.concatenate([made.at[(made.at < low) | (made.at > high)], [low, high]]))
    at = at[(at >= 0.0) & (at <= total)]
    k = int(np.argmin(np.abs(at - here)))

    def columns(of_mine: Floats, of_theirs: Floats) -> Floats:
        found = np.zeros((len(at), len(names)))
        for j, name in enumerate(names):
            if name in made.names:
                found[:, j] = np.interp(at, made.at, of_mine[:, made.names.index(name)])
            their = their_names.index(name) if name in their_names else None
            found[k, j] = 0.0 if their is None else np.interp(there, theirs.at, of_theirs[:, their])
        return frozen(found)

    def same(of_mine: Floats, of_theirs: Floats) -> Floats:
        (found,) = rows_at(at, made.at, of_mine)
        found[k] = row_at(there, theirs.at, of_theirs)
        return frozen(found)

    piece = {**dict(zip(their_names, theirs.pieces)), **dict(zip(made.names, made.pieces))}
    varying = (
        columns(made.widths, theirs.widths),
        columns(made.rises, theirs.rises),
        same(made.slopes, theirs.slopes),
        same(made.benches, theirs.benches),
    )
    return SideCourse(names, tuple(piece[n] for n in names), names.index("lip"), frozen(at), *varying)


@query
def followed(q: Engine, street: str, side: Side) -> tuple[Followed, ...]:
    """The widenings of a side of a street as it runs, in order."""
    chain, drawn, found = chain_of(q, street), drawn_side(q, street, side), []
    for w in parts.owned(q, Widening, street):
        if w.side == drawn:
            turned = frame_of(q, street).turned
            span = (chain.total - w.finish, chain.total - w.begin) if turned else (w.begin, w.finish)
            found.append(beside_it(chain, w, side, span, traced(q, w)))
    return tuple(sorted(found, key=lambda f: f.begin))


def traced(q: Engine, w: Widening) -> Traced:
    """What a widening follows, as places along it."""
    gone = np.empty((0, 2))
    if not w.of_point:
        if w.line not in parts.ids(q, SurveyLine):
            return Traced("", gone, "the survey line that it follows is not there any more")
        return _surveyed(parts.one(q, SurveyLine, w.line).name, q, w.line)
    if w.line not in street_ids(q):
        return Traced("", gone, "the street that it follows is not there any more")
    name = f"{name_of(q, w.line)} {w.of_point}"
    if isinstance(laid := q.attempt(centreline, w.line), Unsolved):
        return Traced(name, gone, f"'{name}' cannot be followed: {laid.message}")
    if w.of_side is None:
        return Traced(name, _abreast(q, w, lambda s: np.zeros(len(s))))
    side = drawn_side(q, w.line, w.of_side)  # a side as drawn from one as it runs, or the other way round
    name = f"{name_of(q, w.line)} {side} {w.of_point}"
    if (w.street, w.side) in sides_in_a_ring(q):
        return Traced(name, gone, f"it follows at last itself, by way of '{name}'")
    frame = frame_of(q, w.line)
    named = frame.left_lip if side == "left" else frame.right_lip
    if frame.kind == "existing" and named and w.of_point == "lip" and named in parts.ids(q, SurveyLine):
        return _surveyed(name, q, named)
    made = q.attempt(course, w.line, side)
    if isinstance(made, Unsolved):
        return Traced(name, gone, f"'{name}' cannot be followed: {made.message}")
    point = made.names[-1] if w.of_point == "boundary" else w.of_point
    if point not in made.names:
        return Traced(name, gone, f"'{name_of(q, w.line)}' has no point '{w.of_point}' on its {side}")
    return Traced(name, _abreast(q, w, made.out(made.names.index(point)).times(side_sign(side))))


def _surveyed(name: str, q: Engine, id: str) -> Traced:
    line = shapely.LineString(vertices(q, id)[:, :2])
    if line.length > MOST * STEP:
        return Traced(name, np.empty((0, 2)), f"'{name}' is too long to be followed")
    return Traced(name, shapely.get_coordinates(shapely.segmentize(line, STEP)))


_FINE = (
    0.25  # metres along a street between places at which a point of it is measured, the ends of its elements besides
)
_BEYOND = 20.0  # metres by which more of a street is looked at than lies abreast of the stretch that follows it


def _abreast(q: Engine, w: Widening, offset: Callable[[Floats], Floats]) -> Floats:
    """Places (n, 2) along a street, ``offset`` from its centreline, as far as it may be abreast of a widening."""
    own, other = chain_of(q, w.street), chain_of(q, w.line)
    begin, finish = (w.begin, w.finish)
    if frame_of(q, w.street).turned:
        begin, finish = own.total - finish, own.total - begin
    begin, finish = max(begin, 0.0), min(finish, own.total)
    if finish <= begin:
        begin, finish = 0.0, own.total
    feet = other.feet(own.points_at(np.linspace(begin, finish, 2 + int((finish - begin) / _BEYOND)))).chainages
    low, high = max(float(feet.min()) - _BEYOND, 0.0), min(float(feet.max()) + _BEYOND, other.total)
    s = np.linspace(low, high, 2 + int((high - low) / _FINE))
    keys = other.key_chainages()
    s = np.unique(np.concatenate([s, keys[(keys > low) & (keys < high)]]))
    found: Floats = other.points_at(s, offset(s))
    return found


def widened_at(made: SideCourse, point: str) -> int | None:
    """The place among a side's points of one that may follow a line in plan; None where it is not there, or ends a kerb."""
    name = made.names[-1] if point == "boundary" else point
    k = made.names.index(name) if name in made.names else 0
    return k if k and made.pieces[k] != "kerb" else None


def _widened(made: SideCourse, widening: Followed) -> SideCourse:
    """A side of which a point follows a line over a stretch: the strip that ends there takes what is more or less, at its own grade."""
    k = widened_at(made, widening.point)
    if not len(widening.at) or k is None:
        return made
    at = np.unique(np.concatenate([made.at, widening.stations]))
    widths, rises, slopes, benches = rows_at(at, made.at, made.widths, made.rises, made.slopes, made.benches)
    inner = widths[:, 1:k].sum(axis=1)
    normal = inner + widths[:, k]
    lip = np.maximum(widening.lip(at, normal), inner + LEAST_STRIP)
    grade = np.divide(rises[:, k], widths[:, k], out=np.zeros_like(normal), where=widths[:, k] > 0)
    widths[:, k] = lip - inner
    rises[:, k] = grade * widths[:, k]
    return SideCourse(made.names, made.pieces, made.lip, *(frozen(v) for v in (at, widths, rises, slopes, benches)))


def _wider(made: SideCourse, more: Widens) -> SideCourse:
    """A side whose outermost strip of the carriageway is wider over a stretch, or narrower and then those within it too, at their own grades."""
    full = more.begin + more.taper_in, more.finish - more.taper_out
    places = np.array([more.begin, *full, more.finish])
    at = np.unique(np.concatenate([made.at, places]))
    widths, rises, slopes, benches = rows_at(at, made.at, made.widths, made.rises, made.slopes, made.benches)
    left = more.by * np.interp(at, places, [0.0, 1.0, 1.0, 0.0])
    for k in range(made.lip, 0, -1):
        # What one strip has not to give the next one inwards gives.
        grade = np.divide(rises[:, k], widths[:, k], out=np.zeros(len(at)), where=widths[:, k] > 0)
        by = np.maximum(left, -widths[:, k])
        widths[:, k] += by
        rises[:, k] = grade * widths[:, k]
        left = left - by
        if not left.any():
            break
    return SideCourse(made.names, made.pieces, made.lip, *(frozen(v) for v in (at, widths, rises, slopes, benches)))


def _benches(sides: Sequence[SectionSide]) -> list[tuple[float, float, float]]:
    """Height between benches, width and grade of each section; one without them has those of another without any width."""
    some = next((s.benches for s in sides if s.benches is not None), Benches())
    return [
        (some.every, 0.0, some.grade) if s.benches is None else (s.benches.every, s.benches.width, s.benches.grade)
        for s in sides
    ]


def lip_width(q: Engine, street: str, side: Side) -> Varying:
    """Metres from the crown to the lip."""
    made = course(q, street, side)
    return made.out(made.lip)


def lip_offset(q: Engine, street: str, side: Side) -> Varying:
    """Where the lip lies from the centreline, left positive, in metres."""
    return lip_width(q, street, side).times(side_sign(side))


def boundary_width(q: Engine, street: str, side: Side) -> Varying:
    """Metres from the crown to the boundary."""
    made = course(q, street, side)
    return made.out(len(made.names) - 1)


def stations(changes: Sequence[SectionChange]) -> tuple[list[float], list[int]]:
    """Chainages at which a section still holds or holds from there, and which: 0 is the first, k that of change k - 1.

    A taper ends at the next change at the latest.
    """
    at, which = [0.0], [0]
    for k, c in enumerate(changes):
        following = changes[k + 1].chainage if k + 1 < len(changes) else np.inf
        at += [c.chainage, min(c.chainage + c.taper, following)]
        which += [k, k + 1]
    return (at[1:], which[1:]) if changes else (at, which)


def merged(first: tuple[str, ...], second: tuple[str, ...]) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """All points of two sides from the crown outwards, and what the second's are called among them.

    Points of one name are one point, as far as that keeps the order of both; the lip always is one.
    """
    found: list[str] = []
    own: list[str] = []
    for a, b in zip(_at_lip(first), _at_lip(second), strict=True):
        for what, i, j, k, m in SequenceMatcher(None, a, b, autojunk=False).get_opcodes():
            found += a[i:j]
            if what == "equal":
                own += b[k:m]
                continue
            for name in b[k:m]:
                taken = {*first, *found}
                free = next(n for n in (name, *(f"{name} {x}" for x in range(2, len(taken) + 3))) if n not in taken)
                found.append(free)
                own.append(free)
    return tuple(found), tuple(own)


def _at_lip(names: tuple[str, ...]) -> tuple[tuple[str, ...], ...]:
    lip = names.index("lip")
    return names[:lip], names[lip : lip + 1], names[lip + 1 :]
