"""Typical sections out of cross sections that a file gives: those at whose chainages the street's section really changes."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from pydantic import ValidationError

from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.street.model import SectionChange, Street
from humble_loop.kinds.street.side import merged
from humble_loop.site.edits import changed, free_id, free_name, made, the
from humble_loop.site.library import (
    WIDEST_STRIP,
    KerbPart,
    KerbPoint,
    KerbShape,
    Part,
    Piece,
    SectionSide,
    Strip,
    TypicalSection,
)
from humble_loop.site.model import SIDES, Side, Site, bare, side_sign

_ALIKE = (
    0.003  # metres of width and of rise within which sections are one: what files are rounded to, and a little more
)
_MOST = 40  # typical sections of one street; with more of them it is taken less closely
_ROUGHEST = 0.4  # metres: sections that are alike within no less are not a street's
MOST_ROWS = 2000  # cross sections of one street
_THIN = 0.001  # metres that a point lies further out than the one before at least: vertical faces lean by that much
_SAME = 1e-5  # metres within which two points are one
_MOST_POINTS = 200  # of a side, in all its cross sections together
_CENTRE = 0.0015  # metres from the centreline within which a point is its crown
_FACE = 0.25  # grade beyond which a rise is a kerb's
_APRON = 0.6  # metres: a strip that is no wider and lies before a kerb's face belongs to the kerb
_TOP = 0.25  # metres: the same behind its face
_BATTER = 0.2  # grade from which the outermost strip is a batter, where a file does not say what it is
_SAME_KERB = 0.0006  # metres within which a kerb has a library's shape
_RUN = 0.05  # slopes are taken as 1 on a multiple of this
_SHORTEST, _LONGEST = 0.1, 500.0  # metres of a taper
_USUAL_KERB = ("invert", "top of kerb", "back of kerb")
_WORDS: dict[str, Piece] = {
    "carriageway": "lane",
    "lane": "lane",
    "parking": "parking",
    "median": "median",
    "verge": "verge",
    "path": "path",
    "footpath": "path",
    "buffer": "buffer",
}


@dataclass(frozen=True)
class MeasuredPoint:
    """A point of a cross section: metres from the centreline, left positive, and its level; ``name`` and ``piece``, what lies
    between it and its neighbour towards the centreline, as far as the file tells them.
    """

    offset: float
    level: float
    name: str = ""
    piece: str = ""


@dataclass(frozen=True)
class MeasuredSection:
    """A cross section at a chainage; ``whole`` are the sides that are not cut short there by something else, a junction say."""

    chainage: float
    points: tuple[MeasuredPoint, ...]
    whole: frozenset[Side] = frozenset(SIDES)


@dataclass(frozen=True)
class SectionsFound:
    """What cross sections say of a street: its typical sections along it, and the kerb shapes in them.

    ``section`` is there from the beginning. ``crowns`` (n, 2) are chainages and levels at the centreline; ``off`` (m) is how
    far a section departs from the file's, at most, at chainage ``off_at``. ``without`` counts cross sections that say nothing; ``drained`` where some have drains, which are not taken.
    """

    section: str
    changes: tuple[SectionChange, ...]
    sections: tuple[TypicalSection, ...]
    kerbs: tuple[KerbShape, ...]
    crowns: Floats
    off: float
    off_at: float
    without: int
    drained: bool


@dataclass(frozen=True)
class _Half:
    """A side from its crown outwards: names of its points (k,) and the pieces that end at them, their widths and rises (k,) in
    metres, nothing where another cross section has a piece that this one does not; and the slopes of its batter in cut and
    fill, NaN where it shows none.
    """

    names: tuple[str, ...]
    pieces: tuple[str, ...]
    widths: Floats
    rises: Floats
    cut: float
    fill: float


@dataclass(frozen=True)
class _Row:
    chainage: float
    crown: float
    sides: tuple[_Half, _Half]

    @cached_property
    def shape(self) -> Floats:
        """Offsets and rises of all of them, one after the other."""
        return np.concatenate([np.cumsum(v) for h in self.sides for v in (h.widths, h.rises)])


def sections_found(measured: Sequence[MeasuredSection], total: float, name: str) -> SectionsFound | None:
    """The sections of the street ``name``, ``total`` metres long; None where nothing can be made of them."""
    try:
        return _found(measured, total, name)
    except ValidationError:  # falls and kerbs that no street has
        return None


def _found(measured: Sequence[MeasuredSection], total: float, name: str) -> SectionsFound | None:
    rows = _rows([m for m in measured if -_THIN <= m.chainage <= total + _THIN])
    if not rows or len(rows) > MOST_ROWS:
        return None
    within, kept = _ALIKE, _kept(rows, _ALIKE)
    distinct, which = _distinct(rows, kept, within)
    while len(distinct) > _MOST:
        within *= 2.0
        if within > _ROUGHEST:
            return None
        kept = _kept(rows, within)
        distinct, which = _distinct(rows, kept, within)
    kerbs: list[KerbShape] = []
    titles = [f"{name} section", *(f"{name} section {k + 1}" for k in range(1, len(distinct)))]
    slopes = _slopes(rows)
    sections = tuple(
        TypicalSection(
            id=f"section-{k}",  # a name may be too long to tell them apart
            name=title,
            left=_side(rows[i].sides[0], slopes[0], kerbs, name),
            right=_side(rows[i].sides[1], slopes[1], kerbs, name),
        )
        for k, (title, i) in enumerate(zip(titles, distinct))
    )
    changes = []
    for a, b, k, m in zip(kept[:-1], kept[1:], which[:-1], which[1:]):
        if k != m:
            begin, end = rows[a].chainage, rows[b].chainage
            taper = min(max(end - begin, _SHORTEST), _LONGEST)
            changes.append(SectionChange(chainage=end - min(taper, end - begin), section=sections[m].id, taper=taper))
    off = _departures(rows, kept, [rows[distinct[k]] for k in which])
    worst = int(np.argmax(off))
    crowns = np.array([(r.chainage, r.crown) for r in rows])
    without = len(measured) - len(rows)
    return SectionsFound(
        sections[which[0]].id,
        tuple(changes),
        sections,
        tuple(kerbs),
        crowns,
        float(off[worst]),
        rows[worst].chainage,
        without,
        any(p.piece == "drain" for m in measured for p in m.points),
    )


def take_sections(site: Site, street: str, found: SectionsFound) -> Site:
    """Give a street the sections that were found; those and kerb shapes that the site has already are taken from there."""
    kerbs: dict[str, str] = {}
    for kerb in found.kerbs:
        same = next((k for k in site.all(KerbShape) if _same_kerb(k, kerb)), None)
        if same is None:
            title = free_name(site, KerbShape, kerb.name)
            same = changed(kerb, id=free_id(site, KerbShape, title), name=title)
            site = site.put(same)
        kerbs[kerb.id] = same.id
    mine: dict[str, str] = {}
    for section in found.sections:
        sides = {side: _with_kerbs(section.side(side), kerbs) for side in SIDES}
        alike = [s for s in site.all(TypicalSection) if all(_same_side(s.side(k), v) for k, v in sides.items())]
        plain = (s for s in alike if s.overlay is None and not any(v.drain or v.benches for v in (s.left, s.right)))
        same_section = next(plain, None)
        if same_section is None:
            title = free_name(site, TypicalSection, section.name)
            same_section = made(
                TypicalSection,
                id=free_id(site, TypicalSection, title),
                name=title,
                apart=not _same_side(sides["left"], sides["right"]),
                **sides,
            )
            site = site.put(same_section)
        mine[section.id] = same_section.id
    changes = tuple(changed(c, section=mine[c.section]) for c in found.changes)
    return site.put(changed(the(site, Street, street), section=mine[found.section], changes=changes))


# From points to rows


def _rows(measured: Sequence[MeasuredSection]) -> list[_Row]:
    """Cross sections with both sides, by chainage; a side that one does not have, in a junction say, is its neighbour's."""
    found: list[tuple[float, float, list[_Half | None]]] = []
    for m in sorted(measured, key=lambda m: m.chainage):
        crown = _crown(m.points)
        if not np.isfinite(crown) or (found and m.chainage - found[-1][0] < _THIN):
            continue
        sides = [_half(m.points, crown, side) if side in m.whole else None for side in SIDES]
        if any(sides) or not m.whole:
            found.append((max(m.chainage, 0.0), crown, sides))
    for k in (0, 1):
        having = [i for i, (*_, sides) in enumerate(found) if sides[k] is not None]
        if not having:
            return []
        for i, (*_, sides) in enumerate(found):
            if sides[k] is None:
                sides[k] = found[min(having, key=lambda j: abs(j - i))][2][k]
    return _alike([_Row(s, crown, (left, right)) for s, crown, (left, right) in found if left and right])


def _alike(rows: list[_Row]) -> list[_Row]:
    """Rows that all have the same points: pieces that one does not have are nothing wide there."""
    sides = []
    for k in (0, 1):
        names: tuple[str, ...] = ("lip",)
        own: dict[tuple[str, ...], tuple[str, ...]] = {}
        for found in dict.fromkeys(r.sides[k].names for r in rows):
            names, own[found] = merged(names, found)
            if len(names) > _MOST_POINTS:
                return []
        sides.append([_spread(r.sides[k], names, own[r.sides[k].names]) for r in rows])
    return [replace(r, sides=(left, right)) for r, left, right in zip(rows, *sides)]


def _spread(half: _Half, names: tuple[str, ...], own: tuple[str, ...]) -> _Half:
    """A side with all points; ``own`` are what its own are called among them."""
    pieces, widths, rises = [""] * len(names), np.zeros(len(names)), np.zeros(len(names))
    at = [names.index(n) for n in own]
    for i, piece in zip(at, half.pieces):
        pieces[i] = piece
    widths[at], rises[at] = half.widths, half.rises
    return replace(half, names=names, pieces=tuple(pieces), widths=widths, rises=rises)


def _crown(points: Sequence[MeasuredPoint]) -> float:
    """The level at the centreline; NaN where the section does not reach it."""
    at = next((p for p in points if abs(p.offset) <= _CENTRE), None)
    if at is not None:
        return at.level
    left, right = [p for p in points if p.offset > 0], [p for p in points if p.offset < 0]
    if not left or not right:
        return np.nan
    a, b = max(right, key=lambda p: p.offset), min(left, key=lambda p: p.offset)
    return float(np.interp(0.0, [a.offset, b.offset], [a.level, b.level]))


def _half(points: Sequence[MeasuredPoint], crown: float, side: Side) -> _Half | None:
    """One side of a cross section; None where it has no point there."""
    sign = side_sign(side)
    own = [p for p in points if sign * p.offset > _CENTRE]
    if not own:
        return None
    if abs(own[0].offset) > abs(own[-1].offset):
        own = own[::-1]  # outwards, so that points one above another stay in order
    own.sort(key=lambda p: abs(p.offset))
    places = [(_CENTRE, crown), *((abs(p.offset), p.level) for p in own)]
    own = [p for p, a, b in zip(own, places[:-1], places[1:]) if abs(b[0] - a[0]) + abs(b[1] - a[1]) > _SAME]
    out = np.array([abs(p.offset) for p in own])
    for i in range(1, len(out)):
        out[i] = max(out[i], out[i - 1] + _THIN)
    widths, rises = np.diff(out, prepend=0.0), np.diff([p.level for p in own], prepend=crown)
    told = any(p.piece for p in own)
    own, cut, fill = _without_batter(own, widths, rises, told)
    if not own or widths[: len(own)].max() >= WIDEST_STRIP:
        return None
    widths, rises = widths[: len(own)], rises[: len(own)]
    names = [bare(p.name.removeprefix(f"{side} ")) for p in own]
    first, last = _kerb(names, [p.piece for p in own], widths, rises)
    lip = first - 1
    pieces = [_piece(p.piece, i <= lip) if not first <= i < last else "kerb" for i, p in enumerate(own)]
    for i, given in enumerate(names):
        if i == lip:
            names[i] = "lip"
        elif not given or given in ("lip", "crown"):
            names[i] = _usual_name(i, lip, (first, last), len(own), pieces[i])
        if i != lip and names[i] in ("lip", *names[:i]):
            names[i] = next(n for k in range(2, len(own) + 3) if (n := f"{names[i]} {k}") not in names)
    return _Half(tuple(names), tuple(pieces), widths, rises, cut, fill)


def _without_batter(
    own: list[MeasuredPoint], widths: Floats, rises: Floats, told: bool
) -> tuple[list[MeasuredPoint], float, float]:
    """The points up to the boundary, and the slopes of what lies beyond: a batter, perhaps with benches or a drain before it."""
    end, grades = len(own), rises / widths
    if told:
        end = next((i for i, p in enumerate(own) if p.piece in ("batter", "drain")), end)
    elif end > 1 and abs(grades[-1]) >= _BATTER and widths[-1] > _TOP:
        end -= 1
    beyond = [float(g) for p, g in zip(own[end:], grades[end:]) if not told or (p.piece == "batter" and abs(g) > 0.01)]
    first = beyond[0] if beyond else np.nan
    return own[:end], (first if first > 0 else np.nan), (-first if first < 0 else np.nan)


def _kerb(names: Sequence[str], pieces: Sequence[str], widths: Floats, rises: Floats) -> tuple[int, int]:
    """The strips of the kerb, from the lip on: the first, and the one after its last."""
    n, grades = len(names), rises / widths
    if "kerb" in pieces[1:]:
        first = pieces.index("kerb", 1)
        return first, next((i for i in range(first, n) if pieces[i] != "kerb"), n)
    if "lip" in names:
        first = names.index("lip") + 1
        if first == n or not (grades[first:] > _FACE).any():
            return first, first
    else:
        faces = np.flatnonzero(grades[1:] > _FACE) + 1
        if not faces.size:
            return n, n
        first = int(faces[0])
        while first > 1 and widths[first - 1] <= _APRON:
            first -= 1
    last = first + int(np.argmax(grades[first:] > _FACE)) + 1
    while last < n and widths[last] <= _TOP:
        last += 1
    return first, last


def _piece(word: str, inside: bool) -> str:
    """What a strip is, by the file's word for it."""
    found = _WORDS.get(word.lower(), "lane" if inside else "verge")
    return found if inside or found not in ("lane", "parking", "median") else "verge"


def _usual_name(i: int, lip: int, kerb: tuple[int, int], count: int, piece: str) -> str:
    """What the point at which strip ``i`` ends is called where the file does not say."""
    if kerb[0] <= i < kerb[1]:
        k = i - kerb[0]
        return _USUAL_KERB[k] if kerb[1] - kerb[0] == len(_USUAL_KERB) else f"kerb {k + 1}"
    if i < lip:
        return f"{piece} edge"
    return "boundary" if i == count - 1 else f"{piece} back"


# From rows to sections


def _kept(rows: Sequence[_Row], within: float) -> list[int]:
    """The rows between which all others lie on straight lines, ``within`` metres."""
    kept, todo = {0, len(rows) - 1}, [(0, len(rows) - 1)]
    at, shapes = np.array([r.chainage for r in rows]), np.array([r.shape for r in rows])
    while todo:
        a, b = todo.pop()
        if b - a < 2:
            continue
        off = _off(at[a : b + 1], shapes[a : b + 1], shapes[a], shapes[b])
        worst = int(np.argmax(off))
        if off[worst] > within:
            kept.add(a + worst)
            todo += [(a, a + worst), (a + worst, b)]
    return sorted(kept)


def _off(at: Floats, shapes: Floats, first: Floats, last: Floats) -> Floats:
    """How far (m) shapes (n, k) at rising chainages (n,) depart from the straight between what is there at both ends."""
    share = (at - at[0]) / max(at[-1] - at[0], _THIN)
    off: Floats = np.abs(shapes - first - share[:, None] * (last - first)).max(axis=1)
    return off


def _distinct(rows: Sequence[_Row], kept: Sequence[int], within: float) -> tuple[list[int], list[int]]:
    """The rows that are sections of their own, and which of them each of the kept ones is."""
    found: list[int] = []
    which: list[int] = []
    for i in kept:
        alike = (k for k, j in enumerate(found) if np.abs(rows[j].shape - rows[i].shape).max() <= within)
        k = next(alike, len(found))
        if k == len(found):
            found.append(i)
        if k > _MOST:
            break  # too many, however many more there are
        which.append(k)
    return found, which


def _departures(rows: Sequence[_Row], kept: Sequence[int], taken: Sequence[_Row]) -> Floats:
    """How far (m) each row departs from the sections that were ``taken`` at the kept ones."""
    off = np.zeros(len(rows))
    for (a, b), first, last in zip(zip(kept[:-1], kept[1:]), taken[:-1], taken[1:]):
        own = rows[a : b + 1]
        here = _off(np.array([r.chainage for r in own]), np.array([r.shape for r in own]), first.shape, last.shape)
        off[a : b + 1] = np.maximum(off[a : b + 1], here)
    return off


def _slopes(rows: Sequence[_Row]) -> list[tuple[float, float]]:
    """Cut and fill slope of each side: the middle one of those that the cross sections show, NaN where they show none."""

    def middle(values: list[float]) -> float:
        known = [v for v in values if np.isfinite(v)]
        if not known:
            return np.nan
        return 1.0 / max(round(1.0 / max(float(np.median(known)), 0.01) / _RUN) * _RUN, _RUN)

    halves = [[r.sides[k] for r in rows] for k in (0, 1)]
    return [(middle([h.cut for h in of]), middle([h.fill for h in of])) for of in halves]


def _side(half: _Half, slopes: tuple[float, float], kerbs: list[KerbShape], name: str) -> SectionSide:
    """A section side; kerb shapes that it brings are added to ``kerbs``."""
    parts: list[Part] = []
    half = _only_own(half)
    i = 0
    while i < len(half.names):
        if half.pieces[i] == "kerb":
            end = next((k for k in range(i, len(half.names)) if half.pieces[k] != "kerb"), len(half.names))
            parts.append(KerbPart(kerb=_kerb_shape(half, i, end, kerbs, name)))
            i = end
            continue
        width, rise = round(float(half.widths[i]), 7), float(half.rises[i])
        piece = half.pieces[i]
        parts.append(
            Strip.model_validate({"to": half.names[i], "width": width, "grade": round(rise / width, 9), "piece": piece})
        )
        i += 1
    known = {k: v for k, v in zip(("cut_slope", "fill_slope"), slopes) if np.isfinite(v)}
    return SectionSide.model_validate({"parts": tuple(parts), **known})


def _only_own(half: _Half) -> _Half:
    """A side without the points that only other cross sections have."""
    keep = [i for i, p in enumerate(half.pieces) if p]
    names, pieces = (tuple(v[i] for i in keep) for v in (half.names, half.pieces))
    return replace(half, names=names, pieces=pieces, widths=half.widths[keep], rises=half.rises[keep])


def _kerb_shape(half: _Half, begin: int, end: int, kerbs: list[KerbShape], name: str) -> str:
    out, up = (1000.0 * np.cumsum(v[begin:end]) for v in (half.widths, half.rises))
    points = tuple(
        KerbPoint(point=n, out=round(o, 4), up=round(u, 4)) for n, o, u in zip(half.names[begin:end], out, up)
    )
    title = f"{name} kerb {len(kerbs) + 1}" if kerbs else f"{name} kerb"
    shape = KerbShape(id=f"kerb-{len(kerbs)}", name=title, points=points)
    same = next((k for k in kerbs if _same_kerb(k, shape)), None)
    if same is None:
        kerbs.append(shape)
        return shape.id
    return same.id


# What a site has already


def _same_kerb(one: KerbShape, other: KerbShape) -> bool:
    if len(one.points) != len(other.points):
        return False
    apart = [(a.out - b.out, a.up - b.up) for a, b in zip(one.points, other.points)]
    return bool(np.abs(apart).max() <= 1000.0 * _SAME_KERB)


def _with_kerbs(side: SectionSide, kerbs: dict[str, str]) -> SectionSide:
    parts = tuple(KerbPart(kerb=kerbs[p.kerb]) if isinstance(p, KerbPart) else p for p in side.parts)
    return changed(side, parts=parts)


def _same_side(one: SectionSide, other: SectionSide) -> bool:
    """Whether two sides have the same pieces and batters; drains and benches are not asked for."""
    if len(one.parts) != len(other.parts):
        return False
    for a, b in zip(one.parts, other.parts):
        if isinstance(a, Strip) and isinstance(b, Strip):
            if a.to != b.to or abs(a.width - b.width) > _THIN or abs(a.width * a.grade - b.width * b.grade) > _THIN:
                return False
        elif a != b:
            return False
    return abs(one.cut_slope - other.cut_slope) < _THIN and abs(one.fill_slope - other.fill_slope) < _THIN
