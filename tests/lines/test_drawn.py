"""Lines drawn together, on one base, are those that each is by itself."""

import numpy as np
import shapely
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.geometry.chain import Chain, Element
from humble_loop.lines.drawn import drawn_as, runs_beside
from humble_loop.lines.line import LinePlan
from humble_loop.lines.varying import Varying
from tests.conftest import examples

BASE = Chain.from_elements(
    (312_408.0, 6_251_977.0), 0.4, [Element(40, 0, 0), Element(50, 0.03, 0.03), Element(20, 0, 0)]
)
SAG = 0.03
spans = st.tuples(st.floats(0, 45), st.floats(65, 110), st.booleans())


def plan(start, end, gap, offset, wider):
    gaps = ((start + 5.0, start + 9.0),) if gap else ()
    return LinePlan(
        "a line", "lip", BASE, Varying.of([0.0, 50.0, 60.0, 110.0], [offset, offset, wider, wider]), start, end, gaps
    )


@examples(40)
@given(st.lists(st.tuples(spans, st.floats(-9, 9), st.floats(-9, 9)), min_size=1, max_size=4))
def test_each_run_begins_and_ends_where_its_line_does_and_keeps_to_it(rows):
    plans = [plan(*span, offset, wider) for span, offset, wider in rows]
    for line, runs in zip(plans, runs_beside(plans, SAG)):
        ends = [line.start, *(v for gap in line.gaps for v in gap), line.end]
        assert len(runs) == len(ends) // 2
        for (a, b), run in zip(zip(ends[::2], ends[1::2]), runs):
            assert np.abs(run[[0, -1]] - line.points([a, b])).max() < 1e-9
            fine = shapely.points(line.points(np.linspace(a, b, 300)))
            (alone,) = [s for s in line.runs(SAG) if s[0] == a]
            by_itself = shapely.distance(fine, shapely.linestrings(line.points(alone))).max()
            assert shapely.distance(fine, shapely.linestrings(run)).max() < max(1.05 * SAG, by_itself + 1e-9)


def test_lines_are_had_by_role_in_their_order_and_on_other_bases_by_themselves():
    other = Chain.from_points([(0, 0), (10, 0)])
    kerb, path = plan(0, 110, False, 3.0, 3.0), plan(0, 110, True, 5.0, 5.0)
    aside = LinePlan("another", "kerb", other, Varying.steady(1.0), 0.0, 10.0)
    found = drawn_as([("kerb", kerb), ("path", path), ("kerb", aside)], SAG)
    assert list(found) == ["kerb", "path"]
    assert [len(found[role]) for role in found] == [2, 2]
    assert found["kerb"][1].tolist() == [[0.0, 1.0], [10.0, 1.0]]
