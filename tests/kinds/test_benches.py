"""Benches in batters: by hand on level ground, watertight wherever they end."""

import numpy as np
import pytest

from humble_loop.desk.drawing import cross_view
from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.street import Street, StreetLine, Vip
from humble_loop.kinds.street.edits import set_street
from humble_loop.kinds.street.faces import StreetFace
from humble_loop.kinds.street.model import SectionChange
from humble_loop.kinds.street.section_edits import change_benches, set_batter, set_benches, set_toe_drain
from humble_loop.lines.faces import face
from humble_loop.lines.line import line
from humble_loop.site.edits import EditError, changed
from humble_loop.site.library import TypicalSection
from humble_loop.whole.findings import findings
from humble_loop.whole.surface import probe
from tests import edits
from tests.conftest import court_site, plane_ground
from tests.kinds.test_toe_drains import LEVEL, cutting
from tests.whole.test_batters import tee
from tests.whole.test_surface import assert_watertight

EVERY, WIDE, GRADE, SLOPE = 2.0, 1.5, 0.05, 0.5


def benched(depth, **values):
    """A level street 200 m long in level ground ``depth`` above it, with benches."""
    site = set_benches(cutting(plane_ground(0.0, 0.0, LEVEL + depth), shape=None), "flat", "left", True)
    return change_benches(site, "flat", "left", **{"every": EVERY, "width": WIDE, "grade": GRADE, **values})


def edge(q):
    made = line(q, StreetLine("main", "boundary", "left"))
    return made.plan.offset.one(0.0), float(made.rule.levels([0.0])[0])


def rise(d):
    """The rise of a batter ``d`` metres from its hinge: 4 m of slope and 1.5 m of bench in turn."""
    whole, rest = divmod(d, EVERY / SLOPE + WIDE)
    return whole * (EVERY + WIDE * GRADE) + min(rest, EVERY / SLOPE) * SLOPE + max(rest - EVERY / SLOPE, 0.0) * GRADE


@pytest.mark.parametrize("sign", [1, -1])
def test_slope_and_bench_follow_one_another_to_the_ground(sign):
    q = Engine(benched(7.0 * sign))
    out, level = edge(q)
    deep = abs(LEVEL + 7.0 * sign - level)
    toe = next(d for d in np.arange(0.0, 60.0, 0.001) if rise(d) >= deep)
    for d in np.arange(0.3, toe, 0.7):
        for side in (1, -1):
            made = probe(q, 100.0, side * (out + d))
            assert made.finished == pytest.approx(level + sign * rise(d), abs=1e-6), d
    assert probe(q, 100.0, out + toe + 0.02).title == "ground"
    assert probe(q, 100.0, out + toe - 0.02).title == "Main left batter"
    assert_watertight(q)


def test_it_meets_the_ground_on_a_bench_as_well_as_on_a_slope():
    # The second bench lies from 2 x 2 + 0.075 to 0.075 higher above the hinge: the ground meets it in its middle.
    site = benched(0.0)
    _, level = edge(Engine(site))
    ground = 2 * EVERY + WIDE * GRADE + 0.5 * WIDE * GRADE
    q = Engine(benched(level - LEVEL + ground))
    points = face(q, StreetFace("main", "batter", "left")).points
    middle = points[len(points) // 2]
    assert middle[-1, 2] - middle[0, 2] == pytest.approx(ground)
    assert np.hypot(*(middle[-1] - middle[0])[:2]) == pytest.approx(2 * EVERY / SLOPE + 1.5 * WIDE)


def test_they_narrow_to_nothing_where_something_else_goes_on():
    site = edits.add_lot_row(benched(7.0), "main", "left", start=80, end=134)
    q = Engine(site)
    points = face(q, StreetFace("main", "batter", "left")).points
    for row in points:
        wide = np.hypot(*np.diff(row[:, :2], axis=0).T)[1]  # the first bench
        s = row[0, 0]
        far = min(abs(s - v) for v in (0.0, 80.0, 134.0, 200.0))
        assert wide == pytest.approx(WIDE * min(far / 10.0, 1.0), abs=1e-6)
    assert_watertight(q)


@pytest.mark.parametrize("angle", [60.0, 90.0, 125.0])
@pytest.mark.parametrize("depth", [9.0, -9.0])
def test_valleys_and_ridges_of_benched_batters_are_watertight(angle, depth):
    site = set_benches(tee(angle, plane_ground(0.02, 0.01, LEVEL + depth)), "flat", "left", True)
    q = Engine(change_benches(site, "flat", "left", every=2.5))
    assert_watertight(q)
    assert not [f for f in findings(q) if f.rule in ("overlap", "cannot be worked out")]


@pytest.mark.parametrize("drain", ["", "v-drain"])
def test_rolling_ground_with_junction_head_bends_and_drains_is_watertight(drain):
    site = court_site()
    for row in ("court-left", "court-right", "court-head"):
        site = edits.remove_lot_row(site, row)
    for section in ("local-street", "access-place"):
        site = set_benches(site, section, "left", True)
        site = change_benches(site, section, "left", every=0.5, width=1.0)
        site = set_toe_drain(site, section, "left", drain)
    q = Engine(site)
    assert face(q, StreetFace("through", "batter", "left")).points.shape[1] > 4
    assert_watertight(q)


def test_the_cross_section_shows_them_and_a_change_of_section_ends_them():
    site = benched(7.0)
    q = Engine(site)
    out, level = edge(q)
    made = cross_view(q, "main", 100.0)
    at = [i for i, name in enumerate(made.names) if name == "bench"]
    right = made.design[[i for i in at if made.design[i, 0] > 0]]
    want = [(out + d, level + rise(d)) for d in (4.0, 5.5, 9.5, 11.0)]
    assert right[:4] == pytest.approx(np.array(want), abs=1e-6)
    plain = changed(site.find(TypicalSection, "flat"), id="plain", name="Plain")
    site = set_benches(site.put(plain), "plain", "left", False)
    site = set_street(site, "main", changes=(SectionChange(chainage=100.0, section="plain", taper=20.0),))
    q = Engine(site)
    for s, wide in ((90.0, WIDE), (110.0, 0.5 * WIDE), (130.0, 0.0)):
        names, design = (lambda v: (v.names, v.design))(cross_view(q, "main", s))
        found = [design[i, 0] for i, n in enumerate(names) if n == "bench" and design[i, 0] > 0]
        assert (found[1] - found[0] if found else 0.0) == pytest.approx(wide, abs=1e-6)


def test_many_benches_and_refused_measures(tmp_path):
    site = benched(55.0, every=0.5, width=0.1)
    site = set_batter(site, "flat", "left", cut_slope=5.0)
    q = Engine(site)
    assert face(q, StreetFace("main", "batter", "left")).points.shape[1] <= 2 + 2 * 40
    assert_watertight(q)
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop").find(TypicalSection, "flat") == site.find(TypicalSection, "flat")
    with pytest.raises(EditError, match="no benches there"):
        change_benches(set_benches(site, "flat", "left", False), "flat", "left", width=2.0)
    with pytest.raises(EditError, match="every"):
        change_benches(site, "flat", "left", every=0.0)
    assert site.find(Street, "main").vips == (Vip(chainage=0, level=LEVEL), Vip(chainage=200, level=LEVEL))


def test_beside_the_corner_of_a_bend_they_narrow_little_by_little():
    bends = [(0, 0), (100, 0, 30), (100, 120)]
    vips = (Vip(chainage=0, level=LEVEL), Vip(chainage=210, level=LEVEL + 6))
    site = cutting(plane_ground(0.01, 0.02, LEVEL + 12.0), vips, bends, shape=None)
    site = change_benches(set_benches(site, "flat", "left", True), "flat", "left", every=EVERY, width=WIDE)
    q = Engine(edits.set_settings(site, row_interval=1.0))
    made = face(q, StreetFace("main", "batter", "left"))
    assert_watertight(q)
    chain = line(q, StreetLine("main")).plan.base
    s = chain.feet(made.points[:, 0]).chainages
    steps = np.diff(made.points[:, :, :2], axis=1)
    flat = np.abs(np.diff(made.points[:, :, 2], axis=1)) < 0.3  # a bench, not a slope
    wide = np.where(flat, np.hypot(*steps.transpose(2, 0, 1)), 0.0).max(axis=1)
    whole = (s > 10) & (s < 190)
    change = np.abs(np.diff(wide))[made.joined & whole[1:] & whole[:-1]]
    room = np.diff(s)[made.joined & whole[1:] & whole[:-1]]
    assert (wide[whole] > 0.99 * WIDE).any()
    assert (wide[whole] == 0).any()
    assert np.all(change <= WIDE * room / 10.0 + 1e-6)
