"""The level trail: its arithmetic adds up and ends at the model's own levels, at a thousand random points and more."""

import numpy as np
import pytest

from humble_loop.site import edits
from humble_loop.site.libraries import new_site
from humble_loop.site.model import Bend
from humble_loop.solve.engine import Engine, Unsolved
from humble_loop.solve.head import head_levels
from humble_loop.solve.junction import return_levels
from humble_loop.solve.lot import lots, pad
from humble_loop.solve.section import edges, half_road, roadside
from humble_loop.solve.street import crown_levels, grade_line, lip_levels
from humble_loop.solve.surface import probe
from humble_loop.solve.trail import (
    explain_crown,
    explain_lip,
    explain_pad,
    explain_return,
    explain_ring,
    explain_roadside,
    explain_vip,
    trail_at,
)
from tests.conftest import t_site

ENDS_OF_A_TRAIL = {"set", "proposed", "ground", "survey"}


def assert_adds_up(step, value):
    """The trail ends at ``value``, every step is the sum of its terms, and every branch ends at set levels or ground."""
    assert step.value == pytest.approx(value, abs=1e-9)
    for s in step.walk():
        if s.terms:
            assert s.value == pytest.approx(sum(t.amount for t in s.terms), abs=1e-12)
            for t in s.terms:
                if t.step is not None:
                    assert t.amount == pytest.approx(t.factor * t.step.value, abs=1e-12)
        else:
            assert s.source in ENDS_OF_A_TRAIL, s


@pytest.fixture(scope="module", params=["court", "brickworks"])
def model(request):
    return Engine(request.getfixturevalue(request.param))


def new_streets(q):
    return [s.id for s in q.site.streets if s.kind == "new"]


def test_a_thousand_random_points_of_lips_crowns_returns_bulbs_and_paths(model):
    q, rng = model, np.random.default_rng(11)
    count = 0
    for street in new_streets(q):
        p = grade_line(q, street).profile
        for s in rng.uniform(0.0, p.chainages[-1], 120):
            assert_adds_up(explain_crown(q, street, s), crown_levels(q, street, [s])[0])
            side = rng.choice(["left", "right"])
            assert_adds_up(explain_lip(q, street, side, s), lip_levels(q, street, side, [s])[0])
            count += 2
        for edge in edges(q, street):
            beside = roadside(q, edge)
            for _ in range(60):
                i, k = rng.integers(len(beside.along)), rng.integers(len(beside.names))
                assert_adds_up(explain_roadside(q, edge, int(i), beside.names[k]), beside.points[i, k, 2])
                count += 1
            if edge[0] == "corner":
                cubic = return_levels(q, *edge[1:]).cubic
                for u in rng.uniform(0, cubic.length, 30):
                    assert_adds_up(explain_return(q, *edge[1:], u), cubic.level([u])[0])
                    count += 1
            if edge[0] == "head":
                profile = head_levels(q, street).profile
                for u in rng.uniform(0, profile.chainages[-1], 60):
                    assert_adds_up(explain_ring(q, street, u), profile.level([u])[0])
                    count += 1
    assert count > 500  # in each of two models


def test_every_pad(model):
    for street in new_streets(model):
        for lot in lots(model, street):
            assert_adds_up(explain_pad(model, street, lot.name), pad(model, street, lot.name).level)


def test_places_anywhere_end_at_the_finished_surface(model):
    q, rng, told = model, np.random.default_rng(4), 0
    for street in new_streets(q):
        half = half_road(q, street, "left")
        for _ in range(40):
            e, n = half.lip[rng.integers(len(half.lip)), :2] + rng.normal(0, 8, 2)
            found = probe(q, e, n)
            step = trail_at(q, e, n)
            assert step.value == pytest.approx(found.finished if found.piece else found.ground, abs=1e-9)
            told += found.piece is not None
    assert told > 30


def test_the_trail_of_a_side_crown_leads_to_the_through_streets_set_levels():
    q = Engine(t_site())
    names = [s.quantity for s in explain_crown(q, "side", 20.0).walk()]
    for wanted in (
        "Side VIP at 3.50",
        "Side / Through throat",
        "Through left lip at 100.00",
        "Through VIP at 0.00",
        "Through VIP at 200.00",
    ):
        assert wanted in names


def test_the_steps_of_a_vip_say_how_it_was_fixed():
    q = Engine(t_site())
    assert explain_vip(q, "through", 0).source == "set"
    assert explain_vip(q, "side", 0).source == "tied"
    by_grade = explain_vip(q, "side", 1)
    assert (by_grade.source, by_grade.rule) == ("set", "grade set to +1.00 % from the VIP before")
    assert by_grade.value == pytest.approx(21.895 + 0.01 * 56.5)


def test_the_text_of_a_trail_names_value_source_and_terms():
    q = Engine(t_site())
    text = "\n".join(explain_lip(q, "through", "left", 50.0).lines())
    assert "Through left lip at 50.00 = 20.8950" in text
    assert "-0.1050  crossfall −3.00 % × 3.50 m" in text
    assert "[set] level set" in text


def test_a_place_with_neither_ground_nor_design_says_so():
    q = Engine(edits.add_street(new_site(), "S", [Bend(easting=0, northing=0), Bend(easting=9, northing=0)]))
    with pytest.raises(Unsolved, match="neither ground nor design"):
        trail_at(q, 500.0, 500.0)
