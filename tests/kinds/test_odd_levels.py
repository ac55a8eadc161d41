"""Levels out of their run: mistakes that are put into smooth runs are found, named and undone; smooth and rough ground has none."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.demo import demo_site
from humble_loop.engine.query import Engine
from humble_loop.kinds.survey_line.levels import level_sheet, odd_vertices
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.propose.run import odd_levels
from humble_loop.whole.findings import findings
from tests.conftest import examples
from tests.kinds.test_ties import surveyed

AT = np.arange(0.0, 200.0, 10.0)


def run(seed=1, uneven=0.003):
    """A run that falls at 2 % and bends a little, as uneven as a good survey."""
    rng = np.random.default_rng(seed)
    return np.round(61.2 - 0.02 * AT + 0.0001 * (AT - 90.0) ** 2 + rng.normal(0, uneven, len(AT)), 3)


def with_one(index, value, seed=1):
    z = run(seed)
    z[index] = value
    return z


@examples(60)
@given(st.integers(0, 500), st.integers(2, 17), st.sampled_from([0.3, -0.1, 1.0, -10.0]))
def test_a_wrong_level_is_found_and_no_other(seed, index, off):
    z = run(seed)
    right = z[index]
    z[index] = round(right + off, 3)
    (found,) = odd_levels(AT, z)
    assert found.index == index
    assert found.off == pytest.approx(off, abs=0.03)
    assert found.likely == pytest.approx(right, abs=0.03)


def test_a_swapped_and_a_mistyped_digit_are_named():
    z = run()
    right = float(z[8])
    text = f"{right:.3f}"
    swapped = float(text[:3] + text[4] + text[3] + text[5:])
    assert abs(swapped - right) > 0.05
    (found,) = odd_levels(AT, with_one(8, swapped))
    assert (found.likely, found.why) == (pytest.approx(right), "two digits swapped")
    (typed,) = odd_levels(AT, with_one(8, right + 10.0))
    assert typed.why == "one digit mistyped"
    assert typed.likely == pytest.approx(right, abs=0.01)
    (other,) = odd_levels(AT, with_one(8, right + 0.337))
    assert other.likely == pytest.approx(other.smooth, abs=1e-3) or other.why == "one digit mistyped"


def test_several_are_found_and_ranked():
    z = run()
    for k, off in ((4, 0.2), (11, -1.0), (15, 0.08)):
        z[k] += off
    assert [o.index for o in odd_levels(AT, z)] == [11, 4, 15]


@examples(30)
@given(st.integers(0, 300), st.floats(0.001, 0.3))
def test_a_run_that_is_uneven_all_along_has_hardly_any(seed, uneven):
    assert len(odd_levels(AT, run(seed, uneven))) <= 1


def test_short_runs_and_runs_that_turn_back_have_none():
    assert odd_levels(AT[:5], run()[:5]) == ()
    assert odd_levels(np.array([0.0, 1, 2, 2, 3, 4, 5]), np.array([0.0, 0, 0, 9, 0, 0, 0])) == ()


def line_with(z):
    site = surveyed([(x, 6.0, float(v)) for x, v in zip(AT, z)])
    return site, site.all(SurveyLine)[0].id


def test_it_is_a_finding_with_the_likely_level_to_take():
    z = run()
    right = float(z[8])
    site, id = line_with(with_one(8, right + 1.0))
    (f,) = [f for f in findings(Engine(site)) if f.rule == "level out of its run"]
    assert f.of.kind == "survey_line"
    assert "lies 999 mm" in f.message
    assert "above its run" in f.message
    mended = f.mend.apply(site)
    assert mended.find(SurveyLine, id).vertices[8][2] == pytest.approx(right, abs=0.02)
    assert odd_vertices(Engine(mended), id) == ()


def test_levels_stand_in_rows_and_can_be_typed():
    site, id = line_with(with_one(8, 70.0))
    sheet = level_sheet(Engine(site), id)
    row = sheet.rows[8]
    assert row.cells[3].value == pytest.approx(70.0 - run()[8], abs=0.05)
    assert row.findings
    assert sheet.rows[3].cells[3] is None
    typed = row.cells[2].edit(60.5)(site)
    assert typed.find(SurveyLine, id).vertices[8][2] == 60.5
    assert "1 of 20" in sheet.note


def test_vertices_without_levels_are_passed_over():
    site, id = line_with(run())
    found = list(site.find(SurveyLine, id).vertices)
    found[5] = (*found[5][:2], None)
    found[9] = (*found[9][:2], 75.0)
    site = site.put(site.find(SurveyLine, id).model_copy(update={"vertices": tuple(found)}))
    (odd,) = odd_vertices(Engine(site), id)
    assert odd.index == 9


def test_the_brickworks_survey_is_clean():
    q = Engine(demo_site())
    assert [line.name for line in q.site.all(SurveyLine) if odd_vertices(q, line.id)] == []
