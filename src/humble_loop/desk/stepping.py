"""Stepping and playing along the chosen street, section by section."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QObject, QTimer

from humble_loop.desk.session import Session, Station
from humble_loop.engine.query import Cancelled, Unsolved
from humble_loop.geometry.arrays import Floats
from humble_loop.kinds.street.plan import StreetLine, chain_of
from humble_loop.kinds.street.section import rows

_PACE = 160  # milliseconds between two sections while they are played
_PATIENCE = 0.08  # seconds in which a street's rows must be known
_COARSE = 10.0  # metres between the sections of a street that has no rows
_SAME = 1e-3  # metres within which two places are one


class Stepping(QObject):
    """Moves the section cursor to the next row of the chosen street, or the one before, or on and on."""

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self._timer = QTimer(self)
        self._timer.setInterval(_PACE)
        self._timer.timeout.connect(self._play_on)
        self._street = ""

    @property
    def playing(self) -> bool:
        """Whether sections are being played."""
        return self._timer.isActive()

    def next(self) -> None:
        """To the next section."""
        self._step(1)

    def previous(self) -> None:
        """To the section before."""
        self._step(-1)

    def play(self) -> None:
        """Play the sections along the street from where the cursor is (from the start when that is the end), or stop."""
        if self.playing:
            self._timer.stop()
            return
        self._street = self._session.street
        places = self._places()
        if len(places) and self._here() >= places[-1] - _SAME:
            self._go(float(places[0]))
        if len(places):
            self._timer.start()

    def _play_on(self) -> None:
        """The next section, unless another street was chosen or something is dragged meanwhile."""
        moved = self._session.street == self._street and not self._session.dragging and self._step(1)
        if not moved:
            self._timer.stop()

    def _step(self, by: int) -> bool:
        """Whether there was another section that way."""
        places, here = self._places(), self._here()
        left = places[places > here + _SAME] if by > 0 else places[places < here - _SAME][::-1]
        if not len(left):
            self._session.said.emit("Choose a street first" if not len(places) else "The street ends here")
            return False
        self._go(float(left[0]))
        return True

    def _places(self) -> Floats:
        """Chainages of the street's sections."""
        q, street = self._session.engine, self._session.street
        try:
            with q.within(_PATIENCE):
                total = chain_of(q, street).total if street else 0.0
                made = q.attempt(rows, street) if street else np.empty(0)
        except (Unsolved, Cancelled):
            return np.empty(0)
        if isinstance(made, Unsolved):
            made = np.append(np.arange(0.0, total, _COARSE), total)
        return made[(made >= 0.0) & (made <= total)]

    def _here(self) -> float:
        station = self._session.station
        on = station is not None and getattr(station.line, "street", "") == self._session.street
        return station.chainage if on and station else -1.0

    def _go(self, chainage: float) -> None:
        street = self._session.street
        e, n = chain_of(self._session.engine, street).points_at([chainage])[0]
        self._session.point_at(float(e), float(n), Station(StreetLine(street), chainage))
