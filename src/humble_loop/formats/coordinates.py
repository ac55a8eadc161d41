"""What cannot be metres on a site is refused, whatever the file: coordinates, and arcs without end."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import ArrayLike

from humble_loop.formats.errors import FormatError
from humble_loop.geometry.arrays import Floats

MOST_CHORDS = 20_000  # in one line, and
MOST_CHORDS_IN_ALL = 400_000  # in one file


def chords(length: ArrayLike, curvature: ArrayLike, sag: float) -> Floats:
    """How many chords follow arcs of a ``length`` and ``curvature`` (1/length, no sign) within ``sag``."""
    k = np.asarray(curvature, dtype=np.float64)
    return np.maximum(1.0, np.asarray(length, dtype=np.float64) * np.sqrt(k / (8.0 * sag)))


def check_coordinates(path: Path, points: Floats, *, may_be_degrees: bool = True) -> None:
    """Refuse coordinates that cannot be metres on a site. Raises FormatError.

    ``may_be_degrees`` is false where a small extent is normal, as for a single line of a drawing.
    """
    if not np.all(np.isfinite(points)):
        i = int(np.argmax(~np.isfinite(points).all(axis=1)))
        raise FormatError(path, f"point {i + 1} has a coordinate that is no number; correct it or leave it out")
    if np.any(np.abs(points[:, :2]) > 1e8) or np.any(np.abs(points[:, 2]) > 1e5):
        i = int(np.argmax((np.abs(points[:, :2]).max(axis=1) > 1e8) | (np.abs(points[:, 2]) > 1e5)))
        e, n, z = points[i]
        raise FormatError(
            path,
            f"point {i + 1} lies at {e:.6g}, {n:.6g}, level {z:.6g}, too far away for metres; check its units and columns",
        )
    west, south = points[:, :2].min(axis=0)
    east, north = points[:, :2].max(axis=0)
    if (
        may_be_degrees
        and len(points) > 3
        and west >= -180
        and east <= 180
        and south >= -90
        and north <= 90
        and max(east - west, north - south) < 0.5
    ):
        raise FormatError(
            path, "its coordinates look like degrees of longitude and latitude; project them to a grid in metres first"
        )
