"""What else lies across a street: other surfaces, and lines that its cross section meets."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats, frozen, left_normals
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.crossing import crossings
from humble_loop.ground.drape import cross_segments
from humble_loop.kinds.ground.reads import other_surfaces
from humble_loop.kinds.street.plan import StreetLine, chain_of, name_of, streets_in
from humble_loop.kinds.survey_line.lines import SurveyedLine, vertices
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.lines.line import line
from humble_loop.site import parts


@dataclass(frozen=True)
class Met:
    """A line that the section meets: its name, metres to the right of the centreline, its level, and the role it is drawn in."""

    name: str
    x: float
    z: float
    role: str


@dataclass(frozen=True)
class Across:
    """Other ``surfaces`` by name, each as points (n, 2): metres to the right, level; and the lines that are ``met``."""

    surfaces: tuple[tuple[str, Floats], ...] = ()
    met: tuple[Met, ...] = ()


@query
def surveyed(q: Engine) -> tuple[tuple[str, ...], shapely.STRtree]:
    """Survey lines by place: ids and a tree of their paths."""
    ids = parts.ids(q, SurveyLine)
    return ids, shapely.STRtree([shapely.LineString(vertices(q, i)[:, :2]) for i in ids])


@query
def across(q: Engine, street: str, s: float, reach: float) -> Across:
    """What else lies within ``reach`` metres to either side of a street at a chainage."""
    at = chain_of(q, street).at([s])
    centre, left = at.points[0], left_normals(at.headings)[0]
    ends = np.array([centre + reach * left, centre - reach * left])
    surfaces = []
    for name, surface in other_surfaces(q):
        cut = cross_segments(surface, ends[:1], ends[1:])
        if np.isfinite(cut.level).sum() > 1:
            surfaces.append((name, frozen(np.column_stack([cut.along - reach, cut.level]))))
    met = [*_survey_lines(q, ends, centre, left), *_streets(q, street, ends, reach)]
    return Across(tuple(surfaces), tuple(sorted(met, key=lambda m: m.x)))


def _survey_lines(q: Engine, ends: Floats, centre: Floats, left: Floats) -> list[Met]:
    ids, tree = surveyed(q)
    section, found = shapely.LineString(ends), []
    for k in sorted(tree.query(section, predicate="intersects").tolist()):
        made = q.attempt(line, SurveyedLine(ids[k]))
        if isinstance(made, Unsolved):
            continue
        where = shapely.get_coordinates(shapely.intersection(section, tree.geometries[k]))
        levels = made.rule.levels(made.plan.foot(where)[0]) if len(where) else np.empty(0)
        role = "near" if parts.one(q, SurveyLine, ids[k]).least_cover > 0 else "ground"
        found += [
            Met(made.title, float((p - centre) @ -left), float(z), role)
            for p, z in zip(where, levels)
            if np.isfinite(z)
        ]
    return found


def _streets(q: Engine, street: str, ends: Floats, reach: float) -> list[Met]:
    (w, s), (e, n) = ends.min(axis=0).tolist(), ends.max(axis=0).tolist()
    section, found = Chain.from_points(ends), []
    for other in streets_in(q, (w, s, e, n)):
        made = q.attempt(line, StreetLine(other)) if other != street else None
        if made is None or isinstance(made, Unsolved):
            continue
        for along, at in crossings(section, made.plan.base).tolist():
            z = float(made.rule.levels([at])[0])
            if np.isfinite(z):
                found.append(Met(name_of(q, other), along - reach, z, "crown"))
    return found
