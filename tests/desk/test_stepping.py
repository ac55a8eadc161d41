"""Stepping and playing along a street in the real window."""

import pytest

from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.street.section import rows
from humble_loop.lines.line import ThingId

LOOP = ThingId("street", "ember-loop")


@pytest.fixture
def d(drive, brickworks):
    driver = drive(brickworks)
    driver.session.choose(LOOP)
    driver.window.long_section.point_station(50.0)
    driver.settle()
    return driver


def test_each_step_is_the_next_row(d):
    places = rows(d.session.engine, "ember-loop")
    after = places[places > 50.001]
    d.window.stepping.next()
    assert d.session.station.chainage == pytest.approx(after[0])
    d.window.stepping.next()
    assert d.session.station.chainage == pytest.approx(after[1])
    for _ in range(3):
        d.window.stepping.previous()
    assert d.session.station.chainage == pytest.approx(places[places < after[1] - 0.001][-3])
    d.qtbot.wait(60)
    d.settle()
    assert d.window.cross_section.caption() in d.window._panes["Cross section"].caption.text()


def test_the_end_is_said_and_stays(d):
    said = []
    d.session.said.connect(said.append)
    d.window.long_section.point_station(chain_of(d.session.engine, "ember-loop").total)
    d.window.stepping.next()
    assert said[-1] == "The street ends here"


def test_it_plays_to_the_end_and_stops_when_another_street_is_chosen(d):
    d.window.long_section.point_station(rows(d.session.engine, "ember-loop")[-3] + 0.01)
    d.window.stepping.play()
    assert d.window.stepping.playing
    d.qtbot.waitUntil(lambda: not d.window.stepping.playing, timeout=5000)
    assert d.session.station.chainage == pytest.approx(rows(d.session.engine, "ember-loop")[-1])
    d.window.stepping.play()  # from the start again
    assert d.session.station.chainage == pytest.approx(rows(d.session.engine, "ember-loop")[0])
    d.session.choose(ThingId("street", "kiln-court"))
    d.qtbot.waitUntil(lambda: not d.window.stepping.playing, timeout=2000)
    d.window.stepping.play()
    d.window.stepping.play()
    assert not d.window.stepping.playing


def test_without_a_street_it_says_what_to_do(d):
    said = []
    d.session.said.connect(said.append)
    d.session.choose(None)
    d.window.stepping.next()
    assert said[-1] == "Choose a street first"
    d.window.stepping.play()
    assert not d.window.stepping.playing
