"""Commands as the system runs them: closed outputs, full disks, other letters, interruptions, absurd options."""

import json
import os
import signal
import subprocess
import sys
import time

import pytest

from humble_loop import cli
from humble_loop.formats.site_file import save_site
from tests import edits
from tests.conftest import t_site

COMMAND = [sys.executable, "-m", "humble_loop"]


@pytest.fixture(scope="module")
def file(tmp_path_factory):
    file = tmp_path_factory.mktemp("sites") / "t.hloop"
    save_site(t_site(), file)
    return file


@pytest.fixture(scope="module")
def umlaut(tmp_path_factory):
    """A site with letters that not every terminal has."""
    file = tmp_path_factory.mktemp("sites") / "u.hloop"
    save_site(edits.rename_street(t_site(), "through", "Weiße Straße 東"), file)
    return file


def said(arguments, **how):
    env = {**os.environ, **how.pop("env", {})}
    return subprocess.run([*COMMAND, *map(str, arguments)], capture_output=True, timeout=60, env=env, **how)


def in_shell(words):
    done = subprocess.run(["bash", "-o", "pipefail", "-c", words], capture_output=True, text=True, timeout=60)
    return done.returncode, done.stdout, done.stderr


@pytest.mark.parametrize("closing", [">&-", "<&- >&-", ">&- 2>&-", "<&- >&- 2>&-"])
def test_where_outputs_are_closed_it_ends_plainly(file, closing):
    before = file.read_bytes()
    assert in_shell(f"{' '.join(COMMAND)} report {file} --table sections {closing}") == (0, "", "")
    assert file.read_bytes() == before


def test_what_a_file_opens_never_gets_the_number_of_a_closed_output(file, tmp_path):
    target = tmp_path / "o.csv"
    assert in_shell(f"{' '.join(COMMAND)} export {file} --to {target} <&- >&- 2>&-")[0] == 0
    assert target.read_text().startswith("number,easting")


@pytest.mark.parametrize("table", ["junctions", "sections"])  # less than a buffer, and more
def test_a_full_disk_under_the_output_is_one_line(file, table):
    code, out, err = in_shell(f"{' '.join(COMMAND)} report {file} --table {table} > /dev/full")
    assert (code, out) == (2, "")
    assert err == "humble-loop: the output cannot be written (No space left on device)\n"


@pytest.mark.parametrize("encoding", ["ascii", "cp1252"])
def test_names_are_printed_whatever_letters_the_terminal_has(umlaut, encoding):
    env = {"PYTHONIOENCODING": encoding}
    done = said(["report", umlaut, "--table", "centreline", "--of", "Weiße Straße 東", "--every", "50"], env=env)
    assert (done.returncode, done.stderr) == (0, b"")
    done = said(["report", umlaut, "--table", "junctions", "--format", "json"], env=env)
    assert done.returncode == 0
    assert json.loads(done.stdout.decode(encoding))[0]["through"] == "Weiße Straße 東"
    done = said(["report", umlaut, "--table", "levels", "--of", "無"], env=env)
    assert done.returncode == 2
    assert done.stderr.count(b"\n") == 1
    assert b"Traceback" not in done.stderr


def test_file_names_that_are_no_text_are_told(tmp_path):
    done = subprocess.run(
        [*map(os.fsencode, COMMAND), b"check", os.fsencode(tmp_path) + b"/\xff\xfe.hloop"],
        capture_output=True,
        timeout=60,
    )
    assert done.returncode == 2
    assert done.stderr.count(b"\n") == 1
    assert b"there is no such file" in done.stderr


def test_what_files_hold_and_are_called_never_writes_into_the_terminal(capsys, tmp_path):
    points = tmp_path / "\x1b[2Jpoints.csv"
    points.write_text("1,0,0,1,A\x1b[31m\n2,9,0,1,A\n3,0,9,1,A\n4,0,9,6,\x1b]0;title\x07\n5,4,4,900,A\n6,5,5,1,A\n")
    target = tmp_path / "\x1b[1mnew.hloop"
    assert cli.run(["new", str(target), "--from", str(points)]) == 0
    out, err = capsys.readouterr()
    assert "surface" in out
    assert "note: " in err
    for shown in (out, err):
        assert "\x1b" not in shown
        assert "\x07" not in shown


ABSURD = [
    ("report", "{t}", "--table", "levels", "--of", "Side", "--every", "1e-300"),
    ("report", "{t}", "--table", "levels", "--of", "Side", "--every", "1e-7"),
    ("report", "{t}", "--table", "levels", "--of", "Side", "--every", "nan"),
    ("report", "{t}", "--table", "levels", "--of", "Side", "--every", "inf"),
    ("report", "{t}", "--table", "centreline", "--of", "Side", "--every", "1e-300"),
    ("report", "{t}", "--table", "sections", "--every", "1e-12"),
    ("report", "{t}", "--table", "returns", "--every", "1e-12"),
    ("report", "{t}", "--table", "heads", "--every", "0"),
    ("report", "{t}", "--table", "levels", "--of", "x" * 100_000),
    ("report", "{t}", "--table", "\x1b[31mred\x1b[0m\n"),
    ("probe", "{t}", "--at", "nan,nan"),
    ("probe", "{t}", "--at", "inf,0"),
    ("probe", "{t}", "--at", "1e400,0"),
    ("probe", "{t}", "--at", ","),
    ("export", "{t}", "--to", "{folder}"),
    ("export", "{t}", "--to", "/dev/full"),
    ("export", "{t}", "--to", "{folder}/pipe.csv"),
    ("export", "{t}", "--to", "{folder}/" + "x" * 300 + ".csv"),
    ("export", "{t}", "--to", "\x00.csv"),
    ("report", "{folder}/pipe.hloop", "--table", "levels"),
    ("report", "/dev/zero", "--table", "levels"),
    ("new", "{folder}/n.hloop", "--from", "{csv}", "--longest-edge", "-1"),
    ("new", "{folder}/n.hloop", "--from", "{csv}", "--longest-edge", "nan"),
    ("new", "{folder}/n.hloop", "--from", "{csv}", "--columns", ",,,,,"),
    ("new", "{folder}/n.hloop", "--from", "{csv}", "--columns", "easting,easting,level"),
    ("new", "{folder}/n.hloop", "--from", "{csv}", "--columns", "easting,northing,height above sea"),
    ("new", "{folder}/n.hloop", "--from", "/dev/zero"),
    ("new", "{folder}/n.hloop", "--from", "{folder}"),
    ("new", "/dev/null", "--from", "{csv}"),
]


@pytest.mark.parametrize("arguments", ABSURD, ids=lambda a: " ".join(a)[:50].encode("unicode_escape").decode())
@pytest.mark.timeout(20)
def test_absurd_options_are_one_line_soon(capsys, file, tmp_path, arguments):
    os.mkfifo(tmp_path / "pipe.csv")
    os.mkfifo(tmp_path / "pipe.hloop")
    csv = tmp_path / "p.csv"
    csv.write_text("1,0,0,1,A\n2,9,0,1,A\n3,0,9,1,A\n")
    before = sorted(p.name for p in tmp_path.iterdir())
    code = cli.run([a.format(t=file, folder=tmp_path, csv=csv) for a in arguments])
    out, err = capsys.readouterr()
    assert code == 2, (code, out[:200], err[:400])
    assert out == ""
    assert err.startswith("humble-loop: ")
    assert err.count("\n") == 1
    assert len(err) < 1000
    assert "\x1b" not in err
    assert sorted(p.name for p in tmp_path.iterdir()) == before


@pytest.mark.parametrize(
    ("number", "times"),
    [(signal.SIGINT, (0.05, 0.3, 0.7, 1.0, 1.2, 1.4)), (signal.SIGTERM, (0.7, 1.2)), (signal.SIGHUP, (1.2,))],
)
def test_interrupted_at_any_time_it_ends_by_that_signal_without_words(file, tmp_path, number, times):
    target = tmp_path / "o.xml"
    for after in times:
        process = subprocess.Popen(
            [*COMMAND, "export", str(file), "--to", str(target)], stdout=subprocess.PIPE, stderr=subprocess.PIPE
        )
        time.sleep(after)
        process.send_signal(number)
        out, err = process.communicate(timeout=30)
        if out:  # it was done already
            assert (out.decode(), err) == (f"{target}: written\n", b"")
            assert target.read_text().rstrip().endswith("</LandXML>")
            target.unlink()
        elif after > 0.1:  # before that Python itself has not begun
            assert (process.returncode, out, err) == (-number, b"", b"")
        assert list(tmp_path.iterdir()) == []


def test_a_fault_of_ours_is_one_line_and_a_log_without_anything_private(file, tmp_path):
    code = """
import sys
from humble_loop import cli
def broken(q, *rest):
    raise AttributeError("'Kiln Court' has no 'level' at 312408.5 in /home/anna/job")
cli.table = broken
sys.exit(cli.run(["report", sys.argv[1], "--table", "levels"]))
"""
    env = {**os.environ, "XDG_STATE_HOME": str(tmp_path)}
    done = subprocess.run([sys.executable, "-c", code, str(file)], capture_output=True, text=True, timeout=60, env=env)
    log = tmp_path / "humble-loop" / "faults.log"
    assert done.returncode == 3
    assert done.stderr == (
        f"humble-loop: a fault of ours stopped this (AttributeError); where it was is told in {log}\n"
    )
    text = log.read_text()
    assert "humble_loop/cli.py:" in text
    assert "AttributeError: … has no … at #.# in …" in text
    for private in ("Kiln", "312408", "anna", str(file.parent), sys.prefix):
        assert private not in text
