"""Reads one point cloud in a process of its own: ``python unpack_cloud.py CLOUD POINTS.npy``.

Damaged compressed points make the library's compiled part end the process, and a header may claim more than any memory
holds. Here that ends this process only, within a limit of memory. Imports nothing of ours, so that it starts quickly.
Writes points (n, 3) in the file's own unit, and prints its coordinate system and notes as JSON; fails with one line.
"""

from __future__ import annotations

import json
import resource
import sys
from pathlib import Path
from typing import Any

import laspy
import numpy as np
from laspy.vlrs.known import WktCoordinateSystemVlr

_GROUND, _NOISE = 2, (7, 18)  # the classes of ground returns, and of low and high noise, in LAS
_ROOM, _PER_BYTE = 600_000_000, 80  # bytes of memory beside the file's, and for each byte of it


class Unsound(ValueError):
    """What is wrong with a file, for people."""


def unpack(path: Path) -> tuple[np.ndarray, dict[str, Any]]:
    """Ground points where the cloud is classified, else all (n, 3); and what it says of its ``system`` of coordinates,
    with ``notes`` of what was left out.
    """
    size = path.stat().st_size
    with path.open("rb") as file:
        head = file.read(375)
    if head[:4] != b"LASF" or len(head) < 227:
        raise Unsound("it is not a point cloud")
    records = int.from_bytes(head[100:104], "little")
    if head[25] >= 4:
        records += int.from_bytes(head[243:247], "little")  # those that stand behind the points
    offset, length = int.from_bytes(head[96:100], "little"), int.from_bytes(head[105:107], "little")
    count = int.from_bytes(head[247:255], "little") if head[25] >= 4 else int.from_bytes(head[107:111], "little")
    packed = head[104] >= 128
    # A record of the head takes 54 bytes at least; of packed points, 50,000 have been seen in a few bytes.
    if records * 54 > size:
        raise Unsound(f"its head claims {records} records, more than the file holds")
    if offset > size or (not packed and offset + count * length > size) or count > 2000 * size:
        raise Unsound(f"its head claims {count} points, more than the file holds")
    cloud = laspy.read(path)
    if len(cloud.points) < count:
        raise Unsound(f"it holds {len(cloud.points):,} points, and its head says {count:,}: it is cut short")
    points = np.column_stack([cloud.x, cloud.y, cloud.z]).astype(np.float64)
    kind = np.asarray(cloud.classification)
    keep = ~np.isin(kind, _NOISE)
    if "withheld" in cloud.point_format.dimension_names:
        keep &= np.asarray(cloud.withheld) == 0
    notes = []
    if not keep.all():
        notes.append(f"{np.sum(~keep):,} points marked as withheld or noise are left out")
    ground = keep & (kind == _GROUND)
    if ground.any() and not ground[keep].all():
        taken, left = np.sum(ground), np.sum(keep) - np.sum(ground)
        notes.append(f"of the others the {taken:,} that are classified as ground are taken, and {left:,} are not")
    return points[ground] if ground.any() else points[keep], {"system": _system(cloud.header), "notes": notes}


def _system(header: Any) -> dict[str, Any]:
    """Its coordinate system: ``wkt`` as text, or ``keys`` as GeoTIFF has them."""
    records = [*header.vlrs, *(header.evlrs or [])]
    # Only this record is a coordinate system: others hold text too.
    wkt = next((r.string for r in records if isinstance(r, WktCoordinateSystemVlr) and r.string), "")
    keys = {int(k.id): int(k.value_offset) for r in records for k in getattr(r, "geo_keys", ())}
    return {"wkt": wkt.strip("\0"), "keys": keys}


def main(source: str, target: str) -> int:
    """Unpack one file; 0 where it went well."""
    path = Path(source)
    try:
        most = _ROOM + _PER_BYTE * path.stat().st_size
        resource.setrlimit(resource.RLIMIT_DATA, (most, most))
        points, told = unpack(path)
        np.save(target, points)
        print(json.dumps(told))
    except Unsound as error:
        print(error, file=sys.stderr)
        return 2
    except BaseException as error:  # noqa: BLE001 - libraries raise anything at damaged files
        print(f"it is not a point cloud that can be read ({' '.join(str(error).split())[:80]})", file=sys.stderr)
        return 2
    return 0


if __name__ == "__main__":
    raise SystemExit(main(*sys.argv[1:3]))
