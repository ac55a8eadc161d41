"""Python's search for circles is kept out of the way, and comes when another site is opened."""

import gc
import weakref

import pytest

from humble_loop.desk.garbage import attend
from tests import edits


@pytest.fixture
def collector():
    before = gc.get_threshold()
    yield
    gc.set_threshold(*before)
    gc.unfreeze()
    gc.collect()


class _Circle:
    def __init__(self) -> None:
        self.itself = self


def test_what_has_settled_is_put_aside_and_searched_when_a_site_is_opened(drive, court, tmp_path, collector):
    d = drive(court)
    attend(d.window)
    assert gc.get_threshold()[2] > 1000
    circle = _Circle()
    seen = weakref.ref(circle)
    gc.collect(0)
    gc.collect(1)  # now it counts as old
    d.session.do("Move", lambda s: edits.move_bend(s, "court", 2, 161.0, 121.0))
    d.settle()
    assert gc.get_freeze_count() > 1000
    del circle
    gc.collect()
    assert seen() is not None  # put aside: no search meets it
    d.window.files.taken.emit()
    assert seen() is None
    assert gc.get_freeze_count() == 0
