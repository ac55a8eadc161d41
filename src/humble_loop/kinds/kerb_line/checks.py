"""Rules of kerb lines: they lie on their street, come to its levels gently, and leave the carriageway its crossfall."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.arrays import unique_chainages
from humble_loop.kinds.kerb_line.levels import ON, as_it_runs, governing, levels_of, plan_of, rule_of, title_of
from humble_loop.kinds.kerb_line.model import set_kerb_line
from humble_loop.kinds.kerb_line.windows import LEAST_VERGE, MOST_VERGE, verge_falls, window_of
from humble_loop.kinds.street.plan import StreetLine, chain_of, class_of, frame_of, is_new
from humble_loop.kinds.street.section import by_section, own_range, side_rows
from humble_loop.kinds.street.side import course, lip_width
from humble_loop.lines.findings import Finding, Mend, point, share, too_high, too_low
from humble_loop.lines.line import ThingId, line
from humble_loop.site.edits import Edit

RULES = (
    "own levels off the street",
    "own levels overlap",
    "step at a kerb line's end",
    "crossfall to a kerb line",
    "kerb line too flat",
    "verge to a boundary line",
)
_STEP = 0.003  # metres of level that a kerb line may begin off the lip, as built
_TAPER = 5.0  # metres over which that is eased, as it is offered


def kerb_findings(q: Engine, id: str) -> tuple[Finding, ...]:
    """Findings on a kerb line."""
    k, of = as_it_runs(q, id), ThingId("kerb_line", id)
    title, chain = title_of(q, id), chain_of(q, k.street)
    if not is_new(q, k.street):
        words = "its street is an existing one, whose levels are the ground's"
        return (Finding("own levels off the street", of, title, words, "make the street a new one, or remove them"),)
    if id not in governing(q, k.street, k.side, k.point):
        words = "it overlaps another that begins before it, and is left out"
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
    if k.point == "boundary":
        return (*found, *_verge(q, id, of, title))
    return (*found, *_steps(q, id, of, title), *_crossfalls(q, id, of, title), *_flat(q, id, of, title))


def _verge(q: Engine, id: str, of: ThingId, title: str) -> list[Finding]:
    """Where the verge between kerb and path falls away from the kerb, or to it more than is easy."""
    k, window = as_it_runs(q, id), window_of(q, id)
    if window is None:
        return []
    s = unique_chainages(side_rows(q, k.street, k.side), low=window.chainages[0], high=window.chainages[-1])
    built = line(q, StreetLine(k.street, course(q, k.street, k.side).names[-1], k.side)).rule.levels(s)
    falls = verge_falls(q, k.street, k.side, s, built - by_section(q, k.street, k.side).levels(s))
    found = []
    for worst, limit, words in ((np.nanargmin, LEAST_VERGE, "less than"), (np.nanargmax, MOST_VERGE, "more than")):
        if not np.isfinite(falls).any():
            break
        i = int(worst(falls)) // falls.shape[1]
        value = float(falls.ravel()[worst(falls)])
        if (too_low if words == "less than" else too_high)(value, limit):
            told = f"at {s[i]:.2f} the verge falls to the kerb at {share(value)}, {words} {share(limit)}"
            remedy = (
                f"{'raise' if words == 'less than' else 'lower'} the boundary line there, or change the kerb's level"
            )
            place = point(plan_of(q, levels_of(q, id)).points([s[i]])[0])
            found.append(Finding("verge to a boundary line", of, title, told, remedy, value, limit, float(s[i]), place))
    return found


def _steps(q: Engine, id: str, of: ThingId, title: str) -> list[Finding]:
    """Ends at which the lip has to come to other levels at once."""
    k, rule = as_it_runs(q, id), rule_of(q, levels_of(q, id))
    crown = q.attempt(line, StreetLine(k.street))
    if isinstance(crown, Unsolved):
        return []
    made = line(q, StreetLine(k.street, "lip", k.side)).rule
    own = getattr(made, "own", None)
    found = []
    turned = frame_of(q, k.street).turned
    low, high = own_range(q, k.street, k.side)
    for s, taper, key in ((k.begin, k.taper_in, "taper_in"), (k.finish, k.taper_out, "taper_out")):
        # At the end of the street's own lip a return or a head meets it as it is; where it is not there, nothing does.
        meets = s <= low + ON if key == "taper_in" else s >= high - ON
        if own is None or taper > 0.0 or meets:
            continue
        step = float(rule.levels([s])[0] - own.levels([s])[0])
        if np.isfinite(step) and abs(step) > _STEP:
            drawn = {"taper_in": "taper_out", "taper_out": "taper_in"}[key] if turned else key
            fits = min(_TAPER, 0.25 * (k.finish - k.begin))
            words = f"at {s:.2f} it lies {1000 * abs(step):.0f} mm {'above' if step > 0 else 'below'} where the crossfall has the lip"
            mend = Mend(f"Come to it over {fits:g} m", _tapered(id, drawn, fits))
            place = point(plan_of(q, levels_of(q, id)).points([s])[0])
            remedy = "give it a taper there, or set its end to the lip's level"
            found.append(
                Finding("step at a kerb line's end", of, title, words, remedy, abs(step), 0.0, s, place, mend=mend)
            )
    return found


def _tapered(id: str, key: str, by: float) -> Edit:
    return lambda site: set_kerb_line(site, id, **{key: by})


def _crossfalls(q: Engine, id: str, of: ThingId, title: str) -> list[Finding]:
    """Where the carriageway between crown and kerb line falls less or more than the street's class allows."""
    k, rules = as_it_runs(q, id), class_of(q, as_it_runs(q, id).street)
    crown = q.attempt(line, StreetLine(k.street))
    lip = q.attempt(line, StreetLine(k.street, "lip", k.side))
    if isinstance(crown, Unsolved) or isinstance(lip, Unsolved):
        return []
    s = unique_chainages(side_rows(q, k.street, k.side), [k.begin, k.finish], low=k.begin, high=k.finish)
    fall = (crown.rule.levels(s) - lip.rule.levels(s)) / lip_width(q, k.street, k.side)(s)
    on = np.flatnonzero(np.isfinite(fall))
    found = []
    for what, limit in (("flat", rules.least_crossfall), ("steep", rules.most_crossfall)):
        if not on.size:
            continue
        worst = int(on[np.argmin(fall[on]) if what == "flat" else np.argmax(fall[on])])
        value = float(fall[worst])
        if (too_low if what == "flat" else too_high)(value, limit):
            bad = s[on][(fall[on] < limit) if what == "flat" else (fall[on] > limit)]
            words = f"at {s[worst]:.2f} the carriageway falls to it at {share(value)}, {'less' if what == 'flat' else 'more'} than {share(limit)}"
            if len(bad) > 1:
                words += f"; from {bad[0]:.2f} to {bad[-1]:.2f} it is beyond that"
            place = point(plan_of(q, levels_of(q, id)).points([s[worst]])[0])
            remedy = f"{'lower' if what == 'flat' else 'raise'} the kerb line there, or {'raise' if what == 'flat' else 'lower'} the crown"
            found.append(
                Finding("crossfall to a kerb line", of, title, words, remedy, value, limit, float(s[worst]), place)
            )
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
