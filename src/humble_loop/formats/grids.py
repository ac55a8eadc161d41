"""Elevation grids (GeoTIFF, ASC) and point clouds (LAS, LAZ) as ground points."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Any

import numpy as np
import rasterio
import rasterio.transform
from rasterio.crs import CRS
from rasterio.errors import CRSError, RasterioIOError
from rasterio.windows import Window

from humble_loop.formats.ascii_grid import WORDS, check_ascii_grid
from humble_loop.formats.bundle import METRES, Bundle
from humble_loop.formats.coordinates import check_coordinates
from humble_loop.formats.errors import FormatError
from humble_loop.geometry.arrays import Floats, Ints

_TIFF = (b"II*\0", b"MM\0*", b"II+\0", b"MM\0+")
_MOST_CELLS, _MOST_LEVELS, _AT_ONCE = 400_000_000, 12_000_000, 2_000_000
_PROJECTED, _LINEAR_UNITS, _MODEL = 3072, 3076, 1024  # GeoTIFF keys, as LAS files carry them too
_GEOGRAPHIC = 2  # the model type whose places are degrees
_EPSG_UNITS = {9001: "m", 9002: "ft", 9003: "us-ft"}
_LEVEL_UNITS = {
    "m": "m",
    "metre": "m",
    "meter": "m",
    "metres": "m",
    "meters": "m",
    "ft": "ft",
    "foot": "ft",
    "feet": "ft",
    "us survey foot": "us-ft",
    "ussurveyfoot": "us-ft",
}


def read_grid(path: Path, *, units: str = "m") -> Bundle:
    """Read the first band of an elevation grid as a point at each cell's middle.

    Places are in the unit of its coordinate system, else in ``units``; levels in the band's own unit, else in that of
    the places. A band's scale and offset are applied. Raises FormatError.
    """
    try:
        # Only the formats named, told by content: others name further files and addresses, which would be followed.
        with rasterio.open(path, driver=_driver(path)) as data:
            if data.width * data.height > _MOST_CELLS:
                size = f"{data.width} × {data.height} cells"
                raise FormatError(path, f"it has {size}, more than can be read at once; cut it to the site first")
            holes, notes = _holes(path, data)
            places, values = _levels_in(path, data, holes)
            plan = _metres(path, data.crs, units)
            unit = (data.units[0] or "").strip().lower()
    except (RasterioIOError, CRSError, ValueError) as error:
        if isinstance(error, FormatError):
            raise
        raise FormatError(path, f"it is not an elevation grid that can be read ({str(error)[:80]})") from None
    if unit and unit not in _LEVEL_UNITS:
        raise FormatError(path, f"the unit of its levels, '{unit}', is not known; export it in metres or feet")
    keep = np.isfinite(values)
    up = METRES[_LEVEL_UNITS[unit]] if unit else plan
    points = np.column_stack([places * plan, values * up])[keep]
    if not len(points):
        raise FormatError(path, "the grid holds no levels")
    check_coordinates(path, points)
    return Bundle(points=points, notes=notes)


def _driver(path: Path) -> str:
    """The library's word for the format of a grid, from how it begins."""
    with path.open("rb") as file:
        head = file.read(64)
    if head[:4] in _TIFF:
        return "GTiff"
    if head.lstrip().lower().startswith(WORDS):
        check_ascii_grid(path)
        return "AAIGrid"
    raise FormatError(path, "it is not an elevation grid; GeoTIFF and ASCII grids can be read")


def _levels_in(path: Path, data: Any, holes: Ints) -> tuple[Floats, Floats]:
    """Places (n, 2) and levels (n,) of the cells outside ``holes`` that have one, strip by strip: a grid may be large and
    nearly empty.
    """
    places, values, count = [np.empty((0, 2))], [np.empty(0)], 0
    strip = max(1, _AT_ONCE // data.width)
    for first in range(0, data.height, strip):
        window = Window(0, first, data.width, min(strip, data.height - first))
        levels = data.read(1, masked=True, window=window)
        known = ~np.ma.getmaskarray(levels)
        for top, left, bottom, right in holes[(holes[:, 0] < first + known.shape[0]) & (holes[:, 2] > first)]:
            known[max(top - first, 0) : bottom - first, left:right] = False
        rows, columns = np.nonzero(known)
        count += len(rows)
        if count > _MOST_LEVELS:
            raise FormatError(
                path, f"it has more than {_MOST_LEVELS:,} levels; cut it to the site, or take wider cells"
            )
        x, y = rasterio.transform.xy(data.transform, rows + first, columns)
        places.append(np.column_stack([x, y]).reshape(-1, 2))
        values.append(np.asarray(levels)[rows, columns].astype(np.float64) * data.scales[0] + data.offsets[0])
    return np.concatenate(places), np.concatenate(values)


def _holes(path: Path, data: Any) -> tuple[Ints, list[str]]:
    """Tiles of an image that were never written (n, 4: top, left, bottom, right), which would be read as zeros."""
    if data.driver != "GTiff" or data.nodata is not None:
        return np.empty((0, 4), dtype=np.int64), []
    tiles = list(data.block_windows(1))
    found = [
        (w.row_off, w.col_off, w.row_off + w.height, w.col_off + w.width)
        for (row, column), w in tiles
        if data.get_tag_item(f"BLOCK_OFFSET_{column}_{row}", "TIFF", bidx=1) is None
    ]
    told = (
        [f"{path.name}: {len(found)} of its {len(tiles)} tiles were never written, and are left out"] if found else []
    )
    return np.array(found, dtype=np.int64).reshape(-1, 4), told


def read_cloud(path: Path, *, units: str = "m") -> Bundle:
    """Read a point cloud: its ground points where it is classified, else all of it.

    Its numbers are in the unit of its coordinate system, else in ``units``. It is unpacked by a process of its own
    (see ``unpack_cloud``). Raises FormatError.
    """
    with tempfile.TemporaryDirectory(prefix="humble-loop-") as folder:
        made = Path(folder) / "points.npy"
        done = subprocess.run(
            [sys.executable, str(Path(__file__).with_name("unpack_cloud.py")), str(path), str(made)],
            capture_output=True,
            text=True,
            env={**os.environ, "OPENBLAS_NUM_THREADS": "1"},
        )
        if done.returncode != 0:
            why = done.stderr.strip().rpartition("\n")[2] if done.returncode == 2 else "its points cannot be unpacked"
            raise FormatError(path, f"{why}; copy it again from where it came")
        points, told = np.load(made), json.loads(done.stdout)
        system = told["system"]
    if not len(points):
        raise FormatError(path, "the point cloud is empty")
    try:
        points = points * _cloud_metres(path, system, units)
    except CRSError as error:
        raise FormatError(path, f"its coordinate system cannot be read ({str(error)[:80]})") from None
    check_coordinates(path, points)
    return Bundle(points=points, notes=[f"{path.name}: {words}" for words in told["notes"]])


def _metres(path: Path, system: CRS | None, units: str) -> float:
    """Metres to one unit of a coordinate system; of ``units`` where there is none. Raises FormatError for degrees."""
    if system is None:
        return METRES[units]
    if system.is_geographic:
        raise FormatError(
            path, "its places are degrees of longitude and latitude; project it to a grid in metres first"
        )
    return float(system.linear_units_factor[1]) if system.is_projected else METRES[units]


def _cloud_metres(path: Path, system: dict[str, Any], units: str) -> float:
    """Metres to one unit of a point cloud, from its coordinate system as text or as keys."""
    if system["wkt"]:
        return _metres(path, CRS.from_wkt(system["wkt"]), units)
    keys = {int(k): v for k, v in system["keys"].items()}
    if keys.get(_LINEAR_UNITS) in _EPSG_UNITS:
        return METRES[_EPSG_UNITS[keys[_LINEAR_UNITS]]]
    if keys.get(_MODEL) == _GEOGRAPHIC:
        return _metres(path, CRS.from_epsg(4326), units)
    if 1024 <= keys.get(_PROJECTED, 0) < 32767:
        return _metres(path, CRS.from_epsg(keys[_PROJECTED]), units)
    return METRES[units]
