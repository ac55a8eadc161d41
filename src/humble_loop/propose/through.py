"""Grade lines that keep beside a wanted course, through levels that are held, and the curves of their VIPs."""

from __future__ import annotations

from collections.abc import Generator, Sequence
from dataclasses import dataclass

import numpy as np

from humble_loop.geometry.arrays import Floats, unique_chainages
from humble_loop.propose.follow import fewest_straights, straights_in_tube

SAME = 1e-6  # metres between two chainages that are one
_SHORTEST = 25.0  # metres: the shortest leg that is proposed
_SHARE = 0.9  # of the steepest grade that is allowed: what is proposed leaves something for later
_WIDER = (1.0, 1.25, 1.6, 2.0, 2.5, 3.2, 4.0, 5.0, 6.5, 8.0)  # times the tolerance, until there is a line
_ROOM = 0.98  # of the legs beside it that a curve takes
_EASY = 1.5  # times the least rate of a curve that is proposed
_GAP = 0.05  # metres between places of the course


@dataclass(frozen=True)
class Course:
    """A wanted course: levels at rising chainages (n,), and how far below and above (n,) a line may be; of lines with as many
    VIPs the one nearest to ``aim`` is taken, from 0 (as low as may be) to 1.
    """

    chainages: Floats
    levels: Floats
    below: Floats
    above: Floats
    aim: float = 0.5

    def between(self, begin: float, finish: float) -> Course:
        """The course from one chainage to another."""
        s = unique_chainages([begin, finish], self.chainages, low=begin, high=finish, gap=_GAP)
        levels, below, above = (np.interp(s, self.chainages, v) for v in (self.levels, self.below, self.above))
        return Course(s, levels, below, above, self.aim)


@dataclass(frozen=True)
class GradeRules:
    """What a class asks of grades (ratios) and of curves (m, and m for each percent)."""

    least: float
    most: float
    least_curve: float
    rate: float


Stop = tuple[float, float | None]  # a chainage that the line goes through, and its level where that is held


def through(course: Course, rules: GradeRules, stops: Sequence[Stop]) -> Generator[None, None, tuple[Floats, Floats]]:
    """Chainages and levels of the fewest straights that keep to a course from the first stop to the last, in steps.

    Each stretch between two stops is worked by itself. Where no line keeps the tolerance, it is as much wider as it takes;
    where none keeps eight times as much, the grades hold and the line leaves it.
    """
    corners, levels = [np.empty(0)], [np.empty(0)]
    for k, ((a, low), (b, high)) in enumerate(zip(stops[:-1], stops[1:])):
        s, z = yield from _few_straights(course.between(a, b), rules, low, high)
        corners.append(s[k > 0 :])
        levels.append(z[k > 0 :])
    return np.concatenate(corners), np.concatenate(levels)


def _few_straights(
    course: Course, rules: GradeRules, start: float | None, end: float | None
) -> Generator[None, None, tuple[Floats, Floats]]:
    s, z, least, most = course.chainages, course.levels, rules.least, _SHARE * rules.most
    for wider in _WIDER:
        low, high = z - course.below * wider, z + course.above * wider
        shortest = min(_SHORTEST, 0.45 * float(s[-1] - s[0]))
        made = fewest_straights(
            s, low, high, start=start, end=end, least=least, most=most, shortest=shortest, aim=course.aim
        )
        if made is not None:
            return made
        yield
    corners, levels = straights_in_tube(s, low, high, start=start, least=least, most=most, shortest=_SHORTEST)
    if end is not None:
        levels = levels.copy()
        levels[-1] = end
    return corners, levels


def curves_for(corners: Floats, levels: Floats, rules: GradeRules, wanted: float | None = None) -> Floats:
    """Curve lengths (n,) at the VIPs of a line: those that are easy to drive, or the ``wanted`` length, as far as there is room."""
    changes = np.abs(np.concatenate([[0.0], np.diff(np.diff(levels) / np.diff(corners)), [0.0]]))
    legs = np.diff(corners)
    room = np.concatenate([[0.0], np.minimum(legs[:-1], legs[1:]), [0.0]])
    length = np.maximum(rules.least_curve, _EASY * rules.rate * changes * 100.0)
    if wanted is not None:
        length = np.full_like(length, wanted)
    return np.where(changes > 0, np.minimum(length, _ROOM * room), 0.0)
