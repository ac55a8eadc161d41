"""The status line: cursor, ground and finished level, chainage and offset, findings, and the time of the last solve."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, QTimer
from PySide6.QtWidgets import QHBoxLayout, QLabel, QPushButton, QWidget

from humble_loop.desk.sentence import Sentence
from humble_loop.desk.session import Session
from humble_loop.engine.query import Cancelled, Unsolved
from humble_loop.formats.quantities import show_chainage, show_length
from humble_loop.lines.findings import Finding
from humble_loop.lines.line import line_plan
from humble_loop.site.edits import Edit
from humble_loop.whole.places import FaceTree, face_tree
from humble_loop.whole.surface import probe
from humble_loop.whole.things import name_of, thing_of

_SAID_FOR = 9000  # milliseconds
_PATIENCE = 0.1  # seconds for the levels under the cursor


class StatusLine(QWidget):
    """The line at the bottom of the window."""

    def __init__(self, session: Session) -> None:
        super().__init__()
        self.setObjectName("panel")
        self._session = session
        self._tree: FaceTree | None = None
        self._details: Callable[[], object] | None = None
        self._instead: Edit | None = None
        row = QHBoxLayout(self)
        row.setContentsMargins(10, 2, 10, 3)
        self.setFixedHeight(26)  # signs from another font must not push the views about
        row.setSpacing(16)
        self.said, self.place, self.levels = Sentence(), QLabel(), QLabel()
        self.station, self.count, self.time = QLabel(), QLabel(), QLabel()
        for label in (self.place, self.levels, self.station):
            row.addWidget(label)
        self.said.setAlignment(Qt.AlignmentFlag.AlignRight | Qt.AlignmentFlag.AlignVCenter)
        row.addWidget(self.said, 1)
        self.details = QPushButton("What was it?")
        self.details.setFlat(True)
        self.details.setFixedHeight(20)
        self.details.hide()
        self.details.clicked.connect(self._show_details)
        row.addWidget(self.details)
        self.instead = QPushButton()
        self.instead.setFlat(True)
        self.instead.setFixedHeight(20)
        self.instead.hide()
        self.instead.clicked.connect(self._do_instead)
        row.addWidget(self.instead)
        for label in (self.count, self.time):
            row.addWidget(label)
        self.time.setProperty("role", "quiet")
        self._hide_said = QTimer(self)
        self._hide_said.setSingleShot(True)
        self._hide_said.setInterval(_SAID_FOR)
        self._hide_said.timeout.connect(self.said.clear)
        session.cursor_moved.connect(self.show_cursor)
        session.changed.connect(self._on_changed)
        session.offered.connect(self.offer_instead)

    def say(self, words: str) -> None:
        """One sentence for a while."""
        self.said.setText(words)
        self._hide_said.start()

    def offer_details(self, show: Callable[[], object]) -> None:
        """Offer what there is to tell of a fault, until it has been looked at."""
        self._details = show
        self.details.show()

    def offer_instead(self, words: str, edit: Edit) -> None:
        """Offer what could have been meant instead of the last edit, until the next."""
        self._instead = edit
        self.instead.setText(words)
        self.instead.show()

    def _do_instead(self) -> None:
        words, edit = self.instead.text(), self._instead
        self.instead.hide()
        if edit is not None:
            self._session.do(words, edit)

    def _show_details(self) -> None:
        self.details.hide()
        if self._details is not None:
            self._details()

    def show_findings(self, findings: tuple[Finding, ...]) -> None:
        """How many rules are broken, and what the last solve took."""
        broken = sum(f.severity == "broken" for f in findings)
        self.count.setText(f"▲ {broken} broken  ◇ {len(findings) - broken} near" if findings else "no findings")
        stats = self._session.engine.stats
        self.time.setText(f"{stats.total} results in {1000 * stats.seconds:.0f} ms")

    def settled(self) -> None:
        """All faces are worked out: levels may be read from them at once."""
        self._tree = face_tree(self._session.engine)

    def _on_changed(self) -> None:
        self._tree = None
        self.instead.hide()

    def show_cursor(self) -> None:
        """Show where the cursor is. Levels are read only from what is worked out already."""
        cursor, unit = self._session.cursor, self._session.site.settings.units
        if cursor is None:
            return
        e, n = self._session.origin
        self.place.setText(f"E {show_length(cursor[0] + e, unit)}  N {show_length(cursor[1] + n, unit)}")
        self._show_station(cursor)
        if self._session.dragging or self._tree is None:
            return
        try:
            with self._session.engine.within(_PATIENCE):
                found = probe(self._session.engine, *cursor, self._tree)
        except Cancelled:
            self.levels.setText("levels here are still being worked out")
            return
        difference = found.finished - found.ground
        self.levels.setText(
            f"ground {show_length(found.ground, unit)}  finished {show_length(found.finished, unit)}"
            f"  difference {show_length(difference, unit)}"
        )

    def _show_station(self, cursor: tuple[float, float]) -> None:
        station, settings = self._session.station, self._session.site.settings
        if station is None:
            return
        plan = self._session.engine.attempt(line_plan, station.line)
        if isinstance(plan, Unsolved):
            return
        offset = show_length(float(plan.base.feet([cursor]).offsets[0]), settings.units, 2)
        at = show_chainage(station.chainage, settings.chainage_format, settings.units)
        q = self._session.engine
        name = name_of(q, thing_of(q, station.line))
        self.station.setText(f"{name} {at}  offset {offset}")
