"""Where a vectorised function crosses zero.

SciPy has root finders, but loading them is a sixth of the application's start, and they ask one value at a time where
our functions answer a whole array for the same cost.
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from humble_loop.geometry.arrays import Floats, clipped

# Where in the bracket to look: evenly, and close about where a straight line between its ends would cross.
_EVEN = np.linspace(0.0, 1.0, 17)
_CLOSE = np.array([-1e-2, -1e-4, -1e-7, -1e-10, 1e-10, 1e-7, 1e-4, 1e-2])


def zero_between(function: Callable[[Floats], Floats], low: float, high: float) -> float:
    """The place in [low, high] where ``function`` (array in, array out) first changes sign, to the last digits.

    Each call shrinks the bracket at least 16-fold, and far more once the function is nearly straight in it. Raises
    ValueError when there is no change of sign.
    """
    crossing = 0.5
    for _ in range(16):
        share = np.unique(clipped(np.concatenate([_EVEN, crossing + _CLOSE]), 0.0, 1.0))
        s = low + share * (high - low)
        value = function(s)
        change = np.flatnonzero((value[1:] > 0) != (value[:-1] > 0))
        if not change.size:
            raise ValueError("there is no change of sign between the two places")
        i = int(change[0])
        low, high = float(s[i]), float(s[i + 1])
        crossing = float(value[i] / (value[i] - value[i + 1]))
        if high - low <= 1e-15 * max(1.0, abs(high)):
            break
    return low + crossing * (high - low)
