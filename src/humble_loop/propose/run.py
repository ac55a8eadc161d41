"""Levels that break the smoothness of their run, and what they were likely meant to be."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from humble_loop.geometry.arrays import Floats, Ints

_LEAST = 6  # levels that make a run
_TIMES = 8.0  # how many times the run's own unevenness a level lies off
_AT_END, _NEXT = (
    3.0,
    1.7,
)  # times more that is asked of an end and of what lies next to it: a run bends there as it likes
_OFF = 0.02  # metres that it lies off at least: less is how one walks with a staff
_BESIDE = 2  # levels on either side that are held against one
_FINE = 0.001  # metres of unevenness that every run is taken to have
_MOST = 12  # levels of a run that are told: with more it is not a run
_NORMAL = 1.4826  # times the middle of absolute values, the standard deviation of a normal spread


@dataclass(frozen=True)
class Odd:
    """A level out of its run: the ``index`` of it, how far (m) it lies ``off`` the ``smooth`` value between its neighbours, the
    ``likely`` one and why in words, and how many times the run's own unevenness ``off`` is.
    """

    index: int
    off: float
    smooth: float
    likely: float
    why: str
    times: float


def odd_levels(at: Floats, levels: Floats, decimals: int = 3) -> tuple[Odd, ...]:
    """The levels (n,) at rising places (n,) that break their run, the worst first; none where it has too few, or where most are uneven.

    Each level is held against the cubic through two neighbours on either side (the straight line on from two at an end). The
    unevenness of a run is the robust spread of these differences, so that a few bad levels do not hide themselves. The worst is
    taken out and those beside it are asked again. Ends may lie further off.
    """
    if len(at) < _LEAST or not np.all(np.diff(at) > 0.0):
        return ()
    found: list[Odd] = []
    z, taken, asked = levels.copy(), np.zeros(len(at), dtype=bool), np.full(len(at), _TIMES)
    asked[[0, -1]], asked[[1, -2]] = _AT_END * _TIMES, _NEXT * _TIMES
    near, weights = _neighbours(at)
    reach = np.sqrt(1.0 + np.sum(weights**2, axis=1))  # how many times as uneven as each level its difference is
    for _ in range(_MOST + 1):
        smooth = np.sum(weights * z[near], axis=1)
        off = (z - smooth) / reach
        k = int(np.argmax(np.where(taken, 0.0, np.abs(off) / asked)))
        # Those beside it are held against it, and say nothing of how uneven the run is.
        others = ~taken & (np.abs(np.arange(len(at)) - k) > _BESIDE)
        spread = max(_FINE, _NORMAL * float(np.median(np.abs(off[others if others.any() else ~taken]))))
        times = float(abs(off[k])) / spread
        if times < asked[k] or abs(z[k] - smooth[k]) < _OFF:
            break
        if len(found) == _MOST:
            return ()
        likely, why = _likely(float(levels[k]), float(smooth[k]), spread * float(reach[k]), decimals)
        found.append(Odd(k, float(levels[k] - smooth[k]), float(smooth[k]), likely, why, times))
        z[k], taken[k] = smooth[k], True
    return tuple(sorted(found, key=lambda o: -abs(o.off)))


def _neighbours(at: Floats) -> tuple[Ints, Floats]:
    """Of each place, up to four neighbours (n, 4) and the weights (n, 4) of their levels in the polynomial through them (Lagrange);
    no weight for one that is not there.
    """
    n = len(at)
    near = np.arange(n)[:, None] + np.array([-2, -1, 1, 2])
    near[0], near[-1] = [1, 2, -1, -1], [n - 2, n - 3, -1, -1]  # an end: straight on from two
    there = (near >= 0) & (near < n)
    near = np.where(there, near, 0)
    x, weights = at[near], there.astype(np.float64)
    for m in range(4):
        for k in range(4):
            if k != m:
                both = there[:, k] & there[:, m]
                run = np.where(both, x[:, k] - x[:, m], 1.0)
                weights[:, k] *= np.where(both, (at - x[:, m]) / run, 1.0)
    return near, weights


def _likely(level: float, smooth: float, near: float, decimals: int) -> tuple[float, str]:
    """The level that was likely meant: two digits swapped, else one mistyped, else the smooth one."""
    text = f"{abs(level):.{decimals}f}"
    digits = [k for k, c in enumerate(text) if c.isdigit()]
    close = max(4.0 * near, 4.0 * 10.0**-decimals)

    def read(t: str) -> float:
        return float(np.copysign(float(t), level))

    swapped = []
    for a, b in zip(digits[:-1], digits[1:]):
        made = list(text)
        made[a], made[b] = made[b], made[a]
        swapped.append(read("".join(made)))
    typed = [read(text[:k] + c + text[k + 1 :]) for k in digits for c in "0123456789"]
    for values, words in ((swapped, "two digits swapped"), (typed, "one digit mistyped")):
        others = [v for v in values if v != level]
        best = min(others, key=lambda v: abs(v - smooth), default=level)
        if abs(best - smooth) <= close and best != level:
            return best, words
    return round(smooth, decimals), "between its neighbours"
