"""Rows of lots wherever a street has room for them."""

from __future__ import annotations

from humble_loop.site import edits
from humble_loop.site.model import Site
from humble_loop.solve import parts
from humble_loop.solve.engine import Engine
from humble_loop.solve.head import head_of
from humble_loop.solve.junction import SIDES
from humble_loop.solve.section import strip_range


def line_with_lots(q: Engine, site: Site, street: str, frontage: float = 18.0, depth: float = 30.0) -> Site:
    """The site with a row of lots on each side of a street and round its bulb, where none stands yet.

    Frontage and depth in metres. Raises EditError when the street has no room for a single lot.
    """
    taken = {row.place for row in parts.lot_rows_of(q, street)}
    fresh = site
    for side in SIDES:
        low, high = strip_range(q, street, side)
        if side not in taken and high - low >= frontage:
            fresh = edits.add_lot_row(fresh, street, side, frontage=frontage, depth=depth)
    if head_of(q, street) is not None and "head" not in taken:
        fresh = edits.add_lot_row(fresh, street, "head", frontage=min(frontage, 14.0), depth=depth)
    if fresh is site:
        name = parts.street_name(q, street)
        raise edits.EditError(f"{name}: no side without lots has room for a frontage of {frontage:g} m")
    return fresh
