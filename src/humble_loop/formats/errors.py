"""What goes wrong with files, in one sentence each."""

from __future__ import annotations

from pathlib import Path


class FormatError(ValueError):
    """A file that cannot be used: which, what is wrong, where, and what to do."""

    def __init__(self, path: Path | str, message: str) -> None:
        super().__init__(f"{path}: {message}")
        self.path, self.message = str(path), message
