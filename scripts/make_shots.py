"""Make the pictures in docs/screenshots from the demo, or check with --check that none is missing."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

from humble_loop.desk.app import VIEWS

ROOT = Path(__file__).resolve().parent.parent
FOLDER = ROOT / "docs" / "screenshots"


def main() -> int:
    """Take every picture, each in a process of its own."""
    files = {view: FOLDER / f"{view}.png" for view in VIEWS}
    if "--check" in sys.argv:
        missing = [str(f.relative_to(ROOT)) for f in files.values() if not f.exists()]
        print(f"pictures missing: {', '.join(missing)}; run 'make shots'" if missing else "pictures: all there")
        return 1 if missing else 0
    FOLDER.mkdir(parents=True, exist_ok=True)
    wanted = [v for v in sys.argv[1:] if v in files] or list(files)
    screen = [] if os.environ.get("DISPLAY") else ["xvfb-run", "-a", "-s", "-screen 0 1280x800x24"]
    for view in wanted:
        command = [*screen, sys.executable, "-m", "humble_loop", "--demo", "--shot", str(files[view]), "--view", view]
        subprocess.run(command, check=True)
        print(files[view].relative_to(ROOT))
    return 0


if __name__ == "__main__":
    sys.exit(main())
