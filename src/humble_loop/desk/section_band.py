"""The figures of a cross section: falls on its legs, and under it a band with each point's name, offset and level.

All is placed in pixels, so that no figure touches a line or another figure whatever the scale; what finds no room is
left out, the least wanted first.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt
from PySide6.QtGui import QFontMetricsF, QPainter, QTransform

from humble_loop.desk.layers import Layer
from humble_loop.desk.theme import font
from humble_loop.geometry.arrays import Floats

_ROW = 14.0  # pixels of one row of the band
BAND = 3 * _ROW + 8.0  # pixels of the whole band
_GAP = 5.0  # pixels between columns
_BELOW = 60.0  # pixels that a place below a leg is worth less than one above
_SIZE = 11
_RING = 3.5  # pixels from the middle of a mark to its rim


@dataclass(frozen=True)
class BandPoint:
    """A point of the section: where it is drawn, and its texts from top to bottom; a lower ``rank`` is placed first.

    What the section only meets has a ``mark``, a small ring.
    """

    x: float
    y: float
    texts: tuple[str, str, str]
    role: str
    rank: int
    mark: bool = False


@dataclass(frozen=True)
class LegFall:
    """The fall of a leg, to stand by the line from (``x0``, ``y0``) to (``x1``, ``y1``)."""

    x0: float
    y0: float
    x1: float
    y1: float
    text: str


class SectionBand(Layer):
    """Paints the figures of one section. ``columns`` and ``falls`` tell what was placed where, in pixels."""

    def __init__(self) -> None:
        super().__init__()
        self._points: Sequence[BandPoint] = ()
        self._falls: Sequence[LegFall] = ()
        self._lines: Sequence[Floats] = ()
        self._words = ""
        self.columns: list[tuple[BandPoint, QRectF]] = []
        self.falls: list[tuple[LegFall, QRectF]] = []
        self.setZValue(55)

    @property
    def words(self) -> str:
        """What stands at the top."""
        return self._words

    def show_figures(
        self, points: Sequence[BandPoint], falls: Sequence[LegFall], lines: Sequence[Floats], words: str
    ) -> None:
        """Replace the figures; ``lines`` (each (n, 2)) are what they must keep clear of, ``words`` stand at the top."""
        self._points, self._falls, self._lines = sorted(points, key=lambda p: p.rank), falls, lines
        self._words = words
        self.update()

    def draw(self, painter: QPainter) -> None:
        if self.theme is None:
            return
        shown = self.boundingRect()
        transform = self.device(painter)
        view = transform.mapRect(shown)
        self._place(transform, view)
        painter.setRenderHint(QPainter.RenderHint.TextAntialiasing)
        top = view.bottom() - BAND
        for point in (p for p in self._points if p.mark):
            painter.setPen(self.theme.pen(point.role, 1.4))
            painter.setBrush(self.theme.colour("paper"))
            painter.drawEllipse(transform.map(QPointF(point.x, point.y)), _RING, _RING)
        for point, box in self.columns:
            at = transform.map(QPointF(point.x, point.y))
            painter.setPen(self.theme.pen("quiet", 0.7, alpha=120))
            painter.drawLine(at, QPointF(at.x(), top))
            painter.setPen(self.theme.colour(point.role))
            for row, text in enumerate(point.texts):
                painter.setFont(font(_SIZE, 600 if row == 0 else 400))
                line = QRectF(box.left(), top + 4 + row * _ROW, box.width(), _ROW)
                painter.drawText(line, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextDontClip, text)
        self._paint_heads(painter, view, top)
        painter.setFont(font(_SIZE, 500))
        painter.setPen(self.theme.colour("crown"))
        for fall, box in self.falls:
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextDontClip, fall.text)
        painter.setPen(self.theme.colour("quiet"))
        painter.drawText(QRectF(view.left() + 8, view.top() + 2, view.width() - 16, _ROW), self._words)

    def _paint_heads(self, painter: QPainter, view: QRectF, top: float) -> None:
        """Say what the rows are, where there is room beside the first column."""
        assert self.theme is not None
        painter.setFont(font(_SIZE - 1))
        painter.setPen(self.theme.colour("quiet"))
        heads = ((1, "offset"), (2, "level"))
        right = view.left() + 3 + max(painter.fontMetrics().horizontalAdvance(text) for _, text in heads)
        if any(p.texts[1] for p, _ in self.columns) and all(right + _GAP < box.left() for _, box in self.columns):
            for row, text in heads:
                line = QRectF(view.left() + 3, top + 4 + row * _ROW, 10, _ROW)
                painter.drawText(line, Qt.AlignmentFlag.AlignVCenter | Qt.TextFlag.TextDontClip, text)

    def _place(self, transform: QTransform, view: QRectF) -> None:
        """Find a place for every figure that there is room for."""
        metrics = QFontMetricsF(font(_SIZE, 600))
        self.columns, self.falls = [], []
        for point in self._points:
            x = transform.map(QPointF(point.x, point.y)).x()
            width = max(metrics.horizontalAdvance(t) for t in point.texts)
            box = QRectF(x - 0.5 * width, view.bottom() - BAND, width, BAND)
            if not any(point.texts) or box.left() < view.left() or box.right() > view.right():
                continue
            if not any(box.adjusted(-_GAP, 0, _GAP, 0).intersects(other) for _, other in self.columns):
                self.columns.append((point, box))
        paths = [np.array([_xy(transform, p) for p in line if np.isfinite(p).all()]) for line in self._lines]
        height = metrics.height()
        for fall in self._falls:
            a, b = (
                transform.map(QPointF(fall.x0, fall.y0)),
                transform.map(QPointF(fall.x1, fall.y1)),
            )
            width = metrics.horizontalAdvance(fall.text)
            left, right = max(min(a.x(), b.x()), view.left()), min(max(a.x(), b.x()), view.right())
            if right - left < width + 4:
                continue
            box = QRectF(0.5 * (left + right - width), 0.0, width, height)
            place = _clear_of(paths, box, 0.5 * (a.y() + b.y()), view.adjusted(0, 0, 0, -BAND))
            if place is not None:
                self.falls.append((fall, place))


def _xy(transform: QTransform, p: Floats) -> tuple[float, float]:
    at = transform.map(QPointF(float(p[0]), float(p[1])))
    return at.x(), at.y()


def _clear_of(paths: Sequence[Floats], box: QRectF, y: float, view: QRectF) -> QRectF | None:
    """The place nearest to ``y`` where ``box`` lies on no path; above, where no leader runs, before below."""
    spans = [s for s in (_span(p, box.left() - 2, box.right() + 2) for p in paths) if s is not None]
    tops = [y - 3 - box.height(), *(low - 3 - box.height() for low, _ in spans), *(high + 3 for _, high in spans)]
    for top in sorted(tops, key=lambda t: abs(t + 0.5 * box.height() - y) + (_BELOW if t > y else 0.0)):
        place = QRectF(box.left(), top, box.width(), box.height())
        if view.contains(place) and not any(top < high + 2 and top + box.height() > low - 2 for low, high in spans):
            return place
    return None


def _span(path: Floats, left: float, right: float) -> tuple[float, float] | None:
    """Highest and lowest pixel of a path between two columns of pixels."""
    if len(path) < 2 or path[-1, 0] < left or path[0, 0] > right:
        return None
    x = np.concatenate([[left, right], path[(path[:, 0] >= left) & (path[:, 0] <= right), 0]])
    x = x[(x >= path[0, 0]) & (x <= path[-1, 0])]
    inside = path[(path[:, 0] >= left) & (path[:, 0] <= right), 1]
    y = np.concatenate([np.interp(x, path[:, 0], path[:, 1]), inside])
    return (float(y.min()), float(y.max())) if len(y) else None
