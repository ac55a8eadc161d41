"""Rules of ties: what they follow is there, all along, and does not follow from them; they are come to gently and leave falls."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.street.held_checks import HeldStretch, crossfalls, steps, verges
from humble_loop.kinds.street.holding import ON, holds
from humble_loop.kinds.street.plan import StreetLine, chain_of, is_new
from humble_loop.kinds.street.section import own_range
from humble_loop.kinds.street.side import course
from humble_loop.kinds.tie.levels import TieRuns, levels_of, plan_of, reach_of, rule_of, tie_of, title_of
from humble_loop.kinds.tie.model import LevelTie, set_tie
from humble_loop.kinds.tie.rings import in_a_ring
from humble_loop.kinds.tie.source import words_of
from humble_loop.lines.findings import Finding, Mend, point
from humble_loop.lines.line import ThingId
from humble_loop.site import parts
from humble_loop.site.edits import Edit

RULES = (
    "tie without its source",
    "tie follows itself",
    "ties overlap",
    "tie off the street",
    "tie's source ends early",
    "step at a tie's end",
    "crossfall to a tied lip",
    "verge to a tied boundary",
)


def tie_findings(q: Engine, id: str) -> tuple[Finding, ...]:
    """Findings on a tie."""
    of, t = ThingId("tie", id), parts.one(q, LevelTie, id)
    if not is_new(q, t.street):
        words = "its street is an existing one, whose levels are the ground's"
        remedy = "make the street a new one, or remove the tie"
        return (Finding("tie off the street", of, title_of(q, id), words, remedy),)
    k = tie_of(q, id)
    chain, title = chain_of(q, k.street), title_of(q, id)
    at = point(chain.points_at([np.clip(k.begin, 0.0, chain.total)])[0])
    there = q.attempt(reach_of, id)
    if isinstance(there, Unsolved):
        rule = "tie follows itself" if in_a_ring(q, id) else "tie without its source"
        return (Finding(rule, of, title, f"{there.message}, and it holds nothing", there.remedy, place=at),)
    return (*_where(q, id, k, of, title, at, there), *_levels(q, id, k, of, there))


def _where(
    q: Engine, id: str, k: TieRuns, of: ThingId, title: str, at: tuple[float, float], there: tuple[float, float] | None
) -> list[Finding]:
    """Whether it lies on its street, and what it follows beside it; and holds."""
    found = []
    low, high = own_range(q, k.street, k.side)
    if k.begin < low - ON or k.finish > high + ON:
        words = (
            f"it runs from {k.begin:.2f} to {k.finish:.2f}, the street's own {k.side} lip from {low:.2f} to {high:.2f}"
        )
        inside = max(k.begin, low), min(k.finish, high)
        mend = Mend("End it there", _shortened(q, id, inside)) if inside[1] - inside[0] > 1.0 else None
        remedy = "end it where the street's own lip ends"
        found.append(Finding("tie off the street", of, title, words, remedy, place=at, mend=mend))
    source = words_of(q, k.source, k.street)
    if there is None:
        words = f"{source} is not beside it with a level anywhere, and it holds nothing"
        remedy = "move the stretch, or let it follow something else"
        return [*found, Finding("tie's source ends early", of, title, words, remedy, place=at)]
    if there[0] > k.begin + ON or there[1] < k.finish - ON:
        inside = max(k.begin, there[0]), min(k.finish, there[1])
        words = f"{source} is beside it from {inside[0]:.2f} to {inside[1]:.2f} only, and beyond that it holds nothing"
        mend = Mend("End it there", _shortened(q, id, inside)) if inside[1] - inside[0] > 1.0 else None
        remedy = "end the tie there, or let it follow something else"
        found.append(Finding("tie's source ends early", of, title, words, remedy, place=at, mend=mend))
    if levels_of(q, id) not in [h.line for h in holds(q, StreetLine(k.street, k.name, k.side))]:
        words = f"something else holds the {k.side} {k.point} there already, and the tie is left out"
        remedy = "remove one of them, or end it where the other begins"
        found.append(Finding("ties overlap", of, title, words, remedy, place=at))
    return found


def _shortened(q: Engine, id: str, span: tuple[float, float]) -> Edit:
    k, t = tie_of(q, id), parts.one(q, LevelTie, id)
    turned = k.side != t.side
    total = chain_of(q, k.street).total
    begin, finish = (total - span[1], total - span[0]) if turned else span
    return lambda site: set_tie(site, id, begin=round(begin, 4), finish=round(finish, 4))


def _levels(q: Engine, id: str, k: TieRuns, of: ThingId, there: tuple[float, float] | None) -> list[Finding]:
    """Whether it is come to gently, and what lies beside it keeps its fall."""
    own = levels_of(q, id)
    if there is None or own not in [h.line for h in holds(q, StreetLine(k.street, k.name, k.side))]:
        return []
    begin, finish = max(k.begin, there[0]), min(k.finish, there[1])
    held = HeldStretch(of, "tie", plan_of(q, own), k.street, k.side, k.name, begin, finish)
    found = []
    if not k.least:
        tapers = k.taper_in, k.taper_out
        ease = lambda key, by: lambda site: set_tie(site, id, **{key: by})  # noqa: E731
        found += steps(q, held, "step at a tie's end", rule_of(q, own), tapers, ease)
    made = course(q, k.street, k.side)
    if k.name == "lip":
        found += crossfalls(q, held, "crossfall to a tied lip")
    if k.name == made.names[-1]:
        found += verges(q, held, "verge to a tied boundary")
    return found
