"""Rules of a turning head: whether it fits and is large enough, and whether it drains all the way round."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.street.checks import face_findings
from humble_loop.kinds.street.plan import class_of, drawn_end, end_point
from humble_loop.kinds.turning_head.faces import faces_of
from humble_loop.kinds.turning_head.layout import HeadLine, outline
from humble_loop.kinds.turning_head.levels import RingLevels, ring_levels
from humble_loop.kinds.turning_head.model import set_head
from humble_loop.kinds.turning_head.place import head_at, head_name
from humble_loop.kinds.turning_head.sizes import head_sizes, inner_radius, outer_radius, rear_radius, vehicle_of
from humble_loop.kinds.turning_head.vips import draining, moved_outlet
from humble_loop.kinds.turning_head.windows import radial_falls
from humble_loop.lines.findings import Finding, Mend, failed, point, share, too_high, too_low, unique
from humble_loop.lines.line import ThingId, line_plan
from humble_loop.site.library import StreetClass
from humble_loop.site.model import SIDES, End

RULES = (
    "bulb drainage",
    "bulb radius",
    "radial fall",
    "curves overlap on a head's lip",
    "head's lip too steep",
    "outlet off its low point",
    "head too small for its vehicle",
)
_AT = 1.0  # metres from a low point within which its outlet takes the water


@query
def head_findings(q: Engine, street: str, end: End) -> tuple[Finding, ...]:
    """Findings on the head at a street's end."""
    head, rules, name = head_at(q, street, end), class_of(q, street), head_name(q, street, end)
    of, at, drawn = ThingId("turning_head", head.id), point(end_point(q, street, end)), drawn_end(q, street, end)
    laid = q.attempt(outline, street, end)
    if isinstance(laid, Unsolved):
        return (failed(laid, of, at),)
    found: list[Finding] = []
    radius = head_sizes(q, street, end).radius
    if head.kind == "bulb" and too_low(radius, rules.least_bulb_radius):
        least = rules.least_bulb_radius
        words = f"lip radius {radius:g} m is less than {least:g} m"
        mend = Mend(f"Set the radius to {least:g} m", lambda s: set_head(s, street, drawn, radius=least))
        found.append(Finding("bulb radius", of, name, words, "enlarge it", radius, least, place=at, mend=mend))
    found += _room(q, street, end, of)
    levels = q.attempt(ring_levels, street, end)
    if isinstance(levels, Unsolved):
        return (*found, failed(levels, of, at))
    found += _outlets(q, street, end, levels, of)
    found += _lip(q, street, end, levels, rules, of)
    if head.kind == "bulb":
        found += _radial(q, street, end, rules, of)
    standing = face_findings(q, of, faces_of(street, end), at, outlets_of(q, street, end))
    found += [replace(f, mend=_to_a_pit(q, street, end)) if f.rule == "hollow" else f for f in standing]
    return unique(found)


def _to_a_pit(q: Engine, street: str, end: End) -> Mend | None:
    """What lets a head drain by itself that was told to drain to its street; None for any other."""
    if head_at(q, street, end).outlet != "street" or ring_levels(q, street, end).governs == "own":
        return None
    drawn = drawn_end(q, street, end)
    return Mend("Let it drain to a pit", lambda s: set_head(s, street, drawn, outlet="pit"))


def _room(q: Engine, street: str, end: End, of: ThingId) -> list[Finding]:
    """What its vehicle wants and does not have: a bulb to turn in at one go, or arms to turn out of."""
    head, sizes, v = head_at(q, street, end), head_sizes(q, street, end), vehicle_of(head_at(q, street, end))
    drawn, name, at = drawn_end(q, street, end), head_name(q, street, end), point(outline(q, street, end).centre)
    if head.kind == "bulb":
        wanted = [("radius", "its lip", sizes.radius, outer_radius(v), "outer front corner runs on a circle of")]
    else:
        arm = rear_radius(v) + v.body.rear
        wide = outer_radius(v) - inner_radius(v)
        wanted = [
            (f"{seen}_arm", f"its {seen} arm", long, arm, "tail needs an arm of")
            for seen, long in zip(SIDES, (sizes.left_arm, sizes.right_arm))
            if long
        ]
        wanted.append(("arm_width", "its arms' width", sizes.arm_width, wide, "way out of an arm is as wide as"))
    found = []
    for key, what, has, wants, words in wanted:
        if too_low(has, wants):
            told = f"a {v.name}'s {words} {wants:.2f} m, and {what} is {has:.2f} m"
            mend = Mend("Take the proposed size", lambda s, key=key: set_head(s, street, drawn, **{key: None}))  # type: ignore[misc]
            remedy = "enlarge it, or say for which vehicle it is"
            found.append(
                Finding(
                    "head too small for its vehicle",
                    of,
                    name,
                    told,
                    remedy,
                    has,
                    wants,
                    place=at,
                    severity="near",
                    mend=mend,
                )
            )
    return found


def outlets_of(q: Engine, street: str, end: End) -> Floats:
    """Where water leaves a head's lip (k, 2)."""
    found: Floats = outline(q, street, end).ring.points_at(np.array(ring_levels(q, street, end).drains))
    return found


class _OfLip:
    """What is found on a head's lip."""

    def __init__(self, q: Engine, street: str, end: End, of: ThingId) -> None:
        self.found: list[Finding] = []
        self._of, self._name, self._plan = of, head_name(q, street, end), line_plan(q, HeadLine(street, end))

    def tell(
        self,
        rule: str,
        words: str,
        remedy: str,
        s: float,
        value: float = np.nan,
        limit: float = np.nan,
        mend: Mend | None = None,
    ) -> None:
        """A finding at a place of the lip."""
        where = point(self._plan.points([np.clip(s, self._plan.start, self._plan.end)])[0])
        self.found.append(Finding(rule, self._of, self._name, words, remedy, value, limit, s, where, mend=mend))


def _outlets(q: Engine, street: str, end: End, levels: RingLevels, of: ThingId) -> list[Finding]:
    """Low points of the lip without an outlet, and outlets that are at none."""
    on = _OfLip(q, street, end, of)
    lows = [t for t in levels.rule.profile.turning_points() if t.kind == "low"]
    standing = [t for t in lows if not any(abs(t.chainage - s) <= _AT for s in levels.drains)]
    for t in standing:
        words = f"water stands at {t.level:.3f} on its lip, {t.chainage:.2f} m round from the left"
        remedy = "let it drain to a pit or a draw there, or let the street rise towards the head"
        mend = _to_a_pit(q, street, end) or Mend("Put a pit there", draining(q, street, end, t.chainage, "pit"))
        on.tell("bulb drainage", words, remedy, t.chainage, mend=mend)
    for s in levels.drains:
        if not any(abs(t.chainage - s) <= _AT for t in lows):
            words = f"its outlet {s:.2f} m round from the left is at no low point of its lip: water runs past it"
            moved = _to_low_point(q, street, end, s, [t.chainage for t in standing])
            on.tell(
                "outlet off its low point", words, "move it to the low point, or lower the lip there", s, mend=moved
            )
    return on.found


def _to_low_point(q: Engine, street: str, end: End, s: float, standing: list[float]) -> Mend | None:
    """What moves an outlet to the nearest place where water stands; None where there is none, or the outlet is not its own."""
    total = outline(q, street, end).ring.total
    own = [k for k, o in enumerate(head_at(q, street, end).outlets) if abs(o.share * total - s) <= _AT]
    if not standing or not own:
        return None
    to = min(standing, key=lambda low: abs(low - s))
    return Mend("Move it to the low point", moved_outlet(q, street, end, own[0], to))


def _lip(q: Engine, street: str, end: End, levels: RingLevels, rules: StreetClass, of: ThingId) -> list[Finding]:
    """Stretches of the lip that fall too little or too much, and curves without room."""
    on, profile = _OfLip(q, street, end, of), levels.rule.profile
    # The legs at both ends belong to the straight lips.
    for i in range(1, len(profile.grades) - 1):
        g = float(abs(profile.grades[i]))
        if too_low(g, rules.least_kerb_fall):
            s = float(0.5 * (profile.chainages[i] + profile.chainages[i + 1]))
            words = f"its lip falls at only {share(g)}, less than {share(rules.least_kerb_fall)}"
            remedy = "change a level beside it" if levels.governs == "own" else "lessen its radial fall"
            on.tell("bulb drainage", words, remedy, s, g, rules.least_kerb_fall)
    between = np.abs(profile.grades[1:-1])
    if between.size and too_high(steepest := float(between.max()), rules.most_return_fall):
        i = int(between.argmax()) + 1
        s = float(0.5 * (profile.chainages[i] + profile.chainages[i + 1]))
        words = f"its lip falls at {share(steepest)} {s:.2f} m round from the left, more than {share(rules.most_return_fall)}"
        remedy = (
            "change a level beside it" if levels.governs == "own" else "enlarge its returns, or ease the street's grade"
        )
        on.tell("head's lip too steep", words, remedy, s, steepest, rules.most_return_fall)
    for i, over in profile.overlaps():
        s = float(0.5 * (profile.chainages[i] + profile.chainages[i + 1]))
        words = f"the curves on both sides of {s:.2f} m round need {over:.2f} m more than lies between them"
        on.tell("curves overlap on a head's lip", words, "shorten one of them", s, over, 0.0)
    return on.found


def _radial(q: Engine, street: str, end: End, rules: StreetClass, of: ThingId) -> list[Finding]:
    """The fall from the centre to the lip all the way round a bulb, at its worst places."""
    u, fall = radial_falls(q, street, end)
    found = []
    for i, limit, low in (
        (int(np.argmin(fall)), rules.least_radial_fall, True),
        (int(np.argmax(fall)), rules.most_radial_fall, False),
    ):
        value = float(fall[i])
        if too_low(value, limit) if low else too_high(value, limit):
            words = (
                f"from its centre to the lip {u[i]:.2f} m round from the left it falls at {share(value)}, "
                f"{'less' if low else 'more'} than {share(limit)}"
            )
            remedy = "change the street's grade towards it, its radial fall, or where it drains to"
            where = point(line_plan(q, HeadLine(street, end)).points([u[i]])[0])
            name = head_name(q, street, end)
            found.append(Finding("radial fall", of, name, words, remedy, value, limit, float(u[i]), where))
    return found
