"""The tie map: what the chosen thing follows, what follows it, and what moves with the level in hand. Each name leads on."""

from __future__ import annotations

from functools import partial
from typing import Any

from PySide6.QtCore import QPointF, QRectF, QSize, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPaintEvent, QPolygonF
from PySide6.QtWidgets import QScrollArea, QSizePolicy, QVBoxLayout, QWidget

from humble_loop.desk.follower import InTime
from humble_loop.desk.painting import guarded
from humble_loop.desk.session import Session
from humble_loop.desk.theme import Theme, font
from humble_loop.engine.query import Engine, Unsolved
from humble_loop.formats.quantities import show_chainage, show_length
from humble_loop.kinds.kerb_line.levels import as_it_runs
from humble_loop.lines.kind import Following
from humble_loop.lines.line import ThingId
from humble_loop.whole.following import Around, Moved, around, moves
from humble_loop.whole.things import exists, name_of, thing_of

_ROW, _BOX, _LEFT, _SPINE = (
    30,
    22,
    24,
    12,
)  # pixels: from row to row, a box's height, where boxes begin, and where the line runs
_MOST = 40  # rows of each part
_BY = 0.01  # metres by which the level in hand is moved, as it is told


class _Drawing(QWidget):
    """The map itself, as high as it needs to be."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self._session = session
        self.theme: Theme | None = None
        self.around: Around | None = None
        self.moved: tuple[Moved, ...] = ()
        self.names: dict[ThingId | None, str] = {}
        self._places: list[tuple[QRectF, ThingId]] = []
        self.setMouseTracking(True)
        self.setSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Fixed)

    def show_map(self, made: Around | None, moved: tuple[Moved, ...], names: dict[ThingId | None, str]) -> None:
        """Show another map."""
        self.around, self.moved, self.names = made, moved, names
        rows = 1 if made is None else 3 + len(made.leaders[:_MOST]) + len(made.followers[:_MOST])
        self.setFixedHeight(_ROW * rows + (24 + 18 * len(moved[:_MOST]) if moved else 0) + 12)
        self.update()

    def sizeHint(self) -> QSize:
        return QSize(200, self.height())

    def paintEvent(self, event: QPaintEvent) -> None:
        del event
        if self.theme is not None:
            with QPainter(self) as painter:
                guarded(painter, partial(self._paint, self.theme))

    def _paint(self, t: Theme, painter: QPainter) -> None:
        self._places = []
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setFont(font(12))
        if self.around is None:
            painter.setPen(t.colour("quiet"))
            painter.drawText(QPointF(8, 20), "Choose a street, a tie or a line to see what it follows")
            return
        y = 4.0
        leaders, followers = self.around.leaders[:_MOST], self.around.followers[:_MOST]
        y = self._group(t, painter, y, "follows", leaders, True)
        own = QRectF(4, y, self.width() - 12, _BOX)
        painter.setPen(t.pen("chosen", 1.6))
        painter.setBrush(t.colour("chosen", 40))
        painter.drawRoundedRect(own, 3, 3)
        self._say(t, painter, own.adjusted(8, 0, -4, 0), self.names.get(self.around.thing, ""), "ink", 600)
        self._places.append((own, self.around.thing))
        y = self._group(t, painter, y + _ROW, "is followed by", followers, False)
        if self.moved:
            self._moves(t, painter, y + 4)

    def _group(
        self, t: Theme, painter: QPainter, y: float, words: str, found: tuple[Following, ...], above: bool
    ) -> float:
        """The things on one side of the chosen one, with lines to it; returns where the next begins."""
        said = words if found else f"{words} nothing"
        self._say(t, painter, QRectF(_LEFT, y, self.width() - _LEFT - 8, _BOX), said, "quiet", 400)
        if not found:
            return y + _ROW
        first = y + _ROW
        for k, f in enumerate(found):
            top, thing = first + _ROW * k, f.leader if above else f.follower
            middle = top + 0.5 * _BOX
            box = QRectF(_LEFT, top, 0.56 * (self.width() - _LEFT - 8), _BOX)
            painter.setPen(t.pen("window", 1.4))
            painter.drawLine(QPointF(_SPINE, middle), QPointF(_LEFT, middle))
            painter.setPen(t.pen("line", 1.0))
            painter.setBrush(t.colour("panel"))
            painter.drawRoundedRect(box, 3, 3)
            self._say(t, painter, box.adjusted(6, 0, -4, 0), self.names.get(thing, "the ground"), "ink", 500)
            label = QRectF(box.right() + 6, top, self.width() - box.right() - 14, _BOX)
            self._say(t, painter, label, f.words, "window" if f.by else "quiet", 500)
            if thing is not None:
                self._places.append((box, thing))
            if f.by is not None:
                self._places.append((label, f.by))
        last = first + _ROW * (len(found) - 1) + 0.5 * _BOX
        painter.setPen(t.pen("window", 1.4))
        # The line runs from those that lead down into those that follow, and says so by its arrow.
        begin, end = (first + 0.5 * _BOX, last + _ROW - 0.5 * _BOX) if above else (y - _ROW + _BOX, last)
        painter.drawLine(QPointF(_SPINE, begin), QPointF(_SPINE, end))
        painter.setBrush(t.colour("window"))
        tips = [end] if above else [first + _ROW * k + 0.5 * _BOX for k in range(len(found))]
        for tip in tips:
            at = QPointF(_SPINE, tip) if above else QPointF(_LEFT, tip)
            shape = [(0.0, 0.0), (-4.0, -6.0), (4.0, -6.0)] if above else [(0.0, 0.0), (-6.0, -4.0), (-6.0, 4.0)]
            painter.drawPolygon(QPolygonF([at + QPointF(dx, dy) for dx, dy in shape]))
        return first + _ROW * len(found)

    def _moves(self, t: Theme, painter: QPainter, y: float) -> None:
        unit, settings = self._session.site.settings.units, self._session.site.settings
        self._say(t, painter, QRectF(4, y, self.width() - 8, 20), "10 mm up at the VIP in hand moves", "quiet", 400)
        for k, m in enumerate(self.moved[:_MOST]):
            row = QRectF(8, y + 22 + 18 * k, self.width() - 16, 18)
            self._say(t, painter, row.adjusted(0, 0, -118, 0), m.title, "ink", 400)
            by = show_length(_BY * m.most, unit, 4).replace("-", "−")
            at = show_chainage(m.chainage, settings.chainage_format, unit)
            painter.drawText(row, Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter, f"{by} at {at}")
            self._places.append((row, thing_of(self._session.engine, m.line)))

    def _say(self, t: Theme, painter: QPainter, box: QRectF, words: str, role: str, weight: int) -> None:
        painter.setFont(font(12, weight))
        painter.setPen(t.colour(role))
        kept = painter.fontMetrics().elidedText(words, Qt.TextElideMode.ElideRight, int(box.width()))
        painter.drawText(box, Qt.AlignmentFlag.AlignLeft | Qt.AlignmentFlag.AlignVCenter, kept)

    def thing_at(self, at: QPointF) -> ThingId | None:
        """What a click at a place of the map leads on to."""
        return next((thing for box, thing in self._places if box.contains(at)), None)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        found = self.thing_at(event.position())
        self.setCursor(Qt.CursorShape.PointingHandCursor if found else Qt.CursorShape.ArrowCursor)
        self.setToolTip(name_of(self._session.engine, found) if found else "")

    def mousePressEvent(self, event: QMouseEvent) -> None:
        found = self.thing_at(event.position())
        if found is not None:
            self._session.choose(found)


class TieMap(QScrollArea):
    """A small drawing of what the chosen thing follows and what follows it."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._session = session
        self.drawing = _Drawing(session)
        page = QWidget()
        page.setObjectName("panel")
        column = QVBoxLayout(page)
        column.setContentsMargins(8, 2, 2, 2)
        column.addWidget(self.drawing)
        column.addStretch(1)
        self.setWidget(page)
        self.setWidgetResizable(True)
        self.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.in_time = InTime(session, self._refresh, self)

    def paint_in(self, theme: Theme) -> None:
        """Take a theme's colours."""
        self.drawing.theme = theme
        self.drawing.update()

    def refresh(self) -> None:
        """Show the chosen thing's map, if it is looked at."""
        if self.isVisible():
            self.in_time.now()

    def _refresh(self) -> None:
        q, thing = self._session.engine, self._session.thing
        if thing is None or not exists(q, thing) or self._session.dragging:
            self.drawing.show_map(None, (), {}) if thing is None else None
            return
        try:
            made = around(q, thing)
        except Unsolved:
            self.drawing.show_map(None, (), {})
            return
        things = {made.thing, *(f.leader for f in made.leaders), *(f.follower for f in made.followers)}
        names = {t: name_of(q, t) if t is not None else "the ground" for t in things}
        self.drawing.show_map(made, self._moved(q), names)

    def _moved(self, q: Engine) -> tuple[Moved, ...]:
        """What moves with the VIP in hand."""
        key = self._session.chosen.held
        if key[:1] == ("vip",):
            return _known(q, key, str(key[1]))
        if key[:1] == ("kerb vip",):
            made = q.attempt(as_it_runs, key[1])
            if not isinstance(made, Unsolved) and key[2] < len(made.index):
                return _known(q, ("kerb vip", key[1], made.index[key[2]]), made.street)
        return ()


def _known(q: Engine, key: tuple[Any, ...], street: str) -> tuple[Moved, ...]:
    found = q.attempt(moves, key, street)
    return () if isinstance(found, Unsolved) else found
