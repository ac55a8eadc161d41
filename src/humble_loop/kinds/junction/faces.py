"""Faces of a junction: the patch between the through lip, both returns and the side street; and both corners' roadsides."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar, Literal

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats, frozen, unique_chainages
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.junction.corners import (
    TIGHT,
    ReturnLine,
    boundary_of,
    corner_name,
    corner_shape,
    kerb_return,
    reach_outside,
    through_lip,
)
from humble_loop.kinds.junction.layout import return_rows, throat
from humble_loop.kinds.junction.nodes import Arm, arm_name, both_crowns, leg_side, name_of_node, require_joint
from humble_loop.kinds.junction.rulings import rulings
from humble_loop.kinds.junction.splay import boundary_offset
from humble_loop.kinds.junction.throats import carriageway_from
from humble_loop.kinds.street.batter import batter
from humble_loop.kinds.street.mouth import between, edge_across, on_line
from humble_loop.kinds.street.plan import StreetLine, chain_of, is_new
from humble_loop.kinds.street.section import inside_points, rows, side_rows
from humble_loop.lines.faces import Face, FaceId, Patch, Strip
from humble_loop.lines.line import LineId, ThingId, line
from humble_loop.site.model import SIDES, Side


@dataclass(frozen=True)
class JunctionFace(FaceId):
    """The patch of a junction (no corner), or the roadside or batter of a corner."""

    street: str
    arm: Arm
    part: Literal["patch", "roadside", "batter"]
    corner: Side | None = None
    kind: ClassVar[str] = "junction"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, name_of_node(self.street, self.arm))

    @property
    def gives_way(self) -> bool:
        return self.part == "batter"


_APART = 2e-4  # metres within which rows are one


def faces_of(q: Engine, street: str, arm: Arm) -> tuple[FaceId, ...]:
    """The faces of an arm whose side street is new."""
    if not is_new(q, street):
        return ()
    corners: tuple[Side, Side] = ("left", "right")
    outside = [JunctionFace(street, arm, part, c) for c in corners for part in ("roadside", "batter")]
    return (JunctionFace(street, arm, "patch"), *outside)


def face_of(q: Engine, id: JunctionFace) -> Face:
    """A face of a junction."""
    if id.corner is None:
        return _patch(q, id.street, id.arm)
    made, shape = kerb_return(q, id.street, id.arm, id.corner), corner_shape(q, id.street, id.arm, id.corner)
    title = corner_name(q, id.street, id.arm, id.corner)
    reach, tightest = reach_outside(q, id.street, id.arm, id.corner), made.curve.tightest
    if (splayed := boundary_offset(q, id.street, id.arm, id.corner)) is not None:
        reach = max(reach, float(np.abs(splayed.values).max()))
    if reach > TIGHT * tightest * (1.0 + 1e-9):
        raise Unsolved(
            title,
            f"verge and path ({reach:.2f} m) do not fit inside a return of {tightest:g} m",
            f"make its tightest radius at least {np.ceil(100.0 * reach / TIGHT) / 100.0:.2f} m",
        )
    s = return_rows(q, id.street, id.arm, id.corner)
    joined = np.ones(len(s) - 1, dtype=bool)
    names = shape.last.names
    if id.part == "roadside":
        lines = tuple(ReturnLine(id.street, id.arm, id.corner, n) for n in names)
        return Strip(f"{title} roadside", "roadside", lines, s, joined, shape.last.roles)
    return batter(q, f"{title} batter", boundary_of(q, id.street, id.arm, id.corner), s, joined, ground_of(q))


def _patch(q: Engine, street: str, arm: Arm) -> Patch:
    """From the through lip between the two returns, round both returns, to the side street's own carriageway."""
    t, name = throat(q, street, arm), arm_name(q, street, arm)
    left, right = (kerb_return(q, street, arm, c) for c in ("left", "right"))
    lips = {}
    for c in ("left", "right"):
        id = ReturnLine(street, arm, c)
        lips[c] = line(q, id).points(return_rows(q, street, arm, c))
    both = both_crowns(q, street, arm)
    through = (_crown if both else _through)(q, street, arm, left.through_at, right.through_at)
    sides: dict[Side, Side] = {c: leg_side(arm, c) for c in SIDES}
    begins: dict[Side, float] = {c: carriageway_from(q, street, arm, c) for c in SIDES}
    kerbs: dict[Side, float] = {"left": left.side_chainage, "right": right.side_chainage}
    edge = edge_across(q, street, sides, kerbs, begins, require_joint(q, street, arm).way > 0)
    if edge is None:
        raise Unsolved(
            name,
            "the side street has no carriageway of its own where its returns end",
            "move its junctions further apart, or lessen their radii",
        )
    to_crown = edge.points
    outline = np.concatenate([through[:-1], lips["right"][:-1], *to_crown, lips["left"][::-1][1:-1]])
    # Up to the half that begins first, the crown is an edge inside.
    first = edge.first
    n = max(2, int(abs(first - t.place.side_chainage)) + 1)
    corners: tuple[Side, Side] = ("left", "right")
    spans, j = [rulings(q, street, arm, c) for c in corners], require_joint(q, street, arm)
    low, high = t.place.leg_at, abs(first - j.side_chainage)
    on_leg = [np.array([low, high]), *(made.across[made.through :] for made in spans), np.linspace(low, high, n)]
    along = j.side_chainage + j.way * unique_chainages(*on_leg, low=low, high=high)
    middle = line(q, StreetLine(street)).points(along)
    middle[0] = [*t.place.point, t.level]
    middle[-1] = edge.nearer
    across = [end for c in corners for end in _spanning(q, street, arm, c)]
    lines: tuple[LineId, ...] = (
        StreetLine(j.through) if both else through_lip(j),
        ReturnLine(street, arm, "left"),
        ReturnLine(street, arm, "right"),
        StreetLine(street),
    )
    # Kerbs hold water; it leaves along the through street and along the side street.
    outlets = np.concatenate([through, *to_crown])[:, :2]
    return Patch(f"{name} junction", "junction", outline, (middle, *across), lines, frozen(outlets))


def _spanning(q: Engine, street: str, arm: Arm, corner: Side) -> list[Floats]:
    """The lines (each (2, 3)) that span a junction from one of its returns."""
    j, made = require_joint(q, street, arm), rulings(q, street, arm, corner)
    if not len(made.across):
        return []
    begins = line(q, ReturnLine(street, arm, corner)).points(_row(return_rows(q, street, arm, corner), made.on_return))
    through = StreetLine(j.through) if both_crowns(q, street, arm) else through_lip(j)
    ends = np.concatenate(
        [
            line(q, through).points(_row(rows(q, j.through), made.across[: made.through])),
            line(q, StreetLine(street)).points(j.side_chainage + j.way * made.across[made.through :]),
        ]
    )
    return list(np.stack([begins, ends], axis=1))


def _row(s: Floats, at: Floats) -> Floats:
    """The rows (k,) that stand at places: each as near as rows are told apart."""
    if not len(at):
        return at
    k = np.clip(np.searchsorted(s, at), 1, len(s) - 1)
    nearer = np.where(at - s[k - 1] < s[k] - at, s[k - 1], s[k])
    found: Floats = np.where(np.abs(nearer - at) < _APART, nearer, at)
    return found


def _crown(q: Engine, street: str, arm: Arm, begin: float, finish: float) -> Floats:
    """Points (n, 3) from the through lip in to its crown, along that from one return to the other, and out to the lip again."""
    j = require_joint(q, street, arm)
    crown = between(on_line(q, StreetLine(j.through), rows(q, j.through)), begin, finish)
    across = [
        np.concatenate(
            [line(q, through_lip(j)).points([s]), inside_points(q, j.through, j.lip_side, s)[::-1]],
        )
        for s in (begin, finish)
    ]
    return np.concatenate([across[0], crown, across[1][::-1]])


def _through(q: Engine, street: str, arm: Arm, begin: float, finish: float) -> Floats:
    """The through lip's points (n, 3) from one return to the other, the throat among them."""
    j, t = require_joint(q, street, arm), throat(q, street, arm)
    id = through_lip(j)
    if is_new(q, j.through):
        s = (
            rows(q, j.through)
            if line(q, id).plan.base is chain_of(q, j.through)
            else side_rows(q, j.through, j.lip_side)
        )
        return between(on_line(q, id, s), begin, finish)
    lip = line(q, id)
    low, high = min(begin, finish), max(begin, finish)
    keys = np.concatenate([lip.rule.key_places(), lip.plan.base.key_chainages(), [low, high, t.place.through_at]])
    s = np.unique(keys[(keys >= low) & (keys <= high)])
    s = s[np.concatenate([[True], np.diff(s) > 1e-6])]
    return between(on_line(q, id, s), begin, finish)
