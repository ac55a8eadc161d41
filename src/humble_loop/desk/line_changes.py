"""What has changed in lines whose file was read again: ticked line by line, and shown in plan, before it is taken."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QDialog, QDialogButtonBox, QLabel, QListWidget, QListWidgetItem, QVBoxLayout, QWidget

from humble_loop.formats.again import LineChange


class LineChanges(QDialog):
    """A list that stays open beside the plan. What has moved and what is new is ticked; what is gone stays unless it is."""

    def __init__(
        self,
        changes: Sequence[LineChange],
        take: Callable[[Sequence[LineChange]], None],
        show: Callable[[LineChange | None], None],
        parent: QWidget,
    ) -> None:
        super().__init__(parent)
        self.setWindowTitle("Lines that have changed in their file")
        self.resize(620, 360)
        self._changes, self._take, self._show_change = tuple(changes), take, show
        words = QLabel(
            "A click shows one on the plan. What is ticked is taken; whatever follows a line goes on following it."
        )
        words.setProperty("role", "quiet")
        words.setWordWrap(True)
        self.list = QListWidget()
        for change in self._changes:
            item = QListWidgetItem(change.words, self.list)
            item.setFlags(item.flags() | Qt.ItemFlag.ItemIsUserCheckable)
            item.setCheckState(Qt.CheckState.Checked if change.fresh is not None else Qt.CheckState.Unchecked)
        self.list.currentRowChanged.connect(self._show)
        buttons = QDialogButtonBox()
        taken = buttons.addButton("Take what is ticked", QDialogButtonBox.ButtonRole.AcceptRole)
        taken.setDefault(True)
        buttons.addButton("Leave all as it is", QDialogButtonBox.ButtonRole.RejectRole)
        buttons.accepted.connect(self.accept)
        buttons.rejected.connect(self.reject)
        self.finished.connect(lambda: self._show_change(None))
        column = QVBoxLayout(self)
        column.addWidget(words)
        column.addWidget(self.list, 1)
        column.addWidget(buttons)

    def accept(self) -> None:
        """Take what is ticked."""
        rows = range(self.list.count())
        wanted = [self._changes[k] for k in rows if self.list.item(k).checkState() == Qt.CheckState.Checked]
        if wanted:
            self._take(wanted)
        super().accept()

    def _show(self, row: int) -> None:
        self._show_change(self._changes[row] if row >= 0 else None)
