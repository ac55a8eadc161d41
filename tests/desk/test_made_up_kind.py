"""The made-up kind in the window: index, plan, facts, findings, strip, find box, and its handle drags."""

import pytest
from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QLineEdit

from humble_loop.lines.line import ThingId
from tests.test_made_up_kind import Plinth, set_plinth, site  # noqa: F401 (the fixture)

ONE = ThingId("plinth", "plinth-one")


@pytest.fixture
def d(drive, site):  # noqa: F811
    return drive(set_plinth(site, "plinth-one", height=0.1))


def test_it_stands_in_index_plan_strip_and_find_box(d):
    titles = [head.text(0) for head in d.window.index._heads()]
    assert "Plinths (1)" in titles
    assert "Plinth one" in [i.text(0) for i in d.window.index._items()]
    assert [role for role, _ in d.window.plan.drawing.strokes.lines_of(ONE)] == ["plinth edge"]
    d.click(d.window.plan, (40.0, 12.0))
    assert d.session.thing == ONE
    d.window.strip.repaint()
    assert ONE in [thing for _, thing in d.window.strip._boxes]
    d.session.choose(None)
    d.window.finder.open()
    QTest.keyClicks(d.window.finder.box, "plinth one")
    QTest.keyClick(d.window.finder.box, Qt.Key.Key_Return)
    assert d.session.thing == ONE


def test_its_facts_are_typed_and_its_finding_is_listed(d):
    d.session.choose(ONE)
    d.settle()
    assert d.window.facts.title.text() == "Plinth one"
    assert [f.rule for f in d.window.facts._findings if f.concerns(ONE)] == ["plinth too low"]
    edit = d.window.facts._rows.findChildren(QLineEdit, "fact height")[0]
    edit.setFocus()
    edit.selectAll()
    QTest.keyClicks(edit, "250mm")
    QTest.keyClick(edit, Qt.Key.Key_Return)
    assert d.site.find(Plinth, "plinth-one").height == 0.25
    d.settle()
    assert not [f for f in d.window.findings if f.rule == "plinth too low"]


def test_its_handle_drags_as_one_undo_step(d):
    plan = d.window.plan
    d.session.choose(ONE)
    plan.look_at(40.0, 10.0, 60.0)
    d.settle()
    handle = next(h for h in plan.handles.handles if h.key == ("plinth", "plinth-one"))
    d.drag(plan, handle.place, (handle.place[0] + 8, handle.place[1]))
    assert d.site.find(Plinth, "plinth-one").chainage == pytest.approx(48.0, abs=0.3)
    assert d.session.undo_words == "Move Plinth one"
    d.drag(plan, plan.handles.handles[0].place, (30.0, 12.0), release=False)
    d.type(plan, "25.5")
    d.key(plan, Qt.Key.Key_Return)
    assert d.site.find(Plinth, "plinth-one").chainage == 25.5
