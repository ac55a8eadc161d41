"""An hour of anything at all, in small; ``make search`` does it at length."""

import os

import pytest

from humble_loop.desk import follower
from humble_loop.kinds.street import Bend, Street
from humble_loop.lines.line import ThingId
from humble_loop.site.edits import EditError
from tests import edits
from tests.desk.random_use import RandomUser, unasked

SEARCHING = bool(os.environ.get("HUMBLE_LOOP_SEARCH"))
SEEDS, COUNT = ((11, 12, 13), 10_000) if SEARCHING else ((11,), 120)
HANG = 1.0 if SEARCHING else 3.0  # seconds; the suite runs on machines that others keep busy


@pytest.mark.timeout(7200 if SEARCHING else 240)
@pytest.mark.parametrize("seed", SEEDS)
def test_random_use_makes_no_fault_and_nothing_piles_up(drive, brickworks, monkeypatch, seed):
    d = drive(brickworks)
    unasked(monkeypatch.setattr)
    found = RandomUser(d.window, seed).use(COUNT)
    assert found.faults == []
    assert found.slowest < HANG, found.slow
    assert (
        max(found.widgets) < found.widgets[0] + 100
    )  # the window of tables is one of those that come only when asked for
    half = len(found.memory) // 2
    assert max(found.memory[half:]) < max(found.memory[: half + 1]) + 150


def test_the_random_user_notices_faults(drive, brickworks, monkeypatch):
    d = drive(brickworks)
    unasked(monkeypatch.setattr)
    monkeypatch.setattr(type(d.window), "other_theme", lambda self: 1 / 0)
    user = RandomUser(d.window, 1)
    user._gestures = [(1, user.theme)]
    assert "ZeroDivisionError" in user.use(3).faults[0]


def test_a_level_that_no_pad_can_have_is_said_in_one_sentence(drive, brickworks):
    d = drive(brickworks)
    before = d.site
    assert not d.session.do("Set pad", lambda s: edits.set_pad(s, "Kiln Court L1", 1e60))
    assert d.site is before
    assert "must be between -20000 and 20000" in d.window.status.said.text()


def test_a_sketch_beyond_all_coordinates_says_so_and_goes_on(drive, brickworks):
    d = drive(brickworks)
    d.window.draw_street()
    sketch = d.window.plan.sketch
    sketch.click((100.0, 100.0), 0.0)
    sketch.move((-9e8, 100.0), 0.0)
    assert "not a usable coordinate" in " ".join(d.window.plan.tag.text().split())
    sketch.move((160.0, 120.0), 0.0)
    sketch.click((160.0, 120.0), 0.0)
    sketch.finish()
    assert len(d.site.all(Street)) == len(brickworks.all(Street)) + 1


def test_a_command_on_what_cannot_be_laid_out_says_why(drive, brickworks):
    d = drive(brickworks)
    d.session.do("Draw", lambda s: edits.add_street(s, "Endless", far(s)))
    d.session.choose(ThingId("street", "endless"))
    d.settle()
    command = d.window._command("Add lots")
    d.window.run(command.do)
    assert "more than 20 km is not laid out" in d.window.status.said.text()

    def impossible():
        raise EditError("it cannot be done")

    d.window.run(impossible)
    assert d.window.status.said.text() == "it cannot be done"


def far(site):
    e, n = site.origin
    return [Bend(easting=e, northing=n), Bend(easting=e + 30_000, northing=n + 10)]


def test_a_view_that_is_not_done_in_time_goes_on_in_pieces(drive, brickworks, monkeypatch):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "kiln-court"))
    d.settle()
    section = d.window.long_section
    section.refresh()
    monkeypatch.setattr(follower, "_PATIENCE", -1.0)  # no time at all
    d.session.engine.forget()
    section.refresh()
    assert section.in_time.busy
    monkeypatch.setattr(follower, "_PATIENCE", 5.0)
    d.qtbot.waitUntil(lambda: not section.in_time.busy, timeout=5000)


def test_a_vip_beyond_all_bounds_is_refused_in_one_sentence(drive, brickworks):
    d = drive(brickworks)
    d.session.choose(ThingId("street", "kiln-court"))
    d.settle()
    before = d.site
    d.window.long_section.add_vip((9e7, 40.0))
    assert d.site is before
    assert "must be between" in d.window.status.said.text()
