"""The side street's grade at the throat and before it."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.approach import approach
from humble_loop.kinds.junction.layout import throat
from humble_loop.kinds.junction.model import set_junction
from humble_loop.kinds.street import Vip
from humble_loop.kinds.street.class_sheet import set_rule
from humble_loop.kinds.street.levels import grade_line
from humble_loop.whole.findings import findings
from tests import edits
from tests.conftest import examples, plane_ground, t_site

BREAK, STEEP = "grade breaks at the throat", "approach too steep"
GROUND = Ground(name="g", surface=plane_ground(0.0, 0.0, 21.0))


THROAT, OUT = 22.0 - 3.5 * 0.03, 3.5  # level, and metres from the node


def tee(grade, *, more=None, reverse=False):
    """The reference T, its side street at ``grade`` from the throat to 40 m, and from there to 60 m at that of ``more``."""
    site = edits.add_ground(t_site(), GROUND)
    there = THROAT + grade * (40.0 - OUT)
    vips = [Vip(chainage=40, level=there), Vip(chainage=60, level=there + 20.0 * (grade if more is None else more))]
    site = edits.set_vips(site, "side", vips)
    return edits.reverse_street(site, "side", 60.0) if reverse else site


def told(q, rule):
    return [f for f in findings(q) if f.rule == rule]


def test_the_break_at_the_throat_by_hand():
    """Through: 2 % along, 3 % of crossfall; the side street leaves square: -3 % up to the throat, its own grade from there."""
    made = approach(Engine(tee(0.01)), "side", "start")
    assert (made.inside, made.own, made.turn) == pytest.approx((-0.03, 0.01, 0.04))
    assert (made.steepest, made.length) == pytest.approx((0.01, 6.0))


@pytest.mark.parametrize("reverse", [False, True])
def test_a_sharp_break_and_a_steep_approach_are_told_with_place_and_mend(reverse):
    end = "end" if reverse else "start"
    site = tee(0.09, reverse=reverse)
    q = Engine(site)
    made = approach(q, "side", end)
    assert (made.inside, made.own, made.steepest) == pytest.approx((-0.03, 0.09, 0.09))
    (sharp,), (steep,) = told(q, BREAK), told(q, STEEP)
    assert (sharp.value, sharp.limit) == pytest.approx((0.12, 0.10))
    assert (steep.value, steep.limit) == pytest.approx((0.09, 0.08))
    assert sharp.place == pytest.approx((100.0, 3.5))  # the throat: 100 along, on the lip
    assert sharp.mend.words == "Ease it to 7.00 % for 6 m"  # -3 % and 10 % of break
    # The throat stays where it is tied; the grade holds for 6 m, then a curve that the class's K asks for leads on.
    q = Engine(sharp.mend.apply(site))
    assert throat(q, "side", end).level == pytest.approx(throat(Engine(site), "side", end).level)
    made = approach(q, "side", end)
    assert made.own == pytest.approx(0.07, abs=1e-3)
    assert made.steepest == pytest.approx(made.own, abs=1e-9)
    assert not told(q, BREAK)
    assert not told(q, STEEP)
    assert not told(q, "curve too short")
    assert not told(q, "curves overlap")


def test_exactly_the_limit_is_met_and_the_class_may_say_another():
    assert not told(Engine(tee(0.07)), BREAK)
    assert told(Engine(tee(0.0701)), BREAK)
    assert not told(Engine(tee(0.08)), STEEP)
    strict = set_rule(tee(0.04), "local", most_throat_break=0.06, most_approach_grade=0.03, approach_length=10.0)
    assert [f.limit for f in (*told(Engine(strict), BREAK), *told(Engine(strict), STEEP))] == [0.06, 0.03]


def test_what_comes_steep_behind_a_short_approach_is_told_where_it_is():
    """2 % for 4 m, then 12 %: within 6 m of the throat it is too steep, from 4 m on."""
    site = edits.add_ground(t_site(), GROUND)
    site = edits.set_vips(site, "side", [Vip(chainage=7.5, grade=0.02), Vip(chainage=60, grade=0.12)])
    (steep,) = told(Engine(site), STEEP)
    assert steep.value == pytest.approx(0.12)
    assert 7.5 <= steep.chainage <= 9.5
    assert steep.mend is not None
    assert not told(Engine(steep.mend.apply(site)), STEEP)


def test_where_no_curve_has_room_it_is_told_without_a_mend_and_the_streets_stand():
    """20 % down right from the throat to a VIP 12 m on: neither grade nor curve fits before that."""
    site = edits.add_ground(t_site(), GROUND)
    site = edits.set_vips(site, "side", [Vip(chainage=14, grade=-0.2), Vip(chainage=60, grade=0.01)])
    q = Engine(site)
    assert told(q, STEEP)[0].mend is None
    assert not told(q, "cannot be worked out")
    assert np.isfinite(grade_line(q, "side").profile.levels).all()


def test_an_existing_street_is_crossed_from_its_crown_to_the_throat(brickworks):
    """Its survey has kerb faces right at the throat, of which the grade there is no part."""
    made = approach(Engine(brickworks), "ember-loop", "start")
    assert made.inside == pytest.approx(-0.03, abs=0.01)
    assert not told(Engine(brickworks), BREAK)


def test_both_crowns_have_no_throat():
    site = set_junction(tee(0.15), "side", "start", crowns="both")
    assert approach(Engine(site), "side", "start") is None
    assert not told(Engine(site), BREAK)


@given(st.floats(-0.15, 0.15), st.floats(-0.06, 0.06), st.booleans())
@examples(6)
def test_what_is_offered_always_mends_it(grade, second, reverse):
    site = tee(grade, more=second, reverse=reverse)
    q = Engine(site)
    for rule in (BREAK, STEEP):
        for f in told(q, rule):
            if f.mend is not None:
                after = Engine(f.mend.apply(site))
                assert not told(after, rule)
                before = {x.rule for x in findings(q)}
                assert {x.rule for x in findings(after)} - before <= {
                    "grade too flat",
                    "return too flat",
                    "low point without a pit",
                    "hollow",
                    "low point along the street",
                }
