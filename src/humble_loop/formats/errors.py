"""What goes wrong with files, in one sentence each."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path


class FormatError(ValueError):
    """A file that cannot be used: which, what is wrong, where, and what to do."""

    def __init__(self, path: Path | str, message: str) -> None:
        # In one line, and without what could write into a terminal: libraries' words have both.
        self.path, self.message = str(path), "".join(c for c in " ".join(message.split()) if c.isprintable())
        super().__init__(f"{path}: {self.message}")


def check_file(path: Path) -> None:
    """Refuse what is not there, and what is no file: from a pipe or a device one might read for ever."""
    if not path.exists():
        raise FormatError(path, "there is no such file; check its name and folder")
    if path.is_dir():
        raise FormatError(path, "it is a folder; choose a file in it")
    if not path.is_file():
        raise FormatError(path, "it is a pipe or a device, not a file; save what comes from it as a file first")


@contextmanager
def guarded(path: Path, kind: str) -> Iterator[None]:
    """While a file is read: whatever a reader or its library lets out becomes one sentence about the file.

    ``kind`` is what the file is, as in 'a sound ... file'. Libraries raise anything at damaged files, some of them what
    is no Exception even (panics of compiled code).
    """
    try:
        yield
    except (FormatError, KeyboardInterrupt, SystemExit, GeneratorExit):
        raise
    except OSError as error:
        raise FormatError(path, f"it cannot be read ({error.strerror or error}); check it and its folder") from None
    except MemoryError:
        raise FormatError(path, "there is not enough memory for it; thin it out, or cut it into parts") from None
    except BaseException as error:  # noqa: BLE001 - see above
        words = " ".join(str(error).split())[:80]
        why = f"{type(error).__name__}: {words}" if words else type(error).__name__
        raise FormatError(
            path, f"it is not a sound {kind} file ({why}); write it again from the program that made it"
        ) from None
