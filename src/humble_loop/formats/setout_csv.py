"""Set-out points as a text table."""

from __future__ import annotations

import csv
from io import StringIO
from pathlib import Path

from humble_loop.formats.safe_write import write_whole
from humble_loop.lines.table import UNIT
from humble_loop.whole.delivery import Delivery

COLUMNS = ("number", "easting", "northing", "level", "street", "chainage", "offset", "thing", "mark")


def write_setout(site: Delivery, path: Path) -> None:
    """Write the site's set-out points, in metres, as the last column says."""
    text = StringIO()
    writer = csv.writer(text, lineterminator="\n")
    writer.writerow((*COLUMNS, UNIT[0]))
    for number, p in site.set_out:
        writer.writerow([number, p.easting, p.northing, p.level, p.base, p.along, p.offset, p.thing, p.mark, UNIT[1]])
    write_whole(path, [text.getvalue().encode()])
