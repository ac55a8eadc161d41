"""A street goes on as another, end to end: one level, one section, no step, and what does not fit is told."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.continuation.meets import all_continuations, of_id
from humble_loop.kinds.continuation.model import ContinuationChoice, set_continuation
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.street import Bend, Street, StreetLine, Vip
from humble_loop.kinds.street.cutting import split
from humble_loop.kinds.street.faces import open_ends
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.street.section import lines_of
from humble_loop.kinds.street.side import boundary_width, lip_width
from humble_loop.lines.describe import Actions, Choice, Fact
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from humble_loop.whole.tables import table
from tests import edits
from tests.asking import crown_levels
from tests.conftest import examples, lane_section, plane_ground
from tests.whole.test_surface import assert_watertight

ID = "one:end+two:start"
THING = ThingId("continuation", ID)
REAL = (312_408.0, 6_251_977.0)


def two(*, at=(0.0, 0.0), turn=0.0, back=False, first=4.0, second=3.0, vips=None, section="narrow"):
    """One, 100 m long with lanes of 4 m, and Two, 80 m with lanes of 3 m that begins where One ends, on flat ground at 50 m."""
    east, north = at
    ground = plane_ground(0.0, 0.0, 50.0, n=200).shifted(east, north)
    site = edits.add_ground(new_site("two"), Ground(name="g", surface=ground))
    site = edits.set_section(edits.set_section(site, lane_section("wide", first)), lane_section("narrow", second))
    a, b = np.radians(20.0), np.radians(20.0 + turn)
    middle = (east + 100 * np.cos(a), north + 100 * np.sin(a))
    far = (middle[0] + 80 * np.cos(b), middle[1] + 80 * np.sin(b))
    one = [Bend(easting=east, northing=north), Bend(easting=middle[0], northing=middle[1])]
    levels = (Vip(chainage=0, level=51), Vip(chainage=100, level=52))
    site = edits.add_street(site, "One", one, section="wide", vips=levels)
    rows = [Bend(easting=e, northing=n) for e, n in ((far, middle) if back else (middle, far))]
    own = (
        vips
        if vips is not None
        else (Vip(chainage=0.0 if back else 80.0, level=52.6), Vip(chainage=80.0 if back else 0.0, level=51.0))
    )
    return edits.add_street(site, "Two", rows, section=section, vips=tuple(sorted(own, key=lambda v: v.chainage)))


def told(q, *rules):
    return [f for f in findings(q) if f.rule in rules]


UNWORKED, STEP, BREAK = "streets meet unworked", "step at a continuation", "grade breaks at a continuation"


@pytest.mark.parametrize("back", [False, True])
def test_the_other_takes_its_level_and_section_and_turns_into_its_own(back):
    """One rises 1 % to 52.0 at its end, where Two begins: at 52.0 with lanes of 4 m, 10 m on with its own of 3 m."""
    q = Engine(two(back=back))
    (made,) = all_continuations(q)
    assert (made.holds.street, made.follows.street) == ("one", "two")
    ends = [80.0, 75.0, 70.0, 40.0] if back else [0.0, 5.0, 10.0, 40.0]
    assert crown_levels(q, "two", ends[:1]) == pytest.approx([52.0], abs=1e-12)
    # From there its own grade line runs to 52.6, 80 m on.
    assert crown_levels(q, "two", ends[3:]) == pytest.approx([52.3], abs=1e-9)
    assert lip_width(q, "two", "left")(np.array(ends)) == pytest.approx([4.0, 3.5, 3.0, 3.0])
    assert boundary_width(q, "two", "right")(np.array(ends[:1])) == pytest.approx(
        boundary_width(q, "one", "left")(np.array([100.0]))
    )
    assert open_ends(q, "one") == ("start",)
    assert open_ends(q, "two") == (("start",) if back else ("end",))
    assert not told(q, UNWORKED, STEP, BREAK, "cannot be worked out", "built twice")
    assert_watertight(q)


@given(
    st.floats(2.6, 5.0),
    st.floats(2.6, 5.0),
    st.booleans(),
    st.booleans(),
    st.sampled_from([(0.0, 0.0), REAL]),
    st.floats(0.5, 40.0),
)
@examples(8)
def test_every_line_goes_on_without_a_step(first, second, back, other_holds, at, taper):
    site = two(at=at, first=first, second=second, back=back)
    id = "one:end+two:end" if back else ID
    ends = id.replace("+", ":").split(":")
    holds = "two" if other_holds else "one"
    site = set_continuation(site, *ends, holds=holds, taper=taper)
    q = Engine(site)
    made = of_id(q, id)
    assert made.holds.street == holds
    for side in ("left", "right"):
        its = {"left": "right", "right": "left"}[side] if back else side
        for point in ("lip", "boundary"):
            a = line(q, StreetLine("one", point, side)).points([100.0])[0]
            b = line(q, StreetLine("two", point, its)).points([chain_of(q, "two").total if back else 0.0])[0]
            assert a == pytest.approx(b, abs=1e-6 if at[0] else 1e-9)
    assert not told(q, STEP, UNWORKED)
    assert_watertight(q)


def test_sections_with_other_points_go_on_as_one_another():
    """The shipped street with a path on both sides, and a lane whose side has fewer points."""
    site = edits.set_street(two(), "two", section=new_site().all(type(lane_section("x", 3.0)))[-1].id)
    q = Engine(site)
    assert not told(q, STEP, UNWORKED, "cannot be worked out")
    assert_watertight(q)
    assert len([i for i in lines_of(q, "two") if i.side == "left"]) >= len(
        [i for i in lines_of(q, "one") if i.side == "left"]
    )


def test_whose_levels_hold_is_one_click_and_says_what_changes(tmp_path):
    site = two()
    rows = kind_of("continuation").facts(Engine(site), THING)
    choice = next(r for r in rows if isinstance(r, Choice))
    assert choice.current == "one"
    assert dict(choice.options)["two"] == "Two (-1.00 m there)"  # its own VIP stands at 51.0, the level there is 52.0
    other = choice.edit("two")(site)
    q = Engine(other)
    assert crown_levels(q, "one", [100.0]) == pytest.approx([51.0])
    assert lip_width(q, "one", "left")(np.array([85.0, 95.0, 100.0])) == pytest.approx([4.0, 3.5, 3.0])
    save_site(other, tmp_path / "two.hloop")
    assert of_id(Engine(load_site(tmp_path / "two.hloop")), ID).holds.street == "two"
    taper = next(r for r in rows if isinstance(r, Fact) and "is its own after" in r.label)
    assert lip_width(Engine(taper.edit(20.0)(site)), "two", "left").one(10.0) == pytest.approx(3.5)
    name = next(r for r in rows if isinstance(r, Fact) and r.label == "name")
    assert name.value == "One – Two"
    assert kind_of("continuation").name(Engine(name.edit("Stage line")(site)), THING) == "Stage line"


def test_the_higher_class_holds_and_existing_streets_always_do():
    site = edits.set_street(two(), "two", street_class="collector")
    assert of_id(Engine(site), ID).holds.street == "two"
    site = edits.set_vips(edits.set_street(site, "one", kind="existing"), "one", ())
    q = Engine(site)
    assert of_id(q, ID).holds.street == "one"
    assert crown_levels(q, "two", [0.0]) == pytest.approx([50.0])  # the ground there
    assert not [r for r in kind_of("continuation").facts(q, THING) if isinstance(r, Choice)]
    # The old lips are where they are: that they are elsewhere is told.
    assert told(q, STEP)
    assert not told(Engine(edits.set_street(site, "two", kind="existing")), UNWORKED)


def test_a_break_of_the_grade_is_told_and_joining_is_offered():
    """One rises at 1 %, Two falls at 5 % from 52.0: 6 % of a break, 1 % at most."""
    q = Engine(site := two(vips=(Vip(chainage=80, level=48.0),)))
    (found,) = told(q, BREAK)
    assert found.value == pytest.approx(0.06)
    assert found.limit == pytest.approx(0.01)
    assert "from 1.00 % to -5.00 %" in found.message.replace("−", "-")
    assert [s.id for s in found.mend.apply(site).all(Street)] == ["one"]
    assert not told(Engine(two(vips=(Vip(chainage=80, level=53.6),))), BREAK)  # exactly 1 % more is met


def test_what_does_not_go_on_says_why_and_offers_what_mends_it():
    for site, why, mend in (
        (two(turn=15.0), "a kink of 15.00°", "Join them as One"),
        (edits.set_head(two(), "one"), "a turning head stands at the end of One", None),
    ):
        (found,) = told(Engine(site), UNWORKED)
        assert why in found.message
        assert (found.mend.words if found.mend else None) == mend
    slight = two(turn=5.0, back=True)
    (found,) = told(Engine(slight), UNWORKED)
    assert found.mend.words == "Turn Two into line"
    q = Engine(found.mend.apply(slight))
    assert not told(q, UNWORKED, STEP)
    assert chain_of(q, "two").total == pytest.approx(80.0)
    near = edits.move_bend(two(), "two", 0, 100 * np.cos(np.radians(20)) + 0.1, 100 * np.sin(np.radians(20)))
    (found,) = told(Engine(near), UNWORKED)
    assert "their ends lie 0.100 m apart" in found.message
    assert found.mend.words == "Bring Two to it"
    assert not told(Engine(found.mend.apply(near)), UNWORKED)


def test_three_ends_at_one_place_become_a_junction_by_joining_two():
    a = np.radians(20.0)
    middle = (100 * np.cos(a), 100 * np.sin(a))
    bends = [Bend(easting=middle[0], northing=middle[1]), Bend(easting=middle[0] - 40, northing=middle[1] + 50)]
    site = edits.add_street(two(), "Three", bends, vips=(Vip(chainage=60, level=53),))
    (found,) = told(Engine(site), UNWORKED)
    assert "the ends of 3 streets lie there" in found.message
    assert found.mend.words == "Join them as One"  # One and Two go straight on
    q = Engine(found.mend.apply(site))
    assert not told(q, UNWORKED)
    assert [t.id for t in kind_of("junction").things(q)] == ["three:start"]


def test_it_appears_follows_and_disappears_with_the_lines():
    site = set_continuation(two(), "one", "end", "two", "start", name="Stage line")
    q = Engine(site)
    assert [kind_of("continuation").name(q, t) for t in kind_of("continuation").things(q)] == ["Stage line"]
    away = edits.move_bend(site, "two", 0, 130.0, 60.0)
    assert not kind_of("continuation").things(Engine(away))
    turned = edits.reverse_street(site, "two", 80.0)
    assert [
        kind_of("continuation").name(Engine(turned), t) for t in kind_of("continuation").things(Engine(turned))
    ] == ["Stage line"]
    assert crown_levels(Engine(turned), "two", [80.0]) == pytest.approx([52.0])
    assert not edits.remove_street(site, "one").all(ContinuationChoice)


def test_it_stays_with_streets_that_are_cut_and_joined():
    site = set_continuation(two(), "one", "end", "two", "start", name="Stage line")
    cut = split(Engine(site), "one", 40.0)(site)
    (choice,) = cut.all(ContinuationChoice)
    rest = next(s.id for s in cut.all(Street) if s.id not in ("one", "two"))
    assert {(choice.first, choice.first_end), (choice.second, choice.second_end)} == {(rest, "end"), ("two", "start")}
    assert len(kind_of("continuation").things(Engine(cut))) == 2  # where it was cut one goes on as the other too
    assert not told(Engine(cut), UNWORKED, STEP, BREAK)
    rows = kind_of("continuation").facts(Engine(site), THING)
    ((words, edit),) = next(r for r in rows if isinstance(r, Actions)).buttons
    assert words == "Join them as One"
    whole = edit(site)
    assert [s.id for s in whole.all(Street)] == ["one"]
    assert not whole.all(ContinuationChoice)


def test_the_table_tells_levels_and_grades():
    q = Engine(two(at=REAL))
    ((name, holds, follows, at, own, level, before, after, taper, east, north),) = table(
        q, "continuations", None, None
    ).rows
    assert (name, holds, follows, at, own, taper) == ("One – Two", "One", "Two", pytest.approx(100.0), 0.0, 10.0)
    assert (level, before, after) == (pytest.approx(52.0), pytest.approx(0.01), pytest.approx(0.0075))
    assert (east, north) == (
        pytest.approx(REAL[0] + 100 * np.cos(np.radians(20))),
        pytest.approx(REAL[1] + 100 * np.sin(np.radians(20))),
    )


def test_a_choice_names_its_streets_in_the_order_of_their_ids():
    with pytest.raises(ValueError, match="in the order of their ids"):
        ContinuationChoice(first="two", first_end="end", second="one", second_end="start")
    with pytest.raises(ValueError, match="one of them holds, not 'three'"):
        ContinuationChoice(first="one", first_end="end", second="two", second_end="start", holds="three")
