"""Islands in turning heads: what is left round them, the way that is travelled, and outlines of any run of arcs."""

import numpy as np
import pytest

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.island import Island, IslandFace
from humble_loop.kinds.island.layout import lip_levels, outline, plan_polygon, rows
from humble_loop.kinds.island.model import IslandCorner, add_island, recut, set_corners, set_island
from humble_loop.kinds.island.show import about_head, boxed, corner_sheet
from humble_loop.kinds.island.way import sweep_of, way_round
from humble_loop.kinds.street.model import Vip
from humble_loop.kinds.street.plan import chain_of
from humble_loop.lines.describe import Actions, Choice, Fact, Note
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of
from humble_loop.site.edits import EditError
from humble_loop.whole.findings import findings
from humble_loop.whole.surface import probe
from humble_loop.whole.tables import table
from tests import edits
from tests.kinds.test_heads import ended, grounded
from tests.whole.test_surface import assert_watertight

ISLAND = ThingId("island", "s-island")


def offered(q, words):
    (actions,) = [r for r in about_head(q, "s:end") if isinstance(r, Actions)]
    return dict(actions.buttons)[words](q.site)


def edits_of(site, **values):
    return set_island(site, "s-island", **values)


def told(q, rule):
    return [f for f in findings(q) if f.rule == rule]


def test_a_round_island_leaves_the_vehicle_its_way_by_hand():
    """R 11.5: the corner runs at 11.2, the inner wheel at sqrt(11.2² − 6.7²) − 2.5 = 6.475, so it wants 5.325 m; 6 m in radius fit."""
    q = Engine(offered(Engine(grounded(ended())), "Round island in it"))
    made = q.site.all(Island)[0]
    assert (made.begin, made.finish, made.wide_begin, made.beside) == (100.0, 100.0, 12.0, 0.0)
    way = way_round(q, "s-island")
    assert way.wanted == pytest.approx(11.2 - (np.sqrt(11.2**2 - 6.7**2) - 2.5) + 0.6, abs=1e-9)
    assert way.width == pytest.approx(5.5, abs=3e-3)
    assert not told(q, "way round an island")
    # Half way, at 8.75 m, and with returns of 17.5 m: round by 180 + 2 acos(17.5 / 26.25) degrees.
    assert sweep_of(way.travelled) == pytest.approx(180.0 + 2.0 * np.degrees(np.arccos(17.5 / 26.25)), abs=1e-6)
    ends = way.travelled.at([0.0, way.travelled.total])
    assert chain_of(q, "s").feet(ends.points).offsets == pytest.approx([0.0, 0.0], abs=1e-9)
    assert np.cos(ends.headings) == pytest.approx([1.0, -1.0])
    assert_watertight(q)


def test_its_lip_lies_on_the_bulb_and_the_bulb_is_cut_out_beneath():
    plain = Engine(grounded(ended()))
    q = Engine(offered(plain, "Round island in it"))
    s = rows(q, "s-island")
    at = outline(q, "s-island").points_at(s)
    assert lip_levels(q, "s-island") == pytest.approx([probe(plain, *p).finished for p in at], abs=1e-9)
    assert finished_mesh(q, IslandFace("s-island", "top")).surface.areas().sum() > 80.0
    facts = {r.label: r for r in kind_of("island").facts(q, ISLAND) if isinstance(r, Fact | Choice)}
    assert facts["least way round"].value == pytest.approx(5.5, abs=3e-3)
    assert facts["within it"].current == "planted"
    assert facts["within it"].edit("paved")(q.site).all(Island)[0].paved
    drawn = kind_of("island").details(q, ISLAND)
    assert [s.role for s in drawn.strokes] == ["leader", "way"]
    assert drawn.labels[0].value == pytest.approx(5.5, abs=3e-3)


def test_a_teardrop_points_to_the_street():
    q = Engine(offered(Engine(grounded(ended())), "Teardrop island in it"))
    made = q.site.all(Island)[0]
    assert (made.begin, made.finish, made.wide_begin, made.wide_finish) == pytest.approx((89.4, 100.0, 1.2, 12.0))
    assert [e.kind for e in outline(q, "s-island").elements] == ["straight", "arc", "straight", "arc"]
    # Round the bulb it leaves what the round one does; beside its nose a lane, and more than that.
    way = way_round(q, "s-island")
    assert way.wanted == pytest.approx(5.325, abs=1e-3)
    assert way.wanted < way.width < 5.5
    blunt = Engine(edits_of(q.site, begin=82.0, wide_begin=3.4))
    assert way_round(blunt, "s-island").wanted == 2.8
    assert len(told(blunt, "way round an island")) == 1
    assert_watertight(q)
    assert not told(q, "cannot be worked out")


def test_one_that_leaves_too_little_says_how_much_and_where():
    q = Engine(add_island(ended(), "s", 100.0, 100.0, wide_begin=14.0, wide_finish=14.0, beside=1.0))
    (found,) = told(q, "way round an island")
    assert (
        "leaves 3.50 m to the lip of the head, and a waste collection vehicle that goes round wants 5.33 m"
        in found.message
    )
    assert found.place == pytest.approx((100.0, 8.0), abs=0.3)
    assert "1.83 m smaller" in found.remedy
    past = told(
        Engine(add_island(grounded(ended()), "s", 100.0, 100.0, wide_begin=24.0, wide_finish=24.0)),
        "cannot be worked out",
    )
    assert any("reaches past the carriageway" in f.message for f in past)


def test_a_bulb_without_room_for_one_says_so():
    small = about_head(Engine(ended(radius=6.5, return_radius=13.0)), "s:end")
    (note,) = [r for r in small if isinstance(r, Note)]
    assert "would leave a waste collection vehicle less than" in note.words
    assert about_head(Engine(ended(kind="hammerhead")), "s:end") == ()


def cornered(*corners, **values):
    site = add_island(grounded(ended()), "s", 96.0, 104.0)
    made = [IslandCorner(at=a, beside=b, radius=r) for a, b, r in corners]
    return set_corners(site, "s-island", made)


BEAN = ((94.0, -2.0, 1.5), (104.0, -4.0, 2.0), (105.0, 4.0, 2.0), (94.0, 2.0, 1.5))


def test_any_run_of_arcs_is_an_island():
    q = Engine(cornered(*BEAN))
    made = q.site.all(Island)[0]
    assert (made.begin, made.finish) == (94.0, 105.0)
    assert [e.kind for e in outline(q, "s-island").elements] == ["straight", "arc"] * 4
    assert not told(q, "cannot be worked out")
    assert_watertight(q)
    sheet = corner_sheet(q, "s-island")
    assert [r.cells[3].value for r in sheet.rows] == [1.5, 2.0, 2.0, 1.5]
    moved = sheet.rows[1].cells[2].edit(-3.5)(q.site).all(Island)[0]
    assert moved.corners[1].beside == -3.5
    more = dict(sheet.rows[0].actions)["Add a corner after it"](q.site).all(Island)[0]
    assert len(more.corners) == 5
    less = dict(sheet.rows[0].actions)["Remove"](q.site).all(Island)[0]
    assert len(less.corners) == 3
    handle = kind_of("island").handles(q, ISLAND)[2]
    assert handle.place == pytest.approx((105.0, 4.0))
    assert handle.moved((105.5, 3.5))[0](q.site).all(Island)[0].corners[2] == IslandCorner(
        at=105.5, beside=3.5, radius=2.0
    )
    assert handle.typed[0].edit(2.5)(q.site).all(Island)[0].corners[2].radius == 2.5


def test_corners_are_taken_from_round_ends_and_given_back():
    site = add_island(ended(), "s", 60.0, 70.0, wide_begin=2.0, wide_finish=1.2)
    q = Engine(site)
    assert [(c.at, c.beside) for c in boxed(site.all(Island)[0])] == [
        (59.0, 1.0),
        (59.0, -1.0),
        (70.6, -0.6),
        (70.6, 0.6),
    ]
    (shape,) = [r for r in kind_of("island").facts(q, ISLAND) if isinstance(r, Choice) and r.label == "shape"]
    squared = Engine(shape.edit("corners")(site))
    assert len(squared.site.all(Island)[0].corners) == 4
    assert not told(squared, "cannot be worked out")
    (shape,) = [r for r in kind_of("island").facts(squared, ISLAND) if isinstance(r, Choice) and r.label == "shape"]
    assert shape.edit("round")(squared.site).all(Island)[0].corners == ()


def test_corners_that_cannot_be_say_why():
    (found,) = told(
        Engine(cornered((94.0, -1.0, 3.0), (104.0, -1.0, 3.0), (104.0, 1.0, 3.0), (94.0, 1.0, 3.0))),
        "cannot be worked out",
    )
    assert "too short for their arcs" in found.message
    with pytest.raises(EditError, match="three corners"):
        set_corners(ended_with(), "s-island", [IslandCorner(at=1.0, beside=0.0), IslandCorner(at=2.0, beside=0.0)])
    far = told(Engine(cornered((130.0, -2.0, 1.0), (140.0, -2.0, 1.0), (140.0, 2.0, 1.0))), "cannot be worked out")
    assert any("does not reach so far" in f.message for f in far)


def ended_with():
    return add_island(ended(), "s", 60.0, 70.0)


def test_they_follow_their_street_and_are_kept(tmp_path):
    site = cornered(*BEAN)
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").all(Island) == site.all(Island)
    # Cut back at its start by 40 m it stays where it stands, in the head beyond the end.
    kept = recut(site, "s", (40.0, 100.0), "")
    assert [c.at for c in kept.all(Island)[0].corners] == [54.0, 64.0, 65.0, 54.0]
    rest = recut(site, "s", (0.0, 50.0), "other").all(Island)[0]
    assert (rest.street, rest.corners[0].at) == ("other", 44.0)
    made = table(Engine(site), "islands", None, None)
    (row,) = (dict(zip(made.columns, r)) for r in made.rows)
    assert (row["corners"], row["top"]) == (4, "paved")
    assert row["least_way_round"] == pytest.approx(way_round(Engine(site), "s-island").width)


@pytest.mark.parametrize("made", ["corners", "teardrop"])
def test_reversed_it_stays_where_it_stands(made):
    site = cornered(*BEAN) if made == "corners" else offered(Engine(ended()), "Teardrop island in it")
    site = edits.set_vips(site, "s", [Vip(chainage=0.0, level=30.0), Vip(chainage=100.0, level=28.0)])
    turned = edits.reverse_street(site, "s", 100.0)
    before, after = (plan_polygon(Engine(s), "s-island") for s in (site, turned))
    assert before.symmetric_difference(after).area < 0.02
    q = Engine(turned)
    assert way_round(q, "s-island").width == pytest.approx(way_round(Engine(site), "s-island").width, abs=1e-3)
    if made == "corners":
        handle = kind_of("island").handles(q, ISLAND)[2]
        assert handle.place == pytest.approx((105.0, 4.0))
        east, north = 105.5, 3.5
        moved = Engine(handle.moved((east, north))[0](turned))
        assert kind_of("island").handles(moved, ISLAND)[2].place == pytest.approx((east, north), abs=0.01)


def test_the_ways_in_rows():
    q = Engine(offered(Engine(ended()), "Round island in it"))
    made = table(q, "ways_round", None, None)
    found = [dict(zip(made.columns, r)) for r in made.rows]
    assert [(r["kind"], r["turns"]) for r in found] == [("arc", "left"), ("arc", "right"), ("arc", "left")]
    assert [r["radius"] for r in found] == pytest.approx([17.5, 8.75, 17.5])
    assert found[1]["sweep_deg"] > 180.0
