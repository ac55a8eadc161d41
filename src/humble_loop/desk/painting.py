"""Painting that never brings the window down: what fails in a paint is told in its place, and reported once.

An exception that leaves a paint event with its painter open ends the process. So every paint of ours is guarded, and
works nothing out: what it shows was asked for before.
"""

from __future__ import annotations

import sys
from collections.abc import Callable

from PySide6.QtCore import QRectF, Qt, QTimer
from PySide6.QtGui import QColor, QPainter

from humble_loop.desk.theme import font

CANNOT = "This cannot be drawn: undo the last step, or choose something else"
_reported: set[tuple[object, ...]] = set()


def guarded(painter: QPainter, draw: Callable[[QPainter], object]) -> None:
    """Draw, and leave the painter as it was; where drawing fails, say so in a plain box."""
    painter.save()
    try:
        draw(painter)
    except Exception as error:  # noqa: BLE001 - whatever it is, it must not leave a paint
        painter.restore()
        painter.save()
        _say_in_place(painter)
        _report(error)
    finally:
        painter.restore()


def _say_in_place(painter: QPainter) -> None:
    painter.resetTransform()
    painter.setFont(font(12))
    box = QRectF(painter.viewport()).adjusted(8, 8, -8, -8)
    box.setHeight(26)
    painter.setPen(QColor("#8a2c1d"))
    painter.setBrush(QColor("#f7efe9"))
    painter.drawRect(box)
    painter.drawText(box.adjusted(8, 0, -8, 0), Qt.AlignmentFlag.AlignVCenter, CANNOT)


def _report(error: Exception) -> None:
    """Report a fault after the paint, and only once: a view paints many times a second."""
    trace = error.__traceback__
    while trace is not None and trace.tb_next is not None:
        trace = trace.tb_next
    place = (type(error), trace and (trace.tb_frame.f_code.co_filename, trace.tb_lineno))
    if place not in _reported:
        _reported.add(place)
        QTimer.singleShot(0, lambda: sys.excepthook(type(error), error, error.__traceback__))
