"""Work between frames: one slice at a time, whoever has some."""

import time
from contextlib import contextmanager

from PySide6.QtCore import QCoreApplication, QObject
from shiboken6 import delete

from humble_loop.desk.idle import IdleWork
from humble_loop.engine.query import Cancelled
from tests import edits


def counted(log, name, times, pause=0.0):
    def steps():
        for _ in range(times):
            log.append(name)
            time.sleep(pause)
            yield

    return steps


def test_two_lists_of_work_never_share_a_turn(qtbot, monkeypatch):
    monkeypatch.setattr("humble_loop.desk.idle._SLICE", 0.001)  # a step a slice
    log, parent = [], QObject()
    one, two = IdleWork(parent), IdleWork(parent)
    one.begin([counted(log, "one", 5, 0.002)], 0)
    two.begin([counted(log, "two", 5, 0.002)], 0)
    turns = []
    while one.busy or two.busy:
        seen = len(log)
        QCoreApplication.processEvents()
        turns.append(log[seen:])
    assert max(len(done) for done in turns) == 1
    assert sorted(log) == ["one"] * 5 + ["two"] * 5
    assert log[:4] in (["one", "two"] * 2, ["two", "one"] * 2)


def test_work_goes_on_when_another_with_work_is_gone(qtbot):
    log, parent, gone = [], QObject(), QObject()
    one, two = IdleWork(gone), IdleWork(parent)
    one.begin([counted(log, "one", 100_000)], 0)
    two.begin([counted(log, "two", 3)], 5)
    qtbot.waitUntil(lambda: "one" in log)
    delete(gone)
    qtbot.waitUntil(lambda: log.count("two") == 3)


def test_a_step_that_begins_anew_gives_up_what_was_left_and_waits(qtbot):
    log, parent = [], QObject()
    work = IdleWork(parent)

    def again():
        log.append("again")
        work.begin([lambda: log.append("late")], 400)

    work.begin([again, lambda: log.append("given up")], 0)
    qtbot.waitUntil(lambda: log == ["again"])
    qtbot.wait(10)
    assert log == ["again"]
    qtbot.waitUntil(lambda: log == ["again", "late"])
    assert not work.busy


def test_a_step_that_takes_too_long_is_tried_again_with_more_time_and_what_follows_waits(qtbot):
    """What a step of steps yields is done in the same way."""
    log, given = [], []

    @contextmanager
    def within(seconds):
        given.append(seconds)
        yield

    def takes(name, seconds):
        def step():
            if given[-1] < seconds:
                raise Cancelled
            log.append(name)

        return step

    def steps():
        yield takes("two", 0.1)
        log.append("three")
        yield None
        yield takes("four", 0.0)

    work = IdleWork(parent := QObject(), within)
    work.begin([takes("one", 0.16), steps, takes("five", 0.0)], 0)
    qtbot.waitUntil(lambda: not work.busy)
    assert log == ["one", "two", "three", "four", "five"]
    assert given[:4] == [0.02, 0.04, 0.08, 0.16]
    assert given[4:] == [0.02, 0.02, 0.04, 0.08, 0.16, 0.02, 0.02]  # the step of steps, "two" in four, "four", "five"
    parent.deleteLater()


def test_what_was_to_be_caught_up_with_is_given_up_while_something_is_dragged(drive, court):
    """It is about the site before: gone on with, it would work the dragged one out, all at once and unasked."""
    d = drive(court)
    catching_up, session = d.window.catching_up, d.session
    session.do("Move it", lambda s: edits.move_bend(s, "court", 2, 165.0, 125.0))
    assert catching_up.busy
    session.preview(lambda s: edits.move_bend(s, "court", 2, 170.0, 130.0))
    assert not catching_up.busy
    session.cancel()
    assert catching_up.busy
    d.settle()
    assert not catching_up.busy
