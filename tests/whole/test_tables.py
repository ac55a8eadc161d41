"""Tables and set-out."""

import numpy as np
import pytest

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.fall_window.model import add_window
from humble_loop.kinds.kerb_line.beginning import own_levels
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.tie.model import Source, add_tie
from humble_loop.lines.table import NoSuchTable
from humble_loop.whole.tables import set_out_points, table, tables
from tests import edits
from tests.asking import lip_levels
from tests.conftest import t_site

COLUMNS = {
    "centreline": ("chainage", "easting", "northing", "bearing_deg", "element", "radius"),
    "levels": ("chainage", "ground", "crown", "left_lip", "right_lip", "grade"),
    "sections": ("street", "chainage", "point", "offset", "level", "easting", "northing"),
    "junctions": ("junction", "through", "side", "through_chainage", "side_throat_chainage", "throat_level"),
    "kerblines": ("street", "side", "point", "chainage", "level", "grade", "built", "crown", "crossfall"),
    "lots": ("lot", "area", "frontage", "pad_level", "window_low", "window_high", "cut", "fill"),
}


@pytest.mark.parametrize("name", list(tables()))
def test_every_table_of_the_brickworks_has_rows_of_its_columns(brickworks, name):
    own = own_levels(Engine(brickworks), "kiln-court", "left", "lip")
    assert own is not None
    site = own(brickworks)  # the brickworks have no lip with levels of its own, no tie and no fall window
    site = add_tie(site, "kiln-court", "right", "lip", Source(what="point", of="kiln-court", point="crown"), 10.0, 40.0)
    site = add_window(site, "kiln-court", None, "crown", Source(), 10.0, 40.0, measure="height", least=0.0)
    q = Engine(site)
    of = "Kiln Court" if name in ("centreline", "levels") else None
    made = table(q, name, of)
    assert made.rows or name in (
        "hollows",
        "roundabouts",
        "legs",
        "paths",
        "passages",
        "round_sight",
        "ways_round",
        "knuckles",
        "lanes",
        "continuations",
        "islands",
    )  # no water stands in the first stage, nobody has a lane to turn, no street goes on as another, no island stands
    assert all(len(row) == len(made.columns) for row in made.rows)
    assert all(v is None or isinstance(v, (str, int, float)) for row in made.rows for v in row)
    if name in COLUMNS:
        assert made.columns == COLUMNS[name]


def test_returns_begin_with_their_documented_columns():
    made = table(Engine(t_site()), "returns", every=3.0)
    assert made.columns[:7] == ("junction", "corner", "distance", "easting", "northing", "level", "grade")
    left = [r for r in made.rows if r[1] == "left"]
    assert [r[2] for r in left] == pytest.approx([0, 3, 6, 9, 12, 4 * np.pi])
    assert left[0][5] == pytest.approx(21.675, abs=1e-9)


def test_levels_of_the_reference_street():
    q = Engine(t_site())
    rows = table(q, "levels", "Through", 50.0).rows
    assert [r[0] for r in rows] == [0, 50, 100, 150, 200]
    assert [r[2] for r in rows] == pytest.approx([20, 21, 22, 23, 24])
    assert [r[3] for r in rows] == pytest.approx([19.895, 20.895, 21.895, 22.895, 23.895])
    assert {r[1] for r in rows} == {None}  # no ground


def test_sections_are_in_order_from_left_to_right(brickworks):
    rows = table(Engine(brickworks), "sections", "Kiln Court", 10.0).rows
    at = [r for r in rows if r[1] == rows[len(rows) // 2][1]]
    offsets = [r[3] for r in at]
    assert offsets == sorted(offsets, reverse=True)
    assert next(r[2] for r in at).startswith("left")


def test_a_table_of_a_street_that_is_not_there_lists_those_that_are():
    q = Engine(t_site())
    with pytest.raises(NoSuchTable, match="there are Through, Side"):
        table(q, "levels", "Nowhere")
    with pytest.raises(NoSuchTable, match="say which street"):
        table(q, "centreline")
    with pytest.raises(NoSuchTable, match="no table 'bridges'"):
        table(q, "bridges")
    with pytest.raises(NoSuchTable, match=r"0\.05 m or more"):
        table(q, "levels", "Side", 0.0)


def test_asking_by_name_for_what_cannot_be_worked_out_says_why():
    q = Engine(edits.set_corner(t_site(), "side", "start", "left", radius=70))
    with pytest.raises(Unsolved, match="left corner"):
        table(q, "returns", "Side")
    assert {r[1] for r in table(q, "returns").rows} == {"right"}


def test_set_out_runs_in_numbers_and_lies_on_the_lips():
    q = Engine(t_site())
    points = set_out_points(q)
    assert [n for n, _ in points] == list(range(1, len(points) + 1))
    for _, p in points:
        if p.thing == "Side left lip":
            assert p.offset == pytest.approx(3.0, abs=1e-9)
            assert p.level == pytest.approx(lip_levels(q, "side", "left", [p.along])[0], abs=1e-9)
            assert p.base == "Side"
            assert chain_of(q, "side").points_at([p.along], p.offset)[0] == pytest.approx([p.easting, p.northing])


def test_set_out_of_a_return_is_in_equal_divisions_chosen_for_it():
    site = edits.set_corner(t_site(), "side", "start", "left", divisions=6)
    points = [p for _, p in set_out_points(Engine(site)) if p.thing == "Side / Through left corner return"]
    assert [p.mark for p in points] == ["tangent point", *["division"] * 5, "tangent point"]
    xy = np.array([[p.easting, p.northing] for p in points])
    chord = 2 * 8.0 * np.sin(np.pi / 2 / 6 / 2)
    assert np.hypot(*np.diff(xy, axis=0).T) == pytest.approx([chord] * 6)


def test_set_out_on_a_parallel_line_moves_out_and_up():
    site = t_site()
    plain = [p for _, p in set_out_points(Engine(site)) if p.thing == "Through left lip"]
    moved = [
        p
        for _, p in set_out_points(Engine(edits.set_set_out(site, offset=0.6, height=0.1, first_number=101)))
        if p.thing == "Through left lip"
    ]
    assert [b.northing - a.northing for a, b in zip(plain, moved)] == pytest.approx([0.6] * len(plain))
    assert [b.level - a.level for a, b in zip(plain, moved)] == pytest.approx([0.1] * len(plain))
    assert set_out_points(Engine(edits.set_set_out(site, first_number=101)))[0][0] == 101


def test_set_out_leaves_the_mouth_of_a_side_street_out():
    through = [p.along for _, p in set_out_points(Engine(t_site())) if p.thing == "Through left lip"]
    assert not [s for s in through if 89 + 1e-6 < s < 111 - 1e-6]
    assert {89.0, 111.0} <= {round(s, 6) for s in through}
