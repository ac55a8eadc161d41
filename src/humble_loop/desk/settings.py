"""Where the window's settings are kept."""

from __future__ import annotations

import tempfile
from pathlib import Path

from PySide6.QtCore import QSettings


def kept_settings(state: Path) -> QSettings:
    """Settings in the user's state folder."""
    return QSettings(str(state / "desk.ini"), QSettings.Format.IniFormat)


def unkept_settings() -> QSettings:
    """Settings as they are at first, for pictures and measurements; what is set is thrown away with the folder.

    Never in the null device: settings are written by renaming a file over theirs, and root may do that to a device.
    """
    folder = tempfile.mkdtemp(prefix="humble-loop-")
    return QSettings(str(Path(folder) / "desk.ini"), QSettings.Format.IniFormat)
