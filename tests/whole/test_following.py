"""What follows what, and what moves with a level: against solving the site with that level moved."""

import numpy as np
import pytest

from humble_loop.demo import demo_site
from humble_loop.engine.query import Engine
from humble_loop.kinds.kerb_line.model import KerbLine, KerbVip, add_kerb_line, set_kerb_vip
from humble_loop.kinds.street.edits import set_vip
from humble_loop.kinds.tie.model import LevelTie, Source, add_tie
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.whole.following import around, decisions_of, followings, moves
from humble_loop.whole.tables import table
from humble_loop.whole.things import all_things
from tests.kinds.test_sections import straight
from tests.kinds.test_ties import crown, old_kerb, upper


@pytest.fixture(scope="module")
def tied():
    """The upper street's right lip follows this one's left, which has levels of its own; its boundary follows its lip."""
    site = add_kerb_line(upper(), "line", "left", [KerbVip(chainage=s, level=crown(s)) for s in (0.0, 80.0, 200.0)])
    site = add_tie(
        site, "upper", "right", "lip", Source(what="point", of="line", point="lip", side="left"), 30.0, 210.0
    )
    lip = Source(what="point", of="upper", point="lip", side="right")
    return add_tie(site, "upper", "left", "boundary", lip, 30.0, 210.0, rise_in=0.3, rise_out=0.1)


def test_who_follows_whom(tied):
    q = Engine(tied)
    made = around(q, ThingId("street", "upper"))
    assert [(f.leader.id if f.leader else None, f.words) for f in made.leaders] == [
        ("line", "right lip"),
        ("upper", "left boundary"),
    ]
    below = around(q, ThingId("street", "line"))
    assert [f.follower.id for f in below.followers] == ["upper"]
    assert [f.leader.kind for f in below.leaders] == ["kerb_line"]
    # A tie stands for the street that it is of.
    assert around(q, ThingId("tie", tied.all(LevelTie)[0].id)).thing.id == "upper"
    assert len(followings(q)) == 3


def test_a_survey_line_knows_who_follows_it():
    site = add_tie(old_kerb(), "line", "left", "lip", Source(what="line", of="old-kerb"), 0.0, 200.0)
    made = around(Engine(site), ThingId("survey_line", "old-kerb"))
    assert [f.follower.id for f in made.followers] == ["line"]
    assert made.leaders == ()


@pytest.mark.parametrize("index", [0, 1, 2])
def test_what_moves_with_a_level_is_what_moves_when_it_is_moved(tied, index):
    id = tied.all(KerbLine)[0].id
    q = Engine(tied)
    told = {m.line: m for m in moves(q, ("kerb vip", id, index), "line")}
    level = tied.all(KerbLine)[0].vips[index].level
    after = Engine(set_kerb_vip(tied, id, index, level=level + 0.01))
    seen = 0
    for thing in all_things(q):
        for i in kind_of(thing.kind).lines(q, thing):
            made = line(q, i)
            s = np.linspace(made.plan.start, made.plan.end, 81)
            by = line(after, i).rule.levels(s) - made.rule.levels(s)
            most = float(by[np.argmax(np.abs(by))])
            if abs(most) > 1e-5:
                seen += 1
                assert abs(told[i].most) * 0.01 >= abs(most) - 3e-4
                there = np.array([told[i].chainage])
                moved = line(after, i).rule.levels(there) - made.rule.levels(there)
                assert moved[0] == pytest.approx(0.01 * told[i].most, abs=1e-9)
    assert seen == len(told) > 10


def test_in_the_brickworks_a_vip_of_the_road_moves_the_streets_that_leave_it():
    site = demo_site()
    q = Engine(site)
    found = moves(q, ("vip", "claypit-road", 6), "claypit-road")
    titles = {m.title for m in found}
    assert {"Claypit Road crown", "Firebrick Street crown", "Firebrick Street left lip"} <= titles
    # The north kerb has levels of its own, and both boundaries follow the survey.
    assert "Claypit Road left lip" not in titles
    crown_moved = next(m for m in found if m.title == "Firebrick Street crown")
    after = Engine(set_vip(site, "claypit-road", 6, level=site.things["streets"][0].vips[6].level + 0.01))
    by = [float(line(e, crown_moved.line).rule.levels([crown_moved.chainage])[0]) for e in (q, after)]
    assert by[1] - by[0] == pytest.approx(0.01 * crown_moved.most, abs=1e-9)


def test_the_trail_table_has_every_decided_level_of_every_street():
    q = Engine(demo_site())
    rows = table(q, "trail", "Ember Loop").rows
    told = {words for _, words in decisions_of(q, "ember-loop")}
    assert {row[1] for row in rows} == told
    assert "Ember Loop VIP at 250.00" in told
    assert table(Engine(straight()), "trail").rows[0][:3] == ("Line", "Line VIP at 0.00", "Line crown")
