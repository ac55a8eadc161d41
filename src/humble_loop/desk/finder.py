"""Find anything: one box for commands, streets, lots, chainages and settings."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import QEvent, QObject, Qt
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QFrame, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout, QWidget


@dataclass(frozen=True)
class Found:
    """A thing that can be found: words, kind, and what choosing it does."""

    words: str
    kind: str
    do: Callable[[], object]


class Finder(QFrame):
    """A box over the window; arrows and Enter choose, Esc closes."""

    def __init__(self, offers: Callable[[str], list[Found]], parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self._offers = offers
        self.box = QLineEdit()
        self.box.setPlaceholderText("A command, street, lot, or chainage such as 0+085")
        self.list = QListWidget()
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 8, 8, 8)
        column.addWidget(self.box)
        column.addWidget(self.list)
        self.box.textChanged.connect(self._search)
        self.box.installEventFilter(self)
        self.list.itemActivated.connect(self._take)
        self.list.itemClicked.connect(self._take)
        self._found: list[Found] = []
        self.hide()

    def open(self) -> None:
        """Show the box in the middle of the window's top."""
        parent = self.window()
        width = min(460, parent.width() - 40)
        self.setGeometry((parent.width() - width) // 2, 76, width, 320)
        self.box.clear()
        self._search("")
        self.show()
        self.raise_()
        self.box.setFocus()

    def _search(self, text: str) -> None:
        words = text.lower().split()
        offers = self._offers(text)
        self._found = [
            f for f in offers if f.kind == "chainage" or all(w in f"{f.words} {f.kind}".lower() for w in words)
        ][:40]
        self.list.clear()
        for f in self._found:
            self.list.addItem(QListWidgetItem(f"{f.words}    {f.kind}"))
        if self._found:
            self.list.setCurrentRow(0)

    def _take(self) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self._found):
            self.hide()
            self._found[row].do()

    def eventFilter(self, watched: QObject, event: QEvent) -> bool:
        if watched is self.box and isinstance(event, QKeyEvent) and event.type() == QEvent.Type.KeyPress:
            if event.key() == Qt.Key.Key_Escape:
                self.hide()
                return True
            if event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self._take()
                return True
            if event.key() in (Qt.Key.Key_Down, Qt.Key.Key_Up):
                step = 1 if event.key() == Qt.Key.Key_Down else -1
                self.list.setCurrentRow(max(0, min(self.list.count() - 1, self.list.currentRow() + step)))
                return True
        return super().eventFilter(watched, event)
