"""What drivers see at a roundabout: worked cases, findings, table and rows."""

import numpy as np
import pytest
import shapely

from humble_loop.engine.query import Engine
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.roundabout.model import add_roundabout, set_leg
from humble_loop.kinds.roundabout.place import legs_of, middle_of, sizes_of
from humble_loop.kinds.street.model import Bend, Vip
from humble_loop.kinds.street.plan import class_of
from humble_loop.lines.table import NoSuchTable
from humble_loop.site.libraries import new_site
from humble_loop.whole.findings import findings
from humble_loop.whole.round_sight import RULES, round_sight_sheet, round_sights
from humble_loop.whole.surface import probe
from humble_loop.whole.tables import table
from tests import edits
from tests.conftest import plane_ground
from tests.kinds.test_roundabouts import ID, LONG

LEVEL = (Vip(chainage=0.0, level=50.0), Vip(chainage=2.0 * LONG, level=50.0))


def crossing_streets(*, preset="single", east=0.0, north=0.0):
    """Streets A and B at level 50, which cross in a roundabout with pedestrian crossings, on level ground."""
    surface = plane_ground(0.0, 0.0, 50.0)
    surface = type(surface)(surface.points + [east, north, 0.0], surface.triangles)
    site = edits.add_ground(new_site(), Ground(name="g", surface=surface))
    for name, (x, y) in (("A", (LONG, 0.0)), ("B", (0.0, LONG))):
        ends = [Bend(easting=east + s * x, northing=north + s * y) for s in (-1.0, 1.0)]
        site = edits.add_street(site, name, ends, vips=LEVEL)
    return add_roundabout(site, "a", LONG, "b", preset=preset)


def seen(site, leg=0):
    q = Engine(site)
    key = legs_of(q, ID)[leg].key
    return {s.position: s for s in round_sights(q, ID) if s.leg == key}


def told(site, rule=RULES[0]):
    return [f for f in findings(Engine(site)) if f.rule == rule]


def test_on_even_ground_all_is_seen():
    """Wanted by hand: five seconds at 25 km/h are 34.7 m; half of that by who comes up to it; 22 m to stop going round, and 25 m before a crossing."""
    made = seen(crossing_streets())
    assert {p: (s.wanted, s.seen) for p, s in made.items()} == {
        "waiting": (35.0, 35.0),
        "approaching": (17.5, 17.5),
        "going round": (22.0, 22.0),
        "before the crossing": (25.0, 25.0),
    }
    assert told(crossing_streets()) == []


@pytest.mark.parametrize(("traffic", "turn"), [("left", -1.0), ("right", 1.0)])
def test_a_driver_who_waits_looks_to_where_they_come_from(traffic, turn):
    """Where traffic keeps left vehicles go round clockwise, so who stands at a leg is passed by those from anticlockwise of it; his eyes are on the side he comes in."""
    site = edits.set_settings(crossing_streets(), traffic=traffic)
    q = Engine(site)
    leg, (middle, sizes) = legs_of(q, ID)[0], (middle_of(q, ID), sizes_of(q, ID))
    waiting = seen(site)["waiting"].clear - middle
    eye, first, last = waiting[0], waiting[1], waiting[-1]
    out = np.array([np.cos(leg.angle), np.sin(leg.angle)])
    assert eye @ out == pytest.approx(sizes.radius + 2.5, abs=0.8)
    aside = out[0] * eye[1] - out[1] * eye[0]  # positive anticlockwise of the leg
    assert aside * turn > 1.0  # one comes in on the left of it where traffic keeps left
    assert np.hypot(*first) == pytest.approx((sizes.radius - 0.5 * sizes.width), abs=0.05)
    round_ = waiting[1:][np.hypot(*waiting[1:].T) < sizes.radius - 0.5 * sizes.width + 0.05]
    bearings = np.unwrap(np.arctan2(round_[:, 1], round_[:, 0]))
    assert len(bearings) > 8
    assert (np.diff(bearings) * -turn > 0.0).all()  # against the way they go
    # And on out along the entry of the leg they come from, a quarter of the circle on.
    other = np.array([out[1], -out[0]]) * turn
    assert last @ other > sizes.radius
    # Who goes round looks the other way.
    ahead = seen(site)["going round"].clear - middle
    bearings = np.unwrap(np.arctan2(ahead[1:, 1], ahead[1:, 0]))
    assert (np.diff(bearings) * turn > 0.0).all()
    assert (sizes.radius - 0.5 * sizes.width) * abs(bearings[-1] - bearings[0]) == pytest.approx(22.0, abs=2.1)


def crest(steep, at=18.0):
    """The crossing streets, where B falls away on both sides of the roundabout."""
    vips = [
        Vip(chainage=LONG + s * x, level=50.0 - steep * (x - at)) for s, x in ((-1, LONG), (-1, at), (1, at), (1, LONG))
    ]
    return edits.set_vips(crossing_streets(preset="compact"), "b", vips)


def test_a_leg_that_falls_away_hides_who_comes_as_far_as_a_straight_line_says():
    """The line of sight over the finished surface, looked up place by place: clear to the last that is seen, and not to the next."""
    site = crest(0.3)
    q = Engine(site)
    (street,) = (legs_of(q, ID)[0].street,)
    rules = class_of(q, street)
    s = seen(site)["waiting"]
    assert s.seen < s.wanted == 35.0
    places = s.clear[1:]
    run = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(places, axis=0).T))])

    def clears(target):
        share = np.linspace(0.0, 1.0, 161)
        levels = np.array([probe(q, *(s.clear[0] + f * (target - s.clear[0]) + q.site.origin)).finished for f in share])
        straight = (levels[0] + rules.eye_height) * (1.0 - share) + (levels[-1] + rules.target_height) * share
        return bool((levels < straight)[1:-1].all())

    last = int(np.argmin(abs(run - s.seen)))
    assert run[last] == pytest.approx(s.seen)
    assert clears(places[last])
    assert not clears(places[last + 1])
    found = told(site)
    assert {(f.severity, "waiting" in f.message) for f in found} >= {("broken", True)}
    assert all(f.value < f.limit and np.isfinite(f.place).all() for f in found)
    assert told(crest(-0.05)) == []


def test_it_is_the_same_far_from_the_origin():
    site, there = crossing_streets(), crossing_streets(east=312408.0, north=6251977.0)
    away = np.array(there.origin) - site.origin - (312408.0, 6251977.0)  # what is worked out is so much less there
    for a, b in zip(round_sights(Engine(site), ID), round_sights(Engine(there), ID)):
        assert (b.position, b.seen) == (a.position, pytest.approx(a.seen, abs=1e-6))
        assert b.clear + away == pytest.approx(a.clear, abs=1e-6)


def test_without_a_crossing_nobody_waits_at_it():
    site = crossing_streets()
    assert "before the crossing" not in seen(set_leg(site, ID, "a", "onwards", crossing=0.0))


def test_lots_that_a_driver_looks_across_are_named():
    """Where a leg bends away just beyond a mini roundabout one looks across the corner inside the bend."""
    site = edits.add_ground(new_site(), Ground(name="g", surface=plane_ground(0.0, 0.0, 50.0)))
    site = edits.add_street(site, "A", [Bend(easting=s * LONG, northing=0.0) for s in (-1.0, 1.0)], vips=LEVEL)
    corner = Bend(easting=0.0, northing=22.0, radius=8.0)
    bends = [Bend(easting=0.0, northing=-LONG), corner, Bend(easting=60.0, northing=40.0)]
    site = edits.add_street(site, "B", bends, vips=LEVEL)
    site = edits.add_lot_row(site, "a", "left", frontage=15.0, depth=20.0)
    site = add_roundabout(site, "a", LONG, "b", preset="mini")
    q = Engine(site)
    (s,) = (s for s in round_sights(q, ID) if s.lots)
    ((thing, name, area),) = s.lots
    assert (s.position, thing.kind, name) == ("waiting", "lot", "A L7")
    # At most what lies north of A's boundary and inside the corner of B's, each 8 m from the centreline; the lot keeps further from the roundabout.
    fronts, b = shapely.box(0.0, 8.0, 60.0, 60.0), shapely.LineString([(v.easting, v.northing) for v in bends])
    private = shapely.difference(fronts, b.buffer(8.0))
    clear = shapely.make_valid(shapely.Polygon(s.clear + q.site.origin))
    assert 0.5 * shapely.intersection(clear, private).area < area < shapely.intersection(clear, private).area
    (near,) = told(site, RULES[1])
    assert (near.severity, near.value) == ("near", area)
    assert near.also == (thing,)


def test_table_and_rows():
    q = Engine(crest(0.3))
    made = table(q, "round_sight", None, None)
    assert made.columns[:5] == ("roundabout", "leg", "position", "wanted", "seen")
    assert len(made.rows) == 12
    with pytest.raises(NoSuchTable):
        table(q, "round_sight", "x", None)
    sheet = round_sight_sheet(q, ID)
    shares = [r.cells[3].value / r.cells[2].value for r in sheet.rows]
    assert shares == sorted(shares)
    assert sheet.rows[0].cells[4] is not None
    assert table(Engine(new_site()), "round_sight", None, None).rows == ()
