"""How a text file of points is going to be read: its first lines, a picture of its points, and what may be set right."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPolygonF
from PySide6.QtWidgets import (
    QComboBox,
    QDialog,
    QGridLayout,
    QHBoxLayout,
    QLabel,
    QPushButton,
    QTableWidget,
    QTableWidgetItem,
    QWidget,
)

from humble_loop.desk.painting import guarded
from humble_loop.desk.theme import Theme
from humble_loop.formats.bundle import METRES
from humble_loop.formats.errors import FormatError
from humble_loop.formats.points_text import named, points_in
from humble_loop.formats.text_layout import DECIMALS, ROLES, SEPARATORS, SKIPPED, Layout, cells_of, skipped
from humble_loop.formats.text_recognition import recognised
from humble_loop.geometry.arrays import Floats

_SHOWN = 17  # lines of the file in the table
_LOOKED_AT = 3000  # lines for the picture, spread over the file, so that a choice shows at once
_SKIPPED_WORDS = "skipped"


class TextPreview(QDialog):
    """Asks how one file is to be read: ``settled`` gives its layout, with its unit."""

    settled = Signal(object)

    def __init__(
        self, path: Path, lines: Sequence[str], layout: Layout | None, unit: str, theme: Theme, parent: QWidget
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle(f"How to read {path.name}")
        self.resize(1040, 560)
        self._path, self._lines, self._layout = path, lines, layout
        self._combos: list[QComboBox] = []
        self.separator, self.decimal, self.unit = QComboBox(), QComboBox(), QComboBox()
        self.separator.addItems([*SEPARATORS])
        self.decimal.addItems([*DECIMALS])
        self.unit.addItems([*METRES])
        self.unit.setCurrentText((layout.unit if layout and layout.unit in METRES else "") or unit)
        self.words, self.doubts = QLabel(), QLabel()
        self.doubts.setProperty("role", "near")
        for label in (self.words, self.doubts):
            label.setWordWrap(True)
        self.table, self.picture = QTableWidget(), PointsPicture(theme)
        self.table.setEditTriggers(QTableWidget.EditTrigger.NoEditTriggers)
        self.table.setSelectionMode(QTableWidget.SelectionMode.NoSelection)
        self.table.horizontalHeader().hide()
        self.table.verticalHeader().setDefaultSectionSize(23)
        self.bring_in, cancel = QPushButton("Bring in"), QPushButton("Cancel")
        self.bring_in.setDefault(True)
        self.bring_in.clicked.connect(self._take)
        cancel.clicked.connect(self.reject)
        self._arrange(cancel)
        self.separator.activated.connect(self._look_again)
        self.decimal.activated.connect(self._look_again)
        self.unit.activated.connect(self._show_points)
        self._show_layout()

    def _arrange(self, cancel: QPushButton) -> None:
        choices = QHBoxLayout()
        for label, combo in (("Between columns", self.separator), ("Decimal sign", self.decimal), ("Unit", self.unit)):
            head = QLabel(label)
            head.setProperty("role", "quiet")
            choices.addWidget(head)
            choices.addWidget(combo)
            choices.addSpacing(12)
        choices.addStretch(1)
        buttons = QHBoxLayout()
        buttons.addWidget(self.words, 1)
        buttons.addWidget(cancel)
        buttons.addWidget(self.bring_in)
        grid = QGridLayout(self)
        grid.addLayout(choices, 0, 0, 1, 2)
        grid.addWidget(self.doubts, 1, 0, 1, 2)
        grid.addWidget(self.table, 2, 0)
        grid.addWidget(self.picture, 2, 1)
        grid.addLayout(buttons, 3, 0, 1, 2)
        grid.setColumnStretch(0, 3)
        grid.setColumnStretch(1, 2)
        grid.setRowStretch(2, 1)

    # What is chosen

    def _look_again(self) -> None:
        """Another separator or decimal sign: the columns are found anew."""
        separator, decimal = SEPARATORS[self.separator.currentText()], DECIMALS[self.decimal.currentText()]
        try:
            self._layout = recognised(self._path, self._lines, separator=separator, decimal=decimal)
        except FormatError as error:
            self._layout = None
            self._say(error.message)
            self.table.setRowCount(0)
            return
        self._show_layout()

    def _set_column(self) -> None:
        assert self._layout is not None
        chosen = [combo.currentText() for combo in self._combos]
        columns = [SKIPPED if c == _SKIPPED_WORDS else c for c in chosen]
        moved = self.sender()
        for k, combo in enumerate(self._combos):
            # A role stands once: where it is given anew, the column that had it is skipped.
            if combo is not moved and columns[k] and columns.count(columns[k]) > 1:
                columns[k] = SKIPPED
                combo.setCurrentText(_SKIPPED_WORDS)
        self._layout = self._layout.with_columns(columns)
        self._show_points()

    def _take(self) -> None:
        if self._layout is not None:
            self.settled.emit(replace(self._layout, unit=self.unit.currentText(), doubts=(), refusal=""))
        self.accept()

    # What is shown

    def _show_layout(self) -> None:
        layout = self._layout
        if layout is None:
            self._say("nothing in it looks like points; choose what stands between its columns")
            return
        self.separator.setCurrentText(next(n for n, sign in SEPARATORS.items() if sign == layout.separator))
        self.decimal.setCurrentText(next(n for n, sign in DECIMALS.items() if sign == layout.decimal))
        self._fill_table(layout)
        self._show_points()

    def _fill_table(self, layout: Layout) -> None:
        width = len(layout.columns)
        rows: list[tuple[str, list[str]]] = [("header", list(layout.header))] if layout.header else []
        for number, line in enumerate(self._lines[layout.first :], layout.first + 1):
            if len(rows) > _SHOWN:
                break
            if not skipped(line, layout.separator):
                rows.append((str(number), cells_of(line, layout.separator, width)))
        self.table.clear()
        self.table.setColumnCount(width)
        self.table.setRowCount(len(rows) + 1)
        self.table.setVerticalHeaderLabels(["read as", *(label for label, _ in rows)])
        self._combos = []
        for k, role in enumerate(layout.columns):
            combo = QComboBox()
            combo.addItems([_SKIPPED_WORDS, *ROLES])
            combo.setCurrentText(role or _SKIPPED_WORDS)
            combo.activated.connect(self._set_column)
            self.table.setCellWidget(0, k, combo)
            self.table.setColumnWidth(k, 104)
            self._combos.append(combo)
        self.table.setRowHeight(0, 30)
        for r, (_, cells) in enumerate(rows, 1):
            for k, cell in enumerate(cells[:width]):
                self.table.setItem(r, k, QTableWidgetItem(cell))

    def _show_points(self) -> None:
        """Read some of the points, and say and draw what comes of it."""
        layout = self._layout
        assert layout is not None
        self.picture.show_points(np.empty((0, 3)))
        if layout.refusal:
            self._say(layout.refusal)
            return
        if "radius" in layout.columns:
            self._say("", "It has radii: it becomes a street by its bends.")
            return
        step = max(1, (len(self._lines) - layout.first) // _LOOKED_AT)
        try:
            named(self._path, layout, layout.columns)
            some = self._lines[layout.first :: step]
            found = points_in(self._path, some, replace(layout, first=0, unit=""), "m").values
            points_in(self._path, self._lines, layout, "m", most=200)
        except FormatError as error:
            self._say(error.message)
            return
        self.picture.show_points(found)
        unit = self.unit.currentText()
        (w, s, low), (e, n, high) = found.min(axis=0), found.max(axis=0)
        about = f"about {len(found) * step:,}" if step > 1 else f"{len(found):,}"
        self._say(
            "; ".join(layout.doubts),
            f"{about} points: E {w:,.2f} to {e:,.2f}, N {s:,.2f} to {n:,.2f}, levels {low:,.2f} to {high:,.2f} {unit}",
            fits=True,
        )

    def _say(self, doubt: str, words: str = "", *, fits: bool = False) -> None:
        self.doubts.setText(f"◇ {doubt[:1].upper()}{doubt[1:]}" if doubt else "")
        self.doubts.setVisible(bool(doubt))
        self.words.setText(words or "Nothing can be brought in like this.")
        self.bring_in.setEnabled(fits or bool(words))


class PointsPicture(QWidget):
    """Where points lie, north up, so that swapped or wrong columns are seen at once. Darker is higher."""

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self._theme = theme
        self._points: Floats = np.empty((0, 3))
        self.setMinimumWidth(300)

    def sizeHint(self) -> QSize:
        return QSize(380, 380)

    def show_points(self, points: Floats) -> None:
        """Show points (n, 3)."""
        self._points = points
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        del event
        with QPainter(self) as painter:
            guarded(painter, self._draw)

    def _draw(self, painter: QPainter) -> None:
        theme, room = self._theme, QRectF(self.rect())
        painter.fillRect(room, theme.colour("panel"))
        painter.setPen(theme.pen("line"))
        painter.drawRect(room.adjusted(0, 0, -1, -1))
        if not len(self._points):
            return
        xy, z = self._points[:, :2], self._points[:, 2]
        low, high = xy.min(axis=0), xy.max(axis=0)
        inner = room.adjusted(18, 18, -18, -34)
        scale = min(inner.width() / max(high[0] - low[0], 1e-9), inner.height() / max(high[1] - low[1], 1e-9))
        middle = (low + high) / 2
        x = inner.center().x() + (xy[:, 0] - middle[0]) * scale
        y = inner.center().y() - (xy[:, 1] - middle[1]) * scale
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        shares = (z - z.min()) / max(float(np.ptp(z)), 1e-9)
        for k in range(4):  # four groups of level, the highest last
            mine = (shares >= k / 4) & (shares < (k + 1) / 4 + (k == 3))
            painter.setPen(theme.pen("ground", 3.0, alpha=90 + 55 * k))
            painter.drawPoints(QPolygonF([QPointF(a, b) for a, b in zip(x[mine].tolist(), y[mine].tolist())]))
        self._draw_scale(painter, room, scale)

    def _draw_scale(self, painter: QPainter, room: QRectF, scale: float) -> None:
        """A bar of a round length, and which way north is."""
        wanted = 90.0 / scale
        length = 10.0 ** np.floor(np.log10(wanted))
        length = float(next(length * k for k in (5, 2, 1) if length * k <= wanted))
        at = QPointF(16, room.height() - 14)
        painter.setPen(self._theme.pen("ink", 1.4))
        painter.drawLine(at, at + QPointF(length * scale, 0))
        painter.drawText(at + QPointF(length * scale + 8, 4), f"{length:g}")
        painter.drawText(QRectF(room.right() - 60, room.bottom() - 26, 46, 18), Qt.AlignmentFlag.AlignRight, "N ↑")
