"""How far a driver sees along a grade line."""

from __future__ import annotations

import numpy as np

from humble_loop.geometry.arrays import Floats, frozen
from humble_loop.geometry.gradeline import Profile

_STEP, _MOST = 1.0, 1500  # metres between places looked from, and how many there are at most
_FINE = 50  # places looked at within the distance that is wanted


def sight_along(line: Profile, reach: float, eye: float, target: float) -> tuple[Floats, Floats]:
    """Places (n,) along a line, and how far (n,), up to ``reach`` metres, a target of ``target`` metres is seen from there with
    eyes ``eye`` metres up: the shorter of both directions, to a fiftieth of ``reach``. Beyond its ends nothing hides it.

    A target is hidden where the line rises above the straight from the eyes to it: where the steepest straight from the eyes
    to the line before it is steeper than the one to its top.
    """
    begin, finish = float(line.chainages[0]), float(line.chainages[-1])
    s = np.linspace(begin, finish, int(np.clip((finish - begin) / _STEP, 1, _MOST)) + 1)
    far = reach * np.arange(1, _FINE + 1) / _FINE
    found = np.full(len(s), np.inf)
    for way in (1.0, -1.0):
        at = s[:, None] + way * far
        inside = (at >= begin) & (at <= finish)
        z = line.level(np.clip(at, begin, finish).ravel()).reshape(at.shape)
        own = line.level(s)[:, None] + eye
        steepest = np.maximum.accumulate(np.where(inside, (z - own) / far, -np.inf), axis=1)
        hidden = inside & ((z + target - own) / far < steepest - 1e-12)
        first = np.argmax(hidden, axis=1)
        seen = np.where(hidden.any(axis=1), far[np.maximum(first - 1, 0)], reach)
        found = np.minimum(found, seen)
    return frozen(s), frozen(found)


def curve_for_sight(reach: float, change: float, eye: float, target: float) -> float:
    """Metres of a crest's curve over which a target is seen from ``reach`` metres away; ``change`` of grade is a ratio.

    With h the squared sum of the roots of both heights, twice: A S^2 / 2h where the curve is longer than the sight, else
    2 S - 2h / A. (A parabola's chord stands A S^2 / 8 L above it in the middle.)
    """
    heights = 2.0 * (np.sqrt(eye) + np.sqrt(target)) ** 2
    long = abs(change) * reach**2 / heights
    return float(long if long >= reach else max(2.0 * reach - heights / max(abs(change), 1e-12), 0.0))
