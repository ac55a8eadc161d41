"""What the views draw, asked of the engine without a window."""

import numpy as np
import pytest
import shapely

from humble_loop.desk.drawing import (
    batter_lines,
    cross_lines,
    fine_contours,
    ground_contours,
    joined_up,
    lot_lines,
    section_lines,
    street_lines,
)
from humble_loop.desk.handles import snap_to_street
from humble_loop.desk.layers import Label, LabelLayer
from tests import edits
from humble_loop.kinds.street import Vip
from humble_loop.engine.query import Engine, Unsolved
from humble_loop.solve.lot import lots, pad
from humble_loop.solve.section import edges, half_road, roadside
from humble_loop.solve.street import chain_of, crown_levels, ground_of
from humble_loop.solve.surface import finished_mesh, street_pieces


def test_lines_are_joined_with_gaps():
    flat = joined_up([np.zeros((2, 2)), np.ones((3, 2))])
    assert np.isnan(flat).any(axis=1).tolist() == [False, False, True, False, False, False, True]
    assert joined_up([]).shape == (0, 2)


def known(line):
    return line[np.isfinite(line[:, 0])]


def test_a_streets_lines_are_its_lips_returns_and_boundaries(court):
    q = Engine(court)
    made, chain = street_lines(q, "court"), chain_of(q, "court")
    half = half_road(q, "court", "left")
    drawn = known(made.left_lip)
    assert np.abs(chain.feet(drawn).offsets - 3.0).max() < 1e-6
    assert drawn[[0, -1]] == pytest.approx(half.lip[[0, -1], :2], abs=1e-6)
    assert np.isnan(made.returns[:, 0]).sum() == 3  # two returns and the bulb
    # Every drawn boundary lies on a roadside's boundary.
    sides = [roadside(q, e) for e in edges(q, "court")]
    area = shapely.union_all([shapely.LineString(s.points[:, -1, :2]).buffer(0.05) for s in sides])
    assert shapely.contains_xy(area, *known(made.boundaries).T).all()


def test_hachures_begin_at_the_top_of_the_slope(court):
    q = Engine(court)
    made = batter_lines(q, "through")
    strokes = [
        part for part in np.split(made.cut_hachures, np.flatnonzero(np.isnan(made.cut_hachures[:, 0]))) if len(part) > 2
    ]
    for stroke in strokes[:20]:
        top, bottom = known(stroke)
        beside = np.concatenate([roadside(q, ("side", "through", s)).points[:, -1, :2] for s in ("left", "right")])
        # In cut the top is at the ground, away from the street; the stroke runs towards the boundary.
        assert np.min(np.hypot(*(beside - top).T)) > np.min(np.hypot(*(beside - bottom).T))
    assert len(strokes) > 5


def test_a_street_without_levels_is_drawn_all_the_same(court):
    from humble_loop.site.libraries import new_site
    from humble_loop.kinds.street import Bend

    site = edits.add_street(new_site(), "S", [Bend(easting=0, northing=0), Bend(easting=90, northing=0)])
    made = street_lines(Engine(site), "s")
    assert len(known(made.left_lip)) >= 2
    assert len(known(made.boundaries)) >= 4


def test_an_unchanged_street_keeps_its_very_lines(court):
    q = Engine(court)
    before = street_lines(q, "court")
    q.use(edits.set_pad(court, "Court L1", 38.5))
    assert street_lines(q, "court") is before
    q.use(edits.set_vips(court, "court", [Vip(chainage=128, level=39.0)]))
    assert street_lines(q, "court") is before  # levels do not move lines in plan
    q.use(edits.set_bend(court, "court", 2, easting=161.0))
    assert street_lines(q, "court") is not before


def test_lots_are_drawn_with_level_depth_and_state(court):
    q = Engine(edits.set_pad(court, "Court L1", 20.0))
    made = lot_lines(q, "court")
    assert set(made.names) == {lot.name for lot in lots(q, "court")}
    k = made.names.index("Court L1")
    assert (made.levels[k], made.states[k], made.out_of_window[k]) == (20.0, "set", True)
    other = made.names.index("Court L2")
    assert made.depths[other] == pytest.approx(pad(q, "court", "Court L2").level - pad(q, "court", "Court L2").wanted)
    assert not made.out_of_window[other]


def test_contours_come_in_pairs_with_their_levels(court):
    q = Engine(court)
    thin, thick, thin_levels, thick_levels = ground_contours(q)
    assert len(thin) == 2 * len(thin_levels)
    assert len(thick) == 2 * len(thick_levels)
    assert np.abs(ground_of(q).levels(thick) - np.repeat(thick_levels, 2)).max() < 1e-6
    assert set(np.round(thick_levels % 2.5, 6)) <= {0.0, 2.5}


def test_fine_contours_lie_on_the_finished_surface_and_arrows_point_downhill(court):
    q = Engine(court)
    pairs, arrows = fine_contours(q, "court")
    assert len(pairs) > 100
    meshes = [
        finished_mesh(q, p).surface for p in street_pieces(q, "court") if p[0] in ("carriageway", "junction", "bulb")
    ]
    for x, y, dx, dy in arrows[:40]:
        here = next(z for m in meshes if np.isfinite(z := m.levels([[x, y]])[0]))
        there = [z for m in meshes if np.isfinite(z := m.levels([[x + 0.05 * dx, y + 0.05 * dy]])[0])]
        assert not there or min(there) < here + 1e-9


def test_the_long_section_draws_the_models_levels(court):
    q = Engine(court)
    made = section_lines(q, "court")
    assert made.crown == pytest.approx(crown_levels(q, "court", made.chainages), nan_ok=True)
    assert [c[0] for c in made.crossings] == ["Through"]
    assert [c[0] for c in section_lines(q, "through").crossings] == ["Court"]
    s, z = made.ground
    assert np.abs(ground_of(q).levels(chain_of(q, "court").points_at(s)) - z).max() < 1e-7


def test_the_cross_section_is_seen_along_increasing_chainage(court):
    q = Engine(court)
    made = cross_lines(q, "court", 60.0)
    names = list(made.names)
    assert names[0] in ("boundary", "toe")
    assert names.index("crown") > 3
    assert np.all(np.diff(made.design[:, 0]) >= 0)
    # Left of the crown is to the left, at negative distances: the left boundary's place in plan says so.
    left = made.design[names.index("lip")]
    assert left[0] == pytest.approx(-3.0, abs=0.02)
    place = chain_of(q, "court").points_at([60.0], 3.0)[0]
    ground = made.ground[np.argmin(np.abs(made.ground[:, 0] + 3.0))]
    assert ground[1] == pytest.approx(ground_of(q).levels([place])[0], abs=0.05)


def test_a_cross_section_through_a_mouth_has_one_side_only(court):
    q = Engine(court)
    made = cross_lines(q, "through", 100.0)
    assert "boundary" in made.names
    assert list(made.names).count("lip") == 1


def test_an_unsolved_street_draws_what_it_can(court):
    lost = edits.move_bend(court, "court", 0, 9000, 9000)
    lost = edits.move_bend(lost, "court", 1, 9050, 9000)
    q = Engine(edits.move_bend(lost, "court", 2, 9100, 9010))
    made = street_lines(q, "court")
    assert len(made.centreline) > 1
    assert len(known(made.left_lip)) >= 2  # it has lips in plan, though no level
    assert cross_lines(q, "court", 10.0).names == ()
    assert np.isnan(section_lines(q, "court").crown).all()
    assert not isinstance(q.attempt(street_lines, "through"), Unsolved)


def test_snapping_finds_the_nearest_other_centreline_inside_its_ends(court):
    q = Engine(court)
    street, foot, _ = snap_to_street(q, (200.0, 17.0), 5.0)
    assert street == "through"
    assert abs(chain_of(q, "through").feet([foot]).offsets[0]) < 1e-9
    assert snap_to_street(q, (200.0, 17.0), 5.0, without="through") is None
    assert snap_to_street(q, (-0.5, 0.0), 5.0) is None  # an end is no place for a junction
    assert snap_to_street(q, (200.0, 60.0), 5.0) is None


def test_labels_never_lie_on_one_another(qapp):
    from PySide6.QtCore import QPointF, QRectF
    from PySide6.QtGui import QTransform

    layer = LabelLayer()
    layer.boundingRect = lambda: QRectF(0, 0, 400, 300)
    rng = np.random.default_rng(2)
    layer.show_labels(
        [Label(x, y, f"{40 + i / 7:.3f}", rank=i % 4) for i, (x, y) in enumerate(rng.uniform(20, 280, (60, 2)))]
    )
    placed = layer._place_all(QTransform())
    boxes = [box for _, _, box, _ in placed]
    assert len(boxes) > 20
    for i, a in enumerate(boxes):
        assert QRectF(0, 0, 400, 300).contains(a)
        for b in boxes[:i]:
            assert not a.intersects(b)
    # What is more important is placed first, at its own place.
    first = next(p for p in placed if p[0].rank == 0)
    assert (QPointF(first[0].x, first[0].y) - first[1]).manhattanLength() < 1e-6
