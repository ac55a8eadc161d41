"""Widenings along survey lines and points of streets, and parking bays. Expected values are worked out by hand."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.ground.model import Ground
from humble_loop.kinds.street import Street, StreetLine
from humble_loop.kinds.street.change_sheet import change_sheet
from humble_loop.kinds.street.cutting import split
from humble_loop.kinds.street.edits import reverse_street
from humble_loop.kinds.street.model import Widening
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.street.section_edits import add_bay, add_change
from humble_loop.kinds.street.side import boundary_width, course, lip_width
from humble_loop.kinds.street.widening import add_widening, rejoined_widenings, set_widening
from humble_loop.kinds.survey_line import SurveyLine
from humble_loop.kinds.survey_line.model import add_survey_lines
from humble_loop.lines.describe import Fact
from humble_loop.lines.line import line, line_plan
from humble_loop.site.edits import EditError, remove
from humble_loop.site.library import TypicalSection
from humble_loop.whole.findings import findings
from humble_loop.whole.tables import table
from tests import edits
from tests.conftest import court_site, examples, plane_ground
from tests.kinds.test_elements import E0, N0, street
from tests.kinds.test_sections import straight
from tests.whole.test_surface import assert_watertight


def with_line(site, *points, name="Edge"):
    """The site with a survey line through points (x, y) from the street's start."""
    vertices = tuple((E0 + x, N0 + y, None) for x, y in points)
    return add_survey_lines(site, [SurveyLine(name=name, code="EDGE", vertices=vertices)])


def widened(*points, begin=60.0, finish=140.0, side="left", taper=10.0, site=None):
    site = with_line(site or straight(), *points)
    site = add_widening(site, "line", side, begin, finish, "edge")
    return set_widening(site, site.all(Widening)[-1].id, taper=taper)


def lip(site, *at, side="left"):
    return lip_width(Engine(site), "line", side)(np.array(at, dtype=float))


def told(site):
    return [f for f in findings(Engine(site)) if f.rule == "widening"]


# Lip 3.4 m from the crown; the line 5 m from it.
BESIDE = ((40.0, 5.0), (160.0, 5.0))


def test_the_lip_follows_the_line_and_comes_to_it_over_the_taper():
    site = widened(*BESIDE)
    assert lip(site, 50, 60, 65, 70, 100, 130, 135, 140, 150) == pytest.approx(
        [3.4, 3.4, 4.2, 5.0, 5.0, 5.0, 4.2, 3.4, 3.4]
    )
    assert lip(site, 100, side="right") == pytest.approx([3.4])
    # What lies outside follows, 0.45 m of kerb and 4.2 m of verge and path, and the lane keeps its fall.
    q = Engine(site)
    assert boundary_width(q, "line", "left").one(100.0) == pytest.approx(9.65)
    assert line(q, StreetLine("line", "lip", "left")).rule.levels([100.0])[0] == pytest.approx(61.0 - 0.03 * 5.0)
    assert not told(site)


def test_a_taper_is_at_most_half_of_it_and_the_inner_strips_stay():
    assert lip(widened(*BESIDE, taper=100.0), 80, 100, 120) == pytest.approx([4.2, 5.0, 4.2])
    site = widened((40.0, 7.0), (160.0, 7.0), site=straight(section="collector-parking"))
    q = Engine(site)
    made = course(q, "line", "left")
    k = int(np.searchsorted(made.at, 100.0))
    assert made.widths[k, 1 : made.lip + 1] == pytest.approx([3.3, 3.7])  # lane, and parking up to the line


def test_joined_to_another_street_the_other_way_round_it_changes_sides():
    site = rejoined_widenings(widened(*BESIDE), "line", "other", 300.0, True)
    made = site.all(Widening)[0]
    assert (made.street, made.side, made.begin, made.finish) == ("other", "right", 160.0, 240.0)
    site = rejoined_widenings(widened(*BESIDE), "line", "other", 300.0, False)
    made = site.all(Widening)[0]
    assert (made.street, made.side, made.begin, made.finish) == ("other", "left", 360.0, 440.0)


@examples(30)
@given(st.floats(-0.5, 0.5), st.floats(4.0, 7.0), st.integers(0, 2**32 - 1))
def test_beside_a_bend_every_lip_point_lies_on_the_line(kick, out, seed):
    rng = np.random.default_rng(seed)
    base = street((0.0, 0.0), (100.0, 0.0, 60.0), (160.0, 90.0))
    beside = out + kick * rng.uniform(-1, 1, 5)
    places = chain_of(Engine(base), "line").points_at([40.0, 60.0, 75.0, 90.0, 110.0], beside)
    points = (places + np.array(base.origin) - [E0, N0]).tolist()
    site = widened(*points, begin=62.0, finish=95.0, taper=2.0, site=base)
    q = Engine(site)
    s = np.linspace(64.1, 92.9, 40)
    on = line_plan(q, StreetLine("line", "lip", "left")).points(s) + np.array(site.origin) - [E0, N0]
    assert np.abs(distance_to(on, np.array(points))).max() < 0.001
    assert not told(site)


def distance_to(points, polyline):
    """Metres from each point to the nearest segment."""
    a, b = polyline[:-1], polyline[1:]
    d = b - a
    t = np.clip(((points[:, None] - a) * d).sum(axis=2) / (d**2).sum(axis=1), 0, 1)
    return np.hypot(*(points[:, None] - (a + t[..., None] * d)).transpose(2, 0, 1)).min(axis=1)


def test_it_narrows_as_well_and_stays_with_its_place_when_the_street_is_reversed():
    site = widened((40.0, -2.6), (160.0, -2.6), side="right", finish=150.0)
    assert lip(site, 100, 145, side="right") == pytest.approx([2.6, 3.0])
    turned = reverse_street(site, "line", 200.0)
    assert lip(turned, 100, 55, side="left") == pytest.approx([2.6, 3.0])
    assert turned.all(Widening) == site.all(Widening)
    row = change_sheet(Engine(turned), "line").rows[0]
    assert [c.value for c in row.cells[1:4]] == ["left", 50.0, 140.0]
    moved = row.cells[2].edit(70.0)(turned).all(Widening)[0]
    assert (moved.side, moved.begin, moved.finish) == ("right", 60.0, 130.0)


def test_it_is_cut_with_the_street_and_saved_with_the_site(tmp_path):
    site = widened(*BESIDE)
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").all(Widening) == site.all(Widening)
    cut = split(Engine(site), "line", 100.0)(site)
    assert [(w.street, w.begin, w.finish) for w in cut.all(Widening)] == [("line", 60.0, 100.0), ("line-2", 0.0, 40.0)]
    assert not remove(site, Street, "line").all(Widening)


def test_what_rests_on_sections_follows():
    site = widened(*BESIDE)
    q = Engine(edits.add_ground(site, Ground(name="g", surface=plane_ground(0.0, 0.0, 60.0).shifted(E0, N0))))
    assert_watertight(q)
    setout = table(q, "setout", None, None)
    at, offset, of = (setout.columns.index(c) for c in ("chainage", "offset", "thing"))
    mine = {round(r[at], 6): r[offset] for r in setout.rows if "left lip" in r[of]}
    assert {s: mine[s] for s in (50.0, 100.0)} == pytest.approx({50.0: 3.4, 100.0: 5.0})
    # 1.6 m more over 80 m, less 10 m at each end on the half.
    plain, wide = (asphalt(s) for s in (straight(), site))
    assert wide - plain == pytest.approx(1.6 * 70.0)


def asphalt(site):
    """m2 of it."""
    made = table(Engine(site), "pavement", None, None)
    return sum(r[made.columns.index("area")] for r in made.rows if "asphalt" in r)


def test_a_junction_with_a_widened_side_stays_watertight():
    site = court_site()
    chain = chain_of(Engine(site), "court")
    places = chain.points_at([30.0, 60.0, 90.0], 4.4) + np.array(site.origin)
    vertices = tuple((float(a), float(b), None) for a, b in places)
    site = add_survey_lines(site, [SurveyLine(name="Edge", code="EDGE", vertices=vertices)])
    site = add_widening(site, "court", "left", 36.0, 84.0, "edge")
    q = Engine(site)
    assert lip_width(q, "court", "left").one(60.0) == pytest.approx(4.4, abs=1e-3)
    assert_watertight(q)


@pytest.mark.parametrize(
    ("points", "words"),
    [
        (((80.0, 5.0), (120.0, 5.0)), "from 80.00 to 120.00 only"),
        (((80.0, 5.0), (160.0, 5.0)), "from 80.00 to 140.00 only"),
        (((300.0, 5.0), (400.0, 5.0)), "does not run beside the street"),
        (((40.0, 5.0), (160.0, -5.0)), "does not stay on the left"),
        (((40.0, 5.0), (120.0, 5.0), (90.0, 6.0), (160.0, 6.0)), "turns back"),
        (((40.0, 0.04), (160.0, 0.04)), "no width"),
        (((40.0, 90.0), (160.0, 90.0)), "does not run beside the street"),
    ],
)
def test_a_line_that_cannot_be_followed_is_told_and_the_street_stands(points, words):
    site = widened(*points)
    (found,) = told(site)
    assert words in found.message
    assert found.place is not None
    assert np.isfinite(lip(site, 0, 100, 200)).all()
    assert not [f for f in findings(Engine(site)) if f.rule == "cannot be worked out"]


def test_a_line_that_is_gone_is_told_and_another_can_be_chosen():
    site = remove(widened(*BESIDE), SurveyLine, "edge")
    assert "not there any more" in told(site)[0].message
    assert lip(site, 100) == pytest.approx([3.4])
    site = with_line(site, (40.0, 4.0), (160.0, 4.0), name="Other")
    cell = change_sheet(Engine(site), "line").rows[0].cells[5]
    assert ("edge||", "a line that is gone") in cell.options
    site = cell.edit("other||")(site)
    assert lip(site, 100) == pytest.approx([4.0])
    assert not told(site)


def test_two_on_one_stretch_are_refused_by_name():
    site = widened(*BESIDE)
    with pytest.raises(EditError, match=r"left lip has a widening from 60\.00 to 140\.00 already"):
        add_widening(site, "line", "left", 130.0, 150.0, "edge")
    with pytest.raises(EditError, match="no survey line"):
        add_widening(site, "line", "right", 130.0, 150.0, "nothing")
    with pytest.raises(EditError, match="cannot end"):
        set_widening(site, site.all(Widening)[0].id, finish=10.0)


def test_the_sheet_offers_the_nearest_line_of_each_side():
    site = with_line(straight(), (20.0, 9.0), (180.0, 9.0), name="Far")
    site = with_line(site, (-20.0, 5.0), (150.0, 5.0), name="Edge")
    words = [w for w, _ in change_sheet(Engine(site), "line").actions]
    assert words == [
        "Change at 100",
        "Bay on the left at 100",
        "Widen the left to Edge",
        "Widen the left by 1 m at 100",
        "Bay on the right at 100",
        "Widen the right by 1 m at 100",
    ]
    site = dict(change_sheet(Engine(site), "line").actions)["Widen the left to Edge"](site)
    made = site.all(Widening)[0]
    assert (made.side, made.line, made.finish) == ("left", "edge", 150.0)
    assert 0.0 <= made.begin < 4.0  # it begins before the street does
    row = change_sheet(Engine(site), "line").rows[0]
    site = row.cells[4].edit(20.0)(site)
    assert site.all(Widening)[0].taper == 20.0
    assert not row.actions[0][1](site).all(Widening)


# Along streets


def beside_another(*of, y=20.0, site=None):
    """The straight street, another that runs the other way beside it ``y`` m to its left, and a widening along that one's point."""
    other = street((180.0, y), (20.0, y)).all(Street)[0].model_copy(update={"id": "other", "name": "Other"})
    return (site or straight()).put(other)


def test_a_boundary_keeps_a_width_of_ground_to_another_streets_lip():
    """Its left lip, 3.4 m of 20 m away, is the one towards: 16.6 m; with 2.6 m less, 14 m from the crown."""
    site = beside_another()
    site = add_widening(
        site, "line", "left", 40.0, 140.0, "other", "boundary", of_point="lip", of_side="left", beside=-2.6
    )
    q = Engine(site)
    assert boundary_width(q, "line", "left")(np.array([60.0, 100.0, 130.0])) == pytest.approx(14.0)
    assert boundary_width(q, "line", "left").one(20.0) == pytest.approx(3.4 + 0.45 + 4.2)
    assert not told(site)
    moved = site.put(beside_another(y=25.0).find(Street, "other"))
    assert boundary_width(Engine(moved), "line", "left").one(100.0) == pytest.approx(19.0)
    turned = reverse_street(site, "other", 160.0)
    assert boundary_width(Engine(turned), "line", "left").one(100.0) == pytest.approx(14.0)
    wider = add_widening(turned, "other", "left", 20.0, 140.0, "other", of_point="crown", beside=4.4)
    assert boundary_width(Engine(wider), "line", "left").one(100.0) == pytest.approx(13.0)


@examples(20)
@given(st.floats(0.5, 4.0), st.floats(-45.0, 45.0), st.integers(0, 2**32 - 1))
def test_beside_a_bend_it_lies_on_the_other_streets_lip(more, turn, seed):
    """Places of the point, measured from the other centreline, lie ``more`` beyond its lip, square to this street."""
    rng = np.random.default_rng(seed)
    base = street((0.0, 0.0), (100.0, 0.0, 80.0), (180.0, turn))
    places = chain_of(Engine(base), "line").points_at([10.0, 90.0, 170.0], 19.0 + rng.uniform(-1, 1, 3))
    corners = (places + np.array(base.origin) - [E0, N0]).tolist()
    other = street(corners[0], (*corners[1], 60.0), corners[2]).all(Street)[0]
    site = base.put(other.model_copy(update={"id": "other", "name": "Other"}))
    site = add_widening(site, "line", "left", 40.0, 120.0, "other", "boundary", of_point="lip", of_side="right")
    q = Engine(site)
    assert not told(site)
    s = np.linspace(46.0, 114.0, 50)
    on = chain_of(q, "line").points_at(s, boundary_width(q, "line", "left")(s))
    away = chain_of(q, "other").feet(on)
    assert away.offsets == pytest.approx(-lip_width(q, "other", "right")(away.chainages), abs=1.5e-3)
    further = set_widening(site, site.all(Widening)[0].id, beside=more)
    out = boundary_width(Engine(further), "line", "left")(s)
    assert out == pytest.approx(boundary_width(q, "line", "left")(s) + more, abs=1.5e-3)


def test_by_measure_from_its_own_crown():
    site = dict(change_sheet(Engine(straight()), "line").actions)["Widen the right by 1 m at 100"](straight())
    row = change_sheet(Engine(site), "line").rows[0]
    assert [c.value for c in row.cells if isinstance(c, Fact)] == ["widening", "right", 80.0, 120.0, 5.0, 4.4]
    assert row.cells[5].current == "line|crown|"
    assert lip(site, 80, 82.5, 85, 100, 120, side="right") == pytest.approx([3.4, 3.9, 4.4, 4.4, 3.4])
    assert lip(row.cells[6].edit(6.0)(site), 100, side="right") == pytest.approx([6.0])


def test_what_a_side_could_follow_and_what_it_is_told_when_it_follows_itself():
    site = beside_another()
    site = add_widening(site, "line", "left", 40.0, 140.0, "other", of_point="boundary", of_side="left", beside=-6.0)
    row = change_sheet(Engine(site), "line").rows[0]
    offered = dict(row.cells[5].options)
    assert offered["other|boundary|left"] == "Other left boundary"
    assert offered["line|crown|"] == "its crown"
    assert "line|lip|left" not in offered
    assert lip(row.cells[5].edit("other|lip|left")(site), 100) == pytest.approx([10.6])
    ring = add_widening(site, "other", "left", 20.0, 140.0, "line", of_point="lip", of_side="left")
    assert ["at last itself" in f.message for f in told(ring)] == [True, True]
    assert lip(ring, 100) == pytest.approx([3.4])
    assert not [f for f in findings(Engine(ring)) if f.rule == "cannot be worked out" and f.of.id == "line"]
    with pytest.raises(EditError, match="cannot follow itself in plan"):
        add_widening(site, "line", "right", 0.0, 50.0, "line", of_point="lip", of_side="right")
    with pytest.raises(EditError, match="no street"):
        add_widening(site, "line", "right", 0.0, 50.0, "nothing", of_point="crown", beside=4.0)


def test_a_followed_street_that_is_gone_joined_or_cut_is_kept_or_told(tmp_path):
    site = beside_another()
    site = add_widening(site, "line", "left", 40.0, 140.0, "other", of_point="boundary", of_side="left", beside=-6.0)
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").all(Widening) == site.all(Widening)
    assert "not there any more" in told(remove(site, Street, "other"))[0].message
    joined = rejoined_widenings(site, "other", "longer", 300.0, True).all(Widening)[0]
    assert (joined.line, joined.of_side, joined.street) == ("longer", "right", "line")
    cut = split(Engine(site), "other", 80.0)(site)
    assert ["from 100.00 to 140.00 only" in f.message for f in told(cut)] == [True]
    own = add_widening(straight(), "line", "left", 40.0, 140.0, "line", of_point="crown", beside=5.0)
    own = split(Engine(own), "line", 100.0)(own)
    assert [(w.street, w.line, w.finish) for w in own.all(Widening)] == [
        ("line", "line", 100.0),
        ("line-2", "line-2", 40.0),
    ]
    far = site.find(Street, "other")
    far = far.model_copy(update={"bends": (far.bends[0], far.bends[1].model_copy(update={"easting": 9e6}))})
    assert "cannot be followed" in told(site.put(far))[0].message
    assert lip(site.put(far), 100) == pytest.approx([3.4])


# Bays


def test_a_bay_takes_a_parking_lane_and_gives_it_back():
    site = dict(change_sheet(Engine(straight()), "line").actions)["Bay on the right at 100"](straight())
    # From 86 to 114, with tapers of 2 m; 2.2 m of parking.
    assert lip(site, 80, 86, 87, 88, 100, 112, 113, 114, 120, side="right") == pytest.approx(
        [3.4, 3.4, 4.5, 5.6, 5.6, 5.6, 4.5, 3.4, 3.4]
    )
    assert lip(site, 100, side="left") == pytest.approx([3.4])
    changes = site.find(Street, "line").changes
    assert changes[-1].section == site.find(Street, "line").section
    assert site.find(TypicalSection, changes[0].section).apart
    assert_watertight(
        Engine(edits.add_ground(site, Ground(name="g", surface=plane_ground(0.0, 0.0, 60.0).shifted(E0, N0))))
    )


def test_bays_follow_one_another_and_are_refused_where_there_is_no_room():
    site = add_bay(straight(), "line", "left", 20.0, 44.0)
    site = add_bay(site, "line", "left", 60.0, 90.0)
    assert lip(site, 30, 50, 70, 95) == pytest.approx([5.6, 3.4, 5.6, 3.4])
    with pytest.raises(EditError, match=r"changes at 60\.00 already"):
        add_bay(site, "line", "left", 50.0, 70.0)
    with pytest.raises(EditError, match="needs more than 4 m"):
        add_bay(site, "line", "left", 120.0, 123.0)
    later = add_change(site, "line", 150.0)
    assert [c.chainage for c in later.find(Street, "line").changes] == [20.0, 42.0, 60.0, 88.0, 150.0]


def test_a_boundary_and_a_path_follow_lines_in_plan_each_for_itself():
    """The path front follows a line 6 m from the crown, the boundary one 10 m from it; the lip stays, and what lies between shifts."""
    lines = [
        SurveyLine(name=name, vertices=tuple((E0 + x, N0 + y, 60.0) for x in (-10.0, 210.0)))
        for name, y in (("Old path", 6.0), ("Old fence", 10.0))
    ]
    site = add_survey_lines(straight(), lines)
    site = add_widening(site, "line", "left", 0.0, 200.0, "old-path", "path front")
    site = add_widening(site, "line", "left", 0.0, 200.0, "old-fence", "boundary")
    made = course(Engine(site), "line", "left")
    out = {name: made.out(k).one(100.0) for k, name in enumerate(made.names)}
    assert out["lip"] == pytest.approx(3.4)
    assert out["path front"] == pytest.approx(6.0)
    assert out["path back"] == pytest.approx(7.8)  # 1.8 m of path, as before
    assert out["boundary"] == pytest.approx(10.0)
    # What is wider keeps its fall: the last strip at 2 %.
    level = lambda n: float(line(Engine(site), StreetLine("line", n, "left")).rule.levels([100.0])[0])  # noqa: E731
    assert level("boundary") - level("path back") == pytest.approx(0.02 * 2.2)
    with pytest.raises(EditError, match="left boundary has a widening"):
        add_widening(site, "line", "left", 50.0, 100.0, "old-path", "boundary")
    odd = add_widening(straight_with(lines), "line", "left", 0.0, 200.0, "old-path", "top of kerb")
    assert ["ends at 'top of kerb'" in f.message for f in findings(Engine(odd)) if f.rule == "widening"] == [True]


def straight_with(lines):
    return add_survey_lines(straight(), lines)


def test_two_from_a_file_that_overlap_are_told():
    line = SurveyLine(name="Edge", vertices=tuple((E0 + x, N0 + 4.5, 60.0) for x in (-10.0, 210.0)))
    site = add_widening(straight_with([line]), "line", "left", 20.0, 100.0, "edge")
    one = site.all(Widening)[0]
    both = site.put(one.model_copy(update={"id": "other", "begin": 80.0, "finish": 150.0}))
    (f,) = [f for f in findings(Engine(both)) if f.rule == "widening"]
    assert "begins before another one of the lip has ended, at 100.00" in f.message
