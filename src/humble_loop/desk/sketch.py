"""Drawing a street by clicking: it snaps to a street's centreline, squares up to it, and is engineered as it grows."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from PySide6.QtCore import QPoint, Qt
from PySide6.QtGui import QKeyEvent

from humble_loop.desk.values import show
from humble_loop.desk.view import DrawingView
from humble_loop.engine.query import Unsolved
from humble_loop.formats.quantities import NotAQuantity, parse_length
from humble_loop.geometry.bends import BendInput, chain_from_bends
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street.bends import snap_to_street
from humble_loop.kinds.street.edits import add_street
from humble_loop.kinds.street.model import Bend, Street
from humble_loop.kinds.street.plan import StreetLine, chain_of
from humble_loop.lines.describe import Place
from humble_loop.lines.line import ThingId, line
from humble_loop.site import parts
from humble_loop.site.edits import Edit, free_id, free_name

_SQUARE = np.radians(14.0)  # a first leg this near to square is made square
_RADIUS = 40.0


class Sketch:
    """One street being drawn.

    The site is previewed with the street in it, so its returns, batters, cut and fill are the real ones; it is the
    chosen thing meanwhile, so that its sections are seen as it grows. Places are measured from the site's origin.
    """

    def __init__(self, plan: DrawingView, ended: Callable[[], None]) -> None:
        self._plan, self._session, self._ended = plan, plan.session, ended
        self._before = self._session.chosen.thing
        self._session.begin()
        self._points: list[Place] = []
        self._heading: float | None = None
        self._cursor: Place | None = None
        self._text = ""
        self._name = free_name(self._session.site, Street, "Street")
        self.id = free_id(self._session.site, Street, self._name)
        self._say("click where the street begins; near a centreline it snaps")

    def move(self, place: Place, reach: float) -> None:
        """The mouse is at a place."""
        self._cursor = self._held(place, reach)
        self._show()

    def click(self, place: Place, reach: float) -> None:
        """Put a point down."""
        at = self._held(place, reach)
        snap = snap_to_street(self._session.engine, at, reach, self.id)
        if not self._points:
            self._heading = snap[2] if snap else None
        elif np.hypot(at[0] - self._points[-1][0], at[1] - self._points[-1][1]) < 0.5:
            return
        self._points.append(at)
        self._text = ""
        if len(self._points) > 1 and snap is not None:
            self.finish()
            return
        self._cursor = at
        self._show()

    def _held(self, place: Place, reach: float) -> Place:
        """The place after snapping, squaring up and a typed length."""
        snap = snap_to_street(self._session.engine, place, reach, self.id)
        if snap is not None:
            return snap[1]
        if not self._points:
            return place
        last = np.array(self._points[-1])
        d = np.array(place) - last
        if len(self._points) == 1 and self._heading is not None:
            side = np.array([-np.sin(self._heading), np.cos(self._heading)])
            along = float(d @ side)
            if abs(along) > 1e-6 and np.arccos(np.clip(abs(along) / np.hypot(*d), -1, 1)) < _SQUARE:
                d = side * along
        if self._text:
            try:
                length = parse_length(self._text, self._session.site.settings.units)
                d = d / max(float(np.hypot(*d)), 1e-9) * length
            except NotAQuantity:
                pass
        at = last + d
        return (float(at[0]), float(at[1]))

    def _bends(self, points: list[Place]) -> list[Bend]:
        """Bends through ``points`` with the usual radius, or the largest that fits."""
        made = [BendInput(*p, _RADIUS if 0 < i < len(points) - 1 else 0.0) for i, p in enumerate(points)]
        _, problems = chain_from_bends(made)
        largest = {p.index: float(np.floor(p.largest)) for p in problems if p.kind == "radius"}
        e, n = self._origin(points)
        return [
            Bend(easting=b.easting + e, northing=b.northing + n, radius=largest.get(i, b.radius))
            for i, b in enumerate(made)
        ]

    def _origin(self, points: list[Place]) -> tuple[float, float]:
        del points
        return parts.origin(self._session.engine)

    def _edit(self, points: list[Place]) -> Edit:
        return lambda site: add_street(site, self._name, self._bends(points))

    def _show(self) -> None:
        points = [*self._points, self._cursor] if self._cursor else list(self._points)
        if len(points) >= 2 and np.hypot(points[-1][0] - points[-2][0], points[-1][1] - points[-2][1]) < 0.01:
            points.pop()
        if len(points) < 2:
            first = "click where the street begins; near a centreline it snaps"
            self._say("click the next point" if self._points else first)
            return
        why = self._session.preview(self._edit(points))
        self._session.choose(ThingId("street", self.id))
        leg = float(np.hypot(points[-1][0] - points[-2][0], points[-1][1] - points[-2][1]))
        words = f"leg {show('length', leg, self._session.site.settings)}" + (
            f" (typed {self._text})" if self._text else ""
        )
        self._say(f"{words}<br>{why or self._depth()}<br>double-click or Enter ends it, Esc gives it up")

    def _depth(self) -> str:
        q = self._session.engine
        try:
            total = chain_of(q, self.id).total
            crown = float(line(q, StreetLine(self.id)).rule.levels([total])[0])
        except Unsolved as unsolved:
            return unsolved.message
        ground = float(ground_of(q).levels(chain_of(q, self.id).points_at([total]))[0])
        word = "cut" if crown < ground else "fill"
        return f"{word} {show('length', abs(crown - ground), self._session.site.settings)} here"

    def _say(self, words: str) -> None:
        at = self._plan.pixel(self._cursor) if self._cursor else QPoint(20, 20)
        self._plan.tag.show_at(at, [f"<b>{self._name}</b>", words])

    def key(self, event: QKeyEvent) -> bool:
        """Take a key; returns whether it was for the sketch."""
        if event.key() == Qt.Key.Key_Escape:
            self.cancel()
        elif event.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
            if self._text and self._cursor is not None and self._points:
                self.click(self._cursor, 0.0)
            else:
                self.finish()
        elif event.key() == Qt.Key.Key_Backspace:
            if self._text:
                self._text = self._text[:-1]
            elif self._points:
                self._points.pop()
            self._show()
        elif event.text() and (event.text().isdigit() or event.text() in ".+-*/mftin "):
            self._text += event.text()
            if self._cursor is not None:
                self._cursor = self._held(self._cursor, 0.0)
            self._show()
        else:
            return False
        return True

    def finish(self) -> None:
        """Keep the street, if it has two points."""
        if len(self._points) < 2:
            self.cancel()
            return
        # Drawn towards a street, it is kept leaving from there, so that a head can stand at its free end.
        q = self._session.engine
        points = self._points
        if snap_to_street(q, points[-1], 0.05, self.id) and not snap_to_street(q, points[0], 0.05, self.id):
            points = points[::-1]
        self._session.preview(self._edit(points))
        self._session.commit(f"Draw {self._name}")
        self._ended()
        self._session.choose(ThingId("street", self.id))

    def cancel(self) -> None:
        """Give the street up; everything is as before."""
        self._session.cancel()
        self._ended()
        self._session.choose(self._before)
