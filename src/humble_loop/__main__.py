"""``humble-loop``: a command without a window, or the application."""

from __future__ import annotations

import os
import signal
import sys
from contextlib import suppress
from types import FrameType

_ENDED_BY = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)


def main() -> int:
    """Run a command if one is named, else open the window."""
    # Until there is something to clean up, these signals end the program at once and without words.
    for ending in _ENDED_BY:
        signal.signal(ending, signal.SIG_DFL)
    _be_ready_to_speak()
    from humble_loop import cli

    arguments = sys.argv[1:]
    if arguments and arguments[0] in cli.COMMANDS:
        from humble_loop.formats.safe_write import abandon

        def end(number: int, frame: FrameType | None) -> None:
            del frame
            abandon()
            signal.signal(number, signal.SIG_DFL)
            os.kill(os.getpid(), number)  # so that whoever waits sees what ended it

        for ending in _ENDED_BY:
            signal.signal(ending, end)
        code = _said(cli.run(arguments))
        sys.stderr.flush()
        os._exit(code)  # what was worked out is not taken apart first, which takes long for a large site
    from humble_loop.desk.app import run

    return run(arguments)


def _be_ready_to_speak() -> None:
    """Whatever the terminal, words can be printed: in full, or what it has no letters for as numbers; or to nowhere."""
    for handle in range(3):
        try:
            os.fstat(handle)
        except OSError:  # closed; the first file to be opened would get its number, and be written into
            os.open(os.devnull, os.O_RDWR)
    for name in ("stdout", "stderr"):
        stream = getattr(sys, name)
        if stream is None:
            setattr(sys, name, open(os.devnull, "w", encoding="utf-8"))  # noqa: SIM115 - to the end of the program
        else:
            stream.reconfigure(errors="backslashreplace")


def _said(code: int) -> int:
    """The exit code, once all that was printed is out; 2 if it cannot be, and 0 if nobody wants it any more."""
    try:
        sys.stdout.flush()
    except BrokenPipeError:
        code = 0
    except OSError as error:
        with suppress(OSError):
            print(f"humble-loop: the output cannot be written ({error.strerror or error})", file=sys.stderr)
        code = 2
    else:
        return code
    # What is left to be written would be tried, and complained about, once more at the end.
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
    return code


if __name__ == "__main__":
    sys.exit(main())
