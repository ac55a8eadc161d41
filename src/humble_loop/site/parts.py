"""The parts of a site that queries of every kind read. Each is compared with its former self when the site changes.

Coordinates are as people know them here; rooms read them through parts that measure from the site's origin.
"""

from __future__ import annotations

from functools import cache
from typing import Any, TypeVar

from humble_loop.engine.query import Engine, Part, Unsolved, part
from humble_loop.site.library import KerbShape
from humble_loop.site.model import SetOut, Settings, Site, Thing

T = TypeVar("T", bound=Thing)


@part("settings")
def settings(site: Site) -> Settings:
    """The site's settings."""
    return site.settings


@part("set_out")
def set_out(site: Site) -> SetOut:
    """How set-out points are taken."""
    return site.set_out


@part("name")
def site_name(site: Site) -> str:
    """The site's name."""
    return site.name


@part("origin")
def origin(site: Site) -> tuple[float, float]:
    """The round point from which everything is worked out: easting and northing."""
    return site.origin or (0.0, 0.0)


@cache
def _ids(collection: str) -> Part[[], tuple[str, ...]]:
    def ids(site: Site) -> tuple[str, ...]:
        return tuple(t.id for t in site.collection(collection))

    return part(collection)(ids)


@cache
def _one(collection: str, words: str) -> Part[[str], Any]:
    def one(site: Site, id: str) -> Any:
        found = site.collection(collection).by_id.get(id)
        if found is None:
            raise Unsolved(words, f"'{id}' is not in the site", f"choose another {words}")
        return found

    return part(collection, keyed="id")(one)


@cache
def _owned(collection: str) -> Part[[str], tuple[Any, ...]]:
    def owned(site: Site, owner: str) -> tuple[Any, ...]:
        return site.collection(collection).by_owner.get(owner, ())

    return part(collection, keyed="owner")(owned)


def ids(q: Engine, model: type[Thing]) -> tuple[str, ...]:
    """Ids of all things of a model, in order."""
    return _ids(model.collection)(q)


def one(q: Engine, model: type[T], id: str) -> T:
    """A thing. Raises Unsolved when there is none with that id."""
    found: T = _one(model.collection, model.words)(q, id)
    return found


def owned(q: Engine, model: type[T], owner: str) -> tuple[T, ...]:
    """The things of a model that belong to ``owner``, in order."""
    return _owned(model.collection)(q, owner)


def kerb_shape(q: Engine, id: str) -> KerbShape:
    """A kerb shape."""
    return one(q, KerbShape, id)
