"""Fixed falls: a level of a head or a knuckle that follows another line's by a stated fall or difference."""

import numpy as np
import pytest

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.junction.model import ReturnLevel
from humble_loop.kinds.knuckle import Knuckle
from humble_loop.kinds.knuckle.layout import lip_rule, ring
from humble_loop.kinds.knuckle.show import offers as knuckle_offers
from humble_loop.kinds.street import StreetLine
from humble_loop.kinds.street.model import Vip
from humble_loop.kinds.turning_head import TurningHead
from humble_loop.kinds.turning_head.layout import outline
from humble_loop.kinds.turning_head.levels import ring_levels
from humble_loop.kinds.turning_head.model import HeadVip
from humble_loop.kinds.turning_head.vips import lip_sheet, offers, section_handles
from humble_loop.lines.anchor import anchor_to, anchored_line, by_words, rejoined_anchor
from humble_loop.lines.describe import Fact
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.site.edits import EditError
from humble_loop.site.model import Anchor
from humble_loop.whole.findings import findings
from humble_loop.whole.following import followings
from tests import edits
from tests.kinds.test_heads import HEAD, ended
from tests.kinds.test_knuckles import ID, THING, TOTAL, knuckled

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
