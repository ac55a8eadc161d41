"""Facts: the chosen thing's values, each with its state as a mark that is also a switch, its findings, its trail."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import QLabel, QLineEdit, QScrollArea, QSplitter, QVBoxLayout, QWidget

from humble_loop.desk.findings_list import findings_box
from humble_loop.desk.follower import InTime
from humble_loop.desk.forms import Form
from humble_loop.desk.reasons import Reasons
from humble_loop.desk.session import Session
from humble_loop.desk.trail_tree import TrailTree
from humble_loop.engine.query import Unsolved
from humble_loop.lines.describe import Choice, Fact, Note, Row
from humble_loop.lines.findings import Finding
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kinds
from humble_loop.site.edits import Edit, set_set_out, set_settings
from humble_loop.site.model import Site
from humble_loop.whole.things import name_of, things_of


class FactsPanel(QSplitter):
    """The right-hand panel."""

    shown_at = Signal(float, float)  # a finding's place was asked for

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(Qt.Orientation.Vertical, parent)
        self.setMinimumWidth(250)
        self._session, self._form = session, Form(session)
        self._findings: tuple[Finding, ...] = ()
        self._show_all_findings = False
        self._page = QWidget()
        self._page.setObjectName("panel")
        self._column = QVBoxLayout(self._page)
        self._column.setContentsMargins(10, 8, 8, 8)
        self._column.setSpacing(4)
        self.title = QLabel()
        self.title.setProperty("role", "title")
        self.title.setWordWrap(True)
        self._rows, self._finding_box = QWidget(), QWidget()
        for widget in (self.title, self._rows, self._finding_box):
            self._column.addWidget(widget)
        self._column.addStretch(1)
        self._scroll = QScrollArea()
        self._scroll.setObjectName("panel")
        self._scroll.setWidgetResizable(True)
        self._scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self._scroll.setWidget(self._page)
        self.reasons = Reasons(session)
        self.addWidget(self._scroll)
        self.addWidget(self.reasons)
        self.setSizes([430, 260])
        self.in_time = InTime(session, self._refresh, self)
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(40)
        self._later.timeout.connect(self.refresh)
        session.changed.connect(self._on_changed)
        session.chosen_changed.connect(self._on_chosen)

    def _on_changed(self) -> None:
        # Values follow a drag when the hand pauses; making the panel anew at every move would hold the hand up.
        self._later.start(150 if self._session.dragging else 40)

    def _on_chosen(self) -> None:
        # After what was clicked is lit in the plan.
        self._later.start(150 if self._session.dragging else 0)

    @property
    def trail(self) -> TrailTree:
        """The level trail."""
        return self.reasons.trail

    @property
    def settled(self) -> bool:
        """Whether what is chosen is shown as it is."""
        return not (self._later.isActive() or self.in_time.busy) and self.reasons.settled

    def show_findings(self, findings: tuple[Finding, ...]) -> None:
        """Take the site's findings."""
        if findings is not self._findings:
            self._findings = findings
            self._later.start(40)

    def show_all_findings(self, wanted: bool) -> None:
        """List all findings of the site, or only the chosen thing's."""
        self._show_all_findings = wanted
        self.refresh()

    def refresh(self) -> None:
        """Show the chosen thing as it is now, unless a value is being typed. What was in view stays in view."""
        self.in_time.now()
        self.reasons.refresh()

    def _refresh(self) -> None:
        focus = self._page.focusWidget()
        if isinstance(focus, QLineEdit) and focus.hasFocus() and focus.isModified():
            return
        place = self._scroll.verticalScrollBar().value()
        same = self.title.text()
        rows: tuple[Row, ...] = ()
        thing = self._session.thing
        if self._show_all_findings:
            broken = sum(f.severity == "broken" for f in self._findings)
            title = f"Findings: {broken} broken, {len(self._findings) - broken} near"
            mine = list(self._findings)
        elif thing is None:
            title, rows, mine = self._session.site.name, self._site_rows(), []
        else:
            title, rows = name_of(self._session.engine, thing), self._thing_rows(thing)
            mine = [f for f in self._findings if self._concerns(f, thing)]
        self.title.setText(title)
        self._replace("_rows", self._form.box(rows), 1)
        self._replace("_finding_box", findings_box(self._session, mine, self.shown_at.emit), 2)
        if same == title:
            self._page.adjustSize()
            self._scroll.verticalScrollBar().setValue(place)

    def _replace(self, name: str, fresh: QWidget, place: int) -> None:
        old: QWidget = getattr(self, name)
        self._column.removeWidget(old)
        old.hide()
        old.deleteLater()
        setattr(self, name, fresh)
        self._column.insertWidget(place, fresh)

    def _concerns(self, finding: Finding, thing: ThingId) -> bool:
        """Whether a finding is about a thing, or about what stands on it."""
        if finding.concerns(thing):
            return True
        street = thing.id if thing.kind == "street" else ""
        return bool(street) and (finding.of.id.startswith(f"{street}:") or self._lot_of(finding.of, street))

    def _lot_of(self, other: ThingId, street: str) -> bool:
        for kind in kinds():
            if kind.key == other.kind:
                try:
                    return kind.under(self._session.engine, other) == ThingId("street", street)
                except Unsolved:
                    return False
        return False

    def _thing_rows(self, thing: ThingId) -> tuple[Row, ...]:
        """What the thing's own kind says of it, and what other kinds add."""
        rows: list[Row] = []
        for kind in kinds():
            try:
                found = kind.facts if kind.key == thing.kind else kind.facts_about
                rows += found(self._session.engine, thing)
            except Unsolved as unsolved:
                rows.append(Note(f"{unsolved.message}; {unsolved.remedy}" if unsolved.remedy else unsolved.message))
        return tuple(rows)

    def _site_rows(self) -> tuple[Row, ...]:
        site, q = self._session.site, self._session.engine
        settings, set_out = site.settings, site.set_out
        counts = ((kind.title.lower(), len(things_of(q, kind.key))) for kind in kinds())
        rows: list[Row] = [Fact(title, "count", count) for title, count in counts if count]
        units = (("m", "metres"), ("ft", "feet"), ("us-ft", "US survey feet"))
        styles = (("0+000.00", "0+123.45"), ("0+00.00", "1+23.45"), ("0.00", "123.45"))
        rows += [
            Choice("units", units, settings.units, lambda v: lambda s: set_settings(s, units=v)),
            Choice(
                "chainages", styles, settings.chainage_format, lambda v: lambda s: set_settings(s, chainage_format=v)
            ),
        ]
        for label, key in (
            ("contours", "contour_interval"),
            ("fine contours", "fine_contour_interval"),
            ("section interval", "row_interval"),
            ("arc tolerance", "arc_tolerance"),
            ("level tolerance", "level_tolerance"),
            ("fit of streets to lines", "fit_tolerance"),
        ):
            rows.append(Fact(label, "level", getattr(settings, key), "set", _field(set_settings, key)))
        rows.append(Note("Set-out"))
        for label, key in (
            ("interval", "interval"),
            ("most spacing on arcs", "spacing"),
            ("most rise of arcs", "rise"),
            ("offset outwards", "offset"),
            ("height above", "height"),
        ):
            rows.append(Fact(label, "level", getattr(set_out, key), "set", _field(set_set_out, key)))
        rows.append(Fact("first number", "count", set_out.first_number, "set", _field(set_set_out, "first_number")))
        return tuple(rows)


def _field(edit: Callable[..., Site], key: str) -> Callable[[object], Edit]:
    return lambda value: lambda site: edit(site, **{key: value})
