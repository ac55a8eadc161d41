"""Where a vectorised function crosses zero.

SciPy has root finders, but loading them is a sixth of the application's start, and they ask one value at a time where
our functions answer a whole array for the same cost.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from humble_loop.geometry.arrays import Floats

_POINTS = 33


def zero_between(function: Callable[[Floats], Floats], low: float, high: float) -> float:
    """The place in [low, high] where ``function`` (array in, array out) first changes sign, to the last digits.

    The bracket shrinks 32-fold at each call. Raises ValueError when there is no change of sign.
    """
    for _ in range(14):
        s = np.linspace(low, high, _POINTS)
        positive = function(s) > 0
        change = np.flatnonzero(positive[1:] != positive[:-1])
        if not change.size:
            raise ValueError("there is no change of sign between the two places")
        i = int(change[0])
        low, high = float(s[i]), float(s[i + 1])
        if high - low <= 4e-16 * max(1.0, abs(high)):
            break
    return 0.5 * (low + high)
