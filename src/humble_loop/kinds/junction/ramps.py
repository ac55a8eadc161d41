"""Ramps at corners: the kerb comes down to the lip for those who walk, push or roll across, and what lies behind it rises to the path."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.junction.corners import (
    Return,
    change_corner,
    corner_choice,
    corner_name,
    corner_shape,
    kerb_return,
)
from humble_loop.kinds.junction.model import CornerRamp
from humble_loop.kinds.junction.nodes import Arm
from humble_loop.kinds.junction.raised import table_of
from humble_loop.kinds.street.lowered import kerb_count
from humble_loop.lines.describe import Choice, Fact, Row
from humble_loop.lines.findings import Finding, point, share, too_high
from humble_loop.lines.line import ThingId
from humble_loop.lines.varying import Varying
from humble_loop.site.edits import Edit, changed
from humble_loop.site.model import Side

RULES = ("ramp too steep", "ramp past its return")
STEEPEST = 0.125  # rise per metre, typical: what a wheelchair takes over so short a way
_CHOICES = (("no", "no ramp"), ("yes", "ramp"))


@query
def ramp_share(q: Engine, street: str, arm: Arm, corner: Side) -> Varying | None:
    """How far the kerb of a corner is down along its return, 0 to 1; None where it has no ramp."""
    ramp, made = corner_choice(q, street, arm, corner).ramp, q.attempt(kerb_return, street, arm, corner)
    if ramp is None or not isinstance(made, Return):
        return None
    middle, half = ramp.share * made.curve.length, 0.5 * ramp.width
    at = [middle - half - ramp.flare, middle - half, middle + half, middle + half + ramp.flare]
    return Varying.of(at, [0.0, 1.0, 1.0, 0.0])


def ramp_stations(q: Engine, street: str, arm: Arm, corner: Side) -> Floats:
    """Where along a return its ramp begins and ends to come down and to go up."""
    made, total = ramp_share(q, street, arm, corner), q.attempt(kerb_return, street, arm, corner)
    if made is None or isinstance(total, Unsolved):
        return np.empty(0)
    return made.at[(made.at > 0.0) & (made.at < total.curve.length)]


def lowered(q: Engine, street: str, arm: Arm, corner: Side, k: int) -> Varying | None:
    """By how much (m, below zero) point ``k`` of a corner's roadside is lowered along its return; None where it is not."""
    down, shape = ramp_share(q, street, arm, corner), corner_shape(q, street, arm, corner)
    if down is None or k > kerb_count(shape.last.roles):
        return None
    table = table_of(q, street, arm)
    up = np.maximum(np.array([shape.first.rise[k], shape.last.rise[k]]) - (table.by if table else 0.0), 0.0)
    return Varying.of([0.0, kerb_return(q, street, arm, corner).curve.length], -up).times_varying(down)


def ramp_rows(q: Engine, street: str, arm: Arm, corner: Side) -> list[Row]:
    """Whether a corner has a ramp, and where and how wide."""
    ramp = corner_choice(q, street, arm, corner).ramp

    def to(key: str) -> Callable[[float], Edit]:
        return lambda v: change_corner(q, street, arm, corner, ramp=changed(ramp or CornerRamp(), **{key: v}))

    rows: list[Row] = [
        Choice(
            "ramp",
            _CHOICES,
            "no" if ramp is None else "yes",
            lambda v: change_corner(q, street, arm, corner, ramp=CornerRamp() if v == "yes" else None),
            True,
        )
    ]
    if ramp is not None:
        rows += [
            Fact("ramp at, of the return", "grade", ramp.share, "set", to("share"), inner=True),
            Fact("ramp wide", "size", ramp.width, "set", to("width"), inner=True),
            Fact("its flares", "size", ramp.flare, "set", to("flare"), inner=True),
        ]
    return rows


def ramp_findings(q: Engine, street: str, arm: Arm, corner: Side, of: ThingId) -> list[Finding]:
    """A ramp that is too steep up to what lies behind the kerb, and one that reaches past its return."""
    down, made = ramp_share(q, street, arm, corner), q.attempt(kerb_return, street, arm, corner)
    if down is None or isinstance(made, Unsolved):
        return []
    shape, name, found = corner_shape(q, street, arm, corner), corner_name(q, street, arm, corner), []
    total, middle = made.curve.length, float(down.at.mean())
    place = point(made.curve.chain.points_at([min(max(middle, 0.0), total)])[0])
    past = max(-float(down.at[0]), float(down.at[-1]) - total)
    if past > 1e-6:
        words = f"its ramp reaches {past:.2f} m past the return, where the street's kerb stands"
        remedy = "make it narrower, move it towards the middle, or enlarge the return's radius"
        found.append(Finding(RULES[1], of, name, words, remedy, past, 0.0, chainage=middle, place=place))
    k = kerb_count(shape.last.roles)
    if 0 < k < len(shape.last.names) - 1:
        table = table_of(q, street, arm)
        at = middle / total
        out, rise = (
            (1 - at) * a + at * b for a, b in ((shape.first.out, shape.last.out), (shape.first.rise, shape.last.rise))
        )
        up = float(rise[k + 1]) - (table.by if table else 0.0)
        width = float(out[k + 1] - out[k])
        steep = up / width if width > 0 else np.inf
        if too_high(steep, STEEPEST):
            words = f"it rises {up:.3f} m over {width:.2f} m to the {shape.last.names[k + 1]}, {share(steep)}, more than {share(STEEPEST)}"
            remedy = "widen what lies between kerb and path, or choose a lower kerb"
            found.append(Finding(RULES[0], of, name, words, remedy, steep, STEEPEST, chainage=middle, place=place))
    return found
