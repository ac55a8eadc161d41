"""The level trail as a tree: each step opens when it is asked for, so that a trail may be as deep as it is."""

from __future__ import annotations

from PySide6.QtCore import QModelIndex, QPersistentModelIndex, QSize, Qt
from PySide6.QtWidgets import (
    QHeaderView,
    QLabel,
    QStyledItemDelegate,
    QStyleOptionViewItem,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from humble_loop.desk.follower import InTime
from humble_loop.desk.session import Session
from humble_loop.engine.query import Unsolved
from humble_loop.formats.quantities import show_grade, show_length
from humble_loop.whole.trail import Step, Term, trail_at

_MARKS = {"set": "●", "proposed": "○", "tied": "◆", "ground": "▵", "survey": "▵"}
_OPEN = 4  # steps that stand open at first
_STEP = Qt.ItemDataRole.UserRole


class _Wrapping(QStyledItemDelegate):
    """Gives every item the height that its words need at the width they have."""

    def __init__(self, tree: QTreeWidget) -> None:
        super().__init__(tree)
        self._tree = tree

    def sizeHint(self, option: QStyleOptionViewItem, index: QModelIndex | QPersistentModelIndex) -> QSize:
        size = super().sizeHint(option, index)
        if index.column() != 0:
            return size
        depth, parent = 1, index.parent()
        while parent.isValid():
            depth, parent = depth + 1, parent.parent()
        item = self._tree.itemFromIndex(index)
        whole = item is not None and item.isFirstColumnSpanned()
        width = self._tree.viewport().width() if whole else self._tree.columnWidth(0)
        width = max(width - depth * self._tree.indentation() - 8, 40)
        wrap = int(Qt.TextFlag.TextWordWrap)
        height = self._tree.fontMetrics().boundingRect(0, 0, width, 10_000, wrap, str(index.data())).height()
        return QSize(size.width(), max(size.height(), height + 4))


class TrailTree(QWidget):
    """Asks why a place has its level, and shows the answer."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._session = session
        self._point: tuple[float, float] | None = None
        self._asked_of: object = None
        self.head = QLabel()
        self.head.setProperty("role", "title")
        self.head.setWordWrap(True)
        self.tree = QTreeWidget()
        self.tree.setHeaderHidden(True)
        self.tree.setColumnCount(2)
        self.tree.setIndentation(10)
        self.tree.setWordWrap(True)
        self.tree.setUniformRowHeights(False)
        self.tree.header().setStretchLastSection(False)
        self.tree.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.tree.header().setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)
        self.tree.setItemDelegate(_Wrapping(self.tree))
        self.tree.header().sectionResized.connect(self.tree.scheduleDelayedItemsLayout)
        self.tree.itemExpanded.connect(self._fill)
        column = QVBoxLayout(self)
        column.setContentsMargins(10, 6, 4, 4)
        column.addWidget(self.head)
        column.addWidget(self.tree, 1)
        self.in_time = InTime(session, self._refresh, self)
        session.point_asked.connect(self._ask)

    def _ask(self, east: float, north: float) -> None:
        self._point, self._asked_of = (east, north), self._session.opened
        self.refresh()

    def refresh(self) -> None:
        """Ask again for the same place."""
        self.in_time.now()
        if self.in_time.busy:
            self.tree.clear()
            self.head.setText("Level trail: being worked out …")

    def _refresh(self) -> None:
        self.tree.clear()
        self.head.setText("Level trail: click a place in the plan to ask it why it has its level")
        if self._asked_of is not self._session.opened:
            self._point = None  # it was a place of another site
        if self._point is None or self._session.dragging:
            return
        try:
            step = trail_at(self._session.engine, *self._point)
        except Unsolved as unsolved:
            self.head.setText(f"Level trail: {unsolved.message}")
            return
        e, n = self._session.origin
        unit = self._session.site.settings.units
        self.head.setText(
            f"Level trail at {show_length(self._point[0] + e, unit, 2)}, {show_length(self._point[1] + n, unit, 2)}"
        )
        item = self._item(step, None)
        self.tree.addTopLevelItem(item)
        self._open(item, _OPEN)

    def _open(self, item: QTreeWidgetItem, depth: int) -> None:
        if depth <= 0:
            return
        item.setExpanded(True)
        for child in [item.child(k) for k in range(item.childCount())]:
            if child is not None:
                self._open(child, depth - 1)

    def _item(self, step: Step, term: Term | None) -> QTreeWidgetItem:
        name = f"{_MARKS.get(step.source, '')} {step.quantity}".strip()
        value = self._value(step)
        if term is not None and term.factor != 1.0:
            name, value = f"{term.words}: {name}", f"{term.amount:+.3f}".replace("-", "−")
        item = QTreeWidgetItem([name, value])
        item.setTextAlignment(1, Qt.AlignmentFlag.AlignRight)
        item.setToolTip(0, f"{step.quantity}: {step.rule}" if step.rule else step.quantity)
        item.setData(0, _STEP, step)
        if step.terms or step.rule:
            item.setChildIndicatorPolicy(QTreeWidgetItem.ChildIndicatorPolicy.ShowIndicator)
        return item

    def _value(self, step: Step) -> str:
        if step.unit == "grade":
            return show_grade(step.value)
        return show_length(step.value, self._session.site.settings.units)

    def _fill(self, item: QTreeWidgetItem) -> None:
        """Put a step's terms under it, the first time that it opens."""
        step = item.data(0, _STEP)
        if item.childCount() or not isinstance(step, Step):
            return
        if step.rule:
            note = QTreeWidgetItem([step.rule, ""])
            note.setFirstColumnSpanned(True)
            note.setToolTip(0, step.rule)
            item.addChild(note)
        for term in step.terms:
            if term.step is not None:
                item.addChild(self._item(term.step, term))
            else:
                leaf = QTreeWidgetItem([term.words, f"{term.amount:+.3f}".replace("-", "−")])
                leaf.setTextAlignment(1, Qt.AlignmentFlag.AlignRight)
                leaf.setToolTip(0, term.words)
                item.addChild(leaf)
