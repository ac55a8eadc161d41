"""What tests ask the engine, in few words."""

from dataclasses import dataclass

import numpy as np

from humble_loop.kinds.junction.corners import ReturnLine
from humble_loop.kinds.junction.faces import JunctionFace
from humble_loop.kinds.lot.layout import lots_on
from humble_loop.kinds.lot.pad import pad
from humble_loop.kinds.street.faces import StreetFace
from humble_loop.kinds.street.plan import StreetLine, street_ids
from humble_loop.kinds.street.section import lip_levels
from humble_loop.kinds.turning_head.faces import HeadFace
from humble_loop.kinds.turning_head.layout import HeadLine
from humble_loop.lines.faces import face, strip_points
from humble_loop.lines.line import line

__all__ = [
    "HeadLine",
    "crown_levels",
    "edge_faces",
    "half_road",
    "lip_levels",
    "lot_named",
    "pad_of",
    "return_rule",
    "roadside",
]


def crown_levels(q, street, s):
    """Levels of a street's crown."""
    return line(q, StreetLine(street)).rule.levels(s)


def return_rule(q, street, end, corner):
    """The level rule of a return."""
    return line(q, ReturnLine(street, end, corner)).rule


@dataclass
class Rows:
    """A strip's rows: places along its base, points (n, k, 3) and the names of its lines."""

    along: np.ndarray
    points: np.ndarray
    names: tuple
    lines: tuple
    joined: np.ndarray

    def line(self, name):
        return self.points[:, self.names.index(name)]


def _rows(q, id):
    made = face(q, id)
    names = tuple(getattr(i, "point", "") for i in made.lines)
    rows, points, joined = made.rows, strip_points(q, id), made.joined
    if made.inner is not None:  # rows of its inner lines alone
        own = np.flatnonzero(~made.inner)
        rows, points, joined = rows[own], points[own], joined[own[:-1]]
    return Rows(rows, points, names, made.lines, joined)


def roadside(q, *edge):
    """The roadside of ('side', street, side), ('corner', street, end, corner) or ('head', street)."""
    kind, *rest = edge
    if kind == "side":
        return _rows(q, StreetFace(rest[0], "roadside", rest[1]))
    if kind == "corner":
        return _rows(q, JunctionFace(rest[0], rest[1], "roadside", rest[2]))
    return _rows(q, HeadFace(rest[0], "end", "roadside"))


def half_road(q, street, side):
    """One half of a street's carriageway: crown and lip."""
    return _rows(q, StreetFace(street, "carriageway", side))


def edge_faces(q, street):
    """The roadsides that belong to a street, its junctions and its head, as ``roadside`` takes them."""
    from humble_loop.kinds.junction.nodes import Joint, joint
    from humble_loop.kinds.turning_head.place import heads_of

    found = [("side", street, "left"), ("side", street, "right")]
    for end in ("start", "end"):
        if isinstance(q.attempt(joint, street, end), Joint):
            found += [("corner", street, end, "left"), ("corner", street, end, "right")]
    return found + [("head", street) for _ in heads_of(q, street)]


def lot_named(q, name):
    """The lot with that name."""
    return next(f for s in street_ids(q) for f in lots_on(q, s) if f.name == name)


def pad_of(q, name):
    """The pad of the lot with that name."""
    return pad(q, lot_named(q, name).id)
