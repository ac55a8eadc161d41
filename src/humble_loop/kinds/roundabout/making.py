"""Making roundabouts: what stands at a place of the plan that one can be put on, and the edits that do."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.crossing import crossings
from humble_loop.kinds.junction.nodes import JOIN, arms_at, require_joint
from humble_loop.kinds.roundabout.model import add_roundabout
from humble_loop.kinds.street.plan import centreline, chain_of, end_point, frame_of, is_new, near, streets_near
from humble_loop.lines.describe import Place
from humble_loop.site.edits import Edit
from humble_loop.site.model import ENDS, End


@dataclass(frozen=True)
class Seat:
    """Where a roundabout can be put: on a ``street`` at a chainage as drawn, or where that meets the ``other``; its middle ``place``."""

    street: str
    at: float
    other: str | None
    place: Place

    def edit(self, preset: str) -> Edit:
        """The edit that puts one of a preset there."""
        return lambda site: add_roundabout(site, self.street, round(self.at, 3), self.other, preset=preset)


def seat_at(q: Engine, place: Place, reach: float, radius: float = 0.0) -> Seat | None:
    """Where a roundabout would be put for a place that is pointed at: the nearest node or end within ``reach`` metres, or so near that a
    circle of ``radius`` about the place would hold it; else the nearest street.
    """
    found: list[tuple[float, Seat]] = []
    here = np.array(place)
    far = max(reach, radius)
    streets = [s for s in streets_near(q, place, far) if not isinstance(q.attempt(centreline, s), Unsolved)]
    for street in streets:
        for seat in _nodes(q, street):
            away = float(np.hypot(*(np.array(seat.place) - here)))
            if away <= far:
                found.append((away, seat))
    if found:
        return min(found, key=lambda pair: pair[0])[1]
    for street in streets:
        if is_new(q, street):
            foot = chain_of(q, street).feet([place])
            s = float(foot.chainages[0])
            e, n = chain_of(q, street).points_at([s])[0].tolist()
            if (away := abs(float(foot.offsets[0]))) <= reach:
                found.append((away, Seat(street, _drawn(q, street, s), None, (e, n))))
    return min(found, key=lambda pair: pair[0])[1] if found else None


def _drawn(q: Engine, street: str, s: float) -> float:
    return chain_of(q, street).total - s if frame_of(q, street).turned else s


def _nodes(q: Engine, street: str) -> list[Seat]:
    """The nodes of a street with others, and its own ends."""
    chain, seats = chain_of(q, street), []

    def add(s: float, other: str | None) -> None:
        e, n = chain.points_at([s])[0].tolist()
        seats.append(Seat(street, _drawn(q, street, s), other, (e, n)))

    for other in near(q, street):
        if isinstance(q.attempt(centreline, other), Unsolved) or not (is_new(q, other) or is_new(q, street)):
            continue
        for s in crossings(chain, chain_of(q, other))[:, 0].tolist():
            add(s, other)
        for end in ENDS:
            foot = chain.feet(end_point(q, other, end))
            if abs(float(foot.offsets[0])) <= JOIN:
                add(float(foot.chainages[0]), other)
    if is_new(q, street):
        for end in ENDS:
            s = 0.0 if end == "start" else chain.total
            if not _on_another(q, street, end) and not any(
                np.hypot(*(np.array(seat.place) - chain.points_at([s])[0])) <= JOIN for seat in seats
            ):
                add(s, None)
    return seats


def _on_another(q: Engine, street: str, end: End) -> bool:
    """Whether a street's end lies on another, which then has the node."""
    place = end_point(q, street, end)
    laid = [q.attempt(centreline, other) for other in near(q, street)]
    return any(abs(float(c.chain.feet(place).offsets[0])) <= JOIN for c in laid if not isinstance(c, Unsolved))


def of_junction(q: Engine, id: str) -> Seat | None:
    """The seat that a junction is."""
    arms = arms_at(q, id)
    if not arms:
        return None
    j = require_joint(q, *arms[0])
    e, n = j.node.tolist()
    return Seat(j.through, _drawn(q, j.through, j.through_chainage), j.side, (e, n))
