"""The site file (``.hloop``): a zip of ``site.json`` and one pair of arrays a surface.

Written beside the old file, flushed to disk, then renamed over it, so that whatever happens at whatever instant,
the name holds either the old file or the new one, whole. The one before stays as ``.bak``: a site that is saved again
without a change is the same file to the byte, and leaves its backup alone.
"""

from __future__ import annotations

import io
import json
import zipfile
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from humble_loop.formats.errors import FormatError, check_file, guarded
from humble_loop.formats.migrations import from_version_1
from humble_loop.formats.safe_write import Stamp, WrittenMeanwhile, backup_of, write_safely
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.model import Ground
from humble_loop.lines.standing import kinds
from humble_loop.lines.table import UNIT
from humble_loop.site.edits import sentence
from humble_loop.site.libraries import LIBRARIES, with_libraries
from humble_loop.site.model import Site, Thing

FORMAT = "humble-loop-site"
VERSION = 2
_LARGEST, _SMALL, _MOST_PACKED = 2_000_000_000, 20_000_000, 100  # bytes of a part, bytes not looked at, times its size

# From each older version to the next: functions on the plain values of ``site``.
MIGRATIONS: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {1: from_version_1}


class ChangedOnDisk(FormatError):
    """A file that something else has written since it was opened."""


def save_site(site: Site, path: Path, since: Stamp | None = None) -> Stamp:
    """Write ``site`` to ``path`` safely; returns the stamp of the file that is there now.

    Raises FormatError when the disk refuses, and ChangedOnDisk when the file has another stamp than ``since``; either
    way the old file is left whole.
    """
    try:
        return write_safely(path, lambda file: _write_zip(site, file), backup=True, since=since)
    except WrittenMeanwhile as error:
        raise ChangedOnDisk(path, f"{error.strerror}; save it under another name, or over it") from None
    except OSError as error:
        raise FormatError(path, f"it cannot be written ({error.strerror or error}); save it somewhere else") from None


def _write_zip(site: Site, file: Any) -> None:
    with zipfile.ZipFile(file, "w") as archive:
        _add(archive, "site.json", site_json(site).encode(), zipfile.ZIP_DEFLATED)
        for ground in site.all(Ground):
            for part, array in (("points", ground.surface.points), ("triangles", ground.surface.triangles)):
                data = io.BytesIO()
                np.save(data, array, allow_pickle=False)
                _add(archive, f"surfaces/{ground.id}.{part}.npy", data.getvalue(), zipfile.ZIP_STORED)


def _add(archive: zipfile.ZipFile, name: str, data: bytes, how: int) -> None:
    """Add a part, always with the same date, so that the same site is the same file."""
    part = zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0))
    part.external_attr = 0o644 << 16
    archive.writestr(part, data, how)


def site_json(site: Site, surfaces: dict[str, str] | None = None) -> str:
    """The site without its surfaces' arrays, as documented JSON.

    ``surfaces`` names the arrays of grounds by their ids, where they are not named by these ids themselves.
    """
    body: dict[str, Any] = site.model_dump(mode="json", exclude={"things"})
    known = models()
    for name in sorted(site.things, key=lambda n: list(known).index(n) if n in known else len(known)):
        body[name] = [t.model_dump(mode="json") for t in site.things[name]]
    head: dict[str, Any] = {"format": FORMAT, "version": VERSION, "unit": UNIT[1]}
    if surfaces is not None:
        head["surfaces"] = surfaces
    return json.dumps({**head, "site": body}, ensure_ascii=False, indent=1)


def models() -> dict[str, type[Thing]]:
    """The models of all things by collection: libraries, and what the kinds keep."""
    found = {m.collection: m for m in LIBRARIES}
    for kind in kinds():
        found.update({m.collection: m for m in kind.models})
    return found


def _assembled(path: Path, body: dict[str, Any]) -> Site:
    """Check every thing, and put the site together. Raises FormatError in one sentence."""
    known = models()
    frame = {k: v for k, v in body.items() if k not in known}
    try:
        site = Site.model_validate({k: v for k, v in frame.items() if k != "things"})
    except ValidationError as error:
        raise FormatError(path, f"{sentence(error)}; correct it or use its backup") from None
    if "things" in frame:
        raise FormatError(path, "things: Extra inputs are not permitted; correct it or use its backup")
    for name, model in known.items():
        if name not in body:
            continue
        rows = body[name]
        if not isinstance(rows, list | tuple):
            raise FormatError(path, f"{name}: a list is wanted here; correct it or use its backup")
        things, seen = [], set()
        for i, row in enumerate(rows):
            try:
                thing = model.model_validate(row)
            except ValidationError as error:
                raise FormatError(path, f"{name} / {i} / {sentence(error)}; correct it or use its backup") from None
            if thing.id in seen:
                raise FormatError(
                    path, f"two of the {model.words}s share the id '{thing.id}'; correct it or use its backup"
                )
            seen.add(thing.id)
            things.append(thing)
        site = site.replaced(name, things)
    return with_libraries(site)


def load_site(path: Path) -> Site:
    """Read a site file, or a bare ``site.json``. Raises FormatError in one sentence; never changes anything."""
    check_file(path)
    with guarded(path, "Humble Loop site"):
        return _loaded(path, path.read_bytes())


def _loaded(path: Path, data: bytes) -> Site:
    if not data:
        raise FormatError(path, f"the file is empty; its backup may be '{backup_of(path).name}'")
    if data.lstrip()[:1] == b"{":
        return site_from_json(path, data, lambda name: _missing(path, name))
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            names = set(archive.namelist())
            if "site.json" not in names:
                raise FormatError(path, "it is a zip file but not a Humble Loop site; choose a .hloop file")

            def array(name: str) -> np.ndarray:
                if name not in names:
                    return _missing(path, name)
                return np.asarray(np.load(io.BytesIO(_part(path, archive, name)), allow_pickle=False))

            return site_from_json(path, _part(path, archive, "site.json"), array)
    except FormatError:
        raise
    except (zipfile.BadZipFile, zlib.error, ValueError, EOFError, OSError, NotImplementedError) as error:
        words = (
            f"it is damaged or not a Humble Loop site ({str(error)[:80]}); its backup may be '{backup_of(path).name}'"
        )
        raise FormatError(path, words) from None


def _part(path: Path, archive: zipfile.ZipFile, name: str) -> bytes:
    """A part of a site file, if it unpacks to what a part may: a small file can unpack to more than memory holds."""
    said = archive.getinfo(name)
    if said.file_size > _LARGEST or (said.file_size > _SMALL and said.file_size > _MOST_PACKED * said.compress_size):
        size = f"{said.file_size / 1e6:,.0f} MB"
        raise FormatError(
            path,
            f"'{name}' in it would unpack to {size}, which no site does; its backup may be '{backup_of(path).name}'",
        )
    return archive.read(name)


def _missing(path: Path, name: str) -> np.ndarray:
    raise FormatError(path, f"its surface '{name}' is missing; its backup may be '{backup_of(path).name}'")


def site_from_json(path: Path, data: bytes, array: Callable[[str], np.ndarray]) -> Site:
    """Check and build a site from JSON; ``array`` gives the arrays of surfaces by name. Raises FormatError."""
    try:
        document = json.loads(data.decode("utf-8"))
    except (UnicodeDecodeError, ValueError) as error:
        raise FormatError(path, f"its site.json is damaged ({error}); use its backup") from None
    if not isinstance(document, dict) or document.get("format") != FORMAT or not isinstance(document.get("site"), dict):
        raise FormatError(path, "it is not a Humble Loop site; choose a .hloop file")
    version, body = document.get("version"), document["site"]
    if document.get("unit", UNIT[1]) != UNIT[1]:
        raise FormatError(path, f"its unit is '{document['unit']}', and site files are in metres; use its backup")
    if not isinstance(version, int) or version < 1:
        raise FormatError(path, f"its version '{version}' is not known; use its backup")
    if version > VERSION:
        raise FormatError(
            path,
            f"it was written by a newer Humble Loop (version {version}, this one reads up to {VERSION}); update first",
        )
    for old in range(version, VERSION):
        body = MIGRATIONS[old](body)
    grounds = []
    for ground in body.get("grounds", []):
        if not isinstance(ground, dict) or not ground.get("id"):
            raise FormatError(path, "one of its grounds has no id; use its backup")
        named = document.get("surfaces", {}).get(ground["id"], ground["id"])
        points, triangles = (array(f"surfaces/{named}.{part}.npy") for part in ("points", "triangles"))
        grounds.append({**ground, "surface": Surface(points, triangles)})
    return _assembled(path, {**body, **({"grounds": grounds} if "grounds" in body else {})})


def schema() -> dict[str, Any]:
    """The JSON Schema of ``site.json``."""
    where = "#/$defs/{model}"
    site = Site.model_json_schema(ref_template=where)
    definitions = site.pop("$defs", {})
    site["properties"].pop("things", None)
    for name, model in models().items():
        made = model.model_json_schema(ref_template=where)
        definitions.update(made.pop("$defs", {}))
        definitions[model.__name__] = made
        site["properties"][name] = {"type": "array", "items": {"$ref": f"#/$defs/{model.__name__}"}}
    # The arrays of a surface are files of their own beside site.json.
    definitions["Ground"]["properties"].pop("surface")
    definitions["Ground"]["required"].remove("surface")
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Humble Loop site",
        "type": "object",
        "required": ["format", "version", "site"],
        "properties": {"format": {"const": FORMAT}, "version": {"const": VERSION}, "site": site},
        "$defs": definitions,
    }
