"""Batters that meet make a valley or a ridge: exact where arithmetic says where, watertight everywhere."""

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.corners import boundary_of, kerb_return
from humble_loop.kinds.street import Bend, StreetLine, Vip
from humble_loop.kinds.street.plan import chain_of
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import line
from humble_loop.site.libraries import new_site
from humble_loop.whole import batters
from humble_loop.whole.findings import findings
from humble_loop.whole.surface import probe
from humble_loop.whole.things import all_faces
from tests import edits
from tests.conftest import examples, lane_section, plane_ground
from tests.whole.test_surface import assert_watertight

SLOPE = 0.5  # of the shipped sections' batters
LEVEL = 50.0


def tee(angle, ground, *, fall=0.0, grades=(0.0, 0.0), at=(0.0, 0.0), radius=None):
    """A side street at an angle in its through street's left, both of one section without crossfall where ``fall`` is 0."""
    e, n = at
    site = edits.add_ground(new_site(), Ground(name="g", surface=ground.shifted(e, n)))
    site = edits.set_section(site, lane_section("flat", 3.2, fall))
    main, side = grades
    vips = (Vip(chainage=0, level=LEVEL - 60 * main), Vip(chainage=120, level=LEVEL + 60 * main))
    ends = [Bend(easting=e - 60, northing=n), Bend(easting=e + 60, northing=n)]
    site = edits.add_street(site, "Main", ends, section="flat", vips=vips)
    a = np.radians(angle)
    ends = [Bend(easting=e, northing=n), Bend(easting=e + 70 * np.cos(a), northing=n + 70 * np.sin(a))]
    return edits.add_street(site, "Side", ends, section="flat", vips=(Vip(chainage=70, grade=side),))


def boundaries(q):
    """The boundaries round both corners and along their legs, in plan."""
    ids = [StreetLine("main", "boundary", "left")]
    ids += [StreetLine("side", "boundary", side) for side in ("left", "right")]
    ids += [boundary_of(q, "side", "start", c) for c in ("left", "right")]
    return shapely.union_all([shapely.LineString(run[:, :2]) for i in ids for run in line(q, i).runs(0.0005)])


@pytest.mark.parametrize("depth", [7.0, -7.0])
@pytest.mark.parametrize("angle", [70.0, 90.0, 120.0])
def test_on_level_ground_the_corner_is_as_deep_as_it_is_far_from_the_nearest_boundary(angle, depth):
    q = Engine(tee(angle, plane_ground(0.0, 0.0, LEVEL + depth)))
    edge = boundaries(q)
    level = float(line(q, boundary_of(q, "side", "start", "left")).points([0.0])[0, 2])
    a = np.radians(angle)
    corners = [(np.cos(b), np.sin(b)) for b in (a / 2, (a + np.pi) / 2)]
    checked = 0
    for u, v in corners:
        for far in np.arange(12.0, 26.0, 1.7):
            for turn in (-0.5, -0.1, 0.02, 0.3):
                e, n = far * (u * np.cos(turn) - v * np.sin(turn)), far * (u * np.sin(turn) + v * np.cos(turn))
                d = edge.distance(shapely.Point(e, n))
                made = probe(q, e, n)
                if made.title.endswith("batter") and 0.05 < d * SLOPE < abs(depth) - 0.3:
                    checked += 1
                    assert made.finished == pytest.approx(level + np.sign(depth) * SLOPE * d, abs=0.004)
    assert checked > 20


@pytest.mark.parametrize("depth", [6.0, -6.0])
@pytest.mark.parametrize("angle", [60.0, 90.0, 110.0])
def test_a_junction_deep_in_the_ground_or_high_above_it_is_watertight(angle, depth):
    q = Engine(tee(angle, plane_ground(0.03, -0.02, LEVEL + depth), fall=0.03, grades=(0.03, 0.04)))
    assert_watertight(q)
    assert not [f for f in findings(q) if f.rule in ("built twice", "batter finds no ground", "batter ends in the air")]


@given(
    angle=st.floats(35, 145),
    depth=st.sampled_from([-9.0, -4.0, 4.0, 9.0]),
    slope=st.tuples(st.floats(-0.08, 0.08), st.floats(-0.08, 0.08)),
    grades=st.tuples(st.floats(-0.06, 0.06), st.floats(-0.08, 0.08)),
)
@examples(15)
def test_any_corner_on_any_slope_is_watertight(angle, depth, slope, grades):
    q = Engine(tee(angle, plane_ground(*slope, LEVEL + depth), fall=0.03, grades=grades))
    assert_watertight(q)


@pytest.mark.parametrize("depth", [1.0, 4.0, -4.0])
@pytest.mark.parametrize("angle", [60.0, 75.0, 90.0, 110.0])
def test_lots_round_a_deep_corner_share_every_edge_with_it_and_with_each_other(angle, depth):
    site = tee(angle, plane_ground(0.03, -0.02, LEVEL + depth), fall=0.03, grades=(0.03, 0.04))
    for street, side in (("main", "left"), ("side", "left"), ("side", "right")):
        site = edits.add_lot_row(site, street, side, frontage=16, depth=30)
    q = Engine(site)
    assert_watertight(q)
    assert not [f for f in findings(q) if f.rule in ("built twice", "batter finds no ground", "batter ends in the air")]


@pytest.mark.parametrize("depth", [5.0, -5.0])
@pytest.mark.parametrize("offset", [0.0, 4.0])
def test_a_bulb_deep_in_the_ground_or_high_above_it_is_watertight(depth, offset):
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(0.03, 0.01, LEVEL + depth)))
    ends = [Bend(easting=-40, northing=0), Bend(easting=60, northing=0)]
    vips = (Vip(chainage=0, level=LEVEL), Vip(chainage=100, level=LEVEL + 3))
    site = edits.add_street(site, "Court", ends, vips=vips)
    site = edits.set_head(site, "court", radius=9.0, return_radius=12.0, offset=offset)
    q = Engine(site)
    assert_watertight(q)
    assert not [f for f in findings(q) if f.rule in ("built twice", "batter finds no ground", "batter ends in the air")]


@pytest.mark.parametrize("depth", [6.0, -6.0])
def test_the_inside_of_a_tight_bend_is_watertight(depth):
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(0.02, 0.03, LEVEL + depth)))
    bends = [
        Bend(easting=-60, northing=0),
        Bend(easting=0, northing=0, radius=14),
        Bend(easting=10, northing=60),
    ]
    total = chain_of(Engine(edits.add_street(site, "Bend", bends)), "bend").total
    vips = (Vip(chainage=0, level=LEVEL), Vip(chainage=total, level=LEVEL + 4))
    assert_watertight(Engine(edits.add_street(site, "Bend", bends, vips=vips)))


@pytest.mark.parametrize("depth", [6.0, -6.0])
def test_a_batter_that_ends_in_the_air_is_told(depth):
    """Shallow lots hold back both legs' batters, and leave the corner's without anything to go on."""
    site = tee(90.0, plane_ground(0.0, 0.0, LEVEL + depth), fall=0.03)
    q = Engine(edits.add_lot_row(site, "main", "left", frontage=16, depth=3))
    told = [f for f in findings(q) if f.rule == "batter ends in the air"]
    assert len(told) == 2
    for corner, f in zip(("left", "right"), sorted(told, key=lambda f: f.place[0])):
        boundary = boundary_of(q, "side", "start", corner)
        arc = kerb_return(q, "side", "start", corner).curve
        levels = line(q, boundary).points(np.linspace(0.0, arc.length, 2001))[:, 2]
        inner = arc.radius - abs(float(line(q, boundary).plan.offset.values[0]))
        centre = levels.min() + SLOPE * inner if depth > 0 else levels.max() - SLOPE * inner
        assert f.value == pytest.approx(abs(LEVEL + depth - centre), abs=1e-3)
        assert f.remedy


def test_a_batter_does_not_go_on_behind_what_it_runs_into():
    """A lies 18 m below B, 24 m beside it: its cut would pass under B. It ends there, told; behind B, B's own cut stands."""
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(0.0, 0.0, 70.0)))
    site = edits.set_section(site, lane_section("flat", 3.2, 0.0))
    for name, y, level in (("A", 0.0, 40.0), ("B", 24.0, 58.0)):
        ends = [Bend(easting=-80, northing=y), Bend(easting=80, northing=y)]
        vips = (Vip(chainage=0, level=level), Vip(chainage=160, level=level))
        site = edits.add_street(site, name, ends, section="flat", vips=vips)
    q = Engine(site)
    edge = line(q, StreetLine("b", "boundary", "left")).points([80.0])[0]
    behind = probe(q, 0.0, edge[1] + 6.0)
    assert behind.title == "B left batter"
    assert behind.finished == pytest.approx(edge[2] + SLOPE * 6.0, abs=1e-6)
    (told,) = [f for f in findings(q) if f.rule == "batter on a street"]
    assert told.thing == "A left batter"
    assert "its cut goes under B" in told.message


def test_batters_that_lie_over_one_another_without_number_are_told_and_the_rest_stands(monkeypatch):
    """As of a street folded many times upon itself: to divide them would take minutes."""
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(0.0, 0.0, 50.0)))
    bends = [Bend(easting=-60, northing=0), Bend(easting=20, northing=0, radius=14), Bend(easting=-60, northing=30)]
    site = edits.add_street(site, "Hairpin", bends, vips=(Vip(chainage=0, level=46), Vip(chainage=150, level=46)))
    assert not any("too many times" in f.message for f in findings(Engine(site)))
    monkeypatch.setattr(batters, "_MOST", 3)
    q = Engine(site)
    found = [f for f in findings(q) if "too many times to be divided" in f.message]
    assert found
    assert all("move the street's bends apart" in f.remedy for f in found)
    sound = [id for id in all_faces(q) if not id.gives_way]
    assert sound
    assert all(len(finished_mesh(q, id).surface.triangles) for id in sound)
