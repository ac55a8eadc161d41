"""Under the facts: why a place has its level, or what the chosen thing follows and what follows it."""

from __future__ import annotations

from PySide6.QtWidgets import QStackedWidget, QVBoxLayout, QWidget

from humble_loop.desk.flow_row import FlowRow
from humble_loop.desk.session import Session
from humble_loop.desk.theme import Theme
from humble_loop.desk.tie_map import TieMap
from humble_loop.desk.trail_tree import TrailTree

PARTS = ("Level trail", "Tie map")


class Reasons(QWidget):
    """The level trail and the tie map, one at a time."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("panel")
        self.trail, self.map = TrailTree(session), TieMap(session)
        self._parts, self._titles = QStackedWidget(), FlowRow("reason")
        for part in (self.trail, self.map):
            self._parts.addWidget(part)
        column = QVBoxLayout(self)
        column.setContentsMargins(4, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._titles)
        column.addWidget(self._parts, 1)
        self._titles.show_words(PARTS, self.show_part)
        self._titles.mark(PARTS[0])
        session.chosen_changed.connect(self.map.refresh)

    def show_part(self, k: int) -> None:
        """Show the level trail (0) or the tie map (1)."""
        self._parts.setCurrentIndex(k)
        self._titles.mark(PARTS[k])
        self.refresh()

    def paint_in(self, theme: Theme) -> None:
        """Take a theme's colours."""
        self.map.paint_in(theme)

    def refresh(self) -> None:
        """Show what is shown as it is now."""
        self.trail.refresh()
        self.map.refresh()

    @property
    def settled(self) -> bool:
        """Whether what is shown is as it is."""
        return not (self.trail.in_time.busy or self.map.in_time.busy)
