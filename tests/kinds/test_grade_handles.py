"""Handles of a grade line: legs moved parallel or about a tied end, curves by their ends and through a level; rounding."""

import pytest

from humble_loop.demo import repeated_site
from humble_loop.engine.query import Engine
from humble_loop.kinds.street import Bend, Street, Vip
from humble_loop.kinds.street.grade_handles import rounded, section_handles
from humble_loop.kinds.street.grades import vip_rows
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.plan import StreetLine
from humble_loop.lines.line import line
from humble_loop.site.edits import EditError
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from tests import edits


def graded(*vips, length=300.0):
    """A street eastwards with VIPs (chainage, level, curve)."""
    site = edits.add_street(new_site(), "Line", [Bend(easting=0.0, northing=0.0), Bend(easting=length, northing=0.0)])
    return edits.set_vips(site, "line", [Vip(chainage=s, level=z, curve_length=c) for s, z, c in vips])


SITE = graded((0, 10, 0), (100, 14, 60), (300, 10, 0))  # +4 % and -2 %


def handle(site, key, street="line"):
    return next(h for h in section_handles(Engine(site), street) if h.key == key)


def levels(site, street="line"):
    return [v.level for v in vip_rows(Engine(site), street)]


def test_a_leg_is_moved_parallel():
    h = handle(SITE, ("leg", "line", 0))
    assert h.place == pytest.approx((50.0, 12.0))
    edit, (raised, grade) = h.moved((50.0, 12.75))
    assert levels(edit(SITE)) == pytest.approx([10.75, 14.75, 10.0])
    assert raised.value == pytest.approx(0.75)
    assert grade.value == pytest.approx(0.04)  # parallel


def test_a_leg_turns_about_its_first_vip_by_a_typed_grade():
    typed = {t.unit: t.edit for t in handle(SITE, ("leg", "line", 0)).typed}
    assert levels(typed["grade"](0.03)(SITE)) == pytest.approx([10.0, 13.0, 10.0])
    assert levels(typed["level"](-0.5)(SITE)) == pytest.approx([9.5, 13.5, 10.0])


def test_a_leg_turns_about_a_tied_end():
    site = repeated_site(1)
    q = Engine(site)
    assert grade_line(q, "ember-loop").states[0] == "tied"
    before = levels(site, "ember-loop")
    h = handle(site, ("leg", "ember-loop", 0), "ember-loop")
    edit, _ = h.moved((h.place[0], h.place[1] + 0.1))
    after = levels(edit(site), "ember-loop")
    assert after[0] == pytest.approx(before[0])
    assert after[1] == pytest.approx(before[1] + 0.2, abs=6e-4)  # the middle follows the hand
    # The grades after it were set, so they stay, and what follows moves with it.
    assert [v.grade for v in edit(site).find(Street, "ember-loop").vips[1:]] == [
        v.grade for v in site.find(Street, "ember-loop").vips[1:]
    ]
    assert after[2:] == pytest.approx([z + after[1] - before[1] for z in before[2:]])


def test_a_leg_of_a_proposed_line_sets_it_as_it_stands_but_for_the_leg():
    site = repeated_site(1)
    before = levels(site, "kiln-court")
    h = handle(site, ("leg", "kiln-court", 0), "kiln-court")
    edit, _ = h.moved((h.place[0], h.place[1] - 0.05))
    fresh = edit(site)
    assert fresh.find(Street, "kiln-court").vips
    assert levels(fresh, "kiln-court")[-1] == pytest.approx(before[-1] - 0.1, abs=2e-3)


def test_a_curve_takes_its_length_from_its_ends_but_no_more_than_there_is_room_for():
    h = handle(SITE, ("curve end", "line", 1))
    assert h.place == pytest.approx((130.0, 14.0 - 0.02 * 30.0))
    edit, (length, k) = h.moved((140.0, 0.0))
    assert vip_rows(Engine(edit(SITE)), "line")[1].curve == pytest.approx(80.0)
    assert length.value == pytest.approx(80.0)
    assert k.value == pytest.approx(80.0 / 6.0)
    edit, _ = handle(SITE, ("curve start", "line", 1)).moved((-90.0, 0.0))
    assert vip_rows(Engine(edit(SITE)), "line")[1].curve == pytest.approx(200.0)  # twice the way to the nearer VIP
    edit, _ = h.moved((100.0, 0.0))
    assert vip_rows(Engine(edit(SITE)), "line")[1].curve == 0.0
    assert {t.prefix for t in h.typed} == {"", "k"}
    by_k = next(t.edit for t in h.typed if t.prefix == "k")
    assert vip_rows(Engine(by_k(12.0)(SITE)), "line")[1].curve == pytest.approx(72.0)


def test_a_curve_passes_through_a_level():
    h = handle(SITE, ("curve middle", "line", 1))
    # It departs from the VIP by 6 % of 60 m over 8: 0.45 m.
    assert h.place == pytest.approx((100.0, 13.55))
    edit, _ = h.moved((100.0, 13.25))
    fresh = edit(SITE)
    assert vip_rows(Engine(fresh), "line")[1].curve == pytest.approx(100.0)
    assert grade_line(Engine(fresh), "line").profile.level([100.0])[0] == pytest.approx(13.25)
    edit, _ = h.moved((100.0, 15.0))  # on the other side of the VIP no curve passes
    assert vip_rows(Engine(edit(SITE)), "line")[1].curve == 0.0


def test_a_curve_beyond_the_ends_of_the_line_keeps_its_handles_on_it():
    site = graded((0, 10, 0), (20, 14, 500), (300, 10, 0))
    for h in section_handles(Engine(site), "line"):
        assert 0.0 <= h.place[0] <= 300.0
        assert abs(h.place[1]) < 1e3
        assert h.place[1] == h.place[1]  # a number


def test_a_sharp_vip_and_a_tied_one_have_no_curve_handles():
    site = graded((0, 10, 0), (100, 14, 0), (300, 10, 0))
    assert not [h for h in section_handles(Engine(site), "line") if str(h.key[0]).startswith("curve")]


def test_vips_are_rounded_and_do_not_run_into_one_another():
    site = graded((0.0, 10.013, 0), (97.4, 14.031, 20), (103.9, 14.2, 0), (251.0, 12.0, 0), (300.0, 10.0, 0))
    fresh = rounded(Engine(site), "line", 10.0, 0.02)(site)
    vips = fresh.find(Street, "line").vips
    assert [v.chainage for v in vips] == pytest.approx([0.0, 97.4, 103.9, 250.0, 300.0]) or [
        v.chainage for v in vips
    ] == pytest.approx([0.0, 100.0, 103.9, 250.0, 300.0])
    assert [v.level for v in vips] == pytest.approx([10.02, 14.04, 14.2, 12.0, 10.0])
    assert vips[1].curve_length == 20.0


def test_a_street_that_is_rounded_twice_stays_as_it_is():
    site = graded((0.0, 10.013, 0), (97.4, 14.031, 20), (181.0, 12.0, 0), (300.0, 10.0, 0))
    once = rounded(Engine(site), "line", 10.0, 0.02)(site)
    assert rounded(Engine(once), "line", 10.0, 0.02)(once).find(Street, "line") == once.find(Street, "line")


def test_a_leg_between_tied_ends_has_no_handle():
    # A street that leaves one street and ends on another: what is proposed between two throats has both ends tied.
    site = new_site()
    for name, ends in (("West", ((0, -50), (0, 50))), ("East", ((60, -50), (60, 50))), ("Link", ((0, 0), (60, 0)))):
        site = edits.add_street(site, name, [Bend(easting=x, northing=y) for x, y in ends])
    for name, length in (("west", 100.0), ("east", 100.0), ("link", 60.0)):
        site = edits.set_vips(site, name, [Vip(chainage=0.0, level=10.0), Vip(chainage=length, level=11.0)])
    made = grade_line(Engine(site), "link")
    keys = [h.key[0] for h in section_handles(Engine(site), "link")]
    assert made.states == ("tied", "tied")
    assert keys == ["vip", "vip"]
    vip = next(h for h in section_handles(Engine(site), "link") if h.key == ("vip", "link", 0))
    with pytest.raises(EditError, match="tied to the other street"):
        vip.moved((0.0, 12.0))[0](site)


@pytest.mark.parametrize("locked", [False, True])
def test_a_grade_line_that_is_too_short_is_run_on_as_it_falls(locked):
    """From 10 to 80 of 100 m, at 2 % and then −1 %: 30.0 − 0.2 at its start, and 31.0 − 0.2 at its end."""
    site = edits.add_street(
        new_site(),
        "S",
        [Bend(easting=0, northing=0), Bend(easting=100, northing=0)],
        vips=(
            Vip(chainage=10, level=30.0, locked=locked),
            Vip(chainage=70, level=31.2, curve_length=10),
            Vip(chainage=80, level=31.1, locked=locked),
        ),
    )
    (found,) = [f for f in findings(Engine(site)) if f.rule == "grade line too short"]
    assert found.mend.words == "Run it on as it falls"
    mended = Engine(found.mend.apply(site))
    assert not [f for f in findings(mended) if f.rule == "grade line too short"]
    crown = line(mended, StreetLine("s")).rule
    assert crown.levels([0.0, 10.0, 75.0, 80.0, 100.0]) == pytest.approx([29.8, 30.0, 31.15, 31.1, 30.9])
    vips = mended.site.all(Street)[0].vips
    assert [v.chainage for v in vips] == ([0.0, 10.0, 70.0, 80.0, 100.0] if locked else [0.0, 70.0, 100.0])
