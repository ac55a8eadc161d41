"""Streets cut back, run on and split: what stays lies where it lay, and what hangs on it stays where it stands."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.demo import repeated_site
from humble_loop.engine.query import Engine
from humble_loop.kinds.junction.model import JunctionChoice, set_corner
from humble_loop.kinds.lot.layout import lots_of_row, placed_pads
from humble_loop.kinds.lot.model import LotRow, PadChoice, set_pad
from humble_loop.kinds.street import Bend, Street, StreetLine, Vip
from humble_loop.kinds.street.cutting import cut_line, extended, split, trimmed
from humble_loop.kinds.street.ends import end_sheet, reached
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.street.section_edits import add_change
from humble_loop.kinds.turning_head.model import TurningHead
from humble_loop.lines.line import line
from humble_loop.site.edits import EditError
from tests import edits
from tests.conftest import court_site, examples
from tests.kinds.test_grade_handles import graded

LOOP, COURT = "ember-loop", "kiln-court"
CREST = graded((0, 10, 0), (100, 16, 80), (180, 16.5, 40), (300, 10, 0))


def crown(site, street, s):
    q = Engine(site)
    made = line(q, StreetLine(street))
    return np.column_stack([chain_of(q, street).points_at(s), made.rule.levels(np.asarray(s, dtype=float))])


def total(site, street):
    return chain_of(Engine(site), street).total


@given(st.floats(1.0, 299.0))
@examples(25)
def test_both_parts_of_a_grade_line_lie_where_it_lay(s):
    whole = grade_line(Engine(CREST), "line")
    first, second = cut_line(whole, s)
    for vips, begin, length in ((first, 0.0, s), (second, s, 300.0 - s)):
        site = edits.set_street(CREST, "line", vips=vips)
        p = grade_line(Engine(site), "line").profile
        t = np.linspace(0.0, length, 50)
        assert p.level(t) == pytest.approx(whole.profile.level(begin + t), abs=1e-6)
        assert not p.overlaps() or max(over for _, over in p.overlaps()) < 1e-6


@pytest.mark.parametrize("turned", [False, True])
@pytest.mark.parametrize("share", [0.3, 0.62])
def test_a_street_is_split_and_lies_where_it_lay(share, turned):
    site = court_site()
    if turned:
        site = edits.reverse_street(site, "court", total(site, "court"))
    length = total(site, "court")
    s = round(share * length, 2)
    before = crown(site, "court", np.linspace(1.0, length - 1.0, 30))
    fresh = split(Engine(site), "court", s)(site)
    other = next(t.id for t in fresh.all(Street) if t.id not in ("through", "court"))
    assert fresh.find(Street, other).name == "Court 2"
    # The head stands at the end at which it stood, and the junction's end is the part that was drawn first.
    assert fresh.find(TurningHead, f"{other}:end").street == other
    assert not fresh.find(TurningHead, "court:end")
    run = ("court", other) if not turned else (other, "court")
    t = np.linspace(1.0, length - 1.0, 30)
    after = np.concatenate([crown(fresh, run[0], t[t < s]), crown(fresh, run[1], t[t >= s] - s)])
    assert np.hypot(*(after - before)[:, :2].T).max() < 1e-6
    level = np.isfinite(before[:, 2]) & np.isfinite(after[:, 2])
    assert level.sum() > 20
    assert after[level, 2] == pytest.approx(before[level, 2], abs=1e-6)


def lots(site, row):
    made = lots_of_row(Engine(site), row)
    return {f.number: 0.5 * (f.first.front + f.last.front) for f in made}


@pytest.mark.parametrize("turned", [False, True])
def test_rows_of_lots_are_divided_with_what_was_set_on_them(turned):
    site = court_site()
    rows = [r.id for r in site.all(LotRow)]
    left = rows[0]
    numbers = sorted(lots(site, left))
    where = {}
    for k, number in enumerate((numbers[0], numbers[-2])):
        f = next(f for f in lots_of_row(Engine(site), left) if f.number == number)
        site = set_pad(site, left, number, 40.0 + k, f.along)
        where[40.0 + k] = 0.5 * (f.first.front + f.last.front)
    if turned:
        site = edits.reverse_street(site, "court", total(site, "court"))
    s = 0.4 * total(site, "court") if not turned else 0.6 * total(site, "court")
    fresh = split(Engine(site), "court", s)(site)
    assert len(fresh.all(LotRow)) == len(rows) + 2  # left and right are divided, the head's goes along
    assert fresh.find(LotRow, rows[2]).street == "court-2"
    q = Engine(fresh)
    found = {}
    for row in fresh.all(LotRow):
        placed = placed_pads(q, row.id)
        assert not placed.lost
        for id, choice in placed.choices:
            f = next(f for f in lots_of_row(q, row.id) if f.id == id)
            found[choice.level] = 0.5 * (f.first.front + f.last.front)
    assert set(found) == {40.0, 41.0}
    for level, place in found.items():
        assert np.hypot(*(place - where[level])) < 1e-6
    assert {fresh.find(PadChoice, p.id).row for p in fresh.all(PadChoice)} == {left, "court-left-2"}


def test_a_junctions_choice_goes_with_its_end():
    site = set_corner(repeated_site(1), LOOP, "start", "left", radius=9.0)
    site = set_corner(site, LOOP, "end", "left", radius=7.5)
    fresh = split(Engine(site), LOOP, 60.0)(site)
    assert fresh.find(JunctionChoice, f"{LOOP}:start").left.radius == 9.0
    assert fresh.find(JunctionChoice, "ember-loop-2:end").left.radius == 7.5


def test_a_street_is_cut_back_at_either_end_and_what_is_left_lies_where_it_lay():
    site = CREST
    short = trimmed(Engine(site), "line", "end", 130.0)(site)
    t = np.linspace(0.0, 130.0, 40)
    assert crown(short, "line", t) == pytest.approx(crown(site, "line", t), abs=1e-6)
    assert total(short, "line") == pytest.approx(130.0)
    short = trimmed(Engine(site), "line", "start", 130.0)(site)
    assert crown(short, "line", t) == pytest.approx(crown(site, "line", 130.0 + t), abs=1e-6)


def test_lots_stay_where_they_stand_when_the_beginning_is_cut_off():
    site = court_site()
    before = {tuple(np.round(p, 1)) for p in lots(site, "court-right").values()}
    start = site.find(LotRow, "court-right").start
    fresh = trimmed(Engine(site), "court", "start", 25.0)(site)
    assert fresh.find(LotRow, "court-right").start == pytest.approx(start - 25.0)
    after = {tuple(np.round(p, 1)) for p in lots(fresh, "court-right").values()}
    assert after == before


def test_a_street_runs_on_straight_at_its_last_grade():
    site = CREST
    q = Engine(site)
    for end, at in (("end", 300.0), ("start", 0.0)):
        longer = extended(q, "line", end, 20.0)(site)
        assert total(longer, "line") == pytest.approx(320.0)
        shift = 20.0 if end == "start" else 0.0
        t = np.linspace(5.0, 295.0, 30)
        assert crown(longer, "line", t + shift) == pytest.approx(crown(site, "line", t), abs=1e-6)
        tip = crown(longer, "line", [320.0 if end == "end" else 0.0])[0]
        grade = (10.0 - 16.5) / 120.0 if end == "end" else -0.06
        assert tip[2] == pytest.approx(10.0 + 20.0 * grade)
        assert tip[0] == pytest.approx(at + (20.0 if end == "end" else -20.0))
        assert len(longer.find(Street, "line").vips) == 4


def test_a_street_that_falls_short_of_another_is_taken_to_it():
    site = graded((0, 10, 0), (300, 13, 0))
    site = edits.add_street(site, "Across", [Bend(easting=340.0, northing=y) for y in (-60.0, 60.0)])
    site = edits.add_street(site, "Before", [Bend(easting=260.0, northing=y) for y in (-60.0, 60.0)])
    for other in ("across", "before"):
        site = edits.set_vips(site, other, [Vip(chainage=0.0, level=12.0), Vip(chainage=120.0, level=13.0)])
    q = Engine(site)
    assert [(r.name, pytest.approx(r.chainage)) for r in reached(q, "line", "end")] == [
        ("Across", 340.0),
        ("Before", 260.0),
    ]
    rows = [r for r in end_sheet(q, "line").rows if r.cells[0].value == "end"]
    ((words, run_on),) = rows[0].actions
    assert words == "Run on to Across"
    assert rows[0].cells[4].value == pytest.approx(40.0)
    assert np.ptp(rows[0].points[:, 0]) == pytest.approx(40.0)  # what is added is lit up
    longer = run_on(site)
    assert total(longer, "line") == pytest.approx(340.0)
    assert grade_line(Engine(longer), "line").states[-1] == "tied"  # it is a junction now
    ((words, cut),) = rows[1].actions
    assert words == "Cut back to Before"
    assert total(cut(site), "line") == pytest.approx(260.0)


def test_cuts_that_cannot_be_made_say_why():
    q = Engine(CREST)
    with pytest.raises(EditError, match="at least 0"):
        split(q, "line", 0.1)(CREST)
    changing = add_change(CREST, "line", 100.0)
    with pytest.raises(EditError, match="changes its section from 100"):
        split(Engine(changing), "line", 104.0)(changing)
    fresh = split(Engine(changing), "line", 150.0)(changing)
    assert fresh.find(Street, "line-2").section == changing.find(Street, "line").changes[0].section
    assert not fresh.find(Street, "line-2").changes
    sharp = edits.add_street(
        CREST,
        "Bent",
        [
            Bend(easting=0, northing=50),
            Bend(easting=100, northing=50, radius=40, transition_in=20, transition_out=20),
            Bend(easting=150, northing=150),
        ],
    )
    laid = chain_of(Engine(sharp), "bent")
    with pytest.raises(EditError, match="within a transition"):
        split(Engine(sharp), "bent", float(laid.starts[1]) + 5.0)(sharp)


def test_locked_vips_stay_locked_in_both_parts():
    site = edits.set_vips(
        CREST,
        "line",
        [
            *CREST.find(Street, "line").vips[:1],
            Vip(chainage=250.0, level=11.0, locked=True),
            Vip(chainage=300.0, level=10.0),
        ],
    )
    fresh = split(Engine(site), "line", 120.0)(site)
    assert [(v.chainage, v.locked) for v in fresh.find(Street, "line-2").vips] == [
        (0.0, False),
        (130.0, True),
        (180.0, False),
    ]


@pytest.mark.parametrize("turned", [False, True])
@pytest.mark.parametrize("end", ["start", "end"])
def test_lots_stay_where_they_stand_when_the_street_runs_on(end, turned):
    """Also a row that goes as far as the street does, with what was set on it."""
    site = edits.add_street(
        court_site(), "Lane", [Bend(easting=0.0, northing=120.0), Bend(easting=130.0, northing=120.0)]
    )
    site = edits.add_lot_row(site, "lane", "left")
    if turned:
        site = edits.reverse_street(edits.set_vips(site, "lane", []), "lane", 130.0)
    row = site.all(LotRow)[-1].id
    assert site.find(LotRow, row).start is None
    lot = lots_of_row(Engine(site), row)[1]
    site = set_pad(site, row, lot.number, 44.0, lot.along)
    before = lots(site, row)
    fresh = extended(Engine(site), "lane", end, 37.0)(site)
    after = lots(fresh, row)
    assert after.keys() == before.keys()
    assert all(np.hypot(*(after[k] - before[k])) < 1e-6 for k in before)
    assert dict(placed_pads(Engine(fresh), row).choices)[lot.id].level == 44.0


@pytest.mark.parametrize("end", ["start", "end"])
def test_lots_that_are_left_keep_their_places_and_numbers_when_a_street_is_cut_back(end):
    site = edits.add_street(
        court_site(), "Lane", [Bend(easting=0.0, northing=120.0), Bend(easting=130.0, northing=120.0)]
    )
    site = edits.add_lot_row(site, "lane", "left")
    row = site.all(LotRow)[-1].id
    before = lots(site, row)
    fresh = trimmed(Engine(site), "lane", end, 70.0)(site)
    after = lots(fresh, row)
    assert 2 <= len(after) < len(before)
    assert all(np.hypot(*(after[k] - before[k])) < 1e-6 for k in after)
