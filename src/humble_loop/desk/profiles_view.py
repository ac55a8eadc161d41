"""The long sections of several lines side by side: of a junction its returns, with the room that rules leave them."""

from __future__ import annotations

from functools import partial

import numpy as np
from PySide6.QtCore import QPointF, QRectF, Qt, Signal
from PySide6.QtGui import QContextMenuEvent, QMouseEvent
from PySide6.QtWidgets import QMenu, QWidget

from humble_loop.desk.follower import Follower, InTime
from humble_loop.desk.layers import CrossLayer, Label, PolygonLayer
from humble_loop.desk.session import Session, Station
from humble_loop.desk.theme import Theme
from humble_loop.desk.view import DrawingView
from humble_loop.engine.query import Unsolved
from humble_loop.formats.quantities import show_grade, show_length
from humble_loop.geometry.arrays import Floats
from humble_loop.lines.describe import Handle, LineProfile
from humble_loop.lines.line import LineId, ThingId, line_plan
from humble_loop.lines.standing import kind_of

_GRADES = 4  # places along a line between which its grade is written
_CLOSE = 0.25  # of the spread of levels that is left free above and below
_LEAST = 0.2  # metres of that at least
_OPEN = 5.0  # metres to which a band that is open is drawn


class ProfilesView(DrawingView):
    """Side by side the lines that the chosen thing is worked on by. Drag a level; double-click a line to set one."""

    shown = Signal(bool)  # whether the chosen thing has such lines

    def __init__(self, session: Session, parent: QWidget | None = None) -> None:
        super().__init__(session, parent, axes=True)
        self.room, self.cross = PolygonLayer(2), CrossLayer(vertical_only=True)
        for layer in (self.room, self.cross):
            self.add_layer(layer)
        self._lines, self._ghost = self.curve(6), self.curve(7)
        self.profiles: tuple[LineProfile, ...] = ()
        self._fitted: tuple[ThingId | None, tuple[LineId, ...]] | None = None
        self.plotItem.getAxis("left").setWidth(46)
        self.plotItem.hideAxis("bottom")  # each begins at nothing
        self.hovered.connect(self._on_hover)
        self.clicked.connect(self._on_click)
        self.in_time = InTime(session, self._refresh, self, lambda: self.dragging.active)
        self._follower = Follower(session, self.refresh, self, lambda: self.dragging.active)
        session.chosen_changed.connect(self.refresh)
        session.cursor_moved.connect(self._on_cursor)

    def paint_in(self, theme: Theme) -> None:
        super().paint_in(theme)
        self._lines.setPen(theme.pen("crown", 2.2))
        self._ghost.setPen(theme.pen("chosen", 2.2, Qt.PenStyle.DashLine))
        self.refresh()

    @property
    def lines_wait(self) -> bool:
        return self.in_time.busy

    def refresh(self) -> None:
        """Show the lines as they are now; the scale stays."""
        self.in_time.now()

    def _refresh(self) -> None:
        thing, q = self.session.thing, self.session.engine
        if self.theme is None:
            return
        made: tuple[LineProfile, ...] = ()
        handles: tuple[Handle, ...] = ()
        if thing is not None:
            try:
                made = kind_of(thing.kind).profiles(q, thing)
                handles = kind_of(thing.kind).profile_handles(q, thing) if made else ()
            except Unsolved:
                made = handles = ()
        self.profiles = made
        gap = [np.nan]
        self._lines.setData(
            np.concatenate([gap, *(np.append(p.begin + p.places, gap) for p in made)]),
            np.concatenate([gap, *(np.append(p.levels, gap) for p in made)]),
        )
        pen, fill = self.theme.pen("window", 0.8, alpha=110), self.theme.colour("window", self.theme.window_alpha)
        self.room.show_shapes([(band, fill, pen) for p in made for band in _bands(p)])
        self.handles.chosen = self.session.chosen.held
        self.handles.show_handles(handles)
        self.labels.show_labels([label for p in made for label in self._labels_of(p)])
        shown = thing, tuple(p.line for p in made)  # a line more or less is seen, too
        if made and self._fitted != shown:
            self._fitted = shown
            self.fit()
        self.shown.emit(bool(made))

    def show_ghost(self, proposed: Floats | None) -> None:
        """Draw places and levels (n, 2) that are proposed, or nothing."""
        made = np.empty((0, 2)) if proposed is None else proposed
        self._ghost.setData(made[:, 0], made[:, 1])

    def _labels_of(self, p: LineProfile) -> list[Label]:
        unit = self.session.site.settings.units
        found = [Label(p.begin + 0.5 * p.length, self._top, p.title, "ink", 12, 500, 0, centred=True)]
        for mark in p.marks:
            words = show_length(mark.level, unit)
            words = words if mark.words == "tied" else f"{mark.words} {words}"
            found.append(Label(p.begin + mark.along, mark.level, words, "crown", 12, 500, 1))
        for k in range(_GRADES):
            s = p.length * (k + 0.5) / _GRADES
            ends = np.interp(p.length * np.array([k, k + 1]) / _GRADES, p.places, p.levels)
            grade = float(ends[1] - ends[0]) / (p.length / _GRADES)
            z = float(np.interp(s, p.places, p.levels))
            found.append(Label(p.begin + s, z, show_grade(grade), "quiet", 11, 400, 3))
        return found

    @property
    def _spread(self) -> tuple[float, float]:
        levels = np.concatenate([p.levels for p in self.profiles]) if self.profiles else np.array([0.0, 1.0])
        return float(levels.min()), float(levels.max())

    @property
    def _top(self) -> float:
        """The level at which the lines are named."""
        low, high = self._spread
        return high + 0.6 * max(_CLOSE * (high - low), _LEAST)

    def fit(self) -> None:
        """Show all lines."""
        if not self.profiles:
            return
        low, high = self._spread
        free = max(_CLOSE * (high - low), _LEAST)
        last = self.profiles[-1]
        wide = last.begin + last.length
        self.plotItem.vb.setRange(QRectF(-0.03 * wide, low - free, 1.06 * wide, high - low + 2.0 * free), padding=0)

    # The hand

    def profile_at(self, x: float) -> LineProfile | None:
        """The line whose long section lies at a place."""
        return next((p for p in self.profiles if p.begin <= x <= p.begin + p.length), None)

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        event.accept()
        x, z = self.place(event.position())
        if (p := self.profile_at(x)) is not None and (offered := p.offers(x - p.begin, z)):
            self.session.do(*offered[0])

    def contextMenuEvent(self, event: QContextMenuEvent) -> None:
        event.accept()
        x, z = self.place(QPointF(event.pos()))
        p = self.profile_at(x)
        if self.dragging.active or p is None:
            return
        menu = QMenu(self)
        for words, edit in p.offers(x - p.begin, z):
            menu.addAction(words, partial(self.session.do, words, edit))
        menu.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        menu.popup(event.globalPos())

    def _on_hover(self, x: float, z: float) -> None:
        del z
        p = self.profile_at(x)
        if p is None or self.session.dragging:
            return
        plan = self.session.engine.attempt(line_plan, p.line)
        if not isinstance(plan, Unsolved):
            e, n = plan.points([x - p.begin])[0].tolist()
            self.session.point_at(e, n, Station(p.line, x - p.begin))

    def _on_click(self, x: float, z: float) -> None:
        del z
        if self.profile_at(x) is not None and self.session.cursor:
            self.session.point_asked.emit(*self.session.cursor)

    def _on_cursor(self) -> None:
        station = self.session.station
        p = next((p for p in self.profiles if station is not None and p.line == station.line), None)
        self.cross.show_at((p.begin + station.chainage, 0.0) if p is not None and station is not None else None)

    def zoom(self, factor: float, about: tuple[float, float], keys: Qt.KeyboardModifier) -> None:
        """The wheel zooms both ways; with Ctrl only levels, with Shift only along."""
        x = 1.0 if keys & Qt.KeyboardModifier.ControlModifier else factor
        y = 1.0 if keys & Qt.KeyboardModifier.ShiftModifier else factor
        self.plotItem.vb.scaleBy((x, y), center=about)


def _bands(p: LineProfile) -> list[Floats]:
    """Outlines (n, 2) of the room that a line has, where something leaves it any."""
    low, high = (np.clip(v, p.levels.min() - _OPEN, p.levels.max() + _OPEN) for v in (p.low, p.high))
    on = (np.isfinite(p.low) | np.isfinite(p.high)) & (high >= low)
    edges = np.flatnonzero(np.diff(np.concatenate([[0], on.astype(np.int8), [0]])))
    found = []
    for a, b in zip(edges[::2], edges[1::2]):
        if b - a > 1:
            s = p.begin + p.places[a:b]
            outline = [np.column_stack([s, low[a:b]]), np.column_stack([s[::-1], high[a:b][::-1]])]
            found.append(np.concatenate(outline))
    return found
