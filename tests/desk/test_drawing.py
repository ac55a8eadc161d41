"""What the views draw, asked of the engine without a window."""

import numpy as np
import pytest
import shapely
from PySide6.QtCore import QRectF

from humble_loop.desk.drawing import cross_view, details, fine_lines, outline, section_view
from humble_loop.desk.layers import Label, LabelLayer, StrokeLayer, in_tiles
from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street import Bend, StreetLine, Vip
from humble_loop.kinds.street.faces import StreetFace
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.street.snap import snap_to_street
from humble_loop.lines.describe import Stroke, joined_up
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import ThingId
from humble_loop.site.libraries import new_site
from humble_loop.whole.things import all_faces
from tests import edits
from tests.asking import crown_levels, edge_faces, half_road, lot_named, pad_of, roadside


def stroke(drawing, role):
    return next(s.points for s in drawing.strokes if s.role == role)


def test_lines_are_joined_with_gaps():
    flat = joined_up([np.zeros((2, 2)), np.ones((3, 2))])
    assert np.isnan(flat).any(axis=1).tolist() == [False, False, True, False, False, False, True]
    assert joined_up([]).shape == (0, 2)


def known(line):
    return line[np.isfinite(line[:, 0])]


def test_a_streets_lines_are_its_lips_returns_and_boundaries(court):
    q = Engine(court)
    made, chain = outline(q, ThingId("street", "court")), chain_of(q, "court")
    lip = half_road(q, "court", "left").line("lip")
    drawn = known(stroke(made, "left lip"))
    assert np.abs(chain.feet(drawn).offsets - 2.9).max() < 1e-6
    assert drawn[[0, -1]] == pytest.approx(lip[[0, -1], :2], abs=1e-6)
    assert np.isnan(stroke(outline(q, ThingId("junction", "court:start")), "return")[:, 0]).sum() == 2
    assert np.isnan(stroke(outline(q, ThingId("turning_head", "court:end")), "return")[:, 0]).sum() == 1
    # Every drawn boundary lies on a roadside's boundary.
    sides = [roadside(q, *e) for e in edge_faces(q, "court")]
    area = shapely.union_all([shapely.LineString(s.points[:, -1, :2]).buffer(0.05) for s in sides])
    assert shapely.contains_xy(area, *known(stroke(made, "boundary")).T).all()


def test_hachures_begin_at_the_top_of_the_slope(court):
    q = Engine(court)
    cut = stroke(details(q, ThingId("street", "through")), "cut hachure")
    strokes = [part for part in np.split(cut, np.flatnonzero(np.isnan(cut[:, 0]))) if len(part) > 2]
    beside = np.concatenate([roadside(q, "side", "through", s).points[:, -1, :2] for s in ("left", "right")])
    beside = np.concatenate(
        [beside, *(roadside(q, "side", "through", s).points[[0, -1]].reshape(-1, 3)[:, :2] for s in ("left", "right"))]
    )
    for one in strokes[:20]:
        top, bottom = known(one)
        # In cut the top is at the ground, away from the street; the stroke runs towards the boundary.
        assert np.min(np.hypot(*(beside - top).T)) > np.min(np.hypot(*(beside - bottom).T))
    assert len(strokes) > 5


def test_a_street_without_levels_is_drawn_all_the_same():
    site = edits.add_street(new_site(), "S", [Bend(easting=0, northing=0), Bend(easting=90, northing=0)])
    made = outline(Engine(site), ThingId("street", "s"))
    assert len(known(stroke(made, "left lip"))) >= 2
    assert len(known(stroke(made, "boundary"))) >= 4


def test_an_unchanged_street_keeps_its_very_lines(court):
    q = Engine(court)
    before = outline(q, ThingId("street", "court"))
    q.use(edits.set_pad(court, "Court L1", 38.5))
    assert outline(q, ThingId("street", "court")) is before
    q.use(edits.set_vips(court, "court", [Vip(chainage=128, level=39.0)]))
    assert outline(q, ThingId("street", "court")) is before  # levels do not move lines in plan
    q.use(edits.set_bend(court, "court", 2, easting=161.0))
    assert outline(q, ThingId("street", "court")) is not before


def test_lots_are_drawn_with_level_depth_and_state(court):
    q = Engine(edits.set_pad(court, "Court L1", 20.0))
    first = details(q, ThingId("lot", lot_named(q, "Court L1").id))
    pad = next(a for a in first.areas if a.role == "pad")
    assert (pad.state, pad.wrong) == ("set", True)
    assert [(la.value, la.state) for la in first.labels if la.unit == "level"] == [(20.0, "set")]
    other = next(a for a in details(q, ThingId("lot", lot_named(q, "Court L2").id)).areas if a.role == "pad")
    assert other.depth == pytest.approx(pad_of(q, "Court L2").level - pad_of(q, "Court L2").wanted)
    assert not other.wrong


def test_contours_lie_on_the_ground_at_their_levels(court):
    q = Engine(court)
    made = details(q, ThingId("ground", "ground"))
    main = known(stroke(made, "main contours"))
    z = ground_of(q).levels(main)
    assert np.abs(z / 2.5 - np.round(z / 2.5)).max() < 1e-6
    assert {la.words for la in made.labels} <= {f"{v:.1f}" for v in np.arange(-100, 200, 2.5)}


def test_fine_contours_lie_on_the_finished_surface_and_arrows_point_downhill(court):
    q = Engine(court)
    for id in all_faces(q):
        made = finished_mesh(q, id)
        if made.role not in ("carriageway", "junction", "bulb"):
            continue
        pairs, arrows = fine_lines(q, id)
        z = made.surface.levels(0.5 * (pairs[::2] + pairs[1::2]))
        z = z[np.isfinite(z)]
        assert np.abs(z / 0.05 - np.round(z / 0.05)).max() < 1e-5
        for x, y, dx, dy in arrows[:10]:
            here = made.surface.levels([[x, y]])[0]
            there = made.surface.levels([[x + 0.05 * dx, y + 0.05 * dy]])[0]
            assert not np.isfinite(there) or there < here + 1e-9


def test_the_long_section_draws_the_models_levels(court):
    q = Engine(court)
    made = section_view(q, StreetLine("court"))
    assert made.levels == pytest.approx(crown_levels(q, "court", made.chainages), nan_ok=True)
    assert [c.words for c in made.crossings] == ["Through"]
    assert [c.words for c in section_view(q, StreetLine("through")).crossings] == ["Court"]
    assert [role for role, _, _ in made.beside] == ["left lip", "right lip"]
    s, z = made.ground
    assert np.abs(ground_of(q).levels(chain_of(q, "court").points_at(s)) - z).max() < 1e-7


def test_the_cross_section_is_seen_along_increasing_chainage(court):
    q = Engine(court)
    made = cross_view(q, "court", 60.0)
    names = list(made.names)
    assert names[0] in ("boundary", "toe")
    assert names.index("crown") > 3
    assert np.all(np.diff(made.design[:, 0]) >= 0)
    # Left of the crown is to the left, at negative distances: the left boundary's place in plan says so.
    left = made.design[names.index("lip")]
    assert left[0] == pytest.approx(-2.9, abs=1e-9)
    place = chain_of(q, "court").points_at([60.0], 3.0)[0]
    ground = made.ground[np.argmin(np.abs(made.ground[:, 0] + 3.0))]
    assert ground[1] == pytest.approx(ground_of(q).levels([place])[0], abs=0.05)


def test_a_cross_section_through_a_mouth_has_one_roadside_only(court):
    made = cross_view(Engine(court), "through", 100.0)
    assert list(made.names).count("boundary") == 1
    assert list(made.names).count("lip") == 2


def test_a_cross_section_in_a_bulb_or_beyond_the_end_says_so(court):
    q = Engine(court)
    made = cross_view(q, "court", chain_of(q, "court").total - 2.0)
    assert "surface is cut" in made.words
    assert np.isfinite(made.design[:, 1]).sum() > 40
    short = edits.set_vips(court, "court", [Vip(chainage=60, level=40.0), Vip(chainage=90, level=39.0)])
    assert "does not reach" in cross_view(Engine(short), "court", 110.0).words


def test_an_unsolved_street_draws_what_it_can(court):
    lost = edits.move_bend(court, "court", 0, 9000, 9000)
    lost = edits.move_bend(lost, "court", 1, 9050, 9000)
    q = Engine(edits.move_bend(lost, "court", 2, 9100, 9010))
    made = outline(q, ThingId("street", "court"))
    assert len(stroke(made, "centreline")) > 1
    assert len(known(stroke(made, "left lip"))) >= 2  # it has lips in plan, though no level
    assert cross_view(q, "court", 10.0).names == ()
    assert np.isnan(section_view(q, StreetLine("court")).levels).all()
    assert not isinstance(q.attempt(outline, ThingId("street", "through")), Unsolved)


def test_snapping_finds_the_nearest_other_centreline_inside_its_ends(court):
    q = Engine(court)
    street, foot, *_ = snap_to_street(q, (200.0, 17.0), 5.0)
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
    placed = layer._place_all(QTransform(), layer._wanted(layer.boundingRect(), 1.0))
    boxes = [box for _, _, box, _ in placed]
    assert len(boxes) > 20
    for i, a in enumerate(boxes):
        assert QRectF(0, 0, 400, 300).contains(a)
        for b in boxes[:i]:
            assert not a.intersects(b)
    # What is more important is placed first, at its own place.
    first = next(p for p in placed if p[0].rank == 0)
    assert (QPointF(first[0].x, first[0].y) - first[1]).manhattanLength() < 1e-6


def test_every_place_that_a_label_could_have_had_before_its_own_is_taken_or_out_of_view():
    from PySide6.QtCore import QRectF

    from humble_loop.desk.layers import Room

    view, cell = QRectF(-50.0, 20.0, 400.0, 300.0), 3.0
    steps = [(0, 0), (0, -1), (1, 0), (-1, 1)]
    rng, moved = np.random.default_rng(5), 0
    room, taken = Room(view), []
    for _ in range(300):
        left, top = rng.uniform([-90, -20], [360, 330])
        box = np.array([left, top, left + rng.uniform(5, 60), top + rng.uniform(5, 15)])
        found = room.first_free(tuple(box), 40.0, 16.0, steps)
        tried = [(i * 40.0, j * 16.0) for i, j in steps]
        for x, y in tried[: tried.index(found) if found else None]:
            there = box + [x, y, x, y]
            near = [
                t
                for t in taken
                if (t[0] < there[2] + 2 * cell and there[0] < t[2] + 2 * cell)
                and (t[1] < there[3] + 2 * cell and there[1] < t[3] + 2 * cell)
            ]
            assert near or not view.contains(QRectF(there[0], there[1], there[2] - there[0], there[3] - there[1]))
        if found:
            there = box + [*found, *found]
            assert view.contains(QRectF(there[0], there[1], there[2] - there[0], there[3] - there[1]))
            assert not any(t[0] < there[2] and there[0] < t[2] and t[1] < there[3] and there[1] < t[3] for t in taken)
            room.take(tuple(there))
            taken.append(there)
            moved += found != (0.0, 0.0)
    assert len(taken) > 60
    assert moved > 10


def test_many_lines_are_painted_in_lots_that_lie_together():
    rng = np.random.default_rng(1)
    middles = rng.uniform(0, 1000, (3000, 2))
    lines = [m + np.cumsum(rng.normal(0, 1, (rng.integers(2, 6), 2)), axis=0) for m in middles]
    tiles = in_tiles(joined_up(lines))

    def runs(points):
        return [p[np.isfinite(p[:, 0])] for p in np.split(points, np.flatnonzero(np.isnan(points[:, 0]))) if len(p) > 1]

    found = [run for tile in tiles for run in runs(tile)]
    assert sorted(map(str, found)) == sorted(map(str, lines))
    assert len(tiles) > 8
    across = [np.ptp(tile[np.isfinite(tile[:, 0])], axis=0).max() for tile in tiles]
    assert max(across) < 1000 / np.sqrt(len(tiles)) + 30
    few = joined_up(lines[:50])
    assert [t is few for t in in_tiles(few)] == [True]


def test_a_layer_shows_what_is_in_view_whatever_came_and_went_before(qtbot):
    rng = np.random.default_rng(3)
    layer, kept = StrokeLayer(1.0, lambda theme, role: None), {}
    view = QRectF(0.0, 0.0, 50.0, 50.0)
    for _ in range(400):
        key = int(rng.integers(0, 60))
        if rng.random() < 0.2:
            kept.pop(key, None)
            layer.keep_only(set(kept))
        else:
            at = rng.uniform(-30, 70, 2)
            kept[key] = [Stroke("lip", at + [[0.0, 0.0], [5.0, 3.0 + k]]) for k in range(int(rng.integers(0, 4)))]
            layer.show_strokes(key, kept[key])
    wanted = [
        s.points
        for strokes in kept.values()
        for s in strokes
        if (s.points.max(0) >= 0).all() and (s.points.min(0) <= 50).all()
    ]
    shown = [path.boundingRect() for _, path in layer._in_view(view, 0.0)]
    assert len(wanted) > 10
    ends = [sorted(ends) for ends in ([(b.left(), b.bottom()) for b in shown], [(p[0, 0], p[1, 1]) for p in wanted])]
    assert np.array(ends[0]) == pytest.approx(np.array(ends[1]))
    assert [len(layer.lines_of(k)) for k in kept] == [len(s) for s in kept.values()]


def test_fine_contours_that_no_view_could_hold_are_told_and_not_drawn(drive, court, monkeypatch):
    d = drive(court)
    drawing, told = d.window.plan.drawing, []
    assert sum(len(m[0]) for m in drawing._fine_of) > 200
    monkeypatch.setattr("humble_loop.desk.site_drawing.MOST_FINE_IN_ALL", 100)
    d.session.said.connect(told.append)
    d.session.do("Finer", lambda s: edits.set_settings(s, fine_contour_interval=0.02))
    d.qtbot.waitUntil(lambda: bool(told), timeout=5000)
    d.settle()
    assert "Fine contours every 0.02 m would be too many to draw" in told[-1]
    assert sum(len(m[0]) for m in drawing._fine_of) == 0


def test_a_face_with_fine_contours_without_number_has_none(court, monkeypatch):
    monkeypatch.setattr("humble_loop.desk.drawing._MOST_FINE", 50)
    q = Engine(edits.set_settings(court, fine_contour_interval=0.01))
    face = StreetFace("court", "carriageway", "left")
    assert isinstance(q.attempt(fine_lines, face), Unsolved)
