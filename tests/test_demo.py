"""The demo: the same survey every time, and the estate that it promises."""

import numpy as np

from humble_loop.demo import EAST, NORTH, SOUTH, WEST, build_demo, make_survey, repeated_site, survey_files
from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import site_json
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.nodes import all_joints
from humble_loop.kinds.lot.layout import lots_on
from humble_loop.kinds.street import Street


def test_the_shipped_survey_is_what_the_script_makes(tmp_path):
    made = make_survey(tmp_path)
    for file in survey_files():
        again = next(m for m in made if m.name == file.name)
        assert again.read_bytes() == file.read_bytes()


def test_the_shipped_site_is_what_the_survey_and_the_edits_make(brickworks):
    built = build_demo()
    assert site_json(built) == site_json(brickworks)
    for a, b in zip(built.all(Ground), brickworks.all(Ground), strict=True):
        assert np.array_equal(a.surface.points, b.surface.points)
        assert np.array_equal(a.surface.triangles, b.surface.triangles)


def test_the_estate(brickworks):
    assert [(s.name, s.kind) for s in brickworks.all(Street)] == [
        ("Claypit Road", "existing"),
        ("Ember Loop", "new"),
        ("Kiln Court", "new"),
    ]
    q = Engine(brickworks)
    assert {t for _, _, t in all_joints(q)} == {"claypit-road", "ember-loop"}
    assert sum(len(lots_on(q, s.id)) for s in brickworks.all(Street)) >= 25


def test_the_ground_falls_from_the_ridge_road_to_the_creek(brickworks):
    ground = brickworks.all(Ground)[-1].surface
    levels = ground.levels([[WEST + 15, NORTH - 15], [EAST - 15, SOUTH + 15]])
    assert 44 < levels[0] < 48
    assert 29 < levels[1] < 33
    assert np.hypot(EAST - WEST, NORTH - SOUTH) / (levels[0] - levels[1]) > 20


def test_the_estate_can_be_repeated_side_by_side(brickworks):
    site = repeated_site(2)
    q = Engine(site)
    assert len(site.all(Street)) == 6
    assert len(all_joints(q)) == 4
    assert len(lots_on(q, "kiln-court-2")) == len(lots_on(Engine(brickworks), "kiln-court"))
