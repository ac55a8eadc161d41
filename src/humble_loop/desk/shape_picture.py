"""A kerb shape drawn to scale, with its points named and their measures beside them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFontMetricsF, QPainter, QPaintEvent, QPolygonF
from PySide6.QtWidgets import QSizePolicy, QWidget

from humble_loop.desk.painting import guarded
from humble_loop.desk.theme import Theme, font

_HEIGHT, _MARGIN = 108, 26  # pixels
_GROUND = 0.02  # metres that the cut ground goes on below the lowest point
_ROW = 13.0


class ShapePicture(QWidget):
    """Paints named points (name, metres out, metres up), one outwards of the other, all at one scale."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.theme: Theme | None = None
        self.shape: Sequence[tuple[str, float, float]] = ()
        self.setFixedHeight(_HEIGHT)
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)

    def show_shape(self, shape: Sequence[tuple[str, float, float]]) -> None:
        """Draw a shape; nothing for none."""
        self.shape = shape
        self.setVisible(len(shape) > 1)
        self.update()

    def places(self) -> list[QPointF]:
        """Where the points are drawn: as large as there is room for, the same scale both ways."""
        out = [x for _, x, _ in self.shape]
        up = [y for _, _, y in self.shape]
        wide, high = max(max(out) - min(out), 0.01), max(max(up) - min(up), 0.01)
        scale = min((self.width() - 4 * _MARGIN) / wide, (self.height() - 2 * _MARGIN) / (high + _GROUND))
        left = 0.5 * (self.width() - scale * wide)
        bottom = self.height() - _MARGIN - scale * _GROUND
        return [QPointF(left + scale * (x - min(out)), bottom - scale * (y - min(up))) for x, y in zip(out, up)]

    def paintEvent(self, event: QPaintEvent) -> None:
        del event
        painter = QPainter(self)
        guarded(painter, self._paint)
        painter.end()

    def _paint(self, painter: QPainter) -> None:
        if self.theme is None or len(self.shape) < 2:
            return
        t, at = self.theme, self.places()
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        base = max(p.y() for p in at) + 10.0
        painter.setPen(Qt.PenStyle.NoPen)
        painter.setBrush(t.colour("ink", 28))
        painter.drawPolygon(QPolygonF([*at, QPointF(at[-1].x(), base), QPointF(at[0].x(), base)]))
        painter.setPen(t.pen("ink", 2.0))
        painter.drawPolyline(QPolygonF(at))
        painter.setBrush(t.colour("chosen"))
        painter.setPen(Qt.PenStyle.NoPen)
        for p in at:
            painter.drawEllipse(p, 3.0, 3.0)
        self._paint_words(painter, at, base)

    def _paint_words(self, painter: QPainter, at: list[QPointF], base: float) -> None:
        """Names above their points, and how wide each piece is below; what has no room is left to the rows."""
        assert self.theme is not None
        painter.setFont(font(11, 500))
        metrics = QFontMetricsF(painter.font())
        taken: list[QRectF] = []
        for (name, out, up), p in sorted(zip(self.shape, at), key=lambda pair: pair[0][0] not in ("lip", "invert")):
            words = f"{name}  {1000 * out:g} / {1000 * up:g}".replace("-", "−")
            width = metrics.horizontalAdvance(words)
            x = min(max(p.x() - 0.5 * width, 2.0), self.width() - width - 2.0)
            for y in (p.y() - 8 - _ROW, p.y() - 8 - 2 * _ROW, p.y() - 8 - 3 * _ROW, base + 2, base + 2 + _ROW):
                box = QRectF(x, y, width, _ROW)
                free = not any(box.intersects(other) for other in taken) and not _crossed(at, box)
                if y >= 0 and box.bottom() <= self.height() and free:
                    taken.append(box)
                    painter.setPen(self.theme.colour("ink"))
                    painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextDontClip, words)
                    painter.setPen(self.theme.pen("quiet", 0.6, alpha=120))
                    painter.drawLine(QPointF(p.x(), p.y()), QPointF(p.x(), box.bottom() if y < p.y() else y))
                    break


def _crossed(line: list[QPointF], box: QRectF) -> bool:
    """Whether a line that runs from left to right passes through a box."""
    x = np.linspace(box.left(), box.right(), 24)
    y = np.interp(x, [p.x() for p in line], [p.y() for p in line], left=np.nan, right=np.nan)
    return bool(((y > box.top() - 2) & (y < box.bottom() + 2)).any())
