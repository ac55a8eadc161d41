"""Files that ship with Humble Loop: libraries, fonts, icons and the demo survey."""

from importlib.resources import files
from pathlib import Path


def path(*parts: str) -> Path:
    """The place of a shipped file."""
    return Path(str(files(__name__).joinpath(*parts)))
