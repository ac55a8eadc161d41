"""Bulges outside bends and arcs inside them: smooth, on the lips that they leave, and as worked out by hand."""

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import left_normals
from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.elbows import bends_of_chain, bulge, inner_arc
from tests.conftest import examples


def elbow(radius=9.0, turn=90.0, way=1.0, before=60.0, after=60.0):
    angle = np.radians(turn)
    bend = Element(radius * angle, way / radius, way / radius)
    return Chain.from_elements((0, 0), 0.3, [Element(before, 0, 0), bend, Element(after, 0, 0)])


def steady(width):
    return lambda s: np.full(len(s), width)


def assert_on_lips(made, chain, side, width):
    ring = made.chain
    for k in range(len(ring.length) - 1):
        piece = Chain.from_elements(ring.xy[k], ring.heading[k], [ring.elements[k]]).at([ring.length[k]])
        assert piece.points[0] == pytest.approx(ring.xy[k + 1], abs=1e-9)
        assert np.cos(piece.headings[0] - ring.heading[k + 1]) == pytest.approx(1.0, abs=1e-12)
    ends = ring.at([0.0, ring.total])
    at = chain.at([made.begin, made.finish])
    assert ends.points == pytest.approx(at.points + side * width * left_normals(at.headings), abs=1e-9)
    assert np.cos(ends.headings - at.headings) == pytest.approx([1.0, 1.0], abs=1e-9)


@examples(60)
@given(
    st.floats(6, 30),
    st.floats(40, 130),
    st.sampled_from([1.0, -1.0]),
    st.floats(2.5, 4.0),
    st.floats(1.0, 8.0),
    st.floats(6.0, 20.0),
    st.floats(-2.0, 2.0),
)
def test_a_bulge_touches_the_outer_lip_and_lies_about_its_centre(radius, turn, way, width, beyond, own, out):
    chain = elbow(radius, turn, way, 120.0, 120.0)
    (bend,) = bends_of_chain(chain)
    size = width + beyond - out
    assume(size > 1.0)
    try:
        made = bulge(chain, bend, steady(width), size, own, out)
    except DoesNotFit:
        assume(False)
    assert_on_lips(made, chain, -way, width)
    s = made.chain.starts[1] + np.linspace(0.0, 1.0, 7) * made.chain.length[1]
    assert np.hypot(*(made.chain.points_at(s) - made.centre).T) == pytest.approx(size, abs=1e-9)
    # Its middle lies as far beyond the lip as is wanted, straight out from the bend's middle.
    middle = chain.feet(made.chain.points_at([made.middle]))
    assert middle.offsets[0] * -way == pytest.approx(width + beyond, abs=1e-6)
    assert middle.chainages[0] == pytest.approx(bend.middle, abs=1e-6)


@examples(40)
@given(st.floats(6, 20), st.floats(40, 120), st.sampled_from([1.0, -1.0]), st.floats(2.5, 4.0), st.floats(0.5, 15.0))
def test_an_inner_arc_touches_both_lips(radius, turn, way, width, more):
    chain = elbow(radius, turn, way, 200.0, 200.0)
    (bend,) = bends_of_chain(chain)
    made = inner_arc(chain, bend, width, radius - width + more)
    assert_on_lips(made, chain, way, width)
    assert made.chain.total == pytest.approx((radius - width + more) * np.radians(turn), abs=1e-7)


def test_a_right_angle_by_hand():
    """R 9 to the left from (0, 0) along 0.3 rad; an arc of 12 m inside, 3.4 m in: it starts 12 − 5.6 = 6.4 m before the bend."""
    chain = elbow()
    (bend,) = bends_of_chain(chain)
    assert (bend.begin, bend.finish, bend.turn) == (60.0, pytest.approx(60.0 + 4.5 * np.pi), 1.0)
    made = inner_arc(chain, bend, 3.4, 12.0)
    assert (made.begin, made.finish) == (pytest.approx(53.6), pytest.approx(60.0 + 4.5 * np.pi + 6.4))
    bulged = bulge(chain, bend, steady(3.4), 9.0, 14.0, 0.0)
    # On the straight before: 17.4 m across and 23 m away, the centre lying 9 (1 − cos 45°) = 2.636 in and 6.364 on.
    back = np.sqrt(23.0**2 - (17.4 + 2.63604) ** 2)
    assert bulged.begin == pytest.approx(60.0 + 6.36396 - back, abs=1e-4)


def test_bends_are_what_turns_one_way_between_two_pieces():
    chain = Chain.from_elements(
        (0, 0),
        0.0,
        [
            Element(20, 0, 0),
            Element(8, 0, 0.1),
            Element(10, 0.1, 0.1),
            Element(8, 0.1, 0),
            Element(5, -0.1, -0.1),
            Element(9, 0, 0),
        ],
    )
    found = bends_of_chain(chain)
    assert [(b.begin, b.finish, b.turn) for b in found] == [(20.0, 46.0, 1.0), (46.0, 51.0, -1.0)]
    assert bends_of_chain(Chain.from_elements((0, 0), 0.0, [Element(10, 0.1, 0.1), Element(5, 0, 0)])) == []


@pytest.mark.parametrize(
    ("radius", "own", "words"),
    [(3.0, 10.0, "reach past the lip"), (9.0, 0.0, "more than zero"), (60.0, 60.0, "too short before its bend")],
)
def test_a_bulge_that_cannot_be_says_why(radius, own, words):
    chain = elbow(before=20.0)
    (bend,) = bends_of_chain(chain)
    with pytest.raises(DoesNotFit, match=words):
        bulge(chain, bend, steady(3.4), radius, own, 0.0)


def test_an_inner_arc_that_cannot_be_says_why():
    chain = elbow(before=5.0)
    (bend,) = bends_of_chain(chain)
    with pytest.raises(DoesNotFit, match=r"needs more than 5\.60 m"):
        inner_arc(chain, bend, 3.4, 5.0)
    with pytest.raises(DoesNotFit, match="begins before the street"):
        inner_arc(chain, bend, 3.4, 12.0)
