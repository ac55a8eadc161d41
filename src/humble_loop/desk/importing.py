"""Bringing files in off the interface thread, with progress and cancel."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from PySide6.QtCore import QThread, Signal
from PySide6.QtWidgets import QProgressDialog, QWidget

from humble_loop.formats.bundle import Progress
from humble_loop.formats.errors import FormatError


class _GivenUp(Exception):
    pass


class Importer(QThread):
    """Reads files by ``read``; what came of them is handed over whole, or nothing is."""

    brought = Signal(object)
    failed = Signal(str)
    progressed = Signal(float, str)

    def __init__(self, read: Callable[[Progress], object], parent: QWidget) -> None:
        super().__init__(parent)
        self._reads = read
        self._dialog = QProgressDialog("Reading", "Cancel", 0, 100, parent)
        self._dialog.setWindowTitle("Bring in")
        self._dialog.setMinimumDuration(400)
        self._dialog.canceled.connect(self.requestInterruption)
        self.progressed.connect(self._show)
        self.finished.connect(self._dialog.close)

    def run(self) -> None:
        try:
            result = self._reads(self._tell)
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
