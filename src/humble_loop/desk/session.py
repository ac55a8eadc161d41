"""The session: the site as it is now, what was done to it, what is chosen, and where the cursor is.

Views never change the site: they hand in edits and hear one notice back. A drag previews and then commits once.
"""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

from PySide6.QtCore import QObject, QTimer, Signal

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.formats.errors import FormatError
from humble_loop.formats.own_library import OwnLibrary
from humble_loop.formats.recovery import Recovery
from humble_loop.formats.safe_write import Stamp, stamp_of
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.lines.line import LineId, ThingId
from humble_loop.lines.standing import kind_of, kinds
from humble_loop.site.edits import Edit, EditError, attempted
from humble_loop.site.libraries import new_site
from humble_loop.site.model import Site
from humble_loop.whole.things import exists

_MOST_STEPS = 1000  # that can be undone: each keeps what it changed
_RECOVER_AFTER = 1500  # milliseconds from a change to its recovery copy


@dataclass(frozen=True)
class Chosen:
    """What is chosen: a thing, and the key of the handle that is in hand."""

    thing: ThingId | None = None
    held: tuple[Any, ...] = ()


@dataclass(frozen=True)
class Station:
    """Where the section cursor is: a line and a chainage of its base."""

    line: LineId
    chainage: float


class Session(QObject):
    """One site being worked on."""

    changed = Signal()  # the site is another one (an edit, undo, or a drag's preview)
    chosen_changed = Signal()
    cursor_moved = Signal()  # easting, northing or chainage under the cursor
    point_asked = Signal(float, float)  # a place whose level trail is wanted
    said = Signal(str)  # one sentence for the designer
    offered = Signal(str, object)  # what could have been meant instead of the last edit: words, and the edit
    drag_moved = Signal()  # the hand has moved what is dragged; it is shown next
    drag_painted = Signal()  # the view that is dragged has painted the last move, with the lines that move with it

    def __init__(self, recovery_root: Path | None = None, library: OwnLibrary | None = None) -> None:
        super().__init__()
        self._library = library
        self.trouble = ""  # with the designer's own library, met before anybody listened
        self.site = self._with_library(new_site())
        self.engine = Engine(self.site)
        self.opened = object()  # another one for each site that is opened
        self.path: Path | None = None
        self._stamp: Stamp | None = None  # of the file as it was read or written here
        self.chosen = Chosen()
        self.cursor: tuple[float, float] | None = None
        self.station: Station | None = None
        self._undo: list[tuple[str, Site]] = []
        self._redo: list[tuple[str, Site]] = []
        self._saved = self.site
        self._base: Site | None = None
        self._recovery = Recovery(recovery_root) if recovery_root else None
        self._recover_later = QTimer(self)
        self._recover_later.setSingleShot(True)
        self._recover_later.setInterval(_RECOVER_AFTER)
        self._recover_later.timeout.connect(self.write_recovery)
        self._recover_later.timeout.connect(self._keep_library)

    # Files

    def open(self, path: Path) -> None:
        """Open a site file. Raises FormatError and keeps the present site when it cannot be read."""
        stamp = stamp_of(path)  # before it is read: what is written while it is read is noticed as well
        self.take(load_site(path), path, stamp=stamp)

    def take(self, site: Site, path: Path | None = None, *, saved: bool = True, stamp: Stamp | None = None) -> None:
        """Start afresh with ``site``; ``stamp`` is that of its file as it was read."""
        self._undo.clear()
        self._redo.clear()
        site = self._with_library(site)
        self.site, self.path, self._base, self._stamp = site, path, None, stamp
        self._saved = site if saved else new_site()
        self.opened = object()
        self.engine = Engine(site)
        self.chosen, self.station = Chosen(), None
        if self._recovery:
            self._recovery.clear()
        self.changed.emit()
        self.chosen_changed.emit()

    def save(self, path: Path | None = None, *, over: bool = False) -> None:
        """Write the site to its file or another.

        Raises FormatError, and ChangedOnDisk when something else has written its own file meanwhile, unless ``over``.
        """
        target = path or self.path
        if target is None:
            raise FormatError("the site", "it has no file yet; use Save as")
        since = self._stamp if target == self.path and not over else None
        self._stamp = save_site(self.site, target, since)
        self.path, self._saved = target, self.site
        if self._recovery:
            self._recovery.clear()
        self.said.emit(f"Saved {target.name}")
        self.changed.emit()

    @property
    def unsaved(self) -> bool:
        """Whether there are changes since the last save."""
        return self.site is not self._saved

    def write_recovery(self) -> None:
        """Put the present site on disk for the next start, should this one end badly."""
        if self._recovery and self.unsaved and self._base is None:
            try:
                self._recovery.write(self.site, self.path, self._stamp)
            except OSError as error:
                self.said.emit(f"The recovery copy cannot be written ({error.strerror or error}); save soon")

    def _with_library(self, site: Site) -> Site:
        """A site with what the designer's own library holds and it does not."""
        try:
            return self._library.added_to(site) if self._library else site
        except FormatError as error:
            self.trouble = str(error)
            self.said.emit(self.trouble)
            return site

    def _keep_library(self) -> None:
        """Put shapes that were made into the designer's own library."""
        if self._library is None or self._base is not None:
            return
        try:
            self._library.keep(self.site)
        except (FormatError, OSError) as error:
            words = str(error) if isinstance(error, FormatError) else f"({error.strerror or error})"
            self.said.emit(f"Your own library cannot be kept: {words}")

    def end(self) -> None:
        """Close properly: the recovery copy is no longer needed."""
        if self._recover_later.isActive():
            self._keep_library()
        self._recover_later.stop()
        if self._recovery:
            self._recovery.clear()

    # Edits

    def do(self, words: str, edit: Edit) -> bool:
        """Make an edit as one undo step; says why and changes nothing when it cannot be made."""
        try:
            fresh = attempted(edit, self.site)
        except (EditError, Unsolved) as error:
            self.said.emit(str(error))
            return False
        self._push(words, self.site, fresh)
        return True

    def do_and_choose(self, words: str, edit: Edit) -> bool:
        """Make an edit, and choose what it adds, if that is one thing of a kind that is worked on next."""
        before = self.site
        if not self.do(words, edit):
            return False
        models = [(kind.key, model) for kind in kinds() if kind.worked_on_next for model in kind.models]
        added = [ThingId(key, t.id) for key, m in models for t in self.site.all(m) if before.find(m, t.id) is None]
        if len(added) == 1 and exists(self.engine, added[0]):
            self.choose(added[0])
        return True

    def _push(self, words: str, old: Site, fresh: Site) -> None:
        if fresh is not old:
            self._undo = [*self._undo[1 - _MOST_STEPS :], (words, old)]
            self._redo.clear()
        self._show(fresh)
        self._recover_later.start()

    def _show(self, site: Site) -> None:
        self.site = site
        self.engine.use(site)
        self.changed.emit()

    @property
    def dragging(self) -> bool:
        """Whether a drag is under way."""
        return self._base is not None

    def begin(self) -> None:
        """Begin a drag: previews are of the site as it is now."""
        self._base = self.site

    def preview(self, edit: Edit) -> str:
        """Show what an edit of the drag's beginning would do; returns why not when it makes no sense."""
        if self._base is None:
            self.begin()
        assert self._base is not None
        try:
            fresh = attempted(edit, self._base)
        except (EditError, Unsolved) as error:
            return str(error)
        self._show(fresh)
        return ""

    def commit(self, words: str) -> None:
        """End a drag: what is shown becomes one undo step."""
        if self._base is None:
            return
        base, self._base = self._base, None
        self._push(words, base, self.site)

    def cancel(self) -> None:
        """End a drag and put everything back."""
        if self._base is None:
            return
        base, self._base = self._base, None
        self._show(base)

    def undo(self) -> None:
        """Go back one step."""
        if self._undo and self._base is None:
            words, site = self._undo.pop()
            self._redo.append((words, self.site))
            self._show(site)
            self.said.emit(f"Undone: {words}")
            self._recover_later.start()

    def redo(self) -> None:
        """Go forward one step."""
        if self._redo and self._base is None:
            words, site = self._redo.pop()
            self._undo.append((words, self.site))
            self._show(site)
            self.said.emit(f"Done again: {words}")
            self._recover_later.start()

    @property
    def undo_words(self) -> str:
        """What would be undone, or ''."""
        return self._undo[-1][0] if self._undo else ""

    @property
    def redo_words(self) -> str:
        """What would be done again, or ''."""
        return self._redo[-1][0] if self._redo else ""

    # Choice and cursor

    def choose(self, thing: ThingId | None, held: tuple[Any, ...] = ()) -> None:
        """Choose a thing, and perhaps one of its handles."""
        fresh = Chosen(thing, held)
        if fresh == self.chosen:
            return
        self.chosen = fresh
        if self.station is not None and self.station.line != self.section_line:
            self.station = None
        self.chosen_changed.emit()

    @property
    def thing(self) -> ThingId | None:
        """The chosen thing, if it is still there."""
        return self.chosen.thing if exists(self.engine, self.chosen.thing) else None

    @property
    def section_line(self) -> LineId | None:
        """The line whose long section is looked at: that of the chosen thing."""
        thing = self.thing
        if thing is None:
            return None
        try:
            return kind_of(thing.kind).section_line(self.engine, thing)
        except Unsolved:
            return None

    @property
    def street(self) -> str:
        """The street whose sections and strip are looked at, or ''."""
        line = self.section_line
        if line is None:
            return ""
        return str(getattr(line, "street", "")) or kind_of(line.kind).street_beside(self.engine, line)

    @property
    def origin(self) -> tuple[float, float]:
        """The point from which views and the core measure."""
        return self.site.origin or (0.0, 0.0)

    def point_at(self, easting: float, northing: float, station: Station | None = None) -> None:
        """Move the one cursor that all views share (a place from the site's origin)."""
        self.cursor = (easting, northing)
        if station is not None:
            self.station = station
        self.cursor_moved.emit()
