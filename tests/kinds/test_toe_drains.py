"""Drains at the toe of a cut: where they stand, what they do to batters, and what a designer decides."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.street import Bend, StreetLine, Vip
from humble_loop.kinds.street.cutting import extended, split
from humble_loop.kinds.street.edits import reverse_street
from humble_loop.kinds.street.joining import joined as joined_streets
from humble_loop.kinds.street.joining import joints
from humble_loop.kinds.street.model import SectionChange
from humble_loop.kinds.street.section_edits import change_toe_drain, set_apart, set_toe_drain
from humble_loop.kinds.toe_drain.level_sheet import drain_level_sheet
from humble_loop.kinds.toe_drain.model import DrainChoice, DrainGrade, by_the_ground, choose_drain, set_drain_grade
from humble_loop.kinds.toe_drain.place import DrainLine, drain_id, joined, stretches, without
from humble_loop.kinds.toe_drain.runs import lining_volume, runs
from humble_loop.kinds.toe_drain.show import drain_sheet
from humble_loop.lines.describe import Choice, Fact
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.site.edits import EditError, changed, set_section
from humble_loop.site.libraries import new_site
from humble_loop.site.library import TypicalSection
from humble_loop.whole.findings import findings
from humble_loop.whole.surface import probe
from humble_loop.whole.tables import table
from humble_loop.whole.things import all_things
from humble_loop.whole.trail import trail_at
from tests import edits
from tests.conftest import court_site, examples, lane_section, plane_ground
from tests.whole.test_surface import assert_watertight

E, N = 312_000.0, 6_252_000.0  # the site's origin: from there places are measured here
LEVEL, SLOPE = 50.0, 0.5
MAIN = ThingId("street", "main")
WIDE, DEEP = 0.8, 0.13  # the shipped V drain
# Outside of a lane of 3.2 m lie the shipped roadside's kerb, verge and path, and what they rise by.
SIDE = lane_section("flat", 3.2, 0.0).left


def boundary(q, street="main"):
    """Where its boundary lies: metres from the crown and above it, at its beginning."""
    made = line(q, StreetLine(street, "boundary", "left"))
    return made.plan.offset.one(0.0), float(made.rule.levels([0.0])[0]) - LEVEL


def cutting(ground, vips=None, bends=None, shape="v-drain"):
    """A street 200 m east without crossfall, drains on both sides."""
    site = edits.add_ground(new_site(), Ground(name="g", surface=ground.shifted(E, N)))
    site = set_section(site, lane_section("flat", 3.2, 0.0))
    bends = bends or [(0, 0), (200, 0)]
    vips = vips or (Vip(chainage=0, level=LEVEL), Vip(chainage=200, level=LEVEL))
    ends = [Bend(easting=E + b[0], northing=N + b[1], radius=b[2] if len(b) > 2 else 0.0) for b in bends]
    site = edits.add_street(site, "Main", ends, section="flat", vips=vips)
    return set_toe_drain(site, "flat", "left", shape) if shape else site


def spans(q, street="main", side="left"):
    return [(d.begin, d.finish) for d in stretches(q, street, side)]


# Level with the boundary's invert at x = 80, and from there rising along the street.
_, RISE = boundary(Engine(cutting(plane_ground(0.0, 0.0, LEVEL), shape=None)))
ALONG = plane_ground(0.02, 0.0, LEVEL + RISE - DEEP - 0.02 * 80)


def test_one_stands_where_the_ground_is_above_its_invert_across_its_whole_width():
    assert spans(Engine(cutting(ALONG))) == [pytest.approx((80.0, 200.0), abs=1e-6)]
    # Ground that falls away from the street as well: at the drain's far edge it is lower by 0.05 x (W + 0.8), and so
    # high enough only further on.
    q = Engine(cutting(plane_ground(0.02, -0.05, LEVEL + RISE - DEEP - 0.02 * 80)))
    out, _ = boundary(q)
    assert spans(q) == [pytest.approx((80.0 + 0.05 * (out + WIDE) / 0.02, 200.0), abs=1e-6)]
    # On the other side the ground rises away from the street: its near edge is the lower.
    assert spans(q, side="right") == [pytest.approx((80.0 - 0.05 * out / 0.02, 200.0), abs=1e-6)]


def test_the_batter_begins_beyond_it():
    q = Engine(cutting(ALONG))
    out, rise = boundary(q)
    for x in (120.0, 160.0, 190.0):
        invert = probe(q, x, out + 0.5 * WIDE)
        assert invert.title == "Main left drain"
        assert invert.finished == pytest.approx(LEVEL + rise - DEEP, abs=1e-6)
        assert probe(q, x, out + 0.25 * WIDE).finished == pytest.approx(LEVEL + rise - 0.5 * DEEP, abs=1e-6)
        deep = 0.02 * (x - 80) - DEEP
        for d in (0.2 * deep / SLOPE, 0.9 * deep / SLOPE):
            batter = probe(q, x, out + WIDE + d)
            assert batter.title == "Main left batter"
            assert batter.finished == pytest.approx(LEVEL + rise + SLOPE * d, abs=1e-3)
        assert probe(q, x, out + WIDE + deep / SLOPE + 0.05).title == "ground"
    assert probe(q, 60.0, out + 0.1).title != "Main left drain"


def test_its_ends_rise_out_and_all_of_it_is_watertight():
    q = Engine(cutting(ALONG))
    invert = line(q, DrainLine("main", "left", "v-drain", "invert"))
    out, rise = boundary(q)
    at = invert.points([80.0, 81.25, 82.5, 100.0, 197.5, 200.0])
    assert at[:, 1] == pytest.approx(out + 0.5 * WIDE * np.array([0, 0.5, 1, 1, 1, 0]), abs=1e-9)
    assert at[:, 2] == pytest.approx(LEVEL + rise - DEEP * np.array([0, 0.5, 1, 1, 1, 0]), abs=1e-9)
    assert_watertight(q)


@pytest.mark.parametrize("shape", ["v-drain", "dish-drain", "trapezoid-drain", "grassed-swale"])
def test_drains_on_rolling_ground_with_junction_head_and_bends_are_watertight(shape):
    # At the centre of a corner where cut turns to fill batters may end off the ground, by less than is told of them.
    off = 0.05 if shape == "trapezoid-drain" else 1e-6
    site = court_site()
    for row in ("court-left", "court-right", "court-head"):
        site = edits.remove_lot_row(site, row)
    for section in ("local-street", "access-place"):
        site = set_toe_drain(site, section, "left", shape)
    q = Engine(site)
    assert sum(len(stretches(q, s, side)) for s in ("through", "court") for side in ("left", "right")) > 4
    assert_watertight(q, off)
    assert not [f for f in findings(q) if f.rule in ("overlap", "cannot be worked out")]


def test_short_ones_are_left_out_and_short_gaps_closed():
    # Along the street the boundary rises and falls over level ground: below it from 40 to 60 and from 66 to 90.
    level = LEVEL + RISE - DEEP
    ground = plane_ground(0.0, 0.0, level)
    vips = tuple(
        Vip(chainage=s, level=LEVEL + z)
        for s, z in (
            (0, 1),
            (38, 0.1),
            (42, -0.1),
            (58, -0.1),
            (62, 0.1),
            (64, 0.1),
            (68, -0.1),
            (88, -0.1),
            (92, 0.1),
            (200, 1),
        )
    )
    site = cutting(ground, vips)
    q = Engine(site)
    assert spans(q) == [pytest.approx((40.0, 90.0), abs=1e-6)]  # the gap of 6 m is closed: less than 8
    site = change_toe_drain(site, "flat", "left", least_gap=5.0)
    assert spans(Engine(site)) == [pytest.approx((40.0, 60.0), abs=1e-6), pytest.approx((66.0, 90.0), abs=1e-6)]
    site = change_toe_drain(site, "flat", "left", least_length=22.0)
    assert spans(Engine(site)) == [pytest.approx((66.0, 90.0), abs=1e-6)]


def test_stretches_are_wanted_or_left_out_whatever_the_ground_is():
    site = choose_drain(cutting(ALONG), "main", "left", 10.0, 30.0, True)
    site = choose_drain(site, "main", "left", 150.0, 160.0, False)
    q = Engine(site)
    found = stretches(q, "main", "left")
    assert [(d.begin, d.finish, d.chosen) for d in found] == [
        (10.0, 30.0, True),
        (pytest.approx(80.0), 150.0, False),
        (160.0, 200.0, False),
    ]
    assert_watertight(q)
    # What is chosen later holds; what it does not touch stays.
    site = choose_drain(site, "main", "left", 155.0, 158.0, True)
    assert spans(Engine(site))[2:] == [(155.0, 158.0), (160.0, 200.0)]
    site = by_the_ground(site, "main", "left", 0.0, 200.0)
    assert site.all(DrainChoice) == ()


def test_it_stays_where_it_stands_when_its_street_is_reversed_or_cut():
    site = choose_drain(cutting(ALONG), "main", "left", 10.0, 30.0, True)
    site = set_apart(site, "flat", True)
    site = set_toe_drain(site, "flat", "right", "")
    q = Engine(site)
    back = Engine(reverse_street(site, "main", 200.0))
    assert spans(back, side="right") == [pytest.approx((200 - b, 200 - a)) for a, b in reversed(spans(q))]
    assert spans(back, side="left") == []
    two = Engine(split(q, "main", 20.0)(site))
    assert spans(two) == [(10.0, 20.0)]
    assert spans(two, "main-2") == [pytest.approx((0.0, 10.0)), pytest.approx((60.0, 180.0))]
    longer = Engine(extended(q, "main", "start", 15.0)(site))
    assert spans(longer)[0] == (25.0, 45.0)


def test_none_stands_abreast_of_lots_or_inside_a_bend_without_room():
    site = edits.add_lot_row(cutting(plane_ground(0.0, 0.0, LEVEL + 1.0)), "main", "left", start=50, end=122)
    q = Engine(site)
    assert spans(q) == [(0.0, 50.0), (122.0, 200.0)]
    assert_watertight(q)
    # A bend to the left of 9 m: of its boundary some 9 - 8 m are left, of which a swale of 2.6 m has no room.
    tight = cutting(
        plane_ground(0.0, 0.0, LEVEL + 1.0), bends=[(0, 0), (100, 0, 9.5), (100, 100)], shape="grassed-swale"
    )
    q = Engine(choose_drain(tight, "main", "left", 60.0, 130.0, True))
    a, b = spans(q)
    assert b[0] - a[1] == pytest.approx(np.pi / 2 * 9.5, abs=1e-6)
    told = [f for f in findings(q) if f.rule == "no room for a drain"]
    assert [f.of for f in told] == [drain_id("main", "left")] * 2
    wanted = next(f for f in told if f.mend)
    assert "one is wanted from 60.00 to 130.00" in wanted.message
    # By the ground the bend is told all the same: it stands above the invert there.
    (bend,) = (f for f in findings(Engine(wanted.mend.apply(q.site))) if f.rule == "no room for a drain")
    assert f"from {a[1]:.2f} to {b[0]:.2f} the ground stands above its invert" in bend.message


def test_water_that_stands_or_hardly_runs_is_told():
    ground = plane_ground(0.0, 0.0, LEVEL + 4.0)
    sag = cutting(
        ground, (Vip(chainage=0, level=LEVEL), Vip(chainage=60, level=LEVEL - 0.6), Vip(chainage=200, level=LEVEL))
    )
    found = [f for f in findings(Engine(sag)) if f.rule == "drain holds water" and "left" in f.thing]
    # From 2.5 m it falls by 1 % to 60, and rises from there: the lower brim is 0.575 above.
    assert [(f.chainage, f.value) for f in found] == [(pytest.approx(60.0, abs=0.6), pytest.approx(0.575, abs=0.006))]
    flat = cutting(ground, (Vip(chainage=0, level=LEVEL), Vip(chainage=200, level=LEVEL - 0.6)))
    found = [f for f in findings(Engine(flat)) if f.rule == "drain falls too little"]
    assert [f.value for f in found] == [pytest.approx(0.003), pytest.approx(0.003)]
    assert not [f for f in findings(Engine(found[0].mend.apply(flat))) if f.rule == "drain falls too little"]
    # On a crest water parts: it falls by nothing there, and that is well.
    vips = (
        Vip(chainage=0, level=LEVEL - 1),
        Vip(chainage=100, level=LEVEL, curve_length=60),
        Vip(chainage=200, level=LEVEL - 1),
    )
    crest = Engine(cutting(ground, vips))
    assert not [f for f in findings(crest) if f.rule.startswith("drain")]
    assert [r.runs_to for r in runs(crest, "main", "left")] == ["both ways"]


def test_it_is_told_in_tables_trails_and_by_its_lining():
    q = Engine(cutting(ALONG))
    assert drain_id("main", "left") in all_things(q)
    rows = [dict(zip(table(q, "drains").columns, r)) for r in table(q, "drains").rows]
    assert [(r["side"], r["shape"], r["state"]) for r in rows] == [
        ("left", "V drain, 0.8 m wide", "proposed"),
        ("right", "V drain, 0.8 m wide", "proposed"),
    ]
    round_it = 2 * np.hypot(0.4, DEEP)
    run = runs(q, "main", "left")[0]
    assert lining_volume(q, run) == pytest.approx(round_it * 0.1 * 115.0, rel=1e-9)
    out, _ = boundary(q)
    words = "\n".join(trail_at(q, 150.0, out + 0.5 * WIDE).lines())
    assert "Main left drain invert" in words
    assert "boundary to invert of V drain" in words
    assert "Main crown" in words


def test_a_section_without_one_gets_none_and_says_so():
    site = cutting(ALONG, shape=None)
    assert not [t for t in all_things(Engine(site)) if t.kind == "toe_drain"]
    with pytest.raises(EditError, match="choose its shape first"):
        change_toe_drain(site, "flat", "left", taper=3.0)
    with pytest.raises(EditError, match="no kerb shape 'gutter'"):
        set_toe_drain(site, "flat", "left", "gutter")
    with pytest.raises(EditError, match=r"cannot end at 20\.00"):
        choose_drain(site, "main", "left", 30.0, 20.0, True)


def test_both_sides_stay_linked_and_it_comes_back_from_its_file(tmp_path):
    site = choose_drain(cutting(ALONG), "main", "left", 10.0, 30.0, True)
    section = site.find(TypicalSection, "flat")
    assert section.linked
    assert section.right.drain == section.left.drain
    save_site(site, tmp_path / "a.hloop")
    again = load_site(tmp_path / "a.hloop")
    assert again.all(DrainChoice) == site.all(DrainChoice)
    assert again.find(TypicalSection, "flat") == section


_SPANS = st.lists(
    st.tuples(st.integers(0, 60), st.integers(1, 20)).map(lambda v: (float(v[0]), float(v[0] + v[1]))), max_size=6
)


@examples(200)
@given(_SPANS, _SPANS)
def test_stretches_are_joined_and_taken_out_as_sets_of_metres_are(own, holes):
    def metres(spans):
        return {m for a, b in spans for m in range(int(a), int(b))}

    assert metres(without(joined(own, 0.0), holes)) == metres(own) - metres(holes)
    left = joined(own, 0.0)
    assert all(b < c for (_, b), (c, _) in zip(left[:-1], left[1:]))


def rows_of(site, title):
    made = next(s for s in kind_of("street").sheets(Engine(site), MAIN) if s.title == title)
    return made.make(Engine(site)).rows


def drains_sheet(site):
    return drain_sheet(Engine(site), "main")


def test_a_shape_is_chosen_in_the_section_and_its_stretches_moved_in_rows():
    site = cutting(ALONG, shape=None)
    assert "no section here has a drain" in drains_sheet(site).note.lower()
    row = next(r for r in rows_of(site, "Section") if isinstance(r.cells[1], Choice) and r.cells[1].current == "")
    site = row.cells[1].edit("trapezoid-drain")(site)
    assert site.find(TypicalSection, "flat").right.drain.shape == "trapezoid-drain"
    site = row.cells[1].edit("v-drain")(site)
    left = drains_sheet(site).rows[0]
    assert [c.value for c in left.cells[:4]] == ["left", pytest.approx(80.0), 200.0, pytest.approx(120.0)]
    site = left.cells[1].edit(95.0)(site)
    assert spans(Engine(site)) == [(95.0, 200.0)]
    site = drains_sheet(site).rows[0].cells[2].edit(180.0)(site)
    assert spans(Engine(site)) == [(95.0, 180.0)]
    site = drains_sheet(site).rows[0].cells[1].edit(50.0)(site)
    assert spans(Engine(site)) == [(50.0, 180.0)]
    found = drains_sheet(site)
    assert [r.cells[4].value for r in found.rows if r.cells[0].value == "left"] == ["V drain, 0.8 m wide", "left out"]
    site = dict(found.rows[0].actions)["By the ground"](site)
    site = dict(drains_sheet(site).rows[1].actions)["By the ground"](site)
    assert spans(Engine(site)) == [pytest.approx((80.0, 200.0))]
    site = dict(found.actions)["Left drain from 50 to 150"](site)
    assert spans(Engine(site)) == [pytest.approx((50.0, 200.0))]


def test_its_facts_are_typed_into_and_its_invert_is_a_long_section():
    site = cutting(ALONG)
    thing, drains = drain_id("main", "left"), kind_of("toe_drain")
    facts = {f.label: f for f in drains.facts(Engine(site), thing) if isinstance(f, Fact)}
    assert facts["stands on"].value == pytest.approx(120.0)
    site = facts["rises out over"].edit(5.0)(site)
    assert site.find(TypicalSection, "flat").right.drain.taper == 5.0
    q = Engine(site)
    assert drains.section_line(q, thing) == DrainLine("main", "left", "v-drain", "invert")
    assert drains.under(q, thing) == MAIN
    # It is asked at every choice, so it takes nothing that is long: no drain has been laid for it.
    fresh = Engine(site)
    drains.section_line(fresh, thing)
    assert not any(key[0] is stretches for key in fresh._memos)
    out, _ = boundary(q)
    assert drains.at(q, thing, (120.0, out + 1.4)) == pytest.approx(1.0)
    assert drains.at(q, thing, (20.0, out)) == np.inf
    assert {p.thing for p in drains.set_out(q, thing)} == {"Main left drain invert"}


def test_where_a_section_turns_into_another_it_goes_on_if_that_has_the_same():
    site = cutting(plane_ground(0.0, 0.0, LEVEL + 1.0))
    section = site.find(TypicalSection, "flat")
    site = site.put(changed(section, id="same", name="Same")).put(
        changed(section, id="bare", name="Bare", left=SIDE, right=SIDE)
    )

    def changing(*changes):
        made = tuple(SectionChange(chainage=s, section=id, taper=10.0) for s, id in changes)
        return spans(Engine(edits.set_street(site, "main", changes=made)))

    assert changing((60.0, "same")) == [(0.0, 200.0)]
    assert changing((60.0, "bare")) == [(0.0, 60.0)]
    assert changing((60.0, "bare"), (120.0, "flat")) == [(0.0, 60.0), (130.0, 200.0)]
    assert changing((0.0, "same")) == [(0.0, 200.0)]  # the first has no length at all
    assert changing((-5.0, "same")) == [(0.0, 200.0)]


# A grade line of its own


DEEP_CUT = plane_ground(0.0, 0.0, LEVEL + 3.0)
INVERT = DrainLine("main", "left", "v-drain", "invert")


def inverts(site, s, id=INVERT):
    return line(Engine(site), id).rule.levels(s)


def test_an_invert_of_its_own_runs_straight_and_the_rest_of_the_shape_goes_with_it():
    site = cutting(DEEP_CUT, shape="trapezoid-drain")
    site = set_drain_grade(site, "main", "left", ((20.0, 49.6), (180.0, 48.8)))
    q = Engine(site)
    trapezoid = [DrainLine("main", "left", "trapezoid-drain", p) for p in ("invert", "far invert", "drain edge")]
    s = np.array([2.5, 20.0, 100.0, 180.0, 197.5])
    for id in trapezoid[:2]:  # both lie at the bottom; beyond what is set it runs on straight
        assert line(q, id).rule.levels(s) == pytest.approx(49.6 - 0.005 * (s - 20.0), abs=1e-9)
    assert line(q, trapezoid[2]).rule.levels(s) == pytest.approx(np.full(5, LEVEL + RISE))
    assert line(q, trapezoid[0]).rule.levels([0.0, 1.25]) == pytest.approx(
        [LEVEL + RISE, 0.5 * (LEVEL + RISE + 49.69375)]
    )
    assert line(q, trapezoid[0]).rule.grades([100.0]) == pytest.approx([-0.005])
    assert_watertight(q)
    run = runs(q, "main", "left")[0]
    assert (run.least_fall, run.runs_to) == (pytest.approx(0.005, rel=1e-6), "onwards")
    assert not [f for f in findings(q) if f.rule.startswith("drain") and "left" in f.thing]
    # A dish goes down by as much of the depth as its shape says: 55 of 75 mm.
    dish = set_toe_drain(site, "flat", "left", "dish-drain")
    at = [
        float(line(Engine(dish), DrainLine("main", "left", "dish-drain", p)).rule.levels([100.0])[0])
        for p in ("dish", "invert")
    ]
    assert at == pytest.approx([LEVEL + RISE + 55 / 75 * (49.2 - LEVEL - RISE), 49.2])


def test_its_weights_and_grades_come_from_the_formula_of_its_levels():
    vips = (
        Vip(chainage=0, level=LEVEL),
        Vip(chainage=100, level=LEVEL + 2, curve_length=60),
        Vip(chainage=200, level=LEVEL),
    )
    q = Engine(set_drain_grade(cutting(DEEP_CUT, vips), "main", "left", ((10.0, 49.0), (90.0, 49.5), (150.0, 49.2))))
    made, s = line(q, INVERT), np.linspace(0.01, 199.0, 77)
    z = made.rule.levels(s)
    assert made.rule.weights(s).total() == pytest.approx(z, abs=1e-9)
    keys = made.rule.key_places()
    clear = ~np.any((keys > s[:, None] - 1e-9) & (keys < s[:, None] + 1e-5), axis=1)
    rise = (made.rule.levels(s + 1e-5) - z) / 1e-5
    assert made.rule.grades(s)[clear] == pytest.approx(rise[clear], abs=1e-5)
    assert_watertight(q)
    words = "\n".join(trail_at(q, 50.0, boundary(q)[0] + 0.5 * WIDE).lines())
    assert "its own grade line" in words


def test_inverts_are_typed_and_given_back():
    site = cutting(DEEP_CUT)
    row = drains_sheet(site).rows[0]
    assert (row.cells[5].state, row.cells[5].switch) == ("proposed", None)
    site = row.cells[6].edit(49.4)(site)
    first = LEVEL + RISE - DEEP
    assert inverts(site, [2.5, 197.5, 100.0]) == pytest.approx([first, 49.4, 0.5 * (first + 49.4)])
    site = drains_sheet(site).rows[0].cells[5].edit(49.9)(site)
    assert inverts(site, [2.5, 197.5]) == pytest.approx([49.9, 49.4])
    turned = reverse_street(site, "main", 200.0)
    assert inverts(turned, [2.5, 197.5], DrainLine("main", "right", "v-drain", "invert")) == pytest.approx([49.4, 49.9])
    row = drains_sheet(site).rows[0]
    assert row.cells[5].state == "set"
    assert (
        row.cells[5].switch(site).all(DrainGrade)
        == dict(row.actions)["Follow the street's levels"](site).all(DrainGrade)
        == ()
    )


def test_it_stays_as_it_is_when_its_street_is_cut_and_joined():
    site = set_drain_grade(cutting(DEEP_CUT), "main", "left", ((20.0, 49.6), (180.0, 48.8)))
    before = inverts(site, [30.0, 90.0, 150.0])
    q = Engine(site)
    two = split(q, "main", 100.0)(site)
    beyond = DrainLine("main-2", "left", "v-drain", "invert")
    assert [*inverts(two, [30.0, 90.0]), *inverts(two, [50.0], beyond)] == pytest.approx(before)
    q = Engine(two)
    again = joined_streets(q, "main", "end", joints(q, "main", "end")[0])(two)
    assert len(again.all(DrainGrade)) == 2
    # Each half keeps its own: where both would hold the first is taken, and both lie on one line.
    assert inverts(again, [30.0, 90.0, 150.0]) == pytest.approx(before)


def test_one_that_comes_too_near_to_the_road_is_told():
    site = set_drain_grade(cutting(DEEP_CUT), "main", "left", ((20.0, 49.0), (180.0, LEVEL + RISE - 0.06)))
    found = [f for f in findings(Engine(site)) if f.rule == "drain too shallow"]
    # It runs on beyond 180 by 17.5 m, where it has risen above the road's edge.
    end = LEVEL + RISE - 0.06 + (LEVEL + RISE - 0.06 - 49.0) / 160.0 * 17.5
    assert [f.value for f in found] == [pytest.approx(LEVEL + RISE - end)]
    with pytest.raises(EditError, match="must follow one another"):
        set_drain_grade(site, "main", "left", ((20.0, 49.0), (20.0, 48.0)))


def test_levels_of_a_drain_are_added_typed_and_removed_in_rows():
    site = cutting(DEEP_CUT)
    sheet = drain_level_sheet(Engine(site), "main")
    assert sheet.rows == ()
    words = dict(sheet.actions)
    (add,) = (edit for said, edit in words.items() if said.startswith("Own levels for the left drain"))
    site = add(site)
    before = inverts(site, [100.0])[0]
    rows = drain_level_sheet(Engine(site), "main").rows
    assert len(rows) == 2
    site = dict(rows[0].actions)["Add a level after it"](site)
    rows = drain_level_sheet(Engine(site), "main").rows
    middle = rows[1].cells[2].value
    assert inverts(site, [middle])[0] == pytest.approx(rows[1].cells[3].value)
    lower = rows[1].cells[3].edit(rows[1].cells[3].value - 0.2)(site)
    assert inverts(lower, [middle])[0] == pytest.approx(inverts(site, [middle])[0] - 0.2)
    # An end that is typed under Drains leaves what lies between.
    first = drains_sheet(lower).rows[0]
    ended = first.cells[5].edit(first.cells[5].value + 0.05)(lower)
    assert inverts(ended, [middle])[0] == pytest.approx(inverts(lower, [middle])[0])
    gone = dict(drain_level_sheet(Engine(lower), "main").rows[1].actions)["Remove"](lower)
    assert inverts(gone, [100.0])[0] == pytest.approx(before)
    with pytest.raises(EditError, match="needs two levels"):
        dict(drain_level_sheet(Engine(gone), "main").rows[0].actions)["Remove"](gone)
