"""From older versions of the site file to the next: functions on the plain values of ``site``."""

from __future__ import annotations

import re
from typing import Any


def from_version_1(site: dict[str, Any]) -> dict[str, Any]:
    """Heads stood in their streets, pads knew their lot by its name, and corners were divided by a count."""
    out = dict(site)
    streets = [dict(s) for s in _rows(site.get("streets")) if isinstance(s, dict)]
    heads = []
    for street in streets:
        head = street.pop("head", None)
        if isinstance(head, dict):
            heads.append({**head, "street": street.get("id") or _slug(str(street.get("name", "")))})
    if "streets" in site:
        out["streets"] = streets if len(streets) == len(_rows(site["streets"])) else site["streets"]
    if heads:
        out["turning_heads"] = heads
    names = {str(s.get("name", "")): s.get("id") or _slug(str(s.get("name", ""))) for s in streets}
    pads = []
    for pad in _rows(site.get("pads")):
        made = _pad(pad, names, [r for r in _rows(site.get("lot_rows")) if isinstance(r, dict)])
        pads += [made] if made is not None else []
    if "pads" in site:
        out["pads"] = pads
    return out


def _rows(value: Any) -> list[Any]:
    return value if isinstance(value, list) else []


def _slug(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", "-", name.lower()).strip("-") or "unnamed"


def _pad(pad: Any, streets: dict[str, str], rows: list[dict[str, Any]]) -> Any:
    """'Ember Loop R4' is lot 4 of the row on the right of Ember Loop whose numbers reach it."""
    match = re.match(r"^(.*) ([LRH])(\d+)$", str(pad.get("lot", ""))) if isinstance(pad, dict) else None
    if match is None:
        return pad
    street, place, number = streets.get(match[1]), {"L": "left", "R": "right", "H": "head"}[match[2]], int(match[3])
    mine = [r for r in rows if r.get("street") == street and r.get("place") == place]
    mine = [r for r in mine if int(r.get("first_number", 1)) <= number]
    if not mine:
        return None
    row = max(mine, key=lambda r: int(r.get("first_number", 1)))
    id = row.get("id") or _slug(str(row.get("name", "")))
    return {"row": id, "number": number, "level": pad.get("level")}
