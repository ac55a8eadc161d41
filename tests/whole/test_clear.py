"""Lots are cut clear of every reserve, corner splays included, and of each other; what adjoins shares its levels."""

import numpy as np
import pytest
import shapely

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.lot.clear import cleared, contacts, reserves_near
from humble_loop.kinds.lot.layout import lots_on
from humble_loop.kinds.lot.model import LotRow
from humble_loop.kinds.lot.plan import lot_plan
from humble_loop.kinds.street import Bend, StreetLine, Vip
from humble_loop.kinds.street.plan import chain_of, street_ids
from humble_loop.lines.line import line
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from humble_loop.whole.surface import probe
from tests import edits
from tests.conftest import plane_ground, rolling_ground
from tests.whole.test_surface import assert_watertight


def two(apart, *, at=(0.0, 0.0), ground=None, rows=("a",)):
    """Streets A and B side by side, B to A's left, with lots between them."""
    e, n = at
    surface = ground or plane_ground(0.02, 0.01, 50.0).shifted(e, n)
    site = edits.add_ground(new_site(), Ground(name="g", surface=surface))
    for name, y in (("A", 0.0), ("B", apart)):
        bends = [Bend(easting=e, northing=n + y), Bend(easting=e + 160, northing=n + y)]
        vips = (Vip(chainage=0, level=50.2 + 0.01 * y), Vip(chainage=160, level=53.3 + 0.01 * y))
        site = edits.add_street(site, name, bends, vips=vips)
    for street in rows:
        site = edits.add_lot_row(site, street, "left" if street == "a" else "right", frontage=16, depth=30)
    return site


def corner(angle):
    """A side street at an angle, with lots along both."""
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(0.02, 0.01, 50.0)))
    main = (Vip(chainage=0, level=50.3), Vip(chainage=200, level=54.3))
    site = edits.add_street(site, "Main", [Bend(easting=0, northing=0), Bend(easting=200, northing=0)], vips=main)
    a = np.radians(angle)
    ends = [Bend(easting=100, northing=0), Bend(easting=100 + 120 * np.cos(a), northing=120 * np.sin(a))]
    site = edits.add_street(site, "Side", ends)
    for street, side in (("main", "left"), ("side", "left"), ("side", "right")):
        site = edits.add_lot_row(site, street, side, frontage=16, depth=30)
    return site


def lands(q):
    found = {}
    for street in street_ids(q):
        for frame in lots_on(q, street):
            plan = q.attempt(lot_plan, frame.id)
            if not isinstance(plan, Unsolved):
                found[frame.id] = shapely.Polygon(plan.outline)
    return found


def built_twice(q):
    return [f for f in findings(q) if f.rule == "built twice"]


@pytest.mark.parametrize("at", [(0.0, 0.0), (312_408.0, 6_251_977.0)])
def test_lots_between_two_streets_end_at_the_others_boundary_with_its_levels(at):
    q = Engine(two(24.0, at=at))
    boundary = StreetLine("b", "boundary", "right")
    made = line(q, boundary)
    half = -float(made.plan.offset.values[0])
    for frame in lots_on(q, "a"):
        plan = lot_plan(q, frame.id)
        assert plan.area == pytest.approx(16 * (24 - 2 * half), rel=1e-6)
        assert {e.part for e in plan.edges} == {"front", "first", "last", "cut"}
    assert built_twice(q) == []
    assert_watertight(q)
    # The lot carries the boundary's level where it adjoins it, a hair inside.
    for s in (20.0, 71.5, 133.0):
        e, n = made.plan.points([s])[0]
        assert probe(q, e, n - 1e-4).finished == pytest.approx(made.rule.levels([s])[0], abs=1e-3)
    assert all(on == boundary for on, _, _ in contacts(q, "a"))


def test_deep_lots_that_reach_a_street_without_lots_adjoin_it_too():
    site = two(90.0)
    row = site.all(LotRow)[0]
    q = Engine(edits.set_lot_row(site, row.id, depth=85.0))
    assert len(contacts(q, "a")) == len(lots_on(q, "a"))
    assert built_twice(q) == []  # B's batter gives way to the lots
    assert_watertight(q)


def test_lots_back_to_back_share_the_land_without_a_gap_or_an_overlap():
    q = Engine(two(60.0, rows=("a", "b")))
    polygons = lands(q)
    half = -float(line(q, StreetLine("b", "boundary", "right")).plan.offset.values[0])
    assert sum(p.area for p in polygons.values()) == pytest.approx(shapely.union_all(list(polygons.values())).area)
    assert sum(p.area for p in polygons.values()) == pytest.approx(160 * (60 - 2 * half), rel=1e-6)
    assert built_twice(q) == []
    # A's row was there first by its id: it keeps its depth, B's has the rest.
    assert all(cleared(q, f.id) is None for f in lots_on(q, "a"))
    assert all(cleared(q, f.id) is not None for f in lots_on(q, "b"))
    assert_watertight(q)


@pytest.mark.parametrize("angle", [50.0, 60.0, 75.0, 90.0, 110.0])
def test_corner_lots_keep_clear_of_the_other_street_and_of_the_splay(angle):
    q = Engine(corner(angle))
    polygons = lands(q)
    assert len(polygons) > 15
    for id, land in polygons.items():
        street = id.partition("-")[0]
        for reserve in reserves_near(q, street):
            assert shapely.intersection(land, reserve.plan).area < 0.06
    both = list(polygons.values())
    assert sum(p.area for p in both) == pytest.approx(shapely.union_all(both).area, abs=0.2)
    assert built_twice(q) == []


def test_a_lot_that_nothing_reaches_into_is_left_as_it_was(brickworks):
    q = Engine(brickworks)
    assert all(cleared(q, f.id) is None for street in street_ids(q) for f in lots_on(q, street))


def test_a_lot_without_room_for_its_pad_still_has_its_surface():
    q = Engine(two(20.0))
    told = [f for f in findings(q) if "no room for a pad" in f.message]
    assert len(told) == len(lots_on(q, "a"))
    assert_watertight(q)


def test_a_lot_wholly_inside_a_reserve_fails_alone_with_a_remedy():
    q = Engine(two(14.0))
    told = [f for f in findings(q) if f.rule == "cannot be worked out" and f.of.kind == "lot"]
    assert told
    assert all("whol" in f.message and f.remedy for f in told)


def test_levels_of_a_street_move_the_edge_of_the_lots_that_adjoin_it():
    site = two(24.0, ground=rolling_ground())
    q = Engine(site)
    e, n = line(q, StreetLine("b", "boundary", "right")).plan.points([70.0])[0]
    before = probe(q, e, n - 1e-4).finished
    q.use(edits.set_vips(site, "b", [Vip(chainage=0, level=51.0), Vip(chainage=160, level=54.0)]))
    moved = line(q, StreetLine("b", "boundary", "right")).rule.levels([70.0])[0]
    assert abs(moved - before) > 0.2
    assert probe(q, e, n - 1e-4).finished == pytest.approx(moved, abs=1e-3)


@pytest.mark.parametrize("apart", [50.0, 66.0])
def test_lots_inside_a_hairpin_share_the_land_between_its_legs(apart):
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(0.02, 0.01, 50.0)))
    bends = [
        Bend(easting=0, northing=0),
        Bend(easting=140, northing=0, radius=apart / 2 - 0.01),
        Bend(easting=140, northing=apart, radius=apart / 2 - 0.01),
        Bend(easting=0, northing=apart),
    ]
    total = chain_of(Engine(edits.add_street(site, "Hairpin", bends)), "hairpin").total
    vips = (Vip(chainage=0, level=50.2), Vip(chainage=total, level=51.0))
    site = edits.add_street(site, "Hairpin", bends, vips=vips)
    q = Engine(edits.add_lot_row(site, "hairpin", "left", frontage=16, depth=30))
    found = list(lands(q).values())
    assert len(found) > 10
    assert sum(p.area for p in found) == pytest.approx(shapely.union_all(found).area, abs=0.1)
    assert built_twice(q) == []
    assert_watertight(q)


def test_lots_inside_a_narrow_hairpin_end_at_its_other_leg():
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(0.02, 0.01, 50.0)))
    bends = [
        Bend(easting=0, northing=0),
        Bend(easting=140, northing=0, radius=17.99),
        Bend(easting=140, northing=36, radius=17.99),
        Bend(easting=0, northing=36),
    ]
    vips = (Vip(chainage=0, level=50.2), Vip(chainage=300, level=51.0))
    site = edits.add_street(site, "Hairpin", bends, vips=vips)
    q = Engine(edits.add_lot_row(site, "hairpin", "left", frontage=16, depth=30))
    found = list(lands(q).values())
    assert len(found) >= 6
    assert built_twice(q) == []
    # Its boundaries stand 7.95 m either side of its crown: nothing reaches beyond the far one.
    far = [p for p in found if p.centroid.x < 100]
    assert max(p.bounds[3] for p in far) == pytest.approx(36 - 8.05, abs=0.01)
