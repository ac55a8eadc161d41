"""Rows of facts as widgets: a value with its mark, a list to choose from, buttons, a line of text."""

from __future__ import annotations

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QComboBox, QGridLayout, QLabel, QLineEdit, QPushButton, QToolButton, QWidget

from humble_loop.desk.session import Session
from humble_loop.desk.values import fits, read, show
from humble_loop.formats.quantities import NotAQuantity
from humble_loop.lines.describe import Actions, Choice, Fact, Note, Row
from humble_loop.site.edits import Edit, EditError, attempted
from humble_loop.site.model import Settings

MARKS = {"set": "●", "proposed": "○", "locked": "■", "tied": "◆", "worked out": "·"}
_STATE_WORDS = {
    "set": "set: someone gave this value. Click to give it back to the proposal",
    "proposed": "proposed: it follows by itself. Click to set it as it stands",
    "locked": "locked: it stays as it is until it is unlocked, in Grade line beside the plan",
    "tied": "tied: it follows from something else",
    "worked out": "worked out from the rest",
}
_LONG = 22  # letters of a button beside which no other has room
_UNIT_HINT = {"grade": "percent, or 1:20", "chainage": "a chainage"}


class Form:
    """Makes the widgets of rows; what is typed or chosen becomes an edit of the session."""

    def __init__(self, session: Session) -> None:
        self._session = session

    def box(self, rows: tuple[Row, ...]) -> QWidget:
        """All rows under one another."""
        box = QWidget()
        grid = QGridLayout(box)
        grid.setContentsMargins(0, 2, 0, 6)
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(2)
        grid.setColumnStretch(1, 1)
        for i, row in enumerate(rows):
            if isinstance(row, Note):
                grid.addWidget(_note(row), i, 0, 1, 3)
            elif isinstance(row, Fact):
                self._fact(grid, i, row)
            elif isinstance(row, Choice):
                grid.addWidget(QLabel(_indented(row.label, row.inner)), i, 0)
                grid.addWidget(self._combo(row), i, 1, 1, 2)
            else:
                grid.addWidget(self._buttons(row), i, 0, 1, 3)
        return box

    def _fact(self, grid: QGridLayout, i: int, row: Fact) -> None:
        grid.addWidget(QLabel(_indented(row.label, row.inner)), i, 0)
        edit = QLineEdit(show(row.unit, row.value, self._session.site.settings))
        edit.setReadOnly(row.edit is None)
        edit.setFrame(row.edit is not None)
        edit.setCursorPosition(0)
        edit.setObjectName(f"fact {row.label}")
        if row.edit is not None:
            edit.setToolTip(_UNIT_HINT.get(row.unit, ""))
            edit.returnPressed.connect(lambda: self._typed(edit, row))
        grid.addWidget(edit, i, 1)
        mark = QToolButton()
        mark.setText(MARKS[row.state])
        mark.setToolTip(_STATE_WORDS[row.state])
        mark.setAutoRaise(True)
        mark.setObjectName("mark")
        mark.setFixedWidth(22)
        mark.setEnabled(row.switch is not None)
        if row.switch is not None:
            switch = row.switch
            mark.clicked.connect(lambda: self._session.do(f"Switch {row.label}", switch))
        grid.addWidget(mark, i, 2)

    def _typed(self, edit: QLineEdit, row: Fact) -> None:
        if not edit.isModified() or row.edit is None:
            return
        if error := typed_into(self._session, row, edit.text()):
            edit.setProperty("bad", "true")
            edit.style().polish(edit)
            edit.setToolTip(error)
            return
        edit.setModified(False)

    def _combo(self, row: Choice) -> QComboBox:
        combo = QComboBox()
        combo.setObjectName(f"choice {row.label}")
        combo.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        combo.setMinimumContentsLength(8)
        for value, name in row.options:
            combo.addItem(name, value)
        combo.setCurrentIndex(max(0, combo.findData(row.current)))
        combo.activated.connect(lambda _: self._session.do(f"Set {row.label}", row.edit(combo.currentData())))
        return combo

    def _buttons(self, row: Actions) -> QWidget:
        box = QWidget()
        grid = QGridLayout(box)
        grid.setContentsMargins(0, 3, 0, 3)
        beside = 1 if any(len(words) > _LONG for words, _ in row.buttons) else 2
        for k, (words, edit) in enumerate(row.buttons):
            button = QPushButton(words)
            button.clicked.connect(lambda _=False, words=words, edit=edit: self._session.do_and_choose(words, edit))
            grid.addWidget(button, k // beside, k % beside, Qt.AlignmentFlag.AlignLeft)
        grid.setColumnStretch(beside, 1)
        return box


def typed_into(session: Session, fact: Fact, text: str) -> str:
    """Give a fact the value that was typed. Where that cannot be it is said, and returned; nothing is done."""
    try:
        # Text is read now, so that what is wrong with it is said before anything is done.
        fresh = attempted(_edit_of(text, fact, session.site.settings), session.site)
    except (NotAQuantity, EditError) as error:
        session.said.emit(f"{fact.label}: {error}")
        return str(error)
    session.do(f"Set {fact.label}", lambda _: fresh)
    return ""


def _edit_of(text: str, fact: Fact, settings: Settings) -> Edit:
    for unit, edit in fact.accepts:
        if fits(unit, text):
            return edit(read(unit, text, settings))
    assert fact.edit is not None
    return fact.edit(read(fact.unit, text, settings))


def _indented(label: str, inner: bool) -> str:
    return f"   {label}" if inner else label


def _note(row: Note) -> QLabel:
    label = QLabel(row.words)
    label.setProperty("role", "head")
    label.setWordWrap(True)
    label.setTextInteractionFlags(Qt.TextInteractionFlag.NoTextInteraction)
    return label
