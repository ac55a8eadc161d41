"""The site index: the things of the site by stage, with search."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QLineEdit, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from humble_loop.desk.follower import InTime
from humble_loop.desk.session import Session
from humble_loop.engine.query import Engine, gate
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.whole.things import name_of, things_of


@dataclass(frozen=True)
class Entry:
    """A row: a thing, or the heading of rows under it."""

    words: str
    thing: ThingId | None
    under: tuple[Entry, ...] = ()


Group = tuple[str, int, tuple[Entry, ...]]
"""A kind's title, how many things it has, and its rows."""


@gate
def listed(q: Engine) -> tuple[Group, ...]:
    """Each kind's things, those of other kinds that belong under them folded in, in groups of their own titles."""
    groups: list[Group] = []
    for kind in kinds():
        things = things_of(q, kind.key)
        heads: dict[ThingId, list[Entry]] = {}
        for thing in things:
            entry = Entry(name_of(q, thing), thing)
            under = kind_of(thing.kind).under(q, thing)
            if under is None:
                heads[thing] = [entry]
            else:
                heads.setdefault(under, []).append(entry)
        entries = tuple(
            found[0] if head.kind == kind.key else Entry(f"{name_of(q, head)} ({len(found)})", None, tuple(found))
            for head, found in heads.items()
        )
        if things:
            groups.append((kind.title, len(things), entries))
    return tuple(groups)


class SiteIndex(QWidget):
    """A narrow tree at the left."""

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self.setObjectName("panel")
        self._session = session
        self._shown: object = None
        self.search = QLineEdit()
        self.search.setPlaceholderText("Search the site")
        self.search.setClearButtonEnabled(True)
        self.search.textChanged.connect(self._filter)
        self.tree = QTreeWidget()
        self._rows: dict[ThingId, QTreeWidgetItem] = {}
        self.tree.setHeaderHidden(True)
        self.tree.setIndentation(12)
        self.tree.itemClicked.connect(self._on_clicked)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 8, 4, 4)
        column.addWidget(self.search)
        column.addWidget(self.tree, 1)
        self._in_time = InTime(session, self._refresh, self)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.timeout.connect(self.refresh)
        session.changed.connect(lambda: self._later.start(400 if session.dragging else 150))
        session.chosen_changed.connect(self._mark)

    def refresh(self) -> None:
        """List the site's things; the tree is made again only when the list is another one."""
        self._in_time.now()

    def _refresh(self) -> None:
        groups = listed(self._session.engine)
        if groups is self._shown:
            self._mark()
            return
        self._shown = groups
        folded = {head.text(0).split(" (")[0] for head in self._heads() if not head.isExpanded()}
        self.tree.clear()
        self._rows.clear()
        for title, count, things in groups:
            head = QTreeWidgetItem([f"{title} ({count})"])
            head.setFlags(head.flags() & ~Qt.ItemFlag.ItemIsSelectable)
            self.tree.addTopLevelItem(head)
            for entry in things:
                head.addChild(self._item(entry))
            head.setExpanded((title not in folded and (title != "Survey lines" or bool(folded))) or title == "Streets")
        self._filter(self.search.text())
        self._mark()

    def _item(self, entry: Entry) -> QTreeWidgetItem:
        item = QTreeWidgetItem([entry.words])
        item.setToolTip(0, entry.words)
        item.setData(0, Qt.ItemDataRole.UserRole, entry.thing)
        if entry.thing is not None:
            self._rows[entry.thing] = item
        for inner in entry.under:
            item.addChild(self._item(inner))
        return item

    def _heads(self) -> list[QTreeWidgetItem]:
        found = (self.tree.topLevelItem(i) for i in range(self.tree.topLevelItemCount()))
        return [head for head in found if head is not None]

    def _items(self) -> Iterator[QTreeWidgetItem]:
        """Every row that is a thing, or a thing's heading."""
        todo = self._heads()
        while todo:
            head = todo.pop(0)
            children = [c for k in range(head.childCount()) if (c := head.child(k)) is not None]
            yield from children
            todo += children

    def _filter(self, text: str) -> None:
        words = text.lower().split()
        items = list(self._items())
        for item in items:
            item.setHidden(bool(words) and not all(w in item.text(0).lower() for w in words))
        for item in reversed(items):
            # What is found is reachable: its heading stands too, and is open.
            parent = item.parent()
            if words and not item.isHidden() and parent is not None:
                parent.setHidden(False)
                parent.setExpanded(True)
        if words:
            for head in self._heads():
                head.setExpanded(True)

    def _mark(self) -> None:
        chosen = self._session.chosen.thing
        self.tree.clearSelection()
        if chosen is None:
            return
        item = self._rows.get(chosen)
        while item is not None and (head := item.parent()) is not None and not head.isExpanded():
            item = head  # in a folded group, the group is marked
        if item is not None:
            item.setSelected(True)

    def _on_clicked(self, item: QTreeWidgetItem) -> None:
        thing = item.data(0, Qt.ItemDataRole.UserRole)
        if isinstance(thing, ThingId):
            self._session.choose(thing)
