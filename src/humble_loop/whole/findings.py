"""Every finding of the site, worst first."""

from __future__ import annotations

from humble_loop.engine.query import Engine, Unsolved, gate, query
from humble_loop.lines.findings import RING, UNSOLVED, Finding, failed, unique
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.whole.cover import RULE, UNKNOWN, cover_findings
from humble_loop.whole.overlaps import overlap_findings
from humble_loop.whole.round_sight import RULES as ROUND_SIGHT
from humble_loop.whole.round_sight import round_sight_findings
from humble_loop.whole.sight import LOT_RULE, sight_findings
from humble_loop.whole.sight import RULE as SIGHT
from humble_loop.whole.things import all_things

STAGE_OF = {
    "built twice": "Sections",
    "batter on a street": "Sections",
    "batter ends in the air": "Sections",
    RULE: "Levels",
    SIGHT: "Junctions",
    LOT_RULE: "Junctions",
    **dict.fromkeys(ROUND_SIGHT, "Junctions"),
    UNKNOWN: "Ground",
    RING: "Streets",
    "hollow": "",
    UNSOLVED: "",
}
"""The stage of rules that belong to no kind; '' for the stage of the thing that is concerned."""


@query
def own_findings(q: Engine, thing: ThingId) -> tuple[Finding, ...]:
    """The rules of a thing's own kind, and those that other kinds find broken on it."""
    found = list(kind_of(thing.kind).findings(q, thing))
    for kind in kinds():
        found += kind.findings_about(q, thing)
    return tuple(found)


@gate
def thing_findings(q: Engine, thing: ThingId) -> tuple[Finding, ...]:
    """All findings of a thing, overlaps of its faces among them."""
    made = q.attempt(own_findings, thing)
    if isinstance(made, Unsolved):
        return (failed(made, thing),)
    found = list(made)
    over = q.attempt(overlap_findings, thing)
    found += (failed(over, thing),) if isinstance(over, Unsolved) else over
    if thing.kind == "junction":
        seen = q.attempt(sight_findings, thing.id)
        found += (failed(seen, thing),) if isinstance(seen, Unsolved) else seen
    if thing.kind == "roundabout":
        seen = q.attempt(round_sight_findings, thing.id)
        found += (failed(seen, thing),) if isinstance(seen, Unsolved) else seen
    if thing.kind == "survey_line":
        found += cover_findings(q, thing.id)
    return unique(found)


@query
def findings(q: Engine) -> tuple[Finding, ...]:
    """Every finding of the site: broken before near, then by how far beyond the limit."""
    merged = unique([f for thing in all_things(q) for f in thing_findings(q, thing)])
    return tuple(sorted(merged, key=lambda f: (f.severity != "broken", -f.margin, f.thing, f.message)))


def stage_of(finding: Finding) -> str:
    """The stage of the work to which a finding belongs."""
    for kind in kinds():
        if finding.rule in kind.rules:
            return kind.rules[finding.rule]
    return STAGE_OF.get(finding.rule, "") or kind_of(finding.of.kind).stage
