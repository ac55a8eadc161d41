"""What else the cross section shows: other surfaces, lines that it meets, and what of itself is wanted."""

import numpy as np
import pytest

from humble_loop.desk.across import across
from humble_loop.desk.cross_section import FALLS, LEVELS, MET, NAMES, SURFACES
from humble_loop.desk.section_band import BAND
from humble_loop.desk.stretch_button import StretchButton
from humble_loop.engine.query import Engine
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.street import Bend
from humble_loop.kinds.survey_line.model import SurveyLine
from humble_loop.lines.line import ThingId
from tests import edits
from tests.conftest import plane_ground, t_site


def crossed():
    """The through street of the T with the ground at 19, an old surface that falls to the north, a main and a fence."""
    site = edits.add_ground(t_site(), Ground(name="before", surface=plane_ground(0.0, -0.1, 18.0)))
    site = edits.add_ground(site, Ground(name="today", surface=plane_ground(0.0, 0.0, 19.0)))
    main = SurveyLine(name="Main", vertices=((0.0, -6.0, 18.0), (80.0, -6.0, 18.8)), least_cover=0.6)
    fence = SurveyLine(name="Fence", vertices=((30.0, 14.0, None), (50.0, 14.0, None)))
    return edits.add_survey_lines(site, [main, fence])


def test_lines_and_surfaces_across_are_found_where_they_are():
    made = across(Engine(crossed()), "through", 40.0, 20.0)
    assert [(m.name, m.role) for m in made.met] == [("Fence", "ground"), ("Main", "near")]
    # Looking along the street the south lies to the right; the main rises by 1 in 100; the fence lies on the ground.
    assert (made.met[1].x, made.met[1].z) == (pytest.approx(6.0), pytest.approx(18.4))
    assert (made.met[0].x, made.met[0].z) == (pytest.approx(-14.0), pytest.approx(19.0))
    ((name, surface),) = made.surfaces
    assert name == "before"
    assert np.interp([-20.0, 0.0, 20.0], *surface.T) == pytest.approx([16.0, 18.0, 20.0])
    # Across a street that runs north at x = 150 the section runs along the through street; one that runs at an angle meets it.
    slanting = [Bend(easting=-40.0, northing=10.0), Bend(easting=40.0, northing=90.0)]
    made = across(Engine(edits.add_street(crossed(), "Slanting", slanting)), "slanting", 40.0, 80.0)
    through = next(m for m in made.met if m.name == "Through")
    # From 40 m along it, at (-11.72, 38.28), the section runs to the south-east and meets y = 0 at x = 26.57, level 20.53.
    assert (through.x, through.z) == (
        pytest.approx(38.284 * np.sqrt(2), abs=1e-3),
        pytest.approx(20 + 0.02 * 26.569, abs=1e-3),
    )


@pytest.fixture
def d(drive):
    made = drive(crossed())
    made.window.session.choose(ThingId("street", "through"))
    made.window.long_section.point_station(40.0)
    made.settle()
    return made


def named(view):
    return {p.texts[0] for p in view.band._points}


def test_they_are_drawn_and_what_is_not_wanted_is_left_out(d):
    view = d.window.cross_section
    assert {"crown", "lip", "Fence"} <= named(view)
    assert [(p.x, p.y) for p in view.band._points if p.mark and not p.texts[0]] == [
        (pytest.approx(6.0), pytest.approx(18.4))
    ]
    # What lies deep is in view, above the figures.
    assert view.pixel((6.0, 18.4)).y() < view.height() - BAND
    x, z = view._others.getData()
    at = np.isfinite(z)
    assert np.interp(0.0, x[at], z[at]) == pytest.approx(18.0)
    assert [label.text for label in view.labels._labels] == ["before", "Main 18.400"]
    button = d.window._panes["Cross section"].findChild(StretchButton)
    actions = {a.text(): a for a in button.menu().actions()}
    assert list(actions)[-5:] == [NAMES, LEVELS, FALLS, MET, SURFACES]
    for part in (MET, SURFACES, FALLS):
        actions[part].trigger()
    d.settle()
    assert "Fence" not in named(view)
    assert not view.labels._labels
    assert not len(view._others.getData()[0])
    assert not view.band._falls
    actions[LEVELS].trigger()
    d.settle()
    assert {p.texts[1:] for p in view.band._points} == {("", "")}
    actions[NAMES].trigger()
    d.settle()
    assert named(view) == {""}
    for part in (MET, NAMES):
        actions[part].trigger()
    d.settle()
    assert "Fence" in named(view)
