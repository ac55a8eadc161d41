"""Drains that go on round the corners of junctions and round heads."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.corners import kerb_return
from humble_loop.kinds.street import Bend, StreetLine, Vip
from humble_loop.kinds.street.edits import reverse_street
from humble_loop.kinds.street.section_edits import set_toe_drain
from humble_loop.kinds.toe_drain.model import DrainChoice, choose_drain, set_drain_grade
from humble_loop.kinds.toe_drain.place import drain_id, lines_beside, next_of, stretches
from humble_loop.kinds.toe_drain.runs import runs
from humble_loop.kinds.toe_drain.show import drain_sheet
from humble_loop.kinds.turning_head import HeadLine
from humble_loop.kinds.turning_head.layout import outline
from humble_loop.lines.line import line, line_plan
from humble_loop.lines.standing import kind_of
from humble_loop.site.edits import set_section
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from humble_loop.whole.surface import probe
from humble_loop.whole.tables import table
from tests import edits
from tests.conftest import court_site, examples, lane_section, plane_ground
from tests.whole.test_surface import assert_watertight

E, N = 312_000.0, 6_252_000.0  # the site's origin: from there places are measured here
LEVEL, LANE = 50.0, 3.2
WIDE, DEEP = 0.8, 0.13  # the shipped V drain
SIDES = [(street, side) for street in ("through", "side") for side in ("left", "right")]


def tee(through=0.0, side=0.0, ground=LEVEL + 1.0, radius=9.0):
    """A street 200 m east and another north from its middle with a bulb, levels falling by the grades given away from
    the beginning of each, in a cut; a drain on every side.
    """
    surface = plane_ground(0.0, 0.0, ground).shifted(E, N)
    site = edits.add_ground(new_site(), Ground(name="g", surface=surface))
    site = set_section(site, lane_section("flat", LANE, 0.0))
    for name, ends, vips in (
        ("Through", [(0, 0), (200, 0)], [(0, LEVEL), (200, LEVEL - 200 * through)]),
        ("Side", [(100, 0), (100, 100)], [(100, LEVEL - 100 * through - 100 * side)]),
    ):
        bends = [Bend(easting=E + x, northing=N + y) for x, y in ends]
        own = tuple(Vip(chainage=s, level=z) for s, z in vips)
        site = edits.add_street(site, name, bends, section="flat", vips=own)
    site = edits.set_head(site, "side")
    for corner in ("left", "right"):
        site = edits.set_corner(site, "side", "start", corner, radius=radius)
    return set_toe_drain(site, "flat", "left", "v-drain")


def all_stretches(q, sides=SIDES):
    return [d for s in sides for d in stretches(q, *s)]


def boundary(q):
    """How far outside of the lip the boundary lies, and how far above the crown."""
    made = line(q, StreetLine("side", "boundary", "left"))
    return made.plan.offset.one(50.0) - LANE, float(made.rule.levels([50.0])[0]) - LEVEL


def test_round_both_corners_and_the_head_it_goes_on_as_it_is():
    q = Engine(tee())
    beyond, rise = boundary(q)
    made = all_stretches(q)
    assert sum(d.round is not None for d in made) == 3
    ends = [on for d in made for on in d.goes_on]
    assert ends.count(False) == 4  # the four ends of the through street's two sides, of which one has no junction
    # The north side of the through street lies in two parts; a corner's drain is as far inside of its return, which is an
    # arc of 9 m, as the boundary and half of the drain are outside of the lip.
    for corner, way in (("left", -1.0), ("right", 1.0)):
        centre = np.array([100.0 + way * (LANE + 9.0), LANE + 9.0])
        middle = centre - np.array([way, 1.0]) / np.sqrt(2.0) * (9.0 - beyond - 0.5 * WIDE)
        here = probe(q, *middle)
        assert here.title == "Side left drain" if corner == "left" else "Side right drain"
        assert here.finished == pytest.approx(LEVEL + rise - DEEP, abs=1e-6)
    # Round the head it lies outside of the bulb by as much.
    bulb = outline(q, "side", "end")
    far = bulb.centre + np.array([0.0, 9.5 + beyond + 0.5 * WIDE])
    lip = line(q, HeadLine("side", "end"))
    there = float(lip.rule.levels([0.5 * lip.plan.end])[0])
    assert probe(q, *far).finished == pytest.approx(there + rise - DEEP, abs=1e-6)
    assert_watertight(q)
    assert not [f for f in findings(q) if f.rule in ("overlap", "cannot be worked out", "drain holds water")]


def seams(q, sides=SIDES):
    """Each end at which a drain goes on as another: the drain, whether at its end, the other, whether at that one's beginning."""
    for d in all_stretches(q, sides):
        for onwards, on in zip((False, True), d.goes_on):
            found = next_of(q, d, onwards=onwards)
            assert (found is not None) == on
            if found is not None:
                yield d, onwards, *found


@examples(25)
@given(
    st.floats(-0.08, 0.08),
    st.floats(-0.08, 0.08),
    st.floats(-1.5, 2.5),
    st.floats(6.0, 20.0),
    st.booleans(),
    st.booleans(),
)
def test_where_it_goes_on_plan_and_levels_are_one(through, side, ground, radius, turned, rest):
    site = tee(through, side, LEVEL + ground, radius)
    if turned:
        site = reverse_street(site, "through" if rest else "side", 200.0 if rest else 100.0)
    q = Engine(site)
    for d, onwards, other, from_begin in seams(q):
        back = next_of(q, other, onwards=not from_begin)
        assert back is not None
        assert (back[0], back[1]) == (d, not onwards)
        ends = []
        for stretch, place in (
            (d, d.finish if onwards else d.begin),
            (other, other.begin if from_begin else other.finish),
        ):
            street, own = (stretch.boundary.street, stretch_side(q, stretch))
            ids = [i for i in lines_beside(q, street, own, stretch.round) if i.shape == stretch.shape]
            ends.append(np.array([line(q, i).points([place])[0] for i in ids]))
        assert np.abs(ends[0] - ends[1]).max() < 1e-8


def stretch_side(q, stretch):
    return next(side for street, side in SIDES if stretch in stretches(q, street, side))


def test_water_that_meets_at_a_corner_is_told_once():
    # The through street falls east, the side street rises north: its west corner is the lowest place of the drain there.
    q = Engine(tee(through=0.02, side=-0.02))
    told = [f for f in findings(q) if f.rule == "drain holds water"]
    assert len(told) == 1
    assert "round the corner at its start" in told[0].message
    assert "runs over onto the road" in told[0].message
    assert told[0].of == drain_id("side", "left")
    x, y = told[0].place
    assert 85.0 < x < 100.0
    assert 0.0 < y < 15.0
    # The east corner's runs through, out of the side street and on along the through street.
    (east,) = (r for r in runs(q, "side", "right") if r.stretch.round is not None)
    assert not east.ponds
    assert east.runs_to == "back"  # a return is told from the through street to the side street


def test_water_that_stands_in_several_of_them_is_told_by_one():
    # The through street falls to the junction from both ends and the side street is level: it is the bottom of one pond, from
    # where its returns end on both sides.
    site = edits.set_vips(
        tee(), "through", tuple(Vip(chainage=s, level=LEVEL + z) for s, z in ((0, 1), (100, 0), (200, 1)))
    )
    q = Engine(edits.set_vips(site, "side", (Vip(chainage=100, level=LEVEL),)))
    told = [f.of for f in findings(q) if f.rule == "drain holds water"]
    assert told.count(drain_id("through", "right")) == 1  # the sag of the other side, which has no junction
    assert len(told) == 2


def test_what_was_chosen_on_a_side_holds_round_its_corner_and_half_of_its_head():
    site = tee()
    q = Engine(site)
    kept = kerb_return(q, "side", "start", "left")
    at, length = kept.side_chainage, kept.curve.length
    cut = Engine(choose_drain(site, "side", "left", 0.0, 5.0, False))
    (corner,) = (d for d in stretches(cut, "side", "left") if d.round is not None and not isinstance(d.round, HeadLine))
    assert (corner.begin, corner.finish) == pytest.approx((5.0 / at * length, length), abs=1e-6)
    assert corner.goes_on == (False, True)
    assert corner.full[0] == pytest.approx(corner.begin + 2.5, abs=1e-9)
    west = next(d for d in stretches(cut, "through", "left") if d.begin < 50)
    assert west.goes_on == (False, False)
    assert_watertight(cut)
    # Half way round the bulb lies the street's end.
    ring = outline(q, "side", "end").ring.total
    cut = Engine(choose_drain(site, "side", "right", 80.0, 100.0, False))
    (head,) = (d for d in stretches(cut, "side", "left") if isinstance(d.round, HeadLine))
    assert (head.begin, head.finish) == pytest.approx((0.0, 0.5 * ring), abs=1e-6)
    assert head.goes_on == (True, False)
    assert_watertight(cut)
    # Wanted where the ground is below it.
    low = tee(ground=LEVEL - 1.0)
    assert not all_stretches(Engine(low))
    wanted = Engine(choose_drain(low, "side", "left", 0.0, at, True))
    (corner,) = all_stretches(wanted)
    assert (corner.begin, corner.finish, corner.chosen) == (0.0, pytest.approx(length), True)
    assert not [f for f in findings(wanted) if f.rule == "no room for a drain"]
    assert_watertight(wanted)


def test_what_was_chosen_stays_where_it_is_when_the_street_is_reversed():
    site = choose_drain(choose_drain(tee(), "side", "left", 0.0, 5.0, False), "side", "right", 80.0, 100.0, False)
    before, after = Engine(site), Engine(reverse_street(site, "side", 100.0))

    def ends(q):
        found = [line_plan(q, d.boundary).points([d.begin, d.finish]) for d in all_stretches(q)]
        return np.sort(np.concatenate(found).round(6).view("f8,f8").ravel())

    assert ends(before).tolist() == ends(after).tolist()


def test_one_with_levels_of_its_own_or_of_another_shape_goes_on_nowhere():
    graded = set_drain_grade(tee(), "side", "left", ((20.0, LEVEL - 0.2), (60.0, LEVEL - 0.3)))
    q = Engine(graded)
    own = next(d for d in stretches(q, "side", "left") if d.round is None)
    assert own.goes_on == (False, False)
    corner = next(d for d in stretches(q, "side", "left") if d.round is not None and not isinstance(d.round, HeadLine))
    assert corner.goes_on == (True, False)
    assert_watertight(q)
    other = set_section(tee(), lane_section("other", LANE, 0.0))
    other = set_toe_drain(other, "other", "left", "dish-drain")
    q = Engine(edits.set_street(other, "side", section="other"))
    assert {d.shape for d in stretches(q, "side", "left")} == {"dish-drain"}
    assert all(not on for d in all_stretches(q, [("through", "left"), ("through", "right")]) for on in d.goes_on)
    assert_watertight(q)


def test_a_return_that_is_too_tight_for_it_is_told_where_the_ground_wants_one():
    # Of a return of 6 m little more than a metre is left inside of the boundary; a swale of 2.6 m has no room there.
    site = set_toe_drain(tee(radius=6.5), "flat", "left", "grassed-swale")
    q = Engine(site)
    assert not [d for d in all_stretches(q) if d.round is not None and not isinstance(d.round, HeadLine)]
    told = [f for f in findings(q) if f.rule == "no room for a drain"]
    assert [f.of for f in told] == [drain_id("side", "left"), drain_id("side", "right")]
    assert all("round the corner at its start" in f.message for f in told)
    assert_watertight(q)
    # Below the invert nothing is asked.
    low = Engine(set_toe_drain(tee(radius=6.5, ground=LEVEL - 1.0), "flat", "left", "grassed-swale"))
    assert not [f for f in findings(low) if f.rule == "no room for a drain"]


def test_rows_and_tables_tell_which_lie_round_a_corner_and_leave_them_out():
    site = tee()
    q = Engine(site)
    rows = drain_sheet(q, "side").rows
    words = [r.cells[0].value for r in rows]
    assert words.count("left, round the corner at its start") == 1
    assert words.count("left, round the head at its end") == 1
    corner = rows[words.index("left, round the corner at its start")]
    assert corner.cells[1].edit is None
    left_out = dict(corner.actions)["Leave it out"](site)
    q = Engine(left_out)
    at = kerb_return(q, "side", "start", "left").side_chainage
    assert [(c.side, c.begin, c.finish) for c in left_out.all(DrainChoice)] == [("left", 0.0, pytest.approx(at))]
    assert not [d for d in stretches(q, "side", "left") if d.round is not None and not isinstance(d.round, HeadLine)]
    back = next(r for r in drain_sheet(q, "side").rows if r.cells[4].value == "left out")
    assert dict(back.actions)["By the ground"](left_out).all(DrainChoice) == ()
    head = next(r for r in rows if r.cells[0].value == "left, round the head at its end")
    without = dict(head.actions)["Leave it out"](site)
    assert {c.side for c in without.all(DrainChoice)} == {"left", "right"}
    assert not [d for d in all_stretches(Engine(without)) if isinstance(d.round, HeadLine)]
    made = table(Engine(site), "drains")
    told = [dict(zip(made.columns, r)) for r in made.rows]
    assert [r["goes_on_at"] for r in told if r["place"] == "round the corner at its start"] == [
        "both ends",
        "both ends",
    ]


def test_it_is_set_out_and_found_round_a_corner():
    q = Engine(tee())
    kind = kind_of("toe_drain")
    points = kind.set_out(q, drain_id("side", "left"))
    assert any("round the corner" in p.thing for p in points)
    beyond, rise = boundary(q)
    centre, r = np.array([100.0 - LANE - 9.0, LANE + 9.0]), 9.0 - beyond - 0.5 * WIDE
    middle = centre + r * np.array([1.0, -1.0]) / np.sqrt(2.0)
    assert kind.at(q, drain_id("side", "left"), tuple(middle)) == pytest.approx(0.0, abs=1e-6)
    corner = [p for p in points if "round the corner" in p.thing]
    assert {round(p.level, 6) for p in corner} == {round(LEVEL + rise - DEEP, 6)}


def test_round_a_court_on_rolling_ground_lots_keep_it_away():
    site = edits.set_lot_row(court_site(), "court-left", start=40.0)
    for section in ("local-street", "access-place"):
        site = set_toe_drain(site, section, "left", "v-drain")
    q = Engine(site)
    sides = [(street, side) for street in ("through", "court") for side in ("left", "right")]
    assert any(d.round is not None and not isinstance(d.round, HeadLine) for d in all_stretches(q, sides))
    assert not [d for d in all_stretches(q, sides) if isinstance(d.round, HeadLine)]
    for d, onwards, other, from_begin in seams(q, sides):
        assert next_of(q, other, onwards=not from_begin) == (d, not onwards)
    assert_watertight(q)
