"""Raised tables: the carriageway of a junction lifted between ramps, its kerbs left where they are."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.corners import ReturnLine, kerb_return
from humble_loop.kinds.junction.layout import throat
from humble_loop.kinds.junction.model import RaisedTable, set_crossing, set_junction
from humble_loop.kinds.junction.raised import table_edges
from humble_loop.kinds.street import StreetLine, Vip
from humble_loop.kinds.street.levels import grade_line
from humble_loop.lines.describe import Choice, Fact
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.whole.findings import findings
from humble_loop.whole.surface import probe
from tests import edits
from tests.asking import crown_levels
from tests.conftest import examples, plane_ground, t_site
from tests.kinds.test_crossings import cross
from tests.whole.test_surface import assert_watertight

NODE = ThingId("junction", "side:start")
GROUND = Ground(name="g", surface=plane_ground(0.0, 0.0, 21.0))


def tabled(*, through_fall=0.02, **sizes):
    return set_junction(
        edits.add_ground(t_site(through_fall=through_fall), GROUND), "side", "start", table=RaisedTable(**sizes)
    )


def told(q, rule):
    return [f for f in findings(q) if f.rule == rule]


def levels(q, id, s):
    return line(q, id).rule.levels(s)


def test_the_carriageway_is_raised_between_ramps_by_hand():
    """The reference: returns of 8 m leave the through lip 11 m either side of x = 100 and meet the side lip 11.5 m out. 20 + 0.02 x."""
    site = tabled()
    q, plain = Engine(site), Engine(edits.add_ground(t_site(), GROUND))
    # Flat 0.5 m past the returns, from 88.5 to 111.5, then down over 1.6 m.
    s = np.array([50.0, 86.9, 87.7, 88.5, 100.0, 111.5, 112.3, 113.1, 150.0])
    up = np.array([0.0, 0.0, 0.05, 0.1, 0.1, 0.1, 0.05, 0.0, 0.0])
    assert crown_levels(q, "through", s) == pytest.approx(20.0 + 0.02 * s + up, abs=1e-12)
    assert levels(q, StreetLine("through", "lip", "right"), s) == pytest.approx(20.0 + 0.02 * s - 0.105 + up, abs=1e-12)
    # The side street leaves the raised lip, and comes down beyond its returns to where it would be.
    assert throat(q, "side", "start").level == pytest.approx(22.0 - 0.105 + 0.1)
    u = np.array([3.5, 11.5, 12.0, 12.8, 13.6, 40.0])
    rise = np.array([0.1, 0.1, 0.1, 0.05, 0.0, 0.0])
    assert crown_levels(q, "side", u) == pytest.approx(crown_levels(plain, "side", u) + rise, abs=1e-12)
    assert grade_line(q, "side").profile.levels == pytest.approx(grade_line(plain, "side").profile.levels)
    # Kerbs, paths and boundaries stay.
    for id in (StreetLine("through", "boundary", "right"), StreetLine("through", "back of kerb", "right")):
        assert levels(q, id, s) == pytest.approx(levels(plain, id, s), abs=1e-12)
    for point, by in (("lip", 0.1), ("back of kerb", 0.0), ("boundary", 0.0)):
        id = ReturnLine("side", "start", "left", point)
        total = line(q, id).plan.end
        at = np.linspace(0.0, total, 9)
        assert levels(q, id, at) == pytest.approx(levels(plain, id, at) + by, abs=1e-9)
    assert probe(q, 100.0, -2.0).finished == pytest.approx(22.0 - 0.06 + 0.1)
    assert not told(q, "cannot be worked out")
    assert_watertight(q)


@pytest.mark.parametrize("through", ["through", "across"])
def test_a_crossing_is_one_table_whichever_crown_holds(through):
    site = edits.add_ground(cross(), GROUND)
    plain = Engine(set_crossing(site, "across", "through", 0, through=through))
    q = Engine(
        set_crossing(site, "across", "through", 0, through=through, table=RaisedTable(by=0.08, ramp=2.0, beyond=1.0))
    )
    for street in ("through", "across"):
        s = np.linspace(60.0, 140.0, 161)
        s = s[s < line(q, StreetLine(street)).plan.end]
        up = crown_levels(q, street, s) - crown_levels(plain, street, s)
        assert up.max() == pytest.approx(0.08)
        assert up.min() == pytest.approx(0.0, abs=1e-12)
        top = s[np.abs(up - 0.08) < 1e-9]
        assert np.all(np.abs(up[(s >= top.min()) & (s <= top.max())] - 0.08) < 1e-9)
    assert_watertight(q)


def test_its_edges_are_drawn_from_lip_to_lip():
    edges = table_edges(Engine(tabled()), "side:start")
    assert sorted(e[:, 0].mean().round(6) for e in edges) == pytest.approx([86.9, 88.5, 100.0, 100.0, 111.5, 113.1])
    on_through = [e for e in edges if e[:, 0].mean() < 99.0]
    assert all(sorted(e[:, 1]) == pytest.approx([-3.5, 3.5]) for e in on_through)


def test_it_is_one_click_and_stays_in_the_file(tmp_path):
    site = edits.add_ground(t_site(), GROUND)
    choice = next(
        r for r in kind_of("junction").facts(Engine(site), NODE) if isinstance(r, Choice) and r.label == "crown of"
    )
    assert dict(choice.options)["table"] == "a raised table (+0.10 m)"
    made = choice.edit("table")(site)
    save_site(made, tmp_path / "t.hloop")
    q = Engine(load_site(tmp_path / "t.hloop"))
    rows = kind_of("junction").facts(q, NODE)
    again = next(r for r in rows if isinstance(r, Choice) and r.label == "crown of")
    assert again.current == "table"
    sizes = {r.label: r for r in rows if isinstance(r, Fact)}
    assert sizes["raised by"].value == pytest.approx(0.1)
    lower = Engine(sizes["raised by"].edit(0.075)(made))
    assert crown_levels(lower, "through", [100.0]) == pytest.approx([22.075])
    assert crown_levels(Engine(again.edit("through")(made)), "through", [100.0]) == pytest.approx([22.0])
    assert crown_levels(Engine(again.edit("both")(made)), "through", [100.0]) == pytest.approx([22.0])


def test_what_does_not_fit_is_told():
    assert told(Engine(tabled(by=0.3)), "table above the kerb")
    assert not told(Engine(tabled()), "table above the kerb")
    # The side street is cut to 40 m: flat to 11.5 + 20, its ramp would end at 51.5.
    long = set_junction(edits.add_ground(t_site(), GROUND), "side", "start", table=RaisedTable(beyond=20.0, ramp=20.0))
    long = edits.move_bend(long, "side", 1, 100.0, 40.0)
    assert any("reaches 11.50 m past" in f.message for f in told(Engine(long), "table without room"))


@pytest.mark.parametrize("plane", [False, True])
def test_where_a_return_does_not_fit_all_is_as_without_a_table_and_that_is_told(plane):
    site = edits.set_corner(edits.add_ground(t_site(), GROUND), "side", "start", "left", radius=90.0)
    plain, q = Engine(site), Engine(set_junction(site, "side", "start", table=RaisedTable(plane=plane)))
    (found,) = told(q, "table without room")
    assert "nothing is raised" in found.message
    for street in ("through", "side"):
        assert crown_levels(q, street, [5.0, 30.0, 55.0]) == pytest.approx(
            crown_levels(plain, street, [5.0, 30.0, 55.0])
        )
    id = ReturnLine("side", "start", "right", "back of kerb")
    assert levels(q, id, [1.0, 6.0]) == pytest.approx(levels(plain, id, [1.0, 6.0]))
    choice = next(r for r in kind_of("junction").facts(q, NODE) if isinstance(r, Choice) and r.label == "crown of")
    assert choice.current == ("plane" if plane else "table")


def test_water_that_falls_towards_a_ramp_is_told():
    """The through street rises at 2 %: from beyond the table water runs towards it, and meets a ramp that rises at 1 in 16 less that."""
    found = told(Engine(tabled()), "water stands before the table")
    assert [f.chainage for f in found if "Through" in f.message] == [pytest.approx(113.1)]
    assert not [
        f for f in told(Engine(tabled(by=0.02, ramp=2.0)), "water stands before the table") if "Through" in f.message
    ]
    flat = Engine(tabled(through_fall=0.0))
    assert not [f for f in told(flat, "water stands before the table") if "Through" in f.message]


def test_an_existing_through_street_is_not_raised():
    site = edits.set_street(tabled(), "through", kind="existing")
    plain = set_junction(site, "side", "start", table=None)
    assert crown_levels(Engine(site), "side", [40.0]) == pytest.approx(crown_levels(Engine(plain), "side", [40.0]))


@given(st.floats(0.02, 0.15), st.floats(0.5, 4.0), st.floats(0.0, 3.0), st.floats(-0.05, 0.05), st.floats(-0.05, 0.05))
@examples(6)
def test_returns_meet_both_raised_lips_and_all_is_watertight(by, ramp, beyond, through_fall, grade):
    site = tabled(by=by, ramp=ramp, beyond=beyond, through_fall=through_fall)
    site = edits.set_vips(site, "side", [Vip(chainage=60, grade=grade)])
    q = Engine(site)
    for corner, side in (("left", "left"), ("right", "right")):
        made = kerb_return(q, "side", "start", corner)
        lip = line(q, ReturnLine("side", "start", corner))
        through, own = line(q, StreetLine("through", "lip", "left")), line(q, StreetLine("side", "lip", side))
        ends = lip.rule.levels([0.0, lip.plan.end])
        assert ends[0] == pytest.approx(through.rule.levels([made.through_at])[0], abs=1e-9)
        assert ends[1] == pytest.approx(own.rule.levels([made.side_chainage])[0], abs=1e-9)
    assert_watertight(q)
