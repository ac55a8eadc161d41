"""Drawing a street in the real window: what the tag tells, the band of depths, arcs that leave tangentially."""

import numpy as np
import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLabel

from humble_loop.kinds.street import Street
from humble_loop.kinds.street.elements import elements
from humble_loop.kinds.street.plan import chain_of
from humble_loop.lines.line import ThingId
from tests import edits


@pytest.fixture
def d(drive, brickworks):
    driver = drive(brickworks)
    driver.window.plan.look_at(170.0, 130.0, 200.0)
    driver.settle()
    return driver


def begin(d, *places):
    """Draw a street with clicks at places, and leave the mouse at the last."""
    plan = d.window.plan
    d.window.draw_street()
    for place in places[:-1]:
        d.move(plan, place)
        d.click(plan, place)
    d.move(plan, places[-1])
    return plan


def drawn(d):
    return d.site.all(Street)[-1]


def test_the_tag_tells_grades_depth_reach_and_bearing_and_the_band_is_shown(d):
    plan = begin(d, (150.0, 110.0), (190.0, 110.0), (230.0, 130.0))
    text = plan.tag.text()
    for word in ("leg", "bearing", "ground", "grade", "batters reach", "here"):
        assert word in text
    assert len(plan._band._shapes) > 10
    d.key(plan, Qt.Key.Key_Return)
    d.settle()
    assert not plan._band._shapes  # it goes with the sketch


def test_it_says_how_it_meets_another_street_and_is_made_square(d):
    chain = chain_of(d.session.engine, "ember-loop")
    at = chain.points_at([185.0])[0]
    side = np.array([-np.sin(chain.at([185.0]).headings[0]), np.cos(chain.at([185.0]).headings[0])])
    along = np.array([side[1], -side[0]])
    start = at + 60.0 * side
    plan = begin(d, tuple(start), tuple(at + 5.0 * along))
    assert "meets Ember Loop square" in plan.tag.text()
    plan.sketch.cancel()
    plan = begin(d, tuple(start), tuple(at + 40.0 * along * (1 if chain.total > 230 else -1)))
    assert "meets Ember Loop at " in plan.tag.text()
    plan.sketch.cancel()


def test_the_next_street_has_the_class_of_the_one_in_hand(d):
    d.session.do("Class", lambda s: edits.set_street(s, "ember-loop", street_class="collector"))
    d.session.choose(ThingId("street", "ember-loop"))
    plan = begin(d, (150.0, 100.0), (190.0, 100.0))
    d.click(plan, (190.0, 100.0))
    d.key(plan, Qt.Key.Key_Return)
    assert drawn(d).street_class == "collector"


def test_an_arc_leaves_the_last_leg_tangentially_and_a_typed_number_is_its_radius(d):
    plan = begin(d, (150.0, 100.0), (200.0, 100.0), (200.0, 100.0))
    d.type(plan, "a")
    d.move(plan, (240.0, 130.0))
    assert "arc of radius" in plan.tag.text()
    d.type(plan, "25")
    d.move(plan, (230.0, 135.0))
    d.click(plan, (230.0, 135.0))
    d.key(plan, Qt.Key.Key_Return)
    d.settle()
    rows = elements(d.session.engine, drawn(d).id)
    assert [e.kind for e in rows[:2]] == ["straight", "arc"]
    assert rows[1].radii[0] == pytest.approx(25.0, abs=1e-6)
    assert not [e for e in rows if e.kind == "kink"]
    assert rows[0].length == pytest.approx(50.0, abs=0.7)  # clicks land on whole pixels


def test_an_arc_goes_round_by_more_than_half_a_turn(d):
    plan = begin(d, (150.0, 60.0), (200.0, 60.0), (200.0, 60.0))
    d.type(plan, "a")
    d.move(plan, (180.0, 85.0))
    d.click(plan, (180.0, 85.0))
    d.key(plan, Qt.Key.Key_Return)
    d.settle()
    rows = elements(d.session.engine, drawn(d).id)
    assert sum(e.deflection for e in rows) > 200.0
    end = chain_of(d.session.engine, drawn(d).id).points_at([rows[-1].end])[0]
    assert np.hypot(*(end - [180.0, 85.0])) < 1.0
    d.session.undo()
    assert drawn(d).name != "Street"


def test_backspace_takes_an_arc_back_and_a_again_goes_straight_on(d):
    plan = begin(d, (150.0, 60.0), (200.0, 60.0), (200.0, 60.0))
    d.type(plan, "a")
    d.move(plan, (225.0, 80.0))
    d.click(plan, (225.0, 80.0))
    QTest.keyClick(plan, Qt.Key.Key_Backspace)
    d.type(plan, "a")
    d.move(plan, (245.0, 80.0))
    d.click(plan, (245.0, 80.0))
    d.key(plan, Qt.Key.Key_Return)
    rows = elements(d.session.engine, drawn(d).id)
    assert [e.kind for e in rows] == ["straight", "arc", "straight"]
    assert rows[1].radii[0] == 30.0  # three times the least of an access place, like the court; no arc that was drawn
    assert len(drawn(d).bends) == 3


def test_a_bend_is_added_by_a_double_click_and_taken_out_with_delete(d):
    loop = ThingId("street", "ember-loop")
    d.session.choose(loop)
    d.window.plan.fit_thing(loop)
    d.settle()
    plan = d.window.plan
    at = chain_of(d.session.engine, "ember-loop").points_at([185.0])[0]
    pixel = d.at(plan, tuple(at))
    QTest.mouseDClick(plan.viewport(), Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier, pixel)
    assert len(d.site.find(Street, "ember-loop").bends) == 5
    d.settle()
    handle = next(h for h in plan.handles.handles if h.title == "Ember Loop bend 4")
    d.click(plan, handle.place)
    assert d.session.chosen.held[0] in ("bend", "curve")  # its curve's handle lies in the same place
    assert d.session.chosen.held[1:] == ("ember-loop", 3)
    d.window.run(d.window._command("Remove the VIP or bend").do)
    assert len(d.site.find(Street, "ember-loop").bends) == 4
    d.session.choose(loop)
    d.window.run(d.window._command("Remove the VIP or bend").do)
    assert len(d.site.find(Street, "ember-loop").bends) == 4
    assert any("click it" in label.text() for label in d.window.status.findChildren(QLabel))


def test_the_cross_section_is_seen_while_the_first_street_is_drawn(d):
    d.session.choose(None)
    d.settle()
    begin(d, (150.0, 110.0), (190.0, 110.0), (230.0, 130.0))
    d.qtbot.wait(400)
    d.settle()
    (left, right), _ = d.window.cross_section.plotItem.vb.viewRange()
    made = d.window.cross_section._made
    assert made is not None
    assert left <= made.design[:, 0].min() < made.design[:, 0].max() <= right


def test_a_sketch_that_leaves_all_coordinates_stays_in_hand_until_it_is_taken_back(d):
    plan = begin(d, (150.0, 60.0), (200.0, 60.0), (230.0, 70.0))
    plan.sketch._points.append((9e18, 9e18))
    before = d.site
    plan.sketch.finish()
    assert plan.sketch is not None
    assert "not a usable coordinate" in plan.tag.text()
    assert d.site is before
    QTest.keyClick(plan, Qt.Key.Key_Backspace)
    d.move(plan, (235.0, 70.0))
    d.click(plan, (235.0, 70.0))
    d.key(plan, Qt.Key.Key_Return)
    assert plan.sketch is None
    assert drawn(d).name == "Street"


def test_a_straight_from_an_arc_is_squared_up_to_the_street_that_it_meets(d):
    """From below towards Kiln Court by a quarter turn or so: a few degrees off square under the hand, square on it."""
    court = chain_of(d.session.engine, "kiln-court")
    s = 0.75 * court.total
    target = court.points_at([s])[0]
    heading = float(court.at([s]).headings[0])
    out = np.array([np.sin(heading), -np.cos(heading)])  # to the right of the court
    along = np.array([np.cos(heading), np.sin(heading)])
    begin_at, first = target + 75.0 * out - 60.0 * along, target + 75.0 * out - 25.0 * along
    plan = d.window.plan
    d.window.draw_street()
    for place in (begin_at, first):
        d.move(plan, tuple(place))
        d.click(plan, tuple(place))
    d.key(plan, Qt.Key.Key_A)
    end = target + 50.0 * out
    d.move(plan, tuple(end))
    d.click(plan, tuple(end))
    d.key(plan, Qt.Key.Key_A)
    beside = target + 1.0 * along
    d.move(plan, tuple(beside))
    assert "square" in plan.tag.text()
    d.click(plan, tuple(beside))
    made = chain_of(d.session.engine, drawn(d).id)
    ends = made.at([0.0, made.total - 1e-9])
    meets = next(k for k in range(2) if abs(court.feet(ends.points[k : k + 1]).offsets[0]) < 1e-6)
    there = float(court.at(court.feet(ends.points[meets : meets + 1]).chainages).headings[0])
    assert abs(np.cos(float(ends.headings[meets]) - there)) < 1e-6
    assert all(e.kind != "kink" for e in elements(d.session.engine, drawn(d).id))
