"""``humble-loop``: a command without a window, or the application."""

from __future__ import annotations

import sys


def main() -> int:
    """Run a command if one is named, else open the window."""
    from humble_loop import cli

    arguments = sys.argv[1:]
    if arguments and arguments[0] in cli.COMMANDS:
        return cli.run(arguments)
    from humble_loop.desk.app import run

    return run(arguments)


if __name__ == "__main__":
    sys.exit(main())
