"""Facts: the chosen thing's values, each with its state as a mark that is also a switch, its findings, its trail."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from PySide6.QtCore import Qt, QTimer, Signal
from PySide6.QtWidgets import (
    QComboBox,
    QGridLayout,
    QHBoxLayout,
    QHeaderView,
    QLabel,
    QLineEdit,
    QPushButton,
    QScrollArea,
    QSplitter,
    QToolButton,
    QTreeWidget,
    QTreeWidgetItem,
    QVBoxLayout,
    QWidget,
)

from humble_loop.desk.session import Chosen, Edit, Session
from humble_loop.formats.quantities import (
    NotAQuantity,
    parse_chainage,
    parse_grade,
    parse_length,
    show_chainage,
    show_grade,
    show_length,
)
from humble_loop.propose.grade import keep_proposal
from humble_loop.propose.lots import line_with_lots
from humble_loop.site import edits
from humble_loop.site.model import End, Site
from humble_loop.solve import parts
from humble_loop.solve.checks import Finding
from humble_loop.solve.engine import Unsolved
from humble_loop.solve.head import head_levels, head_of, head_outline
from humble_loop.solve.junction import ENDS, SIDES, Joint, joint, junction_name, kerb_return, return_levels, throat
from humble_loop.solve.lot import lot_plan, pad
from humble_loop.solve.section import is_new
from humble_loop.solve.street import centreline, grade_line
from humble_loop.solve.surface import piece_volume
from humble_loop.solve.trail import Step, trail_at

MARKS = {"set": "●", "proposed": "○", "tied": "◆", "worked out": "·"}
_STATE_WORDS = {
    "set": "set: someone gave this value. Click to give it back to the proposal",
    "proposed": "proposed: it follows by itself. Click to set it as it stands",
    "tied": "tied: it follows from something else",
    "worked out": "worked out from the rest",
}


@dataclass(frozen=True)
class Fact:
    """A row: label, shown value, state, how typed text becomes an edit (None: read only), what the mark does."""

    label: str
    value: str
    state: str = "worked out"
    typed: Callable[[str], Edit] | None = None
    switch: Edit | None = None


@dataclass(frozen=True)
class Choice:
    """A row with a list to choose from: (id, name) pairs."""

    label: str
    options: tuple[tuple[str, str], ...]
    current: str
    edit: Callable[[str], Edit]


@dataclass(frozen=True)
class Action:
    """A row with buttons: (words, what to do)."""

    buttons: tuple[tuple[str, Callable[[], object]], ...]


Row = Fact | Choice | Action | str


class FactsPanel(QSplitter):
    """The right-hand panel."""

    shown_at = Signal(float, float)  # a finding's place was asked for

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(Qt.Orientation.Vertical, parent)
        self.setMinimumWidth(250)
        self._session = session
        self._findings: tuple[Finding, ...] = ()
        self._show_all_findings = False
        self._point: tuple[float, float] | None = None
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
        scroll = QScrollArea()
        scroll.setObjectName("panel")
        scroll.setWidgetResizable(True)
        scroll.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        scroll.setWidget(self._page)
        self.addWidget(scroll)
        self.addWidget(self._make_trail())
        self.setSizes([430, 260])
        self._later = QTimer(self)
        self._later.setSingleShot(True)
        self._later.setInterval(40)
        self._later.timeout.connect(self.refresh)
        session.changed.connect(self._on_changed)
        session.chosen_changed.connect(self.refresh)
        session.point_asked.connect(self._on_point)

    def _on_changed(self) -> None:
        # Values follow a drag when the hand pauses; making the panel anew at every move would hold the hand up.
        self._later.start(150 if self._session.dragging else 40)

    def _make_trail(self) -> QWidget:
        box = QWidget()
        box.setObjectName("panel")
        self._trail_head = QLabel()
        self._trail_head.setProperty("role", "title")
        self._trail_head.setWordWrap(True)
        self.trail = QTreeWidget()
        self.trail.setHeaderHidden(True)
        self.trail.setColumnCount(2)
        self.trail.setIndentation(10)
        self.trail.setWordWrap(True)
        self.trail.header().setStretchLastSection(False)
        self.trail.header().setSectionResizeMode(0, QHeaderView.ResizeMode.Stretch)
        self.trail.header().setSectionResizeMode(1, QHeaderView.ResizeMode.ResizeToContents)
        column = QVBoxLayout(box)
        column.setContentsMargins(10, 6, 4, 4)
        column.addWidget(self._trail_head)
        column.addWidget(self.trail, 1)
        return box

    # What is shown

    def show_findings(self, findings: tuple[Finding, ...]) -> None:
        """Take the site's findings."""
        if findings is not self._findings:
            self._findings = findings
            self._later.start()

    def show_all_findings(self, wanted: bool) -> None:
        """List all findings of the site, or only the chosen thing's."""
        self._show_all_findings = wanted
        self.refresh()

    def refresh(self) -> None:
        """Show the chosen thing as it is now, unless a value is being typed."""
        focus = self._page.focusWidget()
        if isinstance(focus, QLineEdit) and focus.hasFocus() and focus.isModified():
            return
        title, rows = self._describe(self._session.chosen)
        if self._show_all_findings:
            broken = sum(f.severity == "broken" for f in self._findings)
            title, rows = f"Findings: {broken} broken, {len(self._findings) - broken} near", []
        self.title.setText(title)
        self._replace("_rows", self._grid(rows), 1)
        self._replace("_finding_box", self._finding_list(self._mine()), 2)
        self._show_trail()

    def _replace(self, name: str, fresh: QWidget, place: int) -> None:
        old: QWidget = getattr(self, name)
        self._column.removeWidget(old)
        old.hide()
        old.deleteLater()
        setattr(self, name, fresh)
        self._column.insertWidget(place, fresh)

    def _mine(self) -> list[Finding]:
        if self._show_all_findings:
            return list(self._findings)
        chosen = self._session.chosen
        if chosen.kind == "lot":
            return [f for f in self._findings if f.thing == chosen.detail]
        if chosen.street in parts.street_ids(self._session.engine):
            name = parts.street_name(self._session.engine, chosen.street)
            return [f for f in self._findings if f.thing == name or f.thing.startswith(f"{name} ")]
        return []

    def _describe(self, chosen: Chosen) -> tuple[str, list[Row]]:
        q = self._session.engine
        if chosen.street not in parts.street_ids(q):
            return self._site_rows()
        if chosen.kind == "lot":
            return chosen.detail, self._lot_rows(chosen.street, chosen.detail)
        return parts.street_name(q, chosen.street), self._street_rows(chosen.street)

    def _site_rows(self) -> tuple[str, list[Row]]:
        site = self._session.site
        ground = parts.current_surface(self._session.engine)
        rows: list[Row] = [Fact("streets", str(len(site.streets))), Fact("survey lines", str(len(site.survey_lines)))]
        rows.append(
            Fact("ground", "none: drop a survey file here" if ground is None else f"{len(ground.points)} points")
        )
        if len(site.grounds) > 1:
            rows.append(
                Choice(
                    "current ground",
                    tuple((g.id, g.name) for g in site.grounds),
                    site.current_ground or "",
                    lambda i: lambda s: s.model_copy(update={"current_ground": i}),
                )
            )
        settings, unit = site.settings, site.settings.units
        units = (("m", "metres"), ("ft", "feet"), ("us-ft", "US survey feet"))
        rows.append(Choice("units", units, unit, lambda u: lambda s: edits.set_settings(s, units=u)))
        styles = (("0+000.00", "0+123.45"), ("0+00.00", "1+23.45"), ("0.00", "123.45"))
        rows.append(
            Choice(
                "chainages",
                styles,
                settings.chainage_format,
                lambda v: lambda s: edits.set_settings(s, chainage_format=v),
            )
        )
        for label, field in (
            ("contours", "contour_interval"),
            ("fine contours", "fine_contour_interval"),
            ("section interval", "row_interval"),
            ("arc tolerance", "arc_tolerance"),
        ):
            value = show_length(getattr(settings, field), unit)
            rows.append(Fact(label, value, "set", self._length_edit(edits.set_settings, field)))
        rows.append("Set-out")
        for label, field in (("interval", "interval"), ("offset outwards", "offset"), ("height above", "height")):
            value = show_length(getattr(site.set_out, field), unit)
            rows.append(Fact(label, value, "set", self._length_edit(edits.set_set_out, field)))
        first = str(site.set_out.first_number)
        rows.append(
            Fact("first number", first, "set", lambda t: lambda s: edits.set_set_out(s, first_number=_whole(t)))
        )
        return site.name, rows

    def _length_edit(self, edit: Callable[..., Site], field: str) -> Callable[[str], Edit]:
        unit = self._session.site.settings.units
        return lambda text: lambda site: edit(site, **{field: parse_length(text, unit)})

    def _street_rows(self, street: str) -> list[Row]:
        q, site = self._session.engine, self._session.site
        frame, unit, style = parts.street_frame(q, street), site.settings.units, site.settings.chainage_format
        rows: list[Row] = [
            Fact("name", frame.name, "set", lambda t: lambda s: edits.rename_street(s, street, t)),
            Choice(
                "kind",
                (("new", "new"), ("existing", "existing")),
                frame.kind,
                lambda k: lambda s: edits.set_street(s, street, kind=k),
            ),
            Choice(
                "class",
                tuple((c.id, c.name) for c in site.street_classes),
                frame.street_class,
                lambda k: lambda s: edits.set_street(s, street, street_class=k),
            ),
            Choice(
                "section",
                tuple((c.id, c.name) for c in site.sections),
                frame.section,
                lambda k: lambda s: edits.set_street(s, street, section=k),
            ),
        ]
        line = q.attempt(centreline, street)
        if isinstance(line, Unsolved):
            return [*rows, f"{line.message}; {line.remedy}"]
        rows.append(Fact("length", show_length(line.chain.total, unit, 2)))
        rows += self._bend_rows(street)
        if frame.kind == "existing":
            lines = (("", "by the section"), *((line.id, line.name) for line in site.survey_lines))
            for field, label in (("left_lip", "left lip"), ("right_lip", "right lip")):
                current = getattr(frame, field) or ""
                rows.append(
                    Choice(
                        label,
                        lines,
                        current,
                        lambda v, f=field: lambda s: edits.set_street(s, street, **{f: v or None}),
                    )
                )
        if is_new(q, street):
            rows += self._vip_rows(street, style, unit)
            for end in ENDS:
                if isinstance(q.attempt(joint, street, end), Joint):
                    rows += self._junction_rows(street, end)
            rows += self._head_rows(street)
            rows.append(
                Action(
                    (
                        ("Add lots", lambda: self._add_lots(street)),
                        ("Reverse", lambda: self._reverse(street)),
                        (
                            "Remove",
                            lambda: self._session.do(f"Remove {frame.name}", lambda s: edits.remove_street(s, street)),
                        ),
                    )
                )
            )
        return rows

    def _add_lots(self, street: str) -> None:
        q = self._session.engine
        self._session.do("Add lots", lambda site: line_with_lots(q, site, street))

    def _reverse(self, street: str) -> None:
        total = centreline(self._session.engine, street).chain.total
        self._session.do("Reverse the street", lambda site: edits.reverse_street(site, street, total))

    def _bend_rows(self, street: str) -> list[Row]:
        q, unit = self._session.engine, self._session.site.settings.units
        rows: list[Row] = []
        for i, b in enumerate(parts.street_bends(q, street)[1:-1], start=1):
            rows.append(
                Fact(
                    f"bend {i + 1} radius",
                    show_length(b[2], unit, 2),
                    "set",
                    lambda t, i=i: lambda s: edits.set_bend(s, street, i, radius=parse_length(t, unit)),
                )
            )
            if b[3] or b[4]:
                rows.append(Fact("transitions", f"{show_length(b[3], unit, 2)} / {show_length(b[4], unit, 2)}"))
        return rows

    def _vip_rows(self, street: str, style: str, unit: str) -> list[Row]:
        q = self._session.engine
        line = q.attempt(grade_line, street)
        if isinstance(line, Unsolved):
            return [f"{line.message}; {line.remedy}"]
        p = line.profile
        proposed = "proposed" in line.states
        switch: Edit = (
            (lambda s: keep_proposal(q, s, street)) if proposed else (lambda s: edits.set_vips(s, street, []))
        )
        rows: list[Row] = [
            Fact("grade line", f"{len(line.states)} VIPs", "proposed" if proposed else "set", None, switch)
        ]
        if len(line.states) > 10:
            return rows
        for i, state in enumerate(line.states):
            index = line.index[i]
            typed = None
            if index >= 0:
                typed = lambda t, k=index: self._vip_edit(street, k, t, unit)  # noqa: E731
            chosen = " ▸" if self._session.chosen.vip == i else ""
            rows.append(
                Fact(
                    f"VIP {show_chainage(float(p.chainages[i]), style, unit)}{chosen}",
                    show_length(float(p.levels[i]), unit),
                    state,
                    typed,
                )
            )
            if index >= 0 and 0 < i < len(line.states) - 1:
                rows.append(
                    Fact(
                        "   curve length",
                        show_length(float(p.curves[i]), unit, 2),
                        "set",
                        lambda t, k=index: lambda s: edits.set_vip(s, street, k, curve_length=parse_length(t, unit)),
                    )
                )
            if i < len(p.grades):
                own = line.index[i + 1]
                grade_typed = None
                if own >= 0:
                    grade_typed = lambda t, k=own: lambda s: edits.set_vip(s, street, k, grade=parse_grade(t))  # noqa: E731
                rows.append(Fact("   grade", show_grade(float(p.grades[i])), "worked out", grade_typed))
        return rows

    def _vip_edit(self, street: str, index: int, text: str, unit: str) -> Edit:
        if (
            "+" in text
            and text.count("+") == 1
            and len(text.split("+")[1].split(".")[0]) in (2, 3)
            and text.split("+")[0].strip().isdigit()
        ):
            chainage = parse_chainage(text, unit)
            return lambda s: edits.set_vip(s, street, index, chainage=chainage)
        level = parse_length(text, unit)
        return lambda s: edits.set_vip(s, street, index, level=level)

    def _junction_rows(self, street: str, end: End) -> list[Row]:
        q, unit = self._session.engine, self._session.site.settings.units
        rows: list[Row] = [junction_name(q, street, end)]
        t = q.attempt(throat, street, end)
        rows.append(t.message if isinstance(t, Unsolved) else Fact("throat level", show_length(t.level, unit), "tied"))
        for corner in SIDES:
            made = q.attempt(kerb_return, street, end, corner)
            choice = getattr(parts.junction_choice(q, street, end), corner)
            state = "set" if choice.radius else "proposed"
            radius = choice.radius or parts.street_class(q, street).return_radius
            back: Edit = lambda s, c=corner: edits.set_corner(s, street, end, c, radius=None)  # noqa: E731
            keep: Edit = lambda s, c=corner, r=radius: edits.set_corner(s, street, end, c, radius=r)  # noqa: E731
            rows.append(
                Fact(
                    f"{corner} radius",
                    show_length(radius, unit, 2),
                    state,
                    lambda x, c=corner: lambda s: edits.set_corner(s, street, end, c, radius=parse_length(x, unit)),
                    back if state == "set" else keep,
                )
            )
            if isinstance(made, Unsolved):
                rows.append(f"{made.message}; {made.remedy}")
                continue
            levels = q.attempt(return_levels, street, end, corner)
            if not isinstance(levels, Unsolved):
                c = levels.cubic
                rows.append(Fact("   levels", f"{show_length(c.z0, unit)} → {show_length(c.z1, unit)}", "tied"))
            rows.append(
                Fact(
                    "   divisions",
                    str(choice.divisions),
                    "set",
                    lambda x, c=corner: lambda s: edits.set_corner(s, street, end, c, divisions=_whole(x)),
                )
            )
            rows.append(
                Choice(
                    "   pit",
                    (("no", "no pit"), ("yes", "pit at the low point")),
                    "yes" if choice.pit else "no",
                    lambda v, c=corner: lambda s: edits.set_corner(s, street, end, c, pit=v == "yes"),
                )
            )
        return rows

    def _head_rows(self, street: str) -> list[Row]:
        q, unit = self._session.engine, self._session.site.settings.units
        head = head_of(q, street)
        if head is None:
            if isinstance(q.attempt(joint, street, "end"), Joint):
                return []
            return [
                Action(
                    (("End it in a bulb", lambda: self._session.do("Add a bulb", lambda s: edits.set_head(s, street))),)
                )
            ]

        def length(field: str) -> Callable[[str], Edit]:
            return lambda t: lambda s: edits.set_head(s, street, **{field: parse_length(t, unit)})

        rows: list[Row] = [
            "Bulb",
            Fact("radius", show_length(head.radius, unit, 2), "set", length("radius")),
            Fact("return radius", show_length(head.return_radius, unit, 2), "set", length("return_radius")),
            Fact("offset left", show_length(head.offset, unit, 2), "set", length("offset")),
            Fact(
                "radial fall",
                show_grade(head.fall),
                "set",
                lambda t: lambda s: edits.set_head(s, street, fall=parse_grade(t)),
            ),
            Fact(
                "divisions",
                str(head.divisions),
                "set",
                lambda t: lambda s: edits.set_head(s, street, divisions=_whole(t)),
            ),
            Choice(
                "drains",
                (("auto", "by itself"), ("street", "to the street"), ("pit", "to a pit")),
                head.outlet,
                lambda v: lambda s: edits.set_head(s, street, outlet=v),
            ),
        ]
        outline, levels = q.attempt(head_outline, street), q.attempt(head_levels, street)
        if isinstance(outline, Unsolved):
            return [*rows, f"{outline.message}; {outline.remedy}"]
        if not isinstance(levels, Unsolved):
            word = "pit" if levels.outlet == "pit" else "high point"
            rows.append(Fact("centre", show_length(levels.centre, unit), "tied"))
            rows.append(Fact(word, show_length(float(levels.profile.levels[2]), unit), "proposed"))
        rows.append(
            Action(
                (
                    (
                        "Take the bulb away",
                        lambda: self._session.do("Take the bulb away", lambda s: edits.remove_head(s, street)),
                    ),
                )
            )
        )
        return rows

    def _lot_rows(self, street: str, name: str) -> list[Row]:
        q, unit = self._session.engine, self._session.site.settings.units
        plan, level = q.attempt(lot_plan, street, name), q.attempt(pad, street, name)
        if isinstance(plan, Unsolved) or isinstance(level, Unsolved):
            bad = plan if isinstance(plan, Unsolved) else level
            return [f"{bad.message}; {bad.remedy}" if isinstance(bad, Unsolved) else ""]
        volume = q.attempt(piece_volume, ("lot", street, name))
        value = level.level
        switch: Edit = (
            (lambda s: edits.set_pad(s, name, None))
            if level.state == "set"
            else (lambda s: edits.set_pad(s, name, value))
        )
        rows: list[Row] = [
            Fact(
                "pad level",
                show_length(level.level, unit),
                level.state,
                lambda t: lambda s: edits.set_pad(s, name, parse_length(t, unit)),
                switch,
            ),
            Fact("window", f"{show_length(level.low, unit)} to {show_length(level.high, unit)}"),
            Fact("ground wants", show_length(level.wanted, unit)),
            Fact("boundary", show_length(level.boundary, unit), "tied"),
            Fact("area", f"{plan.area:.1f} m²"),
            Fact("frontage", show_length(plan.frontage, unit, 2)),
            Fact("pad area", f"{plan.pad_area:.1f} m²"),
        ]
        if not isinstance(volume, Unsolved):
            rows.append(Fact("cut / fill", f"{volume.cut:.1f} / {volume.fill:.1f} m³"))
        return rows

    # Widgets

    def _grid(self, rows: list[Row]) -> QWidget:
        box = QWidget()
        grid = QGridLayout(box)
        grid.setContentsMargins(0, 2, 0, 6)
        grid.setHorizontalSpacing(6)
        grid.setVerticalSpacing(2)
        grid.setColumnStretch(1, 1)
        for i, row in enumerate(rows):
            if isinstance(row, str):
                label = QLabel(row)
                label.setProperty("role", "head")
                label.setWordWrap(True)
                grid.addWidget(label, i, 0, 1, 3)
            elif isinstance(row, Fact):
                self._fact(grid, i, row)
            elif isinstance(row, Choice):
                grid.addWidget(QLabel(row.label), i, 0)
                grid.addWidget(self._combo(row), i, 1, 1, 2)
            else:
                line = QHBoxLayout()
                line.setContentsMargins(0, 3, 0, 3)
                for words, what in row.buttons:
                    button = QPushButton(words)
                    button.clicked.connect(lambda _=False, what=what: what())
                    line.addWidget(button)
                line.addStretch(1)
                grid.addLayout(line, i, 0, 1, 3)
        return box

    def _fact(self, grid: QGridLayout, i: int, row: Fact) -> None:
        label = QLabel(row.label)
        grid.addWidget(label, i, 0)
        edit = QLineEdit(row.value)
        edit.setReadOnly(row.typed is None)
        edit.setFrame(row.typed is not None)
        edit.setCursorPosition(0)
        edit.setObjectName(f"fact {row.label.strip()}")
        if row.typed is not None:
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
            mark.clicked.connect(lambda: self._session.do(f"Switch {row.label.strip()}", row.switch))
        grid.addWidget(mark, i, 2)

    def _typed(self, edit: QLineEdit, row: Fact) -> None:
        if not edit.isModified() or row.typed is None:
            return
        typed, label = row.typed, row.label.strip()
        try:
            # Text is read now, so that what is wrong with it is said before anything is done.
            change = typed(edit.text())
            fresh = change(self._session.site)
        except (NotAQuantity, edits.EditError) as error:
            edit.setProperty("bad", "true")
            edit.style().polish(edit)
            edit.setToolTip(str(error))
            self._session.said.emit(f"{label}: {error}")
            return
        edit.setModified(False)
        self._session.do(f"Set {label}", lambda _: fresh)

    def _combo(self, row: Choice) -> QComboBox:
        combo = QComboBox()
        combo.setSizeAdjustPolicy(QComboBox.SizeAdjustPolicy.AdjustToMinimumContentsLengthWithIcon)
        combo.setMinimumContentsLength(8)
        for value, name in row.options:
            combo.addItem(name, value)
        combo.setCurrentIndex(max(0, combo.findData(row.current)))
        combo.activated.connect(lambda _: self._session.do(f"Set {row.label.strip()}", row.edit(combo.currentData())))
        return combo

    def _finding_list(self, findings: list[Finding]) -> QWidget:
        box = QWidget()
        column = QVBoxLayout(box)
        column.setContentsMargins(0, 0, 0, 6)
        column.setSpacing(3)
        for f in findings[:40]:
            sign = "▲" if f.severity == "broken" else "◇"
            label = QLabel(
                f"{sign} <b>{f.rule}</b>, {f.thing}: {f.message}. <i>{f.remedy[:1].upper()}{f.remedy[1:]}.</i>"
            )
            label.setProperty("role", f.severity)
            label.setWordWrap(True)
            label.setTextInteractionFlags(Qt.TextInteractionFlag.NoTextInteraction)
            column.addWidget(label)
            line = QHBoxLayout()
            if f.place:
                place = f.place
                show = QPushButton("Show")
                show.clicked.connect(lambda _=False, place=place: self.shown_at.emit(*place))
                line.addWidget(show)
            if f.mend:
                mend = f.mend
                button = QPushButton(mend.words)
                button.clicked.connect(lambda _=False, mend=mend: self._session.do(mend.words, mend.apply))
                line.addWidget(button)
            line.addStretch(1)
            column.addLayout(line)
        return box

    # The trail

    def _on_point(self, easting: float, northing: float) -> None:
        self._point = (easting, northing)
        self._show_trail()

    def _show_trail(self) -> None:
        self.trail.clear()
        self._trail_head.setText("Level trail: click a place in the plan to ask it why it has its level")
        if self._point is None or self._session.dragging:
            return
        try:
            step = trail_at(self._session.engine, *self._point)
        except Unsolved as unsolved:
            self._trail_head.setText(f"Level trail: {unsolved.message}")
            return
        self._trail_head.setText(f"Level trail at {self._point[0]:.2f}, {self._point[1]:.2f}")
        self.trail.addTopLevelItem(self._item(step, ""))
        self.trail.expandToDepth(4)

    def _item(self, step: Step, words: str) -> QTreeWidgetItem:
        unit = self._session.site.settings.units
        mark = {"set": "●", "proposed": "○", "tied": "◆", "ground": "▵", "survey": "▵"}.get(step.source, "")
        value = show_grade(step.value) if step.quantity.startswith("grade") else show_length(step.value, unit)
        item = QTreeWidgetItem([f"{mark} {step.quantity}".strip(), value])
        item.setTextAlignment(1, Qt.AlignmentFlag.AlignRight)
        item.setToolTip(0, f"{step.quantity}: {step.rule}" + (f" ({words})" if words else ""))
        if step.rule:
            note = QTreeWidgetItem([step.rule, ""])
            note.setFirstColumnSpanned(True)
            item.addChild(note)
        for term in step.terms:
            if term.step is not None:
                child = self._item(term.step, term.words)
                if term.factor != 1.0:
                    child.setText(0, f"{term.words}: {child.text(0)}")
                    child.setText(1, f"{term.amount:+.3f}")
                item.addChild(child)
            else:
                leaf = QTreeWidgetItem([term.words, f"{term.amount:+.3f}".replace("-", "−")])
                leaf.setTextAlignment(1, Qt.AlignmentFlag.AlignRight)
                item.addChild(leaf)
        return item


def _whole(text: str) -> int:
    try:
        return int(text.strip())
    except ValueError:
        raise NotAQuantity(f"'{text.strip()}' is not a whole number: write, for example, 8") from None
