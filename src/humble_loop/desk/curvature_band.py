"""The curvature of the chosen street in plan, under its long section: straights, arcs and transitions at their chainages."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QMouseEvent, QPainter, QPolygonF
from PySide6.QtWidgets import QToolTip, QWidget

from humble_loop.desk.chainage_band import ChainageBand
from humble_loop.desk.long_section import LongSection
from humble_loop.desk.session import Session
from humble_loop.desk.theme import Theme, font
from humble_loop.desk.values import show
from humble_loop.engine.query import Unsolved
from humble_loop.geometry.chain import ARC, STRAIGHT
from humble_loop.kinds.street.elements import KINK, ElementRow, elements
from humble_loop.lines.line import ThingId

_HIGH, _LEAST = 9.0, 3.0  # pixels from the axis to the sharpest curve, and to any other at least
_NEAR = 4.0  # pixels beside a kink within which it is meant


class CurvatureBand(ChainageBand):
    """A band on the chainage axis of the long section: left-hand curves above the axis, right-hand curves below it, as far
    from it as they are sharp.
    """

    def __init__(self, session: Session, section: LongSection, parent: QWidget | None = None) -> None:
        super().__init__(session, section, 30, parent)
        self.elements: tuple[ElementRow, ...] = ()

    def _refresh(self) -> None:
        self._street = self._session.street
        made = self._session.engine.attempt(elements, self._street) if self._street else ()
        self.elements = () if isinstance(made, Unsolved) else made
        self.update()

    def _paint(self, t: Theme, painter: QPainter) -> None:
        painter.fillRect(self.rect(), t.colour("paper"))
        if not self.elements:
            return
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        middle = 0.5 * self.height()
        painter.setPen(t.pen("quiet", 1.0))
        painter.drawLine(QPointF(self.pixel(0.0), middle), QPointF(self.pixel(self.elements[-1].end), middle))
        sharpest = max((1.0 / min(e.radii) for e in self.elements if e.kind not in (STRAIGHT, KINK)), default=1.0)
        for e in self.elements:
            self._draw(painter, t, e, middle, sharpest)
        self._paint_cursor(t, painter)

    def _draw(self, painter: QPainter, t: Theme, e: ElementRow, middle: float, sharpest: float) -> None:
        a, b = self.pixel(e.start), self.pixel(e.end)
        if not self.in_view(a, b):
            return
        chosen = self._session.chosen.held == ("bend", self._street, e.bend) and e.kind != STRAIGHT
        if e.kind == KINK:
            painter.setPen(t.pen("broken", 2.4 if chosen else 1.6))
            painter.drawLine(QPointF(a, middle - _HIGH), QPointF(a, middle + _HIGH))
            return
        up = -1.0 if e.deflection > 0 else 1.0  # a pixel further down is further right
        if e.kind != STRAIGHT:
            first, last = (self._height(1.0 / r, sharpest) for r in e.radii)
            shape = [(a, 0.0), (a, first), (b, last), (b, 0.0)]
            painter.setPen(t.pen("chosen" if chosen else "crown", 1.8 if chosen else 1.2))
            painter.setBrush(t.colour("chosen" if chosen else "crown", 60 if chosen else 28))
            painter.drawPolygon(QPolygonF([QPointF(x, middle + up * h) for x, h in shape]))
        painter.setPen(t.pen("quiet", 1.0))
        for x in (a, b):
            painter.drawLine(QPointF(x, middle - 3.0), QPointF(x, middle + 3.0))
        if e.kind in (ARC, STRAIGHT):
            length = e.radii[0] if e.kind == ARC else e.length
            words = ("R " if e.kind == ARC else "") + show("length", length, self._session.site.settings)
            # Beside the axis where nothing is drawn.
            top = 0.0 if e.kind == STRAIGHT or up > 0 else middle + 1.0
            self._text(painter, t, QRectF(a, top, b - a, middle - 1.0), words)

    @staticmethod
    def _height(curvature: float, sharpest: float) -> float:
        return 0.0 if curvature == 0.0 else max(_HIGH * curvature / sharpest, _LEAST)

    def _text(self, painter: QPainter, t: Theme, box: QRectF, words: str) -> None:
        """Words in a box, left out where they do not fit."""
        painter.setFont(font(11))
        if painter.fontMetrics().horizontalAdvance(words) + 4 <= box.width() and box.right() <= self.width():
            painter.setPen(t.colour("quiet"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

    def at(self, x: float) -> ElementRow | None:
        """The element at a pixel; a kink before what it lies between."""
        kinks = (e for e in self.elements if e.kind == KINK and abs(self.pixel(e.start) - x) <= _NEAR)
        others = (e for e in self.elements if e.kind != KINK and self.pixel(e.start) <= x <= self.pixel(e.end))
        return next(kinks, None) or next(others, None)

    def words(self, e: ElementRow) -> str:
        """What an element is, for the mouse over it."""
        settings = self._session.site.settings
        turn = show("turn", e.deflection, settings)
        if e.kind == KINK:
            return f"kink, turns {turn}"
        length = f"{e.kind}, {show('length', e.length, settings)}"
        if e.kind == STRAIGHT:
            return length
        radii = [show("length", r, settings) for r in dict.fromkeys(e.radii) if np.isfinite(r)]
        return f"{length}, radius {' to '.join(radii)}, turns {turn}"

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        super().mouseMoveEvent(event)
        found = self.at(event.position().x())
        QToolTip.showText(event.globalPosition().toPoint(), self.words(found) if found else "", self)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        found = self.at(event.position().x())
        if self._street:
            held = () if found is None or found.kind == STRAIGHT else ("bend", self._street, found.bend)
            self._session.choose(ThingId("street", self._street), held)
