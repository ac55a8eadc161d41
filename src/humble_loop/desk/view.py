"""The base of plan and sections: pan, zoom, hover, handles and the tag. A view never rescales by itself in a drag."""

from __future__ import annotations

import numpy as np
import pyqtgraph as pg
from PySide6.QtCore import QPoint, QPointF, Qt, Signal
from PySide6.QtGui import QKeyEvent, QMouseEvent, QPaintEvent, QPixmapCache, QWheelEvent
from PySide6.QtWidgets import QWidget

from humble_loop.desk.dragging import Dragging, Tag
from humble_loop.desk.layers import RING, HandleLayer, LabelLayer, Layer
from humble_loop.desk.session import Session
from humble_loop.desk.theme import Theme
from humble_loop.lines.describe import Handle, Place

_GRAB = 10.0  # pixels from a handle within which it is taken
_BEFORE = 4.0  # pixels by which a square handle is nearer than a round one
_NEAREST, _FARTHEST, _BEYOND = 0.01, 1e7, 1e8  # metres across that a view shows, and how far off at most
_PICTURES = (
    300_000  # kilobytes: what layers keep of themselves on the largest screens; Qt's own limit is a small screen's
)
_CLICK = 4.0  # pixels that the mouse may move and still have clicked


class DrawingView(pg.PlotWidget):
    """A drawing in data coordinates with our own mouse: left drags a handle or pans, the wheel zooms."""

    hovered = Signal(float, float)
    clicked = Signal(float, float)
    hand_painted = Signal()  # what is under the hand that drags here is painted where it now is; its lines may wait

    def __init__(self, session: Session, parent: QWidget | None = None, *, axes: bool) -> None:
        super().__init__(parent)
        QPixmapCache.setCacheLimit(max(QPixmapCache.cacheLimit(), _PICTURES))
        self.session = session
        self.theme: Theme | None = None
        self.plotItem.setMenuEnabled(False)
        self.plotItem.hideButtons()
        self.plotItem.vb.disableAutoRange()
        self.plotItem.vb.setMouseEnabled(False, False)
        near, far, beyond = _NEAREST, _FARTHEST, _BEYOND
        self.plotItem.vb.setLimits(minXRange=near, minYRange=near, maxXRange=far, maxYRange=far)
        self.plotItem.vb.setLimits(xMin=-beyond, xMax=beyond, yMin=-beyond, yMax=beyond)
        if not axes:
            for name in ("left", "bottom"):
                self.plotItem.hideAxis(name)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setMouseTracking(True)
        self.tag = Tag(self)
        self.dragging = Dragging(session, self.tag)
        self.handles, self.labels = HandleLayer(), LabelLayer()
        self.layers: list[Layer] = []
        for layer in (self.handles, self.labels):
            self.add_layer(layer)
        self._press: QPointF | None = None
        self._last: QPointF | None = None
        self._panned = False

    def add_layer(self, layer: Layer) -> None:
        """Add a layer that takes its colours from the theme."""
        self.layers.append(layer)
        self.plotItem.addItem(layer, ignoreBounds=True)

    def curve(self, z: float, connect: str = "finite") -> pg.PlotCurveItem:
        """A new line item at height ``z``."""
        item = pg.PlotCurveItem(connect=connect, skipFiniteCheck=False)
        item.setZValue(z)
        self.plotItem.addItem(item, ignoreBounds=True)
        return item

    def paint_in(self, theme: Theme) -> None:
        """Take a theme's colours."""
        self.theme = theme
        self.setBackground(theme.paper)
        self.tag.paint_in(theme)
        for layer in self.layers:
            layer.theme = theme
            layer.update()
        for name in ("left", "bottom"):
            axis = self.plotItem.getAxis(name)
            axis.setPen(theme.pen("line"))
            axis.setTextPen(theme.pen("quiet"))

    # Where things are

    def place(self, at: QPointF) -> Place:
        """Data coordinates of a widget position."""
        p = self.plotItem.vb.mapSceneToView(self.mapToScene(at.toPoint()))
        return (float(p.x()), float(p.y()))

    def pixel(self, place: Place) -> QPoint:
        """Widget position of data coordinates."""
        at: QPoint = self.mapFromScene(self.plotItem.vb.mapViewToScene(QPointF(*place)))
        return at

    def handle_at(self, at: QPointF) -> Handle | None:
        """The handle under a widget position: of those that lie on one another a square one, which stands for a point."""
        best, nearest = None, _GRAB
        for handle in self.handles.handles:
            p = self.pixel(handle.place)
            if handle.shape == "ring":
                p.setY(p.y() + int(RING))
            distance = float(np.hypot(p.x() - at.x(), p.y() - at.y()))
            rank = distance - (_BEFORE if handle.shape == "square" else 0.0)
            if distance < _GRAB and rank < nearest:
                best, nearest = handle, rank
        return best

    def paintEvent(self, event: QPaintEvent) -> None:
        super().paintEvent(event)
        if self.session.dragging and not self.may_rest() and not self.dragging.waiting:
            self.dragging.painted()
            self.hand_painted.emit()
            if not self.lines_wait:
                self.session.drag_painted.emit()

    @property
    def lines_wait(self) -> bool:
        """Whether lines of what is dragged here are still to be shown, while what is under the hand leads."""
        return False

    def may_rest(self) -> bool:
        """Whether nothing is dragged or drawn in this view."""
        return not self.dragging.active

    # Mouse and keys

    def mousePressEvent(self, event: QMouseEvent) -> None:
        if event.button() not in (Qt.MouseButton.LeftButton, Qt.MouseButton.MiddleButton):
            event.ignore()
            return
        self.setFocus()
        self._press, self._last, self._panned = event.position(), event.position(), False
        handle = self.handle_at(event.position()) if event.button() == Qt.MouseButton.LeftButton else None
        if handle is not None and self.may_drag():
            self.take_handle(handle)
            self.dragging.begin(handle, event.position().toPoint())
        event.accept()

    def may_drag(self) -> bool:
        """Whether handles may be taken now (not while something is being drawn)."""
        return True

    def take_handle(self, handle: Handle) -> None:
        """Called when a handle is taken, before its drag begins: it is in hand until something else is chosen."""
        self.session.choose(self.session.chosen.thing, handle.key)

    def mouseMoveEvent(self, event: QMouseEvent) -> None:
        at = event.position()
        place = self.place(at)
        if self.dragging.active:
            self.dragging.move(place, at.toPoint())
        elif self._press is not None and self._last is not None:
            if self._panned or (at - self._press).manhattanLength() > _CLICK:
                self._panned = True
                before = self.place(self._last)
                self.pan(before[0] - place[0], before[1] - place[1])
                self._last = at
        else:
            hot = self.handle_at(at)
            if hot is not self.handles.hot:
                self.handles.hot = hot
                self.handles.update()
            self.setCursor(Qt.CursorShape.OpenHandCursor if hot else Qt.CursorShape.CrossCursor)
        self.hovered.emit(*place)
        event.accept()

    def mouseReleaseEvent(self, event: QMouseEvent) -> None:
        if self.dragging.active:
            self.dragging.finish()
        elif self._press is not None and not self._panned and event.button() == Qt.MouseButton.LeftButton:
            self.clicked.emit(*self.place(event.position()))
        self._press = self._last = None
        event.accept()

    def mouseDoubleClickEvent(self, event: QMouseEvent) -> None:
        event.accept()

    def wheelEvent(self, event: QWheelEvent) -> None:
        if self.dragging.active:
            return
        steps = event.angleDelta().y() / 120.0
        self.zoom(0.85**steps, self.place(event.position()), event.modifiers())
        event.accept()

    def pan(self, dx: float, dy: float) -> None:
        """Move the view by data distances."""
        self.plotItem.vb.translateBy(x=dx, y=dy)

    def zoom(self, factor: float, about: Place, keys: Qt.KeyboardModifier) -> None:
        """Zoom about a place."""
        del keys
        self.plotItem.vb.scaleBy((factor, factor), center=about)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if not self.dragging.key(event):
            event.ignore()

    def event(self, event: object) -> bool:
        # While dragging, keys are the value being typed, not shortcuts of the window.
        if (
            isinstance(event, QKeyEvent)
            and getattr(self, "dragging", None)
            and self.dragging.active
            and event.type() == event.Type.ShortcutOverride
        ):
            event.accept()
            return True
        return bool(super().event(event))
