"""Where a street's own carriageway ends across: its edge towards what takes its place there, a junction's or a roundabout's surface."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.street.plan import StreetLine
from humble_loop.kinds.street.section import inside_points, side_rows
from humble_loop.lines.line import LineId, line
from humble_loop.site.model import Side


def between(made: tuple[Floats, Floats], low: float, high: float) -> Floats:
    """Points (n, 3) of (places, points) from ``low`` to ``high``, backwards where that runs down."""
    s, points = made
    keep = (s >= min(low, high) - 1e-6) & (s <= max(low, high) + 1e-6)
    return points[keep] if low <= high else points[keep][::-1]


def on_line(q: Engine, id: LineId, s: Floats) -> tuple[Floats, Floats]:
    """Places (n,) on a line and its points (n, 3) there."""
    return s, line(q, id).points(s)


@dataclass(frozen=True)
class Edge:
    """A street's edge across, from its lip on the right to that on the left seen leaving what lies before it: points in order.

    ``crown`` are those among them on its crown, and ``first`` the chainage up to which both halves end, from which that is an edge inside.
    """

    points: tuple[Floats, ...]
    crown: Floats
    first: float
    nearer: Floats


def edge_across(
    q: Engine, street: str, sides: dict[Side, Side], kerbs: dict[Side, float], begins: dict[Side, float], onwards: bool
) -> Edge | None:
    """The edge of a street that leaves ``onwards`` or back; None where its halves do not meet at its crown.

    By the sides seen leaving: its own ``sides``, the chainages at which their kerbs begin, and from which they make their own carriageway.
    """
    halves = {c: side_rows(q, street, side) for c, side in sides.items()}
    # Along the lip, from where its kerb begins to where its own carriageway does.
    ends = {c: between(on_line(q, StreetLine(street, "lip", sides[c]), halves[c]), kerbs[c], begins[c]) for c in sides}
    a, b = begins["right"], begins["left"]
    longer = halves["right"] if (a < b) == onwards else halves["left"]
    crown = between(on_line(q, StreetLine(street), longer), a, b)
    if not len(crown):
        return None
    inside = {c: inside_points(q, street, sides[c], begins[c]) for c in sides}
    points = (ends["right"], inside["right"][::-1], crown, inside["left"], ends["left"][::-1])
    first = min(a, b) if onwards else max(a, b)
    return Edge(points, crown, first, np.asarray(crown[0] if first == a else crown[-1]))
