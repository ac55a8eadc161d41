"""Pavement: the layers under what is driven on, and how much of each it takes."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.kinds.street.faces import StreetFace
from humble_loop.kinds.street.overlay import full_depth_areas, has_overlay, section_governing
from humble_loop.kinds.street.plan import chain_of, is_new, name_of, street_ids
from humble_loop.kinds.street.side import sections_along
from humble_loop.lines.faces import FaceId, finished_mesh
from humble_loop.site.library import TypicalSection
from humble_loop.whole.overlaps import counted
from humble_loop.whole.things import all_faces

PAVED = frozenset({"carriageway", "parking", "junction", "bulb"})


@dataclass(frozen=True)
class LayerQuantity:
    """A layer of a street's pavement where it has one section: area in plan (m2) and volume (m3).

    ``build`` is 'full depth', 'overlay', or 'trimmed' for what is taken off the old pavement.
    """

    street: str
    section: str
    build: str
    of: str
    thickness: float
    area: float

    @property
    def volume(self) -> float:
        """Cubic metres."""
        return self.area * self.thickness


@query
def paved_areas(q: Engine, id: FaceId) -> dict[str, float]:
    """What is driven on of a face, in m2 by the id of the section that governs there; each square metre of the site once.

    A junction has the section of the street that leaves the other there, a head that of its own street's end.
    """
    street = _street_of(id)
    if street not in street_ids(q) or not is_new(q, street):
        return {}
    piece = finished_mesh(q, id)
    roles = np.array([r in PAVED for r in piece.roles], dtype=bool)
    own = roles[piece.role_of] if len(piece.role_of) else np.zeros(0, dtype=bool)
    if not own.any():
        return {}
    areas = piece.surface.areas()
    whole = float(areas.sum())
    share = float(counted(q, id).areas().sum()) / whole if whole > 0 else 0.0
    middles = piece.surface.points[piece.surface.triangles[own]].mean(axis=1)[:, :2]
    at = chain_of(q, street).feet(middles).chainages
    along = sections_along(q, street)
    # From half of its taper on a section governs: as much is wider before as is narrower after.
    begins = np.array([c.chainage + 0.5 * c.taper for c, _ in along if c is not None])
    which = np.searchsorted(begins, at, side="right")
    found: dict[str, float] = {}
    for k in np.unique(which).tolist():
        id_of = along[k][1].id
        found[id_of] = found.get(id_of, 0.0) + share * float(areas[own][which == k].sum())
    return found


def _street_of(id: FaceId) -> str:
    """The street that a face of a street, a junction or a head is of; nothing of other faces."""
    return str(getattr(id, "street", ""))


def pavement(q: Engine, street: str) -> tuple[LayerQuantity, ...]:
    """The layers of a street's pavement, section by section from its beginning, junctions and heads at its ends included."""
    areas: dict[str, float] = {}
    old: dict[str, float] = {}
    for id in all_faces(q):
        if _street_of(id) != street:
            continue
        made, stays = q.attempt(paved_areas, id), q.attempt(overlaid_areas, id)
        for which, area in () if isinstance(made, Unsolved) else made.items():
            areas[which] = areas.get(which, 0.0) + area
        for which, area in () if isinstance(stays, Unsolved) else stays.items():
            old[which] = old.get(which, 0.0) + area
    sections: dict[str, TypicalSection] = {section.id: section for _, section in sections_along(q, street)}
    found, name = [], name_of(q, street)
    for section in sections.values():
        over = old.get(section.id, 0.0)
        new = areas.get(section.id, 0.0) - over
        found += [LayerQuantity(name, section.name, "full depth", y.of, y.thickness, new) for y in section.layers]
        if section.overlay is not None:
            laid = section.overlay.layers
            found += [LayerQuantity(name, section.name, "overlay", y.of, y.thickness, over) for y in laid]
            found.append(LayerQuantity(name, section.name, "trimmed", "old pavement", section.overlay.trim, over))
    return tuple(found)


@query
def overlaid_areas(q: Engine, id: FaceId) -> dict[str, float]:
    """Where the old pavement of a carriageway stays under an overlay, in m2 by the id of the section that governs there.

    Junctions, heads, stretches of full depth and strips beside the kerbs are new.
    """
    if not isinstance(id, StreetFace) or id.part != "carriageway" or id.side is None or not has_overlay(q, id.street):
        return {}
    paved = paved_areas(q, id)
    new, middles = full_depth_areas(q, id.street, id.side)
    whole = float(finished_mesh(q, id).surface.areas().sum())
    share = float(counted(q, id).areas().sum()) / whole if whole > 0 else 0.0
    governing = [section_governing(q, id.street, m) for m in middles.tolist()]
    found = {}
    for section in {g.id: g for g in governing if g.overlay is not None}.values():
        deep = sum(a for a, g in zip(new.tolist(), governing) if g.id == section.id)
        found[section.id] = max(paved.get(section.id, 0.0) - share * deep, 0.0)
    return found
