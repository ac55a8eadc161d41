"""Views that are not under the hand follow a drag after the dragged view has painted, so that they never hold it up."""

from __future__ import annotations

import time
from collections.abc import Callable

from PySide6.QtCore import QObject, QTimer

from humble_loop.desk.session import Session
from humble_loop.engine.query import Cancelled

_PATIENCE = 0.08  # seconds that views may hold the hand up before they go on in pieces
_OWN = 0.2  # seconds that a view may take of a drag in it
_BRIEFLY = 0.008  # seconds that it may while something is dragged elsewhere
_MOST_TRIES = 5  # that the shortest time is doubled
_MOST_LED = 3  # the same while something is dragged elsewhere
_AGAIN = 40  # milliseconds between two pieces
_REST = 120  # milliseconds without a move until a hand that drags is said to rest
_APART = 0.15  # seconds between two refreshes of a view that follows
_SHARE = 1 / 20  # of the time that a view that follows may take of a drag


class _Turn:
    """What all views together took since the window last had time for something else."""

    def __init__(self) -> None:
        self.took = 0.0

    def add(self, seconds: float) -> None:
        self.took += seconds
        QTimer.singleShot(0, self._end)

    def _end(self) -> None:
        self.took = 0.0


_turn = _Turn()


class InTime(QObject):
    """Refreshes a view in pieces where it takes long: what is not worked out in time is gone on with a moment later.

    Views that follow the same change share the time.

    While something is dragged that is not ``mine``, the view's own, the moment is when the hand rests.
    """

    def __init__(
        self, session: Session, refresh: Callable[[], object], parent: QObject, mine: Callable[[], bool] = lambda: False
    ) -> None:
        super().__init__(parent)
        self._session, self._refresh, self._mine = session, refresh, mine
        self._tries = 0
        self._again = QTimer(self)
        self._again.setSingleShot(True)
        self._again.timeout.connect(lambda: self.now(rested=True))
        session.drag_moved.connect(self._wait)

    def _wait(self) -> None:
        if self._again.isActive():
            self._again.start(_REST)

    @property
    def busy(self) -> bool:
        """Whether something is left to be shown."""
        return self._again.isActive()

    def at_rest(self) -> None:
        """Refresh when the hand rests, or now where nothing is dragged."""
        if self._session.dragging:
            self._again.start(_REST)
        else:
            self.now()

    def now(self, rested: bool = False) -> None:
        """Refresh, or begin to. A hand that has ``rested`` since it was begun gives more time, the more tries it took."""
        self._again.stop()
        led = self._session.dragging and not self._mine()
        patience = _BRIEFLY if led else _OWN if self._session.dragging else _PATIENCE
        began = time.perf_counter()
        try:
            # What a view does before it gets to what is not known yet may take long: the more tries, the more time it has.
            # So that they do not add up, it is one view that has it, and the others have theirs later.
            spent = _turn.took > _PATIENCE
            tries = min(self._tries, _MOST_LED if led else _MOST_TRIES)
            least = _BRIEFLY if spent or (led and not rested) else _BRIEFLY * 2**tries
            with self._session.engine.within(max(patience - _turn.took, least)):
                self._refresh()
            self._tries = 0
        except Cancelled:
            self._tries += 1
            self._again.start(_REST if led else _AGAIN)
        _turn.add(time.perf_counter() - began)


class Follower(QObject):
    """Calls ``refresh`` at every change, and while something is dragged elsewhere every ``apart`` seconds, or more seldom if it takes long."""

    def __init__(
        self,
        session: Session,
        refresh: Callable[[], object],
        parent: QObject,
        mine: Callable[[], bool],
        apart: float = _APART,
    ) -> None:
        super().__init__(parent)
        self._session, self._refresh, self._mine, self._apart = session, refresh, mine, apart
        self._behind = False
        self._last, self._took = 0.0, 0.0
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.timeout.connect(self._catch_up)
        session.changed.connect(self._on_changed)
        session.drag_moved.connect(self._wait)
        session.drag_painted.connect(self._on_painted)

    def _on_changed(self) -> None:
        if not self._session.dragging or self._mine():
            self._catch_up()
        else:
            self._behind = True

    def _wait(self) -> None:
        if self._soon.isActive():
            self._soon.start(_REST)  # the frame of this move comes first

    def _on_painted(self) -> None:
        if self._behind:
            due = self._last + max(self._apart, self._took / _SHARE) - time.monotonic()
            # Right after a frame, when there is most time until the next, or when the hand rests.
            self._soon.start(0 if due <= 0 else max(_REST, round(1000 * due)))

    def _catch_up(self) -> None:
        self._behind, self._last = False, time.monotonic()
        self._refresh()
        self._took = time.monotonic() - self._last
