"""Small files that would become large work: refused or left out at once, in words. And nothing of the network is touched."""

import contextlib
import http.server
import json
import threading
import time

import ezdxf
import numpy as np
import pytest

from humble_loop.formats.bring_in import read_file, read_files
from humble_loop.formats.errors import FormatError
from tests.formats.landxml_text import landxml

LONGEST = 5.0  # seconds for any file


_made = [0.0]  # when the last file was made: reading is what is bounded, not the library that writes the bomb


@pytest.fixture(autouse=True)
def soon():
    _made[0] = time.monotonic()
    yield
    assert time.monotonic() - _made[0] < LONGEST


def drawing(path, draw):
    made = ezdxf.new("R2010")
    made.units = 6
    draw(made.modelspace())
    made.saveas(path)
    _made[0] = time.monotonic()
    return path


def endless(space):
    for k in range(40):
        space.add_arc((k, 0), 5e6, 0, 359)
    space.add_lwpolyline([(0, 0, 0, 0, 1e9), (1e7, 0, 0, 0, 1e-9), (5e6, 1, 0, 0, -1e300), (7, 7)])
    space.add_polyline2d([(0, 0, 0, 0, 1.0), (1e8, 0, 0, 0, 0)], format="xyseb")
    space.add_arc((0, 0), 1e300, 0, 359)
    space.add_line((0, 0, 1), (9, 0, 1))


def test_arcs_without_end_are_left_out_and_told(tmp_path):
    brought = read_files([drawing(tmp_path / "a.dxf", endless)])
    assert "1 lines from a.dxf" in brought.words
    assert "43 of its lines have arcs that take too many chords" in brought.words


def test_arcs_that_are_many_chords_together_are_bounded(tmp_path):
    """Each of 10,000 chords: 40 of them are as many as one file may have."""
    radius = 0.01 * 8 * (10_000 / (2 * np.pi)) ** 2 * (360 / 359) ** 2

    def draw(space):
        for k in range(70):
            space.add_arc((k, 0), radius, 0, 359)

    brought = read_files([drawing(tmp_path / "a.dxf", draw)])
    told = int(brought.words.partition("a.dxf: ")[2].split()[0])
    assert 25 <= told <= 35


def test_curves_without_end_are_refused(tmp_path):
    curve = '<Curve rot="cw" radius="9e7"><Start>0 0</Start><Center>9e7 0</Center><End>18e7 0</End></Curve>'
    body = f'<PlanFeatures><PlanFeature name="f"><CoordGeom>{curve * 50}</CoordGeom></PlanFeature></PlanFeatures>'
    with pytest.raises(FormatError, match="too many chords"):
        read_files([landxml(tmp_path, body)])


def test_faces_that_stand_twice_are_left_out_and_told(tmp_path):
    points = "".join(f'<P id="{i}">{i} {i % 3} 1</P>' for i in range(4))
    body = f"""<Surfaces><Surface name="s"><Definition surfType="TIN"><Pnts>{points}</Pnts>
      <Faces>{"<F>1 2 3</F>" * 50_000}</Faces></Definition></Surface></Surfaces>"""
    brought = read_files([landxml(tmp_path, body)])
    assert "(1 triangles)" in brought.words
    assert "49999 faces that stand twice" in brought.words


@pytest.mark.parametrize(
    "text",
    ["1," * 5_000_000, "easting,northing,level\n" + "9" * 3_000_000 + ",1,2\n", '"' * 900_000 + ",1,2,3\n1,2,3,4\n"],
)
def test_lines_without_end_are_refused(tmp_path, text):
    (tmp_path / "a.csv").write_text(text)
    with pytest.raises(FormatError, match="letters, more than points take"):
        read_files([tmp_path / "a.csv"])


def test_breaklines_that_all_cross_are_refused(tmp_path):
    rows = ["number,easting,northing,level,code"]
    for k in range(160):
        rows += [f"{4 * k},{k},-1,40,LIP{k}", f"{4 * k + 1},{k + 0.3},161,40,LIP{k}"]
        rows += [f"{4 * k + 2},-1,{k},40,BANK{k}", f"{4 * k + 3},161,{k + 0.3},40,BANK{k}"]
    (tmp_path / "a.csv").write_text("\n".join(rows))
    with pytest.raises(FormatError, match="cross one another at more than 20,000 places"):
        read_files([tmp_path / "a.csv"])


@pytest.mark.parametrize("opening", ["[", '{"a":', '{"type":"GeometryCollection","geometries":['])
def test_json_without_end_is_refused(tmp_path, opening):
    (tmp_path / "a.geojson").write_text(opening * 100_000)
    with pytest.raises(FormatError):
        read_files([tmp_path / "a.geojson"])


def test_entities_that_multiply_are_refused(tmp_path):
    entities = "".join(f'<!ENTITY e{k + 1} "{f"&e{k};" * 10}">' for k in range(12))
    (tmp_path / "a.xml").write_text(
        f'<?xml version="1.0"?><!DOCTYPE l [<!ENTITY e0 "ha">{entities}]><LandXML><Project name="&e12;"/></LandXML>'
    )
    with pytest.raises(FormatError):
        read_files([tmp_path / "a.xml"])


# The network


@pytest.fixture
def server():
    """A server on this machine that counts who asks."""
    asked = []

    class Handler(http.server.BaseHTTPRequestHandler):
        def do_GET(self):
            asked.append(self.path)
            self.send_response(404)
            self.end_headers()

        do_HEAD = do_GET  # noqa: N815 - the library's word

        def log_message(self, *words):
            pass

    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), Handler) as running:
        threading.Thread(target=running.serve_forever, daemon=True).start()
        yield f"http://127.0.0.1:{running.server_port}", asked
        running.shutdown()


def hostile(url):
    """Files that ask for others: by name, by address, and by every way that a library might follow."""
    catalogue = f"""<VRTDataset rasterXSize="2" rasterYSize="2"><VRTRasterBand dataType="Float32" band="1"><SimpleSource>
      <SourceFilename>/vsicurl/{url}/a.tif</SourceFilename></SimpleSource></VRTRasterBand></VRTDataset>"""
    service = f'<GDAL_WMS><Service name="TMS"><ServerUrl>{url}/b</ServerUrl></Service></GDAL_WMS>'
    entity = f'<?xml version="1.0"?><!DOCTYPE l SYSTEM "{url}/c.dtd" [<!ENTITY e SYSTEM "{url}/d">]><LandXML><Project name="x"/>&e;</LandXML>'
    schema = f'<LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:schemaLocation="{url}/e {url}/f.xsd"><?xml-stylesheet href="{url}/g"?></LandXML>'
    crs = {"type": "link", "properties": {"href": f"{url}/h", "type": "proj4"}}
    point = {"type": "Point", "coordinates": [1, 2, 3]}
    geojson = json.dumps({"type": "Feature", "crs": crs, "geometry": point, "properties": {}, "url": f"{url}/i"})
    return {
        **{f"vrt{ending}": catalogue for ending in (".tif", ".asc", ".xml", ".json")},
        **{f"wms{ending}": service for ending in (".tif", ".asc", ".xml")},
        "address.tif": f"{url}/j.tif",
        "address.asc": f"/vsicurl/{url}/k.asc",
        "entity.xml": entity,
        "schema.xml": schema,
        "crs.geojson": geojson,
        "address.csv": f"number,easting,northing,level\n1,1,2,{url}/l\n",
        "address.hloop": f'{{"format": "humble-loop-site", "version": 2, "site": {{"name": "{url}/m"}}}}',
    }


def test_files_that_name_addresses_are_not_followed(tmp_path, server):
    url, asked = server
    for name, text in hostile(url).items():
        (tmp_path / name).write_text(text)
        with contextlib.suppress(FormatError):
            read_files([tmp_path / name])
    linked = drawing(tmp_path / "linked.dxf", lambda space: space.add_line((0, 0, 1), (9, 0, 1)))
    made = ezdxf.readfile(linked)
    made.add_xref_def(f"{url}/n.dxf", "elsewhere")
    made.modelspace().add_blockref("elsewhere", (0, 0))
    made.saveas(linked)
    assert "1 lines" in read_files([linked]).words
    assert asked == []


def test_the_server_of_these_tests_hears_who_asks(server):
    import urllib.request

    url, asked = server
    with pytest.raises(urllib.error.HTTPError):
        urllib.request.urlopen(f"{url}/x")
    assert asked == ["/x"]


def test_a_long_polyline_without_arcs_is_no_arc_without_end(tmp_path):
    """A contour of a large site: more vertices than arcs may have chords."""
    x = np.arange(21_000.0)
    path = drawing(
        tmp_path / "a.dxf",
        lambda space: space.add_lwpolyline(np.column_stack([x, np.sin(x)]).tolist(), dxfattribs={"elevation": 40}),
    )
    (line,) = read_file(path).lines
    assert len(line.vertices) == 21_000


def test_a_bulge_beyond_the_end_of_an_open_polyline_leads_nowhere(tmp_path):
    """Towards its first vertex it would be an arc of 20 km with more chords than are followed."""

    def polylines(space):
        rows = [(0.0, 0.0, 0.0), (20_000.0, 0.0, 1e9)]
        space.add_lwpolyline(rows, format="xyb", dxfattribs={"elevation": 40})
        space.add_polyline2d(rows, format="xyb")
        space.add_lwpolyline(rows, format="xyb", close=True, dxfattribs={"elevation": 40})

    bundle = read_file(drawing(tmp_path / "a.dxf", polylines))
    assert [len(line.vertices) for line in bundle.lines] == [2, 2]
    assert "1 of its lines have arcs" in " ".join(bundle.notes)
