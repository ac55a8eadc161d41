"""Files: new, open, save, bring in, export, recovery. Dialogs are for these only."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from PySide6.QtCore import QObject, QSettings, Signal
from PySide6.QtWidgets import QFileDialog, QMessageBox, QWidget

from humble_loop.desk.exporting import Exporter
from humble_loop.desk.importing import Importer
from humble_loop.desk.line_changes import LineChanges
from humble_loop.desk.reading_report import ReadingReport
from humble_loop.desk.session import Session
from humble_loop.desk.text_files import TextFiles
from humble_loop.desk.theme import Theme
from humble_loop.formats.again import LineChange, read_again, take
from humble_loop.formats.bring_in import KINDS, Brought, Options, read_files
from humble_loop.formats.bundle import Progress
from humble_loop.formats.errors import FormatError
from humble_loop.formats.recovery import Lost, discard, recover
from humble_loop.formats.safe_write import backup_of
from humble_loop.formats.site_file import ChangedOnDisk
from humble_loop.formats.text_layout import Layout
from humble_loop.site.libraries import new_site

_RECENT = 8


class FileDesk(QObject):
    """What the window does with files."""

    taken = Signal()  # another site is open now
    shown_at = Signal(float, float)  # a place of what was brought in is wanted on the plan
    lit = Signal(object)  # points (n, 2) that are to be lit up on the plan, or None
    brought = Signal(bool)  # files were brought in; whether the site was empty before

    def __init__(self, session: Session, settings: QSettings, theme: Callable[[], Theme], window: QWidget) -> None:
        super().__init__(window)
        self._session, self._settings, self._window = session, settings, window
        self._importer: Importer | None = None
        self._exporter: Exporter | None = None
        self.report: ReadingReport | None = None
        self.changes: LineChanges | None = None
        self.texts = TextFiles(settings, theme, window)
        self.texts.given_up.connect(lambda: session.said.emit("Given up; nothing was changed"))
        self._reading_for: object = None

    def new_site(self) -> None:
        """Start an empty site."""
        if self.may_leave():
            self._session.take(new_site())
            self.taken.emit()

    def open_demo(self) -> None:
        """Open the demo site."""
        from humble_loop.demo import demo_site  # reads the shipped site; wanted only here

        if self.may_leave():
            self._session.take(demo_site())
            self.taken.emit()

    def ask_open(self) -> None:
        """Ask for a site file and open it."""
        name, _ = QFileDialog.getOpenFileName(
            self._window, "Open a site", self._folder(), "Humble Loop sites (*.hloop)"
        )
        if name:
            self.open_path(Path(name))

    def open_path(self, path: Path) -> None:
        """Open a site file, after asking about unsaved changes."""
        if not self.may_leave():
            return
        try:
            self._session.open(path)
        except FormatError as error:
            self.tell("This site cannot be opened", str(error))
            return
        self._remember(path)
        self.taken.emit()

    def save(self) -> bool:
        """Save to the site's file, asking for one if it has none."""
        return self._save_to(self._session.path) if self._session.path else self.save_as()

    def save_as(self) -> bool:
        """Save to another file."""
        name, _ = QFileDialog.getSaveFileName(
            self._window,
            "Save the site",
            f"{self._folder()}/{self._session.site.name}.hloop",
            "Humble Loop sites (*.hloop)",
        )
        if not name:
            return False
        path = Path(name)
        if not path.suffix:
            path = path.with_suffix(".hloop")  # under which the file dialog has not looked
            if path.exists() and not self._may_replace(path):
                return False
        return self._save_to(path)

    def _may_replace(self, path: Path) -> bool:
        answer = QMessageBox.question(
            self._window,
            "Save the site",
            f"'{path.name}' is there already. Save over it? What is there now would stay as '{backup_of(path).name}'.",
            QMessageBox.StandardButton.Save | QMessageBox.StandardButton.Cancel,
        )
        return answer == QMessageBox.StandardButton.Save

    def _save_to(self, path: Path, *, over: bool = False) -> bool:
        try:
            self._session.save(path, over=over)
        except ChangedOnDisk:
            return self._settle(path)
        except FormatError as error:
            self.tell("The site cannot be saved", str(error))
            return False
        self._remember(path)
        return True

    def _settle(self, path: Path) -> bool:
        """The file was written by something else meanwhile: ask which of the two is to stay under its name."""
        ask = QMessageBox(
            QMessageBox.Icon.Warning,
            "Written by another window",
            f"'{path.name}' has been written by another window or program since it was opened here.\n"
            f"Save this site under another name, or over it? What is there now would stay as '{backup_of(path).name}'.",
            parent=self._window,
        )
        another = ask.addButton("Another name", QMessageBox.ButtonRole.AcceptRole)
        over = ask.addButton("Save over it", QMessageBox.ButtonRole.DestructiveRole)
        ask.addButton(QMessageBox.StandardButton.Cancel)
        ask.setDefaultButton(another)
        ask.exec()
        if ask.clickedButton() is another:
            return self.save_as()
        return ask.clickedButton() is over and self._save_to(path, over=True)

    def ask_bring_in(self) -> None:
        """Ask for survey and design files and bring them in."""
        endings = " ".join(f"*{e}" for e in sorted(KINDS))
        names, _ = QFileDialog.getOpenFileNames(
            self._window, "Bring in", self._folder(), f"Survey and design ({endings})"
        )
        if names:
            self.bring_in([Path(n) for n in names])

    def bring_in(self, paths: list[Path]) -> None:
        """Read files off the interface thread, and add what they hold to the site as it is when that is done.

        How a text file is to be read is asked first, where that is open.
        """
        if self.texts.busy or (self._importer is not None and self._importer.isRunning()):
            self._session.said.emit("Files are being read already")
            return
        self._reading_for = self._session.opened
        self.texts.settle(paths, lambda layouts: self._read(paths, Options(layouts=layouts)))

    def _read(self, paths: list[Path], options: Options) -> None:
        self._start(lambda progress: read_files(paths, options, progress), self._on_brought)

    def _start(self, read: Callable[[Progress], object], then: Callable[[Any], None]) -> None:
        self._importer = Importer(read, self._window)
        self._importer.brought.connect(then)
        self._importer.failed.connect(lambda words: self.tell("This file cannot be used", words))
        self._importer.start()

    def ask_read_again(self) -> None:
        """Ask for a file that lines of the site came from, and show what has changed in it since."""
        endings = " ".join(f"*{e}" for e in sorted(KINDS))
        name, _ = QFileDialog.getOpenFileName(self._window, "Read lines again", self._folder(), f"Survey ({endings})")
        if name:
            self.read_again(Path(name))

    def read_again(self, path: Path) -> None:
        """Read a file's lines off the interface thread, and show what is another in them before any of it is taken."""
        if self.texts.busy or (self._importer is not None and self._importer.isRunning()):
            self._session.said.emit("Files are being read already")
            return
        site, self._reading_for = self._session.site, self._session.opened

        def settled(layouts: Mapping[Path, Layout]) -> None:
            self._start(lambda progress: read_again(site, path, Options(layouts=layouts)), self._on_read_again)

        self.texts.settle([path], settled)

    def _on_read_again(self, changes: Sequence[LineChange]) -> None:
        if self._session.opened is not self._reading_for:
            self._session.said.emit("What was read is left out: another site was opened meanwhile")
        elif not changes:
            self._session.said.emit("Its lines are as they were")
        else:
            self.changes = LineChanges(changes, self._take, self._show_change, self._window)
            self.changes.show()

    def _show_change(self, change: LineChange | None) -> None:
        """Light a line up on the plan as its file has it now; one that is gone as it was."""
        if change is None:
            self.lit.emit(None)
            return
        self._show_at(*change.place)
        e, n = self._session.site.origin or (0.0, 0.0)
        line = change.fresh or change.old
        assert line is not None
        self.lit.emit(np.array([v[:2] for v in line.vertices]) - (e, n))

    def _take(self, changes: Sequence[LineChange]) -> None:
        words = f"Take {len(changes)} changed {'line' if len(changes) == 1 else 'lines'}"
        self._session.do(words, lambda site: take(site, changes))

    def _on_brought(self, result: Brought) -> None:
        if self._session.opened is not self._reading_for:
            self._session.said.emit(f"What was read ({result.words}) is left out: another site was opened meanwhile")
            return
        first = self._session.site.origin is None
        self._session.do("Bring in files", result.edit)
        self.brought.emit(first)
        words = f"Brought in {result.words}"
        if result.problems:
            words += f"; {len(result.problems)} places to look at are listed"
            self.report = ReadingReport(result.problems, self._show_at, self._window)
            self.report.show()
        self._session.said.emit(words)

    def _show_at(self, easting: float, northing: float) -> None:
        e, n = self._session.site.origin or (0.0, 0.0)
        self.shown_at.emit(easting - e, northing - n)

    def stop(self) -> None:
        """Give up what is being read or written."""
        self.texts.stop()
        for work in (self._importer, self._exporter):
            if work is not None and work.isRunning():
                work.requestInterruption()
                work.wait()  # a thread that is destroyed while it works takes the program down

    def ask_export(self) -> None:
        """Ask where to write LandXML, DXF or set-out points."""
        name, _ = QFileDialog.getSaveFileName(
            self._window,
            "Export",
            f"{self._folder()}/{self._session.site.name}.xml",
            "LandXML (*.xml);;DXF (*.dxf);;Set-out points (*.csv)",
        )
        if not name:
            return
        self.export_to(Path(name))

    def export_to(self, target: Path) -> None:
        """Write the site as it is now, by the target's ending, off the interface thread."""
        if self._exporter is not None and self._exporter.isRunning():
            self._session.said.emit("A file is being written already")
            return
        self._exporter = Exporter(self._session.site, target, self._window)
        self._exporter.written.connect(lambda words: self._session.said.emit(f"Written {words}"))
        self._exporter.failed.connect(lambda words: self.tell("The export was not written", words))
        self._exporter.start()

    def _folder(self) -> str:
        return str(self._session.path.parent if self._session.path else Path.home())

    def recent(self) -> list[str]:
        """Sites that were open lately."""
        try:
            return [str(p) for p in json.loads(str(self._settings.value("recent", "[]")))]
        except (ValueError, TypeError):
            return []

    def _remember(self, path: Path) -> None:
        rest = [p for p in self.recent() if p != str(path)]
        self._settings.setValue("recent", json.dumps([str(path), *rest][:_RECENT]))

    def offer_recovery(self, lost: Lost) -> None:
        """Offer the copy of a session that did not end properly."""
        when = time.strftime("%d %B %H:%M", time.localtime(lost.when))
        answer = QMessageBox.question(
            self._window,
            "Recover",
            f"'{lost.name}' was not closed properly. Open its copy of {when}?",
            QMessageBox.StandardButton.Open | QMessageBox.StandardButton.Discard | QMessageBox.StandardButton.Cancel,
        )
        if answer == QMessageBox.StandardButton.Open:
            try:
                site = recover(lost)
            except FormatError as error:
                self.tell("The copy cannot be read", str(error))
                return
            self._session.take(site, lost.original, saved=False, stamp=lost.stamp)
            self._session.write_recovery()
            discard(lost)
            self.taken.emit()
        elif answer == QMessageBox.StandardButton.Discard:
            discard(lost)

    def may_leave(self) -> bool:
        """Ask about unsaved changes; whether the site may be left."""
        if not self._session.unsaved:
            return True
        answer = QMessageBox.question(
            self._window,
            "Unsaved changes",
            f"'{self._session.site.name}' has unsaved changes.",
            QMessageBox.StandardButton.Save | QMessageBox.StandardButton.Discard | QMessageBox.StandardButton.Cancel,
        )
        if answer == QMessageBox.StandardButton.Save:
            return self.save()
        return answer == QMessageBox.StandardButton.Discard

    def tell(self, title: str, words: str) -> None:
        """One sentence that must be read."""
        QMessageBox.warning(self._window, title, words)
