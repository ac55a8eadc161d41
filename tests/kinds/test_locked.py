"""VIPs that are locked stay as they are, whatever is dragged, typed, raised, rounded or proposed."""

import numpy as np
import pytest

from humble_loop.demo import repeated_site
from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.street import Street, Vip
from humble_loop.kinds.street.checks import level_findings
from humble_loop.kinds.street.edits import (
    lock_vip,
    propose_again,
    raise_vips,
    remove_vip,
    reverse_street,
    set_vip,
    unlock_vip,
)
from humble_loop.kinds.street.grade_handles import rounded, section_handles
from humble_loop.kinds.street.grades import grade_sheet, locking, vip_rows
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.plan import class_of, ground_along
from humble_loop.site.edits import EditError, changed, set_settings
from tests import edits
from tests.kinds.test_grade_handles import graded

SITE = lock_vip(graded((0.0, 10.013, 0), (97.4, 14.031, 60), (300, 10, 0)), "line", 1, 14.031)
COURT = "kiln-court"


def told(site, street="line"):
    return [(r.chainage, r.level, r.state) for r in vip_rows(Engine(site), street)]


def test_a_locked_vip_is_neither_typed_nor_dragged_nor_removed():
    for edit in (
        lambda s: set_vip(s, "line", 1, level=15.0),
        lambda s: set_vip(s, "line", 1, chainage=90.0),
        lambda s: set_vip(s, "line", 1, grade=0.02),
        lambda s: set_vip(s, "line", 1, curve_length=10.0),
        lambda s: remove_vip(s, "line", 1),
        next(h for h in section_handles(Engine(SITE), "line") if h.key == ("vip", "line", 1)).moved((97.4, 15.0))[0],
    ):
        with pytest.raises(EditError, match=r"97\.40 is locked: unlock it first"):
            edit(SITE)
    assert set_vip(SITE, "line", 2, level=11.0).find(Street, "line").vips[2].level == 11.0


def test_it_stays_when_the_line_is_raised_or_rounded_and_when_it_is_turned_round():
    raised = raise_vips(SITE, "line", 0.5)
    assert [z for _, z, _ in told(raised)] == pytest.approx([10.513, 14.031, 10.5])
    round_ = rounded(Engine(SITE), "line", 10.0, 0.02)(SITE)
    assert [s for s, _, _ in told(round_)] == pytest.approx([0.0, 97.4, 300.0])
    assert [z for _, z, _ in told(round_)] == pytest.approx([10.02, 14.031, 10.0])
    turned = reverse_street(SITE, "line", 300.0)
    assert [v.locked for v in turned.find(Street, "line").vips] == [False, True, False]
    assert turned.find(Street, "line").vips[1].chainage == pytest.approx(202.6)


def test_legs_turn_about_it_and_it_has_no_curve_to_be_dragged():
    handles = {h.key: h for h in section_handles(Engine(SITE), "line")}
    assert not [k for k in handles if str(k[0]).startswith("curve")]
    leg = handles["leg", "line", 0]
    edit, _ = leg.moved((leg.place[0], leg.place[1] + 0.25))
    assert [z for _, z, _ in told(edit(SITE))] == pytest.approx([10.513, 14.031, 10.0])
    assert leg.rule(Engine(SITE)) == "turns about its locked end"
    both = lock_vip(SITE, "line", 2, 10.0)
    assert ("leg", "line", 1) not in {h.key for h in section_handles(Engine(both), "line")}


def test_a_vip_set_by_its_grade_keeps_its_level_when_it_is_locked():
    site = edits.set_vips(SITE, "line", [Vip(chainage=0.0, level=10.0), Vip(chainage=200.0, grade=0.03)])
    assert locking(Engine(site), "line", 7) == ()  # one that was in hand, and is gone
    ((words, lock),) = locking(Engine(site), "line", 1)
    assert words == "Lock the VIP"
    vip = lock(site).find(Street, "line").vips[1]
    assert (vip.level, vip.grade, vip.locked) == (pytest.approx(16.0), None, True)
    with pytest.raises(EditError, match="needs a level"):
        changed(vip, level=None, grade=0.03)


def test_between_locked_vips_the_line_is_proposed_again():
    site = repeated_site(1)
    before = told(site, COURT)
    assert before[-1][2] == "proposed"
    made = grade_line(Engine(site), COURT)
    s = round(float(made.profile.chainages[:2].mean()), 2)
    held = float(np.interp(s, *_ground(site)) + 0.4)
    locked = edits.set_vips(site, COURT, [Vip(chainage=s, level=held, curve_length=12.0, locked=True)])
    again = propose_again(locked, COURT)
    line = grade_line(Engine(again), COURT)
    k = line.states.index("locked")
    assert (line.profile.chainages[k], line.profile.levels[k], line.profile.curves[k]) == pytest.approx((s, held, 12.0))
    assert set(line.states) == {"tied", "locked", "proposed"}
    assert line.index[k] == 0
    # Dragging a proposed one sets the line as it stands, and the locked one stays locked.
    last = next(h for h in section_handles(Engine(again), COURT) if h.key == ("vip", COURT, len(line.states) - 1))
    fresh = last.moved((last.place[0], last.place[1] + 0.1))[0](again)
    assert [v.locked for v in fresh.find(Street, COURT).vips].count(True) == 1
    assert not fresh.find(Street, COURT).proposed_between
    # Unlocked, it goes: the whole line is proposed as before.
    assert told(unlock_vip(again, COURT, 0), COURT) == before


def _ground(site):
    ground = ground_along(Engine(site), COURT)
    return ground.chainages, ground.levels


def test_a_proposed_vip_is_locked_where_it_stands_and_the_rest_stays_proposed():
    site = repeated_site(1)
    line = grade_line(Engine(site), COURT)
    k = len(line.states) - 1
    ((words, lock),) = locking(Engine(site), COURT, k)
    fresh = lock(site)
    assert words == "Lock the VIP"
    after = grade_line(Engine(fresh), COURT)
    assert after.states[-1] == "locked"
    assert after.profile.levels[-1] == line.profile.levels[-1]
    assert fresh.find(Street, COURT).proposed_between
    row = grade_sheet(Engine(fresh), COURT).rows[-1]
    assert [words for words, _ in row.actions] == ["Unlock the VIP"]
    assert all(cell is None or cell.edit is None for cell in row.cells)


def test_locks_are_kept_in_the_file(tmp_path):
    site = propose_again(edits.set_vips(repeated_site(1), COURT, [Vip(chainage=50.0, level=41.0, locked=True)]), COURT)
    save_site(site, tmp_path / "locked.hloop")
    assert load_site(tmp_path / "locked.hloop").find(Street, COURT) == site.find(Street, COURT)


def test_a_line_cannot_be_proposed_between_vips_that_are_not_locked():
    street = SITE.find(Street, "line")
    with pytest.raises(EditError, match="only between locked VIPs"):
        changed(street, proposed_between=True)


def test_a_proposal_that_leaves_its_tolerance_is_a_finding_at_the_worst_place():
    """A locked VIP well off the ground makes any line through it leave the tube: 1.5 m of fill where 0.6 m is wanted."""
    site = repeated_site(1)
    q = Engine(site)
    assert not [f for f in level_findings(q, COURT) if f.rule == "proposal leaves its tolerance"]
    ground, s = ground_along(q, COURT), 60.0
    z = float(np.interp(s, ground.chainages, ground.levels)) + 1.5
    locked = propose_again(edits.set_vips(site, COURT, [Vip(chainage=s, level=z, locked=True)]), COURT)
    told_of = [f for f in level_findings(Engine(locked), COURT) if f.rule == "proposal leaves its tolerance"]
    (found,) = [f for f in told_of if "fill" in f.message]
    assert found.severity == "near"
    assert found.value == pytest.approx(1.5, abs=0.35)
    assert found.limit == class_of(q, COURT).fill_tolerance
    assert abs(found.chainage - s) < 15.0


def test_a_locked_vip_beyond_the_end_is_a_finding_that_unlocks_it():
    site = propose_again(
        edits.set_vips(repeated_site(1), COURT, [Vip(chainage=4000.0, level=41.0, locked=True)]), COURT
    )
    (found,) = [f for f in level_findings(Engine(site), COURT) if f.rule == "locked VIP off the line"]
    assert "4000.00" in found.message
    assert not found.mend.edit(site).find(Street, COURT).vips


def test_units_do_not_matter_to_what_is_locked():
    feet = set_settings(SITE, units="ft")
    assert told(feet) == told(SITE)
