"""Driveways: a way into every lot, square to the kerb, over the lowered kerb and the street's own path to the pad; and vehicles rolled along it."""

import numpy as np
import pytest
import shapely
from hypothesis import given, settings
from hypothesis import strategies as st

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.geometry.rolling import rolled
from humble_loop.kinds.driveway import DrivewayChoice
from humble_loop.kinds.driveway.check import course_of, passages, steepest, underside_of, verdict_of, worst_of
from humble_loop.kinds.driveway.kind import RULES, driveway_findings
from humble_loop.kinds.driveway.model import set_driveway
from humble_loop.kinds.driveway.place import all_lots, at_the_lip, lip_of, sizes_of, wanted, way_of
from humble_loop.kinds.driveway.profile import DriveLine, crossing, drive_line
from humble_loop.kinds.driveway.show import details, facts, handles
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.lot.layout import lot
from humble_loop.kinds.lot.model import add_lot_row, set_lot_row, set_pad
from humble_loop.kinds.lot.pad import pad
from humble_loop.kinds.lot.plan import lot_plan
from humble_loop.kinds.street import StreetLine
from humble_loop.kinds.street.cutting import split
from humble_loop.kinds.street.edits import reverse_street
from humble_loop.kinds.street.lowered import LOWERED
from humble_loop.kinds.street.model import Bend, Vip
from humble_loop.kinds.turning_head.layout import HeadLine, outline
from humble_loop.kinds.turning_head.levels import ring_levels
from humble_loop.lines.describe import Actions, Fact, Note
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.site.edits import EditError
from humble_loop.site.libraries import new_site
from humble_loop.site.library import DriveVehicle
from humble_loop.whole.findings import findings
from humble_loop.whole.tables import table
from tests import edits
from tests.conftest import court_site, plane_ground

COURT = court_site()


def lined(slope=(0.0, 0.0), level=60.9, **row):
    """A street due east at level 60 and 1 %, with lots on its left, on a plane that has its level where the street begins."""
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(*slope, level)))
    vips = [Vip(chainage=0, level=60.0), Vip(chainage=200, level=62.0)]
    site = edits.add_street(site, "Line", [Bend(easting=0, northing=0), Bend(easting=200, northing=0)], vips=vips)
    return add_lot_row(site, "line", "left", **row)


def first(site):
    return all_lots(Engine(site))[0]


def test_every_lot_has_one_square_to_the_kerb_and_clear_of_its_side_lines():
    q = Engine(lined())
    lots = all_lots(q)
    assert len(lots) > 5
    for frame in lots:
        way = way_of(q, frame.id)
        lip = line(q, StreetLine("line", "lip", "left"))
        heading = lip.plan.base.at([way.s]).headings[0]
        assert way.ahead == pytest.approx([-np.sin(heading), np.cos(heading)], abs=1e-12)
        assert way.lip == pytest.approx(lip.plan.points([way.s])[0], abs=1e-9)
        assert (way.run, way.sizes.width) == (pytest.approx(frame.row.setback, abs=1e-6), 3.0)
        for corner in (frame.first, frame.last):
            side = shapely.LineString([corner.front, corner.rear])
            beyond = shapely.Polygon(way.ring[1:5])
            assert side.distance(beyond) >= 1.0 - 1e-6
    # Where the ground rises along the frontage it lies at the higher end, and stays there when the kerb is turned.
    up = Engine(lined((0.03, 0.0)))
    down = Engine(lined((-0.03, 0.0)))
    a, b = (sizes_of(e, all_lots(e)[2].id).at for e in (up, down))
    assert (a, b) == (pytest.approx(lots[2].width - 2.5, abs=0.01), 2.5)


def test_its_grade_line_has_the_streets_levels_the_lowered_kerb_and_the_pads():
    """The lip of the section lies at −3 % of 3.4 m; beyond its channel the kerb's back is lowered to 60 mm; path and boundary are the street's own."""
    site = lined()
    q, id = Engine(site), first(site).id
    way, made, p = way_of(q, id), crossing(q, id), drive_line(q, id).profile
    for k, name in enumerate(made.names):
        own = line(q, StreetLine("line", name, "left"))
        assert p.levels[k] == pytest.approx(float(own.rule.levels([way.s])[0]), abs=1e-9)
        assert p.chainages[k] == pytest.approx(
            abs(own.plan.offset([way.s])[0]) - abs(line(q, StreetLine("line", "lip", "left")).plan.offset([way.s])[0]),
            abs=1e-9,
        )
    assert p.levels[made.kerb] == pytest.approx(p.levels[0] + LOWERED, abs=1e-9)
    assert made.inside == pytest.approx(0.03, abs=1e-9)
    # Before it the carriageway rises to the crown, and falls away beyond.
    course, wide = course_of(q, id), made.crown
    road = course.level(np.array([-0.5 * wide, -wide, -wide - 1.0])) - p.levels[0]
    assert road == pytest.approx([0.03 * 0.5 * wide, 0.03 * wide, 0.03 * (wide - 1.0)], abs=1e-9)
    assert wide == pytest.approx(abs(line(q, StreetLine("line", "lip", "left")).plan.offset([way.s])[0]), abs=1e-9)
    assert p.chainages[-1] == pytest.approx(way.out + way.run, abs=1e-9)
    assert p.levels[-1] == pytest.approx(pad(q, id).level, abs=1e-9)
    # Beyond the boundary: half the change of grade in a short piece, the rest, and half of it again before the pad.
    k = len(made.names) - 1
    before, one, steep, last = p.grades[k - 1 :]
    assert one == pytest.approx(0.5 * (before + steep), abs=1e-9)
    assert last == pytest.approx(0.5 * steep, abs=1e-9)
    rule = line(q, DriveLine(id)).rule
    assert rule.levels([way.out]) == pytest.approx([p.levels[k]], abs=1e-12)
    reason = rule.level([way.out + way.run])
    assert reason.value == pytest.approx([pad(q, id).level], abs=1e-12)


def test_one_that_is_turned_crosses_every_line_where_that_lies_and_by_as_much_more():
    """Turned by 30 degrees clockwise on the left of a street due east, it runs along (0.5, 0.866): all lengths are those of a square one by cos 30, and the
    lip lies tan 30 of the distance further west, where the street, at 1 %, is lower. The carriageway falls 3 % of 3.4 m to the lip.
    """
    site = lined()
    frame = all_lots(Engine(site))[2]
    square = way_of(Engine(site), frame.id)
    site = set_driveway(site, frame.row.id, frame.number, frame.along, at=square.sizes.at, skew=30.0)
    q = Engine(site)
    way, made, c, t = way_of(q, frame.id), crossing(q, frame.id), np.cos(np.pi / 6), np.tan(np.pi / 6)
    assert way.boundary == pytest.approx(square.boundary, abs=1e-9)
    assert way.ahead == pytest.approx([0.5, c], abs=1e-12)
    assert way.out == pytest.approx(square.out / c, abs=1e-9)
    assert way.lip == pytest.approx(square.lip - [square.out * t, 0.0], abs=1e-9)
    assert way.run == pytest.approx(frame.row.setback / c, abs=1e-9)
    other = crossing(Engine(lined()), frame.id)
    assert made.out == pytest.approx(other.out / c, abs=1e-9)
    for name, out, z in zip(made.names, other.out, made.levels):
        own = line(q, StreetLine("line", name, "left"))
        s = square.lip[0] - (square.out - out) * t
        assert z.value == pytest.approx(own.rule.levels([s]), abs=1e-9)
        if name == made.names[made.kerb]:
            assert z.value == pytest.approx([60.0 + 0.01 * s - 0.03 * 3.4 + LOWERED], abs=1e-9)
    lip = 60.0 + 0.01 * way.lip[0] - 0.03 * 3.4
    assert made.levels[0].value == pytest.approx([lip], abs=1e-9)
    assert made.crown == pytest.approx(3.4 / c, abs=1e-9)
    assert made.inside * made.crown == pytest.approx(0.03 * 3.4 - 0.01 * 3.4 * t, abs=1e-9)
    begin, finish = at_the_lip(way)
    assert (begin, finish) == pytest.approx((way.lip[0] - 2.0 / c, way.lip[0] + 2.0 / c), abs=1e-9)
    # Its ends at the lip, the boundary and the pad lie on these, its width is square to itself.
    ring = way.ring
    assert ring[[0, 5], 1] == pytest.approx(way.lip[1], abs=1e-9)
    assert ring[[1, 4], 1] == pytest.approx(way.boundary[1], abs=1e-9)
    assert abs((ring[4] - ring[1]) @ [-c, 0.5]) == pytest.approx(3.0, abs=1e-9)
    assert ring[[2, 3], 1] == pytest.approx(way.pad[1], abs=1e-6)
    assert abs((ring[3] - ring[2]) @ [-c, 0.5]) == pytest.approx(3.0, abs=1e-6)
    assert shapely.Polygon(ring).is_valid
    assert np.isfinite([p.clearance for p in passages(q, frame.id)]).all()


@settings(max_examples=25, deadline=None)
@given(skew=st.floats(-45.0, 45.0), k=st.integers(0, 99))
def test_at_any_angle_it_leaves_the_lip_of_streets_and_bulbs_and_has_its_level_there(skew, k):
    lots = all_lots(Engine(COURT))
    frame = lots[k % len(lots)]
    q = Engine(set_driveway(COURT, frame.row.id, frame.number, frame.along, skew=skew))
    way = q.attempt(way_of, frame.id)
    if isinstance(way, Unsolved):
        assert "pad" in way.message or "lip" in way.message or "lot" in way.message
        return
    lip = line(q, lip_of(way.line))
    assert way.lip == pytest.approx(lip.plan.points([way.lip_s])[0], abs=1e-8)
    assert way.lip + way.out * way.ahead == pytest.approx(way.boundary, abs=1e-8)
    made = q.attempt(crossing, frame.id)
    if isinstance(made, Unsolved):
        assert "at this angle" in made.message
        return
    assert (np.diff(made.out) > 0.0).all()
    assert made.levels[0].value == pytest.approx(lip.rule.levels([way.lip_s]), abs=1e-9)
    assert made.levels[-1].value == pytest.approx(line(q, way.line).rule.levels([way.s]), abs=1e-9)
    assert np.isfinite([p.clearance for p in passages(q, frame.id)]).all()


def test_beside_a_bulb_one_that_is_turned_rises_to_where_it_passes_the_centre():
    """The bulb rises to its centre like a cone: so far beside the centre as it passes, it is that much lower than the centre."""
    frame = next(f for f in all_lots(Engine(COURT)) if isinstance(way_of(Engine(COURT), f.id).line, HeadLine))
    q = Engine(set_driveway(COURT, frame.row.id, frame.number, frame.along, skew=-15.0))
    way, made = way_of(q, frame.id), crossing(q, frame.id)
    head, levels = (f(q, way.line.street, way.line.end) for f in (outline, ring_levels))
    passing, lip = way.lip - made.crown * way.ahead, float(made.levels[0].value[0])
    assert (passing - head.centre) @ way.ahead == pytest.approx(0.0, abs=1e-9)
    beside, radius = np.hypot(*(passing - head.centre)), np.hypot(*(way.lip - head.centre))
    assert beside > 1.0
    there = levels.centre + (lip - levels.centre) * beside / radius
    assert lip + made.inside * made.crown == pytest.approx(there, abs=1e-9)


def test_it_is_turned_by_hand_as_far_as_it_comes_to_its_pad():
    site = lined()
    frame = all_lots(Engine(site))[2]
    _, hold = handles(Engine(site), frame.id)
    way, corners = way_of(Engine(site), frame.id), lot_plan(Engine(site), frame.id).pad
    assert hold.place == pytest.approx(tuple(way.pad))
    step = way.run * np.tan(np.radians(12.0))
    edit, told = hold.moved((hold.place[0] + step, hold.place[1]))
    turned = way_of(Engine(edit(site)), frame.id)
    assert (turned.sizes.skew, told[0].unit) == (12.0, "angle")
    assert turned.pad == pytest.approx(way.pad + [step, 0.0], abs=1e-6)
    # Far to the side it stays with the pad, behind it as well; nearly square is square, and as proposed.
    for to in ((hold.place[0] - 90.0, hold.place[1]), (hold.place[0] - 5.0, hold.place[1] - 90.0)):
        made = way_of(Engine(hold.moved(to)[0](site)), frame.id)
        assert made.sizes.skew < -1.0
        assert corners[:, 0].min() < made.pad[0] < way.pad[0]
    assert hold.moved((hold.place[0] + 0.1, hold.place[1]))[0](edit(site)).all(DrivewayChoice) == ()
    rows = {r.label: r for r in facts(Engine(site), frame.id) if isinstance(r, Fact)}
    assert rows["turned from square by"].edit(-7.5)(site).all(DrivewayChoice)[0].skew == -7.5
    with pytest.raises(EditError, match="45"):
        set_driveway(site, frame.row.id, frame.number, frame.along, skew=50.0)


def test_a_steep_pad_leaves_it_no_pieces_but_keeps_the_classes_grade():
    site = lined()
    frame = first(site)
    q = Engine(site)
    most = steepest(q, frame.id)[1]
    z = float(drive_line(q, frame.id).profile.level([way_of(q, frame.id).out])[0])
    steep = set_pad(site, frame.row.id, frame.number, z + most * frame.row.setback)
    grade, _ = steepest(Engine(steep), frame.id)
    assert grade == pytest.approx(most, abs=1e-6)
    assert not [f for f in driveway_findings(Engine(steep), frame.id) if f.rule == RULES[1]]
    over = set_pad(site, frame.row.id, frame.number, z + (most + 0.02) * frame.row.setback)
    (found,) = [f for f in driveway_findings(Engine(over), frame.id) if f.rule == RULES[1]]
    assert found.value == pytest.approx(most + 0.02, abs=1e-6)


def test_every_vehicle_is_rolled_both_ways_and_the_worst_is_told():
    site = lined()
    frame = first(site)
    q = Engine(site)
    made = passages(q, frame.id)
    assert [(p.vehicle, p.direction) for p in made][:2] == [("Low car", "forwards"), ("Low car", "backwards")]
    assert len(made) == 6
    for p, v in zip(made[::2], site.all(DriveVehicle)):
        under = underside_of(v)
        alone = []
        for aside in (0.5 * v.track, -0.5 * v.track):
            course = course_of(q, frame.id, aside)
            alone.append(rolled(course, under, -under.points[-1, 0] - 1.0, float(course.s[-2]) + 1.0).clearance)
        assert p.clearance == pytest.approx(min(alone), abs=1e-9)
        if abs(alone[0] - alone[1]) > 1e-9:
            assert p.aside == (0.5 if alone[0] < alone[1] else -0.5) * v.track
    # A pad far below: the body touches where the boundary breaks, and the finding says who and where.
    deep = set_pad(site, frame.row.id, frame.number, float(pad(q, frame.id).boundary) - 2.5)
    e = Engine(deep)
    worst = worst_of(passages(e, frame.id))
    assert worst.verdict == "touches"
    (found,) = [f for f in driveway_findings(e, frame.id) if f.rule == RULES[0]]
    assert worst.vehicle.lower() in found.message
    assert f"touches by {1000 * -worst.clearance:.0f} mm" in found.message
    way = way_of(e, frame.id)
    left = np.array([-way.ahead[1], way.ahead[0]])
    assert found.place == pytest.approx(tuple(way.lip + worst.at * way.ahead + worst.aside * left))
    assert found in findings(e)
    assert [verdict_of(c) for c in (-0.001, 0.0, 0.0199, 0.02)] == ["touches", "near", "near", "clear"]


def test_beside_its_middle_it_has_the_streets_levels_there_and_the_pads():
    """On the left of a street due east that rises 1 %, the left as one drives in is the west: lower by 1 % of how far that is, all the way to the boundary."""
    site = lined()
    frame = all_lots(Engine(site))[2]
    q = Engine(site)
    middle = drive_line(q, frame.id).profile
    n = len(crossing(q, frame.id).names)
    for aside in (0.7, -0.7, 1.5):
        made, p = crossing(q, frame.id, aside), drive_line(q, frame.id, aside).profile
        assert made.lip == pytest.approx(way_of(q, frame.id).lip + [-aside, 0.0], abs=1e-9)
        assert p.levels[:n] == pytest.approx(middle.levels[:n] - 0.01 * aside, abs=1e-9)
        assert p.levels[-1] == pytest.approx(middle.levels[-1], abs=1e-12)
        assert p.chainages == pytest.approx(middle.chainages, abs=1e-9)
    # Its edges are lines of their own.
    left, right = (line(q, DriveLine(frame.id, e)) for e in ("left edge", "right edge"))
    assert left.points([0.0])[0, :2] == pytest.approx(way_of(q, frame.id).lip - [1.5, 0.0], abs=1e-9)
    assert right.title == f"{frame.name} driveway right edge"
    assert right.rule.levels([0.0]) - left.rule.levels([0.0]) == pytest.approx([0.03], abs=1e-9)
    assert {DriveLine(frame.id), DriveLine(frame.id, "left edge")} <= set(
        kind_of("driveway").lines(q, ThingId("driveway", frame.id))
    )


def test_turned_its_tracks_come_to_lip_and_pad_where_these_lie():
    site = lined()
    frame = all_lots(Engine(site))[2]
    site = set_driveway(site, frame.row.id, frame.number, frame.along, skew=30.0)
    q = Engine(site)
    way, c = way_of(q, frame.id), np.cos(np.pi / 6)
    for aside in (0.7, -0.7):
        lip = crossing(q, frame.id, aside).lip
        assert lip[1] == pytest.approx(way.lip[1], abs=1e-9)
        assert lip[0] == pytest.approx(way.lip[0] - aside / c, abs=1e-9)
        # To the pad it is as long as in the middle: lip and pad are parallel.
        assert drive_line(q, frame.id, aside).profile.chainages[-1] == pytest.approx(way.out + way.run, abs=1e-6)


def test_a_street_that_climbs_along_the_kerb_leaves_less_on_one_side():
    """At 8 % along the kerb a track 1.5 m wide has 12 cm more to climb to the pad on its lower side."""
    steep = [Vip(chainage=0, level=60.0), Vip(chainage=200, level=76.0)]
    site = edits.set_vips(lined((0.08, 0.0)), "line", steep)
    q, frame = Engine(site), all_lots(Engine(site))[2]
    lower, higher = course_of(q, frame.id, 0.75), course_of(q, frame.id, -0.75)
    assert higher.level(np.zeros(1)) - lower.level(np.zeros(1)) == pytest.approx([0.12], abs=1e-9)
    assert higher.z[-1] == pytest.approx(lower.z[-1], abs=1e-12)
    for slope in (0.08, -0.08):
        e = Engine(
            edits.set_vips(
                lined((slope, 0.0)), "line", [Vip(chainage=0, level=70.0), Vip(chainage=200, level=70.0 + 200 * slope)]
            )
        )
        for p, v in zip(passages(e, frame.id), [v for v in site.all(DriveVehicle) for _ in range(2)]):
            under = underside_of(v) if p.direction == "forwards" else underside_of(v).turned()
            alone = {
                a: rolled(
                    course_of(e, frame.id, a),
                    under,
                    -under.points[-1, 0] - 1.0,
                    float(course_of(e, frame.id, a).s[-2]) + 1.0,
                )
                for a in (0.5 * v.track, -0.5 * v.track)
            }
            worst = min(alone, key=lambda a: alone[a].clearance)
            assert p.clearance == pytest.approx(alone[worst].clearance, abs=1e-9)
            assert alone[-worst].clearance == pytest.approx(alone[worst].clearance, abs=1e-9) or p.aside == worst
            assert p.beside == ("left" if p.aside > 0.0 else "right")
    rows = table(q, "clearances", frame.name)
    assert [dict(zip(rows.columns, r))["wheels"] for r in rows.rows] == [p.beside for p in passages(q, frame.id)]


def test_a_kerb_that_is_moved_moves_it_and_what_is_left_under_it():
    site = lined()
    frame = first(site)
    before = drive_line(Engine(site), frame.id).profile.levels[0]
    raised = edits.set_vips(site, "line", [Vip(chainage=0, level=60.4), Vip(chainage=200, level=62.4)])
    after = Engine(raised)
    assert drive_line(after, frame.id).profile.levels[0] - before == pytest.approx(0.4, abs=1e-9)
    assert [p.clearance for p in passages(after, frame.id)] != [p.clearance for p in passages(Engine(site), frame.id)]


def test_it_is_slid_typed_taken_away_and_given_back(tmp_path):
    site = lined()
    frame = first(site)
    hold, _ = handles(Engine(site), frame.id)
    assert hold.place == pytest.approx(tuple(way_of(Engine(site), frame.id).boundary))
    site = hold.moved((hold.place[0] + 3.0, hold.place[1]))[0](site)
    way = way_of(Engine(site), frame.id)
    assert way.sizes.at == pytest.approx(5.5, abs=0.011)
    rows = {r.label: r for r in facts(Engine(site), frame.id) if isinstance(r, Fact)}
    assert rows["along the frontage"].state == "set"
    site = rows["width"].edit(4.0)(site)
    assert way_of(Engine(site), frame.id).sizes.width == 4.0
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").all(DrivewayChoice) == site.all(DrivewayChoice)
    far = set_driveway(site, frame.row.id, frame.number, frame.along, at=40.0)
    made = Engine(far).attempt(way_of, frame.id)
    assert isinstance(made, Unsolved)
    assert "put it between 2.00 and" in made.remedy
    assert [f for f in findings(Engine(far)) if f.of == ThingId("driveway", frame.id)]
    assert any(isinstance(r, Note) for r in facts(Engine(far), frame.id))
    away = next(
        e for r in facts(Engine(site), frame.id) if isinstance(r, Actions) for w, e in r.buttons if w.startswith("Take")
    )
    none = away(site)
    assert not wanted(Engine(none), frame.id)
    assert ThingId("driveway", frame.id) not in kind_of("driveway").things(Engine(none))
    give = next(
        e
        for r in kind_of("driveway").facts_about(Engine(none), ThingId("lot", frame.id))
        if isinstance(r, Actions)
        for _, e in r.buttons
    )
    assert wanted(Engine(give(none)), frame.id)
    same = set_driveway(give(none), frame.row.id, frame.number, frame.along, at=None, width=None)
    assert same.all(DrivewayChoice) == ()


def test_what_was_chosen_stays_with_its_place_when_lots_are_cut_anew_or_the_street_is():
    site = lined()
    frame = all_lots(Engine(site))[6]
    site = set_driveway(site, frame.row.id, frame.number, frame.along, at=6.0)
    place = way_of(Engine(site), frame.id).boundary
    turned = Engine(reverse_street(site, "line", 200.0))
    assert way_of(turned, frame.id).boundary == pytest.approx(place, abs=1e-6)
    narrower = set_lot_row(site, frame.row.id, frontage=16.0)
    q = Engine(narrower)
    (held,) = [f for f in all_lots(q) if sizes_of(q, f.id).at == 6.0]
    assert abs(held.along - frame.along) <= 0.5 * held.width
    cut = split(Engine(site), "line", 60.0)(site)
    q = Engine(cut)
    held = [f for f in all_lots(q) if sizes_of(q, f.id).at == 6.0]
    assert len(held) == 1
    assert way_of(q, held[0].id).boundary == pytest.approx(place, abs=1e-6)


def test_round_a_bulb_each_points_at_its_pad():
    q = Engine(court_site())
    found = [f for f in all_lots(q) if not isinstance(q.attempt(way_of, f.id), Unsolved)]
    assert len(found) >= len(all_lots(q)) - 1
    for f in found:
        way = way_of(q, f.id)
        assert way.run < 25.0
        assert np.isfinite([p.clearance for p in passages(q, f.id)]).all()


def test_the_plan_shows_the_worst_and_tables_have_all():
    site = lined()
    frame = first(site)
    deep = set_pad(site, frame.row.id, frame.number, 57.0)
    q = Engine(deep)
    drawn = details(q, frame.id)
    assert drawn.strokes[0].role == "driveway touches"
    assert drawn.labels[0].words.startswith("−")
    assert details(q, all_lots(q)[3].id).strokes[0].role in ("driveway clear", "driveway near")
    made = table(q, "driveways")
    row = dict(zip(made.columns, made.rows[0]))
    assert (row["lot"], row["verdict"], row["pad_level"]) == (frame.name, "touches", pytest.approx(57.0))
    assert len(table(q, "clearances", frame.name).rows) == 6
    assert lot(q, frame.id).name == frame.name


def test_a_vehicle_file_that_cannot_be_is_refused_in_words():
    plain = {"name": "Car", "wheelbase": 2.7, "wheel": 0.3, "width": 1.8, "track": 1.5}
    with pytest.raises(ValueError, match=r"0\.01"):
        DriveVehicle(**plain, underside=[{"ahead": -1.0, "up": -0.1}, {"ahead": 3.0, "up": 0.1}])
    with pytest.raises(ValueError, match="from the rear to the front"):
        DriveVehicle(**plain, underside=[{"ahead": 1.0, "up": 0.1}, {"ahead": 0.0, "up": 0.1}])
    with pytest.raises(ValueError, match="wider than itself"):
        DriveVehicle(**{**plain, "track": 1.9}, underside=[{"ahead": -1.0, "up": 0.1}, {"ahead": 3.0, "up": 0.1}])


def test_the_one_that_keeps_least_stands_in_the_long_section_there_or_under_the_cursor():
    site = lined()
    frame = first(site)
    site = set_pad(site, frame.row.id, frame.number, float(pad(Engine(site), frame.id).boundary) + 1.15)
    q, id = Engine(site), DriveLine(frame.id)
    worst, made = worst_of(passages(q, frame.id)), kind_of("driveway").standing_on(q, id, None)
    assert (
        made.words
        == f"{worst.vehicle}, {worst.direction}, {worst.beside} wheels: {1000 * worst.clearance:.0f} mm".replace(
            "-", "−"
        )
    )
    course, breaks = course_of(q, frame.id, worst.aside), np.flatnonzero(np.isnan(made.points[:, 0]))
    body, wheel = made.points[: breaks[0]], made.points[breaks[0] + 1 : breaks[1]]
    under = body[: len(site.all(DriveVehicle)[0].underside)]
    x = np.linspace(under[0, 0], under[-1, 0], 4000)
    assert (np.interp(x, *under.T) - course.level(x)).min() == pytest.approx(worst.clearance, abs=2e-4)
    assert (wheel[:, 1] - course.level(wheel[:, 0])).min() == pytest.approx(0.0, abs=5e-3)
    assert made.place[1] > body[:, 1].max()
    here = kind_of("driveway").standing_on(q, id, 3.0)
    centres = [
        here.points[a + 1 : b].mean(axis=0)
        for a, b in zip(
            np.flatnonzero(np.isnan(here.points[:, 0]))[:2], np.flatnonzero(np.isnan(here.points[:, 0]))[1:3]
        )
    ]
    assert 0.5 * (centres[0][0] + centres[1][0]) == pytest.approx(3.0, abs=0.05)
    assert (
        kind_of("driveway").standing_on(
            Engine(set_driveway(site, frame.row.id, frame.number, frame.along, at=90.0)), id, None
        )
        is None
    )


def test_one_in_a_corner_and_two_over_one_another_are_told():
    site = lined()
    lots = all_lots(Engine(site))
    wide = set_driveway(site, lots[0].row.id, lots[0].number, lots[0].along, at=3.0, width=6.0)
    (found,) = [f for f in driveway_findings(Engine(wide), lots[0].id) if f.rule == RULES[2]]
    assert found.value == pytest.approx(0.5, abs=1e-6)  # 3 m on either side, and half a metre more
    assert not [f for f in driveway_findings(Engine(site), lots[0].id) if f.rule == RULES[2]]
    near = set_driveway(site, lots[2].row.id, lots[2].number, lots[2].along, at=lots[2].width - 1.6)
    near = set_driveway(near, lots[3].row.id, lots[3].number, lots[3].along, at=1.6)
    q = Engine(near)
    told = [f for i in (2, 3) for f in driveway_findings(q, lots[i].id) if f.rule == RULES[3]]
    assert len(told) == 1
    assert told[0].value == pytest.approx(4.0 - 3.2, abs=0.02)


def test_one_that_reaches_over_a_side_line_is_told():
    """Half of 3 m wide and 1 m from the side line; turned by 45 degrees its edge on the boundary lies 0.707 × 3 m from its middle."""
    site = lined()
    frame = all_lots(Engine(site))[3]
    q = Engine(set_driveway(site, frame.row.id, frame.number, frame.along, at=1.6, skew=45.0))
    (found,) = [f for f in driveway_findings(q, frame.id) if f.rule == RULES[4]]
    assert found.value == pytest.approx(1.5 * np.sqrt(2.0) - 1.6, abs=1e-3)
    assert found.place == pytest.approx(tuple(way_of(q, frame.id).boundary - [1.5 * np.sqrt(2.0), 0.0]), abs=1e-6)
    assert not [f for f in findings(Engine(site)) if f.rule == RULES[4]]
    assert not [f for f in findings(Engine(COURT)) if f.rule == RULES[4]]
