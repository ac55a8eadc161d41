"""Bringing files in: each format read, each kind of bad file refused in one sentence."""

import json
import random

import ezdxf
import laspy
import numpy as np
import pytest
import rasterio
from rasterio.transform import from_origin

from humble_loop.engine.query import Engine
from humble_loop.formats.bring_in import Options, bring_in, read_file
from humble_loop.formats.dxf.reading import read_dxf
from humble_loop.formats.dxf.writing import write_dxf
from humble_loop.formats.errors import FormatError
from humble_loop.formats.export import export
from humble_loop.formats.points_text import read_points_text
from humble_loop.geometry.bends import BendInput, chain_from_bends
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.street import Street
from humble_loop.kinds.street.plan import chain_of
from humble_loop.site.libraries import new_site
from humble_loop.whole.delivery import delivery
from humble_loop.whole.finished import whole_surface
from tests.conftest import reference
from tests.formats.landxml_text import landxml

ROWS = [
    (1, 100.0, 200.0, 5.0, "NS"),
    (2, 110.0, 200.0, 5.5, "LIP1"),
    (3, 110.0, 210.0, 6.0, "LIP1"),
    (4, 100.0, 210.0, 5.2, "NS"),
    (5, 120.0, 205.0, 5.9, "TREE"),
]


def write(path, text):
    path.write_text(text)
    return path


@pytest.mark.parametrize("separator", [",", ";", "\t"])
@pytest.mark.parametrize("header", ["number,easting,northing,level,code", "Point,E,N,RL,Description", None])
def test_points_with_and_without_header(tmp_path, separator, header):
    lines = ([header.replace(",", separator)] if header else []) + [separator.join(map(str, r)) for r in ROWS]
    got = read_points_text(write(tmp_path / "p.csv", "\n".join(lines)))
    assert got.points == pytest.approx(np.array([r[1:4] for r in ROWS]))
    assert len(got.breaklines) == 1
    assert got.lines[0].name == "LIP1"
    assert got.lines[0].code == "LIP"


def test_columns_in_another_order_and_another_unit(tmp_path):
    text = "\n".join(f"{r[3]},{r[2]},{r[1]}" for r in ROWS)
    got = read_points_text(write(tmp_path / "p.txt", text), columns=("level", "northing", "easting"), units="ft")
    assert got.points == pytest.approx(np.array([r[1:4] for r in ROWS]) * 0.3048)


def test_only_chosen_code_words_make_breaklines(tmp_path):
    text = "\n".join(",".join(map(str, r)) for r in ROWS)
    assert read_points_text(write(tmp_path / "p.csv", text), breakline_codes=("BANK",)).breaklines == []
    assert len(read_points_text(tmp_path / "p.csv", breakline_codes=("lip",)).breaklines) == 1


def test_a_file_of_bends_is_a_street(tmp_path):
    case = reference("centrelines")[2]
    keys = ("easting", "northing", "radius", "transition_in", "transition_out")
    text = ",".join(keys) + "\n" + "\n".join(",".join(str(p[k]) for k in keys) for p in case["points"])
    site = bring_in(new_site(), [write(tmp_path / "ridge.csv", text)])[0]
    assert site.all(Street)[0].name == "ridge"
    assert chain_of(Engine(site), "ridge").total == pytest.approx(case["length"], abs=1e-6)


BAD_CSV = {
    "": "empty",
    "   \n \n": "empty",
    "1,2\n3,4\n": "line 1",
    "number,easting,level\n1,2,3\n": "no northing",
    "1,10,20,5,A\n2,x,20,5,A\n": "line 2",
    "1,10,20,nan,A\n": "line 1",
    "1,1e12,20,5,A\n": "too far away",
    "1,10,20,1e7,A\n": "too far away",
    "number,easting,northing,level\n": "no points",
    "\n".join(f"{i},{151.2 + i / 1e4},{-33.8 + i / 2e4},{i}" for i in range(9)): "degrees",
}


@pytest.mark.parametrize("text", list(BAD_CSV))
def test_bad_points_are_refused_in_one_sentence(tmp_path, text):
    file = write(tmp_path / "p.csv", text)
    with pytest.raises(FormatError, match=BAD_CSV[text]) as caught:
        read_points_text(file)
    assert "\n" not in str(caught.value)


def test_points_all_on_a_line_are_refused_naming_the_file(tmp_path):
    file = write(tmp_path / "p.csv", "1,0,0,1,A\n2,1,1,1,A\n3,2,2,1,A\n")
    with pytest.raises(FormatError, match="on one line"):
        bring_in(new_site(), [file])


NAMES = ["p.csv", "p.xml", "p.dxf", "p.geojson", "p.las", "p.tif", "p.asc"]


@pytest.mark.parametrize("name", NAMES)
@pytest.mark.parametrize("content", ["empty", "binary", "text", "missing"])
def test_nonsense_in_any_format_is_refused_in_one_sentence(tmp_path, name, content):
    file = tmp_path / name
    data = {
        "empty": b"",
        "binary": bytes(random.Random(3).randrange(256) for _ in range(5000)),
        "text": b"hello there\nthis is not it\n",
    }
    if content != "missing":
        file.write_bytes(data[content])
    site = new_site()
    with pytest.raises(FormatError) as caught:
        bring_in(site, [file])
    assert str(file) in str(caught.value)
    assert "\n" not in str(caught.value)
    assert site == new_site()


def test_an_unknown_ending_lists_the_known_ones(tmp_path):
    with pytest.raises(FormatError, match=r"\.csv"):
        read_file(write(tmp_path / "p.xyzzy", "1"))


# DXF


def test_points_lines_polylines_and_faces_of_a_drawing(tmp_path):
    d = ezdxf.new("R2010")
    d.units = 4  # millimetres
    m = d.modelspace()
    m.add_point((1000, 2000, 3000))
    m.add_line((0, 0, 1000), (5000, 0, 2000), dxfattribs={"layer": "BANK"})
    m.add_lwpolyline([(0, 0, 0, 0, 1.0), (2000, 0)], dxfattribs={"layer": "FENCE"})  # a half circle
    m.add_3dface([(0, 0, 0), (10000, 0, 0), (10000, 10000, 1000), (0, 10000, 1000)])
    d.saveas(tmp_path / "a.dxf")
    got = read_dxf(tmp_path / "a.dxf")
    assert got.points == pytest.approx(np.array([[1, 2, 3]]))
    assert got.breaklines[0] == pytest.approx(np.array([[0, 0, 1], [5, 0, 2]]))
    fence = next(line for line in got.lines if line.code == "FENCE")
    assert all(v[2] is None for v in fence.vertices)
    radii = np.hypot(*(np.array([v[:2] for v in fence.vertices]) - [1, 0]).T)
    assert radii == pytest.approx(np.ones(len(radii)), abs=1e-6)
    assert got.surfaces[0].surface.levels([[5, 5]])[0] == pytest.approx(0.5)


def test_a_drawing_without_anything_usable(tmp_path):
    d = ezdxf.new("R2010")
    d.modelspace().add_text("hello")
    d.saveas(tmp_path / "a.dxf")
    with pytest.raises(FormatError, match="holds no points"):
        read_dxf(tmp_path / "a.dxf")


def test_the_exported_drawing_holds_the_design(tmp_path, brickworks):
    q = Engine(brickworks)
    write_dxf(delivery(q), tmp_path / "a.dxf")
    d = ezdxf.readfile(tmp_path / "a.dxf")
    layers = {e.dxf.layer for e in d.modelspace()}
    assert {
        "centreline",
        "left lip",
        "return",
        "boundary",
        "lot",
        "pad",
        "set-out",
        "finished contour",
        "finished surface",
    } <= layers
    faces = [e for e in d.modelspace() if e.dxftype() == "3DFACE"]
    assert len(faces) == len(whole_surface(q).surface.triangles)
    # The file is sound: nothing to repair, every handle its own, and the faces are the surface when it is read again.
    assert not d.audit().errors
    assert not d.audit().fixes
    handles = [e.dxf.handle for e in d.entitydb.values()]
    assert len(handles) == len(set(handles))
    assert int(d.header["$HANDSEED"], 16) > max(int(h, 16) for h in handles)
    back = read_dxf(tmp_path / "a.dxf").surfaces[0].surface
    e, n = brickworks.origin
    at = np.array([[4150.0, 8186.0], [4120.0, 8190.0]])
    assert back.levels(at) == pytest.approx(whole_surface(q).surface.levels(at - [e, n]), abs=1e-6)
    contour = next(e for e in d.modelspace() if e.dxf.layer == "finished contour")
    assert contour.dxf.elevation % 0.5 == pytest.approx(0.0)
    line = next(e for e in d.modelspace() if e.dxf.layer == "centreline")
    length = sum(_bulge_length(a, b) for a, b in zip(line.get_points("xyb")[:-1], line.get_points("xyb")[1:]))
    assert length == pytest.approx(chain_of(q, "claypit-road").total, abs=1e-6)


def _bulge_length(a, b):
    chord, angle = np.hypot(b[0] - a[0], b[1] - a[1]), 4 * np.arctan(a[2])
    return chord if abs(angle) < 1e-12 else abs(angle) * chord / (2 * abs(np.sin(angle / 2)))


# Grids, clouds, GeoJSON


def test_a_grid_is_read_at_its_cells_middles(tmp_path):
    z = np.arange(12, dtype="float32").reshape(3, 4)
    z[0, 0] = -9999
    with rasterio.open(
        tmp_path / "a.tif",
        "w",
        driver="GTiff",
        height=3,
        width=4,
        count=1,
        dtype="float32",
        transform=from_origin(100, 230, 10, 10),
        nodata=-9999,
    ) as f:
        f.write(z, 1)
    got = read_file(tmp_path / "a.tif").points
    assert len(got) == 11
    assert [115.0, 225.0, 1.0] in got.tolist()


def test_a_cloud_keeps_its_ground_points(tmp_path):
    header = laspy.LasHeader(point_format=1, version="1.2")
    header.scales = [0.001] * 3
    cloud = laspy.LasData(header)
    cloud.x, cloud.y, cloud.z = np.array([1.0, 2, 3]), np.array([4.0, 5, 6]), np.array([7.0, 8, 9])
    cloud.classification = np.array([2, 5, 2], dtype=np.uint8)
    cloud.write(tmp_path / "a.las")
    assert read_file(tmp_path / "a.las").points == pytest.approx(np.array([[1, 4, 7], [3, 6, 9]]), abs=1e-3)


def test_geojson_points_and_lines(tmp_path):
    features = [
        {"type": "Feature", "properties": {}, "geometry": {"type": "Point", "coordinates": [10, 20, 3]}},
        {
            "type": "Feature",
            "properties": {"code": "FENCE"},
            "geometry": {"type": "LineString", "coordinates": [[0, 0], [5, 5]]},
        },
    ]
    got = read_file(write(tmp_path / "a.geojson", json.dumps({"type": "FeatureCollection", "features": features})))
    assert got.points.tolist() == [[10, 20, 3]]
    assert got.lines[0].code == "FENCE"


# Bringing in as a whole


def test_files_together_make_one_ground_and_streets_find_their_junctions(tmp_path):
    points = "\n".join(
        f"{i},{x},{y},{20 + 0.01 * x}"
        for i, (x, y) in enumerate([(-50, -50), (300, -50), (300, 200), (-50, 200), (100, 60)])
    )
    body = "".join(
        f'<Alignment name="{n}" staStart="0"><CoordGeom><Line><Start>{a}</Start><End>{b}</End></Line></CoordGeom></Alignment>'
        for n, a, b in (("Main", "0 0", "0 200"), ("Side", "0 100", "80 100"))
    )
    files = [landxml(tmp_path, f"<Alignments>{body}</Alignments>"), write(tmp_path / "p.csv", points)]
    told = []
    site, brought = bring_in(new_site(), files, progress=lambda share, words: told.append((share, words)))
    q = Engine(site)
    from humble_loop.kinds.junction.nodes import all_joints

    assert all_joints(q) == (("side", "start", "main"),)
    assert [share for share, _ in told] == sorted(share for share, _ in told)
    assert told[-1] == (1.0, "Done")
    assert "street 'Side'" in brought.words


def test_names_that_are_taken_are_made_unique(tmp_path):
    text = "easting,northing,radius\n0,0,0\n50,0,0\n"
    file = write(tmp_path / "High Street.csv", text)
    site = bring_in(bring_in(new_site(), [file])[0], [file])[0]
    assert [s.name for s in site.all(Street)] == ["High Street", "High Street 2"]


def test_giving_up_changes_nothing(tmp_path):
    class GiveUpError(Exception):
        pass

    def stop(share, words):
        raise GiveUpError

    site = new_site()
    with pytest.raises(GiveUpError):
        bring_in(site, [write(tmp_path / "p.csv", "1,0,0,0,A\n")], progress=stop)
    assert site == new_site()


def test_long_edges_are_peeled_when_asked(tmp_path):
    rows = [(x, y) for x in range(0, 50, 5) for y in range(0, 50, 5)] + [(400, 20)]
    file = write(tmp_path / "p.csv", "\n".join(f"{i},{x},{y},1" for i, (x, y) in enumerate(rows)))
    site = bring_in(new_site(), [file], Options(longest_edge=20))[0]
    assert np.isnan(site.all(Ground)[0].surface.levels([[200, 20]])[0])


def test_the_chain_of_a_reference_case_survives_its_csv(tmp_path):
    for case in reference("centrelines"):
        chain, _ = chain_from_bends([BendInput(**p) for p in case["points"]])
        assert chain.total == pytest.approx(case["length"], abs=1e-6)


# Units and coordinate systems


def write_grid(path, level, crs=None, unit=None, scale=1.0, offset=0.0):
    with rasterio.open(
        path,
        "w",
        driver="GTiff",
        height=2,
        width=2,
        count=1,
        dtype="float32",
        transform=from_origin(1000, 2000, 10, 10),
        crs=crs,
    ) as f:
        f.write(np.full((2, 2), level, dtype="float32"), 1)
        f.scales, f.offsets = (scale,), (offset,)
        if unit:
            f.units = (unit,)


def test_a_grids_scale_and_offset_are_applied(tmp_path):
    write_grid(tmp_path / "a.tif", 250.0, scale=0.1, offset=20.0)
    assert read_file(tmp_path / "a.tif").points[0] == pytest.approx([1005, 1995, 45.0])


@pytest.mark.parametrize(
    ("crs", "unit", "options", "place", "level"),
    [
        # EPSG 2263 is in survey feet of 1200/3937 m; 32756 in metres.
        ("EPSG:2263", None, Options(), 1200 / 3937, 1200 / 3937),
        ("EPSG:2263", "metre", Options(), 1200 / 3937, 1.0),
        ("EPSG:32756", "ft", Options(), 1.0, 0.3048),
        ("EPSG:32756", None, Options(units="ft"), 1.0, 1.0),
        (None, None, Options(units="ft"), 0.3048, 0.3048),
    ],
)
def test_a_grids_units_are_its_systems_its_bands_or_those_asked_for(tmp_path, crs, unit, options, place, level):
    write_grid(tmp_path / "a.tif", 100.0, crs, unit)
    got = read_file(tmp_path / "a.tif", options).points[0]
    assert got == pytest.approx([1005 * place, 1995 * place, 100 * level], rel=1e-9)


def test_places_in_degrees_and_unknown_units_are_refused(tmp_path):
    write_grid(tmp_path / "a.tif", 100.0, "EPSG:4326")
    with pytest.raises(FormatError, match="degrees of longitude and latitude; project it"):
        read_file(tmp_path / "a.tif")
    write_grid(tmp_path / "b.tif", 100.0, None, "fathom")
    with pytest.raises(FormatError, match="the unit of its levels, 'fathom', is not known"):
        read_file(tmp_path / "b.tif")


def write_cloud(path, system=None):
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales = [0.001] * 3
    other = laspy.vlrs.known.WktMathTransformVlr()
    other.string = "PARAM_MT"  # text that is no coordinate system
    header.vlrs.append(other)
    if system:
        header.vlrs.append(laspy.vlrs.known.WktCoordinateSystemVlr(rasterio.crs.CRS.from_user_input(system).to_wkt()))
    cloud = laspy.LasData(header)
    cloud.x, cloud.y, cloud.z = np.array([100.0, 200, 300]), np.array([400.0, 500, 600]), np.array([10.0, 20, 30])
    cloud.write(path)


@pytest.mark.parametrize("ending", ["las", "laz"])
@pytest.mark.parametrize(
    ("system", "units", "metres"),
    [(None, "m", 1.0), (None, "ft", 0.3048), ("EPSG:2263", "m", 1200 / 3937), ("EPSG:32756", "ft", 1.0)],
)
def test_clouds_are_read_packed_or_not_in_their_own_unit(tmp_path, ending, system, units, metres):
    write_cloud(tmp_path / f"a.{ending}", system)
    got = read_file(tmp_path / f"a.{ending}", Options(units=units)).points
    assert got[1] == pytest.approx(np.array([200, 500, 20]) * metres, abs=1e-9)


def test_a_cloud_in_degrees_is_refused(tmp_path):
    write_cloud(tmp_path / "a.las", "EPSG:4326")
    with pytest.raises(FormatError, match="degrees of longitude and latitude"):
        read_file(tmp_path / "a.las")


@pytest.mark.parametrize(("code", "metres"), [(3, 1609.344), (10, 0.9144), (14, 0.1), (2, 0.3048), (0, 1200 / 3937)])
def test_a_drawings_unit_is_its_own_or_the_one_asked_for(tmp_path, code, metres):
    drawing = ezdxf.new()
    drawing.header["$INSUNITS"] = code
    drawing.modelspace().add_point((2, 3, 4))
    drawing.saveas(tmp_path / "a.dxf")
    got = read_file(tmp_path / "a.dxf", Options(units="us-ft")).points[0]
    assert got == pytest.approx(np.array([2, 3, 4]) * metres)


def test_a_drawing_in_light_years_is_refused(tmp_path):
    drawing = ezdxf.new()
    drawing.header["$INSUNITS"] = 19
    drawing.modelspace().add_point((2, 3, 4))
    drawing.saveas(tmp_path / "a.dxf")
    with pytest.raises(FormatError, match=r"code 19 of .INSUNITS"):
        read_file(tmp_path / "a.dxf")


def test_files_without_a_unit_are_in_the_one_asked_for(tmp_path):
    (tmp_path / "a.geojson").write_text('{"type": "Point", "coordinates": [100, 200, 30]}')
    (tmp_path / "a.xml").write_text(
        '<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2"><Alignments>'
        '<Alignment name="A"><CoordGeom><Line><Start>0 0</Start><End>0 100</End></Line></CoordGeom></Alignment>'
        "</Alignments></LandXML>"
    )
    got = read_file(tmp_path / "a.geojson", Options(units="ft"))
    assert got.points[0] == pytest.approx([30.48, 60.96, 9.144])
    end = read_file(tmp_path / "a.xml", Options(units="ft")).streets[0].bends[-1]
    assert (end.easting, end.northing) == pytest.approx((30.48, 0.0))


def test_a_unit_column_says_the_unit_and_nonsense_in_it_is_refused(tmp_path):
    text = "easting,northing,level,unit\n10,20,30,{0}\n40,50,60,{0}\n70,20,30,{1}\n"
    got = read_points_text(write(tmp_path / "a.csv", text.format("ft", "ft")), units="m")
    assert got.points[0] == pytest.approx([3.048, 6.096, 9.144])
    for pair, words in ((("m", "ft"), "'ft', 'm'"), (("ell", "ell"), "'ell'")):
        with pytest.raises(FormatError, match=f"unit column says {words}; one unit"):
            read_points_text(write(tmp_path / "a.csv", text.format(*pair)))


def test_set_out_points_that_are_written_say_their_unit_and_come_back(tmp_path, court):
    export(delivery(Engine(court)), tmp_path / "out.csv")
    first, *rows = (tmp_path / "out.csv").read_text().splitlines()
    assert first.endswith(",mark,unit")
    assert all(r.endswith(",m") for r in rows)
    got = read_points_text(tmp_path / "out.csv", units="ft")
    assert len(got.points) == len(rows)
    assert got.points[0, 0] == pytest.approx(float(rows[0].split(",")[1]))


def test_a_drawing_written_as_text_is_sound_and_holds_every_line_and_face(brickworks, tmp_path):
    """Polylines and faces go past the library that reads them back: it finds nothing to mend, and every vertex."""
    site = delivery(Engine(brickworks))
    write_dxf(site, tmp_path / "out.dxf")
    drawing = ezdxf.readfile(tmp_path / "out.dxf")
    audit = drawing.audit()
    assert not audit.errors
    assert not audit.fixes
    space = drawing.modelspace()
    handles = [e.dxf.handle for e in drawing.entitydb.values()]
    assert len(handles) == len(set(handles))
    lines = list(site.lines_but(frozenset({"crown", "survey"})))
    roles = list(dict.fromkeys(line.role for line in lines))
    lines.sort(key=lambda line: roles.index(line.role))  # layer by layer
    drawn = space.query("POLYLINE")
    assert [e.dxf.layer for e in drawn] == [line.role for line in lines]
    for entity, line in zip(drawn, lines, strict=True):
        assert entity.is_3d_polyline
        vertices = np.array([tuple(v.dxf.location) for v in entity.vertices])
        assert vertices == pytest.approx(line.points, abs=1e-8)
    faces = np.array([[tuple(c) for c in f.wcs_vertices()] for f in space.query("3DFACE")])
    corners = site.finished.points[site.finished.triangles]
    assert len(faces) == len(corners)
    assert np.abs(faces[:, :3] - corners).max() < 1e-8
