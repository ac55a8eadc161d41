"""The log of faults of ours, in the user's state folder: where in the program something went wrong, and nothing else.

It is for sending to whoever mends the program, so it holds nothing of the site: no names, numbers, files or folders.
"""

from __future__ import annotations

import platform
import re
import time
import traceback
from contextlib import suppress
from pathlib import Path

from platformdirs import user_state_path

from humble_loop import __version__

_LARGEST = 200_000  # bytes of the log; the older half goes
# Faults whose words are Python's own, and help; what is quoted in them, and numbers, may be the user's.
_PLAIN = (TypeError, AttributeError, IndexError, ZeroDivisionError, NameError, RecursionError, AssertionError)


def log_file() -> Path:
    """Where faults are logged."""
    return user_state_path("humble-loop") / "faults.log"


def described(error: BaseException) -> str:
    """A fault as text: when, in which version, where in the program, and of what kind, with what caused it."""
    lines = [f"{time.strftime('%Y-%m-%d %H:%M')}  Humble Loop {__version__}, Python {platform.python_version()}"]
    while True:
        lines += [
            f"  {_module(f.filename)}:{f.lineno} {f.name}: {f.line}" for f in traceback.extract_tb(error.__traceback__)
        ]
        lines.append(f"{type(error).__name__}{_words(error)}")
        cause = error.__cause__
        if cause is None:
            return "\n".join(lines)
        lines.append("caused by")
        error = cause


def log(error: BaseException, file: Path | None = None) -> str:
    """Add a fault to the log, as far as that can be written; returns what was added."""
    text, file = described(error), file or log_file()
    with suppress(OSError):
        file.parent.mkdir(parents=True, exist_ok=True)
        before = file.read_bytes() if file.exists() else b""
        if len(before) > _LARGEST:
            file.write_bytes(before[-_LARGEST // 2 :].partition(b"\n\n")[2])
        with file.open("a", encoding="utf-8", errors="backslashreplace") as out:
            out.write(f"{text}\n\n")
    return text


def _module(filename: str) -> str:
    """A source file from its package on: where it is installed may tell who somebody is."""
    parts = Path(filename).parts
    for root in ("humble_loop", "site-packages"):
        if root in parts:
            return "/".join(parts[len(parts) - parts[::-1].index(root) - (root == "humble_loop") :])
    return parts[-1] if parts else "?"


def _words(error: BaseException) -> str:
    if not isinstance(error, _PLAIN):
        return ""
    words = " ".join(str(error).split())[:200]
    return ": " + re.sub(r"\d+", "#", re.sub(r"'[^']*'|\"[^\"]*\"|\S*/\S*", "…", words))
