"""Hollows: found with the depth that water would have."""

import numpy as np
import pytest
from scipy import ndimage

from humble_loop.engine.query import Engine
from humble_loop.ground.build import build_surface
from humble_loop.ground.hollow import hollows
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.street import Bend, Vip
from humble_loop.kinds.turning_head.faces import HeadFace
from humble_loop.lines.faces import finished_mesh
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from tests import edits
from tests.conftest import plane_ground


def grid(level):
    x, y = (v.ravel() for v in np.meshgrid(np.arange(0.0, 41.0), np.arange(0.0, 31.0)))
    return build_surface(np.column_stack([x, y, level(x, y)]))[0]


def test_a_plane_and_a_dome_have_none():
    assert hollows(grid(lambda x, y: 20 + 0.02 * x - 0.01 * y), 0.001) == []
    assert hollows(grid(lambda x, y: 20 - 0.001 * ((x - 20) ** 2 + (y - 15) ** 2)), 0.001) == []


def test_two_bowls_are_told_apart_and_each_is_as_deep_as_its_lowest_way_out():
    """Cones of 0.5 and 0.3 m in a plane that falls east at 1 %: water leaves each over its eastern edge, 4 m from its middle."""

    def level(x, y):
        cones = ((10.0, 15.0, 0.5), (30.0, 15.0, 0.3))
        down = sum(d * np.clip(1 - np.hypot(x - u, y - v) / 4.0, 0, None) for u, v, d in cones)
        return 20 - 0.01 * x - down

    found = hollows(grid(level), 0.01)
    assert [(h.point[0], h.point[1]) for h in found] == [(10.0, 15.0), (30.0, 15.0)]
    assert [h.depth for h in found] == pytest.approx([0.5 - 0.04, 0.3 - 0.04], abs=1e-9)


def test_the_edge_of_a_surface_holds_no_water():
    assert hollows(grid(lambda x, y: 20 + 0.01 * np.abs(x - 20.0)), 0.001) == []


def court(drop):
    """A court whose grade line drops by ``drop`` metres over the last 6 m, to the centre of its bulb."""
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(0.0, 0.0, 50)))
    vips = (Vip(chainage=0, level=50), Vip(chainage=94, level=50.94), Vip(chainage=100, level=50.94 - drop))
    ends = [Bend(easting=0, northing=0), Bend(easting=100, northing=0)]
    site = edits.add_street(site, "Court", ends, vips=vips)
    return Engine(edits.set_head(site, "court", radius=9.0, return_radius=12.0, outlet="street"))


@pytest.mark.parametrize("drop", [0.4, 0.8])
def test_a_bulb_that_is_a_bowl_is_told_with_depth_and_place(drop):
    q = court(drop)
    found = [f for f in findings(q) if f.rule == "hollow"]
    assert len(found) == 1
    assert found[0].place == pytest.approx((100.0, 0.0), abs=0.01)
    # Flooded on a raster instead: 2 cm lower, what is wet round the centre stays inside; 2 cm higher, it reaches the edge.
    surface = finished_mesh(q, HeadFace("court", "end", "bulb")).surface
    x, y = np.meshgrid(np.arange(85.0, 115.0, 0.1), np.arange(-15.0, 15.0, 0.1))
    z = surface.levels(np.column_stack([x.ravel(), y.ravel()])).reshape(x.shape)
    centre = np.unravel_index(np.hypot(x - 100, y).argmin(), x.shape)
    edge = ndimage.binary_dilation(np.isnan(z), iterations=2)
    for more, leaves in ((-0.02, False), (0.02, True)):
        wet, _ = ndimage.label(np.nan_to_num(z, nan=99.0) < found[0].value + 50.94 - drop + more)
        assert bool((edge & (wet == wet[centre])).any()) == leaves


def test_a_bulb_that_falls_to_its_lip_holds_no_water():
    assert [f for f in findings(court(0.0)) if f.rule == "hollow"] == []


def test_how_far_water_spreads_and_that_it_leaves_over_outlets_only():
    """A trough 0.2 m deep along x = 20 whose floor falls to the south at 1 in 100: over all of its edge nothing stands; behind
    a wall but for the north-west corner water stands 0.2 + 0.3 m deep at the south end, up to the level of that corner.
    """
    ground = grid(lambda x, y: 20 + 0.01 * np.abs(x - 20.0) + 0.01 * y)
    assert hollows(ground, 0.001) == []
    corner = np.flatnonzero((ground.points[:, 0] == 0.0) & (ground.points[:, 1] == 30.0))
    (found,) = hollows(ground, 0.001, corner)
    assert found.point.tolist() == [20.0, 0.0, 20.0]
    assert found.depth == pytest.approx(0.5)
    assert found.area == pytest.approx(40.0 * 30.0)
    middle = np.flatnonzero((ground.points[:, 0] == 20.0) & (ground.points[:, 1] == 10.0))
    (less,) = hollows(ground, 0.001, middle)
    # Up to 20.1: |x - 20| + y < 10, a triangle 20 m wide and 10 m deep.
    assert less.depth == pytest.approx(0.1)
    assert less.area == pytest.approx(0.5 * 20.0 * 10.0)
