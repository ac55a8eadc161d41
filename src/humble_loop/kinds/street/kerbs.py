"""Kerb shapes point by point: edits, and rows with the shape drawn beside them. Measures are millimetres from the lip."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine
from humble_loop.kinds.street.plan import StreetLine, is_new, name_of, street_ids
from humble_loop.kinds.street.side import sections_along
from humble_loop.lines.describe import Fact, Sheet, SheetOf, SheetRow
from humble_loop.site import parts
from humble_loop.site.edits import Edit, EditError, changed, free_id, free_name, made, rename, the
from humble_loop.site.library import KerbPart, KerbPoint, KerbShape, TypicalSection
from humble_loop.site.model import SIDES, Site

_COLUMNS = ("point", "out", "up", "wide", "high")
_BEYOND = (100.0, 5.0)  # mm out and up of a point that is added after the last


def set_kerb_point(site: Site, shape: str, index: int, **values: Any) -> Site:
    """Change a point's name (``point``) or where it lies: ``out`` and ``up``, mm from the lip."""
    found = the(site, KerbShape, shape)
    points, k = list(found.points), _within(found, index)
    points[k] = changed(points[k], **values)
    return site.put(changed(found, points=tuple(points)))


def add_kerb_point(site: Site, shape: str, after: int) -> Site:
    """Add a point half way from the one at ``after`` (-1: the lip) to the next, or beyond the last."""
    found = the(site, KerbShape, shape)
    at = [(0.0, 0.0), *((p.out, p.up) for p in found.points)]
    out, up = at[after + 1]
    if after + 2 < len(at):
        out, up = 0.5 * (out + at[after + 2][0]), 0.5 * (up + at[after + 2][1])
    else:
        out, up = out + _BEYOND[0], up + _BEYOND[1]
    taken = {p.point for p in found.points}
    name = next(n for n in ("break", *(f"break {k}" for k in range(2, len(taken) + 3))) if n not in taken)
    fresh = made(KerbPoint, point=name, out=round(out, 1), up=round(up, 1))
    return site.put(changed(found, points=(*found.points[: after + 1], fresh, *found.points[after + 1 :])))


def set_lining(site: Site, shape: str, thickness: float) -> Site:
    """Change how thick (mm) a shape is lined or built."""
    return site.put(changed(the(site, KerbShape, shape), lining=thickness))


def remove_kerb_point(site: Site, shape: str, index: int) -> Site:
    """Take a point out of a shape."""
    found = the(site, KerbShape, shape)
    _within(found, index)
    if len(found.points) == 1:
        raise EditError(
            f"kerb shape '{found.name}' needs a point besides its lip; take the kerb out of the section instead"
        )
    return site.put(changed(found, points=(*found.points[:index], *found.points[index + 1 :])))


def copy_kerb(site: Site, shape: str, street_sections: tuple[str, ...]) -> Site:
    """Copy a shape under another name, and have the pieces of some sections take the copy."""
    found = the(site, KerbShape, shape)
    name = free_name(site, KerbShape, found.name)
    copy = changed(found, id=free_id(site, KerbShape, name), name=name)
    site = site.put(copy)
    for id in street_sections:
        section = the(site, TypicalSection, id)
        sides = {}
        for side in SIDES:
            kept = (
                made(KerbPart, kerb=copy.id) if isinstance(p, KerbPart) and p.kerb == shape else p
                for p in section.side(side).parts
            )
            drain = section.side(side).drain
            drain = changed(drain, shape=copy.id) if drain is not None and drain.shape == shape else drain
            sides[str(side)] = changed(section.side(side), parts=tuple(kept), drain=drain)
        site = site.put(changed(section, **sides))
    return site


def _within(shape: KerbShape, index: int) -> int:
    if not 0 <= index < len(shape.points):
        raise EditError(f"kerb shape '{shape.name}' has no point {index + 1}")
    return index


# As rows


def kerb_sheets(q: Engine, street: str) -> tuple[SheetOf, ...]:
    """A sheet for each shape that a street's sections have of a kerb, or of a drain at the toe of a cut."""
    if not is_new(q, street):
        return ()
    sections = {section.id: section for _, section in sections_along(q, street)}
    every = [s.side(side) for s in sections.values() for side in SIDES]
    kerbs = dict.fromkeys(p.kerb for side in every for p in side.parts if isinstance(p, KerbPart))
    drains = dict.fromkeys(side.drain.shape for side in every if side.drain is not None)
    titled = [("Kerb", id) for id in kerbs] + [("Drain shape", id) for id in drains if id not in kerbs]
    found = []
    for title in ("Kerb", "Drain shape"):
        own = [id for t, id in titled if t == title]
        for k, id in enumerate(own, start=1):
            words = title if k == 1 else f"{title} {k}"
            found.append(
                SheetOf(words, partial(_kerb_sheet, street=street, title=words, id=id, sections=tuple(sections)))
            )
    return tuple(found)


def _kerb_sheet(q: Engine, street: str, title: str, id: str, sections: tuple[str, ...]) -> Sheet:
    shape = parts.kerb_shape(q, id)
    at = [(0.0, 0.0), *((p.out, p.up) for p in shape.points)]
    none = np.empty((0, 2))
    head = Fact("shape", "text", shape.name, "set", lambda v: lambda s: rename(s, KerbShape, id, v))
    rows = [SheetRow((head, None, None, None, None), (0.0, 0.0), none)]
    lip = (Fact("point", "text", "lip"), Fact("out", "mm", 0.0), Fact("up", "mm", 0.0), None, None)
    rows.append(SheetRow(lip, (0.0, 0.0), none, actions=(("Add a point", lambda s: add_kerb_point(s, id, -1)),)))
    for k, p in enumerate(shape.points):
        cells = (
            Fact("point", "text", p.point, "set", _to(id, k, "point")),
            Fact("out", "mm", p.out, "set", _to(id, k, "out")),
            Fact("up", "mm", p.up, "set", _to(id, k, "up")),
            Fact("wide", "mm", p.out - at[k][0]),
            Fact("high", "mm", p.up - at[k][1]),
        )
        rows.append(SheetRow(cells, (0.0, 0.0), none, actions=_actions(id, k)))
    lining = (Fact("point", "text", "lining"), None, None, None, Fact("high", "mm", shape.lining, "set", _lined(id)))
    rows.append(SheetRow(lining, (0.0, 0.0), none))
    others = [name_of(q, s) for s in street_ids(q) if s != street and _uses(q, s, id)]
    note = f"{shape.name}: millimetres outwards from the lip and above it"
    if others:
        note += f". Used by {', '.join(others[:2])} too" + (f" and {len(others) - 2} more" if len(others) > 2 else "")
    copy: tuple[tuple[str, Edit], ...] = ((f"Own copy for {name_of(q, street)}", lambda s: copy_kerb(s, id, sections)),)
    outline = tuple(
        (name, o / 1000.0, u / 1000.0) for name, (o, u) in zip(("lip", *(p.point for p in shape.points)), at)
    )
    return Sheet(title, StreetLine(street), _COLUMNS, tuple(rows), note, copy, outline)


def _to(shape: str, k: int, key: str) -> Callable[[Any], Edit]:
    return lambda value: lambda s: set_kerb_point(s, shape, k, **{key: value})


def _lined(shape: str) -> Callable[[Any], Edit]:
    return lambda value: lambda s: set_lining(s, shape, value)


def _actions(shape: str, k: int) -> tuple[tuple[str, Edit], ...]:
    return (
        ("Add a point", lambda s: add_kerb_point(s, shape, k)),
        ("Remove", lambda s: remove_kerb_point(s, shape, k)),
    )


def _uses(q: Engine, street: str, shape: str) -> bool:
    every = (section.side(side) for _, section in sections_along(q, street) for side in SIDES)
    return any(
        (side.drain is not None and side.drain.shape == shape)
        or any(isinstance(p, KerbPart) and p.kerb == shape for p in side.parts)
        for side in every
    )
