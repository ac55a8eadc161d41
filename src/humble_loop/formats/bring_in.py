"""Bringing files of any known format into a site."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from humble_loop.formats.bundle import Bundle, Progress, no_progress
from humble_loop.formats.errors import FormatError
from humble_loop.formats.points_csv import read_points_csv
from humble_loop.ground.build import CannotTriangulate, build_surface, spikes
from humble_loop.ground.surface import Problem
from humble_loop.site import edits
from humble_loop.site.model import Ground, Site

KINDS = {
    ".xml": "LandXML",
    ".landxml": "LandXML",
    ".dxf": "DXF",
    ".csv": "points",
    ".txt": "points",
    ".las": "point cloud",
    ".laz": "point cloud",
    ".tif": "grid",
    ".tiff": "grid",
    ".asc": "grid",
    ".geojson": "GeoJSON",
    ".json": "GeoJSON",
}


@dataclass(frozen=True)
class Options:
    """How files are read: text columns in order, the unit of files that name none, and the longest ground edge (m)."""

    columns: tuple[str, ...] | None = None
    units: str = "m"
    breakline_codes: tuple[str, ...] | None = None
    longest_edge: float | None = None


@dataclass(frozen=True)
class Brought:
    """What came of bringing files in: the new site, suspicious places, and what was read in words."""

    site: Site
    problems: tuple[Problem, ...]
    words: str


def read_file(path: Path, options: Options | None = None) -> Bundle:
    """Read one file by its ending. Raises FormatError."""
    options = options or Options()
    kind = KINDS.get(path.suffix.lower())
    if not path.exists():
        raise FormatError(path, "there is no such file; check its name and folder")
    if kind is None:
        raise FormatError(path, f"files ending in '{path.suffix}' cannot be read; use {', '.join(sorted(KINDS))}")
    # Each reader brings a library with it: they are loaded when such a file is read, not at every start.
    if kind == "LandXML":
        from humble_loop.formats.landxml import read_landxml

        return read_landxml(path)
    if kind == "DXF":
        from humble_loop.formats.dxf import read_dxf

        return read_dxf(path, units=options.units)
    if kind == "points":
        return read_points_csv(
            path, columns=options.columns, units=options.units, breakline_codes=options.breakline_codes
        )
    if kind == "GeoJSON":
        from humble_loop.formats.geojson import read_geojson

        return read_geojson(path)
    from humble_loop.formats.grids import read_cloud, read_grid

    return read_cloud(path) if kind == "point cloud" else read_grid(path)


def bring_in(
    site: Site, paths: Sequence[Path], options: Options | None = None, progress: Progress = no_progress
) -> Brought:
    """Add what the files hold to ``site``: all points and breaklines together make one surface.

    ``progress`` is told a share and words, and may raise to give up; the site that was handed in never changes.
    Raises FormatError naming the file that cannot be used.
    """
    options = options or Options()
    bundles = []
    for i, path in enumerate(paths):
        progress(0.6 * i / max(len(paths), 1), f"Reading {path.name}")
        bundles.append((path, read_file(path, options)))
    progress(0.6, "Triangulating")
    problems: list[Problem] = []
    told: list[str] = []
    for path, bundle in bundles:
        problems += bundle.problems
        for name, surface in bundle.surfaces:
            site = edits.add_ground(
                site, Ground(name=edits.free_name(site, "grounds", name), surface=surface, source=path.name)
            )
            problems += spikes(surface)
            told.append(f"surface '{name}' ({len(surface.triangles)} triangles)")
        if bundle.lines:
            site = edits.add_survey_lines(site, bundle.lines)
            told.append(f"{len(bundle.lines)} lines from {path.name}")
    site, more, words = _triangulated(site, bundles, options)
    problems += more
    told += words
    progress(0.9, "Adding streets")
    for path, bundle in bundles:
        for street in bundle.streets:
            try:
                site = edits.add_street(site, street.name, street.bends, vips=tuple(street.vips))
            except edits.EditError as error:
                raise FormatError(path, str(error)) from None
            told.append(f"street '{site.streets[-1].name}'")
    progress(1.0, "Done")
    return Brought(site, tuple(problems), "; ".join(told))


def _triangulated(
    site: Site, bundles: list[tuple[Path, Bundle]], options: Options
) -> tuple[Site, list[Problem], list[str]]:
    sources = [(p, b) for p, b in bundles if len(b.points) or (b.breaklines and not b.surfaces)]
    points = [b.points for _, b in sources if len(b.points)]
    if not points:
        # Breaklines alone are a drawing's lines; only together with points, or if there is no surface, do they make ground.
        if site.grounds or not sources:
            return site, [], []
        points = [np.empty((0, 3))]
    breaklines = [line for _, b in bundles for line in b.breaklines]
    path = sources[0][0]
    try:
        surface, problems = build_surface(np.concatenate(points), breaklines, longest_edge=options.longest_edge)
    except CannotTriangulate as error:
        if not sum(len(p) for p in points):
            return site, [], []
        raise FormatError(path, f"{error}; check its columns and units") from None
    problems += spikes(surface)
    name = edits.free_name(site, "grounds", path.stem)
    site = edits.add_ground(site, Ground(name=name, surface=surface, source=path.name))
    return site, problems, [f"surface '{name}' from {len(surface.points)} points ({len(surface.triangles)} triangles)"]
