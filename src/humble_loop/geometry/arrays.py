"""Small helpers for read-only arrays, which let results be shared without fear of being changed."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, Generic, TypeVar

import numpy as np
from numpy.typing import ArrayLike, NDArray

T = TypeVar("T")
Floats = NDArray[np.float64]
Ints = NDArray[np.int64]
Bools = NDArray[np.bool_]


def frozen(values: ArrayLike, dtype: Any = np.float64) -> NDArray[Any]:
    """Return ``values`` as a contiguous array that refuses to be written to."""
    array = np.array(values, dtype=dtype, order="C")
    array.setflags(write=False)
    return array


class kept(Generic[T]):  # noqa: N801 - it is read as a decorator
    """A value that is worked out when it is first read and kept with its object: like ``cached_property``, but without that one's lock, which
    costs more than most of what is worked out here.
    """

    def __init__(self, function: Callable[[Any], T]) -> None:
        self._function, self._name = function, function.__name__
        self.__doc__ = function.__doc__

    def __get__(self, of: Any, kind: Any = None) -> T:
        found = of.__dict__[self._name] = self._function(of)
        return found


def as_row(values: ArrayLike) -> Floats:
    """``values`` as an array (n,); a single number as (1,)."""
    array = np.asarray(values, dtype=np.float64)
    return array if array.ndim else array[None]


def left_normals(headings: ArrayLike) -> Floats:
    """Unit normals to the left of ``headings`` (radians, any shape): shape (..., 2)."""
    h = np.asarray(headings, dtype=np.float64)
    out = np.empty((*h.shape, 2))
    np.negative(np.sin(h), out=out[..., 0])
    np.cos(h, out=out[..., 1])
    return out


def tangents(headings: ArrayLike) -> Floats:
    """Unit vectors along ``headings`` (radians, any shape): shape (..., 2)."""
    h = np.asarray(headings, dtype=np.float64)
    out = np.empty((*h.shape, 2))
    np.cos(h, out=out[..., 0])
    np.sin(h, out=out[..., 1])
    return out


def bearing_of(headings: ArrayLike) -> Floats:
    """Bearings in degrees, clockwise from north in [0, 360), of ``headings`` in radians."""
    bearings = np.mod(90.0 - np.degrees(np.asarray(headings, dtype=np.float64)), 360.0)
    return np.where(bearings >= 360.0, 0.0, bearings)


def clipped(values: ArrayLike, low: ArrayLike, high: ArrayLike) -> NDArray[Any]:
    """``values`` held between ``low`` and ``high``: for the short arrays of one line a good deal quicker than clipping."""
    return np.asarray(np.minimum(np.maximum(values, low), high))


def rows_at(s: ArrayLike, at: Floats, *tables: Floats) -> list[Floats]:
    """Of each of some tables (k, m), whose rows hold at rising places ``at`` (k,), the rows (n, m) at places ``s`` (n,): straight between, and
    steady beyond the ends.

    Of two rows at one place the later one holds from there, as ``np.interp`` has it.
    """
    x = as_row(s)
    i = clipped(at.searchsorted(x, side="right") - 1, 0, max(len(at) - 2, 0))
    j = np.minimum(i + 1, len(at) - 1)
    run = at[j] - at[i]
    share = np.where(run > 0, np.minimum((x - at[i]) / np.where(run > 0, run, 1.0), 1.0), 1.0)
    share = np.where(x < at[0], 0.0, share)[:, None]
    return [rows[i] + share * (rows[j] - rows[i]) for rows in tables]


def row_at(s: float, at: Floats, rows: Floats) -> Floats:
    """The one row (m,) that ``rows_at`` has at a single place."""
    i = int(at.searchsorted(s, side="right")) - 1
    if i < 0 or i > len(at) - 2:
        end: Floats = rows[0 if i < 0 else -1]
        return end
    found: Floats = rows[i] + (s - at[i]) / (at[i + 1] - at[i]) * (rows[i + 1] - rows[i])
    return found


def unique_chainages(*groups: ArrayLike, low: float, high: float, gap: float = 1e-6) -> Floats:
    """Merge chainages into one rising array within [low, high], dropping any nearer than ``gap`` metres.

    The first group that names a place wins, so exact key points go before regular intervals.
    """
    kept: Floats = np.empty(0)
    for group in groups:
        values = np.array(group, dtype=np.float64).ravel()
        values.sort()
        values = values[values.searchsorted(low - gap) : values.searchsorted(high + gap, "right")]
        if not values.size:
            continue
        values = clipped(values, low, high)
        keep = np.ones(values.size, dtype=bool)
        np.greater(values[1:] - values[:-1], gap, out=keep[1:])
        values = values[keep]
        if kept.size:
            at = kept.searchsorted(values)
            beside = np.concatenate([[-np.inf], kept, [np.inf]])
            values = values[np.minimum(values - beside[at], beside[at + 1] - values) > gap]
            values = np.concatenate([kept, values])
            values.sort()
        kept = values
    return kept
