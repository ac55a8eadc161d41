"""Streets along survey lines: joined, fitted, as they stand, and beside them."""

import numpy as np
import pytest

from humble_loop.engine.query import Engine
from humble_loop.geometry.bends import BendInput, chain_from_bends
from humble_loop.kinds.street import Street
from humble_loop.kinds.street.checks import bend_findings
from humble_loop.kinds.street.from_line import beside, source, street_sheet
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.street.show import facts
from humble_loop.kinds.survey_line.model import SurveyLine, set_survey_line
from humble_loop.lines.describe import Actions
from humble_loop.site.edits import EditError, set_settings
from humble_loop.site.libraries import new_site
from tests import edits
from tests.geometry.test_line_fit import E0, LINES, N0, surveyed


def line(id, points, code="LIP"):
    return SurveyLine(id=id, name=id, code=code, vertices=tuple((float(e), float(n), 40.0) for e, n in points))


def site_with(*lines):
    return edits.add_survey_lines(new_site(), lines)


def pieces():
    """A surveyed lip in three pieces, the middle one run the other way, and another code that touches it."""
    p = surveyed(LINES["reverse"])
    return site_with(
        line("a", p[:20]), line("b", p[19:50][::-1]), line("c", p[49:]), line("fence", [p[0], p[0] + [0, 50]], "FENCE")
    )


def sheet(site, id="a"):
    return street_sheet(Engine(site), id)


def test_lines_of_one_code_that_go_on_from_one_another_are_one():
    made = source(Engine(pieces()), "b")
    assert set(made.names) == {"a", "b", "c"}
    assert len(made.points) == len(surveyed(LINES["reverse"]))
    ends = made.points[[0, -1]]
    p = surveyed(LINES["reverse"])
    assert (
        np.abs(
            np.sort(np.diff(ends, axis=0)) - np.sort(np.diff(p[[0, -1]], axis=0) * np.sign(ends[1, 0] - ends[0, 0]))
        ).max()
        < 1e-6
    )


def test_where_two_go_on_none_is_taken():
    p = surveyed(LINES["straight"])
    site = site_with(line("a", p), line("b", [p[-1], p[-1] + [30, 0]]), line("c", [p[-1], p[-1] + [0, 30]]))
    assert source(Engine(site), "a").names == ("a",)


def test_a_street_along_it_has_the_radii_that_were_built_and_says_how_far_it_departs():
    made = sheet(pieces())
    assert "With b, c" in made.note
    assert "departs by 0 mm" in made.note
    assert [r.cells[3].value for r in made.rows if r.cells[3] is not None] == pytest.approx([80.0, 50.0], rel=1e-3)
    site = dict(made.actions)["Street along it"](pieces())
    street = site.all(Street)[-1]
    assert street.name == "a"
    assert [b.radius for b in street.bends] == pytest.approx([0.0, 80.0, 50.0, 0.0], rel=1e-3)
    assert (street.bends[0].easting, street.bends[0].northing) == pytest.approx((E0, N0), abs=1e-6)
    away = chain_of(Engine(site), street.id).feet(source(Engine(site), "a").points).offsets
    assert np.abs(away).max() < 1e-3


def test_a_tolerance_that_is_not_kept_is_told():
    rng = np.random.default_rng(2)
    points = np.column_stack([np.arange(0.0, 900.0, 3.0), rng.normal(0.0, 2.0, 300)]) + [E0, N0]
    made = sheet(set_settings(site_with(line("a", points)), fit_tolerance=0.05))
    assert "more than the 50 mm that the site allows" in made.note


def test_a_street_as_it_stands_keeps_every_point_and_its_kinks_are_told():
    rows = [(0.0, 0.0), (50.0, 0.0), (50.0, 0.0), (90.0, 30.0)]
    site = site_with(line("a", np.array(rows) + [E0, N0]))
    site = dict(sheet(site).actions)["Street as it stands"](site)
    street = site.all(Street)[-1]
    assert len(street.bends) == 3
    found = [f for those in bend_findings(Engine(site), street.id).values() for f in those]
    assert [f.rule for f in found] == ["kink"]


def test_a_line_of_many_points_is_no_street_as_it_stands():
    p = np.column_stack([np.arange(500.0), np.sin(np.arange(500.0))]) + [E0, N0]
    site = site_with(line("a", p))
    with pytest.raises(EditError, match="have it fitted"):
        dict(sheet(site).actions)["Street as it stands"](site)


def test_a_street_beside_it_runs_at_that_distance_everywhere():
    site = pieces()
    cell = sheet(site).rows[-1].cells[1]
    for offset in (3.5, -3.5):
        made = cell.edit(offset)(site)
        q = Engine(made)
        chain = chain_of(q, made.all(Street)[-1].id)
        points = source(q, "a").points
        feet = chain.feet(points[3:-3])
        assert np.abs(feet.offsets) == pytest.approx(np.full(len(points) - 6, 3.5), abs=1e-3)
        assert np.sign(feet.offsets).tolist() == [-np.sign(offset)] * (len(points) - 6)


def test_nothing_runs_inside_an_arcs_centre():
    rows = tuple(BendInput(*r) for r in [(0.0, 0.0, 0.0), (100.0, 0.0, 20.0), (100.0, 100.0, 0.0)])
    with pytest.raises(EditError, match="bend 2 has a radius of 20"):
        beside(rows, 25.0)
    chain, problems = chain_from_bends(beside(rows, -25.0))
    assert not problems
    assert chain.feet([[60.0, 0.0]]).offsets[0] == pytest.approx(25.0)


def kerbs(radius=60.0, half=3.4):
    """Two lips on both sides of a centreline with one bend."""
    centre = surveyed([(0, 0, 0), (150, 0, radius), (220, 120, 0)], every=3.0)
    chain, _ = chain_from_bends(
        [BendInput(E0, N0), BendInput(E0 + 150.0, N0, radius), BendInput(E0 + 220.0, N0 + 120.0)]
    )
    s = chain.feet(centre).chainages
    return site_with(
        line("left", chain.points_at(s, half)),
        line("right", chain.points_at(s, -half)),
        line("far", centre + [900.0, 0.0]),
    )


def test_the_midline_of_two_lips_is_the_street_between_them():
    site = kerbs()
    pair = next(r.cells[1] for r in sheet(site, "left").rows if r.cells[0].value == "midline with")
    assert pair.options == (("", "no other line"), ("right", "right"))
    chosen = pair.edit("right")(site)
    made = sheet(chosen, "left")
    assert made.note.startswith("Midway, with right: 1 bend;")
    fresh = made.actions[0][1](chosen).all(Street)[0]
    (bend,) = fresh.bends[1:-1]
    # Chords of 3 m lie at most 20 mm within an arc of 60 m.
    assert bend.radius == pytest.approx(60.0, abs=0.5)
    assert (bend.easting, bend.northing) == pytest.approx((E0 + 150.0, N0), abs=0.1)
    assert fresh.bends[0].easting == pytest.approx(E0, abs=1e-6)


def test_a_line_that_does_not_run_beside_leaves_the_choice_open():
    site = set_survey_line(kerbs(), "left", midline_with="far")
    made = sheet(site, "left")
    assert "far does not run beside it" in made.note
    assert [r.cells[1].current for r in made.rows] == ["far"]
    assert len(sheet(made.rows[0].cells[1].edit("")(site), "left").rows) > 2
    gone = set_survey_line(kerbs(), "left", midline_with="taken away")
    assert "Midway" not in sheet(gone, "left").note or len(sheet(gone, "left").rows) > 2


# Laid again when the line has changed


def moved(site, by):
    """All pieces of the line a few metres further north."""
    for id in ("a", "b", "c"):
        old = site.find(SurveyLine, id)
        site = set_survey_line(site, id, vertices=tuple((e, n + by, z) for e, n, z in old.vertices))
    return site


def lay_again(site, street):
    rows = [r for r in facts(Engine(site), street) if isinstance(r, Actions)]
    return next(
        edit for row in rows for words, edit in row.buttons if words.endswith(" again") and words.startswith("Lay")
    )(site)


@pytest.mark.parametrize("turned", [False, True])
@pytest.mark.parametrize("at", [0.0, 6.0])
def test_a_street_is_laid_along_its_line_again_when_that_has_moved(at, turned):
    site = pieces()
    if at:
        row = next(r for r in sheet(site).rows if r.cells[0].value == "beside at")
        site = row.cells[1].edit(at)(site)
    else:
        site = dict(sheet(site).actions)["Street along it"](site)
    street = site.all(Street)[-1]
    assert (street.along, street.beside) == ("a", at)
    if turned:
        site = edits.reverse_street(site, street.id, chain_of(Engine(site), street.id).total)
    before = site.find(Street, street.id)
    site = lay_again(moved(site, 2.5), street.id)
    after = site.find(Street, street.id)
    assert [(b.easting, b.northing, b.radius) for b in after.bends] == [
        pytest.approx((b.easting, b.northing + 2.5, b.radius), abs=1e-3) for b in before.bends
    ]
    assert after.turned == turned


def test_a_street_whose_line_is_gone_is_a_street_like_any_other():
    site = dict(sheet(pieces()).actions)["Street along it"](pieces())
    street = site.all(Street)[-1].id
    assert [f.value for f in facts(Engine(site), street) if getattr(f, "label", "") == "along"] == ["a"]
    for id in ("a", "b", "c"):
        site = site.without(SurveyLine, id)
    assert not [f for f in facts(Engine(site), street) if getattr(f, "label", "") == "along"]
