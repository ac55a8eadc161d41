"""Rules of a turning head: whether it fits, and whether it drains all the way round."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.kinds.street.checks import face_findings
from humble_loop.kinds.street.plan import class_of, drawn_end, end_point
from humble_loop.kinds.turning_head.faces import faces_of
from humble_loop.kinds.turning_head.layout import HeadLine, RingLevels, head_at, head_name, outline, ring_levels
from humble_loop.kinds.turning_head.model import set_head
from humble_loop.lines.findings import Finding, Mend, failed, point, share, too_high, too_low, unique
from humble_loop.lines.line import ThingId, line_plan
from humble_loop.site.library import StreetClass
from humble_loop.site.model import End

RULES = ("bulb drainage", "bulb radius", "radial fall")


@query
def head_findings(q: Engine, street: str, end: End) -> tuple[Finding, ...]:
    """Findings on the bulb at a street's end."""
    head, rules, name = head_at(q, street, end), class_of(q, street), head_name(q, street)
    of, at, drawn = ThingId("turning_head", head.id), point(end_point(q, street, end)), drawn_end(q, street, end)
    laid = q.attempt(outline, street, end)
    if isinstance(laid, Unsolved):
        return (failed(laid, of, at),)
    found = []
    if too_low(head.radius, rules.least_bulb_radius):
        least = rules.least_bulb_radius
        words = f"lip radius {head.radius:g} m is less than {least:g} m"
        mend = Mend(f"Set the radius to {least:g} m", lambda s: set_head(s, street, drawn, radius=least))
        found.append(Finding("bulb radius", of, name, words, "enlarge it", head.radius, least, place=at, mend=mend))
    levels = q.attempt(ring_levels, street, end)
    if isinstance(levels, Unsolved):
        return (*found, failed(levels, of, at))
    found += _lip(q, street, end, levels, rules, of)
    found += _radial(q, street, end, levels, rules, of)
    found += face_findings(q, of, faces_of(street, end), at)
    return unique(found)


def _lip(q: Engine, street: str, end: End, levels: RingLevels, rules: StreetClass, of: ThingId) -> list[Finding]:
    """Low points without a pit, and stretches of the lip that fall too little."""
    found, name = [], head_name(q, street)
    profile, plan = levels.rule.profile, line_plan(q, HeadLine(street, end))
    for t in profile.turning_points():
        at_turn = abs(t.chainage - levels.turn) < 0.5 * profile.curves[2] + 1e-6
        if t.kind == "low" and not (levels.outlet == "pit" and at_turn):
            words = f"water stands at {t.level:.3f} on its lip, {t.chainage:.2f} m round from the left"
            remedy = "let it drain to a pit, or let the street rise towards the bulb"
            where = point(plan.points([t.chainage])[0])
            found.append(Finding("bulb drainage", of, name, words, remedy, chainage=t.chainage, place=where))
    for i in (1, 2):
        g = float(abs(profile.grades[i]))
        if too_low(g, rules.least_kerb_fall):
            s = float(0.5 * (profile.chainages[i] + profile.chainages[i + 1]))
            words = f"its lip falls at only {share(g)}, less than {share(rules.least_kerb_fall)}"
            where, least = point(plan.points([s])[0]), rules.least_kerb_fall
            found.append(Finding("bulb drainage", of, name, words, "lessen its radial fall", g, least, s, where))
    return found


def _radial(q: Engine, street: str, end: End, levels: RingLevels, rules: StreetClass, of: ThingId) -> list[Finding]:
    """The fall from the centre to the lip all the way round the bulb, at its worst places."""
    made, radius = outline(q, street, end), head_at(q, street, end).radius
    u = np.linspace(made.ring.starts[1], made.ring.starts[2], 73)
    fall = (levels.centre - levels.rule.levels(u)) / radius
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
            found.append(
                Finding("radial fall", of, head_name(q, street), words, remedy, value, limit, float(u[i]), where)
            )
    return found
