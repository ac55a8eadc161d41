"""Where a street's pavement is new in its full depth and where the old one gets an overlay; and whether that has room."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street.model import FullDepth, Street
from humble_loop.kinds.street.plan import StreetLine, chain_of, frame_of, is_new, name_of
from humble_loop.kinds.street.section import side_rows
from humble_loop.kinds.street.side import lip_width, sections_along
from humble_loop.kinds.street.spans import cut_span, moved_span
from humble_loop.lines.describe import Choice, Fact, Sheet, SheetRow
from humble_loop.lines.findings import Finding, Mend, point, too_low
from humble_loop.lines.line import ThingId, line
from humble_loop.site import parts
from humble_loop.site.edits import Edit, EditError, changed, free_id, made, the
from humble_loop.site.library import Layer, Overlay, TypicalSection
from humble_loop.site.model import SIDES, Side, Site, side_sign

OVERLAY_RULE = "overlay has no room"
_COLUMNS = ("what", "of", "thickness", "from", "to")
_SAG = 0.05  # metres between what is lit up and the line
_FRESH = 0.4, 0.6  # shares of a street between which a stretch is offered
_ROUND = 0.005  # metres to which more trimming is rounded up


# Edits


def set_overlay(site: Site, section: str, wanted: bool) -> Site:
    """Let a section's old pavement stay under an overlay of typical measures, or build all of it new."""
    return site.put(changed(the(site, TypicalSection, section), overlay=Overlay() if wanted else None))


def change_overlay(site: Site, section: str, **values: Any) -> Site:
    """Change a section's overlay: ``trim`` or ``beside_kerb`` (m)."""
    found = the(site, TypicalSection, section)
    return site.put(changed(found, overlay=changed(_overlay(found), **values)))


def set_overlay_layer(site: Site, section: str, index: int, **values: Any) -> Site:
    """Change what a layer of the overlay is ``of``, or its ``thickness`` (m)."""
    layers = list(_overlay(the(site, TypicalSection, section)).layers)
    layers[index] = changed(layers[index], **values)
    return change_overlay(site, section, layers=tuple(layers))


def add_overlay_layer(site: Site, section: str) -> Site:
    """Add a layer under those of the overlay."""
    layers = _overlay(the(site, TypicalSection, section)).layers
    return change_overlay(site, section, layers=(*layers, made(Layer, of="levelling layer", thickness=0.02)))


def remove_overlay_layer(site: Site, section: str, index: int) -> Site:
    """Take a layer of the overlay out."""
    layers = _overlay(the(site, TypicalSection, section)).layers
    if len(layers) == 1:
        raise EditError("an overlay needs a layer; take the overlay away instead")
    return change_overlay(site, section, layers=(*layers[:index], *layers[index + 1 :]))


def _overlay(section: TypicalSection) -> Overlay:
    if section.overlay is None:
        raise EditError(f"'{section.name}' has no overlay; choose one first")
    return section.overlay


def add_full_depth(site: Site, street: str, begin: float, finish: float) -> Site:
    """Build a stretch (chainages as drawn) in its full depth."""
    the(site, Street, street)
    id = free_id(site, FullDepth, f"{street} full depth")
    return site.put(made(FullDepth, id=id, street=street, begin=begin, finish=finish))


def set_full_depth(site: Site, id: str, **values: float) -> Site:
    """Change where a stretch of full depth begins or ends, as drawn."""
    return site.put(changed(the(site, FullDepth, id), **values))


def recut_full_depth(site: Site, street: str, kept: tuple[float, float], rest: str) -> Site:
    """The site with a street's stretches cut as the street was: see ``Kind.recut``."""
    for old in site.owned(FullDepth, street):
        site = site.without(FullDepth, old.id)
        here, there = cut_span((old.begin, old.finish), kept, rest)
        if here:
            site = site.put(changed(old, begin=here[0], finish=here[1]))
        if there:
            site = add_full_depth(site, rest, *there)
    return site


def rejoined_full_depth(site: Site, gone: str, street: str, start: float, back: bool) -> Site:
    """The site with the stretches of a street that became part of another: see ``Kind.rejoined``."""
    for old in site.owned(FullDepth, gone):
        span = moved_span((old.begin, old.finish), start, back)
        site = add_full_depth(site.without(FullDepth, old.id), street, *span)
    return site


# Where it is


@query
def full_depths(q: Engine, street: str) -> tuple[tuple[float, float, str], ...]:
    """Stretches of full depth in order: from, to (chainages of the street as it runs) and id."""
    found, total, turned = parts.owned(q, FullDepth, street), chain_of(q, street).total, frame_of(q, street).turned
    spans = [(total - f.finish, total - f.begin, f.id) if turned else (f.begin, f.finish, f.id) for f in found]
    return tuple(sorted(spans))


def has_overlay(q: Engine, street: str) -> bool:
    """Whether any section along a new street has one."""
    return is_new(q, street) and any(s.overlay is not None for _, s in sections_along(q, street))


def depth_stations(q: Engine, street: str) -> Floats:
    """Chainages at which a street must have a row for its stretches of full depth, and for another section's pavement."""
    if not has_overlay(q, street):
        return np.empty(0)
    total = chain_of(q, street).total
    halves = [c.chainage + 0.5 * c.taper for c, _ in sections_along(q, street) if c is not None]
    ends = np.array([*(s for begin, finish, _ in full_depths(q, street) for s in (begin, finish)), *halves])
    return ends[(ends > 0) & (ends < total)]


@query
def full_depth_areas(q: Engine, street: str, side: Side) -> tuple[Floats, Floats]:
    """Between the rows of a side: the areas (n - 1, in m2) that are new in their full depth where the section there has an
    overlay, and the chainages (n - 1) of their middles.

    That is a strip of the overlay's ``beside_kerb`` within the lip, or everything within it on a stretch of full depth.
    """
    s = side_rows(q, street, side)
    if len(s) < 2:
        return frozen([]), frozen([])
    chain, whole = chain_of(q, street), lip_width(q, street, side)(s)
    middle = 0.5 * (s[:-1] + s[1:])
    governing = [section_governing(q, street, m) for m in middle.tolist()]
    beside = np.array([g.overlay.beside_kerb if g.overlay else 0.0 for g in governing])
    for begin, finish, _ in full_depths(q, street):
        beside[(middle > begin) & (middle < finish)] = np.inf
    sign, areas = side_sign(side), []
    for k in range(len(middle)):
        inner = np.maximum(whole[k : k + 2] - beside[k], 0.0)
        p, r = chain.points_at(s[k : k + 2], sign * whole[k : k + 2]), chain.points_at(s[k : k + 2], sign * inner)
        (x, y) = np.concatenate([p, r[::-1]]).T
        areas.append(0.5 * abs(float(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1)))))
    return frozen(areas), frozen(middle)


def section_governing(q: Engine, street: str, s: float) -> TypicalSection:
    """The section whose pavement is built at a chainage: from half of its taper on it governs, as much is wider before as is
    narrower after.
    """
    found = sections_along(q, street)
    here = found[0][1]
    for change, section in found[1:]:
        assert change is not None
        if s >= change.chainage + 0.5 * change.taper:
            here = section
    return here


# Whether it has room


def overlay_findings(q: Engine, street: str) -> list[Finding]:
    """Where the finished level is too near to the old surface for the overlay, trimmed as it is."""
    ground, worst = ground_of(q), (0.0, 0.0, "")
    if ground.empty or not has_overlay(q, street):
        return []
    total = chain_of(q, street).total
    # A street's very end belongs to a stretch that goes as far.
    ends = ((-np.inf if a <= 0.0 else a, np.inf if b >= total else b) for a, b, _ in full_depths(q, street))
    stretches = tuple(ends)
    for side in SIDES:
        rows = side_rows(q, street, side)
        governing = [section_governing(q, street, s) for s in rows.tolist()]
        inside = np.array([any(a < s < b for a, b in stretches) for s in rows.tolist()], dtype=bool)
        crown, lip = (line(q, StreetLine(street, *which)).points(rows) for which in ((), ("lip", side)))
        width = np.hypot(*(lip - crown)[:, :2].T)
        for k, section in enumerate(governing):
            if section.overlay is None or inside[k]:
                continue
            share = 1.0 - min(section.overlay.beside_kerb / max(float(width[k]), 1e-9), 1.0)
            for p in (crown[k], crown[k] + share * (lip[k] - crown[k])):
                room = float(p[2] - ground.levels(p[None, :2])[0]) + section.overlay.trim - section.overlay.thickness
                if np.isfinite(room) and too_low(room, 0.0) and room < worst[0]:
                    worst = (room, float(rows[k]), section.id)
    room, s, id = worst
    if not id:
        return []
    found = parts.one(q, TypicalSection, id)
    trim = float(np.ceil((found.overlay.trim - room) / _ROUND - 1e-9) * _ROUND) if found.overlay else 0.0
    words = f"at {s:.2f} the old surface stands {-1000 * room:.0f} mm too high for its overlay"
    mend = Mend(f"Trim {1000 * trim:.0f} mm", lambda site: change_overlay(site, id, trim=trim))
    remedy = f"trim {1000 * trim:.0f} mm, raise the grade line, or build that stretch in its full depth"
    at = point(chain_of(q, street).points_at([s])[0])
    of = ThingId("street", street)
    return [Finding(OVERLAY_RULE, of, name_of(q, street), words, remedy, room, 0.0, s, at, "near", mend)]


# As rows


def overlay_sheet(q: Engine, street: str) -> Sheet:
    """What is done with an old pavement, section by section, and where all of it is new."""
    rows: list[SheetRow] = []
    for section in {s.id: s for _, s in sections_along(q, street)}.values():
        rows += _section_rows(section)
    adds: list[tuple[str, Edit]] = []
    if has_overlay(q, street):
        rows += [_depth_row(q, street, *span) for span in full_depths(q, street)]
        total = chain_of(q, street).total
        a, b = (float(round(v * total)) for v in _FRESH)
        adds.append((f"Full depth from {a:g} to {b:g}", lambda s: add_full_depth(s, street, *_drawn(q, street, a, b))))
    note = "Beside new kerbs and on stretches of full depth the pavement is built new, elsewhere the old one is trimmed and resurfaced"
    if not adds:
        note = "All of the pavement is new, in its full depth. Where an old one is to stay, choose an overlay"
    return Sheet("Overlay", StreetLine(street), _COLUMNS, tuple(rows), note, tuple(adds))


def _section_rows(section: TypicalSection) -> list[SheetRow]:
    none, id = np.empty((0, 2)), section.id
    options = (("no", "all new"), ("yes", "overlay"))
    pick = lambda v: lambda s: set_overlay(s, id, v == "yes")  # noqa: E731
    first = Choice("of", options, "no" if section.overlay is None else "yes", pick)
    rows = [SheetRow((Fact("what", "text", section.name), first, None, None, None), (0.0, 0.0), none)]
    if section.overlay is None:
        return rows

    def to(key: str, share: float = 1.0) -> Callable[[Any], Edit]:
        return lambda value: lambda s: change_overlay(s, id, **{key: value * share})

    def of_layer(k: int, key: str, share: float | None = None) -> Callable[[Any], Edit]:
        return lambda v: lambda s: set_overlay_layer(s, id, k, **{key: v if share is None else v * share})

    over = section.overlay
    beside = Fact("thickness", "size", over.beside_kerb, "set", to("beside_kerb"))
    rows.append(SheetRow((Fact("what", "text", "full depth beside kerbs"), None, beside, None, None), (0.0, 0.0), none))
    trim = Fact("thickness", "mm", 1000.0 * over.trim, "set", to("trim", 0.001))
    rows.append(SheetRow((Fact("what", "text", "trimmed, mm"), None, trim, None, None), (0.0, 0.0), none))
    for k, layer in enumerate(over.layers):
        cells = (
            Fact("what", "text", "laid, mm"),
            Fact("of", "text", layer.of, "set", of_layer(k, "of")),
            Fact("thickness", "mm", 1000.0 * layer.thickness, "set", of_layer(k, "thickness", 0.001)),
            None,
            None,
        )
        actions: tuple[tuple[str, Edit], ...] = (
            ("Add a layer under it", lambda s: add_overlay_layer(s, id)),
            ("Remove", _without(id, k)),
        )
        rows.append(SheetRow(cells, (0.0, 0.0), none, actions=actions))
    return rows


def _without(section: str, k: int) -> Edit:
    return lambda s: remove_overlay_layer(s, section, k)


def _depth_row(q: Engine, street: str, begin: float, finish: float, id: str) -> SheetRow:
    def moved(a: float, b: float) -> Edit:
        low, high = _drawn(q, street, a, b)
        return lambda s: set_full_depth(s, id, begin=low, finish=high)

    chain = chain_of(q, street)
    cells = (
        Fact("what", "text", "full depth"),
        None,
        None,
        Fact("from", "chainage", begin, "set", lambda v: moved(v, finish)),
        Fact("to", "chainage", finish, "set", lambda v: moved(begin, v)),
    )
    low, high = max(begin, 0.0), min(finish, chain.total)
    s = chain.sampled(sag=_SAG)
    lit = (
        chain.points_at(np.concatenate([[low], s[(s > low) & (s < high)], [high]])) if high > low else np.empty((0, 2))
    )
    return SheetRow(cells, (low, high), lit, actions=(("Remove", lambda s: s.without(FullDepth, id)),))


def _drawn(q: Engine, street: str, begin: float, finish: float) -> tuple[float, float]:
    """Chainages of the street as it runs, as it was drawn."""
    total = chain_of(q, street).total
    return (total - finish, total - begin) if frame_of(q, street).turned else (begin, finish)
