"""The kind: grounds in index, facts and plan."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.geometry.arrays import Floats
from humble_loop.ground.contour import contour_segments
from humble_loop.kinds.ground.model import Ground, choose_ground
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.lines.describe import Actions, Drawing, Fact, Label, Row, Stroke
from humble_loop.lines.findings import Finding, failed
from humble_loop.lines.kind import Kind
from humble_loop.lines.line import ThingId
from humble_loop.site import parts


class Grounds(Kind):
    """Surfaces of what is there today."""

    key, title, stage = "ground", "Ground", "Ground"
    models = (Ground,)

    def things(self, q: Engine) -> tuple[ThingId, ...]:
        return tuple(ThingId(self.key, i) for i in parts.ids(q, Ground))

    def name(self, q: Engine, thing: ThingId) -> str:
        return parts.one(q, Ground, thing.id).name

    def facts(self, q: Engine, thing: ThingId) -> tuple[Row, ...]:
        ground = parts.one(q, Ground, thing.id)
        rows: list[Row] = [
            Fact("points", "count", len(ground.surface.points)),
            Fact("triangles", "count", len(ground.surface.triangles)),
            Fact("from", "text", ground.source or "–"),
        ]
        if ground.proposed:
            rows.append(Fact("state", "text", "a design, not what is there"))
        if ground.surface.shifted(*(-v for v in parts.origin(q))) is ground_of(q):
            rows.append(Fact("current", "text", "yes: designs meet it", "set"))
        else:
            rows.append(Actions((("Make it the current ground", lambda s: choose_ground(s, thing.id)),)))
        return tuple(rows)

    def findings(self, q: Engine, thing: ThingId) -> tuple[Finding, ...]:
        made = q.attempt(_contours, thing.id)
        return (failed(made, thing),) if isinstance(made, Unsolved) else ()

    def details(self, q: Engine, thing: ThingId) -> Drawing:
        """Contours of the current ground: ordinary ones and every fifth."""
        surface = parts.one(q, Ground, thing.id).surface.shifted(*(-v for v in parts.origin(q)))
        if surface is not ground_of(q):
            return Drawing()
        interval = parts.settings(q).contour_interval
        segments, levels = _contours(q, thing.id)
        main = np.abs(np.mod(np.round(levels / interval), 5)) < 0.5
        labels = []
        for level in np.unique(levels[main]):
            pieces = segments[main][levels[main] == level]
            for k in range(len(pieces) // 3, len(pieces), max(1, len(pieces) // 2)):
                e, n = pieces[k].mean(axis=0)
                labels.append(Label((float(e), float(n)), "ground", 8, f"{level:.1f}", centred=True))
        strokes = (
            Stroke("contours", _apart(segments[~main])),
            Stroke("main contours", _apart(segments[main])),
        )
        return Drawing(strokes, (), tuple(labels))


@query
def _contours(q: Engine, ground: str) -> tuple[Floats, Floats]:
    """Contours of a ground, where it is the current one: segments (k, 2, 2) and levels (k,)."""
    kept = parts.one(q, Ground, ground)
    surface = kept.surface.shifted(*(-v for v in parts.origin(q)))
    if surface is not ground_of(q):
        return np.empty((0, 2, 2)), np.empty(0)
    try:
        return contour_segments(surface, parts.settings(q).contour_interval)
    except ValueError as error:
        raise Unsolved(
            kept.name, str(error), "set a wider interval of contours, or thin the survey's points out"
        ) from None


def _apart(segments: Floats) -> Floats:
    """Segments (k, 2, 2) as one line (3k, 2) with NaN between."""
    out = np.full((len(segments), 3, 2), np.nan)
    out[:, :2] = segments
    return out.reshape(-1, 2)
