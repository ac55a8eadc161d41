"""The strip: the chosen street straightened out, with returns, lots, bulb and crossings at their chainages."""

from __future__ import annotations

from PySide6.QtCore import QRectF, Qt, Signal
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent
from PySide6.QtWidgets import QWidget

from humble_loop.desk.follower import Follower
from humble_loop.desk.long_section import LongSection
from humble_loop.desk.session import Chosen, Session
from humble_loop.desk.theme import Theme, font
from humble_loop.solve import parts
from humble_loop.solve.engine import Unsolved
from humble_loop.solve.head import head_of, head_outline
from humble_loop.solve.junction import SIDES
from humble_loop.solve.lot import frontage_stretches, lots
from humble_loop.solve.section import gaps, is_new, strip_range
from humble_loop.solve.street import centreline


class Strip(QWidget):
    """A ribbon under the long section on the same chainage axis."""

    stationed = Signal(float)

    def __init__(self, session: Session, section: LongSection, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._session, self._section = session, section
        self._theme: Theme | None = None
        self._boxes: list[tuple[QRectF, str, str]] = []
        self.setFixedHeight(58)
        self.setMouseTracking(True)
        self._follower = Follower(session, self.update, self, lambda: False)
        session.chosen_changed.connect(self.update)
        session.cursor_moved.connect(self._on_cursor)
        section.plotItem.vb.sigRangeChanged.connect(self.update)

    def _on_cursor(self) -> None:
        if not self._session.dragging:
            self.update()

    def paint_in(self, theme: Theme) -> None:
        """Take a theme's colours."""
        self._theme = theme
        self.update()

    def _x(self, chainage: float) -> float:
        return float(self._section.pixel((chainage, 0.0)).x())

    def paintEvent(self, event: QPaintEvent) -> None:
        del event
        painter = QPainter(self)
        t, street, q = self._theme, self._section.street, self._session.engine
        if t is None:
            return
        painter.fillRect(self.rect(), t.colour("paper"))
        self._boxes = []
        line = q.attempt(centreline, street) if street else None
        if line is None or isinstance(line, Unsolved):
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        middle = self.height() / 2
        for side, sign in ((SIDES[0], -1.0), (SIDES[1], 1.0)):
            low, high = strip_range(q, street, side) if is_new(q, street) else (0.0, line.chain.total)
            y = middle + sign * 7
            painter.setPen(t.pen("left_lip" if side == "left" else "right_lip", 2.0))
            holes = gaps(q, street, side)
            starts, ends = [low, *(b for _, b in holes)], [*(a for a, _ in holes), high]
            for a, b in zip(starts, ends):
                painter.drawLine(int(self._x(a)), int(y), int(self._x(b)), int(y))
            painter.setPen(t.pen("chosen", 1.6))
            for a, b in holes:
                for x, way in ((self._x(a), 1.0), (self._x(b), -1.0)):
                    painter.drawLine(int(x), int(y), int(x + 5 * way), int(y + sign * 12))
        painter.setPen(t.pen("crown", 1.2, Qt.PenStyle.DashDotLine))
        painter.drawLine(int(self._x(0)), int(middle), int(self._x(line.chain.total)), int(middle))
        self._draw_lots(painter, t, street, middle)
        self._draw_head(painter, t, street, middle)
        station = self._session.station
        if station is not None and station[0] == street:
            painter.setPen(t.pen("chosen", 1.0, alpha=170))
            x = int(self._x(station[1]))
            painter.drawLine(x, 0, x, self.height())

    def _draw_lots(self, painter: QPainter, t: Theme, street: str, middle: float) -> None:
        q = self._session.engine
        painter.setFont(font(11))
        for lot in lots(q, street):
            if lot.row.place == "head":
                continue
            stretch = next((s for s in frontage_stretches(q, street, lot) if s[0][0] == "side"), None)
            if stretch is None:
                continue
            x0, x1 = self._x(stretch[1]), self._x(stretch[2])
            y = 1.0 if lot.row.place == "left" else middle + 13
            box = QRectF(x0 + 1, y, max(x1 - x0 - 2, 4), middle - 14)
            chosen = self._session.chosen.detail == lot.name
            painter.setPen(t.pen("chosen" if chosen else "lot", 1.6 if chosen else 1.0))
            painter.setBrush(t.colour("panel"))
            painter.drawRect(box)
            painter.setPen(t.colour("quiet"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, lot.name.rsplit(" ", 1)[-1])
            self._boxes.append((box, lot.name, street))

    def _draw_head(self, painter: QPainter, t: Theme, street: str, middle: float) -> None:
        q = self._session.engine
        if head_of(q, street) is None:
            return
        made = q.attempt(head_outline, street)
        if isinstance(made, Unsolved):
            return
        x = self._x(min(made.base_left, made.base_right))
        painter.setPen(t.pen("crown", 1.6))
        painter.setBrush(Qt.BrushStyle.NoBrush)
        painter.drawArc(QRectF(x, middle - 12, 26, 24), -120 * 16, 240 * 16)
        painter.setFont(font(11))
        painter.setPen(t.colour("quiet"))
        painter.drawText(QRectF(x + 30, middle - 9, 60, 18), Qt.AlignmentFlag.AlignVCenter, "bulb")

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        place = self._section.place(event.position())
        self.stationed.emit(place[0])

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for box, name, street in self._boxes:
            if box.contains(event.position()):
                self._session.choose(Chosen("lot", street, name))
                return
        street = self._section.street
        if street in parts.street_ids(self._session.engine):
            self._session.choose(Chosen("street", street))
