"""Lines that are drawn step by step, each step leaving the one before tangentially: arcs through a point, straights to one.

What comes out are bends: an arc of any sweep, also of more than half a turn, is one or several bends with its radius whose
tangents meet on it.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal, NamedTuple

import numpy as np

from humble_loop.geometry.arrays import Floats

Place = tuple[float, float]
_MOST_SWEEP = np.radians(120.0)  # that one bend turns: beyond, its intersection point flies away
_STRAIGHT = 1e-7  # radians of sweep below which an arc is a straight
_LEAST_LEG = 1e-6  # metres


class Step(NamedTuple):
    """To a place: straight on, or by an arc that ends there."""

    kind: Literal["straight", "arc"]
    to: Place


class Vertex(NamedTuple):
    """An intersection point; its radius (m), or None where whoever draws proposes one."""

    place: Place
    radius: float | None


class Arc(NamedTuple):
    """An arc: where it leaves (2,), its heading there (radians), its radius (m, left positive) and its sweep (radians, left
    positive).
    """

    start: Floats
    heading: float
    radius: float
    sweep: float


class Drawn(NamedTuple):
    """A line so far: its vertices, and where it ends with its heading there (radians); None at its very beginning."""

    vertices: list[Vertex]
    end: tuple[Floats, float] | None


def vertices(start: Place, steps: Sequence[Step]) -> list[Vertex]:
    """The vertices of a line that is drawn: see ``drawn``."""
    return drawn(start, steps).vertices


def place_on_arc(end: tuple[Floats, float], radius: float, towards: Place) -> Place:
    """The place nearest to ``towards`` on the circle of ``radius`` (m) that leaves a line's end tangentially, to the side of
    that place.
    """
    start, heading = end
    left = np.array([-np.sin(heading), np.cos(heading)])
    side = 1.0 if float((np.array(towards) - start) @ left) >= 0.0 else -1.0
    centre = start + side * radius * left
    d = np.array(towards) - centre
    size = float(np.hypot(*d))
    at = centre + radius * (d / size if size > _LEAST_LEG else -side * left)
    return (float(at[0]), float(at[1]))


def drawn(start: Place, steps: Sequence[Step]) -> Drawn:
    """The vertices of a line from ``start``. An arc as first step is a straight, since it leaves nothing.

    A straight after an arc leaves it tangentially: the arc turns as far as is needed to look at the place. A place inside
    its circle cannot be looked at: the arc stays as it was, and the line bends where it ends.
    """
    found, arc, before = [Vertex(start, None)], None, 0  # the vertices before an arc
    for step in steps:
        to = np.array(step.to)
        if step.kind == "arc" and (leaves := _leaves(found, arc)) is not None:
            place, heading = leaves
            if len(found) > 1:
                found.pop()  # where one runs into the other there is no bend
            arc, before = arc_to(place, heading, step.to), len(found)
            found += _bends(arc, to)
            continue
        if arc is not None:
            sweep = _sweep_towards(arc, to)
            if sweep is not None:
                arc = arc._replace(sweep=sweep)
                found = found[:before] + _bends(arc, to)
                arc = None
                continue
        found.append(Vertex((float(to[0]), float(to[1])), None))
        arc = None
    return Drawn(found, _leaves(found, arc))


def last_arc(start: Place, steps: Sequence[Step]) -> Arc | None:
    """The arc with which a line ends that is drawn; None where it ends with a straight, or its arc is none."""
    if not steps or steps[-1].kind != "arc" or (end := drawn(start, steps[:-1]).end) is None:
        return None
    arc = arc_to(*end, steps[-1].to)
    return arc if np.isfinite(arc.radius) else None


def heading_towards(arc: Arc, to: Place) -> float | None:
    """The heading (radians) of the straight that leaves an arc tangentially to a place; None for a place inside its circle."""
    sweep = _sweep_towards(arc, np.array(to))
    return None if sweep is None else arc.heading + sweep


def square_from(arc: Arc, at: Place, heading: float) -> Place | None:
    """Where a straight that leaves an arc's circle tangentially meets another, through ``at`` along ``heading`` (radians),
    square; the nearer to ``at`` of the two there are, and None where both lead away from it.

    A circle has a tangent point c - r n for a tangent along u with its left normal n (r left positive).
    """
    centre = arc.start + arc.radius * np.array([-np.sin(arc.heading), np.cos(arc.heading)])
    found = []
    for side in (1.0, -1.0):
        u = side * np.array([-np.sin(heading), np.cos(heading)])
        leaves = centre - arc.radius * np.array([-u[1], u[0]])
        run = float((np.array(at) - leaves) @ u)
        if run > _LEAST_LEG:
            place = leaves + run * u
            found.append((float(np.hypot(*(place - at))), (float(place[0]), float(place[1]))))
    return min(found)[1] if found else None


def _leaves(found: list[Vertex], arc: Arc | None) -> tuple[Floats, float] | None:
    """Where the line ends and its heading there; None at its very beginning."""
    if arc is not None:
        return np.array(found[-1].place), arc.heading + arc.sweep
    if len(found) < 2:
        return None
    d = np.array(found[-1].place) - found[-2].place
    return (np.array(found[-1].place), float(np.arctan2(d[1], d[0]))) if np.hypot(*d) > _LEAST_LEG else None


def arc_to(start: Floats, heading: float, to: Place) -> Arc:
    """The arc from a place along a heading to another place: with x and y of that place ahead and to the left, half the
    sweep is atan2(y, x), and the radius is (x2 + y2) / 2y.
    """
    along = np.array([np.cos(heading), np.sin(heading)])
    d = np.array(to) - start
    x, y = float(d @ along), float(d @ [-along[1], along[0]])
    sweep = 2.0 * float(np.arctan2(y, x))
    if abs(np.sin(0.5 * sweep)) < _STRAIGHT:
        return Arc(start, heading, np.inf, 0.0)
    return Arc(start, heading, (x * x + y * y) / (2.0 * y), sweep)


def _sweep_towards(arc: Arc, to: Floats) -> float | None:
    """How far an arc turns until it looks at a place; None for a place inside its circle, or none at all."""
    if not np.isfinite(arc.radius):
        return None
    side = np.sign(arc.radius)
    normal = np.array([-np.sin(arc.heading), np.cos(arc.heading)])
    d = to - (arc.start + arc.radius * normal)
    away, r = float(np.hypot(*d)), abs(arc.radius)
    if away <= r * (1.0 + 1e-9):
        return None
    # The tangent point lies arccos(r / away) before the place, seen from the centre, in the direction of travel.
    at = np.arctan2(d[1], d[0]) - side * np.arccos(r / away)
    first = arc.heading - side * 0.5 * np.pi  # from the centre to where the arc leaves
    sweep = float(np.mod(side * (at - first), 2.0 * np.pi))
    return side * sweep if sweep > _STRAIGHT else None


def _bends(arc: Arc, end: Floats) -> list[Vertex]:
    """The bends of an arc, and its end or where the line goes from there."""
    last = Vertex((float(end[0]), float(end[1])), None)
    if not np.isfinite(arc.radius) or arc.sweep == 0.0:
        return [last]
    count = int(np.ceil(abs(arc.sweep) / _MOST_SWEEP))
    part, r = arc.sweep / count, abs(arc.radius)
    tangent = r * np.tan(abs(part) / 2.0)
    found = []
    at, heading = arc.start, arc.heading
    for _ in range(count):
        corner = at + tangent * np.array([np.cos(heading), np.sin(heading)])
        heading += part
        at = corner + tangent * np.array([np.cos(heading), np.sin(heading)])
        found.append(Vertex((float(corner[0]), float(corner[1])), r))
    return [*found, last]


def radii(corners: Sequence[Vertex], proposed: float) -> list[float]:
    """The radius (m) of every vertex, 0 at both ends: the one that is drawn, or the one ``proposed`` as far as the legs have
    room for it beside arcs that are drawn, in whole metres where it has to be less.
    """
    p = np.array([v.place for v in corners])
    legs = np.diff(p, axis=0)
    lengths = np.hypot(legs[:, 0], legs[:, 1])
    headings = np.arctan2(legs[:, 1], legs[:, 0])
    tan = np.tan(np.abs(np.mod(np.diff(headings) + np.pi, 2.0 * np.pi) - np.pi) / 2.0)
    taken = [0.0, *((v.radius or 0.0) * t for v, t in zip(corners[1:-1], tan.tolist())), 0.0]
    found = [0.0] * len(corners)
    for i in range(1, len(corners) - 1):
        drawn_radius, t = corners[i].radius, float(tan[i - 1])
        room = min(lengths[i - 1] - taken[i - 1], lengths[i] - taken[i + 1])
        fits = room / t if t > _STRAIGHT else np.inf
        found[i] = drawn_radius or (proposed if fits >= proposed else float(max(np.floor(fits), 0.0)))
    return found
