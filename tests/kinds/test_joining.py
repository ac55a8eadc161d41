"""Streets joined: end to end as they lie, by a bend or by a straight; what hangs on them stays where it stands."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.model import JunctionChoice, set_corner
from humble_loop.kinds.lot.layout import lots_on, placed_pads
from humble_loop.kinds.lot.model import LotRow, set_pad
from humble_loop.kinds.street import Bend, Street, Vip
from humble_loop.kinds.street.cutting import split
from humble_loop.kinds.street.ends import end_sheet
from humble_loop.kinds.street.joining import joined, joints
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.street.section_edits import set_toe_drain
from humble_loop.kinds.toe_drain.model import choose_drain
from humble_loop.kinds.toe_drain.place import DrainLine, stretches
from humble_loop.kinds.turning_head.model import TurningHead, set_head
from humble_loop.lines.line import line
from humble_loop.site.edits import EditError
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from tests import edits
from tests.conftest import court_site, examples, plane_ground
from tests.kinds.test_cutting import CREST, crown, total

E, N = 312_000.0, 6_252_000.0


def two(first, second, *, vips=((), ()), **more):
    """Two streets through points (x, y, radius) at a real place."""
    site = new_site()
    for name, points, own in (("One", first, vips[0]), ("Two", second, vips[1])):
        bends = [Bend(easting=E + p[0], northing=N + p[1], radius=p[2] if len(p) > 2 else 0.0) for p in points]
        site = edits.add_street(site, name, bends, vips=own, **more)
    return site


def the_joint(site, street, end, other):
    q = Engine(site)
    found = [j for j in joints(q, street, end) if j.other == other]
    assert found, "it is not offered"
    return q, found[0]


def join(site, street, end, other):
    q, joint = the_joint(site, street, end, other)
    return joined(q, street, end, joint)(site)


def length(site, street):
    return total(site, street)


@pytest.mark.parametrize("keep", ["first", "second"])
@pytest.mark.parametrize("turned", [(), ("line",), ("line-2",), ("line", "line-2")])
@given(s=st.floats(2.0, 298.0))
@examples(12)
def test_what_was_split_and_is_joined_again_lies_as_it_lay(keep, turned, s):
    site = split(Engine(CREST), "line", s)(CREST)
    for street in turned:
        site = edits.reverse_street(site, street, length(site, street))
    mine, other = ("line", "line-2") if keep == "first" else ("line-2", "line")
    at_far_end = (keep == "first") != (mine in turned)
    site = join(site, mine, "end" if at_far_end else "start", other)
    assert [x.id for x in site.all(Street)] == [mine]
    t = np.linspace(0.0, 300.0, 61)
    assert length(site, mine) == pytest.approx(300.0, abs=1e-6)
    now = crown(site, mine, t if mine not in turned else 300.0 - t)
    assert now == pytest.approx(crown(CREST, "line", t), abs=1e-6)


def places(site, street):
    return {
        f.name.split()[-1]: np.round((*f.first.front, *f.last.front), 6).tolist() for f in lots_on(Engine(site), street)
    }


def drains(site, street):
    """Where the stretches of drain that were chosen stand, in plan."""
    q = Engine(site)
    found = []
    for side in ("left", "right"):
        for d in stretches(q, street, side):
            if d.chosen:
                ends = line(q, DrainLine(street, side, "v-drain", "invert")).points([d.begin, d.finish])
                found += [np.round(p[:2], 5).tolist() for p in ends]
    return sorted(found)


@pytest.mark.parametrize("turned", [(), ("court",), ("court-2",), ("court", "court-2")])
@pytest.mark.parametrize("keep", ["court", "court-2"])
def test_what_hangs_on_both_stays_where_it_stands(keep, turned):
    whole = set_pad(court_site(), "court-left", 2, 41.5, 45.0)
    whole = set_corner(whole, "court", "start", "left", radius=9.0)
    whole = set_toe_drain(whole, "access-place", "left", "v-drain")
    whole = choose_drain(whole, "court", "right", 17.0, 36.0, True)
    before = places(whole, "court")
    parts = split(Engine(whole), "court", 62.0)(whole)
    for street in turned:
        parts = edits.reverse_street(parts, street, length(parts, street))
    both = {**places(parts, "court"), **places(parts, "court-2")}
    chosen = drains(parts, "court")
    other = "court-2" if keep == "court" else "court"
    at_far_end = (keep == "court") != (keep in turned)
    site = join(parts, keep, "end" if at_far_end else "start", other)
    assert places(site, keep) == both
    # One lot that the cut went through is gone, another narrower; all others stand as they stood.
    assert set(before) - set(both) == {"L4"}
    assert {k for k in both if both[k] != before[k]} == {"R1"}
    q = Engine(site)
    pads = [p for row in site.all(LotRow) for p in placed_pads(q, row.id).choices]
    assert [(c.number, c.level) for _, c in pads] == [(2, 41.5)]
    assert [h.id for h in site.all(TurningHead)] == [f"{keep}:end"]
    assert [(c.side, c.end, c.left.radius) for c in site.all(JunctionChoice)] == [(keep, "start", 9.0)]
    assert drains(site, keep) == chosen
    assert len(chosen) == 2
    assert not [f for f in findings(q) if f.rule in ("overlap", "cannot be worked out", "ring of ties")]


@pytest.mark.parametrize("turned", [(), ("one",), ("two",), ("one", "two")])
@pytest.mark.parametrize("keep", ["one", "two"])
def test_streets_that_were_drawn_towards_one_another_swap_the_sides_of_one(keep, turned):
    site = two(
        [(0, 0), (100, 0)], [(200, 0), (100, 0)], vips=((Vip(chainage=0, level=50), Vip(chainage=100, level=50)),) * 2
    )
    site = edits.add_ground(site, Ground(name="g", surface=plane_ground(0.0, 0.0, 49.0).shifted(E, N)))
    site = set_toe_drain(site, "local-street", "left", "v-drain")
    site = choose_drain(choose_drain(site, "one", "left", 20.0, 40.0, True), "two", "left", 40.0, 60.0, True)
    site = set_head(set_corner(site, "one", "start", "left", radius=9.0), "two", "start")
    for street in turned:
        site = edits.reverse_street(site, street, 100.0)
    chosen = sorted(drains(site, "one") + drains(site, "two"))
    end = "end" if keep not in turned else "start"
    site = join(site, keep, end, "two" if keep == "one" else "one")
    assert drains(site, keep) == chosen
    assert len(chosen) == 4
    # The head stands where two was drawn from, the junction's choice where one was: at the far ends, as drawn.
    assert [h.end for h in site.all(TurningHead)] == ["end" if keep == "one" else "start"]
    assert [c.end for c in site.all(JunctionChoice)] == ["start" if keep == "one" else "end"]


def test_two_that_meet_in_a_corner_get_the_widest_bend_that_leaves_half_of_both():
    # Legs of 100 and 60 m meet at 90 degrees: 0.45 of the shorter is the tangent, and so the radius.
    site = two([(0, 0), (100, 0)], [(100, 0), (100, 60)])
    site = join(site, "one", "end", "two")
    bends = site.find(Street, "one").bends
    assert [(b.easting - E, b.northing - N, b.radius) for b in bends] == [
        (0, 0, 0),
        pytest.approx((100, 0, 27.0)),
        (100, 60, 0),
    ]
    assert length(site, "one") == pytest.approx(160.0 - 2 * 27.0 + 27.0 * np.pi / 2)
    # Where arcs come to the corner from both sides there is no room: the corner stays, and is told.
    arcs = two(
        [(0, 0), (60, 0, 60 / np.tan(np.pi / 8)), (102.42640687, 42.42640687)],
        [(102.42640687, 42.42640687), (160, 42.42640687)],
    )
    site = join(arcs, "one", "end", "two")
    assert site.find(Street, "one").bends[2].radius == 0.0
    assert [f.rule for f in findings(Engine(site)) if f.rule == "kink"]


def test_an_arc_bridges_two_elements_where_they_would_meet():
    # One would meet the other at (150, 0), 50 m on from its end and 80 m before the other's: R = 50 / tan 45 degrees.
    site = two([(0, 0), (100, 0)], [(150, 80), (150, 200)])
    q, joint = the_joint(site, "one", "end", "two")
    assert joint.points == (pytest.approx((100, 0)), pytest.approx((150, 0)), pytest.approx((150, 80)))
    assert joint.length == pytest.approx(130.0)
    site = joined(q, "one", "end", joint)(site)
    chain = chain_of(Engine(site), "one")
    assert chain.points_at([50, 100, 100 + 25 * np.pi, chain.total]) == pytest.approx(
        np.array([(50, 0), (100, 0), (150, 50), (150, 200)]), abs=1e-6
    )
    assert not [f for f in findings(Engine(site)) if f.rule == "bend does not fit"]
    # The same from the other street's side, which runs away from the joint: it goes back along the first.
    back = join(two([(0, 0), (100, 0)], [(150, 80), (150, 200)]), "two", "start", "one")
    chain = chain_of(Engine(back), "two")
    assert chain.points_at([0, chain.total]) == pytest.approx(np.array([(0, 0), (150, 200)]), abs=1e-6)
    assert chain.total == pytest.approx(chain_of(Engine(site), "one").total)


def test_an_arc_at_the_end_runs_on_straight_to_the_bridging_bend():
    # The first ends in an arc that points 45 degrees up at (60 + 42.43, 42.43): its tangent meets y = 100.
    reach = 60 * np.sqrt(0.5)
    first = [(0, 0), (60, 0, 60 / np.tan(np.pi / 8)), (60 + reach, reach)]
    site = two(first, [(200, 100), (300, 100)])
    q, joint = the_joint(site, "one", "end", "two")
    meets = 60 + 100.0
    assert joint.points[1] == pytest.approx((meets, 100))
    site = joined(q, "one", "end", joint)(site)
    made = chain_of(Engine(site), "one")
    old = chain_of(q, "one")
    s = np.linspace(0, old.total, 20)
    assert made.points_at(s) == pytest.approx(old.points_at(s), abs=1e-6)
    assert (
        np.abs(np.diff(made.at(made.starts[1:-1] - 1e-9).headings - made.at(made.starts[1:-1] + 1e-9).headings)).max()
        < 1e-6
    )


def test_side_by_side_a_straight_bridges_them():
    site = two([(0, 0), (100, 0)], [(130, 10), (260, 10)])
    q, joint = the_joint(site, "one", "end", "two")
    assert len(joint.points) == 2
    turn = np.arctan2(10, 30)
    tangent = 0.45 * np.hypot(30, 10)
    assert joint.radii == (pytest.approx(tangent / np.tan(turn / 2)), pytest.approx(tangent / np.tan(turn / 2)))
    site = joined(q, "one", "end", joint)(site)
    assert [f.rule for f in findings(Engine(site)) if "bend" in f.rule] == []
    assert len(site.find(Street, "one").bends) == 4


def test_levels_of_both_are_kept_and_joined_by_a_grade():
    vips = (
        (Vip(chainage=0, level=10.0), Vip(chainage=60, level=12.0, curve_length=20), Vip(chainage=100, level=12.4)),
        (Vip(chainage=0, level=13.0), Vip(chainage=100, level=15.0)),
    )
    site = two([(0, 0), (100, 0)], [(140, 0), (240, 0)], vips=vips)
    made = join(site, "one", "end", "two").find(Street, "one").vips
    assert [(v.chainage, v.level, v.curve_length) for v in made] == [
        (0, 10.0, 0),
        (60, 12.0, 20),
        (100, 12.4, 0),
        (pytest.approx(140.0), 13.0, 0),
        (pytest.approx(240.0), 15.0, 0),
    ]
    # Of two that end at one place one goes on as the other, at that one's level, and they are joined as they stand.
    site = two([(0, 0), (100, 0)], [(100, 0), (200, 0)], vips=vips)
    made = join(site, "two", "start", "one").find(Street, "two").vips
    assert [(v.chainage, v.level) for v in made] == [
        (0, 10.0),
        (60, 12.0),
        (pytest.approx(100), 12.4),
        (pytest.approx(200), 15.0),
    ]


def test_sections_change_where_the_other_begins():
    site = two([(0, 0), (100, 0)], [(100, 0), (200, 0)])
    site = edits.set_street(site, "two", section="access-place")
    made = join(site, "one", "end", "two").find(Street, "one")
    assert (made.section, [(c.chainage, c.section) for c in made.changes]) == (
        "local-street",
        [(pytest.approx(100.0), "access-place")],
    )
    made = join(site, "two", "start", "one").find(Street, "two")
    assert (made.section, [(c.chainage, c.section) for c in made.changes]) == (
        "local-street",
        [(pytest.approx(100.0), "access-place")],
    )


def test_what_cannot_go_with_it_is_refused_in_a_sentence():
    site = edits.add_lot_row(two([(0, 0), (100, 0)], [(200, 0), (100, 0)]), "two", "left")
    with pytest.raises(EditError, match="join from 'Two' instead"):
        join(site, "one", "end", "two")
    assert join(site, "two", "end", "one").find(LotRow, "two-left").street == "two"
    # An end that something else takes up is not offered, nor a street that is only surveyed.
    assert not joints(Engine(edits.set_head(site, "one")), "one", "end")
    assert not joints(Engine(edits.set_street(site, "two", kind="existing")), "one", "end")
    assert not joints(Engine(two([(0, 0), (100, 0)], [(251, 0), (300, 0)])), "one", "end")


def test_it_is_offered_under_ends_and_lit_up_before():
    site = two([(0, 0), (100, 0)], [(150, 80), (150, 200)])
    row = next(r for r in end_sheet(Engine(site), "one").rows if r.actions and r.actions[0][0] == "Join Two")
    assert [c.value if c else None for c in row.cells] == [
        "end",
        "the start of Two",
        100.0,
        pytest.approx(50.0),
        pytest.approx(250.0),
    ]
    lit = row.points[np.isfinite(row.points[:, 0])]
    assert lit[0] == pytest.approx((100, 0))  # the arc of 50 m round (100, 50), then straight to the other
    arc = lit[(lit[:, 1] < 50) & (lit[:, 0] < 150)]
    assert len(arc) > 5
    assert np.hypot(arc[:, 0] - 100, arc[:, 1] - 50) == pytest.approx(np.full(len(arc), 50.0))
    assert [x.id for x in row.actions[0][1](site).all(Street)] == ["one"]
    assert length(row.actions[0][1](site), "one") == pytest.approx(100.0 + 25.0 * np.pi + 30.0 + 120.0)


def test_that_two_meet_end_to_end_is_mended_by_joining_them():
    site = two([(0, 0), (100, 0)], [(180, 40), (100, 0)])
    found = [f for f in findings(Engine(site)) if f.rule == "streets meet unworked"]
    assert [f.mend.words for f in found] == ["Join them as One"]
    site = found[0].mend.apply(site)
    assert [s.id for s in site.all(Street)] == ["one"]
    assert not [f for f in findings(Engine(site)) if f.rule == "streets meet unworked"]


def test_existing_streets_keep_the_grounds_levels_unless_both_are_set():
    vips = (Vip(chainage=0, level=50), Vip(chainage=100, level=51))
    ground = Ground(name="g", surface=plane_ground(0.0, 0.0, 49.0).shifted(E, N))
    for second, wanted in (((), ()), (vips, (50.0, 51.0, 51.0))):
        site = two([(0, 0), (100, 0)], [(100, 0), (200, 0)], vips=(vips, second), kind="existing")
        made = join(edits.add_ground(site, ground), "one", "end", "two").find(Street, "one")
        assert tuple(v.level for v in made.vips) == wanted
