"""The rules of a street's class in rows, to be read and changed."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from humble_loop.engine.query import Engine
from humble_loop.kinds.street.edits import set_street
from humble_loop.kinds.street.model import Street
from humble_loop.kinds.street.plan import StreetLine, class_of, frame_of, name_of, street_ids
from humble_loop.lines.describe import Fact, Sheet, SheetRow, Unit
from humble_loop.site.edits import Edit, changed, free_id, free_name, rename, the
from humble_loop.site.library import StreetClass
from humble_loop.site.model import Site

_COLUMNS = ("rule", "limit")
# What each rule is called, and how its limit is shown.
RULES: dict[str, tuple[str, Unit]] = {
    "least_grade": ("least grade", "grade"),
    "most_grade": ("greatest grade", "grade"),
    "least_crest_k": ("least K of crests", "rate"),
    "least_sag_k": ("least K of sags", "rate"),
    "least_curve_length": ("least vertical curve", "length"),
    "sight_distance": ("sight over crests", "length"),
    "eye_height": ("eyes at", "length"),
    "target_height": ("target of", "length"),
    "least_radius": ("least radius", "length"),
    "least_crossfall": ("least crossfall", "grade"),
    "most_crossfall": ("greatest crossfall", "grade"),
    "return_radius": ("radius of returns", "length"),
    "least_return_fall": ("least fall of returns", "grade"),
    "most_return_fall": ("greatest fall of returns", "grade"),
    "most_throat_break": ("grade breaks at throats by at most", "grade"),
    "approach_length": ("approach to a throat", "length"),
    "most_approach_grade": ("greatest grade there", "grade"),
    "least_kerb_fall": ("least fall of kerbs", "grade"),
    "least_bulb_radius": ("least radius of bulbs", "length"),
    "least_radial_fall": ("least radial fall", "grade"),
    "most_radial_fall": ("greatest radial fall", "grade"),
    "most_driveway_grade": ("greatest driveway grade", "grade"),
    "least_lot_fall": ("least fall of lots", "grade"),
    "cut_tolerance": ("proposals cut at most", "length"),
    "fill_tolerance": ("proposals fill at most", "length"),
}


def class_sheet(q: Engine, street: str) -> Sheet:
    """The rules that a street is checked against, which all streets of its class share."""
    rules = class_of(q, street)
    none = np.empty((0, 2))
    head = Fact("class", "text", rules.name, "set", lambda v: lambda s: rename(s, StreetClass, rules.id, v))
    rows = [SheetRow((Fact("rule", "text", "class"), head), (0.0, 0.0), none)]
    for key, (words, unit) in RULES.items():
        limit = Fact(words, unit, getattr(rules, key), "set", _to(rules.id, key))
        rows.append(SheetRow((Fact("rule", "text", words), limit), (0.0, 0.0), none))
    others = [name_of(q, s) for s in street_ids(q) if s != street and frame_of(q, s).street_class == rules.id]
    note = "Typical values: check your authority's."
    whole: tuple[tuple[str, Edit], ...] = ()
    if others:
        more = f" and {len(others) - 2} more" if len(others) > 2 else ""
        note += f" What changes here changes for {', '.join(others[:2])}{more} too"
        whole = ((f"Own class for {name_of(q, street)}", lambda s: own_class(s, street)),)
    return Sheet("Class", StreetLine(street), _COLUMNS, tuple(rows), note, whole)


def set_rule(site: Site, street_class: str, **values: float) -> Site:
    """Change limits of a street class."""
    return site.put(changed(the(site, StreetClass, street_class), **values))


def own_class(site: Site, street: str) -> Site:
    """Give a street a copy of its class, named after it."""
    s = the(site, Street, street)
    name = free_name(site, StreetClass, f"{s.name} class")
    copy = changed(the(site, StreetClass, s.street_class), id=free_id(site, StreetClass, name), name=name)
    return set_street(site.put(copy), street, street_class=copy.id)


def _to(street_class: str, key: str) -> Callable[[float], Edit]:
    return lambda value: lambda s: set_rule(s, street_class, **{key: value})
