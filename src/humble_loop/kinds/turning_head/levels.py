"""Levels of turning heads: a closed, kink-free grade line round the lip.

It leaves each straight lip at that lip's level and grade, in one of two ways. By the fall from the centre: the lip stands so far below
the centre where that is least, and falls from its turn, a high point, or to it, an outlet, by as little as a kerb may; the returns take
what is left, so that the stated fall reaches all round what lies between them. Or by VIPs of its own.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.gradeline import Profile
from humble_loop.geometry.heads import HeadOutline
from humble_loop.kinds.street.plan import StreetLine, chain_of, class_of, drawn_end
from humble_loop.kinds.turning_head.layout import clear_of, leaves_at, outline
from humble_loop.kinds.turning_head.model import TurningHead
from humble_loop.kinds.turning_head.place import head_at, head_name, own_side
from humble_loop.lines.anchor import anchored
from humble_loop.lines.line import line
from humble_loop.lines.quantity import Quantity, amount, decided, elsewhere, percent, summed, times
from humble_loop.lines.rules import OnGradeLine
from humble_loop.site.model import End, Side

ROUNDING = (
    6.0  # metres of parabola where the ring leaves the straight lips, at its turn and where the returns end, at most
)
_ROOM = 0.45  # of the way between two VIPs that half a parabola takes at most
_WHOLE = 0.9  # of the way left in a return that its second parabola takes at most
_JOINT = 0.2  # metres of parabola at least where the ring leaves a straight lip
WAYS = ("street", "pit", "draw")


@dataclass(frozen=True)
class RingLevels:
    """The grade line round a head's lip.

    ``turn`` is the distance round of its high point (outlet 'street') or low point ('pit' or 'draw'); ``governs`` says what its level
    there follows from: the 'radial' fall, the least kerb fall from one of the straight lips, or its 'own' VIPs. Water leaves at ``drains``,
    distances round. ``centre`` is the centre's level in metres.
    """

    rule: OnGradeLine
    turn: float
    outlet: Literal["street", "pit", "draw"]
    centre: float
    governs: Literal["radial", "left", "right", "own"]
    drains: tuple[float, ...]


@query
def ring_levels(q: Engine, street: str, end: End) -> RingLevels:
    """A head's levels, in whichever way."""
    return own_levels(q, street, end) if head_at(q, street, end).vips else radial_levels(q, street, end)


@query
def radial_levels(q: Engine, street: str, end: End) -> RingLevels:
    """A head's levels by the fall from its centre, raised (or with an outlet at the turn lowered) as far as the least kerb fall from the
    straight lips needs.
    """
    head, made, name = head_at(q, street, end), outline(q, street, end), head_name(q, street, end)
    centre, (left, right) = _centre(q, street, end), _joined(q, street, end)
    outlet, total = _outlet(q, street, end), made.ring.total
    turn, (a, b) = turn_at(head, made), made.ends
    sign, kerb = (1.0 if outlet == "street" else -1.0), class_of(q, street).least_kerb_fall
    # Where a return is shorter than its own joint to the lip the ring goes on from there as one.
    first, last = _joint(a if a > 0.0 else turn), _joint(total - b if b < total else total - turn)
    before = _runs_on(name, 0.5 * first, *left, 0.5 * first)
    after = _runs_on(name, total - 0.5 * last, *right, 0.5 * last)
    runs = turn - 0.5 * first, total - 0.5 * last - turn
    beside = (turn - a if a > 0.0 else runs[0]), (b - turn if b < total else runs[1])
    rounding = min(ROUNDING, 2.0 * _ROOM * min(beside))
    away = float(clear_of(q, street, end, np.array([turn]))[0])
    sides = [
        None if returns else (lip, run)
        for returns, lip, run in ((a > 0.0, before, runs[0]), (b < total, after, runs[1]))
    ]
    if outlet != "street" and head.kind == "bulb":
        # The turn is where it falls most: the stated fall is kept where the returns end, which lie highest.
        run = max([r for r, side in zip((turn - a, b - turn), sides) if side is None], default=0.0)
        radial = _under_rim(name, head.fall * away, centre, kerb * run)
    else:
        radial = _radial_vip(name, -head.fall * away, centre, rounding, sign * kerb, sides)
    candidates: dict[Literal["radial", "left", "right"], Quantity] = {
        "radial": radial,
        "left": _least(name, before, runs[0], sign * kerb, outlet),
        "right": _least(name, after, runs[1], sign * kerb, outlet),
    }
    governs = max(candidates, key=lambda k: sign * float(candidates[k].value[0]))
    top = candidates[governs]
    rows: list[tuple[float, Quantity, float]] = [(0.0, left[0], 0.0), (0.5 * first, before, first)]
    # Where a return ends its own parabola does too, so that the stated fall reaches all round what lies between them.
    if a > 0.0:
        curve = min(ROUNDING, _WHOLE * (a - first))
        at = a - 0.5 * curve
        rows.append((at, _beside(name, at, top, turn - at, sign * kerb), curve))
    rows.append((turn, top, rounding))
    if b < total:
        curve = min(ROUNDING, _WHOLE * (total - b - last))
        at = b + 0.5 * curve
        rows.append((at, _beside(name, at, top, at - turn, sign * kerb), curve))
    rows += [(total - 0.5 * last, after, last), (total, right[0], 0.0)]
    rule = _on(name, rows)
    drains: tuple[float, ...] = ()
    if outlet != "street":
        # Between unlike falls the rounded lip is lowest a little aside of its VIP.
        lows = [t.chainage for t in rule.profile.turning_points() if t.kind == "low"]
        drains = (min(lows, key=lambda t: abs(t - turn), default=turn),)
    return RingLevels(rule, turn, outlet, float(centre.value[0]), governs, drains)


@query
def own_levels(q: Engine, street: str, end: End) -> RingLevels:
    """A head's levels by VIPs of its own, with a parabola at either end that joins them to the straight lips."""
    head, made, name = head_at(q, street, end), outline(q, street, end), head_name(q, street, end)
    centre, (left, right) = _centre(q, street, end), _joined(q, street, end)
    total, id = made.ring.total, f"{street}:{drawn_end(q, street, end)}"
    at = [v.share * total for v in head.vips]
    first = _joint_before(at[0], head.vips[0].curve_length)
    last = _joint_before(total - at[-1], head.vips[-1].curve_length)
    before = _runs_on(name, 0.5 * first, *left, 0.5 * first)
    after = _runs_on(name, total - 0.5 * last, *right, 0.5 * last)
    own = []
    for k, (s, v) in enumerate(zip(at, head.vips)):
        title = f"{name} VIP {k + 1}"
        if v.follows is None:
            level = decided(title, v.level, ("head vip", id, k), "level set", "set")
        else:
            level = anchored(q, v.follows, made.ring.points_at([s])[0], title, name)
        own.append((s, level, v.curve_length))
    ends = (total - 0.5 * last, after, last), (total, right[0], 0.0)
    rule = _on(name, [(0.0, left[0], 0.0), (0.5 * first, before, first), *own, *ends])
    drains = tuple(o.share * total for o in head.outlets)
    turns = rule.profile.turning_points()
    wanted = "low" if drains else "high"
    of_kind = [t for t in turns if t.kind == wanted]
    far = made.turn
    if of_kind:
        far = (min if drains else max)(of_kind, key=lambda t: t.level).chainage
    outlet = head.outlets[0].way if head.outlets else "street"
    return RingLevels(rule, far, outlet, float(centre.value[0]), "own", drains)


def turn_at(head: TurningHead, made: HeadOutline) -> float:
    """Distance round a head of its turn: as chosen, but between its returns; opposite the street where nothing is."""
    if head.turn is None:
        return made.turn
    low, high = made.ends
    room = 0.05 * (high - low)
    return float(np.clip(head.turn * made.ring.total, low + room, high - room))


def _on(name: str, rows: list[tuple[float, Quantity, float]]) -> OnGradeLine:
    """The grade line through VIPs: distance round, level, curve length."""
    at, vips, curves = zip(*rows)
    return OnGradeLine(f"{name} lip", Profile.of(at, [float(v.value[0]) for v in vips], curves), vips)


def _joined(q: Engine, street: str, end: End) -> tuple[tuple[Quantity, Quantity], tuple[Quantity, Quantity]]:
    """Level and grade (towards the head, along the lip) where the left and the right straight lip meet the head."""
    left, right = _lip_end(q, street, end, "left"), _lip_end(q, street, end, "right")
    centre = _centre(q, street, end)
    if not np.isfinite(sum(float(v.value[0]) for v in (centre, *left, *right))):
        raise Unsolved(
            head_name(q, street, end),
            "the street's grade line does not reach the head's centre",
            "lengthen the grade line",
        )
    return left, right


def _lip_end(q: Engine, street: str, end: End, seen: Side) -> tuple[Quantity, Quantity]:
    id = StreetLine(street, "lip", own_side(end, seen))
    lip, s = line(q, id), leaves_at(q, street, end, seen)
    towards = 1.0 if end == "end" else -1.0
    level = elsewhere(lip.title, id, s, lip.rule.levels([s]))
    grade = lip.rule.grades([s], "before" if end == "end" else "after")
    factor = towards / float(lip.plan.stretch([s])[0])
    made = summed(
        "grade of the straight lip",
        "along the lip, towards the head",
        times("lip's grade", elsewhere(f"grade of {lip.title}", id, s, grade, "grade"), factor),
        unit="grade",
    )
    return level, made


def _end_chainage(q: Engine, street: str, end: End) -> float:
    return 0.0 if end == "start" else chain_of(q, street).total


def _centre(q: Engine, street: str, end: End) -> Quantity:
    """The level of a head's centre: the crown's at the street's end."""
    crown, at = StreetLine(street), _end_chainage(q, street, end)
    return elsewhere("its centre", crown, at, line(q, crown).rule.levels([at]))


def _outlet(q: Engine, street: str, end: End) -> Literal["street", "pit", "draw"]:
    """Where a head drains to: as chosen, or to the street where that falls away from it."""
    chosen = head_at(q, street, end).outlet
    if chosen != "auto":
        return chosen
    rule, at = line(q, StreetLine(street)).rule, [_end_chainage(q, street, end)]
    rising = float(rule.grades(at, "before" if end == "end" else "after")[0]) * (1 if end == "end" else -1)
    return "street" if rising >= 0 else "pit"


def _joint(run: float) -> float:
    """Metres of parabola where the ring leaves a straight lip, with ``run`` metres to the next VIP."""
    return min(ROUNDING, 0.6 * run)


def _joint_before(run: float, curve: float) -> float:
    """The same before a VIP with a curve of its own."""
    return max(min(ROUNDING, run - 0.5 * curve, 0.6 * run), min(_JOINT, run))


def _runs_on(name: str, at: float, lip: Quantity, grade: Quantity, run: float) -> Quantity:
    """The level to which a straight lip runs on round the head."""
    return summed(
        f"{name}, {at:.2f} m round",
        "runs on at the straight lip's grade",
        times("straight lip", lip),
        times("its grade × half the rounding", grade, run),
    )


def _radial_vip(
    name: str,
    below: float,
    centre: Quantity,
    rounding: float,
    grade: float,
    sides: list[tuple[Quantity, float] | None],
) -> Quantity:
    """The VIP at the turn with which the rounded lip stands ``below`` (m) the centre.

    It stands (before − after) c / 8 from its VIP. On a side with a return the grade is the least kerb fall's; on one where the lip runs
    straight on it comes from a VIP so far away, and is linear in that level and in the wanted one.
    """
    share = 1.0 - sum(rounding / 8 / side[1] for side in sides if side is not None)
    even = sum(side is None for side in sides)
    return summed(
        f"{name}, VIP at its turn",
        "the wanted fall from the centre to the lip, rounded as it is",
        times("centre", centre, 1.0 / share),
        amount(f"{below:.3f} m of fall", below / share),
        amount("its rounding between even falls", even * grade * rounding / 8 / share),
        *(
            times("its rounding, straight lip", side[0], -rounding / 8 / side[1] / share)
            for side in sides
            if side is not None
        ),
        source="proposed",
    )


def _under_rim(name: str, below: float, centre: Quantity, more: float) -> Quantity:
    """The VIP at an outlet with which the lip stands ``below`` (m) the centre where its returns end, and ``more`` below that here."""
    return summed(
        f"{name}, VIP at its turn",
        "the wanted fall from the centre to the lip where the returns end, and the least kerb fall from there",
        times("centre", centre),
        amount(f"−{below:.3f} m of fall", -below),
        amount("along the lip", -more),
        source="proposed",
    )


def _least(name: str, begin: Quantity, run: float, grade: float, outlet: str) -> Quantity:
    return summed(
        f"{name}, VIP at its turn",
        f"least kerb fall of {100 * abs(grade):.2f} % along the lip to the {outlet}",
        times("where the ring's own grade begins", begin),
        amount(f"{percent(grade)} × {run:.2f} m", grade * run),
        source="proposed",
    )


def _beside(name: str, at: float, top: Quantity, run: float, grade: float) -> Quantity:
    """The VIP where a return ends: as far below (or above) the turn as the least kerb fall makes it."""
    return summed(
        f"{name}, {at:.2f} m round",
        "the least kerb fall from its turn",
        times("VIP at its turn", top),
        amount(f"−{percent(grade)} × {run:.2f} m", -grade * run),
        source="proposed",
    )
