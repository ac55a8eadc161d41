"""Levels set on returns: how the lip goes through them, how they are shown side by side, dragged and typed."""

import numpy as np
import pytest

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.corners import ReturnLine, kerb_return
from humble_loop.kinds.junction.model import (
    CrossingChoice,
    JunctionChoice,
    ReturnLevel,
    hold_other,
    set_crossing_corner,
)
from humble_loop.kinds.junction.nodes import CrossingArm
from humble_loop.kinds.junction.profiles import level_handles, level_sheet, profiles, room
from humble_loop.kinds.street import StreetLine
from humble_loop.kinds.street.plan import class_of
from humble_loop.lines.line import line
from humble_loop.site.edits import EditError
from humble_loop.whole.findings import findings
from tests import edits
from tests.conftest import plane_ground, t_site
from tests.kinds.test_crossings import cross
from tests.whole.test_surface import assert_watertight

NODE = "side:start"


def with_levels(*levels, corner="left"):
    """The reference junction with levels on a return, each a share of it and a level."""
    made = tuple(ReturnLevel(share=s, level=z) for s, z in levels)
    return edits.set_corner(t_site(), "side", "start", corner, levels=made)


def lip_of(q, corner="left"):
    return line(q, ReturnLine("side", "start", corner))


def test_the_lip_goes_through_its_levels_and_still_meets_both_lips():
    free, q = lip_of(Engine(t_site())), Engine(with_levels((0.5, 21.6), (0.8, 21.7)))
    lip, total = lip_of(q), lip_of(q).plan.end
    assert lip.rule.levels([0.5 * total, 0.8 * total]) == pytest.approx([21.6, 21.7], abs=1e-12)
    for s in (0.0, total):
        side = "after" if s == 0.0 else "before"
        assert lip.rule.levels([s]) == pytest.approx(free.rule.levels([s]), abs=1e-12)
        assert lip.rule.grades([s], side) == pytest.approx(free.rule.grades([s], side), abs=1e-12)
    # What lies outside goes with it: 0.45 m of kerb and 4.2 m of verge and path keep their rise.
    outer = [
        line(e, ReturnLine("side", "start", "left", "boundary")).rule.levels([0.5 * total])[0]
        for e in (q, Engine(t_site()))
    ]
    assert outer[0] - outer[1] == pytest.approx(21.6 - free.rule.levels([0.5 * total])[0], abs=1e-12)
    # Its weights are honest: a centimetre more of a level is a centimetre more of the lip there.
    more = lip_of(Engine(with_levels((0.5, 21.61), (0.8, 21.7))))
    assert more.rule.levels([0.5 * total])[0] - 21.6 == pytest.approx(0.01, abs=1e-12)
    assert_watertight(
        Engine(edits.add_ground(with_levels((0.5, 21.6)), Ground(name="g", surface=plane_ground(0.0, 0.0, 22.0))))
    )


def test_a_low_point_that_is_set_wants_a_pit():
    found = [f for f in findings(Engine(with_levels((0.5, 21.3)))) if f.rule == "low point without a pit"]
    assert any("left corner" in f.thing for f in found)
    lip = lip_of(Engine(with_levels((0.5, 21.3))))
    low = [t for t in lip.rule.turning_points() if t.kind == "low"]
    assert len(low) == 1
    assert low[0].level <= 21.3


def test_side_by_side_each_begins_beyond_the_one_before_and_has_the_room_its_crowns_leave():
    q = Engine(with_levels((0.5, 21.6)))
    first, second = profiles(q, NODE)
    assert first.begin == 0.0
    assert second.begin > first.length
    assert first.levels[[0, -1]] == pytest.approx(lip_of(q).rule.levels([0.0, first.length]))
    assert [m.words for m in first.marks][:2] == ["tied", "tied"]
    # At its start the through crown is 3.5 m away at 20 + 0.02 x 89; at its end the side crown 3 m away.
    rules = class_of(q, "through")
    low, high = room(q, "side", "start", "left", np.array([0.0, first.length]))
    assert 21.78 - np.array([high[0], low[0]]) == pytest.approx(
        [3.5 * rules.least_crossfall, 3.5 * rules.most_crossfall]
    )
    # There the through crown is 11.5 m away, and abreast of it as well: the room is what both leave.
    crown = line(q, StreetLine("side")).rule.levels([kerb_return(q, "side", "start", "left").side_chainage])[0]
    through = 20.0 + 0.02 * 97.0
    assert high[1] == pytest.approx(min(crown - 3.0 * rules.least_crossfall, through - 11.5 * rules.least_crossfall))
    assert low[1] == pytest.approx(max(crown - 3.0 * rules.most_crossfall, through - 11.5 * rules.most_crossfall))


def test_levels_are_dragged_typed_added_and_removed():
    q = Engine(with_levels((0.5, 21.6)))
    (handle,) = level_handles(q, NODE)
    total = lip_of(q).plan.end
    assert handle.place == (pytest.approx(0.5 * total), 21.6)
    edit, told = handle.moved((0.75 * total, 21.7004))
    made = edit(q.site).all(JunctionChoice)[0].left.levels
    assert [(v.share, v.level) for v in made] == [(pytest.approx(0.75), pytest.approx(21.7))]
    assert [t.label for t in told] == ["level", "along"]
    far, _ = handle.moved((-50.0, 21.7))
    assert far(q.site).all(JunctionChoice)[0].left.levels[0].share == pytest.approx(0.02)
    first = profiles(q, NODE)[0]
    offers = dict(first.offers(0.25 * total, 21.65))
    site = offers[f"Set a level {0.25 * total:.2f} m along"](q.site)
    assert [v.level for v in site.all(JunctionChoice)[0].left.levels] == [21.65, 21.6]
    assert offers["Give its levels back"](site).all(JunctionChoice)[0].left.levels == ()
    assert offers["Put a pit on it"](site).all(JunctionChoice)[0].left.pit
    rows = level_sheet(q, NODE).rows
    level = next(r for r in rows if r.held)
    assert level.held == ("return level", "side", "start", "left", 0)
    assert level.cells[3].edit(21.65)(q.site).all(JunctionChoice)[0].left.levels[0].level == 21.65
    assert level.cells[2].edit(3.0)(q.site).all(JunctionChoice)[0].left.levels[0].share == pytest.approx(
        3.0 / total, abs=1e-5
    )
    assert dict(level.actions)["Remove"](q.site).all(JunctionChoice)[0].left.levels == ()
    begin = rows[0].actions[0]
    assert begin[0] == f"Set the level at {0.25 * total:.2f}"
    with pytest.raises(EditError, match="further apart"):
        first.offers(0.505 * total, 21.6)[0][1](q.site)


def test_they_are_kept_with_the_site_and_stay_where_they_are_when_the_other_crown_holds(tmp_path):
    site = set_crossing_corner(
        cross(), "across", "through", 0, ("left", "left"), radius=9.0, levels=(ReturnLevel(share=0.3, level=21.9),)
    )
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").all(CrossingChoice) == site.all(CrossingChoice)
    q = Engine(site)
    there = [
        r for r in profiles(q, "across:through:0") if len(r.marks) and lip_level(q, r.line, 0.3) == pytest.approx(21.9)
    ]
    (was,) = there
    place = line(q, was.line).plan.points([0.3 * was.length])[0]
    turned = Engine(hold_other(site, "across", "through", 0, "across"))
    (now,) = [
        r
        for r in profiles(turned, "across:through:0")
        if lip_level(turned, r.line, 0.7) == pytest.approx(21.9, abs=1e-9)
    ]
    assert line(turned, now.line).plan.points([0.7 * now.length])[0] == pytest.approx(place, abs=1e-6)
    assert isinstance(now.line.arm, CrossingArm)
    assert now.line.street == "through"


def lip_level(q, id, share):
    made = line(q, id)
    return made.rule.levels([share * made.plan.end])[0]
