"""Proposals for a kerb line: near the ground, an old kerb or the crown's fall, with few VIPs. Each is shown before it is taken."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np

from humble_loop.engine.in_pieces import InPieces
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.kerb_line.levels import as_it_runs, levels_of, plan_of, rule_of, title_of
from humble_loop.kinds.kerb_line.model import KerbLine, KerbVip, set_kerb_line
from humble_loop.kinds.street.levels import grade_rules
from humble_loop.kinds.street.plan import StreetLine, chain_of, class_of, frame_of
from humble_loop.kinds.street.widening import lines_beside
from humble_loop.kinds.survey_line.lines import SurveyedLine
from humble_loop.lines.describe import Fact, Sheet, SheetRow
from humble_loop.lines.line import line
from humble_loop.propose.through import Course, curves_for, through
from humble_loop.site import parts
from humble_loop.site.edits import Edit

Which = Literal["ground", "line", "crown", "smooth"]
_COLUMNS = ("proposal", "VIPs", "off at most", "moves down to", "moves up to")
_STEP = 2.0  # metres between places at which the wanted levels are kept to
_MOST_LINES = 4  # survey lines that are offered, the nearest first
_ALONG = 0.9  # share of a kerb line that another line must run beside
_NOWHERE, _NONE = (0.0, 0.0), np.empty((0, 2))


@dataclass(frozen=True)
class Proposed:
    """A proposed kerb line: its profile, and how far (m) it departs from what it is to be near, at most."""

    line: Profile
    off: float


@query
def proposal(q: Engine, id: str, which: Which, of: str) -> Proposed:
    """A line of few VIPs within the kerb line's tolerance of the ground under it, of the survey line ``of``, of the crown at the
    middle of the class's crossfalls, or of itself. Raises Unsolved where that is not there.
    """
    k, course = as_it_runs(q, id), _course(q, id, which, of)
    corners, levels = _working(q, id, which, of).result(q)
    curves = curves_for(corners, levels, grade_rules(class_of(q, k.street)))
    made = Profile.of(corners, levels, curves)
    off = float(np.abs(made.level(course.chainages) - course.levels).max())
    return Proposed(made, off)


@query
def _working(q: Engine, id: str, which: Which, of: str) -> InPieces[tuple[Floats, Floats]]:
    k = as_it_runs(q, id)
    fixed: dict[float, float | None] = {k.begin: None, k.finish: None}
    now = rule_of(q, levels_of(q, id)).profile.levels.tolist()
    fixed.update({v.chainage: z for v, z in zip(k.vips, now) if v.locked})
    stops = tuple(sorted(fixed.items()))
    return InPieces(through(_course(q, id, which, of), grade_rules(class_of(q, k.street)), stops))


def _course(q: Engine, id: str, which: Which, of: str) -> Course:
    k, within = as_it_runs(q, id), parts.one(q, KerbLine, id).within
    s = np.linspace(k.begin, k.finish, max(3, int((k.finish - k.begin) / _STEP)) + 1)
    z = _wanted(q, id, which, of, s)
    on = np.isfinite(z)
    if on.sum() < 2 or on.mean() < _ALONG:
        words = f"there is nothing to be near along {100 * (1 - on.mean()):.0f} % of it"
        raise Unsolved(title_of(q, id), words, "shorten the kerb line, or take another proposal")
    return Course(s[on], z[on], np.full(on.sum(), within), np.full(on.sum(), within))


def _wanted(q: Engine, id: str, which: Which, of: str, s: Floats) -> Floats:
    """The levels (n,) to be near, NaN where there are none."""
    k, plan = as_it_runs(q, id), plan_of(q, levels_of(q, id))
    if which == "ground":
        return ground_of(q).levels(plan.points(np.clip(s, plan.start, plan.end)))
    if which == "smooth":
        return rule_of(q, levels_of(q, id)).profile.level(s)
    if which == "crown":
        rules = class_of(q, k.street)
        fall = 0.5 * (rules.least_crossfall + rules.most_crossfall)
        return line(q, StreetLine(k.street)).rule.levels(s) - fall * np.abs(plan.offset(s))
    other = line(q, SurveyedLine(of))
    feet = other.plan.base.feet(plan.points(np.clip(s, plan.start, plan.end)))
    return np.where(feet.square, other.rule.levels(feet.chainages), np.nan)


def proposal_sheet(q: Engine, id: str) -> Sheet:
    """The kerb line as it stands and the proposals, each a ghost in the long section while it is chosen."""
    k, own = as_it_runs(q, id), levels_of(q, id)
    offers: list[tuple[str, Which, str]] = [("near the ground", "ground", "")]
    beside = [row for row in lines_beside(q, k.street) if row[2] == k.side and row[3] < k.finish and row[4] > k.begin]
    offers += [(f"near {name}", "line", of) for of, name, *_ in beside[:_MOST_LINES]]
    if k.point == "lip":
        offers.append(("at the middle crossfall from the crown", "crown", ""))
    offers.append(("smoother than it is", "smooth", ""))
    rows = []
    for words, which, of in offers:
        made = q.attempt(proposal, id, which, of)
        if not isinstance(made, Unsolved):
            rows.append(_row(q, id, words, made))
    note = "The chosen one is drawn in the long section" if rows else "There is nothing near which it could be laid"
    return Sheet("Proposals", own, _COLUMNS, tuple(rows), note)


def _row(q: Engine, id: str, words: str, made: Proposed) -> SheetRow:
    present = rule_of(q, levels_of(q, id)).profile
    p = made.line
    s = np.union1d(p.key_chainages(), np.arange(p.chainages[0], p.chainages[-1], _STEP))
    s = s[(s >= p.chainages[0]) & (s <= p.chainages[-1])]
    moved = p.level(s) - present.level(s)
    moved = moved[np.isfinite(moved)]
    cells = (
        Fact("proposal", "text", words),
        Fact("VIPs", "count", len(p.chainages)),
        Fact("off at most", "length", made.off),
        Fact("moves down to", "length", max(0.0, -float(moved.min(initial=0.0)))),
        Fact("moves up to", "length", max(0.0, float(moved.max(initial=0.0)))),
    )
    ghost = np.column_stack([s, p.level(s)])
    return SheetRow(cells, _NOWHERE, _NONE, actions=(("Take it", _taken(q, id, p)),), ghost=ghost)


def _taken(q: Engine, id: str, p: Profile) -> Edit:
    k = as_it_runs(q, id)
    locked = [v for v in k.vips if v.locked]
    vips = [
        next(
            (v for v in locked if abs(v.chainage - s) < 1e-6),
            KerbVip(chainage=float(s), level=round(float(z), 4), curve_length=float(c)),
        )
        for s, z, c in zip(p.chainages, p.levels, p.curves)
    ]
    if frame_of(q, k.street).turned:
        total = chain_of(q, k.street).total
        vips = [v.model_copy(update={"chainage": total - v.chainage}) for v in reversed(vips)]
    return lambda site: set_kerb_line(site, id, vips=tuple(vips))
