"""The finished surface: watertight, without overlaps, on the ground at its rim; heads, lots and batters in it."""

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.ground.volume import Volume, volume_between
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.ground.volumes import face_volume
from humble_loop.kinds.lot.layout import lots_on
from humble_loop.kinds.lot.pad import frontage_levels, median_ground, pad
from humble_loop.kinds.lot.plan import lot_plan
from humble_loop.kinds.street import Bend, Street, StreetFace, Vip
from humble_loop.kinds.street.section import rows
from humble_loop.kinds.turning_head.layout import abeam, outline
from humble_loop.kinds.turning_head.levels import ring_levels
from humble_loop.lines.faces import face, finished_mesh
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from humble_loop.whole.finished import whole_surface
from humble_loop.whole.surface import probe
from humble_loop.whole.things import all_faces
from tests import edits
from tests.asking import crown_levels, half_road, lip_levels, lot_named, pad_of, roadside
from tests.conftest import court_site, examples, plane_ground, plane_level, rolling_ground


def edge_counts(surface):
    """How many triangles stand at each edge, after points at one place are merged."""
    t = surface.triangles
    e = np.sort(np.concatenate([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]]), axis=1)
    return np.unique(e, axis=0, return_counts=True)


def assert_watertight(q, off=1e-6):
    """Every inner edge has two triangles, nothing overlaps, and the whole rim lies on the ground (``off`` metres of it)."""
    whole = whole_surface(q).surface
    _, counts = edge_counts(whole)
    assert set(counts) <= {1, 2}
    plan = shapely.union_all(shapely.polygons(whole.points[whole.triangles][:, :, :2]))
    assert whole.areas().sum() == pytest.approx(plan.area, rel=1e-9)
    assert plan.geom_type == "Polygon"
    rim = whole.points[np.unique(whole.outline_edges)]
    assert np.abs(ground_of(q).levels(rim) - rim[:, 2]).max() < off


def test_the_court_is_watertight(court):
    q = Engine(court)
    assert not [p for p in all_faces(q) if isinstance(q.attempt(finished_mesh, p), Unsolved)]
    assert_watertight(q)


def test_the_brickworks_are_watertight(brickworks):
    q = Engine(brickworks)
    assert_watertight(q)


@examples(8)
@given(st.integers(0, 500), st.floats(-6, 6), st.floats(-6, 6), st.floats(-1.5, 1.5))
def test_it_stays_watertight_on_other_ground_and_when_the_court_is_dragged(seed, dx, dy, offset):
    site = court_site(rolling_ground(1500, seed))
    site = edits.move_bend(site, "court", 2, 160 + dx, 120 + dy)
    site = edits.set_head(site, "court", offset=offset)
    q = Engine(site)
    assert_watertight(q)


def test_pieces_agree_along_shared_lines(court):
    """At random points of every lip the carriageway, junction, bulb and roadside read the same level."""
    q = Engine(court)
    meshes = [finished_mesh(q, p).surface for p in all_faces(q)]
    for edge in (("side", "court", "left"), ("corner", "court", "start", "right"), ("head", "court")):
        lip = roadside(q, *edge).line("lip")
        middle = 0.5 * (lip[:-1] + lip[1:])
        for p in middle[:: max(1, len(middle) // 9)]:
            read = [z for m in meshes if np.isfinite(z := m.levels(p[None, :2])[0])]
            assert len(read) >= 2
            assert read == pytest.approx([p[2]] * len(read), abs=1e-6)


def test_probing_a_crown_and_a_lip_gives_the_section(court):
    q = Engine(court)
    half = half_road(q, "court", "left")
    k = len(half.along) // 2
    for p in half.points[k]:
        assert probe(q, p[0], p[1]).finished == pytest.approx(p[2], abs=1e-9)
    outside = probe(q, 380.0, 380.0)
    assert np.isnan(outside.finished)
    assert outside.face is None
    assert outside.ground == pytest.approx(ground_of(q).levels([[380.0, 380.0]])[0])


def test_the_volume_of_the_pieces_is_the_volume_of_the_whole(court):
    q = Engine(court)
    parts = sum((face_volume(q, p) for p in all_faces(q)), Volume(0, 0, 0))
    whole = volume_between(ground_of(q), whole_surface(q).surface)
    assert parts == pytest.approx(whole, rel=1e-6)


# Sections


def test_section_points_lie_where_the_typical_section_puts_them():
    """Outside the lip by hand: invert 0.300 / -0.025, back of kerb 0.450 / +0.125, then verge, path and strip at 2 %."""
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground()))
    site = edits.add_street(
        site,
        "S",
        [Bend(easting=-100, northing=0), Bend(easting=100, northing=0)],
        vips=(Vip(chainage=0, level=52), Vip(chainage=200, level=50)),
    )
    q = Engine(site)
    side = roadside(q, "side", "s", "left")
    assert side.names == ("lip", "invert", "top of kerb", "back of kerb", "path front", "path back", "boundary")
    i = int(np.argmin(np.abs(side.along - 100.0)))
    lip = 51.0 - 0.03 * 3.4
    expected = lip + np.array([0, -0.025, 0.12, 0.125, 0.125 + 0.02 * 1.8, 0.125 + 0.02 * 3.6, 0.125 + 0.02 * 4.2])
    assert side.points[i, :, 2] == pytest.approx(expected, abs=1e-12)
    assert side.points[i, :, 1] == pytest.approx(3.4 + np.array([0, 0.3, 0.33, 0.45, 2.25, 4.05, 4.65]), abs=1e-12)


def test_batters_reach_a_plane_where_arithmetic_says():
    # Ground 50 - 0.03 e + 0.02 n; boundary at n = 7.7, level z: fill when above. Reach r: z - r / 2 = g + 0.02 r.
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground()))
    site = edits.add_street(
        site,
        "S",
        [Bend(easting=-100, northing=0), Bend(easting=100, northing=0)],
        vips=(Vip(chainage=0, level=54), Vip(chainage=200, level=50)),
    )
    q = Engine(site)
    made = face(q, StreetFace("s", "batter", "left"))
    hinge, toe = made.points[:, 0], made.points[:, 1]
    gap = hinge[:, 2] - plane_level(hinge)
    expected = np.where(gap > 0, gap / (0.5 + 0.02), -gap / (0.5 - 0.02))
    assert made.met.all()
    assert np.hypot(*(toe - hinge)[:, :2].T) == pytest.approx(expected, abs=1e-9)
    assert np.array_equal(toe[:, 2] > hinge[:, 2], gap < 0)


def test_rows_stand_at_every_key_point_and_follow_arcs(court):
    q = Engine(court)
    s = rows(q, "court")
    assert np.all(np.diff(s) > 0)
    for key in (*half_road(q, "court", "left").along[[0, -1]], *np.arange(10, 120, 10.0)):
        assert np.min(np.abs(s - key)) < 1e-4


# Heads


@examples(25)
@given(st.floats(-0.06, 0.06).filter(lambda g: abs(g) > 0.006), st.floats(8.5, 12), st.floats(-1.5, 1.5))
def test_a_bulbs_lip_is_closed_smooth_and_drains(grade, radius, offset):
    site = new_site()
    site = edits.add_street(
        site,
        "S",
        [Bend(easting=0, northing=0), Bend(easting=150, northing=0)],
        vips=(Vip(chainage=0, level=30), Vip(chainage=150, grade=grade)),
    )
    site = edits.set_head(site, "s", radius=radius, offset=offset)
    q = Engine(site)
    made, ring = ring_levels(q, "s", "end"), outline(q, "s", "end")
    p = made.rule.profile
    # Both ends meet the straight lips in level and grade.
    left, right = (
        lip_levels(q, "s", "left", [ring.base_left])[0],
        lip_levels(q, "s", "right", [ring.base_right])[0],
    )
    assert (p.level([0])[0], p.level([ring.ring.total])[0]) == pytest.approx((left, right), abs=1e-9)
    assert (p.grade([0])[0], p.grade([ring.ring.total], "before")[0]) == pytest.approx((grade, -grade), abs=1e-9)
    # No kink: every inner VIP has a curve.
    assert np.all(p.curves[1:-1] > 0)
    # Along the lip it falls at least 0.5 % the way the water goes, but for the rounding at the turn.
    falls = p.grades[1:5] * np.array([1, 1, -1, -1]) * (1 if made.outlet == "street" else -1)
    assert np.all(falls >= 0.005 - 1e-12)
    # Round the bulb it falls no more than that, so that the radial fall changes as little as it can: the returns take the rest.
    assert falls[1:3] == pytest.approx([0.005, 0.005])
    assert made.outlet == ("street" if grade > 0 else "pit")
    assert made.centre == pytest.approx(30 + 150 * grade, abs=1e-9)
    # Where the radial fall governs, the lip as it is built, rounded, has exactly that fall where it has least.
    lip = made.rule.levels([made.turn if made.outlet == "street" else ring.ends[0]])[0]
    if made.governs == "radial":
        assert (made.centre - lip) / radius == pytest.approx(0.03, abs=1e-9)
    # All the way round either the class's limits hold, or a finding says where they do not.
    u = np.linspace(*ring.ends, 200)
    fall = (made.centre - made.rule.levels(u)) / radius
    told = {f.rule for f in findings(q)}
    assert "radial fall" in told or (fall.min() >= 0.01 - 1e-4 and fall.max() <= 0.05 + 1e-4)


def test_abeam_is_square_to_the_streets_end():
    site = edits.add_street(
        new_site(),
        "S",
        [Bend(easting=0, northing=0), Bend(easting=100, northing=0)],
        vips=(Vip(chainage=0, level=3), Vip(chainage=100, level=4)),
    )
    q = Engine(edits.set_head(site, "s", radius=10.0))
    ring = outline(q, "s", "end").ring
    assert ring.points_at([abeam(q, "s", "end", "left")])[0] == pytest.approx([100, 10], abs=1e-9)
    assert ring.points_at([abeam(q, "s", "end", "right")])[0] == pytest.approx([100, -10], abs=1e-9)


# Lots


def test_lots_share_the_frontage_evenly_and_their_side_lines_do_not_cross(court):
    q = Engine(court)
    found = lots_on(q, "court")
    assert [lot.name for lot in found if lot.row.place == "head"] == ["Court H1", "Court H2", "Court H3"]
    outlines = [shapely.Polygon(lot_plan(q, lot.id).outline) for lot in found]
    for i, a in enumerate(outlines):
        assert a.is_valid
        for b in outlines[:i]:
            assert a.intersection(b).area < 1e-6
    straight = [lot_plan(q, lot.id).frontage for lot in found if lot.row.place == "right"][:-1]
    assert min(straight) >= 18.0 - 0.05
    assert max(straight) - min(straight) < 0.01


def test_a_lots_frontage_is_the_roadsides_boundary(court):
    q = Engine(court)
    boundary = roadside(q, "side", "court", "left").points[:, -1]
    for p in frontage_levels(q, lot_named(q, "Court L2").id):
        assert np.min(np.linalg.norm(boundary - p, axis=1)) < 1e-9


def test_pads_are_the_grounds_median_held_in_their_window(court):
    q = Engine(court)
    for lot in lots_on(q, "court"):
        made = pad(q, lot.id)
        assert made.low == pytest.approx(made.boundary + 0.01 * made.run, abs=1e-9)
        assert made.high == pytest.approx(made.boundary + 0.20 * made.run, abs=1e-9)
        assert made.level == pytest.approx(np.clip(made.wanted, made.low, made.high), abs=1e-12)
        assert made.state == "proposed"


def test_a_median_pad_moves_less_earth_than_one_a_little_higher_or_lower():
    """On level plates the sum |cut| + |fill| over the pad is least at the median: checked by moving it."""
    ground = rolling_ground()
    ring = np.array([[100.0, 100], [120, 100], [120, 115], [100, 115]])
    level = median_ground(ground, ring)
    x, y = np.meshgrid(np.arange(100.25, 120, 0.5), np.arange(100.25, 115, 0.5))
    z = ground.levels(np.column_stack([x.ravel(), y.ravel()]))
    moved = [np.abs(z - (level + d)).sum() for d in (-0.15, 0.0, 0.15)]
    assert moved[1] < min(moved[0], moved[2])


def test_a_set_pad_stays_and_goes_back(court):
    q = Engine(edits.set_pad(court, "Court L1", 39.0))
    assert (pad_of(q, "Court L1").level, pad_of(q, "Court L1").state) == (39.0, "set")
    q.use(edits.set_pad(q.site, "Court L1", None))
    assert pad_of(q, "Court L1").state == "proposed"


# Incremental and afresh


EDITS = st.lists(
    st.one_of(
        st.tuples(st.just("bend"), st.integers(0, 2), st.floats(-4, 4), st.floats(-4, 4)),
        st.tuples(st.just("through"), st.floats(-3, 3)),
        st.tuples(st.just("vip"), st.floats(37, 41)),
        st.tuples(st.just("radius"), st.sampled_from([5.0, 6.5, 8.0, 90.0])),
        st.tuples(st.just("bulb"), st.floats(6, 13), st.floats(-2, 2)),
        st.tuples(st.just("pad"), st.sampled_from(["Court L1", "Court H2"]), st.one_of(st.none(), st.floats(36, 42))),
        st.tuples(st.just("row"), st.floats(14, 24)),
    ),
    min_size=1,
    max_size=4,
)


def _apply(site, edit):
    kind, *v = edit
    bends = site.find(Street, "court").bends
    if kind == "bend":
        return edits.move_bend(site, "court", v[0], bends[v[0]].easting + v[1], bends[v[0]].northing + v[2])
    if kind == "through":
        return edits.move_bend(site, "through", 1, 260, 20 + v[0])
    if kind == "vip":
        return edits.set_vips(site, "court", [Vip(chainage=128, level=v[0])])
    if kind == "radius":
        return edits.set_corner(site, "court", "start", "left", radius=v[0])
    if kind == "bulb":
        return edits.set_head(site, "court", radius=v[0], offset=v[1])
    if kind == "pad":
        return edits.set_pad(site, *v)
    return edits.set_lot_row(site, "court-right", frontage=v[0])


@examples(12)
@given(EDITS)
def test_any_series_of_edits_gives_what_solving_afresh_gives(court, series):
    q = Engine(court)
    findings(q)
    site = court
    for edit in series:
        site = _apply(site, edit)
        q.use(site)
        fresh = Engine(site)
        assert findings(q) == findings(fresh) or [str(f) for f in findings(q)] == [str(f) for f in findings(fresh)]
        assert all_faces(q) == all_faces(fresh)
        for piece in all_faces(fresh):
            a, b = q.attempt(finished_mesh, piece), fresh.attempt(finished_mesh, piece)
            assert type(a) is type(b)
            if not isinstance(a, Unsolved):
                assert np.array_equal(a.surface.points, b.surface.points)
                assert np.array_equal(a.surface.triangles, b.surface.triangles)


def test_a_pad_edit_works_out_that_lot_and_little_else(court):
    q = Engine(court)
    for p in all_faces(q):
        finished_mesh(q, p)
    in_row = sum(f.row.place == "left" for f in lots_on(q, "court"))
    q.stats.computed.clear()
    q.use(edits.set_pad(court, "Court L1", 39.0))
    for p in all_faces(q):
        finished_mesh(q, p)
    assert q.stats.computed == {"placed_pads": 1, "pad_choice": in_row, "pad": 1, "face": 1, "finished_mesh": 1}


def test_crown_levels_are_known_all_along_the_court(court):
    q = Engine(court)
    assert np.isfinite(crown_levels(q, "court", np.linspace(0, 130, 40))).all()


@pytest.mark.parametrize("offset", [8.2e-7, 1e-5, 4e-4, 6e-4, 2e-3])
def test_a_hairs_breadth_of_offset_makes_no_hole(offset):
    site = edits.set_head(court_site(rolling_ground(1500, 0)), "court", offset=offset)
    assert_watertight(Engine(site))
