"""Elevation grids (GeoTIFF, ASC) and point clouds (LAS, LAZ) as ground points."""

from __future__ import annotations

from pathlib import Path

import laspy
import numpy as np
import rasterio
import rasterio.transform
from laspy.errors import LaspyException
from rasterio.errors import RasterioIOError

from humble_loop.formats.bundle import Bundle
from humble_loop.formats.errors import FormatError
from humble_loop.formats.points_csv import check_coordinates

_GROUND = 2  # the class of ground returns in LAS


def read_grid(path: Path) -> Bundle:
    """Read the first band of an elevation grid as a point at each cell's middle. Raises FormatError."""
    try:
        with rasterio.open(path) as data:
            levels = data.read(1, masked=True)
            rows, columns = np.nonzero(~np.ma.getmaskarray(levels))
            x, y = rasterio.transform.xy(data.transform, rows, columns)
            values = np.asarray(levels)[rows, columns].astype(np.float64)
    except (RasterioIOError, ValueError) as error:
        raise FormatError(path, f"it is not an elevation grid that can be read ({str(error)[:80]})") from None
    keep = np.isfinite(values)
    points = np.column_stack([np.asarray(x), np.asarray(y), values])[keep]
    if not len(points):
        raise FormatError(path, "the grid holds no levels")
    check_coordinates(path, points)
    return Bundle(points=points)


def read_cloud(path: Path) -> Bundle:
    """Read a point cloud: its ground points where it is classified, else all of it. Raises FormatError."""
    try:
        cloud = laspy.read(path)
    except (LaspyException, OSError, ValueError) as error:
        raise FormatError(path, f"it is not a point cloud that can be read ({str(error)[:80]})") from None
    points = np.column_stack([cloud.x, cloud.y, cloud.z]).astype(np.float64)
    ground = np.asarray(cloud.classification) == _GROUND
    if ground.any():
        points = points[ground]
    if not len(points):
        raise FormatError(path, "the point cloud is empty")
    check_coordinates(path, points)
    return Bundle(points=points)
