"""Roundabouts: kerbs that touch legs and circle, levels on planes and cones, one seam, and streets that come to them and leave again."""

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.geometry.periodic import PeriodicCubic
from humble_loop.geometry.spline_path import radii, smoothest
from humble_loop.geometry.swept import followed
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.model import CrossingChoice, ReturnLevel, set_crossing_corner
from humble_loop.kinds.junction.nodes import all_joints, unworked
from humble_loop.kinds.junction.vehicles import VEHICLES
from humble_loop.kinds.roundabout import CircleLine, KerbLine, LegIslandLine, Roundabout, RoundaboutFace
from humble_loop.kinds.roundabout.checks import roundabout_findings, settled
from humble_loop.kinds.roundabout.faces import rim_rows
from humble_loop.kinds.roundabout.faults import faults
from humble_loop.kinds.roundabout.layout import kerb_after, lip_edge
from humble_loop.kinds.roundabout.leg_show import facts as leg_facts
from humble_loop.kinds.roundabout.leg_show import handles as leg_handles
from humble_loop.kinds.roundabout.levels import circle_plane, leg_level, rim_place
from humble_loop.kinds.roundabout.making import of_junction, seat_at
from humble_loop.kinds.roundabout.model import (
    CircleLevel,
    add_roundabout,
    recut,
    rejoined,
    remove_roundabout,
    set_leg,
    set_roundabout,
)
from humble_loop.kinds.roundabout.paths import KERB, entry_angle, paths, speed_on
from humble_loop.kinds.roundabout.place import leg_sizes, legs_of, middle_of, roundabout_ids, sizes_of
from humble_loop.kinds.roundabout.profiles import (
    handles_of_leg,
    level_removal,
    level_sheet,
    profile_handles,
    profiles,
    profiles_of_leg,
)
from humble_loop.kinds.roundabout.show import difference, facts
from humble_loop.kinds.roundabout.splitters import SETBACK, splitters
from humble_loop.kinds.roundabout.turning import drivings, outermost
from humble_loop.kinds.roundabout.vips import bearing_at, offers, pits_of, section_handles, to_own
from humble_loop.kinds.street import StreetLine
from humble_loop.kinds.street.edits import move_bend, reverse_street
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.model import Bend, Vip
from humble_loop.kinds.street.side import lip_width
from humble_loop.lines.describe import Actions, Fact
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import ThingId, line
from humble_loop.site.edits import EditError
from humble_loop.site.libraries import new_site
from humble_loop.site.library import RoundaboutPreset
from humble_loop.whole.surface import probe
from humble_loop.whole.tables import table
from humble_loop.whole.things import all_faces
from tests import edits
from tests.conftest import examples, plane_ground
from tests.whole.test_surface import assert_watertight

ID = "a-roundabout"
THING = ThingId("roundabout", ID)
LONG = 110.0


def star(angles, *, offsets=None, bends=None, east=0.0, north=0.0, ground=True, slope=(-0.03, 0.02)):
    """Streets that leave a place at angles (degrees from east), each beside it by an offset, and bending by so many degrees on the way."""
    site = new_site()
    if ground:
        surface = plane_ground(*slope, 50.0)
        surface = type(surface)(surface.points + [east, north, 0.0], surface.triangles)
        site = edits.add_ground(site, Ground(name="g", surface=surface))
    offsets, bends = offsets or [0.0] * len(angles), bends or [0.0] * len(angles)
    for k, (angle, aside, bend) in enumerate(zip(angles, offsets, bends)):
        a = np.radians(angle)
        out, left = np.array([np.cos(a), np.sin(a)]), np.array([-np.sin(a), np.cos(a)])
        first = np.array([east, north]) + aside * left
        places = [first, first + 0.55 * LONG * out]
        turned = a + np.radians(bend)
        places.append(places[1] + 0.45 * LONG * np.array([np.cos(turned), np.sin(turned)]))
        radii = [0.0, 60.0 if bend else 0.0, 0.0]
        rows = [Bend(easting=float(p[0]), northing=float(p[1]), radius=r) for p, r in zip(places, radii)]
        site = edits.add_street(site, "ABCDEF"[k], rows if bend else [rows[0], rows[2]])
    return site


def cross(angle=90.0, **values):
    """Streets A, from west to east, and B, that cross at the origin; slope 3 % down to the east and 2 % up to the north."""
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(-0.03, 0.02, 50.0)))
    a = np.radians(angle)
    out = LONG * np.array([np.cos(a), np.sin(a)])
    site = edits.add_street(site, "A", [Bend(easting=-LONG, northing=0), Bend(easting=LONG, northing=0)])
    site = edits.add_street(site, "B", [Bend(easting=-out[0], northing=-out[1]), Bend(easting=out[0], northing=out[1])])
    return add_roundabout(site, "a", LONG, "b", **values)


def ended(**values):
    """One street that ends in a roundabout."""
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(-0.03, 0.02, 50.0)))
    site = edits.add_street(site, "A", [Bend(easting=-LONG, northing=0), Bend(easting=0, northing=0)])
    return add_roundabout(site, "a", LONG, **values)


def kerbs(q):
    return {g.key: kerb_after(q, ID, g.key) for g in legs_of(q, ID)}


def told(site, rule):
    return [f for f in roundabout_findings(Engine(site), ID) if f.rule == rule]


# In plan


@pytest.mark.parametrize(
    ("preset", "size", "entry", "exit_", "r_in", "r_out"),
    [
        ("compact", 13.0, 3.5 + 0.8, 3.9 + 0.8, 13.0, 15.0),
        ("single", 18.0, 4.0 + 1.1, 4.4 + 1.1, 20.0, 26.0),
        ("two-lane", 27.0, 7.2 + 1.2, 7.4 + 1.2, 28.0, 40.0),
        ("mini", 7.5, 3.2, 3.5, 6.0, 6.5),
    ],
)
def test_presets_lie_as_worked_out_by_hand(preset, size, entry, exit_, r_in, r_out):
    """On a straight leg an arc of r that touches a lip d from the middle and the circle R has its centre d + r aside and
    sqrt((R + r)2 - (d + r)2) out, touches the lip there, and the circle R / (R + r) of the way to it.
    """
    q = Engine(cross(preset=preset))
    legs = legs_of(q, ID)
    assert [g.key for g in legs] == ["a:onwards", "b:onwards", "a:back", "b:back"]
    made = kerb_after(q, ID, "a:onwards")  # traffic keeps left: out on the left of A east, in on the right of B north
    out_1, out_2 = (np.sqrt((size + r) ** 2 - (d + r) ** 2) for d, r in ((exit_, r_out), (entry, r_in)))
    assert made.radii == (r_out, r_in)
    start, finish = made.chain.points_at([0.0, made.chain.total])
    assert start == pytest.approx([out_1, exit_], abs=1e-9)
    assert finish == pytest.approx([entry, out_2], abs=1e-9)
    circle = made.chain.points_at(list(made.ends))
    share_1, share_2 = size / (size + r_out), size / (size + r_in)
    assert circle[0] == pytest.approx([share_1 * out_1, share_1 * (exit_ + r_out)], abs=1e-9)
    assert circle[1] == pytest.approx([share_2 * (entry + r_in), share_2 * out_2], abs=1e-9)
    assert lip_width(q, "a", "left").one(LONG + out_1) == pytest.approx(exit_, abs=1e-12)
    assert lip_width(q, "b", "right").one(LONG + out_2) == pytest.approx(entry, abs=1e-12)


def kinks(chain):
    """The largest turn (radians) and gap (m) between one element of a chain and the next."""
    ends, worst = chain.starts[1:-1], [0.0, 0.0]
    for k, s in enumerate(ends):
        before = chain.part(0.0, float(s)) if s > 1e-9 else None
        if before is None:
            continue
        end = before.at([before.total])
        turn = np.mod(end.headings[0] - chain.heading[k + 1] + np.pi, 2 * np.pi) - np.pi
        worst = [max(worst[0], abs(turn)), max(worst[1], float(np.hypot(*(end.points[0] - chain.xy[k + 1]))))]
    return worst


def between_legs(count):
    """Angles of legs, all of them more than 35 degrees apart."""

    def apart(shares):
        room = 360.0 - 36.0 * count
        gaps = np.array(shares) / sum(shares) * room + 36.0
        return np.cumsum(gaps).tolist()

    return st.lists(st.floats(0.1, 1.0), min_size=count, max_size=count).map(apart)


random_legs = st.integers(3, 6).flatmap(
    lambda n: st.tuples(
        between_legs(n),
        st.lists(st.floats(-2.0, 2.0), min_size=n, max_size=n),
        st.lists(st.sampled_from([0.0, 0.0, 20.0, -25.0]), min_size=n, max_size=n),
    )
)


@examples(20)
@given(random_legs, st.sampled_from(["compact", "single", "two-lane"]), st.sampled_from([0.0, 45.0, 90.0]))
def test_kerbs_touch_and_close_whatever_the_legs(legs, preset, outer):
    angles, offsets, bends = legs
    site = star(angles, offsets=offsets, bends=bends, ground=False)
    site = add_roundabout(site, "a", 0.0, preset=preset, east=-site_shift(site)[0], north=-site_shift(site)[1])
    if outer:
        site = set_leg(site, ID, "a", "onwards", entry_outer=outer, entry_turn=5.0, exit_outer=outer, exit_turn=4.0)
    q = Engine(site)
    middle, radius, found = middle_of(q, ID), sizes_of(q, ID).radius, legs_of(q, ID)
    assert middle == pytest.approx([0.0, 0.0], abs=1e-9)
    assert len(found) == len(angles)
    lines = []
    for k, leg in enumerate(found):
        made = q.attempt(kerb_after, ID, leg.key)
        if isinstance(made, Unsolved):  # only where a leg is too short for any arc, or there is no room for outer ones
            if "outer arc" in made.message:
                assert "at most" in made.remedy
                assert "a:onwards" in (leg.key, found[(k + 1) % len(found)].key)
            else:
                assert "ends beyond the leg" in made.message
                assert made.remedy
            continue
        turn, gap = kinks(made.chain)
        assert turn < 1e-9
        assert gap < 1e-9
        s = made.chain.sampled(sag=0.001)
        places = made.chain.points_at(s)
        assert np.hypot(*(places - middle).T).min() > radius - 1e-6  # it never comes into the circle
        other = found[(k + 1) % len(found)]
        for g, seen, n in ((leg, "left", 0), (other, "right", 1)):
            edge, u = lip_edge(q, g, seen), made.leg_at[n]
            end = made.chain.at([0.0 if n == 0 else made.chain.total])
            assert g.chain.points_at([u], edge.offset(u))[0] == pytest.approx(end.points[0], abs=1e-8)
            along = edge.heading(u) + (np.pi if n == 0 else 0.0)
            assert abs(np.mod(along - end.headings[0] + np.pi, 2 * np.pi) - np.pi) < 1e-8
        lines.append(shapely.LineString(places))
    for i, one in enumerate(lines):
        assert one.is_simple
        assert not any(one.intersects(other) for other in lines[:i])


def site_shift(site):
    """Where street A begins, from the place that the legs leave."""
    b = site.things["streets"][0].bends[0]
    return b.easting - 0.0, b.northing - 0.0


def test_a_lip_that_cannot_reach_the_circle_is_told():
    site = star([0.0, 120.0, 240.0], offsets=[12.0, 0.0, 0.0], ground=False)
    q = Engine(add_roundabout(site, "b", 0.0, preset="compact"))
    words = [f"{u.message}; {u.remedy}" for u in faults(q, "b-roundabout")]
    assert any("its lip passes 16.70 m from the middle of a circle of 13 m" in w and "nearer" in w for w in words)
    assert not isinstance(
        Engine(add_roundabout(site, "b", 0.0)).attempt(kerb_after, "b-roundabout", "b:onwards"), Unsolved
    )


def test_legs_that_are_near_share_one_arc_outside_the_circle():
    q = Engine(cross(45.0, preset="compact"))
    made = kerb_after(q, ID, "a:onwards")
    assert made.alone
    assert made.radii == (15.0, 15.0)
    near = made.chain.points_at([made.ends[0]])[0]
    assert np.hypot(*near) > 13.0
    assert np.degrees(made.angles[0]) == pytest.approx(22.5, abs=0.5)  # by how much entry and exit differ
    assert_watertight(q)
    (near_one, _) = told(cross(45.0, preset="compact"), "legs near one another")
    assert near_one.severity == "near"
    assert "one arc of 15.00 m outside the circle" in near_one.message


def test_a_radius_that_was_chosen_and_has_no_room_is_told_with_what_has():
    site = set_leg(cross(preset="compact"), ID, "a", "onwards", exit_radius=24.0)
    made = kerb_after(Engine(site), ID, "a:onwards")
    assert not made.alone
    assert 15.0 < made.radii[0] < 24.0
    (finding,) = told(site, "legs near one another")
    assert f"a radius of {made.radii[0]:.2f} m, less than the 24 m that was chosen" in finding.message
    free = set_leg(site, ID, "a", "onwards", exit_radius=float(made.radii[0]))
    assert not told(free, "legs near one another")


@pytest.mark.parametrize("wanted", [17.0, 20.0, 24.0, 31.3, 40.0])
def test_of_radii_without_room_the_largest_in_whole_centimetres_is_had(wanted):
    site = set_leg(cross(preset="compact"), ID, "a", "onwards", exit_radius=wanted, entry_radius=wanted)
    for leg in legs_of(q := Engine(site), ID):
        made = kerb_after(q, ID, leg.key)
        if (had := max(made.radii)) == max(made.wanted):
            continue
        assert had == pytest.approx(round(had, 2), abs=1e-9)
        a, b = made.angles
        assert (b - a) * sizes_of(q, ID).radius >= 0.05 - 1e-9
        # With a centimetre more there is no room: those radii are lessened again.
        more = {"exit_radius": had + 0.01, "entry_radius": had + 0.01}
        again = kerb_after(Engine(set_leg(site, ID, "a", "onwards", **more)), ID, leg.key)
        assert max(again.radii) == pytest.approx(had, abs=1e-9)
        return
    assert wanted == 17.0


def test_a_compound_entry_has_its_arcs_as_worked_out_by_hand():
    """The lip lies d from the middle. An arc of r1 that turns by t from it has the next one's centre r1 - (r1 - r) cos t from the lip; that lies
    R + r from the middle, and (r1 - r) sin t nearer to it than where the lip is touched.
    """
    size, r, r1, turn, d = 18.0, 20.0, 55.0, 7.0, 4.0 + 1.1
    site = set_leg(cross(preset="single"), ID, "b", "onwards", entry_outer=r1, entry_turn=turn)
    q = Engine(site)
    made = kerb_after(q, ID, "a:onwards")
    aside = d + r1 - (r1 - r) * np.cos(np.radians(turn))
    out = np.sqrt((size + r) ** 2 - aside**2)
    touched = out + (r1 - r) * np.sin(np.radians(turn))
    assert made.chain.points_at([made.chain.total])[0] == pytest.approx([d, touched], abs=1e-9)
    assert made.chain.points_at([made.ends[1]])[0] == pytest.approx(
        size / (size + r) * np.array([aside, out]), abs=1e-9
    )
    assert (1.0 / made.chain.k0).tolist() == pytest.approx([-26.0, size, -r, -r1])
    assert made.chain.length[-1] == pytest.approx(r1 * np.radians(turn), abs=1e-9)
    assert max(kinks(made.chain)) < 1e-9
    assert (made.radii, made.tightest) == ((26.0, r), pytest.approx(r))
    assert_watertight(q)
    # One comes in at the angle of the arc at the circle, and the table tells both.
    plain = Engine(cross(preset="single"))
    angles = [entry_angle(e, ID, legs_of(e, ID)[1]) for e in (q, plain)]
    assert angles[0] == pytest.approx(angles[1], abs=1e-9)
    found = table(q, "legs", None, None)
    row = dict(zip(found.columns, found.rows[1]))
    assert (row["entry_radius"], row["entry_outer_radius"], row["entry_outer_turn"]) == (r, r1, pytest.approx(turn))
    assert row["exit_outer_radius"] is None


def test_an_outer_arc_that_turns_too_much_says_by_how_much_it_can():
    site = set_leg(cross(preset="single"), ID, "b", "onwards", entry_outer=55.0, entry_turn=60.0)
    made = Engine(site).attempt(kerb_after, ID, "a:onwards")
    assert isinstance(made, Unsolved)
    assert "outer arc" in made.message
    most = float(made.remedy.removeprefix("let it turn by at most ").removesuffix("°"))
    for turn, fits in ((most, True), (most + 0.15, False)):
        tried = Engine(set_leg(site, ID, "b", "onwards", entry_turn=turn)).attempt(kerb_after, ID, "a:onwards")
        assert isinstance(tried, Unsolved) is not fits
    q = Engine(site)
    assert not any(
        isinstance(q.attempt(kerb_after, ID, g.key), Unsolved) for g in legs_of(q, ID)[1:]
    )  # the rest stands


def button(q, key, words):
    return next(e for row in leg_facts(q, ID, key) if isinstance(row, Actions) for w, e in row.buttons if w == words)


def test_an_outer_arc_is_had_by_button_as_far_as_there_is_room_and_its_radius_by_hand():
    site = cross(preset="single")
    site = button(Engine(site), "b:onwards", "An outer arc at the entry's lip")(site)
    q = Engine(site)
    sizes = leg_sizes(q, ID, legs_of(q, ID)[1])
    assert (sizes.entry_outer, sizes.entry_turn) == (50.0, 10.0)
    made = kerb_after(q, ID, "a:onwards")
    assert made.radii[1] == 20.0
    # Where the arc touches the lip is where it is held; there it has the radius that it has.
    hold = next(h for h in leg_handles(q, ID, "b:onwards") if "leg entry_radius" in h.key)
    assert hold.place == pytest.approx(made.chain.points_at([made.chain.total])[0])
    (now,) = hold.moved(hold.place)[1]
    assert now.value == pytest.approx(20.0, abs=0.011)
    site = hold.moved((hold.place[0], hold.place[1] - 0.5))[0](site)
    moved = kerb_after(Engine(site), ID, "a:onwards")
    assert moved.chain.points_at([moved.chain.total])[0][1] == pytest.approx(hold.place[1] - 0.5, abs=0.02)
    plain = button(Engine(site), "b:onwards", "One arc again")(site)
    assert len(kerb_after(Engine(plain), ID, "a:onwards").chain.elements) == 3
    # Between legs at a sharper angle there is less room.
    site = cross(87.0, preset="compact")
    site = button(Engine(site), "b:onwards", "An outer arc at the entry's lip")(site)
    q = Engine(site)
    assert 0.0 < leg_sizes(q, ID, legs_of(q, ID)[1]).entry_turn < 10.0
    assert len(kerb_after(q, ID, "a:onwards").chain.elements) == 4
    site = cross(75.0, preset="compact")
    with pytest.raises(EditError, match="B north has no room for an outer arc"):
        button(Engine(site), "b:onwards", "An outer arc at the entry's lip")(site)


def aside(site, key, offset):
    q = Engine(site)
    fact = next(r for r in leg_facts(q, ID, key) if isinstance(r, Fact) and r.label == "passes left of the middle")
    return fact.edit(offset)(site) if fact.edit else None


@examples(15)
@given(random_legs, st.floats(-4.0, 4.0), st.booleans())
def test_a_leg_is_laid_beside_the_middle_by_a_value_and_nothing_else_moves(legs, offset, there):
    """Its last straight passes that far from the middle; its last bend, the middle and the other legs stay."""
    angles, offsets, bends = legs
    east, north = (312408.0, 6251977.0) if there else (0.0, 0.0)
    site = star(angles, offsets=offsets, bends=bends, ground=False, east=east, north=north)
    b = site.things["streets"][0].bends[0]
    site = add_roundabout(site, "a", 0.0, east=east - b.easting, north=north - b.northing)
    before, after = Engine(site), Engine(moved := aside(site, "a:onwards", offset))
    assert middle_of(after, ID) == pytest.approx(middle_of(before, ID), abs=1e-5)
    was, now = ({g.key: g for g in legs_of(q, ID)} for q in (before, after))
    assert now["a:onwards"].offset == pytest.approx(offset, abs=1e-5)
    assert all(now[k].offset == pytest.approx(was[k].offset, abs=1e-5) for k in was if k != "a:onwards")
    assert moved.things["streets"][0].bends[1:] == site.things["streets"][0].bends[1:]
    assert now["a:onwards"].key in now
    assert len(now) == len(was)


def test_a_side_street_laid_beside_the_middle_still_meets_the_other():
    site = edits.add_street(new_site(), "A", [Bend(easting=-LONG, northing=0), Bend(easting=LONG, northing=0)])
    site = edits.add_street(site, "B", [Bend(easting=20, northing=LONG), Bend(easting=0, northing=0)])
    site = add_roundabout(site, "a", LONG, "b", preset="compact")
    moved = aside(site, "b:back", 2.5)
    q = Engine(moved)
    assert middle_of(q, ID) == pytest.approx(middle_of(Engine(site), ID), abs=1e-5)
    (leg,) = (g for g in legs_of(q, ID) if g.street == "b")
    assert leg.offset == pytest.approx(2.5, abs=1e-5)
    end = moved.things["streets"][1].bends[-1]
    heading = np.arctan2(LONG, 20.0) - np.arcsin(2.5 / np.hypot(LONG, 20.0))
    assert (end.northing, end.easting) == (0.0, pytest.approx(20.0 - LONG / np.tan(heading), abs=1e-5))
    assert all_joints(Engine(set_roundabout(moved, ID, laid=False)))  # as a junction they go on meeting
    # What runs on through the circle has no end to move; what lies outside it is refused.
    assert aside(site, "a:onwards", 1.0) is None
    with pytest.raises(EditError, match="outside the circle of 13 m"):
        aside(site, "b:back", 14.0)
    bend = edits.insert_bend(site, "b", 1, Bend(easting=0.5, northing=13.0, radius=60.0))
    with pytest.raises(EditError, match="bends where it crosses the circle"):
        aside(bend, "b:back", 1.0)


def test_splitters_keep_a_lane_on_both_sides_all_along():
    q = Engine(cross(preset="single"))
    (leg, *_) = legs_of(q, ID)
    near, far = splitters(q, ID, leg.key)
    for outline in (near, far):
        assert np.degrees((outline.length * outline.k0).sum()) == pytest.approx(360.0, abs=1e-9)
        assert kinks(outline)[0] < 1e-9
        assert np.hypot(*(outline.points_at([outline.total])[0] - outline.points_at([0.0])[0])) < 1e-9
    sizes = leg_sizes(q, ID, leg)
    assert (sizes.entry, sizes.exit) == (4.0, 4.4)
    for outline in (near, far):
        places = outline.points_at(outline.sampled(sag=0.001))
        assert np.hypot(*places.T).min() >= 18.0 + SETBACK - 1e-9
        for key, least in (("a:onwards", sizes.exit), ("b:back", sizes.entry)):
            kerb = kerb_after(q, ID, key).chain
            lip = np.concatenate([kerb.points_at(kerb.sampled(sag=0.001))])
            assert shapely.LineString(lip).distance(shapely.LineString(places)) > least - 2e-3
    # The opening is for a crossing 15 m from the circle, 2.4 m wide.
    gap = shapely.LineString(near.points_at(near.sampled())).distance(shapely.LineString(far.points_at(far.sampled())))
    assert gap == pytest.approx(2.4, abs=1e-6)
    assert near.points_at(near.sampled())[:, 0].max() == pytest.approx(33.0, abs=1e-9)


def test_a_short_splitter_has_straight_sides_and_one_without_room_says_so():
    site = set_leg(cross(preset="compact"), ID, "a", "onwards", splitter=6.0)
    (made,) = splitters(Engine(site), ID, "a:onwards")
    assert made.points_at(made.sampled())[:, 0].max() == pytest.approx(19.0, abs=1e-9)
    site = set_leg(site, ID, "a", "onwards", splitter=1.0)
    (finding,) = told(site, "cannot be worked out")
    assert "too near to the circle" in finding.message
    assert "splitter of A east" in finding.thing
    assert_watertight(Engine(site))  # the rest stands


@pytest.mark.parametrize("traffic", ["left", "right"])
def test_traffic_decides_on_which_side_a_leg_comes_in(traffic):
    q = Engine(edits.set_settings(cross(preset="compact"), traffic=traffic))
    (made, *_) = kerbs(q).values()
    first, last = (15.0, 13.0) if traffic == "left" else (13.0, 15.0)
    assert made.radii == (first, last)


def test_an_entry_narrower_than_the_carriageway_takes_parking_first_and_then_the_lane():
    site = cross(preset="compact")
    wide = next(s for s in site.things["sections"] if s.id == "collector-parking")
    site = edits.set_street(site, "a", section=wide.id)
    q = Engine(set_leg(site, ID, "a", "onwards", entry=3.0))
    width = lip_width(q, "a", "right")
    assert width.one(LONG + 14.0) == pytest.approx(3.8)
    assert width.one(2.0 * LONG - 5.0) == pytest.approx(wide.right.width)
    assert_watertight(q)


# Where it stands


def test_a_crossing_becomes_a_roundabout_and_back_with_all_that_was_chosen():
    site = remove_roundabout(cross(), ID)
    site = set_crossing_corner(site, "a", "b", 0, ("left", "left"), radius=11.0)
    q = Engine(site)
    assert all_joints(q)
    assert not roundabout_ids(q)
    seat = of_junction(q, "a:b:0")
    made = seat.edit("single")(site)
    q = Engine(made)
    assert not all_joints(q)
    assert not unworked(q, "a")
    id = roundabout_ids(q)[0]
    assert middle_of(q, id) == pytest.approx([0.0, 0.0], abs=1e-9)
    made = set_leg(made, id, "a", "onwards", entry=4.4)
    back = set_roundabout(made, id, laid=False)
    assert all_joints(Engine(back))
    assert back.all(CrossingChoice)[0].left_left.radius == 11.0
    again = of_junction(Engine(back), "a:b:0").edit("single")(back)
    (kept,) = again.all(Roundabout)
    assert kept.laid
    assert kept.legs[0].entry == 4.4


def test_everything_follows_when_a_leg_or_the_middle_moves():
    site = cross(preset="compact")
    moved = move_bend(site, "b", 1, 30.0, LONG)
    q = Engine(moved)
    middle = middle_of(q, ID)
    assert middle[1] == pytest.approx(0.0, abs=1e-9)
    assert middle[0] > 10.0
    assert_watertight(q)
    shifted = set_roundabout(site, ID, east=2.0, north=-1.0)
    q = Engine(shifted)
    assert [round(g.offset, 6) for g in legs_of(q, ID)] == [1.0, 2.0, -1.0, -2.0]
    assert_watertight(q)


def test_reversing_a_street_leaves_its_legs_as_they_are():
    site = set_leg(cross(preset="compact"), ID, "a", "onwards", entry=4.2)
    before = {g.key: leg_sizes(Engine(site), ID, g).entry for g in legs_of(Engine(site), ID)}
    turned = reverse_street(site, "a", 2 * LONG)
    q = Engine(turned)
    assert {g.key: leg_sizes(q, ID, g).entry for g in legs_of(q, ID)} == before
    assert [round(np.degrees(g.angle)) for g in legs_of(q, ID)] == [0, 90, 180, 270]
    assert_watertight(q)


def test_cutting_and_joining_streets_keeps_legs():
    site = set_leg(cross(preset="compact"), ID, "a", "onwards", entry=4.2)
    cut = recut(site, "a", (20.0, 2 * LONG), "")
    assert cut.all(Roundabout)[0].at == LONG - 20.0
    gone = recut(site, "a", (0.0, 50.0), "")
    assert not gone.all(Roundabout)
    joined = rejoined(site, "a", "x", 300.0, True)
    (made,) = joined.all(Roundabout)
    assert (made.street, made.at, made.legs[0].street, made.legs[0].way) == ("x", 300.0 - LONG, "x", "back")


def test_seats_are_nodes_first_then_ends_and_streets():
    site = remove_roundabout(cross(), ID)
    q = Engine(site)
    assert seat_at(q, (5.0, 4.0), 2.0, 13.0).other == "b"  # a circle there would hold the node
    assert seat_at(q, (LONG - 1.0, 0.0), 3.0).at == pytest.approx(2 * LONG)
    assert seat_at(q, (50.0, 1.0), 3.0).at == pytest.approx(LONG + 50.0)
    assert seat_at(q, (50.0, 40.0), 3.0) is None


def test_it_is_kept_in_files(tmp_path):
    site = set_leg(cross(levels="cone", fall=0.03, pits=(10.0,)), ID, "a", "back", crossing=7.0)
    save_site(site, tmp_path / "r.hloop")
    assert load_site(tmp_path / "r.hloop").all(Roundabout) == site.all(Roundabout)


@pytest.mark.parametrize(("e0", "n0"), [(312408.0, 6251977.0)])
def test_far_from_the_origin_it_is_the_same(e0, n0):
    far = add_roundabout(star([0, 90, 200], east=e0, north=n0), "a", 0.0, preset="compact")
    near = add_roundabout(star([0, 90, 200]), "a", 0.0, preset="compact")
    one, other = (Engine(s) for s in (far, near))
    for a, b in zip(kerbs(one).values(), kerbs(other).values()):
        assert a.chain.total == pytest.approx(b.chain.total, abs=1e-8)
    assert_watertight(one, off=1e-5)


# Levels


def with_levels(site, plane):
    """Both streets' VIPs set on a plane."""
    for street, ends in (("a", [(-LONG, 0.0), (LONG, 0.0)]), ("b", [(0.0, -LONG), (0.0, LONG)])):
        vips = [Vip(chainage=2 * LONG * k, level=plane(*p)) for k, p in enumerate(ends)]
        site = edits.set_vips(site, street, vips)
    return site


def plane(x, y):
    return 47.0 - 0.021 * x + 0.013 * y


def test_the_circle_lies_on_the_plane_of_its_legs():
    q = Engine(with_levels(cross(preset="compact"), plane))
    made = circle_plane(q, ID)
    assert float(made.level.value[0]) == pytest.approx(47.0, abs=1e-9)
    assert made.slope == pytest.approx([-0.021, 0.013], abs=1e-12)
    for point in ("rim", "island lip"):
        places = line(q, CircleLine(ID, point)).points(np.linspace(0.0, 2 * np.pi * 13.0, 200))
        assert places[:, 2] == pytest.approx(plane(places[:, 0], places[:, 1]), abs=1e-6)
    assert probe(q, 0.0, 10.0).finished == pytest.approx(plane(0.0, 10.0), abs=1e-6)


def test_a_cone_falls_outwards_about_the_middle():
    q = Engine(with_levels(cross(preset="compact", levels="cone", fall=0.03), plane))
    s = np.linspace(0.0, 2 * np.pi * 13.0, 50)
    assert line(q, CircleLine(ID)).rule.levels(s) == pytest.approx(47.0, abs=1e-9)
    assert line(q, CircleLine(ID, "island lip")).rule.levels(s) == pytest.approx(47.0 + 0.03 * 5.6, abs=1e-9)
    # Between rows half a metre apart a chord leaves a cone by c2 / 8 R of its slope.
    assert probe(q, 10.0, 0.3).finished == pytest.approx(47.0 + 0.03 * (13.0 - np.hypot(10.0, 0.3)), abs=3e-4)


def test_the_through_street_keeps_its_own_plane():
    site = with_levels(cross(preset="compact", levels="through", through="a"), plane)
    site = edits.set_vips(site, "b", [Vip(chainage=0, level=45.0), Vip(chainage=2 * LONG, level=49.5)])
    made = circle_plane(Engine(site), ID)
    # Along A as A falls; across it as B does between its own levels at the circle.
    assert made.slope == pytest.approx([-0.021, 4.5 / (2 * LONG)], abs=1e-9)
    assert made.at(np.array([[13.0, 0.0], [-13.0, 0.0]])) == pytest.approx([47 - 0.273, 47 + 0.273], abs=1e-9)


def test_a_tilt_that_was_set_falls_towards_its_bearing():
    made = circle_plane(Engine(cross(tilt=0.02, towards=90.0, level=48.0)), ID)
    assert made.at(np.array([[10.0, 0.0], [0.0, 10.0]])) == pytest.approx([47.8, 48.0], abs=1e-12)


def test_kerbs_meet_lips_and_circle_in_level_and_grade():
    q = Engine(cross(preset="compact"))
    rim = line(q, CircleLine(ID))
    for leg in legs_of(q, ID):
        made, kerb = kerb_after(q, ID, leg.key), line(q, KerbLine(ID, leg.key))
        for s, angle in zip(made.ends, made.angles):
            at = rim_place(q, ID, [angle])
            for side in ("before", "after"):
                assert kerb.rule.grades([s], side) == pytest.approx(rim.rule.grades(at), abs=1e-9)
            assert kerb.rule.levels([s]) == pytest.approx(rim.rule.levels(at), abs=1e-9)
        lip = StreetLine(leg.street, "lip", leg.own_side("left"))
        s = leg.along(made.leg_at[0])
        assert kerb.rule.levels([0.0]) == pytest.approx(line(q, lip).rule.levels([s]), abs=1e-9)
        along = float(line(q, lip).grade_along([s], "after" if leg.way > 0 else "before")[0])
        assert float(kerb.rule.grades([0.0])[0]) == pytest.approx(-leg.way * along, abs=1e-9)


def test_legs_are_tied_where_they_cross_the_circle():
    q = Engine(cross(preset="compact"))
    rim, made = line(q, CircleLine(ID)), grade_line(q, "a")
    for leg in legs_of(q, ID):
        if leg.street == "a":
            k = int(np.argmin(np.abs(made.profile.chainages - leg.at)))
            assert made.states[k] == "tied"
            assert made.profile.levels[k] == pytest.approx(
                float(rim.rule.levels(rim_place(q, ID, [leg.angle]))[0]), abs=1e-9
            )


@examples(30)
@given(st.lists(st.floats(-2.0, 2.0), min_size=3, max_size=9), st.floats(0.0, 359.0))
def test_its_own_grade_line_closes_wherever_its_seam_is(levels, seam):
    turn = 360.0 / len(levels)
    vips = tuple(CircleLevel(bearing=round(turn * k, 3), level=48.0 + z) for k, z in enumerate(levels))
    site = cross(levels="own", vips=vips, seam=seam)
    q = Engine(site)
    rim, total = line(q, CircleLine(ID)).rule, 2 * np.pi * 13.0
    assert rim.levels([0.0]) == pytest.approx(rim.levels([total]), abs=1e-9)
    assert rim.grades([0.0]) == pytest.approx(rim.grades([total], "before"), abs=1e-9)
    for v in vips:
        s = rim_place(q, ID, np.radians([90.0 - v.bearing]))
        assert rim.levels(s) == pytest.approx(v.level, abs=1e-9)
        assert bearing_at(q, ID, float(s[0])) % 360.0 == pytest.approx(v.bearing % 360.0, abs=1e-6)
    other = line(Engine(set_roundabout(site, ID, seam=10.0)), CircleLine(ID)).rule
    s = np.linspace(0.0, total, 30)
    moved = np.mod(s + np.radians(10.0 - seam) * 13.0, total)
    assert other.levels(moved) == pytest.approx(rim.levels(s), abs=1e-9)


@examples(40)
@given(
    st.lists(st.floats(0.02, 1.0), min_size=3, max_size=8),
    st.lists(st.floats(-3.0, 3.0), min_size=8, max_size=8),
)
def test_a_closed_spline_has_one_bend_where_cubics_meet(runs, levels):
    at = np.cumsum(runs)
    length, z = float(at[-1] + 0.3), np.array(levels[: len(runs)])
    made = PeriodicCubic(length, tuple(at.tolist()))
    assert made.weights(at) @ z == pytest.approx(z, abs=1e-9)
    h = 1e-5
    for s in at:
        left = (made.slope_weights([s - h]) - made.slope_weights([s - 2 * h])) @ z / h
        right = (made.slope_weights([s + 2 * h]) - made.slope_weights([s + h])) @ z / h
        assert left == pytest.approx(right, abs=1e-2 * made.sharpest(z) + 1e-6)
    # The grade is the level's own derivative.
    s = np.linspace(0.0, length, 37)
    slope = (made.weights(s + h) - made.weights(s - h)) @ z / (2 * h)
    assert made.slope_weights(s) @ z == pytest.approx(slope, abs=1e-3 * made.sharpest(z) + 1e-6)


def test_taking_its_own_levels_leaves_it_nearly_as_it_lies_and_they_are_moved():
    site = with_levels(cross(preset="compact"), plane)
    q = Engine(site)
    s = np.linspace(0.0, 2 * np.pi * 13.0, 100)
    before = line(q, CircleLine(ID)).rule.levels(s)
    own = to_own(q, ID)(site)
    q = Engine(own)
    assert np.abs(line(q, CircleLine(ID)).rule.levels(s) - before).max() < 0.01
    handle = next(h for h in section_handles(q, ID) if h.key == ("circle level", ID, 0))
    edit, said = handle.moved((handle.place[0], handle.place[1] + 0.2))
    moved = edit(own)
    assert moved.all(Roundabout)[0].vips[0].level == pytest.approx(own.all(Roundabout)[0].vips[0].level + 0.2)
    assert said[0].label == "level"
    words = dict(offers(Engine(moved), ID, (3.0, 48.0)))
    assert len(words["Set a level here"](moved).all(Roundabout)[0].vips) == len(moved.all(Roundabout)[0].vips) + 1
    assert words["Give its levels back to the plane"](moved).all(Roundabout)[0].levels == "plane"


def test_what_another_way_of_levels_would_do_is_told_first():
    q = Engine(with_levels(cross(preset="compact"), plane))
    down, up = difference(q, ID, "cone")
    steep = np.hypot(0.021, 0.013) * 13.0
    assert (down, up) == pytest.approx((steep, steep), abs=1e-3)
    assert difference(q, ID, "plane") is None


# Surface and water


@pytest.mark.parametrize("values", [{}, {"levels": "cone"}, {"preset": "mini"}, {"preset": "two-lane"}])
def test_it_is_watertight(values):
    q = Engine(cross(**values))
    assert not [p for p in all_faces(q) if isinstance(q.attempt(finished_mesh, p), Unsolved)]
    assert_watertight(q)


def test_one_at_the_end_of_a_street_is_watertight():
    assert_watertight(Engine(ended(preset="single")))


@examples(4)
@given(random_legs)
def test_random_ones_are_watertight(legs):
    angles, offsets, bends = legs
    site = star(angles, offsets=offsets, bends=bends)
    shift = site_shift(site)
    q = Engine(add_roundabout(site, "a", 0.0, preset="single", east=-shift[0], north=-shift[1]))
    if not list(faults(q, ID)) and not [p for p in all_faces(q) if isinstance(q.attempt(finished_mesh, p), Unsolved)]:
        assert_watertight(q)


def test_water_stands_where_a_leg_comes_down_to_the_circle_until_a_pit_is_there():
    site = cross(preset="compact")
    found = [f for f in roundabout_findings(Engine(site), ID) if f.rule == "roundabout drainage"]
    assert found
    for f in found:
        site = f.mend.edit(site)
    q = Engine(site)
    assert len(pits_of(q, ID)) == len(found)
    assert not [f for f in roundabout_findings(q, ID) if f.rule in ("roundabout drainage", "hollow")]


def test_a_circle_that_is_level_all_round_is_told():
    (finding,) = told(cross(levels="cone", fall=0.001), "roundabout too flat")
    assert "only 0.10 %" in finding.message


# What cannot be


def words_of(site):
    return [f"{f.message}; {f.remedy}" for f in told(site, "cannot be worked out")]


def test_a_circle_too_small_for_its_carriageway_says_so_and_the_rest_stands():
    site = cross(preset="compact", radius=5.0)
    assert any(
        "its circle of 5 m is too small for a carriageway of 5.6 m" in w and "7.5 m" in w for w in words_of(site)
    )
    q = Engine(site)
    assert np.isfinite(line(q, StreetLine("a")).rule.levels([10.0])).all()


def test_an_apron_wider_than_the_island_says_how_wide_it_can_be():
    assert any("wider than its island" in w and "at most 7.40 m" in w for w in words_of(cross(apron=9.0)))


def test_streets_that_meet_no_more_say_so():
    site = move_bend(cross(), "b", 0, 60.0, 40.0)
    site = move_bend(site, "b", 1, 60.0, LONG)
    assert any("do not meet any more" in w for w in words_of(site))


def test_lanes_that_do_not_go_on_are_told():
    site = set_leg(cross(preset="compact"), ID, "a", "onwards", entry_lanes=2)
    (finding,) = told(site, "lanes of a roundabout")
    assert finding.message == "its entry has 2 lanes, and 1 goes round"
    (narrow,) = told(site, "width of a roundabout")
    assert "leaves 1.75 m to each of 2 lanes" in narrow.message


def test_an_existing_street_is_no_leg_and_is_told():
    site = edits.set_street(cross(), "b", kind="existing")
    (finding,) = told(site, "leg not laid out")
    assert "B comes into it and is an existing street" in finding.message
    assert len(legs_of(Engine(site), ID)) == 2
    assert len(legs_of(Engine(finding.mend.edit(site)), ID)) == 4


def test_the_apron_and_the_island_rise_as_is_typed():
    """Compact: apron 1.6 m wide. Its edge stands 0.05, it rises by 6 % over the 1.5 m within that, the kerb stands 0.15, the island rises by 10 %."""
    site = cross(preset="compact", apron_up=0.05, apron_rise=0.06, kerb_up=0.15, mound=0.1)
    q = Engine(site)
    at = {
        p: line(q, CircleLine(ID, p)).rule.levels([10.0])[0]
        for p in ("island lip", "apron edge", "apron back", "kerb top", "kerb back")
    }
    assert at["apron edge"] - at["island lip"] == pytest.approx(0.05, abs=1e-9)
    assert at["apron back"] - at["apron edge"] == pytest.approx(0.06 * 1.5, abs=1e-9)
    assert at["kerb top"] - at["apron back"] == pytest.approx(0.15, abs=1e-9)
    assert at["kerb back"] == pytest.approx(at["kerb top"], abs=1e-9)
    middle = finished_mesh(q, RoundaboutFace(ID, "middle")).surface.points
    top = middle[np.argmin(np.hypot(*middle[:, :2].T))]
    rim = line(q, CircleLine(ID, "kerb back"))
    mean = rim.rule.levels(rim_rows(q, ID)[:-1]).mean()  # of the rows of its border
    assert top[2] - mean == pytest.approx(0.1 * (13.0 - 5.6 - 1.6 - 0.15), abs=1e-9)
    rows = {r.label: r for r in facts(q, ID) if isinstance(r, Fact)}
    assert [
        rows[k].value for k in ("apron's edge stands", "apron rises", "kerbs of islands stand", "island rises")
    ] == [0.05, 0.06, 0.15, 0.1]
    assert rows["apron rises"].switch(site).all(Roundabout)[0].apron_rise is None
    # Splitters have the same kerb.
    lip, back = (
        line(q, LegIslandLine(ID, "a:onwards")),
        line(q, LegIslandLine(ID, "a:onwards", "splitter", 0, "kerb back")),
    )
    assert back.rule.levels([3.0]) - lip.rule.levels([3.0]) == pytest.approx([0.15], abs=1e-9)


def test_a_leg_has_the_long_sections_of_its_kerbs_and_islands():
    site = set_leg(cross(preset="compact"), ID, "a", "onwards", entry_levels=(ReturnLevel(share=0.5, level=49.7),))
    q = Engine(site)
    shown = profiles_of_leg(q, ID, "a:onwards")
    assert [p.title for p in shown] == ["entry kerb", "exit kerb", "splitter"]
    assert [p.line for p in shown] == [
        KerbLine(ID, "b:back"),
        KerbLine(ID, "a:onwards"),
        LegIslandLine(ID, "a:onwards"),
    ]
    for p, after in zip(shown, shown[1:]):
        assert after.begin > p.begin + p.length
    for p in shown:
        assert p.levels == pytest.approx(line(q, p.line).rule.levels(p.places), abs=1e-9)
    (hold,) = handles_of_leg(q, ID, "a:onwards")
    assert hold.place[1] == pytest.approx(49.7)
    moved = hold.moved((hold.place[0], 49.75))[0](site)
    assert moved.all(Roundabout)[0].legs[0].entry_levels[0].level == 49.75
    assert [m.words for m in shown[2].marks] == ["low point", "high point"]
    assert shown[2].offers(3.0, 50.0) == ()
    assert shown[0].offers(3.0, 50.0)
    assert profiles_of_leg(Engine(ended(preset="compact")), ID, "a:back")[0].title == "entry kerb"


def test_levels_too_near_one_another_are_refused():
    with pytest.raises(EditError, match="apart"):
        set_roundabout(
            cross(), ID, levels="own", vips=tuple(CircleLevel(bearing=b, level=1.0) for b in (0.0, 1.0, 180.0))
        )


def test_tables_tell_middles_legs_and_tangent_points():
    q = Engine(cross(preset="compact"))
    made = table(q, "roundabouts")
    row = dict(zip(made.columns, made.rows[0]))
    assert (row["inscribed_radius"], row["island_radius"], row["legs"]) == (13.0, pytest.approx(7.4), 4)
    legs = table(q, "legs")
    first = dict(zip(legs.columns, legs.rows[0]))
    assert (first["leg"], first["exit_radius"], first["bearing_deg"]) == ("A east", 15.0, pytest.approx(90.0))
    made = kerb_after(q, ID, "a:onwards")
    start = made.chain.points_at([0.0])[0]
    assert [first["exit_lip_easting"], first["exit_lip_northing"]] == pytest.approx(start.tolist(), abs=1e-9)
    kerb_rows = [r for r in table(q, "kerbs").rows if "kerb" in str(r[1])]
    assert kerb_rows


def test_every_preset_is_there_and_islands_lie_on_the_carriageway():
    q = Engine(cross(preset="single"))
    assert [p.id for p in new_site().all(RoundaboutPreset)] == ["mini", "compact", "single", "two-lane"]
    lip = line(q, LegIslandLine(ID, "a:onwards"))
    back = line(q, LegIslandLine(ID, "a:onwards", "splitter", 0, "kerb back"))
    s = np.linspace(0.0, lip.plan.end, 9)
    assert back.rule.levels(s) == pytest.approx(lip.rule.levels(s) + 0.12, abs=1e-9)


# How it is driven


@pytest.mark.parametrize(("kmh", "grip"), [(20.0, 0.39), (30.0, 0.28), (50.0, 0.19)])
def test_a_speed_is_that_at_which_friction_and_crossfall_hold_a_car_on_its_radius(kmh, grip):
    assert speed_on(kmh**2 / (127.0 * (0.02 + grip)), 0.02) == pytest.approx(kmh, abs=0.06)
    assert speed_on(np.inf, 0.02) == 80.0


@examples(20)
@given(st.floats(5.0, 60.0), st.floats(0.0, 2.0))
def test_the_smoothest_line_round_a_ring_of_a_width_is_the_arc_it_allows(radius, wide):
    """Round half a ring whose ends are pinned in its middle a line bends least that runs as wide as it may."""
    t = np.linspace(0.0, np.pi, 60)
    out = np.column_stack([np.cos(t), np.sin(t)])
    low, high = np.full(60, -wide), np.full(60, wide)
    places = smoothest(radius * out, out, low, high)
    away = np.hypot(*places.T) - radius
    assert away.max() <= wide + 1e-6
    assert away.min() >= -wide - 1e-6
    bends = np.linalg.norm(np.diff(places, 2, axis=0))
    assert bends <= np.linalg.norm(np.diff(radius * out, 2, axis=0)) + 1e-9
    arc = radius * out
    assert radii(arc)[1:-1] == pytest.approx(radius, rel=1e-9)


def test_fastest_paths_keep_their_clearances_and_tell_where_they_are_tightest():
    q = Engine(cross(preset="single"))
    made = paths(q, ID)
    assert len(made) == 12
    assert {(p.begin, p.finish): p.turn for p in made}["a:onwards", "b:back"] == "left"
    kerb = [k.chain.points_at(k.chain.sampled(sag=0.01)) for k in kerbs(q).values()]
    for p in made:
        path = shapely.LineString(p.places)
        assert min(path.distance(shapely.LineString(k)) for k in kerb) > KERB - 0.04  # chords of both
        assert np.hypot(*p.places.T).min() > 18.0 - 6.2 + KERB - 0.04
    through = next(p for p in made if (p.begin, p.finish) == ("a:onwards", "a:back"))
    assert through.radii[1] < through.radii[0]  # tightest where it goes round
    # Symmetry: each leg of a square crossing is driven alike.
    others = [p.radii[0] for p in made if p.turn == "through"]
    assert max(others) - min(others) < 0.5


def test_an_entry_that_is_too_fast_is_told_and_a_tighter_one_mends_it():
    site = set_leg(cross(preset="single", width=9.0), ID, "a", "onwards", entry=6.2, splitter=0.0)
    (finding,) = [f for f in told(site, "entry too fast") if "A east" in f.thing]
    assert finding.value > finding.limit == 40.0
    assert not list(told(cross(preset="single"), "entry too fast"))


def test_the_angle_at_which_one_comes_in_is_that_of_two_circles():
    """Entry 3.5 m beside 13 m: its middle runs 14.75 m about a centre 26 m from the middle of a circle of 13 m."""
    q = Engine(cross(preset="compact"))
    cosine = (26.0**2 - 14.75**2 - 13.0**2) / (2 * 14.75 * 13.0)
    assert entry_angle(q, ID, legs_of(q, ID)[0]) == pytest.approx(np.degrees(np.arccos(cosine)), abs=1e-9)


# Side by side, and in rows


def test_levels_set_on_kerbs_hold_them_and_the_circle_stays():
    site = cross(preset="compact")
    q = Engine(site)
    before = line(q, CircleLine(ID)).rule.levels([0.0, 20.0])
    _, kerb, *_ = profiles(q, ID)
    edit = dict(kerb.offers(5.0, 50.123))["Set a level 5.00 m along"]
    q = Engine(edit(site))
    made = line(q, KerbLine(ID, "a:onwards"))
    assert made.rule.levels([5.0]) == pytest.approx(50.123, abs=1e-3)
    assert line(q, CircleLine(ID)).rule.levels([0.0, 20.0]) == pytest.approx(before, abs=1e-12)
    a = kerb_after(q, ID, "a:onwards").ends[0]
    rim = line(q, CircleLine(ID)).rule.grades(rim_place(q, ID, [kerb_after(q, ID, "a:onwards").angles[0]]))
    assert made.rule.grades([a], "before") == pytest.approx(rim, abs=1e-9)
    assert [h.key[:2] for h in profile_handles(q, ID)] == [("leg level", ID)]
    rows = {str(r.cells[1].value) for r in level_sheet(q, ID).rows}
    assert {"lip", "exit level"} <= rows
    assert_watertight(q)


def test_a_kerb_of_one_arc_is_held_by_levels_as_the_others_are():
    """As far as it is nearest to the circle it is the first leg's, beyond that the other's; it meets both lips as before."""
    site = cross(45.0, preset="compact")
    q = Engine(site)
    plain, made = line(q, KerbLine(ID, "a:onwards")), kerb_after(q, ID, "a:onwards")
    assert made.alone
    total, wanted = made.chain.total, {}
    for share in (0.25, 0.8):
        at = round(share * total, 2)
        wanted[at] = round(float(plain.rule.levels([at])[0]) + 0.03, 3)
        _, kerb, *_ = profiles(q, ID)
        site = dict(kerb.offers(at, wanted[at]))[f"Set a level {at:.2f} m along"](site)
        q = Engine(site)
    chosen = {(g.key): (len(g.exit_levels), len(g.entry_levels)) for g in site.all(Roundabout)[0].legs}
    assert chosen == {"a:onwards": (1, 0), "b:onwards": (0, 1)}
    held = line(q, KerbLine(ID, "a:onwards"))
    for at, z in wanted.items():
        assert held.rule.levels([at]) == pytest.approx(z, abs=1e-3)
    ends = [0.0, total]
    assert held.rule.levels(ends) == pytest.approx(plain.rule.levels(ends), abs=1e-12)
    assert held.rule.grades(ends) == pytest.approx(plain.rule.grades(ends), abs=1e-12)
    assert len([h for h in profile_handles(q, ID) if h.key[:1] == ("leg level",)]) == 2
    assert_watertight(q)


def test_a_level_on_an_entry_is_told_from_the_circle_outwards():
    site = set_leg(cross(preset="compact"), ID, "b", "onwards", entry_levels=(ReturnLevel(share=0.25, level=51.0),))
    q = Engine(site)
    made, kerb = kerb_after(q, ID, "a:onwards"), line(q, KerbLine(ID, "a:onwards"))
    at = made.ends[1] + 0.25 * (made.chain.total - made.ends[1])
    assert kerb.rule.levels([at]) == pytest.approx(51.0, abs=1e-9)
    removed = level_removal(q, ("leg level", ID, "b:onwards", "entry", 0))(site)
    assert removed.all(Roundabout)[0].legs[0].entry_levels == ()


def test_a_front_axle_goes_as_far_out_as_its_outer_corner_may():
    """Led round by hand: its outer front corner comes to the radius that was asked for."""
    bus = next(v for v in VEHICLES if v.key == "bus")
    lane = outermost(bus, 12.7)
    turn = np.linspace(0.0, 6.0 * np.pi, 4000)
    path = lane * np.column_stack([np.cos(turn), np.sin(turn)])
    corners = bus.body.corners(path, followed(path, bus.body.wheelbase))[2000:]
    assert np.hypot(*corners.reshape(-1, 2).T).max() == pytest.approx(12.7, abs=2e-3)


def test_a_car_gets_round_and_a_long_vehicle_uses_the_apron_or_says_that_it_cannot():
    q = Engine(cross(preset="compact"))
    assert {(d.over_kerb, d.apron) for d in drivings(q, ID, "car")} == {(0.0, 0.0)}
    narrow = Engine(cross(preset="compact", width=4.6, apron=2.6))
    waste = [d for d in drivings(narrow, ID, "waste") if d.apron > 0.0]
    assert waste
    assert max(d.apron for d in waste) <= 2.6
    tight = cross(preset="compact", width=3.2, apron=0.0)
    assert [f for f in told(tight, "vehicle over a kerb of a roundabout") if "waste" in f.message]


def test_without_ground_or_vips_its_level_and_tilt_can_be_set():
    site = cross(preset="compact")
    bare = site.replaced("grounds", ())
    q = Engine(bare)
    (finding,) = [f for f in told(bare, "cannot be worked out") if "no ground" in f.message]
    assert "set its level and its tilt" in finding.remedy
    assert {r.label for r in facts(q, ID) if isinstance(r, Fact)} >= {"level in its middle", "tilts by"}
    made = circle_plane(Engine(set_roundabout(bare, ID, level=20.0, tilt=0.02, towards=180.0)), ID)
    assert made.at(np.array([[0.0, -10.0], [10.0, 0.0]])) == pytest.approx([19.8, 20.0], abs=1e-12)


@examples(3)
@given(random_legs, st.floats(-0.05, 0.05), st.floats(-0.05, 0.05), st.sampled_from(["plane", "cone"]))
def test_pits_put_where_water_stands_leave_no_hollow(legs, east, north, levels):
    angles, offsets, bends = legs
    site = star(angles, offsets=offsets, bends=bends, slope=(east, north))
    shift = site_shift(site)
    site = add_roundabout(site, "a", 0.0, preset="single", east=-shift[0], north=-shift[1], levels=levels)
    if list(faults(Engine(site), ID)):
        return
    q = Engine(settled(site, ID))
    assert not [f for f in roundabout_findings(q, ID) if f.rule in ("roundabout drainage", "hollow")]


def test_water_between_a_rising_leg_and_a_circle_that_falls_outwards_is_found_though_no_mouth_has_a_hollow():
    """The circle is lowest where leg A, which rises away from it, comes in: all of it runs there and stands."""
    vips = tuple(CircleLevel(bearing=b, level=50.0 - 0.3 * np.cos(np.radians(b - 90.0))) for b in range(0, 360, 30))
    site = cross(preset="compact", levels="own", vips=vips, fall=0.03)
    site = edits.set_vips(site, "a", [Vip(chainage=0, level=52.0), Vip(chainage=2 * LONG, level=56.0)])
    site = edits.set_vips(site, "b", [Vip(chainage=0, level=51.0), Vip(chainage=2 * LONG, level=51.0)])
    (hollow, *_) = told(site, "hollow")
    assert hollow.place == pytest.approx((13.0, 0.0), abs=6.0)


def test_a_legs_own_level_is_on_its_vips_with_their_curves_or_the_ground():
    vips = [
        Vip(chainage=20, grade=0.01),
        Vip(chainage=60, level=46.0),
        Vip(chainage=100, level=48.0, curve_length=30.0),
    ]
    vips = [Vip(chainage=0, level=45.0), *vips, Vip(chainage=200, level=46.0)]
    q = Engine(edits.set_vips(cross(preset="compact"), "a", vips))
    legs = {g.key: g for g in legs_of(q, ID)}
    # 3 m before the VIP, in its curve: below the tangents by (15 - 3)2 / (2 L) of the change from 5 % to -2 %.
    back = float(leg_level(q, ID, legs["a:back"]).value[0])
    assert back == pytest.approx(48.0 - 0.05 * 3.0 - 0.07 / 30.0 / 2.0 * 12.0**2, abs=1e-9)
    onwards = float(leg_level(q, ID, legs["a:onwards"]).value[0])
    assert onwards == pytest.approx(48.0 - 0.02 * 23.0, abs=1e-9)
    graded = [vips[0], vips[2], Vip(chainage=100, grade=0.05), vips[-1]]
    q = Engine(edits.set_vips(cross(preset="compact"), "a", graded))
    back = leg_level(q, ID, legs["a:back"])
    assert back.source == "ground"
    assert float(back.value[0]) == pytest.approx(50.0 + 0.03 * 13.0, abs=1e-9)
