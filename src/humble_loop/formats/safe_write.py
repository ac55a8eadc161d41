"""Writing a file so that, whatever happens at whatever instant, its name holds either the old content or the new, whole.

The new content is written beside the old under a name of its own, flushed to disk, and renamed over it. Whoever writes
holds a lock on that name: one that nobody holds is a stray of a writer that was killed, and the next one removes it.
"""

from __future__ import annotations

import errno
import fcntl
import filecmp
import os
import secrets
import shutil
import stat
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO, NamedTuple

_MARK, _NEW, _OLD = ".humble-loop-", ".new", ".old"
_LONGEST = 255  # bytes of a file's name
_under_way: dict[Path, int] = {}  # names that are being written, and by which process
_PATIENCE = 2.0  # seconds to wait for another writer, who holds the file for milliseconds


class Stamp(NamedTuple):
    """By what a file on disk is known to be the one that it was."""

    device: int
    inode: int
    size: int
    modified: int


class WrittenMeanwhile(OSError):
    """Something else has written the file since it was read."""


def stamp_of(path: Path) -> Stamp | None:
    """The stamp of a file; None where there is none."""
    try:
        return _stamp(os.stat(path))
    except OSError:
        return None


def write_safely(
    path: Path, write: Callable[[IO[bytes]], None], *, backup: bool = False, since: Stamp | None = None
) -> Stamp:
    """Write beside ``path``, flush to disk, then rename over it; returns the stamp of what is there now.

    A symbolic link stays, and what it leads to is written; permissions stay as they are. With ``backup`` the old
    content stays beside it (see ``backup_of``), unless it is the same as the new. Raises OSError when the disk refuses
    or the path is no ordinary file, and WrittenMeanwhile when what is there is not what had the stamp ``since``: then
    all is left as it was.
    """
    path, old = _target(path)
    handle, name = _begin(path.parent, old)
    second = name.with_suffix(_OLD)
    _under_way[name] = os.getpid()
    try:
        with os.fdopen(handle, "wb") as file:
            _take_after(file.fileno(), path, old)
            write(file)
            file.flush()
            os.fsync(file.fileno())
            size = os.fstat(file.fileno()).st_size
            with _alone_with(path):
                there = stamp_of(path)
                if since is not None and there is not None and there != since:
                    raise WrittenMeanwhile(errno.EEXIST, "something else has written it since it was opened here")
                if there is not None and there.size == size and filecmp.cmp(name, path, shallow=False):
                    name.unlink()
                    return there
                if backup and there is not None:
                    _keep_old(path, second)
                os.replace(name, path)
                made = _stamp(os.fstat(file.fileno()))
        with suppress(OSError):  # not every file system can; the new file is there
            _flush_folder(path.parent)
    except BaseException:
        for leftover in (name, second):
            leftover.unlink(missing_ok=True)
        raise
    finally:
        _under_way.pop(name, None)
    _sweep(path.parent)
    return made


def abandon() -> None:
    """Remove what this process has begun to write, for one that is about to end."""
    for name, process in list(_under_way.items()):
        if process == os.getpid():  # and not a copy of the one that writes
            for leftover in (name, name.with_suffix(_OLD)):
                leftover.unlink(missing_ok=True)


def write_whole(path: Path, pieces: Iterable[bytes]) -> None:
    """Write ``pieces`` one after the other as a file, safely. Raises OSError."""
    write_safely(path, lambda file: file.writelines(pieces))


def backup_of(path: Path) -> Path:
    """Where the content before the last change stays."""
    name = path.name
    while len(os.fsencode(name)) > _LONGEST - 4:
        name = name[:-1]
    return path.with_name(f"{name}.bak")


def _stamp(of: os.stat_result) -> Stamp:
    return Stamp(of.st_dev, of.st_ino, of.st_size, of.st_mtime_ns)


def _target(path: Path) -> tuple[Path, os.stat_result | None]:
    """The file that is meant, and what is known of it if it is there."""
    try:
        old = os.stat(path)
    except FileNotFoundError:
        return Path(os.path.realpath(path)), None
    except ValueError:
        raise OSError(errno.EINVAL, "its name is none that a file can have") from None
    if stat.S_ISDIR(old.st_mode):
        raise IsADirectoryError(errno.EISDIR, "it is a folder")
    if not stat.S_ISREG(old.st_mode):
        raise OSError(errno.EINVAL, "it is a device or a pipe, not a file")
    if not os.access(path, os.W_OK):
        raise PermissionError(errno.EACCES, "it is write-protected")
    return Path(os.path.realpath(path)), old


def _begin(folder: Path, old: os.stat_result | None) -> tuple[int, Path]:
    """A file of our own, locked as long as it is open. Nobody else can read it before it has the old one's permissions."""
    while True:
        name = folder / f"{_MARK}{secrets.token_hex(6)}{_NEW}"
        handle = os.open(name, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_CLOEXEC, 0o600 if old else 0o666)
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:  # somebody takes it for a stray
            os.close(handle)
            continue
        except OSError:
            pass  # a file system without locks
        if name.exists():  # else it was swept away before it was locked
            return handle, name
        os.close(handle)


def _take_after(handle: int, path: Path, old: os.stat_result | None) -> None:
    """Give a new file the owner, permissions and attributes of the old one, as far as that is allowed."""
    if old is None:
        return
    new = os.fstat(handle)
    if (new.st_uid, new.st_gid) != (old.st_uid, old.st_gid):
        with suppress(OSError):
            os.fchown(handle, old.st_uid, old.st_gid)
    os.fchmod(handle, stat.S_IMODE(old.st_mode))
    with suppress(OSError):
        for attribute in os.listxattr(path):
            os.setxattr(handle, attribute, os.getxattr(path, attribute))


@contextmanager
def _alone_with(path: Path) -> Iterator[None]:
    """Hold the file that is there, so that of two who write it only one at a time looks at it and replaces it."""
    try:
        handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        yield
        return
    try:
        until = time.monotonic() + _PATIENCE
        while time.monotonic() < until:
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except BlockingIOError:
                time.sleep(0.01)
            except OSError:
                break  # a file system without locks
        yield
    finally:
        os.close(handle)


def _keep_old(path: Path, second: Path) -> None:
    """A second name for the old file, so that there is never a moment without one; a copy where there are no links."""
    try:
        os.link(path, second)
    except OSError:
        shutil.copyfile(path, second)
        with suppress(OSError):
            shutil.copystat(path, second)
    os.replace(second, backup_of(path))


def _flush_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY | os.O_CLOEXEC)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def _sweep(folder: Path) -> None:
    """Remove what writers that were killed have left in a folder."""
    with suppress(OSError), os.scandir(folder) as entries:
        for entry in [e for e in entries if e.name.startswith(_MARK)]:
            stray = Path(entry.path)
            if stray.suffix in (_NEW, _OLD) and is_held(stray.with_suffix(_NEW)) is False:
                stray.unlink(missing_ok=True)


def is_held(path: Path) -> bool | None:
    """Whether a process that is running holds a lock on a file; None where that cannot be told."""
    try:
        handle = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
    except FileNotFoundError:
        return False
    except OSError:
        return None
    try:
        fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        return True
    except OSError:
        return None
    finally:
        os.close(handle)
    return False
