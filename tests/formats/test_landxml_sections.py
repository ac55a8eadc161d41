"""Cross sections in LandXML: out and back, and as others write them. Expected values are worked out by hand."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from lxml import etree

from humble_loop.engine.query import Engine
from humble_loop.formats.bring_in import bring_in
from humble_loop.formats.landxml import write_landxml
from humble_loop.kinds.ground.model import Ground
from humble_loop.kinds.street import Street
from humble_loop.kinds.street import section_edits as change
from humble_loop.kinds.street.cross_section import section_points
from humble_loop.kinds.street.measured import MeasuredPoint, MeasuredSection, sections_found
from humble_loop.kinds.street.model import SectionChange
from humble_loop.site.libraries import new_site
from humble_loop.site.library import KerbPart, KerbPoint, KerbShape, Overlay, Strip, TypicalSection
from humble_loop.whole.delivery import delivery
from tests import edits
from tests.conftest import court_site, examples, plane_ground
from tests.formats.landxml_text import FEET, METRIC, landxml
from tests.kinds.test_elements import E0, N0
from tests.kinds.test_sections import LOCAL, straight

STREET = (
    '<Alignments><Alignment name="A" length="{length}" staStart="{begin}">'
    "<CoordGeom><Line><Start>6000 4000</Start><End>6000 {end}</End></Line></CoordGeom>"
    '<Profile><ProfAlign name="A"><PVI>{begin} 50</PVI><PVI>{finish} 50</PVI></ProfAlign></Profile>'
    "<CrossSects>{sections}</CrossSects></Alignment></Alignments>"
)
PLAIN = (
    (-7, 50.9),
    (-6, 50.1),
    (-3.51, 50.05),
    (-3.5, 49.9),
    (0, 50),
    (3.5, 49.9),
    (3.51, 50.05),
    (6, 50.1),
    (7, 50.9),
)


def cross(sta, points, name="top", **attributes):
    """A cross section as others write it: offsets to the right positive, without a word of what is what."""
    rows = "".join(f"<CrossSectPnt>{x} {z}</CrossSectPnt>" for x, z in points)
    more = "".join(f' {k}="{v}"' for k, v in attributes.items())
    return f'<CrossSect sta="{sta}"><DesignCrossSectSurf name="{name}"{more}>{rows}</DesignCrossSectSurf></CrossSect>'


def read(tmp_path, sections, units=METRIC, length=100.0, begin=0.0):
    """The site that a street of some length with cross sections makes, its street, and what was told."""
    body = STREET.format(length=length, begin=begin, end=4000 + length, finish=begin + length, sections=sections)
    site, brought = bring_in(new_site(), [landxml(tmp_path, body, units)])
    return site, site.all(Street)[0], [p.message for p in brought.problems]


def side(site, street, which="left", k=None):
    id = street.section if k is None else street.changes[k].section
    return site.find(TypicalSection, id).side(which)


def back_again(site, tmp_path):
    """The site that its LandXML makes."""
    write_landxml(delivery(Engine(site)), tmp_path / "a.xml")
    return bring_in(new_site(), [tmp_path / "a.xml"])


def assert_same_sections(site, back, street, total):
    """The same points at the same places, all along a street."""
    s = np.arange(0.0, total, 3.7)
    a, b = (section_points(Engine(v), street, s, batters=False) for v in (site, back))
    a = [p for p in a if p.there.any()]
    assert [(p.name, p.side, p.piece) for p in a] == [(p.name, p.side, p.piece) for p in b]
    for old, new in zip(a, b, strict=True):
        assert new.offsets == pytest.approx(old.offsets, abs=1e-6, nan_ok=True)
        assert new.levels == pytest.approx(old.levels, abs=1e-6, nan_ok=True)


# Out and back


def test_what_the_library_has_comes_back_as_that(tmp_path):
    back, brought = back_again(straight(), tmp_path)
    assert back.all(TypicalSection) == new_site().all(TypicalSection)
    assert back.all(KerbShape) == new_site().all(KerbShape)
    assert (back.all(Street)[0].section, back.all(Street)[0].changes) == (LOCAL, ())
    assert "street 'Line' with 1 typical section from its cross sections" in brought.words


def test_an_overlay_or_a_drain_is_not_taken_for_granted(tmp_path):
    write_landxml(delivery(Engine(straight())), tmp_path / "a.xml")
    site = new_site()
    for section in site.all(TypicalSection):
        site = site.put(section.model_copy(update={"overlay": Overlay()}))
    back, _ = bring_in(site, [tmp_path / "a.xml"])
    assert back.find(TypicalSection, back.all(Street)[0].section).overlay is None


def test_a_kerb_and_widths_of_ones_own_and_tapers_come_back_to_a_micrometre(tmp_path):
    points = (KerbPoint(point="channel", out=210, up=-18), KerbPoint(point="top", out=260.5, up=110.25))
    site = straight().put(KerbShape(name="Own", points=points))
    site = change.own_section(site, "line", LOCAL)
    own = site.all(Street)[0].section
    site = change.set_apart(site, own, True)
    site = change.set_kerb(site, own, "left", 1, "own")
    site = change.set_strip(site, own, "left", 0, width=4.217)
    site = change.set_strip(site, own, "right", 3, grade=0.031)
    site = change.add_change(site, "line", 61.0)
    last = site.all(Street)[0].changes[0].section
    site = change.add_piece(site, last, "right", 0, "parking")
    back, brought = back_again(change.set_change(site, "line", 0, taper=17.0), tmp_path)
    assert not brought.problems
    assert_same_sections(change.set_change(site, "line", 0, taper=17.0), back, "line", 200.0)
    street = back.all(Street)[0]
    assert [(c.chainage, c.taper) for c in street.changes] == [(pytest.approx(61.0), pytest.approx(17.0))]
    shape = back.find(KerbShape, side(back, street).parts[1].kerb)
    assert [(p.point, p.out, p.up) for p in shape.points] == [("channel", 210, -18), ("top", 260.5, 110.25)]


def test_batters_tell_their_slopes_and_where_the_ground_is(tmp_path):
    site = edits.add_ground(straight(), Ground(name="g", surface=plane_ground(0.0, 0.0, 63.5).shifted(E0, N0)))
    site = change.set_batter(site, LOCAL, "left", cut_slope=1 / 1.5)
    back, _ = back_again(site, tmp_path)
    made = side(back, back.all(Street)[0])
    assert (made.cut_slope, made.fill_slope) == (pytest.approx(1 / 1.5), 0.5)  # no fill is shown, so the usual one
    root = etree.parse(tmp_path / "a.xml").getroot()
    ground = np.array(root.find(".//{*}CrossSect/{*}CrossSectSurf/{*}PntList2D").text.split(), float).reshape(-1, 2)
    assert np.all(np.diff(ground[:, 0]) > 0)
    assert ground[:, 1] == pytest.approx(63.5)
    ends = [float(p.text.split()[0]) for p in root.find(".//{*}DesignCrossSectSurf")]
    assert ground[[0, -1], 0] == pytest.approx([min(ends) - 3.0, max(ends) + 3.0])
    # At 0.00 the crown is at 60, the boundary 0.159 above it and 8.05 m out; from there the batter rises 3.341 m at 1 on 1.5.
    toe = next(p for p in root.find(".//{*}DesignCrossSectSurf") if p.get("code") == "left toe")
    assert [float(v) for v in toe.text.split()] == pytest.approx([-(8.05 + 1.5 * (3.5 - boundary_rise())), 63.5])


def boundary_rise():
    """Of the local street's boundary over its crown: 3.4 m at -3 %, the barrier kerb, and 4.2 m at 2 %."""
    kerb = new_site().find(KerbShape, "barrier").points[-1].up / 1000.0
    return -0.102 + kerb + 0.084


def test_sides_that_a_junction_or_a_head_takes_do_not_make_a_section(tmp_path):
    site = court_site()
    back, _ = back_again(site, tmp_path)
    assert {s.name: s.section for s in back.all(Street)} == {"Through": "local-street", "Court": "access-place"}
    root = etree.parse(tmp_path / "a.xml").getroot()
    told = [n.get("desc") for n in root.iter("{*}CrossSect") if n.get("desc")]
    assert any(t.endswith(": left") for t in told)
    assert not any(s.changes for s in back.all(Street) if s.name == "Through")


def test_of_an_existing_street_none_are_written(tmp_path):
    write_landxml(delivery(Engine(edits.set_street(straight(), "line", kind="existing"))), tmp_path / "a.xml")
    assert etree.parse(tmp_path / "a.xml").getroot().find(".//{*}CrossSects") is None


# As others write them


def test_points_without_a_word_are_taken_by_their_shape(tmp_path):
    site, street, told = read(tmp_path, cross(0, PLAIN) + cross(50, PLAIN) + cross(100, PLAIN))
    assert told == []
    made = site.find(TypicalSection, street.section)
    for half in (made.left, made.right):
        lane, kerb, verge = half.parts
        assert isinstance(kerb, KerbPart)
        assert [(p.out, p.up) for p in site.find(KerbShape, kerb.kerb).points] == [
            (pytest.approx(10.0), pytest.approx(150.0))
        ]
        assert (lane.to, lane.piece, lane.width, lane.grade) == (
            "lip",
            "lane",
            3.5,
            pytest.approx(-0.1 / 3.5, abs=1e-8),
        )
        assert (verge.to, verge.width) == ("boundary", pytest.approx(2.49))
        assert verge.grade == pytest.approx(0.05 / 2.49, abs=1e-8)
        assert half.cut_slope == pytest.approx(0.8)  # 0.8 m over 1 m
    assert made.linked
    assert made.name == "A section"


def test_feet_and_another_first_chainage_are_respected(tmp_path):
    foot = 1200.0 / 3937.0
    wide = [(x * 1.2, z) for x, z in PLAIN]
    rows = cross(500, PLAIN) + cross(540, PLAIN) + cross(560, wide) + cross(600, wide)
    site, street, _ = read(tmp_path, rows, FEET, begin=500.0)
    assert side(site, street).parts[0].width == pytest.approx(3.5 * foot)
    assert [(c.chainage, c.taper) for c in street.changes] == [(pytest.approx(40 * foot), pytest.approx(20 * foot))]
    assert side(site, street, k=0).parts[0].width == pytest.approx(4.2 * foot)


def test_a_vertical_face_leans_by_a_millimetre_and_sides_may_be_told_apart(tmp_path):
    left, right = ((-6, 50.1), (-3.5, 50.05), (-3.5, 49.9), (0, 50)), ((0, 50), (3.5, 49.9), (3.5, 50.05), (6, 50.1))
    first = cross(0, left, side="left")
    both = first.replace("</CrossSect>", cross(0, right, side="right").split(">", 1)[1])
    site, street, told = read(tmp_path, both)
    assert told == []
    made = site.find(TypicalSection, street.section)
    assert made.linked
    kerb = site.find(KerbShape, made.left.parts[1].kerb)
    assert [(p.out, p.up) for p in kerb.points] == [(pytest.approx(1.0), pytest.approx(150.0))]


def test_a_channel_before_the_face_and_the_top_behind_it_belong_to_the_kerb(tmp_path):
    half = ((3.0, 49.91), (3.3, 49.88), (3.33, 50.03), (3.45, 50.035), (6.0, 50.09))
    points = (*((-x, z) for x, z in half[::-1]), (0, 50), *half)
    site, street, _ = read(tmp_path, cross(0, points))
    lane, kerb, verge = side(site, street).parts
    assert (lane.width, verge.width) == (pytest.approx(3.0), pytest.approx(2.55))
    shape = site.find(KerbShape, kerb.kerb)
    assert [p.point for p in shape.points] == ["invert", "top of kerb", "back of kerb"]
    assert [(p.out, p.up) for p in shape.points] == [
        (pytest.approx(300.0), pytest.approx(-30.0)),
        (pytest.approx(330.0), pytest.approx(120.0)),
        (pytest.approx(450.0), pytest.approx(125.0)),
    ]


def test_points_of_one_name_are_told_apart(tmp_path):
    rows = cross(0, ((-9, 50.3), (-8, 50.2), (-6, 50.1), (0, 50), (6, 50.1))).replace(
        "<CrossSectPnt>", '<CrossSectPnt code="edge">'
    )
    site, street, _ = read(tmp_path, rows)
    assert [p.to for p in side(site, street).parts] == ["edge", "edge 2", "lip"]


def test_sections_of_a_street_with_a_name_without_end_are_told_apart(tmp_path):
    wide = [(x * 1.2, z) for x, z in PLAIN]
    body = STREET.replace('name="A"', f'name="{"A" * 200}"').format(
        length=100, begin=0, end=4100, finish=100, sections=cross(0, PLAIN) + cross(50, PLAIN) + cross(60, wide)
    )
    site, _ = bring_in(new_site(), [landxml(tmp_path, body)])
    street = site.all(Street)[0]
    assert side(site, street).parts[0].width == pytest.approx(3.5)
    assert side(site, street, k=0).parts[0].width == pytest.approx(4.2)
    assert street.section != street.changes[0].section


def test_a_road_without_kerbs_ends_at_its_lip(tmp_path):
    site, street, _ = read(tmp_path, cross(0, ((-4, 49.9), (0, 50), (4.5, 49.87))))
    made = site.find(TypicalSection, street.section)
    assert [(p.to, p.width) for p in made.left.parts] == [("lip", 4.0)]
    assert [(p.to, p.width) for p in made.right.parts] == [("lip", 4.5)]
    assert made.apart


def test_of_several_surfaces_the_uppermost_is_taken_and_the_rest_told(tmp_path):
    under = [(x, z - 0.3) for x, z in PLAIN]
    rows = (cross(0, under, "underside").replace("</CrossSect>", "") + cross(0, PLAIN).split(">", 1)[1]) * 1
    site, street, told = read(tmp_path, rows)
    assert told == ["'A': of its cross sections the surface 'top' is taken, and left out: underside"]
    assert side(site, street).parts[0].grade == pytest.approx(-0.1 / 3.5, abs=1e-8)


def turned(share):
    """A section whose crossfall on the left turns from -3 % to +3 %."""
    fall = -0.03 + 0.06 * share
    return (-4.0, 50 + 4 * fall), (0.0, 50.0), (4.0, 49.88)


def test_a_crossfall_that_turns_is_one_change_however_often_it_is_cut(tmp_path):
    at = np.arange(0.0, 101.0, 2.5)
    rows = "".join(cross(s, turned(np.clip((s - 30) / 40, 0, 1))) for s in at)
    site, street, told = read(tmp_path, rows)
    assert told == []
    assert [(c.chainage, c.taper) for c in street.changes] == [(pytest.approx(30.0), pytest.approx(40.0))]
    assert side(site, street, k=0).parts[0].grade == pytest.approx(0.03)


@examples(25)
@given(st.integers(0, 2**32 - 1))
def test_rounding_makes_no_change_and_a_bump_does(seed):
    rng = np.random.default_rng(seed)
    rows = [
        MeasuredSection(float(s), tuple(MeasuredPoint(-x, z + rng.uniform(-5e-4, 5e-4)) for x, z in PLAIN))
        for s in range(0, 101, 5)
    ]
    found = sections_found(rows, 100.0, "A")
    assert (len(found.sections), found.changes) == (1, ())
    assert found.off <= 0.002 + 1e-9  # a millimetre on each, of two
    at = int(rng.integers(1, 20))
    bumped = tuple(MeasuredPoint(p.offset, p.level + 0.02 * (p.offset > 5)) for p in rows[at].points)
    rows[at] = MeasuredSection(rows[at].chainage, bumped)
    found = sections_found(rows, 100.0, "A")
    assert [c.chainage for c in found.changes] == [rows[at - 1].chainage, rows[at].chainage]


def test_levels_beside_the_profile_are_told_with_their_place(tmp_path):
    high = [(x, z + 0.012) for x, z in PLAIN]
    _, _, told = read(tmp_path, cross(0, PLAIN) + cross(40, high))
    assert told == ["'A' at 40.00: its cross sections lie up to 12 mm off its profile, which is kept"]


def test_sections_that_differ_everywhere_are_taken_less_closely_and_that_is_told(tmp_path):
    rng = np.random.default_rng(4)
    rows = "".join(cross(s, [(x, z + rng.uniform(-0.02, 0.02) * (abs(x) > 3)) for x, z in PLAIN]) for s in range(100))
    site, _, told = read(tmp_path, rows)
    assert len(site.all(TypicalSection)) - len(new_site().all(TypicalSection)) <= 40
    assert len(told) == 1
    assert "mm off the file's cross sections" in told[0]


@pytest.mark.parametrize(
    ("rows", "words"),
    [
        (cross(0, ((1, 50), (4, 49.9))), "no section could be made"),
        (cross(0, ((0, 50),)), "no section could be made"),
        (cross(300, PLAIN), "no section could be made"),
        (cross(0, ((-1, 0), (0, 11), (1, 0))), "no section could be made"),
        (cross(0, PLAIN) + cross(0, PLAIN) + cross(250, PLAIN), "1 of its cross sections are left out"),
        (
            cross(0, PLAIN).replace("<CrossSectPnt>", '<CrossSectPnt dataFormat="Slope Distance">'),
            "slopes and distances",
        ),
        (
            '<CrossSect sta="0"><CrossSectSurf name="g"><PntList2D>0 1 2 3</PntList2D></CrossSectSurf></CrossSect>',
            "ground",
        ),
        (cross(0, PLAIN) * 2001, "2,000 can be read"),
    ],
)
def test_what_cannot_be_used_is_told_and_the_street_stands(tmp_path, rows, words):
    site, street, told = read(tmp_path, rows)
    assert any(words in t for t in told)
    assert street.section in {s.id for s in site.all(TypicalSection)}


@examples(60)
@given(
    st.lists(
        st.lists(st.tuples(st.floats(-1e6, 1e6), st.floats(-1e5, 1e5)), min_size=1, max_size=8), min_size=1, max_size=12
    )
)
def test_whatever_the_points_are_a_section_is_made_or_none(rows):
    measured = [MeasuredSection(10.0 * k, tuple(MeasuredPoint(*p) for p in points)) for k, points in enumerate(rows)]
    found = sections_found(measured, 100.0, "A")
    if found is not None:
        assert {c.section for c in found.changes} | {found.section} <= {s.id for s in found.sections}
        assert all(isinstance(c, SectionChange) and c.chainage <= 100.0 for c in found.changes)
        assert all(isinstance(p, Strip | KerbPart) for s in found.sections for p in s.left.parts)
