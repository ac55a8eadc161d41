"""Bringing files in off the interface thread, with progress and cancel."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from PySide6.QtCore import QThread, Signal
from PySide6.QtWidgets import QProgressDialog, QWidget

from humble_loop.formats.bring_in import Brought, bring_in
from humble_loop.formats.errors import FormatError
from humble_loop.site.model import Site


class _GivenUp(Exception):
    pass


class Importer(QThread):
    """Reads files into a site; the result is handed over whole, or nothing is."""

    brought = Signal(object)
    failed = Signal(str)
    progressed = Signal(float, str)

    def __init__(self, site: Site, paths: Sequence[Path], parent: QWidget) -> None:
        super().__init__(parent)
        self._site, self._paths = site, list(paths)
        self._dialog = QProgressDialog("Reading", "Cancel", 0, 100, parent)
        self._dialog.setWindowTitle("Bring in")
        self._dialog.setMinimumDuration(400)
        self._dialog.canceled.connect(self.requestInterruption)
        self.progressed.connect(self._show)
        self.finished.connect(self._dialog.close)

    def run(self) -> None:
        try:
            result: Brought = bring_in(self._site, self._paths, progress=self._tell)
        except _GivenUp:
            self.failed.emit("Given up; nothing was changed")
        except FormatError as error:
            self.failed.emit(f"{Path(error.path).name}: {error.message}")
        except MemoryError:
            self.failed.emit("There is not enough memory for these files; thin their points out first")
        else:
            self.brought.emit(result)

    def _tell(self, share: float, words: str) -> None:
        if self.isInterruptionRequested():
            raise _GivenUp
        self.progressed.emit(share, words)

    def _show(self, share: float, words: str) -> None:
        self._dialog.setLabelText(words)
        self._dialog.setValue(int(100 * share))
