"""Chains: reference centrelines, and laws of positions and feet."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.geometry.arrays import bearing_of, unique_chainages
from humble_loop.geometry.bends import BendInput, chain_from_bends, lay_bends, tangent_lengths
from humble_loop.geometry.chain import Chain, Element
from tests.conftest import examples, reference

CASES = reference("centrelines")


@pytest.mark.parametrize("case", CASES, ids=[c["name"] for c in CASES])
def test_reference_centrelines(case):
    chain, problems = chain_from_bends([BendInput(**p) for p in case["points"]])
    assert not problems
    assert chain.total == pytest.approx(case["length"], abs=1e-6)
    assert [e.kind for e in chain.elements] == [e["kind"] for e in case["elements"]]
    assert [e.length for e in chain.elements] == pytest.approx([e["length"] for e in case["elements"]], abs=1e-6)
    frames = chain.at([a["chainage"] for a in case["at"]])
    expected = np.array([[a["easting"], a["northing"]] for a in case["at"]])
    assert np.abs(frames.points - expected).max() < 1e-6
    assert np.abs(bearing_of(frames.headings) - [a["bearing_deg"] for a in case["at"]]).max() < 1e-7


def test_tangent_length_of_a_plain_bend_is_r_tan_half_the_deflection():
    assert tangent_lengths(60.0, 0.0, 0.0, np.radians(90)) == pytest.approx((60.0, 60.0))
    assert tangent_lengths(60.0, 0.0, 0.0, np.radians(40)) == pytest.approx((60.0 * np.tan(np.radians(20)),) * 2)


def test_an_arc_of_a_full_quarter_ends_where_geometry_says():
    chain = Chain.from_elements((10.0, 20.0), 0.0, [Element(np.pi / 2 * 30, 1 / 30, 1 / 30)])
    assert chain.at([chain.total]).points[0] == pytest.approx([40.0, 50.0], abs=1e-12)
    assert chain.at([chain.total]).headings[0] == pytest.approx(np.pi / 2)


def test_a_clothoid_agrees_with_its_power_series():
    # x = l - l^5 / (40 A^4) + l^9 / (3456 A^8), y = l^3 / (6 A^2) - l^7 / (336 A^6), with A^2 = R L.
    radius, length = 150.0, 40.0
    a2 = radius * length
    end = Chain.from_elements((0, 0), 0.0, [Element(length, 0.0, 1 / radius)]).at([length]).points[0]
    x = length - length**5 / (40 * a2**2) + length**9 / (3456 * a2**4)
    y = length**3 / (6 * a2) - length**7 / (336 * a2**3) + length**11 / (42240 * a2**5)
    assert end == pytest.approx([x, y], abs=1e-7)


elements = st.lists(
    st.one_of(
        st.tuples(st.floats(5, 80), st.just(0.0), st.just(0.0)),
        st.tuples(st.floats(5, 40), st.floats(-0.02, 0.02).filter(lambda k: abs(k) > 1e-3)).map(
            lambda e: (e[0], e[1], e[1])
        ),
        st.tuples(st.floats(10, 40), st.floats(-0.012, 0.012), st.floats(-0.012, 0.012)),
    ),
    min_size=1,
    max_size=4,
).map(lambda rows: [Element(*r) for r in rows])


@examples(60)
@given(elements, st.floats(-3, 3), st.floats(0.02, 0.98), st.floats(-6, 6))
def test_the_foot_of_a_point_beside_a_chain_is_where_it_was_put(rows, heading, share, offset):
    chain = Chain.from_elements((1000.0, 2000.0), heading, rows)
    s = share * chain.total
    foot = chain.feet(chain.points_at([s], offset))
    # Another part of a winding line may be nearer; it is never further.
    assert abs(foot.offsets[0]) <= abs(offset) + 1e-9
    if abs(abs(foot.offsets[0]) - abs(offset)) < 1e-9 and abs(foot.chainages[0] - s) < 1.0:
        assert foot.chainages[0] == pytest.approx(s, abs=1e-8)
        assert foot.offsets[0] == pytest.approx(offset, abs=1e-9)


@examples(40)
@given(elements, st.floats(-3, 3))
def test_a_reversed_chain_runs_through_the_same_points(rows, heading):
    chain = Chain.from_elements((10.0, 5.0), heading, rows)
    s = np.linspace(0, chain.total, 23)
    assert np.abs(chain.reversed().points_at(chain.total - s, -2.0) - chain.points_at(s, 2.0)).max() < 1e-8


@examples(40)
@given(elements, st.sampled_from([0.002, 0.01, 0.05]), st.floats(0, 8))
def test_sampling_keeps_the_chord_error(rows, sag, reach):
    chain = Chain.from_elements((0, 0), 0.3, rows)
    s = chain.sampled(sag=sag, reach=reach)
    for offset in (-reach, reach):
        p, middle = chain.points_at(s, offset), chain.points_at(0.5 * (s[:-1] + s[1:]), offset)
        error = np.hypot(*(middle - 0.5 * (p[:-1] + p[1:])).T)
        turn = 0.5 * np.abs(chain.k0 - chain.k1) * chain.length  # transitions are sampled by their sharper end
        assert error.max() <= sag * (1.05 + turn.max())


def test_feet_beyond_the_ends_are_clipped_unless_the_line_is_extended():
    chain = Chain.from_points([[0, 0], [10, 0]])
    assert chain.feet([[-3.0, 4.0]]).chainages[0] == 0.0
    assert not chain.feet([[-3.0, 4.0]]).square[0]
    foot = chain.feet([[-3.0, 4.0]], extend=True)
    assert (foot.chainages[0], foot.offsets[0]) == (-3.0, 4.0)


def test_a_line_of_one_place_is_refused():
    with pytest.raises(ValueError, match="two different points"):
        Chain.from_points([[1, 1], [1, 1]])


def test_bends_that_need_more_than_their_leg_are_reported_with_the_largest_radius_that_fits():
    # A right angle with legs of 30 m: the tangent length equals the radius, so 30 m is the largest.
    chain, problems = chain_from_bends([BendInput(0, 0), BendInput(30, 0, 45), BendInput(30, 30)])
    assert [(p.index, p.kind) for p in problems] == [(1, "radius")]
    assert problems[0].largest == pytest.approx(30.0)
    assert chain.total == pytest.approx(30 * np.pi / 2)


def test_two_bends_that_meet_exactly_fit():
    _, problems = chain_from_bends([BendInput(0, 0), BendInput(40, 0, 20), BendInput(40, 40, 20), BendInput(80, 40)])
    assert not problems


def test_transitions_longer_than_the_bend_are_shortened_and_reported():
    _, problems = chain_from_bends([BendInput(0, 0), BendInput(200, 0, 50, 60, 60), BendInput(380, 60)])
    assert problems[0].kind == "transition"
    turn = np.arctan2(60, 180)
    assert problems[0].largest == pytest.approx(2 * 50 * turn)


def test_points_at_one_place_are_left_out_and_reported():
    chain, problems = chain_from_bends([BendInput(0, 0), BendInput(50, 0, 10), BendInput(50, 0, 10), BendInput(90, 20)])
    assert [(p.index, p.kind) for p in problems if p.kind == "repeated"] == [(2, "repeated")]
    assert np.isfinite(chain.total)


def test_bearings_run_clockwise_from_north_and_stay_below_360():
    assert bearing_of([np.pi / 2, 0.0, -np.pi / 2, np.pi]) == pytest.approx([0, 90, 180, 270])
    assert bearing_of([np.pi / 2 + 1e-18])[0] < 360


def test_unique_chainages_keeps_the_first_group_where_two_are_near():
    merged = unique_chainages([5.0000001], [0.0, 5.0, 10.0], low=0.0, high=10.0, gap=1e-3)
    assert list(merged) == [0.0, 5.0000001, 10.0]


@pytest.mark.parametrize("extend", [False, True])
def test_feet_of_many_points_on_a_long_line_are_those_of_each_alone(extend):
    """Where there are many, most elements are left out; none that holds a foot may be."""
    rng = np.random.default_rng(3)
    corners = np.cumsum(rng.normal(0.0, 60.0, (300, 2)), axis=0) + [312_408.0, 6_251_977.0]
    bends = [BendInput(e, n, 12.0, 4.0 * (k % 3 == 0), 4.0 * (k % 3 == 0)) for k, (e, n) in enumerate(corners.tolist())]
    chain = lay_bends(bends).chain
    points = rng.uniform(corners.min(axis=0) - 300.0, corners.max(axis=0) + 300.0, (150, 2))
    points[:50] = chain.points_at(rng.uniform(0.0, chain.total, 50), rng.uniform(-5.0, 5.0, 50))
    assert len(points) * len(chain.length) > 20_000
    together = chain.feet(points, extend=extend)
    for k in range(0, 150, 7):
        alone = chain.feet(points[k], extend=extend)
        for one, all_of_them in zip(alone, together):
            assert one[0] == all_of_them[k]
