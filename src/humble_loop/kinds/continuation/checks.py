"""Rules where streets meet end to end: that they go on as one another at all, and then without a step, a gap or a break."""

from __future__ import annotations

from functools import partial

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.continuation.meets import (
    Continuation,
    Meet,
    Tip,
    choice_at,
    holder_of,
    kink_of,
    meets_of,
    name_at,
    of_id,
    outwards,
)
from humble_loop.kinds.street.edits import move_bend
from humble_loop.kinds.street.joining import joined, joints
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.plan import StreetLine, bends_of, chain_of, end_chainage, end_point, name_of
from humble_loop.kinds.street.section import lines_of
from humble_loop.lines.findings import Finding, Mend, point, share, too_high
from humble_loop.lines.line import ThingId, line
from humble_loop.site import parts
from humble_loop.site.model import SIDES, Side, other_side

RULES = ("grade breaks at a continuation", "step at a continuation")
MOST_BREAK = 0.01  # of grade, from which a line wants a curve
_LITTLE = np.radians(10.0)  # by which a leg is turned sooner than that two streets are joined
_STEP = 0.001  # metres between points that are one


def continuation_findings(q: Engine, id: str) -> tuple[Finding, ...]:
    """Findings on a continuation."""
    made, of = of_id(q, id), ThingId("continuation", id)
    return (*_break(q, made, of), *_steps(q, made, of))


def grades_at(q: Engine, made: Continuation) -> tuple[float, float] | None:
    """Grades of the crowns there, both on the way from the street that holds into the one that follows; None where either has none."""
    found = []
    for tip, onwards in ((made.holds, "end"), (made.follows, "start")):
        lined = q.attempt(grade_line, tip.street)
        if isinstance(lined, Unsolved):
            return None
        at, side = end_chainage(q, tip.street, tip.end), "after" if tip.end == "start" else "before"
        grade = float(line(q, StreetLine(tip.street)).rule.grades([at], side)[0])
        found.append(grade if tip.end == onwards else -grade)
    return (found[0], found[1]) if np.isfinite(found).all() else None


def _break(q: Engine, made: Continuation, of: ThingId) -> list[Finding]:
    grades = grades_at(q, made)
    if grades is None or not too_high(turn := abs(grades[1] - grades[0]), MOST_BREAK):
        return []
    words = f"the grade turns by {share(turn)} there, from {share(grades[0])} to {share(grades[1])}, without a curve"
    remedy = f"bring the first grade of {name_of(q, made.follows.street)} nearer to {share(grades[0])}, or join both into one street and give it a curve"
    place, mend = point(made.place), join_mend(q, *made.tips)
    return [
        Finding(
            RULES[0], of, name_at(q, made), words, remedy, turn, MOST_BREAK, place=place, mend=mend, also=_both(made)
        )
    ]


def _steps(q: Engine, made: Continuation, of: ThingId) -> list[Finding]:
    """Lines of one that do not go on where those of the other end, each side told by its worst."""
    found = []
    for side in SIDES:
        its = side if made.same_way else other_side(side)
        worst: tuple[float, str, float, float] | None = None
        theirs = _ends_of(q, made.holds, its)
        for name, here in _ends_of(q, made.follows, side).items():
            if name in theirs and np.isfinite(here[2] + theirs[name][2]):
                beside, above = float(np.hypot(*(here - theirs[name])[:2])), float(here[2] - theirs[name][2])
                if max(beside, abs(above)) > max(_STEP, worst[0] if worst else 0.0):
                    worst = (max(beside, abs(above)), name, beside, above)
        if worst is not None:
            size, name, beside, above = worst
            words = f"its {side} {name} ends {beside:.3f} m beside that of {name_of(q, made.holds.street)} and {abs(above):.3f} m {'above' if above > 0 else 'below'} it"
            remedy = "level and tie both alike there, or let the other street hold"
            title, place = name_of(q, made.follows.street), point(made.place)
            found.append(Finding(RULES[1], of, title, words, remedy, size, 0.0, place=place, also=_both(made)))
    return found


def _ends_of(q: Engine, tip: Tip, side: Side) -> dict[str, Floats]:
    """Points (3,) of a side of a street at its end, by name."""
    found, at = {}, end_chainage(q, tip.street, tip.end)
    for id in lines_of(q, tip.street):
        if not isinstance(id, StreetLine) or id.side != side:
            continue
        made = q.attempt(line, id)
        if not isinstance(made, Unsolved):
            base = made.plan.base
            s = (
                at
                if base is chain_of(q, tip.street)
                else float(base.feet(end_point(q, tip.street, tip.end)).chainages[0])
            )
            found[id.point] = made.points([s])[0]
    return found


def _both(made: Continuation) -> tuple[ThingId, ...]:
    return tuple(ThingId("street", t.street) for t in made.tips)


# Where nothing goes on


@query
def meeting_findings(q: Engine, street: str) -> tuple[Finding, ...]:
    """Places at which ends of streets lie together and none goes on as another."""
    return tuple(_unworked(q, meet) for meet in meets_of(q, street) if meet.why)


def _unworked(q: Engine, meet: Meet) -> Finding:
    streets = tuple(dict.fromkeys(t.street for t in meet.tips))
    names = " and ".join(name_of(q, s) for s in streets)
    words = f"{names} meet end to end, and none goes on as another: {meet.why}"
    remedy = "join two of them into one street and give it a bend, widen their elbow by a knuckle (in Facts), or end one of them on another's centreline, so that they make a T"
    mend = None
    if len(meet.tips) == 2:
        one, other = meet.tips
        mend = _brought(q, one, other) or _in_line(q, one, other) or join_mend(q, one, other)
    else:
        # The two that go on most nearly straight are one street; the third then ends on it.
        pairs = [(a, b) for i, a in enumerate(meet.tips) for b in meet.tips[i + 1 :]]
        for pair in sorted(pairs, key=lambda p: abs(kink_of(q, *p))):
            mend = mend or join_mend(q, *pair)
    of, also = ThingId("street", streets[0]), tuple(ThingId("street", s) for s in streets[1:])
    return Finding("streets meet unworked", of, names, words, remedy, place=point(meet.place), mend=mend, also=also)


def _brought(q: Engine, one: Tip, other: Tip) -> Mend | None:
    """The edit that brings the end of one street to that of another which it all but meets; None where it would not go on then."""
    to = end_point(q, one.street, one.end)
    if np.hypot(*(end_point(q, other.street, other.end) - to)) <= 1e-3:
        return None
    index = 0 if other.end == "start" else len(bends_of(q, other.street)) - 1
    east, north = (to + np.array(parts.origin(q))).tolist()
    edit = partial(move_bend, street=other.street, index=index, easting=east, northing=north)
    return Mend(f"Bring {name_of(q, other.street)} to it", edit)


def _in_line(q: Engine, one: Tip, other: Tip) -> Mend | None:
    """The edit that turns the last leg of a street, by little, into the line of another; None where that turns by much, or nothing does."""
    kink = abs(kink_of(q, one, other))
    if not 0.0 < kink < _LITTLE:
        return None
    first, second = sorted((one, other))
    holds = holder_of(q, first, second, choice_at(q, first, second))
    follows = other if holds == one else one
    bends = bends_of(q, follows.street)
    tip, beside = (0, 1) if follows.end == "start" else (len(bends) - 1, len(bends) - 2)
    place, along = end_point(q, holds.street, holds.end), outwards(q, holds)
    far = float(np.hypot(bends[beside].easting - bends[tip].easting, bends[beside].northing - bends[tip].northing))
    east, north = (place + far * along + np.array(parts.origin(q))).tolist()
    edit = partial(move_bend, street=follows.street, index=beside, easting=east, northing=north)
    return Mend(f"Turn {name_of(q, follows.street)} into line", edit)


def join_mend(q: Engine, one: Tip, other: Tip) -> Mend | None:
    """What makes one street of two that meet end to end."""
    for joint in joints(q, one.street, one.end):
        if (joint.other, joint.end) == (other.street, other.end) and len(joint.points) == 1:
            return Mend(f"Join them as {name_of(q, one.street)}", joined(q, one.street, one.end, joint))
    return None
