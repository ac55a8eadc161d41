"""How fast the machine is just now: a fixed piece of work of the kind that Humble Loop does, beside what is measured.

Machines that are shared swing by half and more from one minute to the next, so a time alone tells little. Bounds in
seconds are meant for the machine of ``docs/performance.md`` in a quiet hour, and are stretched by what this one needs
more at the time; what was measured is printed as it was.
"""

from __future__ import annotations

import statistics
import time

import numpy as np

_QUIET = 0.074  # seconds that the work took on the machine of the figures in a quiet hour
_TIMES = 5


def slowness() -> float:
    """How many times longer than in a quiet hour the machine needs now; never less than 1."""
    return max(1.0, statistics.median(_work_seconds() for _ in range(_TIMES)) / _QUIET)


def _work_seconds() -> float:
    """Objects kept and looked up, and many short arrays: what solving and drawing mostly are."""
    began = time.perf_counter()
    kept = {}
    for i in range(60_000):
        kept[i % 97, i] = i * 1.5
    total = sum(kept.values())
    row = np.arange(200.0)
    for _ in range(4_000):
        root = np.sqrt(row * row + 1.0)
        total += float(root[row > 50.0][0])
    return time.perf_counter() - began
