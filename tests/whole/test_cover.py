"""Cover over services in the ground, worked by hand under the T's through street (level 20 + 0.02 x, 3 % crossfall)."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.kinds.street import StreetLine
from humble_loop.kinds.street.grades import crossing_rows
from humble_loop.kinds.survey_line.model import SurveyLine, set_survey_line
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of
from humble_loop.whole.cover import covers
from humble_loop.whole.findings import findings, stage_of
from humble_loop.whole.surface import probe
from humble_loop.whole.tables import table
from tests import edits
from tests.conftest import court_site, examples, t_site

LEFT, RIGHT = "Through carriageway, left", "Through carriageway, right"


def with_service(vertices, least=0.8, site=None):
    found = SurveyLine(name="Water main", vertices=vertices, least_cover=least)
    return edits.add_survey_lines(site or t_site(), [found])


def told(site):
    return [f for f in findings(Engine(site)) if f.of == ThingId("survey_line", "water-main")]


def test_the_least_cover_of_each_piece_is_found_and_told():
    # Across at x = 40: the crown lies at 20.8, the lips 3.5 m beside it at 20.695.
    site = with_service(((40.0, -30.0, 20.0), (40.0, 30.0, 20.0)))
    made = {c.title: c for c in covers(Engine(site), "water-main")}
    assert made[LEFT].depth == pytest.approx(0.695, abs=1e-9)
    assert (made[LEFT].along, made[LEFT].place) == (pytest.approx(33.5), pytest.approx((40.0, 3.5)))
    assert made[RIGHT].along == pytest.approx(26.5)
    broken, *others = told(site)
    assert not others  # piece beside piece is told once, by the least
    # The channel's invert lies 25 mm below the lip, 0.3 m beyond it.
    assert "0.67 m of cover" in broken.message
    assert "4 pieces leave too little from 26.20 to 33.80" in broken.message
    assert (broken.value, broken.limit) == (pytest.approx(0.67), 0.8)
    assert broken.also == (ThingId("street", "through"),)
    assert "raise the finished level there by 0.1" in broken.remedy
    assert stage_of(broken) == "Levels"
    assert not told(with_service(((40.0, -30.0, 20.0), (40.0, 30.0, 20.0)), least=0.6))


def test_a_service_that_rises_is_nearest_where_it_comes_highest():
    # It rises by 2 m over 60 m: 18.9 at y = -30, 20.9 at y = 30; over y from -3.5 to 0 the road rises as fast as 0.03.
    site = with_service(((40.0, -30.0, 18.9), (40.0, 30.0, 20.9)))
    made = {c.title: c for c in covers(Engine(site), "water-main")}
    assert made[LEFT].depth == pytest.approx(20.695 - (18.9 + 2.0 * 33.5 / 60.0), abs=1e-9)
    # To the right the road falls outwards by 0.03, and the service by 2 / 60: the crown is the nearest.
    assert made[RIGHT].place == pytest.approx((40.0, 0.0), abs=1e-6)
    above = with_service(((40.0, -30.0, 21.5), (40.0, 30.0, 21.5)))
    # The lips, 3.5 m beside the crown, lie 0.805 m below it, and the channels' inverts 25 mm lower.
    assert [f.message.split(" at ")[0].split("lies ")[1] for f in told(above)] == ["0.83 m below it"]


def test_one_without_levels_says_that_nothing_is_known_of_its_depth():
    site = with_service(((40.0, -30.0, None), (40.0, 30.0, None)))
    assert [(f.rule, f.severity) for f in told(site)] == [("depth of a service", "near")]
    assert not told(set_survey_line(site, "water-main", least_cover=0.0))


def test_a_line_that_is_no_line_fails_on_itself():
    site = with_service(((40.0, 0.0, 20.0), (40.0, 0.0, 20.0)))
    assert {f.of for f in told(site)} == {ThingId("survey_line", "water-main")}


def test_it_stands_in_facts_tables_and_among_the_crossings_of_the_street():
    site = with_service(((40.0, -30.0, 20.0), (40.0, 30.0, 20.0)), least=0.0)
    survey = kind_of("survey_line")
    fact = next(f for f in survey.facts(Engine(site), ThingId("survey_line", "water-main")) if "cover" in f.label)
    assert not [c for c in crossing_rows(Engine(site), "through") if c.words == "Water main"]
    site = fact.edit(0.9)(site)
    q = Engine(site)
    crossing = next(c for c in crossing_rows(q, "through") if c.words == "Water main")
    assert (crossing.chainage, crossing.level, crossing.own) == (40.0, 20.0, pytest.approx(20.8))
    rows = [dict(zip(table(q, "cover").columns, r)) for r in table(q, "cover").rows]
    mine = next(r for r in rows if r["under"] == LEFT)
    assert (mine["cover"], mine["least_cover"], mine["easting"]) == (pytest.approx(0.695), 0.9, pytest.approx(40.0))
    assert {s.role for s in survey.outline(q, ThingId("survey_line", "water-main")).strokes} == {"service"}
    assert StreetLine("through") not in [c.line for c in survey.section_marks(q, StreetLine("through"))]


@given(
    st.tuples(st.floats(20, 240), st.floats(-20, 40)),
    st.tuples(st.floats(20, 240), st.floats(-20, 120)),
    st.tuples(st.floats(20, 40), st.floats(20, 40)),
)
@examples(15)
def test_no_place_along_it_has_less_cover_than_what_is_told(a, b, levels):
    if np.hypot(b[0] - a[0], b[1] - a[1]) < 5.0:
        return
    site = with_service(((*a, levels[0]), (*b, levels[1])), site=COURT)
    q = Engine(site)
    made = {c.title: c.depth for c in covers(q, "water-main")}
    for t in np.linspace(0.0, 1.0, 60):
        p, z = np.array(a) + t * (np.array(b) - np.array(a)), levels[0] + t * (levels[1] - levels[0])
        found = probe(q, *p)
        if np.isfinite(found.finished):
            assert found.finished - z >= made[found.title] - 1e-6


COURT = court_site()
