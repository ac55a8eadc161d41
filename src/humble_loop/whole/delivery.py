"""What the site delivers to writers: one description, and the only thing that formats read of the worked-out site.

Eastings and northings are as people know them.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.gradeline import Profile
from humble_loop.geometry.polyline import thinned
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.lines.describe import SetOutPoint
from humble_loop.lines.line import line, line_plan
from humble_loop.lines.rules import InStretches, OnGradeLine
from humble_loop.lines.standing import kind_of
from humble_loop.site import parts
from humble_loop.whole.finished import whole_surface
from humble_loop.whole.tables import set_out_points
from humble_loop.whole.things import all_things, name_of

_SAG = 0.002  # metres between a delivered chord and its curve


@dataclass(frozen=True)
class Alignment:
    """A centreline with its grade line: the chain, and the profile or None."""

    name: str
    chain: Chain
    profile: Profile | None


@dataclass(frozen=True)
class DeliveredLine:
    """An unbroken run of a line: points (n, 3), its title and its role."""

    title: str
    role: str
    points: Floats


@dataclass(frozen=True)
class Land:
    """A parcel: outline (n, 2) and area in m2."""

    name: str
    outline: Floats
    area: float


@dataclass(frozen=True)
class Delivery:
    """The site for writers, in metres."""

    name: str
    ground: Surface
    finished: Surface
    alignments: tuple[Alignment, ...]
    lines: tuple[DeliveredLine, ...]
    parcels: tuple[Land, ...]
    set_out: tuple[tuple[int, SetOutPoint], ...]
    contour_interval: float


@query
def delivery(q: Engine) -> Delivery:
    """Describe the site."""
    e, n = parts.origin(q)
    alignments: list[Alignment] = []
    lines: list[DeliveredLine] = []
    parcels: list[Land] = []
    for thing in all_things(q):
        kind = kind_of(thing.kind)
        try:
            ids = kind.lines(q, thing)
        except Unsolved:
            ids = ()
        for id in ids:
            made = q.attempt(line, id)
            plan = q.attempt(line_plan, id)
            if not isinstance(plan, Unsolved) and plan.role == "crown":
                profile = None if isinstance(made, Unsolved) else _profile(made.rule)
                alignments.append(Alignment(name_of(q, thing), plan.base.moved(e, n), profile))
            if isinstance(made, Unsolved):
                continue
            for s in made.plan.runs(_SAG, 5.0):
                points = made.points(s)
                points = points[np.isfinite(points[:, 2])]
                if len(points) > 1:
                    lines.append(DeliveredLine(made.title, made.plan.role, thinned(points, _SAG) + [e, n, 0.0]))
        parcels += [Land(p.name, p.outline + [e, n], p.area) for p in kind.parcels(q, thing)]
    finished = whole_surface(q).surface.shifted(e, n)
    interval = parts.settings(q).contour_interval
    return Delivery(
        parts.site_name(q),
        ground_of(q).shifted(e, n),
        finished,
        tuple(alignments),
        tuple(lines),
        tuple(parcels),
        tuple((k, replace(p, easting=p.easting + e, northing=p.northing + n)) for k, p in set_out_points(q)),
        interval,
    )


def _profile(rule: object) -> Profile | None:
    """The grade line of a crown's rule."""
    if isinstance(rule, InStretches):
        rule = next((r for r in rule.rules if isinstance(r, OnGradeLine)), None)
    return rule.profile if isinstance(rule, OnGradeLine) else None
