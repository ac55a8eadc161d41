"""The level trail: its arithmetic adds up and ends at the model's own levels, at a thousand random points and more."""

import time

import numpy as np
import pytest

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.lot.layout import lots_on
from humble_loop.kinds.lot.pad import PadLine, pad
from humble_loop.kinds.street import Bend, Street, StreetLine, Vip
from humble_loop.kinds.street.levels import grade_line
from humble_loop.lines.line import line
from humble_loop.lines.standing import kind_of
from humble_loop.site.libraries import new_site
from humble_loop.whole.surface import probe
from humble_loop.whole.things import all_things
from humble_loop.whole.trail import Reasons, explain, trail_at
from tests import edits
from tests.asking import edge_faces, half_road, roadside
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
    return [s.id for s in q.site.all(Street) if s.kind == "new"]


def lines_of(q):
    found = []
    for thing in all_things(q):
        for id in kind_of(thing.kind).lines(q, thing):
            if not isinstance(made := q.attempt(line, id), Unsolved):
                found.append((id, made))
    return found


def test_random_points_of_every_line_of_every_kind(model):
    q, rng, count = model, np.random.default_rng(11), 0
    for id, made in lines_of(q):
        s = rng.uniform(made.plan.start, made.plan.end, 12)
        z = made.rule.levels(s)
        for place, level in zip(s, z):
            if np.isfinite(level):
                assert_adds_up(explain(q, id, place), level)
                count += 1
    assert count > 500  # in each of two models


def test_levels_grades_and_weights_of_every_line_come_from_one_formula(model):
    """Weights times what they weigh is the level again, and the grade is the level's change over a millimetre."""
    q, rng = model, np.random.default_rng(5)
    for _, made in lines_of(q):
        s = np.sort(rng.uniform(made.plan.start, made.plan.end, 40))
        z = made.rule.levels(s)
        known = np.isfinite(z)
        assert made.rule.weights(s).total()[known] == pytest.approx(z[known], abs=1e-9)
        h = 1e-3
        inner = known & (s < made.plan.end - h)
        rise = (made.rule.levels(s + h) - z) / h
        keys = made.rule.key_places()
        clear = (
            ~np.any((keys > s[:, None] - 1e-9) & (keys < s[:, None] + h), axis=1)
            if keys.size
            else np.full(s.size, True)
        )
        ok = inner & clear & np.isfinite(rise)
        assert made.rule.grades(s)[ok] == pytest.approx(rise[ok], abs=2e-4)


def test_moving_a_decision_moves_a_level_by_its_weight(court):
    """A set VIP raised by 10 mm raises the crown by 10 mm times the weight that the crown's rule tells."""
    site = edits.set_vips(
        court, "court", [Vip(chainage=60, level=41.0, curve_length=20), Vip(chainage=128, level=39.0)]
    )
    q = Engine(site)
    s = np.linspace(20.0, 120.0, 30)
    rule = line(q, StreetLine("court")).rule
    before, weights = rule.levels(s), rule.weights(s).decided[("vip", "court", 0)][1]
    q.use(edits.set_vip(site, "court", 0, level=41.01))
    after = line(q, StreetLine("court")).rule.levels(s)
    assert after - before == pytest.approx(0.01 * weights, abs=1e-12)
    assert weights.max() > 0.7


def test_every_row_of_every_roadside(model):
    q, rng = model, np.random.default_rng(3)
    for street in new_streets(q):
        for edge in edge_faces(q, street):
            beside = roadside(q, *edge)
            for _ in range(20):
                i, k = int(rng.integers(len(beside.along))), int(rng.integers(len(beside.names)))
                assert_adds_up(explain(q, beside.lines[k], beside.along[i]), beside.points[i, k, 2])


def test_every_pad(model):
    for street in new_streets(model):
        for lot in lots_on(model, street):
            assert_adds_up(explain(model, PadLine(lot.id), 1.0), pad(model, lot.id).level)


def test_a_trail_through_twelve_streets_is_told_once_each_and_quickly():
    """A chain of streets, each leaving the one before: the trail is a graph, not a tree that triples each time."""
    site = edits.add_street(
        new_site(),
        "S0",
        [Bend(easting=0, northing=0), Bend(easting=300, northing=0)],
        vips=(Vip(chainage=0, level=50), Vip(chainage=150, level=53, curve_length=60), Vip(chainage=300, level=51)),
    )
    e, n = 150.0, 0.0
    for k in range(1, 13):
        across = (0.0, 60.0) if k % 2 else (60.0, 0.0)
        far = (e + 2 * across[0], n + 2 * across[1])
        vips = (Vip(chainage=60, grade=0.02, curve_length=20), Vip(chainage=120, grade=0.05))
        site = edits.add_street(
            site, f"S{k}", [Bend(easting=e, northing=n), Bend(easting=far[0], northing=far[1])], vips=vips
        )
        e, n = e + across[0], n + across[1]
    q = Engine(site)
    rule = line(q, StreetLine("s12")).rule
    started = time.perf_counter()
    step = explain(q, StreetLine("s12"), 65.0)
    steps = list(step.walk())
    lines = step.lines()
    assert time.perf_counter() - started < 0.05 * 4  # 50 ms, with room for a busy machine
    assert step.value == pytest.approx(rule.levels([65.0])[0], abs=1e-9)
    assert len(steps) < 400
    assert len(lines) < 1500
    assert any(s.quantity.startswith("S0 VIP") for s in steps)


def test_places_anywhere_end_at_the_finished_surface(model):
    q, rng, told = model, np.random.default_rng(4), 0
    for street in new_streets(q):
        lip = half_road(q, street, "left").line("lip")
        for _ in range(40):
            e, n = lip[rng.integers(len(lip)), :2] + rng.normal(0, 8, 2)
            found = probe(q, e, n)
            step = trail_at(q, e, n)
            assert step.value == pytest.approx(found.finished if found.face else found.ground, abs=1e-9)
            told += found.face is not None
    assert told > 30


def test_the_trail_of_a_side_crown_leads_to_the_through_streets_set_levels():
    q = Engine(t_site())
    names = [s.quantity for s in explain(q, StreetLine("side"), 20.0).walk()]
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

    def vip(street, i):
        return Reasons(q).of(grade_line(q, street).vips[i])

    assert vip("through", 0).source == "set"
    assert vip("side", 0).source == "tied"
    by_grade = vip("side", 1)
    assert (by_grade.source, by_grade.rule) == ("set", "grade set to +1.00 % from the VIP before")
    assert by_grade.value == pytest.approx(21.895 + 0.01 * 56.5)


def test_the_text_of_a_trail_names_value_source_and_terms():
    q = Engine(t_site())
    text = "\n".join(explain(q, StreetLine("through", "lip", "left"), 50.0).lines())
    assert "Through left lip at 50.00 = 20.8950" in text
    assert "-0.1050  crossfall −3.00 % × 3.50 m" in text
    assert "[set] level set" in text
    # A leg's grade as people work it: level difference over length.
    assert "(24.000 − 20.000) / 200.00" in text


def test_a_place_with_neither_ground_nor_design_says_so():
    q = Engine(edits.add_street(new_site(), "S", [Bend(easting=0, northing=0), Bend(easting=9, northing=0)]))
    with pytest.raises(Unsolved, match="neither ground nor design"):
        trail_at(q, 500.0, 500.0)
