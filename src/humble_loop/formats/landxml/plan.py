"""A CoordGeom's elements as they stand in the file: lines, curves and spirals of every law, each laid exactly."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from humble_loop.formats.landxml.tree import Tree, child, children, local
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.chain import Chain, Element

_STEPS = 32  # clothoids by which a spiral of another law is laid: within 0.1 mm of it

# How much of the change of curvature (0 to 1) is made at a share t of the length, by spiType. The laws are those of
# the railway textbooks: Bloss 3t2 - 2t3; Helmert's two parabolas; half a cosine; Klein's sine.
_LAWS: dict[str, Callable[[Floats], Floats]] = {
    "bloss": lambda t: 3 * t**2 - 2 * t**3,
    "biquadratic": lambda t: np.where(t < 0.5, 2 * t**2, 1 - 2 * (1 - t) ** 2),
    "cosine": lambda t: 0.5 * (1 - np.cos(np.pi * t)),
    "sinusoid": lambda t: t - np.sin(2 * np.pi * t) / (2 * np.pi),
}
_LAWS |= {f"rev{name.capitalize()}": law for name, law in tuple(_LAWS.items())}


@dataclass(frozen=True)
class Piece:
    """One element of a CoordGeom: what it is called, where it starts and ends by the file, and how it runs between.

    ``runs`` are the chain elements laid from ``start`` along ``heading`` (radians); ``note`` says what was done to it,
    and is empty where it is read as it stands.
    """

    words: str
    start: Floats
    end: Floats
    heading: float
    runs: tuple[Element, ...]
    note: str = ""

    @property
    def straight(self) -> bool:
        """Whether it is a line."""
        return len(self.runs) == 1 and self.runs[0].kind == "straight"

    @property
    def length(self) -> float:
        """Metres along it."""
        return sum(e.length for e in self.runs)

    @property
    def chain(self) -> Chain:
        """It alone."""
        return Chain.from_elements(self.start, self.heading, self.runs)

    @property
    def end_heading(self) -> float:
        """Heading at its end."""
        return self.heading + sum(0.5 * (e.k0 + e.k1) * e.length for e in self.runs)


def pieces_of(tree: Tree, geometry: Any, owner: str) -> list[Piece]:
    """The elements of a CoordGeom in order. ``owner`` says whose it is. Raises FormatError."""
    found: list[Piece] = []
    for node in children(geometry):
        name = local(node)
        if name == "Line":
            found += _straights(np.array([tree.point(node, "Start", owner), tree.point(node, "End", owner)]))
        elif name in ("IrregularLine", "Chain"):
            found += _straights(_listed(tree, node, owner))
        elif name == "Curve":
            found.append(_curve(tree, node, owner))
        elif name == "Spiral":
            found.append(_spiral(tree, node, owner))
        elif name != "Feature":
            raise tree.wrong(f"{owner} has a {name}, which cannot be read; use lines, curves and spirals")
    return found


def _listed(tree: Tree, node: Any, owner: str) -> Floats:
    """Points (n, 2) of an IrregularLine or a Chain of named points."""
    if local(node) == "Chain":
        return np.array([tree.named_vertex(name)[:2] for name in (node.text or "").split()]).reshape(-1, 2)
    for name, columns in (("PntList2D", 2), ("PntList3D", 3)):
        listed = child(node, name)
        if listed is not None:
            return tree.vertices(listed, columns)[:, :2]
    return np.array([tree.point(node, "Start", owner), tree.point(node, "End", owner)])


def _straights(points: Floats) -> list[Piece]:
    return [
        Piece("line", a, b, float(np.arctan2(b[1] - a[1], b[0] - a[0])), (Element(float(np.hypot(*(b - a))), 0, 0),))
        for a, b in zip(points[:-1], points[1:])
        if np.hypot(*(b - a)) > 1e-9
    ]


def _turn(node: Any) -> float:
    return -1.0 if (node.get("rot") or "ccw").lower() == "cw" else 1.0


def _curve(tree: Tree, node: Any, owner: str) -> Piece:
    start, end, turn = tree.point(node, "Start", owner), tree.point(node, "End", owner), _turn(node)
    centre = tree.point(node, "Center", owner) if child(node, "Center") is not None else _centre(tree, node, owner)
    a, b = start - centre, end - centre
    radius = float(np.hypot(*a))
    if radius <= 1e-9 or not np.isfinite(radius):
        raise tree.wrong(f"{owner} has a curve without a radius; export it again")
    sweep = float(np.mod(turn * (np.arctan2(b[1], b[0]) - np.arctan2(a[1], a[0])), 2 * np.pi))
    if sweep < 1e-12:
        sweep = 2 * np.pi  # a whole circle starts where it ends
    heading = float(np.arctan2(a[1], a[0]) + turn * np.pi / 2)
    return Piece("curve", start, end, heading, (Element(radius * sweep, turn / radius, turn / radius),))


def _centre(tree: Tree, node: Any, owner: str) -> Floats:
    """The centre of a curve that does not give it: from its radius, or from where its tangents meet."""
    start, end, turn = tree.point(node, "Start", owner), tree.point(node, "End", owner), _turn(node)
    chord = end - start
    c = float(np.hypot(*chord))
    radius = tree.radius(node, "radius")
    if not np.isfinite(radius) and child(node, "PI") is not None and c > 0:
        leg = tree.point(node, "PI", owner) - start
        across = abs(float(leg[0] * chord[1] - leg[1] * chord[0])) / c
        # Chord over twice the sine of half the deflection, which is the angle between tangent and chord.
        radius = 0.5 * c * float(np.hypot(*leg)) / across if across > 0 else np.inf
    if not np.isfinite(radius) or c <= 1e-9:
        raise tree.wrong(f"{owner} has a curve with neither a Center, a radius nor a PI; export it again")
    if radius < 0.5 * c * (1 - 1e-6):
        raise tree.wrong(f"{owner} has a curve of radius {radius:.3f} m over a chord of {c:.3f} m; export it again")
    more_than_half = tree.length(node, "length") > np.pi * radius
    rise = np.sqrt(max(0.0, radius**2 - 0.25 * c**2)) * (-1.0 if more_than_half else 1.0)
    left = np.array([-chord[1], chord[0]]) / c
    return np.asarray(0.5 * (start + end) + turn * rise * left)


def _spiral(tree: Tree, node: Any, owner: str) -> Piece:
    start, end, turn = tree.point(node, "Start", owner), tree.point(node, "End", owner), _turn(node)
    length, law = tree.length(node, "length"), node.get("spiType") or "clothoid"
    if not np.isfinite(length) or length <= 0:
        raise tree.wrong(f"{owner} has a spiral without a length; export it again")
    k0, k1 = (turn / tree.radius(node, key) for key in ("radiusStart", "radiusEnd"))
    note = ""
    if law == "clothoid":
        runs: tuple[Element, ...] = (Element(length, k0, k1),)
    elif law in _LAWS:
        k = k0 + (k1 - k0) * np.asarray(_LAWS[law](np.linspace(0.0, 1.0, _STEPS + 1)))
        runs = tuple(Element(length / _STEPS, float(a), float(b)) for a, b in zip(k[:-1], k[1:], strict=True))
        note = f"a {law} spiral is taken as a row of arcs"
    else:
        runs = (Element(length, k0, k1),)
        note = f"a {law} spiral is taken as a clothoid"
    # Laid along the chord that the file gives, so that half of any disagreement lies at either end.
    laid = Chain.from_elements((0.0, 0.0), 0.0, runs).points_at([length])[0]
    chord = end - start
    heading = float(np.arctan2(chord[1], chord[0]) - np.arctan2(laid[1], laid[0]))
    return Piece("spiral", start, end, heading, runs, note)
