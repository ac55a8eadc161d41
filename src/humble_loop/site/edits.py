"""Edits: small pure functions from a site to a new one that shares everything untouched.

The window, the command line and the tests use the same ones. An edit that makes no sense raises EditError with
one sentence, and the site stays as it was.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from typing import Any

from pydantic import ValidationError

from humble_loop.site.model import (
    Bend,
    Corner,
    End,
    Ground,
    Head,
    JunctionChoice,
    LotRow,
    PadChoice,
    SetOut,
    Settings,
    Side,
    Site,
    Street,
    SurveyLine,
    TypicalSection,
    Vip,
    slug,
)


class EditError(ValueError):
    """An edit that cannot be made; the message says what, where and what to do."""


def sentence(error: ValidationError) -> str:
    """The first complaint of ``error`` as one clear sentence."""
    first = error.errors()[0]
    where = " / ".join(str(part) for part in first["loc"])
    words = first["msg"].removeprefix("Value error, ")
    return f"{where}: {words}" if where else words


def _changed(model: Any, **values: Any) -> Any:
    """A copy of ``model`` with ``values``, checked again; parts that stay are shared, not copied."""
    try:
        return type(model).model_validate({**{k: getattr(model, k) for k in type(model).model_fields}, **values})
    except ValidationError as error:
        raise EditError(sentence(error)) from None


def _with(site: Site, collection: str, thing: Any) -> Site:
    """The site with ``thing`` in place of the one with its id, or added at the end."""
    things = getattr(site, collection)
    if any(t.id == thing.id for t in things):
        return site.model_copy(update={collection: tuple(thing if t.id == thing.id else t for t in things)})
    return site.model_copy(update={collection: (*things, thing)})


def street_of(site: Site, street: str) -> Street:
    """The street with that id or name. Raises EditError when there is none."""
    found = next((s for s in site.streets if street in (s.id, s.name)), None)
    if found is None:
        raise EditError(f"there is no street '{street}'")
    return found


def free_id(site: Site, collection: str, name: str) -> str:
    """An id for ``name`` that nothing in ``collection`` has yet."""
    taken = {t.id for t in getattr(site, collection)}
    base = slug(name)
    return next(i for i in (base, *(f"{base}-{n}" for n in range(2, len(taken) + 3))) if i not in taken)


def free_name(site: Site, collection: str, name: str) -> str:
    """``name``, or ``name 2`` and so on when it is taken."""
    taken = {t.name for t in getattr(site, collection)}
    return next(i for i in (name, *(f"{name} {n}" for n in range(2, len(taken) + 3))) if i not in taken)


def add_ground(site: Site, ground: Ground) -> Site:
    """Add a surface and make it the current one."""
    fresh = ground.model_copy(update={"id": free_id(site, "grounds", ground.name)})
    return _with(site, "grounds", fresh).model_copy(update={"current_ground": fresh.id})


def add_survey_lines(site: Site, lines: Sequence[SurveyLine]) -> Site:
    """Add existing lines; ids are made unique."""
    taken = {line.id for line in site.survey_lines}
    fresh = []
    for line in lines:
        i, n = line.id, 2
        while i in taken:
            i, n = f"{line.id}-{n}", n + 1
        taken.add(i)
        fresh.append(line.model_copy(update={"id": i}))
    return site.model_copy(update={"survey_lines": (*site.survey_lines, *fresh)})


def add_street(site: Site, name: str, bends: Sequence[Bend], **choices: Any) -> Site:
    """Add a street through ``bends``; its name is made unique."""
    unique = free_name(site, "streets", name)
    try:
        street = Street(id=free_id(site, "streets", unique), name=unique, bends=tuple(bends), **choices)
    except ValidationError as error:
        raise EditError(f"street '{name}': {sentence(error)}") from None
    return _with(site, "streets", street)


def remove_street(site: Site, street: str) -> Site:
    """Remove a street with its junction choices and lot rows."""
    i = street_of(site, street).id
    return site.model_copy(
        update={
            "streets": tuple(s for s in site.streets if s.id != i),
            "junctions": tuple(j for j in site.junctions if j.side != i),
            "lot_rows": tuple(r for r in site.lot_rows if r.street != i),
        }
    )


def rename_street(site: Site, street: str, name: str) -> Site:
    """Give a street another name."""
    if not name.strip():
        raise EditError("a street needs a name")
    if any(s.name == name and s.id != street for s in site.streets):
        raise EditError(f"there is a street '{name}' already")
    return _with(site, "streets", _changed(street_of(site, street), name=name.strip()))


def set_street(site: Site, street: str, **values: Any) -> Site:
    """Change any fields of a street (class, section, kind, lips, head, ...)."""
    return _with(site, "streets", _changed(street_of(site, street), **values))


def move_bend(site: Site, street: str, index: int, easting: float, northing: float) -> Site:
    """Move an intersection point."""
    return set_bend(site, street, index, easting=easting, northing=northing)


def set_bend(site: Site, street: str, index: int, **values: float) -> Site:
    """Change fields of a bend: easting, northing, radius, transition_in, transition_out."""
    s = street_of(site, street)
    if not 0 <= index < len(s.bends):
        raise EditError(f"'{s.name}' has no bend {index + 1}")
    bends = list(s.bends)
    bends[index] = _changed(bends[index], **values)
    return _with(site, "streets", _changed(s, bends=tuple(bends)))


def insert_bend(site: Site, street: str, index: int, bend: Bend) -> Site:
    """Put a new intersection point before bend ``index``."""
    s = street_of(site, street)
    return _with(site, "streets", _changed(s, bends=(*s.bends[:index], bend, *s.bends[index:])))


def remove_bend(site: Site, street: str, index: int) -> Site:
    """Take an intersection point out."""
    s = street_of(site, street)
    if len(s.bends) <= 2:
        raise EditError(f"'{s.name}' needs at least its two ends")
    return _with(site, "streets", _changed(s, bends=(*s.bends[:index], *s.bends[index + 1 :])))


def reverse_street(site: Site, street: str, length: float) -> Site:
    """Run a street the other way: its bends, VIPs (``length`` is the centreline's, in metres) and lips turn round.

    A VIP set by its grade has no meaning the other way round, so such a street is refused.
    """
    s = street_of(site, street)
    if any(v.level is None for v in s.vips):
        raise EditError(f"{s.name}: a VIP is set by its grade; set levels before reversing the street")
    bends = tuple(
        b.model_copy(update={"transition_in": b.transition_out, "transition_out": b.transition_in})
        for b in reversed(s.bends)
    )
    vips = tuple(v.model_copy(update={"chainage": length - v.chainage}) for v in reversed(s.vips))
    turned = _changed(s, bends=bends, vips=vips, left_lip=s.right_lip, right_lip=s.left_lip)
    swap = {"left": "right", "right": "left", "head": "head"}
    rows = tuple(
        r.model_copy(
            update={
                "place": swap[r.place],
                "start": None if r.end is None else length - r.end,
                "end": None if r.start is None else length - r.start,
            }
        )
        if r.street == s.id
        else r
        for r in site.lot_rows
    )
    ends: dict[End, End] = {"start": "end", "end": "start"}
    choices = tuple(j.model_copy(update={"end": ends[j.end]}) if j.side == s.id else j for j in site.junctions)
    return _with(site, "streets", turned).model_copy(update={"lot_rows": rows, "junctions": choices})


def set_vips(site: Site, street: str, vips: Sequence[Vip]) -> Site:
    """Set the whole grade line; none gives it back to the proposal."""
    ordered = tuple(sorted(vips, key=lambda v: v.chainage))
    return _with(site, "streets", _changed(street_of(site, street), vips=ordered))


def set_vip(site: Site, street: str, index: int, **values: float | None) -> Site:
    """Change fields of VIP ``index`` of the set grade line. Setting a level clears a grade, and the other way."""
    s = street_of(site, street)
    if not 0 <= index < len(s.vips):
        raise EditError(f"'{s.name}' has no VIP {index + 1}")
    if values.get("level") is not None:
        values["grade"] = None
    elif values.get("grade") is not None:
        values["level"] = None
    vips = list(s.vips)
    vips[index] = _changed(vips[index], **values)
    return _with(site, "streets", _changed(s, vips=tuple(vips)))


def remove_vip(site: Site, street: str, index: int) -> Site:
    """Take a VIP out of the set grade line."""
    s = street_of(site, street)
    return set_vips(site, s.id, [v for i, v in enumerate(s.vips) if i != index])


def set_head(site: Site, street: str, **values: Any) -> Site:
    """Give a street a bulb, or change fields of the one it has."""
    s = street_of(site, street)
    return _with(site, "streets", _changed(s, head=_changed(s.head or Head(), **values)))


def remove_head(site: Site, street: str) -> Site:
    """Take a street's turning head away, and the lots round it."""
    s = street_of(site, street)
    rows = tuple(r for r in site.lot_rows if not (r.street == s.id and r.place == "head"))
    return _with(site, "streets", _changed(s, head=None)).model_copy(update={"lot_rows": rows})


def junction_choice(site: Site, side: str, end: End) -> JunctionChoice:
    """What was decided about the junction at ``end`` of street ``side``; the defaults if nothing was."""
    return next((j for j in site.junctions if j.side == side and j.end == end), JunctionChoice(side=side, end=end))


def set_corner(site: Site, side: str, end: End, corner: Side, **values: Any) -> Site:
    """Change a corner of the junction at ``end`` of street ``side``: radius, divisions, pit."""
    old = junction_choice(site, side, end)
    mine: Corner = getattr(old, corner)
    fresh = _changed(old, **{corner: _changed(mine, **values)})
    rest = tuple(j for j in site.junctions if not (j.side == side and j.end == end))
    return site.model_copy(update={"junctions": (*rest, fresh)})


def add_lot_row(site: Site, street: str, place: str, **values: Any) -> Site:
    """Add a row of lots; ``values`` are fields of LotRow."""
    s = street_of(site, street)
    name = free_name(site, "lot_rows", f"{s.name} {place}")
    try:
        row = LotRow.model_validate(
            {"id": free_id(site, "lot_rows", name), "name": name, "street": s.id, "place": place, **values}
        )
    except ValidationError as error:
        raise EditError(sentence(error)) from None
    return _with(site, "lot_rows", row)


def set_lot_row(site: Site, row: str, **values: Any) -> Site:
    """Change fields of a row of lots."""
    old = site.find("lot_rows", row)
    if old is None:
        raise EditError(f"there is no row of lots '{row}'")
    return _with(site, "lot_rows", _changed(old, **values))


def remove_lot_row(site: Site, row: str) -> Site:
    """Take a row of lots away."""
    return site.model_copy(update={"lot_rows": tuple(r for r in site.lot_rows if r.id != row)})


def set_pad(site: Site, lot: str, level: float | None) -> Site:
    """Set a pad's level, or give it back to the proposal with None."""
    rest = tuple(p for p in site.pads if p.lot != lot)
    if level is None:
        return site.model_copy(update={"pads": rest})
    if not math.isfinite(level):
        raise EditError(f"{lot}: a pad level must be a number")
    return site.model_copy(update={"pads": (*rest, PadChoice(lot=lot, level=level))})


def set_section(site: Site, section: TypicalSection) -> Site:
    """Put a typical section in place of the one with its id, or add it."""
    return _with(site, "sections", section)


def set_settings(site: Site, **values: Any) -> Site:
    """Change fields of the settings."""
    fresh: Settings = _changed(site.settings, **values)
    return site.model_copy(update={"settings": fresh})


def set_set_out(site: Site, **values: Any) -> Site:
    """Change how set-out points are taken."""
    fresh: SetOut = _changed(site.set_out, **values)
    return site.model_copy(update={"set_out": fresh})
