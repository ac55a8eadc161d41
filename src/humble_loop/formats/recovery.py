"""Recovery copies: each change is on disk within seconds, and a start after a crash offers it.

A running session keeps a folder with ``site.json``, its surfaces (written once each) and ``session.json``, and holds a
lock on its ``running`` file; a session that ends properly removes the folder. One whose lock nobody holds belongs to a
session that did not. (A number of a process would not do: it may be another one's by now.)
"""

from __future__ import annotations

import fcntl
import json
import os
import shutil
import time
import uuid
from contextlib import suppress
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import IO

import numpy as np

from humble_loop.formats.errors import FormatError
from humble_loop.formats.safe_write import Stamp, is_held, write_safely
from humble_loop.formats.site_file import site_from_json, site_json
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.model import Ground
from humble_loop.site.model import Site

_RUNNING = "running"
_BEGINNING = 60.0  # seconds in which a session that is just beginning has written its first copy


@dataclass(frozen=True)
class Lost:
    """A session that did not end properly: its folder, the file it was working on with the stamp that this had then, and
    when it last wrote.
    """

    folder: Path
    original: Path | None
    name: str
    when: float
    stamp: Stamp | None = None


class Recovery:
    """Writes one session's recovery copy into ``root``."""

    def __init__(self, root: Path) -> None:
        self.folder = root / f"{os.getpid()}-{uuid.uuid4().hex[:8]}"
        # Surfaces that are on disk, with the name of their arrays; held, so that none can be taken for another.
        self._written: list[tuple[Surface, str]] = []
        self._running: int | None = None  # open, and with it the lock, as long as the process lives

    def write(self, site: Site, original: Path | None, stamp: Stamp | None = None) -> None:
        """Put the site as it is now on disk. Raises OSError when the disk refuses.

        Arrays have names of their own, never used again, and ``site.json`` says which it means: at every instant it
        and the arrays that it names belong together.
        """
        self._take_place()
        names = {ground.id: self._surface(ground.surface) for ground in site.all(Ground)}
        facts = {
            "original": str(original) if original else None,
            "name": site.name,
            "when": time.time(),
            "stamp": stamp,
        }
        self._put("session.json", json.dumps(facts))
        self._put("site.json", site_json(site, surfaces=names))

    def _take_place(self) -> None:
        (self.folder / "surfaces").mkdir(parents=True, exist_ok=True)
        if self._running is None or not (self.folder / _RUNNING).exists():
            self._let_go()
            self._running = os.open(self.folder / _RUNNING, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
            with suppress(OSError):  # a file system without locks
                fcntl.flock(self._running, fcntl.LOCK_EX | fcntl.LOCK_NB)

    def _surface(self, surface: Surface) -> str:
        """The name under which a surface's arrays are on disk, written if they are not yet."""
        for known, name in self._written:
            if known is surface and (self.folder / "surfaces" / f"{name}.triangles.npy").exists():
                return name
        name = f"surface-{len(self._written) + 1}"
        for part, array in (("points", surface.points), ("triangles", surface.triangles)):
            target = self.folder / "surfaces" / f"{name}.{part}.npy"
            write_safely(target, partial(np.save, arr=array, allow_pickle=False))
        self._written.append((surface, name))
        return name

    def _put(self, name: str, text: str) -> None:
        write_safely(self.folder / name, lambda file: _put_text(file, text))

    def clear(self) -> None:
        """Remove the copy: everything is saved, or was given up on purpose."""
        _remove(self.folder)
        self._let_go()
        self._written.clear()

    def _let_go(self) -> None:
        if self._running is not None:
            os.close(self._running)
            self._running = None


def _put_text(file: IO[bytes], text: str) -> None:
    file.write(text.encode("utf-8"))


def lost_sessions(root: Path) -> list[Lost]:
    """Sessions in ``root`` that nobody is running, newest first. Those that had not begun to write are swept away."""
    found = []
    for folder in sorted(root.glob("*/")):
        held = is_held(folder / _RUNNING)
        if held or (held is None and _lives(folder)):
            continue
        try:
            if not (folder / "site.json").exists():
                if time.time() - folder.stat().st_mtime > _BEGINNING:
                    shutil.rmtree(folder, ignore_errors=True)
                continue
            found.append(_lost(folder))
        except OSError:
            continue
    return sorted(found, key=lambda item: -item.when)


def _lives(folder: Path) -> bool:
    """Where there are no locks: whether a process of the number that a folder is named by is running."""
    try:
        os.kill(int(folder.name.partition("-")[0]), 0)
    except (ValueError, ProcessLookupError):
        return False
    except PermissionError:
        return True
    return True


def _lost(folder: Path) -> Lost:
    try:
        data = json.loads((folder / "session.json").read_text(encoding="utf-8"))
        original = Path(data["original"]) if data["original"] else None
        stamp = Stamp(*map(int, data["stamp"])) if data.get("stamp") else None
        return Lost(folder, original, str(data["name"]), float(data["when"]), stamp)
    except (OSError, ValueError, KeyError, TypeError):
        return Lost(folder, None, "A site", (folder / "site.json").stat().st_mtime)


def recover(lost: Lost) -> Site:
    """The site of a lost session. Raises FormatError when its copy cannot be read."""
    file = lost.folder / "site.json"

    def array(name: str) -> np.ndarray:
        try:
            return np.asarray(np.load(lost.folder / name, allow_pickle=False))
        except (OSError, ValueError, EOFError):
            raise FormatError(file, f"its surface '{name}' is missing or damaged") from None

    try:
        return site_from_json(file, file.read_bytes(), array)
    except OSError as error:
        raise FormatError(file, f"it cannot be read ({error.strerror or error})") from None


def discard(lost: Lost) -> None:
    """Throw a lost session away."""
    _remove(lost.folder)


def _remove(folder: Path) -> None:
    """Remove a copy, its site first: what is left of it, if this is cut short, is no copy any more."""
    with suppress(OSError):
        (folder / "site.json").unlink(missing_ok=True)
    shutil.rmtree(folder, ignore_errors=True)
