"""Fall windows and the room that they leave. Expected values are worked out by hand on a straight street."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.ground.surface import Surface
from humble_loop.kinds.fall_window.levels import all_windows, edges_at, room_on, window_of
from humble_loop.kinds.fall_window.model import FallWindow, add_window, set_window
from humble_loop.kinds.fall_window.show import facts_about_line, facts_of, room_sheet, sheet_of
from humble_loop.kinds.ground.model import Ground
from humble_loop.kinds.kerb_line.levels import KerbLevels
from humble_loop.kinds.kerb_line.model import KerbLine, KerbVip, add_kerb_line
from humble_loop.kinds.street import StreetLine
from humble_loop.kinds.street.cutting import split
from humble_loop.kinds.street.edits import reverse_street
from humble_loop.kinds.street.joining import joined, joints
from humble_loop.kinds.street.model import Street
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.kinds.tie.model import Source
from humble_loop.lines.describe import Fact, Window
from humble_loop.lines.room import no_room, rooms
from humble_loop.site.edits import EditError, changed, remove
from humble_loop.whole.findings import findings
from humble_loop.whole.tables import table
from tests import edits
from tests.conftest import examples, plane_ground
from tests.kinds.test_elements import E0, N0
from tests.kinds.test_sections import straight
from tests.kinds.test_ties import DROP, KERB, crown, old_kerb, on_ground, surveyed

BOUNDARY = Source(what="point", of="line", point="boundary", side="left")


def window(site, least, most, source=KERB, span=(0.0, 200.0), **values):
    return add_window(site, "line", "left", "lip", source, *span, least=least, most=most, **values)


def told(site, rule=None):
    found = [f for f in findings(Engine(site)) if f.of.kind == "fall_window"]
    return [f.rule for f in found] if rule is None else [f for f in found if f.rule == rule]


def edges(site, s, k=0):
    low, high, *_ = edges_at(Engine(site), site.all(FallWindow)[k].id, np.array([s]))
    return float(low[0]), float(high[0])


# What they leave


def test_levels_follow_from_true_distances_to_the_source():
    """The source leaves the lip by 1 in 100: the distance from the lip at s is the perpendicular on it, 0.01 s / √(1 + 1e-4)."""
    site = window(old_kerb(), 0.02, 0.05)
    away = 0.01 * 150.0 / np.sqrt(1.0001)
    z = 60.1 + 0.012 * 150.0 / 1.0001
    assert edges(site, 150.0) == pytest.approx((z - 0.05 * away, z - 0.02 * away), abs=1e-9)
    moved = window(old_kerb(), 0.02, 0.05, rise=-0.15, beyond=0.45)
    assert edges(moved, 150.0) == pytest.approx((z - 0.15 - 0.05 * (away + 0.45), z - 0.15 - 0.02 * (away + 0.45)))
    (made,) = all_windows(Engine(site), StreetLine("line", "lip", "left"))
    assert made.at(150.0) == pytest.approx((z - 0.05 * away, z - 0.02 * away), abs=1e-9)
    assert made.at(250.0) is None


def test_one_side_may_be_open_and_heights_are_over_the_ground():
    site = add_window(
        on_ground(0.0, 0.0, 60.5), "line", None, "crown", Source(), 20.0, 180.0, measure="height", least=0.04
    )
    (made,) = all_windows(Engine(site), StreetLine("line"))
    assert made.at(100.0) == (pytest.approx(60.54), np.inf)
    # The crown is at 60.2 at its beginning, 0.34 too low; it comes to 60.54 at 54.
    (f,) = told(site, "outside its fall window")
    assert "at 20.00 it lies 340 mm below" in f.message
    assert "from 20.00 to 54.00" in f.message
    assert f.limit == pytest.approx(60.54)


def test_a_height_is_over_the_surface_that_is_chosen():
    site = on_ground(0.0, 0.0, 60.5)
    first = site.all(Ground)[-1].id
    site = edits.add_ground(site, Ground(name="Rock", surface=plane_ground(0.01, 0.0, 59.0, 800.0).shifted(E0, N0)))
    rock, site = site.all(Ground)[-1].id, changed(site, current_ground=first)
    site = add_window(site, "line", None, "crown", Source(of=rock), 20.0, 180.0, measure="height", least=0.5, most=2.0)
    (made,) = all_windows(Engine(site), StreetLine("line"))
    assert made.at(100.0) == (pytest.approx(60.5), pytest.approx(62.0))


def test_a_fall_that_is_exactly_met_is_met():
    # From the crown to its lip at 3 %, as the section has it.
    crown_line = Source(what="point", of="line", point="crown")
    assert told(window(straight(), 0.03, 0.03, crown_line)) == []
    (f,) = told(window(straight(), 0.031, None, crown_line), "outside its fall window")
    assert "above what" in f.message
    assert "the fall there is 3.00 %" in f.message


@examples(25)
@given(
    st.lists(
        st.tuples(st.floats(0, 60), st.floats(5, 60), st.floats(-1, 1), st.floats(-0.5, 1.0)), min_size=1, max_size=4
    )
)
def test_what_is_left_is_what_all_of_them_leave(given_windows):
    made = []
    for begin, length, z, high in given_windows:
        s = np.linspace(begin, begin + length, 4)
        low = z + 0.3 * np.sin(s / 7.0)
        made.append(Window("w", s, low, low + 0.5 + high, "w"))
    for s in np.linspace(0.0, 120.0, 257):
        over = [w for w in made if w.chainages[0] < s < w.chainages[-1]]
        found = [r for r in rooms(made) if r.chainages[0] < s < r.chainages[-1]]
        if not over:
            assert not found
            continue
        if not found:
            continue  # just where one begins or ends
        (room,) = found
        low, high = max(w.at(s)[0] for w in over), min(w.at(s)[1] for w in over)
        assert np.interp(s, room.chainages, room.low) == pytest.approx(low, abs=1e-9)
        assert np.interp(s, room.chainages, room.high) == pytest.approx(high, abs=1e-9)


def test_edges_that_cross_change_what_rules_there():
    """Lows of s / 10 and 5 cross at 50: before, the second rules, then the first; 8 is the highest until 80, beyond which is no room."""
    s = np.array([0.0, 100.0])
    up = Window("up", s, s / 10.0, np.full(2, np.inf), "up")
    flat = Window("flat", s, np.full(2, 5.0), np.full(2, 8.0), "flat")
    (room,) = rooms([up, flat])
    assert {50.0, 80.0} <= set(room.chainages.tolist())
    assert np.interp(70.0, room.chainages, room.low) == pytest.approx(7.0)
    (n,) = no_room([up, flat])
    assert (n.lower, n.upper) == (0, 1)
    assert (n.finish, n.chainage) == (100.0, 100.0)
    assert n.short == pytest.approx(2.0)


# Together on a kerb line


def kerb(site, by=0.0):
    """The left lip with levels of its own, ``by`` above where its section has it."""
    vips = [KerbVip(chainage=s, level=crown(s) - DROP + by) for s in (0.0, 200.0)]
    return add_kerb_line(site, "line", "left", vips)


def test_a_kerb_line_has_windows_from_everything_and_the_room_left_of_them():
    """From the crown 2.5 to 4.5 %: 0.085 to 0.153 under it. From a line 2 m behind the lip, as high as the crown, 5 to 7 %: 0.1 to 0.14."""
    site = surveyed([(-10.0, 5.4, crown(-10.0)), (210.0, 5.4, crown(210.0))])
    site = window(kerb(site), 0.05, 0.07)
    line = KerbLevels(site.all(KerbLine)[0].id, "line")
    q = Engine(site)
    assert len(all_windows(q, line)) == 2
    (room,) = room_on(q, line)
    assert np.interp(100.0, room.chainages, room.low) == pytest.approx(crown(100.0) - 0.14)
    assert np.interp(100.0, room.chainages, room.high) == pytest.approx(crown(100.0) - 0.1)
    rows = room_sheet(q, line).rows
    assert rows[0].cells[2].value == "5.00 % to 7.00 % from Old kerb"
    assert rows[0].cells[6].value == pytest.approx(0.04)
    assert told(site) == []
    # With 0.3 m more above it there is none: from the line at least 0.3 - 0.14 above the crown.
    none = set_window(site, site.all(FallWindow)[0].id, rise=0.3)
    (f,) = told(none, "no room between fall windows")
    assert "5.00 % to 7.00 % from Old kerb" in f.message
    assert "crossfall 2.50 %" in f.message
    assert f.value == pytest.approx(0.3 - 0.14 + 0.085)
    assert "from 0.00 to 200.00" in f.message


def test_windows_move_with_what_they_fall_from():
    site = window(straight(), 0.01, 0.06, BOUNDARY)
    before = edges(site, 100.0)
    up = add_kerb_line(
        site, "line", "left", [KerbVip(chainage=s, level=crown(s) + 0.5) for s in (0.0, 200.0)], "boundary"
    )
    q = Engine(up)
    rise = float(edges_at(q, up.all(FallWindow)[0].id, np.array([100.0]))[2][0])
    assert rise == pytest.approx(crown(100.0) + 0.5)
    assert edges(up, 100.0)[0] - before[0] == pytest.approx(edges(up, 100.0)[1] - before[1])


# Nonsense and what is gone


def test_a_window_that_is_upside_down_is_refused_or_told_and_can_be_mended():
    with pytest.raises(EditError, match="the least is more than the most"):
        window(old_kerb(), 0.05, 0.02)
    with pytest.raises(EditError, match=r"must end beyond"):
        window(old_kerb(), 0.02, 0.05, span=(50.0, 50.0))
    site = window(old_kerb(), 0.02, 0.05)
    odd = site.put(site.all(FallWindow)[0].model_copy(update={"least": 0.06}))
    (f,) = [f for f in findings(Engine(odd)) if f.of.kind == "fall_window"]
    assert f.rule == "fall window upside-down"
    mended = f.mend.apply(odd).all(FallWindow)[0]
    assert (mended.least, mended.most) == (0.05, 0.06)


def test_a_source_that_is_gone_or_ends_early_is_told():
    site = window(surveyed([(20.0, 5.0, 60.0), (90.0, 5.0, 61.0)]), 0.0, None)
    (f,) = told(site, "fall window's source ends early")
    assert "from 20.00 to 90.00 only" in f.message
    gone = remove(site, SurveyLine, "old-kerb")
    assert told(gone) == ["fall window without its source"]
    assert all_windows(Engine(gone), StreetLine("line", "lip", "left")) == ()
    assert len(table(Engine(gone), "windows").rows) == 1
    far = window(surveyed([(500.0, 5.0, 60.0), (600.0, 5.0, 61.0)]), 0.0, None)
    assert told(far) == ["fall window's source ends early"]


# The street changes


def test_a_window_stays_where_it_is_when_the_street_is_turned_cut_and_joined(tmp_path):
    site = window(old_kerb(), 0.02, 0.05, span=(20.0, 150.0), rise=0.1)
    wanted = {s: edges(site, s) for s in (30.0, 140.0)}
    turned = reverse_street(site, "line", 200.0)
    for s, z in wanted.items():
        assert edges(turned, 200.0 - s) == pytest.approx(z)
    runs = {f.label: f for f in facts_of(Engine(turned), site.all(FallWindow)[0].id) if isinstance(f, Fact)}
    assert (runs["begins"].value, runs["ends"].value) == (50.0, 180.0)
    assert runs["begins"].edit(60.0)(turned).all(FallWindow)[0].finish == 140.0
    parted = split(Engine(site), "line", 100.0)(site)
    assert [(w.street, *w.span) for w in parted.all(FallWindow)] == [
        ("line", 20.0, pytest.approx(100.0)),
        (parted.all(Street)[1].id, pytest.approx(0.0), pytest.approx(50.0)),
    ]
    q = Engine(parted)
    again = joined(q, "line", "end", joints(q, "line", "end")[0])(parted)
    assert sorted(w.span for w in again.all(FallWindow))[1][1] == pytest.approx(150.0)
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").all(FallWindow) == site.all(FallWindow)


# Made and read


def test_a_window_is_added_with_typical_limits_and_changed_in_its_facts():
    site = kerb(on_ground(0.0, 0.0, 60.0))
    q = Engine(site)
    ((_, edit),) = facts_about_line(q, KerbLevels(site.all(KerbLine)[0].id, "line"))[0].buttons
    made = edit(site)
    (w,) = made.all(FallWindow)
    assert (w.point, w.side, w.source.point, w.least, w.most) == ("lip", "left", "boundary", 0.01, 0.06)
    ((_, on_crown),) = facts_about_line(q, StreetLine("line"))[0].buttons
    assert on_crown(site).all(FallWindow)[0].measure == "height"
    facts = {getattr(f, "label", ""): f for f in facts_of(Engine(made), w.id)}
    assert facts["at least"].edit(0.02)(made).all(FallWindow)[0].least == 0.02
    high = facts["asks for"].edit("height")(made).all(FallWindow)[0]
    assert (high.measure, high.most) == ("height", None)
    assert window_of(Engine(made), w.id) is not None
    assert len(sheet_of(Engine(made), w.id).rows) > 5


def test_the_table_tells_source_distance_limits_and_fall():
    site = window(old_kerb(), 0.02, 0.05)
    made = table(Engine(site), "windows", "Line", 50.0)
    row = dict(zip(made.columns, made.rows[2]))
    away, z = 0.01 * 100.0 / np.sqrt(1.0001), 60.1 + 0.012 * 100.0 / 1.0001
    assert row["window"] == "2.00 % to 5.00 % from Old kerb"
    assert row["distance"] == pytest.approx(away, abs=1e-9)
    assert row["lowest"] == pytest.approx(z - 0.05 * away, abs=1e-9)
    assert row["fall"] == pytest.approx((z - (crown(100.0) - DROP)) / away)


def test_nothing_is_asked_across_a_gap_in_the_source():
    """The ground has a hole from 80 to 120: the window goes on from there, the longer of both stretches, to 200."""
    left = [[0, 1, 2], [1, 3, 2]]
    points = [(x, y, 60.5) for x in (-10.0, 80.0) for y in (-30.0, 30.0)]
    points += [(x, y, 60.5) for x in (120.0, 260.0) for y in (-30.0, 30.0)]
    surface = Surface(np.array(points), np.array([*left, *[[k + 4 for k in t] for t in left]])).shifted(E0, N0)
    site = edits.add_ground(straight(), Ground(name="Holed", surface=surface))
    site = add_window(site, "line", None, "crown", Source(), 10.0, 195.0, measure="height", least=0.0)
    (made,) = all_windows(Engine(site), StreetLine("line"))
    assert (made.chainages[0], made.chainages[-1]) == (pytest.approx(120.0, abs=1e-6), 195.0)
    assert told(site, "fall window's source ends early")
