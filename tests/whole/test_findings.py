"""Findings: each rule broken on purpose, each met exactly, each with its remedy and place."""

import numpy as np
import pytest

from humble_loop.engine.query import Engine
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.lot.model import PadChoice
from humble_loop.kinds.street import Bend, Vip
from humble_loop.lines.findings import too_high, too_low
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from tests import edits
from tests.asking import pad_of
from tests.conftest import lane_section, plane_ground, t_site, with_ring


def street(vips, bends=((-100, 0), (100, 0)), **more):
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(0.0, 0.0, 50.0)))
    made = [Bend(**dict(zip(("easting", "northing", "radius"), b))) for b in bends]
    return edits.add_street(site, "S", made, vips=tuple(vips), **more)


def rules(site):
    return {f.rule for f in findings(Engine(site))}


def one(site, rule):
    found = [f for f in findings(Engine(site)) if f.rule == rule]
    assert len(found) == 1, found
    return found[0]


def two(grade):
    return (Vip(chainage=0, level=50), Vip(chainage=200, grade=grade))


@pytest.mark.parametrize(
    ("grade", "rule"),
    [
        (0.005, None),
        (-0.005, None),
        (0.16, None),
        (0.00499, "grade too flat"),
        (0.1601, "grade too steep"),
        (-0.17, "grade too steep"),
        (0.0, "grade too flat"),
    ],
)
def test_grades_exactly_at_their_limits_are_met(grade, rule):
    got = rules(street(two(grade))) & {"grade too flat", "grade too steep"}
    assert got == ({rule} if rule else set())


def test_a_grade_entered_exactly_is_met_whatever_the_arithmetic_of_levels_makes_of_it():
    for length in (33.3, 71.7, 123.456):
        site = street(
            (
                Vip(chainage=0.1, level=50.123),
                Vip(chainage=0.1 + length, grade=0.005),
                Vip(chainage=200, grade=0.16, curve_length=9),
            )
        )
        assert not rules(site) & {"grade too flat", "grade too steep"}


def test_a_sag_along_a_street_is_told_where_it_is_lowest():
    """From -1 % to +2 % over 60 m: grade is zero a third of the way in, at 90; there 50 - 0.7 - 0.01 * 20 / 2 = 49.2."""
    sag = (Vip(chainage=0, level=50), Vip(chainage=100, level=49, curve_length=60), Vip(chainage=200, level=51))
    found = one(street(sag), "low point along the street")
    assert found.chainage == pytest.approx(90.0, abs=1e-9)
    assert "lowest at 90.00, level 49.200" in found.message
    assert found.place == pytest.approx((-10.0, 0.0))
    crest = (Vip(chainage=0, level=50), Vip(chainage=100, level=51, curve_length=60), Vip(chainage=200, level=50))
    assert "low point along the street" not in rules(street(crest))


def test_equality_passes_and_anything_more_does_not():
    assert not too_low(0.1 + 0.2, 0.3)
    assert not too_high(0.1 + 0.2, 0.3)
    assert too_low(0.3 - 1e-7, 0.3)
    assert too_high(0.3 + 1e-7, 0.3)


def sag(length):
    # Grades -2 % and +3 %: a change of 5 % needs max(10 m, K 3 x 5) = 15 m.
    return street(
        (Vip(chainage=0, level=50), Vip(chainage=100, grade=-0.02, curve_length=length), Vip(chainage=200, grade=0.03))
    )


def test_a_curve_exactly_long_enough_is_met_and_a_short_one_is_mended():
    assert "curve too short" not in rules(sag(15.0))
    found = one(sag(14.9), "curve too short")
    assert found.limit == pytest.approx(15.0)
    assert found.chainage == 100.0
    assert "curve too short" not in rules(found.mend.apply(sag(14.9)))


def test_small_changes_of_grade_need_no_curve():
    assert "curve too short" not in rules(
        street((Vip(chainage=0, level=50), Vip(chainage=100, grade=0.02), Vip(chainage=200, grade=0.0299)))
    )


def test_overlapping_curves():
    site = street(
        (
            Vip(chainage=0, level=50),
            Vip(chainage=90, grade=-0.02, curve_length=60),
            Vip(chainage=110, grade=0.02, curve_length=60),
            Vip(chainage=200, grade=-0.02),
        )
    )
    assert one(site, "curves overlap").value == pytest.approx(40.0)


def test_a_grade_line_that_ends_early():
    found = one(street((Vip(chainage=0, level=50), Vip(chainage=150, grade=0.02))), "grade line too short")
    assert found.chainage == 150.0
    assert found.place == pytest.approx((50.0, 0.0))


@pytest.mark.parametrize(("fall", "bad"), [(0.025, False), (0.045, False), (0.0249, True), (0.0451, True), (0.0, True)])
def test_crossfalls(fall, bad):
    site = edits.set_section(street(two(0.02), section="x"), lane_section("x", 3.5, fall))
    assert ("crossfall" in rules(site)) is bad


def test_a_bend_that_does_not_fit_is_mended_with_the_largest_radius_that_does():
    site = street(two(0.02), bends=((-100, 0), (0, 0, 300), (0, 100)))
    found = one(site, "bends that do not fit")
    assert found.limit == pytest.approx(100.0)
    assert found.place == (0.0, 0.0)
    assert "bends that do not fit" not in rules(found.mend.apply(site))


def test_a_tight_radius():
    site = street(two(0.02), bends=((-100, 0), (0, 0, 11.9), (0, 100)))
    assert one(site, "radius").limit == 12.0
    assert "radius" not in rules(edits.set_bend(site, "s", 1, radius=12.0))


def test_points_at_one_place_are_mended_by_removing_one():
    site = street(two(0.02), bends=((-100, 0), (0, 0, 0), (0, 0, 0), (100, 10)))
    assert "points at one place" not in rules(one(site, "points at one place").mend.apply(site))


def test_a_street_off_the_ground_and_a_site_without_ground():
    assert one(street(two(0.02), bends=((-100, 0), (400, 0))), "street off the ground").chainage == pytest.approx(
        350.0, abs=0.01
    )
    bare = edits.add_street(
        new_site(), "S", [Bend(easting=0, northing=0), Bend(easting=99, northing=0)], vips=two(0.02)
    )
    assert one(bare, "ground").severity == "near"


def test_a_street_with_nothing_to_propose_from_says_so_and_the_rest_stands():
    site = edits.add_street(street(two(0.02)), "Lost", [Bend(easting=9000, northing=0), Bend(easting=9100, northing=0)])
    got = findings(Engine(site))
    assert any(f.thing == "Lost" and f.rule == "cannot be worked out" for f in got)
    assert not any(f.thing == "S" for f in got)


def test_a_low_point_on_a_return_wants_a_pit():
    site = edits.set_vips(t_site(through_fall=-0.02), "side", [Vip(chainage=60, grade=0.03)])
    found = [f for f in findings(Engine(site)) if f.rule == "low point without a pit"]
    assert [f.thing for f in found] == ["Side / Through left corner"]
    mended = found[0].mend.apply(site)
    assert "low point without a pit" not in rules(mended)


def test_a_steep_return():
    site = edits.set_vips(t_site(), "side", [Vip(chainage=60, grade=0.15)])
    assert "return too steep" in rules(site)


def test_a_flat_return():
    # Through street flat along the lip and the side street level with it: hardly any fall round the corner.
    site = edits.set_vips(t_site(through_fall=0.0), "side", [Vip(chainage=60, grade=-0.01)])
    assert "return too flat" in rules(site)


def test_bulb_rules():
    base = edits.set_head(street(two(0.02)), "s")
    assert not rules(base) & {"bulb radius", "bulb drainage"}
    small = one(edits.set_head(base, "s", radius=8.4), "bulb radius")
    assert small.limit == 8.5
    assert "bulb radius" not in rules(small.mend.apply(edits.set_head(base, "s", radius=8.4)))
    # A street that falls into its bulb, told to drain back to the street, ponds on the lip.
    ponds = edits.set_head(street(two(-0.02)), "s", outlet="street")
    assert "bulb drainage" in rules(ponds)
    assert "bulb drainage" not in rules(edits.set_head(street(two(-0.02)), "s", outlet="pit"))


def test_a_bulb_too_small_for_its_street_fails_alone():
    site = edits.set_head(street(two(0.02)), "s", radius=3.0)
    found = one(site, "cannot be worked out")
    assert found.thing == "S bulb"
    assert "narrower" in found.message


@pytest.mark.parametrize(("shift", "bad"), [(0.0, False), (-0.001, True)])
def test_a_pad_exactly_at_its_windows_edge_is_in_it(court, shift, bad):
    made = pad_of(Engine(court), "Court L1")
    site = edits.set_pad(court, "Court L1", made.low + shift)
    got = [f for f in findings(Engine(site)) if f.rule == "pad out of its window"]
    assert bool(got) is bad
    if bad:
        assert got[0].mend.apply(site).all(PadChoice) == ()


def test_a_row_with_no_room_for_a_lot(court):
    site = edits.add_lot_row(court, "court", "left", start=20, end=25)
    assert any(f.rule == "lots" and "no lot fits" in f.message for f in findings(Engine(site)))


def test_a_lot_without_room_for_its_pad(court):
    site = edits.set_lot_row(court, "court-right", setback=40)
    assert any("no room for a pad" in f.message for f in findings(Engine(site)))


def test_a_ring_of_streets_is_one_finding_each_and_the_rest_stands():
    site = street(two(0.02), bends=((-100, -100), (100, -100)))
    site = with_ring(site)
    got = findings(Engine(site))
    assert any(f.rule == "ring of ties" and "→" in f.message for f in got)
    assert not any(f.thing == "S" for f in got)


def test_worst_first(brickworks):
    got = findings(Engine(brickworks))
    order = [(f.severity != "broken", -f.margin) for f in got]
    assert order == sorted(order)


def test_the_brickworks_show_findings_of_different_kinds(brickworks):
    assert {f.rule for f in findings(Engine(brickworks))} >= {
        "curve too short",
        "grade too flat",
        "pad out of its window",
    }


def test_every_finding_says_what_where_and_what_to_do(brickworks):
    for f in findings(Engine(brickworks)):
        assert f.message
        assert f.remedy
        assert f.place is not None
        assert np.isfinite(f.place).all()


def test_a_lot_beyond_the_end_of_the_grade_line_fails_alone_and_says_so(court):
    short = edits.set_vips(court, "court", [Vip(chainage=0, level=50), Vip(chainage=90, level=64)])
    found = [f for f in findings(Engine(short)) if "along its frontage has no levels" in f.message]
    assert found
    assert all(
        f.thing.startswith("Court L") or f.thing.startswith("Court R") or f.thing.startswith("Court H") for f in found
    )
    assert any(f.rule == "grade line too short" for f in findings(Engine(short)))
