"""What a street that is drawn takes hold of, how it meets another, and how deep it lies."""

import numpy as np
import pytest

from humble_loop.engine.query import Engine, Unsolved
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.street import Bend, Street, Vip
from humble_loop.kinds.street.bends import add_bend, proposed_radius
from humble_loop.kinds.street.depth import depth_band
from humble_loop.kinds.street.edits import like_the_last
from humble_loop.kinds.street.plan import StreetLine, chain_of, class_of
from humble_loop.kinds.street.section import side_shape
from humble_loop.kinds.street.snap import angle_between, snap_to_street, squared_up
from humble_loop.lines.line import line
from humble_loop.site.libraries import new_site
from humble_loop.site.library import StreetClass
from tests import edits
from tests.conftest import lane_section, plane_ground


def crossing_streets():
    """East Street along y = 0 and North Street along x = 60, origin in their south-west."""
    site = new_site()
    for name, ends in (("East Street", ((0, 0), (120, 0))), ("North Street", ((60, -50), (60, 70)))):
        site = edits.add_street(site, name, [Bend(easting=x, northing=y) for x, y in ends])
    return site


def on(site, x, y):
    return (x - (site.origin or (0, 0))[0], y - (site.origin or (0, 0))[1])


def test_the_crossing_of_two_streets_comes_before_either():
    site = crossing_streets()
    q = Engine(site)
    snap = snap_to_street(q, on(site, 62.0, 1.0), 5.0)
    assert snap.crossing
    assert snap.words == "the crossing of East Street and North Street"
    assert snap.place == pytest.approx(on(site, 60.0, 0.0), abs=1e-9)
    beside = snap_to_street(q, on(site, 70.0, 1.0), 5.0)
    assert (beside.street, beside.crossing) == ("east-street", False)
    assert beside.place == pytest.approx(on(site, 70.0, 0.0), abs=1e-9)


def test_the_angle_at_which_it_meets_is_told_and_nearly_square_is_made_square():
    site = crossing_streets()
    q = Engine(site)
    before = on(site, 20.0, 40.0)
    snap = snap_to_street(q, on(site, 25.0, 0.5), 3.0)
    assert angle_between(snap, before) == pytest.approx(np.degrees(np.arctan2(40.0, 5.0)), abs=1e-6)
    square = squared_up(q, snap, before)
    assert square.place == pytest.approx(on(site, 20.0, 0.0), abs=1e-9)
    assert angle_between(square, before) == pytest.approx(90.0)
    slanting = snap_to_street(q, on(site, 45.0, 0.5), 3.0)
    assert squared_up(q, slanting, before) == slanting  # 58 degrees are meant
    # A crossing stays where it is, however nearly square.
    cross = snap_to_street(q, on(site, 60.0, 0.5), 3.0)
    assert squared_up(q, cross, on(site, 58.0, 40.0)) == cross


def test_the_next_street_is_like_the_last_or_like_the_one_in_hand():
    site = crossing_streets()
    assert like_the_last(new_site()) == {"street_class": "local", "section": "local-street"}
    site = edits.set_street(site, "east-street", street_class="collector")
    assert like_the_last(site)["street_class"] == "local"
    assert like_the_last(site, "east-street")["street_class"] == "collector"
    existing = edits.set_street(site, "north-street", kind="existing", street_class="access")
    assert like_the_last(existing)["street_class"] == "collector"  # what exists is no example


def test_a_bend_is_added_on_the_leg_it_lies_on_with_the_class_s_radius():
    site = edits.add_street(
        new_site(), "Line", [Bend(easting=x, northing=y) for x, y in ((0, 0), (100, 0), (100, 100))]
    )
    fresh = add_bend(Engine(site), "line", on(site, 103.0, 60.0))(site)
    bends = fresh.find(Street, "line").bends
    assert [(b.easting, b.northing) for b in bends] == [(0, 0), (100, 0), (103, 60), (100, 100)]
    assert bends[2].radius == proposed_radius(class_of(Engine(site), "line")) == 36.0
    assert proposed_radius(next(c for c in site.all(StreetClass) if c.id == "collector")) == 180.0


def graded_site(level):
    """A straight street of 100 m, level, over a plane that falls 2 % to the east and is level across."""
    site = edits.add_ground(new_site(), Ground(name="plane", surface=plane_ground(a=-0.02, b=0.0, c=50.0)))
    site = edits.add_street(site, "Flat", [Bend(easting=-50.0, northing=0.0), Bend(easting=50.0, northing=0.0)])
    return edits.set_vips(site, "flat", [Vip(chainage=0.0, level=level), Vip(chainage=100.0, level=level)])


def test_depths_are_the_crown_s_over_the_ground():
    band = depth_band(Engine(graded_site(52.0)), "flat")
    # The ground is 50 - 0.02 x: at the start 51, at the end 49.
    assert band.depths[[0, -1]] == pytest.approx([1.0, 3.0], abs=1e-9)
    assert np.all(np.diff(band.depths) > 0)


def test_batters_reach_as_far_as_their_slope_takes_them():
    site = graded_site(52.0)
    q = Engine(site)
    band = depth_band(q, "flat")
    for k, side in enumerate(("left", "right")):
        boundary = line(q, StreetLine("flat", "boundary", side)).points(band.chainages)
        ground = 50.0 - 0.02 * (boundary[:, 0] + (site.origin or (0, 0))[0])
        wanted = (boundary[:, 2] - ground) / side_shape(q, "flat", side, 0.0).fill_slope
        assert band.reach[:, k] == pytest.approx(wanted, abs=1e-6)
        away = np.abs(chain_of(q, "flat").feet(band.edges[:, k]).offsets)
        assert away == pytest.approx(np.abs(chain_of(q, "flat").feet(boundary[:, :2]).offsets) + wanted, abs=1e-6)


def test_a_long_street_has_no_more_pieces_than_can_be_seen():
    site = edits.add_street(new_site(), "Long", [Bend(easting=0.0, northing=0.0), Bend(easting=15_000.0, northing=0.0)])
    with pytest.raises(Unsolved):
        depth_band(Engine(site), "long")  # without levels there is nothing to be deep
    site = edits.set_vips(site, "long", [Vip(chainage=0.0, level=10.0), Vip(chainage=15_000.0, level=20.0)])
    band = depth_band(Engine(site), "long")
    assert len(band.chainages) == 251
    assert np.isnan(band.depths).all()


def test_the_outermost_point_may_have_any_name():
    """A section that ends at a footpath's back and has no boundary."""
    made = lane_section("short", 3.0)
    short = made.left.model_copy(
        update={"parts": (*made.left.parts[:-1], made.left.parts[-1].model_copy(update={"to": "fence"}))}
    )
    site = edits.set_section(graded_site(52.0), made.model_copy(update={"left": short, "right": short}))
    section = next(s.id for s in site.collection("sections") if s.name == "short")
    band = depth_band(Engine(edits.set_street(site, "flat", section=section)), "flat")
    assert (band.reach > 0.5).all()
