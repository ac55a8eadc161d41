"""Small buttons side by side, in as many rows as they need."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QRect, QSize
from PySide6.QtGui import QResizeEvent
from PySide6.QtWidgets import QSizePolicy, QToolButton, QWidget

_GAP, _MARGIN = 4, 6  # pixels


class FlowRow(QWidget):
    """Buttons that are laid in rows of its width; its height follows. ``role`` is what the names of its buttons begin with."""

    def __init__(self, role: str, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._role = role
        self._buttons: list[QToolButton] = []
        policy = QSizePolicy(QSizePolicy.Policy.Ignored, QSizePolicy.Policy.Fixed)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)

    def words(self) -> list[str]:
        """What stands on the buttons."""
        return [b.text() for b in self._buttons]

    def show_words(self, words: Sequence[str], do: Callable[[int], object]) -> None:
        """Have a button for each of ``words``; the k-th does ``do(k)``."""
        for button in self._buttons:
            button.clicked.disconnect()  # a second click that is under way finds nothing
            button.hide()
            button.deleteLater()
        self._buttons = []
        for k, text in enumerate(words):
            button = QToolButton(self)
            button.setText(text)
            button.setObjectName(f"{self._role} {text}")
            button.clicked.connect(lambda _=False, k=k: do(k))
            button.show()
            self._buttons.append(button)
        self._lay()

    def mark(self, words: str) -> None:
        """Show one of the buttons as the one that is chosen."""
        for button in self._buttons:
            button.setCheckable(True)
            button.setChecked(button.text() == words)

    def _lay(self) -> None:
        """Give every button its place, and take the height that this needs."""
        places = self._places(self.width())
        for button, place in zip(self._buttons, places, strict=True):
            button.setGeometry(place)
        self.setFixedHeight(max((p.bottom() + 1 + _MARGIN for p in places), default=0))

    def _places(self, width: int) -> list[QRect]:
        places: list[QRect] = []
        x = y = _MARGIN
        for button in self._buttons:
            size = button.sizeHint()
            if x > _MARGIN and x + size.width() > width - _MARGIN:
                x, y = _MARGIN, y + size.height() + _GAP
            places.append(QRect(x, y, size.width(), size.height()))
            x += size.width() + _GAP
        return places

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._lay()

    def sizeHint(self) -> QSize:
        return QSize(0, self.height())
