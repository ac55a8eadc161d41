"""Small helpers for read-only arrays, which let results be shared without fear of being changed."""

from __future__ import annotations

from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]


def frozen(values: ArrayLike, dtype: Any = np.float64) -> NDArray[Any]:
    """Return ``values`` as a contiguous array that refuses to be written to."""
    array = np.array(values, dtype=dtype, order="C")
    array.setflags(write=False)
    return array


def left_normals(headings: ArrayLike) -> Floats:
    """Unit normals to the left of ``headings`` (radians, any shape): shape (..., 2)."""
    h = np.asarray(headings, dtype=np.float64)
    return np.stack([-np.sin(h), np.cos(h)], axis=-1)


def tangents(headings: ArrayLike) -> Floats:
    """Unit vectors along ``headings`` (radians, any shape): shape (..., 2)."""
    h = np.asarray(headings, dtype=np.float64)
    return np.stack([np.cos(h), np.sin(h)], axis=-1)


def bearing_of(headings: ArrayLike) -> Floats:
    """Bearings in degrees, clockwise from north in [0, 360), of ``headings`` in radians."""
    bearings = np.mod(90.0 - np.degrees(np.asarray(headings, dtype=np.float64)), 360.0)
    return np.where(bearings >= 360.0, 0.0, bearings)


def clipped(values: ArrayLike, low: ArrayLike, high: ArrayLike) -> NDArray[Any]:
    """``values`` held between ``low`` and ``high``: for the short arrays of one line a good deal quicker than clipping."""
    return np.asarray(np.minimum(np.maximum(values, low), high))


def unique_chainages(*groups: ArrayLike, low: float, high: float, gap: float = 1e-6) -> Floats:
    """Merge chainages into one rising array within [low, high], dropping any nearer than ``gap`` metres.

    The first group that names a place wins, so exact key points go before regular intervals.
    """
    kept: Floats = np.empty(0)
    for group in groups:
        values = np.unique(np.asarray(group, dtype=np.float64).ravel())
        values = values[(values >= low - gap) & (values <= high + gap)]
        values = clipped(values, low, high)
        if values.size:
            keep = np.concatenate([[True], np.diff(values) > gap])
            values = values[keep]
        if kept.size and values.size:
            at = np.searchsorted(kept, values)
            before = np.abs(values - kept[clipped(at - 1, 0, kept.size - 1)])
            after = np.abs(values - kept[clipped(at, 0, kept.size - 1)])
            values = values[np.minimum(before, after) > gap]
        kept = np.sort(np.concatenate([kept, values]))
    return kept
