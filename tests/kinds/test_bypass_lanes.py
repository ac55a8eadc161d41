"""Bypass lanes of roundabouts: one arc outside the circle, an island between, what the lanes of the circle do is as it was without."""

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.roundabout import CircleLine, KerbLine, LegIslandLine, Roundabout
from humble_loop.kinds.roundabout.bypass import bypass_after, bypass_islands, giver_of, taker_of
from humble_loop.kinds.roundabout.checks import roundabout_findings, settled
from humble_loop.kinds.roundabout.faults import faults
from humble_loop.kinds.roundabout.layout import kerb_after, lane_kerb
from humble_loop.kinds.roundabout.leg_islands import LegIslandFace
from humble_loop.kinds.roundabout.leg_show import facts as leg_facts
from humble_loop.kinds.roundabout.leg_show import handles as leg_handles
from humble_loop.kinds.roundabout.model import add_roundabout, set_leg, set_roundabout
from humble_loop.kinds.roundabout.paths import entry_angle, paths
from humble_loop.kinds.roundabout.place import legs_of, middle_of, sizes_of
from humble_loop.kinds.roundabout.splitters import splitters
from humble_loop.kinds.roundabout.tables import set_out
from humble_loop.kinds.roundabout.turning import drivings
from humble_loop.kinds.street import StreetLine
from humble_loop.kinds.street.side import lip_width
from humble_loop.lines.describe import Fact, Note
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import line
from humble_loop.site.edits import EditError
from humble_loop.whole.tables import table
from humble_loop.whole.things import all_faces
from tests import edits
from tests.conftest import examples
from tests.kinds.test_roundabouts import ID, button, kinks, random_legs, site_shift, star
from tests.whole.test_surface import assert_watertight

FAR = {"east": 312408.0, "north": 6251977.0}


def crossing_of(preset="single", **values):
    """Four straight legs, square to one another; B's entry (it leaves north) has a bypass lane to A, which leaves east."""
    site = add_roundabout(star([0.0, 90.0, 180.0, 270.0], **FAR), "a", 0.0, preset=preset)
    return set_leg(site, ID, "b", "onwards", **{"bypass": 4.5, **values})


def without(site):
    return set_leg(site, ID, "b", "onwards", bypass=None, bypass_radius=None, bypass_taper=None)


def test_between_square_legs_it_lies_as_worked_out_by_hand():
    """Single: R 18, entry 4.0 and exit 4.4 beside a splitter 2.2 wide.

    The island's side has the radius r + 4.5 about a place that lies r + 4.5 + 5.1 from B's centreline and r + 4.5 + 5.5 from A's; it passes the circle
    by sqrt((r + 9.6)2 + (r + 10)2) - (r + 4.5) - 18: 1.924 for r = 25.5, 2.130 for r = 26. The first half metre with 2 m is 26.
    """
    q = Engine(crossing_of())
    made = bypass_after(q, ID, "a:onwards")
    assert (made.giver, made.width, made.radius) == ("b:onwards", 4.5, 26.0)
    assert made.island == pytest.approx(np.hypot(35.6, 36.0) - 30.5 - 18.0, abs=1e-9)
    assert np.hypot(35.1, 35.5) - 30.0 - 18.0 < 2.0 < made.island
    assert made.leg_at == pytest.approx((35.6, 36.0), abs=1e-8)
    kerb = kerb_after(q, ID, "a:onwards")
    assert kerb.alone
    assert kerb.radii == (26.0, 26.0)
    assert kerb.leg_at == pytest.approx((35.6, 36.0), abs=1e-8)
    # Both lips lie a lane further out until its arc has touched and their splitters, 22 m long, end, and come back over six times its width.
    for street, at, own in (("a", 35.6, 5.5), ("b", 36.0, 5.1)):
        width = lip_width(q, street, "left" if street == "a" else "right")
        assert width([20.0, at, 40.0]) == pytest.approx(own + 4.5, abs=1e-9)
        far = float(width([67.0])[0])
        assert far < own
        assert float(width([53.5])[0]) == pytest.approx(0.5 * (own + 4.5 + far), abs=1e-9)


@examples(25)
@given(
    random_legs,
    st.sampled_from(["compact", "single"]),
    st.sampled_from(["left", "right"]),
    st.floats(3.5, 6.0),
    st.booleans(),
)
def test_islands_close_and_keep_lane_and_circle_clear_whatever_the_legs(legs, preset, traffic, width, there):
    angles, offsets, bends = legs
    east, north = (FAR["east"], FAR["north"]) if there else (0.0, 0.0)
    site = edits.set_settings(
        star(angles, offsets=offsets, bends=bends, ground=False, east=east, north=north), traffic=traffic
    )
    shift = site_shift(site)
    site = add_roundabout(site, "a", 0.0, preset=preset, east=east - shift[0], north=north - shift[1])
    plain = Engine(site)
    for leg in legs_of(plain, ID):
        site = set_leg(site, ID, leg.street, leg.drawn, bypass=width)
    q = Engine(site)
    middle, radius, kerbs, islands = middle_of(q, ID), sizes_of(q, ID).radius, [], []
    for leg in legs_of(q, ID):
        made = q.attempt(bypass_after, ID, leg.key)
        if isinstance(made, Unsolved):  # it says why, and the rest stands as without it
            assert made.remedy
            assert str(q.attempt(kerb_after, ID, leg.key)) == str(plain.attempt(kerb_after, ID, leg.key))
            continue
        kerb = kerb_after(q, ID, leg.key)
        assert kerb.chain.k0 == pytest.approx(-1.0 / made.radius)
        assert taker_of(q, ID, giver_of(q, ID, leg.key)).key in {legs_of(q, ID)[n].key for n in (kerb.first, kerb.last)}
        line_of_kerb = kerb.chain.points_at(np.linspace(0.0, kerb.chain.total, 400))
        kerbs.append(shapely.LineString(line_of_kerb))
        for outline in bypass_islands(q, ID, made.giver):
            turn, gap = kinks(outline)
            assert turn < 1e-9
            assert gap < 1e-9
            end = outline.at([0.0, outline.total])
            assert end.points[1] == pytest.approx(end.points[0], abs=1e-9)
            assert np.cos(end.headings[1] - end.headings[0]) == pytest.approx(1.0, abs=1e-12)
            places = outline.points_at(outline.sampled(sag=0.0005))
            ring = shapely.Polygon(places[:-1])  # it closes by itself, whatever the last digit
            assert ring.is_valid
            assert shapely.is_ccw(ring.exterior)
            assert np.hypot(*(places - middle).T).min() > radius - 1e-8
            # Nowhere nearer to the kerb than the lane is wide, and nowhere beyond the edge of the circle's lanes.
            feet = kerb.chain.feet(places)
            on = (feet.chainages > 1e-6) & (feet.chainages < kerb.chain.total - 1e-6)
            assert feet.offsets[on].min() > width - 1e-8
            assert feet.offsets[on].min() < width + 1e-3
            assert made.edge.feet(places).offsets.max() < 1e-8
            islands.append(ring)
    for i, one in enumerate(islands):
        assert not any(one.intersects(other) for other in islands[:i])
        assert not any(one.intersects(kerb) for kerb in kerbs)


def test_what_the_lanes_of_the_circle_do_is_as_it_was():
    site = crossing_of()
    before, after = Engine(without(site)), Engine(site)
    for leg in legs_of(before, ID):
        old, new = kerb_after(before, ID, leg.key), lane_kerb(after, ID, leg.key)
        assert new.chain.xy == pytest.approx(old.chain.xy, abs=1e-8)
        assert new.radii == old.radii
        for one, other in zip(splitters(before, ID, leg.key), splitters(after, ID, leg.key), strict=True):
            assert one.xy == pytest.approx(other.xy, abs=1e-8)
        assert entry_angle(after, ID, leg) == pytest.approx(entry_angle(before, ID, leg), abs=1e-6)
    own = [r.value for r in leg_facts(after, ID, "b:onwards") if isinstance(r, Fact) and r.label == "radius"]
    assert own == [20.0, 26.0]
    old, new = ({(p.begin, p.finish): p for p in paths(q, ID)} for q in (before, after))
    assert new["b:onwards", "a:onwards"].turn == "bypass"
    for key in old.keys() - {("b:onwards", "a:onwards")}:
        assert new[key].turn == old[key].turn
        assert new[key].speeds == pytest.approx(old[key].speeds, abs=1.5)


def test_the_path_through_it_keeps_off_its_kerbs_and_is_on_about_its_own_radius():
    q = Engine(crossing_of())
    path = next(p for p in paths(q, ID) if p.turn == "bypass")
    (island,) = bypass_islands(q, ID, "b:onwards")
    ring = shapely.Polygon(island.points_at(island.sampled(sag=0.001)))
    kerb = shapely.LineString(kerb_after(q, ID, "a:onwards").chain.points_at(np.linspace(0.0, 50.0, 300)))
    points = shapely.points(path.places)
    assert shapely.distance(points, ring).min() > 1.5 - 0.02
    assert shapely.distance(points, kerb).min() > 1.5 - 0.02
    # A lane 4.5 wide about 26: from 27.5 along its kerb to 29 along its island, and cut short at both ends.
    assert 27.0 < path.radii[0] < 60.0
    assert np.hypot(*(path.places - middle_of(q, ID)).T).min() > sizes_of(q, ID).radius + 1.0


@pytest.mark.parametrize("vehicle", ["car", "waste"])
def test_vehicles_are_led_past_the_circle(vehicle):
    q = Engine(crossing_of())
    made = next(d for d in drivings(q, ID, vehicle) if (d.begin, d.finish) == ("b:onwards", "a:onwards"))
    assert made.over_kerb == 0.0
    corners = made.corners.reshape(-1, 2)
    assert np.hypot(*(corners - middle_of(q, ID)).T).min() > sizes_of(q, ID).radius
    narrow = Engine(crossing_of(bypass=2.6))
    assert [f for f in roundabout_findings(narrow, ID) if "its bypass lane is 2.60 m wide, less than 3 m" in f.message]


def test_a_crossing_goes_through_its_island():
    """Nothing stands between its two edges, and both pieces keep their rounded corners on them."""
    q = Engine(crossing_of(splitter=16.0, crossing=4.5, crossing_width=3.0))
    pieces = bypass_islands(q, ID, "b:onwards")
    assert len(pieces) == 2
    sides = []
    for piece in pieces:
        assert kinks(piece)[0] < 1e-9
        along = legs_of(q, ID)[1].chain.feet(piece.points_at(piece.sampled(sag=0.0005))).chainages
        sides.append((float(along.min()), float(along.max())))
    near, far = sorted(sides)
    assert near[1] == pytest.approx(18.0 + 4.5, abs=1e-6)
    assert far[0] == pytest.approx(18.0 + 7.5, abs=1e-6)


def test_what_has_no_room_says_so_and_what_does():
    narrow = crossing_of(bypass_radius=15.0)
    made = Engine(narrow).attempt(bypass_after, ID, "a:onwards")
    assert isinstance(made, Unsolved)
    assert made.remedy == "give its kerb a radius of 26 m"
    assert "nearer to the circle" in made.message or "wide" in made.message
    assert made in list(faults(Engine(narrow), ID))
    # Without it the kerb is as it was, and the lips as well.
    plain = Engine(without(narrow))
    assert kerb_after(Engine(narrow), ID, "a:onwards").leg_at == kerb_after(plain, ID, "a:onwards").leg_at
    long = Engine(crossing_of(bypass_radius=150.0)).attempt(bypass_after, ID, "a:onwards")
    assert "ends beyond the leg" in long.message
    assert long.remedy == "give its kerb a radius of 26 m"
    opposite = star([0.0, 178.0], **FAR)
    opposite = set_leg(add_roundabout(opposite, "a", 0.0, preset="single"), ID, "b", "onwards", bypass=4.5)
    assert isinstance(Engine(opposite).attempt(bypass_after, ID, "a:onwards"), Unsolved)
    alone = set_leg(add_roundabout(star([0.0], **FAR), "a", 0.0, preset="single"), ID, "a", "onwards", bypass=4.5)
    assert "no other leg" in Engine(alone).attempt(bypass_after, ID, "a:onwards").message
    near = set_leg(add_roundabout(star([0.0, 40.0, 180.0], **FAR), "a", 0.0), ID, "b", "onwards", bypass=4.5)
    assert "so near one another" in Engine(near).attempt(bypass_after, ID, "a:onwards").message


def test_it_is_had_and_taken_away_by_button_and_its_sizes_are_dragged():
    plain = without(crossing_of())
    site = button(Engine(plain), "b:onwards", "A bypass lane to A")(plain)
    assert site.all(Roundabout) == crossing_of().all(Roundabout)
    q = Engine(site)
    held = {h.key[0]: h for h in leg_handles(q, ID, "b:onwards")}
    for key, value in (("leg bypass", 4.5), ("leg bypass_radius", 26.0), ("leg bypass_taper", 27.0)):
        (told,) = held[key].moved(held[key].place)[1]
        assert told.value == pytest.approx(value, abs=0.511 if key == "leg bypass_taper" else 0.006)
    # B's kerb leaves its lip west of it: a metre further east the lane is a metre narrower or wider as the side is.
    hold = held["leg bypass"]
    site = hold.moved((hold.place[0] + 0.5, hold.place[1]))[0](site)
    assert bypass_after(Engine(site), ID, "a:onwards").width == pytest.approx(5.0, abs=0.006)
    hold = held["leg bypass_radius"]
    out = (np.array(hold.place) - middle_of(q, ID)) / np.hypot(*(np.array(hold.place) - middle_of(q, ID)))
    moved = hold.moved(tuple(np.array(hold.place) + 2.0 * out))[0](crossing_of())
    # Half way round it has moved by those 2 m: r (sqrt 2 - 1) grows by them, the lips being square to one another.
    assert bypass_after(Engine(moved), ID, "a:onwards").radius == pytest.approx(
        26.0 + 2.0 / (np.sqrt(2.0) - 1.0), abs=0.02
    )
    assert hold.rule(Engine(crossing_of(bypass_radius=12.0))).endswith("give its kerb a radius of 26 m")
    assert button(Engine(site), "b:onwards", "Take the bypass lane away")(site).all(Roundabout) == plain.all(Roundabout)
    opposite = add_roundabout(star([0.0, 178.0], **FAR), "a", 0.0, preset="single")
    with pytest.raises(EditError, match="bypass lane of B"):
        button(Engine(opposite), "b:onwards", "A bypass lane to A")(opposite)
    words = [
        r.words for r in leg_facts(Engine(crossing_of(bypass_radius=12.0)), ID, "b:onwards") if isinstance(r, Note)
    ]
    assert any("give its kerb a radius of 26 m" in w for w in words)


def test_its_kerb_meets_both_lips_and_its_island_lies_on_the_carriageway():
    q = Engine(crossing_of())
    kerb, made = line(q, KerbLine(ID, "a:onwards")), kerb_after(q, ID, "a:onwards")
    for leg, seen, n, s in ((0, "left", 0, 0.0), (1, "right", 1, made.chain.total)):
        g = legs_of(q, ID)[leg]
        lip = line(q, StreetLine(g.street, "lip", g.own_side(seen)))
        assert kerb.rule.levels([s]) == pytest.approx(lip.rule.levels([g.along(made.leg_at[n])]), abs=1e-9)
        grade = float(lip.grade_along([g.along(made.leg_at[n])])[0])
        assert float(kerb.rule.grades([s])[0]) == pytest.approx((-1.0 if n == 0 else 1.0) * grade, abs=1e-9)
    lip, back = (line(q, LegIslandLine(ID, "b:onwards", "bypass", 0, p)) for p in ("lip", "kerb back"))
    s = np.linspace(0.0, lip.plan.end, 30)
    assert back.rule.levels(s) - lip.rule.levels(s) == pytest.approx(sizes_of(q, ID).kerb_up, abs=1e-9)
    rim = line(q, CircleLine(ID)).rule.levels(np.linspace(0.0, 100.0, 50))
    assert np.all(np.abs(lip.rule.levels(s) - rim.mean()) < 2.5)


@pytest.mark.parametrize("traffic", ["left", "right"])
@pytest.mark.parametrize("values", [{}, {"splitter": 16.0, "crossing": 4.5}])
def test_it_is_watertight(traffic, values):
    site = edits.set_settings(crossing_of(**values), traffic=traffic)
    q = Engine(site)
    assert not list(faults(q, ID))
    assert_watertight(q)


@examples(4)
@given(random_legs, st.sampled_from(["plane", "cone"]))
def test_random_ones_are_watertight_and_dry_when_settled(legs, levels):
    angles, offsets, bends = legs
    site = star(angles, offsets=offsets, bends=bends)
    shift = site_shift(site)
    site = add_roundabout(site, "a", 0.0, preset="compact", east=-shift[0], north=-shift[1], levels=levels)
    for leg in legs_of(Engine(site), ID):
        tried = set_leg(site, ID, leg.street, leg.drawn, bypass=4.0)
        site = site if list(faults(Engine(tried), ID)) else tried
    q = Engine(site)
    if not list(faults(q, ID)) and not [p for p in all_faces(q) if isinstance(q.attempt(finished_mesh, p), Unsolved)]:
        assert_watertight(q)
        dry = Engine(settled(site, ID))
        assert not [f for f in roundabout_findings(dry, ID) if f.rule in ("roundabout drainage", "hollow")]


def test_it_is_in_tables_set_out_and_files(tmp_path):
    site = crossing_of(bypass_radius=30.0)
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").all(Roundabout) == site.all(Roundabout)
    q = Engine(site)
    made = table(q, "legs")
    rows = {r[made.columns.index("leg")]: r for r in made.rows}
    past = [made.columns.index(f"bypass_{v}") for v in ("to", "width", "radius")]
    assert [rows["B"][k] for k in past] == ["A", 4.5, 30.0]
    assert [rows["A"][k] for k in past] == [None, None, None]
    assert rows["B"][made.columns.index("entry_radius")] == 20.0  # of its lanes to the circle
    kerbs = table(q, "kerbs")
    names = {r[1] for r in kerbs.rows}
    assert any("bypass island of B" in str(n) for n in names)
    assert any("bypass island of B" in p.thing for p in set_out(q, ID))
    turns = table(q, "paths")
    assert [r[turns.columns.index("turn")] for r in turns.rows].count("bypass") == 1


def test_moving_the_middle_keeps_it():
    site = set_roundabout(crossing_of(), ID, east=1.5, north=-1.0)
    q = Engine(site)
    made = bypass_after(q, ID, "a:onwards")
    assert made.island >= 2.0
    assert not list(faults(q, ID))
    assert_watertight(q)


def test_an_island_that_is_gone_is_told_and_not_broken():
    """What was shown before a change is asked for once more after it."""
    site = crossing_of(splitter=16.0, crossing=4.5, crossing_width=3.0)
    q = Engine(site)
    ids = [i for i in all_faces(q) if isinstance(i, LegIslandFace)]
    assert len(ids) > 4
    q.use(set_leg(without(site), ID, "b", "onwards", splitter=0.0))
    gone = [i for i in ids if isinstance(q.attempt(finished_mesh, i), Unsolved)]
    assert {i.part for i in gone} == {"splitter", "bypass"}
    assert all("no such piece" in q.attempt(finished_mesh, i).message for i in gone)
