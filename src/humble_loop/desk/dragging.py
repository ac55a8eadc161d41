"""Handles and dragging: a tag beside the cursor names the thing; typing a number takes over from the mouse."""

from __future__ import annotations

from PySide6.QtCore import QObject, QPoint, Qt, QTimer, Signal
from PySide6.QtGui import QKeyEvent
from PySide6.QtWidgets import QLabel, QWidget

from humble_loop.desk.session import Session
from humble_loop.desk.theme import Theme
from humble_loop.desk.values import read_typed, show
from humble_loop.engine.query import Unsolved
from humble_loop.formats.quantities import NotAQuantity
from humble_loop.lines.describe import Handle, Place, Told
from humble_loop.site.edits import Edit


class Tag(QLabel):
    """The small label beside the cursor while something is dragged or drawn."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._view = parent
        self.setAttribute(Qt.WidgetAttribute.WA_TransparentForMouseEvents)
        self.setTextFormat(Qt.TextFormat.RichText)
        self.hide()

    def paint_in(self, theme: Theme) -> None:
        """Take a theme's colours."""
        self.setStyleSheet(
            f"background: {theme.panel}; color: {theme.ink}; border: 1px solid {theme.chosen}; border-radius: 4px; padding: 3px 6px;"
        )

    def show_at(self, at: QPoint, lines: list[str]) -> None:
        """Show ``lines`` beside ``at``, kept inside the parent."""
        self.setText("<br>".join(lines))
        self.adjustSize()
        parent = self._view
        x, y = at.x() + 26, at.y() + 26
        if x + self.width() > parent.width():
            x = at.x() - self.width() - 14
        if y + self.height() > parent.height():
            y = at.y() - self.height() - 14
        self.move(max(0, x), max(0, y))
        self.show()
        self.raise_()


class Dragging(QObject):
    """Runs one drag at a time for a view: previews, typed values, commit or cancel."""

    ended = Signal()

    def __init__(self, session: Session, tag: Tag) -> None:
        super().__init__(tag)
        self._session, self._tag = session, tag
        self.handle: Handle | None = None
        self._text, self._words, self._why = "", "", ""
        self._last: tuple[Told, ...] = ()  # of the last move
        self._at = QPoint()
        self._place: Place | None = None
        self._painted = True  # whether the last move that was taken up has been
        self._soon = QTimer(self)
        self._soon.setSingleShot(True)
        self._soon.setInterval(0)
        self._soon.timeout.connect(self._move_now)

    @property
    def active(self) -> bool:
        """Whether a drag is under way."""
        return self.handle is not None

    @property
    def waiting(self) -> bool:
        """Whether a move has not been taken up yet."""
        return self._soon.isActive()

    @property
    def place(self) -> Place | None:
        """Where the hand is, in the view's coordinates; None while a value is being typed."""
        return None if self._text else self._place

    def begin(self, handle: Handle, at: QPoint) -> None:
        """Take hold of a handle."""
        self.handle, self._text, self._words, self._why, self._at, self._place = handle, "", "", "", at, None
        self._last, self._painted = (), True
        self._session.begin()
        self._show()

    def move(self, place: Place, at: QPoint) -> None:
        """Drag to a place, at once where the move before has been painted; of those that come faster only the last is taken up."""
        self._place, self._at = place, at
        if self._text:
            return
        self._session.drag_moved.emit()
        if self._painted:
            self._move_now()
        else:
            self._soon.start()

    def painted(self) -> None:
        """To be told when the view has painted; one that is given no paint waits for nothing."""
        self._painted = True

    def _move_now(self) -> None:
        self._painted = False
        if self.handle is None or self._place is None or self._text:
            return
        try:
            edit, self._last = self.handle.moved(self._place)
        except Unsolved as unsolved:
            self._why = f"{unsolved.message}; {unsolved.remedy}"
        else:
            self._words = self._told(self._last)
            self._why = self._session.preview(edit)
        self._show()

    def key(self, event: QKeyEvent) -> bool:
        """Take a key while dragging; returns whether it was for the drag."""
        if self.handle is None:
            return False
        if event.key() == Qt.Key.Key_Escape:
            self.cancel()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.finish()
        elif event.key() == Qt.Key.Key_Backspace:
            self._type(self._text[:-1])
        elif event.text() and event.text().isprintable():
            self._type(self._text + event.text())
        else:
            return False
        return True

    def _type(self, text: str) -> None:
        assert self.handle is not None
        self._text = text
        self._why = ""
        if text:
            try:
                self._why = self._session.preview(read_typed(text, self.handle.typed, self._session.site.settings))
            except NotAQuantity as error:
                self._why = "" if text in ("-", "+", ".", "−") else str(error)
        elif self._place is not None:
            self._soon.start()
        self._show()

    def _told(self, told: tuple[Told, ...]) -> str:
        settings = self._session.site.settings
        out = []
        for t in told:
            words = f"{t.label} <b>{show(t.unit, t.value, settings)}</b>"
            if t.was is not None:
                words += f" ({show(t.unit, t.value - t.was, settings, signed=True)})"
            out.append(words)
        return "  ".join(out)

    def finish(self) -> None:
        """Let go: what is shown stays, as one undo step."""
        if self.handle is None:
            return
        if self._soon.isActive():
            self._soon.stop()
            self._move_now()
        handle, place, self.handle = self.handle, self.place, None
        self._tag.hide()
        self._session.commit(handle.does or f"Move {handle.title}")
        self.ended.emit()
        if place is not None and self._last:
            settings = self._session.site.settings
            words = (
                self._rule(handle)
                if handle.does
                else ", ".join(f"{t.label} {show(t.unit, t.value, settings)}" for t in self._last)
            )
            self._session.said.emit(f"{handle.title}: {words}")
            for offer in self._instead(handle, place)[:1]:
                self._session.offered.emit(*offer)

    # A drag may bring what is dragged to where it cannot be worked out any more: that is told as a finding, not by the handle.

    def _rule(self, handle: Handle) -> str:
        try:
            return handle.rule(self._session.engine)
        except Unsolved:
            return ""

    def _instead(self, handle: Handle, place: Place) -> tuple[tuple[str, Edit], ...]:
        try:
            return handle.instead(place)
        except Unsolved:
            return ()

    def cancel(self) -> None:
        """Put everything back."""
        if self.handle is None:
            return
        self._soon.stop()
        self.handle = None
        self._tag.hide()
        self._session.cancel()
        self.ended.emit()

    def _show(self) -> None:
        assert self.handle is not None
        lines = [f"<b>{self.handle.title}</b>"]
        if self._text:
            lines.append(f"{self._asks()}: <u>{self._text}</u>")
        elif self._words:
            lines.append(self._words)
        else:
            lines.append(f"drag, or type {self._asks()}" if self.handle.typed else "drag")
        rule = self._why or self._rule(self.handle)
        if rule:
            lines.append(f"<i>{rule}</i>")
        self._tag.show_at(self._at, lines)

    def _asks(self) -> str:
        assert self.handle is not None
        return ", or ".join(t.asks for t in reversed(self.handle.typed))
