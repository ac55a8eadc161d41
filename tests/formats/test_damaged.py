"""Damaged files of every format: read, or refused in one sentence that names the file; nothing else comes out."""

import io
import json
import random
import re
import time
import tracemalloc
import warnings
import zipfile

import ezdxf
import laspy
import numpy as np
import pytest
import rasterio
import rasterio.windows

from humble_loop.engine.query import Engine
from humble_loop.formats.bring_in import read_files
from humble_loop.formats.errors import FormatError, guarded
from humble_loop.formats.landxml import write_landxml
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.model import Ground, add_ground
from humble_loop.whole.delivery import delivery
from tests.conftest import SEARCHING, t_site

_TIMES = 10_000 if SEARCHING else 40
_LONGEST = 5.0  # seconds for any bad file


def points(path):
    rows = "\n".join(f"{i},{1000 + 7 * (i % 5)}.25,{2000 + 6 * (i // 5)},{40 + 0.1 * i:.3f},SPOT" for i in range(40))
    path.write_text(f"number,easting,northing,level,code\n{rows}\n")


def drawing(path):
    made = ezdxf.new("R2010")
    space = made.modelspace()
    space.add_lwpolyline(
        [(0, 0, 0.3), (30, 5, 0), (60, 0, -0.2), (90, 20, 0)], format="xyb", dxfattribs={"elevation": 40}
    )
    space.add_polyline3d([(0, 10, 40), (50, 12, 41), (90, 9, 42)])
    space.add_3dface([(0, 0, 40), (50, 0, 41), (50, 50, 42), (0, 50, 42)])
    for k in range(6):
        space.add_point((10 * k, 30 + k, 40 + 0.1 * k))
    space.add_line((0, 0, 40), (10, 70, 41))
    made.saveas(path)


def landxml(path):
    write_landxml(delivery(Engine(t_site())), path)


def geojson(path):
    line = {"type": "LineString", "coordinates": [[1000, 2000, 40], [1020, 2010, 41], [1060, 2000, 42]]}
    spots = {"type": "MultiPoint", "coordinates": [[1000 + 9 * k, 2030 + k * k, 40] for k in range(8)]}
    features = [{"type": "Feature", "properties": {"code": "LIP", "name": "L1"}, "geometry": g} for g in (line, spots)]
    path.write_text(json.dumps({"type": "FeatureCollection", "features": features}))


def cloud(path):
    made = laspy.create(point_format=3, file_version="1.2")
    rng = np.random.default_rng(1)
    made.header.scales, made.header.offsets = [0.001] * 3, [1000.0, 2000.0, 0.0]
    made.x, made.y, made.z = 1000 + rng.uniform(0, 50, 80), 2000 + rng.uniform(0, 50, 80), 40 + rng.uniform(0, 2, 80)
    made.write(str(path))


def grid(path):
    levels = (40 + np.add.outer(np.arange(12), np.arange(9)) * 0.1).astype("float32")
    where = rasterio.transform.from_origin(1000, 2000, 2, 2)
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        with rasterio.open(
            path, "w", driver="GTiff", width=9, height=12, count=1, dtype="float32", transform=where
        ) as out:
            out.write(levels, 1)


def text_grid(path):
    rows = "\n".join(" ".join(f"{40 + 0.1 * (i + j):.2f}" for j in range(8)) for i in range(9))
    path.write_text(f"ncols 8\nnrows 9\nxllcorner 1000\nyllcorner 2000\ncellsize 2\nNODATA_value -9999\n{rows}\n")


def site(path):
    save_site(t_site(), path)


SOUND = {
    "a.csv": points,
    "a.dxf": drawing,
    "a.xml": landxml,
    "a.geojson": geojson,
    "a.las": cloud,
    "a.laz": cloud,
    "a.tif": grid,
    "a.asc": text_grid,
    "a.hloop": site,
}
_NUMBERS = [b"9" * 20, b"-1", b"nan", b"inf", b"1e999", b"0", b"", b"x", b"2147483648", b"1,5"]


def damaged(data: bytes, rng: random.Random) -> bytes:
    """A file with something wrong with it."""
    out = bytearray(data)
    for _ in range(rng.choice([1, 1, 1, 2, 5])):
        a = rng.randrange(len(out) + 1)
        b = min(len(out), a + rng.choice([1, 2, 4, 30, 400]))
        kind = rng.randrange(7)
        if kind == 0 and a < len(out):
            out[a] = rng.randrange(256)
        elif kind == 1:
            del out[a:b]
        elif kind == 2:
            out[a:a] = out[a:b]
        elif kind == 3:
            out[a:b] = bytes(rng.randrange(256) for _ in range(b - a))
        elif kind == 4 and rng.random() < 0.5:
            del out[a:]
        else:
            found = [m.span() for m in re.finditer(rb"-?\d+\.?\d*", bytes(out))]
            if found:
                low, high = rng.choice(found)
                out[low:high] = rng.choice(_NUMBERS)
    return bytes(out)


def damaged_within(data: bytes, rng: random.Random) -> bytes:
    """A site file that is a sound archive with damaged parts."""
    packed = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(data)) as old, zipfile.ZipFile(packed, "w") as new:
        for name in old.namelist():
            part = old.read(name)
            new.writestr(name, damaged(part, rng) if rng.random() < 0.7 else part)
    return packed.getvalue()


def what_comes_out(read, path):
    """The exception with which a file is refused; None where it is read."""
    try:
        read(path)
    except BaseException as error:  # noqa: BLE001 - it is looked at
        return error
    return None


@pytest.mark.parametrize("name", SOUND)
def test_a_damaged_file_is_read_or_refused_in_one_sentence(tmp_path, name):
    path = tmp_path / name
    SOUND[name](path)
    sound = path.read_bytes()
    read = load_site if name.endswith("hloop") else lambda p: read_files([p])
    read(path)
    first = int(time.time()) if SEARCHING else 0
    refused, times = 0, _TIMES // 2 if path.suffix in (".las", ".laz") else _TIMES  # a process for each cloud
    for seed in range(first, first + times):
        rng = random.Random(seed)
        within = name.endswith("hloop") and seed % 2
        path.write_bytes(damaged_within(sound, rng) if within else damaged(sound, rng))
        began = time.monotonic()
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            said = what_comes_out(read, path)
        if said is not None:
            assert isinstance(said, FormatError), (seed, repr(said))
            assert name in str(said), seed
            assert "\n" not in str(said), seed
            refused += 1
        assert time.monotonic() - began < _LONGEST, seed
    assert refused > times // 20


@pytest.mark.parametrize(
    ("error", "words"),
    [
        (ValueError("out of\nrange\x1b[31m"), "(ValueError: out of range[31m)"),
        (KeyError("vertices"), "not a sound LandXML file (KeyError: 'vertices')"),
        (RecursionError(), "not a sound LandXML file (RecursionError)"),
        (MemoryError(), "not enough memory"),
        (PermissionError(13, "Permission denied"), "Permission denied"),
        (FormatError("a.xml", "row 3 is short"), "a.xml: row 3 is short"),
        (type("PanicException", (BaseException,), {})("index out of bounds"), "PanicException: index out of bounds"),
    ],
)
def test_whatever_a_reader_lets_out_becomes_one_sentence(tmp_path, error, words):
    with pytest.raises(FormatError) as refused, guarded(tmp_path / "a.xml", "LandXML"):
        raise error
    assert words in str(refused.value)


def test_an_interrupt_stays_an_interrupt(tmp_path):
    with pytest.raises(KeyboardInterrupt), guarded(tmp_path / "a.xml", "LandXML"):
        raise KeyboardInterrupt


def test_a_catalogue_under_a_grids_name_is_not_followed(tmp_path):
    grid(tmp_path / "secret.tif")
    catalogue = (
        '<VRTDataset rasterXSize="9" rasterYSize="12"><VRTRasterBand dataType="Float32" band="1"><SimpleSource>'
        f"<SourceFilename>{tmp_path / 'secret.tif'}</SourceFilename><SourceBand>1</SourceBand>"
        "</SimpleSource></VRTRasterBand></VRTDataset>"
    )
    for name in ("a.tif", "a.asc"):
        (tmp_path / name).write_text(catalogue)
        with pytest.raises(FormatError, match="not an elevation grid"):
            read_files([tmp_path / name])


def test_an_entity_that_names_a_file_is_not_followed(tmp_path):
    (tmp_path / "secret.txt").write_text("1 2 3")
    landxml(tmp_path / "a.xml")
    text = (tmp_path / "a.xml").read_text()
    head, rest = text.split("?>", 1)
    entity = f'<!DOCTYPE x [<!ENTITY e SYSTEM "file://{tmp_path / "secret.txt"}">]>'
    (tmp_path / "a.xml").write_text(f"{head}?>{entity}{rest}".replace('name="Ground"', 'name="Ground" desc="&e;"'))
    said = what_comes_out(lambda p: read_files([p]), tmp_path / "a.xml")
    assert said is None or isinstance(said, FormatError)
    assert "1 2 3" not in str(said)


def test_a_large_and_nearly_empty_grid_is_read_in_little_memory_and_a_huge_one_refused(tmp_path):
    where = rasterio.transform.from_origin(1000, 2000, 1, 1)
    how = {"driver": "GTiff", "count": 1, "dtype": "float32", "nodata": -9999, "sparse_ok": True, "transform": where}
    tiles = {"tiled": True, "blockxsize": 256, "blockysize": 256, "compress": "deflate"}
    for size in (8_000, 40_000):
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with rasterio.open(tmp_path / f"{size}.tif", "w", width=size, height=size, **how, **tiles) as out:
                out.write(np.full((1, 4, 4), 41.5, dtype="float32"), window=rasterio.windows.Window(100, 50, 4, 4))
    tracemalloc.start()
    brought = read_files([tmp_path / "8000.tif"])
    most = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    assert "16 points" in brought.words
    assert most < 200e6
    with pytest.raises(FormatError, match="cut it to the site"):
        read_files([tmp_path / "40000.tif"])


@pytest.mark.parametrize("name", ["a.las", "a.laz"])
def test_a_cloud_that_claims_more_points_than_it_holds_is_refused_at_once(tmp_path, name):
    cloud(tmp_path / name)
    data = bytearray((tmp_path / name).read_bytes())
    data[107:111] = (4_000_000_000).to_bytes(4, "little")
    (tmp_path / name).write_bytes(data)
    began = time.monotonic()
    with pytest.raises(FormatError, match="4000000000 points, more than the file holds"):
        read_files([tmp_path / name])
    assert time.monotonic() - began < _LONGEST


@pytest.mark.parametrize("place", [100, 243])
def test_a_cloud_that_claims_records_without_number_is_refused_at_once(tmp_path, place):
    made = laspy.create(point_format=6, file_version="1.4")
    made.x, made.y, made.z = np.arange(5.0), np.arange(5.0) ** 2, np.full(5, 40.0)
    made.write(str(tmp_path / "a.las"))
    data = bytearray((tmp_path / "a.las").read_bytes())
    data[place : place + 4] = (4_000_000_000).to_bytes(4, "little")
    (tmp_path / "a.las").write_bytes(data)
    began = time.monotonic()
    with pytest.raises(FormatError, match="4000000000 records, more than the file holds"):
        read_files([tmp_path / "a.las"])
    assert time.monotonic() - began < _LONGEST


@pytest.mark.parametrize("part", ["site.json", "array"])
def test_a_site_file_that_would_unpack_to_gigabytes_is_refused_at_once(tmp_path, part):
    corners = np.array([[0, 0, 40], [100, 0, 41], [100, 100, 42], [0, 100, 43]], dtype=float)
    ground = Ground(name="Field", surface=Surface(corners, [[0, 1, 2], [0, 2, 3]]))
    save_site(add_ground(t_site(), ground), tmp_path / "a.hloop")
    with zipfile.ZipFile(tmp_path / "a.hloop") as old:
        parts = {name: old.read(name) for name in old.namelist()}
    name = part if part == "site.json" else next(n for n in parts if n.endswith("points.npy"))
    parts[name] += b" " * 300_000_000
    with zipfile.ZipFile(tmp_path / "a.hloop", "w", zipfile.ZIP_DEFLATED) as new:
        for each, data in parts.items():
            new.writestr(each, data)
    assert (tmp_path / "a.hloop").stat().st_size < 1_000_000
    parts.clear()
    tracemalloc.start()
    began = time.monotonic()
    with pytest.raises(FormatError, match="would unpack to 300 MB"):
        load_site(tmp_path / "a.hloop")
    assert time.monotonic() - began < _LONGEST
    assert tracemalloc.get_traced_memory()[1] < 50e6
    tracemalloc.stop()
