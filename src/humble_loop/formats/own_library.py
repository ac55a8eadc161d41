"""The designer's own library: kerb shapes that were made or changed, kept for other sites as soon as they are made."""

from __future__ import annotations

import json
from pathlib import Path

from pydantic import ValidationError

from humble_loop.formats.errors import FormatError
from humble_loop.formats.safe_write import write_whole
from humble_loop.site.libraries import shipped
from humble_loop.site.library import KerbShape
from humble_loop.site.model import Site

_FILE = "kerb_shapes.json"


class OwnLibrary:
    """The library in a folder. A file there that cannot be read is told, and left alone."""

    def __init__(self, folder: Path) -> None:
        self._file = folder / _FILE
        self._readable = True

    def shapes(self) -> tuple[KerbShape, ...]:
        """The kerb shapes in it. Raises FormatError where its file is damaged; nothing is written over that."""
        self._readable = True
        try:
            rows = json.loads(self._file.read_text(encoding="utf-8"))["kerb_shapes"]
            return tuple(KerbShape.model_validate(row) for row in rows)
        except FileNotFoundError:
            return ()
        except (OSError, ValueError, KeyError, TypeError, RecursionError, ValidationError) as error:
            self._readable = False
            words = str(error).splitlines()[0][:80]
            raise FormatError(
                self._file, f"your own library cannot be read ({words}); mend the file or remove it"
            ) from None

    def added_to(self, site: Site) -> Site:
        """The site with the shapes of the library that it does not have. Raises FormatError."""
        for shape in self.shapes():
            if site.find(KerbShape, shape.id) is None:
                site = site.put(shape)
        return site

    def keep(self, site: Site) -> None:
        """Keep the shapes of a site that are not as they are shipped. Raises FormatError and OSError."""
        as_shipped = {s.id: s for s in shipped(KerbShape.collection)}
        mine = {s.id: s for s in site.all(KerbShape) if as_shipped.get(s.id) != s}
        kept = {s.id: s for s in self.shapes()}
        if not self._readable or all(kept.get(i) == s for i, s in mine.items()):
            return
        rows = [s.model_dump(mode="json") for s in {**kept, **mine}.values()]
        text = json.dumps({"kerb_shapes": rows}, indent=1, ensure_ascii=False)
        self._file.parent.mkdir(parents=True, exist_ok=True)
        write_whole(self._file, [text.encode()])
