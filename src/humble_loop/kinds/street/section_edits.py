"""Edits of typical sections: pieces from the crown outwards, both sides alike or each for itself.

A section belongs to the site and may be used by several streets: what changes in it changes for all of them.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from humble_loop.kinds.street.model import SectionChange, Street
from humble_loop.site.edits import EditError, changed, free_id, free_name, made, the
from humble_loop.site.library import (
    Benches,
    Kerb,
    KerbPart,
    KerbShape,
    Layer,
    Part,
    Piece,
    SectionSide,
    Strip,
    ToeDrain,
    TypicalSection,
)
from humble_loop.site.model import SIDES, Side, Site, other_side

# What a piece is given when it is added: typical of residential streets.
TYPICAL: dict[Piece, tuple[float, float]] = {
    "median": (1.0, 0.0),
    "lane": (3.2, -0.03),
    "parking": (2.2, -0.03),
    "verge": (1.8, 0.02),
    "path": (1.5, 0.02),
    "buffer": (0.6, 0.02),
}
NEW_LAYER = 0.15  # metres
INSIDE: tuple[Piece, ...] = ("median", "lane", "parking")  # of the lip
_BAY_TAPER = 2.0  # metres over which a parking bay's end closes: what a car swings through
OUTSIDE: tuple[Piece, ...] = ("verge", "path", "buffer")


def set_strip(site: Site, section: str, side: Side, index: int, **values: Any) -> Site:
    """Change the width (m) or grade (outwards, rising positive) of a strip, or what piece it is."""
    parts = list(_side(site, section, side).parts)
    old = _at(parts, index)
    if not isinstance(old, Strip):
        raise EditError("a kerb's width is its shape's; choose another kerb shape, or change that one")
    parts[index] = changed(old, **values)
    return _with_parts(site, section, side, parts)


def set_kerb(site: Site, section: str, side: Side, index: int, shape: str) -> Site:
    """Choose the shape of a kerb."""
    the(site, KerbShape, shape)
    parts = list(_side(site, section, side).parts)
    if not isinstance(_at(parts, index), KerbPart):
        raise EditError(f"piece {index + 1} is no kerb")
    parts[index] = made(KerbPart, kerb=shape)
    return _with_parts(site, section, side, parts)


def add_piece(site: Site, section: str, side: Side, after: int, piece: Piece | Kerb) -> Site:
    """Add a piece outwards of the one at ``after``; -1 puts it at the crown.

    What drives stays within the lip, what does not stays outside of it.
    """
    parts = list(_side(site, section, side).parts)
    lip = _lip(parts)
    if piece == "kerb":
        if after < lip:
            raise EditError("a kerb stands outside of the lip; add it after the strip that ends there")
        shapes = site.all(KerbShape)
        last = next((p for p in reversed(parts) if isinstance(p, KerbPart)), None)
        if not shapes:
            raise EditError("the site has no kerb shape; add one first")
        parts.insert(after + 1, made(KerbPart, kerb=last.kerb if last else shapes[0].id))
        return _with_parts(site, section, side, parts)
    if piece in INSIDE and after > lip:
        raise EditError(f"a {piece} lies within the lip; add it after a piece of the carriageway")
    if piece in OUTSIDE and after < lip:
        raise EditError(f"a {piece} lies outside of the lip; add it after the strip that ends there")
    width, grade = TYPICAL[piece]
    parts.insert(after + 1, made(Strip, to="", piece=piece, width=width, grade=grade))
    return _with_parts(site, section, side, parts)


def remove_piece(site: Site, section: str, side: Side, index: int) -> Site:
    """Take a piece out; what lies outside of it moves inwards."""
    parts = list(_side(site, section, side).parts)
    _at(parts, index)
    lip = _lip(parts)
    if lip == 0 and index == 0:
        raise EditError("a side needs a lane up to its lip; change its width instead")
    rest = [p for i, p in enumerate(parts) if i != index]
    if not any(isinstance(p, Strip) for p in rest[lip + (index > lip) :]):
        raise EditError("a side needs a strip up to its boundary; change its width instead")
    return _with_parts(site, section, side, rest)


def move_piece(site: Site, section: str, side: Side, index: int, by: int) -> Site:
    """Move a piece inwards (``by`` -1) or outwards (1) past its neighbour, on its own side of the lip."""
    parts = list(_side(site, section, side).parts)
    _at(parts, index)
    to, lip = index + by, _lip(parts)
    if not 0 <= to < len(parts) or (index <= lip) != (to <= lip):
        raise EditError("it is the last piece there; the lip and the boundary stay where they are")
    parts[index], parts[to] = parts[to], parts[index]
    return _with_parts(site, section, side, parts)


def set_batter(site: Site, section: str, side: Side, **slopes: float) -> Site:
    """Change the slope of a side's batters in cut or fill (rise per metre)."""
    found = the(site, TypicalSection, section)
    return _with_side(site, found, side, changed(found.side(side), **slopes))


def set_toe_drain(site: Site, section: str, side: Side, shape: str) -> Site:
    """Give a side a drain of a shape at the toe of its cuts; '' for none."""
    found = the(site, TypicalSection, section)
    old = found.side(side)
    if shape:
        the(site, KerbShape, shape)
    kept = None if not shape else changed(old.drain, shape=shape) if old.drain else made(ToeDrain, shape=shape)
    return _with_side(site, found, side, changed(old, drain=kept))


def change_toe_drain(site: Site, section: str, side: Side, **values: float) -> Site:
    """Change a side's drain: ``least_length``, ``least_gap``, ``taper`` (m) or ``least_fall``."""
    found = the(site, TypicalSection, section)
    old = found.side(side)
    if old.drain is None:
        raise EditError(f"'{found.name}' has no drain there; choose its shape first")
    return _with_side(site, found, side, changed(old, drain=changed(old.drain, **values)))


def set_benches(site: Site, section: str, side: Side, wanted: bool) -> Site:
    """Give a side's batters benches, of typical measures, or none."""
    found = the(site, TypicalSection, section)
    return _with_side(site, found, side, changed(found.side(side), benches=Benches() if wanted else None))


def change_benches(site: Site, section: str, side: Side, **values: float) -> Site:
    """Change a side's benches: the height between them (``every``, m), their ``width`` (m) or ``grade``."""
    found = the(site, TypicalSection, section)
    old = found.side(side)
    if old.benches is None:
        raise EditError(f"the batters of '{found.name}' have no benches there; add them first")
    return _with_side(site, found, side, changed(old, benches=changed(old.benches, **values)))


def set_apart(site: Site, section: str, apart: bool, like: Side = "left") -> Site:
    """Let both sides be alike, as the side ``like`` is now, or each for itself."""
    found = the(site, TypicalSection, section)
    fresh = {} if apart else {str(other_side(like)): found.side(like)}
    return site.put(changed(found, apart=apart, **fresh))


def set_layer(site: Site, section: str, index: int, **values: Any) -> Site:
    """Change what a layer of pavement is ``of``, or its ``thickness`` (m)."""
    found = the(site, TypicalSection, section)
    layers, k = list(found.layers), _layer(found, index)
    layers[k] = changed(layers[k], **values)
    return site.put(changed(found, layers=tuple(layers)))


def add_layer(site: Site, section: str, after: int) -> Site:
    """Add a layer of pavement under the one at ``after``; -1 puts it on top."""
    found = the(site, TypicalSection, section)
    taken = {layer.of for layer in found.layers}
    of = next(n for n in ("layer", *(f"layer {k}" for k in range(2, len(taken) + 3))) if n not in taken)
    fresh = made(Layer, of=of, thickness=NEW_LAYER)
    return site.put(changed(found, layers=(*found.layers[: after + 1], fresh, *found.layers[after + 1 :])))


def remove_layer(site: Site, section: str, index: int) -> Site:
    """Take a layer of pavement out."""
    found = the(site, TypicalSection, section)
    k = _layer(found, index)
    return site.put(changed(found, layers=(*found.layers[:k], *found.layers[k + 1 :])))


def _layer(section: TypicalSection, index: int) -> int:
    if not 0 <= index < len(section.layers):
        raise EditError(f"'{section.name}' has no layer of pavement {index + 1}")
    return index


def own_section(site: Site, street: str, section: str) -> Site:
    """Give a street a copy of one of its sections, named after it, in the place of that one."""
    s = the(site, Street, street)
    name = free_name(site, TypicalSection, f"{s.name} section")
    copy = changed(the(site, TypicalSection, section), id=free_id(site, TypicalSection, name), name=name)
    changes = tuple(changed(c, section=copy.id) if c.section == section else c for c in s.changes)
    first = copy.id if s.section == section else s.section
    return site.put(copy).put(changed(s, section=first, changes=changes))


def add_change(site: Site, street: str, chainage: float) -> Site:
    """Let a street's section change at a chainage: to a copy of what it has there, to be changed then."""
    s = the(site, Street, street)
    before = [c for c in s.changes if c.chainage < chainage]
    here = before[-1].section if before else s.section
    name = free_name(site, TypicalSection, f"{s.name} from {chainage:.0f}")
    copy = changed(the(site, TypicalSection, here), id=free_id(site, TypicalSection, name), name=name)
    fresh = made(SectionChange, chainage=chainage, section=copy.id)
    return site.put(copy).put(_with_changes(s, [*s.changes, fresh]))


def add_bay(site: Site, street: str, side: Side, begin: float, finish: float) -> Site:
    """A parking bay on one side of a street (as its sections have it), from one chainage to another: the section takes a
    parking lane there, over a short taper, and loses it again.
    """
    s = the(site, Street, street)
    if inside := next((c for c in s.changes if begin <= c.chainage + c.taper and c.chainage <= finish), None):
        raise EditError(f"the section changes at {inside.chainage:.2f} already; put the bay before or after that")
    if finish - begin <= 2.0 * _BAY_TAPER:
        raise EditError(f"a bay needs more than {2.0 * _BAY_TAPER:g} m; give it more room")
    before = [c for c in s.changes if c.chainage < begin]
    here = before[-1].section if before else s.section
    name = free_name(site, TypicalSection, f"{s.name} bay at {begin:.0f}")
    copy = changed(the(site, TypicalSection, here), id=free_id(site, TypicalSection, name), name=name, apart=True)
    site = site.put(copy)
    outer = len(copy.side(side).carriageway) - 1
    site = add_piece(site, copy.id, side, outer, "parking")
    fresh = [
        made(SectionChange, chainage=begin, section=copy.id, taper=_BAY_TAPER),
        made(SectionChange, chainage=finish - _BAY_TAPER, section=here, taper=_BAY_TAPER),
    ]
    return site.put(_with_changes(s, [*s.changes, *fresh]))


def set_change(site: Site, street: str, index: int, **values: Any) -> Site:
    """Change where a section changes (``chainage``), over what length (``taper``) or to which ``section``."""
    s = the(site, Street, street)
    if "section" in values:
        the(site, TypicalSection, values["section"])
    changes, k = list(s.changes), _within(s.changes, index)
    changes[k] = changed(changes[k], **values)
    return site.put(_with_changes(s, changes))


def remove_change(site: Site, street: str, index: int) -> Site:
    """Take a change of section away: the one before holds on."""
    s = the(site, Street, street)
    _within(s.changes, index)
    return site.put(_with_changes(s, [c for k, c in enumerate(s.changes) if k != index]))


def _within(changes: Sequence[SectionChange], index: int) -> int:
    if not 0 <= index < len(changes):
        raise EditError(f"there is no change of section {index + 1}")
    return index


def _with_changes(street: Street, changes: Sequence[SectionChange]) -> Street:
    return changed(street, changes=tuple(sorted(changes, key=lambda c: c.chainage)))


def _side(site: Site, section: str, side: Side) -> SectionSide:
    return the(site, TypicalSection, section).side(side)


def _at(parts: Sequence[Part], index: int) -> Part:
    if not 0 <= index < len(parts):
        raise EditError(f"a side of that section has no piece {index + 1}")
    return parts[index]


def _lip(parts: Sequence[Part]) -> int:
    return next(i for i, p in enumerate(parts) if isinstance(p, Strip) and p.to == "lip")


def _with_parts(site: Site, section: str, side: Side, parts: Sequence[Part]) -> Site:
    found = the(site, TypicalSection, section)
    old = found.side(side)
    if isinstance(parts[-1], KerbPart):
        raise EditError("nothing would lie behind the kerb; add a strip up to the boundary first")
    inside = sum(isinstance(p, Strip) and p.piece in INSIDE for p in parts)
    return _with_side(site, found, side, changed(old, parts=_named(parts, inside - 1)))


def _with_side(site: Site, section: TypicalSection, side: Side, fresh: SectionSide) -> Site:
    sides = dict.fromkeys(SIDES if section.linked else (side,), fresh)
    return site.put(changed(section, **{str(k): v for k, v in sides.items()}))


def _named(parts: Sequence[Part], lip: int) -> tuple[Part, ...]:
    """Strips with their outer ends named by what they are and what follows."""
    found: list[Part] = []
    for i, p in enumerate(parts):
        after = parts[i + 1] if i + 1 < len(parts) else None
        if isinstance(p, Strip):
            to = f"{p.piece} edge"
            if i == lip:
                to = "lip"
            elif after is None:
                to = "boundary"
            elif p.piece == "path":
                to = "path back"
            elif isinstance(after, Strip) and after.piece == "path":
                to = "path front"
            p = changed(p, to=to)
        found.append(p)
    return tuple(found)
