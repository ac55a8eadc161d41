"""What an empty site shows in the plan: what to do first."""

from __future__ import annotations

from PySide6.QtCore import QRect, Qt, Signal
from PySide6.QtWidgets import QFrame, QLabel, QPushButton, QVBoxLayout, QWidget

from humble_loop.desk.session import Session
from humble_loop.desk.theme import Theme
from humble_loop.site.libraries import LIBRARIES


class Welcome(QFrame):
    """A sheet in the middle of an empty plan, with the first steps as buttons."""

    bring_in = Signal()
    open_site = Signal()
    open_demo = Signal()
    open_recent = Signal(str)

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self._plan = parent
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(22, 18, 22, 18)
        self._column.setSpacing(8)
        title = QLabel("An empty site")
        title.setProperty("role", "title")
        words = QLabel(
            "Drop a survey here: points, a surface, a drawing, a point cloud or a grid. Then draw the first street."
        )
        words.setWordWrap(True)
        words.setProperty("role", "quiet")
        self._column.addWidget(title)
        self._column.addWidget(words)
        for text, signal in (
            ("Bring in a survey", self.bring_in),
            ("Open a site", self.open_site),
            ("Look at the demo, the old brickworks", self.open_demo),
        ):
            button = QPushButton(text)
            button.clicked.connect(lambda _=False, signal=signal: signal.emit())
            self._column.addWidget(button)
        self._recent: list[QPushButton] = []
        self.hide()

    def paint_in(self, theme: Theme) -> None:
        """Take a theme's colours."""
        self.setStyleSheet(f"QFrame#panel {{ border: 1px solid {theme.line}; border-radius: 6px; }}")

    def show_recent(self, paths: list[str]) -> None:
        """Offer sites that were open lately."""
        for button in self._recent:
            self._column.removeWidget(button)
            button.deleteLater()
        self._recent = []
        for path in paths[:4]:
            button = QPushButton(path.rsplit("/", 1)[-1])
            button.setToolTip(path)
            button.setProperty("role", "recent")
            button.clicked.connect(lambda _=False, path=path: self.open_recent.emit(path))
            self._column.addWidget(button)
            self._recent.append(button)

    def show_for(self, session: Session) -> None:
        """Stand in the middle of the plan while nothing is in the site, and nothing is being drawn."""
        libraries = {model.collection for model in LIBRARIES}
        empty = not session.dragging and not any(v for k, v in session.site.things.items() if k not in libraries)
        if empty:
            self.adjustSize()
            parent = self._plan
            self.setFixedWidth(340)
            size = self.sizeHint()
            area = QRect((parent.width() - 340) // 2, (parent.height() - size.height()) // 2, 340, size.height())
            self.setGeometry(area)
        self.setVisible(empty)
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents, False)
