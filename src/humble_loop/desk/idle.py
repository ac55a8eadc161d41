"""Work that a glance does not need: done in slices between frames, the latest wish first."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import AbstractContextManager, nullcontext

from PySide6.QtCore import QCoreApplication, QObject, QTimer
from shiboken6 import isValid

from humble_loop.engine.query import Cancelled

_SLICE = 0.006  # seconds of work between two frames
_PATIENCE = 0.02  # seconds that a step may take at first
_DOUBLED = 3  # times that these are doubled, one try after the other
_OFTEN = 40  # tries, after which they are doubled once more: it seems to find nothing out that stays
_MOST = 4  # times that they are doubled at all, to a third of a second: what is found out by then does stay


Step = Callable[[], object]
Steps = Iterator[Step | None]
Within = Callable[[float], AbstractContextManager[object]]


class IdleWork(QObject):
    """A list of small steps that is worked when nothing else is to be done.

    A step that returns an iterator has steps of its own, which it yields: they follow at once (None: it has done
    something itself). Of several lists one is worked between two frames, and then the next.

    A step is done ``within`` some seconds, in which Cancelled may be raised: then it is tried again after the next
    frame, and is given more time, since what it has found out by then stays known.
    """

    def __init__(self, parent: QObject, within: Within = nullcontext) -> None:
        super().__init__(parent)
        self._within, self._tries = within, 0
        self._steps: list[Step | Steps] = []
        self._timer = QTimer(self)
        self._timer.setSingleShot(True)
        self._timer.timeout.connect(lambda: _turns().line_up(self))

    def begin(self, steps: Iterable[Step], after: int = 90) -> None:
        """Forget what was left to do and begin these steps, ``after`` milliseconds from now."""
        self._steps, self._tries = list(steps), 0
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
            step = steps.pop(0)
            if isinstance(step, Iterator):
                steps[:0] = _next_of(step)
                continue
            try:
                with self._within(_PATIENCE * 2 ** min(self._tries, _DOUBLED + self._tries // _OFTEN, _MOST)):
                    made = step()
            except Cancelled:
                steps.insert(0, step)
                self._tries += 1
                break
            self._tries = 0
            if isinstance(made, Iterator):
                steps.insert(0, made)
        return bool(self._steps) and not self._timer.isActive()


def _next_of(steps: Steps) -> list[Step | Steps]:
    """The next of some steps, if it is one, and then the others; nothing when there are none left."""
    for step in steps:
        return [steps] if step is None else [step, steps]
    return []


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
