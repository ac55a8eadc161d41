"""Dragging in the real window: the time from a mouse move to the painted frame."""

from __future__ import annotations

import time

import numpy as np
from PySide6.QtCore import QEvent, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication

from benchmarks.yardstick import slowness
from humble_loop.demo import demo_site, repeated_site
from humble_loop.desk.garbage import attend
from humble_loop.desk.session import Session
from humble_loop.desk.settings import unkept_settings
from humble_loop.desk.theme import font, load_fonts
from humble_loop.desk.view import DrawingView
from humble_loop.desk.window import MainWindow
from humble_loop.lines.line import ThingId
from humble_loop.site.libraries import new_site

_STEPS = 60


def frame_seconds(times: int) -> dict[str, tuple[list[float], list[float], float]]:
    """On the demo site ``times`` over: seconds until what is under the hand has moved, and until the street's own lines
    have, by what is dragged; and how slow the machine was around it.
    """
    app = QApplication.instance() or QApplication([])
    assert isinstance(app, QApplication)
    load_fonts()
    app.setFont(font(13))
    session = Session()
    session.take(repeated_site(times))
    window = MainWindow(session, unkept_settings())
    attend(window)
    window.show()
    window.plan.look_at(122.0, 206.0, 232.0)  # from the site's origin
    out = {}
    for name, street, view, title, by in (
        ("VIP", "ember-loop", window.long_section, "Ember Loop VIP 3", (0.0, 0.5)),
        ("bend", "kiln-court", window.plan, "Kiln Court bend 2", (4.0, 4.0)),
        ("bulb", "kiln-court", window.plan, "Kiln Court bulb", (2.0, 0.3)),
        ("kerb return", "kiln-court", window.plan, "Kiln Court start left return", (1.5, -1.5)),
    ):
        session.choose(ThingId("street", street))
        _settle(app, window)
        before = slowness()
        hand, lines = _drag(app, window, view, title, by)
        out[name] = hand, lines, 0.5 * (before + slowness())
        session.undo()
        _settle(app, window)
    session.take(new_site())  # or the window would go on with what is left to be shown
    window.close()
    return out


def demo_seconds(name: str) -> tuple[list[float], list[float], float]:
    """The same on the whole demo: of a VIP of the street that it rebuilds, with ties, own levels, fall windows and three side streets; or of
    the middle of its roundabout, with four legs that change with it.
    """
    app = QApplication.instance() or QApplication([])
    assert isinstance(app, QApplication)
    load_fonts()
    app.setFont(font(13))
    session = Session()
    session.take(demo_site())
    window = MainWindow(session, unkept_settings())
    attend(window)
    window.show()
    thing, view, title, by, place = {
        "rebuilt": (
            ThingId("street", "claypit-road"),
            window.long_section,
            "Claypit Road VIP 7",
            (0.0, 0.2),
            (230.0, 305.0),
        ),
        "roundabout": (
            ThingId("roundabout", "firebrick-street-roundabout"),
            window.plan,
            "Firebrick Street roundabout middle",
            (2.0, 1.5),
            (234.0, 60.0),
        ),
    }[name]
    window.plan.look_at(*place, 232.0)
    session.choose(thing)
    _settle(app, window)
    before = slowness()
    hand, lines = _drag(app, window, view, title, by)
    slow = 0.5 * (before + slowness())
    session.take(new_site())
    window.close()
    return hand, lines, slow


class _Painted:
    """When the dragged view had painted the last move: what is under the hand, and the street's own lines."""

    def __init__(self, window: MainWindow, view: DrawingView) -> None:
        self.hand, self.lines = 0.0, 0.0
        view.hand_painted.connect(self._note_hand)
        window.session.drag_painted.connect(self._note_lines)

    def _note_hand(self) -> None:
        self.hand = time.perf_counter()

    def _note_lines(self) -> None:
        self.lines = time.perf_counter()


def _settle(app: QApplication, window: MainWindow) -> None:
    until = time.monotonic() + 0.3
    while time.monotonic() < until or not window.settled:
        app.processEvents()


def _drag(
    app: QApplication, window: MainWindow, view: DrawingView, title: str, by: tuple[float, float]
) -> tuple[list[float], list[float]]:
    handle = next(h for h in view.handles.handles if h.title == title)
    start = view.pixel(handle.place)
    QTest.mousePress(view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
    end = view.pixel((handle.place[0] + by[0], handle.place[1] + by[1]))
    frames, followed = [], []
    painted = _Painted(window, view)
    for k in range(1, _STEPS + 1):
        # There and back again, a pixel or so at a time, as a hand does it.
        share = np.sin(np.pi * k / _STEPS)
        at = QPointF(start.x() + (end.x() - start.x()) * share, start.y() + (end.y() - start.y()) * share)
        event = QMouseEvent(
            QEvent.Type.MouseMove,
            at,
            view.viewport().mapToGlobal(at),
            Qt.MouseButton.NoButton,
            Qt.MouseButton.LeftButton,
            Qt.KeyboardModifier.NoModifier,
        )
        began = time.perf_counter()
        QApplication.sendEvent(view.viewport(), event)
        while painted.lines < began and time.perf_counter() - began < 2.0:
            app.processEvents()  # the move is taken up, and the view painted
            if painted.hand > began and len(frames) < k:
                frames.append(painted.hand - began)
        followed.append(painted.lines - began)
        pause = time.perf_counter() + 0.016
        while time.perf_counter() < pause:
            app.processEvents()
    QTest.mouseRelease(view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, start)
    return frames, followed
