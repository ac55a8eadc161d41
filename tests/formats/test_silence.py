"""Nothing is read in silence that is not what the file seems to say: it is told in the report, or refused."""

import json

import ezdxf
import laspy
import numpy as np
import pytest
import rasterio
from rasterio.transform import from_origin

from humble_loop.formats.bring_in import bring_in, read_file
from humble_loop.formats.errors import FormatError
from humble_loop.site.libraries import new_site
from tests.formats.landxml_text import landxml

HEAD = "ncols 4\nnrows 3\nxllcorner 312400\nyllcorner 6251900\ncellsize 10\nNODATA_value -9999\n"
LEVELS = "41.0 41.1 41.2 41.3\n42.0 42.1 42.2 42.3\n43.0 43.1 -9999 43.3\n"


def grid(path, levels, head=HEAD):
    path.write_text(head + levels)
    return path


def test_a_sound_ascii_grid_is_read(tmp_path):
    got = read_file(grid(tmp_path / "g.asc", LEVELS)).points
    assert len(got) == 11
    assert [312405.0, 6251905.0, 43.0] in got.tolist()


SPOILT = {
    "text": (LEVELS.replace("42.1", "road"), "'road'"),
    "a decimal comma": (LEVELS.replace("42.1", "42,1"), "'42,1'"),
    "cut short": ("".join(LEVELS.partition("42.2")[:2]), "7 levels, and its head says 12"),
    "cut before the last": (LEVELS[:-6], "11 levels"),
    "a row too many": (LEVELS + "44 44 44 44\n", "16 levels"),
    "nothing": ("", "0 levels"),
}


@pytest.mark.parametrize("how", SPOILT)
def test_a_spoilt_ascii_grid_is_refused(tmp_path, how):
    levels, words = SPOILT[how]
    with pytest.raises(FormatError, match=words):
        read_file(grid(tmp_path / "g.asc", levels))


def test_a_grid_without_its_size_is_refused(tmp_path):
    with pytest.raises(FormatError, match="ncols"):
        read_file(grid(tmp_path / "g.asc", LEVELS, HEAD.replace("ncols 4\n", "")))


def tiff(path, z, **how):
    with rasterio.open(
        path,
        "w",
        driver="GTiff",
        height=z.shape[0],
        width=z.shape[1],
        count=1,
        dtype="float32",
        transform=from_origin(312400, 6252000, 1, 1),
        **how,
    ) as out:
        out.write(z.astype("float32"), 1)
    return path


@pytest.mark.parametrize("compress", [None, "deflate"])
def test_an_image_that_is_cut_short_is_refused(tmp_path, compress):
    z = 40 + np.random.default_rng(1).normal(size=(300, 300))
    file = tiff(tmp_path / "g.tif", z, compress=compress)
    data = file.read_bytes()
    for share in (0.3, 0.6, 0.95):
        file.write_bytes(data[: int(len(data) * share)])
        with pytest.raises(FormatError):
            read_file(file)


def test_parts_of_an_image_that_were_never_written_are_no_levels(tmp_path):
    file = tmp_path / "g.tif"
    how = {"driver": "GTiff", "count": 1, "dtype": "float32", "sparse_ok": True, "tiled": True, "blockxsize": 64}
    where = from_origin(312400, 6252000, 1, 1)
    with rasterio.open(file, "w", width=256, height=128, transform=where, blockysize=64, **how) as out:
        out.write(np.full((1, 64, 64), 41.5, dtype="float32"), window=rasterio.windows.Window(64, 0, 64, 64))
    got = read_file(file)
    assert len(got.points) == 64 * 64
    assert set(got.points[:, 2]) == {41.5}
    assert got.notes == ["g.tif: 7 of its 8 tiles were never written, and are left out"]


def cloud(path, **attributes):
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales, header.offsets = [0.001] * 3, [312000, 6251000, 0]
    made = laspy.LasData(header)
    n = 8
    made.x, made.y, made.z = 312400 + np.arange(n) * 1.5, 6251900 + (np.arange(n) % 3) * 2.0, 40 + np.arange(n) * 0.1
    for name, values in attributes.items():
        setattr(made, name, np.array(values, dtype=np.uint8))
    made.write(path)
    return path


@pytest.mark.parametrize("ending", ["las", "laz"])
def test_points_marked_withheld_or_noise_are_left_out_and_told(tmp_path, ending):
    got = read_file(
        cloud(
            tmp_path / f"c.{ending}",
            withheld=[1, 0, 0, 0, 0, 0, 0, 0],
            classification=[1, 7, 18, 1, 1, 1, 1, 1],
        )
    )
    assert len(got.points) == 5
    assert got.notes == [f"c.{ending}: 3 points marked as withheld or noise are left out"]


def test_what_is_taken_of_a_classified_cloud_is_told(tmp_path):
    got = read_file(
        cloud(tmp_path / "c.las", classification=[2, 2, 2, 2, 5, 6, 7, 9], withheld=[1, 0, 0, 0, 0, 0, 0, 0])
    )
    assert len(got.points) == 3
    assert got.notes == [
        "c.las: 2 points marked as withheld or noise are left out",
        "c.las: of the others the 3 that are classified as ground are taken, and 3 are not",
    ]


def test_a_packed_cloud_that_is_cut_short_is_refused(tmp_path):
    rng = np.random.default_rng(3)
    header = laspy.LasHeader(point_format=6, version="1.4")
    header.scales, header.offsets = [0.001] * 3, [312000, 6251000, 0]
    made = laspy.LasData(header)
    made.x, made.y, made.z = rng.uniform(0, 900, (3, 120_000)) + [[312000], [6251000], [0]]
    file = tmp_path / "c.laz"
    made.write(file)
    data = file.read_bytes()
    for share in (0.2, 0.5, 0.8, 0.97):
        file.write_bytes(data[: int(len(data) * share)])
        with pytest.raises(FormatError):
            read_file(file)


@pytest.mark.parametrize("value", ["NaN", "1e999", "-Infinity"])
def test_coordinates_that_are_no_numbers_are_refused_or_told(tmp_path, value):
    points = [[0, 0, 1], [50, 0, 1], [0, 50, 2], [9, 9, 9]]
    features = [{"type": "Feature", "properties": {}, "geometry": {"type": "Point", "coordinates": p}} for p in points]
    text = json.dumps({"type": "FeatureCollection", "features": features}).replace("[9, 9, 9]", f"[9, {value}, 9]")
    (tmp_path / "a.geojson").write_text(text)
    with pytest.raises(FormatError, match="no number"):
        read_file(tmp_path / "a.geojson")
    word = {"NaN": "NaN", "1e999": "INF", "-Infinity": "-INF"}[value]
    body = f"""<Surfaces><Surface name="s"><Definition surfType="TIN"><Pnts><P id="1">0 0 1</P><P id="2">0 {word} 1</P>
      <P id="3">50 0 2</P></Pnts><Faces><F>1 2 3</F></Faces></Definition></Surface></Surfaces>"""
    with pytest.raises(FormatError):
        read_file(landxml(tmp_path, body))


def test_lines_of_a_drawing_that_are_nowhere_are_told(tmp_path):
    drawing = ezdxf.new("R2010")
    drawing.units = 6
    space = drawing.modelspace()
    space.add_line((0, 0, 1), (9, 0, 1))
    space.add_line((0, 0, 1), (float("nan"), 0, 1))
    space.add_point((float("inf"), 0, 1))
    space.add_point((3, 3, 1))
    drawing.saveas(tmp_path / "a.dxf")
    got = read_file(tmp_path / "a.dxf")
    assert len(got.lines) == 1
    assert len(got.points) == 1
    assert got.notes == ["a.dxf: 2 of its entities have coordinates that are no numbers, and are left out"]


def test_points_far_from_all_others_are_told_with_their_places(tmp_path):
    rows = [f"{k},{312400 + 7 * (k % 9)},{6251900 + 9 * (k // 9)},{40 + k / 100}" for k in range(60)]
    rows.append("61,0,0,0")
    rows.append("62,3124000,6251900,41")
    (tmp_path / "p.csv").write_text("number,easting,northing,level\n" + "\n".join(rows))
    _, brought = bring_in(new_site(), [tmp_path / "p.csv"])
    far = [p for p in brought.problems if p.kind == "far away"]
    assert [(p.easting, p.northing) for p in far] == [(0.0, 0.0), (3124000.0, 6251900.0)]
    assert far[0].message == "lies 6,260 km from the others; check its coordinates"  # √(312 428² + 6 251 930²) m
