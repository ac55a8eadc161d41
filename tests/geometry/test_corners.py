"""Curves round corners: worked cases and their tangency as a law."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.arrays import tangents
from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.corners import EdgeLine, OuterArc, arc_corner, chamfer_corner, three_centred_corner
from tests.conftest import examples

EAST, NORTH = Chain.from_points([[-100, 0], [100, 0]]), Chain.from_points([[0, 0], [0, 100]])
# From the line 3.5 m north of one street to the line 3 m east of the other: a right angle whose lips meet at (3, 3.5).
FIRST, SECOND = EdgeLine.beside(EAST, 3.5), EdgeLine.beside(NORTH, -3.0)
NEAR = (10.0, 10.0)


def ends(made):
    return np.concatenate([made.start, made.end])


def test_three_centred_worked_by_hand():
    """Radii 20, 8, 20 with 15 degrees each side: x from the far lip to the tangent point is
    r + (R - r) sin t, less what the middle's centre comes nearer: the centre lies R + (r - R) cos t from both lips.
    """
    t = np.radians(15.0)
    made = three_centred_corner(FIRST, SECOND, OuterArc(20.0, t), 8.0, OuterArc(20.0, t), NEAR)
    out = 20.0 - 12.0 * np.cos(t)  # 8.4089 m
    along = 12.0 * np.sin(t)  # 3.1058 m further on
    assert made.centre == pytest.approx([3.0 + out, 3.5 + out], abs=1e-9)
    assert ends(made) == pytest.approx([3.0 + out + along, 3.5, 3.0, 3.5 + out + along], abs=1e-9)
    assert made.length == pytest.approx(2 * 20.0 * t + 8.0 * np.radians(60.0), abs=1e-9)
    assert np.degrees(made.sweep) == pytest.approx(90.0)
    assert made.tightest == pytest.approx(8.0)


def test_two_centred_and_a_plain_arc_are_cases_of_it():
    none = OuterArc(50.0, 0.0)
    plain, arc = three_centred_corner(FIRST, SECOND, none, 8.0, none, NEAR), arc_corner(FIRST, SECOND, 8.0, NEAR)
    assert ends(plain) == pytest.approx(ends(arc), abs=1e-9)
    assert ends(plain) == pytest.approx([11.0, 3.5, 3.0, 11.5], abs=1e-9)
    t = np.radians(30.0)
    two = three_centred_corner(FIRST, SECOND, OuterArc(16.0, t), 8.0, none, NEAR)
    # The centre 16 - 8 cos 30 = 9.0718 m from the through lip, 8 m from the side lip, whose tangent point is abreast of it.
    assert two.centre == pytest.approx([11.0, 3.5 + 16.0 - 8.0 * np.cos(t)], abs=1e-9)
    assert ends(two) == pytest.approx([11.0 + 8.0 * np.sin(t), 3.5, 3.0, 3.5 + 16.0 - 8.0 * np.cos(t)], abs=1e-9)
    assert len(two.chain.elements) == 2


def test_a_chamfer_worked_by_hand():
    """6 m back on both lips at a right angle, rounded by 2 m: each rounding turns 45 degrees and takes 2 tan 22.5."""
    made = chamfer_corner(FIRST, SECOND, (6.0, 6.0), 2.0, NEAR)
    t = 2.0 * np.tan(np.radians(22.5))
    assert ends(made) == pytest.approx([3.0 + 6.0 + t, 3.5, 3.0, 3.5 + 6.0 + t], abs=1e-9)
    assert made.chain.length == pytest.approx([2.0 * np.pi / 4, 6.0 * np.sqrt(2.0) - 2 * t, 2.0 * np.pi / 4], abs=1e-9)
    # Its middle lies half way across.
    assert made.chain.points_at([0.5 * made.length])[0] == pytest.approx([6.0, 6.5], abs=1e-9)
    uneven = chamfer_corner(FIRST, SECOND, (4.0, 9.0), 0.5, NEAR)
    way = uneven.chain.at([0.5 * uneven.length]).headings[0]
    assert np.tan(way) == pytest.approx(-9.0 / 4.0)


@pytest.mark.parametrize(
    ("make", "words"),
    [
        (lambda: chamfer_corner(FIRST, SECOND, (2.0, 2.0), 5.0, NEAR), "have no room on its straight of 2.83 m"),
        (lambda: chamfer_corner(FIRST, SECOND, (99.0, 6.0), 1.0, NEAR), "no room for 99 m back"),
        (
            lambda: three_centred_corner(FIRST, SECOND, OuterArc(20.0, 0.9), 8.0, OuterArc(20.0, 0.9), NEAR),
            r"turn by 103\.1°, and the corner by 90\.0° only",
        ),
        (
            lambda: three_centred_corner(FIRST, SECOND, OuterArc(300.0, 0.6), 8.0, OuterArc(20.0, 0.1), NEAR),
            "beyond one of the two lines",
        ),
    ],
)
def test_what_does_not_fit_is_told(make, words):
    with pytest.raises(DoesNotFit, match=words):
        make()


def skew(angle, bend, w1, w2):
    """A corner between a street that bends and one that leaves it at an angle (degrees) to its left."""
    through = Chain.from_elements((-300, 0), -300 * bend, [Element(600, bend, bend)])
    node = through.at([300.0])
    heading = float(node.headings[0]) + np.radians(angle)
    side = Chain.from_elements(node.points[0], heading, [Element(80, 0, 0), Element(120, 0, 0.01)])
    bisector = tangents(float(node.headings[0]) + 0.5 * np.radians(angle))
    return EdgeLine.beside(through, w1), EdgeLine.beside(side, -w2), node.points[0] + 20.0 * bisector


def assert_touches(made, first, second):
    """It begins and ends on both lines, along them, and bends nowhere but by its own arcs."""
    for line, s, at in ((first, made.base_start, 0.0), (second, made.base_end, made.length)):
        here, there = made.chain.at([at]), line.chain.at([s])
        assert here.points[0] == pytest.approx(line.chain.points_at([s], line.offset(s))[0], abs=1e-9)
        if line.slope(s) == 0.0:
            assert abs(np.sin(here.headings[0] - there.headings[0])) < 1e-9
        else:  # along the chord of the line itself
            chord = np.subtract(
                *line.chain.points_at([s + 1e-4, s - 1e-4], [line.offset(s + 1e-4), line.offset(s - 1e-4)])
            )
            assert abs(np.sin(here.headings[0] - np.arctan2(chord[1], chord[0]))) < 1e-6
    joints = made.chain.starts[1:-1]
    before, after = (tangents(made.chain.at(joints + d).headings) for d in (-1e-9, 1e-9))
    assert np.abs(before - after).max(initial=0.0) < 1e-8


@examples(60)
@given(
    st.floats(30, 150),
    st.floats(3, 12),
    st.floats(1.0, 3.0),
    st.floats(1.0, 3.0),
    st.floats(0.0, 0.4),
    st.floats(0.0, 0.4),
    st.floats(-0.006, 0.006),
    st.floats(2.5, 5),
)
def test_a_three_centred_return_touches_both_lips(angle, radius, more, last, share, after, bend, width):
    first, second, near = skew(angle, 0.0 if abs(bend) < 1e-4 else bend, width, 3.0)
    whole = np.radians(180.0 - angle)
    outer = OuterArc(radius * more, share * whole), OuterArc(radius * last, after * whole)
    made = three_centred_corner(first, second, outer[0], radius, outer[1], near)
    assert_touches(made, first, second)
    # The middle arc's centre is a radius from the middle arc.
    s = made.chain.starts[1 if outer[0].turn > 1e-9 else 0]
    assert float(np.hypot(*(made.chain.points_at([s + 1e-6])[0] - made.centre))) == pytest.approx(radius, abs=1e-7)


@examples(60)
@given(st.floats(30, 150), st.floats(6, 12), st.floats(6, 12), st.floats(0.3, 1.0), st.floats(-0.006, 0.006))
def test_a_chamfer_touches_both_lips(angle, a, b, rounding, bend):
    first, second, near = skew(angle, 0.0 if abs(bend) < 1e-4 else bend, 3.5, 3.0)
    made = chamfer_corner(first, second, (a, b), rounding, near)
    assert_touches(made, first, second)
    assert made.tightest == pytest.approx(rounding)


@examples(60)
@given(
    st.floats(40, 140),
    st.floats(3, 10),
    st.floats(-0.08, 0.08),
    st.floats(-0.08, 0.08),
    st.floats(-0.006, 0.006),
    st.sampled_from(["arc", "three-centred", "chamfer"]),
)
def test_lips_that_come_nearer_or_go_further_are_touched_as_they_run(angle, radius, slant, other, bend, shape):
    first, second, near = skew(angle, 0.0 if abs(bend) < 1e-4 else bend, 3.5, 3.0)
    first = EdgeLine(first.chain, np.array([200.0, 300.0, 400.0]), 3.5 + slant * np.array([-20.0, 0.0, 20.0]), 1.0)
    second = EdgeLine(second.chain, np.array([0.0, 60.0]), -3.0 + other * np.array([0.0, 40.0]), -1.0)
    at = (300.0, 0.0)
    if shape == "arc":
        made = arc_corner(first, second, radius, near, at)
        assert made.tightest == pytest.approx(radius)
    elif shape == "chamfer":
        made = chamfer_corner(first, second, (radius, radius), 0.5, near, at)
    else:
        outer = OuterArc(2.0 * radius, 0.2)
        made = three_centred_corner(first, second, outer, radius, outer, near, at)
    assert_touches(made, first, second)


def test_an_arc_between_a_taper_and_a_straight_worked_by_hand():
    """A lip 4 m from its street that comes 1 in 10 nearer going east; the side lip at 3 m. With u along the slant, the arc of 8 m
    touches it where its centre, 8 m from both, lies at x = 11: y = lip(11) + 8 sqrt(1.01).
    """
    first = EdgeLine(EAST, np.array([80.0, 120.0]), np.array([6.0, 2.0]), 1.0)  # 4 at chainage 100, x = 0
    made = arc_corner(first, SECOND, 8.0, NEAR, (100.0, 0.0))
    y = 4.0 - 1.1 + 8.0 * np.sqrt(1.01)
    assert made.centre == pytest.approx([11.0, y], abs=1e-9)
    assert made.start == pytest.approx(np.array([11.0, y]) - 8.0 * np.array([0.1, 1.0]) / np.sqrt(1.01), abs=1e-9)
    assert made.end == pytest.approx([3.0, y], abs=1e-9)
