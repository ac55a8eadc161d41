"""A new site with the shipped street classes, kerb shapes, typical sections, roundabout presets and vehicles in it."""

from __future__ import annotations

import json
from functools import cache
from typing import Any

from humble_loop.data import path
from humble_loop.site.library import DriveVehicle, KerbShape, RoundaboutPreset, StreetClass, TypicalSection
from humble_loop.site.model import Site, Thing

LIBRARIES: tuple[type[Thing], ...] = (StreetClass, KerbShape, TypicalSection, RoundaboutPreset, DriveVehicle)


@cache
def shipped(collection: str) -> tuple[Any, ...]:
    """The things of a shipped library, checked and frozen."""
    rows = json.loads(path("libraries", f"{collection}.json").read_text(encoding="utf-8"))[collection]
    model = next(m for m in LIBRARIES if m.collection == collection)
    return tuple(model.model_validate(row) for row in rows)


def with_libraries(site: Site) -> Site:
    """The site with the shipped libraries where it has none of its own."""
    for model in LIBRARIES:
        if model.collection not in site.things:
            site = site.replaced(model.collection, shipped(model.collection))
    return site


def new_site(name: str = "New site") -> Site:
    """An empty site with the shipped libraries."""
    return with_libraries(Site(name=name))
