"""Cover over services: survey lines that lie under ground, and what is built above them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.ground.drape import cross_segments
from humble_loop.kinds.survey_line.lines import SurveyedLine, vertices
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.lines.faces import FaceId, finished_mesh
from humble_loop.lines.findings import Finding, failed, point, too_low
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.table import Table
from humble_loop.site import parts
from humble_loop.whole.overlaps import standing_surface
from humble_loop.whole.places import face_tree
from humble_loop.whole.things import thing_of

_BESIDE = 15.0  # metres along a service between places that are told as one
RULE, UNKNOWN = "cover over a service", "depth of a service"


@dataclass(frozen=True)
class Cover:
    """Where a piece of the finished surface lies nearest above a service: metres ``along`` that, the place, both levels."""

    face: FaceId
    title: str
    along: float
    place: tuple[float, float]
    level: float
    finished: float

    @property
    def depth(self) -> float:
        """Metres of cover; below zero where the service lies above the finished surface."""
        return self.finished - self.level


@query
def covers(q: Engine, service: str) -> tuple[Cover, ...]:
    """The least cover that each piece of the finished surface leaves a service with levels, in order along it.

    A service is straight between its vertices and a piece is of planes, so the least stands where it meets an edge or bends.
    """
    made, xyz = line(q, SurveyedLine(service)), vertices(q, service)
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(xyz[:, :2], axis=0).T))])
    path = shapely.LineString(xyz[:, :2])
    found = []
    for id in face_tree(q).near(*path.bounds):
        surface = q.attempt(standing_surface, id)
        if isinstance(surface, Unsolved) or surface.empty:
            continue
        met = cross_segments(surface, xyz[:-1, :2], xyz[1:, :2])
        s = along[met.line] + met.along
        on = np.isfinite(met.level)
        if not on.any():
            continue
        s, z = s[on], met.level[on]
        level = made.rule.levels(s)
        k = int(np.nanargmin(z - level))
        place = point(made.plan.points([s[k]])[0])
        found.append(Cover(id, finished_mesh(q, id).title, float(s[k]), place, float(level[k]), float(z[k])))
    return tuple(sorted(found, key=lambda c: c.along))


def cover_findings(q: Engine, service: str) -> tuple[Finding, ...]:
    """Where less stands over a service than it needs."""
    found = parts.one(q, SurveyLine, service)
    if found.least_cover <= 0:
        return ()
    of = ThingId("survey_line", service)
    if np.isfinite(vertices(q, service)[:, 2]).sum() < 2:
        words = f"its cover of {found.least_cover:.2f} m cannot be looked at: it was surveyed without levels"
        at = point(vertices(q, service)[0])
        return (Finding(UNKNOWN, of, found.name, words, "survey its levels", place=at, severity="near"),)
    made = q.attempt(covers, service)
    if isinstance(made, Unsolved):
        return (failed(made, of),)
    low: list[list[Cover]] = []
    for c in made:
        if too_low(c.depth, found.least_cover):
            beside = bool(low) and c.along - low[-1][-1].along < _BESIDE
            low = [*low[:-1], [*low[-1], c]] if beside else [*low, [c]]
    return tuple(_finding(q, of, found, those) for those in low)


def _finding(q: Engine, of: ThingId, service: SurveyLine, low: list[Cover]) -> Finding:
    """What leaves a service too little, piece beside piece, told by the least."""
    c, least = min(low, key=lambda c: c.depth), service.least_cover
    words = f"{c.title} leaves it {c.depth:.2f} m of cover at {c.along:.2f} along it, less than {least:.2f} m"
    if c.depth < 0:
        words = f"{c.title} lies {-c.depth:.2f} m below it at {c.along:.2f} along it: it would be cut"
    if len(low) > 1:
        words += f"; {len(low)} pieces leave too little from {low[0].along:.2f} to {low[-1].along:.2f}"
    remedy = f"raise the finished level there by {least - c.depth:.2f} m, or lower or protect the service"
    also = tuple(dict.fromkeys(thing_of(q, piece.face) for piece in (c, *low)))
    return Finding(RULE, of, service.name, words, remedy, c.depth, least, c.along, c.place, also=also)


def cover_table(q: Engine, of: str | None, every: float | None) -> Table:
    """One row for each piece of the finished surface that lies over a service: its least cover there."""
    del every
    rows = []
    for id in parts.ids(q, SurveyLine):
        found = parts.one(q, SurveyLine, id)
        if found.least_cover <= 0 or (of is not None and of not in (id, found.name)):
            continue
        made = q.attempt(covers, id)
        for c in () if isinstance(made, Unsolved) else made:
            figures = (c.level, c.finished, c.depth, found.least_cover)
            rows.append((found.name, c.title, c.along, *c.place, *figures))
    columns = ("service", "under", "along", "easting", "northing", "level", "finished", "cover", "least_cover")
    return Table(columns, tuple(rows), (("easting", "northing"),))
