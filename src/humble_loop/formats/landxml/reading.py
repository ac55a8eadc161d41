"""Reading LandXML: every part of the file that this program has a use for; what is left out is said."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

from humble_loop.formats.bundle import Bundle, StreetIn, SurfaceIn
from humble_loop.formats.coordinates import MOST_CHORDS, check_coordinates, chords
from humble_loop.formats.errors import FormatError
from humble_loop.formats.landxml.bends import bends_of
from humble_loop.formats.landxml.plan import Piece, pieces_of
from humble_loop.formats.landxml.profile import vips_of
from humble_loop.formats.landxml.sections import sections_of
from humble_loop.formats.landxml.tree import Tree, child, children, every, local
from humble_loop.geometry.arrays import Floats, Ints
from humble_loop.ground.surface import Problem, Surface
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.site.model import slug

_SAG = 0.01  # metres between a curved boundary or kerb and the chords it is brought in with

_READ = {"Surfaces", "Alignments", "CgPoints", "Parcels", "PlanFeatures"}
_ABOUT = {"Units", "CoordinateSystem", "Project", "Application", "Feature", "Amendment"}


def read_landxml(path: Path, *, units: str = "m") -> Bundle:
    """Read surfaces, alignments (with their design profile), points, breaklines, kerb lines and parcels.

    ``units`` holds where the file names none. A part that cannot be read is left out with a note. Raises FormatError where
    nothing can be.
    """
    tree = Tree(path, units)
    bundle = Bundle()
    parts: list[tuple[str, Callable[[Any], None]]] = [
        ("Surface", lambda node: _surface(tree, node, bundle)),
        ("Alignment", lambda node: _alignment(tree, node, bundle)),
        ("CgPoints", lambda node: _points(tree, node, bundle)),
        ("Parcel", lambda node: _line(tree, node, "parcel", bundle)),
        ("PlanFeature", lambda node: _line(tree, node, "plan feature", bundle)),
    ]
    wrong: list[FormatError] = []
    for name, read in parts:
        for node in every(tree.root, name):
            try:
                read(node)
            except FormatError as error:
                wrong.append(error)  # the rest of the file stands
    if bundle.empty:
        raise wrong[0] if wrong else tree.wrong("it holds no surface, alignment, point or parcel that can be used")
    bundle.notes += [f"left out: {error.message}" for error in wrong]
    left = sorted({local(n) for n in children(tree.root)} - _READ - _ABOUT)
    if left:
        bundle.notes.append(f"left out, as not read: {', '.join(left)}")
    return bundle


def _points(tree: Tree, group: Any, bundle: Bundle) -> None:
    rows = [tree.vertex(p) for p in every(group, "CgPoint") if p.text]
    levelled = np.array([r for r in rows if np.isfinite(r[2])]).reshape(-1, 3)
    if len(levelled) < len(rows):
        bundle.notes.append(f"{len(rows) - len(levelled)} points without a level are left out")
    if len(levelled):
        check_coordinates(tree.path, levelled)
        bundle.points = np.concatenate([bundle.points, levelled])


def _surface(tree: Tree, node: Any, bundle: Bundle) -> None:
    name = node.get("name") or tree.path.stem
    _source(tree, node, name, bundle)
    nodes = [p for listed in every(node, "Pnts") for p in children(listed)]
    if not nodes:
        return
    points = _surface_points(tree, nodes, name)
    place = {p.get("id"): k for k, p in enumerate(nodes)}
    faces: list[list[int]] = []
    for face in (f for listed in every(node, "Faces") for f in children(listed)):
        if face.get("i") == "1":
            continue  # marked invisible
        corners = (face.text or "").split()
        if len(corners) < 3:
            raise tree.wrong(f"surface '{name}' has a face of {len(corners)} points; export it again")
        try:
            at = [place[c] for c in corners]
        except KeyError as error:
            raise tree.wrong(
                f"surface '{name}' has a face with point {error}, which is not there; export it again"
            ) from None
        faces += [[at[0], at[k], at[k + 1]] for k in range(1, len(at) - 1)]
    if not faces:
        bundle.points = np.concatenate([bundle.points, points])
        return
    triangles = _each_once(np.array(faces))
    if len(triangles) < len(faces):
        bundle.notes.append(f"{len(faces) - len(triangles)} faces that stand twice in surface '{name}' are left out")
    bundle.surfaces.append(SurfaceIn(name, Surface(points, triangles), node.get("state") == "proposed"))


def _each_once(triangles: Ints) -> Ints:
    """Triangles (n, 3) without those that have the same corners as one before."""
    _, first = np.unique(np.sort(triangles, axis=1), axis=0, return_index=True)
    return triangles[np.sort(first)]


def _surface_points(tree: Tree, nodes: list[Any], name: str) -> Floats:
    try:
        rows = np.array(" ".join(p.text or "" for p in nodes).split(), dtype=np.float64).reshape(len(nodes), -1)[:, :3]
    except ValueError:
        raise tree.wrong(f"surface '{name}' has a point that is not three numbers; export it again") from None
    if not np.all(np.isfinite(rows)):
        raise tree.wrong(f"surface '{name}' has a point that is not a number; export it again")
    if rows.shape[1] < 3:
        raise tree.wrong(f"surface '{name}' has points without levels; export it again as a TIN")
    points = rows[:, [1, 0, 2]] * tree.scale
    check_coordinates(tree.path, points)
    return points


def _source(tree: Tree, node: Any, name: str, bundle: Bundle) -> None:
    """What a surface was made of: used where the file has no triangles of it."""
    if child(child(node, "Definition") if child(node, "Definition") is not None else node, "Pnts") is not None:
        return
    for data in every(node, "DataPoints"):
        for listed in every(data, "PntList3D"):
            bundle.points = np.concatenate([bundle.points, tree.vertices(listed, 3)])
    for breakline in every(node, "Breakline"):
        bundle.breaklines += [tree.vertices(listed, 3) for listed in every(breakline, "PntList3D")]
    for contour in every(node, "Contour"):
        level = tree.length(contour, "elev", np.nan)
        for listed in every(contour, "PntList2D"):
            row = tree.vertices(listed, 2)
            row[:, 2] = level
            if np.isfinite(level):
                bundle.breaklines.append(row)
    if next(every(node, "Boundary"), None) is not None:
        bundle.notes.append(f"the boundaries of surface '{name}' are left out: it is triangulated anew to its rim")
    if next(every(node, "PointFile"), None) is not None:
        bundle.notes.append(f"surface '{name}' points to another file, which has to be brought in by itself")


def _alignment(tree: Tree, node: Any, bundle: Bundle) -> None:
    name = node.get("name") or tree.path.stem
    geometry = child(node, "CoordGeom")
    pieces = pieces_of(tree, geometry, f"alignment '{name}'") if geometry is not None else []
    if not pieces:
        raise tree.wrong(
            f"alignment '{name}' has no geometry of lines, curves and spirals; export it with its CoordGeom"
        )
    bends, problems = bends_of(pieces, name)
    vips, notes = vips_of(tree, node, name)
    total = float(sum(p.chain.total for p in pieces))
    sections, more = sections_of(tree, node, total, vips, name)
    for s, words in [(0.0, n) for n in notes] + more:
        e, n = _place(pieces, s)
        at = f" at {s:.2f}" if s > 0 else ""
        problems.append(Problem("altered alignment", f"'{name}'{at}: {words}", e, n))
    bundle.streets.append(StreetIn(name, bends, vips, sections))
    bundle.problems += problems


def _place(pieces: list[Piece], s: float) -> tuple[float, float]:
    """Easting and northing at a chainage of an alignment."""
    for piece in pieces:
        if s <= piece.chain.total:
            break
        s -= piece.chain.total
    e, n = piece.chain.points_at([min(s, piece.chain.total)])[0].tolist()
    return e, n


def _line(tree: Tree, node: Any, code: str, bundle: Bundle) -> None:
    """A parcel or a plan feature (a kerb, a fence) as a survey line, with levels where its points have them."""
    name, geometry = node.get("name") or code, child(node, "CoordGeom")
    pieces = pieces_of(tree, geometry, f"{code} '{name}'") if geometry is not None else []
    if not pieces:
        return
    wanted = sum(float(chords(e.length, max(abs(e.k0), abs(e.k1)), _SAG)) for p in pieces for e in p.runs)
    if not wanted <= MOST_CHORDS:
        raise tree.wrong(f"{code} '{name}' has curves that take too many chords to be followed; check its units")
    rows = [p.chain.points_at(p.chain.sampled(_SAG))[:-1] for p in pieces]
    plan = np.concatenate([*rows, pieces[-1].end[None]])
    levels = _levels(tree, geometry, plan)
    # Along a curve a line runs straight in level from end to end, as it does between two vertices.
    ends = np.cumsum([0, *(len(r) for r in rows)])
    for piece, a, b in zip(pieces, ends[:-1], ends[1:]):
        if not piece.straight and np.isfinite(levels[[a, b]]).all():
            gone = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(plan[a : b + 1], axis=0).T))])
            levels[a : b + 1] = levels[a] + (levels[b] - levels[a]) * gone / gone[-1]
    bundle.lines.append(
        SurveyLine(
            id=slug(f"{tree.path.stem} {name}"),
            name=name,
            code=code,
            source=tree.path.name,
            vertices=tuple(
                (float(e), float(n), float(z) if np.isfinite(z) else None)
                for (e, n), z in zip(plan, levels, strict=True)
            ),
        )
    )


def _levels(tree: Tree, geometry: Any, plan: Floats) -> Floats:
    """Levels of the vertices ``plan`` (n, 2), by where the file gives a point with three numbers; NaN elsewhere."""
    given: dict[tuple[float, float], float] = {}
    for name in ("Start", "End"):
        for p in every(geometry, name):
            e, n, z = tree.vertex(p)
            given[round(e, 4), round(n, 4)] = z
    for listed in every(geometry, "PntList3D"):
        given |= {(round(e, 4), round(n, 4)): z for e, n, z in tree.vertices(listed, 3)}
    return np.array([given.get((round(float(e), 4), round(float(n), 4)), np.nan) for e, n in plan])
