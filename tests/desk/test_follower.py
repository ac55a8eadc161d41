"""A view that follows a drag takes a small share of it, however long it takes."""

import time

from PySide6.QtCore import QObject

from humble_loop.desk.follower import Follower
from humble_loop.desk.session import Session


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
