"""Tables on screen: set-out, levels, lots and the rest, to read and copy."""

from __future__ import annotations

import csv
import io
from pathlib import Path
from typing import Any

from PySide6.QtCore import QAbstractTableModel, QModelIndex, QObject, QPersistentModelIndex, Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from humble_loop.desk.follower import InTime
from humble_loop.desk.session import Session
from humble_loop.engine.query import Unsolved
from humble_loop.formats.errors import FormatError
from humble_loop.formats.table_file import write_table
from humble_loop.kinds.street.plan import name_of, street_ids
from humble_loop.lines.table import NoSuchTable, Table
from humble_loop.whole.tables import table, tables

Index = QModelIndex | QPersistentModelIndex
_LOOKED_AT = 60  # rows for the width of columns: more than are seen at once
_DECIMALS = {"bearing_deg": 5, "grade": 5, "area": 1, "cut": 1, "fill": 1, "area_over_ground": 1}


class TableModel(QAbstractTableModel):
    """A worked-out table for a table view."""

    def __init__(self, made: Table, parent: QObject) -> None:
        super().__init__(parent)
        self.table = made

    def take(self, made: Table) -> None:
        """Show another table."""
        self.beginResetModel()
        self.table = made
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.table.rows)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.table.columns)

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        value = self.table.rows[index.row()][index.column()]
        if role == Qt.ItemDataRole.DisplayRole:
            if isinstance(value, float):
                return f"{value:.{_DECIMALS.get(self.table.columns[index.column()], 3)}f}"
            return "" if value is None else str(value)
        if role == Qt.ItemDataRole.TextAlignmentRole and isinstance(value, (int, float)):
            return int(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        return None

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if role == Qt.ItemDataRole.DisplayRole and orientation == Qt.Orientation.Horizontal:
            return self.table.columns[section].replace("_", " ")
        return None


class TablesWindow(QDialog):
    """Any table of the site, kept up to date while it is open."""

    def __init__(self, session: Session, parent: QWidget) -> None:
        super().__init__(parent)
        self.setWindowTitle("Tables")
        self.resize(860, 520)
        self._session = session
        self.which, self.of = QComboBox(), QComboBox()
        self.which.addItems(list(tables()))
        self.which.setCurrentText("setout")
        self.view, self.note = QTableView(), QLabel()
        self.model = TableModel(Table((), ()), self.view)
        self.view.setModel(self.model)
        self.note.setProperty("role", "quiet")
        self.view.verticalHeader().hide()
        self.view.horizontalHeader().setStretchLastSection(True)
        self.view.horizontalHeader().setResizeContentsPrecision(_LOOKED_AT)
        self.view.verticalHeader().setDefaultSectionSize(22)
        self.view.setAlternatingRowColors(True)
        copy = QPushButton("Copy")
        copy.clicked.connect(self.copy)
        save = QPushButton("Save …")
        save.clicked.connect(self.save)
        row = QHBoxLayout()
        for widget in (self.which, self.of, copy, save):
            row.addWidget(widget)
        row.addStretch(1)
        row.addWidget(self.note)
        column = QVBoxLayout(self)
        column.addLayout(row)
        column.addWidget(self.view, 1)
        self.which.currentTextChanged.connect(self.refresh)
        self.of.activated.connect(self.refresh)
        session.changed.connect(self._if_visible)
        self.in_time = InTime(session, self._refresh, self)
        self._fill_streets()
        self.refresh()

    def _fill_streets(self) -> None:
        q = self._session.engine
        names = [name_of(q, s) for s in street_ids(q)]
        keep = self.of.currentText() or (name_of(q, self._session.street) if self._session.street else "")
        self.of.clear()
        self.of.addItems(["whole site", *names])
        self.of.setCurrentText(keep if keep in names else "whole site")

    def _if_visible(self) -> None:
        if self.isVisible() and not self._session.dragging:
            self._fill_streets()
            self.refresh()

    def refresh(self, *_: object) -> None:
        """Work the table out and show it, or say why it cannot be."""
        self.in_time.now()
        if self.in_time.busy:
            self.note.setText("being worked out …")

    def _refresh(self) -> None:
        of = None if self.of.currentIndex() <= 0 else self.of.currentText()
        try:
            made = table(self._session.engine, self.which.currentText(), of)
        except (NoSuchTable, Unsolved) as error:
            made = Table((), ())
            self.note.setText(str(error).replace("with --of", "beside"))
        else:
            self.note.setText(f"{len(made.rows)} rows, metres")
        self.model.take(made)
        self.view.resizeColumnsToContents()

    def save(self) -> None:
        """Write the table as CSV or as a spreadsheet."""
        name = self.which.currentText()
        chosen, _ = QFileDialog.getSaveFileName(
            self, "Save the table", f"{name}.xlsx", "Spreadsheets (*.xlsx);;Text (*.csv)"
        )
        if not chosen:
            return
        try:
            write_table(self.model.table, name, Path(chosen))
        except FormatError as error:
            self._session.said.emit(str(error))
        except OSError as error:
            self._session.said.emit(f"{chosen}: it cannot be written ({error.strerror or error}); choose another place")
        else:
            self._session.said.emit(f"Wrote {Path(chosen).name}: {len(self.model.table.rows)} rows")

    def copy(self) -> None:
        """Put the table on the clipboard as tab-separated text."""
        text = io.StringIO()
        writer = csv.writer(text, delimiter="\t", lineterminator="\n")
        made = self.model.table.written()
        writer.writerow(made.columns)
        writer.writerows(["" if v is None else v for v in r] for r in made.rows)
        QGuiApplication.clipboard().setText(text.getvalue())
        self._session.said.emit(f"Copied {len(self.model.table.rows)} rows")
