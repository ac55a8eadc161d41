"""What the 3D view shows: faces in the tones of what they are, the design's edges, and the ground's contours."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, Ints, frozen
from humble_loop.ground.contour import contour_segments
from humble_loop.lines.faces import Piece
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.site import parts
from humble_loop.whole.overlaps import ground_left

Rgb = tuple[int, int, int]

_TONES = {
    "carriageway": "#6F7278",
    "junction": "#6F7278",
    "bulb": "#6F7278",
    "parking": "#82807C",
    "median": "#8FAE74",
    "kerb": "#E4E1D8",
    "path": "#D3BE95",
    "verge": "#8FAE74",
    "drain": "#B9C4C4",
    "swale": "#7F9F69",
    "batter": "#A99B5E",
    "lot": "#BFD0A0",
    "ground": "#D9C7A6",
}
_OTHER_TONE = "#C9BFA6"
# Edges by the role of their line: what stands out in a street, then what divides the land.
_EDGES = {"crown": "#F2EFE6", "pad": "#3F5B4A", "boundary": "#7A6F58"}
_OTHER_EDGE = "#3A3C40"
_LIFT = 0.04  # metres by which lines lie over the surface that they are on, so that they are seen
_SAG = 0.02


class Lines3D(NamedTuple):
    """Unbroken lines: points (n, 3), the number of points of each line (m,), and each line's colour (m, 3)."""

    points: Floats
    counts: Ints
    colours: Ints


def tones_of(piece: Piece | None, triangles: int) -> np.ndarray:
    """The colour (m, 3) of every triangle of a piece; None is the ground."""
    if piece is None:
        return np.tile(np.array(rgb(_TONES["ground"]), dtype=np.uint8), (triangles, 1))
    tones = np.array([rgb(_TONES.get(r, _OTHER_TONE)) for r in piece.roles], dtype=np.uint8)
    return tones[piece.role_of]


@query
def edges_of(q: Engine, thing: ThingId) -> Lines3D:
    """A thing's lines as they run over the finished surface."""
    points, counts, colours = [], [], []
    for id in kind_of(thing.kind).lines(q, thing):
        made = q.attempt(line, id)
        if isinstance(made, Unsolved):
            continue
        for run in made.runs(_SAG, 5.0):
            points.append(run + [0.0, 0.0, _LIFT])
            counts.append(len(run))
            colours.append(rgb(_EDGES.get(made.plan.role, _OTHER_EDGE)))
    if not points:
        return Lines3D(np.empty((0, 3)), np.empty(0, np.int64), np.empty((0, 3), np.int64))
    return Lines3D(
        frozen(np.concatenate(points)), frozen(np.array(counts), np.int64), frozen(np.array(colours), np.int64)
    )


@query
def contours(q: Engine) -> Lines3D:
    """Contours of the ground where nothing is designed."""
    segments, levels = contour_segments(ground_left(q), parts.settings(q).contour_interval)
    z = np.repeat(levels, 2)[:, None] + _LIFT
    points = np.concatenate([segments.reshape(-1, 2), z], axis=1)
    colours = np.tile(np.array(rgb("#A68B5C"), dtype=np.int64), (len(segments), 1))
    return Lines3D(frozen(points), np.full(len(segments), 2), frozen(colours, np.int64))


def rgb(colour: str) -> Rgb:
    """Red, green and blue (0 to 255) of '#rrggbb'."""
    return int(colour[1:3], 16), int(colour[3:5], 16), int(colour[5:7], 16)
