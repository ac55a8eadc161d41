"""The strip: the chosen street straightened out, with returns, lots, bulb and crossings at their chainages."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QRectF, Qt
from PySide6.QtGui import QMouseEvent, QPainter
from PySide6.QtWidgets import QWidget

from humble_loop.desk.chainage_band import BEYOND, ChainageBand
from humble_loop.desk.colouring import Piece
from humble_loop.desk.follower import InTime
from humble_loop.desk.long_section import LongSection
from humble_loop.desk.session import Session
from humble_loop.desk.theme import Theme, font
from humble_loop.engine.query import Engine, Unsolved, query
from humble_loop.kinds.street.depth import Depths, depths_along
from humble_loop.kinds.street.plan import centreline
from humble_loop.lines.describe import Mark
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kinds

_VERGE = 5.0  # pixels between a lip and the lots
DRIVEWAYS = {"driveway": "quiet", "driveway clear": "fill", "driveway near": "near", "driveway touches": "broken"}


@query
def marks(q: Engine, street: str, at_leisure: bool = False) -> tuple[Mark, ...]:
    """Marks on a street's strip: of the kinds that are shown at once, or of those that are shown when there is time."""
    return tuple(m for kind in kinds() if kind.at_leisure is at_leisure for m in kind.ribbon(q, street))


class Strip(ChainageBand):
    """A ribbon under the long section on the same chainage axis."""

    def __init__(self, session: Session, section: LongSection, parent: QWidget | None = None) -> None:
        super().__init__(session, section, 58, parent)
        self._total: float | None = None  # the street's length; None where there is nothing to show
        self._marks: tuple[Mark, ...] = ()
        self._later: tuple[Mark, ...] = ()  # those of kinds that are shown when there is time
        self.at_leisure = InTime(session, self._refresh_later, self)
        self._boxes: list[tuple[QRectF, ThingId]] = []
        self.coloured: list[Piece] = []  # what stands in the place of depths, where the plan is coloured by something
        self.depths: Depths | None = None  # of the crown, drawn as a band between the lips

    def _refresh(self) -> None:
        self._street, q = self._session.street, self._session.engine
        street = self._street
        line = q.attempt(centreline, street) if street else None
        made = q.attempt(marks, street) if street else ()
        self._total = None if line is None or isinstance(line, Unsolved) else line.chain.total
        self._marks = () if isinstance(made, Unsolved) else made
        depths = q.attempt(depths_along, street) if street and self._total is not None else None
        self.depths = None if isinstance(depths, Unsolved) else depths
        self.update()

    @property
    def settled(self) -> bool:
        """Whether all is shown, and what comes at leisure as well."""
        return not (self.in_time.busy or self.at_leisure.busy)

    def refresh(self) -> None:
        """See ``ChainageBand``; lots and driveways follow when there is time."""
        if self._street != self._session.street:
            self._later = ()
        super().refresh()
        self.at_leisure.at_rest()

    def _refresh_later(self) -> None:
        street = self._session.street
        made = self._session.engine.attempt(marks, street, True) if street else ()
        self._later = () if isinstance(made, Unsolved) else made
        self.update()

    def _paint(self, t: Theme, painter: QPainter) -> None:
        painter.fillRect(self.rect(), t.colour("paper"))
        self._boxes = []
        if self._total is None:
            return
        middle = self.height() / 2
        if self.coloured:
            self._paint_colours(painter, middle)
        else:
            self._paint_depths(painter, t, middle)
        painter.setRenderHint(QPainter.RenderHint.Antialiasing)
        painter.setPen(t.pen("crown", 1.2, Qt.PenStyle.DashDotLine))
        painter.drawLine(int(self.pixel(0)), int(middle), int(self.pixel(self._total)), int(middle))
        for mark in (*self._marks, *self._later):
            self._draw(painter, t, mark, middle)
        self._paint_cursor(t, painter)

    def show_colours(self, pieces: list[Piece]) -> None:
        """Colour the band between the lips by something else than depth; by depth again without any."""
        if pieces or self.coloured:
            self.coloured = pieces
            self.update()

    def _paint_colours(self, painter: QPainter, middle: float) -> None:
        for begin, finish, *sides in self.coloured:
            a, b = (round(self.pixel(s)) for s in (begin, finish))
            for colour, top in zip(sides, (int(middle) - 6, int(middle))):
                if colour is not None and b > a and self.in_view(a, b):
                    painter.fillRect(a, top, b - a, 6, colour)

    def _paint_depths(self, painter: QPainter, t: Theme, middle: float) -> None:
        """The band between the lips: brown in cut, teal in fill, as deep as pads are coloured."""
        if self.depths is None or not self._total:
            return
        # Places follow from two, each of which takes a way through the scene.
        begin, finish = (float(self._section.pixel((s, 0.0)).x()) for s in (0.0, self._total))
        at = begin + (finish - begin) * self.depths.chainages / self._total
        x = np.round(np.clip(at, -BEYOND, self.width() + BEYOND)).astype(int).tolist()
        depths = 0.5 * (self.depths.depths[:-1] + self.depths.depths[1:])
        for a, b, depth in zip(x[:-1], x[1:], depths.tolist()):
            if b > a and depth == depth:
                painter.fillRect(a, int(middle) - 6, b - a, 12, t.depth_colour(depth))

    def _draw(self, painter: QPainter, t: Theme, mark: Mark, middle: float) -> None:
        x0, x1 = self.pixel(mark.start), self.pixel(mark.end)
        if not self.in_view(x0, x1):
            return
        sign = -1.0 if mark.side == "left" else 1.0
        y = middle + sign * 7
        if mark.role == "lip":
            painter.setPen(t.pen("left_lip" if mark.side == "left" else "right_lip", 2.0))
            painter.drawLine(int(x0), int(y), int(x1), int(y))
        elif mark.role == "mouth":
            painter.setPen(t.pen("chosen", 1.6))
            for x, way in ((x0, 1.0), (x1, -1.0)):
                painter.drawLine(int(x), int(y), int(x + 5 * way), int(y + sign * 12))
        elif mark.role == "head":
            painter.setPen(t.pen("crown", 1.6))
            painter.setBrush(Qt.BrushStyle.NoBrush)
            if (
                self._total is not None and mark.end > self._total
            ):  # what reaches beyond the street ends where the strip does
                x1 = max(self.pixel(self._total), min(x1, self.width() - 2.0))
            box = QRectF(x0, middle - 12, max(x1 - x0, 20), 24)
            painter.drawEllipse(box)
            self._text(painter, t, box, mark.words, over_lines=True)
        elif mark.role in DRIVEWAYS:
            # From the lip to the boundary, where its lot begins.
            box = QRectF(x0, y + 1 if sign > 0 else y - _VERGE - 1, max(x1 - x0, 3), _VERGE)
            chosen = self._session.chosen.thing == mark.thing
            painter.fillRect(box, t.colour("chosen" if chosen else DRIVEWAYS[mark.role]))
            if mark.thing is not None:
                self._boxes.append((box, mark.thing))
        else:
            self._draw_box(
                painter,
                t,
                mark,
                QRectF(x0 + 1, 1.0 if mark.side == "left" else middle + 13, max(x1 - x0 - 2, 4), middle - 14),
            )

    def _draw_box(self, painter: QPainter, t: Theme, mark: Mark, box: QRectF) -> None:
        chosen = mark.thing is not None and self._session.chosen.thing == mark.thing
        painter.setPen(t.pen("chosen" if chosen else "lot", 1.6 if chosen else 1.0))
        painter.setBrush(t.colour("panel"))
        painter.drawRect(box)
        self._text(painter, t, box, mark.words)
        if mark.thing is not None:
            self._boxes.append((box, mark.thing))

    def _text(self, painter: QPainter, t: Theme, box: QRectF, words: str, *, over_lines: bool = False) -> None:
        """Words in a box, left out where they do not fit: none runs off the strip or over its neighbour. Lines beneath make way for them."""
        painter.setFont(font(11))
        wide = painter.fontMetrics().horizontalAdvance(words) + 4
        if words and wide <= box.width() and box.right() <= self.width():
            if over_lines:
                painter.fillRect(
                    QRectF(box.center().x() - 0.5 * wide, box.center().y() - 6, wide, 12), t.colour("paper")
                )
            painter.setPen(t.colour("quiet"))
            painter.drawText(box, Qt.AlignmentFlag.AlignCenter, words)

    def mousePressEvent(self, event: QMouseEvent) -> None:
        for box, thing in self._boxes:
            if box.contains(event.position()):
                self._session.choose(thing)
                return
        if self._street:
            self._session.choose(ThingId("street", self._street))
