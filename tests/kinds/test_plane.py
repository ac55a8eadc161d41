"""A junction of one plane: lips, crowns and returns all lie in it, and both streets turn into it over their ramps."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.corners import ReturnLine, kerb_return
from humble_loop.kinds.junction.layout import own_from
from humble_loop.kinds.junction.model import PLANE, RaisedTable, set_crossing, set_junction
from humble_loop.kinds.junction.raised import table_end
from humble_loop.kinds.street import StreetLine, Vip
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.street.side_levels import crossfall
from humble_loop.lines.describe import Choice
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.whole.findings import findings
from tests import edits
from tests.asking import crown_levels
from tests.conftest import examples, plane_ground, t_site
from tests.kinds.test_crossings import BACK, ON, cross
from tests.whole.test_batters import tee
from tests.whole.test_surface import assert_watertight

NODE = ThingId("junction", "side:start")
GROUND = Ground(name="g", surface=plane_ground(0.0, 0.0, 21.0))


def flat(**sizes):
    table = PLANE.model_copy(update=sizes)
    return set_junction(edits.add_ground(t_site(), GROUND), "side", "start", table=table)


def points_of_plane(q, side, arm, through):
    """Points (n, 3) of lips, crowns and returns inside the table."""
    found, end = [], table_end(q, side, arm)
    for corner in ("left", "right"):
        made = line(q, ReturnLine(side, arm, corner))
        found.append(made.points(np.linspace(0.0, made.plan.end, 41)))
        found.append(
            line(q, StreetLine(side, "lip", corner)).points(
                np.linspace(kerb_return(q, side, arm, corner).side_chainage, end, 5)
            )
        )
    at = sorted(kerb_return(q, side, arm, c).through_at for c in ("left", "right"))
    found.append(line(q, StreetLine(through)).points(np.linspace(*at, 9)))
    found.append(line(q, StreetLine(through, "lip", "right")).points(np.linspace(*at, 9)))
    found.append(line(q, StreetLine(side)).points(np.linspace(0.0, end, 9)))
    return np.concatenate(found)


def off_plane(points):
    """The largest distance in level of points (n, 3) from the plane that fits them best."""
    local = points - points.mean(axis=0)
    a = np.column_stack([local[:, :2], np.ones(len(local))])
    return np.abs(a @ np.linalg.lstsq(a, local[:, 2], rcond=None)[0] - local[:, 2]).max()


def test_the_plane_by_hand():
    """The through street rises 2 % along, the plane rises 2.5 % towards the side street: 20 + 0.02 x + 0.025 y."""
    q = Engine(flat())
    p = points_of_plane(q, "side", "start", "through")
    assert p[:, 2] == pytest.approx(20.0 + 0.02 * p[:, 0] + 0.025 * p[:, 1], abs=1e-6)
    # From the table's end, half a metre past the returns, the side street has its own grade line: 12 m out at 22.3.
    assert own_from(q, "side", "start") == pytest.approx(12.0)
    assert crown_levels(q, "side", [12.0]) == pytest.approx([22.3])
    # The falls turn back over 8 m on both streets.
    at = [60.0, 80.5, 88.5, 100.0, 111.5, 119.5, 140.0]
    assert crossfall(q, "through", "left")(np.array(at)) == pytest.approx(
        [-0.03, -0.03, 0.025, 0.025, 0.025, -0.03, -0.03]
    )
    assert crossfall(q, "through", "right")(np.array(at)) == pytest.approx(
        [-0.03, -0.03, -0.025, -0.025, -0.025, -0.03, -0.03]
    )
    assert crossfall(q, "side", "right")(np.array([5.0, 12.0, 16.0, 20.0])) == pytest.approx(
        [0.02, 0.02, -0.005, -0.03]
    )
    assert crossfall(q, "side", "left")(np.array([5.0, 12.0, 16.0, 20.0])) == pytest.approx(
        [-0.02, -0.02, -0.025, -0.03]
    )
    assert not [f for f in findings(q) if f.rule in ("cannot be worked out", "plane over a curve")]
    assert_watertight(q)


def test_it_is_one_click():
    site = edits.add_ground(t_site(), GROUND)
    choice = next(
        r for r in kind_of("junction").facts(Engine(site), NODE) if isinstance(r, Choice) and r.label == "crown of"
    )
    assert dict(choice.options)["plane"] == "one plane"
    made = choice.edit("plane")(site)
    again = next(
        r for r in kind_of("junction").facts(Engine(made), NODE) if isinstance(r, Choice) and r.label == "crown of"
    )
    assert again.current == "plane"
    assert off_plane(points_of_plane(Engine(made), "side", "start", "through")) < 1e-6


def test_a_raised_plane_has_both():
    q, plain = Engine(flat(by=0.08, ramp=4.0)), Engine(flat(ramp=4.0))
    p, r = (points_of_plane(x, "side", "start", "through") for x in (q, plain))
    assert p[:, 2] - r[:, 2] == pytest.approx(0.08, abs=1e-9)
    assert crown_levels(q, "through", [80.0]) == pytest.approx(crown_levels(plain, "through", [80.0]))
    assert_watertight(q)


def test_the_plane_of_a_crossing_stays_when_its_streets_run_the_other_way():
    site = set_crossing(edits.add_ground(cross(), GROUND), "across", "through", 0, table=PLANE)
    q = Engine(site)
    for arm in (BACK, ON):
        for corner in ("left", "right"):
            p = line(q, ReturnLine("across", arm, corner)).points([0.0, 3.0, 6.0])
            assert p[:, 2] == pytest.approx(20.0 + 0.02 * p[:, 0] + 0.025 * p[:, 1], abs=1e-6)
    turned = edits.reverse_street(site, "across", chain_of(q, "across").total)
    again = Engine(edits.reverse_street(turned, "through", 200.0))
    for arm in (BACK, ON):
        for corner in ("left", "right"):
            p = line(again, ReturnLine("across", arm, corner)).points([0.0, 3.0, 6.0])
            assert p[:, 2] == pytest.approx(20.0 + 0.02 * p[:, 0] + 0.025 * p[:, 1], abs=1e-6)
    assert_watertight(q)


def test_a_through_street_that_bends_in_level_is_told():
    site = edits.set_vips(
        flat(),
        "through",
        [Vip(chainage=0, level=20), Vip(chainage=100, level=22, curve_length=20), Vip(chainage=200, level=20)],
    )
    assert [f.severity for f in findings(Engine(site)) if f.rule == "plane over a curve"] == ["near"]


@given(
    st.floats(50.0, 130.0), st.floats(-0.04, 0.04), st.floats(-0.04, 0.04), st.floats(-0.04, 0.04), st.floats(0.0, 0.12)
)
@examples(6)
def test_any_straight_junction_lies_in_one_plane_and_is_watertight(angle, main, side, fall, by):
    site = tee(angle, plane_ground(0.0, 0.0, 50.0), fall=-0.03, grades=(main, side))
    q = Engine(set_junction(site, "side", "start", table=RaisedTable(by=by, ramp=6.0, plane=True, fall=fall)))
    assert off_plane(points_of_plane(q, "side", "start", "main")) < 1e-6
    assert not [f for f in findings(q) if f.rule == "cannot be worked out"]
    assert_watertight(q)
