"""The main window: stage row, tool row, plan, sections desk, facts, index, status line."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from pathlib import Path

import numpy as np
from PySide6.QtCore import QSettings, Qt
from PySide6.QtGui import QAction, QCloseEvent, QDragEnterEvent, QDropEvent, QKeySequence
from PySide6.QtWidgets import (
    QHBoxLayout,
    QMainWindow,
    QMenu,
    QSplitter,
    QStackedWidget,
    QToolButton,
    QVBoxLayout,
    QWidget,
)

from humble_loop.desk import cross_section, long_section, solid
from humble_loop.desk.catching_up import CatchingUp
from humble_loop.desk.colouring import Colouring
from humble_loop.desk.commands import Command, make_commands, offers
from humble_loop.desk.cross_section import CrossSection
from humble_loop.desk.curvature_band import CurvatureBand
from humble_loop.desk.facts import FactsPanel
from humble_loop.desk.file_desk import FileDesk
from humble_loop.desk.finder import Finder
from humble_loop.desk.index import SiteIndex
from humble_loop.desk.long_section import LongSection
from humble_loop.desk.panes import Pane
from humble_loop.desk.plan import PlanView
from humble_loop.desk.profiles_view import ProfilesView
from humble_loop.desk.session import Session
from humble_loop.desk.sheets import SheetPanel
from humble_loop.desk.solid import SolidView
from humble_loop.desk.stages import STAGES, StageRow, stage_index
from humble_loop.desk.status import StatusLine
from humble_loop.desk.stepping import Stepping
from humble_loop.desk.stretch_button import StretchButton
from humble_loop.desk.strip import Strip
from humble_loop.desk.tables_window import TablesWindow
from humble_loop.desk.theme import LIGHT, THEMES, Theme, icon, style_sheet
from humble_loop.engine.query import Unsolved
from humble_loop.kinds.junction.nodes import nearest_junction
from humble_loop.lines.findings import Finding
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of
from humble_loop.site.edits import EditError
from humble_loop.whole.things import name_of, thing_of, things_of

_BESIDE_THE_PLAN = ("Elements, levels, sections", "3D")


class MainWindow(QMainWindow):
    """The application's window."""

    def __init__(self, session: Session, settings: QSettings) -> None:
        super().__init__()
        self.session, self._settings = session, settings
        self.theme = THEMES.get(str(settings.value("theme", "light")), LIGHT)
        self.setAcceptDrops(True)
        self.resize(1280, 800)
        self.findings: tuple[Finding, ...] = ()
        self.files = FileDesk(session, settings, lambda: self.theme, self)
        self.plan, self.long_section, self.cross_section = (
            PlanView(session),
            LongSection(session),
            CrossSection(session),
        )
        self.profiles, self._bands = ProfilesView(session), ""
        self.strip, self.stepping = Strip(session, self.long_section), Stepping(session, self)
        self.curvature = CurvatureBand(session, self.long_section)
        self.colouring = Colouring(session, self)
        for layer in (self.colouring.pieces, self.colouring.figures):
            self.plan.add_layer(layer)
        self.facts, self.index, self.solid = FactsPanel(session), SiteIndex(session), SolidView(session)
        self.sheets, self.stage_row, self.status = SheetPanel(session), StageRow(), StatusLine(session)
        self.tables: TablesWindow | None = None
        self._stage = 0
        self._commands = make_commands(self)
        self._lay_out()
        self._make_actions()
        self.finder = Finder(lambda text: offers(self, self._commands, text), self)
        self.catching_up = CatchingUp(session, self)
        self.catching_up.surface_known.connect(self.status.settled)
        self.catching_up.findings_known.connect(self._show_findings)
        self.catching_up.findings_shown.connect(self._show_progress)
        session.changed.connect(self._on_changed)
        session.cursor_moved.connect(self._caption_cross_section)
        self.cross_section.placed.connect(self._caption_cross_section)
        session.chosen_changed.connect(self._on_chosen)
        session.said.connect(self.say)
        self.facts.shown_at.connect(self._show_place)
        self.strip.stationed.connect(self.long_section.point_station)
        self.curvature.stationed.connect(self.long_section.point_station)
        self.sheets.lit.connect(self.plan.light_up)
        for view in (self.long_section, self.profiles):
            self.sheets.ghost.connect(view.show_ghost)
        self.long_section.windows_shown.connect(self._caption_long_section)
        self.colouring.shown.connect(self.strip.show_colours)
        self.colouring.told.connect(self._caption_plan)
        self.stage_row.chosen.connect(self._on_stage)
        self.plan.sketch_ended.connect(lambda: self._draw_button(False))
        self._connect_files()
        self.paint_in(self.theme)
        self.stage_row.choose(stage_index("Ground"))
        self._on_changed()
        self.catching_up.begin()
        self.plan.refresh()
        self.index.refresh()
        self.facts.refresh()

    def _connect_files(self) -> None:
        self.files.taken.connect(self._on_taken)
        self.files.brought.connect(lambda first: self.fit() if first else None)
        self.files.shown_at.connect(self._show_place)
        self.files.lit.connect(self.plan.light_up)
        welcome = self.plan.welcome
        welcome.bring_in.connect(self.files.ask_bring_in)
        welcome.open_site.connect(self.files.ask_open)
        welcome.open_demo.connect(self.files.open_demo)
        welcome.open_recent.connect(lambda path: self.files.open_path(Path(path)))
        welcome.show_recent(self.files.recent())

    def _on_taken(self) -> None:
        self.plan.welcome.show_recent(self.files.recent())
        empty = self.session.site.origin is None
        self.stage_row.choose(stage_index("Ground" if empty else "Streets"))
        self.fit()

    # Laying out

    def _lay_out(self) -> None:
        t = self.theme
        views: tuple[tuple[str, QWidget, Callable[[], object]], ...] = (
            ("Plan", self.plan, self.plan.fit),
            ("Long section", self._section_desk(), self._fit_sections),
            ("Cross section", self.cross_section, self.cross_section.fit),
            ("Elements, levels, sections", self.sheets, self.sheets.fit),
            ("3D", self.solid, self.solid.fit),
        )
        across = StretchButton(self.cross_section, cross_section.STRETCHES, "As there is room")
        across.offer(self.cross_section, cross_section.SHOWN)
        extra: dict[str, QWidget] = {
            "Plan": self.colouring.button,
            "Long section": StretchButton(self.long_section, long_section.STRETCHES, "All of it"),
            "Cross section": across,
            "3D": StretchButton(self.solid, solid.STRETCHES, ""),
        }
        self._panes = {name: Pane(name, view, t, fit, extra.get(name)) for name, view, fit in views}
        lower = QSplitter(Qt.Orientation.Horizontal)
        lower.addWidget(self._panes["Long section"])
        lower.addWidget(self._panes["Cross section"])
        lower.setSizes([500, 360])
        upper = QSplitter(Qt.Orientation.Horizontal)
        upper.addWidget(self._panes["Plan"])
        for name in _BESIDE_THE_PLAN:
            upper.addWidget(self._panes[name])
            self._panes[name].hide()
        middle = QSplitter(Qt.Orientation.Vertical)
        middle.addWidget(upper)
        middle.addWidget(lower)
        middle.setSizes([420, 280])
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
        page = QWidget()
        page.setObjectName("page")
        column = QVBoxLayout(page)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.stage_row)
        column.addWidget(self._tool_row)
        column.addWidget(self._across, 1)
        column.addWidget(self.status)
        self.setCentralWidget(page)

    def _section_desk(self) -> QWidget:
        desk = QWidget()
        desk.setObjectName("page")
        column = QVBoxLayout(desk)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(0)
        column.addWidget(self.long_section, 1)
        column.addWidget(self.curvature)
        column.addWidget(self.strip)
        # A thing that is worked on by several lines shows these in its place.
        self._sections = QStackedWidget()
        self._sections.addWidget(desk)
        self._sections.addWidget(self.profiles)
        self.profiles.shown.connect(self._show_profiles)
        return self._sections

    def _show_profiles(self, wanted: bool) -> None:
        self._sections.setCurrentIndex(int(wanted))
        self._caption_long_section(self._bands)

    def _fit_sections(self) -> None:
        (self.profiles if self._sections.currentIndex() else self.long_section).fit()

    def paint_in(self, theme: Theme) -> None:
        """Take a theme."""
        self.theme = theme
        self.setStyleSheet(style_sheet(theme))
        for view in (
            self.plan,
            self.long_section,
            self.profiles,
            self.cross_section,
            self.strip,
            self.curvature,
            self.sheets,
            self.solid,
            self.facts.reasons,
            self.colouring,
        ):
            view.paint_in(theme)
        for pane in self._panes.values():
            pane.paint_in(theme)
        for command, button in self._corner_buttons:
            button.setIcon(icon(command.icon, theme.ink))
        self._fill_tools(self._stage)
        self._show_progress()

    # Commands

    def _make_actions(self) -> None:
        for command in self._commands:
            action = QAction(command.words, self)
            action.triggered.connect(lambda _=False, command=command: self.run(command.do))
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

    def run(self, do: Callable[[], object]) -> None:
        """Run a command; one that cannot be done on what is chosen says why."""
        try:
            do()
        except (Unsolved, EditError) as error:
            self.say(str(error))

    def _command(self, words: str) -> Command:
        return next(c for c in self._commands if c.words == words)

    def _button(self, command: Command, *, text: bool) -> QToolButton:
        button = QToolButton()
        button.setIcon(icon(command.icon, self.theme.ink))
        if text:
            button.setText(command.words)
            button.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        button.setToolTip(command.words + (f"  ({command.key})" if command.key else ""))
        button.clicked.connect(lambda: self.run(command.do))
        return button

    def _fill_menu(self) -> None:
        self._menu.clear()
        for words in ("New site", "Open", "Open the demo", "Save", "Save as", "Bring in", "Export", "Tables"):
            command = self._command(words)
            action = self._menu.addAction(command.words, partial(self.run, command.do))
            if command.key:
                action.setShortcut(QKeySequence(command.key))
        recent = self._menu.addMenu("Recent")
        paths = self.files.recent()
        for path in paths:
            recent.addAction(path, partial(self.files.open_path, Path(path)))
        recent.setEnabled(bool(paths))
        self._menu.addSeparator()
        self._menu.addAction("Quit", self.close)

    def _fill_tools(self, stage: int) -> None:
        while self._tools.count():
            item = self._tools.takeAt(0)
            widget = item.widget() if item is not None else None
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

    def choose_and_show(self, thing: ThingId) -> None:
        """Choose a thing and bring it into the plan."""
        self.session.choose(thing)
        self.plan.fit_thing(thing)

    def draw_street(self) -> None:
        """Begin to draw a street, or give the one in hand up."""
        if self.plan.sketch is not None:
            self.plan.sketch.cancel()
            return
        self._draw_button(True)
        self.plan.start_sketch()

    def place_roundabout(self) -> None:
        """Begin to place a roundabout, or give up what is being drawn."""
        if self.plan.sketch is not None:
            self.plan.sketch.cancel()
            return
        self.plan.start_placing()

    def mark_fixed_fall(self) -> None:
        """Begin to mark a fixed fall, or give up what is being drawn."""
        if self.plan.sketch is not None:
            self.plan.sketch.cancel()
            return
        self.plan.start_fixed_fall()

    def toggle_flow(self) -> None:
        """Show or hide flow arrows."""
        self.plan.drawing.show_flow = not self.plan.drawing.show_flow
        self.plan.refresh()

    def fit(self) -> None:
        """See everything in every view."""
        self.plan.fit()
        self.long_section.fit()
        self.cross_section.fit()

    def junction_in_hand(self) -> ThingId | None:
        """The chosen junction; else of the chosen street's, or of all, the one that is nearest to the cursor. None, and a word, for none."""
        thing = self.session.thing
        if thing is not None and thing.kind == "junction":
            return thing
        id = nearest_junction(self.session.engine, self.session.street, self.session.cursor)
        if not id:
            street = self.session.street
            name = name_of(self.session.engine, ThingId("street", street)) if street else "This site"
            self.say(f"{name} has no junction: let a street begin or end on another, or cross it")
            return None
        return ThingId("junction", id)

    def open_junction_sheet(self) -> None:
        """The chosen junction close up: its plan with fine contours and flow, its corners in rows, its returns side by side."""
        thing = self.junction_in_hand()
        if thing is None:
            return
        if not self.plan.drawing.show_flow:
            self.toggle_flow()
        self.show_sheet("Corners")
        self.choose_and_show(thing)
        self.profiles.fit()

    def open_roundabout_sheet(self) -> None:
        """The chosen roundabout close up: its plan with fine contours and flow, its levels in rows, its circle and kerbs side by side."""
        thing, q = self.session.thing, self.session.engine
        if thing is None or thing.kind not in ("roundabout", "roundabout_leg"):
            every = things_of(q, "roundabout")
            if not every:
                self.say("There is no roundabout yet: R puts one under the cursor")
                return
            thing = every[0]
        if thing.kind == "roundabout_leg":
            thing = kind_of(thing.kind).under(q, thing) or thing
        if not self.plan.drawing.show_flow:
            self.toggle_flow()
        self.choose_and_show(thing)
        self.show_sheet("Levels")
        self.profiles.fit()

    def toggle_solid(self) -> None:
        """Show or hide the 3D view beside the plan."""
        if self._toggle_beside("3D"):
            self.solid.open()

    def toggle_sheets(self) -> None:
        """Show or hide the elements and grade line in rows beside the plan."""
        self._toggle_beside("Elements, levels, sections")

    def show_sheet(self, title: str) -> None:
        """Show a sheet of the chosen thing beside the plan."""
        if not self._panes["Elements, levels, sections"].isVisible():
            self.toggle_sheets()
        self.sheets.show_sheet(title)

    def _toggle_beside(self, name: str) -> bool:
        """Show or hide a pane beside the plan; whether it is shown now. What is beside the plan shares the room with it."""
        pane = self._panes[name]
        pane.setVisible(not pane.isVisible())
        across = pane.parentWidget()
        if isinstance(across, QSplitter):
            across.setSizes([across.width()] * across.count())
        return pane.isVisible()

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

    def closeEvent(self, event: QCloseEvent) -> None:
        if not self.files.may_leave():
            event.ignore()
            return
        self.files.stop()
        self.catching_up.stop()
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
            self.files.open_path(sites[0])
        elif paths:
            self.files.bring_in(paths)

    # Keeping up

    def say(self, words: str) -> None:
        """One sentence in the status line."""
        self.status.say(words)

    def _on_changed(self) -> None:
        path = self.session.path
        mark = "• " if self.session.unsaved else ""
        self.setWindowTitle(f"{mark}{self.session.site.name}{f' ({path.name})' if path else ''} – Humble Loop")

    @property
    def settled(self) -> bool:
        """Whether all that waits to be worked out is done."""
        followed = not any(v.in_time.busy for v in (self.cross_section, self.curvature, self.profiles))
        busy = self.catching_up.busy or self.solid.busy
        return (
            self.plan.settled
            and self.colouring.settled
            and self.facts.settled
            and self.sheets.settled
            and self.long_section.settled
            and self.strip.settled
            and followed
            and not busy
        )

    def _show_findings(self, found: tuple[Finding, ...]) -> None:
        self.findings = found
        self.plan.show_findings(self.findings)
        self.facts.show_findings(self.findings)
        self.status.show_findings(self.findings)

    def _show_progress(self) -> None:
        self.stage_row.show_progress(self.session.engine, self.findings, self.theme)

    def _on_chosen(self) -> None:
        self._caption_long_section("")
        self._caption_cross_section()

    def _caption_plan(self, legend: str) -> None:
        """Say beside the plan's name what it is coloured by."""
        self._panes["Plan"].caption.setText(f"Plan    {legend}" if legend else "Plan")

    def _caption_long_section(self, windows: str) -> None:
        """Name what the long section shows; its fall windows come later."""
        self._bands = windows
        thing = self.session.thing
        if self._sections.currentIndex() and thing is not None:
            name = name_of(self.session.engine, thing)
            banded = any(np.isfinite(v).any() for p in self.profiles.profiles for v in (p.low, p.high))
            words = "bands: fall windows from the crowns" if banded else ""
            self._panes["Long section"].caption.setText(f"Long sections  {name}    {words}")
            return
        bands = f"    bands: {windows}" if windows else ""
        self._panes["Long section"].caption.setText(f"Long section  {self._section_name()}{bands}")

    def _section_name(self) -> str:
        line = self.session.section_line
        if line is None:
            return ""
        return name_of(self.session.engine, thing_of(self.session.engine, line))

    def _caption_cross_section(self) -> None:
        street = self.session.street
        name = name_of(self.session.engine, ThingId("street", street)) if street else ""
        self._panes["Cross section"].caption.setText(f"Cross section  {name}  {self.cross_section.caption()}".rstrip())

    def _show_place(self, east: float, north: float) -> None:
        self.plan.look_at(east, north)
        self.session.point_at(east, north)
        self.session.point_asked.emit(east, north)
