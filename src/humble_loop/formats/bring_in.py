"""Bringing files of any known format into a site."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from humble_loop.formats.bundle import Bundle, Progress, StreetIn, SurfaceIn, no_progress
from humble_loop.formats.errors import FormatError, check_file, guarded
from humble_loop.formats.points_text import read_points_text
from humble_loop.formats.text_layout import Layout
from humble_loop.ground.build import CannotTriangulate, build_surface, far_away, spikes
from humble_loop.ground.surface import Problem, Surface
from humble_loop.kinds.ground.model import Ground, add_ground
from humble_loop.kinds.street.edits import add_street
from humble_loop.kinds.street.measured import take_sections
from humble_loop.kinds.street.model import Street
from humble_loop.kinds.survey_line.model import add_survey_lines
from humble_loop.site.edits import Edit, EditError, free_name
from humble_loop.site.model import Site

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
    """How files are read: text columns in order and the signs between them and in numbers, or the whole layout of a
    file by its path; the unit of files that name none; and the longest ground edge (m).
    """

    columns: tuple[str, ...] | None = None
    separator: str = ""
    decimal: str = ""
    layouts: Mapping[Path, Layout] = field(default_factory=dict)
    units: str = "m"
    breakline_codes: tuple[str, ...] | None = None
    longest_edge: float | None = None


@dataclass(frozen=True)
class Brought:
    """What came of reading files: the edit that adds it to a site, suspicious places, and what was read in words."""

    edit: Edit
    problems: tuple[Problem, ...]
    words: str


def read_file(path: Path, options: Options | None = None) -> Bundle:
    """Read one file by its ending. Raises FormatError."""
    options = options or Options()
    kind = KINDS.get(path.suffix.lower())
    check_file(path)
    if kind is None:
        raise FormatError(path, f"files ending in '{path.suffix}' cannot be read; use {', '.join(sorted(KINDS))}")
    with guarded(path, kind):
        return _read(path, kind, options)


def _read(path: Path, kind: str, options: Options) -> Bundle:
    # Each reader brings a library with it: they are loaded when such a file is read, not at every start.
    if kind == "LandXML":
        from humble_loop.formats.landxml import read_landxml

        return read_landxml(path, units=options.units)
    if kind == "DXF":
        from humble_loop.formats.dxf.reading import read_dxf

        return read_dxf(path, units=options.units)
    if kind == "points":
        return read_points_text(
            path,
            layout=options.layouts.get(path),
            columns=options.columns,
            separator=options.separator,
            decimal=options.decimal,
            units=options.units,
            breakline_codes=options.breakline_codes,
        )
    if kind == "GeoJSON":
        from humble_loop.formats.geojson import read_geojson

        return read_geojson(path, units=options.units)
    from humble_loop.formats.grids import read_cloud, read_grid

    read = read_cloud if kind == "point cloud" else read_grid
    return read(path, units=options.units)


def bring_in(
    site: Site, paths: Sequence[Path], options: Options | None = None, progress: Progress = no_progress
) -> tuple[Site, Brought]:
    """Read files and add them to ``site``. Raises FormatError naming the file that cannot be used."""
    brought = read_files(paths, options, progress)
    return brought.edit(site), brought


def read_files(paths: Sequence[Path], options: Options | None = None, progress: Progress = no_progress) -> Brought:
    """Read what files hold: all points and breaklines together make one surface.

    Nothing is decided about the site yet: the edit adds it to whatever the site is by then. ``progress`` is told a
    share and words, and may raise to give up. Raises FormatError naming the file that cannot be used.
    """
    options = options or Options()
    bundles = []
    for i, path in enumerate(paths):
        progress(0.6 * i / max(len(paths), 1), f"Reading {path.name}")
        bundles.append((path, read_file(path, options)))
    progress(0.6, "Triangulating")
    problems: list[Problem] = [p for _, b in bundles for p in b.problems]
    told: list[str] = []
    grounds: list[tuple[SurfaceIn, str]] = []
    for path, bundle in bundles:
        for found in bundle.surfaces:
            grounds.append((found, path.name))
            problems += spikes(found.surface)
            design = ", a design and so not the current ground" if found.proposed else ""
            told.append(f"surface '{found.name}' ({len(found.surface.triangles)} triangles{design})")
        if bundle.lines:
            told.append(f"{len(bundle.lines)} lines from {path.name}")
    made = _triangulated(bundles, options)
    if made is not None:
        path, surface, more = made
        problems += [*far_away(surface.points), *more]
        grounds.append((SurfaceIn(path.stem, surface), path.name))
        told.append(f"surface '{path.stem}' from {len(surface.points)} points ({len(surface.triangles)} triangles)")
    current = [found.name for found, _ in grounds if not found.proposed]
    if len(current) > 1:
        told.append(f"the last of its {len(current)} surfaces, '{current[-1]}', is the current ground")
    told += [_street_words(s) for _, b in bundles for s in b.streets]
    told += [note for _, b in bundles for note in b.notes]
    for path, bundle in bundles:
        for street in bundle.streets:
            try:
                add_street(Site(), street.name, street.bends, vips=tuple(street.vips))
            except EditError as error:
                raise FormatError(path, str(error)) from None
    progress(1.0, "Done")

    def edit(site: Site) -> Site:
        for _, bundle in bundles:
            if bundle.lines:
                site = add_survey_lines(site, bundle.lines)
        for found, source in grounds:
            ground = Ground(
                name=free_name(site, Ground, found.name),
                surface=found.surface,
                source=source,
                proposed=found.proposed,
            )
            site = add_ground(site, ground)
        for _, bundle in bundles:
            for street in bundle.streets:
                name = free_name(site, Street, street.name)
                site = add_street(site, name, street.bends, vips=tuple(street.vips))
                if street.sections is not None:
                    site = take_sections(site, site.all(Street)[-1].id, street.sections)
        return site

    return Brought(edit, tuple(problems), "; ".join(told))


def _street_words(street: StreetIn) -> str:
    if street.sections is None:
        return f"street '{street.name}'"
    count = len(street.sections.sections)
    return f"street '{street.name}' with {count} typical section{'s' if count > 1 else ''} from its cross sections"


def _triangulated(bundles: list[tuple[Path, Bundle]], options: Options) -> tuple[Path, Surface, list[Problem]] | None:
    """One surface of all loose points and breaklines; None where there are none."""
    sources = [(p, b) for p, b in bundles if len(b.points) or (b.breaklines and not b.surfaces)]
    points = [b.points for _, b in sources if len(b.points)]
    if not sources:
        return None
    # Breaklines alone are a drawing's lines; only together with points, or if there is no surface, do they make ground.
    if not points and any(b.surfaces for _, b in bundles):
        return None
    breaklines = [line for _, b in bundles for line in b.breaklines]
    path = sources[0][0]
    with guarded(path, "survey"):
        try:
            surface, problems = build_surface(
                np.concatenate(points) if points else np.empty((0, 3)), breaklines, longest_edge=options.longest_edge
            )
        except CannotTriangulate as error:
            if not points:
                return None
            raise FormatError(path, f"{error}; check its columns and units") from None
    return path, surface, [*problems, *spikes(surface)]
