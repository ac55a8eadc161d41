"""Three-centred bends: their tangents, elements, typing into them, reversing, and what does not fit."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.geometry.bends import BendInput, lay_bends, tangents_of
from humble_loop.kinds.street import Bend, Street
from humble_loop.kinds.street.bends import bend_rows, handles
from humble_loop.kinds.street.checks import bend_findings
from humble_loop.kinds.street.edits import fit_bend, reverse_street, set_centres
from humble_loop.kinds.street.elements import element_sheet, elements
from humble_loop.kinds.street.plan import chain_of
from humble_loop.lines.describe import Choice, Fact
from humble_loop.site.edits import EditError
from humble_loop.site.libraries import new_site
from tests import edits
from tests.conftest import examples

E0, N0 = 312_408.0, 6_251_977.0


def corner(**bend):
    """A street that turns left by a right angle at 100 m."""
    points = [(0.0, 0.0, {}), (100.0, 0.0, bend), (100.0, 100.0, {})]
    made = [Bend(easting=E0 + x, northing=N0 + y, **more) for x, y, more in points]
    return edits.add_street(new_site(), "Turn", made)


SITE = corner(radius=20.0, radius_in=60.0, turn_in=15.0, radius_out=60.0, turn_out=15.0)


def arcs(site):
    return [e for e in elements(Engine(site), "turn") if e.kind == "arc"]


def test_the_tangent_of_a_symmetrical_one_is_the_textbook_s():
    # T = (R2 + p) tan(D/2) + (R1 - R2) sin a, with p = (R1 - R2)(1 - cos a).
    a = np.radians(15.0)
    p = 40.0 * (1.0 - np.cos(a))
    wanted = (20.0 + p) * np.tan(np.pi / 4) + 40.0 * np.sin(a)
    bend = BendInput(0.0, 0.0, 20.0, 0.0, 0.0, 60.0, a, 60.0, a)
    assert tangents_of(bend, np.pi / 2) == pytest.approx((wanted, wanted), abs=1e-9)
    chain = chain_of(Engine(SITE), "turn")
    assert chain.length[0] == pytest.approx(100.0 - wanted, abs=1e-6)


def test_its_arcs_have_their_radii_and_turns_and_run_into_one_another():
    found = arcs(SITE)
    assert [e.radii[0] for e in found] == pytest.approx([60.0, 20.0, 60.0])
    assert [e.deflection for e in found] == pytest.approx([15.0, 60.0, 15.0])
    assert [e.kind for e in elements(Engine(SITE), "turn")] == ["straight", "arc", "arc", "arc", "straight"]


def test_what_is_typed_goes_to_the_arc_that_it_was_typed_at():
    sheet = element_sheet(Engine(SITE), "turn")
    radius, length = sheet.columns.index("radius"), sheet.columns.index("length")
    for row, key, k in ((1, "radius_in", 0), (2, "radius", 1), (3, "radius_out", 2)):
        fresh = sheet.rows[row].cells[radius].edit(40.0)(SITE)
        assert getattr(fresh.find(Street, "turn").bends[1], key) == 40.0
        assert arcs(fresh)[k].radii[0] == pytest.approx(40.0)
    fresh = sheet.rows[3].cells[length].edit(20.0)(SITE)
    assert arcs(fresh)[2].length == pytest.approx(20.0)
    assert arcs(fresh)[0].length == pytest.approx(60.0 * np.radians(15.0))
    assert sheet.rows[2].cells[length].edit is None


def test_a_simple_bend_becomes_three_centred_and_simple_again():
    site = corner(radius=20.0)
    choice = next(r for r in bend_rows(Engine(site), "turn") if isinstance(r, Choice))
    assert choice.current == "simple"
    fresh = choice.edit("three")(site)
    bend = fresh.find(Street, "turn").bends[1]
    assert (bend.radius_in, bend.turn_in) == (50.0, pytest.approx(22.5))
    assert len(arcs(fresh)) == 3
    labels = {r.label for r in bend_rows(Engine(fresh), "turn") if isinstance(r, Fact)}
    assert {"first radius", "first arc turns", "last radius", "last arc turns"} <= labels
    again = next(r for r in bend_rows(Engine(fresh), "turn") if isinstance(r, Choice)).edit("simple")(fresh)
    assert again.find(Street, "turn").bends == site.find(Street, "turn").bends


def test_one_sided_and_with_transitions():
    site = corner(radius=25.0, radius_in=70.0, turn_in=20.0, transition_out=12.0)
    found = elements(Engine(site), "turn")
    assert [e.kind for e in found] == ["straight", "arc", "arc", "transition", "straight"]
    assert sum(e.deflection for e in found) == pytest.approx(90.0)
    assert found[3].deflection == pytest.approx(np.degrees(12.0 / 50.0))
    rows = {r.label: r.value for r in bend_rows(Engine(site), "turn") if isinstance(r, Fact)}
    assert rows["tangent in"] != pytest.approx(rows["tangent out"], abs=1.0)
    assert found[0].length == pytest.approx(100.0 - rows["tangent in"], abs=1e-6)


def test_outer_arcs_that_turn_too_much_are_told_and_shrunk():
    site = corner(radius=20.0, radius_in=60.0, turn_in=70.0, radius_out=60.0, turn_out=40.0)
    (finding,) = bend_findings(Engine(site), "turn")[1]
    assert "turns 110.00°" in finding.message
    assert sum(e.deflection for e in arcs(site)) == pytest.approx(90.0)
    assert [e.deflection for e in arcs(site)] == pytest.approx([70.0 * 90 / 110, 40.0 * 90 / 110])


def test_one_that_needs_more_than_its_legs_keeps_its_shape():
    site = corner(radius=80.0, radius_in=200.0, turn_in=20.0, radius_out=200.0, turn_out=20.0)
    (finding,) = bend_findings(Engine(site), "turn")[1]
    assert "largest radius that fits" in finding.remedy
    radii = [e.radii[0] for e in arcs(site)]
    assert radii[0] / radii[1] == pytest.approx(2.5)
    assert finding.limit == pytest.approx(radii[1])


def test_reversing_swaps_its_arcs():
    site = corner(radius=25.0, radius_in=70.0, turn_in=20.0, transition_out=12.0)
    total = chain_of(Engine(site), "turn").total
    fresh = reverse_street(site, "turn", total)
    b = fresh.find(Street, "turn").bends[1]
    assert (b.radius_out, b.turn_out, b.transition_in) == (70.0, 20.0, 12.0)
    assert (b.radius_in, b.turn_in, b.transition_out) == (0.0, 0.0, 0.0)
    there, back = chain_of(Engine(site), "turn"), chain_of(Engine(fresh), "turn")
    assert back.points_at([total - 70.0])[0] == pytest.approx(there.points_at([70.0])[0], abs=1e-6)


def test_what_sets_one_radius_is_refused_for_three():
    with pytest.raises(EditError, match="set one by one"):
        fit_bend(SITE, "turn", 1, arc=30.0)
    assert "curve" not in [h.key[0] for h in handles(Engine(SITE), "turn")]
    assert set_centres(SITE, "turn", 1, False, 90.0).find(Street, "turn").bends[1].radius == 20.0


def test_it_is_saved_and_opened(tmp_path):
    save_site(SITE, tmp_path / "turn.hloop")
    assert load_site(tmp_path / "turn.hloop").find(Street, "turn") == SITE.find(Street, "turn")


@given(
    st.floats(15, 165),
    st.booleans(),
    st.floats(8, 60),
    st.floats(0.2, 4),
    st.floats(0.2, 4),
    st.floats(0.02, 0.45),
    st.floats(0.02, 0.45),
)
@examples(80)
def test_any_of_them_is_tangential_at_both_legs(turn, left, radius, first, last, share_in, share_out):
    """Laid on its tangents it ends on the other leg, in its direction, whatever its radii and turns."""
    side = 1.0 if left else -1.0
    d = np.radians(turn)
    bend = BendInput(0.0, 0.0, radius, 0.0, 0.0, first * radius, share_in * d, last * radius, share_out * d)
    t_in, t_out = tangents_of(bend, side * d)
    room = 2.0 * max(abs(t_in), abs(t_out), 1.0)
    out = np.array([np.cos(side * d), np.sin(side * d)])
    laid = lay_bends([BendInput(-room, 0.0), bend, BendInput(*(room * out))])
    assert not laid.problems
    ends = laid.chain.heading + 0.5 * (laid.chain.k0 + laid.chain.k1) * laid.chain.length
    assert np.abs(np.mod(laid.chain.heading[1:] - ends[:-1] + np.pi, 2 * np.pi) - np.pi).max() < 1e-9
    gaps = laid.chain.points_at(laid.chain.starts[1:-1] - 1e-9) - laid.chain.xy[1:]
    assert np.abs(gaps).max() < 1e-6


@pytest.mark.parametrize("radius", [1e-12, 1e-9, 1e-7, 1e-5])
def test_one_that_a_drag_made_next_to_nothing_still_has_tangents_and_facts(radius):
    bend = BendInput(0.0, 0.0, radius, radius_in=2 * radius, turn_in=0.3)
    assert tangents_of(bend, 1.0) == pytest.approx((0.0, 0.0), abs=10 * radius)
    site = edits.add_street(
        new_site(),
        "Line",
        [
            Bend(easting=0, northing=0),
            Bend(easting=50, northing=0, radius=radius, radius_in=2 * radius, turn_in=20.0),
            Bend(easting=80, northing=40),
        ],
    )
    assert any(getattr(row, "label", "") == "deflection" for row in bend_rows(Engine(site), "line"))
    assert chain_of(Engine(site), "line").total == pytest.approx(100.0, abs=1e-4)
