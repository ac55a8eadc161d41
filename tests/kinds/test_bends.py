"""A street's bends: facts that follow from the radius and set it, and the curve that is drawn through a point."""

import numpy as np
import pytest

from humble_loop.engine.query import Engine
from humble_loop.kinds.street import Bend, Street
from humble_loop.kinds.street.bends import bend_rows, handles
from humble_loop.kinds.street.edits import fit_bend, set_bend
from humble_loop.kinds.street.plan import centreline
from humble_loop.lines.describe import Fact
from humble_loop.site.edits import EditError
from humble_loop.site.libraries import new_site
from tests import edits

E0, N0 = 312_408.0, 6_251_977.0


@pytest.fixture
def site():
    """One street that turns left by a right angle at 100 m, with a radius of 40 m."""
    around = [(0.0, 0.0, 0.0), (100.0, 0.0, 40.0), (100.0, 100.0, 0.0)]
    return edits.add_street(new_site(), "Turn", [Bend(easting=E0 + x, northing=N0 + y, radius=r) for x, y, r in around])


def here(site, x, y):
    """A place of the corner's own as views know it: from the site's origin."""
    return (E0 + x - site.origin[0], N0 + y - site.origin[1])


def facts(site):
    return {row.label: row for row in bend_rows(Engine(site), "turn") if isinstance(row, Fact)}


def test_tangent_arc_and_deflection_are_told(site):
    rows = facts(site)
    assert rows["deflection"].value == pytest.approx(90.0)
    assert rows["tangent"].value == pytest.approx(40.0, abs=1e-9)
    assert rows["arc"].value == pytest.approx(20.0 * np.pi, abs=1e-9)


def test_each_of_them_sets_the_radius(site):
    rows = facts(site)
    for label, value, radius in (("tangent", 25.0, 25.0), ("arc", 10.0 * np.pi, 20.0), ("bend 2 radius", 33.0, 33.0)):
        fresh = rows[label].edit(value)(site)
        assert fresh.find(Street, "turn").bends[1].radius == pytest.approx(radius, abs=1e-9)


def test_unequal_transitions_have_two_tangents_and_either_can_be_set(site):
    site = set_bend(site, "turn", 1, transition_in=10.0, transition_out=20.0)
    rows = facts(site)
    assert "tangent" not in rows
    assert rows["tangent in"].value != pytest.approx(rows["tangent out"].value, abs=0.5)
    fresh = rows["tangent out"].edit(60.0)(site)
    chain = centreline(Engine(fresh), "turn").chain
    assert chain.length[-1] == pytest.approx(40.0, abs=1e-6)  # 100 m of leg less the tangent


def test_a_dragged_curve_passes_the_hand(site):
    q = Engine(site)
    handle = next(h for h in handles(q, "turn") if h.key[0] == "curve")
    # 40 m from both legs lies the centre: the curve passes 40 (√2 - 1) from the corner.
    away = 40.0 * (1.0 - 1.0 / np.sqrt(2.0))
    assert handle.place == pytest.approx(here(site, 100.0 - away, away), abs=1e-6)
    hand = here(site, 80.0, 15.0)
    edit, (told,) = handle.moved(hand)
    fresh = edit(site)
    assert abs(centreline(Engine(fresh), "turn").chain.feet([hand]).offsets[0]) < 1e-6
    assert told.label == "radius"
    assert told.value == pytest.approx(fresh.find(Street, "turn").bends[1].radius, abs=1e-6)


def test_what_no_curve_does_is_refused_in_one_sentence(site):
    edit, told = next(h for h in handles(Engine(site), "turn") if h.key[0] == "curve").moved(here(site, 120.0, 50.0))
    assert told == ()
    with pytest.raises(EditError, match="'Turn' bend 2: that place lies outside of its angle"):
        edit(site)
    with pytest.raises(EditError, match="no bend 1 with a radius"):
        fit_bend(site, "turn", 0, arc=10.0)
    with pytest.raises(EditError, match="an arc needs a length"):
        fit_bend(site, "turn", 1, arc=0.0)


def test_a_bend_without_a_radius_has_no_curve_to_drag(site):
    site = set_bend(site, "turn", 1, radius=0.0)
    assert [h.key[0] for h in handles(Engine(site), "turn")] == ["bend"] * 3
    assert "tangent" not in facts(site)
