"""The main window: stage row, tool row, plan, sections desk, facts, index, status line."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from PySide6.QtCore import QSettings, Qt, QTimer
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PySide6.QtWidgets import (
    QDialog,
    QFileDialog,
    QHBoxLayout,
    QLabel,
    QMainWindow,
    QMenu,
    QMessageBox,
    QSplitter,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from humble_loop.cli import export
from humble_loop.desk.cross_section import CrossSection
from humble_loop.desk.facts import FactsPanel
from humble_loop.desk.finder import Finder, Found
from humble_loop.desk.importing import Importer
from humble_loop.desk.index import SiteIndex
from humble_loop.desk.long_section import LongSection
from humble_loop.desk.plan import PlanView
from humble_loop.desk.session import Chosen, Session
from humble_loop.desk.solid import SolidView
from humble_loop.desk.stages import STAGES, StageRow
from humble_loop.desk.strip import Strip
from humble_loop.desk.tables_window import TablesWindow
from humble_loop.desk.theme import LIGHT, THEMES, Theme, icon, style_sheet
from humble_loop.formats.bring_in import KINDS, Brought
from humble_loop.formats.errors import FormatError
from humble_loop.formats.quantities import NotAQuantity, parse_chainage, show_chainage, show_length
from humble_loop.formats.recovery import Lost, discard, recover
from humble_loop.propose.grade import keep_proposal
from humble_loop.propose.lots import line_with_lots
from humble_loop.site import edits
from humble_loop.site.libraries import new_site
from humble_loop.solve import parts
from humble_loop.solve.checks import Finding, findings
from humble_loop.solve.engine import Stats, Unsolved
from humble_loop.solve.street import centreline, chain_of
from humble_loop.solve.surface import all_pieces, finished_mesh, probe

_RECENT = 8


@dataclass(frozen=True)
class Command:
    """Something that can be done: words, icon, what it does, its key, and the stages whose tool row it stands in."""

    words: str
    icon: str
    do: Callable[[], object]
    key: str = ""
    stages: tuple[str, ...] = ()


class Pane(QWidget):
    """A view with a thin head, which can leave the window for another screen and come back."""

    def __init__(self, title: str, view: QWidget, theme: Theme) -> None:
        super().__init__()
        self.setObjectName("page")
        self._view, self._title = view, title
        self._window: QDialog | None = None
        self.caption = QLabel(title)
        self.caption.setProperty("role", "head")
        self.out = QToolButton()
        self.out.setIcon(icon("out", theme.quiet))
        self.out.setToolTip(f"{title} in a window of its own")
        self.out.clicked.connect(self.toggle)
        head = QHBoxLayout()
        head.setContentsMargins(8, 1, 4, 0)
        head.addWidget(self.caption)
        head.addStretch(1)
        head.addWidget(self.out)
        self._column = QVBoxLayout(self)
        self._column.setContentsMargins(0, 0, 0, 0)
        self._column.setSpacing(0)
        self._column.addLayout(head)
        self._column.addWidget(view, 1)

    def toggle(self) -> None:
        """Send the view out, or take it back."""
        if self._window is None:
            self._window = QDialog(self.window(), Qt.WindowType.Window)
            self._window.setWindowTitle(self._title)
            self._window.resize(900, 600)
            column = QVBoxLayout(self._window)
            column.setContentsMargins(0, 0, 0, 0)
            column.addWidget(self._view)
            self._window.finished.connect(self._take_back)
            self._window.show()
        else:
            self._window.close()

    def _take_back(self) -> None:
        window, self._window = self._window, None
        self._column.addWidget(self._view, 1)
        self._view.show()
        if window is not None:
            window.deleteLater()


class MainWindow(QMainWindow):
    """The application's window."""

    def __init__(self, session: Session, settings: QSettings) -> None:
        super().__init__()
        self.session, self._settings = session, settings
        self.theme = THEMES.get(str(settings.value("theme", "light")), LIGHT)
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.findings: tuple[Finding, ...] = ()
        self._importer: Importer | None = None
        self.plan, self.long_section, self.cross_section = (
            PlanView(session),
            LongSection(session),
            CrossSection(session),
        )
        self.strip = Strip(session, self.long_section)
        self.facts, self.index, self.solid = FactsPanel(session), SiteIndex(session), SolidView(session)
        self.stage_row = StageRow()
        self.tables: TablesWindow | None = None
        self._commands = self._make_commands()
        self._lay_out()
        self._make_actions()
        self.finder = Finder(self._offers, self)
        self._idle = QTimer(self)
        self._idle.setSingleShot(True)
        self._idle.setInterval(90)
        self._idle.timeout.connect(self._work_on)
        self._work: list[Callable[[], object]] = []
        session.changed.connect(self._on_changed)
        session.cursor_moved.connect(self._on_cursor)
        session.chosen_changed.connect(self._on_chosen)
        session.said.connect(self.say)
        self.facts.shown_at.connect(self._show_place)
        self.strip.stationed.connect(self.long_section.point_station)
        self.stage_row.chosen.connect(self._on_stage)
        self.plan.sketch_ended.connect(lambda: self._draw_button(False))
        self.paint_in(self.theme)
        self.stage_row.choose(1)
        self._on_changed()
        self.plan.refresh()
        self.index.refresh()
        self.facts.refresh()

    # Laying out

    def _lay_out(self) -> None:
        t = self.theme
        self._panes = {
            name: Pane(name, view, t)
            for name, view in (
                ("Plan", self.plan),
                ("Long section", self._section_desk()),
                ("Cross section", self.cross_section),
                ("3D", self.solid),
            )
        }
        lower = QSplitter(Qt.Orientation.Horizontal)
        lower.addWidget(self._panes["Long section"])
        lower.addWidget(self._panes["Cross section"])
        lower.setSizes([560, 300])
        upper = QSplitter(Qt.Orientation.Horizontal)
        upper.addWidget(self._panes["Plan"])
        upper.addWidget(self._panes["3D"])
        self._panes["3D"].hide()
        middle = QSplitter(Qt.Orientation.Vertical)
        middle.addWidget(upper)
        middle.addWidget(lower)
        middle.setSizes([430, 270])
        self._across = QSplitter(Qt.Orientation.Horizontal)
        for widget in (self.index, middle, self.facts):
            self._across.addWidget(widget)
        self._across.setSizes([160, 830, 290])
        self._across.setStretchFactor(1, 1)
        self._tool_row = QWidget()
        self._tool_row.setObjectName("panel")
        self._tools = QHBoxLayout(self._tool_row)
        self._tools.setContentsMargins(8, 2, 8, 3)
        self._tools.setSpacing(2)
        self._status = self._status_line()
        page = QWidget()
        page.setObjectName("page")
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        for widget in (self.stage_row, self._tool_row):
            column.addWidget(widget)
        column.addWidget(self._across, 1)
        column.addWidget(self._status)
        self.setCentralWidget(page)

    def _section_desk(self) -> QWidget:
        desk = QWidget()
        desk.setObjectName("page")
        column = QVBoxLayout(desk)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.long_section, 1)
        column.addWidget(self.strip)
        return desk

    def _status_line(self) -> QWidget:
        line = QWidget()
        line.setObjectName("panel")
        row = QHBoxLayout(line)
        row.setContentsMargins(10, 2, 10, 3)
        row.setSpacing(16)
        self._said, self._place_label, self._levels_label = QLabel(), QLabel(), QLabel()
        self._station_label, self._count_label, self._time_label = QLabel(), QLabel(), QLabel()
        for label in (self._place_label, self._levels_label, self._station_label):
            row.addWidget(label)
        row.addStretch(1)
        for label in (self._said, self._count_label, self._time_label):
            row.addWidget(label)
        self._time_label.setProperty("role", "quiet")
        self._hide_said = QTimer(self)
        self._hide_said.setSingleShot(True)
        self._hide_said.setInterval(9000)
        self._hide_said.timeout.connect(self._said.clear)
        return line

    def paint_in(self, theme: Theme) -> None:
        """Take a theme."""
        self.theme = theme
        self.setStyleSheet(style_sheet(theme))
        for view in (self.plan, self.long_section, self.cross_section, self.strip, self.solid):
            view.paint_in(theme)
        for pane in self._panes.values():
            pane.out.setIcon(icon("out", theme.quiet))
        for command, button in self._corner_buttons:
            button.setIcon(icon(command.icon, theme.ink))
        self._fill_tools(self._stage if hasattr(self, "_stage") else 1)
        self.stage_row.show_progress(self.session.site, self.findings, theme)

    # Commands

    def _make_commands(self) -> list[Command]:
        s = self.session
        return [
            Command("Bring in", "import", self.ask_bring_in, "Ctrl+I", ("Ground", "Streets")),
            Command("Draw a street", "street", self.draw_street, "D", ("Ground", "Streets", "Levels")),
            Command("End in a bulb", "head", self._add_bulb, "", ("Streets", "Turning heads")),
            Command("Set the proposed grade line", "levels", self._keep_levels, "", ("Levels",)),
            Command("Propose the grade line again", "ground", self._propose_levels, "", ("Levels",)),
            Command("Remove the VIP", "bend", self.long_section.remove_chosen_vip, "Del", ("Levels",)),
            Command("Add lots", "lot", self._add_lots, "", ("Lots", "Streets")),
            Command("Flow arrows", "batter", self._toggle_flow, "F", ("Junctions", "Turning heads", "Sections")),
            Command("Tables", "table", self.open_tables, "Ctrl+T", ("Hand-over", "Lots", "Findings")),
            Command("Export", "handover", self.ask_export, "Ctrl+E", ("Hand-over",)),
            Command(
                "3D view",
                "solid",
                self.toggle_solid,
                "Ctrl+3",
                ("Ground", "Streets", "Lots", "Sections", "Junctions", "Turning heads"),
            ),
            Command("See everything", "fit", self.fit, "Home", tuple(stage.title for stage in STAGES)),
            Command("New site", "ground", self.new_site, "Ctrl+N"),
            Command("Open", "open", self.ask_open, "Ctrl+O"),
            Command("Save", "save", self.save, "Ctrl+S"),
            Command("Save as", "save", self.save_as, "Ctrl+Shift+S"),
            Command("Undo", "undo", s.undo, "Ctrl+Z"),
            Command("Redo", "redo", s.redo, "Ctrl+Shift+Z"),
            Command("Find anything", "search", lambda: self.finder.open(), "Ctrl+K"),
            Command("Other theme", "theme", self.other_theme, "Ctrl+L"),
            Command(
                "Fold the index away or back",
                "table",
                lambda: self.index.setVisible(not self.index.isVisible()),
                "Ctrl+B",
            ),
            Command("Quit", "out", self.close, "Ctrl+Q"),
        ]

    def _make_actions(self) -> None:
        for command in self._commands:
            action = QAction(command.words, self)
            action.triggered.connect(lambda _=False, command=command: command.do())
            if command.key:
                action.setShortcut(QKeySequence(command.key))
            self.addAction(action)
        menu = QToolButton()
        menu.setText("Site")
        menu.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self._menu = QMenu(menu)
        self._menu.aboutToShow.connect(self._fill_menu)
        menu.setMenu(self._menu)
        self.stage_row.add_right(menu)
        commands = [self._command(words) for words in ("Undo", "Redo", "Find anything", "Other theme")]
        self._corner_buttons = [(command, self._button(command, text=False)) for command in commands]
        for _, button in self._corner_buttons:
            self.stage_row.add_right(button)

    def _command(self, words: str) -> Command:
        return next(c for c in self._commands if c.words == words)

    def _button(self, command: Command, *, text: bool) -> QToolButton:
        button = QToolButton()
        button.setIcon(icon(command.icon, self.theme.ink))
        if text:
            button.setText(command.words)
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        button.setToolTip(command.words + (f"  ({command.key})" if command.key else ""))
        button.clicked.connect(lambda: command.do())
        return button

    def _fill_menu(self) -> None:
        self._menu.clear()
        for words in ("New site", "Open", "Save", "Save as", "Bring in", "Export", "Tables"):
            command = self._command(words)
            action = self._menu.addAction(command.words, command.do)
            action.setShortcut(QKeySequence(command.key))
        recent = self._menu.addMenu("Recent")
        for path in self._recent():
            recent.addAction(path, lambda path=path: self.open_path(Path(path)))
        recent.setEnabled(bool(self._recent()))
        self._menu.addSeparator()
        self._menu.addAction("Quit", self.close)

    def _fill_tools(self, stage: int) -> None:
        while self._tools.count():
            item = self._tools.takeAt(0)
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        for command in self._commands:
            if STAGES[stage].title in command.stages:
                button = self._button(command, text=True)
                if command.words == "Draw a street":
                    button.setCheckable(True)
                    button.setObjectName("draw")
                self._tools.addWidget(button)
        self._tools.addStretch(1)

    def _draw_button(self, on: bool) -> None:
        for button in self._tool_row.findChildren(QToolButton, "draw"):
            button.setChecked(on)

    def _on_stage(self, stage: int) -> None:
        self._stage = stage
        self._fill_tools(stage)
        self.facts.show_all_findings(STAGES[stage].title == "Findings")
        if STAGES[stage].title == "Hand-over":
            self.say("Tables and Export stand in the tool row")

    def _offers(self, text: str) -> list[Found]:
        q = self.session.engine
        found = [Found(c.words, c.key or "command", c.do) for c in self._commands]
        for street in parts.street_ids(q):
            found.append(
                Found(
                    parts.street_name(q, street), "street", lambda s=street: self.choose_and_show(Chosen("street", s))
                )
            )
            for name in self.plan.lot_names(street):
                found.append(Found(name, "lot", lambda s=street, n=name: self.choose_and_show(Chosen("lot", s, n))))
        for stage, made in enumerate(STAGES):
            found.append(Found(f"Stage: {made.title}", "stage", lambda i=stage: self.stage_row.choose(i)))
        for unit, words in (("m", "metres"), ("ft", "feet"), ("us-ft", "US survey feet")):
            found.append(
                Found(
                    f"Units: {words}",
                    "setting",
                    lambda u=unit: self.session.do("Change units", lambda s: edits.set_settings(s, units=u)),
                )
            )
        street = self.session.chosen.street
        if text[:1].isdigit() and street in parts.street_ids(q):
            try:
                s = parse_chainage(text, self.session.site.settings.units)
            except NotAQuantity:
                return found
            found.insert(
                0,
                Found(
                    f"{parts.street_name(q, street)} at {show_chainage(s)}", "chainage", lambda: self._go_to(street, s)
                ),
            )
        return found

    def _go_to(self, street: str, chainage: float) -> None:
        e, n = chain_of(self.session.engine, street).points_at([chainage])[0]
        self.plan.look_at(float(e), float(n), 60.0)
        self.session.point_at(float(e), float(n), (street, chainage))

    def choose_and_show(self, chosen: Chosen) -> None:
        """Choose a thing and bring it into the plan."""
        self.session.choose(chosen)
        self.plan.fit_street(chosen.street)

    def draw_street(self) -> None:
        """Begin to draw a street, or give the one in hand up."""
        if self.plan.sketch is not None:
            self.plan.sketch.cancel()
            return
        self._draw_button(True)
        self.plan.start_sketch()

    def _chosen_street(self) -> str:
        street = self.session.chosen.street
        if street not in parts.street_ids(self.session.engine):
            self.say("Choose a street first: click it in the plan or the index")
            return ""
        return street

    def _add_bulb(self) -> None:
        if street := self._chosen_street():
            self.session.do("End in a bulb", lambda s: edits.set_head(s, street))

    def _keep_levels(self) -> None:
        if street := self._chosen_street():
            q = self.session.engine
            try:
                fresh = keep_proposal(q, self.session.site, street)
            except Unsolved as unsolved:
                self.say(str(unsolved))
                return
            self.session.do("Set the grade line", lambda _: fresh)

    def _propose_levels(self) -> None:
        if street := self._chosen_street():
            self.session.do("Propose the grade line", lambda s: edits.set_vips(s, street, []))

    def _add_lots(self) -> None:
        if street := self._chosen_street():
            q = self.session.engine
            self.session.do("Add lots", lambda s: line_with_lots(q, s, street))

    def _toggle_flow(self) -> None:
        self.plan.show_flow = not self.plan.show_flow
        self.plan.refresh()

    def fit(self) -> None:
        """See everything in every view."""
        self.plan.fit()
        self.long_section.fit()

    def toggle_solid(self) -> None:
        """Show or hide the 3D view beside the plan."""
        pane = self._panes["3D"]
        pane.setVisible(not pane.isVisible())
        if pane.isVisible():
            across = pane.parentWidget()
            if isinstance(across, QSplitter):
                across.setSizes([across.width() // 2] * 2)
            self.solid.open()

    def open_tables(self) -> None:
        """Show the tables."""
        if self.tables is None:
            self.tables = TablesWindow(self.session, self)
        self.tables.show()
        self.tables.raise_()
        self.tables.refresh()

    def other_theme(self) -> None:
        """Change between light and dark."""
        theme = THEMES["dark" if self.theme.name == "light" else "light"]
        self._settings.setValue("theme", theme.name)
        self.paint_in(theme)

    # Files

    def new_site(self) -> None:
        """Start an empty site."""
        if self._may_leave():
            self.session.take(new_site())
            self.plan.fit()

    def ask_open(self) -> None:
        """Ask for a site file and open it."""
        name, _ = QFileDialog.getOpenFileName(self, "Open a site", self._folder(), "Humble Loop sites (*.hloop)")
        if name:
            self.open_path(Path(name))

    def open_path(self, path: Path) -> None:
        """Open a site file, after asking about unsaved changes."""
        if not self._may_leave():
            return
        try:
            self.session.open(path)
        except FormatError as error:
            self._tell("This site cannot be opened", str(error))
            return
        self._remember(path)
        self.fit()

    def save(self) -> bool:
        """Save to the site's file, asking for one if it has none."""
        return self._save_to(self.session.path) if self.session.path else self.save_as()

    def save_as(self) -> bool:
        """Save to another file."""
        name, _ = QFileDialog.getSaveFileName(
            self, "Save the site", f"{self._folder()}/{self.session.site.name}.hloop", "Humble Loop sites (*.hloop)"
        )
        if not name:
            return False
        path = Path(name)
        return self._save_to(path if path.suffix else path.with_suffix(".hloop"))

    def _save_to(self, path: Path) -> bool:
        try:
            self.session.save(path)
        except FormatError as error:
            self._tell("The site cannot be saved", str(error))
            return False
        self._remember(path)
        return True

    def ask_bring_in(self) -> None:
        """Ask for survey and design files and bring them in."""
        endings = " ".join(f"*{e}" for e in sorted(KINDS))
        names, _ = QFileDialog.getOpenFileNames(self, "Bring in", self._folder(), f"Survey and design ({endings})")
        if names:
            self.bring_in([Path(n) for n in names])

    def bring_in(self, paths: list[Path]) -> None:
        """Bring files into the site, off the interface thread."""
        if self._importer is not None and self._importer.isRunning():
            self.say("Files are being read already")
            return
        self._importer = Importer(self.session.site, paths, self)
        self._importer.brought.connect(self._on_brought)
        self._importer.failed.connect(lambda words: self._tell("This file cannot be used", words))
        self._importer.start()

    def _on_brought(self, result: Brought) -> None:
        first = not self.session.site.grounds and not self.session.site.streets
        self.session.do("Bring in files", lambda _: result.site)
        if first:
            self.plan.fit()
        words = f"Brought in {result.words}"
        if result.problems:
            p = result.problems[0]
            words += (
                f"; {len(result.problems)} suspicious places, the first a {p.kind} at {p.easting:.2f}, {p.northing:.2f}"
            )
        self.say(words)

    def ask_export(self) -> None:
        """Ask where to write LandXML, DXF or set-out points."""
        name, _ = QFileDialog.getSaveFileName(
            self,
            "Export",
            f"{self._folder()}/{self.session.site.name}.xml",
            "LandXML (*.xml);;DXF (*.dxf);;Set-out points (*.csv)",
        )
        if not name:
            return
        try:
            export(self.session.engine, Path(name))
        except (FormatError, OSError) as error:
            self._tell("The export cannot be written", str(error))
            return
        self.say(f"Written {Path(name).name}")

    def _folder(self) -> str:
        return str(self.session.path.parent if self.session.path else Path.home())

    def _recent(self) -> list[str]:
        try:
            return [str(p) for p in json.loads(str(self._settings.value("recent", "[]")))]
        except ValueError:
            return []

    def _remember(self, path: Path) -> None:
        rest = [p for p in self._recent() if p != str(path)]
        self._settings.setValue("recent", json.dumps([str(path), *rest][:_RECENT]))

    def offer_recovery(self, lost: Lost) -> None:
        """Offer the copy of a session that did not end properly."""
        when = time.strftime("%d %B %H:%M", time.localtime(lost.when))
        answer = QMessageBox.question(
            self,
            "Recover",
            f"'{lost.name}' was not closed properly. Open its copy of {when}?",
            QMessageBox.StandardButton.Open | QMessageBox.StandardButton.Discard | QMessageBox.StandardButton.Cancel,
        )
        if answer == QMessageBox.StandardButton.Open:
            try:
                site = recover(lost)
            except FormatError as error:
                self._tell("The copy cannot be read", str(error))
                return
            self.session.take(site, lost.original, saved=False)
            self.session.write_recovery()
            discard(lost)
            self.fit()
        elif answer == QMessageBox.StandardButton.Discard:
            discard(lost)

    def _may_leave(self) -> bool:
        if not self.session.unsaved:
            return True
        answer = QMessageBox.question(
            self,
            "Unsaved changes",
            f"'{self.session.site.name}' has unsaved changes.",
            QMessageBox.StandardButton.Save | QMessageBox.StandardButton.Discard | QMessageBox.StandardButton.Cancel,
        )
        if answer == QMessageBox.StandardButton.Save:
            return self.save()
        return answer == QMessageBox.StandardButton.Discard

    def _tell(self, title: str, words: str) -> None:
        QMessageBox.warning(self, title, words)

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self._may_leave():
            event.ignore()
            return
        if self._importer is not None and self._importer.isRunning():
            self._importer.requestInterruption()
            self._importer.wait(5000)
        self._work.clear()
        self.solid.close_view()
        self.session.end()
        event.accept()

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if event.mimeData().hasUrls():
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        paths = [Path(u.toLocalFile()) for u in event.mimeData().urls() if u.isLocalFile()]
        sites = [p for p in paths if p.suffix == ".hloop"]
        if sites:
            self.open_path(sites[0])
        elif paths:
            self.bring_in(paths)

    # Keeping up

    def say(self, words: str) -> None:
        """One sentence in the status line."""
        self._said.setText(words)
        self._said.setToolTip(words)
        self._hide_said.start()

    def _on_changed(self) -> None:
        path = self.session.path
        mark = "• " if self.session.unsaved else ""
        self.setWindowTitle(f"{mark}{self.session.site.name}{f' ({path.name})' if path else ''} – Humble Loop")
        if not self.session.dragging:
            q = self.session.engine
            q.stats = Stats()
            # What a glance does not need is worked out piece by piece, when there is time.
            self._work = [lambda p=p: q.attempt(finished_mesh, p) for p in all_pieces(q)]
            self._work.append(self._show_findings)
            self._idle.start(90)

    def _work_on(self) -> None:
        until = time.perf_counter() + 0.012
        while self._work and time.perf_counter() < until:
            self._work.pop(0)()
        if self._work:
            self._idle.start(0)

    @property
    def settled(self) -> bool:
        """Whether all that waits to be worked out is done."""
        return not self._work and self.plan.settled and not self._idle.isActive()

    def _show_findings(self) -> None:
        self.findings = findings(self.session.engine)
        self.plan.show_findings(self.findings)
        self.facts.show_findings(self.findings)
        self.stage_row.show_progress(self.session.site, self.findings, self.theme)
        broken = sum(f.severity == "broken" for f in self.findings)
        self._count_label.setText(
            f"▲ {broken} broken  ◇ {len(self.findings) - broken} near" if self.findings else "no findings"
        )
        stats = self.session.engine.stats
        self._time_label.setText(f"{stats.total} results in {1000 * stats.seconds:.0f} ms")

    def _on_chosen(self) -> None:
        name = self._chosen_name()
        bands = "    bands: where the crown may lie for each lot's pad to stay on the ground"
        self._panes["Long section"].caption.setText(
            f"Long section  {name}{bands if self.long_section.has_windows else ''}"
        )
        self._caption_cross_section()

    def _chosen_name(self) -> str:
        street = self.session.chosen.street
        known = street in parts.street_ids(self.session.engine)
        return parts.street_name(self.session.engine, street) if known else ""

    def _caption_cross_section(self) -> None:
        caption = f"Cross section  {self._chosen_name()}  {self.cross_section.caption()}"
        self._panes["Cross section"].caption.setText(caption.rstrip())

    def _on_cursor(self) -> None:
        self._caption_cross_section()
        cursor, unit = self.session.cursor, self.session.site.settings.units
        if cursor is None:
            return
        e, n = cursor
        self._place_label.setText(f"E {show_length(e, unit)}  N {show_length(n, unit)}")
        station = self.session.station
        if station is not None and station[0] in parts.street_ids(self.session.engine):
            line = self.session.engine.attempt(centreline, station[0])
            offset = (
                ""
                if isinstance(line, Unsolved)
                else f"  offset {show_length(float(line.chain.feet([cursor]).offsets[0]), unit, 2)}"
            )
            style = self.session.site.settings.chainage_format
            self._station_label.setText(
                f"{parts.street_name(self.session.engine, station[0])} {show_chainage(station[1], style, unit)}{offset}"
            )
        if self.session.dragging or self._work:
            return
        found = probe(self.session.engine, e, n)
        difference = found.finished - found.ground
        self._levels_label.setText(
            f"ground {show_length(found.ground, unit)}  finished {show_length(found.finished, unit)}  difference {show_length(difference, unit)}"
        )

    def _show_place(self, easting: float, northing: float) -> None:
        self.plan.look_at(easting, northing)
        self.session.point_at(easting, northing)
        self.session.point_asked.emit(easting, northing)
