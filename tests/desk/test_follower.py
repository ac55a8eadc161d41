"""A view that follows a drag takes a small share of it, however long it takes."""

import time

import pytest
from PySide6.QtCore import QObject

from humble_loop.desk import follower
from humble_loop.desk.follower import Follower, InTime
from humble_loop.desk.session import Session
from humble_loop.engine.query import Cancelled


def drag(qtbot, session, seconds, follower_takes):
    """How often a follower refreshes in a drag whose view paints every 10 ms."""
    calls, parent = [], QObject()

    def refresh() -> None:
        calls.append(time.monotonic())
        time.sleep(follower_takes)

    follower = Follower(session, refresh, parent, lambda: False, apart=0.05)
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        session.changed.emit()
        session.drag_painted.emit()
        qtbot.wait(10)
    follower.deleteLater()
    return calls


def test_a_quick_view_follows_as_often_as_it_likes_and_a_slow_one_seldom(qtbot, monkeypatch):
    monkeypatch.setattr(Session, "dragging", property(lambda self: True))
    quick = drag(qtbot, Session(), 1.0, 0.0)
    slow = drag(qtbot, Session(), 1.0, 0.04)
    assert len(quick) >= 5
    # 40 ms at most every 800 ms
    assert 1 <= len(slow) <= 2


def test_a_view_that_follows_does_not_come_between_a_move_and_its_frame(qtbot, monkeypatch):
    monkeypatch.setattr(Session, "dragging", property(lambda self: True))
    session, parent, calls = Session(), QObject(), []
    follower = Follower(session, lambda: calls.append("followed"), parent, lambda: False, apart=0.0)
    session.changed.emit()
    session.drag_painted.emit()  # it is about to follow
    session.drag_moved.emit()
    qtbot.wait(20)
    calls.append("frame")
    session.drag_painted.emit()
    qtbot.waitUntil(lambda: "followed" in calls, timeout=1000)
    assert calls == ["frame", "followed"]
    follower.deleteLater()


@pytest.mark.parametrize(("mine", "within"), [(False, 0.05), (True, 0.25)])
def test_a_view_holds_up_a_drag_elsewhere_briefly_and_its_own_as_long_as_it_must(qtbot, monkeypatch, mine, within):
    monkeypatch.setattr(Session, "dragging", property(lambda self: True))
    session, parent, took = Session(), QObject(), []

    def refresh() -> None:
        began = time.monotonic()
        try:
            while time.monotonic() < began + 0.2:
                if session.engine.cancelled():
                    raise Cancelled
                time.sleep(0.001)
        finally:
            took.append(time.monotonic() - began)

    view = InTime(session, refresh, parent, lambda: mine)
    view.now()
    assert took[0] < within
    assert view.busy is not mine  # what is not done is gone on with when the hand rests
    if not mine:
        qtbot.wait(60)
        session.drag_moved.emit()
        qtbot.wait(90)
        assert len(took) == 1
        qtbot.waitUntil(lambda: len(took) > 1, timeout=1000)
    view.deleteLater()


def test_a_view_that_has_much_to_do_before_what_is_not_known_gets_there(qtbot, monkeypatch):
    """Each try does 20 ms of its own before it asks; with 8 ms a try it would never get to an answer."""
    monkeypatch.setattr(follower, "_PATIENCE", 0.0)
    session, parent, got = Session(), QObject(), []

    def refresh() -> None:
        until = time.monotonic() + 0.02
        while time.monotonic() < until:
            time.sleep(0.001)
        session.engine.breathe()
        got.append(True)

    view = InTime(session, refresh, parent)
    view.now()
    assert view.busy
    qtbot.waitUntil(lambda: bool(got), timeout=3000)
    assert not view.busy
    view.deleteLater()
