"""The site file (``.hloop``): a zip of ``site.json`` and one pair of arrays a surface.

Written beside the old file, flushed to disk, then renamed over it, so that whatever happens at whatever instant,
the name holds either the old file or the new one, whole. The previous one stays as ``.bak``.
"""

from __future__ import annotations

import io
import json
import os
import tempfile
import zipfile
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
from pydantic import ValidationError

from humble_loop.formats.errors import FormatError
from humble_loop.ground.surface import Surface
from humble_loop.site.edits import sentence
from humble_loop.site.libraries import with_libraries
from humble_loop.site.model import Site

FORMAT = "humble-loop-site"
VERSION = 1

# From each older version to the next: functions on the plain values of ``site``.
MIGRATIONS: dict[int, Callable[[dict[str, Any]], dict[str, Any]]] = {}


def save_site(site: Site, path: Path) -> None:
    """Write ``site`` to ``path`` safely. Raises FormatError when the disk refuses, leaving the old file whole."""
    try:
        _replace(path, lambda file: _write_zip(site, file))
    except OSError as error:
        raise FormatError(path, f"it cannot be written ({error.strerror or error}); save it somewhere else") from None


def _write_zip(site: Site, file: Any) -> None:
    with zipfile.ZipFile(file, "w") as archive:
        archive.writestr("site.json", site_json(site), zipfile.ZIP_DEFLATED)
        for ground in site.grounds:
            for part, array in (("points", ground.surface.points), ("triangles", ground.surface.triangles)):
                data = io.BytesIO()
                np.save(data, array, allow_pickle=False)
                archive.writestr(f"surfaces/{ground.id}.{part}.npy", data.getvalue(), zipfile.ZIP_STORED)


def _replace(path: Path, write: Callable[[Any], None]) -> None:
    path = path.resolve()
    handle, name = tempfile.mkstemp(prefix=f".{path.name}.", suffix=".new", dir=path.parent)
    try:
        with os.fdopen(handle, "wb") as file:
            write(file)
            file.flush()
            os.fsync(file.fileno())
        os.chmod(name, 0o644)
        if path.exists():
            # A second name for the old file, so that there is never a moment without one.
            link = Path(f"{name}.old")
            os.link(path, link)
            os.replace(link, path.with_name(path.name + ".bak"))
        os.replace(name, path)
        folder = os.open(path.parent, os.O_RDONLY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)
    except BaseException:
        for leftover in (name, f"{name}.old"):
            Path(leftover).unlink(missing_ok=True)
        raise


def site_json(site: Site) -> str:
    """The site without its surfaces' arrays, as documented JSON."""
    body = site.model_dump(mode="json")
    return json.dumps({"format": FORMAT, "version": VERSION, "site": body}, ensure_ascii=False, indent=1)


def load_site(path: Path) -> Site:
    """Read a site file, or a bare ``site.json``. Raises FormatError in one sentence; never changes anything."""
    try:
        data = path.read_bytes()
    except FileNotFoundError:
        raise FormatError(path, "there is no such file; check its name and folder") from None
    except OSError as error:
        raise FormatError(path, f"it cannot be read ({error.strerror or error})") from None
    if not data:
        raise FormatError(path, f"the file is empty; its backup may be '{path.name}.bak'")
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
                return np.asarray(np.load(io.BytesIO(archive.read(name)), allow_pickle=False))

            return site_from_json(path, archive.read("site.json"), array)
    except zipfile.BadZipFile:
        raise FormatError(
            path, f"it is damaged or not a Humble Loop site; its backup may be '{path.name}.bak'"
        ) from None
    except (ValueError, EOFError, OSError) as error:
        if isinstance(error, FormatError):
            raise
        raise FormatError(path, f"it is damaged ({str(error)[:80]}); its backup may be '{path.name}.bak'") from None


def _missing(path: Path, name: str) -> np.ndarray:
    raise FormatError(path, f"its surface '{name}' is missing; its backup may be '{path.name}.bak'")


def site_from_json(path: Path, data: bytes, array: Callable[[str], np.ndarray]) -> Site:
    """Check and build a site from JSON; ``array`` gives the arrays of surfaces by name. Raises FormatError."""
    try:
        document = json.loads(data.decode("utf-8"))
    except (UnicodeDecodeError, ValueError) as error:
        raise FormatError(path, f"its site.json is damaged ({error}); use its backup") from None
    if not isinstance(document, dict) or document.get("format") != FORMAT or not isinstance(document.get("site"), dict):
        raise FormatError(path, "it is not a Humble Loop site; choose a .hloop file")
    version, body = document.get("version"), document["site"]
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
        points, triangles = (array(f"surfaces/{ground['id']}.{part}.npy") for part in ("points", "triangles"))
        grounds.append({**ground, "surface": Surface(points, triangles)})
    try:
        return Site.model_validate(with_libraries({**body, "grounds": grounds}))
    except ValidationError as error:
        raise FormatError(path, f"{sentence(error)}; correct it or use its backup") from None


def schema() -> dict[str, Any]:
    """The JSON Schema of ``site.json``."""
    site = Site.model_json_schema(ref_template="#/$defs/{model}")
    definitions = site.pop("$defs", {})
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
