"""Ramps at corners: the kerb down to the lip over a width, with flares, and the strip behind it rising to the path."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.corners import ReturnLine, corner_shape
from humble_loop.kinds.junction.model import (
    Corner,
    CornerRamp,
    JunctionChoice,
    RaisedTable,
    other_way,
    set_corner,
    set_junction,
)
from humble_loop.kinds.junction.ramps import STEEPEST
from humble_loop.kinds.street.lowered import kerb_count
from humble_loop.lines.describe import Choice, Fact
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.whole.findings import findings
from tests import edits
from tests.conftest import examples, plane_ground, t_site
from tests.whole.test_surface import assert_watertight

NODE = ThingId("junction", "side:start")
ROUND = 8.0 * np.pi / 2  # metres of a return of 8 m


def ramped(site=None, corner="right", **sizes):
    site = site or edits.add_ground(t_site(), Ground(name="g", surface=plane_ground(0.0, 0.0, 21.0)))
    return set_corner(site, "side", "start", corner, ramp=CornerRamp(**sizes))


def told(q, rule):
    return [f for f in findings(q) if f.rule == rule]


def test_the_kerb_comes_down_by_hand():
    """Half way round, 6.283 m along: down over 1.5 m, and back up over 0.9 m on either side; everything beyond the kerb stays."""
    q, plain = (
        Engine(ramped()),
        Engine(edits.add_ground(t_site(), Ground(name="g", surface=plane_ground(0.0, 0.0, 21.0)))),
    )
    shape = corner_shape(q, "side", "start", "right")
    n, middle = kerb_count(shape.last.roles), 0.5 * ROUND
    s = middle + np.array([-3.0, -1.65, -1.2, -0.75, 0.0, 0.75, 1.2, 1.65, 3.0])
    down = np.array([0.0, 0.0, 0.5, 1.0, 1.0, 1.0, 0.5, 0.0, 0.0])
    assert n >= 1
    for k, name in enumerate(shape.last.names[1:], start=1):
        id = ReturnLine("side", "start", "right", name)
        fall = down * max(float(shape.last.rise[k]), 0.0) if k <= n else 0.0 * down
        assert line(q, id).rule.levels(s) == pytest.approx(line(plain, id).rule.levels(s) - fall, abs=1e-9)
    back, lip = (line(q, ReturnLine("side", "start", "right", name)) for name in (shape.last.names[n], "lip"))
    assert back.rule.levels([middle]) == pytest.approx(lip.rule.levels([middle]), abs=1e-9)
    assert_watertight(q)


def test_beside_a_table_it_comes_down_to_the_raised_lip():
    site = set_junction(ramped(), "side", "start", table=RaisedTable(by=0.1))
    q = Engine(site)
    shape = corner_shape(q, "side", "start", "right")
    back, lip = (
        line(q, ReturnLine("side", "start", "right", n))
        for n in (shape.last.names[kerb_count(shape.last.roles)], "lip")
    )
    assert back.rule.levels([0.5 * ROUND]) == pytest.approx(lip.rule.levels([0.5 * ROUND]), abs=1e-9)
    assert_watertight(q)


def test_one_that_is_steep_or_reaches_past_its_return_is_told():
    (past,) = told(Engine(ramped(share=0.1)), "ramp past its return")
    assert past.value == pytest.approx(0.75 + 0.9 - 0.1 * ROUND)
    q = Engine(ramped())
    shape = corner_shape(q, "side", "start", "right")
    k = kerb_count(shape.last.roles)
    steep = float(shape.last.rise[k + 1]) / float(shape.last.out[k + 1] - shape.last.out[k])
    assert bool(told(q, "ramp too steep")) == (steep > STEEPEST)


def test_it_is_chosen_in_facts_and_stays_with_its_corner():
    q = Engine(site := edits.add_ground(t_site(), Ground(name="g", surface=plane_ground(0.0, 0.0, 21.0))))
    left, _ = [r for r in kind_of("junction").facts(q, NODE) if isinstance(r, Choice) and r.label == "ramp"]
    made = left.edit("yes")(site)
    facts = {r.label: r for r in kind_of("junction").facts(Engine(made), NODE) if isinstance(r, Fact)}
    assert facts["ramp wide"].value == 1.5
    wider = facts["ramp wide"].edit(2.0)(made)
    (choice,) = wider.all(JunctionChoice)
    assert (choice.left.ramp.width, choice.right.ramp) == (2.0, None)
    # Where the other street's crown comes to hold, its return runs the other way; the ramp stays where it is.
    assert other_way(Corner(ramp=CornerRamp(share=0.3))).ramp.share == pytest.approx(0.7)


@given(
    st.floats(0.2, 0.8), st.floats(0.8, 3.0), st.floats(0.3, 2.0), st.sampled_from(["arc", "three-centred", "chamfer"])
)
@examples(5)
def test_any_ramp_is_watertight(share, width, flare, shape):
    site = set_corner(ramped(share=share, width=width, flare=flare), "side", "start", "right", shape=shape)
    assert_watertight(Engine(site))
