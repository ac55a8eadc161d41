"""Sheets beside the plan: the chosen line's elements, grade line and crossings in rows, to be read and typed into."""

from __future__ import annotations

from typing import Any

from PySide6.QtCore import (
    QAbstractItemModel,
    QAbstractTableModel,
    QModelIndex,
    QObject,
    QPersistentModelIndex,
    Qt,
    QTimer,
    Signal,
)
from PySide6.QtGui import QColor, QPalette, QShowEvent
from PySide6.QtWidgets import (
    QAbstractItemView,
    QComboBox,
    QLabel,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTableView,
    QVBoxLayout,
    QWidget,
)

from humble_loop.desk.flow_row import FlowRow
from humble_loop.desk.follower import Follower, InTime
from humble_loop.desk.forms import MARKS, typed_into
from humble_loop.desk.session import Session
from humble_loop.desk.shape_picture import ShapePicture
from humble_loop.desk.theme import Theme, font
from humble_loop.desk.values import show
from humble_loop.engine.query import Engine, Unsolved
from humble_loop.lines.describe import Choice, Fact, Sheet, SheetOf, SheetRow
from humble_loop.lines.line import ThingId, line_plan
from humble_loop.lines.standing import kinds
from humble_loop.site.edits import Edit
from humble_loop.whole.round_sight import round_sight_sheets
from humble_loop.whole.sight import sight_sheets

Index = QModelIndex | QPersistentModelIndex
_NEAR = 15.0  # metres from a line within which a click in plan asks for its row
_NONE = Sheet("", None, (), ())  # type: ignore[arg-type]


class SheetModel(QAbstractTableModel):
    """A sheet for a table view; what is typed into a cell becomes an edit of the session."""

    def __init__(self, session: Session, parent: QObject) -> None:
        super().__init__(parent)
        self._session = session
        self.theme: Theme | None = None
        self.sheet = _NONE

    def take(self, sheet: Sheet) -> None:
        """Show another sheet; where its shape is the same what is chosen stays."""
        if len(sheet.rows) == len(self.sheet.rows) and sheet.columns == self.sheet.columns:
            self.sheet = sheet
            if sheet.rows:
                self.dataChanged.emit(self.index(0, 0), self.index(len(sheet.rows) - 1, len(sheet.columns) - 1))
            return
        self.beginResetModel()
        self.sheet = sheet
        self.endResetModel()

    def rowCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.sheet.rows)

    def columnCount(self, parent: Index = QModelIndex()) -> int:  # noqa: B008
        return 0 if parent.isValid() else len(self.sheet.columns)

    def cell(self, index: Index) -> Fact | Choice | None:
        """What stands in a cell."""
        return self.sheet.rows[index.row()].cells[index.column()]

    def flags(self, index: Index) -> Qt.ItemFlag:
        cell = self.cell(index)
        flags = Qt.ItemFlag.ItemIsEnabled | Qt.ItemFlag.ItemIsSelectable
        return flags | Qt.ItemFlag.ItemIsEditable if cell is not None and cell.edit is not None else flags

    def data(self, index: Index, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        row, cell = self.sheet.rows[index.row()], self.cell(index)
        fact = _told(cell) if isinstance(cell, Choice) else cell
        if role in (Qt.ItemDataRole.DisplayRole, Qt.ItemDataRole.EditRole):
            text = "" if fact is None else self._text(fact)
            return text if role == Qt.ItemDataRole.EditRole or fact is None else self._marked(text, fact, index, row)
        if role == Qt.ItemDataRole.TextAlignmentRole:
            side = Qt.AlignmentFlag.AlignLeft if fact is None or fact.unit == "text" else Qt.AlignmentFlag.AlignRight
            return int(side | Qt.AlignmentFlag.AlignVCenter)
        if role == Qt.ItemDataRole.ToolTipRole and row.findings:
            return "\n".join(f"{f.rule}: {f.message}; {f.remedy}" for f in row.findings)
        if role == Qt.ItemDataRole.FontRole and fact is not None:
            return font(12, 500 if fact.edit is not None else 400)
        return self._colour(row, fact) if role == Qt.ItemDataRole.ForegroundRole and self.theme else None

    def _text(self, fact: Fact) -> str:
        return show(fact.unit, fact.value, self._session.site.settings)

    def _marked(self, text: str, fact: Fact, index: Index, row: SheetRow) -> str:
        """A value with what stands before it, the sign of a finding in the first column, and the mark of its state."""
        words = f"{fact.before} {text}" if fact.before else text
        if index.column() == 0 and row.findings:
            words = f"{'▲' if any(f.severity == 'broken' for f in row.findings) else '◇'} {words}"
        return f"{MARKS[fact.state]} {words}" if fact.state in ("proposed", "locked", "tied") else words

    def _colour(self, row: SheetRow, fact: Fact | None) -> object:
        assert self.theme is not None
        if row.findings:
            return self.theme.colour("broken" if any(f.severity == "broken" for f in row.findings) else "near")
        return self.theme.colour("ink" if fact is not None and fact.edit is not None else "quiet")

    def setData(self, index: Index, value: Any, role: int = Qt.ItemDataRole.EditRole) -> bool:
        cell = self.cell(index)
        if isinstance(cell, Choice):
            if str(value) != cell.current:
                self._session.do(f"Set {cell.label}", cell.edit(str(value)))
            return True
        if cell is None or cell.edit is None or str(value) == self._text(cell):
            return False
        return not typed_into(self._session, cell, str(value))

    def headerData(self, section: int, orientation: Qt.Orientation, role: int = Qt.ItemDataRole.DisplayRole) -> Any:
        if orientation != Qt.Orientation.Horizontal:
            return None
        if role == Qt.ItemDataRole.TextAlignmentRole:
            first = self.sheet.rows[0].cells[section] if self.sheet.rows else None
            words = isinstance(first, Choice) or (first is not None and first.unit == "text")
            side = Qt.AlignmentFlag.AlignLeft if words else Qt.AlignmentFlag.AlignRight
            return int(side | Qt.AlignmentFlag.AlignVCenter)
        return self.sheet.columns[section] if role == Qt.ItemDataRole.DisplayRole else None


def _sheets_of(q: Engine, thing: ThingId) -> tuple[SheetOf, ...]:
    """The sheets of a thing: its own kind's, those that other kinds add, and of what is seen from it."""
    own = tuple(s for kind in kinds() for s in (kind.sheets if kind.key == thing.kind else kind.sheets_about)(q, thing))
    return (*own, *sight_sheets(q, thing), *round_sight_sheets(thing))


def _told(choice: Choice) -> Fact:
    """A choice as text, where it is not being made."""
    name = next((name for value, name in choice.options if value == choice.current), choice.current)
    return Fact(choice.label, "text", f"{name} ▾", "set", choice.edit)


class _Cell(QStyledItemDelegate):
    """Draws a cell in its own colour also where its row is chosen; a choice is made from a list."""

    def createEditor(self, parent: QWidget, option: QStyleOptionViewItem, index: Index) -> QWidget:
        cell = index.model().cell(index)  # type: ignore[attr-defined]
        if not isinstance(cell, Choice):
            return super().createEditor(parent, option, index)
        combo = QComboBox(parent)
        combo.setObjectName(f"choice {cell.label}")
        for value, name in cell.options:
            combo.addItem(name, value)
        combo.activated.connect(lambda _: self._chosen(combo))
        return combo

    def updateEditorGeometry(self, editor: QWidget, option: QStyleOptionViewItem, index: Index) -> None:
        super().updateEditorGeometry(editor, option, index)
        if isinstance(editor, QComboBox):  # it may be wider than its column
            editor.resize(max(editor.width(), editor.sizeHint().width()), editor.height())

    def _chosen(self, combo: QComboBox) -> None:
        self.commitData.emit(combo)
        self.closeEditor.emit(combo)

    def setEditorData(self, editor: QWidget, index: Index) -> None:
        cell = index.model().cell(index)  # type: ignore[attr-defined]
        if isinstance(editor, QComboBox) and isinstance(cell, Choice):
            editor.setCurrentIndex(max(0, editor.findData(cell.current)))
            QTimer.singleShot(0, editor, editor.showPopup)
        else:
            super().setEditorData(editor, index)

    def setModelData(self, editor: QWidget, model: QAbstractItemModel, index: Index) -> None:
        if isinstance(editor, QComboBox):
            model.setData(index, editor.currentData())
        else:
            super().setModelData(editor, model, index)

    def initStyleOption(self, option: QStyleOptionViewItem, index: Index) -> None:
        super().initStyleOption(option, index)
        colour = index.data(Qt.ItemDataRole.ForegroundRole)
        if isinstance(colour, QColor):
            option.palette.setColor(QPalette.ColorRole.HighlightedText, colour)


class SheetPanel(QWidget):
    """The sheets of the chosen thing: one at a time, chosen by its title. A row and its place in plan are lit together."""

    lit = Signal(object)  # points (n, 2) of the row that is chosen, or None
    ghost = Signal(object)  # chainages and levels (n, 2) that it proposes, or None

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self._session = session
        self._sheets: tuple[SheetOf, ...] = ()
        self._wanted = ""
        self.model, self.view, self.note = SheetModel(session, self), QTableView(), QLabel()
        self.view.setModel(self.model)
        cell = _Cell(self.view)
        self.view.setItemDelegate(cell)
        # While a value is typed the rows stay as they are; what was changed by it, or meanwhile, is shown then.
        self._typed = QTimer(self)
        self._typed.setSingleShot(True)
        self._typed.timeout.connect(self.refresh)
        cell.closeEditor.connect(lambda *_: self._typed.start(0))
        self.view.setObjectName("sheet")
        self.view.clicked.connect(self._open_list)
        self.view.setSelectionBehavior(QAbstractItemView.SelectionBehavior.SelectRows)
        self.view.setSelectionMode(QAbstractItemView.SelectionMode.SingleSelection)
        self.view.verticalHeader().hide()
        self.view.verticalHeader().setDefaultSectionSize(22)
        self.view.setAlternatingRowColors(True)
        self.view.setShowGrid(False)
        self.view.setWordWrap(False)
        self.view.selectionModel().currentRowChanged.connect(self._light_up)
        self.note.setProperty("role", "quiet")
        self.note.setWordWrap(True)
        self.note.setContentsMargins(10, 6, 10, 6)
        self._titles = FlowRow("sheet")
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self._titles)
        column.addWidget(self.note)
        self.picture = ShapePicture()
        self.picture.hide()
        column.addWidget(self.picture)
        column.addWidget(self.view, 1)
        self._actions = FlowRow("do")
        self._offered: list[tuple[str, Edit]] = []
        column.addWidget(self._actions)
        self.in_time = InTime(session, self._refresh, self)
        Follower(session, self.refresh, self, lambda: False)
        session.chosen_changed.connect(self._on_chosen)
        session.point_asked.connect(self._on_point)

    def paint_in(self, theme: Theme) -> None:
        """Take a theme's colours."""
        self.model.theme = self.picture.theme = theme
        self.picture.update()
        self.refresh()

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        self.refresh()

    def hideEvent(self, event: object) -> None:
        self.lit.emit(None)
        self.ghost.emit(None)

    @property
    def settled(self) -> bool:
        """Whether what is chosen is shown as it is."""
        return not self._typed.isActive() and not self.in_time.busy

    def refresh(self) -> None:
        """Show the chosen thing's sheet as it is now, unless a value is being typed."""
        if self.isVisible() and self.view.state() != QAbstractItemView.State.EditingState:
            self.in_time.now()

    def _refresh(self) -> None:
        thing = self._session.thing
        try:
            found = _sheets_of(self._session.engine, thing) if thing is not None else ()
            shown = next((s for s in found if s.title == self._wanted), found[0] if found else None)
            made = shown.make(self._session.engine) if shown else _NONE
        except Unsolved as unsolved:
            found, made = (), _NONE
            self.note.setText(str(unsolved))
        else:
            self.note.setText(
                "" if found else "Choose a street to see its elements, grade line, crossings and sections"
            )
        self._sheets = found
        self._show_titles()
        old = self.model.sheet
        fresh = made.columns != old.columns or len(made.rows) != len(old.rows) or made.line != old.line
        self.model.take(made)
        if found:
            self.note.setText(made.note)
        self.note.setVisible(bool(self.note.text()))
        self.view.setVisible(bool(made.rows))
        self.picture.show_shape(made.shape)
        if fresh:
            self.view.resizeColumnsToContents()
        self._light_up()

    def _show_titles(self) -> None:
        titles = [s.title for s in self._sheets]
        if titles != self._titles.words():
            self._titles.show_words(titles, lambda k: self.show_sheet(titles[k]))
        self._titles.setVisible(bool(titles))
        if titles:
            self._titles.mark(self._wanted if self._wanted in titles else titles[0])

    def show_sheet(self, title: str) -> None:
        """Show the sheet with that title."""
        self._wanted = title
        self.refresh()

    def fit(self) -> None:
        """Give every column the width that it needs."""
        self.view.resizeColumnsToContents()

    # A row and its place

    def _light_up(self, *_: object) -> None:
        row = self.view.currentIndex().row()
        rows = self.model.sheet.rows
        self._offer(rows[row].actions if 0 <= row < len(rows) else ())
        chosen = rows[row] if self.view.isVisible() and 0 <= row < len(rows) else None
        self.lit.emit(chosen.points if chosen else None)
        self.ghost.emit(chosen.ghost if chosen else None)

    def _offer(self, of_row: tuple[tuple[str, Edit], ...]) -> None:
        """Show buttons for what can be done with the row that is chosen, and with the whole sheet."""
        self._offered = [*of_row, *self.model.sheet.actions]
        words = [words for words, _ in self._offered]
        if words != self._actions.words():
            self._actions.show_words(words, self._do)
        self._actions.setVisible(bool(words))
        QTimer.singleShot(0, self.view, lambda: self.view.scrollTo(self.view.currentIndex()))  # there is less room now

    def _open_list(self, index: Index) -> None:
        """One click opens a cell's list."""
        if isinstance(self.model.cell(index), Choice) and self.model.flags(index) & Qt.ItemFlag.ItemIsEditable:
            self.view.edit(index)

    def _do(self, k: int) -> None:
        words, edit = self._offered[k]
        thing = self._session.thing
        # What is made along a survey line is chosen; what is done to a street leaves that in the hand.
        (self._session.do_and_choose if thing and thing.kind == "survey_line" else self._session.do)(words, edit)

    def _on_chosen(self) -> None:
        self.refresh()
        held = self._session.chosen.held
        if held:
            # A bend has two handles, and so has a strip of a section.
            key = ({"curve": "bend", "width": "piece", "fall": "piece"}.get(held[0], held[0]), *held[1:])
            self._choose_row(next((k for k, r in enumerate(self.model.sheet.rows) if r.held == key), -1))

    def _on_point(self, easting: float, northing: float) -> None:
        """Choose the row of the stretch beside a place that was clicked."""
        line = self.model.sheet.line
        if not self.isVisible() or not self.model.sheet.rows or self._session.section_line != line:
            return
        plan = self._session.engine.attempt(line_plan, line)
        if isinstance(plan, Unsolved):
            return
        foot = plan.base.feet([(easting, northing)])
        if abs(float(foot.offsets[0])) > _NEAR:
            return
        s = float(foot.chainages[0])
        within = [k for k, r in enumerate(self.model.sheet.rows) if r.stretch[0] <= s <= r.stretch[1]]
        self._choose_row(within[0] if within else -1)

    def _choose_row(self, row: int) -> None:
        if row < 0:
            self.view.setCurrentIndex(QModelIndex())
            self._light_up()
            return
        column = max(self.view.currentIndex().column(), 0)
        self.view.setCurrentIndex(self.model.index(row, column))
