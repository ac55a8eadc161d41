"""Cross sections of an alignment: out as section points with the ground, in as a street's typical sections."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import numpy as np
from lxml import etree

from humble_loop.formats.landxml.tree import Tree, child, children, local
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.street.measured import (
    MOST_ROWS,
    MeasuredPoint,
    MeasuredSection,
    SectionsFound,
    sections_found,
)
from humble_loop.kinds.street.model import Vip
from humble_loop.site.model import SIDES
from humble_loop.whole.delivery import Across

_OFF_PROFILE = 0.005  # metres between the profile and the cross sections at the centreline that are told
_OFF = 0.003  # metres between a file's cross sections and those that are taken, the same
_MOST_POINTS = 400  # of one cross section

DESIGN = "Finished surface"
GROUND = "Ground"
_SHORT = "cut short, as something else goes on there: "  # and the sides


def write_sections(parent: Any, name: str, across: Across) -> None:
    """Add a street's cross sections to its alignment: offsets to the right positive, as LandXML has them."""
    group = etree.SubElement(parent, "CrossSects", name=name)
    at, own = across.chainages.tolist(), [(p, p.there.tolist()) for p in across.points]
    for k, s in enumerate(at):
        node = etree.SubElement(group, "CrossSect", name=f"{s:.3f}", sta=repr(s))
        if short := [side for side in SIDES if not across.whole[side][k]]:
            node.set("desc", f"{_SHORT}{', '.join(short)}")
        ground = across.ground[k]
        if len(ground):
            surface = etree.SubElement(node, "CrossSectSurf", name=GROUND, state="existing")
            rows = " ".join(f"{-o!r} {z!r}" for o, z in ground.tolist())
            etree.SubElement(surface, "PntList2D").text = rows
        design = etree.SubElement(node, "DesignCrossSectSurf", name=DESIGN, state="proposed", side="both")
        for p, there in own:
            if there[k]:
                of = "drain " if p.piece == "drain" and "drain" not in p.name else ""
                code = p.name if p.side is None else f"{p.side} {of}{p.name}"
                point = etree.SubElement(design, "CrossSectPnt", code=code)
                if p.piece:
                    point.set("desc", p.piece)
                point.text = f"{-float(p.offsets[k]) + 0.0!r} {float(p.levels[k])!r}"


def sections_of(
    tree: Tree, alignment: Any, total: float, vips: Sequence[Vip], name: str
) -> tuple[SectionsFound | None, list[tuple[float, str]]]:
    """The typical sections that an alignment's cross sections make, None where it has none, and what was altered or left
    out, with its chainage. ``total`` is its length in metres. Raises FormatError.
    """
    group = child(alignment, "CrossSects")
    nodes = [] if group is None else [n for n in children(group) if local(n) == "CrossSect"]
    designs = [(n, [d for d in children(n) if local(d) == "DesignCrossSectSurf"]) for n in nodes]
    if not any(found for _, found in designs):
        return None, [(0.0, "its cross sections show the ground only, and are left out")] if nodes else []
    if len(nodes) > MOST_ROWS:
        return None, [(0.0, f"its {len(nodes):,} cross sections are left out: {MOST_ROWS:,} can be read")]
    begin = tree.length(alignment, "staStart")
    told: list[tuple[float, str]] = []
    by_name: dict[str, list[MeasuredSection]] = {}
    for node, surfaces in designs:
        s = tree.numbers(node.get("sta"), 1)[0] * tree.scale - begin
        desc = node.get("desc") or ""
        short = {k for k in SIDES if desc.startswith(_SHORT) and k in desc[len(_SHORT) :]}
        for surface in surfaces:
            points = _points(tree, surface)
            if points is None:
                told.append((s, "a cross section that is given by slopes and distances is left out"))
            elif points:
                own = by_name.setdefault(surface.get("name") or "", [])
                if own and own[-1].chainage == s:  # its other side
                    points = (*own.pop().points, *points)
                own.append(MeasuredSection(s, points, frozenset(SIDES) - short))
    top = _topmost(by_name)
    if others := sorted(set(by_name) - {top}):
        told.append((0.0, f"of its cross sections the surface '{top}' is taken, and left out: {', '.join(others)}"))
    found = sections_found(by_name.get(top, []), total, name)
    if found is None:
        return None, [
            *told,
            (
                0.0,
                "no section could be made of its cross sections: they do not reach its centreline, or differ everywhere",
            ),
        ]
    if found.without:
        told.append(
            (
                0.0,
                f"{found.without} of its cross sections are left out: no point at the centreline, twice at one place, or beyond its ends",
            )
        )
    if found.drained:
        told.append((0.0, "drains beyond its boundaries are left out: ask for them under Section"))
    if found.off > _OFF:
        told.append((found.off_at, f"its sections are up to {1000 * found.off:.0f} mm off the file's cross sections"))
    told += _off_profile(found, vips)
    return found, told


def _points(tree: Tree, surface: Any) -> tuple[MeasuredPoint, ...] | None:
    """The points of a design surface; None where they are not offsets and levels."""
    found = []
    for node in children(surface):
        if local(node) == "CrossSectPnt":
            if (node.get("dataFormat") or "Offset Elevation") != "Offset Elevation":
                return None
            x, z = (v * tree.scale for v in tree.numbers(node.text, 2)[:2])
            found.append(MeasuredPoint(-x, z, node.get("code") or node.get("name") or "", node.get("desc") or ""))
        elif local(node) == "PntList2D":
            rows = np.array(tree.numbers(node.text, 2))
            found += [
                MeasuredPoint(-x, z) for x, z in (rows[: len(rows) // 2 * 2].reshape(-1, 2) * tree.scale).tolist()
            ]
    if len(found) > _MOST_POINTS:
        raise tree.wrong(f"a cross section of {len(found):,} points cannot be a street's; export it again")
    return tuple(found)


def _topmost(by_name: dict[str, list[MeasuredSection]]) -> str:
    """The surface that lies on the others, of those that are there at half of the places or more."""
    most = max((len(v) for v in by_name.values()), default=0)

    def level(name: str) -> float:
        middle = [min(m.points, key=lambda p: abs(p.offset)).level for m in by_name[name]]
        return float(np.mean(middle))

    return max((n for n, v in by_name.items() if 2 * len(v) >= most), key=level, default="")


def _off_profile(found: SectionsFound, vips: Sequence[Vip]) -> list[tuple[float, str]]:
    """Where the cross sections do not lie on the profile, which holds."""
    if len(vips) < 2:
        return [(0.0, "it has cross sections and no profile: their levels are left out")]
    try:
        s, z = found.crowns.T
        rows = np.array([(v.chainage, v.level, v.curve_length) for v in vips], dtype=np.float64)
        line = Profile.of(*rows.T)
    except ValueError:
        return []  # the grade line has its own finding
    off = np.abs(line.level(s) - z)
    if not np.isfinite(off).any() or np.nanmax(off) <= _OFF_PROFILE:
        return []
    k = int(np.nanargmax(off))
    return [(float(s[k]), f"its cross sections lie up to {1000 * off[k]:.0f} mm off its profile, which is kept")]
