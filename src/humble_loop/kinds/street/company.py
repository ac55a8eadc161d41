"""Lines that run near a street: the crowns of others, and survey lines."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.kinds.street.plan import StreetLine, box, chain_of, streets_near
from humble_loop.kinds.survey_line.lines import SurveyedLine
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.lines.line import LineId, line_plan
from humble_loop.site import parts

_FAR = 200.0  # metres from the street at which they are no longer offered
_MOST = 60
_LOOKED = 20  # places along the street


@query
def lines_near(q: Engine, street: str) -> tuple[tuple[str, LineId], ...]:
    """Lines near a street by what the file calls them, the nearest first; other streets before survey lines."""
    chain, (w, s, e, n) = chain_of(q, street), box(q, street)
    middle, reach = (0.5 * (w + e), 0.5 * (s + n)), 0.5 * max(e - w, n - s) + _FAR
    places = chain.points_at(np.linspace(0.0, chain.total, _LOOKED))
    found: list[tuple[str, LineId]] = []
    for key, ids in (
        ("street", [StreetLine(i) for i in streets_near(q, middle, reach) if i != street]),
        ("survey_line", [SurveyedLine(i) for i in parts.ids(q, SurveyLine)]),
    ):
        near: list[tuple[float, str, LineId]] = []
        for id in ids:
            made = q.attempt(line_plan, id)
            if not isinstance(made, Unsolved):
                away = float(np.abs(made.base.feet(places).offsets).min())
                near.append((away, f"{key}:{id.thing.id}", id))
        found += [(name, id) for away, name, id in sorted(near, key=lambda x: x[:2]) if away < _FAR]
    return tuple(found[:_MOST])
