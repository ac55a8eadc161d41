"""Fixed falls: a level of a head or a knuckle that follows another line's by a stated fall or difference."""

import numpy as np
import pytest

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.corners import ReturnLine
from humble_loop.kinds.junction.model import JunctionChoice, ReturnLevel
from humble_loop.kinds.junction.profiles import level_handles
from humble_loop.kinds.junction.profiles import level_sheet as return_sheet
from humble_loop.kinds.junction.settling import settling, taken
from humble_loop.kinds.kerb_line.levels import KerbLevels
from humble_loop.kinds.kerb_line.model import KerbLine as OwnLevels
from humble_loop.kinds.kerb_line.model import KerbVip, add_kerb_line, set_kerb_vip
from humble_loop.kinds.kerb_line.proposals import proposal_sheet as kerb_proposals
from humble_loop.kinds.kerb_line.show import sheet_of as kerb_sheet
from humble_loop.kinds.knuckle import Knuckle
from humble_loop.kinds.knuckle.layout import lip_rule, ring
from humble_loop.kinds.knuckle.show import offers as knuckle_offers
from humble_loop.kinds.roundabout import CircleLine, KerbLine, Roundabout
from humble_loop.kinds.roundabout.layout import kerb_after
from humble_loop.kinds.roundabout.place import sizes_of
from humble_loop.kinds.roundabout.profiles import level_sheet as round_sheet
from humble_loop.kinds.street import Street, StreetLine
from humble_loop.kinds.street.cutting import split
from humble_loop.kinds.street.edits import propose_again, remove_street, set_vip, unlock_vip
from humble_loop.kinds.street.grades import grade_sheet
from humble_loop.kinds.street.joining import joined, joints
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.model import Bend, Vip
from humble_loop.kinds.turning_head import TurningHead
from humble_loop.kinds.turning_head.layout import outline
from humble_loop.kinds.turning_head.levels import ring_levels
from humble_loop.kinds.turning_head.model import HeadVip
from humble_loop.kinds.turning_head.vips import lip_sheet, offers, section_handles
from humble_loop.lines.anchor import anchor_to, anchored_line, by_words, let_follow, rejoined_anchor
from humble_loop.lines.describe import Fact
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.site.edits import EditError
from humble_loop.site.libraries import new_site
from humble_loop.site.model import Anchor
from humble_loop.whole.findings import findings
from humble_loop.whole.following import followings
from humble_loop.whole.things import things_of
from tests import edits
from tests.conftest import lane_section, plane_ground, t_site
from tests.kinds.test_heads import HEAD, ended
from tests.kinds.test_knuckles import ID, THING, TOTAL, knuckled
from tests.kinds.test_roundabouts import ID as RID
from tests.kinds.test_roundabouts import cross

CROWN = Anchor(kind="street", of="s", line="crown", fall=0.02)


def held(fall=0.02, **more):
    """A bulb whose lip opposite the street follows the crown's end, 11.5 m away."""
    anchor = Anchor(kind="street", of="s", line="crown", fall=fall) if "anchor" not in more else more["anchor"]
    return ended(vips=(HeadVip(share=0.5, level=20.0, curve_length=0.0, follows=anchor),))


def head_of(site):
    return site.all(TurningHead)[0]


def level_at(q, share=0.5):
    return float(ring_levels(q, "s", "end").rule.levels([share * outline(q, "s", "end").ring.total])[0])


def test_a_level_falls_from_the_crown_at_once_and_always():
    """The crown ends at 28.000; 2 % over 11.5 m is 0.230."""
    site = held()
    assert level_at(Engine(site)) == pytest.approx(28.0 - 0.02 * 11.5, abs=1e-9)
    raised = edits.set_vips(site, "s", [Vip(chainage=0, level=30), Vip(chainage=100, level=28.6)])
    assert level_at(Engine(raised)) == pytest.approx(28.6 - 0.23, abs=1e-9)
    wider = edits.set_head(site, "s", radius=15.0)
    assert level_at(Engine(wider)) == pytest.approx(28.0 - 0.02 * 15.0, abs=1e-9)
    by = Anchor(kind="street", of="s", line="crown", rise=-0.15)
    assert level_at(Engine(held(anchor=by))) == pytest.approx(27.85, abs=1e-9)


def test_its_reason_leads_to_what_it_follows():
    q = Engine(held())
    made = ring_levels(q, "s", "end").rule
    (vip,) = made.vips[2:-2]
    assert vip.source == "tied"
    assert sum(float(a.amount[0]) for a in vip.addends) == pytest.approx(float(vip.value[0]))
    assert any(
        f.follower == HEAD and f.leader == ThingId("street", "s") and f.words == "its crown" for f in followings(q)
    )


def test_it_is_offered_in_the_long_section_at_the_fall_that_is_there():
    q = Engine(ended())
    total = outline(q, "s", "end").ring.total
    words, edit = next(
        o for o in offers(q, "s", "end", 0.5 * total, 27.655) if o[0].startswith("Let it follow S crown")
    )
    assert words == "Let it follow S crown: falls 3.00 % from it"
    site = edit(q.site)
    (vip,) = [v for v in head_of(site).vips if v.follows]
    assert vip.follows == CROWN.model_copy(update={"fall": 0.03})
    assert len(head_of(site).vips) == 3  # the VIP that was proposed there is the one that follows now
    lip = next(o for o in offers(q, "s", "end", 0.1 * total, 28.0) if o[0].startswith("Let it follow S left lip"))
    (vip,) = [v for v in head_of(lip[1](q.site)).vips if v.follows]
    assert vip.follows.line == "left lip"
    levels = ring_levels(Engine(lip[1](q.site)), "s", "end").rule.profile.levels
    assert np.abs(levels - 28.0).min() < 2e-4


def test_in_rows_its_fall_is_typed_and_it_is_set_free():
    q = Engine(held())
    sheet = lip_sheet(q, "s", "end")
    row = next(r for r in sheet.rows if r.held)
    cells = dict(zip(sheet.columns, row.cells))
    assert (cells["follows"].value, cells["by"].value, cells["level"].state) == ("crown", 0.02, "tied")
    assert level_at(Engine(cells["by"].edit(0.03)(q.site))) == pytest.approx(28.0 - 0.03 * 11.5, abs=1e-9)
    # A level that is typed, or dragged, is kept as the fall that makes it.
    typed = cells["level"].edit(27.54)(q.site)
    assert head_of(typed).vips[0].follows.fall == pytest.approx(0.46 / 11.5, abs=1e-5)
    handle = section_handles(q, "s", "end")[0]
    dragged = handle.moved((handle.place[0], 27.885))[0](q.site)
    assert head_of(dragged).vips[0].follows.fall == pytest.approx(0.115 / 11.5, abs=1e-5)
    free = head_of(dict(row.actions)["Set its level free"](q.site)).vips[0]
    assert (free.follows, free.level) == (None, 27.77)
    assert "follows" not in lip_sheet(Engine(ended()), "s", "end").columns


def test_what_is_gone_far_or_in_a_ring_is_told():
    gone = Engine(held(anchor=Anchor(kind="street", of="other", line="crown", fall=0.02)))
    (found,) = [f for f in findings(gone) if f.of == HEAD and f.rule == "cannot be worked out"]
    assert "follows 'crown' of 'other', which is not there" in found.message
    assert found.remedy == "set that level free"
    nobody = Engine(held(anchor=Anchor(kind="castle", of="s", line="crown", fall=0.02)))
    assert any("which is not there" in f.message for f in findings(nobody))
    itself = Anchor(kind="turning_head", of="s:end", line="lip", fall=0.02)
    ringed = [f for f in findings(Engine(held(anchor=itself))) if f.of == HEAD]
    assert any("from itself" in f.message for f in ringed)
    with pytest.raises(ValueError, match="one of them"):
        Anchor(kind="street", of="s", line="crown")
    with pytest.raises(ValueError, match="one of them"):
        Anchor(kind="street", of="s", line="crown", fall=0.02, rise=0.1)


def test_lines_are_named_as_their_street_was_drawn():
    site = edits.set_vips(held(), "s", [Vip(chainage=0, level=30), Vip(chainage=100, level=28)])
    q, turned = Engine(site), Engine(edits.reverse_street(site, "s", 100.0))
    left = anchor_to(q, StreetLine("s", "lip", "left"), fall=0.0)
    assert left.line == "left lip"
    assert anchored_line(turned, left, "") == StreetLine("s", "lip", "right")
    s = outline(q, "s", "end").ring.total * np.linspace(0, 1, 9)
    assert ring_levels(turned, "s", "start").rule.levels(s) == pytest.approx(
        ring_levels(q, "s", "end").rule.levels(s), abs=1e-9
    )
    assert rejoined_anchor(left, "s", "t", True) == Anchor(kind="street", of="t", line="right lip", fall=0.0)
    assert rejoined_anchor(left, "s", "t", False).line == "left lip"
    assert rejoined_anchor(left, "other", "t", True) == left
    assert [
        by_words(a)
        for a in (
            CROWN,
            CROWN.model_copy(update={"fall": -0.01}),
            Anchor(kind="street", of="s", line="crown", rise=-0.1),
        )
    ] == [
        "falls 2.00 % from",
        "rises 1.00 % from",
        "0.100 m below",
    ]


def test_a_knuckles_level_follows_the_crown_or_the_lip_inside(tmp_path):
    q = Engine(knuckled(inner=12.0))
    made = ring(q, ID, "outer")
    found = dict(knuckle_offers(q, ID, (made.middle, 28.80)))
    words = next(w for w in found if w.startswith("Let it follow S crown"))
    site = found[words](q.site)
    (level,) = site.all(Knuckle)[0].levels
    assert lip_rule(Engine(site), ID, "outer").levels([level.share * made.chain.total]) == pytest.approx(
        [28.80], abs=1e-4
    )
    # The crown lies 8.5 m away there, at 30 − 0.02 × 58.069.
    assert level.follows.fall == pytest.approx((30.0 - 0.01 * TOTAL - 28.80) / 8.5, abs=2e-5)
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").all(Knuckle) == site.all(Knuckle)
    facts = {r.label: r for r in kind_of("knuckle").facts(Engine(site), THING) if isinstance(r, Fact)}
    fall = facts["level 1: fall from crown"]
    steeper = Engine(fall.edit(0.04)(site))
    crown = line(steeper, StreetLine("s")).rule.levels([0.5 * TOTAL])[0]
    assert lip_rule(steeper, ID, "outer").levels([level.share * made.chain.total]) == pytest.approx(
        [crown - 0.34], abs=1e-4
    )
    assert fall.switch(site).all(Knuckle)[0].levels[0].follows is None
    inside = next(w for w in found if "inside lip" in w or "knuckle at 58 inside" in w)
    assert found[inside](q.site).all(Knuckle)[0].levels[0].follows.line == "inner lip"
    with pytest.raises(EditError):
        fall.edit(5.0)(site)
    assert ReturnLevel(share=0.5, level=1.0).follows is None


# Anywhere: what is marked in one line follows another


def two_streets(**second):
    """L along y = 0 from 30 to 28, M along y = 20 from 29 to 27 with a VIP of 27.5 half way; both 100 m to the east."""
    site = edits.set_section(new_site(), lane_section("lanes", 3.5))
    vips = {
        "L": [Vip(chainage=0, level=30), Vip(chainage=100, level=28)],
        "M": [Vip(chainage=0, level=29), Vip(chainage=50, level=27.5), Vip(chainage=100, level=27)],
    }
    for k, name in enumerate(vips):
        bends = [Bend(easting=0, northing=20.0 * k), Bend(easting=100, northing=20.0 * k)]
        site = edits.add_street(site, name, bends, section="lanes", vips=vips[name], **(second if k else {}))
    return site


def follow(site, follower, s, leader, fall=None):
    return let_follow(Engine(site), follower, s, leader, fall)[0](site)


def crown_at(site, street, s):
    return float(line(Engine(site), StreetLine(street)).rule.levels([s])[0])


def cells_of(sheet, what=("follows",)):
    (row,) = [r for r in sheet.rows if dict(zip(sheet.columns, r.cells)).get("follows")]
    return row, dict(zip(sheet.columns, row.cells))


def test_a_vip_of_a_street_follows_another_street_wherever_that_goes():
    """29.0 on L, 27.5 on M: it falls by 1.5 in 20 m. With a fall of 10 % it lies at 29 − 2."""
    site = follow(two_streets(), StreetLine("m"), 50.2, StreetLine("l"))
    (_, vip, _) = next(s for s in site.all(Street) if s.id == "m").vips
    assert (vip.chainage, vip.locked, vip.follows.fall) == (50.0, True, pytest.approx(0.075, abs=2e-4))
    assert crown_at(site, "m", 50.0) == pytest.approx(27.5, abs=0.01)
    raised = edits.set_vips(site, "l", [Vip(chainage=0, level=31), Vip(chainage=100, level=29)])
    assert crown_at(raised, "m", 50.0) - crown_at(site, "m", 50.0) == pytest.approx(1.0, abs=1e-9)
    moved = edits.move_bend(edits.move_bend(site, "l", 0, 0.0, -10.0), "l", 1, 100.0, -10.0)
    assert crown_at(moved, "m", 50.0) == pytest.approx(29.0 - 30.0 * vip.follows.fall, abs=1e-9)
    _, cells = cells_of(grade_sheet(Engine(site), "m"))
    assert (cells["follows"].value, cells["level"].state) == ("L crown", "locked")
    steeper = cells["by"].edit(0.1)(site)
    assert crown_at(steeper, "m", 50.0) == pytest.approx(27.0, abs=1e-9)
    row, _ = cells_of(grade_sheet(Engine(raised), "m"))
    free = dict(row.actions)["Set its level free"](raised)
    (_, vip, _) = next(s for s in free.all(Street) if s.id == "m").vips
    assert (vip.follows, vip.locked, vip.level) == (None, True, pytest.approx(crown_at(raised, "m", 50.0), abs=1e-6))
    # It is held like a locked one, and nothing unlocks it but that.
    for refused in (lambda s: unlock_vip(s, "m", 1), lambda s: set_vip(s, "m", 1, level=25.0)):
        with pytest.raises(EditError, match=r"follows another line|is locked"):
            refused(site)
    with pytest.raises(EditError, match="another"):
        let_follow(Engine(site), StreetLine("m"), 20.0, StreetLine("m"))


def test_it_goes_on_following_when_its_street_is_proposed_cut_reversed_or_joined(tmp_path):
    site = follow(two_streets(), StreetLine("m"), 50.0, StreetLine("l"), 0.08)
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").all(Street) == site.all(Street)
    level = 29.0 - 0.08 * 20.0
    turned = edits.reverse_street(site, "m", 100.0)
    assert crown_at(turned, "m", 50.0) == pytest.approx(level, abs=1e-9)
    cut = split(Engine(site), "m", 70.0)(site)
    assert crown_at(cut, "m", 50.0) == pytest.approx(level, abs=1e-9)
    raised = edits.set_vips(cut, "l", [Vip(chainage=0, level=31), Vip(chainage=100, level=29)])
    assert crown_at(raised, "m", 50.0) == pytest.approx(level + 1.0, abs=1e-9)
    joint = next(j for j in joints(Engine(cut), "m", "end") if j.other.startswith("m") and j.end == "start")
    back = joined(Engine(cut), "m", "end", joint)(cut)
    assert [v.follows for v in back.all(Street)[1].vips if v.follows] == [site.all(Street)[1].vips[1].follows]
    # Between locked VIPs the rest is proposed, through the level that it has from the other street.
    ground = edits.add_ground(propose_again(site, "m"), Ground(name="g", surface=plane_ground(-0.02, 0.0, 28.0)))
    assert crown_at(ground, "m", 50.0) == pytest.approx(level, abs=1e-9)
    made = grade_line(Engine(ground), "m")
    assert made.states[int(np.argmin(np.abs(made.profile.chainages - 50.0)))] == "locked"
    # A line that is proposed goes on being proposed when a VIP of it is to follow.
    bare = edits.add_ground(
        edits.set_vips(two_streets(), "m", []), Ground(name="g", surface=plane_ground(-0.02, 0.0, 28.0))
    )
    bare = follow(bare, StreetLine("m"), 40.0, StreetLine("l"), 0.05)
    assert crown_at(bare, "m", 40.0) == pytest.approx(29.2 - 1.0, abs=1e-9)
    assert "proposed" in grade_line(Engine(bare), "m").states


def test_what_it_follows_and_what_follows_it_in_a_ring_is_told_and_cut_leaders_are_not_mistaken():
    site = follow(two_streets(), StreetLine("m"), 50.0, StreetLine("l"), 0.08)
    ringed = follow(site, StreetLine("l"), 50.0, StreetLine("m"), 0.0)
    assert any("from itself" in f.message for f in findings(Engine(ringed)))
    assert {(f.follower.id, f.leader.id) for f in followings(Engine(ringed))} == {("m", "l"), ("l", "m")}
    # L is cut before the place abreast: it is told, not taken from where L now ends.
    cut = split(Engine(site), "l", 30.0)(site)
    told = [f for f in findings(Engine(cut)) if "goes on as another street before it comes abreast" in f.message]
    assert {f.of.id for f in told} == {"m"}
    whole = split(Engine(site), "l", 70.0)(site)
    assert crown_at(whole, "m", 50.0) == pytest.approx(crown_at(site, "m", 50.0), abs=1e-9)
    gone = remove_street(site, "l")
    assert any("which is not there" in f.message for f in findings(Engine(gone)) if f.of.id == "m")


def test_own_levels_of_a_lip_follow():
    """The lip of M lies 3.5 m nearer to L: 16.5 m away."""
    site = two_streets()
    vips = [KerbVip(chainage=s, level=z) for s, z in ((20.0, 28.3), (60.0, 27.3), (90.0, 27.0))]
    site = add_kerb_line(site, "m", "right", vips)
    with pytest.raises(EditError, match="no levels of its own"):
        follow(site, StreetLine("m", "lip", "left"), 40.0, StreetLine("l"))
    site = follow(site, StreetLine("m", "lip", "right"), 40.0, StreetLine("l"), 0.09)
    (kerb,) = site.all(OwnLevels)
    assert [v.chainage for v in kerb.vips] == [20.0, 40.0, 60.0, 90.0]
    wanted = 29.2 - 0.09 * 16.5

    def lip_at(site):
        return float(line(Engine(site), StreetLine("m", "lip", "right")).rule.levels([40.0])[0])

    assert lip_at(site) == pytest.approx(wanted, abs=1e-9)
    raised = edits.set_vips(site, "l", [Vip(chainage=0, level=31), Vip(chainage=100, level=29)])
    assert lip_at(raised) == pytest.approx(wanted + 1.0, abs=1e-9)
    row, cells = cells_of(kerb_sheet(Engine(site), kerb.id))
    assert cells["level"].value == pytest.approx(wanted, abs=1e-9)
    assert lip_at(cells["by"].edit(0.1)(site)) == pytest.approx(29.2 - 1.65, abs=1e-9)
    assert lip_at(dict(row.actions)["Set its level free"](site)) == pytest.approx(wanted, abs=1e-6)
    with pytest.raises(EditError, match="set its level free first"):
        set_kerb_vip(site, kerb.id, 1, locked=False)
    assert lip_at(split(Engine(site), "m", 80.0)(site)) == pytest.approx(wanted, abs=1e-9)
    for which in [r.actions[0][1] for r in kerb_proposals(Engine(site), kerb.id).rows if r.actions]:
        assert lip_at(which(site)) == pytest.approx(wanted, abs=1e-9)
    other = follow(site, KerbLevels(kerb.id, "m"), 60.0, StreetLine("l"), 0.1)
    assert [v.follows is not None for v in other.all(OwnLevels)[0].vips] == [False, True, True, False]


def test_a_return_follows_and_settling_keeps_it():
    site = t_site()
    q = Engine(site)
    made = line(q, ReturnLine("side", "start", "left"))
    s = 0.5 * made.plan.end
    site = follow(site, ReturnLine("side", "start", "left"), s, StreetLine("through"), 0.04)
    place = made.plan.points([s])[0]
    crown = line(q, StreetLine("through"))
    at = float(crown.plan.base.feet([place]).chainages[0])
    wanted = float(crown.rule.levels([at])[0]) - 0.04 * float(np.hypot(*(crown.plan.points([at])[0] - place)))

    def level(site):
        return float(line(Engine(site), ReturnLine("side", "start", "left")).rule.levels([s])[0])

    assert level(site) == pytest.approx(wanted, abs=1e-9)
    (node,) = things_of(Engine(site), "junction")
    row, cells = cells_of(return_sheet(Engine(site), node.id))
    assert cells["level"].state == "tied"
    assert level(cells["by"].edit(0.05)(site)) == pytest.approx(
        wanted - 0.01 * float(np.hypot(*(crown.plan.points([at])[0] - place))), abs=1e-9
    )
    # A level that is typed or dragged is kept as the fall that makes it.
    dragged = level_handles(Engine(site), node.id)[0]
    lower = dragged.moved((dragged.place[0], wanted - 0.05))[0](site)
    assert level(lower) == pytest.approx(wanted - 0.05, abs=1e-3)
    free = dict(row.actions)["Set its level free"](site)
    assert level(free) == pytest.approx(wanted, abs=1e-3)
    settled = taken(Engine(site), settling(Engine(site), node.id))(site)
    assert level(settled) == pytest.approx(wanted, abs=1e-9)
    assert [v.follows is not None for v in settled.all(JunctionChoice)[0].left.levels] == [True]
    assert any(f.leader.id == "through" and f.follower == node for f in followings(Engine(site)))


def test_kerbs_and_the_circle_of_a_roundabout_follow():
    site = cross(preset="compact")
    q = Engine(site)
    kerb, made = line(q, KerbLine(RID, "a:onwards")), kerb_after(q, RID, "a:onwards")
    s = 0.4 * made.ends[0]
    place, crown = kerb.plan.points([s])[0], line(q, StreetLine("a"))
    at = float(crown.plan.base.feet([place]).chainages[0])
    away = float(np.hypot(*(crown.plan.points([at])[0] - place)))
    made_so = follow(site, KerbLine(RID, "a:onwards"), s, StreetLine("a"), 0.035)

    def kerb_level(site):
        return float(line(Engine(site), KerbLine(RID, "a:onwards")).rule.levels([s])[0])

    wanted = float(crown.rule.levels([at])[0]) - 0.035 * away
    assert kerb_level(made_so) == pytest.approx(wanted, abs=1e-6)
    row, cells = cells_of(round_sheet(Engine(made_so), RID))
    assert cells["follows"].value == "A crown"
    assert kerb_level(cells["by"].edit(0.05)(made_so)) == pytest.approx(wanted - 0.015 * away, abs=1e-6)
    assert kerb_level(dict(row.actions)["Set its level free"](made_so)) == pytest.approx(wanted, abs=1e-3)
    with pytest.raises(EditError, match="no levels of its own"):
        follow(site, KerbLine(RID, "a:onwards"), 0.5 * sum(made.ends), StreetLine("a"))  # on the circle
    # The circle goes over to levels of its own, as it lies, with one that follows; its legs hang on it, so it follows something else.
    site = edits.add_street(site, "N", [Bend(easting=30, northing=30), Bend(easting=90, northing=30)])
    site = edits.set_vips(site, "n", [Vip(chainage=0, level=51.0), Vip(chainage=60, level=51.0)])
    rim = line(Engine(site), CircleLine(RID))
    at = float(rim.plan.base.feet([(30.0, 30.0)]).chainages[0])
    round_so = follow(site, CircleLine(RID), at, StreetLine("n"), 0.02)
    reach = 30.0 * np.sqrt(2.0) - sizes_of(Engine(site), RID).radius
    assert line(Engine(round_so), CircleLine(RID)).rule.levels([at]) == pytest.approx([51.0 - 0.02 * reach], abs=1e-3)
    assert round_so.all(Roundabout)[0].levels == "own"
    _, cells = cells_of(round_sheet(Engine(round_so), RID))
    assert cells["follows"].value == "N crown"
