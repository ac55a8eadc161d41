"""Findings: a rule that is broken, with where, by how much, and what would mend it. Exactly met is met."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

import numpy as np

from humble_loop.engine.query import Ring, Unsolved
from humble_loop.lines.line import ThingId
from humble_loop.site.edits import Edit
from humble_loop.site.model import Site

Severity = Literal["broken", "near"]
_EQUAL = 1e-9


@dataclass(frozen=True)
class Mend:
    """An edit that would mend a finding, and its words. Mends with the same words on the same finding do the same."""

    words: str
    edit: Edit = field(compare=False)

    def apply(self, site: Site) -> Site:
        """The site with the edit made."""
        return self.edit(site)


@dataclass(frozen=True)
class Finding:
    """A rule that is broken (or nearly).

    ``of`` is the thing that it is about and ``thing`` that thing's part in words. ``value`` and ``limit`` are in SI
    units (NaN where the rule has none). ``place`` (easting and northing from the site's origin) is None where it
    has none.
    """

    rule: str
    of: ThingId
    thing: str
    message: str
    remedy: str
    value: float = float("nan")
    limit: float = float("nan")
    chainage: float = float("nan")
    place: tuple[float, float] | None = None
    severity: Severity = "broken"
    mend: Mend | None = None
    also: tuple[ThingId, ...] = ()

    @property
    def margin(self) -> float:
        """How far beyond the limit, as a share of it; 1 where there is no number."""
        if not (np.isfinite(self.value) and np.isfinite(self.limit)):
            return 1.0
        return abs(self.value - self.limit) / max(abs(self.limit), 1e-6)

    def concerns(self, thing: ThingId) -> bool:
        """Whether it is about that thing."""
        return self.of == thing or thing in self.also


def too_low(value: float, limit: float) -> bool:
    """Whether ``value`` is below ``limit``; exactly met is met."""
    return value < limit - _EQUAL * max(abs(limit), abs(value), 1e-3)


def too_high(value: float, limit: float) -> bool:
    """Whether ``value`` is above ``limit``; exactly met is met."""
    return value > limit + _EQUAL * max(abs(limit), abs(value), 1e-3)


def share(value: float) -> str:
    """A grade in words, '2.50 %'."""
    return f"{100 * value:.2f} %".replace("-", "−")


def failed(unsolved: Unsolved, of: ThingId, place: tuple[float, float] | None = None) -> Finding:
    """The finding on a thing that could not be worked out."""
    rule = RING if isinstance(unsolved, Ring) else UNSOLVED
    return Finding(rule, of, unsolved.thing, unsolved.message, unsolved.remedy, place=place)


RING, UNSOLVED = "ring of ties", "cannot be worked out"


def unique(found: list[Finding]) -> tuple[Finding, ...]:
    """Without repetitions, in order: what fails because of a thing is told once, on the first that it concerns."""
    kept: dict[tuple[object, ...], Finding] = {}
    for f in found:
        failed_once = f.rule in (RING, UNSOLVED)
        kept.setdefault((f.rule, f.thing, f.message, None if failed_once else f.place), f)
    return tuple(kept.values())


def point(p: np.ndarray) -> tuple[float, float]:
    """A place from the first two values of an array."""
    return (float(p[0]), float(p[1]))
