"""Saving: whatever the place, whatever happens meanwhile, and at whatever instant the program is killed."""

import errno
import json
import os
import resource
import socket
import stat
import subprocess
import sys
import textwrap
import time

import numpy as np
import pytest

from humble_loop.formats import safe_write
from humble_loop.formats.errors import FormatError
from humble_loop.formats.recovery import Recovery, lost_sessions, recover
from humble_loop.formats.safe_write import backup_of, stamp_of, write_safely
from humble_loop.formats.site_file import ChangedOnDisk, load_site, save_site
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.model import Ground
from humble_loop.site.libraries import new_site
from tests import edits


def names(folder):
    return sorted(p.name for p in folder.iterdir())


# Places


def test_permissions_stay_and_a_new_file_follows_the_umask(tmp_path):
    file, before = tmp_path / "a.hloop", os.umask(0o027)
    try:
        save_site(new_site("first"), file)
        assert stat.S_IMODE(file.stat().st_mode) == 0o640
        file.chmod(0o600)
        save_site(new_site("second"), file)
        assert stat.S_IMODE(file.stat().st_mode) == 0o600
        file.chmod(0o664)
        save_site(new_site("third"), file)
        assert stat.S_IMODE(file.stat().st_mode) == 0o664
    finally:
        os.umask(before)


def test_a_symbolic_link_stays_and_what_it_leads_to_is_written(tmp_path):
    (tmp_path / "real").mkdir()
    file, link = tmp_path / "real" / "a.hloop", tmp_path / "link.hloop"
    link.symlink_to(file)
    save_site(new_site("first"), link)  # it leads nowhere yet
    save_site(new_site("second"), link)
    assert link.is_symlink()
    assert not file.is_symlink()
    assert load_site(file).name == "second"
    assert names(tmp_path / "real") == ["a.hloop", "a.hloop.bak"]
    assert names(tmp_path) == ["link.hloop", "real"]


@pytest.mark.parametrize("what", ["folder", "pipe", "socket", "device", "ring", "no folder", "name too long"])
def test_what_is_no_ordinary_file_is_refused_in_one_sentence(tmp_path, what):
    place = tmp_path / "a.hloop"
    if what == "folder":
        place.mkdir()
    elif what == "pipe":
        os.mkfifo(place)
    elif what == "socket":
        place = tmp_path / "s"
        with socket.socket(socket.AF_UNIX) as opened:
            opened.bind(os.path.relpath(place))
    elif what == "device":
        place.symlink_to("/dev/null")
    elif what == "ring":
        place.symlink_to(tmp_path / "b.hloop")
        (tmp_path / "b.hloop").symlink_to(place)
    elif what == "no folder":
        place = tmp_path / "nowhere" / "a.hloop"
    else:
        place = tmp_path / ("n" * 260)
    before = names(tmp_path)
    with pytest.raises(FormatError, match="it cannot be written") as caught:
        save_site(new_site(), place)
    assert "save it somewhere else" in str(caught.value)
    assert names(tmp_path) == before


def test_a_write_protected_file_is_not_written_over(tmp_path, monkeypatch):
    file = tmp_path / "a.hloop"
    save_site(new_site("first"), file)
    monkeypatch.setattr(os, "access", lambda path, how: how != os.W_OK)  # to root everything is open
    with pytest.raises(FormatError, match="write-protected"):
        save_site(new_site("second"), file)
    assert load_site(file).name == "first"


@pytest.mark.parametrize("name", ["n" * 249 + ".hloop", "ü" * 124 + ".hloop"])
def test_a_name_may_be_as_long_as_names_can_be(tmp_path, name):
    file = tmp_path / name
    save_site(new_site("first"), file)
    save_site(new_site("second"), file)
    assert (load_site(file).name, load_site(backup_of(file)).name) == ("second", "first")
    assert len(names(tmp_path)) == 2


def test_on_a_full_disk_the_old_file_stays_whole_and_nothing_is_left(tmp_path):
    file = tmp_path / "a.hloop"
    save_site(new_site("first"), file)
    code = """
        import resource, sys
        from pathlib import Path
        from humble_loop.demo import demo_site
        from humble_loop.formats.site_file import save_site
        site = demo_site()
        resource.setrlimit(resource.RLIMIT_FSIZE, (20000, 20000))
        try:
            save_site(site, Path(sys.argv[1]))
        except ValueError as error:
            print(error)
    """
    done = subprocess.run(
        [sys.executable, "-c", textwrap.dedent(code), str(file)], capture_output=True, text=True, timeout=60
    )
    assert done.stdout == f"{file}: it cannot be written (File too large); save it somewhere else\n", done.stderr
    assert names(tmp_path) == ["a.hloop"]
    assert load_site(file).name == "first"
    assert resource.getrlimit(resource.RLIMIT_FSIZE)[0] != 20000


def test_saving_works_where_there_are_neither_links_nor_locks(tmp_path, monkeypatch):
    def none(*args, **kwargs):
        raise OSError(errno.ENOSYS, "not here")

    monkeypatch.setattr(os, "link", none)
    monkeypatch.setattr(safe_write.fcntl, "flock", none)
    monkeypatch.setattr(os, "listxattr", none)
    file = tmp_path / "a.hloop"
    save_site(new_site("first"), file)
    save_site(new_site("second"), file)
    assert (load_site(file).name, load_site(tmp_path / "a.hloop.bak").name) == ("second", "first")


# What others do meanwhile


def test_the_backup_is_the_content_before_even_if_the_same_is_saved_again(tmp_path):
    file = tmp_path / "a.hloop"
    for name in ("first", "second", "second", "second"):
        save_site(new_site(name), file)
    assert (load_site(file).name, load_site(tmp_path / "a.hloop.bak").name) == ("second", "first")


def test_a_file_that_something_else_has_written_is_not_written_over(tmp_path):
    file = tmp_path / "a.hloop"
    mine = save_site(new_site("first"), file)
    mine = save_site(new_site("second"), file, mine)
    assert mine == stamp_of(file)
    theirs = save_site(new_site("theirs"), file)
    with pytest.raises(ChangedOnDisk, match="written it since it was opened"):
        save_site(new_site("third"), file, mine)
    assert stamp_of(file) == theirs
    assert (load_site(file).name, load_site(tmp_path / "a.hloop.bak").name) == ("theirs", "second")
    file.unlink()  # one that is gone is written anew
    save_site(new_site("third"), file, mine)
    assert load_site(file).name == "third"


def test_of_many_who_write_one_file_at_once_one_is_first_and_the_others_are_told(tmp_path):
    file = tmp_path / "a.hloop"
    save_site(new_site("before"), file)
    code = """
        import sys
        from pathlib import Path
        from humble_loop.formats.safe_write import stamp_of
        from humble_loop.formats.site_file import ChangedOnDisk, save_site
        from humble_loop.site.libraries import new_site
        file = Path(sys.argv[1])
        since, site = stamp_of(file), new_site(sys.argv[2])
        print("ready", flush=True)
        sys.stdin.readline()
        try:
            save_site(site, file, since)
            print("saved")
        except ChangedOnDisk:
            print("told")
    """
    how = {"stdin": subprocess.PIPE, "stdout": subprocess.PIPE, "text": True}
    writers = [
        subprocess.Popen([sys.executable, "-c", textwrap.dedent(code), str(file), f"w{k}"], **how) for k in range(4)
    ]
    for w in writers:
        assert w.stdout.readline() == "ready\n"
    for w in writers:
        w.stdin.write("\n")
        w.stdin.flush()
    said = [w.communicate(timeout=60)[0].strip() for w in writers]
    assert sorted(said) == ["saved", "told", "told", "told"]
    assert load_site(file).name == f"w{said.index('saved')}"
    assert load_site(tmp_path / "a.hloop.bak").name == "before"
    assert names(tmp_path) == ["a.hloop", "a.hloop.bak"]


def test_strays_of_writers_that_are_gone_are_swept_and_those_in_use_are_not(tmp_path):
    for name in (".humble-loop-dead.new", ".humble-loop-dead.old", ".humble-loop-notes.txt"):
        (tmp_path / name).write_text("x")
    seen = []

    def write(file):
        file.write(b"one")
        write_safely(tmp_path / "other", lambda inner: inner.write(b"two"))
        seen.extend(names(tmp_path))

    write_safely(tmp_path / "this", write)
    assert sum(name.endswith(".new") for name in seen) == 1  # its own, while it was being written
    assert names(tmp_path) == [".humble-loop-notes.txt", "other", "this"]
    assert (tmp_path / "this").read_bytes() == b"one"


# Kills

KILLING = """
import os, signal, sys
from pathlib import Path

def killed_at(n, files, do):
    '''Fork, and kill the child at the n-th line that it runs in files; whether it was killed.'''
    child = os.fork()
    if child == 0:
        left = n
        def trace(frame, event, arg):
            nonlocal left
            if frame.f_code.co_filename.rpartition("/")[2] not in files:
                return None
            if event == "line":
                left -= 1
                if left < 0:
                    os.kill(os.getpid(), signal.SIGKILL)
            return trace
        sys.settrace(trace)
        do()
        os._exit(0)
    return os.WIFSIGNALED(os.waitpid(child, 0)[1])

step = int(sys.argv[2])
folder = Path(sys.argv[1])
"""


def run(code, folder, step):
    done = subprocess.run(
        [sys.executable, "-c", KILLING + textwrap.dedent(code), str(folder), str(step)],
        capture_output=True,
        text=True,
        timeout=3000,
    )
    assert done.returncode == 0, done.stderr
    return int(done.stdout)


STEP = 1 if os.environ.get("HUMBLE_LOOP_SEARCH") else 9


@pytest.mark.timeout(3000)
def test_killed_at_any_line_of_saving_the_file_is_the_old_or_the_new(tmp_path):
    """And there is no stray after the next save. Every line that is run, of our own and of what packs the file."""
    kills = run(
        """
        from humble_loop.formats.site_file import load_site, save_site
        from humble_loop.site.libraries import new_site
        file = folder / "a.hloop"
        sites = [new_site(f"save {k}") for k in range(3)]
        n, kills = 0, 0
        while True:
            for name in os.listdir(folder):
                (folder / name).unlink()
            save_site(sites[0], file)
            save_site(sites[1], file)
            files = {"safe_write.py", "site_file.py", "zipfile.py"}
            killed = killed_at(n, files, lambda: save_site(sites[2], file))
            now, before = load_site(file).name, load_site(folder / "a.hloop.bak").name
            assert (now, before) in {("save 1", "save 0"), ("save 1", "save 1"), ("save 2", "save 1")}, (n, now, before)
            save_site(sites[0], file)
            assert sorted(os.listdir(folder)) == ["a.hloop", "a.hloop.bak"], (n, os.listdir(folder))
            if not killed:
                break
            kills, n = kills + 1, n + step
        print(kills)
        """,
        tmp_path,
        STEP,
    )
    assert kills > 30 if STEP > 1 else kills > 300


@pytest.mark.timeout(3000)
def test_killed_at_any_line_of_a_recovery_copy_the_one_before_or_the_new_is_offered(tmp_path):
    kills = run(
        """
        import numpy as np
        from humble_loop.formats.recovery import Recovery, discard, lost_sessions, recover
        from humble_loop.ground.surface import Surface
        from humble_loop.kinds.ground.model import Ground
        from humble_loop.site.libraries import new_site
        from tests import edits
        surface = [Surface(np.random.default_rng(k).uniform(0, 9, (3, 3)), [[0, 1, 2]]) for k in range(2)]
        sites = [edits.add_ground(new_site(f"copy {k}"), Ground(name="g", surface=surface[k])) for k in range(2)]
        def work():
            copy = Recovery(folder)
            copy.write(sites[0], Path("/job.hloop"))
            (folder / "begun").write_text("x")
            copy.write(sites[1], Path("/job.hloop"))
            (folder / "done").write_text("x")
            copy.clear()
        n, kills = 0, 0
        while True:
            killed = killed_at(n, {"safe_write.py", "recovery.py"}, work)
            begun, done = (folder / "begun").exists(), (folder / "done").exists()
            lost = lost_sessions(folder)
            assert len(lost) == 1 or not begun or done, n
            for one in lost:
                site = recover(one)
                k = ["copy 0", "copy 1"].index(site.name)
                assert k == 1 or not done, n
                assert np.array_equal(site.all(Ground)[0].surface.points, surface[k].points), n
                discard(one)
            for name in ("begun", "done"):
                (folder / name).unlink(missing_ok=True)
            left = [f for f in folder.iterdir()]
            assert all(not (f / "site.json").exists() for f in left), n
            for f in left:  # a session that had written nothing: swept away after a minute
                os.utime(f, (1, 1))
            assert lost_sessions(folder) == [] and not list(folder.iterdir()), n
            if not killed:
                break
            kills, n = kills + 1, n + step
        print(kills)
        """,
        tmp_path,
        STEP,
    )
    assert kills > 30 if STEP > 1 else kills > 300


# Recovery copies


def site_with(k):
    surface = Surface(np.random.default_rng(k).uniform(0, 9, (3, 3)), [[0, 1, 2]])
    return edits.add_ground(new_site(f"site {k}"), Ground(name="g", surface=surface))


def test_a_lost_session_is_offered_even_if_another_process_has_its_number_now(tmp_path):
    folder = Recovery(tmp_path).folder
    lost = tmp_path / f"{os.getpid()}-0"
    code = "import sys, pathlib; from humble_loop.formats.recovery import Recovery; r = Recovery(pathlib.Path(sys.argv[1]));"
    code += "r.folder = pathlib.Path(sys.argv[2]); from tests.formats.test_saving import site_with; r.write(site_with(1), None)"
    subprocess.run([sys.executable, "-c", code, str(tmp_path), str(lost)], check=True, timeout=60)
    assert [(f.folder, f.name) for f in lost_sessions(tmp_path)] == [(lost, "site 1")]
    assert not folder.exists()


def test_a_copy_whose_facts_are_damaged_is_still_offered(tmp_path):
    copy = Recovery(tmp_path)
    copy.write(site_with(2), None)
    os.close(copy._running)  # as when its process has gone
    (copy.folder / "session.json").write_text("{")
    (lost,) = lost_sessions(tmp_path)
    assert (lost.name, recover(lost).name) == ("A site", "site 2")
    assert abs(lost.when - time.time()) < 60


def test_a_copy_whose_folder_was_removed_is_written_whole_again(tmp_path):
    copy = Recovery(tmp_path)
    copy.write(site_with(3), None)
    for file in sorted(copy.folder.rglob("*"), reverse=True):
        file.rmdir() if file.is_dir() else file.unlink()
    copy.folder.rmdir()
    held = len(os.listdir("/proc/self/fd"))
    copy.write(site_with(3), None)
    assert len(os.listdir("/proc/self/fd")) == held
    assert lost_sessions(tmp_path) == []
    os.close(copy._running)
    (lost,) = lost_sessions(tmp_path)
    assert len(recover(lost).all(Ground)[0].surface.points) == 3
    assert json.loads((copy.folder / "session.json").read_text())["name"] == "site 3"
