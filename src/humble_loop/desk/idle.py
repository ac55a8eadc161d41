"""Work that a glance does not need: done in slices between frames, the latest wish first."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from functools import partial

from PySide6.QtCore import QObject, QTimer

_SLICE = 0.006  # seconds of work between two frames


class IdleWork(QObject):
    """A list of small steps that is worked when nothing else is to be done.

    A step that returns an iterator has steps of its own: they follow at once.
    """

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._steps: list[Callable[[], object]] = []
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._work)

    def begin(self, steps: Iterable[Callable[[], object]], after: int = 90) -> None:
        """Forget what was left to do and begin these steps, ``after`` milliseconds from now."""
        self._steps = list(steps)
        self._timer.start(after)

    def stop(self) -> None:
        """Forget what was left to do."""
        self._steps = []
        self._timer.stop()

    @property
    def busy(self) -> bool:
        """Whether something is left to do."""
        return bool(self._steps) or self._timer.isActive()

    def _work(self) -> None:
        until = time.perf_counter() + _SLICE
        while self._steps and time.perf_counter() < until:
            made = self._steps.pop(0)()
            if isinstance(made, Iterator):
                self._steps.insert(0, partial(_further, made))
        if self._steps:
            self._timer.start(0)


def _further(steps: Iterator[object]) -> Iterator[object] | None:
    """Do the next of some steps; returns them while there are any left."""
    for _ in steps:
        return steps
    return None
