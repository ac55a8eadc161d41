"""A fixed fall marked by hand: the place that follows, then the one that it follows."""

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest

from humble_loop.kinds.street import Street
from tests.kinds.test_fixed_falls import crown_at, two_streets


@pytest.fixture
def d(drive):
    driver = drive(two_streets())
    driver.window.plan.look_at(50.0, 10.0, 60.0)
    driver.settle()
    driver.window.run(driver.window._command("Fixed fall").do)
    return driver


def followed(d):
    return [v for v in next(s for s in d.site.all(Street) if s.id == "m").vips if v.follows]


def words(d):
    return d.window.plan.tag.text()


def test_two_clicks_let_a_vip_follow_as_it_lies(d):
    plan = d.window.plan
    assert "whose level is to follow" in words(d)
    d.click(plan, (50.0, 20.0))
    assert followed(d) == []
    d.move(plan, (50.0, 0.3))
    assert "M crown" in words(d)
    assert "L crown" in words(d)
    assert "it falls 7.50 % from there now" in words(d)
    d.click(plan, (50.0, 0.3))
    (vip,) = followed(d)
    assert vip.follows.fall == pytest.approx(0.075, abs=1e-3)
    assert plan.sketch is None
    assert d.session.street == "m"
    d.session.undo()
    assert followed(d) == []


def test_a_fall_is_typed_before_the_second_click_and_taken_back(d):
    plan = d.window.plan
    d.click(plan, (50.0, 20.0))
    d.move(plan, (50.0, 0.3))
    for key in "10":
        QTest.keyClicks(plan, key)
    assert "falls <b>10.00 %</b>" in words(d)
    QTest.keyClick(plan, Qt.Key.Key_Backspace)
    assert "falls <b>1.00 %</b>" in words(d)
    QTest.keyClicks(plan, "0")
    d.click(plan, (50.0, 0.3))
    assert followed(d)[0].follows.fall == pytest.approx(0.1)
    assert crown_at(d.site, "m", 50.0) == pytest.approx(27.0, abs=1e-6)


def test_what_cannot_follow_is_refused_in_words_and_escape_leaves_off(d):
    plan = d.window.plan
    d.click(plan, (50.0, 16.6))  # the lip of M, which has no levels of its own
    assert "no line here with levels of its own" in words(d)
    d.click(plan, (50.0, 20.0))
    d.click(plan, (50.0, 20.0))
    assert "does not follow its own line" in words(d)
    QTest.keyClick(plan, Qt.Key.Key_Backspace)
    assert "whose level is to follow" in words(d)
    QTest.keyClick(plan, Qt.Key.Key_Escape)
    assert plan.sketch is None
    assert followed(d) == []
