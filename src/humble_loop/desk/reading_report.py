"""What was suspicious or altered in files that were brought in: every place of it, one click from the plan."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QModelIndex
from PySide6.QtWidgets import QDialog, QLabel, QTableView, QVBoxLayout, QWidget

from humble_loop.desk.tables_window import TableModel
from humble_loop.ground.surface import Problem
from humble_loop.lines.table import Table


class ReadingReport(QDialog):
    """A list that stays open beside the plan until it is closed."""

    def __init__(self, problems: Sequence[Problem], show_at: Callable[[float, float], None], parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("What to look at in what was brought in")
        self.resize(820, 360)
        self._problems, self._show_at = tuple(problems), show_at
        words = QLabel(f"{len(self._problems)} places; a click shows one on the plan.")
        words.setProperty("role", "quiet")
        rows = tuple((p.kind, p.message, p.easting, p.northing) for p in self._problems)
        self.view = QTableView()
        self.view.setModel(TableModel(Table(("what", "in words", "easting", "northing"), rows), self.view))
        self.view.setSelectionBehavior(QTableView.SelectionBehavior.SelectRows)
        self.view.verticalHeader().hide()
        self.view.verticalHeader().setDefaultSectionSize(22)
        self.view.clicked.connect(self._show)
        for k, width in enumerate((140, 470, 85, 85)):
            self.view.setColumnWidth(k, width)
        self.view.horizontalHeader().setStretchLastSection(True)
        column = QVBoxLayout(self)
        column.addWidget(words)
        column.addWidget(self.view, 1)

    def _show(self, index: QModelIndex) -> None:
        p = self._problems[index.row()]
        self._show_at(p.easting, p.northing)
