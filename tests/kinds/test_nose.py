"""Noses: both streets wider beside a sharp corner, as far as its return reaches, and back to their width over a taper."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from humble_loop.engine.query import Engine
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.geometry.arrays import left_normals
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction.corners import change_corner, corner_turn, kerb_return
from humble_loop.kinds.junction.medians import RULES as MEDIANS
from humble_loop.kinds.junction.model import (
    Corner,
    JunctionChoice,
    NoseWidening,
    other_way,
    set_corner,
    set_crossing_corner,
)
from humble_loop.kinds.junction.nodes import arms_of
from humble_loop.kinds.junction.nose import RULES, nose_legs
from humble_loop.kinds.street.model import Bend, Vip
from humble_loop.kinds.street.side import lip_width
from humble_loop.lines.describe import Choice, Fact
from humble_loop.lines.line import ThingId
from humble_loop.lines.standing import kind_of
from humble_loop.site.libraries import new_site
from humble_loop.site.library import SectionSide, Strip, TypicalSection
from humble_loop.site.model import SIDES
from humble_loop.whole.findings import findings
from tests import edits
from tests.conftest import examples, lane_section, plane_ground
from tests.whole.test_surface import assert_watertight

MEDIAN = MEDIANS[0]
NODE = ThingId("junction", "side:start")


def y_site(degrees=45.0, radius=10.0, long=120.0, **nose):
    """A through street 3.5 m to its lip, and one of 3 m that leaves it at an angle; the sharp corner is on the right."""
    site = edits.set_section(new_site("Y"), lane_section("side", 3.0))
    site = edits.set_section(site, lane_section("through", 3.5))
    levels = tuple(Vip(chainage=s, level=20 + 0.02 * s) for s in (0.0, 400.0))
    site = edits.add_street(
        site, "Through", [Bend(easting=0, northing=0), Bend(easting=400, northing=0)], section="through", vips=levels
    )
    end = Bend(easting=200 + long * np.cos(np.radians(degrees)), northing=0 + long * float(np.sin(np.radians(degrees))))
    site = edits.add_street(
        site,
        "Side",
        [Bend(easting=200, northing=0), end],
        section="side",
        vips=(Vip(chainage=long, grade=0.03),),
    )
    site = set_corner(site, "side", "start", "right", radius=radius)
    return set_corner(site, "side", "start", "right", nose=NoseWidening(**nose)) if nose else site


def test_the_nose_stands_back_by_hand():
    """At 45 degrees with lips 4.5 and 4 m out they meet (4 + 4.5 cos 45) / sin 45 = 10.157 and 10.364 m from the node; R 10 starts 24.142 m on."""
    q = Engine(y_site(through=1.0, side=1.0))
    made = kerb_return(q, "side", "start", "right")
    assert made.through_at == pytest.approx(200.0 + 10.1569 + 24.1421, abs=1e-3)
    assert made.leg_at == pytest.approx(10.3640 + 24.1421, abs=1e-3)
    assert made.slants == (0.0, 0.0)
    through, side = nose_legs(q, "side", "start", "right")
    assert (through.full, side.full) == (35.0, 35.0)
    assert (through.back, side.back) == (50.0, 50.0)
    left = lip_width(q, "through", "left")
    assert left([190.0, 230.0, 235.0, 242.5, 250.0, 260.0]) == pytest.approx([3.5, 4.5, 4.5, 4.0, 3.5, 3.5])
    right = lip_width(q, "side", "right")
    assert right([20.0, 35.0, 42.5, 50.0]) == pytest.approx([4.0, 4.0, 3.5, 3.0])
    # What is not beside the nose stays.
    assert lip_width(q, "through", "right")([230.0]) == pytest.approx([3.5])
    assert lip_width(q, "side", "left")([20.0]) == pytest.approx([3.0])
    grounded = edits.add_ground(
        y_site(through=1.0, side=1.0), Ground(name="g", surface=plane_ground(0.0, 0.0, 24.0, size=1000.0))
    )
    assert_watertight(Engine(grounded))


@examples(25)
@given(
    st.floats(28.0, 65.0),
    st.floats(4.0, 15.0),
    st.floats(0.0, 3.0),
    st.floats(0.0, 3.0),
)
def test_its_return_meets_lips_that_are_whole_and_moves_from_both_streets(degrees, radius, through, side):
    plain = kerb_return(Engine(y_site(degrees, radius, 160.0)), "side", "start", "right")
    q = Engine(y_site(degrees, radius, 160.0, through=through, side=side))
    made = kerb_return(q, "side", "start", "right")
    assert made.slants == (0.0, 0.0)
    # Both lips move out: the centre goes with them, square to each street by what its lip does.
    moved = made.curve.centre - plain.curve.centre
    along = np.radians(degrees)
    assert moved @ left_normals(0.0) == pytest.approx(through, abs=1e-6)
    assert moved @ -left_normals(along) == pytest.approx(side, abs=1e-6)


def test_it_is_offered_where_a_corner_is_sharp_and_its_sizes_are_typed():
    assert corner_turn(Engine(y_site()), "side", "start", "right") == pytest.approx(135.0)
    rows = kind_of("junction").facts(Engine(y_site()), NODE)
    (offer,) = [r for r in rows if isinstance(r, Choice) and r.label == "nose"]
    site = offer.edit("yes")(y_site())
    assert site.all(JunctionChoice)[0].right.nose == NoseWidening()
    q = Engine(site)
    facts = {r.label: r for r in kind_of("junction").facts(q, NODE) if isinstance(r, Fact)}
    assert (facts["back from Through"].value, facts["back from Side"].value) == (1.0, 1.0)
    assert (facts["wider from the node for"].value, facts["wider from the node for"].state) == (35.0, "proposed")
    site = facts["wider from the node for"].edit(48.0)(site)
    facts = {r.label: r for r in kind_of("junction").facts(Engine(site), NODE) if isinstance(r, Fact)}
    site = facts["back from Side"].edit(0.5)(site)
    assert site.all(JunctionChoice)[0].right.nose == NoseWidening(side=0.5, length=48.0)
    (no,) = [r for r in kind_of("junction").facts(Engine(site), NODE) if isinstance(r, Choice) and r.label == "nose"]
    assert no.edit("no")(site).all(JunctionChoice)[0].right.nose is None


def test_one_without_room_says_so():
    q = Engine(y_site(long=60.0, through=1.0, side=1.0, length=50.0))
    (found,) = [f for f in findings(q) if f.rule == RULES[0]]
    assert "Side is wider for 65.0 m, and it ends after 60.0 m" in found.message
    assert "by 5.0 m" in found.remedy
    assert not [f for f in findings(Engine(y_site(through=1.0, side=1.0))) if f.rule == RULES[0]]


def test_a_nose_of_a_crossing_stays_with_its_streets_when_the_other_crown_holds(tmp_path):
    nose = NoseWidening(through=1.5, side=0.5)
    assert other_way(Corner(nose=nose)).nose == NoseWidening(through=0.5, side=1.5)
    site = edits.add_street(
        edits.remove_street(y_site(), "side"),
        "Across",
        [Bend(easting=120, northing=-80), Bend(easting=280, northing=80)],
        section="side",
        vips=(Vip(chainage=100.0, level=24.5),),
    )
    q = Engine(site)
    arm = next(a for a in arms_of(q, "across") if a.onwards)
    sharp = next(c for c in SIDES if corner_turn(q, "across", arm, c) > 100.0)
    site = change_corner(q, "across", arm, sharp, nose=nose)(site)
    wide = {
        (s, side): lip_width(Engine(site), s, side)([200.0 + 20.0 if s == "through" else 133.0])[0]
        for s in ("through", "across")
        for side in SIDES
    }
    assert sorted(wide.values()) == pytest.approx([3.0, 3.5, 3.5, 5.0])
    save_site(site, tmp_path / "a.hloop")
    assert load_site(tmp_path / "a.hloop") == site
    assert set_crossing_corner(site, "across", "through", 0, ("left", "left"), nose=None) is not None


def test_a_median_that_runs_through_a_junction_is_told():
    site = y_site()
    assert not [f for f in findings(Engine(site)) if f.rule == MEDIAN]
    rest = lane_section("through", 3.5).left.parts
    side = SectionSide(parts=(Strip(to="median", width=0.75, grade=0.0, piece="median"), *rest))
    site = edits.set_section(site, TypicalSection(name="through", left=side, right=side))
    (found,) = [f for f in findings(Engine(site)) if f.rule == MEDIAN]
    assert "the median of Through, 1.50 m wide, runs on through it" in found.message
    assert (found.value, found.severity) == (1.5, "near")
    assert found.place == pytest.approx((200.0, 0.0))
