"""Survey lines by their ids, and their vertices."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

import numpy as np

from humble_loop.engine.query import Engine, query
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.lines.line import LineId, ThingId
from humble_loop.site import parts


@dataclass(frozen=True)
class SurveyedLine(LineId):
    """A survey line as a line."""

    id: str
    kind: ClassVar[str] = "survey_line"

    @property
    def thing(self) -> ThingId:
        return ThingId(self.kind, self.id)


@query
def vertices(q: Engine, id: str) -> Floats:
    """Vertices (n, 3) of a survey line from the site's origin; NaN where it has no level."""
    e0, n0 = parts.origin(q)
    found = parts.one(q, SurveyLine, id).vertices
    return np.array([[e - e0, n - n0, np.nan if z is None else z] for e, n, z in found])
