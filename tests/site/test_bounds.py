"""No number makes a count run away: absurd ones are refused where they enter, and a thing too large is a finding on it."""

import time

import numpy as np
import pytest

from humble_loop.desk.drawing import fine_lines
from humble_loop.engine.query import Engine, Unsolved
from humble_loop.formats.errors import FormatError
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.ground.contour import contour_segments
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.model import Ground, add_ground
from humble_loop.kinds.street.edits import move_bend, set_vips
from humble_loop.kinds.street.model import Vip
from humble_loop.kinds.street.plan import LONGEST, centreline
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import ThingId
from humble_loop.site.edits import EditError, set_set_out, set_settings
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from humble_loop.whole.things import faces_of

ABSURD = (1e-300, 5e-324, 1e300, 1e18, float("inf"), float("nan"), -1.0)


@pytest.mark.parametrize("value", ABSURD)
@pytest.mark.parametrize(
    "field",
    ["row_interval", "arc_tolerance", "level_tolerance", "contour_interval", "fine_contour_interval", "batter_reach"],
)
def test_a_setting_that_no_work_has_is_refused_in_one_sentence(field, value):
    with pytest.raises(EditError) as refused:
        set_settings(new_site(), **{field: value})
    assert field in str(refused.value)
    assert "\n" not in str(refused.value)


@pytest.mark.parametrize("value", ABSURD)
@pytest.mark.parametrize("field", ["interval", "spacing", "rise"])
def test_a_set_out_that_no_work_has_is_refused(field, value):
    with pytest.raises(EditError, match=field):
        set_set_out(new_site(), **{field: value})


@pytest.mark.parametrize("vip", [{"level": 1e300}, {"level": -1e9}, {"grade": 1e9}, {"chainage": 1e18}])
def test_a_level_or_grade_that_no_road_has_is_refused(brickworks, vip):
    with pytest.raises((EditError, ValueError), match="must be between"):
        set_vips(
            brickworks,
            "ember-loop",
            [Vip(**{"chainage": 10.0, **({"level": 40.0} if "grade" not in vip else {}), **vip})],
        )


def test_a_file_with_an_absurd_setting_is_refused_with_its_place(tmp_path, brickworks):
    wild = brickworks.model_copy(update={"settings": brickworks.settings.model_copy(update={"row_interval": 1e-300})})
    save_site(wild, tmp_path / "wild.hloop")
    with pytest.raises(FormatError, match="row_interval"):
        load_site(tmp_path / "wild.hloop")


def test_a_bend_dragged_far_away_is_a_finding_and_the_rest_stands(brickworks):
    far = move_bend(brickworks, "kiln-court", 2, 4120.0 + 9e6, 8200.0)
    q = Engine(far)
    began = time.monotonic()
    found = findings(q)
    assert time.monotonic() - began < 20.0
    (told,) = [f for f in found if f.of == ThingId("street", "kiln-court") and "km long" in f.message]
    assert "bend 3" in told.remedy
    assert not isinstance(q.attempt(centreline, "ember-loop"), Unsolved)


def test_a_street_as_long_as_may_be_is_worked_out(brickworks):
    bends = brickworks.all(type(brickworks.collection("streets")[0]))[0].bends
    assert len(bends) >= 2
    for length, fits in ((0.99 * LONGEST, True), (1.01 * LONGEST, False)):
        street = brickworks.collection("streets")[0]
        straight = (
            bends[0].model_copy(update={"radius": 0.0}),
            bends[-1].model_copy(
                update={"easting": bends[0].easting + length, "northing": bends[0].northing, "radius": 0.0}
            ),
        )
        q = Engine(brickworks.put(street.model_copy(update={"bends": straight, "vips": ()})))
        assert isinstance(q.attempt(centreline, street.id), Unsolved) != fits


def two_triangles(size, height):
    points = np.array([[0, 0, 0], [size, 0, height], [size, size, 0], [0, size, height]], dtype=float)
    return Surface(points, [[0, 1, 2], [0, 2, 3]])


def test_contours_without_number_are_refused_before_they_are_made(brickworks):
    began = time.monotonic()
    with pytest.raises(ValueError, match=r"take .* m or more"):
        contour_segments(two_triangles(100.0, 1e8), 0.02)
    assert time.monotonic() - began < 0.5
    site = add_ground(new_site(), Ground(name="Spikes", surface=two_triangles(100.0, 1e8)))
    (told,) = [f for f in findings(Engine(site)) if f.of.kind == "ground"]
    assert "contours every 0.5 m" in told.message
    assert "wider interval" in told.remedy


def test_flow_arrows_stay_few_on_a_face_of_any_size(monkeypatch):
    surface = two_triangles(50_000.0, 900.0)
    monkeypatch.setattr("humble_loop.desk.drawing.contour_segments", lambda *a, **k: (np.empty((0, 2, 2)), None))

    class Made:
        pass

    made = Made()
    made.surface = surface
    monkeypatch.setattr("humble_loop.desk.drawing.finished_mesh", lambda q, id: made)
    _, arrows = fine_lines.function(Engine(new_site()), None)
    assert 1_000 < len(arrows) < 21_000


def test_a_vertical_curve_that_takes_rows_without_number_is_a_finding_and_the_rest_stands(brickworks):
    """A change of grade of 38,000 over a curve of 40 m: rows within 2 mm of it would be √(40 × 38 000 / 0.016) = 9,700."""
    vips = [
        Vip(chainage=0.0, level=40.0),
        Vip(chainage=60.0, level=40.0, curve_length=40.0),
        Vip(chainage=60.5, level=19_040.0),
    ]
    began = time.monotonic()
    q = Engine(set_vips(brickworks, "ember-loop", vips))
    found = [f for f in findings(q) if "more than 5,000 rows" in f.message]
    assert time.monotonic() - began < 10.0
    assert found
    assert "lengthen the vertical curve" in found[0].remedy
    assert found[0].thing == "Ember Loop crown"
    other = [id for id in faces_of(q, ThingId("street", "claypit-road")) if not id.gives_way]
    assert all(len(finished_mesh(q, id).surface.triangles) for id in other)


@pytest.mark.parametrize("curve", [1e-9, 1e-3])
def test_a_vertical_curve_of_no_length_to_speak_of_is_worked_out(brickworks, curve):
    vips = [
        Vip(chainage=0.0, level=40.0),
        Vip(chainage=60.0, level=41.0, curve_length=curve),
        Vip(chainage=100.0, level=40.0),
    ]
    q = Engine(set_vips(brickworks, "ember-loop", vips))
    assert np.isfinite(centreline(q, "ember-loop").chain.total)
    assert not [f for f in findings(q) if "rows" in f.message]
