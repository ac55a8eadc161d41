"""VIPs of a street from a file's design profile."""

from __future__ import annotations

from typing import Any

import numpy as np

from humble_loop.formats.landxml.tree import Tree, child, children, every, local
from humble_loop.kinds.street.model import Vip


def vips_of(tree: Tree, alignment: Any, name: str) -> tuple[list[Vip], list[str]]:
    """VIPs of the alignment's first design profile, none where it has none, and what was altered in words.

    Chainages are measured from the alignment's start, whatever it is called in the file. Raises FormatError.
    """
    begin = tree.length(alignment, "staStart")
    profiles = list(every(alignment, "ProfAlign"))
    notes: list[str] = []
    if abs(begin) > 1e-9:
        notes.append(
            f"chainages start at {begin:.3f} m in the file and at 0 here: take {begin:.3f} off to find the file's"
        )
    if child(alignment, "StaEquation") is not None:
        notes.append("its station equations are left out: chainages run on without a break")
    if not profiles:
        return [], notes
    if len(profiles) > 1:
        notes.append(f"the first of its {len(profiles)} profiles, '{profiles[0].get('name') or ''}', is taken")
    rows, told = _rows(tree, profiles[0], name)
    vips = [Vip(chainage=s - begin, level=z, curve_length=length) for s, z, length in rows]
    for a, b in zip(vips[:-1], vips[1:]):
        if b.chainage <= a.chainage:
            raise tree.wrong(
                f"the profile of '{name}' does not run forwards at {b.chainage + begin:.3f} m; export it again"
            )
    return vips, notes + told


def _rows(tree: Tree, profile: Any, name: str) -> tuple[list[tuple[float, float, float]], list[str]]:
    """Station, level and curve length of each VIP, in metres."""
    nodes = [n for n in children(profile) if local(n) in ("PVI", "ParaCurve", "UnsymParaCurve", "CircCurve")]
    points = [tuple(v * tree.scale for v in tree.numbers(n.text, 2)[:2]) for n in nodes]
    rows: list[tuple[float, float, float]] = []
    notes: list[str] = []
    for i, (node, (s, z)) in enumerate(zip(nodes, points, strict=True)):
        kind, length = local(node), tree.length(node, "length")
        if kind in ("PVI", "ParaCurve") or i in (0, len(nodes) - 1):
            rows.append((s, z, max(length, 0.0) if kind == "ParaCurve" else 0.0))
            continue
        before, after = points[i - 1], points[i + 1]
        g1, g2 = (z - before[1]) / (s - before[0] or 1.0), (after[1] - z) / (after[0] - s or 1.0)
        if kind == "UnsymParaCurve":
            # By definition two parabolas that touch at the VIP's chainage: each is a symmetric curve of its own.
            a, b = tree.length(node, "lengthIn"), tree.length(node, "lengthOut")
            rows += [(s - 0.5 * a, z - 0.5 * a * g1, a), (s + 0.5 * b, z + 0.5 * b * g2, b)]
            notes.append(f"its unsymmetric curve at {s:.3f} m is taken as two symmetric ones, which are the same")
            continue
        radius = abs(tree.length(node, "radius")) or abs(length / (g2 - g1 or 1.0))
        # The circle touches both grades at the same distance from the VIP: R tan(half the angle between them).
        tangent = radius * abs(np.tan(0.5 * (np.arctan(g2) - np.arctan(g1))))
        curve = float(tangent * (np.cos(np.arctan(g1)) + np.cos(np.arctan(g2))))
        rows.append((s, z, curve))
        off = _circle_off(radius, g1, g2, curve)
        notes.append(f"its circular curve at {s:.3f} m is taken as a parabola, up to {1000 * off:.1f} mm off")
    return rows, notes


def _circle_off(radius: float, g1: float, g2: float, curve: float) -> float:
    """Metres between a circle that touches two grades and the parabola over the same two tangents' mean length."""
    if curve <= 0:
        return 0.0
    turn = np.sign(g2 - g1)
    a1 = np.arctan(g1)
    tangent = radius * abs(np.tan(0.5 * (np.arctan(g2) - a1)))
    # Measured from the VIP: where the circle begins, its centre, and its levels over the parabola's length.
    x0, z0 = -tangent * np.cos(a1), -tangent * np.sin(a1)
    cx, cz = x0 - turn * radius * np.sin(a1), z0 + turn * radius * np.cos(a1)
    x = np.linspace(-0.5 * curve, 0.5 * curve, 101)
    inside = np.clip(x, x0, tangent * np.cos(np.arctan(g2)))
    circle = cz - turn * np.sqrt(np.maximum(radius**2 - (inside - cx) ** 2, 0.0))
    circle += np.where(x < inside, g1, g2) * (x - inside)
    parabola = g1 * x + 0.5 * (g2 - g1) / curve * (x + 0.5 * curve) ** 2
    return float(np.abs(circle - parabola).max())
