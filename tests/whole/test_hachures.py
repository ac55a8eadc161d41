"""The plan draws batters as far as they stand."""

import numpy as np
import pytest
import shapely

from humble_loop.engine.query import Engine
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street import StreetFace
from humble_loop.lines.faces import face
from humble_loop.whole.hachures import batter_strokes
from humble_loop.whole.overlaps import counted, plan_of
from humble_loop.whole.surface import probe
from tests.conftest import plane_ground
from tests.whole.test_batters import LEVEL, tee

MAIN = StreetFace("main", "batter", "left")


def runs(strokes, role):
    points = next(s.points for s in strokes if s.role == role)
    return [p[~np.isnan(p[:, 0])] for p in np.split(points, np.flatnonzero(np.isnan(points[:, 0]))) if len(p) > 1]


@pytest.mark.parametrize("depth", [5.0, -5.0])
def test_hachures_end_where_the_other_streets_batter_governs(depth):
    q = Engine(tee(65.0, plane_ground(0.02, 0.0, LEVEL + depth), fall=0.03))
    strokes = batter_strokes(q, MAIN)
    role, other = ("cut hachure", "fill hachure") if depth > 0 else ("fill hachure", "cut hachure")
    assert not runs(strokes, other)
    standing = plan_of(counted(q, MAIN)).buffer(0.002)
    drawn = shapely.linestrings([r for r in runs(strokes, role) if len(r) == 2])
    assert len(drawn) > 8
    assert standing.contains(drawn).all()
    # Some rows run on beyond the valley, and are drawn shorter for it.
    rows = face(q, MAIN).points[:, [0, -1], :2]
    assert (~standing.contains(shapely.linestrings(rows))).any()


@pytest.mark.parametrize("depth", [5.0, -5.0])
def test_toes_lie_on_the_ground_or_in_a_valley_that_both_batters_share(depth):
    q = Engine(tee(65.0, plane_ground(0.02, 0.0, LEVEL + depth), fall=0.03))
    ground = ground_of(q)
    side = counted(q, StreetFace("side", "batter", "right"))
    edge = plan_of(side).boundary
    checked = 0
    for run in runs(batter_strokes(q, MAIN), "toe"):
        level = counted(q, MAIN).levels(run)
        for (e, n), z in zip(run, level):
            if np.isfinite(z) and abs(ground.levels([[e, n]])[0] - z) > 1e-3:
                checked += edge.distance(shapely.Point(e, n)) < 2e-3
    assert checked >= 2


def test_a_batter_that_meets_no_other_is_drawn_row_by_row():
    q = Engine(tee(90.0, plane_ground(0.0, 0.0, LEVEL + 1.0), fall=0.03))
    id = StreetFace("main", "batter", "right")
    made = face(q, id)
    drawn = [r for r in runs(batter_strokes(q, id), "cut hachure") if len(r) == 2]
    assert len(drawn) == len(made.points)
    for k, (row, stroke) in enumerate(zip(made.points, drawn)):
        hinge, toe = row[0, :2], row[-1, :2]
        assert stroke[0] == pytest.approx(toe, abs=1e-9)  # from the top of the slope
        assert np.hypot(*(stroke[1] - toe)) == pytest.approx(
            (0.9 if k % 2 else 0.45) * np.hypot(*(hinge - toe)), abs=1e-9
        )


def test_the_trail_of_a_place_in_a_valley_names_the_batter_that_governs():
    q = Engine(tee(90.0, plane_ground(0.0, 0.0, LEVEL + 7.0)))
    near_main, near_side = probe(q, 22.0, 13.0), probe(q, 13.0, 22.0)
    assert near_main.title == "Main left batter"
    assert near_side.title == "Side right batter"
    assert near_main.finished == pytest.approx(near_side.finished, abs=1e-6)
