"""What is decided about a whole junction: whether both crowns run through, how far it reaches, and its name."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.corners import ReturnLine, kerb_return, through_lip
from humble_loop.kinds.junction.faces import JunctionFace
from humble_loop.kinds.junction.layout import reach_of, throat
from humble_loop.kinds.junction.model import CrossingChoice, JunctionChoice, set_crossing, set_junction
from humble_loop.kinds.junction.nodes import CrossingArm, require_joint
from humble_loop.kinds.street import StreetLine, Vip
from humble_loop.kinds.street.cutting import split
from humble_loop.kinds.street.levels import grade_line, own_grades
from humble_loop.kinds.street.section import breaks
from humble_loop.kinds.street.side_levels import crossfall
from humble_loop.lines.describe import Choice, Fact
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.site.edits import EditError
from humble_loop.whole.findings import findings
from humble_loop.whole.surface import probe
from humble_loop.whole.tables import table
from tests import edits
from tests.asking import crown_levels
from tests.conftest import examples, plane_ground, t_site
from tests.kinds.test_crossings import BACK, ON, cross
from tests.whole.test_batters import tee
from tests.whole.test_surface import assert_watertight

NODE, CROSSING = ThingId("junction", "side:start"), ThingId("junction", "across:through:0")
GROUND = Ground(name="g", surface=plane_ground(0.0, 0.0, 21.0))


def both(site):
    return set_junction(site, "side", "start", crowns="both")


def level_at(q, x, y):
    return probe(q, x, y).finished


def test_the_side_crown_climbs_to_the_through_crown():
    """The reference: 20 + 0.02 x along the through crown, the side street leaves at x = 100 and rises 1 % from there."""
    q = Engine(both(edits.add_ground(t_site(), GROUND)))
    assert throat(q, "side", "start").level == pytest.approx(22.0)
    assert crown_levels(q, "side", [0.0, 2.0, 40.0]) == pytest.approx([22.0, 22.02, 22.4], abs=1e-9)
    # The surface carries it, and where the through street is on its own it stays as it was.
    for y in (0.5, 2.0, 5.0):
        assert level_at(q, 100.0, y) == pytest.approx(22.0 + 0.01 * y, abs=1e-9)
    assert level_at(q, 100.0, -2.0) == pytest.approx(22.0 - 0.06, abs=1e-9)
    assert level_at(q, 80.0, 2.0) == pytest.approx(21.6 - 0.06, abs=1e-9)
    assert crossfall(q, "side", "left").one(8.0) == pytest.approx(-0.03)  # nothing turns it
    assert breaks(q, "through", "left") == ((pytest.approx(89.0), pytest.approx(111.0)),)
    assert breaks(q, "through", "right") == ()
    assert not [f for f in findings(q) if f.rule in ("cannot be worked out", "built twice")]
    assert_watertight(q)


@examples(25)
@given(st.floats(40, 140), st.floats(-0.05, 0.05), st.floats(-0.05, 0.05))
def test_returns_meet_both_lips_and_the_surface_has_no_gap(angle, main, side):
    q = Engine(
        both(tee(angle, plane_ground(0.0, 0.0, 46.0), fall=0.03, grades=(main, side), at=(312_400.0, 6_251_900.0)))
    )
    j = require_joint(q, "side", "start")
    for corner in ("left", "right"):
        made, here = kerb_return(q, "side", "start", corner), line(q, ReturnLine("side", "start", corner))
        through, own = line(q, through_lip(j)), line(q, StreetLine("side", "lip", corner))
        assert here.points([0.0]) == pytest.approx(through.points([made.through_at]), abs=1e-9)
        assert here.points([made.curve.length]) == pytest.approx(own.points([made.side_chainage]), abs=1e-9)
        assert here.rule.grades([0.0])[0] == pytest.approx(made.direction * main, abs=1e-9)
        assert here.rule.grades([made.curve.length], "before")[0] == pytest.approx(side, abs=1e-9)
    assert_watertight(q)


def test_a_crossing_whose_crowns_both_run_through_is_held_at_its_node():
    """Across from 21 at chainage 0 and 23 at 150; the node at 75 lies on the through crown, 22, and so has two legs of 1 in 75."""
    ground = plane_ground(0.0, 0.0, 21.0)
    q = Engine(
        set_crossing(
            cross(ground=ground, across_vips=(Vip(chainage=0, level=21.5), Vip(chainage=150, level=23.0))),
            "across",
            "through",
            0,
            crowns="both",
        )
    )
    made = grade_line(q, "across")
    assert made.profile.chainages == pytest.approx([0.0, 75.0, 150.0])
    assert made.profile.levels == pytest.approx([21.5, 22.0, 23.0])
    assert made.states == ("set", "tied", "set")
    assert own_grades(q, "across") == pytest.approx([0.5 / 75, 1.0 / 75])
    for side in ("left", "right"):
        assert len(breaks(q, "through", side)) == 1
    for arm in (BACK, ON):
        assert finished_mesh(q, JunctionFace("across", arm, "patch")).surface.areas().sum() > 20.0
    for u in (-3.0, -1.0, 1.0, 3.0):
        assert level_at(q, 100.0, u) == pytest.approx(22.0 + (1.0 if u > 0 else 0.5) / 75 * u, abs=1e-9)
    assert not [f for f in findings(q) if f.rule in ("cannot be worked out", "built twice")]
    assert_watertight(q)


def test_one_click_in_the_facts_with_the_change_of_level_told_first(tmp_path):
    q = Engine(t_site())
    node = ThingId("junction", "side:start")
    choice = next(r for r in kind_of("junction").facts(q, node) if isinstance(r, Choice) and r.label == "crown of")
    # At the throat 21.895 lies 3.5 m out; with both crowns the side crown has 22 + 0.035 there.
    assert choice.options[:2] == (("through", "Through"), ("both", "both (+0.14 m at the throat)"))
    site = choice.edit("both")(q.site)
    assert site.all(JunctionChoice)[0].crowns == "both"
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").all(JunctionChoice) == site.all(JunctionChoice)
    q = Engine(site)
    choice = next(r for r in kind_of("junction").facts(q, node) if isinstance(r, Choice) and r.label == "crown of")
    assert choice.current == "both"
    assert choice.edit("through")(site).all(JunctionChoice)[0].crowns == "through"
    q = Engine(cross())
    facts = kind_of("junction").facts(q, ThingId("junction", "across:through:0"))
    choice = next(r for r in facts if isinstance(r, Choice) and r.label == "crown of")
    assert [v for v, _ in choice.options] == ["through", "across", "both", "table", "plane"]
    made = choice.edit("both")(q.site).all(CrossingChoice)[0]
    assert (made.crowns, made.through) == ("both", None)
    back = choice.edit("across")(choice.edit("both")(q.site)).all(CrossingChoice)[0]
    assert (back.crowns, back.through) == ("through", "across")


def test_what_was_chosen_stays_when_streets_are_reversed_and_an_existing_street_keeps_its_surface():
    site = set_crossing(cross(ground=plane_ground(0.0, 0.0, 21.0)), "across", "through", 0, crowns="both")
    turned = edits.reverse_street(site, "across", 150.0)
    assert grade_line(Engine(turned), "across").profile.levels[1] == pytest.approx(22.0)
    assert isinstance(ON, CrossingArm)
    old = edits.set_street(both(edits.add_ground(t_site(), GROUND)), "through", kind="existing")
    q = Engine(old)
    assert throat(q, "side", "start").place.leg_at == pytest.approx(3.5)
    choice = [r for r in kind_of("junction").facts(q, ThingId("junction", "side:start")) if isinstance(r, Choice)]
    assert "crown of" not in [c.label for c in choice]


# Reach and name


def test_the_section_is_normal_where_the_arm_reaches():
    """The return of 8 m ends 11.5 m from the node; the throat lies 3.5 m from it. With a reach of 19.5 m it turns over 16 m."""
    q = Engine(t_site())
    facts = {f.label: f for f in kind_of("junction").facts(q, NODE) if isinstance(f, Fact)}
    assert (facts["reach along the leg"].value, facts["reach along the leg"].state) == (pytest.approx(11.5), "proposed")
    site = facts["reach along the leg"].edit(19.5)(q.site)
    far = Engine(site)
    # At the throat it lies flat along the through lip, which falls 2 % to the west: 2 % down to the left.
    for s, fall in ((3.5, -0.02), (11.5, -0.025), (19.5, -0.03), (30.0, -0.03)):
        assert crossfall(far, "side", "left").one(s) == pytest.approx(fall, abs=1e-9)
    facts = {f.label: f for f in kind_of("junction").facts(far, NODE) if isinstance(f, Fact)}
    assert facts["reach along the leg"].state == "set"
    assert facts["reach along the leg"].switch(site).all(JunctionChoice)[0].reach is None
    # The return still meets the lip, level and grade.
    made = kerb_return(far, "side", "start", "left")
    lip, here = line(far, StreetLine("side", "lip", "left")), line(far, ReturnLine("side", "start", "left"))
    assert here.rule.levels([made.curve.length]) == pytest.approx(lip.rule.levels([made.side_chainage]), abs=1e-9)
    assert here.rule.grades([made.curve.length], "before") == pytest.approx(
        lip.rule.grades([made.side_chainage]), abs=1e-9
    )
    near = Engine(set_junction(site, "side", "start", reach=2.0))
    assert crossfall(near, "side", "left").one(11.5) == pytest.approx(-0.03)  # never less than its returns


def test_the_reach_is_dragged_along_the_leg_and_stays_with_it():
    q = Engine(cross())
    handle = next(h for h in kind_of("junction").handles(q, CROSSING) if h.key == ("reach", "across", ON))
    assert handle.place == (pytest.approx(100.0), pytest.approx(11.5))
    edit, told = handle.moved((103.0, 21.0))
    assert told[0].value == pytest.approx(21.0)
    site = edit(q.site)
    assert site.all(CrossingChoice)[0].first_onwards == pytest.approx(21.0)
    turned = Engine(edits.reverse_street(site, "across", 150.0))
    assert reach_of(turned, "across", BACK) == pytest.approx(21.0)
    assert reach_of(turned, "across", ON) == pytest.approx(11.5)
    cut = Engine(split(Engine(site), "through", 40.0)(site))
    assert reach_of(cut, "across", CrossingArm("through-2", 0, True)) == pytest.approx(21.0)


def test_a_junction_is_given_a_name(tmp_path):
    q = Engine(t_site())
    fact = next(f for f in kind_of("junction").facts(q, NODE) if isinstance(f, Fact) and f.label == "name")
    assert (fact.value, fact.state) == ("Side / Through", "proposed")
    site = fact.edit("North gate")(q.site)
    named = Engine(site)
    assert kind_of("junction").name(named, NODE) == "North gate"
    assert table(named, "junctions", "North gate", None).rows[0][0] == "North gate"
    fact = next(f for f in kind_of("junction").facts(named, NODE) if isinstance(f, Fact) and f.label == "name")
    assert fact.switch(site).all(JunctionChoice)[0].name is None
    assert fact.edit("")(site).all(JunctionChoice)[0].name is None
    with pytest.raises(EditError, match="letter or a digit"):
        fact.edit("=+-")(site)
