"""Outlines of turning heads: smooth and closed all the way round, on both lips, and as worked out by hand."""

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.heads import HeadArm, armed_outline, bulb_outline, return_radius
from tests.conftest import examples

STRAIGHT = Chain.from_points([[-80, 0], [0, 0]])


def curved(bend):
    return Chain.from_elements((0, 0), 0.2, [Element(120, bend, bend)])


def assert_smooth(made, chain, left, right):
    """Each piece begins where the one before ends, in place and direction; the ends lie on the lips and run along them."""
    ring = made.ring
    for k in range(len(ring.length)):
        piece = Chain.from_elements(ring.xy[k], ring.heading[k], [ring.elements[k]]).at([ring.length[k]])
        if k + 1 < len(ring.length):
            assert piece.points[0] == pytest.approx(ring.xy[k + 1], abs=1e-9)
            assert np.cos(piece.headings[0] - ring.heading[k + 1]) == pytest.approx(1.0, abs=1e-12)
    ends = ring.at([0.0, ring.total])
    feet = chain.feet(ends.points)
    assert feet.offsets == pytest.approx([left, -right], abs=1e-8)
    assert feet.chainages == pytest.approx([made.base_left, made.base_right], abs=1e-8)
    along = np.cos(ends.headings - feet.headings)
    assert along == pytest.approx([1.0, -1.0], abs=1e-9)


@examples(60)
@given(
    st.floats(7, 60),
    st.floats(6, 25),
    st.floats(6, 25),
    st.floats(2.5, 4.0),
    st.floats(2.5, 4.0),
    st.floats(-3, 3),
    st.floats(-0.003, 0.003),
)
def test_a_bulb_of_any_size_with_unlike_returns(radius, first, last, left, right, offset, bend):
    assume(radius - abs(offset) > max(left, right) + 0.5 and abs(bend) > 1e-4)
    chain = Chain.from_elements((0, 0), 0.2, [Element(300, bend, bend)])
    made = bulb_outline(chain, left, right, radius, (first, last), offset)
    assert_smooth(made, chain, left, right)
    u = np.linspace(*made.ends, 9)
    assert np.hypot(*(made.ring.points_at(u) - made.centre).T) == pytest.approx(radius, abs=1e-9)
    assert made.returns == (first, last)


@examples(40)
@given(
    st.floats(7, 20),
    st.floats(6, 25),
    st.floats(2.5, 4.0),
    st.sampled_from(["left", "right"]),
    st.floats(-0.004, 0.004),
)
def test_a_one_sided_bulb_touches_the_other_lip(radius, r, w, side, bend):
    chain = curved(bend if abs(bend) > 1e-4 else 1e-4)
    made = bulb_outline(chain, w, w, radius, (r, None) if side == "left" else (None, r))
    assert_smooth(made, chain, w, w)
    sign = 1.0 if side == "left" else -1.0
    assert chain.feet(made.centre).offsets[0] == pytest.approx(sign * (radius - w), abs=1e-9)
    assert (made.base_right if side == "left" else made.base_left) == chain.total


@pytest.mark.parametrize("bend", [0.0, 0.01, -0.006])
@pytest.mark.parametrize(("side", "offset"), [(1.0, 0.0), (-1.0, 2.0)])
def test_a_return_that_is_to_begin_somewhere_does(bend, side, offset):
    chain = curved(bend) if bend else STRAIGHT
    r = return_radius(chain, side, 3.5, 9.5, offset, 17.0)
    made = bulb_outline(chain, 3.5, 3.5, 9.5, (r, r), offset)
    base = made.base_left if side > 0 else made.base_right
    assert chain.total - base == pytest.approx(17.0, abs=1e-7)


def test_the_reference_return_begins_where_the_reference_has_it():
    assert return_radius(STRAIGHT, 1.0, 3.5, 9.5, 0.0, 16.06237840420901) == pytest.approx(15.0, abs=1e-9)
    with pytest.raises(DoesNotFit, match=r"needs more than 8\.83 m"):
        return_radius(STRAIGHT, 1.0, 3.5, 9.5, 0.0, 8.0)


def test_a_hammerhead_by_hand():
    """Lips 3 m out, arms 12 m, 6 m wide, returns of 6 and corners of 1: quarter circles, with straights of 2, 4, 22, 4 and 2 m."""
    arm = HeadArm(12.0, np.pi / 2)
    made = armed_outline(STRAIGHT, 3.0, 3.0, (arm, arm), 6.0, (6.0, 6.0), 1.0)
    assert_smooth(made, STRAIGHT, 3.0, 3.0)
    quarter = np.pi / 2
    wanted = [6 * quarter, 2, quarter, 4, quarter, 22, quarter, 4, quarter, 2, 6 * quarter]
    assert made.ring.length == pytest.approx(wanted, abs=1e-9)
    assert (made.base_left, made.base_right) == pytest.approx((71.0, 71.0))
    assert made.ring.points_at([made.turn])[0] == pytest.approx([3.0, 0.0], abs=1e-9)
    assert made.ends == pytest.approx((6 * quarter, made.ring.total - 6 * quarter))
    left = made.ring.points_at([made.ring.starts[3]])[0]
    assert left == pytest.approx([-2.0, 12.0], abs=1e-9)


def test_one_arm_lets_the_other_lip_run_on():
    made = armed_outline(STRAIGHT, 3.0, 3.5, (None, HeadArm(12.0, np.pi / 2)), 6.0, (6.0, 6.0), 1.0)
    assert_smooth(made, STRAIGHT, 3.0, 3.5)
    assert made.base_left == 80.0
    assert made.ends[0] == 0.0
    # The left lip goes 2 m beyond the street's end, and round a corner into the far edge: 3 − 1 + 12 − 1 m.
    assert made.ring.length[:3] == pytest.approx([2.0, np.pi / 2, 13.0])


@examples(60)
@given(
    st.floats(10, 30),
    st.floats(10, 30),
    st.floats(50, 110),
    st.floats(5, 8),
    st.floats(3, 6),
    st.floats(0.3, 2),
    st.floats(-0.004, 0.004),
    st.sampled_from(["both", "left", "right"]),
)
def test_heads_with_arms_are_smooth_and_keep_their_widths(one, two, degrees, wide, r, corner, bend, which):
    chain, angle = curved(bend if abs(bend) > 1e-4 else 1e-4), np.radians(degrees)
    arms = HeadArm(one, angle) if which != "right" else None, HeadArm(two, angle) if which != "left" else None
    try:
        made = armed_outline(chain, 3.0, 3.2, arms, wide, (r, r), corner)
    except DoesNotFit:
        assume(False)
    assert_smooth(made, chain, 3.0, 3.2)
    # Nobody's turning place is narrower than its arms are wide: the lip is half of that from the centre at least.
    away = np.hypot(*(made.ring.points_at(np.linspace(0, made.ring.total, 400)) - made.centre).T)
    assert away.min() > 0.5 * min(wide, 6.0) - 1e-6
    for arm, sign in zip(arms, (1.0, -1.0)):
        if arm is not None:
            heading = chain.at([chain.total]).headings[0] + sign * angle
            tip = made.centre + arm.length * np.array([np.cos(heading), np.sin(heading)])
            assert made.ring.feet([tip]).offsets[0] == pytest.approx(0.0, abs=1e-8)


@pytest.mark.parametrize(
    ("arm", "wide", "r", "corner", "words"),
    [
        (8.0, 6.0, 6.0, 1.0, "near edge of its left arm is 2.00 m too short"),
        (14.0, 1.5, 6.0, 1.0, "end of its left arm is 0.50 m too short"),
        (14.0, 6.0, 6.0, 0.0, "more than zero"),
        (90.0, 6.0, 90.0, 1.0, "does not begin on the street"),
    ],
)
def test_a_head_that_cannot_be_says_why(arm, wide, r, corner, words):
    with pytest.raises(DoesNotFit, match=words):
        armed_outline(STRAIGHT, 3.0, 3.0, (HeadArm(arm, np.pi / 2), None), wide, (r, r), corner)
