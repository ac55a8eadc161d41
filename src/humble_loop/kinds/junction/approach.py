"""How a side street comes up to the through street: the break of its grade at the throat, and its grade where one waits before it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.kinds.junction.layout import own_from, throat
from humble_loop.kinds.junction.nodes import Arm, arm_name, both_crowns, leg_of, require_joint
from humble_loop.kinds.street.edits import set_vips
from humble_loop.kinds.street.levels import grade_line, proposed_vips
from humble_loop.kinds.street.model import Vip
from humble_loop.kinds.street.plan import StreetLine, chain_of, class_of, is_new
from humble_loop.lines.findings import Finding, Mend, point, share, too_high
from humble_loop.lines.line import ThingId, line
from humble_loop.propose.through import SAME
from humble_loop.site.edits import Edit

RULES = ("grade breaks at the throat", "approach too steep")
_STEPS = 25  # places along an approach at which its grade is looked at
_ROUNDS = 4  # in which the room that a curve takes is found
_ROUND = 0.01  # metres to which a proposed VIP is rounded along the street


@dataclass(frozen=True)
class Approach:
    """An arm's grades, outwards from the node: of the through street's surface just ``inside`` the throat, of its own line from there on
    (``own``), and the ``steepest`` of that (signed) within ``length`` metres, which is ``at`` metres beyond the throat.
    """

    inside: float
    own: float
    steepest: float
    at: float
    length: float

    @property
    def turn(self) -> float:
        """By how much the grade breaks at the throat."""
        return abs(self.own - self.inside)


@query
def approach(q: Engine, street: str, arm: Arm) -> Approach | None:
    """An arm's approach; None where both crowns run through, so that there is no throat, or where it has no grade."""
    j, t = require_joint(q, street, arm), q.attempt(throat, street, arm)
    if isinstance(t, Unsolved) or not is_new(q, street) or both_crowns(q, street, arm):
        return None
    crown, at = line(q, StreetLine(street)).rule, own_from(q, street, arm)
    inwards, outwards = ("before", "after") if j.way > 0 else ("after", "before")
    length = min(class_of(q, street).approach_length, leg_of(q, street, arm).total - abs(at - j.side_chainage))
    u = np.linspace(0.0, length, _STEPS)
    along = crown.grades(at + j.way * u, inwards) * j.way
    along[0] = float(crown.grades([at], outwards)[0]) * j.way
    inside = float(crown.grades([at], inwards)[0]) * j.way
    if not is_new(q, j.through) and t.place.leg_at > SAME:
        # Across a surveyed carriageway, whose triangles have kerbs among them: from its crown to the throat.
        node = float(line(q, StreetLine(j.through)).rule.levels([j.through_chainage])[0])
        inside = (t.level - node) / t.place.leg_at
    if not np.isfinite(along).all() or not np.isfinite(inside):
        return None
    k = int(np.argmax(np.abs(along)))
    return Approach(inside, float(along[0]), float(along[k]), float(u[k]), length)


def approach_findings(q: Engine, street: str, arm: Arm, of: ThingId) -> list[Finding]:
    """A grade that breaks too sharply at the throat, and one that is too steep to wait on."""
    made = q.attempt(approach, street, arm)
    if made is None or isinstance(made, Unsolved):
        return []
    rules, j, t = class_of(q, street), require_joint(q, street, arm), throat(q, street, arm)
    found, name, mend = [], arm_name(q, street, arm), _eased(q, street, arm, made.inside, made.length)
    if too_high(made.turn, rules.most_throat_break):
        words = f"the grade turns by {share(made.turn)} at the throat, from {share(made.inside)} across the through street to {share(made.own)}, more than {share(rules.most_throat_break)}"
        remedy = "ease the side street's first grade, or let both crowns run through"
        found.append(
            Finding(
                RULES[0],
                of,
                name,
                words,
                remedy,
                made.turn,
                rules.most_throat_break,
                place=point(t.place.point),
                mend=mend,
            )
        )
    steepest = abs(made.steepest)
    if too_high(steepest, rules.most_approach_grade):
        words = f"{made.at:.2f} m from the throat it {'rises' if made.steepest > 0 else 'falls'} at {share(steepest)}, more than {share(rules.most_approach_grade)} within {made.length:g} m"
        remedy = "let its first grade be gentler for that long"
        s = own_from(q, street, arm) + j.way * made.at
        place = point(chain_of(q, street).points_at([s])[0])
        found.append(
            Finding(
                RULES[1],
                of,
                name,
                words,
                remedy,
                steepest,
                rules.most_approach_grade,
                chainage=s,
                place=place,
                mend=mend,
            )
        )
    return found


def _eased(q: Engine, street: str, arm: Arm, inside: float, length: float) -> Mend | None:
    """The edit that gives an arm a first grade within both limits for as long as is wanted, and a curve beyond that; None where there is no
    room before its next VIP.
    """
    rules, j = class_of(q, street), require_joint(q, street, arm)
    low = max(inside - rules.most_throat_break, -rules.most_approach_grade)
    high = min(inside + rules.most_throat_break, rules.most_approach_grade)
    if low > high:
        return None
    at, standing = own_from(q, street, arm), proposed_vips(q, street)
    begin = float(grade_line(q, street).profile.level([at])[0])
    beyond = [v for v in standing if (v.chainage - at) * j.way > length + SAME and v.level is not None]
    if not beyond:
        return None
    following = min(beyond, key=lambda v: abs(v.chainage - at))
    assert following.level is not None
    whole = abs(following.chainage - at)
    grade = float(np.clip((following.level - begin) / whole, low, high))
    curve = 0.0
    for _ in range(_ROUNDS):  # the curve asks for room, and the further it lies out the more it turns
        run = length + 0.5 * curve
        after = (following.level - begin - grade * run) / max(whole - run, SAME)
        k = rules.least_sag_k if after > grade else rules.least_crest_k
        curve = max(100.0 * abs(after - grade) * k, rules.least_curve_length)
    run = length + 0.5 * curve
    if run + 0.5 * curve > whole - 0.5 * following.curve_length:
        return None
    between = [v for v in standing if not 0 < (v.chainage - at) * j.way < whole - SAME]
    vip = Vip(
        chainage=round((at + j.way * run) / _ROUND) * _ROUND,
        level=round(begin + grade * run, 3),
        curve_length=float(np.ceil(curve)),
    )
    vips = sorted((*between, vip), key=lambda v: v.chainage)
    edit: Edit = lambda site: set_vips(site, street, vips)  # noqa: E731
    return Mend(f"Ease it to {share(abs(grade))} for {length:g} m", edit)
