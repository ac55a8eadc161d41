"""Ties: section points that follow something else. Expected values are worked out by hand on a straight street."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.ground.model import Ground
from humble_loop.kinds.kerb_line.cutting import facts_about_tie
from humble_loop.kinds.kerb_line.model import KerbLine, KerbVip, add_kerb_line
from humble_loop.kinds.street import Bend, StreetLine, Vip
from humble_loop.kinds.street import section_edits as change
from humble_loop.kinds.street.cutting import split
from humble_loop.kinds.street.edits import reverse_street, set_street
from humble_loop.kinds.street.joining import joined, joints
from humble_loop.kinds.street.model import Street
from humble_loop.kinds.street.section import rows
from humble_loop.kinds.street.share import _clear_of
from humble_loop.kinds.street.side import course
from humble_loop.kinds.survey_line.model import SurveyLine, add_survey_lines
from humble_loop.kinds.tie.beginning import could_follow, tied
from humble_loop.kinds.tie.levels import ties_on
from humble_loop.kinds.tie.model import LevelTie, Source, add_tie, set_tie
from humble_loop.kinds.tie.show import facts_about_street, facts_of, sheet_of
from humble_loop.lines.describe import Actions, Choice, Fact
from humble_loop.lines.line import line
from humble_loop.lines.varying import Varying
from humble_loop.site.edits import EditError, changed, remove
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from humble_loop.whole.tables import table
from humble_loop.whole.trail import Reasons
from tests import edits
from tests.conftest import examples, plane_ground
from tests.kinds.test_elements import E0, N0
from tests.kinds.test_sections import LOCAL, straight
from tests.whole.test_surface import assert_watertight

# The crown rises at 1 % from 60 at 0; the lip lies 3.4 m out at -3 %, 0.102 lower; the boundary 0.45 + 4.2 m further.
DROP = 0.102
KERB = Source(what="line", of="old-kerb")


def crown(s):
    return 60.0 + 0.01 * s


def surveyed(points, site=None, name="Old kerb"):
    vertices = tuple((E0 + x, N0 + y, z) for x, y, z in points)
    return add_survey_lines(site or straight(), [SurveyLine(name=name, vertices=vertices)])


def old_kerb(site=None):
    """A line that leaves the lip by 1 in 100, on which the level rises at 1.2 % of easting from 60.1."""
    return surveyed([(x, 3.4 + 0.01 * x, 60.1 + 0.012 * x) for x in (-10.0, 90.0, 210.0)], site)


def on_ground(east, north, level):
    """The street on a plane that has ``level`` at its start and rises as it says to the east and north."""
    return edits.add_ground(
        straight(), Ground(name="Plane", surface=plane_ground(east, north, level, 800.0).shifted(E0, N0))
    )


def upper(site=None):
    """Another street 30 m to the north, from 20 m further west, that falls at 2 % from 63."""
    vips = [Vip(chainage=0.0, level=63.0), Vip(chainage=250.0, level=58.0)]
    bends = [Bend(easting=E0 + x, northing=N0 + 30.0) for x in (-20.0, 230.0)]
    return edits.add_street(site or straight(), "Upper", bends, vips=vips)


def level(site, point, s, side="left", of="line"):
    id = StreetLine(of, point, side) if point != "crown" else StreetLine(of)
    return float(line(Engine(site), id).rule.levels([s])[0])


def told(site, rule=None):
    found = [f for f in findings(Engine(site)) if f.of.kind in ("tie", "kerb_line")]
    return [f.rule for f in found] if rule is None else [f for f in found if f.rule == rule]


# What is followed


def test_a_lip_follows_a_survey_line_abreast_of_it_with_a_difference_and_what_lies_outside_follows():
    site = add_tie(old_kerb(), "line", "left", "lip", KERB, 0.0, 200.0, rise_in=0.02, rise_out=0.06)
    for s in (10.0, 100.0, 190.0):
        # The foot of (s, 3.4) on y = 3.4 + x / 100: x = s / (1 + 1 / 100²).
        x = s / (1.0 + 1e-4)
        assert level(site, "lip", s) == pytest.approx(60.1 + 0.012 * x + 0.02 + 0.04 * s / 200.0, abs=1e-9)
        assert level(site, "boundary", s) - level(site, "lip", s) == pytest.approx(
            level(straight(), "boundary", s) - level(straight(), "lip", s)
        )
    assert level(site, "lip", 100.0, "right") == pytest.approx(crown(100.0) - DROP)


def test_a_point_follows_the_ground_under_it():
    # A plane that falls at 3 % to the north and 1 % to the east from 65 at the street's start.
    site = on_ground(-0.01, -0.03, 65.0)
    site = add_tie(site, "line", "left", "boundary", Source(), 20.0, 180.0, rise_in=0.1, rise_out=0.1)
    out = 3.4 + 0.45 + 4.2
    assert level(site, "boundary", 60.0) == pytest.approx(65.0 - 0.01 * 60.0 - 0.03 * out + 0.1, abs=1e-6)
    made = line(Engine(site), StreetLine("line", "boundary", "left")).rule
    assert made.grades([60.0])[0] == pytest.approx(-0.01, abs=1e-9)


def test_a_point_follows_another_surface_than_the_current_ground():
    site = on_ground(0.01, 0.0, 59.0)
    bed = Ground(name="Old road bed", surface=plane_ground(0.02, 0.05, 58.0, 800.0).shifted(E0, N0))
    current = Engine(site).site.all(Ground)[-1].id
    site = changed(edits.add_ground(site, bed), current_ground=current)
    id = site.all(Ground)[-1].id
    offered = could_follow(Engine(site), "line", "left", "lip")
    assert [(s.of, words) for s, words in offered if s.what == "ground"] == [("", "the ground"), (id, "Old road bed")]
    site = add_tie(site, "line", "left", "lip", Source(of=id), 0.0, 200.0, rise_in=0.1, rise_out=0.1)
    # The lip lies 3.4 m north of the centreline: 0.05 x 3.4 above the bed's line.
    for s in (40.0, 100.0, 160.0):
        assert level(site, "lip", s) == pytest.approx(58.0 + 0.02 * s + 0.17 + 0.1, abs=1e-6)
    assert table(Engine(site), "ties").rows[0][5] == "Old road bed"
    told_ = [f for f in findings(Engine(remove(site, Ground, id))) if "surface that it follows" in f.message]
    assert len(told_) == 1


def test_a_kerb_is_laid_back_by_a_tie_of_its_top_to_its_lip():
    """The kerb rises 0.15 above the lip; between 90 and 96 it is to stand 0.04 above it, come to over 1.5 m."""
    site = on_ground(0.0, 0.0, 60.0)
    before = level(site, "top of kerb", 93.0) - level(site, "lip", 93.0)
    lip = Source(what="point", of="line", point="lip", side="left")
    site = add_tie(
        site, "line", "left", "top of kerb", lip, 90.0, 96.0, rise_in=0.04, rise_out=0.04, taper_in=1.5, taper_out=1.5
    )
    assert level(site, "top of kerb", 93.0) - level(site, "lip", 93.0) == pytest.approx(0.04)
    half = level(site, "top of kerb", 90.75) - level(site, "lip", 90.75)
    assert half == pytest.approx(0.5 * (before + 0.04), abs=1e-6)
    # What lies behind is carried along, and the lip and the other side stay.
    moved = level(site, "boundary", 93.0) - level(straight(), "boundary", 93.0)
    assert moved == pytest.approx(0.04 - before)
    assert level(site, "lip", 93.0) == pytest.approx(crown(93.0) - DROP)
    assert {90.0, 91.5, 94.5, 96.0} <= set(np.round(rows(Engine(site), "line"), 6))
    assert_watertight(Engine(site))


def test_a_lip_follows_that_of_another_street():
    source = Source(what="point", of="upper", point="lip", side="right")
    site = add_tie(upper(), "line", "left", "lip", source, 10.0, 190.0)
    # 'Upper' begins 20 m to the west: abreast of 100 it is at 120.
    assert level(site, "lip", 100.0) == pytest.approx(63.0 - 0.02 * 120.0 - DROP, abs=1e-9)
    assert line(Engine(site), StreetLine("line", "lip", "left")).rule.grades([100.0])[0] == pytest.approx(-0.02)


def test_one_that_is_no_lower_than_the_ground_lies_higher_where_its_section_has_it():
    """Ground level at 61 + 0.1: the lip (60.998 at 110 with its drop) crosses it where 60 + s / 100 - 0.102 = 61.1, at 120.2."""
    site = on_ground(0.0, 0.0, 61.0)
    site = add_tie(site, "line", "left", "lip", Source(), 50.0, 180.0, rise_in=0.1, rise_out=0.1, least=True)
    assert level(site, "lip", 100.0) == pytest.approx(61.1)
    assert level(site, "lip", 150.0) == pytest.approx(crown(150.0) - DROP)
    assert np.abs(rows(Engine(site), "line") - 120.2).min() < 1e-6
    assert_watertight(Engine(site))
    q = Engine(site)
    rule = line(q, StreetLine("line", "lip", "left")).rule
    s = np.linspace(60.0, 170.0, 56)
    assert rule.weights(s).total() == pytest.approx(rule.levels(s))


# Together


def test_a_point_that_is_held_stays_while_the_boundary_behind_it_is_held_too():
    site = on_ground(0.0, 0.0, 60.0)
    lip = Source(what="point", of="line", point="lip", side="left")
    site = add_tie(site, "line", "left", "path front", lip, 50.0, 150.0, rise_in=0.2, rise_out=0.2)
    boundary = [KerbVip(chainage=s, level=crown(s) + 0.4) for s in (0.0, 200.0)]
    site = add_kerb_line(site, "line", "left", boundary, "boundary")
    assert level(site, "path front", 100.0) == pytest.approx(crown(100.0) - DROP + 0.2)
    assert level(site, "boundary", 100.0) == pytest.approx(crown(100.0) + 0.4)
    # Beyond the tie the verge takes all that the boundary is moved by, and the path lies as its section has it.
    fall = level(site, "boundary", 180.0) - level(site, "path back", 180.0)
    assert fall == pytest.approx(level(straight(), "boundary", 180.0) - level(straight(), "path back", 180.0))
    assert_watertight(Engine(site))


def test_with_lane_edge_and_lip_held_what_lies_between_keeps_to_its_proportion():
    """Lane 3.4 m at -3 %, then parking 2.5 m in two strips at -4 %: the edge is held 0.05 up, the lip 0.1 down."""
    site = change.add_piece(on_ground(0.0, 0.0, 60.0), LOCAL, "left", 0, "parking")
    site = change.set_strip(site, LOCAL, "left", 1, width=2.0, grade=-0.04)
    site = change.add_piece(site, LOCAL, "left", 1, "parking")
    q = Engine(site)
    names = course(q, "line", "left").names
    edge, middle = names[1], names[2]
    was = {n: level(site, n, 100.0) for n in (edge, middle, "lip")}
    width = [abs(line(q, StreetLine("line", n, "left")).plan.offset.one(100.0)) for n in (edge, middle, "lip")]
    for point, by in ((edge, 0.05), ("lip", -0.1)):
        vips = [KerbVip(chainage=s, level=was[point] + 0.01 * (s - 100.0) + by) for s in (0.0, 200.0)]
        site = add_kerb_line(site, "line", "left", vips, point)
    assert level(site, edge, 100.0) - was[edge] == pytest.approx(0.05)
    assert level(site, "lip", 100.0) - was["lip"] == pytest.approx(-0.1)
    # The middle is carried up with the edge, then goes with the lip by its share of the way from the edge; as the lip was
    # carried up by 0.05 it goes down by 0.15.
    share = (width[1] - width[0]) / (width[2] - width[0])
    assert level(site, middle, 100.0) - was[middle] == pytest.approx(0.05 - 0.15 * share)
    assert_watertight(Engine(site))


def test_two_on_one_point_are_refused_with_both_named_and_one_from_a_file_is_left_out():
    site = add_tie(old_kerb(), "line", "left", "lip", KERB, 20.0, 100.0)
    with pytest.raises(EditError, match=r"left lip has a tie from 20.00 to 100.00 already.*tie \(80.00 to 150.00\)"):
        add_tie(site, "line", "left", "lip", Source(), 80.0, 150.0)
    with pytest.raises(EditError, match=r"has a tie from 20.00 to 100.00 already.*kerb line \(90.00 to 150.00\)"):
        add_kerb_line(site, "line", "left", [KerbVip(chainage=90, level=60), KerbVip(chainage=150, level=61)])
    on_another = add_tie(site, "line", "left", "boundary", KERB, 80.0, 150.0)
    assert len(on_another.all(LevelTie)) == 2
    both = site.put(
        KerbLine(
            id="k",
            street="line",
            side="left",
            vips=(KerbVip(chainage=90.0, level=61.0), KerbVip(chainage=150.0, level=61.5)),
        )
    )
    assert "own levels overlap" in told(both)
    assert level(both, "lip", 95.0) == pytest.approx(level(site, "lip", 95.0))


@examples(20)
@given(
    st.floats(0.5, 20.0),
    st.floats(-0.04, 0.04),
    st.floats(-0.3, 0.3),
    st.floats(-0.3, 0.3),
    st.sampled_from(["lip", "path front", "boundary"]),
)
def test_grades_are_the_slope_of_levels_and_weights_add_up_to_them(out, fall, rise_in, rise_out, point):
    points = [(x, out + 0.3 * np.sin(x / 40.0), 60.0 + fall * x) for x in np.linspace(-20.0, 220.0, 9)]
    site = surveyed(points)
    site = add_tie(
        site, "line", "left", point, KERB, 30.0, 170.0, rise_in=rise_in, rise_out=rise_out, taper_in=20, taper_out=10
    )
    rule = line(Engine(site), StreetLine("line", point, "left")).rule
    s, h = np.linspace(31.3, 168.7, 41), 1e-5
    for where, a, b in (("after", s, s + h), ("before", s - h, s)):
        slope = (rule.levels(b) - rule.levels(a)) / h
        assert rule.grades(s, where) == pytest.approx(slope, abs=2e-4)
    assert rule.weights(s).total() == pytest.approx(rule.levels(s))


# Round in a ring, gone, cut short


def test_ties_that_follow_themselves_hold_nothing_and_the_rest_stands():
    back = Source(what="point", of="line", point="path back", side="left")
    alone = add_tie(straight(), "line", "left", "boundary", back, 20.0, 180.0, rise_in=0.3, rise_out=0.3)
    assert told(alone) == ["tie follows itself"]
    assert level(alone, "boundary", 100.0) == pytest.approx(level(straight(), "boundary", 100.0))
    site = add_tie(upper(), "line", "left", "lip", Source(what="point", of="upper", point="lip", side="right"), 10, 190)
    site = add_tie(site, "upper", "right", "lip", Source(what="point", of="line", point="lip", side="left"), 30, 200)
    assert told(site) == ["tie follows itself"] * 2
    for s in (50.0, 100.0):
        assert level(site, "lip", s) == pytest.approx(crown(s) - DROP)
    # One of them let go, the other holds.
    site = remove(site, LevelTie, site.all(LevelTie)[1].id)
    assert "tie follows itself" not in told(site)
    assert level(site, "lip", 100.0) == pytest.approx(63.0 - 0.02 * 120.0 - DROP)
    with pytest.raises(EditError, match="cannot follow itself"):
        set_tie(site, site.all(LevelTie)[0].id, source=Source(what="point", of="line", point="lip", side="left"))


def test_what_is_followed_may_be_gone():
    site = add_tie(old_kerb(), "line", "left", "lip", KERB, 20.0, 100.0)
    gone = remove(site, SurveyLine, "old-kerb")
    (f,) = told(gone, "tie without its source")
    assert "not there any more" in f.message
    assert "choose another" in f.remedy
    assert level(gone, "lip", 50.0) == pytest.approx(crown(50.0) - DROP)
    (row,) = table(Engine(gone), "ties").rows
    assert row[5] == "a survey line that is gone"
    assert row[7:] == (None,) * 6


def test_where_what_is_followed_ends_early_the_tie_ends_too_and_can_be_made_to():
    site = surveyed([(-10.0, 6.0, 60.0), (90.0, 6.0, 61.0)])
    site = add_tie(site, "line", "left", "lip", KERB, 20.0, 150.0, taper_in=5.0, taper_out=5.0)
    (f,) = told(site, "tie's source ends early")
    assert "from 20.00 to 90.00 only" in f.message
    assert level(site, "lip", 80.0) == pytest.approx(60.9)
    assert level(site, "lip", 91.0) == pytest.approx(crown(91.0) - DROP)
    mended = f.mend.apply(site)
    assert mended.all(LevelTie)[0].finish == pytest.approx(90.0)
    assert not told(mended, "tie's source ends early")


def test_an_end_without_a_taper_is_a_step_and_can_be_eased():
    site = add_tie(old_kerb(), "line", "left", "lip", KERB, 20.0, 200.0)
    # At 20 the line is at 60.34, the lip at 60.098.
    (f,) = told(site, "step at a tie's end")
    assert "242 mm above" in f.message
    eased = f.mend.apply(site)
    assert eased.all(LevelTie)[0].taper_in == 5.0
    assert not told(eased, "step at a tie's end")
    # From 20 on the lip is more than the crown: the carriageway falls the wrong way.
    assert told(eased, "crossfall to a tied lip")


# The street changes


def test_levels_stay_when_the_street_is_turned_cut_and_joined():
    site = add_tie(
        old_kerb(), "line", "left", "lip", KERB, 20.0, 150.0, rise_in=0.1, rise_out=-0.2, taper_in=8.0, taper_out=3.0
    )
    wanted = {s: level(site, "lip", s) for s in (22.0, 60.0, 110.0, 149.0, 180.0)}
    turned = reverse_street(site, "line", 200.0)
    for s, z in wanted.items():
        assert level(turned, "lip", 200.0 - s, "right") == pytest.approx(z, abs=1e-9)
    # Set as the street runs: 30 m above it at the start, which was its end.
    facts = {f.label: f for f in facts_of(Engine(turned), site.all(LevelTie)[0].id) if isinstance(f, Fact)}
    assert facts["above it at its start"].value == pytest.approx(-0.2)
    assert facts["from"].value == pytest.approx(50.0)
    assert facts["from"].edit(60.0)(turned).all(LevelTie)[0].finish == pytest.approx(140.0)
    q = Engine(site)
    parted = split(q, "line", 100.0)(site)
    rest = next(s.id for s in parted.all(Street) if s.id != "line")
    for s, z in wanted.items():
        of, at = ("line", s) if s < 100.0 else (rest, s - 100.0)
        assert level(parted, "lip", at, of=of) == pytest.approx(z, abs=1e-6)
    q = Engine(parted)
    again = joined(q, "line", "end", joints(q, "line", "end")[0])(parted)
    for s, z in wanted.items():
        assert level(again, "lip", s) == pytest.approx(z, abs=1e-6)


def test_a_tie_comes_back_from_a_file(tmp_path):
    site = add_tie(old_kerb(), "line", "left", "lip", KERB, 20.0, 150.0, rise_in=0.1, least=True)
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").all(LevelTie) == site.all(LevelTie)


# Making, changing and cutting


def test_a_new_tie_takes_the_longest_stretch_that_is_free_and_has_what_it_follows():
    site = surveyed([(30.0, 5.0, 60.3), (120.0, 5.0, 61.2)])
    q = Engine(site)
    made = tied(q, "line", "left", "lip", KERB)(site)
    (tie,) = made.all(LevelTie)
    assert tie.span == pytest.approx((30.0, 120.0), abs=1e-3)
    assert (tie.taper_in, tie.taper_out) == (5.0, 5.0)
    whole = tied(q, "line", "right", "lip", Source(what="point", of="line", point="crown"))(site)
    assert whole.all(LevelTie)[0].span == (0.0, 200.0)
    assert whole.all(LevelTie)[0].taper_in == 0.0
    with pytest.raises(EditError, match="held all along already"):
        tied(Engine(whole), "line", "right", "lip", Source())(whole)
    with pytest.raises(EditError, match="the ground does not run beside the right lip"):
        tied(q, "line", "right", "lip", Source())(site)
    old = set_street(site, "line", kind="existing")
    with pytest.raises(EditError, match="existing street"):
        tied(Engine(old), "line", "left", "lip", KERB)(old)


def test_what_it_follows_is_chosen_in_its_facts_and_its_levels_are_told_along_it():
    site = tied(Engine(old_kerb()), "line", "left", "lip", KERB)(old_kerb())
    id = site.all(LevelTie)[0].id
    q = Engine(site)
    follows = next(f for f in facts_of(q, id) if isinstance(f, Choice) and f.label == "follows")
    options = dict(follows.options)
    assert "Old kerb" in options.values()
    assert {"the ground", "its crown", "its right lip", "its left boundary"} <= set(options.values())
    crown_word = next(k for k, v in options.items() if v == "its crown")
    other = follows.edit(crown_word)(site)
    assert level(other, "lip", 100.0) == pytest.approx(crown(100.0))
    rows_of = sheet_of(q, id).rows
    assert rows_of[0].cells[5].value == pytest.approx(level(site, "lip", rows_of[0].cells[0].value))
    least = next(f for f in facts_of(q, id) if isinstance(f, Choice) and f.label == "how").edit("least")(site)
    assert least.all(LevelTie)[0].least
    words = [w for r in facts_about_street(q, "line") if isinstance(r, Actions) for w, _ in r.buttons]
    assert words == ["Tie the left lip", "Tie the right lip", "Tie the left boundary", "Tie the right boundary"]
    assert len(could_follow(q, "line", "left", "lip")) > 5


def test_a_tie_that_is_cut_leaves_the_levels_as_they_are():
    site = add_tie(old_kerb(), "line", "left", "lip", KERB, 20.0, 150.0, rise_in=0.1, taper_in=10.0)
    for made in (site, reverse_street(site, "line", 200.0)):
        q = Engine(made)
        ((_, edit),) = facts_about_tie(q, made.all(LevelTie)[0].id)[0].buttons
        cut = edit(made)
        assert not cut.all(LevelTie)
        side = "left" if made is site else "right"
        for s in (5.0, 22.0, 60.0, 110.0, 149.9):
            at = s if made is site else 200.0 - s
            assert level(cut, "lip", at, side) == pytest.approx(level(site, "lip", s), abs=2e-3)
    assert len(site.all(LevelTie)) == 1


def test_the_trail_speaks_through_a_tie():
    q = Engine(add_tie(old_kerb(), "line", "left", "lip", KERB, 20.0, 150.0, rise_in=0.1, rise_out=0.1))
    words = "\n".join(Reasons(q).on_line(StreetLine("line", "path back", "left"), 75.0).lines())
    assert "held by a tie to Old kerb" in words
    assert "survey line 'Old kerb'" in words
    assert "height difference" in words


def test_the_table_tells_source_difference_section_and_built():
    site = add_tie(old_kerb(), "line", "left", "lip", KERB, 0.0, 200.0, rise_in=0.02, rise_out=0.02)
    made = table(Engine(site), "ties", "Line", 50.0)
    row = dict(zip(made.columns, made.rows[2]))
    x = 100.0 / (1.0 + 1e-4)
    assert row["chainage"] == 100.0
    assert row["source"] == pytest.approx(60.1 + 0.012 * x, abs=1e-9)
    assert row["tied"] == row["built"] == pytest.approx(60.12 + 0.012 * x, abs=1e-9)
    assert row["section"] == pytest.approx(crown(100.0) - DROP)


def test_ties_on_a_point_that_the_section_has_no_more_are_told():
    site = add_tie(straight(), "line", "left", "path front", Source(), 20.0, 150.0)
    tie = site.all(LevelTie)[0]
    odd = site.put(changed(tie, point="ledge"))
    assert [f.rule for f in findings(Engine(odd)) if "ledge" in f.message] == ["cannot be worked out"]
    assert ties_on(Engine(odd), "line", "left", "path front") == ()
    assert new_site().all(LevelTie) == ()


def test_a_hold_beside_a_corner_stays_in_its_stretch_so_that_another_may_begin_where_it_ends():
    """A hole from 48 to 55 lies across the end, at 50, of a stretch: the next one begins there."""
    share = _clear_of(Varying.of([10.0, 10.05, 49.95, 50.0], [0.0, 1.0, 1.0, 0.0]), ((48.0, 55.0),))
    assert (share.at[0], share.at[-1]) == (10.0, 50.0)
    assert share([30.0, 45.0, 48.0, 49.0]) == pytest.approx([1.0, 1.0, 0.0, 0.0])


def test_grades_abreast_of_a_line_that_runs_back_and_away_and_of_a_bend_are_the_slope_of_levels():
    """A line from (200, 103.4) back to (0, 3.4) that rises by 5 in its √50000 m: 2 m of street are √(4/5) × 2 m of it, backwards."""
    site = surveyed([(200.0, 103.4, 60.0), (0.0, 3.4, 65.0)])
    site = add_tie(site, "line", "left", "lip", KERB, 40.0, 150.0)
    made = line(Engine(site), StreetLine("line", "lip", "left")).rule
    assert made.grades([80.0])[0] == pytest.approx(-5.0 / np.sqrt(50_000.0) * np.sqrt(0.8), abs=1e-9)
    # A street in an arc of 60 m round (100, 80): its crown comes nearest at 100, and runs faster than this one beside it.
    bends = [Bend(easting=E0 + x, northing=N0 + y, radius=r) for x, y, r in ((0, 90, 0), (100, 2, 60), (200, 90, 0))]
    site = edits.add_street(
        straight(), "Arc", bends, vips=[Vip(chainage=0.0, level=60.0), Vip(chainage=200.0, level=70.0)]
    )
    site = add_tie(site, "line", "left", "lip", Source(what="point", of="arc", point="crown"), 70.0, 130.0)
    made = line(Engine(site), StreetLine("line", "lip", "left")).rule
    s, h = np.linspace(75.0, 125.0, 21), 1e-5
    slope = (made.levels(s + h) - made.levels(s - h)) / (2.0 * h)
    assert made.grades(s) == pytest.approx(slope, abs=1e-6)
    assert np.abs(slope - 0.05).max() > 0.005
