"""Grade lines that are proposed: each keeps what it promises, and leaves alone what is held."""

from itertools import product

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.demo import repeated_site
from humble_loop.engine.query import Engine, Unsolved
from humble_loop.geometry.gradeline import Profile
from humble_loop.kinds.ground.model import Ground
from humble_loop.kinds.street import Bend, Street, Vip
from humble_loop.kinds.street.across import across
from humble_loop.kinds.street.edits import lock_vip, set_wanted
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.proposals import earth, proposal, proposal_sheet
from humble_loop.propose.balance import NoLine, balanced, weights_of
from humble_loop.site.edits import EditError
from humble_loop.site.libraries import new_site
from tests import edits
from tests.conftest import examples, plane_ground, rolling_ground

COURT, LOOP = "kiln-court", "ember-loop"
E0, N0 = 312_400.0, 6_251_970.0


def street(ground, *vips, length=240.0, **choices):
    """A street eastwards over a ground, at coordinates as real sites have."""
    site = edits.add_ground(new_site(), Ground(name="survey", surface=ground.shifted(E0, N0)))
    bends = [Bend(easting=E0 + x, northing=N0) for x in (-length / 2, length / 2)]
    site = edits.add_street(site, "Line", bends, **choices)
    return edits.set_vips(site, "line", [Vip(chainage=s, level=z, curve_length=c) for s, z, c in vips])


# Balancing, as a linear programme


def small_case(seed):
    rng = np.random.default_rng(seed)
    s = np.linspace(0.0, 100.0, 9)
    chainages = np.array([0.0, 40.0, 100.0])
    ground = 0.03 * s[:, None] + rng.normal(0.0, 0.3, (9, 3))
    areas = rng.uniform(2.0, 6.0, (9, 3))
    line = Profile.of(chainages, 0.03 * chainages, [0.0, 20.0, 0.0])
    return weights_of(s, chainages, line.curves), ground, areas, line


def moved(weights, ground, areas, levels):
    up = (weights @ levels)[:, None] - ground
    return float((areas * np.abs(up)).sum()), float((areas * up).sum())


@given(st.integers(0, 10_000))
@examples(12)
def test_what_is_balanced_moves_no_more_than_any_line_on_a_grid(seed):
    weights, ground, areas, line = small_case(seed)
    grades = np.array([0.005, 0.005]), np.array([0.1, 0.1])
    found = balanced(weights, ground, areas, line, np.ones(3, dtype=bool), grades)
    whole, net = moved(weights, ground, areas, found)
    assert net == pytest.approx(0.0, abs=1e-6)
    rates = np.diff(found) / np.diff(line.chainages)
    assert np.all((rates >= 0.005 - 1e-9) & (rates <= 0.1 + 1e-9))
    # Any line that balances, its last level given by the others, is no better.
    steps = np.linspace(-0.8, 0.8, 33)
    for first, middle in product(steps, 1.2 + steps):
        held = np.array([first, middle, 0.0])
        share = float(areas.sum(axis=1) @ weights[:, 2])
        held[2] = -moved(weights, ground, areas, held)[1] / share
        rates = np.diff(held) / np.diff(line.chainages)
        if np.all((rates >= 0.005) & (rates <= 0.1)):
            assert whole <= moved(weights, ground, areas, held)[0] + 1e-6


def test_held_levels_stay_and_then_the_difference_is_the_least_there_is():
    weights, ground, areas, line = small_case(3)
    free = np.array([False, True, False])
    grades = np.array([0.02, 0.02]), np.array([0.04, 0.04])
    found = balanced(weights, ground + 5.0, areas, line, free, grades)
    assert found[[0, 2]] == pytest.approx(line.levels[[0, 2]])
    assert found[1] == pytest.approx(min(0.04 * 40.0, 3.0 - 0.02 * 60.0))  # as high as the grades let it
    with pytest.raises(NoLine):
        balanced(weights, ground, areas, line, np.zeros(3, dtype=bool), (np.array([0.04] * 2), np.array([0.05] * 2)))


def test_cut_and_fill_of_a_street_on_a_plane_are_those_of_its_section():
    """Raised by half a metre over level ground, the platform's fill is its width times that, and its falls."""
    site = street(plane_ground(0.0, 0.0, 50.0), (0.0, 50.5, 0), (240.0, 50.5, 0))
    q = Engine(site)
    a, made = across(q, "line"), earth(q, "line", grade_line(q, "line").profile)
    width = float(a.areas.sum() / 240.0)
    rise = float(((50.0 - a.touching) * a.areas).sum() / a.areas.sum())
    assert made.fill - made.cut == pytest.approx((0.5 + rise) * width * 240.0, rel=1e-9)
    assert made.most_fill == pytest.approx(0.5)
    assert made.most_cut == 0.0
    assert 10.0 < width < 25.0


def test_a_street_is_balanced():
    site = street(rolling_ground(), (0.0, 50.0, 0), (80.0, 52.0, 20), (240.0, 56.0, 0))
    q = Engine(site)
    before = earth(q, "line", grade_line(q, "line").profile)
    made = proposal(q, "line", "balance")
    after = earth(q, "line", made.line)
    assert after.cut == pytest.approx(after.fill, rel=1e-6)
    assert after.cut + after.fill < before.cut + before.fill
    assert made.line.curves[1] == 20.0


# The others


def test_the_present_line_is_smoothed_to_fewer_vips_within_its_tolerance():
    s = np.linspace(0.0, 240.0, 25)
    rough = 50.0 + 0.03 * s + 0.03 * np.sin(s)
    site = set_wanted(street(plane_ground(), *((a, z, 0.0) for a, z in zip(s, rough))), "line", within=0.04)
    q = Engine(site)
    made = proposal(q, "line", "smooth")
    assert len(made.vips) == 2
    straights = Profile.of(made.line.chainages, made.line.levels)
    assert np.abs(straights.level(s) - rough).max() <= 0.04 + 1e-9


def test_least_overlay_covers_everything_between_the_lips():
    ground = plane_ground(-0.03, 0.02, 50.0)
    site = set_wanted(street(ground, (0.0, 55.0, 0), (240.0, 48.0, 0)), "line", cover=0.08)
    q = Engine(site)
    made = proposal(q, "line", "overlay")
    found = earth(q, "line", made.line)
    assert found.cover >= 0.08 - 1e-6
    floor = across(q, "line").within.max(axis=1) + 0.08
    above = made.line.level(across(q, "line").chainages) - floor
    assert above.min() >= -1e-6
    assert above.max() <= 0.1 + 1e-6  # and lies as low as is wanted
    low = proposal(Engine(set_wanted(site, "line", over=0.02)), "line", "overlay")
    assert (low.line.level(across(q, "line").chainages) - floor).max() <= 0.02 + 1e-6


def test_a_street_runs_beside_another_at_a_fixed_fall():
    site = street(plane_ground(), (0.0, 52.0, 0), (240.0, 59.2, 0))
    bends = [Bend(easting=E0 + x, northing=N0 + 25.0) for x in (-100.0, 100.0)]
    site = edits.add_street(site, "Service lane", bends)
    site = set_wanted(site, "service-lane", beside="street:line", fall=-0.04, within=0.01)
    made = proposal(Engine(site), "service-lane", "beside")
    # 20 m into the other street at 3 %, less 4 % of the 25 m between them.
    assert made.line.level([0.0, 100.0])[0] == pytest.approx(52.6 - 1.0, abs=0.0101)
    assert made.line.level([0.0, 100.0])[1] == pytest.approx(55.6 - 1.0, abs=0.0101)
    assert len(made.vips) == 2
    with pytest.raises(Unsolved, match="no line is chosen"):
        proposal(Engine(set_wanted(site, "service-lane", beside="street:gone")), "service-lane", "beside")
    away = edits.add_street(site, "Elsewhere", [Bend(easting=E0 + 90.0, northing=N0 + y) for y in (40.0, 90.0)])
    with pytest.raises(Unsolved, match="runs beside"):
        proposal(Engine(set_wanted(away, "line", beside="street:elsewhere")), "line", "beside")


def test_the_ground_is_followed_with_tolerances_of_its_own_and_raised():
    site = repeated_site(1)
    assert len(proposal(Engine(site), LOOP, "follow").vips) >= 1
    raised = proposal(Engine(set_wanted(site, LOOP, raised=0.3)), LOOP, "follow").line
    plain = proposal(Engine(site), LOOP, "follow").line
    assert float(raised.level([200.0])[0] - plain.level([200.0])[0]) == pytest.approx(0.3, abs=0.35)
    close = proposal(Engine(set_wanted(site, LOOP, cut=0.1, fill=0.1)), LOOP, "follow")
    assert len(close.line.chainages) > len(plain.chainages)
    curved = proposal(Engine(set_wanted(site, LOOP, cut=0.1, fill=0.1, curve=14.0)), LOOP, "follow").line
    assert curved.curves.max() == pytest.approx(14.0)
    with pytest.raises(EditError, match=r"between 0\.01 and 100"):
        set_wanted(site, LOOP, cut=0.0)


@pytest.mark.parametrize("which", ["follow", "overlay", "smooth", "balance"])
def test_tied_ends_and_locked_vips_stay_in_every_proposal(which):
    site = repeated_site(1)
    before = grade_line(Engine(site), LOOP)
    k = next(i for i, state in enumerate(before.states) if state == "set")
    site = lock_vip(site, LOOP, before.index[k], float(before.profile.levels[k]))
    made = proposal(Engine(site), LOOP, which)
    s = before.profile.chainages[[0, k]]
    at = [float(made.line.levels[np.argmin(np.abs(made.line.chainages - c))]) for c in s]
    assert at == pytest.approx(before.profile.levels[[0, k]].tolist())
    taken = edits.set_vips(site, LOOP, made.vips)
    after = grade_line(Engine(taken), LOOP)
    assert after.profile.levels == pytest.approx(made.line.levels)
    assert after.states.count("locked") == 1
    assert after.states[0] == "tied"


def test_the_sheet_tells_what_each_moves_and_takes_one():
    site = repeated_site(1)
    sheet = proposal_sheet(Engine(site), COURT)
    rows = {r.cells[0].value: r for r in sheet.rows}
    assert rows["as it stands"].actions == ()
    assert rows["as it stands"].ghost is not None
    balance = rows["balance the earth"]
    assert balance.cells[5].value == pytest.approx(balance.cells[6].value, rel=1e-6)
    ((words, take),) = balance.actions
    assert words == "Take it"
    assert take(site).find(Street, COURT).vips
    assert rows["    cut at most"].cells[1].state == "proposed"
    typed = rows["    cut at most"].cells[1].edit(0.25)(site)
    again = {r.cells[0].value: r for r in proposal_sheet(Engine(typed), COURT).rows}["    cut at most"].cells[1]
    assert (again.value, again.state) == (0.25, "set")
    assert again.switch(typed).find(Street, COURT).wanted.cut is None


def test_a_line_of_very_many_vips_is_to_be_smoothed_before_it_is_balanced():
    s = np.linspace(0.0, 240.0, 130)
    site = street(plane_ground(), *((a, 50.0 + 0.02 * a, 0.0) for a in s))
    with pytest.raises(Unsolved, match="at most 120 are balanced"):
        proposal(Engine(site), "line", "balance")
    assert len(proposal(Engine(site), "line", "smooth").vips) == 2
