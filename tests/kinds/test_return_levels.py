"""Levels set on returns: how the lip goes through them, how they are shown side by side, dragged and typed."""

import numpy as np
import pytest

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.fall_window.levels import all_windows
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.corners import ReturnLine
from humble_loop.kinds.junction.model import (
    CrossingChoice,
    JunctionChoice,
    ReturnLevel,
    hold_other,
    set_crossing_corner,
)
from humble_loop.kinds.junction.nodes import CrossingArm
from humble_loop.kinds.junction.profiles import level_handles, level_sheet, profiles, room
from humble_loop.kinds.junction.tables import TABLES
from humble_loop.kinds.street import StreetLine
from humble_loop.kinds.street.plan import class_of
from humble_loop.lines.line import line
from humble_loop.site.edits import EditError
from humble_loop.whole.findings import findings
from tests import edits
from tests.conftest import lane_section, plane_ground, t_site
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
    assert len(first.low) == len(first.places)


def test_a_returns_window_turns_from_along_the_through_lip_to_the_side_streets_falls():
    """Square T: through lip 21.895 at the throat (100, 3.5) and 2 % along; the side crown climbs at 1 % from there; R 8 round (89, 11.5)."""
    q = Engine(t_site())
    rules, total = class_of(q, "side"), lip_of(q).plan.end
    low, high = room(q, "side", "start", "left", total * np.array([0.4, 0.5, 1.0]))
    # Nearer to the through street's crown nothing is asked: it comes from that one's lip.
    assert [low[0], high[0]] == [-np.inf, np.inf]
    # Half way it is 8 (1 - cos 45 degrees) = 2.343 m past the throat of the 8 m over which the section turns.
    past = 8.0 * (1.0 - np.cos(np.pi / 4))
    turned, away = past / 8.0, 100.0 - (89.0 + 8.0 * np.sin(np.pi / 4))
    crown = 21.895 + 0.01 * past
    flat = crown - (1.0 - turned) * 0.02 * away
    assert low[1] == pytest.approx(flat - turned * away * rules.most_crossfall, abs=1e-9)
    assert high[1] == pytest.approx(flat - turned * away * rules.least_crossfall, abs=1e-9)
    # At its end it is a kerb of the side street.
    assert low[2] == pytest.approx(21.895 + 0.08 - 3.0 * rules.most_crossfall, abs=1e-9)
    assert high[2] == pytest.approx(21.895 + 0.08 - 3.0 * rules.least_crossfall, abs=1e-9)


def test_the_windows_of_a_return_are_those_of_its_line_and_in_a_table():
    q, lip = Engine(t_site()), ReturnLine("side", "start", "left")
    (window,) = all_windows(q, lip)
    assert not window.asked  # it meets both lips whatever its window says
    low, high = room(q, "side", "start", "left", window.chainages)
    assert window.low == pytest.approx(low)
    assert window.high == pytest.approx(high)
    assert window.follows is not None
    assert window.follows[0] == StreetLine("side")
    table = TABLES["return_windows"](q, None, 0.5 * lip_of(q).plan.end)
    rows = [dict(zip(table.columns, r)) for r in table.rows if r[1] == "left"]
    assert [r["crown"] for r in rows] == [None, "Side", "Side"]
    assert rows[1]["lowest"] == pytest.approx(np.interp(rows[1]["distance"], window.chainages, window.low))


def test_short_of_the_throat_an_obtuse_corner_falls_from_the_through_crown():
    q = Engine(edits.move_bend(t_site(), "side", 1, 140.0, 60.0))
    by_corner = {c: all_windows(q, ReturnLine("side", "start", c)) for c in ("left", "right")}
    both = next(w for w in by_corner.values() if len(w) == 2)
    side, through = both
    assert "from the crown of Side, turning" in side.told
    assert "from the crown of Through" in through.told
    assert through.chainages[0] == 0.0
    # Between them it comes from one lip to the other.
    assert through.chainages[-1] < side.chainages[0]
    rules, z = class_of(q, "through"), 20.0
    assert z < through.low[0] < 23.0
    assert through.high[0] - through.low[0] == pytest.approx(3.5 * (rules.most_crossfall - rules.least_crossfall))


def test_where_the_side_street_falls_one_way_the_window_rises_with_it():
    site = edits.set_section(t_site(), lane_section("side", 3.0, fall=-0.03))
    q, total = Engine(site), lip_of(Engine(site)).plan.end
    rules = class_of(q, "side")
    low, high = room(q, "side", "start", "left", np.array([total]))
    assert low[0] == pytest.approx(21.895 + 0.08 + 3.0 * rules.least_crossfall, abs=1e-9)
    assert high[0] == pytest.approx(21.895 + 0.08 + 3.0 * rules.most_crossfall, abs=1e-9)
    assert "up from the crown of Side" in all_windows(q, ReturnLine("side", "start", "left"))[0].told


def test_a_return_outside_its_window_says_where_and_by_how_much():
    rule = "return outside its fall window"
    assert not [f for f in findings(Engine(t_site())) if f.rule == rule]
    total = lip_of(Engine(t_site())).plan.end
    q = Engine(with_levels((0.9, 21.95)))
    (found,) = [f for f in findings(q) if f.rule == rule]
    _, high = room(q, "side", "start", "left", np.array([found.chainage]))
    z = lip_of(q).rule.levels([found.chainage])[0]
    assert 0.49 * total < found.chainage < 0.95 * total
    assert (found.value, found.limit) == (pytest.approx(z), pytest.approx(high[0]))
    assert f"{1000.0 * (z - high[0]):.0f} mm above" in found.message
    assert "2.50 % to 4.50 % from the crown of Side" in found.message
    assert found.severity == "near"


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
