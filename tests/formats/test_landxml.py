"""LandXML: what is read is what stands in the file, or what was altered is told; what is written keeps the schema."""

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy.integrate import quad

from humble_loop.engine.query import Engine
from humble_loop.formats.bring_in import bring_in
from humble_loop.formats.errors import FormatError
from humble_loop.formats.landxml import read_landxml, write_landxml
from humble_loop.geometry.bends import BendInput, chain_from_bends
from humble_loop.geometry.chain import Chain, Element
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.ground.reads import ground_of
from humble_loop.kinds.street import Bend, Street, Vip
from humble_loop.kinds.street.levels import grade_line
from humble_loop.kinds.street.plan import chain_of
from humble_loop.site.libraries import new_site
from humble_loop.whole.delivery import delivery
from humble_loop.whole.finished import whole_surface
from tests import edits
from tests.conftest import examples, reference
from tests.formats.landxml_text import FEET, alignment_of, landxml, write


def alignment_site():
    """Streets with every kind of element and a profile."""
    site = new_site()
    for case in reference("centrelines"):
        bends = [Bend(**p) for p in case["points"]]
        site = edits.add_street(
            site,
            case["name"],
            bends,
            vips=(
                Vip(chainage=0, level=20),
                Vip(chainage=100, level=23, curve_length=30),
                Vip(chainage=case["length"], level=21),
            ),
        )
    return site


def test_alignments_and_profiles_come_back_to_a_micrometre(tmp_path):
    site = alignment_site()
    write_landxml(delivery(Engine(site)), tmp_path / "a.xml")
    back = bring_in(new_site(), [tmp_path / "a.xml"])[0]
    a, b = Engine(site), Engine(back)
    for old, new in zip(site.all(Street), back.all(Street), strict=True):
        p, r = chain_of(a, old.id).moved(*site.origin), chain_of(b, new.id).moved(*back.origin)
        s = np.linspace(0, p.total, 50)
        assert r.total == pytest.approx(p.total, abs=1e-6)
        assert np.abs(r.points_at(s) - p.points_at(s)).max() < 1e-6
        assert grade_line(b, new.id).profile.level(s) == pytest.approx(grade_line(a, old.id).profile.level(s), abs=1e-9)


def test_surfaces_come_back(tmp_path, brickworks):
    q = Engine(brickworks)
    write_landxml(delivery(q), tmp_path / "a.xml")
    got = read_landxml(tmp_path / "a.xml")
    names = {s.name: s.surface for s in got.surfaces}
    assert names["Ground"].points == pytest.approx(brickworks.all(Ground)[-1].surface.points)
    assert len(names["Finished surface"].triangles) == len(whole_surface(q).surface.triangles)
    assert {line.name for line in got.lines} >= {"Kiln Court H1", "Ember Loop R4"}


def test_a_curve_of_more_than_half_a_circle_becomes_several_bends(tmp_path):
    # 270 degrees to the left round (0, 10) from (0, 0): ends at (-10, 10) heading south.
    body = """<Alignments><Alignment name="Loop" staStart="0"><CoordGeom>
      <Line><Start>0 -30</Start><End>0 0</End></Line>
      <Curve rot="ccw"><Start>0 0</Start><Center>10 0</Center><End>10 -10</End></Curve>
      <Line><Start>10 -10</Start><End>-40 -10</End></Line></CoordGeom></Alignment></Alignments>"""
    site = bring_in(new_site(), [landxml(tmp_path, body)])[0]
    chain = chain_of(Engine(site), "loop")
    assert chain.total == pytest.approx(30 + 1.5 * np.pi * 10 + 50, abs=1e-6)
    assert chain.points_at([30 + 0.5 * np.pi * 10])[0] == pytest.approx([10, 10], abs=1e-6)


def test_survey_feet_and_a_starting_chainage_are_taken_into_account(tmp_path):
    body = """<Alignments><Alignment name="A" staStart="100"><CoordGeom><Line><Start>0 0</Start><End>0 300</End></Line></CoordGeom>
      <Profile><ProfAlign name="p"><PVI>100 10</PVI><ParaCurve length="60">250 16</ParaCurve><PVI>400 13</PVI></ProfAlign></Profile></Alignment></Alignments>"""
    site = bring_in(new_site(), [landxml(tmp_path, body, FEET)])[0]
    foot = 1200 / 3937
    assert chain_of(Engine(site), "a").total == pytest.approx(300 * foot)
    got = np.array([(v.chainage, v.level, v.curve_length) for v in site.all(Street)[0].vips])
    assert got == pytest.approx(np.array([(0, 10, 0), (150, 16, 60), (300, 13, 0)]) * foot)


def test_one_part_that_cannot_be_read_leaves_the_rest_of_the_file_standing(tmp_path):
    body = """<Alignments><Alignment name="Torn"><CoordGeom><Line><Start>0 0</Start></Line></CoordGeom></Alignment>
      <Alignment name="Whole"><CoordGeom><Line><Start>0 0</Start><End>0 80</End></Line></CoordGeom></Alignment></Alignments>
      <Surfaces><Surface name="flat"><Definition><Pnts><P id="1">0 0</P></Pnts><Faces><F>1 1 1</F></Faces></Definition></Surface></Surfaces>
      <CgPoints><CgPoint name="1">5 7 40.5</CgPoint></CgPoints>"""
    bundle = read_landxml(landxml(tmp_path, body))
    assert [s.name for s in bundle.streets] == ["Whole"]
    assert bundle.points.tolist() == [[7.0, 5.0, 40.5]]
    left = [n for n in bundle.notes if n.startswith("left out")]
    assert len(left) == 2
    assert any("'Torn'" in n and "no End" in n for n in left)
    assert any("'flat'" in n and "without levels" in n for n in left)


BAD_LANDXML = {
    '<Surfaces><Surface name="s"><Definition><Pnts><P id="1">0 0</P></Pnts><Faces><F>1 1 1</F></Faces></Definition></Surface></Surfaces>': "without levels",
    '<Surfaces><Surface name="s"><Definition><Pnts><P id="1">0 0 x</P></Pnts></Definition></Surface></Surfaces>': "not three numbers",
    '<Surfaces><Surface name="s"><Definition><Pnts><P id="1">0 0 nan</P></Pnts></Definition></Surface></Surfaces>': "not a number",
    '<Surfaces><Surface name="s"><Definition><Pnts><P id="1">0 0 1</P><P id="2">0 9 1</P><P id="3">9 0 1</P></Pnts><Faces><F>1 2 9</F></Faces></Definition></Surface></Surfaces>': "not there",
    '<Alignments><Alignment name="A"><CoordGeom/></Alignment></Alignments>': "no geometry",
    '<Alignments><Alignment name="A"><CoordGeom><Chain>1 2</Chain></CoordGeom></Alignment></Alignments>': "point '1' that is not there",
    '<Alignments><Alignment name="A"><CoordGeom><Line><Start>0 0</Start></Line></CoordGeom></Alignment></Alignments>': "no End",
    "": "no surface, alignment",
}


@pytest.mark.parametrize("body", list(BAD_LANDXML))
def test_bad_landxml_is_refused_in_one_sentence(tmp_path, body):
    with pytest.raises(FormatError, match=BAD_LANDXML[body]):
        bring_in(new_site(), [landxml(tmp_path, body)])


def test_another_kind_of_xml_and_an_unknown_unit(tmp_path):
    with pytest.raises(FormatError, match="not LandXML"):
        read_landxml(write(tmp_path / "a.xml", "<svg/>"))
    with pytest.raises(FormatError, match="furlong"):
        read_landxml(landxml(tmp_path, "", '<Imperial linearUnit="furlong"/>'))


# Exactly, or told


FAR = (312_408.0, 6_251_977.0)


def streets_of(file):
    """The file's first street as a chain, its bends that do not fit, and what was told."""
    bundle = read_landxml(file)
    bends = [BendInput(**b.model_dump()) for b in bundle.streets[0].bends]
    chain, misfits = chain_from_bends(bends)
    return chain, misfits, [p.message for p in bundle.problems]


def departure(chain, other):
    """Metres by which ``other`` leaves ``chain`` at most, and the difference of their lengths."""
    return np.abs(chain.feet(other.points_at(other.sampled(0.001, 1.0))).offsets).max(), chain.total - other.total


@st.composite
def element_rows(draw):
    """Elements that run on smoothly: straights, arcs to most of a circle, and every kind of clothoid between them."""
    curvatures = draw(
        st.lists(st.sampled_from([0.0, 1 / 12, -1 / 12, 1 / 35, -1 / 35, 1 / 90, -1 / 150]), min_size=1, max_size=4)
    )
    rows = [Element(draw(st.floats(20, 60)), 0.0, 0.0)]
    for k in curvatures:
        before = rows[-1].k1
        if k * before < 0:  # a file has one turning direction a spiral: to the other hand it goes through a straight
            rows.append(Element(draw(st.floats(8, 25)), before, 0.0))
            before = 0.0
        if draw(st.booleans()) and k != before:
            rows.append(Element(draw(st.floats(8, 25)), before, k))
        if k:
            rows.append(Element(draw(st.floats(0.2, 4.5)) / abs(k), k, k))
        elif rows[-1].kind != "straight":
            rows.append(Element(draw(st.floats(5, 60)), 0.0, 0.0))
    return rows


@examples(60)
@given(element_rows(), st.floats(0, 6.28))
def test_smooth_lines_of_any_elements_come_in_within_a_millimetre(tmp_path_factory, rows, heading):
    line = Chain.from_elements(FAR, heading, rows)
    got, misfits, told = streets_of(landxml(tmp_path_factory.mktemp("x"), alignment_of(line)))
    assert not misfits
    off, longer = departure(line, got)
    assert off < 1e-3
    assert abs(longer) < 2e-3
    joined = any(e.kind == "transition" and e.k0 * e.k1 > 0 for e in rows)
    assert all("joins two arcs" in words for words in told)
    assert bool(told) == joined


def test_a_spiral_between_two_arcs_is_told_and_lies_where_it_was(tmp_path):
    rows = [
        Element(40, 0, 0),
        Element(30, 0, 1 / 100),
        Element(40, 1 / 100, 1 / 100),
        Element(25, 1 / 100, 1 / 45),
        Element(30, 1 / 45, 1 / 45),
        Element(20, 1 / 45, 0),
        Element(50, 0, 0),
    ]
    line = Chain.from_elements(FAR, 0.3, rows)
    got, _, told = streets_of(landxml(tmp_path, alignment_of(line)))
    assert departure(line, got) == pytest.approx((0, 0), abs=2e-4)
    assert told == ["'A': a spiral that joins two arcs is taken as a row of arcs"]


LAWS = {
    "bloss": lambda t: 3 * t**2 - 2 * t**3,
    "cosine": lambda t: (1 - np.cos(np.pi * t)) / 2,
    "sinusoid": lambda t: t - np.sin(2 * np.pi * t) / (2 * np.pi),
    "biquadratic": lambda t: 2 * t**2 if t < 0.5 else 1 - 2 * (1 - t) ** 2,
}


@pytest.mark.parametrize("law", LAWS)
def test_spirals_of_other_laws_keep_their_shape(tmp_path, law):
    """Positions on the spiral by integrating its law's curvature twice, without this program's geometry."""
    length, radius = 40.0, 60.0

    def heading(s):
        return quad(lambda u: LAWS[law](u / length) / radius, 0, s, points=[min(s, length / 2)])[0]

    def at(s):
        return np.array([quad(lambda u, f=f: f(heading(u)), 0, s)[0] for f in (np.cos, np.sin)])

    end, turned = at(length), heading(length)
    centre = end + radius * np.array([-np.sin(turned), np.cos(turned)])
    arc = centre + radius * np.array([np.sin(turned + 0.8), -np.cos(turned + 0.8)])

    def ne(p):
        return f"{float(p[1])!r} {float(p[0])!r}"

    body = f"""<Alignments><Alignment name="A" staStart="0"><CoordGeom>
      <Line><Start>0 -50</Start><End>0 0</End></Line>
      <Spiral rot="ccw" spiType="{law}" length="40" radiusStart="INF" radiusEnd="60"><Start>0 0</Start><PI>0 20</PI><End>{ne(end)}</End></Spiral>
      <Curve rot="ccw"><Start>{ne(end)}</Start><Center>{ne(centre)}</Center><End>{ne(arc)}</End></Curve>
      </CoordGeom></Alignment></Alignments>"""
    got, _, told = streets_of(landxml(tmp_path, body))
    points = np.array([at(s) for s in (5, 10, 20, 30, 35, 40)])
    assert np.abs(got.feet(points).offsets).max() < 1e-3
    assert told == [f"'A': a {law} spiral is taken as a row of arcs"]


def test_a_spiral_of_an_unknown_law_says_how_far_the_clothoid_is_off(tmp_path):
    clothoid = Chain.from_elements(
        (0, 0), 0.0, [Element(30, 0, 0), Element(40, 0, 1 / 60), Element(30, 1 / 60, 1 / 60)]
    )
    body = alignment_of(clothoid, law="radioid")
    _, _, told = streets_of(landxml(tmp_path, body))
    assert told == ["'A': a radioid spiral is taken as a clothoid"]
    # Its end half a metre aside: the chord cannot turn that away.
    east, north = clothoid.points_at([70.0])[0].tolist()
    moved = body.replace(f"{north!r} {east!r}", f"{north + 0.5!r} {east!r}")
    assert moved != body
    _, _, told = streets_of(landxml(tmp_path, moved))
    assert any("off the file's line" in words or "meet at an angle" in words for words in told)


def test_a_gap_is_closed_and_told_with_its_length_and_place(tmp_path):
    body = """<Alignments><Alignment name="A" staStart="0"><CoordGeom>
      <Line><Start>0 0</Start><End>0 50</End></Line><Line><Start>0 55</Start><End>30 55</End></Line>
      </CoordGeom></Alignment></Alignments>"""
    bundle = read_landxml(landxml(tmp_path, body))
    assert [(b.easting, b.northing) for b in bundle.streets[0].bends] == [(0, 0), (50, 0), (55, 0), (55, 30)]
    (told,) = bundle.problems
    assert told.message == "'A': a gap of 5.000 m between a line and a line is closed by a straight"
    assert (told.easting, told.northing) == (50, 0)


def test_an_arc_off_tangent_stays_where_it_is_and_is_told(tmp_path):
    # A quarter circle to the left of radius 20 whose start points 10 degrees to the right of the line before it.
    h = np.radians(-10)
    arc = Chain.from_elements((50, 0), h, [Element(20 * np.pi / 2, 1 / 20, 1 / 20)])
    body = alignment_of(arc).replace("<CoordGeom>", "<CoordGeom><Line><Start>0 0</Start><End>0 50</End></Line>")
    got, _, told = streets_of(landxml(tmp_path, body))
    assert np.abs(got.feet(arc.points_at(np.linspace(0, arc.total, 30))).offsets).max() < 1e-9
    assert got.total == pytest.approx(50 + 10 * np.pi)
    assert told == ["'A': a line and a curve meet at an angle of 10.000 degrees, which is kept as a corner"]


@pytest.mark.parametrize(
    "curve",
    [
        '<Curve rot="ccw" radius="20"><Start>0 0</Start><End>20 20</End></Curve>',
        '<Curve rot="ccw"><Start>0 0</Start><End>20 20</End><PI>0 20</PI></Curve>',
        '<Curve rot="ccw" radius="20"><Start pntRef="a"/><Center pntRef="c"/><End pntRef="b"/></Curve>',
    ],
)
def test_curves_are_read_however_they_are_given(tmp_path, curve):
    points = '<CgPoints><CgPoint name="a">0 0</CgPoint><CgPoint name="b">20 20</CgPoint><CgPoint name="c">20 0</CgPoint></CgPoints>'
    body = f'{points}<Alignments><Alignment name="A"><CoordGeom>{curve}</CoordGeom></Alignment></Alignments>'
    got, _, told = streets_of(landxml(tmp_path, body))
    assert got.total == pytest.approx(10 * np.pi)
    assert got.points_at([5 * np.pi])[0] == pytest.approx([20 * np.sin(np.pi / 4), 20 - 20 * np.cos(np.pi / 4)])
    assert not told


def test_irregular_lines_and_chains_of_points_are_lines(tmp_path):
    body = """<CgPoints><CgPoint name="a">0 0</CgPoint><CgPoint name="b">0 10</CgPoint><CgPoint name="c">5 20</CgPoint></CgPoints>
      <Alignments><Alignment name="A"><CoordGeom><Chain>a b c</Chain>
      <IrregularLine><Start>5 20</Start><End>9 40</End><PntList2D>5 20 8 30 9 40</PntList2D></IrregularLine></CoordGeom></Alignment></Alignments>"""
    bends = read_landxml(landxml(tmp_path, body)).streets[0].bends
    assert [(b.easting, b.northing) for b in bends] == [(0, 0), (10, 0), (20, 5), (30, 8), (40, 9)]


def test_unsymmetric_and_circular_vertical_curves(tmp_path):
    body = """<Alignments><Alignment name="A" staStart="500"><CoordGeom><Line><Start>0 0</Start><End>0 400</End></Line></CoordGeom>
      <Profile><ProfAlign name="p"><PVI>500 10</PVI><UnsymParaCurve lengthIn="40" lengthOut="80">600 16</UnsymParaCurve>
      <CircCurve length="60" radius="1000">800 8</CircCurve><PVI>900 14</PVI></ProfAlign></Profile></Alignment></Alignments>"""
    site, brought = bring_in(new_site(), [landxml(tmp_path, body)])
    level = grade_line(Engine(site), "a").profile.level
    # Grades +6 %, -4 %, +6 %. At its VIP an unsymmetric curve lies L1 L2 A / (2 (L1 + L2)) inside its tangents.
    assert level([60, 100, 180]) == pytest.approx([13.6, 16 - 40 * 80 * 0.10 / (2 * 120), 16 - 0.04 * 80])
    # Middle of the circle: R (1 / cos(half the turn) - 1) over the VIP along the bisector of the two grades.
    half = 0.5 * (np.arctan(0.06) + np.arctan(0.04))
    assert level([300])[0] == pytest.approx(8 + 1000 * (1 / np.cos(half) - 1), abs=0.003)
    words = [p.message for p in brought.problems]
    assert any("starts" in w or "start at 500.000" in w for w in words)
    assert any("unsymmetric curve at 600.000" in w for w in words)
    assert any("circular curve at 800.000" in w and "mm off" in w for w in words)


def test_faces_of_four_points_and_data_without_triangles(tmp_path):
    body = """<Surfaces><Surface name="quad"><Definition surfType="TIN"><Pnts><P id="1">0 0 1</P><P id="2">0 10 1</P><P id="3">10 10 2</P><P id="4">10 0 2</P></Pnts>
      <Faces><F>1 2 3 4</F></Faces></Definition></Surface>
      <Surface name="raw"><SourceData><DataPoints><PntList3D>20 0 5 20 10 6</PntList3D></DataPoints>
      <Breaklines><Breakline><PntList3D>30 0 5 30 10 6</PntList3D></Breakline></Breaklines>
      <Contours><Contour elev="7"><PntList2D>40 0 40 10</PntList2D></Contour></Contours></SourceData></Surface></Surfaces>"""
    got = read_landxml(landxml(tmp_path, body))
    assert got.surfaces[0].surface.levels([[2, 8], [8, 2]]) == pytest.approx([1.8, 1.2])
    assert got.points == pytest.approx(np.array([[0, 20, 5], [10, 20, 6]]))
    assert [b.tolist() for b in got.breaklines] == [[[0, 30, 5], [10, 30, 6]], [[0, 40, 7], [10, 40, 7]]]


def test_parcels_keep_their_curves_and_plan_features_their_levels(tmp_path):
    body = """<Parcels><Parcel name="P"><CoordGeom><Line><Start>0 0</Start><End>0 20</End></Line>
      <Curve rot="ccw"><Start>0 20</Start><Center>10 20</Center><End>20 20</End></Curve><Line><Start>20 20</Start><End>0 0</End></Line></CoordGeom></Parcel></Parcels>
      <PlanFeatures><PlanFeature name="kerb"><CoordGeom><Line><Start>0 0 5</Start><End>0 9 6</End></Line></CoordGeom></PlanFeature></PlanFeatures>
      <PipeNetworks/>"""
    got = read_landxml(landxml(tmp_path, body))
    parcel, kerb = got.lines
    rim = np.array([v[:2] for v in parcel.vertices])
    on_curve = rim[rim[:, 0] > 20 + 1e-9]
    assert len(on_curve) > 5
    assert np.hypot(*(on_curve - [20, 10]).T) == pytest.approx(np.full(len(on_curve), 10.0))
    assert kerb.vertices == ((0, 0, 5), (9, 0, 6))
    assert got.notes == ["left out, as not read: PipeNetworks"]


def test_a_round_trip_keeps_the_ground_and_says_that_the_design_is_one(tmp_path, court):
    q = Engine(court)
    write_landxml(delivery(q), tmp_path / "a.xml")
    back, brought = bring_in(new_site(), [tmp_path / "a.xml"])
    assert [(g.name, g.proposed) for g in back.all(Ground)] == [("Ground", False), ("Finished surface", True)]
    assert back.current_ground == "ground"
    assert "'Finished surface' (" in brought.words
    assert "a design and so not the current ground" in brought.words
    old, new = ground_of(q).shifted(*court.origin), ground_of(Engine(back)).shifted(*back.origin)
    assert new.points == pytest.approx(old.points, abs=1e-6)
