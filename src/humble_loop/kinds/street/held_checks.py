"""Rules of section points that are held, whatever holds them: they come to it gently, and leave the carriageway and the verge their falls."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import Floats, unique_chainages
from humble_loop.kinds.street.holding import ON
from humble_loop.kinds.street.inwards import LEAST_VERGE, MOST_VERGE, verge_falls
from humble_loop.kinds.street.plan import StreetLine, class_of, frame_of
from humble_loop.kinds.street.section import own_range, side_rows
from humble_loop.kinds.street.side import course
from humble_loop.kinds.street.side_levels import by_section, section_rule
from humble_loop.lines.findings import Finding, Mend, point, share, too_high, too_low
from humble_loop.lines.line import LinePlan, ThingId, line
from humble_loop.lines.rules import LevelRule
from humble_loop.site.edits import Edit
from humble_loop.site.model import Side

STEP = 0.003  # metres of level that a stretch may begin beside where the section has its point, as built
TAPER = 5.0  # metres over which that is eased, as it is offered
Taper = Literal["taper_in", "taper_out"]


@dataclass(frozen=True)
class HeldStretch:
    """A stretch that is held: the thing ``of`` it, what that is ``called``, its ``plan``, and the section point ``name`` of a side
    of a street from ``begin`` to ``finish``.
    """

    of: ThingId
    called: str
    plan: LinePlan
    street: str
    side: Side
    name: str
    begin: float
    finish: float

    def found(
        self, rule: str, words: str, remedy: str, value: float, limit: float, s: float, mend: Mend | None = None
    ) -> Finding:
        """A finding at a chainage."""
        place = point(self.plan.points([s])[0])
        return Finding(rule, self.of, self.plan.title, words, remedy, value, limit, s, place, mend=mend)


def steps(
    q: Engine,
    h: HeldStretch,
    rule: str,
    held: LevelRule,
    tapers: tuple[float, float],
    ease: Callable[[Taper, float], Edit],
) -> list[Finding]:
    """Ends at which the point has to come to other levels at once."""
    if isinstance(q.attempt(line, StreetLine(h.street)), Unsolved):
        return []
    own = section_rule(q, h.street, h.side, course(q, h.street, h.side).names.index(h.name))
    turned, found = frame_of(q, h.street).turned, []
    low, high = own_range(q, h.street, h.side)
    ends: tuple[tuple[float, float, Taper, Taper], ...] = (
        (h.begin, tapers[0], "taper_in", "taper_out"),
        (h.finish, tapers[1], "taper_out", "taper_in"),
    )
    for s, taper, key, opposite in ends:
        # At the end of the street's own lip a return or a head meets it as it is; where it is not there, nothing does.
        meets = s <= low + ON if key == "taper_in" else s >= high - ON
        if taper > 0.0 or meets:
            continue
        step = float(held.levels([s])[0] - own.levels([s])[0])
        if np.isfinite(step) and abs(step) > STEP:
            fits = min(TAPER, 0.25 * (h.finish - h.begin))
            words = f"at {s:.2f} it lies {1000 * abs(step):.0f} mm {'above' if step > 0 else 'below'} where the section has it"
            mend = Mend(f"Come to it over {fits:g} m", ease(opposite if turned else key, fits))
            remedy = "give it a taper there, or set its end to that level"
            found.append(h.found(rule, words, remedy, abs(step), 0.0, s, mend))
    return found


def crossfalls(q: Engine, h: HeldStretch, rule: str) -> list[Finding]:
    """Where the carriageway between crown and lip falls less or more than the street's class allows."""
    rules = class_of(q, h.street)
    crown, lip = q.attempt(line, StreetLine(h.street)), q.attempt(line, StreetLine(h.street, "lip", h.side))
    if isinstance(crown, Unsolved) or isinstance(lip, Unsolved):
        return []
    s = unique_chainages(side_rows(q, h.street, h.side), [h.begin, h.finish], low=h.begin, high=h.finish)
    fall = (crown.rule.levels(s) - lip.rule.levels(s)) / np.abs(lip.plan.offset(s))
    on = np.flatnonzero(np.isfinite(fall))
    found = []
    for flat, limit in ((True, rules.least_crossfall), (False, rules.most_crossfall)):
        if not on.size:
            continue
        worst = int(on[np.argmin(fall[on]) if flat else np.argmax(fall[on])])
        value = float(fall[worst])
        if (too_low if flat else too_high)(value, limit):
            bad = s[on][(fall[on] < limit) if flat else (fall[on] > limit)]
            words = f"at {s[worst]:.2f} the carriageway falls to it at {share(value)}, {'less' if flat else 'more'} than {share(limit)}"
            if len(bad) > 1:
                words += f"; from {bad[0]:.2f} to {bad[-1]:.2f} it is beyond that"
            remedy = f"{'lower' if flat else 'raise'} the {h.called} there, or {'raise' if flat else 'lower'} the crown"
            found.append(h.found(rule, words, remedy, value, limit, float(s[worst])))
    return found


def verges(q: Engine, h: HeldStretch, rule: str) -> list[Finding]:
    """Where the verge between kerb and path falls away from the kerb, or to it more than is easy."""
    s = unique_chainages(side_rows(q, h.street, h.side), low=h.plan.start, high=h.plan.end)
    if not len(s):
        return []
    built = line(q, StreetLine(h.street, h.name, h.side)).rule.levels(s)
    falls = verge_falls(q, h.street, h.side, s, built - by_section(q, h.street, h.side).levels(s))
    return [] if not np.isfinite(falls).any() else _verges(h, rule, s, falls)


def _verges(h: HeldStretch, rule: str, s: Floats, falls: Floats) -> list[Finding]:
    found = []
    for worst, limit, low in ((np.nanargmin, LEAST_VERGE, True), (np.nanargmax, MOST_VERGE, False)):
        k = int(worst(falls))
        value, i = float(falls.ravel()[k]), k // falls.shape[1]
        if (too_low if low else too_high)(value, limit):
            words = f"at {s[i]:.2f} the verge falls to the kerb at {share(value)}, {'less' if low else 'more'} than {share(limit)}"
            remedy = f"{'raise' if low else 'lower'} the {h.called} there, or change the kerb's level"
            found.append(h.found(rule, words, remedy, value, limit, float(s[i])))
    return found
