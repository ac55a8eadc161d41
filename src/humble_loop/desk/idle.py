"""Work that a glance does not need: done in slices between frames, the latest wish first."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from functools import partial

from PySide6.QtCore import QCoreApplication, QObject, QTimer
from shiboken6 import isValid

_SLICE = 0.006  # seconds of work between two frames


class IdleWork(QObject):
    """A list of small steps that is worked when nothing else is to be done.

    A step that returns an iterator has steps of its own: they follow at once. Of several lists one is worked between
    two frames, and then the next.
    """

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._steps: list[Callable[[], object]] = []
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(lambda: _turns().line_up(self))

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

    def work(self) -> bool:
        """Do a slice of the steps, unless they are to begin later; whether some are left to be done at once."""
        steps, until = self._steps, time.perf_counter() + _SLICE
        while steps and not self._timer.isActive() and time.perf_counter() < until:
            made = steps.pop(0)()
            if isinstance(made, Iterator):
                steps.insert(0, partial(_further, made))
        return bool(self._steps) and not self._timer.isActive()


class _Turns(QObject):
    """Whose turn it is: one slice between two frames, whoever has work."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._waiting: list[IdleWork] = []
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(self._next)

    def line_up(self, work: IdleWork) -> None:
        if work not in self._waiting:
            self._waiting.append(work)
        self._timer.start(0)

    def _next(self) -> None:
        self._waiting = [work for work in self._waiting if isValid(work)]  # a view may have gone
        if self._waiting:
            work = self._waiting.pop(0)
            if work.work():
                self.line_up(work)
        if self._waiting:
            self._timer.start(0)


_of_this_application: list[_Turns] = []


def _turns() -> _Turns:
    if not _of_this_application or not isValid(_of_this_application[0]):
        application = QCoreApplication.instance()
        assert application is not None
        _of_this_application[:] = [_Turns(application)]
    return _of_this_application[0]


def _further(steps: Iterator[object]) -> Iterator[object] | None:
    """Do the next of some steps; returns them while there are any left."""
    for _ in steps:
        return steps
    return None
