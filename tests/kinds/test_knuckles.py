"""Knuckles: a bulge outside a tight elbow and an arc inside it, in level and grade with the street's lips, draining and watertight."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.continuation.meets import all_continuations
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.model import ReturnLevel
from humble_loop.kinds.knuckle import Knuckle, KnuckleFace, KnuckleLine
from humble_loop.kinds.knuckle.layout import elbow, lip_rule, ring, sizes_of
from humble_loop.kinds.knuckle.model import add_knuckle, recut, rejoined, set_knuckle
from humble_loop.kinds.knuckle.show import about_street, level_removal, offers
from humble_loop.kinds.knuckle.windows import falls_of, window_of
from humble_loop.kinds.street import StreetLine
from humble_loop.kinds.street.edits import move_bend, set_bend
from humble_loop.kinds.street.model import Bend, Street, Vip
from humble_loop.kinds.street.plan import chain_of, end_point, frame_of, name_of, street_ids
from humble_loop.kinds.street.section_edits import set_toe_drain
from humble_loop.kinds.street.side_levels import crossfall
from humble_loop.kinds.toe_drain.place import stretches
from humble_loop.lines.describe import Actions, Choice, Fact
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.site.edits import EditError, changed
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from humble_loop.whole.surface import probe
from humble_loop.whole.tables import table
from tests import edits
from tests.conftest import examples, lane_section, plane_ground
from tests.whole.test_surface import assert_watertight

ID = "s-knuckle"
THING = ThingId("knuckle", ID)
TOTAL = 102.0 + 4.5 * np.pi
BEGIN, FINISH = 51.0, 51.0 + 4.5 * np.pi


def bare(grade=-0.02, east=0.0, north=0.0, turn=1.0):
    """East for 60 m and north for 60 m round 9 m, 3.5 m to the lips at 3 %, from 30.0 at a grade."""
    site = edits.set_section(new_site(), lane_section("lanes", 3.5))
    places = [(0.0, 0.0, 0.0), (60.0, 0.0, 9.0), (60.0, turn * 60.0, 0.0)]
    bends = [Bend(easting=east + x, northing=north + y, radius=r) for x, y, r in places]
    levels = (Vip(chainage=0, level=30.0), Vip(chainage=TOTAL, level=30.0 + grade * TOTAL))
    return edits.add_street(site, "S", bends, section="lanes", vips=levels)


def knuckled(grade=-0.02, turn=1.0, **values):
    return add_knuckle(bare(grade, turn=turn), "s", 58.0, **values)


def grounded(site, level=29.0):
    return edits.add_ground(site, Ground(name="g", surface=plane_ground(0.0, 0.0, level)))


def told(q, rule):
    return [f for f in findings(q) if f.rule == rule and f.of == THING]


def kept(site):
    return site.all(Knuckle)[0]


# In plan


def test_sizes_are_proposed_and_the_bulge_lies_where_they_put_it():
    """3.5 + 5 m beyond the lip, and returns of half as much again; the bend's middle is (57.364, 2.636)."""
    q = Engine(knuckled())
    assert (sizes_of(q, ID).radius, sizes_of(q, ID).returns) == (8.5, 13.0)
    made = ring(q, ID, "outer")
    assert made.centre == pytest.approx([51.0 + 9.0 * np.sqrt(0.5), 9.0 - 9.0 * np.sqrt(0.5)])
    back = np.sqrt(21.5**2 - (16.5 + made.centre[1]) ** 2)
    assert made.begin == pytest.approx(made.centre[0] - back)
    assert made.finish == pytest.approx(TOTAL - made.begin)
    assert elbow(q, ID).middle == pytest.approx(0.5 * TOTAL)


@pytest.mark.parametrize("turn", [1.0, -1.0])
@pytest.mark.parametrize("which", ["outer", "inner"])
@pytest.mark.parametrize("grade", [-0.05, 0.01])
def test_both_lips_meet_the_streets_in_level_and_grade(turn, which, grade):
    q = Engine(knuckled(grade, turn, inner=14.0))
    made, own = ring(q, ID, which), line(q, KnuckleLine(ID, which))
    outside = "right" if turn > 0 else "left"
    side = outside if which == "outer" else ("left" if turn > 0 else "right")
    lip = line(q, StreetLine("s", "lip", side))
    for s, at, when in ((0.0, made.begin, "after"), (made.chain.total, made.finish, "before")):
        assert own.points([s])[0] == pytest.approx(lip.points([at])[0], abs=1e-9)
        along = lip.rule.grades([at], when) / lip.plan.stretch([at])
        assert own.rule.grades([s], when) == pytest.approx(along, abs=1e-9)


def test_the_bulge_rises_from_the_streets_lip_by_hand():
    """In the middle the street's lip lies at 30 − 0.02 × 58.069 − 0.105 = 28.734; the bulge is 5 m beyond it and rises at 2.5 %."""
    q = Engine(knuckled())
    made = ring(q, ID, "outer")
    lip = 30.0 - 0.02 * 0.5 * TOTAL - 0.105
    assert lip_rule(q, ID, "outer").levels([made.middle])[0] == pytest.approx(lip + 0.125, abs=1e-9)
    s, fall = falls_of(q, ID)
    assert np.interp(made.middle, s[np.isfinite(fall)], fall[np.isfinite(fall)]) == pytest.approx(-0.025, abs=1e-9)
    window = window_of(q, ID)
    low, high = window.at(made.middle)
    assert (low, high) == pytest.approx((lip + 0.01 * 5.0, lip + 0.05 * 5.0), abs=1e-6)
    assert "up from the street's lip" in window.told


# The surface


@examples(15)
@given(
    st.floats(-0.08, 0.08).filter(lambda g: abs(g) > 0.006),
    st.sampled_from([1.0, -1.0]),
    st.floats(-0.04, -0.012),
    st.floats(6.0, 12.0),
    st.sampled_from([None, 12.0]),
)
def test_it_is_watertight_and_holds_no_water(grade, turn, fall, radius, inner):
    q = Engine(grounded(knuckled(grade, turn, fall=fall, radius=radius, inner=inner)))
    assert_watertight(q)
    assert not [
        f for f in findings(q) if f.of == THING and f.rule in ("hollow", "knuckle drainage", "cannot be worked out")
    ]


def test_on_a_real_site_far_from_the_origin():
    site = add_knuckle(bare(east=312_408.0, north=6_251_977.0), "s", 58.0, inner=13.0)
    near = Engine(knuckled(inner=13.0))
    q = Engine(site)
    for which in ("outer", "inner"):
        a, b = (line(e, KnuckleLine(ID, which)) for e in (near, q))
        s = np.linspace(0.0, a.plan.end, 9)
        assert b.rule.levels(s) == pytest.approx(a.rule.levels(s), abs=1e-6)
        assert b.plan.end == pytest.approx(a.plan.end, abs=1e-6)


def test_the_kerb_runs_round_it_and_not_past_it():
    q = Engine(grounded(knuckled()))
    middle = ring(q, ID, "outer").chain.points_at([ring(q, ID, "outer").middle])[0]
    assert "knuckle" in probe(q, *(middle + 0.05 * (ring(q, ID, "outer").centre - middle))).title
    lip = line(q, StreetLine("s", "lip", "right")).points([0.5 * TOTAL])[0]
    beyond = lip[:2] + 0.2 * (lip[:2] - ring(q, ID, "outer").centre) / 3.5
    assert probe(q, *beyond).title == "S knuckle at 58 carriageway"
    assert finished_mesh(q, KnuckleFace(ID, "outer", "carriageway")).surface.areas().sum() > 50.0


# The halves of the carriageway


def test_it_is_level_across_where_that_is_asked_and_turns_beyond():
    q = Engine(knuckled(across=0.0, inner_across=-0.03, beyond=4.0, over=10.0))
    outer = crossfall(q, "s", "right")
    s = [BEGIN - 14.0, BEGIN - 9.0, BEGIN - 4.0, 0.5 * TOTAL, FINISH + 4.0, FINISH + 9.0, FINISH + 14.0]
    assert outer(s) == pytest.approx([-0.03, -0.015, 0.0, 0.0, 0.0, -0.015, -0.03])
    assert crossfall(q, "s", "left")(s) == pytest.approx([-0.03] * 7)
    assert not told(q, "fall round a knuckle")
    assert_watertight(Engine(grounded(q.site)))


def test_what_is_flatter_or_steeper_than_allowed_is_told():
    (found,) = told(Engine(knuckled(across=0.06)), "fall round a knuckle")
    assert "the outer half of the carriageway lies at 6.00 %, more than 4.50 %" in found.message
    (found,) = told(Engine(knuckled(fall=0.002)), "fall round a knuckle")
    assert "it falls at 0.20 %, less than 1.00 %" in found.message
    (found,) = told(Engine(knuckled(fall=-0.07)), "fall round a knuckle")
    assert "it rises at 7.00 %, more than 5.00 %" in found.message


def test_a_bulge_that_falls_outwards_wants_a_pit():
    q = Engine(knuckled(fall=0.025))
    (found,) = told(q, "knuckle drainage")
    assert "water stands at" in found.message
    q = Engine(grounded(knuckled(fall=0.025, pit=True)))
    assert not told(q, "knuckle drainage")
    assert not told(q, "hollow")


# Levels by hand


def test_its_lip_goes_through_levels_dragged_typed_and_taken_out():
    q = Engine(knuckled())
    (handle,) = kind_of("knuckle").section_handles(q, THING)
    made = ring(q, ID, "outer")
    assert handle.place[0] == pytest.approx(made.middle, abs=1e-3)
    site = handle.moved((handle.place[0], 28.95))[0](q.site)
    q = Engine(site)
    assert lip_rule(q, ID, "outer").levels([kept(site).levels[0].share * made.chain.total])[0] == pytest.approx(28.95)
    found = dict(offers(q, ID, (8.0, 28.9)))
    site = found["Set a level 8.00 m along"](q.site)
    assert [round(v.share * made.chain.total, 2) for v in kept(site).levels] == [8.0, round(made.middle, 2)]
    assert kept(found["Give its levels back"](q.site)).levels == ()
    assert kept(found["Put a pit on it"](q.site)).pit
    assert len(kept(level_removal(Engine(site), ("knuckle level", ID, 0))(site)).levels) == 1
    assert level_removal(q, ("vip",)) is None


# With its street


def test_it_follows_its_bend_and_says_when_that_is_gone():
    site = knuckled()
    moved = Engine(move_bend(site, "s", 1, 63.0, -2.0))
    assert ring(moved, ID, "outer").centre[0] > ring(Engine(site), ID, "outer").centre[0] + 2.0
    (found,) = told(Engine(set_bend(move_bend(site, "s", 1, 30.0, 30.0), "s", 1, radius=0.0)), "cannot be worked out")
    assert "no bend there any more" in found.message
    (found,) = told(Engine(knuckled(radius=3.0)), "cannot be worked out")
    assert "does not reach past the lip" in found.message
    (found,) = told(Engine(knuckled(inner=5.0)), "cannot be worked out")
    assert "it needs more than 5.50 m" in found.message
    tight = [f for f in findings(Engine(knuckled(return_radius=3.0))) if f.of == THING]
    assert any("do not fit inside a radius of 3 m" in f.message for f in tight)


def test_reversed_cut_joined_and_kept(tmp_path):
    levels = (ReturnLevel(share=0.4, level=28.9), ReturnLevel(share=0.7, level=28.8))
    site = knuckled(levels=levels, inner=13.0)
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").all(Knuckle) == site.all(Knuckle)
    turned = Engine(edits.reverse_street(site, "s", TOTAL))
    q = Engine(site)
    a, b = line(q, KnuckleLine(ID)), line(turned, KnuckleLine(ID))
    s = np.linspace(0.0, a.plan.end, 11)
    assert b.points(a.plan.end - s) == pytest.approx(a.points(s), abs=1e-6)
    assert [h.place[1] for h in kind_of("knuckle").section_handles(turned, THING)] == pytest.approx([28.8, 28.9])
    assert kept(recut(site, "s", (20.0, TOTAL), "")).at == 38.0
    assert kept(recut(site, "s", (0.0, 30.0), "rest")).street == "rest"
    back = kept(rejoined(site, "s", "other", 200.0, True))
    assert (back.street, back.at, [v.share for v in back.levels]) == ("other", 142.0, [0.3, 0.6])


def test_it_is_offered_on_tight_bends_and_edited_in_facts():
    q = Engine(bare())
    (actions,) = [r for r in about_street(q, "s") if isinstance(r, Actions)]
    ((words, edit),) = actions.buttons
    assert words == "Knuckle at 58"
    site = edit(q.site)
    assert kept(site).at == pytest.approx(0.5 * TOTAL, abs=0.01)
    q = Engine(site)
    assert not any("Knuckle at" in w for r in about_street(q, "s") if isinstance(r, Actions) for w, _ in r.buttons)
    facts = {r.label: r for r in kind_of("knuckle").facts(q, THING) if isinstance(r, Fact | Choice)}
    assert (facts["bulge radius"].value, facts["bulge radius"].state) == (8.5, "proposed")
    assert facts["inner radius"].value == pytest.approx(5.5)
    assert kept(facts["bulge radius"].edit(10.0)(site)).radius == 10.0
    assert kept(facts["inner radius"].edit(12.0)(site)).inner == 12.0
    assert kept(facts["outer half"].edit("level")(site)).across == 0.0
    wide = Engine(set_bend(bare(), "s", 1, radius=45.0))
    assert not [r for r in about_street(wide, "s") if isinstance(r, Actions)]


def test_its_sizes_are_dragged():
    q = Engine(knuckled(inner=12.0))
    handles = {h.title: h for h in kind_of("knuckle").handles(q, THING)}
    rim = handles["S knuckle at 58 radius"]
    centre = ring(q, ID, "outer").centre
    further = centre + (np.array(rim.place) - centre) * 10.0 / 8.5
    assert kept(rim.moved(tuple(further))[0](q.site)).radius == pytest.approx(10.0)
    middle = handles["S knuckle at 58 centre"]
    diagonal = np.sqrt(0.5)
    assert kept(middle.moved((centre[0] + diagonal, centre[1] - diagonal))[0](q.site)).out == pytest.approx(1.0)
    inner = handles["S knuckle at 58 inner radius"]
    dragged = kept(inner.moved((inner.place[0] - 0.5 * diagonal, inner.place[1] + 0.5 * diagonal))[0](q.site)).inner
    made = ring(Engine(set_knuckle(q.site, ID, inner=dragged)), ID, "inner")
    reached = made.chain.points_at([made.middle])[0]
    assert reached == pytest.approx([inner.place[0] - 0.5 * diagonal, inner.place[1] + 0.5 * diagonal], abs=0.02)


def test_knuckles_in_a_table_and_set_out():
    q = Engine(knuckled(inner=12.0))
    made = table(q, "knuckles", None, None)
    rows = [dict(zip(made.columns, r)) for r in made.rows]
    assert [(r["lip"], r["side"], r["radius"]) for r in rows] == [("outer", "right", 8.5), ("inner", "left", 12.0)]
    assert rows[0]["middle_level"] == pytest.approx(30.0 - 0.02 * 0.5 * TOTAL - 0.105 + 0.125)
    points = kind_of("knuckle").set_out(q, THING)
    outer = [p for p in points if p.thing == "S knuckle at 58"]
    assert np.abs(ring(q, ID, "outer").chain.feet([[p.easting, p.northing] for p in outer]).offsets).max() < 1e-9
    assert sum(p.mark == "tangent point" for p in outer) == 4


def test_in_a_cut_the_drain_goes_round_it():
    site = set_toe_drain(grounded(knuckled(inner=13.0), 31.5), "lanes", "left", "v-drain")
    q = Engine(site)
    made = stretches(q, "s", "right")
    assert [d.round.knuckle if d.round is not None else "" for d in made].count(ID) == 1
    (round_it,) = [d for d in made if d.round is not None]
    beside = [d for d in made if d.round is None]
    assert (round_it.begin, round_it.finish) == pytest.approx((0.0, ring(q, ID, "outer").chain.total), abs=1e-6)
    assert sum(on for d in beside for on in d.goes_on) == 2
    assert all(round_it.goes_on)
    assert len([d for d in stretches(q, "s", "left") if d.round is not None]) == 1
    assert_watertight(q)


# Where two streets meet end to end


def met(turn=90.0, first_end="end", second_end="start", base=(0.0, 0.0), **second):
    """A runs east for 70 m to the base, B from there for 80 m, ``turn`` degrees to the left; each drawn so that the ends named meet."""
    site = edits.set_section(new_site(), lane_section("lanes", 3.5))
    ground = plane_ground(-0.02, 0.01, 30.0)
    ground = type(ground)(ground.points + [*base, 0.0], ground.triangles)
    site = edits.add_ground(site, Ground(name="g", surface=ground))
    a, (e, n) = np.radians(turn), base
    far = (e + 80.0 * np.cos(a), n + 80.0 * np.sin(a))
    one, other = [(e - 70.0, n), (e, n)], [(e, n), far]
    one, other = one if first_end == "end" else one[::-1], other if second_end == "start" else other[::-1]
    site = edits.add_street(site, "A", [Bend(easting=x, northing=y) for x, y in one], section="lanes")
    return edits.add_street(site, "B", [Bend(easting=x, northing=y) for x, y in other], section="lanes", **second), far


def offered(site, street="a", words="Knuckle where it meets"):
    rows = about_street(Engine(site), street)
    return [e for r in rows if isinstance(r, Actions) for w, e in r.buttons if w.startswith(words)]


@pytest.mark.parametrize(
    ("first_end", "second_end"), [("end", "start"), ("end", "end"), ("start", "start"), ("start", "end")]
)
@pytest.mark.parametrize("asked", ["a", "b"])
def test_an_elbow_between_two_streets_is_widened_and_both_keep_what_they_are(first_end, second_end, asked):
    """The bend's radius is 3.5 + 6 m, so it takes 9.5 m of both; where it ends the bulge has come back, and 2 m on the other goes on."""
    site, far = met(90.0, first_end, second_end, street_class="collector")
    assert [f for f in findings(Engine(site)) if f.rule == "streets meet unworked"]
    (edit,) = offered(site, asked)
    made = edit(site)
    q = Engine(made)
    streets = {s.name: s for s in made.all(Street)}
    assert set(streets) == {"A", "B"}
    assert (streets["A"].street_class, streets["B"].street_class) == ("local", "collector")
    (knuckle,) = made.all(Knuckle)
    bend = elbow(q, knuckle.id)
    owner = chain_of(q, knuckle.street)
    assert abs(1.0 / owner.at([bend.middle]).curvatures[0]) == pytest.approx(9.5)
    assert name_of(q, knuckle.street) == asked.upper()
    # The far ends lie where they lay, and both are one line of the length that the bend leaves.
    for name, place in (("A", (-70.0, 0.0)), ("B", far)):
        id = streets[name].id
        assert min(np.hypot(*(end_point(q, id, e) - place)) for e in ("start", "end")) < 1e-6
    assert sum(chain_of(q, s.id).total for s in streets.values()) == pytest.approx(
        150.0 - 19.0 + 0.5 * np.pi * 9.5, abs=1e-6
    )
    (on,) = all_continuations(q)
    outer = ring(q, knuckle.id, "outer")
    reach = outer.finish if owner.total - outer.finish < outer.begin else owner.total - outer.begin
    assert owner.total - reach == pytest.approx(2.0, abs=1e-6)
    assert {t.street for t in on.tips} == {s.id for s in streets.values()}
    assert not [
        f
        for f in findings(q)
        if f.rule == "streets meet unworked"
        or (f.severity == "broken" and f.of.kind == "knuckle" and "water" not in f.rule)
    ]
    assert_watertight(q)


def test_an_elbow_far_out_with_other_sections_is_cut_where_these_have_turned():
    site, _ = met(120.0, base=(312408.0, 6251977.0))
    site = edits.set_section(site, lane_section("wide", 4.0))
    site = site.put(changed(next(s for s in site.all(Street) if s.name == "B"), section="wide"))
    (edit,) = offered(site)
    q = Engine(edit(site))
    assert {
        name_of(q, s): frame_of(q, s).changes[-1].section if frame_of(q, s).changes else frame_of(q, s).section
        for s in street_ids(q)
    } == {"A": "wide", "B": "wide"}
    assert len(all_continuations(q)) == 1
    assert_watertight(q)


def test_an_elbow_is_offered_where_it_is_one_and_says_what_it_lacks():
    assert not offered(met(30.0)[0])
    assert len(offered(met(60.0)[0])) == 1
    site, _ = met(90.0)
    short = edits.add_street(
        met(90.0)[0], "C", [Bend(easting=0, northing=80), Bend(easting=8, northing=80)], section="lanes"
    )
    (edit,) = offered(short, "c")
    with pytest.raises(EditError, match=r"room for a bend of 3\.60 m only where they meet, and 9\.5 m are wanted"):
        edit(short)
    # Three ends at one place are no elbow.
    three = edits.add_street(site, "C", [Bend(easting=0, northing=0), Bend(easting=60, northing=-60)], section="lanes")
    assert not offered(three)
