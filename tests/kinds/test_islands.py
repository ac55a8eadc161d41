"""Islands: an outline that touches, a lip on the carriageway, a kerb and a top; the carriageway is cut out under it."""

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.island import Island, IslandFace, IslandLine
from humble_loop.kinds.island.layout import kerb_of, outline, plan_polygon, rows
from humble_loop.kinds.island.model import add_island, set_island
from humble_loop.kinds.island.show import splitter
from humble_loop.kinds.junction.turns import turnings
from humble_loop.kinds.street import StreetLine, Vip
from humble_loop.kinds.street.cutting import split
from humble_loop.kinds.street.joining import joined, joints
from humble_loop.lines.describe import Fact
from humble_loop.lines.faces import finished_mesh
from humble_loop.lines.line import ThingId, line
from humble_loop.lines.standing import kind_of
from humble_loop.whole.findings import findings
from humble_loop.whole.finished import whole_surface
from humble_loop.whole.overlaps import counted
from humble_loop.whole.surface import probe
from humble_loop.whole.tables import table
from humble_loop.whole.things import all_faces
from tests import edits
from tests.conftest import examples, plane_ground, t_site
from tests.whole.test_batters import tee
from tests.whole.test_surface import assert_watertight

GROUND = Ground(name="g", surface=plane_ground(0.0, 0.0, 21.0))


def with_island(begin=15.0, finish=25.0, street="side", **values):
    site = edits.add_ground(t_site(), GROUND)
    return add_island(site, street, begin, finish, **values)


def told(q, *rules):
    return [f for f in findings(q) if f.rule in rules]


def test_the_outline_by_hand():
    """Ends 2.0 and 1.2 m wide, 10 m apart: sides of sqrt(10^2 - 0.4^2), leaning by asin(0.04), arcs of pi +- 2 asin(0.04)."""
    q = Engine(with_island())
    chain, lean = outline(q, "side-island"), np.arcsin(0.04)
    sides = np.sqrt(100.0 - 0.16)
    assert [e.length for e in chain.elements] == pytest.approx(
        [sides, 0.6 * (np.pi - 2 * lean), sides, 1.0 * (np.pi + 2 * lean)]
    )
    assert chain.points_at([0.0]) == pytest.approx(chain.points_at([chain.total]), abs=1e-9)
    turned = chain.at([chain.total]).headings[0] - chain.at([0.0]).headings[0]
    assert turned == pytest.approx(2 * np.pi)
    # Round (100, 15) with 1.0 m and round (100, 25) with 0.6 m; the street runs north from (100, 0).
    around = shapely.Polygon(chain.points_at(np.linspace(0.0, chain.total, 4001)[:-1]))
    assert around.bounds == pytest.approx((99.0, 14.0, 101.0, 25.6), abs=1e-3)
    assert plan_polygon(q, "side-island").area == pytest.approx(around.area, rel=5e-3)


def test_the_lip_lies_on_the_carriageway_and_the_kerb_on_the_lip():
    site = with_island()
    q, plain = Engine(site), Engine(edits.add_ground(t_site(), GROUND))
    s = rows(q, "side-island")
    lip = line(q, IslandLine("side-island")).points(s)
    assert lip[:, 2] == pytest.approx([probe(plain, *p[:2]).finished for p in lip], abs=1e-9)
    shape = kerb_of(q, q.site.all(Island)[0])
    back = line(q, IslandLine("side-island", shape.points[-1].point)).points(s)
    assert back[:, 2] - lip[:, 2] == pytest.approx(shape.points[-1].up / 1000.0)
    assert np.hypot(*(back - lip)[:, :2].T) == pytest.approx(shape.points[-1].out / 1000.0)
    middle = probe(q, 100.0, 20.0)
    assert middle.title == "Side island at 15 top"
    assert middle.finished == pytest.approx(probe(plain, 100.0, 20.0).finished + shape.points[-1].up / 1000.0, abs=0.06)


def test_the_carriageway_is_cut_out_under_it_and_nothing_is_told():
    q, plain = Engine(with_island()), Engine(edits.add_ground(t_site(), GROUND))
    assert not told(q, "built twice", "cannot be worked out", "islands overlap")
    assert_watertight(q)
    areas = [sum(float(counted(x, id).areas().sum()) for id in all_faces(x)) for x in (q, plain)]
    assert areas[0] == pytest.approx(areas[1], rel=1e-6)
    taken = plan_polygon(q, "side-island").area
    own = sum(
        float(finished_mesh(q, IslandFace("side-island", part)).surface.areas().sum()) for part in ("kerb", "top")
    )
    assert own == pytest.approx(taken, rel=1e-3)
    assert whole_surface(q).surface.areas().sum() == pytest.approx(areas[1], rel=1e-6)


@pytest.mark.parametrize(("begin", "finish"), [(5.0, 14.0), (2.0, 9.0), (20.0, 20.0)])
def test_it_may_reach_into_the_junction_or_be_a_circle(begin, finish):
    q = Engine(with_island(begin, finish, wide_begin=1.6, wide_finish=1.0))
    assert not told(q, "built twice", "cannot be worked out")
    assert_watertight(q)


def test_what_does_not_fit_is_told_and_the_rest_stands():
    found = told(Engine(with_island(wide_begin=3.0)), "lane beside an island")
    assert [f.value for f in found] == pytest.approx([1.5, 1.5], abs=2e-3)  # on both sides 3.0 m of lane less 1.5
    (found,) = told(Engine(with_island(wide_begin=8.0, wide_finish=8.0)), "cannot be worked out")
    assert "reaches past the carriageway" in found.message
    (found,) = told(Engine(with_island(wide_begin=0.3, wide_finish=0.3)), "cannot be worked out")
    assert "does not fit into an end 0.3 m wide" in found.message
    site = add_island(with_island(), "side", 24.0, 30.0)
    assert len(told(Engine(site), "islands overlap")) == 1
    far = with_island(80.0, 90.0)
    (found,) = told(Engine(far), "cannot be worked out")
    assert "its street does not reach so far" in found.message
    with pytest.raises(ValueError, match="before it begins"):
        Island(id="x", street="side", begin=20.0, finish=10.0)
    with pytest.raises(ValueError, match="one inside the other"):
        Island(id="x", street="side", begin=20.0, finish=20.3, wide_begin=4.0, wide_finish=1.0)


def test_a_splitter_is_put_behind_the_throat_either_way_round():
    site = edits.add_ground(t_site(), GROUND)
    made = splitter(Engine(site), "side", "start")(site)
    (island,) = made.all(Island)
    assert (island.begin, island.finish) == pytest.approx(
        (5.5, 14.5)
    )  # 3.5 m to the throat, a metre, and half its width
    assert not told(Engine(made), "built twice", "cannot be worked out")
    assert splitter(Engine(edits.set_street(site, "side", kind="existing")), "side", "start") is None


@pytest.mark.parametrize("reverse", [False, True])
def test_a_nose_is_put_beyond_the_returns_of_the_through_street(reverse):
    """The returns leave it 11 m either side of x = 100: 1 m and half a width beyond, and 10 m on."""
    site = edits.add_ground(t_site(), GROUND)
    site = edits.reverse_street(site, "through", 200.0) if reverse else site
    rows = kind_of("island").facts_about(Engine(site), ThingId("junction", "side:start"))
    buttons = dict(rows[0].buttons)
    assert list(buttons) == ["Island on Side", "Island on Through before it", "Island on Through beyond it"]
    q = Engine(buttons["Island on Through before it"](site))
    west, _, east, _ = plan_polygon(q, "through-island").bounds
    ends = (111.0 + 1.0, 111.0 + 11.0 + 0.6) if reverse else (89.0 - 11.0 - 0.6, 89.0 - 1.0)
    assert (west, east) == pytest.approx(ends, abs=0.01)
    assert not told(q, "built twice", "cannot be worked out")
    assert_watertight(q)


def test_vehicles_keep_off_it():
    site = edits.add_ground(t_site(), GROUND)
    free = turnings(Engine(site), "side:start", "car")
    blocked = turnings(
        Engine(add_island(site, "side", 6.0, 14.0, wide_begin=3.4, wide_finish=3.4)), "side:start", "car"
    )
    assert max(t.over_lip for t in free) == pytest.approx(0.0, abs=1e-9)
    assert max(t.over_lip for t in blocked) > 0.05


def test_it_is_kept_set_out_tabled_and_follows_its_street(tmp_path):
    site = set_island(with_island(beside=0.2), "side-island", name="Splitter")
    save_site(site, tmp_path / "i.hloop")
    q = Engine(load_site(tmp_path / "i.hloop"))
    thing = ThingId("island", "side-island")
    assert kind_of("island").name(q, thing) == "Splitter"
    points = kind_of("island").set_out(q, thing)
    assert len(points) >= 8
    along = outline(q, "side-island")
    assert np.abs(along.feet([[p.easting, p.northing] for p in points]).offsets).max() < 1e-9
    made = table(q, "islands", None, None)
    (row,) = (dict(zip(made.columns, r)) for r in made.rows)
    name, street, begin, finish = (row[k] for k in ("island", "street", "begin", "finish"))
    area, low, high = (row[k] for k in ("area", "lowest_lip", "highest_lip"))
    assert (name, street, begin, finish) == ("Splitter", "Side", 15.0, 25.0)
    assert area == pytest.approx(plan_polygon(q, "side-island").area)
    assert low <= high
    # Reversed, it stays where it is; so it does when the street is cut and joined.
    plan = plan_polygon(q, "side-island")
    levelled = edits.set_vips(site, "side", [Vip(chainage=40.0, level=22.3), Vip(chainage=60.0, level=22.5)])
    turned = Engine(edits.reverse_street(levelled, "side", 60.0))
    assert plan_polygon(turned, "side-island").symmetric_difference(plan).area < 0.02
    facts = {r.label: r for r in kind_of("island").facts(turned, thing) if isinstance(r, Fact)}
    assert (facts["from"].value, facts["wide where it begins"].value) == (pytest.approx(35.0), pytest.approx(1.2))
    moved = Engine(facts["from"].edit(30.0)(turned.site))
    assert {r.label: r.value for r in kind_of("island").facts(moved, thing) if isinstance(r, Fact)}[
        "from"
    ] == pytest.approx(30.0)
    cut = split(Engine(levelled), "side", 10.0)(levelled)
    (island,) = cut.all(Island)
    assert (island.begin, island.finish) == pytest.approx((5.0, 15.0))
    (joint,) = [x for x in joints(Engine(cut), "side", "end") if (x.other, x.end) == (island.street, "start")]
    (island,) = joined(Engine(cut), "side", "end", joint)(cut).all(Island)
    assert (island.street, island.begin) == ("side", pytest.approx(15.0))
    assert not edits.remove_street(site, "side").all(Island)


@given(
    st.floats(40.0, 140.0),
    st.floats(4.0, 30.0),
    st.floats(3.0, 12.0),
    st.floats(0.8, 2.2),
    st.floats(0.8, 2.2),
    st.floats(-0.5, 0.5),
    st.floats(-0.04, 0.04),
)
@examples(10)
def test_any_island_is_watertight(angle, begin, long, wide_begin, wide_finish, beside, grade):
    site = tee(angle, plane_ground(0.0, 0.0, 50.0), fall=-0.03, grades=(0.02, grade))
    site = add_island(site, "side", begin, begin + long, wide_begin=wide_begin, wide_finish=wide_finish, beside=beside)
    q = Engine(site)
    assert not told(q, "built twice")
    assert_watertight(q)
    lip = line(q, StreetLine("side")).rule
    assert np.isfinite(lip.levels([begin + long])).all()
