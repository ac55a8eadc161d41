"""Recovery copies: each change is on disk within seconds, and a start after a crash offers it.

A running session keeps a folder with ``site.json``, its surfaces (written once each) and ``session.json``; a
session that ends properly removes it. A folder whose process is gone belongs to a session that did not.
"""

from __future__ import annotations

import json
import os
import shutil
import time
import uuid
from dataclasses import dataclass
from functools import partial
from pathlib import Path
from typing import IO

import numpy as np

from humble_loop.formats.errors import FormatError
from humble_loop.formats.safe_write import write_safely
from humble_loop.formats.site_file import site_from_json, site_json
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.model import Ground
from humble_loop.site.model import Site


@dataclass(frozen=True)
class Lost:
    """A session that did not end properly: its folder, the file it was working on, and when it last wrote."""

    folder: Path
    original: Path | None
    name: str
    when: float


class Recovery:
    """Writes one session's recovery copy into ``root``."""

    def __init__(self, root: Path) -> None:
        self.folder = root / f"{os.getpid()}-{uuid.uuid4().hex[:8]}"
        # Surfaces that are on disk, with the name of their arrays; held, so that none can be taken for another.
        self._written: list[tuple[Surface, str]] = []

    def write(self, site: Site, original: Path | None) -> None:
        """Put the site as it is now on disk. Raises OSError when the disk refuses.

        Arrays have names of their own, never used again, and ``site.json`` says which it means: at every instant it
        and the arrays that it names belong together.
        """
        (self.folder / "surfaces").mkdir(parents=True, exist_ok=True)
        names = {ground.id: self._surface(ground.surface) for ground in site.all(Ground)}
        self._put("site.json", site_json(site, surfaces=names))
        facts = {"pid": os.getpid(), "original": str(original) if original else None, "name": site.name}
        self._put("session.json", json.dumps({**facts, "when": time.time()}))

    def _surface(self, surface: Surface) -> str:
        """The name under which a surface's arrays are on disk, written if they are not yet."""
        for known, name in self._written:
            if known is surface:
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
        shutil.rmtree(self.folder, ignore_errors=True)
        self._written.clear()


def _put_text(file: IO[bytes], text: str) -> None:
    file.write(text.encode("utf-8"))


def lost_sessions(root: Path) -> list[Lost]:
    """Sessions in ``root`` whose process is gone, newest first. Unreadable folders are passed over."""
    found = []
    for file in root.glob("*/session.json"):
        try:
            data = json.loads(file.read_text(encoding="utf-8"))
            if _running(int(data["pid"])) or not (file.parent / "site.json").exists():
                continue
            original = Path(data["original"]) if data["original"] else None
            found.append(Lost(file.parent, original, str(data["name"]), float(data["when"])))
        except (OSError, ValueError, KeyError, TypeError):
            continue
    return sorted(found, key=lambda item: -item.when)


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
    shutil.rmtree(lost.folder, ignore_errors=True)


def _running(pid: int) -> bool:
    try:
        os.kill(pid, 0)
    except ProcessLookupError:
        return False
    except PermissionError:
        return True
    return True
