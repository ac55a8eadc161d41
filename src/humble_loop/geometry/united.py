"""Polygons as one."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import shapely

from humble_loop.geometry.arrays import Floats

_DIGITS = 11  # of a coordinate in metres: coarser than rounding, and so fine that slivers it makes are no area


def united(plans: Sequence[shapely.Geometry] | np.ndarray) -> shapely.Geometry:
    """The union of polygons, none of them left out.

    Where two adjoin along edges whose corners are parted by rounding alone a union may leave one of them out, whole, and what they then share
    and do not share is told wrongly as well: seen with corners 1e-14 m apart beside an axis. Their coordinates are rounded first.
    """
    rounded = shapely.transform(np.asarray(plans, dtype=object), _rounded)
    try:
        return shapely.union_all(rounded)
    except shapely.errors.GEOSException:  # a sliver that rounding turned over
        return shapely.union_all(shapely.make_valid(rounded, method="structure", keep_collapsed=False))


def _rounded(xy: Floats) -> Floats:
    return np.round(xy, _DIGITS)
