"""The site file: round trips, damage of every kind, and kills at any instant."""

import json
import os
import random
import signal
import subprocess
import sys
import time
import zipfile
from pathlib import Path

import numpy as np
import pytest

from humble_loop.formats.errors import FormatError
from humble_loop.formats.recovery import Recovery, discard, lost_sessions, recover
from humble_loop.formats.site_file import VERSION, load_site, save_site, schema, site_json
from humble_loop.site import edits
from humble_loop.site.libraries import new_site
from humble_loop.site.model import Site
from humble_loop.solve.engine import Engine
from humble_loop.solve.tables import table
from tests.conftest import t_site

FILES = Path(__file__).parent.parent / "files"


def test_a_site_comes_back_as_it_was(tmp_path, brickworks):
    file = tmp_path / "a.hloop"
    save_site(brickworks, file)
    back = load_site(file)
    assert site_json(back) == site_json(brickworks)
    for a, b in zip(back.grounds, brickworks.grounds, strict=True):
        assert np.array_equal(a.surface.points, b.surface.points)
        assert np.array_equal(a.surface.triangles, b.surface.triangles)
    assert table(Engine(back), "lots").rows == table(Engine(brickworks), "lots").rows


def test_the_previous_file_stays_as_a_backup(tmp_path):
    file = tmp_path / "a.hloop"
    save_site(new_site("first"), file)
    save_site(new_site("second"), file)
    assert load_site(file).name == "second"
    assert load_site(tmp_path / "a.hloop.bak").name == "first"
    assert sorted(p.name for p in tmp_path.iterdir()) == ["a.hloop", "a.hloop.bak"]


def test_a_bare_site_json_can_be_read_and_libraries_are_filled_in(tmp_path):
    file = tmp_path / "site.json"
    bends = [{"easting": 0, "northing": 0}, {"easting": 50, "northing": 0}]
    file.write_text(
        json.dumps(
            {"format": "humble-loop-site", "version": 1, "site": {"streets": [{"name": "High Street", "bends": bends}]}}
        )
    )
    site = load_site(file)
    assert site.streets[0].id == "high-street"
    assert {s.id for s in site.sections} >= {"local-street"}


def test_one_file_of_each_version_opens():
    for version in range(1, VERSION + 1):
        site = load_site(FILES / f"version-{version}.hloop")
        assert site.name == "T"
        assert len(site.streets) == 2


def test_the_schema_describes_what_is_written(tmp_path, brickworks):
    described = schema()
    assert described["required"] == ["format", "version", "site"]
    written = json.loads(site_json(brickworks))["site"]
    assert set(written) == set(described["properties"]["site"]["properties"])
    ground = described["$defs"]["Ground"]["properties"]
    assert set(written["grounds"][0]) == set(ground)


def spoilt(tmp_path, how):
    file = tmp_path / "a.hloop"
    save_site(t_site(), file)
    data = file.read_bytes()
    document = json.loads(site_json(t_site()))
    if how == "empty":
        file.write_bytes(b"")
    elif how == "truncated":
        file.write_bytes(data[: len(data) // 2])
    elif how == "binary":
        file.write_bytes(bytes(random.Random(1).randrange(256) for _ in range(4000)))
    elif how == "foreign zip":
        with zipfile.ZipFile(file, "w") as z:
            z.writestr("hello.txt", "hello")
    elif how == "foreign json":
        file.write_text('{"type": "FeatureCollection"}')
    elif how == "newer":
        file.write_text(json.dumps({**document, "version": VERSION + 1}))
    elif how == "no version":
        file.write_text(json.dumps({**document, "version": "x"}))
    elif how == "damaged json":
        file.write_text(json.dumps(document)[:-40])
    elif how == "nan":
        document["site"]["streets"][0]["bends"][0]["easting"] = float("nan")
        file.write_text(json.dumps(document))
    elif how == "huge":
        document["site"]["streets"][0]["bends"][0]["easting"] = 1e300
        file.write_text(json.dumps(document))
    elif how == "zero width":
        document["site"]["sections"][0]["left"]["parts"][0]["width"] = 0
        file.write_text(json.dumps(document))
    elif how == "unknown field":
        document["site"]["streets"][0]["colour"] = "red"
        file.write_text(json.dumps(document))
    elif how == "two of one id":
        document["site"]["streets"][1]["id"] = document["site"]["streets"][0]["id"]
        file.write_text(json.dumps(document))
    elif how == "vips backwards":
        document["site"]["streets"][0]["vips"].reverse()
        file.write_text(json.dumps(document))
    elif how == "surface missing":
        document["site"]["grounds"] = [{"id": "g", "name": "g"}]
        file.write_text(json.dumps(document))
    elif how == "a folder":
        file.unlink()
        file.mkdir()
    elif how == "not there":
        file.unlink()
    return file


HOW = [
    "empty",
    "truncated",
    "binary",
    "foreign zip",
    "foreign json",
    "newer",
    "no version",
    "damaged json",
    "nan",
    "huge",
    "zero width",
    "unknown field",
    "two of one id",
    "vips backwards",
    "surface missing",
    "a folder",
    "not there",
]


@pytest.mark.parametrize("how", HOW)
def test_a_spoilt_file_gets_one_sentence(tmp_path, how):
    file = spoilt(tmp_path, how)
    with pytest.raises(FormatError) as caught:
        load_site(file)
    words = str(caught.value)
    assert words.startswith(str(file))
    assert "\n" not in words
    assert len(words) < 400
    assert "Traceback" not in words


def test_every_truncation_of_a_file_is_refused_in_one_sentence(tmp_path):
    file = tmp_path / "a.hloop"
    save_site(t_site(), file)
    data = file.read_bytes()
    for n in range(0, len(data) - 1, max(1, len(data) // 60)):
        file.write_bytes(data[:n])
        with pytest.raises(FormatError):
            load_site(file)


def test_a_save_that_the_disk_refuses_leaves_the_old_file(tmp_path):
    if os.geteuid() == 0:
        target = tmp_path / "nowhere" / "a.hloop"
    else:
        tmp_path.chmod(0o500)
        target = tmp_path / "a.hloop"
    with pytest.raises(FormatError, match="cannot be written"):
        save_site(new_site(), target)


def test_a_hundred_kills_while_saving_never_cost_the_file(tmp_path, brickworks):
    """The program is killed at random moments of saving; the file always opens, whole."""
    file = tmp_path / "a.hloop"
    save_site(brickworks, file)
    rng, kills = random.Random(5), 0
    while kills < 100:
        # One process is killed many times over: a fork per kill keeps the start-up out of the count.
        saver = subprocess.Popen(
            [sys.executable, "-c", FORKING, str(file), "20", str(rng.randrange(10**6))],
            stdout=subprocess.PIPE,
            text=True,
        )
        out, _ = saver.communicate(timeout=100)
        assert saver.returncode == 0
        kills += int(out.split()[-1])
    site = load_site(file)
    assert len(site.streets) == len(brickworks.streets)
    assert kills >= 100


FORKING = """
import os, random, signal, sys, time
from pathlib import Path
from humble_loop.formats.site_file import load_site, save_site
file, times, rng = Path(sys.argv[1]), int(sys.argv[2]), random.Random(int(sys.argv[3]))
site = load_site(file)
start = time.perf_counter(); save_site(site, file); whole = time.perf_counter() - start
killed = 0
for i in range(times):
    child = os.fork()
    if child == 0:
        n = 0
        while True:
            n += 1
            save_site(site.model_copy(update={"name": f"save {i}.{n}"}), file)
    time.sleep(rng.uniform(0.2, 2.2) * whole)
    os.kill(child, signal.SIGKILL)
    _, status = os.waitpid(child, 0)
    assert os.WIFSIGNALED(status), status
    loaded = load_site(file)
    assert len(loaded.streets) == len(site.streets)
    killed += 1
print(killed)
"""


def test_recovery_follows_a_session_that_was_killed(tmp_path, brickworks):
    """A process writes its recovery copy and is killed; the next one finds the copy, and not its own."""
    code = """
import sys, time
from pathlib import Path
from humble_loop.demo import demo_site
from humble_loop.formats.recovery import Recovery
from humble_loop.site import edits
site = edits.set_pad(demo_site(), "Kiln Court L1", 43.21)
Recovery(Path(sys.argv[1])).write(site, Path("/somewhere/job.hloop"))
print("written", flush=True)
time.sleep(60)
"""
    worker = subprocess.Popen([sys.executable, "-c", code, str(tmp_path)], stdout=subprocess.PIPE, text=True)
    assert worker.stdout.readline().strip() == "written"
    assert lost_sessions(tmp_path) == []  # it is still running
    worker.send_signal(signal.SIGKILL)
    worker.communicate()
    own = Recovery(tmp_path)
    own.write(brickworks, None)
    lost = lost_sessions(tmp_path)
    assert [item.original for item in lost] == [Path("/somewhere/job.hloop")]
    site = recover(lost[0])
    assert ("Kiln Court L1", 43.21) in [(p.lot, p.level) for p in site.pads]
    assert len(site.grounds[-1].surface.points) == len(brickworks.grounds[-1].surface.points)
    discard(lost[0])
    own.clear()
    assert list(tmp_path.iterdir()) == []


def test_a_damaged_recovery_copy_is_passed_over_or_refused(tmp_path):
    folder = tmp_path / "1-dead"
    folder.mkdir()
    (folder / "session.json").write_text("{")
    assert lost_sessions(tmp_path) == []
    (folder / "session.json").write_text(
        json.dumps({"pid": 2**22 + 11, "original": None, "name": "x", "when": time.time()})
    )
    (folder / "site.json").write_text("{}")
    with pytest.raises(FormatError):
        recover(lost_sessions(tmp_path)[0])


def test_surfaces_are_written_once_a_session(tmp_path, brickworks):
    session = Recovery(tmp_path)
    session.write(brickworks, None)
    array = next(session.folder.glob("surfaces/*.points.npy"))
    before = array.stat().st_mtime_ns
    session.write(edits.set_pad(brickworks, "Kiln Court L1", 41.0), None)
    assert array.stat().st_mtime_ns == before


def test_a_site_refuses_what_makes_no_sense():
    with pytest.raises(ValueError, match="start"):
        Site.model_validate({"junctions": [{"side": "a", "end": "middle"}]})
