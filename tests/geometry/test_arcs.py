"""Kerb returns and bulbs against the reference, and their tangency as a law."""

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from humble_loop.geometry.arcs import DoesNotFit, OffsetLine, tangent_arc
from humble_loop.geometry.chain import Chain, Element
from humble_loop.geometry.heads import bulb_outline
from humble_loop.geometry.roots import zero_between
from tests.conftest import examples, reference


def line_through(point, bearing_deg):
    b = np.radians(bearing_deg)
    along = np.array([np.sin(b), np.cos(b)])
    return Chain.from_points([np.array(point) - 500 * along, np.array(point) + 500 * along])


@pytest.mark.parametrize("case", reference("kerb_returns"))
def test_reference_returns(case):
    i, e = case["inputs"], case["expect"]
    first = OffsetLine(line_through(i["p1"], i["b1"]), -i["side1"] * i["off1"])
    second = OffsetLine(line_through(i["p2"], i["b2"]), -i["side2"] * i["off2"])
    made = tangent_arc(first, second, i["radius"], np.array(e["centre"]) + [3.0, -2.0])
    assert made.centre == pytest.approx(e["centre"], abs=1e-6)
    assert made.start == pytest.approx(e["tangent_1"], abs=1e-6)
    assert made.end == pytest.approx(e["tangent_2"], abs=1e-6)
    assert np.degrees(made.sweep) == pytest.approx(e["sweep"], abs=1e-7)
    assert made.length == pytest.approx(e["length"], abs=1e-6)


@pytest.mark.parametrize("case", reference("bulbs"))
def test_reference_bulbs(case):
    chain = Chain.from_points([[-80, 0], [0, 0]])
    w = case["half_width"]
    made = bulb_outline(chain, w, w, case["radius"], (case["fillet"],) * 2, case["offset"])
    e, ring = case["expect"], made.ring
    assert ring.xy[0] == pytest.approx(e["left"]["straight_tangent"], abs=1e-6)
    assert ring.xy[1] == pytest.approx(e["left"]["bulb_tangent"], abs=1e-6)
    assert ring.xy[2] == pytest.approx(e["right"]["bulb_tangent"], abs=1e-6)
    assert ring.points_at([ring.total])[0] == pytest.approx(e["right"]["straight_tangent"], abs=1e-6)
    assert np.degrees(ring.length[0] / case["fillet"]) == pytest.approx(e["left"]["fillet_sweep"], abs=1e-7)
    assert np.degrees(ring.length[2] / case["fillet"]) == pytest.approx(e["right"]["fillet_sweep"], abs=1e-7)
    assert np.degrees(ring.length[1] / case["radius"]) == pytest.approx(e["bulb_sweep"], abs=1e-7)
    assert ring.total == pytest.approx(e["lip_length"], abs=1e-6)


@examples(60)
@given(st.floats(40, 140), st.floats(2, 15), st.floats(2.5, 5), st.floats(2.5, 5), st.floats(-0.006, 0.006))
def test_a_return_touches_both_lips(angle, radius, w1, w2, bend):
    """The centre lies exactly a radius from both lips, on curved through streets as on straight ones."""
    through = Chain.from_elements(
        (-200, 0), -200 * bend, [Element(400, bend, bend)] if abs(bend) > 1e-4 else [Element(400, 0, 0)]
    )
    node = through.at([200.0])
    heading = node.headings[0] + np.radians(angle)
    side = Chain.from_elements(node.points[0], heading, [Element(200, 0, 0)])
    made = tangent_arc(OffsetLine(through, w1), OffsetLine(side, w2), radius, node.points[0] + [radius, radius])
    assert abs(through.feet(made.centre).offsets[0]) == pytest.approx(w1 + radius, abs=1e-8)
    assert side.feet(made.centre, extend=True).offsets[0] == pytest.approx(w2 + radius, abs=1e-8)
    assert np.hypot(*(made.start - made.centre)) == pytest.approx(radius, abs=1e-9)
    assert made.chain.points_at([made.length])[0] == pytest.approx(made.end, abs=1e-8)


@examples(60)
@given(st.floats(7, 14), st.floats(8, 25), st.floats(2.5, 4.0), st.floats(-3, 3), st.floats(-0.004, 0.004))
def test_a_bulbs_lip_is_smooth_and_meets_both_straight_lips(radius, fillet, w, offset, bend):
    assume(radius - abs(offset) > w + 0.5)
    chain = Chain.from_elements((0, 0), 0.2, [Element(120, bend, bend)] if abs(bend) > 1e-4 else [Element(120, 0, 0)])
    made = bulb_outline(chain, w, w, radius, (fillet, fillet), offset)
    ring = made.ring
    before = ring.at(ring.starts[1:-1] - 1e-9)
    after = ring.at(ring.starts[1:-1] + 1e-9)
    assert np.abs(before.points - after.points).max() < 1e-6
    assert np.abs(np.mod(before.headings - after.headings + np.pi, 2 * np.pi) - np.pi).max() < 1e-6
    assert chain.feet(ring.xy[0]).offsets[0] == pytest.approx(w, abs=1e-8)
    assert chain.feet(ring.points_at([ring.total])).offsets[0] == pytest.approx(-w, abs=1e-8)
    middle = ring.points_at([0.5 * (ring.starts[1] + ring.starts[2])])[0]
    assert np.hypot(*(middle - made.centre)) == pytest.approx(radius, abs=1e-9)


@pytest.mark.parametrize(
    ("radius", "fillet", "offset", "length", "words"),
    [
        (3.0, 15, 0.0, 100, "narrower"),
        (9.5, 15, 0.0, 4, "too short"),
        (0.0, 15, 0.0, 100, "more than zero"),
        (9.5, 15, 30, 100, "narrower"),
        (3.4, 9.0, 0.0, 100, "narrower"),
    ],
)
def test_a_bulb_that_cannot_be_says_why(radius, fillet, offset, length, words):
    with pytest.raises(DoesNotFit, match=words):
        bulb_outline(Chain.from_points([[0, 0], [length, 0]]), 3.5, 3.5, radius, (fillet, fillet), offset)


def test_parallel_lips_have_no_return():
    a, b = Chain.from_points([[0, 0], [100, 0]]), Chain.from_points([[0, 30], [100, 30]])
    with pytest.raises(DoesNotFit, match="side by side"):
        tangent_arc(OffsetLine(a, 3.5), OffsetLine(b, 3.5), 8.0, (50, 10))


def test_a_return_without_radius_is_refused():
    a = Chain.from_points([[0, 0], [100, 0]])
    with pytest.raises(DoesNotFit, match="more than zero"):
        tangent_arc(OffsetLine(a, 3.5), OffsetLine(a, 3.5), 0.0, (50, 10))


@examples(50)
@given(st.floats(0.001, 0.999), st.floats(0.1, 50))
def test_a_zero_is_found_to_the_last_digits(share, steepness):
    root = 100 + 7 * share
    assert zero_between(lambda s: np.tanh(steepness * (s - root)), 100.0, 107.0) == pytest.approx(root, abs=1e-12)


def test_no_change_of_sign_is_no_zero():
    with pytest.raises(ValueError, match="no change of sign"):
        zero_between(lambda s: s * s + 1, -1.0, 1.0)
