"""A new site with the shipped street classes, kerb shapes and typical sections in it."""

from __future__ import annotations

import json
from functools import cache
from typing import Any

from humble_loop.data import path
from humble_loop.site.model import Site


@cache
def _library(name: str) -> Any:
    return json.loads(path("libraries", f"{name}.json").read_text(encoding="utf-8"))[name]


def with_libraries(data: dict[str, Any]) -> dict[str, Any]:
    """Fill in the shipped libraries where ``data`` (a site as plain values) has none of its own."""
    return {**{name: _library(name) for name in ("street_classes", "kerb_shapes", "sections")}, **data}


def new_site(name: str = "New site") -> Site:
    """An empty site with the shipped libraries."""
    return Site.model_validate(with_libraries({"name": name}))
