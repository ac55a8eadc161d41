"""What a driver sees who comes out of a side street: worked cases, findings, table and rows."""

import numpy as np
import pytest
import shapely

from humble_loop.engine.query import Engine
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.street import Bend, Vip
from humble_loop.kinds.street.plan import class_of
from humble_loop.lines.table import NoSuchTable
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from humble_loop.whole.sight import sight_sheet, sights
from humble_loop.whole.surface import probe
from humble_loop.whole.tables import table
from tests import edits
from tests.conftest import plane_ground, t_site
from tests.kinds.test_crossings import cross

NODE = "side:start"


def grounded(site, level=21.0):
    return edits.add_ground(site, Ground(name="g", surface=plane_ground(0.0, 0.0, level)))


def crest(top=22.0, at=80.0, steep=0.1):
    """The reference junction, its through street level at 22 m up to a crest west of it, and falling steeply beyond."""
    site = grounded(t_site())
    vips = [Vip(chainage=0.0, level=top - steep * at), Vip(chainage=at, level=top), Vip(chainage=200.0, level=22.0)]
    return edits.set_vips(site, "through", vips)


def told(site):
    return [f for f in findings(Engine(site)) if f.rule in ("sight at a junction", "lot in a sight triangle")]


def test_on_even_ground_all_is_seen_and_the_triangle_lies_where_a_driver_looks():
    """Eyes 3 m off the through lip, 3.5 m out, in the middle of the left lane of one who drives south: 1.5 m east of the crown."""
    q = Engine(grounded(t_site()))
    wanted = class_of(q, "through").sight_distance
    made = {(s.position, s.looking): s for s in sights(q, NODE)}
    assert len(made) == 4
    right = made["waiting", "right"]
    assert right.triangle[0] + q.site.origin == pytest.approx([101.5, 6.5])
    assert (right.seen, right.wanted) == (wanted, wanted)
    # From his right, the west, vehicles come on the north side; from his left on the south side.
    assert right.triangle[-1] + q.site.origin == pytest.approx([100.0 - wanted, 1.75])
    left = made["waiting", "left"]
    assert left.triangle[-1] + q.site.origin == pytest.approx([100.0 + wanted, -1.75])
    assert made["approaching", "left"].wanted == pytest.approx(0.5 * wanted)
    assert made["approaching", "left"].triangle[0][1] + q.site.origin[1] == pytest.approx(12.5)
    assert not told(grounded(t_site()))


def test_with_traffic_on_the_right_it_is_the_other_way_round():
    q = Engine(edits.set_settings(grounded(t_site()), traffic="right"))
    right = next(s for s in sights(q, NODE) if (s.position, s.looking) == ("waiting", "right"))
    assert right.triangle[0] + q.site.origin == pytest.approx([98.5, 6.5])
    assert right.triangle[-1][1] + q.site.origin[1] == pytest.approx(-1.75)


def test_a_crest_hides_what_lies_behind_it_as_far_as_a_straight_line_says():
    q = Engine(crest())
    rules = class_of(q, "through")
    s = next(s for s in sights(q, NODE) if (s.position, s.looking) == ("waiting", "right"))
    (e, n), o = s.triangle[0], q.site.origin
    eye = probe(q, e, n).finished + rules.eye_height

    def road(x):
        """Levels in the lane, 1.75 m north of the crown: level up to the crest, 10 % down beyond it."""
        return 22.0 - 0.03 * 1.75 - 0.1 * np.maximum(80.0 - x, 0.0)

    hidden = []
    for d in np.append(np.arange(8.0, rules.sight_distance, 4.0), rules.sight_distance):
        x = 100.0 - d
        t = np.linspace(0.0, 1.0, 4000)
        line = eye + (road(x) + rules.target_height - eye) * t
        along = (e + o[0]) + (x - e - o[0]) * t
        far = along < 95.0  # the lane alone, not what lies beside the driver
        if (road(along)[far] > line[far] + 1e-6).any():
            hidden.append(d)
    assert hidden
    assert s.seen == pytest.approx(hidden[0] - 4.0, abs=4.0)  # a vehicle further where it is a matter of millimetres
    assert s.hidden_by == "Through"
    (f,) = [f for f in told(crest()) if "waiting" in f.message]
    assert f.severity == "broken"
    assert "to the right" in f.message
    steep = Engine(crest(at=85.0, steep=0.2))
    short = next(s for s in sights(steep, NODE) if (s.position, s.looking) == ("waiting", "right"))
    assert short.seen < s.seen


def bent(level, lots=False):
    """A side street that comes out on the inside of a bend of 60 m, on ground at a level; the streets lie at about 10 m."""
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(0.0, 0.0, level)))
    ends = [Bend(easting=-100, northing=80), Bend(easting=0, northing=0, radius=45), Bend(easting=100, northing=80)]
    vips = (Vip(chainage=0, level=10), Vip(chainage=240, level=10))
    site = edits.add_street(site, "Through", ends, street_class="collector", vips=vips)
    # A bend of 45 m between legs of 38.66 degrees comes 45 (1 / cos 38.66 - 1) = 12.63 m short of its corner.
    inner = 45.0 * (np.hypot(100.0, 80.0) / 100.0 - 1.0)
    ends = [Bend(easting=0, northing=inner), Bend(easting=0, northing=90)]
    site = edits.add_street(site, "Side", ends, vips=(Vip(chainage=60, grade=0.01),))
    if lots:
        site = edits.add_lot_row(site, "through", "left", frontage=14.0, depth=25.0)
    return site


def test_a_cutting_inside_a_bend_is_in_the_way_and_low_ground_is_not():
    q = Engine(bent(10.0))
    assert {s.seen - s.wanted for s in sights(q, NODE)} == {0.0}
    found = [f for f in told(bent(17.0)) if f.rule == "sight at a junction"]
    assert found
    assert {f.severity for f in found} <= {"broken", "near"}
    assert all(f.value < f.limit for f in found)
    assert all(f.place is not None for f in found)


def test_lots_that_reach_into_a_triangle_are_named():
    site = bent(10.0, lots=True)
    q = Engine(site)
    made = [s for s in sights(q, NODE) if s.lots]
    assert made
    for s in made:
        for thing, name, area in s.lots:
            assert thing.kind == "lot"
            assert name
            assert 0.5 < area <= shapely.make_valid(shapely.Polygon(s.triangle)).area
    near = [f for f in told(site) if f.rule == "lot in a sight triangle"]
    assert near
    assert all(f.severity == "near" for f in near)
    assert near[0].also[0].kind == "lot"


def test_every_arm_of_a_four_way_looks_both_ways_and_a_short_through_street_is_all_of_it():
    q = Engine(cross(ground=plane_ground(0.0, 0.0, 21.0)))
    made = sights(q, "across:through:0")
    assert len(made) == 8
    # The near side looks north, the far side south: what is left of one is right of the other.
    south, north = (
        next(s for s in made if s.arm[1].onwards is on and (s.position, s.looking) == ("waiting", "left"))
        for on in (False, True)
    )
    assert np.sign(south.triangle[-1][0] - south.triangle[1][0]) == -np.sign(
        north.triangle[-1][0] - north.triangle[1][0]
    )
    short = edits.move_bend(grounded(t_site()), "through", 1, 120.0, 0.0)
    left = next(s for s in sights(Engine(short), NODE) if (s.position, s.looking) == ("waiting", "left"))
    assert left.seen == left.wanted  # nobody comes from beyond its end


def test_table_and_rows():
    q = Engine(crest(at=85.0, steep=0.12))
    made = table(q, "sight", "Side / Through", None)
    assert made.columns[:5] == ("arm", "position", "looking", "wanted", "seen")
    assert len(made.rows) == 4
    with pytest.raises(NoSuchTable, match="no junction 'x'"):
        table(q, "sight", "x", None)
    sheet = sight_sheet(q, NODE)
    shares = [r.cells[4].value / r.cells[3].value for r in sheet.rows]
    assert shares == sorted(shares)
    assert sheet.rows[0].cells[5] is not None
    assert (sheet.rows[0].points[0] == sheet.rows[0].points[-1]).all()
    assert table(Engine(new_site()), "sight", None, None).rows == ()
