"""Writing a file so that, whatever happens at whatever instant, its name holds either the old content or the new, whole."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Callable
from pathlib import Path
from typing import IO


def write_safely(path: Path, write: Callable[[IO[bytes]], None], *, backup: bool = False) -> None:
    """Write beside ``path``, flush to disk, then rename over it. With ``backup`` the old file stays as ``.bak``.

    Raises OSError when the disk refuses, leaving the old file whole.
    """
    path = path.resolve()
    handle, name = tempfile.mkstemp(prefix=f".{path.name}.", suffix=".new", dir=path.parent)
    try:
        with os.fdopen(handle, "wb") as file:
            write(file)
            file.flush()
            os.fsync(file.fileno())
        os.chmod(name, 0o644)
        if backup and path.exists():
            _keep_old(path, Path(f"{name}.old"))
        os.replace(name, path)
        _flush_folder(path.parent)
    except BaseException:
        for leftover in (name, f"{name}.old"):
            Path(leftover).unlink(missing_ok=True)
        raise


def _keep_old(path: Path, second: Path) -> None:
    """A second name for the old file, so that there is never a moment without one; a copy where there are no links."""
    try:
        os.link(path, second)
    except OSError:
        shutil.copy2(path, second)
    os.replace(second, path.with_name(path.name + ".bak"))


def _flush_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)
