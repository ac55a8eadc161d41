"""What was measured wrong once: moved sites, set-out, seams, one lip, reversing, cutting lots anew, open ends."""

import numpy as np
import pytest
import shapely

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.driveway.place import all_lots
from humble_loop.kinds.driveway.profile import DriveLine
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.junction.corners import kerb_return
from humble_loop.kinds.junction.layout import throat
from humble_loop.kinds.junction.model import JunctionChoice
from humble_loop.kinds.junction.nodes import all_joints, node_id
from humble_loop.kinds.lot.layout import lots_on
from humble_loop.kinds.lot.model import LotRow, PadChoice
from humble_loop.kinds.street import Bend, Street, StreetLine, Vip
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.survey_line import SurveyLine
from humble_loop.kinds.turning_head import TurningHead
from humble_loop.kinds.turning_head.layout import outline
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from humble_loop.whole.finished import whole_surface
from humble_loop.whole.overlaps import counted_volume
from humble_loop.whole.surface import probe
from humble_loop.whole.tables import set_out_points, table, tables
from humble_loop.whole.things import all_faces, all_things, thing_of
from tests import edits
from tests.asking import crown_levels, lip_levels, pad_of
from tests.conftest import court_site, plane_ground, rolling_ground, t_site
from tests.whole.test_surface import assert_watertight

# Real coordinates


def moved(site, east, north):
    """The same site elsewhere: every coordinate moved, nothing else."""
    out = new_site(site.name).model_copy(update={"settings": site.settings, "current_ground": site.current_ground})
    for name, things in site.things.items():
        found = []
        for t in things:
            if isinstance(t, Ground):
                t = t.model_copy(update={"surface": t.surface.shifted(east, north)})
            elif isinstance(t, Street):
                bends = tuple(
                    b.model_copy(update={"easting": b.easting + east, "northing": b.northing + north}) for b in t.bends
                )
                t = t.model_copy(update={"bends": bends})
            elif isinstance(t, SurveyLine):
                t = t.model_copy(update={"vertices": tuple((e + east, n + north, z) for e, n, z in t.vertices)})
            found.append(t)
        out = out.replaced(name, found)
    return out


@pytest.mark.parametrize(("east", "north"), [(123.25, -77.5), (312_408.0, 6_251_977.0), (8.9e6, -8.9e6)])
def test_the_same_site_anywhere_has_the_same_levels_to_a_micrometre_and_volumes_to_ten_litres(court, east, north):
    a, b = Engine(court), Engine(moved(court, east, north))
    for name in ("setout", "lots", "volumes", "heads", "returns"):
        p, r = table(a, name), table(b, name)
        assert len(p.rows) == len(r.rows)
        shift = {"easting": east, "northing": north}
        for k, column in enumerate(p.columns):
            add = next((v for word, v in shift.items() if column.endswith(word)), 0.0)
            for u, v in zip(p.rows, r.rows):
                if isinstance(u[k], float):
                    # Four points on one circle may be joined either way, so volumes are the same to ten litres.
                    size = 1e-6 if column not in ("cut", "fill", "net") else 0.01
                    assert v[k] == pytest.approx(u[k] + add, abs=max(size, abs(add) * 4e-16)), (name, column)
                else:
                    assert u[k] == v[k]


def test_the_brickworks_far_away_are_as_watertight_as_near(brickworks):
    assert_watertight(Engine(moved(brickworks, 700_000.0, 4_000_000.0)))


# Set-out on the line, not on its chord


def test_every_set_out_point_lies_on_its_line_and_leads_back_to_itself(brickworks):
    q = Engine(brickworks)
    chains = {s.name: chain_of(q, s.id) for s in brickworks.all(Street)}
    chains["Kiln Court bulb"] = outline(q, "kiln-court", "end").ring
    middles = [
        line(q, DriveLine(f.id)) for f in all_lots(q) if not isinstance(q.attempt(line, DriveLine(f.id)), Unsolved)
    ]
    chains |= {made.title: made.plan.base for made in middles}
    for _, p in set_out_points(q):
        base = chains[p.base]
        assert base.points_at([p.along], [p.offset])[0] == pytest.approx((p.easting, p.northing), abs=1e-6)


def test_set_out_and_finished_levels_keep_to_a_vertical_curve():
    """On a parabola of 4 % over 60 m, chords 10 m long would be 8 mm off between their ends; rows keep within 2 mm."""
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(0.0, 0.0, 50.0)))
    vips = (Vip(chainage=0, level=50), Vip(chainage=100, grade=0.02, curve_length=60), Vip(chainage=200, grade=-0.02))
    site = edits.add_street(site, "S", [Bend(easting=-100, northing=0), Bend(easting=100, northing=0)], vips=vips)
    q = Engine(site)
    for s in np.linspace(70.3, 129.7, 60):
        exact = 50 + 0.02 * s - (0.04 / (2 * 60)) * (s - 70) ** 2
        assert crown_levels(q, "s", [s])[0] == pytest.approx(exact, abs=1e-9)
        read = probe(q, s - 100.0, 1e-6).finished
        assert abs(read - exact) <= 0.002 + 1e-6
    for _, p in set_out_points(q):
        if 70 <= p.along <= 130:
            exact = 50 + 0.02 * p.along - (0.04 / 120) * (p.along - 70) ** 2 - 0.03 * 3.4
            assert p.level == pytest.approx(exact, abs=1e-9)


# One lip


def test_the_levels_table_has_the_finished_surfaces_lip_or_none(brickworks):
    q = Engine(brickworks)
    count = 0
    for street in ("ember-loop", "kiln-court"):
        chain = chain_of(q, street)
        for s, _, _, left, right, _ in table(q, "levels", street, 3.0).rows:
            for side, level, width in (("left", left, 1.0), ("right", right, -1.0)):
                if level is None:
                    continue
                plan = line(q, StreetLine(street, "lip", side)).plan
                if not plan.start + 0.1 < s < plan.end - 0.1:
                    continue
                e, n = chain.points_at([s], plan.offset.one(s) - width * 1e-6)[0]
                read = probe(q, float(e), float(n)).finished
                assert level == pytest.approx(read, abs=0.003)  # rows keep within 2 mm, and a little of a chord
                count += 1
    assert count > 100


def test_a_side_street_in_the_turning_of_another_junction_makes_no_step():
    """B leaves A within the length in which A's section turns: it is tied to the lip as it is built there."""
    site = t_site(through_fall=0.06)
    site = edits.set_vips(site, "side", [Vip(chainage=60, grade=-0.03)])
    site = edits.set_corner(site, "side", "start", "left", radius=14.0)
    site = edits.set_corner(site, "side", "start", "right", radius=4.0)
    b = [Bend(easting=100, northing=24), Bend(easting=150, northing=24)]
    site = edits.add_street(site, "B", b, section="side", vips=(Vip(chainage=50, grade=0.01),))
    q = Engine(site)
    t = throat(q, "b", "start")
    built = line(q, StreetLine("side", "lip", "right")).rule.levels([t.place.through_at])[0]
    assert t.level == pytest.approx(built, abs=1e-12)


# Nothing is built twice in silence


def two_parallel(apart):
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(0.0, 0.0, 50.0)))
    vips = (Vip(chainage=0, level=51), Vip(chainage=160, level=52))
    for k in range(2):
        bends = [Bend(easting=-80, northing=apart * k), Bend(easting=80, northing=apart * k)]
        site = edits.add_street(site, f"S{k}", bends, vips=vips)
    return site


def test_what_lies_over_another_is_a_finding_with_area_and_place_and_counts_once():
    q = Engine(two_parallel(12.0))
    over = [f for f in findings(q) if f.rule == "built twice"]
    assert over
    assert all(f.value > 0 and f.place is not None for f in over)
    # The carriageways and roadsides are 16.1 m wide: 12 m apart they share 4.1 m over 160 m.
    solid = [f for f in over if "roadside" in f.thing or "carriageway" in f.thing]
    assert sum(f.value for f in solid) == pytest.approx(4.1 * 160, rel=0.01)
    whole = whole_surface(q).surface
    plan = shapely.union_all(shapely.polygons(whole.points[whole.triangles][:, :, :2]))
    assert whole.areas().sum() == pytest.approx(plan.area, rel=1e-6)
    twice = sum(float(finished_mesh(q, id).surface.areas().sum()) for id in all_faces(q))
    assert twice > plan.area + 500
    assert not [f for f in findings(Engine(two_parallel(60.0))) if f.rule == "built twice"]


def beside_long(at, *bends):
    """A street, Wide, with bends (x, y) beside Long, which runs along y = 0; both level and 16.1 m wide."""
    e, n = at
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(0.0, 0.0, 50.0).shifted(e, n)))
    vips = (Vip(chainage=0, level=50), Vip(chainage=400, level=50))
    for name, rows in (("Long", ((-80, 0), (80, 0))), ("Wide", bends)):
        made = [Bend(**dict(zip(Bend.model_fields, (e + x, n + y, *r)))) for x, y, *r in rows]
        site = edits.add_street(site, name, made, vips=vips)
    return site


def solid_over(q):
    return [f for f in findings(q) if f.rule == "built twice" and "batter" not in f.thing]


@pytest.mark.parametrize("at", [(0.0, 0.0), (312_408.0, 6_251_977.0)])
def test_a_street_that_runs_into_another_is_one_place_with_all_of_its_area(at):
    site = beside_long(at, (0, -80), (0, -3))
    found = solid_over(Engine(site))
    assert [(f.thing, f.also) for f in found] == [("Wide", (ThingId("street", "long"),))]
    assert found[0].value == pytest.approx(16.1 * 5.05, abs=0.01)  # from Long's boundary at -8.05 to Wide's end
    assert found[0].message == "81.31 m² of it lie over Long; there it is not counted"
    east, north = (found[0].place[k] + site.origin[k] - at[k] for k in (0, 1))
    assert abs(east) < 8.05
    assert -8.05 < north < -3.0
    assert len(solid_over(Engine(beside_long(at, (-60, -3), (-60, -60, 20), (60, -60, 20), (60, -3))))) == 2


def test_where_two_streets_cross_it_is_told_once():
    # A third street runs through the same point, so no junction is laid out there.
    site = beside_long((0.0, 0.0), (0, -80), (0, 80))
    ends = [Bend(easting=x, northing=y) for x, y in ((-60, -60), (60, 60))]
    vips = (Vip(chainage=0, level=50), Vip(chainage=400, level=50))
    q = Engine(edits.add_street(site, "Third", ends, vips=vips))
    told = [(f.rule, f.thing) for f in findings(q)]
    assert told.count(("streets meet unworked", "Long and Wide")) == 1
    assert not [t for t in told if t[0] == "built twice"]
    assert "each is built through the other" in next(f.message for f in findings(q) if "meet" in f.rule)
    # What else they share elsewhere is told as ever: here Wide comes back over Long's end.
    q = Engine(beside_long((0.0, 0.0), (0, -80), (0, 60, 20), (76, 60, 20), (76, 3)))
    assert len(solid_over(q)) == 1


def test_volumes_count_each_square_metre_once():
    q = Engine(two_parallel(12.0))
    area = sum(counted_volume(q, id).area for id in all_faces(q))
    surface = whole_surface(q).surface
    plan = shapely.union_all(shapely.polygons(surface.points[surface.triangles][:, :, :2]))
    assert area == pytest.approx(plan.area, rel=1e-6)


def test_streets_that_cross_or_meet_end_to_end_are_findings():
    site = t_site()
    site = edits.add_street(site, "Across", [Bend(easting=10, northing=-7), Bend(easting=90, northing=7)])
    site = edits.add_street(site, "On", [Bend(easting=200, northing=0), Bend(easting=260, northing=10)])
    told = [f.message for f in findings(Engine(site)) if f.rule == "streets meet unworked"]
    assert any("Through and Across cross" in m for m in told)
    assert any("On and Through meet end to end" in m for m in told)


def test_open_ends_run_out_to_the_ground():
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(0.0, 0.0, 50.0)))
    bends = [Bend(easting=-80, northing=0), Bend(easting=80, northing=0)]
    site = edits.add_street(site, "S", bends, vips=(Vip(chainage=0, level=52), Vip(chainage=160, level=49)))
    q = Engine(site)
    assert_watertight(q)
    # At the start the crown stands 2 m above the ground: the end falls at 1 in 2 for 4 m.
    assert probe(q, -82.0, 0.0).finished == pytest.approx(51.0, abs=1e-6)
    assert probe(q, -84.5, 0.0).face is None


# Nothing lost


def test_lines_and_faces_are_of_things_that_are_there_when_a_street_is_reversed(court):
    q = Engine(edits.reverse_street(court, "court", chain_of(Engine(court), "court").total))
    things = set(all_things(q))
    assert {thing_of(q, id) for id in all_faces(q)} <= things
    assert {thing_of(q, id) for t in things for id in kind_of(t.kind).lines(q, t)} <= things


def test_reversing_a_street_leaves_what_hangs_on_it_where_it_is(court):
    site = edits.set_corner(court, "court", "start", "left", radius=9.0)
    site = edits.set_pad(site, "Court L2", 40.1)
    total = chain_of(Engine(site), "court").total
    site = edits.set_vips(site, "court", [Vip(chainage=60, level=41.0), Vip(chainage=total, level=39.0)])
    q = Engine(site)
    before = {f.name: f.first.front for f in lots_on(q, "court")}
    node, ring = node_id(q, "court", "start"), outline(q, "court", "end")
    q.use(edits.reverse_street(site, "court", total))
    assert all_joints(q) == (("court", "end", "through"),)
    assert node_id(q, "court", "end") == node
    assert kerb_return(q, "court", "end", "left").curve.radius == 9.0
    assert outline(q, "court", "start").centre == pytest.approx(ring.centre, abs=1e-6)
    after = {f.name: f.first.front for f in lots_on(q, "court")}
    assert after.keys() == before.keys()
    for name, place in before.items():
        assert after[name] == pytest.approx(place, abs=1e-6), name
    assert (pad_of(q, "Court L2").level, pad_of(q, "Court L2").state) == (40.1, "set")
    assert not [f for f in findings(q) if f.rule in ("cannot be worked out", "pad without its lot")]
    assert_watertight(q)


def test_renaming_keeps_pads_and_choices(court):
    site = edits.set_pad(court, "Court L2", 40.1)
    q = Engine(edits.rename_street(site, "court", "Kiln Place"))
    assert pad_of(q, "Kiln Place L2").level == 40.1


def test_a_row_cut_anew_keeps_pads_where_they_stood_and_tells_of_those_that_find_no_lot(court):
    site = edits.set_pad(court, "Court L4", 40.4)
    q = Engine(site)
    place = next(f for f in lots_on(q, "court") if f.name == "Court L4")
    middle = 0.5 * (place.first.front + place.last.front)
    row = place.row.id
    q.use(edits.set_lot_row(site, row, frontage=13.0))
    mine = [f for f in lots_on(q, "court") if pad_of(q, f.name).state == "set"]
    assert len(mine) == 1
    assert np.hypot(*(0.5 * (mine[0].first.front + mine[0].last.front) - middle)) < 13.0
    q.use(edits.set_lot_row(site, row, end=40.0))
    lost = [f for f in findings(q) if f.rule == "pad without its lot"]
    assert len(lost) == 1
    assert q.site.all(PadChoice)
    assert lost[0].mend.apply(q.site).all(PadChoice) == ()


def test_removing_a_street_takes_all_that_is_its_own(court):
    site = edits.set_corner(edits.set_pad(court, "Court L1", 40.0), "court", "start", "left", radius=9.0)
    gone = edits.remove_street(site, "court")
    for kind in (LotRow, PadChoice, TurningHead, JunctionChoice):
        assert gone.all(kind) == ()


# A vertex without a level, unequal slopes


def test_one_vertex_without_a_level_does_not_throw_the_others_away():
    xyz = tuple((float(e), 5.0, None if e == 50 else 30 + 0.01 * e) for e in range(0, 101, 25))
    site = edits.add_survey_lines(t_site(), [SurveyLine(name="lip", vertices=xyz)])
    site = edits.set_street(site, "through", kind="existing", left_lip="lip")
    q = Engine(site)
    levels = line(q, StreetLine("through", "lip", "left")).rule.levels([10.0, 50.0, 90.0])
    assert levels == pytest.approx([30.1, 30.5, 30.9], abs=1e-9)


@pytest.mark.parametrize("name", list(tables()))
def test_tables_of_a_site_far_from_the_origin_tell_real_coordinates(name):
    site = moved(court_site(rolling_ground(600)), 312_408.0, 6_251_977.0)
    q = Engine(site)
    made = table(q, name, "Court" if name in ("centreline", "levels") else None)
    for k, column in enumerate(made.columns):
        for row in made.rows[:50]:
            if row[k] is not None and column.endswith("easting"):
                assert 312_000 < row[k] < 313_200
            if row[k] is not None and column.endswith("northing"):
                assert 6_251_000 < row[k] < 6_252_800


def test_five_hundred_streets_in_a_chain_are_solved():
    site = edits.add_street(
        new_site(),
        "S0",
        [Bend(easting=0, northing=0), Bend(easting=120, northing=0)],
        vips=(Vip(chainage=0, level=50), Vip(chainage=120, level=53)),
    )
    things, e, n = [], 60.0, 0.0
    for k in range(1, 500):
        across = (0.0, 60.0) if k % 2 else (60.0, 0.0)
        bends = (Bend(easting=e, northing=n), Bend(easting=e + 2 * across[0], northing=n + 2 * across[1]))
        things.append(Street(name=f"S{k}", bends=bends, vips=(Vip(chainage=120, grade=0.01),)))
        e, n = e + across[0], n + across[1]
    site = site.replaced("streets", (*site.all(Street), *things))
    q = Engine(site)
    last = q.attempt(throat, "s499", "start")
    assert not isinstance(last, Unsolved)
    assert np.isfinite(last.level)
    assert np.isfinite(lip_levels(q, "s499", "left", [100.0])[0])
    assert ground_of(q).empty
