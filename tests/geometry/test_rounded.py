"""Polygons with rounded corners: closed, smooth, and as long and large as worked out by hand."""

import numpy as np
import pytest
import shapely
from hypothesis import assume, given
from hypothesis import strategies as st

from humble_loop.geometry.arcs import DoesNotFit
from humble_loop.geometry.chain import Chain
from humble_loop.geometry.rounded import rounded_polygon
from tests.conftest import examples


def assert_closed(chain):
    n = len(chain.length)
    for k in range(n):
        piece = Chain.from_elements(chain.xy[k], chain.heading[k], [chain.elements[k]]).at([chain.length[k]])
        assert piece.points[0] == pytest.approx(chain.xy[(k + 1) % n], abs=1e-9)
        assert np.cos(piece.headings[0] - chain.heading[(k + 1) % n]) == pytest.approx(1.0, abs=1e-12)


def test_a_rectangle_by_hand():
    made = rounded_polygon([[0, 0], [10, 0], [10, 6], [0, 6]], [1.0, 2.0, 1.0, 2.0])
    assert_closed(made)
    # Straights lose both arcs: 2 (10 − 3) + 2 (6 − 3), and the quarter circles of 1, 2, 1 and 2 m are 3 pi.
    assert made.total == pytest.approx(14 + 6 + 3 * np.pi)
    area = shapely.Polygon(made.points_at(np.linspace(0, made.total, 4001))).area
    assert area == pytest.approx(60.0 - (4 - np.pi) * (1 + 4 + 1 + 4) / 4, abs=1e-3)


def test_where_arcs_meet_it_is_arcs_alone():
    made = rounded_polygon([[0, 0], [4, 0], [4, 4], [0, 4]], [2.0] * 4)
    assert [e.kind for e in made.elements] == ["arc"] * 4
    assert made.total == pytest.approx(4 * np.pi)
    assert_closed(made)


@examples(60)
@given(st.lists(st.floats(3.0, 9.0), min_size=3, max_size=8), st.floats(0.1, 3.0), st.floats(0.0, 6.0), st.booleans())
def test_any_star_is_closed_and_smooth(reach, radius, turned, back):
    at = turned + np.linspace(0.0, 2 * np.pi, len(reach), endpoint=False)
    corners = np.column_stack([reach * np.cos(at), reach * np.sin(at)])
    try:
        made = rounded_polygon(corners[::-1] if back else corners, [radius] * len(reach))
    except DoesNotFit:
        assume(False)
    assert_closed(made)
    turned_by = np.sum(made.length * made.k0)
    assert turned_by == pytest.approx(2 * np.pi, abs=1e-9)


@pytest.mark.parametrize(
    ("corners", "radii", "words"),
    [
        ([[0, 0], [10, 0]], [1, 1], "three corners"),
        ([[0, 0], [10, 0], [10, 6]], [1, 0, 1], "above zero"),
        ([[0, 0], [4, 0], [4, 4], [0, 4]], [3, 3, 3, 3], "2.00 m too short"),
        ([[0, 0], [4, 4], [4, 0], [0, 5]], [0.1] * 4, "cross"),
        ([[0, 0], [4, 0], [8, 0]], [0.1] * 3, "on a line"),
    ],
)
def test_what_cannot_be_says_why(corners, radii, words):
    with pytest.raises(DoesNotFit, match=words):
        rounded_polygon(corners, radii)
