"""What a survey or design file holds once it is read, whatever format it came in."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import NamedTuple

import numpy as np

from humble_loop.geometry.arrays import Floats
from humble_loop.ground.surface import Problem, Surface
from humble_loop.kinds.street.measured import SectionsFound
from humble_loop.kinds.street.model import Bend, Vip
from humble_loop.kinds.survey_line.model import SurveyLine

Progress = Callable[[float, str], None]

METRES = {
    "m": 1.0,
    "dm": 0.1,
    "cm": 0.01,
    "mm": 0.001,
    "km": 1000.0,
    "in": 0.0254,
    "ft": 0.3048,
    "us-ft": 1200.0 / 3937.0,
    "yd": 0.9144,
    "mi": 1609.344,
}


def no_progress(share: float, words: str) -> None:
    """Progress that nobody watches."""
    del share, words


@dataclass
class StreetIn:
    """A street found in a file: its bends and, where the file has a profile, its VIPs; where it has cross sections, what they
    say of the street's own.
    """

    name: str
    bends: list[Bend]
    vips: list[Vip] = field(default_factory=list)
    sections: SectionsFound | None = None


class SurfaceIn(NamedTuple):
    """A surface found in a file; ``proposed`` where the file says that it is a design and not what is there."""

    name: str
    surface: Surface
    proposed: bool = False


@dataclass
class Bundle:
    """Everything found in one file, in metres.

    ``points`` (n, 3) and ``breaklines`` (each (k, 3)) wait to be triangulated; ``surfaces`` are ready.
    """

    points: Floats = field(default_factory=lambda: np.empty((0, 3)))
    breaklines: list[Floats] = field(default_factory=list)
    surfaces: list[SurfaceIn] = field(default_factory=list)
    lines: list[SurveyLine] = field(default_factory=list)
    streets: list[StreetIn] = field(default_factory=list)
    problems: list[Problem] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)

    @property
    def empty(self) -> bool:
        """Whether nothing usable was found."""
        return not (len(self.points) or self.breaklines or self.surfaces or self.lines or self.streets)
