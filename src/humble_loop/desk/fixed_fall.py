"""A fixed fall between two places on lines: the level of the first follows from the second."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QKeyEvent

from humble_loop.desk.values import read, show
from humble_loop.desk.view import DrawingView
from humble_loop.engine.query import Cancelled, Unsolved
from humble_loop.formats.quantities import NotAQuantity
from humble_loop.geometry.arrays import Floats
from humble_loop.lines.anchor import by_words, can_follow, let_follow
from humble_loop.lines.describe import Place
from humble_loop.lines.line import LineId, line, line_plan
from humble_loop.site.edits import Edit, EditError
from humble_loop.site.model import Anchor
from humble_loop.whole.line_near import line_near
from humble_loop.whole.things import thing_of

_PATIENCE = 0.05  # seconds in which it is looked what lies under the hand
_DOT = np.array([[0.0, 0.0], [0.001, 0.0]])  # metres: so short that it is as wide as the pen


class FixedFall:
    """Two places being marked: on the line whose level is to follow, then on the one that it follows. Nothing is changed before the second."""

    def __init__(self, plan: DrawingView, ended: Callable[[], None], light_up: Callable[[Floats | None], None]) -> None:
        self._plan, self._session, self._ended, self._light_up = plan, plan.session, ended, light_up
        self.id = ""
        self._first: tuple[LineId, float] | None = None
        self._under: tuple[LineId, float] | None = None
        self._cursor: Place | None = None
        self._text = ""
        self._tell()

    def move(self, place: Place, reach: float) -> None:
        """The mouse is at a place."""
        self._cursor = place
        q = self._session.engine
        try:
            with q.within(_PATIENCE):
                fit = None if self._first else lambda id, s: can_follow(q, id, s)
                self._under = line_near(q, place, max(reach, 1.0), fit)
        except Cancelled:
            return  # it is still being worked out: with the next move
        self._show()

    def _show(self) -> None:
        found = [self._place(*at) for at in (self._first, self._under) if at is not None]
        self._light_up(np.concatenate([np.vstack([p + _DOT, [[np.nan, np.nan]]]) for p in found]) if found else None)
        self._tell()

    def _place(self, id: LineId, s: float) -> Floats:
        place: Floats = line_plan(self._session.engine, id).points([s])[0]
        return place

    def _tell(self, why: str = "") -> None:
        settings, q = self._session.site.settings, self._session.engine
        words = []
        for marked in (self._first, self._under):
            if marked is not None:
                made = q.attempt(line, marked[0])
                if not isinstance(made, Unsolved):
                    level = float(made.rule.levels([marked[1]])[0])
                    words.append(
                        f"{made.title} <b>{show('level', level, settings)}</b>" if np.isfinite(level) else made.title
                    )
        if why:
            words.append(why)
        elif self._first is None:
            words.append("click the place whose level is to follow; Esc gives it up")
        else:
            if self._under is not None and (now := self._as_it_lies()):
                words.append(now)
            fall = f"falls <b>{self._typed()}</b>" if self._text else "as it lies, or type a fall"
            words.append(f"click the place that it follows: {fall}; Backspace takes the first place back")
        at = self._plan.pixel(self._cursor) if self._cursor else QPoint(20, 20)
        self._plan.tag.show_at(at, ["<b>Fixed fall</b>", "<br>".join(words)])

    def _typed(self) -> str:
        """The fall that is typed, as it is read."""
        settings = self._session.site.settings
        try:
            return show("grade", read("grade", self._text, settings), settings)
        except NotAQuantity:
            return self._text

    def _as_it_lies(self) -> str:
        """How the first place lies to what is under the hand."""
        try:
            return f"it {by_words(self._made()[1])} there now" if not self._text else ""
        except (EditError, Unsolved, NotAQuantity):
            return ""

    def _made(self) -> tuple[Edit, Anchor]:
        assert self._first is not None
        assert self._under is not None
        fall = read("grade", self._text, self._session.site.settings) if self._text else None
        return let_follow(self._session.engine, *self._first, self._under[0], fall)

    def click(self, place: Place, reach: float) -> None:
        """Mark the first place, or the second."""
        self.move(place, reach)
        if self._under is None:
            what = "with levels of its own: a crown, or a lip that has some" if self._first is None else "to follow"
            self._tell(f"there is no line here {what}")
        elif self._first is None:
            self._first = self._under
            self._show()
        else:
            self.finish()

    def key(self, event: QKeyEvent) -> bool:
        """Take a key; returns whether it was for this."""
        if event.key() == Qt.Key.Key_Escape:
            self.cancel()
        elif event.key() == Qt.Key.Key_Backspace:
            if self._text:
                self._text = self._text[:-1]
            else:
                self._first = None
            self._show()
        elif self._first is not None and event.text() and (event.text().isdigit() or event.text() in ".,+-%:"):
            self._text += event.text()
            self._show()
        else:
            return False
        return True

    def finish(self) -> None:
        """Let the first place follow from the second."""
        if self._first is None or self._under is None:
            self._tell()
            return
        try:
            edit, anchor = self._made()
        except (EditError, NotAQuantity) as error:
            self._tell(f"{error}")
            return
        except Unsolved as error:
            self._tell(f"{error.thing}: {error.message}; {error.remedy}")
            return
        title = line_plan(self._session.engine, self._under[0]).title
        follower = thing_of(self._session.engine, self._first[0])
        if not self._session.do("Fixed fall", edit):
            return
        self.cancel()
        self._session.choose(follower)
        self._session.said.emit(f"It {by_words(anchor)} {title}; type another fall in its rows")

    def cancel(self) -> None:
        """Leave off."""
        self._light_up(None)
        self._ended()
