"""Settling junctions: water leaves them by the least change, and what cannot be kept is said."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.cli import run
from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.junction.corners import ReturnLine
from humble_loop.kinds.junction.model import JunctionChoice, set_junction
from humble_loop.kinds.junction.settling import settle_sheet, settling, taken, told
from humble_loop.kinds.street import Vip
from humble_loop.kinds.street.model import Street
from humble_loop.lines.line import line
from humble_loop.whole.findings import findings
from humble_loop.whole.tables import table
from tests import edits
from tests.conftest import examples, plane_ground, t_site
from tests.whole.test_batters import tee

NODE = "side:start"


def tilted(angle, main, side, left=8.0, right=8.0):
    """A T on level ground: grades along the through street and away from it along the side street, which is 70 m long."""
    site = tee(angle, plane_ground(0.0, 0.0, 50.0), fall=0.03, grades=(main, 0.0), at=(312_400.0, 6_251_900.0))
    site = edits.set_vips(site, "side", [Vip(chainage=70.0, level=50.0 + 70.0 * side)])
    for corner, radius in (("left", left), ("right", right)):
        site = edits.set_corner(site, "side", "start", corner, radius=radius)
    return site


def undrained(site):
    made = table(Engine(site), "hollows", None, None)
    return [r for r in made.rows if r[made.columns.index("pit")] == "no"]


def grades(site, corner):
    made = line(Engine(site), ReturnLine("side", "start", corner))
    s = np.linspace(0.0, made.plan.end, 81)
    return made.rule.grades(s)


@examples(30)
@given(
    st.floats(50, 130),
    st.floats(-0.06, 0.06),
    st.floats(-0.08, 0.08),
    st.floats(6.0, 12.0),
    st.floats(6.0, 12.0),
    st.booleans(),
)
def test_no_water_stands_after_it_and_the_street_moves_little(angle, main, side, left, right, both):
    site = tilted(angle, main, side, left, right)
    if both:
        site = set_junction(site, "side", "start", crowns="both")
    q = Engine(site)
    made = settling(q, NODE)
    after = taken(q, made)(site)
    assert not undrained(after)
    assert all(abs(z - was) <= 0.1 + 1e-6 for _, _, was, z in made.vips)
    # What was not given up holds: returns whose lips fall one way do so all along, within the class's falls.
    if not made.given_up:
        for corner in ("left", "right"):
            m = grades(after, corner)
            if m[0] * m[-1] > 0.0:
                inner = np.abs(m[10:-10])
                assert (np.sign(m) == np.sign(m[0])).all()
                assert inner.min() >= min(0.005, abs(m[0]), abs(m[-1])) - 1e-6
                assert inner.max() <= max(0.12, abs(m[0]), abs(m[-1])) + 1e-6


def test_a_junction_that_drains_stays_as_it_is():
    """The through street rises eastwards and the side street falls away from it: each return falls one way, between 2 and 6 %."""
    site = tilted(90.0, 0.054, -0.057)
    q = Engine(site)
    made = settling(q, NODE)
    assert told(q, made) == "its returns stay"
    assert taken(q, made)(site) == site


def test_what_cannot_be_kept_is_said_and_the_rest_done():
    """A through street at 0.1 % and a side street at 0.2 %: no return falls by half a percent without lifting the street by more
    than it may be; the one that both fall into is given a pit, or crosses the mouth.
    """
    site = tilted(90.0, 0.001, 0.002)
    q = Engine(site)
    made = settling(q, NODE)
    assert made.given_up
    assert "one way, at" in made.given_up[0]
    assert "cannot be kept" in told(q, made)
    after = taken(q, made)(site)
    assert not undrained(after)
    row = settle_sheet(q, NODE).rows[0]
    assert row.cells[-1].value == "; ".join(made.given_up)
    assert row.ghost is not None
    assert np.isnan(row.ghost).any()


def test_levels_that_were_set_and_a_locked_vip_are_respected():
    site = tilted(105.0, -0.011, 0.008)
    q = Engine(site)
    assert settling(q, NODE).vips
    locked = edits.set_vip(site, "side", 0, locked=True)
    assert settling(Engine(locked), NODE).vips == ()
    done = taken(q, settling(q, NODE))(site)
    again = settling(Engine(done), NODE)
    assert np.abs(again.moved).max() < 2e-3  # settled once, there is nothing left to be done
    kept = [len(c.left.levels) for c in done.all(JunctionChoice)]
    assert [len(levels) for place, levels, _ in again.returns if place[2] == "left"] == kept


def test_water_that_meets_and_crosses_the_mouth_is_told_as_near_and_water_that_stands_as_broken():
    site = tilted(93.0, -0.02, 0.046)
    (low,) = [f for f in findings(Engine(site)) if f.rule == "low point without a pit"]
    assert low.severity == "near"
    assert "crosses the junction" in low.message
    wet = tilted(124.0, 0.039, 0.062)
    assert undrained(wet)
    found = {f.rule: f for f in findings(Engine(wet)) if f.rule in ("low point without a pit", "hollow")}
    assert found["hollow"].severity == "broken"
    assert "m²" in found["hollow"].message
    assert found["low point without a pit"].severity == "broken"


def test_from_the_command_line(tmp_path, capsys):
    path, out = tmp_path / "a.hloop", tmp_path / "b.hloop"
    save_site(tilted(124.0, 0.039, 0.062), path)
    assert run(["settle", str(path), "--of", "Side / Main", "--to", str(out)]) == 0
    said = capsys.readouterr().out
    assert said.startswith("Side / Main: ")
    assert undrained(load_site(path))
    assert not undrained(load_site(out))
    assert run(["settle", str(path), "--of", "nowhere"]) == 2
    assert "there is no junction 'nowhere'; there are Side / Main" in capsys.readouterr().err
    save_site(
        edits.set_corner(
            edits.set_corner(t_site(), "side", "start", "left", radius=70), "side", "start", "right", radius=70
        ),
        path,
    )
    assert run(["settle", str(path)]) == 0
    assert "left as it is, no return could be worked out" in capsys.readouterr().out
    assert load_site(path).find(Street, "side")


def test_hollows_in_a_table(tmp_path):
    site = tilted(124.0, 0.039, 0.062)
    made = table(Engine(site), "hollows", "Side / Main", None)
    assert made.columns == ("junction", "easting", "northing", "level", "depth", "area", "pit")
    (row,) = made.rows
    assert row[0] == "Side / Main"
    assert 312_390.0 < row[1] < 312_420.0
    assert row[4] > 0.003
    assert 0.1 < row[5] < 20.0
    drained = edits.set_corner(site, "side", "start", "right", pit=True)
    assert [r[-1] for r in table(Engine(drained), "hollows", None, None).rows] == ["yes"]
    with pytest.raises(Exception, match="no junction 'elsewhere'"):
        table(Engine(site), "hollows", "elsewhere", None)
