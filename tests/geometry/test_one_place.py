"""One place at a time: what plain numbers say is what arrays say; where a line leaves a circle."""

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from humble_loop.geometry.chain import Chain, Element
from tests.conftest import examples

START = (412.0, 977.0)
straights = st.tuples(st.floats(5, 80), st.just(0.0), st.just(0.0))
arcs = st.tuples(st.floats(5, 40), st.floats(-0.12, 0.12).filter(lambda k: abs(k) > 1e-3)).map(lambda e: (*e, e[1]))
transitions = st.tuples(st.floats(10, 40), st.floats(-0.012, 0.012), st.floats(-0.012, 0.012))
plain = st.lists(st.one_of(straights, arcs), min_size=1, max_size=5)
any_kind = st.lists(st.one_of(straights, arcs, transitions), min_size=1, max_size=4)


def chain_of(rows, heading):
    return Chain.from_elements(START, heading, [Element(*r) for r in rows])


@examples(60)
@given(plain, st.floats(-3, 3), st.integers(0, 2**32 - 1), st.booleans())
def test_one_foot_and_one_place_are_those_of_many(rows, heading, seed, extend):
    chain, rng = chain_of(rows, heading), np.random.default_rng(seed)
    places = START + rng.uniform(-120, 120, (6, 2))
    many, one = chain.feet(places, extend=extend), [chain.feet(p, extend=extend) for p in places]
    for of_many, of_one in zip(many, zip(*one)):
        assert np.abs(np.concatenate(of_one).astype(float) - of_many.astype(float)).max() < 1e-9
    s = rng.uniform(-20.0, chain.total + 20.0, 6)
    for of_many, of_one in zip(chain.at(s), zip(*[chain.at([x]) for x in s])):
        assert np.abs(np.concatenate(of_one) - of_many).max() < 1e-9
    assert np.allclose([chain.place(float(x))[:2] for x in s], chain.at(s).points, atol=1e-9)
    assert np.allclose([chain.foot(*p)[:2] for p in places], np.array(chain.feet(places, extend=True)[:2]).T, atol=1e-9)


def test_of_two_feet_as_near_as_one_another_the_first_is_taken():
    # Half way between two parallel sides of a U of straights.
    chain = Chain.from_points([(0, 0), (40, 0), (40, 20), (0, 20)])
    assert chain.feet([(10.0, 10.0)]).chainages[0] == chain.feet([(10.0, 10.0), (0, 0)]).chainages[0] == 10.0


def test_a_street_leaves_a_circle_where_pythagoras_says():
    chain = Chain.from_points([(-50, 6), (50, 6)])
    assert chain.leaves((0.0, 0.0), 10.0) == pytest.approx([50 - 8, 50 + 8], abs=1e-12)
    assert chain.leaves((0.0, 0.0), 6.0) == []  # it only touches
    assert chain.leaves((-45.0, 6.0), 10.0) == pytest.approx([15.0])  # it begins inside


def test_an_arc_leaves_a_circle_where_two_circles_cross():
    # A quarter of radius 30 about (0, 30) from the origin, and a circle of 30 about (30, 0): they cross at (0, 0) and (30, 30).
    chain = Chain.from_elements((0, 0), 0.0, [Element(15 * np.pi, 1 / 30, 1 / 30)])
    assert chain.leaves((20.0, 0.0), 20.0) == pytest.approx([0.0, 60.0 * np.arctan(20.0 / 30.0)])
    assert chain.leaves((0.0, 30.0), 30.0) == []  # along it
    assert chain.leaves((0.0, 30.0), 10.0) == []  # about it


@examples(80)
@given(any_kind, st.floats(-3, 3), st.floats(0, 1), st.floats(-15, 15), st.floats(8, 30))
def test_a_line_leaves_a_circle_wherever_it_goes_out_or_in(rows, heading, share, aside, radius):
    chain = chain_of(rows, heading)
    middle = chain.points_at([share * chain.total], aside)[0]
    s = np.linspace(0.0, chain.total, 4001)
    away = np.hypot(*(chain.points_at(s) - middle).T)
    turns = np.flatnonzero(np.diff(np.sign(np.diff(away)))) + 1
    assume(np.abs(away[[0, *turns.tolist(), -1]] - radius).min() > 0.02)  # it does not graze it, or end on it
    found = np.array(chain.leaves(middle, radius))
    assert np.abs(np.hypot(*(chain.points_at(found) - middle).T) - radius).max(initial=0.0) < 1e-7
    crossed = np.flatnonzero(np.diff(away > radius))
    assert len(found) == len(crossed)
    assert np.abs(found - 0.5 * (s[crossed] + s[crossed + 1])).max(initial=0.0) < chain.total / 4000
