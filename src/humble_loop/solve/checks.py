"""Findings: every rule that is broken, with where, by how much, and what would mend it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from humble_loop.geometry.gradeline import Profile
from humble_loop.site import edits
from humble_loop.site.model import End, Side, Site, StreetClass, Vip
from humble_loop.solve import parts
from humble_loop.solve.engine import Engine, Ring, Unsolved, query
from humble_loop.solve.head import HeadLevels, head_levels, head_of, head_outline
from humble_loop.solve.junction import (
    ENDS,
    SIDES,
    Joint,
    Return,
    ReturnLevels,
    corner_name,
    joint,
    kerb_return,
    return_levels,
    throat,
)
from humble_loop.solve.lot import LotPlan, Pad, find_lot, lot_plan, lots, lots_of_row, pad
from humble_loop.solve.section import batters, edges, is_new, roadside, strip_range
from humble_loop.solve.street import Centreline, GradeLine, centreline, chain_of, grade_line, ground_along, ground_of
from humble_loop.solve.surface import finished_mesh, street_pieces

Severity = Literal["broken", "near"]
_EQUAL = 1e-9
_SHARP = 0.01  # grade change at a VIP from which a curve is wanted


@dataclass(frozen=True)
class Mend:
    """An edit that would mend a finding: its words, the edit's name in ``humble_loop.site.edits``, its arguments."""

    words: str
    edit: str
    args: tuple[Any, ...]
    values: tuple[tuple[str, Any], ...] = ()

    def apply(self, site: Site) -> Site:
        """The site with the edit made."""
        function: Callable[..., Site] = getattr(edits, self.edit)
        return function(site, *self.args, **dict(self.values))


@dataclass(frozen=True)
class Finding:
    """A rule that is broken (or nearly).

    ``value`` and ``limit`` are in SI units (NaN where the rule has none), ``margin`` is how far the value is
    on the wrong side, as a share of the limit. ``place`` is easting and northing or None.
    """

    rule: str
    thing: str
    message: str
    remedy: str
    value: float = float("nan")
    limit: float = float("nan")
    chainage: float = float("nan")
    place: tuple[float, float] | None = None
    severity: Severity = "broken"
    mend: Mend | None = None

    @property
    def margin(self) -> float:
        """How far beyond the limit, as a share of it; 1 where there is no number."""
        if not (np.isfinite(self.value) and np.isfinite(self.limit)):
            return 1.0
        return abs(self.value - self.limit) / max(abs(self.limit), 1e-6)


def too_low(value: float, limit: float) -> bool:
    """Whether ``value`` is below ``limit``; exactly met is met."""
    return value < limit - _EQUAL * max(abs(limit), abs(value), 1e-3)


def too_high(value: float, limit: float) -> bool:
    """Whether ``value`` is above ``limit``; exactly met is met."""
    return value > limit + _EQUAL * max(abs(limit), abs(value), 1e-3)


def _percent(value: float) -> str:
    return f"{100 * value:.2f} %".replace("-", "−")


def _of(unsolved: Unsolved, place: tuple[float, float] | None = None) -> Finding:
    rule = "ring of ties" if isinstance(unsolved, Ring) else "cannot be worked out"
    return Finding(rule, unsolved.thing, unsolved.message, unsolved.remedy, place=place)


def _place(q: Engine, street: str, chainage: float) -> tuple[float, float]:
    e, n = chain_of(q, street).points_at([chainage])[0]
    return (float(e), float(n))


@query
def street_findings(q: Engine, street: str) -> tuple[Finding, ...]:
    """Findings on a street's own lines: bends, grades, curves, crossfalls, and whether it stands on the ground."""
    name = parts.street_name(q, street)
    bends = parts.street_bends(q, street)
    at = (bends[0][0], bends[0][1])
    line = q.attempt(centreline, street)
    if isinstance(line, Unsolved):
        return (_of(line, at),)
    found = _bend_findings(q, street, name, line)
    if not is_new(q, street):
        levels = q.attempt(grade_line, street)
        return (*found, *([_of(levels, at)] if isinstance(levels, Unsolved) else []))
    found += _crossfall_findings(q, street, name)
    found += _ground_findings(q, street, name)
    levels = q.attempt(grade_line, street)
    if isinstance(levels, Unsolved):
        return (*found, _of(levels, _place(q, street, 0.5 * line.chain.total)))
    return (*found, *_vertical_findings(q, street, name, levels))


def _bend_findings(q: Engine, street: str, name: str, line: Centreline) -> list[Finding]:
    found = []
    rules, bends = parts.street_class(q, street), parts.street_bends(q, street)
    for p in line.problems:
        place = (bends[p.index][0], bends[p.index][1])
        thing = f"{name} bend {p.index + 1}"
        if p.kind == "repeated":
            found.append(
                Finding(
                    "points at one place",
                    thing,
                    "it stands at the same place as the point before it",
                    "remove one of the two",
                    place=place,
                    mend=Mend("Remove it", "remove_bend", (street, p.index)),
                )
            )
        elif p.kind == "transition":
            found.append(
                Finding(
                    "bends that do not fit",
                    thing,
                    f"its transitions ({p.wanted:.2f} m together) turn more than the bend does",
                    f"at most {p.largest:.2f} m together fit",
                    p.wanted,
                    p.largest,
                    place=place,
                )
            )
        else:
            largest = float(np.floor(p.largest * 100) / 100)
            found.append(
                Finding(
                    "bends that do not fit",
                    thing,
                    f"a radius of {p.wanted:g} m needs more than the legs beside it",
                    f"the largest radius that fits is {largest:.2f} m",
                    p.wanted,
                    p.largest,
                    place=place,
                    mend=Mend(
                        f"Set the radius to {largest:.2f} m", "set_bend", (street, p.index), (("radius", largest),)
                    ),
                )
            )
    for i, b in enumerate(bends[1:-1], start=1):
        if b[2] > 0 and too_low(b[2], rules.least_radius) and is_new(q, street):
            found.append(
                Finding(
                    "radius",
                    f"{name} bend {i + 1}",
                    f"radius {b[2]:g} m is less than {rules.least_radius:g} m",
                    "enlarge the radius",
                    b[2],
                    rules.least_radius,
                    place=(b[0], b[1]),
                    mend=Mend(
                        f"Set the radius to {rules.least_radius:g} m",
                        "set_bend",
                        (street, i),
                        (("radius", rules.least_radius),),
                    ),
                )
            )
    return found


def _crossfall_findings(q: Engine, street: str, name: str) -> list[Finding]:
    rules, found = parts.street_class(q, street), []
    for side in SIDES:
        fall = -parts.section(q, street).side(side).lane.grade
        if too_low(fall, rules.least_crossfall) or too_high(fall, rules.most_crossfall):
            low = fall < rules.least_crossfall
            limit = rules.least_crossfall if low else rules.most_crossfall
            found.append(
                Finding(
                    "crossfall",
                    f"{name} {side}",
                    f"crossfall {_percent(fall)} is {'less' if low else 'more'} than {_percent(limit)}",
                    "change the typical section's lane",
                    fall,
                    limit,
                    place=_place(q, street, 0.5 * chain_of(q, street).total),
                )
            )
    return found


def _ground_findings(q: Engine, street: str, name: str) -> list[Finding]:
    if ground_of(q).empty:
        return [
            Finding(
                "ground",
                name,
                "there is no ground, so its earthworks end nowhere",
                "bring in a survey",
                severity="near",
                place=_place(q, street, 0.0),
            )
        ]
    ground = ground_along(q, street)
    off = ~np.isfinite(ground.levels)
    if not off.any():
        return []
    first = int(np.argmax(off))
    s = float(ground.chainages[max(first - 1, 0)])  # the last place still on the ground
    return [
        Finding(
            "street off the ground",
            name,
            f"from chainage {s:.2f} it leaves the ground",
            "move it onto the ground, or bring in more survey",
            chainage=s,
            place=_place(q, street, s),
        )
    ]


def _vertical_findings(q: Engine, street: str, name: str, levels: GradeLine) -> list[Finding]:
    rules, profile, found = parts.street_class(q, street), levels.profile, []
    vips = parts.street_vips(q, street)
    for i, g in enumerate(profile.grades):
        low, high = (
            too_low(abs(_entered(vips, levels, i, float(g))), rules.least_grade),
            too_high(abs(g), rules.most_grade),
        )
        if low or high:
            s = float(0.5 * (profile.chainages[i] + profile.chainages[i + 1]))
            limit = rules.least_grade if low else rules.most_grade
            found.append(
                Finding(
                    "grade too flat" if low else "grade too steep",
                    name,
                    f"from {profile.chainages[i]:.2f} to {profile.chainages[i + 1]:.2f} it is at {_percent(float(g))}, "
                    f"{'less' if low else 'more'} than {_percent(limit)}",
                    "raise or lower one of its VIPs",
                    abs(float(g)),
                    limit,
                    s,
                    _place(q, street, s),
                )
            )
    found += _curve_findings(q, street, name, levels, rules)
    for i, over in profile.overlaps():
        s = float(profile.chainages[i])
        found.append(
            Finding(
                "curves overlap",
                name,
                f"the curves at {s:.2f} and {profile.chainages[i + 1]:.2f} overlap by {over:.2f} m",
                "shorten one of them or move the VIPs apart",
                over,
                0.0,
                s,
                _place(q, street, s),
            )
        )
    low_end = min(strip_range(q, street, side)[0] for side in SIDES)
    total = chain_of(q, street).total
    first, last = float(profile.chainages[0]), float(profile.chainages[-1])
    joined = {end: isinstance(q.attempt(joint, street, end), Joint) for end in ENDS}
    if (not joined["start"] and first > low_end + 1e-6) or (not joined["end"] and last < total - 1e-6):
        s = first if not joined["start"] and first > low_end + 1e-6 else last
        found.append(
            Finding(
                "grade line too short",
                name,
                f"its grade line runs from {first:.2f} to {last:.2f}, the street from 0 to {total:.2f}",
                "add a VIP at the street's end",
                chainage=s,
                place=_place(q, street, min(max(s, 0.0), total)),
            )
        )
    return found


def _entered(vips: tuple[Vip, ...], levels: GradeLine, leg: int, grade: float) -> float:
    """A leg's grade as it was entered, where it was, so that a limit typed exactly is met exactly."""
    i = levels.index[leg + 1]
    if i >= 0 and vips[i].grade is not None:
        return float(vips[i].grade or 0.0)
    return grade


def _curve_findings(q: Engine, street: str, name: str, levels: GradeLine, rules: StreetClass) -> list[Finding]:
    profile, found = levels.profile, []
    for i in range(1, len(profile.chainages) - 1):
        change = float(profile.changes[i])
        if abs(change) < _SHARP:
            continue
        crest = change < 0
        k = rules.least_crest_k if crest else rules.least_sag_k
        need, have = max(rules.least_curve_length, k * abs(change) * 100.0), float(profile.curves[i])
        if too_low(have, need):
            s = float(profile.chainages[i])
            j = levels.index[i]
            mend = None
            if j >= 0:
                mend = Mend(f"Make the curve {need:.2f} m long", "set_vip", (street, j), (("curve_length", need),))
            found.append(
                Finding(
                    "curve too short",
                    name,
                    f"the {'crest' if crest else 'sag'} at {s:.2f} turns by {_percent(abs(change))} over {have:.2f} m; "
                    f"K {k:g} and {rules.least_curve_length:g} m need {need:.2f} m",
                    "lengthen the curve",
                    have,
                    need,
                    s,
                    _place(q, street, s),
                    mend=mend,
                )
            )
    return found


@query
def junction_findings(q: Engine, street: str, end: End) -> tuple[Finding, ...]:
    """Findings on the junction at a street's end: throat, returns, their falls and low points."""
    if not is_new(q, street):
        return ()
    t = q.attempt(throat, street, end)
    at = chain_of(q, street).points_at([0.0 if end == "start" else chain_of(q, street).total])[0]
    place = (float(at[0]), float(at[1]))
    if isinstance(t, Unsolved):
        return (_of(t, place),)
    found: list[Finding] = []
    for corner in SIDES:
        made = q.attempt(kerb_return, street, end, corner)
        if isinstance(made, Unsolved):
            found.append(_of(made, place))
            continue
        levels = q.attempt(return_levels, street, end, corner)
        if isinstance(levels, Unsolved):
            found.append(_of(levels, place))
            continue
        found += _return_findings(q, street, end, corner, made, levels)
    return tuple(found)


def _return_findings(
    q: Engine, street: str, end: End, corner: Side, made: Return, levels: ReturnLevels
) -> list[Finding]:
    rules, name = parts.street_class(q, street), corner_name(q, street, end, corner)
    cubic, found = levels.cubic, []

    def place(s: float) -> tuple[float, float]:
        e, n = made.arc.chain.points_at([s])[0]
        return (float(e), float(n))

    s = np.linspace(0.0, cubic.length, 81)
    grade = cubic.grade(s)
    steepest = int(np.argmax(np.abs(grade)))
    if too_high(float(abs(grade[steepest])), rules.most_return_fall):
        found.append(
            Finding(
                "return too steep",
                name,
                f"it falls at {_percent(float(abs(grade[steepest])))}, more than {_percent(rules.most_return_fall)}",
                "enlarge its radius or ease the side street's first grade",
                float(abs(grade[steepest])),
                rules.most_return_fall,
                float(s[steepest]),
                place(float(s[steepest])),
            )
        )
    turning = cubic.turning_points()
    pit = getattr(parts.junction_choice(q, street, end), corner).pit
    for t in turning:
        if t.kind == "low" and not pit:
            found.append(
                Finding(
                    "low point without a pit",
                    name,
                    f"water stands at {t.level:.3f}, {t.chainage:.2f} m along the return",
                    "put a pit there, or change the side street's first grade",
                    chainage=t.chainage,
                    place=place(t.chainage),
                    mend=Mend("Put a pit there", "set_corner", (street, end, corner), (("pit", True),)),
                )
            )
    if not turning:
        flattest = int(np.argmin(np.abs(grade)))
        if too_low(float(abs(grade[flattest])), rules.least_return_fall):
            found.append(
                Finding(
                    "return too flat",
                    name,
                    f"it falls at only {_percent(float(abs(grade[flattest])))}, less than {_percent(rules.least_return_fall)}",
                    "steepen the side street's first grade or the through street there",
                    float(abs(grade[flattest])),
                    rules.least_return_fall,
                    float(s[flattest]),
                    place(float(s[flattest])),
                )
            )
    return found


@query
def head_findings(q: Engine, street: str) -> tuple[Finding, ...]:
    """Findings on a street's bulb: whether it fits, and whether it drains."""
    head = head_of(q, street)
    if head is None or not is_new(q, street):
        return ()
    at = _place(q, street, chain_of(q, street).total)
    rules, name = parts.street_class(q, street), f"{parts.street_name(q, street)} bulb"
    outline = q.attempt(head_outline, street)
    if isinstance(outline, Unsolved):
        return (_of(outline, at),)
    found = []
    if too_low(head.radius, rules.least_bulb_radius):
        found.append(
            Finding(
                "bulb radius",
                name,
                f"lip radius {head.radius:g} m is less than {rules.least_bulb_radius:g} m",
                "enlarge it",
                head.radius,
                rules.least_bulb_radius,
                place=at,
                mend=Mend(
                    f"Set the radius to {rules.least_bulb_radius:g} m",
                    "set_head",
                    (street,),
                    (("radius", rules.least_bulb_radius),),
                ),
            )
        )
    levels = q.attempt(head_levels, street)
    if isinstance(levels, Unsolved):
        return (*found, _of(levels, at))
    found += [
        Finding(
            "bulb drainage",
            name,
            f"its levels cannot keep a {rule}",
            "steepen the street towards it, or let it drain to a pit",
            place=at,
        )
        for rule in levels.broken
    ]
    return (*found, *_ring_findings(name, levels, rules, outline.ring.points_at))


def _ring_findings(name: str, levels: HeadLevels, rules: StreetClass, points_at: Callable[..., Any]) -> list[Finding]:
    found = []
    profile: Profile = levels.profile
    for t in profile.turning_points():
        is_pit = levels.outlet == "pit" and abs(t.chainage - levels.turn) < 0.5 * profile.curves[2] + 1e-6
        if t.kind == "low" and not is_pit:
            e, n = points_at([t.chainage])[0]
            found.append(
                Finding(
                    "bulb drainage",
                    name,
                    f"water stands at {t.level:.3f} on its lip, {t.chainage:.2f} m round from the left",
                    "let it drain to a pit, or let the street rise towards the bulb",
                    chainage=t.chainage,
                    place=(float(e), float(n)),
                )
            )
    for i in (1, 2):
        g = float(abs(profile.grades[i]))
        if too_low(g, rules.least_kerb_fall):
            s = float(0.5 * (profile.chainages[i] + profile.chainages[i + 1]))
            e, n = points_at([s])[0]
            found.append(
                Finding(
                    "bulb drainage",
                    name,
                    f"its lip falls at only {_percent(g)}, less than {_percent(rules.least_kerb_fall)}",
                    "lessen its radial fall",
                    g,
                    rules.least_kerb_fall,
                    s,
                    (float(e), float(n)),
                )
            )
    return found


@query
def lot_findings(q: Engine, street: str, lot: str) -> tuple[Finding, ...]:
    """Findings on one lot: whether it can be made, and its pad's window."""
    frame = find_lot(q, street, lot)
    at = (float(frame.first.front[0]), float(frame.first.front[1]))
    plan = q.attempt(lot_plan, street, lot)
    if isinstance(plan, Unsolved):
        return (_of(plan, at),)
    made = q.attempt(pad, street, lot)
    if isinstance(made, Unsolved):
        return (_of(made, at),)
    return tuple(_pad_findings(lot, plan, made))


def _pad_findings(lot: str, plan: LotPlan, made: Pad) -> list[Finding]:
    middle = plan.pad.mean(axis=0)
    place = (float(middle[0]), float(middle[1]))
    low, high = too_low(made.level, made.low), too_high(made.level, made.high)
    if not (low or high):
        return []
    limit = made.low if low else made.high
    why = "to fall to the street" if low else "for its driveway's grade"
    return [
        Finding(
            "pad out of its window",
            lot,
            f"pad {made.level:.3f} is {'below' if low else 'above'} {limit:.3f}, the limit {why}",
            f"{'raise' if low else 'lower'} it by {abs(limit - made.level):.3f} m, or change the street's level",
            made.level,
            limit,
            place=place,
            mend=Mend("Give the level back to the proposal", "set_pad", (lot, None)),
        )
    ]


@query
def surface_findings(q: Engine, street: str) -> tuple[Finding, ...]:
    """Pieces of the surface that could not be made, and batters that do not reach the ground."""
    found = []
    if not is_new(q, street) or isinstance(q.attempt(grade_line, street), Unsolved):
        return ()
    for piece in street_pieces(q, street):
        if piece[0] not in ("roadside", "junction", "bulb"):
            continue
        made = q.attempt(finished_mesh, piece)
        if isinstance(made, Unsolved):
            found.append(_of(made, _place(q, street, 0.0)))
    if ground_of(q).empty:
        return _unique(found)
    for edge in edges(q, street):
        made_b = q.attempt(batters, edge)
        if isinstance(made_b, Unsolved):
            continue
        missed = np.flatnonzero(~made_b.toes.met)
        if missed.size:
            side = roadside(q, edge)
            i = int(missed[0])
            e, n, z = side.points[made_b.index[i], -1]
            found.append(
                Finding(
                    "batter finds no ground",
                    side.title,
                    f"from {z:.3f} the batter meets no ground within {made_b.toes.reach[i]:.1f} m at {missed.size} rows, so it is drawn steeper",
                    "a wall or a steeper batter is needed, or the street moved",
                    chainage=float(side.along[made_b.index[i]]),
                    place=(float(e), float(n)),
                    severity="near",
                )
            )
    return _unique(found)


def _unique(found: list[Finding]) -> tuple[Finding, ...]:
    return tuple({(f.rule, f.thing, f.message): f for f in found}.values())


@query
def row_findings(q: Engine, street: str, row: str) -> tuple[Finding, ...]:
    """A row of lots that could not be cut, or holds none."""
    place = _place(q, street, 0.0)
    made = q.attempt(lots_of_row, street, row)
    if isinstance(made, Unsolved):
        return (_of(made, place),)
    if made:
        return ()
    name = next(r.name for r in parts.lot_rows_of(q, street) if r.id == row)
    return (
        Finding(
            "lots",
            f"Lots {name}",
            "no lot fits between its ends",
            "lessen the frontage or widen its stretch",
            place=place,
        ),
    )


@query
def thing_findings(q: Engine, street: str) -> tuple[Finding, ...]:
    """All findings of a street with its junctions, bulb and lots."""
    found: list[Finding] = list(street_findings(q, street))
    if isinstance(q.attempt(centreline, street), Unsolved):
        return tuple(found)
    for end in ENDS:
        j = q.attempt(joint, street, end)
        if isinstance(j, Joint):
            found += junction_findings(q, street, end)
    found += head_findings(q, street)
    for row in parts.lot_rows_of(q, street):
        found += row_findings(q, street, row.id)
    if not isinstance(q.attempt(grade_line, street), Unsolved):
        for lot in lots(q, street):
            found += lot_findings(q, street, lot.name)
    found += surface_findings(q, street)
    return _unique(found)


@query
def findings(q: Engine) -> tuple[Finding, ...]:
    """Every finding of the site: broken before near, then by how far beyond the limit."""
    found = [f for s in parts.street_ids(q) for f in thing_findings(q, s)]
    merged = _unique(found)
    return tuple(sorted(merged, key=lambda f: (f.severity != "broken", -f.margin, f.thing, f.message)))
