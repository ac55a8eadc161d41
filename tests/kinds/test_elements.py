"""A street's line element by element, its grade line VIP by VIP, and what crosses it; and typing into them."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.demo import repeated_site
from humble_loop.engine.query import Engine
from humble_loop.geometry.bends import BendInput, lay_bends
from humble_loop.kinds.street import Bend, Street, Vip
from humble_loop.kinds.street.checks import bend_findings
from humble_loop.kinds.street.edits import lay_leg, raise_vips, set_bend
from humble_loop.kinds.street.elements import KINK, degree_of_curve, element_sheet, elements
from humble_loop.kinds.street.grades import crossing_rows, crossing_sheet, grade_sheet, vip_rows
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.street.show import facts
from humble_loop.site.edits import EditError
from humble_loop.site.libraries import new_site
from tests import edits
from tests.conftest import examples, reference

E0, N0 = 312_408.0, 6_251_977.0


def street(*bends, **choices):
    """A site with one street, 'line', through bends (x, y, radius, in, out)."""
    made = [
        Bend(**dict(zip(("easting", "northing", "radius", "transition_in", "transition_out"), (E0 + x, N0 + y, *rest))))
        for x, y, *rest in bends
    ]
    return edits.add_street(new_site(), "Line", made, **choices)


def told(site):
    return elements(Engine(site), "line")


def cell(sheet, row, column):
    return sheet.rows[row].cells[sheet.columns.index(column)]


def typed(site, row, column, value, of=element_sheet):
    return cell(of(Engine(site), "line"), row, column).edit(value)(site)


# A right angle to the left at 100 m, radius 40: tangents 40, arc 20 pi.
CORNER = ((0.0, 0.0), (100.0, 0.0, 40.0), (100.0, 100.0))


def test_a_corner_is_straight_arc_straight():
    a, b, c = told(street(*CORNER))
    assert [e.kind for e in (a, b, c)] == ["straight", "arc", "straight"]
    assert [e.bend for e in (a, b, c)] == [0, 1, 1]
    assert (a.length, c.length) == (pytest.approx(60.0), pytest.approx(60.0))
    assert b.length == pytest.approx(20.0 * np.pi)
    assert b.radii == pytest.approx((40.0, 40.0))
    assert a.bearings == pytest.approx((90.0, 90.0))
    assert b.bearings[1] % 360.0 == pytest.approx(0.0, abs=1e-9)
    assert b.deflection == pytest.approx(90.0)
    assert c.end == pytest.approx(120.0 + 20.0 * np.pi)


@pytest.mark.parametrize("case", reference("centrelines"), ids=lambda case: case["name"])
def test_elements_are_those_worked_out_independently(case):
    bends = [
        (p["easting"], p["northing"], *[p.get(k, 0.0) for k in ("radius", "transition_in", "transition_out")])
        for p in case["points"]
    ]
    e0, n0 = bends[0][:2]
    found = told(street(*((e - e0, n - n0, *rest) for e, n, *rest in bends)))
    wanted = case["elements"]
    assert [e.kind for e in found] == [w["kind"] for w in wanted]
    assert [e.length for e in found] == pytest.approx([w["length"] for w in wanted], abs=1e-6)


def test_unequal_transitions_keep_their_radii_and_turn_half_their_length_over_it():
    _, a, b, c, _ = told(street((0.0, 0.0), (150.0, 0.0, 60.0, 20.0, 30.0), (150.0, 150.0)))
    assert [e.kind for e in (a, b, c)] == ["transition", "arc", "transition"]
    assert a.radii == (np.inf, pytest.approx(60.0))
    assert c.radii == (pytest.approx(60.0), np.inf)
    assert a.deflection == pytest.approx(np.degrees(20.0 / 120.0))
    assert c.deflection == pytest.approx(np.degrees(30.0 / 120.0))
    assert a.deflection + b.deflection + c.deflection == pytest.approx(90.0)


def test_a_turn_without_a_curve_is_a_kink_and_a_finding_whose_remedy_fits():
    site = street((0.0, 0.0), (5.0, 0.0), (5.0, -5.0))
    a, kink, b = told(site)
    assert (kink.kind, kink.bend, kink.length) == (KINK, 1, 0.0)
    assert kink.deflection == pytest.approx(-90.0)
    assert (a.end, b.start) == (pytest.approx(5.0), pytest.approx(5.0))
    (finding,) = bend_findings(Engine(site), "line")[1]
    assert (finding.rule, finding.severity) == ("kink", "near")
    assert finding.value == pytest.approx(90.0)
    mended = finding.mend.apply(site)
    # The class wants 15 m or so; the legs have room for 5.
    assert mended.find(Street, "line").bends[1].radius == pytest.approx(5.0, abs=0.011)
    assert [e.kind for e in told(mended) if e.length > 0.02] == ["arc"]
    # Where the break is meant nothing else is wrong; an existing street is as it is.
    assert not bend_findings(Engine(street((0.0, 0.0), (20.0, 0.0), (20.0, -20.0), kind="existing")), "line")


def test_a_radius_typed_at_a_kink_makes_a_bend_of_it():
    fresh = typed(street((0.0, 0.0), (50.0, 0.0), (50.0, 50.0)), 1, "radius", 12.0)
    assert [e.kind for e in told(fresh)] == ["straight", "arc", "straight"]


def test_what_is_typed_into_the_elements_is_what_they_then_have():
    site = street(*CORNER)
    assert told(typed(site, 1, "radius", 25.0))[1].radii[0] == pytest.approx(25.0)
    assert told(typed(site, 1, "length", 10.0 * np.pi))[1].length == pytest.approx(10.0 * np.pi)
    assert told(typed(site, 2, "length", 33.0))[2].length == pytest.approx(33.0, abs=1e-9)
    turned = typed(site, 2, "bearing", 30.0)
    assert told(turned)[2].bearings == pytest.approx((30.0, 30.0))
    assert told(turned)[0].bearings == pytest.approx((90.0, 90.0))
    clothoid = street((0.0, 0.0), (150.0, 0.0, 60.0, 20.0, 30.0), (150.0, 150.0))
    assert told(typed(clothoid, 1, "length", 24.0))[1].length == pytest.approx(24.0)
    assert told(typed(clothoid, 3, "length", 12.0))[3].length == pytest.approx(12.0)


def test_a_straight_between_two_bends_takes_the_length_typed_while_the_rest_stays():
    site = street((0.0, 0.0), (100.0, 0.0, 30.0), (180.0, 60.0, 25.0), (300.0, 60.0))
    before = site.find(Street, "line").bends
    fresh = lay_leg(site, "line", 1, straight=70.0)
    straight = told(fresh)[2]
    assert (straight.kind, straight.bend) == ("straight", 1)
    assert straight.length == pytest.approx(70.0, abs=1e-6)
    after = fresh.find(Street, "line").bends
    assert [after[k] for k in (0, 1, 3)] == [before[k] for k in (0, 1, 3)]
    # It moved along its leg.
    d = np.array([after[2].easting - after[1].easting, after[2].northing - after[1].northing])
    assert d[0] * 60.0 - d[1] * 80.0 == pytest.approx(0.0, abs=1e-6)


def test_a_schedule_typed_from_the_first_element_to_the_last_gives_its_line():
    """As a designer types another's drawing in: bearing and length of each straight, then the radius."""
    wanted = street((0.0, 0.0), (80.0, 20.0, 35.0), (120.0, 110.0, 28.0), (210.0, 90.0))
    rows = told(wanted)
    site = street((0.0, 0.0), (90.0, 0.0, 35.0), (140.0, 90.0, 28.0), (230.0, 120.0))
    for leg in range(3):
        site = lay_leg(
            site, "line", leg, bearing=next(e for e in rows if e.kind == "straight" and e.bend == leg).bearings[0]
        )
    for _ in range(12):  # the tangent of a bend still changes with the next leg: each pass comes nearer
        for leg in range(3):
            row = next(e for e in rows if e.kind == "straight" and e.bend == leg)
            site = lay_leg(site, "line", leg, straight=row.length)
            site = lay_leg(site, "line", leg, bearing=row.bearings[0])
    for a, b in zip(told(site), rows, strict=True):
        assert a.length == pytest.approx(b.length, abs=2e-3)
        assert a.bearings[0] == pytest.approx(b.bearings[0], abs=1e-3)


def test_a_straight_that_no_place_of_the_bend_leaves_is_refused_in_one_sentence():
    site = street(*CORNER)
    with pytest.raises(EditError, match="cannot be shorter than nothing"):
        lay_leg(site, "line", 0, straight=-1.0)
    with pytest.raises(EditError, match="no leg after bend 3"):
        lay_leg(site, "line", 2, straight=5.0)


@given(st.lists(st.tuples(st.floats(25, 120), st.floats(-80, 80), st.floats(0, 12)), min_size=1, max_size=6))
@examples(60)
def test_elements_follow_each_other_and_add_up(legs):
    """Any line: chainages run on, turns and bearings agree, and every bend of any size is in it."""
    at, heading, bends = np.zeros(2), 0.0, [(0.0, 0.0, 0.0)]
    for length, turn, radius in legs:
        at = at + length * np.array([np.cos(heading), np.sin(heading)])
        bends.append((*at, radius))
        heading += np.radians(turn)
    bends.append((*(at + 60.0 * np.array([np.cos(heading), np.sin(heading)])), 0.0))
    site = street(*bends)
    found = told(site)
    chain = chain_of(Engine(site), "line")
    assert found[0].start == 0.0
    assert found[-1].end == pytest.approx(chain.total)
    for a, b in zip(found[:-1], found[1:]):
        assert b.start == pytest.approx(a.end, abs=1e-9)
        assert abs((b.bearings[0] - a.bearings[1] + 180.0) % 360.0 - 180.0) < 1e-4
    for e in found:
        assert abs((e.bearings[0] - e.deflection - e.bearings[1] + 180.0) % 360.0 - 180.0) < 1e-6
    total = sum(e.deflection for e in found)
    assert total == pytest.approx(sum(turn for _, turn, _ in legs), abs=1e-3)


def test_a_bend_that_was_left_out_is_told_on_what_is_drawn_instead():
    site = street((0.0, 0.0), (50.0, 0.0, 10.0), (50.0, 0.0, 10.0), (90.0, 20.0))
    sheet = element_sheet(Engine(site), "line")
    assert sum(len(r.findings) for r in sheet.rows) == sum(map(len, bend_findings(Engine(site), "line").values())) > 0
    assert all(
        cell(sheet, k, "length").edit is None for k, r in enumerate(sheet.rows) if r.cells[0].value == "straight"
    )


def test_bends_that_do_not_fit_stand_in_their_rows():
    site = street((0.0, 0.0), (40.0, 0.0, 60.0), (40.0, 40.0))
    sheet = element_sheet(Engine(site), "line")
    wrong = [k for k, r in enumerate(sheet.rows) if r.findings]
    assert [sheet.rows[k].cells[0].value for k in wrong] == ["arc, bend 2"]
    assert sheet.rows[wrong[0]].findings[0].rule == "bends that do not fit"


def test_what_is_lit_up_is_the_element():
    site = street(*CORNER)
    q = Engine(site)
    chain = chain_of(q, "line")
    for row in element_sheet(q, "line").rows:
        ends = chain.points_at(row.stretch)
        assert np.allclose(row.points[[0, -1]], ends, atol=1e-9)
        assert np.abs(chain.feet(row.points).offsets).max() < 1e-9


def test_the_degree_of_a_curve_stands_where_feet_are_used():
    site = street(*CORNER)
    assert "degree of curve" not in element_sheet(Engine(site), "line").columns
    feet = edits.set_settings(site, units="ft")
    # 100 ft of an arc of 5729.578 ft turn one degree.
    assert degree_of_curve(5729.577951 * 0.3048) == pytest.approx(1.0)
    value = cell(element_sheet(Engine(feet), "line"), 1, "degree of curve").value
    assert value == pytest.approx(5729.577951 * 0.3048 / 40.0)


def test_elements_know_their_bends_also_without_straights_between():
    laid = lay_bends([BendInput(0, 0), BendInput(30, 0, 30), BendInput(30, 60, 30), BendInput(90, 60)])
    assert [e.kind for e in laid.chain.elements] == ["arc", "arc", "straight"]
    assert laid.bend_of == (1, 2, 2)


# Grade line


def graded(*vips):
    """A street of 300 m eastwards with VIPs (chainage, level, curve)."""
    made = street((0.0, 0.0), (300.0, 0.0))
    return edits.set_vips(made, "line", [Vip(chainage=s, level=z, curve_length=c) for s, z, c in vips])


def test_vips_have_grades_curves_and_what_is_highest():
    # +4 % and -2 % over 60 m: K 10; the top lies 40 m into the curve, 0.8 m above its beginning.
    a, b, c = vip_rows(Engine(graded((0, 10, 0), (100, 14, 60), (300, 10, 0))), "line")
    assert np.isnan(a.grade_in)
    assert np.isnan(c.grade_out)
    assert (b.grade_in, b.grade_out) == (pytest.approx(0.04), pytest.approx(-0.02))
    assert b.change == pytest.approx(-0.06)
    assert b.k == pytest.approx(10.0)
    assert b.turning.kind == "high"
    assert b.turning.chainage == pytest.approx(110.0)
    assert b.turning.level == pytest.approx(12.8 + 0.8)


def test_what_is_typed_into_the_grade_line_is_what_it_then_has():
    site = graded((0, 10, 0), (100, 14, 60), (300, 10, 0))

    def after(row, column, value):
        return vip_rows(Engine(typed(site, row, column, value, grade_sheet)), "line")

    assert after(1, "level", 13.0)[1].level == pytest.approx(13.0)
    assert after(1, "chainage", 120.0)[1].chainage == pytest.approx(120.0)
    assert after(1, "grade in", 0.05)[1].level == pytest.approx(15.0)
    assert after(1, "grade out", -0.03)[2].level == pytest.approx(14.0 - 6.0)
    assert after(1, "curve", 80.0)[1].k == pytest.approx(80.0 / 6.0)
    assert after(1, "K", 12.0)[1].curve == pytest.approx(72.0)
    assert cell(grade_sheet(Engine(site), "line"), 0, "chainage").edit is None  # an end stands where the street ends


def test_findings_of_levels_stand_in_the_row_of_their_vip():
    site = graded((0, 10, 0), (100, 10.2, 0), (300, 18, 0))  # 0.2 % is too flat; 3.7 % of change without a curve
    rows = grade_sheet(Engine(site), "line").rows
    assert [f.rule for f in rows[0].findings] == ["grade too flat"]
    assert "curve too short" in [f.rule for f in rows[1].findings]


def test_a_proposed_grade_line_is_set_when_one_of_its_values_is_typed():
    site = repeated_site(1)
    sheet = grade_sheet(Engine(site), "kiln-court")
    k = next(i for i, r in enumerate(sheet.rows) if r.cells[1].state == "proposed")
    fresh = cell(sheet, k, "level").edit(40.25)(site)
    row = vip_rows(Engine(fresh), "kiln-court")[k]
    assert (row.state, row.level) == ("set", pytest.approx(40.25))
    tied = next(i for i, r in enumerate(sheet.rows) if r.cells[1].state == "tied")
    assert cell(sheet, tied, "level").edit is None


def test_crossings_tell_both_levels():
    q = Engine(repeated_site(1))
    rows = crossing_rows(q, "ember-loop")
    assert [r.words for r in rows] == ["Claypit Road", "Kiln Court", "Old water main"]
    court = rows[1]
    assert court.chainage == pytest.approx(112.0, abs=0.01)
    # The court's throat stands on the loop's lip, 3.4 m out at 3 % from the crown: 0.102 m lower.
    assert court.own - court.level == pytest.approx(0.102, abs=0.002)
    assert "nothing meets" in crossing_sheet(Engine(graded((0, 10, 0), (300, 12, 0))), "line").note


def test_an_unsolved_street_says_why_instead():
    site = street((0.0, 0.0), (0.0, 0.0))
    for sheet in (element_sheet(Engine(site), "line"), grade_sheet(Engine(site), "line")):
        assert sheet.rows == ()
        assert sheet.note


def test_setting_bends_leaves_the_elements_of_others_alone():
    site = street((0.0, 0.0), (100.0, 0.0, 30.0), (180.0, 60.0, 25.0), (300.0, 60.0))
    fresh = set_bend(site, "line", 2, radius=20.0)
    assert told(fresh)[:2] == told(site)[:2]


# The whole grade line


def test_a_grade_line_is_raised_and_lowered_as_a_whole():
    vips = (Vip(chainage=0, level=40.0), Vip(chainage=50, grade=0.02, curve_length=10), Vip(chainage=120, level=42.0))
    site = raise_vips(street((0, 0), (120, 0), vips=vips), "line", 0.35)
    assert [v.level for v in vip_rows(Engine(site), "line")] == pytest.approx([40.35, 41.35, 42.35])
    assert site.find(Street, "line").vips[1].grade == 0.02
    site = raise_vips(site, "line", -0.35)
    assert site.find(Street, "line").vips == vips


def test_a_proposed_grade_line_is_set_when_it_is_raised(court):
    q = Engine(court)
    before = [v.level for v in vip_rows(q, "through")]
    row = next(r for r in facts(q, "through") if getattr(r, "label", "") == "raise all by")
    site = row.edit(0.2)(court)
    after = vip_rows(Engine(site), "through")
    assert [v.level for v in after] == pytest.approx([z + 0.2 for z in before], abs=1e-9)
    assert {v.state for v in after} == {"set"}


def test_nothing_to_raise_is_said():
    with pytest.raises(EditError, match="no grade line"):
        raise_vips(street((0, 0), (120, 0)), "line", 0.2)
