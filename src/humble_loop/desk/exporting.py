"""Writing files for others off the interface thread: the site as it is now is worked out and written by a process of its own.

The window stays free (one process cannot work in two threads of Python at once), giving up is certain, and a file
appears under its name only when it is whole.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
from pathlib import Path
from typing import IO

from PySide6.QtCore import QThread, Signal
from PySide6.QtWidgets import QProgressDialog, QWidget

from humble_loop.formats.errors import FormatError
from humble_loop.formats.safe_write import write_safely
from humble_loop.formats.site_file import save_site
from humble_loop.site.model import Site

_LOOK = 0.1  # seconds between two looks at whether it is done or given up


class Exporter(QThread):
    """Writes one site to one target."""

    written = Signal(str)
    failed = Signal(str)

    def __init__(self, site: Site, target: Path, parent: QWidget) -> None:
        super().__init__(parent)
        self._site, self._target = site, target
        self._dialog = QProgressDialog(f"Working out and writing {target.name}", "Cancel", 0, 0, parent)
        self._dialog.setWindowTitle("Export")
        self._dialog.setMinimumDuration(400)
        self._dialog.setValue(0)
        self._dialog.canceled.connect(self.requestInterruption)
        self.finished.connect(self._dialog.reset)

    def run(self) -> None:
        try:
            with tempfile.TemporaryDirectory(prefix="humble-loop-") as folder:
                self._write(Path(folder))
        except FormatError as error:
            self.failed.emit(error.message)
        except OSError as error:
            self.failed.emit(f"{self._target}: it cannot be written ({error.strerror or error}); choose another place")

    def _write(self, folder: Path) -> None:
        source, made = folder / "site.hloop", folder / f"made{self._target.suffix}"
        save_site(self._site, source)
        command = [sys.executable, "-m", "humble_loop", "export", str(source), "--to", str(made)]
        with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE, text=True) as process:
            while True:
                try:
                    _, complaint = process.communicate(timeout=_LOOK)
                    break
                except subprocess.TimeoutExpired:
                    if self.isInterruptionRequested():
                        process.kill()
                        self.failed.emit("Given up; nothing was written")
                        return
        if process.returncode != 0 or not made.exists():
            words = complaint.strip().rpartition("\n")[2].removeprefix("humble-loop: ")
            self.failed.emit(words.replace(str(made), str(self._target)) or "it stopped before it was done; try again")
            return
        data = made.read_bytes()

        def put(file: IO[bytes]) -> None:
            file.write(data)

        write_safely(self._target, put)
        self.written.emit(self._target.name)
