"""Placing a roundabout: it stands to scale under the cursor, with its legs, before it is put down."""

from __future__ import annotations

from collections.abc import Callable

from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QKeyEvent

from humble_loop.desk.values import show
from humble_loop.desk.view import DrawingView
from humble_loop.engine.query import Cancelled, Unsolved
from humble_loop.kinds.roundabout.faults import why_not
from humble_loop.kinds.roundabout.making import Seat, seat_at
from humble_loop.kinds.roundabout.model import Roundabout
from humble_loop.lines.describe import Place
from humble_loop.lines.line import ThingId
from humble_loop.site import parts
from humble_loop.site.library import RoundaboutPreset

_REACH = 1.5  # of the reach of other snaps within which a node is meant
_PATIENCE = 0.05  # seconds in which it is seen what does not fit, under the moving hand
_FIRST = "compact"


class Placing:
    """One roundabout being placed. The site is previewed with it, so what is seen is what would be made."""

    def __init__(self, plan: DrawingView, ended: Callable[[], None]) -> None:
        self._plan, self._session, self._ended = plan, plan.session, ended
        self._before = self._session.chosen.thing
        ids = parts.ids(self._session.engine, RoundaboutPreset)
        self._presets = [parts.one(self._session.engine, RoundaboutPreset, i) for i in ids]
        self._kind = next((k for k, p in enumerate(self._presets) if p.id == _FIRST), 0)
        self._session.begin()
        self._base = self._session.site
        self._seat: Seat | None = None
        self._cursor: Place | None = None
        self.id = ""  # the street on which it would stand
        self._say("point at a junction, a street's end or a street")

    @property
    def preset(self) -> RoundaboutPreset:
        """The one under the cursor."""
        return self._presets[self._kind]

    def move(self, place: Place, reach: float) -> None:
        """The mouse is at a place."""
        self._cursor = place
        seat = seat_at(self._session.engine, place, max(_REACH * reach, 1.0), self.preset.radius)
        if seat != self._seat:
            self._seat = seat
            self._show()
        else:
            self._tell("")

    def _show(self) -> None:
        self.id = "" if self._seat is None else self._seat.street
        if self._seat is None:
            self._session.preview(lambda site: site)
            self._session.choose(None)
            self._tell("")
            return
        why = self._session.preview(self._seat.edit(self.preset.id))
        if (made := self._made()) is not None:
            self._session.choose(made)
        self._tell(why)

    def _made(self) -> ThingId | None:
        """The roundabout that is previewed."""
        old = {r.id for r in self._base.all(Roundabout) if r.laid}
        new = [r.id for r in self._session.site.all(Roundabout) if r.laid and r.id not in old]
        return ThingId("roundabout", new[0]) if new else None

    def _tell(self, why: str) -> None:
        settings, made = self._session.site.settings, self._made()
        if self._seat is None:
            self._say("point at a junction, a street's end or a street")
            return
        if not why and made is not None:
            try:
                with self._session.engine.within(_PATIENCE):
                    why = why_not(self._session.engine, made.id)
            except (Cancelled, Unsolved):
                why = ""
        radius = f"radius <b>{show('length', self.preset.radius, settings)}</b>"
        self._say(
            "<br>".join(w for w in (radius, why, "click puts it down; Tab or 1 to 9 for another, Esc gives it up") if w)
        )

    def _say(self, words: str) -> None:
        at = self._plan.pixel(self._cursor) if self._cursor else QPoint(20, 20)
        self._plan.tag.show_at(at, [f"<b>{self.preset.name}</b>", words])

    def click(self, place: Place, reach: float) -> None:
        """Put it down where it stands."""
        self.move(place, reach)
        self.finish()

    def key(self, event: QKeyEvent) -> bool:
        """Take a key; returns whether it was for this."""
        if event.key() == Qt.Key.Key_Escape:
            self.cancel()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            self.finish()
        elif event.key() in (Qt.Key.Key_Tab, Qt.Key.Key_Backtab):
            self._take(self._kind + (1 if event.key() == Qt.Key.Key_Tab else -1))
        elif event.text().isdigit() and 1 <= int(event.text()) <= len(self._presets):
            self._take(int(event.text()) - 1)
        else:
            return False
        return True

    def _take(self, kind: int) -> None:
        self._kind = kind % len(self._presets)
        self._show()

    def finish(self) -> None:
        """Keep it where it stands."""
        if self._seat is None:
            self._say("there is no street here: point at a junction, a street's end or a street")
            return
        edit = self._seat.edit(self.preset.id)
        self._session.cancel()
        self._ended()
        self._session.choose(self._before)
        before = {r.id for r in self._session.site.all(Roundabout) if r.laid}
        if self._session.do(f"Put a roundabout down: {self.preset.name}", edit):
            new = [r.id for r in self._session.site.all(Roundabout) if r.laid and r.id not in before]
            if new:
                self._session.choose(ThingId("roundabout", new[0]))

    def cancel(self) -> None:
        """Give it up; everything is as before."""
        self._session.cancel()
        self._ended()
        self._session.choose(self._before)
