"""Boundary splays: the boundary of a corner straight on from both streets, and straight across between them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen, left_normals, tangents
from humble_loop.kinds.junction.corners import (
    Return,
    boundary_of,
    change_corner,
    corner_choice,
    corner_name,
    corner_shape,
    kerb_return,
)
from humble_loop.kinds.junction.nodes import Arm
from humble_loop.kinds.street.plan import chain_of, name_of
from humble_loop.lines.beside import ToLegs
from humble_loop.lines.describe import SetOutPoint
from humble_loop.lines.findings import Finding, Mend, point
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.setout import told
from humble_loop.site.model import Side

RULES = ("splay without room",)
_ROUND = 0.05  # metres to which a splay that is proposed is rounded
_LEAST = 0.05  # metres that are left between what lies inside the boundary and it
_PLACES = 65  # along a return at which that is looked at
_TRIES = 40


@dataclass(frozen=True)
class Splay:
    """The boundary of a corner in plan: its ``corners`` (k, 2) from the through street's to the side street's, and how far each truncated
    leg runs back from where both boundaries would meet (m): at most to where the return begins and ends.
    """

    corners: Floats
    back_through: float
    back_side: float


@query
def splay(q: Engine, street: str, arm: Arm, corner: Side) -> Splay | None:
    """A corner's splay; None where its boundary goes round beside the return."""
    wanted = corner_choice(q, street, arm, corner).splay
    return None if wanted is None else _laid(q, street, arm, corner, wanted)


def _laid(q: Engine, street: str, arm: Arm, corner: Side, wanted: float) -> Splay:
    made, shape = kerb_return(q, street, arm, corner), corner_shape(q, street, arm, corner)
    chain, towards = made.curve.chain, made.curve.towards
    f = chain.at([0.0, chain.total])
    out = towards * np.array([shape.first.reach, shape.last.reach])
    first, last = f.points + left_normals(f.headings) * out[:, None]
    u, v = tangents(f.headings)
    det = _cross(u, v)
    if abs(det) < 1e-9:
        return Splay(frozen(np.stack([first, last])), 0.0, 0.0)
    a = _cross(last - first, v) / det  # from the first boundary on, and from the last back, to where they meet
    b = _cross(last - first, u) / det
    meet = first + a * u
    back = min(wanted, max(a, 0.0)), min(wanted, max(-b, 0.0))
    corners = [first, meet - back[0] * u, meet + back[1] * v, last]
    keep = [corners[0], *(p for before, p in zip(corners, corners[1:]) if np.hypot(*(p - before)) > 1e-6)]
    return Splay(frozen(np.array(keep)), back[0], back[1])


def _cross(a: Floats, b: Floats) -> float:
    return float(a[0] * b[1] - a[1] * b[0])


def boundary_offset(q: Engine, street: str, arm: Arm, corner: Side) -> ToLegs | None:
    """How far a corner's boundary lies from its return; None where it goes round beside that."""
    made = splay(q, street, arm, corner)
    if made is None:
        return None
    curve = kerb_return(q, street, arm, corner).curve
    return ToLegs.beside(curve.chain, made.corners, float(np.sign(curve.towards)))


def splay_points(q: Engine, street: str, arm: Arm, corner: Side) -> list[SetOutPoint]:
    """The corners of a splay to be set out; its ends are the streets' own."""
    made, id = splay(q, street, arm, corner), boundary_of(q, street, arm, corner)
    boundary = q.attempt(line, id)
    if made is None or isinstance(boundary, Unsolved) or len(made.corners) < 3:
        return []
    curve = kerb_return(q, street, arm, corner).curve
    s = curve.chain.feet(made.corners[1:-1]).chainages
    marks = ["splay"] * len(s)
    return told(q, id, boundary.title, s, marks, curve.towards, chain_of(q, street), name_of(q, street))


def splay_findings(q: Engine, street: str, arm: Arm, corner: Side, of: ThingId) -> list[Finding]:
    """A splay that leaves no room for what lies inside the boundary, with the least that does."""
    wanted = corner_choice(q, street, arm, corner).splay
    if wanted is None or not isinstance(q.attempt(kerb_return, street, arm, corner), Return):
        return []
    short, at = _short(q, street, arm, corner, wanted)
    if short <= 0.0:
        return []
    low, high = wanted, wanted
    for _ in range(_TRIES):
        high = max(2.0 * high, _ROUND)
        if _short(q, street, arm, corner, high)[0] <= 0.0 or high > 100.0:
            break
    for _ in range(_TRIES):
        middle = 0.5 * (low + high)
        low, high = (low, middle) if _short(q, street, arm, corner, middle)[0] <= 0.0 else (middle, high)
    least = float(np.ceil(high / _ROUND - 1e-6) * _ROUND)
    made = kerb_return(q, street, arm, corner)
    words = f"a splay of {wanted:g} m cuts {short:.2f} m into what lies inside the boundary"
    remedy, mend = "make it longer, or enlarge the return's radius", None
    if _short(q, street, arm, corner, least)[0] <= 0.0:
        remedy = f"make it {least:.2f} m at least, or enlarge the return's radius"
        mend = Mend(f"Splay {least:.2f} m", change_corner(q, street, arm, corner, splay=least))
    place = point(made.curve.chain.points_at([at])[0])
    return [
        Finding(RULES[0], of, corner_name(q, street, arm, corner), words, remedy, wanted, least, place=place, mend=mend)
    ]


def _short(q: Engine, street: str, arm: Arm, corner: Side, wanted: float) -> tuple[float, float]:
    """By how much (m) a splay cuts into what lies inside it, and where along the return it does so most."""
    made, shape = kerb_return(q, street, arm, corner), corner_shape(q, street, arm, corner)
    chain = made.curve.chain
    s = np.linspace(0.0, chain.total, _PLACES)
    legs = ToLegs.beside(chain, _laid(q, street, arm, corner, wanted).corners, float(np.sign(made.curve.towards)))
    inner = np.interp(s, [0.0, chain.total], [shape.first.out[-2], shape.last.out[-2]])
    least = np.minimum(
        _LEAST,
        np.interp(
            s, [0.0, chain.total], [shape.first.reach - shape.first.out[-2], shape.last.reach - shape.last.out[-2]]
        ),
    )
    over = inner + least - np.abs(legs(s))
    over[[0, -1]] = 0.0  # there it is the streets' own
    k = int(np.argmax(over))
    return float(over[k]) if over[k] > 1e-6 else 0.0, float(s[k])


def proposed_splay(q: Engine, street: str, arm: Arm, corner: Side) -> float:
    """As far back as the return goes: straight across from tangent to tangent, rounded down."""
    made = q.attempt(_laid_far, street, arm, corner)
    if isinstance(made, Unsolved):
        return 3.0
    return max(float(np.floor(min(made.back_through, made.back_side) / _ROUND) * _ROUND), _ROUND)


@query
def _laid_far(q: Engine, street: str, arm: Arm, corner: Side) -> Splay:
    return _laid(q, street, arm, corner, 1000.0)
