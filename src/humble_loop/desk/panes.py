"""A view with a thin head, which can leave the window for another screen and come back."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QHBoxLayout, QToolButton, QVBoxLayout, QWidget

from humble_loop.desk.sentence import Sentence
from humble_loop.desk.theme import Theme, icon


class Pane(QWidget):
    """A titled view, with a button that fits it, one that sends it out, and perhaps another of its own."""

    def __init__(
        self, title: str, view: QWidget, theme: Theme, fit: Callable[[], object], extra: QWidget | None = None
    ) -> None:
        super().__init__()
        self.setObjectName("page")
        self._view, self._title = view, title
        self._window: QDialog | None = None
        # A caption gives way to the view's width, never the other way round: nothing rescales while it changes.
        self.caption = Sentence(title)
        self.caption.setProperty("role", "head")
        self.fit, self.out = QToolButton(), QToolButton()
        self.fit.setToolTip(f"Fit the {title.lower()} to its view")
        self.fit.clicked.connect(lambda: fit())
        self.out.setToolTip(f"{title} in a window of its own")
        self.out.clicked.connect(self.toggle)
        self.paint_in(theme)
        head = QHBoxLayout()
        head.setContentsMargins(8, 1, 4, 0)
        head.addWidget(self.caption, 1)
        if extra is not None:
            head.addWidget(extra)
        head.addWidget(self.fit)
        head.addWidget(self.out)
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(0)
        self._column.addLayout(head)
        self._column.addWidget(view, 1)

    def paint_in(self, theme: Theme) -> None:
        """Take a theme's colours."""
        self.fit.setIcon(icon("fit", theme.quiet))
        self.out.setIcon(icon("out", theme.quiet))

    def toggle(self) -> None:
        """Send the view out, or take it back."""
        if self._window is None:
            self._window = QDialog(self.window(), Qt.WindowType.Window)
            self._window.setWindowTitle(self._title)
            self._window.resize(900, 600)
            column = QVBoxLayout(self._window)
            column.setContentsMargins(0, 0, 0, 0)
            column.addWidget(self._view)
            self._window.finished.connect(self._take_back)
            self._window.show()
        else:
            self._window.close()

    def _take_back(self) -> None:
        window, self._window = self._window, None
        self._column.addWidget(self._view, 1)
        self._view.show()
        if window is not None:
            window.deleteLater()
