"""The kind: survey lines as lines with a plan and, where they were surveyed or lie on the ground, levels."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, gate, query
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.crossing import crossings
from humble_loop.geometry.gradeline import Profile
from humble_loop.ground.drape import drape
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.survey_line.levels import RULE, level_findings, level_sheet
from humble_loop.kinds.survey_line.lines import SurveyedLine, vertices
from humble_loop.kinds.survey_line.model import SurveyLine, set_survey_line
from humble_loop.lines.describe import Crossing, Drawing, Fact, Row, SheetOf, Stroke, joined_up
from humble_loop.lines.findings import Finding
from humble_loop.lines.kind import Kind
from humble_loop.lines.line import LineId, LinePlan, ThingId, line, line_plan
from humble_loop.lines.rules import Known, LevelRule
from humble_loop.lines.varying import Varying
from humble_loop.site import parts
from humble_loop.site.edits import Edit


class SurveyLines(Kind):
    """Existing lines."""

    key, title, stage = "survey_line", "Survey lines", "Ground"
    models = (SurveyLine,)
    rules = {RULE: "Ground"}  # noqa: RUF012 (never changed)
    beneath = True

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(ThingId(self.key, i) for i in parts.ids(q, SurveyLine))

    def name(self, q: Engine, thing: ThingId) -> str:
        return parts.one(q, SurveyLine, thing.id).name

    def lines(self, q: Engine, thing: ThingId) -> tuple[LineId, ...]:
        return (SurveyedLine(thing.id),)

    def line_plan(self, q: Engine, id: LineId) -> LinePlan:
        assert isinstance(id, SurveyedLine)
        found = parts.one(q, SurveyLine, id.id)
        try:
            chain = Chain.from_points(vertices(q, id.id))
        except ValueError as error:
            raise Unsolved(f"survey line '{found.name}'", str(error), "survey it again") from None
        return LinePlan(found.name, "survey", chain, Varying.steady(0.0), 0.0, chain.total)

    def level_rule(self, q: Engine, id: LineId) -> LevelRule:
        """As surveyed; where single vertices have no level, straight between their neighbours that have; else draped."""
        assert isinstance(id, SurveyedLine)
        name, chain, xyz = parts.one(q, SurveyLine, id.id).name, line_plan(q, id).base, vertices(q, id.id)
        along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(xyz[:, :2], axis=0).T))])
        known = np.isfinite(xyz[:, 2])
        s, z = along[known], xyz[known, 2]
        keep = np.concatenate([[True], np.diff(s) > 1e-9]) if len(s) else np.zeros(0, dtype=bool)
        if keep.sum() >= 2:
            return Known(f"survey line '{name}'", f"surveyed line '{name}'", "survey", Profile.of(s[keep], z[keep]))
        ground = drape(ground_of(q), chain)
        on = np.isfinite(ground.levels)
        if on.sum() < 2:
            raise Unsolved(
                f"survey line '{name}'",
                "it has no levels and no ground under it",
                "survey its levels, or bring in a surface that covers it",
            )
        profile = Profile.of(ground.chainages[on], ground.levels[on])
        return Known(f"survey line '{name}'", "the ground under a line surveyed without levels", "ground", profile)

    def at(self, q: Engine, thing: ThingId, place: tuple[float, float]) -> float:
        p = vertices(q, thing.id)[:, :2]
        return float(shapely.distance(shapely.Point(place), shapely.linestrings(p))) if len(p) > 1 else np.inf

    def outline(self, q: Engine, thing: ThingId) -> Drawing:
        role = "service" if parts.one(q, SurveyLine, thing.id).least_cover > 0 else "survey"
        return Drawing((Stroke(role, joined_up([vertices(q, thing.id)])),))

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        found = parts.one(q, SurveyLine, thing.id)
        xyz = vertices(q, thing.id)
        length = float(np.hypot(*np.diff(xyz[:, :2], axis=0).T).sum())
        with_levels = int(np.isfinite(xyz[:, 2]).sum())
        return (
            Fact("code", "text", found.code or "–"),
            Fact("length", "length", length),
            Fact("vertices", "text", f"{len(xyz)}, {with_levels} with levels"),
            Fact("from", "text", found.source or "–"),
            Fact("least cover over it", "length", found.least_cover, "set", _covered(thing.id)),
        )

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        return level_findings(q, thing.id)

    def sheets(self, q: Engine, thing: ThingId) -> tuple[SheetOf, ...]:
        return (SheetOf("Levels", lambda q: level_sheet(q, thing.id)),)

    def section_line(self, q: Engine, thing: ThingId) -> LineId | None:
        return SurveyedLine(thing.id)

    def section_marks(self, q: Engine, line: LineId) -> tuple[Crossing, ...]:
        """Where services lie under a line."""
        return () if isinstance(line, SurveyedLine) else _services_under(q, line)


@gate
def services(q: Engine) -> tuple[str, ...]:
    """Survey lines that are services in the ground, and have levels."""
    ids = (i for i in parts.ids(q, SurveyLine) if parts.one(q, SurveyLine, i).least_cover > 0)
    return tuple(i for i in ids if np.isfinite(vertices(q, i)[:, 2]).sum() > 1)


@query
def _service_boxes(q: Engine) -> Floats:
    """West, south, east and north (n, 4) of each service."""
    found = [vertices(q, i)[:, :2] for i in services(q)]
    return np.array([[*p.min(axis=0), *p.max(axis=0)] for p in found]).reshape(-1, 4)


@query
def _services_under(q: Engine, id: LineId) -> tuple[Crossing, ...]:
    ids, mine = services(q), line_plan(q, id)
    if not ids or mine.offset.values.any():
        return ()
    path = mine.base.points_at(mine.base.sampled(sag=1.0))
    (w, s), (e, n), b = path.min(axis=0) - 1.0, path.max(axis=0) + 1.0, _service_boxes(q)
    near = np.flatnonzero((b[:, 0] <= e) & (b[:, 2] >= w) & (b[:, 1] <= n) & (b[:, 3] >= s))
    found = []
    for service in (ids[k] for k in near):
        its = q.attempt(line, SurveyedLine(service))
        if isinstance(its, Unsolved):
            continue
        for at, t in crossings(mine.base, its.plan.base).tolist():
            found.append(Crossing(its.title, at, float(its.rule.levels([t])[0]), SurveyedLine(service)))
    return tuple(found)


def _covered(id: str) -> Callable[[Any], Edit]:
    return lambda value: lambda s: set_survey_line(s, id, least_cover=value)
