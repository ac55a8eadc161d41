"""Writing the site by the target's ending."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from humble_loop.formats.errors import FormatError
from humble_loop.whole.delivery import Delivery


def _landxml(site: Delivery, path: Path) -> None:
    from humble_loop.formats.landxml import write_landxml  # as heavy as seldom wanted

    write_landxml(site, path)


def _dxf(site: Delivery, path: Path) -> None:
    from humble_loop.formats.dxf.writing import write_dxf

    write_dxf(site, path)


def _csv(site: Delivery, path: Path) -> None:
    from humble_loop.formats.setout_csv import write_setout

    write_setout(site, path)


WRITERS: dict[str, Callable[[Delivery, Path], None]] = {
    ".xml": _landxml,
    ".landxml": _landxml,
    ".dxf": _dxf,
    ".csv": _csv,
}


def export(site: Delivery, target: Path) -> None:
    """Write LandXML, DXF, or set-out points as CSV. Raises FormatError and OSError."""
    writer = WRITERS.get(target.suffix.lower())
    if writer is None:
        raise FormatError(target, f"files ending in '{target.suffix}' cannot be written; use .xml, .dxf or .csv")
    writer(site, target)
