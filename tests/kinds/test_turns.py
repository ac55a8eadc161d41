"""Who can turn in a junction: worked cases, laws, findings, table and rows."""

import numpy as np
import pytest
import shapely

from humble_loop.engine.query import Engine
from humble_loop.kinds.junction.turns import legs_of, road, turning_sheet, turnings
from humble_loop.kinds.junction.vehicles import VEHICLES
from humble_loop.kinds.street import Bend, Vip
from humble_loop.lines.table import NoSuchTable
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from humble_loop.whole.tables import table
from tests import edits
from tests.conftest import lane_section, t_site
from tests.kinds.test_crossings import cross

NODE = "side:start"


def wide(radius, half=3.0):
    site = edits.set_section(t_site(), lane_section("side", half))
    for corner in ("left", "right"):
        site = edits.set_corner(site, "side", "start", corner, radius=radius)
    return site


def test_a_t_has_four_turning_movements_and_a_four_way_eight():
    q = Engine(t_site())
    assert [leg.name for leg in legs_of(q, NODE)] == ["Through onwards", "Through back", "Side"]
    made = turnings(q, NODE, "car")
    assert [(t.begin, t.finish) for t in made] == [
        ("Through onwards", "Side"),
        ("Through back", "Side"),
        ("Side", "Through onwards"),
        ("Side", "Through back"),
    ]
    assert len(turnings(Engine(cross()), "across:through:0", "car")) == 8


def test_the_road_is_what_lies_between_the_lips():
    """60 m of the through street each way, 7 m wide, 60 m of the side street from the node, 6 m wide, and in each corner what a
    return of 8 m leaves: (1 - pi / 4) 64 m2.
    """
    q = Engine(wide(8.0))
    area = 120.0 * 7.0 + (60.0 - 3.5) * 6.0 + 2.0 * (1.0 - np.pi / 4) * 64.0
    assert road(q, NODE).area == pytest.approx(area, rel=2e-3)


def test_a_car_keeps_to_its_lane_and_a_long_vehicle_swings_out_to_keep_off_the_kerb():
    q = Engine(wide(8.0))
    for t in turnings(q, NODE, "car"):
        assert (t.over_lip, t.over_crown) == (0.0, 0.0)
    waste = {(t.begin, t.finish): t for t in turnings(q, NODE, "waste")}
    # Traffic keeps left: from the west into the street to the north is the turn round the near corner.
    near = waste["Through back", "Side"]
    assert near.over_lip == 0.0
    assert near.over_crown > 1.0
    ground = shapely.Polygon(near.ring)
    assert road(q, NODE).buffer(0.06).contains(ground)
    assert ground.area > 9.7 * 2.5


def test_with_traffic_on_the_right_the_near_corner_is_the_other_one():
    left = {(t.begin, t.finish): t for t in turnings(Engine(wide(8.0)), NODE, "waste")}
    right = {
        (t.begin, t.finish): t for t in turnings(Engine(edits.set_settings(wide(8.0), traffic="right")), NODE, "waste")
    }
    # The junction is its own mirror image about the side street.
    for a, b in (
        (("Through back", "Side"), ("Through onwards", "Side")),
        (("Side", "Through back"), ("Side", "Through onwards")),
    ):
        assert left[a].over_crown == pytest.approx(right[b].over_crown, abs=0.02)
        assert left[a].over_lip == pytest.approx(right[b].over_lip, abs=0.02)


def test_a_tight_corner_of_narrow_streets_is_driven_over_and_told_with_its_place():
    site = wide(1.0, 2.2)
    q = Engine(site)
    told = [f for f in findings(q) if f.rule == "vehicle over a kerb"]
    assert told
    assert "a waste collection vehicle that turns from" in told[0].message
    assert told[0].value > 0.05
    e = told[0].place[0]
    assert abs(e + q.site.origin[0] - 100.0) < 15.0
    assert not [f for f in findings(Engine(wide(12.0))) if f.rule == "vehicle over a kerb"]


def test_streets_that_meet_too_sharply_cannot_be_turned_into():
    site = new_site()
    ends = [Bend(easting=0, northing=0), Bend(easting=120, northing=0)]
    vips = (Vip(chainage=0, level=10), Vip(chainage=120, level=11))
    site = edits.add_street(site, "Main", ends, vips=vips)
    u = np.radians(22.0)
    ends = [Bend(easting=60, northing=0), Bend(easting=60 + 80 * np.cos(u), northing=80 * np.sin(u))]
    site = edits.add_street(site, "Slip", ends, vips=(Vip(chainage=80, grade=0.01),))
    found = [f for f in findings(Engine(site)) if f.rule in ("vehicle over a kerb", "car out of its lane")]
    assert any("Main onwards" in f.message for f in found)


def test_bent_legs_are_driven_as_straight_ones_where_they_all_but_are():
    """A through street with a bend of 3000 m is not straight for the solver, and all but straight for a driver."""
    bent = wide(8.0)
    bent = edits.insert_bend(bent, "through", 1, Bend(easting=100.0, northing=0.02, radius=3000.0))
    bent = edits.move_bend(bent, "side", 0, 100.0, 0.015)
    a, b = (turnings(Engine(s), NODE, "waste") for s in (wide(8.0), bent))
    for straight, curved in zip(a, b):
        assert curved.over_crown == pytest.approx(straight.over_crown, abs=0.06)
        assert curved.over_lip == pytest.approx(straight.over_lip, abs=0.06)


def test_table_and_rows():
    q = Engine(wide(8.0))
    made = table(q, "swept", "Side / Through", None)
    assert made.columns[:7] == ("junction", "vehicle", "from", "to", "radius", "over_lip", "into_lanes")
    assert len(made.rows) == 4 * len(VEHICLES)
    with pytest.raises(NoSuchTable, match="no junction 'x'; there are Side / Through"):
        table(q, "swept", "x", None)
    sheet = turning_sheet(q, NODE)
    assert len(sheet.rows) == 16
    assert all(len(r.points) > 10 for r in sheet.rows)
    over = [r.cells[4].value if r.cells[4] else 0.0 for r in sheet.rows]
    assert over == sorted(over, reverse=True)
