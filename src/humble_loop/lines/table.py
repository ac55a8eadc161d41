"""Tables of the worked-out site: plain columns, SI values."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import numpy as np

from humble_loop.engine.query import Engine

UNIT = ("unit", "m")
"""The column that names the unit, and the unit: metres, areas and volumes in its square and cube, grades as ratios."""


class NoSuchTable(ValueError):
    """A table, or a thing in it, that does not exist; the message lists those that do."""


@dataclass(frozen=True)
class Table:
    """Named columns and rows of plain values; None where a value is not known.

    ``places`` names pairs of columns (easting, northing) that are measured from the site's origin.
    """

    columns: tuple[str, ...]
    rows: tuple[tuple[Any, ...], ...]
    places: tuple[tuple[str, str], ...] = ()

    def written(self) -> Table:
        """As it leaves the program: each row names the unit, so that a file or a pasted row still says it."""
        return Table((*self.columns, UNIT[0]), tuple((*row, UNIT[1]) for row in self.rows))


TableMaker = Callable[[Engine, str | None, float | None], Table]
"""From the engine, the thing asked for (or None for all) and an interval in metres (or None)."""


def plain(value: Any) -> Any:
    """A value as files take it: Python's own numbers, None for what is not finite."""
    if isinstance(value, (float, np.floating)):
        number = float(value)
        return number + 0.0 if np.isfinite(number) else None
    if isinstance(value, np.integer):
        return int(value)
    return value
