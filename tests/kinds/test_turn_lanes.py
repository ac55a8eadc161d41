"""Turn lanes: where they make streets wider, what follows them, and that they stay with their junction."""

import numpy as np
import pytest

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.corners import ReturnLine, kerb_return, through_lip
from humble_loop.kinds.junction.lanes import lane_sheet, lanes_on
from humble_loop.kinds.junction.model import JunctionChoice, TurnLane, set_crossing, set_junction
from humble_loop.kinds.junction.nodes import require_joint
from humble_loop.kinds.street import Bend, StreetLine, Vip
from humble_loop.kinds.street.cutting import split
from humble_loop.kinds.street.joining import joined, joints
from humble_loop.kinds.street.side import lip_width
from humble_loop.lines.line import line
from humble_loop.lines.table import NoSuchTable
from humble_loop.site.edits import EditError
from humble_loop.whole.findings import findings
from humble_loop.whole.tables import table
from tests import edits
from tests.conftest import plane_ground, t_site
from tests.kinds.test_crossings import cross
from tests.whole.test_surface import assert_watertight

NODE = "side:start"


def laned(*lanes, site=None):
    return set_junction(site or t_site(), "side", "start", lanes=tuple(lanes))


def bend(x, y):
    return Bend(easting=x, northing=y)


def lip(q, street, side, *at):
    return lip_width(q, street, side)(np.array(at, dtype=float))


def test_a_lane_beside_the_kerb_widens_the_half_of_those_who_come():
    """Traffic keeps left: who comes from the west on the through street, on its left, turns left into the street to the north.
    10 m of storage, 15 of deceleration and 20 of taper before the node at 100: from 55 on, full from 75, over at 100.
    """
    q = Engine(laned(TurnLane(leg="through back", turn="left", storage=10.0, deceleration=15.0, taper=20.0, width=3.0)))
    at = (50, 55, 65, 75, 90, 99, 100, 110)
    assert lip(q, "through", "left", *at) == pytest.approx([3.5, 3.5, 5.0, 6.5, 6.5, 6.5, 3.5, 3.5])
    assert lip(q, "through", "right", *at) == pytest.approx([3.5] * 8)
    # The near return touches the wider lip, the far one the lip as it was; both meet them in level and grade.
    assert kerb_return(q, "side", "start", "left").curve.start == pytest.approx([89.0, 6.5], abs=1e-9)
    assert kerb_return(q, "side", "start", "right").curve.start == pytest.approx([111.0, 3.5], abs=1e-9)
    j = require_joint(q, "side", "start")
    for corner in ("left", "right"):
        made, here = kerb_return(q, "side", "start", corner), line(q, ReturnLine("side", "start", corner))
        there = line(q, through_lip(j))
        assert here.points([0.0]) == pytest.approx(there.points([made.through_at]), abs=1e-9)
        assert here.rule.grades([0.0])[0] == pytest.approx(
            made.direction * there.rule.grades([made.through_at])[0], abs=1e-9
        )
    # The lane falls on outwards as the carriageway does.
    crown, edge = (line(q, StreetLine("through", *p)).rule.levels([80.0])[0] for p in ((), ("lip", "left")))
    assert edge - crown == pytest.approx(-0.03 * 6.5)


def test_a_lane_across_widens_both_halves_and_the_lanes_go_back_beyond_the_node():
    q = Engine(
        laned(TurnLane(leg="through onwards", turn="right", storage=10.0, deceleration=15.0, taper=20.0, width=3.0))
    )
    # Full from 15 m before the node, as far as returns reach, to 25 m beyond it.
    # Full from 16 m before the node, a return of 8 m and what lies beside it, to 25 m beyond it.
    at = (60, 64, 74, 84, 100, 125, 135, 145)
    for side in ("left", "right"):
        assert lip(q, "through", side, *at) == pytest.approx([3.5, 3.5, 4.25, 5.0, 5.0, 5.0, 4.25, 3.5])
    other = Engine(laned(TurnLane(leg="side", turn="right", storage=8.0, deceleration=0.0, taper=10.0, width=2.4)))
    for side in ("left", "right"):
        assert lip(other, "side", side, 0.0, 1.0, 8.0, 13.0, 18.0) == pytest.approx([3.0, 4.2, 4.2, 3.6, 3.0])


def test_with_traffic_on_the_right_the_other_half_is_wider():
    site = edits.set_settings(
        laned(TurnLane(leg="through onwards", turn="right", storage=10.0, deceleration=15.0)), traffic="right"
    )
    q = Engine(site)
    # Who comes from the east keeps to the north side there, and turns right into the street to the north.
    assert lip(q, "through", "left", 110.0) == pytest.approx([6.5])
    assert lip(q, "through", "right", 110.0) == pytest.approx([3.5])


def test_the_surface_is_whole_and_a_lane_that_has_no_room_is_told():
    ground = Ground(name="g", surface=plane_ground(0.0, 0.0, 21.0))
    lanes = (
        TurnLane(leg="through back", turn="left"),
        TurnLane(leg="through onwards", turn="right", storage=10.0, deceleration=10.0),
    )
    q = Engine(edits.add_ground(laned(*lanes), ground))
    assert_watertight(q)
    assert not [f for f in findings(q) if f.rule in ("cannot be worked out", "built twice", "turn lane without room")]
    long = Engine(laned(TurnLane(leg="through back", turn="left", storage=100.0)))
    (f,) = [f for f in findings(long) if f.rule == "turn lane without room"]
    assert "is 150 m long with its taper, and Through has 100 m there" in f.message


def test_a_lane_that_reaches_into_another_junction_is_told():
    site = laned(TurnLane(leg="through back", turn="left"))
    ends = [bend(60.0, 0.0), bend(60.0, 60.0)]
    site = edits.add_street(site, "Next", ends, section="side", vips=(Vip(chainage=60, grade=0.01),))
    found = [f for f in findings(Engine(site)) if f.rule == "turn lane without room"]
    assert found
    assert "Next / Through stands 40 m from it" in found[0].message


def test_rows_add_type_and_remove():
    q = Engine(t_site())
    sheet = lane_sheet(q, NODE)
    assert sheet.rows == ()
    words = [w for w, _ in sheet.actions]
    assert words[0] == "Lane to turn left off Through onwards"
    assert len(words) == 6
    site = dict(sheet.actions)["Lane to turn right off Through onwards"](q.site)
    made = Engine(site)
    (row,) = lane_sheet(made, NODE).rows
    assert [c.value for c in row.cells] == ["Through onwards", "right", 20.0, 30.0, 20.0, 3.0, 100.0, 170.0]
    assert row.points[0] == pytest.approx([100.0, 0.0])
    assert len(lane_sheet(made, NODE).actions) == 5
    site = row.cells[2].edit(12.0)(site)
    assert site.all(JunctionChoice)[0].lanes[0].storage == 12.0
    assert row.actions[0][1](site).all(JunctionChoice)[0].lanes == ()
    with pytest.raises(EditError):
        row.cells[5].edit(30.0)(site)


def test_lanes_stay_with_their_legs_when_streets_are_reversed_cut_and_joined(tmp_path):
    lane = TurnLane(leg="through back", turn="left", storage=10.0, deceleration=15.0)
    site = laned(lane)
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").all(JunctionChoice) == site.all(JunctionChoice)
    turned = Engine(edits.reverse_street(site, "through", 200.0))
    assert lip(turned, "through", "right", 110.0) == pytest.approx([6.5])  # 90 m from its old beginning
    assert lip(turned, "through", "left", 110.0) == pytest.approx([3.5])
    cut = Engine(split(Engine(site), "through", 30.0)(site))
    assert lip(cut, "through-2", "left", 60.0) == pytest.approx([6.5])
    crossing = set_crossing(
        cross(),
        "across",
        "through",
        0,
        lanes=(TurnLane(leg="second back", turn="left", storage=10.0, deceleration=15.0),),
    )
    assert lip(Engine(crossing), "through", "left", 90.0) == pytest.approx([6.5])
    again = split(Engine(crossing), "through", 40.0)(crossing)
    assert lip(Engine(again), "through-2", "left", 50.0) == pytest.approx([6.5])
    # Joined to a street that was drawn the other way its legs swap their names and stay on the ground.
    more = edits.add_street(site, "East", [bend(300.0, 0.0), bend(200.0, 0.0)], section="through")
    q = Engine(more)
    (there,) = [j for j in joints(q, "east", "end") if j.other == "through"]
    whole = Engine(joined(q, "east", "end", there)(more))
    (made,) = lanes_on(whole, "east")
    assert made.node == pytest.approx(200.0)
    assert lip(whole, "east", "right", 210.0) == pytest.approx([6.5])


def test_in_a_table():
    q = Engine(laned(TurnLane(leg="through onwards", turn="right")))
    made = table(q, "lanes", "Side / Through", None)
    assert made.columns == ("junction", "street", "turn", "storage", "deceleration", "taper", "width", "from", "to")
    assert made.rows == (("Side / Through", "Through", "right", 20.0, 30.0, 20.0, 3.0, 100.0, 170.0),)
    with pytest.raises(NoSuchTable, match="no junction 'x'"):
        table(q, "lanes", "x", None)
