"""Kerbs that are lowered for driveways: down over their width, back over the length of a stone, and all behind stays."""

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.kinds.driveway.lowering import drawn
from humble_loop.kinds.driveway.model import set_driveway
from humble_loop.kinds.driveway.place import all_lots, at_the_lip, way_of
from humble_loop.kinds.driveway.profile import drive_line
from humble_loop.kinds.lot.model import set_lot_row
from humble_loop.kinds.street import StreetLine
from humble_loop.kinds.street.edits import reverse_street
from humble_loop.kinds.street.lowered import LOWERED, TAPER, kerb_count, lowered_rises, lowered_share
from humble_loop.kinds.street.section import rule_of
from humble_loop.kinds.street.side import course
from humble_loop.kinds.tie.model import Source, add_tie
from humble_loop.kinds.turning_head.layout import HeadLine
from humble_loop.lines.faces import finished_mesh, levels_on, strip_points, with_inner
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.site import parts
from humble_loop.whole.things import all_faces
from tests.conftest import examples
from tests.kinds.test_driveways import COURT, lined
from tests.whole.test_surface import assert_watertight

LIP = StreetLine("line", "lip", "left")


def without(site):
    """The site with no driveways."""
    for frame in all_lots(Engine(site)):
        site = set_driveway(site, frame.row.id, frame.number, frame.along, wanted=False)
    return site


def kerb_of(q, street="line", side="left"):
    """The names of a side's kerb points, and of those beyond."""
    made = course(q, street, side)
    n = made.lip + 1 + kerb_count(made.roles[made.lip + 1 :])
    return made.names[made.lip + 1 : n], made.names[n:]


def test_what_stands_up_is_straight_from_the_channel_to_the_lowered_back():
    """A channel 0.3 m wide that falls 20 mm, a face up to 130 mm above the lip over 20 mm, a top of 0.15 m that rises 10 mm: lowered to 60 mm."""
    out, rise = np.array([0.0, 0.3, 0.32, 0.47]), np.array([0.0, -0.02, 0.13, 0.14])
    expected = [0.0, -0.02, -0.02 + 0.08 * 0.02 / 0.17, LOWERED]
    assert lowered_rises(out, rise).tolist() == pytest.approx(expected, abs=1e-12)
    flush = np.array([0.0, -0.02, 0.03, LOWERED])
    assert lowered_rises(out, flush).tolist() == flush.tolist()  # it does not stand higher than that
    upright = lowered_rises(np.zeros(2), np.array([0.0, 0.15]))
    assert upright.tolist() == [0.0, LOWERED]


def test_it_is_down_over_a_driveway_half_way_up_in_the_middle_of_a_stone_and_its_own_beyond():
    site = lined()
    q, plain = Engine(site), Engine(without(site))
    begin, finish = at_the_lip(way_of(q, all_lots(q)[2].id))
    s = [
        begin - TAPER,
        begin - 0.5 * TAPER,
        begin,
        0.5 * (begin + finish),
        finish,
        finish + 0.5 * TAPER,
        finish + TAPER,
    ]
    inner, outer = kerb_of(q)
    back = StreetLine("line", inner[-1], "left")
    lip, own, now = (line(e, i).rule.levels(s) for e, i in ((q, LIP), (plain, back), (q, back)))
    down = lip + LOWERED
    expected = [own[0], 0.5 * (own[1] + down[1]), *down[2:5], 0.5 * (own[5] + down[5]), own[6]]
    assert now == pytest.approx(expected, abs=1e-12)
    assert (own - down).min() > 0.03
    for name in outer:
        beyond = StreetLine("line", name, "left")
        assert line(q, beyond).rule.levels(s) == pytest.approx(line(plain, beyond).rule.levels(s), abs=1e-12)
    other = StreetLine("line", inner[-1], "right")
    assert line(q, other).rule.levels(s) == pytest.approx(line(plain, other).rule.levels(s), abs=1e-12)
    reason = rule_of(q, back).level([s[3]])
    assert reason.rule == "lowered for driveways"


def test_two_so_near_that_it_would_not_come_up_share_a_lowered_kerb():
    site = lined()
    a, b = all_lots(Engine(site))[2:4]
    near = set_driveway(site, a.row.id, a.number, a.along, at=a.width - 2.6)
    near = set_driveway(near, b.row.id, b.number, b.along, at=2.6)
    q = Engine(near)
    (_, first), (second, last) = sorted(at_the_lip(way_of(q, i.id)) for i in (a, b))
    assert 0.0 < second - first < 2 * TAPER
    share = lowered_share(q, LIP)
    assert share([first, 0.5 * (first + second), second, last, last + TAPER]).tolist() == [1.0, 1.0, 1.0, 1.0, 0.0]
    assert lowered_share(q, StreetLine("line", "lip", "right")) is None


def test_it_stays_with_its_driveways_when_the_street_is_turned_round():
    site = lined()
    q, turned = Engine(site), Engine(reverse_street(site, "line", 200.0))
    begin, finish = at_the_lip(way_of(q, all_lots(q)[1].id))
    right = lowered_share(turned, StreetLine("line", "lip", "right"))
    s = np.linspace(begin - 2.0, finish + 2.0, 41)
    assert right(200.0 - s) == pytest.approx(lowered_share(q, LIP)(s), abs=1e-9)


@pytest.mark.parametrize("site", [COURT, lined()], ids=["court", "line"])
def test_the_finished_surface_has_it_and_stays_closed(site):
    q, plain = Engine(site), Engine(without(site))
    assert_watertight(q, 1.0)  # without ground beyond
    faces = [f for f in all_faces(q) if f.kind in ("street", "turning_head") and f.part == "roadside"]
    ways = [way_of(q, f.id) for f in all_lots(q) if not isinstance(q.attempt(way_of, f.id), Exception)]
    seen = 0
    for way in ways:
        street = isinstance(way.line, StreetLine)
        back = kerb_of(q, way.line.street, way.line.side)[0][-1] if street else "back of kerb"
        id = (
            StreetLine(way.line.street, back, way.line.side)
            if street
            else HeadLine(way.line.street, way.line.end, back)
        )
        made = line(q, id)
        place = made.points([way.lip_s])
        level = levels_on(q, tuple(faces), place[:, :2])
        # Chords of the lip and of the line itself keep to them within the level tolerance.
        assert level == pytest.approx(place[:, 2], abs=0.004)
        own = line(plain, id).rule.levels([way.lip_s])
        assert levels_on(plain, tuple(faces), place[:, :2]) - level == pytest.approx(own - place[:, 2], abs=0.004)
        seen += own[0] - place[0, 2] > 0.01
    assert seen > 5


def test_lines_are_delivered_with_every_place_at_which_they_come_down_and_go_up():
    q = Engine(lined())
    begin, finish = at_the_lip(way_of(q, all_lots(q)[2].id))
    back = kerb_of(q)[0][-1]
    (points,) = line(q, StreetLine("line", back, "left")).runs(0.01, 5.0)
    for s in (begin - TAPER, begin, finish, finish + TAPER):
        assert np.abs(points[:, 0] - s).min() < 1e-6


@examples(60)
@given(
    st.lists(st.floats(1, 9), min_size=2, max_size=8),
    st.lists(st.floats(-5, 60), max_size=6),
    st.integers(0, 2**20),
)
def test_rows_between_keep_the_strips_own_and_what_is_not_joined_stays_open(steps, inner, seed):
    rows = np.cumsum(steps)
    joined = np.random.default_rng(seed).random(len(rows) - 1) > 0.3
    at, now, among = with_inner(rows, joined, np.sort(np.array(inner)))
    assert at[~among].tolist() == rows.tolist()
    assert (np.diff(at) > 0).all()
    assert len(now) == len(at) - 1
    middle = 0.5 * (at[1:] + at[:-1])
    assert now.tolist() == joined[np.clip(rows.searchsorted(middle) - 1, 0, len(joined) - 1)].tolist()
    assert all(joined[rows.searchsorted(s) - 1] for s in at[among])


def test_along_its_edges_a_strip_has_only_the_points_of_its_own_rows():
    q = Engine(lined())
    (face,) = [f for f in all_faces(q) if f.kind == "street" and f.part == "roadside" and f.side == "left"]
    points = strip_points(q, face)
    edges = {tuple(p) for p in np.round(points[:, [0, -1]].reshape(-1, 3), 9)}
    plain = Engine(without(lined()))
    assert edges == {tuple(p) for p in np.round(strip_points(plain, face)[:, [0, -1]].reshape(-1, 3), 9)}
    assert finished_mesh(q, face).surface.areas().sum() == pytest.approx(
        finished_mesh(plain, face).surface.areas().sum()
    )
    assert shapely.union_all(
        shapely.polygons(finished_mesh(q, face).surface.points[finished_mesh(q, face).surface.triangles][:, :, :2])
    ).is_valid


def test_lots_that_are_cut_anew_take_the_lowered_kerbs_along():
    site = lined()
    wide = set_lot_row(site, all_lots(Engine(site))[0].row.id, frontage=24.0)
    a, b = (lowered_share(Engine(s), LIP) for s in (site, wide))
    assert len(b.at) < len(a.at)


def test_it_is_set_out_where_it_begins_to_go_down_is_down_and_is_up_again():
    q = Engine(lined())
    id = all_lots(q)[2].id
    begin, finish = at_the_lip(way_of(q, id))
    points = kind_of("driveway").set_out(q, ThingId("driveway", id))
    choice = parts.set_out(q)
    offset, height = choice.offset, choice.height
    kerb = [p for p in points if "kerb" in p.mark]
    assert [p.mark for p in kerb[:4]] == [p.mark for p in kerb[4:]]
    assert [p.along for p in kerb[:4]] == pytest.approx([begin - TAPER, begin, finish, finish + TAPER], abs=1e-6)
    assert {p.base for p in kerb} == {"Line"}
    back = line(q, StreetLine("line", kerb_of(q)[0][-1], "left"))
    for p in kerb[4:]:
        assert p.level == pytest.approx(float(back.rule.levels([p.along])[0]) + height, abs=1e-9)
        assert p.offset == pytest.approx(float(back.plan.offset.one(p.along)) + offset, abs=1e-9)
    middle = [p for p in points if p.mark == "change of grade"]
    assert [p.level - height for p in middle] == pytest.approx(drive_line(q, id).profile.levels.tolist(), abs=1e-9)


def test_in_plan_it_runs_from_lip_to_lip_along_the_back_of_the_kerb():
    q = Engine(lined())
    way = way_of(q, all_lots(q)[2].id)
    begin, finish = at_the_lip(way)
    points = drawn(q, way)
    lip, back = (abs(line(q, StreetLine("line", n, "left")).plan.offset.one(begin)) for n in ("lip", kerb_of(q)[0][-1]))
    assert points[[0, 1, -2, -1]] == pytest.approx(
        np.array([[begin - TAPER, lip], [begin, back], [finish, back], [finish + TAPER, lip]]), abs=1e-9
    )
    bare = Engine(without(lined()))
    assert not len(drawn(bare, way))


def test_where_the_kerb_is_held_by_a_decision_that_stands():
    """Its back tied to 80 mm above the lip over a driveway: so it is, and not 60 mm; beside another driveway it is lowered."""
    site = lined()
    q = Engine(site)
    here, there = (way_of(q, all_lots(q)[k].id) for k in (2, 5))
    back = kerb_of(q)[0][-1]
    source, begin, finish = (
        Source(what="point", of="line", side="left", point="lip"),
        here.lip_s - 4.0,
        here.lip_s + 4.0,
    )
    tie = {"taper_in": 1.0, "taper_out": 1.0, "rise_in": 0.08, "rise_out": 0.08}
    tied = Engine(add_tie(site, "line", "left", back, source, begin, finish, **tie))
    made, lip = line(tied, StreetLine("line", back, "left")), line(tied, LIP)
    at = [here.lip_s, there.lip_s]
    assert made.rule.levels(at) - lip.rule.levels(at) == pytest.approx([0.08, LOWERED], abs=1e-9)
