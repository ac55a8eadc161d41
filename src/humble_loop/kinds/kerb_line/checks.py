"""Rules of kerb lines: they lie on their street, come to its levels gently, and leave the carriageway its crossfall."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.kerb_line.levels import as_it_runs, governing, levels_of, name_on, plan_of, rule_of, title_of
from humble_loop.kinds.kerb_line.model import line_words, set_kerb_line, set_kerb_vip
from humble_loop.kinds.street.held_checks import HeldStretch, crossfalls, steps, verges
from humble_loop.kinds.street.holding import ON, holds
from humble_loop.kinds.street.plan import StreetLine, chain_of, class_of, is_new
from humble_loop.kinds.street.section import own_range
from humble_loop.lines.findings import Finding, Mend, point, share, too_low
from humble_loop.lines.line import ThingId
from humble_loop.propose.run import odd_levels
from humble_loop.site import parts

RULES = (
    "own levels off the street",
    "own levels overlap",
    "step at a kerb line's end",
    "crossfall to a kerb line",
    "kerb line too flat",
    "verge to a boundary line",
    "VIP out of its run",
)


def kerb_findings(q: Engine, id: str) -> tuple[Finding, ...]:
    """Findings on a kerb line."""
    k, of = as_it_runs(q, id), ThingId("kerb_line", id)
    title, chain = title_of(q, id), chain_of(q, k.street)
    if not is_new(q, k.street):
        words = "its street is an existing one, whose levels are the ground's"
        return (Finding("own levels off the street", of, title, words, "make the street a new one, or remove them"),)
    name = name_on(q, k.street, k.side, k.point)
    tied = q.attempt(holds, StreetLine(k.street, name, k.side))
    first = id in governing(q, k.street, k.side, k.point)
    if not first or (not isinstance(tied, Unsolved) and levels_of(q, id) not in [h.line for h in tied]):
        words = f"it overlaps {'a tie' if first else 'another that begins before it'}, and is left out"
        at = point(plan_of(q, levels_of(q, id)).points([plan_of(q, levels_of(q, id)).start])[0])
        return (
            Finding("own levels overlap", of, title, words, "remove it, or begin it where the other ends", place=at),
        )
    found = []
    low, high = own_range(q, k.street, k.side)
    if k.begin < low - ON or k.finish > high + ON:
        words = (
            f"it runs from {k.begin:.2f} to {k.finish:.2f}, the street's own {k.side} lip from {low:.2f} to {high:.2f}"
        )
        remedy = "end it where the street's own lip ends"
        at = point(chain.points_at([np.clip(k.begin, 0.0, chain.total)])[0])
        found.append(Finding("own levels off the street", of, title, words, remedy, place=at))
    plan = plan_of(q, levels_of(q, id))
    held = HeldStretch(of, line_words(k.point), plan, k.street, k.side, name, k.begin, k.finish)
    found += _odd(q, id, held)
    if k.point == "boundary":
        return (*found, *verges(q, held, "verge to a boundary line"))
    tapers = k.taper_in, k.taper_out
    ease = lambda key, by: lambda site: set_kerb_line(site, id, **{key: by})  # noqa: E731
    found += steps(q, held, "step at a kerb line's end", rule_of(q, levels_of(q, id)), tapers, ease)
    if k.point == "lip":
        found += [*crossfalls(q, held, "crossfall to a kerb line"), *_flat(q, id, of, title)]
    return tuple(found)


def _odd(q: Engine, id: str, held: HeldStretch) -> list[Finding]:
    """VIPs that break the smoothness of the others, as a mistyped level does."""
    k, found = as_it_runs(q, id), []
    s, z = np.array([v.chainage for v in k.vips]), rule_of(q, levels_of(q, id)).profile.levels
    for o in odd_levels(s, z, parts.settings(q).level_decimals):
        if k.vips[o.index].follows is not None:
            continue  # nobody typed it
        words = (
            f"its VIP at {s[o.index]:.2f}, {z[o.index]:.3f}, lies {1000 * abs(o.off):.0f} mm {'above' if o.off > 0 else 'below'}"
            f" the run of the others; {o.likely:.3f} is likely ({o.why})"
        )
        index = k.index[o.index]
        mend = Mend(f"Set it to {o.likely:.3f}", lambda site, i=index, z=o.likely: set_kerb_vip(site, id, i, level=z))  # type: ignore[misc]
        remedy = "set the likely level if that is it"
        at = float(s[o.index])
        made = held.found("VIP out of its run", words, remedy, float(z[o.index]), o.smooth, at, mend)
        found.append(replace(made, severity="near"))
    return found


def _flat(q: Engine, id: str, of: ThingId, title: str) -> list[Finding]:
    """Legs along which water hardly runs."""
    p, rules, found = rule_of(q, levels_of(q, id)).profile, class_of(q, as_it_runs(q, id).street), []
    for i, grade in enumerate(np.abs(p.grades).tolist()):
        if too_low(grade, rules.least_kerb_fall):
            a, b = float(p.chainages[i]), float(p.chainages[i + 1])
            words = f"from {a:.2f} to {b:.2f} it is at {share(grade)}, less than {share(rules.least_kerb_fall)}"
            place = point(plan_of(q, levels_of(q, id)).points([0.5 * (a + b)])[0])
            found.append(
                Finding(
                    "kerb line too flat",
                    of,
                    title,
                    words,
                    "change a level at either end",
                    grade,
                    rules.least_kerb_fall,
                    a,
                    place,
                )
            )
    return found
