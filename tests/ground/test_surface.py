"""Surfaces: building, reading, draping, contouring, meeting, measuring."""

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.geometry.chain import Chain, Element
from humble_loop.ground import grid
from humble_loop.ground.build import CannotTriangulate, build_surface, peel, spikes
from humble_loop.ground.contour import contour_lines, contour_segments
from humble_loop.ground.cut import Lost, cutting
from humble_loop.ground.drape import cross_segments, drape, level_along
from humble_loop.ground.meet import toes
from humble_loop.ground.surface import Surface
from humble_loop.ground.volume import volume_between
from tests.conftest import examples, plane_ground, plane_level, rolling_ground


def cut(surface, taken, lost=None):
    """What is left of a surface, all pieces of the work at once."""
    pieces = cutting(surface, taken, lost)
    try:
        while True:
            next(pieces)
    except StopIteration as end:
        return end.value


def test_levels_on_a_plane_are_the_planes():
    ground = plane_ground()
    at = np.random.default_rng(1).uniform(-249, 249, (4000, 2))
    assert np.abs(ground.levels(at) - plane_level(at)).max() < 1e-9
    assert ground.slopes(at) == pytest.approx(np.tile([-0.03, 0.02], (4000, 1)), abs=1e-9)


def test_levels_at_the_points_themselves_are_theirs():
    ground = rolling_ground()
    assert np.abs(ground.levels(ground.points) - ground.points[:, 2]).max() < 1e-9


def test_large_coordinates_keep_their_digits():
    small = plane_ground()
    far = Surface(small.points + [350_000.0, 6_250_000.0, 0.0], small.triangles)
    at = np.random.default_rng(2).uniform(-200, 200, (500, 2))
    assert np.abs(far.levels(at + [350_000.0, 6_250_000.0]) - plane_level(at)).max() < 1e-7


def test_off_the_surface_and_not_a_number_are_nan():
    ground = plane_ground()
    assert np.isnan(ground.levels([[1e4, 0], [np.nan, 0], [np.inf, 1]])).all()
    assert np.isnan(Surface(np.empty((0, 3)), np.empty((0, 3))).levels([[0, 0]])).all()


def test_a_point_search_agrees_with_trying_every_triangle():
    ground = rolling_ground(200)
    at = np.random.default_rng(5).uniform(-160, 410, (300, 2))
    found = ground.find(at)
    p = ground.points[:, :2]
    for x, hit in zip(at, found):
        a, b, c = (p[ground.triangles[:, k]] for k in range(3))
        cross = lambda u, v: u[:, 0] * v[:, 1] - u[:, 1] * v[:, 0]  # noqa: E731
        inside = (cross(b - a, x - a) >= 0) & (cross(c - b, x - b) >= 0) & (cross(a - c, x - c) >= 0)
        assert (hit >= 0) == inside.any()
        if hit >= 0:
            assert inside[hit]


def test_triangles_without_area_are_never_found():
    s = Surface([[0, 0, 1], [10, 0, 2], [5, 0, 9], [5, 10, 3]], [[0, 1, 2], [0, 1, 3]])
    assert s.find([[5.0, 1.0]])[0] == 1


@examples(30)
@given(st.integers(0, 10_000))
def test_breaklines_are_edges(seed):
    rng = np.random.default_rng(seed)
    points = np.column_stack([rng.uniform(0, 100, (150, 2)), rng.uniform(0, 5, 150)])
    x = np.sort(rng.uniform(5, 95, 6))
    line = np.column_stack([x, 50 + rng.uniform(-20, 20, 6), rng.uniform(0, 5, 6)])
    surface, _ = build_surface(points, [line])
    # On a breakline levels run straight between its vertices, which only an edge gives.
    for a, b in zip(line[:-1], line[1:]):
        t = np.linspace(0.03, 0.97, 9)[:, None]
        at = a + t * (b - a)
        assert np.abs(surface.levels(at) - at[:, 2]).max() < 1e-6


def test_a_point_on_a_breakline_at_another_level_is_reported_where_it_lies():
    """Halfway along a breakline that rises from 10 to 14 m it is at 12 m."""
    corners = [[0, -9, 10], [100, -9, 10], [100, 9, 10], [0, 9, 10]]
    line = [[0, 0, 10], [100, 0, 14]]
    far = np.array([312_408.0, 6_251_977.0, 0.0])
    for move in (np.zeros(3), far):
        _, problems = build_surface(np.array([*corners, [50, 0.003, 21.8]]) + move, [np.array(line) + move])
        assert [p.kind for p in problems] == ["point on a breakline"]
        assert problems[0].message == "a point at level 21.800 lies on a breakline that is at 12.000 there"
        assert problems[0][2:] == pytest.approx((50 + move[0], 0.003 + move[1]))
    for level, off in ((12.04, 0.0), (21.8, 0.02)):
        _, problems = build_surface([*corners, [50, off, level]], [line])
        assert problems == []


def test_crossing_breaklines_with_different_levels_are_reported_where_they_cross():
    points = [[0, 0, 0], [10, 0, 0], [10, 10, 0], [0, 10, 0]]
    _, problems = build_surface(points, [[[1, 1, 2], [9, 9, 2]], [[1, 9, 4], [9, 1, 4]]])
    assert [p.kind for p in problems] == ["crossing breaklines"]
    assert (problems[0].easting, problems[0].northing) == pytest.approx((5, 5))


def test_two_levels_at_one_place_are_reported_and_the_first_kept():
    surface, problems = build_surface([[0, 0, 1], [10, 0, 1], [0, 10, 1], [0, 0, 7]])
    assert [p.kind for p in problems] == ["duplicate"]
    assert surface.levels([[0, 0]])[0] == 1


def test_a_spike_is_found():
    ground = plane_ground()
    points = ground.points.copy()
    points[300, 2] += 30.0
    found = spikes(Surface(points, ground.triangles))
    assert [(p.easting, p.northing) for p in found] == [tuple(points[300, :2])]
    assert spikes(ground) == []


@pytest.mark.parametrize(
    "points", [[], [[0, 0, 0]], [[0, 0, 0], [1, 1, 1], [0, 0, 0]], [[0, 0, 0], [1, 1, 1], [2, 2, 2], [3, 3, 1]]]
)
def test_points_that_make_no_surface_are_refused(points):
    with pytest.raises(CannotTriangulate):
        build_surface(np.array(points).reshape(-1, 3))


def test_peeling_removes_long_slivers_from_the_outside_only():
    points = np.array([[x, y, 0.0] for x in range(10) for y in range(10)] + [[60.0, 5.0, 0.0]])
    surface, _ = build_surface(points, longest_edge=5.0)
    assert np.isnan(surface.levels([[40, 5]])[0])
    assert surface.levels([[4.5, 4.5]])[0] == 0.0
    whole = build_surface(points)[0]
    assert np.isfinite(whole.levels([[30, 5]])[0])
    assert len(peel(whole, 1e9).triangles) == len(whole.triangles)


def test_a_draped_line_has_a_point_at_every_edge_and_no_other():
    ground = rolling_ground(600)
    line = Chain.from_points([[0, 0], [220, 90]])
    got = drape(ground, line)
    a, b = np.array([0.0, 0.0]), np.array([220.0, 90.0])
    expected = 0
    for i, j in ground.edges:
        p, q = ground.points[i, :2], ground.points[j, :2]
        m = np.column_stack([b - a, p - q])
        if abs(np.linalg.det(m)) > 1e-12:
            t, u = np.linalg.solve(m, p - a)
            expected += 0 < t < 1 and 0 <= u <= 1
    assert len(got.chainages) == expected + 2
    assert np.abs(ground.levels(line.points_at(got.chainages)) - got.levels).max() < 1e-8


@examples(25)
@given(st.floats(-2, 2), st.sampled_from([1 / 60, -1 / 35, 0.0]), st.floats(-5, 5))
def test_between_draped_points_the_ground_is_straight_in_level(heading, k, offset):
    ground = rolling_ground(500)
    line = Chain.from_elements((100, 100), heading, [Element(30, 0, 0), Element(60, k, k)])
    got = drape(ground, line, offset)
    assert np.abs(ground.levels(line.points_at(got.chainages, offset)) - got.levels).max() < 1e-7
    on_straight = got.chainages[got.chainages <= 30.0]
    middle = 0.5 * (on_straight[:-1] + on_straight[1:])
    assert np.abs(level_along(got, middle) - ground.levels(line.points_at(middle, offset))).max() < 1e-7


def test_a_gap_in_the_ground_is_a_gap_in_the_line():
    two = Surface(
        [[0, 0, 1], [10, 0, 1], [0, 10, 1], [10, 10, 1], [20, 0, 5], [30, 0, 5], [20, 10, 5], [30, 10, 5]],
        [[0, 1, 2], [1, 3, 2], [4, 5, 6], [5, 7, 6]],
    )
    got = drape(two, Chain.from_points([[-5, 5], [35, 5]]))
    assert np.isnan(level_along(got, [15.0])[0]) or np.isnan(level_along(got, [20.0])[0])
    assert level_along(got, [7.0, 28.0]) == pytest.approx([1, 5])


def test_contours_of_a_plane_lie_on_their_level():
    ground = plane_ground()
    segments, levels = contour_segments(ground, 0.5)
    assert np.abs(plane_level(segments.reshape(-1, 2)) - np.repeat(levels, 2)).max() < 1e-9
    assert set(np.round(np.unique(levels) / 0.5, 9) % 1) == {0.0}


def test_contour_lines_join_every_segment_once():
    ground = rolling_ground(800)
    segments, levels = contour_segments(ground, 1.0)
    lines = contour_lines(ground, 1.0)
    assert sum(len(line) - 1 for _, line in lines) == len(segments)
    length = sum(np.hypot(*np.diff(line, axis=0).T).sum() for _, line in lines)
    assert length == pytest.approx(np.hypot(*(segments[:, 1] - segments[:, 0]).T).sum())
    assert len(lines) < len(segments) / 5
    assert levels.size


def test_a_cone_has_closed_contours():
    t = np.linspace(0, 2 * np.pi, 40, endpoint=False)
    points = [[0, 0, 10.0], *[[20 * np.cos(a), 20 * np.sin(a), 0.0] for a in t]]
    lines = contour_lines(build_surface(points)[0], 3.0)
    assert [level for level, _ in lines] == [0.0, 3.0, 6.0, 9.0] or [level for level, _ in lines] == [3.0, 6.0, 9.0]
    for level, line in lines:
        if level:
            assert line[0] == pytest.approx(line[-1])


def test_flat_ground_at_a_contours_level_makes_no_scribble():
    flat = build_surface([[0, 0, 5.0], [10, 0, 5.0], [10, 10, 5.0], [0, 10, 5.0]])[0]
    assert len(contour_segments(flat, 1.0)[0]) == 0


def test_a_contour_interval_must_be_positive():
    with pytest.raises(ValueError, match="more than zero"):
        contour_segments(plane_ground(), 0.0)


@examples(20)
@given(st.floats(-3, 3), st.integers(0, 1000))
def test_the_volume_of_a_lifted_surface_is_area_times_lift(lift, seed):
    ground = rolling_ground(300, seed)
    design = Surface(ground.points + [0, 0, lift], ground.triangles)
    v = volume_between(ground, design)
    area = ground.areas().sum()
    assert v.area == pytest.approx(area, rel=1e-9)
    assert v.fill - v.cut == pytest.approx(area * lift, rel=1e-9, abs=1e-6)
    assert min(v.fill, v.cut) == pytest.approx(0.0, abs=1e-6)


def test_cut_and_fill_of_a_tilted_plate_are_two_wedges():
    # Over a 20 x 20 plate tilted by 0.1 about its middle: each wedge is 20 * (10 * 1) / 2 = 100 m3.
    ground = plane_ground(0.0, 0.0, 10.0)
    design = Surface([[-10, -10, 9], [10, -10, 11], [10, 10, 11], [-10, 10, 9]], [[0, 1, 2], [0, 2, 3]])
    v = volume_between(ground, design)
    assert (v.cut, v.fill, v.area) == pytest.approx((100, 100, 400), rel=1e-9)


def test_volume_is_the_same_by_a_fine_grid():
    ground, design = rolling_ground(400, 1), rolling_ground(300, 9)
    v = volume_between(ground, design)
    x, y = np.meshgrid(np.arange(-150, 400, 1.0) + 0.5, np.arange(-150, 400, 1.0) + 0.5)
    at = np.column_stack([x.ravel(), y.ravel()])
    d = design.levels(at) - ground.levels(at)
    d = d[np.isfinite(d)]
    assert v.fill == pytest.approx(d[d > 0].sum(), rel=5e-3)
    assert v.cut == pytest.approx(-d[d < 0].sum(), rel=5e-3)


@pytest.mark.parametrize(
    ("depth", "slope", "gradient"), [(2.0, 0.5, 0.0), (1.0, 0.5, 0.1), (-3.0, 0.5, 0.0), (-1.0, 0.5, 0.1)]
)
def test_batters_meet_a_plane_where_arithmetic_says(depth, slope, gradient):
    """From a hinge ``depth`` below the ground: reach = depth / (slope - gradient) in cut, |depth| / (slope + gradient) in fill."""
    ground = plane_ground(gradient, 0.0, 20.0)
    hinge = np.array([[0.0, 0.0, 20.0 - depth]])
    got = toes(ground, hinge, np.array([[1.0, 0.0]]), slope, slope, np.array([60.0]))
    expected = depth / (slope - gradient) if depth > 0 else -depth / (slope + gradient)
    assert got.met[0]
    assert bool(got.cut[0]) == (depth > 0)
    assert got.reach[0] == pytest.approx(expected, abs=1e-9)


def test_a_batter_that_finds_no_ground_says_so():
    got = toes(
        plane_ground(0.6, 0.0, 20.0), np.array([[0.0, 0.0, 18.0]]), np.array([[1.0, 0.0]]), 0.5, 0.5, np.array([30.0])
    )
    assert not got.met[0]
    assert got.reach[0] == 30.0


def test_crossings_of_many_segments_agree_with_one_at_a_time():
    ground = rolling_ground(500)
    rng = np.random.default_rng(8)
    a, b = rng.uniform(0, 300, (12, 2)), rng.uniform(0, 300, (12, 2))
    all_at_once = cross_segments(ground, a, b)
    for i in range(12):
        one = cross_segments(ground, a[i], b[i])
        assert all_at_once.along[all_at_once.line == i] == pytest.approx(one.along)


@examples(30)
@given(st.integers(0, 10_000), st.booleans())
def test_one_point_is_found_as_many_are(seed, indexed):
    """A cursor's point is looked up in its cell, or among all triangles where no index was made."""
    rng = np.random.default_rng(seed)
    points = np.column_stack([rng.uniform(0, 50, (60, 2)) + [312_408, 6_251_977], rng.uniform(0, 5, 60)])
    ground, twin = build_surface(points)[0], build_surface(points)[0]
    at = rng.uniform(-5, 55, (40, 2)) + [312_408, 6_251_977]
    many, slopes = twin.levels(at), twin.slopes(at)
    if indexed:
        assert len(ground.grid.triangles)
    one = np.array([ground.levels(p[None])[0] for p in at])
    assert np.isnan(one).any()
    assert np.isfinite(one).any()
    assert one == pytest.approx(many, abs=1e-9, nan_ok=True)
    assert np.array([ground.slopes(p[None])[0] for p in at]) == pytest.approx(slopes, abs=1e-9, nan_ok=True)
    assert np.isnan(ground.levels([[np.nan, 1.0]])).all()


def test_what_triangles_lose_is_taken_from_them_alone():
    """A square of two triangles of which one loses a corner and both lose a band: what is left keeps its plane."""
    ground = Surface([[0, 0, 1.0], [4, 0, 1.4], [4, 4, 1.8], [0, 4, 1.4]], [[0, 1, 2], [0, 2, 3]])
    first = int(ground.find([[3.0, 1.0]])[0])
    corner = shapely.box(3.0, 0.0, 4.0, 0.5)
    band = shapely.box(-1.0, 1.5, 5.0, 2.5)
    rest, owner = cut(ground, band, Lost(np.array([first]), np.array([corner], dtype=object)))
    assert rest.areas().sum() == pytest.approx(16.0 - 4.0 - 0.5, abs=1e-12)
    assert np.isnan(rest.levels([[3.5, 0.25], [1.0, 2.0], [3.0, 2.0]])).all()
    kept = np.array([[2.5, 0.25], [3.5, 0.75], [1.0, 3.5], [0.5, 0.25]])
    assert rest.levels(kept) == pytest.approx(1.0 + 0.1 * kept.sum(axis=1), abs=1e-12)
    middle = rest.points[rest.triangles].mean(axis=1)
    assert (owner == ground.find(middle)).all()


def test_both_ways_of_listing_triangles_by_cell_are_one(monkeypatch):
    ground = rolling_ground()
    pairs = np.unique(np.random.default_rng(5).integers(0, [300, 40], (2000, 2)), axis=0)[:, ::-1]  # by triangle
    first, members = grid._in_rows(pairs[:, 0], pairs[:, 1], (40, 300))
    for k in range(40):
        assert members[first[k] : first[k + 1]].tolist() == pairs[pairs[:, 0] == k, 1].tolist()
    monkeypatch.setattr(grid, "_MANY", 0)
    again = grid._in_rows(pairs[:, 0], pairs[:, 1], (40, 300))
    assert np.array_equal(first, again[0])
    assert np.array_equal(members, again[1])
    assert np.abs(Surface(ground.points, ground.triangles).levels(ground.points) - ground.points[:, 2]).max() < 1e-9


def test_what_a_long_shape_takes_is_what_it_covers():
    """Triangles that it only touches, covers, and cuts: each keeps what lies outside of it, to the area."""
    x = np.linspace(-200.0, 200.0, 800)
    shape = shapely.LineString(np.column_stack([x, 20.0 * np.sin(x / 30.0)])).buffer(6.0)
    ground = rolling_ground()
    rest, of = cut(ground, shape)
    plans = shapely.polygons(ground.points[ground.triangles][:, :, :2])
    wanted = shapely.area(shapely.difference(plans, shape))
    found = np.bincount(of, rest.areas(), minlength=len(plans))
    assert shapely.get_num_coordinates(shape) > 1000
    assert (wanted < shapely.area(plans) - 1.0).sum() > 50
    assert np.abs(found - wanted).max() < 1e-6
