"""Text files of points that are brought in: looked at beside the window, and shown before they are read.

What somebody says about a file is remembered for the next one that is laid out in the same way; of several that are
brought in together and leave no doubts, one is shown.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass, replace
from pathlib import Path

from PySide6.QtCore import QObject, QSettings, QThread, Signal
from PySide6.QtWidgets import QWidget

from humble_loop.desk.text_preview import TextPreview
from humble_loop.desk.theme import Theme
from humble_loop.formats.bring_in import KINDS
from humble_loop.formats.bundle import METRES
from humble_loop.formats.errors import FormatError, check_file, guarded
from humble_loop.formats.text_layout import ROLES, SKIPPED, Layout, read_lines
from humble_loop.formats.text_recognition import recognised

_REMEMBERED = 60  # layouts


@dataclass(frozen=True)
class Looked:
    """A text file and what was found of its layout."""

    path: Path
    lines: Sequence[str]
    layout: Layout


class Looker(QThread):
    """Reads text files and recognises their layouts; one that cannot be read is left to whoever reads it in earnest."""

    looked = Signal(object)

    def __init__(self, paths: Sequence[Path], parent: QObject) -> None:
        super().__init__(parent)
        self._paths = paths

    def run(self) -> None:
        found = []
        for path in self._paths:
            with suppress(FormatError):
                check_file(path)
                with guarded(path, "points"):
                    lines = read_lines(path)
                    found.append(Looked(path, lines, recognised(path, lines)))
        self.looked.emit(found)


class TextFiles(QObject):
    """Settles how text files are read, one after the other; then hands all layouts on."""

    given_up = Signal()

    def __init__(self, settings: QSettings, theme: Callable[[], Theme], window: QWidget) -> None:
        super().__init__(window)
        self._settings, self._theme, self._window = settings, theme, window
        self._looker: Looker | None = None
        self._layouts: dict[Path, Layout] = {}
        self._said: list[tuple[Layout, Layout]] = []  # of files that come together: as recognised, and as said
        self._go_on: Callable[[dict[Path, Layout]], object] = lambda layouts: None
        self.preview: TextPreview | None = None

    @property
    def busy(self) -> bool:
        """Whether files are being looked at or asked about."""
        return (self._looker is not None and self._looker.isRunning()) or self.preview is not None

    def settle(self, paths: Sequence[Path], go_on: Callable[[dict[Path, Layout]], object]) -> None:
        """Find out how the text files among ``paths`` are laid out, and go on with their layouts."""
        texts = [p for p in paths if KINDS.get(p.suffix.lower()) == "points"]
        self._layouts, self._said, self._go_on = {}, [], go_on
        if not texts:
            go_on({})
            return
        self._looker = Looker(texts, self)
        self._looker.looked.connect(self._ask)
        self._looker.start()

    def stop(self) -> None:
        """Give up."""
        if self._looker is not None:
            self._looker.wait()  # a thread that is destroyed while it works takes the program down
        if self.preview is not None:
            self.preview.reject()

    def _ask(self, looked: list[Looked]) -> None:
        while looked:
            one = looked.pop(0)
            if one.layout.refusal and len(one.layout.columns) < 3:
                continue  # whoever reads it says why it cannot be
            if (said := self._said_of_its_like(one.layout)) is not None:
                self._layouts[one.path] = said
                continue
            layout, unit = self._remembered(one.layout)
            self.preview = TextPreview(one.path, one.lines, layout, unit, self._theme(), self._window)
            self.preview.settled.connect(lambda said, one=one: self._take(one, said))
            self.preview.finished.connect(lambda result, rest=looked: self._next(result, rest))
            self.preview.open()
            return
        self._go_on(self._layouts)

    def _take(self, one: Looked, said: Layout) -> None:
        self._layouts[one.path] = said
        self._said.append((one.layout, said))
        self._remember(one.layout, said)

    def _next(self, result: int, rest: list[Looked]) -> None:
        if self.preview is not None:
            self.preview.deleteLater()
            self.preview = None
        if result == TextPreview.DialogCode.Accepted:
            self._ask(rest)
        else:
            self.given_up.emit()

    def _said_of_its_like(self, layout: Layout) -> Layout | None:
        """What was said just now about a file that is laid out in the same way; None where this one leaves doubts."""
        for like, said in self._said:
            alike = like.signature == layout.signature and like.unit == layout.unit
            if alike and layout.certain and (said.separator, said.decimal) == (layout.separator, layout.decimal):
                return replace(layout.with_columns(said.columns), unit=said.unit)
        return None

    # What was said about such files before

    def _known(self) -> dict[str, dict[str, object]]:
        try:
            known = json.loads(str(self._settings.value("layouts", "{}")))
        except (ValueError, TypeError):
            return {}
        return known if isinstance(known, dict) else {}

    def _remembered(self, layout: Layout) -> tuple[Layout, str]:
        said = self._known().get(layout.signature)
        if not isinstance(said, dict):
            return layout, "m"
        columns, unit = said.get("columns"), said.get("unit")
        unit = unit if isinstance(unit, str) and unit in METRES else "m"
        if not isinstance(columns, list) or len(columns) != len(layout.columns):
            return layout, unit
        if any(c not in (*ROLES, SKIPPED) for c in columns):
            return layout, unit
        doubt = "columns are as you said for the last file of this kind"
        return replace(layout.with_columns(columns), doubts=(doubt,)), unit

    def _remember(self, layout: Layout, said: Layout) -> None:
        known = self._known()
        known.pop(layout.signature, None)
        known[layout.signature] = {"columns": list(said.columns), "unit": said.unit}
        self._settings.setValue("layouts", json.dumps(dict(list(known.items())[-_REMEMBERED:])))
