"""The site index: the things of the site by stage, with search."""

from __future__ import annotations

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QLineEdit, QTreeWidget, QTreeWidgetItem, QVBoxLayout, QWidget

from humble_loop.desk.session import Chosen, Session
from humble_loop.solve import parts
from humble_loop.solve.engine import Unsolved
from humble_loop.solve.junction import all_joints, junction_name
from humble_loop.solve.lot import lots


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
        self.tree.setHeaderHidden(True)
        self.tree.setIndentation(12)
        self.tree.itemClicked.connect(self._on_clicked)
        column = QVBoxLayout(self)
        column.setContentsMargins(8, 8, 4, 4)
        column.addWidget(self.search)
        column.addWidget(self.tree, 1)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.timeout.connect(self.refresh)
        session.changed.connect(lambda: self._later.start(400 if session.dragging else 150))
        session.chosen_changed.connect(self._mark)

    def refresh(self) -> None:
        """List the site's things; the tree is made again only when the list is another one."""
        groups = self._groups()
        if groups == self._shown:
            self._mark()
            return
        self._shown = groups
        folded = {
            self.tree.topLevelItem(i).text(0).split(" (")[0]
            for i in range(self.tree.topLevelItemCount())
            if not self.tree.topLevelItem(i).isExpanded()
        }
        self.tree.clear()
        for title, things in groups:
            head = QTreeWidgetItem([f"{title} ({len(things)})"])
            head.setFlags(head.flags() & ~Qt.ItemFlag.ItemIsSelectable)
            self.tree.addTopLevelItem(head)
            for words, chosen in things:
                item = QTreeWidgetItem([words])
                item.setToolTip(0, words)
                item.setData(0, Qt.ItemDataRole.UserRole, chosen)
                head.addChild(item)
            head.setExpanded((title not in folded and (title != "Survey lines" or bool(folded))) or title == "Streets")
        self._filter(self.search.text())
        self._mark()

    def _groups(self) -> list[tuple[str, list[tuple[str, Chosen]]]]:
        q, site = self._session.engine, self._session.site
        streets = [(s.name, Chosen("street", s.id)) for s in site.streets]
        junctions = [(junction_name(q, side, end), Chosen("street", side)) for side, end, _ in all_joints(q)]
        heads = [(f"{s.name} bulb", Chosen("street", s.id)) for s in site.streets if s.head]
        lot_things: list[tuple[str, Chosen]] = []
        for street in parts.street_ids(q):
            made = q.attempt(lots, street)
            if not isinstance(made, Unsolved):
                lot_things += [(lot.name, Chosen("lot", street, lot.name)) for lot in made]
        return [
            (
                "Ground",
                [(g.name + ("  (current)" if g.id == site.current_ground else ""), Chosen()) for g in site.grounds],
            ),
            ("Streets", streets),
            ("Junctions", junctions),
            ("Turning heads", heads),
            ("Lots", lot_things),
            ("Survey lines", [(line.name, Chosen()) for line in site.survey_lines]),
        ]

    def _filter(self, text: str) -> None:
        words = text.lower().split()
        for i in range(self.tree.topLevelItemCount()):
            head = self.tree.topLevelItem(i)
            for k in range(head.childCount()):
                child = head.child(k)
                child.setHidden(not all(w in child.text(0).lower() for w in words))
            if words:
                head.setExpanded(True)

    def _mark(self) -> None:
        chosen = self._session.chosen
        self.tree.clearSelection()
        for i in range(self.tree.topLevelItemCount()):
            head = self.tree.topLevelItem(i)
            for k in range(head.childCount()):
                data = head.child(k).data(0, Qt.ItemDataRole.UserRole)
                same = (
                    data is not None
                    and data.kind
                    and (data.kind, data.street, data.detail) == (chosen.kind, chosen.street, chosen.detail)
                )
                if same and head.text(0).startswith(("Streets", "Lots")):
                    head.child(k).setSelected(True)

    def _on_clicked(self, item: QTreeWidgetItem) -> None:
        chosen = item.data(0, Qt.ItemDataRole.UserRole)
        if chosen is not None and chosen.kind:
            self._session.choose(chosen)
