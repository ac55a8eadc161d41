"""Edits of streets. Coordinates are as people know them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np

from humble_loop.geometry.bend_fit import CannotFit, leg_for_straight, radius_wanted
from humble_loop.geometry.bends import BendInput
from humble_loop.kinds.street.model import Bend, Street, Vip, bend_input
from humble_loop.site.edits import EditError, changed, free_id, free_name, made, remove, rename, the
from humble_loop.site.model import Anchor, Site

_SAME = 1e-6  # metres between two chainages that are one
_PAIRED, _TURNED = ("transition", "radius", "turn"), (("in", "out"), ("out", "in"))


def add_street(site: Site, name: str, bends: Sequence[Bend], **choices: Any) -> Site:
    """Add a street through ``bends``; its name is made unique."""
    unique = free_name(site, Street, name)
    try:
        street = made(Street, id=free_id(site, Street, unique), name=unique, bends=tuple(bends), **choices)
    except EditError as error:
        raise EditError(f"street '{name}': {error}") from None
    return site.put(street)


def like_the_last(site: Site, street: str = "") -> dict[str, str]:
    """Class and section for the next street that is drawn: those of ``street`` where it is a new one, or of the new street
    that was drawn last.
    """
    new = [s for s in site.all(Street) if s.kind == "new"]
    like = next((s for s in new if s.id == street), new[-1] if new else None)
    if like is None:
        return {k: Street.model_fields[k].default for k in ("street_class", "section")}
    return {"street_class": like.street_class, "section": like.section}


def remove_street(site: Site, street: str) -> Site:
    """Remove a street with all that belongs to it: choices at its junctions, heads, lots and what was set on them."""
    return remove(site, Street, street)


def rename_street(site: Site, street: str, name: str) -> Site:
    """Give a street another name."""
    return rename(site, Street, street, name)


def set_street(site: Site, street: str, **values: Any) -> Site:
    """Change any fields of a street (class, section, kind, lips, ...)."""
    return site.put(changed(the(site, Street, street), **values))


def move_bend(site: Site, street: str, index: int, easting: float, northing: float) -> Site:
    """Move an intersection point."""
    return set_bend(site, street, index, easting=easting, northing=northing)


def set_bend(site: Site, street: str, index: int, **values: float) -> Site:
    """Change fields of a bend: easting, northing, radius, transition_in, transition_out, and those of its outer arcs."""
    s = the(site, Street, street)
    if not 0 <= index < len(s.bends):
        raise EditError(f"'{s.name}' has no bend {index + 1}")
    bends = list(s.bends)
    bends[index] = changed(bends[index], **values)
    return site.put(changed(s, bends=tuple(bends)))


def fit_bend(site: Site, street: str, index: int, **wanted: Any) -> Site:
    """Give a bend the radius that does what is ``wanted``: one of tangent_in, tangent_out and arc (metres), and
    through=(easting, northing). Its transitions stay.
    """
    s = the(site, Street, street)
    if not 0 < index < len(s.bends) - 1:
        raise EditError(f"'{s.name}' has no bend {index + 1} with a radius")
    before, b, after = s.bends[index - 1 : index + 2]
    try:
        radius = radius_wanted(
            (before.easting, before.northing), bend_input(b), (after.easting, after.northing), **wanted
        )
    except CannotFit as error:
        raise EditError(f"'{s.name}' bend {index + 1}: {error}") from None
    return set_bend(site, street, index, radius=radius)


def lay_leg(
    site: Site, street: str, index: int, *, straight: float | None = None, bearing: float | None = None
) -> Site:
    """Lay the leg that leaves bend ``index`` anew: with a ``straight`` of that length (m), or along a ``bearing`` (degrees
    from north) and as long as it is. The bend at its other end moves, and the others stay: so a line is typed as its
    schedule gives it, from the first element to the last.
    """
    s = the(site, Street, street)
    if not 0 <= index < len(s.bends) - 1:
        raise EditError(f"'{s.name}' has no leg after bend {index + 1}")
    points = [(b.easting, b.northing) for b in s.bends]
    (e0, n0), (e1, n1) = points[index], points[index + 1]
    length = float(np.hypot(e1 - e0, n1 - n0))
    heading = float(np.arctan2(n1 - n0, e1 - e0))
    if straight is not None:
        before, after = points[max(index - 1, 0)], points[min(index + 2, len(points) - 1)]
        inner = range(1, len(points) - 1)
        first, second = (  # an end of the line has no curve
            bend_input(b) if k in inner else BendInput(b.easting, b.northing)
            for k, b in enumerate(s.bends)
            if k - index in (0, 1)
        )
        try:
            length = leg_for_straight(before, (first, second), after, straight)
        except CannotFit as error:
            raise EditError(f"'{s.name}' from bend {index + 1}: {error}") from None
    if bearing is not None:
        heading = float(np.radians(90.0 - bearing))
    return move_bend(
        site, street, index + 1, e0 + length * float(np.cos(heading)), n0 + length * float(np.sin(heading))
    )


_WIDER, _QUARTER = 2.5, 0.25


def set_centres(site: Site, street: str, index: int, three: bool, turn: float) -> Site:
    """Make a bend three-centred, or simple again. ``turn`` is its deflection in degrees: to begin with, each outer arc turns a
    quarter of it on two and a half times the radius.
    """
    b = the(site, Street, street).bends[index]
    wide, part = (_WIDER * b.radius, _QUARTER * abs(turn)) if three else (0.0, 0.0)
    return set_bend(site, street, index, radius_in=wide, turn_in=part, radius_out=wide, turn_out=part)


def insert_bend(site: Site, street: str, index: int, bend: Bend) -> Site:
    """Put a new intersection point before bend ``index``."""
    s = the(site, Street, street)
    return site.put(changed(s, bends=(*s.bends[:index], bend, *s.bends[index:])))


def remove_bend(site: Site, street: str, index: int) -> Site:
    """Take an intersection point out."""
    s = the(site, Street, street)
    if len(s.bends) <= 2:
        raise EditError(f"'{s.name}' needs at least its two ends")
    return site.put(changed(s, bends=(*s.bends[:index], *s.bends[index + 1 :])))


def reverse_street(site: Site, street: str, length: float) -> Site:
    """Run a street the other way: its bends, VIPs (``length`` is the centreline's, in metres) and lips turn round.

    What hangs on its ends and sides stays where it is. A VIP set by its grade has no meaning the other way round,
    so such a street is refused.
    """
    s = the(site, Street, street)
    if any(v.level is None for v in s.vips):
        raise EditError(f"{s.name}: a VIP is set by its grade; set levels before reversing the street")
    bends = tuple(
        b.model_copy(
            update={f"{what}_{side}": getattr(b, f"{what}_{other}") for what in _PAIRED for side, other in _TURNED}
        )
        for b in reversed(s.bends)
    )
    vips = tuple(v.model_copy(update={"chainage": length - v.chainage}) for v in reversed(s.vips))
    sections = (s.section, *(c.section for c in s.changes))
    changes = tuple(
        c.model_copy(update={"chainage": length - c.chainage - c.taper, "section": before})
        for c, before in zip(reversed(s.changes), reversed(sections[:-1]))
    )
    lips = {"left_lip": s.right_lip, "right_lip": s.left_lip}
    return site.put(
        changed(s, bends=bends, vips=vips, section=sections[-1], changes=changes, turned=not s.turned, **lips)
    )


def set_vips(site: Site, street: str, vips: Sequence[Vip]) -> Site:
    """Set the whole grade line; none gives it back to the proposal."""
    ordered = tuple(sorted(vips, key=lambda v: v.chainage))
    return site.put(changed(the(site, Street, street), vips=ordered, proposed_between=False))


def propose_again(site: Site, street: str) -> Site:
    """Give a grade line back to the proposal, between the VIPs that are locked."""
    s = the(site, Street, street)
    locked = tuple(v for v in s.vips if v.locked)
    return site.put(changed(s, vips=locked, proposed_between=bool(locked)))


def set_wanted(site: Site, street: str, **values: Any) -> Site:
    """Change what proposals for a street's grade line are to keep."""
    s = the(site, Street, street)
    return site.put(changed(s, wanted=changed(s.wanted, **values)))


def lock_vip(site: Site, street: str, index: int, level: float) -> Site:
    """Hold VIP ``index`` of the set grade line where it is, at ``level``; its grade, where that was set, is given up."""
    return _with_vip(site, street, index, locked=True, level=level, grade=None)


def unlock_vip(site: Site, street: str, index: int) -> Site:
    """Let a VIP be moved again. Where the rest is proposed between locked ones, it goes back to the proposal."""
    s = the(site, Street, street)
    if 0 <= index < len(s.vips) and s.vips[index].follows is not None:
        raise EditError(
            f"the VIP of '{s.name}' at {s.vips[index].chainage:.2f} follows another line: set its level free in the rows"
        )
    if s.proposed_between:
        return propose_again(site.put(changed(s, proposed_between=False, vips=_unlocked(s.vips, index))), street)
    return _with_vip(site, street, index, locked=False)


def follow_vip(site: Site, street: str, index: int, anchor: Anchor | None, level: float) -> Site:
    """Let VIP ``index`` of the set grade line follow another line, or set it free where it lies, at ``level``; it stays locked."""
    return _with_vip(site, street, index, locked=True, level=level, grade=None, follows=anchor)


def _unlocked(vips: Sequence[Vip], index: int) -> tuple[Vip, ...]:
    return tuple(changed(v, locked=False) if i == index else v for i, v in enumerate(vips))


def lock_proposed(site: Site, street: str, vip: Vip) -> Site:
    """Lock a VIP of a line that is proposed, at the level that it has there; the rest goes on being proposed."""
    s = the(site, Street, street)
    locked = [*(v for v in s.vips if abs(v.chainage - vip.chainage) > _SAME), changed(vip, locked=True)]
    return site.put(changed(s, vips=tuple(sorted(locked, key=lambda v: v.chainage)), proposed_between=True))


def set_vip(site: Site, street: str, index: int, **values: float | None) -> Site:
    """Change fields of VIP ``index`` of the set grade line. Setting a level clears a grade, and the other way."""
    _movable(the(site, Street, street), index)
    if values.get("level") is not None:
        values["grade"] = None
    elif values.get("grade") is not None:
        values["level"] = None
    return _with_vip(site, street, index, **values)


def _movable(street: Street, index: int) -> None:
    if 0 <= index < len(street.vips) and street.vips[index].locked:
        raise EditError(f"the VIP of '{street.name}' at {street.vips[index].chainage:.2f} is locked: unlock it first")


def _with_vip(site: Site, street: str, index: int, **values: Any) -> Site:
    s = the(site, Street, street)
    if not 0 <= index < len(s.vips):
        raise EditError(f"'{s.name}' has no VIP {index + 1}")
    vips = list(s.vips)
    vips[index] = changed(vips[index], **values)
    return site.put(changed(s, vips=tuple(vips)))


def raise_vips(site: Site, street: str, by: float, proposed: Sequence[Vip] = ()) -> Site:
    """Raise every set level of a grade line by metres (below zero: lower it); ``proposed`` VIPs are set first where none is.

    Tied ends and locked VIPs stay where they are; a VIP that is set by its grade follows the one before it.
    """
    s = the(site, Street, street)
    vips = tuple(proposed) or s.vips
    if not vips:
        raise EditError(f"'{s.name}' has no grade line to be raised")
    held = [v.level is None or v.locked for v in vips]
    return set_vips(site, s.id, [v if h else changed(v, level=(v.level or 0.0) + by) for v, h in zip(vips, held)])


def remove_vip(site: Site, street: str, index: int) -> Site:
    """Take a VIP out of the set grade line."""
    s = the(site, Street, street)
    _movable(s, index)
    return set_vips(site, s.id, [v for i, v in enumerate(s.vips) if i != index])
