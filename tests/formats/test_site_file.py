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

from humble_loop.engine.query import Engine
from humble_loop.formats.errors import FormatError
from humble_loop.formats.recovery import Lost, Recovery, discard, lost_sessions, recover
from humble_loop.formats.site_file import VERSION, load_site, save_site, schema, site_json
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground import Ground
from humble_loop.kinds.junction import JunctionChoice
from humble_loop.kinds.lot import PadChoice
from humble_loop.kinds.street import Street
from humble_loop.kinds.turning_head import TurningHead
from humble_loop.site.libraries import new_site
from humble_loop.site.library import TypicalSection
from humble_loop.whole.tables import table
from tests import edits
from tests.conftest import SEARCHING, t_site

FILES = Path(__file__).parent.parent / "files"


def test_a_site_comes_back_as_it_was(tmp_path, brickworks):
    file = tmp_path / "a.hloop"
    save_site(brickworks, file)
    back = load_site(file)
    assert site_json(back) == site_json(brickworks)
    for a, b in zip(back.all(Ground), brickworks.all(Ground), strict=True):
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
    assert site.all(Street)[0].id == "high-street"
    assert {s.id for s in site.all(TypicalSection)} >= {"local-street"}


def test_one_file_of_each_version_opens():
    for version in range(1, VERSION + 1):
        site = load_site(FILES / f"version-{version}.hloop")
        assert site.name == "T"
        assert len(site.all(Street)) == 2


def test_the_schema_describes_what_is_written(tmp_path, brickworks):
    described = schema()
    assert described["required"] == ["format", "version", "site"]
    written = json.loads(site_json(brickworks))["site"]
    assert set(written) <= set(described["properties"]["site"]["properties"])
    assert {"streets", "turning_heads", "lot_rows", "pads", "grounds"} <= set(written)
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


@pytest.mark.timeout(3000)
def test_kills_at_random_moments_of_saving_never_cost_the_file(tmp_path, brickworks):
    """Also in the middle of a system call; the file always opens, whole. At every line: see ``test_saving``."""
    wanted = 1000 if SEARCHING else 40
    file = tmp_path / "a.hloop"
    save_site(brickworks, file)
    rng, kills = random.Random(5), 0
    while kills < wanted:
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
    assert len(site.all(Street)) == len(brickworks.all(Street))
    assert kills >= wanted


FORKING = """
import os, random, signal, sys, time
from pathlib import Path
from humble_loop.formats.site_file import load_site, save_site
from humble_loop.kinds.street import Street
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
    assert len(loaded.all(Street)) == len(site.all(Street))
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
from tests import edits
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
    assert [(p.row, p.number, p.level) for p in site.all(PadChoice)][-1] == ("kiln-court-left", 1, 43.21)
    assert len(site.all(Ground)[-1].surface.points) == len(brickworks.all(Ground)[-1].surface.points)
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


def test_recovery_never_takes_one_surface_for_another(tmp_path):
    """Surfaces that come and go, so that a freed one's place in memory is taken again: the copy has the present one."""
    session, rng = Recovery(tmp_path), np.random.default_rng(1)
    for k in range(60):
        corners = rng.uniform(0, 100, (3, 3))
        surface = Surface(corners, [[0, 1, 2]])
        session.write(edits.add_ground(new_site(f"s{k}"), Ground(name="g", surface=surface)), None)
        folder = Lost(session.folder, None, "x", 0.0)
        assert np.array_equal(recover(folder).all(Ground)[0].surface.points, surface.points)
        del surface


def test_version_one_heads_and_pads_come_over(tmp_path):
    """Heads stood in their streets then, and pads were set by the lot's name."""
    bends = [{"easting": 0, "northing": 0}, {"easting": 150, "northing": 0}]
    old = {
        "streets": [{"name": "Kiln Court", "bends": bends, "head": {"radius": 9.0, "divisions": 8}}],
        "lot_rows": [
            {"name": "Kiln Court right", "street": "kiln-court", "place": "right", "end": 60},
            {"name": "Kiln Court right 2", "street": "kiln-court", "place": "right", "start": 60, "first_number": 11},
        ],
        "pads": [{"lot": "Kiln Court R2", "level": 4.5}, {"lot": "Kiln Court R12", "level": 5.5}],
    }
    file = tmp_path / "old.json"
    file.write_text(json.dumps({"format": "humble-loop-site", "version": 1, "site": old}))
    site = load_site(file)
    head = site.all(TurningHead)[0]
    assert (head.street, head.end, head.radius, head.divisions) == ("kiln-court", "end", 9.0, 8)
    assert [(p.row, p.number) for p in site.all(PadChoice)] == [("kiln-court-right", 2), ("kiln-court-right-2", 12)]


def test_a_site_refuses_what_makes_no_sense():
    with pytest.raises(ValueError, match="start"):
        JunctionChoice(side="a", end="middle")


def test_a_site_file_names_its_unit_and_another_one_is_refused(tmp_path, court):
    document = json.loads(site_json(court))
    assert document["unit"] == "m"
    (tmp_path / "site.json").write_text(json.dumps({**document, "unit": "ft"}))
    with pytest.raises(FormatError, match="its unit is 'ft', and site files are in metres"):
        load_site(tmp_path / "site.json")
