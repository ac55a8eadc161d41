"""Drawing layers that paint in device pixels: labels that move apart, polygons, handles, signs."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Sequence
from dataclasses import dataclass
from functools import lru_cache, reduce
from itertools import islice
from operator import or_

import numpy as np
import pyqtgraph as pg
import shapely
from PySide6.QtCore import QPointF, QRectF, QSize, Qt, QTimer
from PySide6.QtGui import (
    QBrush,
    QColor,
    QFontMetricsF,
    QPainter,
    QPainterPath,
    QPen,
    QPixmap,
    QPolygonF,
    QTransform,
)
from PySide6.QtWidgets import QGraphicsItem

from humble_loop.desk.painting import guarded
from humble_loop.desk.theme import Theme, font
from humble_loop.geometry.arrays import Floats
from humble_loop.lines.describe import Handle, Stroke

_HANDLE = 4.5  # pixels from the middle of a handle to its edge
RING = 17.0  # pixels from a place down to the ring that stands for it
_MOST_LABELS = 140  # in one view: more can neither be read nor placed within a frame
_REST = 120  # milliseconds without a push after which labels find new places
_CELL = 3.0  # pixels
_FOOT = (12.0, 34.0)  # pixels from the corner of a sign's picture to where it stands
_SIGN = 12.0  # pixels within which two signs of findings are drawn as one
_TILE = 1000  # points of lines that are painted as one
_SPECK = 2.5  # pixels: what is smaller is left out


Box = tuple[float, float, float, float]
"""Left, top, right and bottom in pixels."""


@dataclass(frozen=True)
class Label:
    """A text at a place, in the colour of a theme's role; labels with a lower ``rank`` are placed first.

    One with ``least`` is left out while the view shows fewer pixels to a metre than that.
    """

    x: float
    y: float
    text: str
    role: str = "ink"
    size: int = 12
    weight: int = 400
    rank: int = 5
    centred: bool = False
    least: float = 0.0


class Layer(pg.GraphicsObject):
    """Base: paints over the whole view in device pixels.

    A layer that is ``kept`` as a picture is painted again only when it, or the view, has changed, and not with each
    move of a cursor, a handle or another layer. It paints in data coordinates.
    """

    def __init__(self, kept: bool = False) -> None:
        super().__init__()
        self.theme: Theme | None = None
        if kept:
            self.setCacheMode(QGraphicsItem.CacheMode.DeviceCoordinateCache)

    def boundingRect(self) -> QRectF:
        view = self.getViewBox()
        return view.viewRect() if view is not None else QRectF()

    def viewTransformChanged(self) -> None:
        self.prepareGeometryChange()
        self.update()

    def paint(self, painter: QPainter, *args: object) -> None:
        guarded(painter, self.draw)

    def draw(self, painter: QPainter) -> None:
        """Paint, in data coordinates or after ``device`` in pixels. Nothing is worked out here."""

    def device(self, painter: QPainter) -> QTransform:
        """Turn ``painter`` to device pixels; returns the transform from data to pixels."""
        transform = painter.worldTransform()
        painter.resetTransform()
        return transform


@lru_cache(maxsize=8192)
def _extent(text: str, size: int, weight: int) -> tuple[float, float]:
    """Width and height of a text in pixels."""
    metrics = QFontMetricsF(font(size, weight))
    return metrics.horizontalAdvance(text), metrics.height()


def _rounded(t: QTransform) -> tuple[float, ...]:
    """A transform, so that it is the same although a push changes the last digits of its scale."""
    scales = (float(f"{v:.8g}") for v in (t.m11(), t.m12(), t.m21(), t.m22()))
    return (*scales, round(t.m31(), 3), round(t.m32(), 3))


class LabelLayer(Layer):
    """Labels that never lie on one another: each takes the nearest free place, with a leader when it moves away."""

    _AROUND = (
        (0, 0),
        (0, -1),
        (1, 0),
        (0, 1),
        (-1, 0),
        (1, -1),
        (1, 1),
        (-1, -1),
        (-1, 1),
        (0, -2),
        (0, 2),
        (2, 0),
        (-2, 0),
    )

    def __init__(self) -> None:
        super().__init__()
        self._labels: list[Label] = []
        self._ranks = np.empty(0, dtype=np.int64)
        self._tree = shapely.STRtree([])
        self._placed: list[tuple[Label, QPointF, QRectF, bool]] = []
        self._placed_in: tuple[float, ...] | None = None
        self._placed_by: Sequence[Handle] = ()
        self._tried: list[Label] | None = None
        self._stale = True
        self._again = QTimer()
        self._again.setSingleShot(True)
        self._again.setInterval(_REST)
        self._again.timeout.connect(self._place_again)
        self.clear_of: HandleLayer | None = None  # handles on which no label may lie
        self.setZValue(60)

    def show_labels(self, labels: Sequence[Label]) -> None:
        """Replace the labels."""
        labels = list(labels)
        if labels == self._labels:
            return
        self._labels, self._stale = labels, True
        self._ranks = np.array([label.rank for label in labels])
        self._tree = shapely.STRtree(shapely.points([(label.x, label.y) for label in labels] or np.empty((0, 2))))
        self.update()

    def draw(self, painter: QPainter) -> None:
        if self.theme is None:
            return
        shown = self.boundingRect()
        transform = self.device(painter)
        # Places are found anew only when the labels are others, or when a view that was moved has come to rest.
        handles = self.clear_of.handles if self.clear_of else ()
        now, view = _rounded(transform), transform.mapRect(shown)
        if self._stale or self._placed_in is None:
            wanted = self._wanted(shown, float(np.hypot(transform.m11(), transform.m12())))
            if (now, handles) != (self._placed_in, self._placed_by) or wanted != self._tried:
                self._placed = self._place_all(transform, wanted)
            self._tried, self._stale = wanted, False
        elif now != self._placed_in or handles is not self._placed_by:
            self._carry(transform, view)
            self._again.start()
        self._placed_in, self._placed_by = now, handles
        painter.setRenderHint(QPainter.RenderHint.TextAntialiasing)
        back, leader = self.theme.colour("paper", 205), self.theme.pen("quiet", 0.7, alpha=150)
        for label, at, box, far in self._placed:
            if far:
                painter.setPen(leader)
                painter.drawLine(at, box.center())
            painter.fillRect(box.adjusted(-1, 1, 1, -1), back)
            painter.setFont(font(label.size, label.weight))
            painter.setPen(self.theme.colour(label.role))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter | Qt.TextFlag.TextDontClip, label.text)

    def _carry(self, transform: QTransform, view: QRectF) -> None:
        """While the view is moved, labels go along with their places, as far as they find room."""
        room, kept = self._room(transform, view), []
        for label, old, box, far in self._placed:
            at = transform.map(QPointF(label.x, label.y))
            moved = box.translated(at - old)
            if room.free(_sides(moved)):
                room.take(_sides(moved))
                kept.append((label, at, moved, far))
        self._placed, self._tried = kept, None  # so that all are placed anew at rest

    def _room(self, transform: QTransform, view: QRectF) -> Room:
        room = Room(view)
        for handle in self.clear_of.handles if self.clear_of else ():
            p = transform.map(QPointF(*handle.place))
            room.take((p.x() - _HANDLE, p.y() - _HANDLE, p.x() + _HANDLE, p.y() + _HANDLE))
        return room

    def _place_again(self) -> None:
        self._stale = True
        self.update()

    def _wanted(self, shown: QRectF, scale: float) -> list[Label]:
        """The labels to be tried in a view, by rank."""
        inside = self._tree.query(shapely.box(shown.left(), shown.top(), shown.right(), shown.bottom()))
        inside = inside[np.lexsort((inside, self._ranks[inside]))]
        tried = (label for i in inside.tolist() if (label := self._labels[i]).least <= scale)
        return list(islice(tried, 2 * _MOST_LABELS))

    def _place_all(self, transform: QTransform, wanted: list[Label]) -> list[tuple[Label, QPointF, QRectF, bool]]:
        view = transform.mapRect(self.boundingRect())
        room = self._room(transform, view)
        found: list[tuple[Label, QPointF, QRectF, bool]] = []
        for label in wanted:
            if len(found) >= _MOST_LABELS:
                break
            at = transform.map(QPointF(label.x, label.y))
            if not view.contains(at):
                continue
            width, height = _extent(label.text, label.size, label.weight)
            left, top = at.x() - width / 2, at.y() - height / 2
            if not label.centred:
                left, top = left + width / 2 + 6, top - height / 2 - 2
            box = (left, top, left + width, top + height)
            moved = room.first_free(box, 0.5 * width + 10, height + 1, self._AROUND)
            if moved is None:
                continue
            east, down = moved
            room.take((left + east - 2, top + down, left + east + width + 2, top + down + height))
            placed = QRectF(left + east, top + down, width, height)
            found.append((label, at, placed, np.hypot(east, down) > 1.5 * height))
        return found


class Room:
    """Which parts of a view are taken, in cells of a few pixels: so a look is as quick among hundreds as among few.

    A row of cells is a whole number, one bit to a cell: a box is looked at row by row, whatever its width.
    """

    def __init__(self, view: QRectF) -> None:
        self._left, self._top, self._right, self._bottom = view.left(), view.top(), view.right(), view.bottom()
        self._rows = [0] * (int(view.height() / _CELL) + 2)

    def _cells(self, box: Box) -> tuple[slice, int]:
        """The rows of a box, and its bits in each."""
        left, top = max(0, int((box[0] - self._left) / _CELL)), max(0, int((box[1] - self._top) / _CELL))
        right, bottom = int((box[2] - self._left) / _CELL) + 1, int((box[3] - self._top) / _CELL) + 1
        return slice(top, max(top, bottom)), ((1 << max(0, right - left)) - 1) << left

    def take(self, box: Box) -> None:
        """Nothing else may lie here."""
        rows, bits = self._cells(box)
        self._rows[rows] = [row | bits for row in self._rows[rows]]

    def free(self, box: Box) -> bool:
        """Whether a box is in view and touches nothing that is taken."""
        return self.first_free(box, 0.0, 0.0, ((0, 0),)) is not None

    def first_free(
        self, box: Box, across: float, down: float, steps: Sequence[tuple[int, int]]
    ) -> tuple[float, float] | None:
        """By how much a box is moved to the first free of places that lie steps ``across`` and ``down`` from its own."""
        left, top, right, bottom = box
        bits = (1 << (int((right - left) / _CELL) + 2)) - 1
        deep = int((bottom - top) / _CELL) + 2
        taken: dict[int, int] = {}  # in the rows that the box would have, by steps down
        for i, j in steps:
            x, y = i * across, j * down
            if left + x < self._left or top + y < self._top or right + x > self._right or bottom + y > self._bottom:
                continue
            if j not in taken:
                first = int((top + y - self._top) / _CELL)
                taken[j] = reduce(or_, self._rows[first : first + deep], 0)
            if not taken[j] >> int((left + x - self._left) / _CELL) & bits:
                return x, y
        return None


def _sides(box: QRectF) -> Box:
    return (box.left(), box.top(), box.right(), box.bottom())


class StrokeLayer(Layer):
    """Lines by thing and role: only those in view are painted, and small ones only when they can be seen.

    ``pens`` gives for each role its pen and the least pixels to a metre at which it is drawn.
    """

    def __init__(self, z: float, pens: Callable[[Theme, str], tuple[QPen, float]]) -> None:
        super().__init__(kept=True)
        self._pens = pens
        self._kept: dict[Hashable, tuple[object, list[int]]] = {}  # what was shown, and where its pieces are listed
        self._pieces: list[tuple[str, QPainterPath] | None] = []  # a place whose piece is gone is free for another
        self._boxes = np.full((64, 4), np.nan)  # left, right, bottom and top of each; of free places NaN
        self._free: list[int] = []
        self.setZValue(z)

    def show_strokes(self, key: Hashable, strokes: Sequence[Stroke]) -> None:
        """Replace the lines of one thing; the same object again costs nothing."""
        old = self._kept.get(key)
        if old is not None and old[0] is strokes:
            return
        if old is not None:
            self._drop(old[1])
        pieces = [(s.role, _path(points)) for s in strokes if len(s.points) > 1 for points in in_tiles(s.points)]
        self._kept[key] = strokes, [self._put(piece) for piece in pieces]
        self.update()

    def give(self, key: Hashable, other: StrokeLayer) -> None:
        """Let another layer show the lines of one thing."""
        if key not in self._kept:
            return
        strokes, places = self._kept.pop(key)
        pieces = [piece for place in places if (piece := self._pieces[place]) is not None]
        self._drop(places)
        other._kept[key] = strokes, [other._put(piece) for piece in pieces]
        self.update()
        other.update()

    def keep_only(self, keys: set[Hashable]) -> None:
        """Drop the lines of things that are gone."""
        gone = [k for k in self._kept if k not in keys]
        for key in gone:
            self._drop(self._kept.pop(key)[1])
        if gone:
            self.update()

    def lines_of(self, key: Hashable) -> list[tuple[str, QPainterPath]]:
        """The lines that are shown of one thing, by role."""
        _, places = self._kept.get(key, (None, []))
        return [piece for place in places if (piece := self._pieces[place]) is not None]

    def _put(self, piece: tuple[str, QPainterPath]) -> int:
        """List a piece with its box, so that a change to one street costs nothing for the others; returns its place."""
        if self._free:
            place = self._free.pop()
            self._pieces[place] = piece
        else:
            place = len(self._pieces)
            self._pieces.append(piece)
            if place == len(self._boxes):
                self._boxes = np.concatenate([self._boxes, np.full_like(self._boxes, np.nan)])
        box = piece[1].boundingRect()
        self._boxes[place] = box.left(), box.right(), box.top(), box.bottom()
        return place

    def _drop(self, places: list[int]) -> None:
        for place in reversed(places):  # the next pieces take them in the same order
            self._pieces[place] = None
            self._boxes[place] = np.nan
            self._free.append(place)

    def _in_view(self, view: QRectF, least: float) -> list[tuple[str, QPainterPath]]:
        """The paths that a view shows, without those smaller than ``least`` metres."""
        left, right, low, high = self._boxes[: len(self._pieces)].T
        seen = (left <= view.right()) & (right >= view.left()) & (low <= view.bottom()) & (high >= view.top())
        seen &= (right - left >= least) | (high - low >= least)
        return [piece for i in np.flatnonzero(seen) if (piece := self._pieces[i]) is not None]

    def draw(self, painter: QPainter) -> None:
        if self.theme is None:
            return
        view = self.boundingRect()
        transform = painter.worldTransform()
        scale = float(np.hypot(transform.m11(), transform.m12()))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, scale > 1.5)
        painter.setBrush(Qt.BrushStyle.NoBrush)
        pens: dict[str, tuple[QPen, float]] = {}
        for role, path in self._in_view(view, _SPECK / scale):
            if role not in pens:
                pens[role] = self._pens(self.theme, role)
            pen, least = pens[role]
            if scale >= least:
                painter.setPen(pen)
                painter.drawPath(path)


def in_tiles(points: Floats) -> list[Floats]:
    """Lines (n, 2), NaN between them: where they are many, in lots that lie together, so that a view paints few of them."""
    gaps = np.isnan(points[:, 0])
    if len(points) < 2 * _TILE or not gaps.any():
        return [points]
    line_of = np.cumsum(gaps) - gaps  # a gap belongs to the line before it
    first = np.searchsorted(line_of, np.arange(line_of[-1] + 1))
    low, high = np.nanmin(points, axis=0), np.nanmax(points, axis=0)
    across = int(np.sqrt(len(points) / _TILE)) + 1
    at = (
        np.nan_to_num((points[first] - low) / np.maximum(high - low, 1e-9) * across)
        .astype(np.int64)
        .clip(0, across - 1)
    )
    tile = (at[:, 0] * across + at[:, 1])[line_of]
    order = np.argsort(tile, kind="stable")
    return np.split(points[order], np.flatnonzero(np.diff(tile[order])) + 1)


def _path(points: Floats) -> QPainterPath:
    """Lines (n, 2), NaN between them, as a path."""
    path: QPainterPath = pg.arrayToQPath(points[:, 0], points[:, 1], connect="finite", finiteCheck=False)
    return path


class PairsLayer(Layer):
    """Many short separate segments in one colour, in lots that are painted only where they are in view."""

    def __init__(self, z: float, role: str, least: float) -> None:
        super().__init__(kept=True)
        self._role, self._least = role, least
        self._paths: list[tuple[object, QPainterPath, QRectF]] = []
        self.setZValue(z)

    def show_pairs(self, groups: Sequence[Floats]) -> None:
        """Replace the segments: pairs of points (2k, 2) in groups; the same group again costs nothing."""
        old = {id(g): (g, path, box) for g, path, box in self._paths}
        self._paths = []
        for group in groups:
            kept = old.get(id(group))
            if kept is None and len(group):
                path = pg.arrayToQPath(group[:, 0], group[:, 1], connect="pairs", finiteCheck=False)
                kept = group, path, path.boundingRect()
            if kept is not None:
                self._paths.append(kept)
        self.update()

    def draw(self, painter: QPainter) -> None:
        transform = painter.worldTransform()
        if self.theme is None or np.hypot(transform.m11(), transform.m12()) < self._least:
            return
        view = self.boundingRect()
        painter.setPen(self.theme.faint(self._role, 0.5))
        for _, path, box in self._paths:
            if box.intersects(view):
                painter.drawPath(path)


Shape = tuple[Floats, QColor | None, QPen]
"""A polygon: points (n, 2), fill colour or None, and the pen of its outline."""


class PolygonLayer(Layer):
    """Filled polygons in data coordinates."""

    def __init__(self, z: float) -> None:
        super().__init__(kept=True)
        self._shapes: list[tuple[QPolygonF, QBrush, QPen]] = []
        self._boxes = np.empty((0, 4))  # left, right, bottom and top of each
        self._groups: dict[int, tuple[object, list[tuple[QPolygonF, QBrush, QPen]], Floats]] = {}
        self.setZValue(z)

    def show_shapes(self, shapes: Sequence[Shape]) -> None:
        """Replace the polygons."""
        self.show_groups([(shapes, lambda: shapes)])

    def show_groups(self, groups: Iterable[tuple[object, Callable[[], Sequence[Shape]]]]) -> None:
        """Replace the polygons, in groups: what each stands for, and its shapes. The same object again costs nothing."""
        old, self._groups, self._shapes = self._groups, {}, []
        for token, make in groups:
            kept = old.get(id(token))
            if kept is None or kept[0] is not token:
                made = [
                    (QPolygonF([QPointF(x, y) for x, y in points[:, :2]]), QBrush(fill) if fill else QBrush(), pen)
                    for points, fill, pen in make()
                ]
                boxes = [(b.left(), b.right(), b.top(), b.bottom()) for b in (p.boundingRect() for p, _, _ in made)]
                kept = token, made, np.array(boxes).reshape(-1, 4)
            self._groups[id(token)] = kept
            self._shapes += kept[1]
        self._boxes = np.concatenate([np.empty((0, 4)), *(boxes for _, _, boxes in self._groups.values())])
        self.update()

    def draw(self, painter: QPainter) -> None:
        view, transform = self.boundingRect(), painter.worldTransform()
        scale = float(np.hypot(transform.m11(), transform.m12()))
        painter.setRenderHint(QPainter.RenderHint.Antialiasing, scale > 1.5)
        left, right, low, high = self._boxes.T
        shown = (left <= view.right()) & (right >= view.left()) & (low <= view.bottom()) & (high >= view.top())
        shown &= (right - left) * scale > _SPECK
        for i in np.flatnonzero(shown):
            polygon, brush, pen = self._shapes[i]
            painter.setBrush(brush)
            painter.setPen(pen)
            painter.drawPolygon(polygon)


class HandleLayer(Layer):
    """Handles: squares and rounds of a fixed size on screen; the hot one is larger."""

    def __init__(self) -> None:
        super().__init__()
        self.handles: Sequence[Handle] = ()
        self.hot: Handle | None = None
        self.chosen: tuple[object, ...] = ()
        self.setZValue(80)

    def show_handles(self, handles: Sequence[Handle]) -> None:
        """Replace the handles; what has no place cannot be taken."""
        self.handles = [h for h in handles if np.isfinite(h.place).all()]
        self.update()

    def draw(self, painter: QPainter) -> None:
        if self.theme is None:
            return
        transform = self.device(painter)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        for handle in self.handles:
            at = transform.map(QPointF(*handle.place))
            hot = self.hot is not None and self.hot.key == handle.key
            size = 6.0 if hot else _HANDLE
            painter.setPen(self.theme.pen("chosen", 2.0 if hot or handle.key == self.chosen else 1.4))
            filled = handle.state in ("set", "locked")
            painter.setBrush(self.theme.colour("chosen" if filled else "paper"))
            box = QRectF(at.x() - size, at.y() - size, 2 * size, 2 * size)
            if handle.state == "tied":
                painter.drawPolygon(
                    QPolygonF(
                        [
                            QPointF(at.x(), at.y() - size - 1),
                            QPointF(at.x() + size + 1, at.y()),
                            QPointF(at.x(), at.y() + size + 1),
                            QPointF(at.x() - size - 1, at.y()),
                        ]
                    )
                )
            elif handle.shape == "ring":  # on a stem below its place, so that it does not lie on what moves that
                painter.setBrush(self.theme.colour("paper"))
                painter.drawLine(at, QPointF(at.x(), at.y() + RING - 4.0))
                painter.drawEllipse(QPointF(at.x(), at.y() + RING), size - 0.5, size - 0.5)
            elif handle.shape == "round":
                painter.drawEllipse(box)
            else:
                painter.drawRect(box)
                if handle.state == "locked":  # held within a frame
                    painter.setBrush(Qt.BrushStyle.NoBrush)
                    painter.drawRect(box.adjusted(-3.5, -3.5, 3.5, 3.5))


class SignLayer(Layer):
    """Signs of findings: a triangle for broken, a rhombus for near, so that colour is not the only code."""

    def __init__(self) -> None:
        super().__init__()
        self._places = np.empty((0, 2))
        self._broken = np.empty(0, dtype=bool)
        self.setZValue(70)

    def show_signs(self, signs: Sequence[tuple[float, float, bool]]) -> None:
        """Replace the signs: x, y, whether broken."""
        places = np.array([(x, y) for x, y, _ in signs]).reshape(-1, 2)
        broken = np.array([broken for _, _, broken in signs], dtype=bool)
        if np.array_equal(broken, self._broken) and np.array_equal(places, self._places):
            return
        self._places, self._broken = places, broken
        self.update()

    def draw(self, painter: QPainter) -> None:
        if self.theme is None:
            return
        shown = self.boundingRect()
        transform = self.device(painter)
        finely = painter.device().devicePixelRatio()
        for broken, at in self._seen(transform, transform.mapRect(shown)):
            picture = _sign(self.theme, broken, finely)
            for x, y in (at - _FOOT).tolist():
                painter.drawPixmap(QPointF(x, y), picture)

    def _seen(self, transform: QTransform, view: QRectF) -> list[tuple[bool, Floats]]:
        """Where in pixels the signs in view stand, one to a place, by whether they are broken."""
        m = np.array([[transform.m11(), transform.m12()], [transform.m21(), transform.m22()]])
        at = self._places @ m + [transform.m31(), transform.m32()]
        inside = (at[:, 0] >= view.left()) & (at[:, 0] <= view.right())
        inside &= (at[:, 1] >= view.top()) & (at[:, 1] <= view.bottom())
        index = np.flatnonzero(inside)
        cells = (at[index] // _SIGN).astype(np.int64) @ [1, 1 << 20]
        _, first = np.unique(cells, return_index=True)
        index = index[np.sort(first)]
        return [(broken, at[index[self._broken[index] == broken]]) for broken in (False, True)]


@lru_cache(maxsize=8)
def _sign(theme: Theme, broken: bool, finely: float) -> QPixmap:
    """A sign of a finding on its stem, at ``finely`` device pixels to a pixel."""
    picture = QPixmap(QSize(24, 36) * finely)
    picture.setDevicePixelRatio(finely)
    picture.fill(Qt.GlobalColor.transparent)
    painter = QPainter(picture)
    painter.setRenderHint(QPainter.RenderHint.Antialiasing)
    painter.setBrush(theme.colour("paper", 235))
    painter.setPen(theme.pen("broken" if broken else "near", 1.6))
    foot = QPointF(*_FOOT)
    at = foot + QPointF(0, -19)  # on a stem, so that it does not hide what it speaks of
    painter.drawLine(foot, at + QPointF(0, 6))
    if broken:
        shape = [QPointF(0, -9), QPointF(8.5, 6), QPointF(-8.5, 6)]
    else:
        shape = [QPointF(0, -8), QPointF(8, 0), QPointF(0, 8), QPointF(-8, 0)]
    painter.drawPolygon(QPolygonF([at + p for p in shape]))
    painter.drawLine(at + QPointF(0, -4), at + QPointF(0, 1))
    painter.drawPoint(at + QPointF(0, 3.6))
    painter.end()
    return picture


class CrossLayer(Layer):
    """The shared cursor: a fine cross."""

    def __init__(self, vertical_only: bool = False) -> None:
        super().__init__()
        self._at: tuple[float, float] | None = None
        self._vertical_only = vertical_only
        self.setZValue(90)

    def show_at(self, at: tuple[float, float] | None) -> None:
        """Move the cursor, or hide it with None."""
        if at != self._at:
            self._at = at
            self.update()

    def draw(self, painter: QPainter) -> None:
        if self.theme is None or self._at is None:
            return
        transform = self.device(painter)
        at = transform.map(QPointF(*self._at))
        view = QRectF(painter.viewport())
        painter.setPen(self.theme.pen("chosen", 1.0, alpha=170))
        if self._vertical_only:
            painter.drawLine(QPointF(at.x(), view.top()), QPointF(at.x(), view.bottom()))
            return
        painter.drawLine(at + QPointF(-12, 0), at + QPointF(12, 0))
        painter.drawLine(at + QPointF(0, -12), at + QPointF(0, 12))


class ArrowLayer(Layer):
    """Flow arrows: short strokes of a fixed size on screen, drawn only when there is room between them."""

    def __init__(self) -> None:
        super().__init__()
        self._arrows: Floats = np.empty((0, 4))
        self.setZValue(20)

    def show_arrows(self, arrows: Floats) -> None:
        """Replace the arrows: x, y and unit direction (n, 4)."""
        self._arrows = arrows
        self.update()

    def draw(self, painter: QPainter) -> None:
        if self.theme is None or not len(self._arrows):
            return
        transform = self.device(painter)
        scale = np.hypot(transform.m11(), transform.m12())
        if scale < 4.0:
            return
        view = QRectF(painter.viewport())
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(self.theme.pen("window", 1.2, alpha=230))
        for x, y, dx, dy in self._arrows:
            at = transform.map(QPointF(x, y))
            if not view.contains(at):
                continue
            tip, side = at + QPointF(dx * 7, -dy * 7), QPointF(-dy * 3, -dx * 3)
            painter.drawLine(at - QPointF(dx * 5, -dy * 5), tip)
            back = tip - QPointF(dx * 4, -dy * 4)
            painter.drawLine(tip, back + side)
            painter.drawLine(tip, back - side)
