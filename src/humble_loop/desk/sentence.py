"""A label that ends in an ellipsis where it has no room for all of its words; they stand whole in its tip."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtGui import QPainter, QPaintEvent
from PySide6.QtWidgets import QLabel, QSizePolicy


class Sentence(QLabel):
    """Words in one line, which give way to the width that there is and never make the window wider."""

    def __init__(self, words: str = "") -> None:
        super().__init__()
        self.setSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Preferred)
        self.setText(words)

    def setText(self, words: str) -> None:
        super().setText(words)
        self.setToolTip(words)

    def paintEvent(self, event: QPaintEvent) -> None:
        del event
        words = self.fontMetrics().elidedText(self.text(), Qt.TextElideMode.ElideRight, self.width())
        with QPainter(self) as painter:
            painter.setPen(self.palette().color(self.foregroundRole()))
            painter.drawText(self.rect(), self.alignment(), words)
