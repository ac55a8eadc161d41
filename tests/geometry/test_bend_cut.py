"""Lines cut in two lie where they lay."""

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from humble_loop.geometry.bend_cut import CannotCut, cut_bends
from humble_loop.geometry.bends import BendInput, lay_bends
from tests.conftest import examples

E0, N0 = 312_408.0, 6_251_977.0


def bends(*rows):
    return [BendInput(E0 + e, N0 + n, *more) for e, n, *more in rows]


LINES = {
    "arcs": bends((0, 0), (120, 0, 60), (200, 90, 45), (330, 60)),
    "transitions": bends((0, 0), (150, 0, 70, 20, 35), (240, 140, 50, 15, 0), (400, 100)),
    "three centres": bends((0, 0), (150, 0, 40, 0, 0, 100, np.radians(15), 90, np.radians(20)), (190, 200), (300, 300)),
    "three centres with transitions": bends(
        (0, 0), (150, 0, 40, 18, 12, 100, np.radians(15), 90, np.radians(20)), (190, 220), (300, 320)
    ),
    "nearly half a turn": bends((0, 0), (300, 0, 18), (0, 40)),
}


@given(st.sampled_from(sorted(LINES)), st.floats(0.001, 0.999))
@examples(60)
def test_both_parts_lie_where_the_line_lay(name, share):
    line = LINES[name]
    whole = lay_bends(line).chain
    s = share * whole.total
    kind = whole.elements[int(whole.element_at([s])[0])].kind
    if kind == "transition":
        with pytest.raises(CannotCut, match="within a transition"):
            cut_bends(line, s)
        return
    assume(0.05 < s < whole.total - 0.05)
    first, second = (lay_bends(part) for part in cut_bends(line, s))
    assert not first.problems
    assert not second.problems
    assert first.chain.total == pytest.approx(s, abs=1e-6)
    assert second.chain.total == pytest.approx(whole.total - s, abs=1e-6)
    for part, begin in ((first.chain, 0.0), (second.chain, s)):
        t = np.linspace(0.0, part.total, 40)
        assert np.hypot(*(part.points_at(t) - whole.points_at(begin + t)).T).max() < 2e-6
    turn = float(first.chain.at([first.chain.total - 1e-9]).headings[0] - second.chain.at([0.0]).headings[0])
    assert abs(np.sin(turn)) < 1e-6  # tangent where they meet


def test_a_place_that_is_no_part_of_the_line_is_refused():
    for s in (-1.0, 0.0, 1e6):
        with pytest.raises(CannotCut, match="not inside it"):
            cut_bends(LINES["arcs"], s)
    with pytest.raises(CannotCut, match="bend 2 does not fit"):
        cut_bends(bends((0, 0), (50, 0, 400), (60, 60)), 20.0)
