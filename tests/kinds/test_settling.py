"""Settling levels: against a second formulation, worked cases, and what is told where nothing fits."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.optimize import minimize

from humble_loop.demo import demo_site
from humble_loop.engine.in_pieces import InPieces
from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.fall_window.levels import all_windows, room_on
from humble_loop.kinds.fall_window.model import FallWindow, add_window
from humble_loop.kinds.fall_window.settling import lines_together, settle_sheet, settling, taken
from humble_loop.kinds.kerb_line.levels import KerbLevels
from humble_loop.kinds.kerb_line.model import KerbLine, KerbVip, add_kerb_line, set_kerb_line, set_kerb_vip
from humble_loop.kinds.kerb_line.proposals import proposal_sheet
from humble_loop.kinds.street import StreetLine
from humble_loop.kinds.street.edits import set_vip
from humble_loop.kinds.street.model import Street
from humble_loop.kinds.tie.model import Source, add_tie
from humble_loop.lines.line import line
from humble_loop.lines.linear import levels_by
from humble_loop.propose.settle import Rule, Wanted, settled
from humble_loop.site.edits import EditError
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from tests.conftest import examples
from tests.kinds.test_fall_windows import kerb
from tests.kinds.test_sections import straight
from tests.kinds.test_ties import DROP, crown, on_ground, surveyed

ENGINE = Engine(new_site())


def solve(present, free, rules, wanted):
    return InPieces(settled(present, free, rules, wanted)).result(ENGINE)


@examples(25)
@given(st.integers(0, 10_000))
def test_the_optimum_is_that_of_a_second_formulation(seed):
    """Levels of three VIPs near six wishes between bounds: the same by a penalty-free search over a fine grid of active edges."""
    rng = np.random.default_rng(seed)
    by, to = rng.uniform(-1, 1, (6, 3)), 300.0 + rng.uniform(-1, 1, 6)
    present = np.full(3, 300.0) + rng.uniform(-0.1, 0.1, 3)
    to = to - 300.0 + by @ present
    low, high = present - rng.uniform(0.1, 0.5, 3), present + rng.uniform(0.1, 0.5, 3)
    weights = rng.uniform(0.5, 2.0, 6)
    made = solve(present, np.ones(3, bool), [Rule("box", np.eye(3), low, high)], Wanted(by, to, weights))
    assert made.conflict == ()

    def off(x):
        return float(np.sum(weights * np.abs(by @ x - to)))

    assert made.off == pytest.approx(off(made.levels))
    assert np.all(made.levels >= low - 1e-6)
    assert np.all(made.levels <= high + 1e-6)
    # No other place in the box is better: from many starts, by a method that knows nothing of linear programmes.
    best = min(
        minimize(off, start, method="Powell", bounds=list(zip(low, high)), options={"xtol": 1e-9, "ftol": 1e-12}).fun
        for start in (np.clip(made.levels, low, high), present, *rng.uniform(low, high, (6, 3)))
    )
    assert made.off <= best * 1.001 + 1e-9


def test_what_is_locked_stays_and_rules_in_conflict_are_told_and_no_others():
    one = np.eye(2)
    rules = [
        Rule("first at least 5", one[:1], np.array([5.0]), np.array([np.inf])),
        Rule("second anywhere", one[1:], np.array([-10.0]), np.array([10.0])),
        Rule("first at most 4", one[:1], np.array([-np.inf]), np.array([4.0])),
        Rule("first at most 9", one[:1], np.array([-np.inf]), np.array([9.0])),
    ]
    wanted = Wanted(one, np.zeros(2), np.ones(2))
    made = solve(np.array([4.0, 1.0]), np.ones(2, bool), rules, wanted)
    assert made.conflict == ("first at least 5", "first at most 4")
    held = solve(np.array([4.0, 1.0]), np.array([False, True]), rules[2:], wanted)
    assert held.levels == pytest.approx([4.0, 0.0])
    assert held.off == pytest.approx(4.0)


def test_factors_followed_through_ties_are_what_moving_a_vip_does():
    """The boundary follows the right lip, which has levels of its own, with 0.2 above it."""
    vips = [KerbVip(chainage=s, level=crown(s)) for s in (0.0, 80.0, 200.0)]
    site = add_kerb_line(straight(), "line", "right", vips)
    lip = Source(what="point", of="line", point="lip", side="right")
    site = add_tie(site, "line", "left", "boundary", lip, 0.0, 200.0, rise_in=0.2, rise_out=0.2)
    id, s = site.all(KerbLine)[0].id, np.array([10.0, 60.0, 120.0])
    keys = tuple(("kerb vip", id, i) for i in range(3)) + (("vip", "line", 0),)
    for name in ("boundary", "path front"):
        made = levels_by(Engine(site), StreetLine("line", name, "left"), s, keys)
        before = line(Engine(site), StreetLine("line", name, "left")).rule.levels(s)
        assert made.value(np.array([*(v.level for v in vips), 60.0])) == pytest.approx(before)
        for k in range(3):
            moved = set_kerb_vip(site, id, k, level=vips[k].level + 0.01)
            after = line(Engine(moved), StreetLine("line", name, "left")).rule.levels(s)
            assert after - before == pytest.approx(0.01 * made.factors[:, k])
        up = set_vip(site, "line", 0, level=60.01)
        after = line(Engine(up), StreetLine("line", name, "left")).rule.levels(s)
        assert after - before == pytest.approx(0.01 * made.factors[:, 3])


# On a street


def lip(site):
    return KerbLevels(site.all(KerbLine)[0].id, "line")


def test_a_kerb_line_is_moved_into_its_windows_by_the_least():
    """It lies 0.2 under the crown, which asks for 0.085 to 0.153: least change is 0.047 up, at both VIPs."""
    site = kerb(straight(), by=DROP - 0.2)
    q = Engine(site)
    made = settling(q, (lip(site),), "present", "")
    assert made.made.levels - made.before == pytest.approx([0.047, 0.047], abs=1e-5)
    assert made.made.off / made.length == pytest.approx(0.047, abs=1e-5)
    after = taken(q, made)(site)
    assert not [f for f in findings(Engine(after)) if f.rule == "crossfall to a kerb line"]
    for s in (0.0, 77.0, 200.0):
        (w,) = all_windows(Engine(after), lip(after))
        assert w.at(s)[0] - 1e-4 <= crown(s) - 0.153 + 1e-6
        level = float(line(Engine(after), StreetLine("line", "lip", "left")).rule.levels([s])[0])
        assert level == pytest.approx(crown(s) - 0.153, abs=1e-4)


def test_near_an_old_kerb_it_lies_on_it_where_the_windows_leave_it():
    """The old kerb lies 0.12 below the crown until 100 and falls to 0.22 below it at 200: the crown leaves 0.153."""
    points = [(-10.0, 3.4, crown(-10.0) - 0.12), (100.0, 3.4, 60.88), (210.0, 3.4, crown(210.0) - 0.23)]
    site = surveyed(points, kerb(straight()))
    site = set_kerb_line(
        site, lip(site).id, vips=tuple(KerbVip(chainage=s, level=crown(s) - 0.1) for s in (0, 50, 100, 133, 200))
    )
    made = settling(Engine(site), (lip(site),), "line", "old-kerb")
    under = np.array([crown(s) for s in (0, 50, 100, 133, 200)]) - made.made.levels
    assert under[:3] == pytest.approx(0.12, abs=1e-4)
    assert under[3:] == pytest.approx([0.153, 0.153], abs=1e-4)


def test_crown_and_kerb_lines_move_together():
    """The boundary is 0.6 above the crown and asks its lip, 0.45 + 4.2 m away, for 1 to 6 %: the lip is to rise by far more than
    the crown leaves it; together both rise.
    """
    site = kerb(straight())
    high = [KerbVip(chainage=s, level=crown(s) + 0.6, locked=True) for s in (0.0, 200.0)]
    site = add_kerb_line(site, "line", "left", high, "boundary")
    boundary = Source(what="point", of="line", point="boundary", side="left")
    site = add_window(site, "line", "left", "lip", boundary, 0.0, 200.0, least=0.01, most=0.06)
    q = Engine(site)
    alone = settling(q, (lip(site),), "present", "")
    # Either of what the boundary asks of it cannot be, with what the crown does: its window, or the verge between.
    assert any("from its left boundary" in w or "verge" in w for w in alone.made.conflict)
    assert any("crossfall" in w for w in alone.made.conflict)
    assert len(alone.made.conflict) == 2
    lines = lines_together(q, "line")
    assert len(lines) == 3
    both = settling(q, lines, "present", "")
    assert both.made.conflict == ()
    after = taken(q, both)(site)
    told = [f.rule for f in findings(Engine(after))]
    assert "outside its fall window" not in told
    assert "crossfall to a kerb line" not in told
    # The locked boundary stayed.
    assert [v.level for v in after.all(KerbLine)[1].vips] == [v.level for v in high]
    # The lip has to be at least boundary - 0.06 × 4.65, and the crown at least 0.085 above it.
    lowest = crown(100.0) + 0.6 - 0.06 * 4.65
    assert float(line(Engine(after), StreetLine("line")).rule.levels([100.0])[0]) >= lowest + 0.085 - 1e-3


def test_a_locked_vip_stays_in_every_proposal_and_cannot_be_typed_over():
    site = kerb(straight(), by=-0.3)
    id = lip(site).id
    site = set_kerb_vip(site, id, 0, locked=True)
    with pytest.raises(EditError, match=r"at 0\.00 is locked: unlock it first"):
        set_kerb_vip(site, id, 0, level=61.0)
    q = Engine(site)
    made = settling(q, (lip(site),), "present", "")
    assert any("crossfall" in w for w in made.made.conflict)
    rows = settle_sheet(q, lip(site)).rows
    assert "cannot be: no levels keep all of" in rows[0].cells[-1].value
    assert rows[0].actions == ()
    for row in proposal_sheet(q, id).rows:
        after = row.actions[0][1](site)
        first = after.all(KerbLine)[0].vips[0]
        assert (first.level, first.locked) == (site.all(KerbLine)[0].vips[0].level, True)
    assert set_kerb_vip(site, id, 0, locked=False).all(KerbLine)[0].vips[0].locked is False


def test_a_proposed_crown_is_set_when_what_settles_it_is_taken():
    site = on_ground(0.01, 0.0, 60.0)
    site = site.put(site.all(Street)[0].model_copy(update={"vips": ()}))
    site = add_window(site, "line", None, "crown", Source(), 0.0, 200.0, measure="height", least=0.3)
    q = Engine(site)
    made = settling(q, (StreetLine("line"),), "present", "")
    assert made.made.conflict == ()
    after = taken(q, made)(site)
    assert after.all(Street)[0].vips
    assert float(line(Engine(after), StreetLine("line")).rule.levels([100.0])[0]) >= 61.3 - 1e-3
    assert not [f for f in findings(Engine(after)) if f.rule == "outside its fall window"]
    rows = settle_sheet(q, StreetLine("line")).rows
    assert [r.cells[0].value for r in rows] == ["least change", "nearest the ground"]
    assert rows[0].ghost is not None


def test_where_nothing_is_near_the_proposal_is_left_out():
    site = kerb(straight())
    with pytest.raises(Unsolved, match="nothing there to be near"):
        settling(Engine(site), (lip(site),), "ground", "")
    assert [r.cells[0].value for r in settle_sheet(Engine(site), lip(site)).rows] == ["least change"] * 2
    assert site.all(FallWindow) == ()


def test_a_crown_that_is_moved_alone_leaves_the_kerb_its_window():
    """The crown is asked to lie 0.2 over ground that lies under it; the kerb, 0.1 below the crown and locked, is left at most 0.153."""
    site = kerb(on_ground(0.01, 0.0, 60.0), by=DROP - 0.1)
    for index in (0, 1):
        site = set_kerb_vip(site, lip(site).id, index, locked=True)
    high = add_window(site, "line", None, "crown", Source(), 0.0, 200.0, measure="height", least=0.2)
    made = settling(Engine(high), (StreetLine("line"),), "present", "")
    assert len(made.made.conflict) == 2
    assert any("crossfall" in w for w in made.made.conflict)
    low = add_window(site, "line", None, "crown", Source(), 0.0, 200.0, measure="height", least=0.04)
    made = settling(Engine(low), (StreetLine("line"),), "present", "")
    assert made.made.levels - made.before == pytest.approx([0.04, 0.04], abs=1e-5)
    after = taken(Engine(low), made)(low)
    assert not [f for f in findings(Engine(after)) if f.rule in ("crossfall to a kerb line", "outside its fall window")]


def test_advice_on_where_pads_suit_takes_no_room_and_is_no_rule():
    q = Engine(demo_site())
    crown_line = StreetLine("kiln-court")
    assert [w.asked for w in all_windows(q, crown_line)] == [False] * len(all_windows(q, crown_line)) != []
    assert room_on(q, crown_line) == ()
    made = settling(q, (crown_line,), "present", "")
    assert made.made.conflict == ()
    assert made.made.levels == pytest.approx(made.before, abs=1e-4)
