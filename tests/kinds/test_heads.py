"""Turning heads: their proposed sizes, both ways of their lips' levels, outlets, arms, and what does not fit."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.street.model import Bend, Vip
from humble_loop.kinds.street.plan import StreetLine
from humble_loop.kinds.turning_head import HeadLine, TurningHead
from humble_loop.kinds.turning_head.layout import head_shape, outline
from humble_loop.kinds.turning_head.levels import radial_levels, ring_levels
from humble_loop.kinds.turning_head.model import HeadOutlet, HeadVip, shape_head
from humble_loop.kinds.turning_head.openings import openings
from humble_loop.kinds.turning_head.sizes import head_sizes, inner_radius, outer_radius, rear_radius, vehicle_of
from humble_loop.kinds.turning_head.tables import TABLES
from humble_loop.kinds.turning_head.vips import (
    adding,
    difference,
    lip_sheet,
    offers,
    plan_handles,
    removing,
    section_handles,
    taken_over,
    to_own,
    to_radial,
    undrained,
    vip_removal,
)
from humble_loop.kinds.turning_head.windows import radial_falls, window_of
from humble_loop.lines.describe import Choice, Fact
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.site.edits import EditError
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from tests import edits
from tests.conftest import examples, lane_section, plane_ground
from tests.whole.test_surface import assert_watertight

HEAD = ThingId("turning_head", "s:end")


def ended(grade=-0.02, kind="bulb", long=100.0, **sizes):
    """A straight street 3.5 m to its lips at 3 %, from level 30 at a grade to a head at its end."""
    site = edits.set_section(new_site(), lane_section("lanes", 3.5))
    levels = (Vip(chainage=0, level=30), Vip(chainage=long, grade=grade))
    site = edits.add_street(
        site, "S", [Bend(easting=0, northing=0), Bend(easting=long, northing=0)], section="lanes", vips=levels
    )
    site = shape_head(site, "s", "end", kind)
    return edits.set_head(site, "s", **sizes)


def head_of(site):
    return site.all(TurningHead)[0]


def rules_of(q, rule):
    return [f for f in findings(q) if f.rule == rule]


# Sizes


def test_sizes_are_proposed_for_the_vehicle_by_hand():
    """Waste vehicle, outer wheel at 9.5: rear axle sqrt(9.5² − 5.2²) − 1.1 = 6.8505; corner hypot(8.1005, 6.7) = 10.5123; inside 5.6005."""
    q = Engine(ended())
    v = vehicle_of(head_of(q.site))
    assert (rear_radius(v), outer_radius(v), inner_radius(v)) == pytest.approx((6.8505, 10.5123, 5.6005), abs=1e-4)
    sizes = head_sizes(q, "s", "end")
    assert sizes.radius == 11.5  # 10.51 + 0.5, to the next half metre
    assert sizes.returns == (17.5, 17.5)  # half as much again
    q = Engine(ended(kind="hammerhead"))
    sizes = head_sizes(q, "s", "end")
    assert (sizes.left_arm, sizes.right_arm) == (10.5, 10.5)  # 6.85 + 3.0 behind the axle + 0.5
    assert sizes.arm_width == 6.0  # 10.51 − 5.60 + 0.6 = 5.51
    assert sizes.returns == (5.0, 5.0)  # 5.60 − 0.3 = 5.3; verge and path want 4.65 / 0.95 = 4.9
    assert head_sizes(Engine(ended(vehicle="car")), "s", "end").radius == 8.5  # the class's least
    with pytest.raises(Unsolved, match="no design vehicle 'tram'"):
        head_sizes(Engine(ended(vehicle="tram")), "s", "end")


def test_a_street_with_wide_verges_has_returns_that_take_them():
    site = ended(kind="hammerhead")
    section = lane_section("lanes", 3.5)
    verge = section.left.parts[-1]
    side = section.left.model_copy(
        update={"parts": (*section.left.parts[:-1], verge.model_copy(update={"width": 5.0}))}
    )
    site = edits.set_section(site, section.model_copy(update={"left": side, "right": side}))
    q = Engine(site)
    reach = sum(p.width for p in side.parts[1:] if hasattr(p, "width")) + 0.45
    assert head_sizes(q, "s", "end").returns[0] == pytest.approx(np.ceil(reach / 0.95 / 0.5) * 0.5)
    assert not rules_of(q, "cannot be worked out")


def test_returns_are_alike_unlike_or_begin_where_they_are_wanted():
    site = ended(radius=9.5, return_radius=15.0)
    q = Engine(site)
    assert outline(q, "s", "end").returns == (15.0, 15.0)
    q = Engine(edits.set_head(site, "s", return_left=20.0, approach_right=18.0))
    made = outline(q, "s", "end")
    assert made.returns[0] == 20.0
    assert 100.0 - made.base_right == pytest.approx(18.0, abs=1e-9)
    # On a straight r = (a² − R² + w²) / 2 (R − w).
    assert made.returns[1] == pytest.approx((18.0**2 - 9.5**2 + 3.5**2) / (2 * 6.0), abs=1e-9)
    short = Engine(edits.set_head(site, "s", approach_right=5.0))
    (found,) = rules_of(short, "cannot be worked out")[:1]
    assert "no return on the right begins 5 m before the bulb's centre: it needs more than 8.83 m" in found.message


def test_a_one_sided_bulb_has_its_centre_beside_the_street():
    q = Engine(ended(radius=9.5, return_radius=15.0, sided="left"))
    made = outline(q, "s", "end")
    assert made.centre == pytest.approx([100.0, 6.0])
    assert made.returns == (15.0, 0.0)
    levels = ring_levels(q, "s", "end")
    lip = line(q, StreetLine("s", "lip", "right"))
    ring = line(q, HeadLine("s", "end"))
    assert ring.rule.levels([ring.plan.end]) == pytest.approx(lip.rule.levels([100.0]), abs=1e-9)
    assert ring.rule.grades([ring.plan.end], "before") == pytest.approx(-lip.rule.grades([100.0], "before"), abs=1e-9)
    assert levels.rule.levels([made.ends[0]])[0] == pytest.approx(28.0 - 0.03 * 9.5, abs=1e-9)
    assert_watertight(Engine(grounded(q.site)))


def grounded(site, level=28.5):
    return edits.add_ground(site, Ground(name="g", surface=plane_ground(0.0, 0.0, level)))


# Levels by the fall from the centre


def test_a_bulb_that_drains_to_a_pit_by_hand():
    """Centre 28.000; R 9.5, r 15: the returns are 10.725 m long, half the bulb 21.715 m. Where they end the lip stands 0.285 below it."""
    q = Engine(ended(radius=9.5, return_radius=15.0))
    made, p = ring_levels(q, "s", "end"), ring_levels(q, "s", "end").rule.profile
    first, half = 15.0 * np.radians(40.96571333), 9.5 * np.radians(261.93142666) / 2
    assert (made.outlet, made.governs, made.centre) == ("pit", "radial", pytest.approx(28.0))
    assert made.turn == pytest.approx(first + half, abs=1e-6)
    assert made.rule.levels([first, 2 * half + first]) == pytest.approx([27.715, 27.715], abs=1e-6)
    # From there it falls at 0.5 %; between two such falls with a curve of 6 m the lip stands 7.5 mm above its VIP.
    assert p.levels[3] == pytest.approx(27.715 - 0.005 * half, abs=1e-6)
    assert made.rule.levels([made.turn])[0] == pytest.approx(27.715 - 0.005 * half + 0.0075, abs=1e-6)
    # The parabola at the return's end, 0.9 of what its first 6 m leave of it, ends where it does.
    second = 0.9 * (first - 6.0)
    assert p.chainages[2] == pytest.approx(first - 0.5 * second, abs=1e-6)
    assert p.levels[[2, 4]] == pytest.approx([27.715 + 0.005 * 0.5 * second] * 2, abs=1e-6)
    assert p.levels[0] == pytest.approx(30.0 - 0.02 * (100.0 - 16.06237841) - 0.105, abs=1e-6)
    assert made.drains == (made.turn,)
    assert not rules_of(q, "bulb drainage")
    assert not rules_of(q, "radial fall")


def test_a_bulb_that_drains_to_the_street_by_hand():
    """Rising at 3 % the centre is 33.000: at the high point, rounded, the lip stands 0.285 below it, and falls at 0.5 % both ways."""
    q = Engine(ended(0.03, radius=9.5, return_radius=15.0))
    made, p = ring_levels(q, "s", "end"), ring_levels(q, "s", "end").rule.profile
    half = 9.5 * np.radians(261.93142666) / 2
    assert (made.outlet, made.governs, made.drains) == ("street", "radial", ())
    assert made.rule.levels([made.turn])[0] == pytest.approx(33.0 - 0.285, abs=1e-9)
    assert p.levels[3] == pytest.approx(33.0 - 0.285 + 0.0075, abs=1e-9)
    assert made.rule.levels([made.turn - half])[0] == pytest.approx(33.0 - 0.285 + 0.0075 - 0.005 * half, abs=1e-6)


@examples(25)
@given(st.floats(8.5, 60.0), st.floats(0.01, 0.04), st.sampled_from([-0.05, 0.06]))
def test_the_stated_fall_reaches_all_round_a_bulb_of_any_size(radius, fall, grade):
    q = Engine(ended(grade, long=300.0, radius=radius, return_radius=1.5 * radius, fall=fall))
    made = ring_levels(q, "s", "end")
    if made.governs != "radial":
        return
    _, falls = radial_falls(q, "s", "end")
    half = outline(q, "s", "end").ring.length[1] / 2
    # Nowhere less than stated, and no more than the least kerb fall adds on the way.
    assert falls.min() >= fall - 1e-9
    assert (
        falls.max() <= fall + 0.005 * half / radius + 1e-9
    )  # where it drains by the street the turn's rounding takes none


def test_the_turn_is_put_elsewhere_and_drained_by_a_draw():
    total = outline(Engine(ended()), "s", "end").ring.total
    q = Engine(ended(turn=0.4, outlet="draw"))
    made = ring_levels(q, "s", "end")
    assert made.turn == pytest.approx(0.4 * total)
    assert made.outlet == "draw"
    lows = [t for t in made.rule.profile.turning_points() if t.kind == "low"]
    assert [t.chainage for t in lows] == pytest.approx([made.turn], abs=0.05)
    _, falls = radial_falls(q, "s", "end")
    assert falls.min() == pytest.approx(0.03, abs=1e-4)
    assert not rules_of(q, "bulb drainage")


@pytest.mark.parametrize("kind", ["hammerhead", "Y", "left arm", "right arm"])
@pytest.mark.parametrize("grade", [0.03, -0.03])
def test_heads_with_arms_drain_along_their_lips_and_are_watertight(kind, grade):
    q = Engine(grounded(ended(grade, kind), 30.0))
    made, out = ring_levels(q, "s", "end"), outline(q, "s", "end")
    grades = made.rule.profile.grades[1:-1]
    sign = 1.0 if made.outlet == "street" else -1.0
    at = 0.5 * (made.rule.profile.chainages[1:-2] + made.rule.profile.chainages[2:-1])
    assert np.all(sign * grades * np.where(at < made.turn, 1.0, -1.0) >= 0.005 - 1e-12)
    for s, side in ((0.0, "left"), (out.ring.total, "right")):
        lip = line(q, StreetLine("s", "lip", side))
        base = out.base_left if side == "left" else out.base_right
        assert made.rule.levels([s]) == pytest.approx(lip.rule.levels([base]), abs=1e-9)
    assert_watertight(q)
    told = {f.rule for f in findings(q)}
    assert not told & {"bulb drainage", "cannot be worked out", "radial fall"}


# Its own grade line


def test_taken_over_nothing_moves_and_giving_back_says_by_how_much():
    site = ended()
    q = Engine(site)
    assert difference(q, "s", "end") is None
    own = Engine(to_own(q, "s", "end")(site))
    s = np.linspace(0.0, outline(q, "s", "end").ring.total, 60)
    before, after = (ring_levels(e, "s", "end").rule.levels(s) for e in (q, own))
    assert after == pytest.approx(before, abs=1.5e-4)  # levels are kept to a tenth of a millimetre
    assert ring_levels(own, "s", "end").drains == pytest.approx(ring_levels(q, "s", "end").drains, abs=1e-4)
    lower = Engine(
        edits.set_head(
            own.site, "s", vips=tuple(v.model_copy(update={"level": v.level - 0.05}) for v in head_of(own.site).vips)
        )
    )
    down, up = difference(lower, "s", "end")
    assert down == pytest.approx(0.0, abs=2e-4)
    assert up == pytest.approx(0.05, abs=2e-4)
    rows = kind_of("turning_head").facts(lower, HEAD)
    (ways,) = [r for r in rows if isinstance(r, Choice) and r.label == "levels of its lip"]
    assert ways.options[0][1] == "fall from its centre (down to −0.000, up to +0.050 m)"
    assert ways.edit("radial")(lower.site).all(TurningHead)[0].vips == ()
    assert ways.edit("own")(lower.site) == lower.site
    assert to_radial(lower, "s", "end")(lower.site).all(TurningHead)[0].outlets == ()


def test_the_lip_goes_through_its_own_vips_and_still_meets_both_lips():
    vips = (HeadVip(share=0.3, level=27.9, curve_length=0.0), HeadVip(share=0.6, level=27.6, curve_length=0.0))
    q = Engine(ended(vips=vips, outlets=(HeadOutlet(share=0.6),)))
    made, total = ring_levels(q, "s", "end"), outline(q, "s", "end").ring.total
    assert made.governs == "own"
    assert made.rule.levels([0.3 * total, 0.6 * total]) == pytest.approx([27.9, 27.6], abs=1e-12)
    for s, side, when in ((0.0, "left", "after"), (total, "right", "before")):
        base = outline(q, "s", "end").base_left
        lip = line(q, StreetLine("s", "lip", side))
        assert made.rule.levels([s]) == pytest.approx(lip.rule.levels([base]), abs=1e-9)
        sign = 1.0 if side == "left" else -1.0
        assert made.rule.grades([s], when) == pytest.approx(sign * lip.rule.grades([base], "before"), abs=1e-9)
    assert (made.turn, made.drains) == (pytest.approx(0.6 * total), (pytest.approx(0.6 * total),))
    assert not rules_of(q, "bulb drainage")
    assert_watertight(Engine(grounded(q.site)))


def test_low_points_outlets_flat_legs_and_curves_are_told():
    vips = tuple(
        HeadVip(share=s, level=z, curve_length=c) for s, z, c in ((0.3, 27.6, 4.0), (0.5, 27.9, 4.0), (0.7, 27.9, 60.0))
    )
    q = Engine(ended(vips=vips, outlets=(HeadOutlet(share=0.5),)))
    told = {f.rule: f for f in findings(q) if f.of == HEAD}
    total = outline(q, "s", "end").ring.total
    low = [f for f in findings(q) if f.rule == "bulb drainage" and "water stands" in f.message]
    assert len(low) == 1
    assert low[0].chainage == pytest.approx(0.3 * total, abs=2.0)
    assert f"{0.5 * total:.2f} m round" in told["outlet off its low point"].message
    flat = [f for f in findings(q) if "falls at only 0.00 %" in f.message]
    assert flat[0].chainage == pytest.approx(0.6 * total, abs=1e-6)
    assert "curves overlap on a head's lip" in told
    # Each can be mended: a pit where water stands, or the outlet that it runs past goes there.
    for rule, words in (("bulb drainage", "Put a pit there"), ("outlet off its low point", "Move it to the low point")):
        mend = (low[0] if rule == "bulb drainage" else told[rule]).mend
        assert mend is not None
        assert mend.words == words
        after = [f for f in findings(Engine(mend.edit(q.site))) if f.of == HEAD]
        assert not [f for f in after if f.rule == "bulb drainage" and "water stands" in f.message]
    assert not [f for f in after if f.rule == "outlet off its low point"]


def test_a_lip_that_falls_more_than_a_return_may_is_told_once_at_its_steepest_leg():
    total = outline(Engine(ended()), "s", "end").ring.total
    # 0.1 of the way round by 0.12 of it is 12 %, the most that is allowed; a little more is told.
    for drop, told in ((0.12 * 0.1 * total, 0), (0.13 * 0.1 * total, 1)):
        levels = ((0.4, 27.9), (0.5, 27.9 - drop), (0.7, 27.9 - 2.0 * drop))  # the leg after falls half as much
        vips = tuple(HeadVip(share=k, level=z, curve_length=0.0) for k, z in levels)
        found = [f for f in findings(Engine(ended(vips=vips))) if f.rule == "head's lip too steep"]
        assert len(found) == told
        for f in found:
            assert f.chainage == pytest.approx(0.45 * total, abs=1e-6)
            assert f.value == pytest.approx(0.13, abs=1e-9)
            assert f.of == HEAD


def test_vips_are_added_dragged_typed_and_taken_out():
    site = ended()
    q = Engine(site)
    total = outline(q, "s", "end").ring.total
    fresh = Engine(adding(q, "s", "end", 0.25 * total, 27.8)(site))
    assert [v.share for v in head_of(fresh.site).vips] == sorted(
        v.share for v in (*taken_over(q, "s", "end")[0], HeadVip(share=0.25, level=27.8))
    )
    assert len(head_of(fresh.site).outlets) == 1  # its pit stays
    words = [w for w, _ in offers(fresh, "s", "end", 0.4 * total, 27.7) if not w.startswith("Let it follow")]
    assert words == [
        f"Add a VIP {0.4 * total:.2f} m round",
        "Put a pit there",
        "Put a draw there",
        "Give its levels back to the fall from its centre",
    ]
    (handle, *_) = section_handles(fresh, "s", "end")
    edit, told = handle.moved((handle.place[0] + 0.5, 27.85))
    moved = head_of(edit(fresh.site)).vips[0]
    assert (moved.share * total, moved.level) == (pytest.approx(handle.place[0] + 0.5, abs=1e-4), 27.85)
    assert [t.label for t in told] == ["round", "level"]
    far, _ = handle.moved((0.9 * total, 27.85))  # it stays before the next one
    assert head_of(far(fresh.site)).vips[0].share < head_of(fresh.site).vips[1].share
    in_plan = plan_handles(fresh, "s", "end")[0]
    place = outline(q, "s", "end").ring.points_at([0.1 * total])[0]
    assert head_of(in_plan.moved(tuple(place))[0](fresh.site)).vips[0].share == pytest.approx(0.1, abs=1e-5)
    assert len(head_of(removing(fresh, "s", "end", 0)(fresh.site)).vips) == 3
    assert len(head_of(vip_removal(fresh, ("head vip", "s", "end", 1))(fresh.site)).vips) == 3
    assert vip_removal(fresh, ("return level",)) is None
    one = Engine(ended(vips=(HeadVip(share=0.5, level=27.7),)))
    assert head_of(removing(one, "s", "end", 0)(one.site)).vips == ()
    with pytest.raises(EditError, match="further apart"):
        adding(fresh, "s", "end", 0.251 * total, 27.8)(fresh.site)


def test_dragging_what_is_proposed_makes_it_its_own():
    q = Engine(ended())
    handles = section_handles(q, "s", "end")
    assert [h.state for h in handles] == ["proposed"] * 3
    site = handles[1].moved((handles[1].place[0], 27.6))[0](q.site)
    assert [v.level for v in head_of(site).vips][1] == 27.6
    assert len(head_of(site).outlets) == 1
    (turn,) = plan_handles(q, "s", "end")
    place = outline(q, "s", "end").ring.points_at([30.0])[0]
    assert head_of(turn.moved(tuple(place))[0](q.site)).turn == pytest.approx(
        30.0 / outline(q, "s", "end").ring.total, abs=1e-5
    )


def test_the_lip_in_rows():
    q = Engine(ended(radius=9.5, return_radius=15.0))
    sheet = lip_sheet(q, "s", "end")
    what = [r.cells[0].value for r in sheet.rows]
    assert what == ["left lip", "VIP", "VIP", "low point", "pit", "VIP", "right lip"]
    level = sheet.rows[2].cells[2]
    assert level.state == "proposed"
    assert head_of(level.edit(27.65)(q.site)).vips[1].level == 27.65
    window = window_of(q, "s", "end")
    assert (window.low[0], window.high[0]) == pytest.approx((28.0 - 0.05 * 9.5, 28.0 - 0.01 * 9.5))
    assert sheet.rows[2].cells[6].value == pytest.approx(window.low[0])
    assert sheet.rows[1].cells[6] is None  # on a return
    own = Engine(sheet.actions[0][1](q.site))
    assert head_of(own.site).vips
    rows = {r.cells[0].value: r for r in lip_sheet(own, "s", "end").rows}
    assert head_of(dict(rows["pit"].actions)["Take it away"](own.site)).outlets == ()
    assert head_of(undrained(own, "s", "end", 0)(own.site)).outlets == ()


def test_facts_are_typed_and_the_shape_is_changed():
    q = Engine(ended())
    facts = {r.label: r for r in kind_of("turning_head").facts(q, HEAD) if isinstance(r, Fact)}
    assert (facts["bulb radius"].value, facts["bulb radius"].state) == (11.5, "proposed")
    assert head_of(facts["bulb radius"].edit(10.0)(q.site)).radius == 10.0
    assert head_of(facts["begins before the centre"].edit(20.0)(q.site)).approach_right == 20.0
    (shape, *_) = kind_of("turning_head").facts(q, HEAD)
    site = shape.edit("hammerhead")(edits.set_head(q.site, "s", radius=20.0, vips=(HeadVip(share=0.5, level=27.0),)))
    assert (head_of(site).kind, head_of(site).radius, head_of(site).vips) == ("hammerhead", None, ())
    assert kind_of("turning_head").name(Engine(site), HEAD) == "S hammerhead"
    facts = {r.label: r for r in kind_of("turning_head").facts(Engine(site), HEAD) if isinstance(r, Fact)}
    assert facts["left arm"].value == 10.5
    assert head_of(facts["left arm"].edit(13.0)(site)).left_arm == 13.0


def test_a_hammerheads_arms_are_dragged():
    q = Engine(ended(kind="hammerhead"))
    handles = {h.title: h for h in kind_of("turning_head").handles(q, HEAD)}
    arm = handles["S hammerhead left arm"]
    assert arm.place == pytest.approx((100.0, 10.5))
    assert head_of(arm.moved((101.0, 13.2))[0](q.site)).left_arm == 13.2
    wide = handles["S hammerhead width of its arms"]
    assert wide.place[0] == pytest.approx(103.0)
    assert head_of(wide.moved((103.5, 6.0))[0](q.site)).arm_width == pytest.approx(7.0)


def test_heads_in_tables_and_files(tmp_path):
    site = ended(
        kind="Y",
        vips=(HeadVip(share=0.5, level=27.7),),
        outlets=(HeadOutlet(share=0.5, way="draw"),),
        open_ends=("left",),
    )
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").all(TurningHead) == site.all(TurningHead)
    q = Engine(site)
    (row,) = [dict(zip(TABLES["heads"](q, None, None).columns, r)) for r in TABLES["heads"](q, None, None).rows]
    assert (row["head"], row["kind"], row["left_arm"], row["arm_angle_deg"], row["levels"]) == (
        "S Y head",
        "Y",
        10.5,
        60.0,
        "its own",
    )
    lips = TABLES["head_lips"](q, None, 5.0)
    z = [r[lips.columns.index("level")] for r in lips.rows]
    s = [r[lips.columns.index("distance")] for r in lips.rows]
    assert z == pytest.approx(ring_levels(q, "s", "end").rule.levels(s))


def test_a_head_longer_than_its_street_is_told():
    (found,) = [f for f in findings(Engine(ended(long=9.0))) if f.of == HEAD]
    assert "too short" in found.message
    (found,) = [f for f in findings(Engine(ended(kind="hammerhead", long=5.0))) if f.of == HEAD]
    assert "does not begin on the street" in found.message
    (found,) = [f for f in findings(Engine(ended(kind="hammerhead", left_arm=7.5))) if f.of == HEAD]
    assert "near edge of its left arm is 2.00 m too short" in found.message


def test_a_head_that_is_too_small_for_its_vehicle_is_told_and_mended():
    rule = "head too small for its vehicle"
    (found,) = rules_of(Engine(ended(radius=9.5)), rule)
    assert (
        "a waste collection vehicle's outer front corner runs on a circle of 10.51 m, and its lip is 9.50 m"
        in found.message
    )
    assert head_of(found.mend.edit(ended(radius=9.5))).radius is None
    site = ended(kind="hammerhead", right_arm=9.6, arm_width=4.5)
    told = {f.message for f in rules_of(Engine(site), rule)}
    assert told == {
        "a waste collection vehicle's tail needs an arm of 9.85 m, and its right arm is 9.60 m",
        "a waste collection vehicle's way out of an arm is as wide as 4.91 m, and its arms' width is 4.50 m",
    }
    assert not rules_of(Engine(ended()), rule)
    assert not rules_of(Engine(ended(kind="Y")), rule)
    assert not rules_of(Engine(ended(radius=9.5, vehicle="car")), rule)


def test_radial_levels_do_not_know_its_own():
    q = Engine(ended(vips=(HeadVip(share=0.5, level=20.0),)))
    assert radial_levels(q, "s", "end").governs == "radial"


# Openings


def test_the_kerb_is_down_at_the_open_end_of_an_arm():
    """The end is 6 m wide between corners of 1 m: 4 m down about the tip, and back up over 0.9 m on either side."""
    q = Engine(grounded(ended(0.03, kind="hammerhead", open_ends=("left",)), 33.0))
    plain = Engine(grounded(ended(0.03, kind="hammerhead"), 33.0))
    tip = float(outline(q, "s", "end").ring.feet([[100.0, 10.5]]).chainages[0])
    s = tip + np.array([-3.0, -2.45, -2.0, 0.0, 2.0, 2.45, 3.0])
    names = head_shape(q, "s", "end").first.names
    rise, kerb = (
        head_shape(q, "s", "end").first.rise,
        len([r for r in head_shape(q, "s", "end").first.roles if r == "kerb"]),
    )
    assert kerb > 0
    for k, name in enumerate(names[1:], start=1):
        down = np.array([0.0, 0.5, 1.0, 1.0, 1.0, 0.5, 0.0]) * (max(float(rise[k]), 0.0) if k <= kerb else 0.0)
        was, now = (line(e, HeadLine("s", "end", name)).rule.levels(s) for e in (plain, q))
        assert now == pytest.approx(was - down, abs=1e-9)
    assert_watertight(q)


def test_a_draw_lets_water_out_over_all_that_lies_behind_the_kerb():
    q = Engine(grounded(ended(outlet="draw")))
    turn = ring_levels(q, "s", "end").turn
    names, shape = head_shape(q, "s", "end").first.names, head_shape(q, "s", "end").first
    z = [line(q, HeadLine("s", "end", n)).rule.levels([turn])[0] for n in names]
    assert z[0] - np.array(z) == pytest.approx(0.02 * shape.out, abs=1e-9)
    assert_watertight(q)
    assert (
        len(
            openings(
                Engine(ended(vips=(HeadVip(share=0.5, level=27.6),), outlets=(HeadOutlet(share=0.5, way="draw"),))),
                "s",
                "end",
            )
        )
        == 1
    )
    assert openings(Engine(ended()), "s", "end") == ()


@pytest.mark.parametrize("level", [28.0, 30.0, 35.0])
def test_batters_that_fold_in_the_notch_of_a_y_are_divided(level):
    """Exactly alike on both sides, so that they meet where rounding alone tells one side from the other."""
    assert_watertight(Engine(grounded(ended(0.08, "Y"), level)))


@examples(10)
@given(
    st.sampled_from(["bulb", "hammerhead", "Y", "left arm", "right arm"]),
    st.floats(-0.09, 0.09).filter(lambda g: abs(g) > 0.006),
    st.sampled_from(["auto", "pit", "draw"]),
    st.floats(26.0, 34.0),
    st.sampled_from([(), ("left",), ("left", "right")]),
)
def test_any_head_is_watertight_and_what_drains_to_an_outlet_holds_no_water(kind, grade, outlet, level, opened):
    q = Engine(grounded(ended(grade, kind, outlet=outlet, open_ends=opened), level))
    assert_watertight(q)
    assert not [f for f in findings(q) if f.of == HEAD and f.rule in ("hollow", "cannot be worked out")]


@examples(10)
@given(
    st.sampled_from(["bulb", "hammerhead", "Y", "left arm", "right arm"]),
    st.floats(-0.09, 0.09).filter(lambda g: abs(g) > 0.006),
    st.sampled_from(["auto", "pit", "draw", "street"]),
    st.floats(26.0, 34.0),
)
def test_mends_leave_no_water_on_a_head_whatever_it_was_told_to_drain_to(kind, grade, outlet, level):
    """The street is told to take the water also where it falls towards the head: pits where it stands mend that, in at most four rounds."""
    site = grounded(ended(grade, kind, outlet=outlet), level)
    for _ in range(4):
        told = [
            f for f in findings(Engine(site)) if f.of == HEAD and "water stands" in f.message and f.mend is not None
        ]
        if not told:
            break
        site = told[0].mend.apply(site)
    q = Engine(site)
    left = [f for f in findings(q) if f.of == HEAD]
    assert not [f for f in left if f.rule == "hollow" or "water stands" in f.message]
