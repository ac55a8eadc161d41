"""The order of construction: a street that is built after another has its finished earthworks as its ground."""

import re

import numpy as np
import pytest
import shapely
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.desk.drawing import cross_view, earlier_under, section_view
from humble_loop.engine.query import Engine, Unsolved
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.ground.surface import Surface
from humble_loop.ground.volume import volume_between
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street import Bend, StreetLine, Vip
from humble_loop.kinds.street.cutting import split
from humble_loop.kinds.street.earthworks import ground_under
from humble_loop.kinds.street.faces import StreetFace
from humble_loop.kinds.street.joining import joined, joints
from humble_loop.kinds.street.order import NEITHER, BuildOrder, built_before, decided_order
from humble_loop.kinds.street.plan import chain_of
from humble_loop.kinds.street.side import boundary_width
from humble_loop.lines.describe import Choice
from humble_loop.lines.faces import face
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from humble_loop.whole.overlaps import built_over, counted, counted_volume, plan_of
from humble_loop.whole.tables import table
from humble_loop.whole.things import all_faces
from tests import edits
from tests.conftest import examples, lane_section, plane_ground
from tests.whole.test_surface import assert_watertight

NODE = ThingId("junction", "side:start")
REAL = (312_408.0, 6_251_977.0)


def hillside(slope: float, east: float = 0.0, north: float = 0.0) -> Ground:
    """Ground that rises to the north, 20 m high at the origin."""
    flat = plane_ground(0.0, slope, 20.0, n=300)
    return Ground(name="g", surface=Surface(flat.points + [east, north, 0.0], flat.triangles))


def battered(name: str, run: float):
    """A section 3 m wide to each lip, its batters 1 on ``run``."""
    made = lane_section(name, 3.0)
    side = made.left.model_copy(update={"cut_slope": 1.0 / run, "fill_slope": 1.0 / run})
    return made.model_copy(update={"left": side, "right": side})


def y_site(*, angle: float = 30.0, slope: float = 0.2, climb: float = 0.1, at: tuple[float, float] = (0.0, 0.0)):
    """A street along a hillside at 20 m, and another that leaves it up the hill and then runs beside it."""
    east, north = at
    site = edits.add_ground(new_site("Y"), hillside(slope, east, north))
    ends = [Bend(easting=east - 120, northing=north), Bend(easting=east + 160, northing=north)]
    site = edits.add_street(site, "Through", ends, vips=(Vip(chainage=0, level=20), Vip(chainage=280, level=21)))
    out = 60.0 * np.array([np.cos(np.radians(angle)), np.sin(np.radians(angle))])
    far = (east + out[0] + 60.0, north + out[1] + 6.0)
    rows = [
        Bend(easting=east, northing=north),
        Bend(easting=east + out[0], northing=north + out[1], radius=60.0),
        Bend(easting=far[0], northing=far[1]),
    ]
    vips = (Vip(chainage=60, level=20 + 60 * climb, curve_length=10), Vip(chainage=160, level=22 + 60 * climb))
    return edits.add_street(site, "Side", rows, vips=vips)


def parallel(apart: float, run: float, *, later: str = "upper"):
    """A street along a hillside near 19.5 m, and a higher one beside it, up the hill, on fill that runs out at 1 on ``run``."""
    site = edits.set_section(edits.add_ground(new_site("P"), hillside(0.15)), battered("battered", run))
    site = edits.add_street(
        site,
        "Lower",
        [Bend(easting=-100, northing=0), Bend(easting=100, northing=0)],
        vips=(Vip(chainage=0, level=19), Vip(chainage=200, level=20)),
    )
    site = edits.add_street(
        site,
        "Upper",
        [Bend(easting=-60, northing=apart), Bend(easting=60, northing=apart)],
        section="battered",
        vips=(Vip(chainage=0, level=27), Vip(chainage=120, level=28)),
    )
    return decided_order("upper", "lower", later)(site)


def told(q, rule):
    return [f for f in findings(q) if f.rule == rule]


# Which is built later


@pytest.mark.parametrize(("angle", "before"), [(30.0, ("through",)), (48.0, ("through",)), (60.0, ()), (90.0, ())])
def test_a_street_that_leaves_at_a_sharp_angle_is_built_after_the_other(angle, before):
    q = Engine(y_site(angle=angle))
    assert built_before(q, "side") == before
    assert built_before(q, "through") == ()


def test_it_is_chosen_at_the_junction_and_stays_in_the_file(tmp_path):
    site = y_site()
    rows = kind_of("junction").facts(Engine(site), NODE)
    choice = next(r for r in rows if isinstance(r, Choice) and r.label == "built later")
    assert choice.options == ((NEITHER, "neither"), ("side", "Side"), ("through", "Through"))
    assert choice.current == "side"
    site = choice.edit("through")(site)
    save_site(site, tmp_path / "y.hloop")
    q = Engine(load_site(tmp_path / "y.hloop"))
    assert (built_before(q, "side"), built_before(q, "through")) == ((), ("side",))
    q = Engine(choice.edit(NEITHER)(site))
    assert (built_before(q, "side"), built_before(q, "through")) == ((), ())
    # The streets tell it too, and an existing street is there before any.
    assert any(
        isinstance(r, Choice) and "Side" in r.label
        for r in kind_of("street").facts(Engine(site), ThingId("street", "through"))
    )
    assert built_before(Engine(edits.set_street(site, "side", kind="existing")), "through") == ()


def test_an_order_names_its_streets_in_the_order_of_their_ids():
    with pytest.raises(ValueError, match="in the order of their ids"):
        BuildOrder(first="b", second="a")
    with pytest.raises(ValueError, match="one is built later, not 'c'"):
        BuildOrder(first="a", second="b", later="c")


def test_an_order_in_a_ring_is_told_and_its_streets_stand():
    site = parallel(60.0, 2.0)
    site = edits.add_street(
        site,
        "Third",
        [Bend(easting=-60, northing=90), Bend(easting=60, northing=90)],
        vips=(Vip(chainage=0, level=34), Vip(chainage=120, level=34.5)),
    )
    site = decided_order("third", "upper", "third")(site)
    assert built_before(Engine(site), "third") == ("upper",)
    ring = decided_order("lower", "third", "lower")(site)
    q = Engine(ring)
    assert all(built_before(q, s) == () for s in ("lower", "upper", "third"))
    found = told(q, "order in a ring")
    assert sorted(f.thing for f in found) == ["Lower", "Third", "Upper"]
    assert not told(q, "cannot be worked out")
    assert not told(Engine(found[0].mend.apply(ring)), "order in a ring")


def test_it_stays_with_streets_that_are_cut_joined_and_removed():
    site = parallel(24.0, 2.0)
    cut = split(Engine(site), "upper", 60.0)(site)
    orders = {(o.first, o.second, o.later) for o in cut.all(BuildOrder)}
    others = {o.second for o in cut.all(BuildOrder)} | {o.first for o in cut.all(BuildOrder)}
    (rest,) = others - {"lower", "upper"}
    assert len(orders) == 2
    assert all(later in (rest, "upper") for *_, later in orders)
    (joint,) = [j for j in joints(Engine(cut), "upper", "end") if (j.other, j.end) == (rest, "start")]
    whole = joined(Engine(cut), "upper", "end", joint)(cut)
    assert [(o.first, o.second, o.later) for o in whole.all(BuildOrder)] == [("lower", "upper", "upper")]
    assert not edits.remove_street(whole, "lower").all(BuildOrder)


# The ground of the later street


def test_its_fill_ends_on_the_cut_of_the_earlier_one_by_hand():
    """Where x = 0: the lower street's cut rises 1 on 2 from its edge, the upper one's fill falls 1 on 1.5 from its own, towards the south.
    They meet where z0 + (y - e0) / 2 = z1 - (e1 - y) / 1.5; on the ground as found, 20 + 0.15 y, it would end higher up.
    """
    q = Engine(parallel(28.0, 1.5))
    low, high = (
        section_view(q, StreetLine("lower", "boundary", "left")),
        section_view(q, StreetLine("upper", "boundary", "right")),
    )
    z0, z1 = float(np.interp(100.0, low.chainages, low.levels)), float(np.interp(60.0, high.chainages, high.levels))
    e0, e1 = boundary_width(q, "lower", "left").one(100.0), 28.0 - boundary_width(q, "upper", "right").one(60.0)
    meets = (z0 - e0 / 2 - z1 + e1 / 1.5) / (1 / 1.5 - 1 / 2)
    as_found = (z1 - e1 / 1.5 - 20.0) / (0.15 - 1 / 1.5)
    top = (20.0 - z0 + e0 / 2) / (0.5 - 0.15)
    assert e0 < meets < as_found < top
    made = face(q, StreetFace("upper", "batter", "right"))
    toe = made.ends[int(np.argmin(np.abs(made.points[:, 0, 0])))]
    assert toe[:2] == pytest.approx([0.0, meets], abs=1e-6)
    assert toe[2] == pytest.approx(z0 + (meets - e0) / 2, abs=1e-6)
    assert not told(q, "built twice")


@pytest.mark.parametrize(
    ("site", "streets", "least"),
    [
        (y_site(angle=25.0), ("side", "through"), 0.0),
        (y_site(at=REAL), ("side", "through"), 0.0),
        (parallel(28.0, 1.5), ("lower", "upper"), 100.0),
    ],
)
def test_volumes_in_their_order_make_up_the_whole(site, streets, least):
    """On balance they are those from the ground as found to the finished surface, whichever street is first."""
    for later in (NEITHER, *streets):
        q = Engine(decided_order(*streets, later)(site))
        ids = [id for id in all_faces(q) if not isinstance(q.attempt(counted, id), Unsolved)]
        whole = sum(v.fill - v.cut for v in (volume_between(ground_of(q), counted(q, id)) for id in ids))
        parts = sum(v.fill - v.cut for v in (counted_volume(q, id) for id in ids))
        first = [built_over(q, s) for s in streets]
        assert parts + sum(v.fill - v.cut for v in first) == pytest.approx(whole, abs=1e-4)
        assert sum(v.fill + v.cut for v in first) >= (least if later else 0.0)
        rows = [r for r in table(q, "volumes", None, None).rows if r[1] == "earthworks"]
        assert len(rows) == sum(v.fill + v.cut > 1e-6 for v in first)


def test_sections_of_the_later_street_show_the_earlier_one():
    site = y_site()
    q, plain = Engine(site), Engine(decided_order("side", "through", NEITHER)(site))
    # 40 m along, the through street's edge lies 20 - 8 m to the right of the side street's crown, or near to it.
    made, other = cross_view(q, "side", 40.0), cross_view(plain, "side", 40.0)
    assert "as Through leaves it" in made.words
    assert len(other.found) == 0
    shown = np.abs(made.ground[:, 1] - other.ground[:, 1]) > 0.01
    assert shown.any()
    kept = np.isfinite(made.found[:, 1])
    assert np.all(kept[shown])
    assert made.found[kept] == pytest.approx(other.ground[kept])
    place = chain_of(q, "side").points_at([40.0], -np.array([made.ground[shown][0, 0]]))
    assert ground_under(q, "side").levels(place)[0] == pytest.approx(made.ground[shown][0, 1], abs=1e-9)
    # Its long section too: on the through street's carriageway to begin with.
    s, z = earlier_under(q, StreetLine("side"))
    crown = section_view(q, StreetLine("through"))
    level = np.interp(120.0, crown.chainages, crown.levels)
    assert np.interp(0.5, s, z) == pytest.approx(level - 0.03 * 0.25, abs=0.02)
    assert not len(earlier_under(plain, StreetLine("side"))[0])


@given(st.floats(20.0, 45.0), st.floats(0.05, 0.3), st.floats(0.0, 0.12), st.sampled_from([(0.0, 0.0), REAL]))
@examples(6)
def test_whichever_is_first_nothing_clashes_and_each_square_metre_counts_once(angle, slope, climb, at):
    site = y_site(angle=angle, slope=slope, climb=climb, at=at)
    for later in ("side", "through"):
        q = Engine(decided_order("side", "through", later)(site))
        assert not [f for f in told(q, "built twice") if f.of.kind == "street" and "batter" in f.thing]
        ids = [id for id in all_faces(q) if not isinstance(q.attempt(counted, id), Unsolved)]
        area = sum(float(counted(q, id).areas().sum()) for id in ids)
        assert shapely.union_all([plan_of(counted(q, id)) for id in ids]).area == pytest.approx(area, abs=0.05)
        if not told(q, "batter on a street") and not told(q, "batter ends in the air"):
            assert_watertight(q)


# What comes down on another street


@pytest.mark.parametrize("apart", [24.0, 27.0])
def test_the_least_shift_and_the_steepest_batter_keep_it_off(apart):
    """Each is tried: what is told does, and less does not."""
    (found,) = told(Engine(parallel(apart, 2.0)), "batter on a street")
    assert "its fill comes down on Lower" in found.message
    shift = float(re.search(r"([\d.]+) m further away", found.remedy)[1])
    run = float(re.search(r"a batter of 1:([\d.]+)", found.remedy)[1])
    assert not told(Engine(parallel(apart + shift, 2.0)), "batter on a street")
    assert told(Engine(parallel(apart + shift - 0.3, 2.0)), "batter on a street")
    assert not told(Engine(parallel(apart, run)), "batter on a street")
    assert told(Engine(parallel(apart, run + 0.05)), "batter on a street")


def test_batters_that_clash_offer_an_order():
    site = parallel(24.0, 2.0, later=NEITHER)
    (found,) = told(Engine(site), "built twice")
    assert found.mend.words == "Build Upper after Lower"
    q = Engine(found.mend.apply(site))
    assert not told(q, "built twice")
    assert told(q, "batter on a street")
