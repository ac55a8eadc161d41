"""The real window, driven by mouse and keys."""

from __future__ import annotations

import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, QSettings, Qt
from PySide6.QtGui import QMouseEvent
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMessageBox

from humble_loop.desk.session import Session
from humble_loop.desk.theme import font, load_fonts
from humble_loop.desk.window import MainWindow
from humble_loop.site.libraries import new_site


class Driver:
    """A designer's hands: points in data coordinates, mouse and keys on the real widgets."""

    def __init__(self, window: MainWindow, qtbot) -> None:
        self.window, self.session, self.qtbot = window, window.session, qtbot

    @property
    def site(self):
        return self.session.site

    def at(self, view, place) -> QPoint:
        return view.pixel(place)

    def move(self, view, place) -> None:
        # Sent as an event: without a window manager the pointer itself does not always follow.
        at, port = QPointF(self.at(view, place)), view.viewport()
        none = Qt.MouseButton.NoButton
        event = QMouseEvent(QEvent.Type.MouseMove, at, port.mapToGlobal(at), none, none, Qt.KeyboardModifier.NoModifier)
        QApplication.sendEvent(port, event)
        self.qtbot.wait(5)

    def press(self, view, place) -> None:
        QTest.mousePress(
            view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, self.at(view, place)
        )

    def release(self, view, place) -> None:
        QTest.mouseRelease(
            view.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, self.at(view, place)
        )
        self.qtbot.wait(5)

    def click(self, view, place) -> None:
        self.press(view, place)
        self.release(view, place)

    def drag(self, view, start, end, *, release: bool = True) -> None:
        """Press at ``start``, move in five steps to ``end``, let go."""
        self.press(view, start)
        for k in range(1, 6):
            self.move(view, (start[0] + (end[0] - start[0]) * k / 5, start[1] + (end[1] - start[1]) * k / 5))
        if release:
            self.release(view, end)

    def type(self, view, text) -> None:
        QTest.keyClicks(view, text)

    def key(self, view, key) -> None:
        QTest.keyClick(view, key)

    def settle(self) -> None:
        self.qtbot.waitUntil(lambda: self.window.settled, timeout=20000)


@pytest.fixture
def complaints(monkeypatch):
    """What message boxes said; none of them waits for a click."""
    said: list[str] = []
    monkeypatch.setattr(QMessageBox, "warning", lambda parent, title, text, *a: said.append(text))
    monkeypatch.setattr(
        QMessageBox, "question", lambda parent, title, text, *a: said.append(text) or QMessageBox.StandardButton.Discard
    )
    return said


@pytest.fixture
def drive(qtbot, tmp_path, complaints, qapp):
    """Open the window on a site: ``drive(site)`` returns a Driver."""
    load_fonts()
    qapp.setFont(font(13))
    windows = []

    def open_on(site=None) -> Driver:
        session = Session(tmp_path / "recovery")
        if site is not None:
            session.take(site)
        window = MainWindow(session, QSettings(str(tmp_path / "desk.ini"), QSettings.Format.IniFormat))
        qtbot.addWidget(window)
        window.show()
        qtbot.waitExposed(window)
        window.activateWindow()
        qtbot.waitUntil(window.isActiveWindow, timeout=5000)
        window.fit()
        windows.append(window)
        driver = Driver(window, qtbot)
        driver.settle()
        return driver

    yield open_on
    for window in windows:
        window.session.take(new_site())
        window.close()
