"""Closed lines put together from pieces of others: a line's parallel, its way back, and the closed chain."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.chain import Chain, Element

_CLOSED = 1e-6  # metres by which an outline may miss its own beginning: it is far less
_NONE = 1e-9  # metres


def parallel(road: Chain, begin: float, finish: float, out: float) -> list[Element]:
    """A line from one place to a later one, ``out`` metres to its left, as elements. Raises DoesNotFit for a transition."""
    if finish - begin < _NONE:
        return []
    found = []
    for e in road.part(begin, finish).elements:
        if e.k0 != e.k1:
            raise DoesNotFit("its road bends in a transition beside it; make that shorter, or the island")
        stretch = 1.0 - e.k0 * out
        found.append(Element(e.length * stretch, e.k0 / stretch, e.k0 / stretch))
    return found


def backwards(elements: Sequence[Element]) -> list[Element]:
    """Elements as they are met the other way."""
    return [Element(e.length, -e.k1, -e.k0) for e in reversed(elements)]


def closed(start: Floats, heading: float, elements: Sequence[Element]) -> Chain:
    """Elements from a place (2,) on, that come back to it. Raises DoesNotFit where they do not."""
    made = Chain.from_elements(start, heading, [e for e in elements if e.length > _NONE])
    if float(np.hypot(*(made.points_at([made.total])[0] - start))) > _CLOSED:
        raise DoesNotFit("its sides do not meet")
    return made
