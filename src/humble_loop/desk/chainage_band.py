"""What stands under the long section on its chainage axis: bands that show the chosen street, and carry the cursor."""

from __future__ import annotations

from functools import partial

from PySide6.QtCore import QPointF, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from humble_loop.desk.follower import Follower, InTime
from humble_loop.desk.long_section import LongSection
from humble_loop.desk.painting import guarded
from humble_loop.desk.session import Session
from humble_loop.desk.theme import Theme
from humble_loop.kinds.street.plan import StreetLine

BEYOND = 60.0  # pixels beyond the band to which things are still placed


class ChainageBand(QWidget):
    """Base of bands on the chainage axis of the long section. ``_refresh`` learns what is to be shown, ``_paint`` shows it."""

    stationed = Signal(float)

    def __init__(self, session: Session, section: LongSection, height: int, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._section = session, section
        self._theme: Theme | None = None
        self._street = ""
        self.setFixedHeight(height)
        self.setMouseTracking(True)
        self.in_time = InTime(session, self._refresh, self)
        self._follower = Follower(session, self.refresh, self, lambda: False)
        session.chosen_changed.connect(self.refresh)
        session.cursor_moved.connect(self._on_cursor)
        section.plotItem.vb.sigRangeChanged.connect(self.update)

    def _on_cursor(self) -> None:
        if not self._session.dragging:
            self.update()

    def paint_in(self, theme: Theme) -> None:
        """Take a theme's colours."""
        self._theme = theme
        self.update()

    def refresh(self) -> None:
        """Show the chosen street as it is now; nothing while the long section is of a line that has an axis of its own."""
        shown = self._session.section_line
        self.setVisible(shown is None or isinstance(shown, StreetLine))
        self.in_time.now()

    def _refresh(self) -> None:
        raise NotImplementedError

    def _paint(self, t: Theme, painter: QPainter) -> None:
        raise NotImplementedError

    def pixel(self, chainage: float) -> float:
        """The pixel of a chainage, at most a little beyond the band: however near one looks, numbers stay small."""
        x = float(self._section.pixel((chainage, 0.0)).x())
        return min(max(x, -BEYOND), self.width() + BEYOND)

    def in_view(self, begin: float, finish: float) -> bool:
        """Whether something between two pixels is to be seen."""
        return finish > -BEYOND and begin < self.width() + BEYOND

    def paintEvent(self, event: QPaintEvent) -> None:
        del event
        if self._theme is not None:
            with QPainter(self) as painter:
                guarded(painter, partial(self._paint, self._theme))

    def _paint_cursor(self, t: Theme, painter: QPainter) -> None:
        """The cursor that all views share, where it is on this street."""
        station = self._session.station
        if station is not None and getattr(station.line, "street", "") == self._street:
            painter.setPen(t.pen("chosen", 1.0, alpha=170))
            x = self.pixel(station.chainage)
            painter.drawLine(QPointF(x, 0.0), QPointF(x, float(self.height())))

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        self.stationed.emit(self._section.place(event.position())[0])
