"""Where streets meet, by hand: raised tables, splays, order of construction, streets that go on as one another."""

import numpy as np
import pytest
from PySide6.QtWidgets import QComboBox, QPushButton

from humble_loop.kinds.continuation.model import ContinuationChoice
from humble_loop.kinds.island import Island
from humble_loop.kinds.junction.corners import kerb_return
from humble_loop.kinds.junction.model import JunctionChoice, NoseWidening
from humble_loop.kinds.street import Street
from humble_loop.kinds.street.order import built_before
from humble_loop.lines.line import ThingId
from tests import edits
from tests.conftest import t_site
from tests.kinds.test_continuations import two
from tests.kinds.test_nose import y_site as sharp
from tests.kinds.test_order import y_site
from tests.kinds.test_raised import GROUND

NODE = ThingId("junction", "side:start")


def pick(d, words, among):
    """Choose an entry in the list of Facts that has one more as well, as the hand does."""
    box = next(b for b in d.window.facts.findChildren(QComboBox) if b.findText(words) >= 0 and b.findText(among) >= 0)
    k = box.findText(words)
    box.setCurrentIndex(k)
    box.activated.emit(k)
    d.settle()


def test_a_raised_table_is_chosen_in_facts_and_taken_back(drive):
    d = drive(edits.add_ground(t_site(), GROUND))
    d.session.choose(NODE)
    d.settle()
    pick(d, "a raised table (+0.10 m)", "Through")
    assert d.site.find(JunctionChoice, "side:start").table.by == 0.1
    pick(d, "Through", "a raised table")
    assert d.site.find(JunctionChoice, "side:start").table is None


def test_an_island_is_put_before_a_junction_dragged_and_typed(drive):
    d = drive(edits.add_ground(t_site(), GROUND))
    d.session.choose(NODE)
    d.settle()
    d.window.run(d.window._command("Island before it").do)
    d.settle()
    (island,) = d.site.all(Island)
    assert d.session.thing == ThingId("island", island.id)  # what was made is in hand
    assert (island.begin, island.finish) == pytest.approx((5.5, 14.5))
    d.window.plan.look_at(100.0, 10.0, 30.0)
    d.settle()
    d.drag(d.window.plan, (100.0, 14.5), (100.2, 18.04))
    d.settle()
    assert d.site.all(Island)[0].finish == pytest.approx(18.0, abs=0.11)
    # Clicked, it is chosen before the street that it stands on.
    d.session.choose(None)
    d.click(d.window.plan, (100.3, 9.0))
    assert d.session.thing == ThingId("island", island.id)


def test_a_splay_is_chosen_for_one_corner(drive):
    d = drive(edits.add_ground(t_site(), GROUND))
    d.session.choose(NODE)
    d.settle()
    pick(d, "splay", "round")
    choice = d.site.find(JunctionChoice, "side:start")
    assert choice.left.splay > 1.0
    assert choice.right.splay is None


def test_what_is_built_first_is_shown_as_ground(drive):
    d = drive(y_site())
    d.session.choose(ThingId("street", "side"))
    d.window.long_section.point_station(40.0)
    d.settle()
    assert "as Through leaves it" in d.window.cross_section.band.words
    view = d.window.long_section
    d.qtbot.waitUntil(lambda: np.isfinite(view.earlier[1]).any(), timeout=20000)
    s, z = view.earlier
    assert s[np.isfinite(z)].min() < 5.0
    pick(d, "neither", "Through")
    assert built_before(d.session.engine, "side") == ()
    d.qtbot.waitUntil(lambda: not len(view.earlier[1]), timeout=20000)


def test_two_streets_end_to_end_are_told_levelled_and_joined(drive):
    d = drive(two())
    d.session.choose(ThingId("continuation", "one:end+two:start"))
    d.settle()
    pick(d, "Two (-1.00 m there)", "One")
    (choice,) = d.site.all(ContinuationChoice)
    assert choice.holds == "two"
    button = next(b for b in d.window.facts.findChildren(QPushButton) if b.text() == "Join them as One")
    button.click()
    d.settle()
    assert [s.id for s in d.site.all(Street)] == ["one"]


def test_both_streets_are_widened_to_a_nose_in_facts(drive):
    d = drive(edits.add_ground(sharp(), GROUND))
    d.session.choose(NODE)
    d.settle()
    before = kerb_return(d.session.engine, "side", "start", "right").curve.centre
    pick(d, "widened to its nose", "as the streets are")
    assert d.site.find(JunctionChoice, "side:start").right.nose == NoseWidening()
    moved = kerb_return(d.session.engine, "side", "start", "right").curve.centre - before
    # A metre from both streets, which part at 45 degrees: 1 / cos 67.5 between them.
    assert np.hypot(*moved) == pytest.approx(1.0 / np.cos(np.radians(67.5)), abs=1e-6)
    pick(d, "as the streets are", "widened to its nose")
    assert d.site.find(JunctionChoice, "side:start").right.nose is None
