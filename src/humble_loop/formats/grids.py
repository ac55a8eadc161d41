"""Elevation grids (GeoTIFF, ASC) and point clouds (LAS, LAZ) as ground points."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import laspy
import numpy as np
import rasterio
import rasterio.transform
from laspy.errors import LaspyException
from laspy.vlrs.known import WktCoordinateSystemVlr
from rasterio.crs import CRS
from rasterio.errors import CRSError, RasterioIOError

from humble_loop.formats.bundle import METRES, Bundle
from humble_loop.formats.errors import FormatError
from humble_loop.formats.points_csv import check_coordinates

_GROUND = 2  # the class of ground returns in LAS
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
        with rasterio.open(path) as data:
            levels = data.read(1, masked=True)
            rows, columns = np.nonzero(~np.ma.getmaskarray(levels))
            x, y = rasterio.transform.xy(data.transform, rows, columns)
            values = np.asarray(levels)[rows, columns].astype(np.float64) * data.scales[0] + data.offsets[0]
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
    points = np.column_stack([np.asarray(x) * plan, np.asarray(y) * plan, values * up])[keep]
    if not len(points):
        raise FormatError(path, "the grid holds no levels")
    check_coordinates(path, points)
    return Bundle(points=points)


def read_cloud(path: Path, *, units: str = "m") -> Bundle:
    """Read a point cloud: its ground points where it is classified, else all of it.

    Its numbers are in the unit of its coordinate system, else in ``units``. Raises FormatError.
    """
    try:
        cloud = laspy.read(path)
        scale = _cloud_metres(path, cloud.header, units)
    except (LaspyException, CRSError, OSError, ValueError) as error:
        if isinstance(error, FormatError):
            raise
        raise FormatError(path, f"it is not a point cloud that can be read ({str(error)[:80]})") from None
    points = np.column_stack([cloud.x, cloud.y, cloud.z]).astype(np.float64) * scale
    ground = np.asarray(cloud.classification) == _GROUND
    if ground.any():
        points = points[ground]
    if not len(points):
        raise FormatError(path, "the point cloud is empty")
    check_coordinates(path, points)
    return Bundle(points=points)


def _metres(path: Path, system: CRS | None, units: str) -> float:
    """Metres to one unit of a coordinate system; of ``units`` where there is none. Raises FormatError for degrees."""
    if system is None:
        return METRES[units]
    if system.is_geographic:
        raise FormatError(
            path, "its places are degrees of longitude and latitude; project it to a grid in metres first"
        )
    return float(system.linear_units_factor[1]) if system.is_projected else METRES[units]


def _cloud_metres(path: Path, header: Any, units: str) -> float:
    """Metres to one unit of a point cloud, from its coordinate system as text or as keys."""
    records = [*header.vlrs, *(header.evlrs or [])]
    for record in records:
        # Only this record is a coordinate system: others hold text too.
        if isinstance(record, WktCoordinateSystemVlr) and record.string:
            return _metres(path, CRS.from_wkt(record.string.strip("\0")), units)
    keys = {k.id: k.value_offset for r in records for k in getattr(r, "geo_keys", ())}
    if keys.get(_LINEAR_UNITS) in _EPSG_UNITS:
        return METRES[_EPSG_UNITS[keys[_LINEAR_UNITS]]]
    if keys.get(_MODEL) == _GEOGRAPHIC:
        return _metres(path, CRS.from_epsg(4326), units)
    if 1024 <= keys.get(_PROJECTED, 0) < 32767:
        return _metres(path, CRS.from_epsg(keys[_PROJECTED]), units)
    return METRES[units]
