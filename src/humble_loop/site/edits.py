"""How edits are made: small pure functions from a site to a new one that shares everything untouched.

The window, the command line and the tests use the same ones. Each kind's room holds its own; here stand what they
share and the edits of the frame. An edit that makes no sense raises EditError with one sentence, and the site stays
as it was.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from pydantic import ValidationError

from humble_loop.site.library import TypicalSection
from humble_loop.site.model import Model, Named, SetOut, Settings, Site, Thing, bare, slug

Edit = Callable[[Site], Site]
M = TypeVar("M", bound=Model)
T = TypeVar("T", bound=Thing)


class EditError(ValueError):
    """An edit that cannot be made; the message says what, where and what to do."""


def sentence(error: ValidationError) -> str:
    """The first complaint of ``error`` as one clear sentence."""
    first = error.errors()[0]
    where = " / ".join(str(part) for part in first["loc"])
    words = first["msg"].removeprefix("Value error, ")
    return f"{where}: {words}" if where else words


def made(model: type[M], **values: Any) -> M:
    """A new ``model``. Raises EditError in one sentence."""
    try:
        return model.model_validate(values)
    except ValidationError as error:
        raise EditError(sentence(error)) from None


def attempted(edit: Edit, site: Site) -> Site:
    """The site after an edit. Raises EditError in one sentence, also where the edit makes something that no model allows."""
    try:
        return edit(site)
    except ValidationError as error:
        raise EditError(sentence(error)) from None


def changed(model: M, **values: Any) -> M:
    """A copy of ``model`` with ``values``, checked again; parts that stay are shared, not copied."""
    return made(type(model), **{**{k: getattr(model, k) for k in type(model).model_fields}, **values})


def the(site: Site, model: type[T], id: str) -> T:
    """The thing with that id. Raises EditError when there is none."""
    found = site.find(model, id)
    if found is None:
        raise EditError(f"there is no {model.words} '{id}'")
    return found


def by_name(site: Site, model: type[T], name: str) -> T:
    """The thing with that id or name. Raises EditError when there is none."""
    found = site.find(model, name) or next((t for t in site.all(model) if getattr(t, "name", None) == name), None)
    if found is None:
        raise EditError(f"there is no {model.words} '{name}'")
    return found


def free_id(site: Site, model: type[Thing], name: str) -> str:
    """An id for ``name`` that nothing of this model has yet."""
    taken = site.collection(model.collection).by_id
    base = slug(name)
    return next(i for i in (base, *(f"{base}-{n}" for n in range(2, len(taken) + 3))) if i not in taken)


def free_name(site: Site, model: type[Named], name: str) -> str:
    """``name``, or ``name 2`` and so on when it is taken; what a file calls a thing may need cleaning first."""
    name = bare(name) or model.words.capitalize()
    taken = {t.name for t in site.all(model)}
    return next(i for i in (name, *(f"{name} {n}" for n in range(2, len(taken) + 3))) if i not in taken)


def rename(site: Site, model: type[Named], id: str, name: str) -> Site:
    """Give a thing another name."""
    fresh = changed(the(site, model, id), name=name)
    if any(t.name == fresh.name and t.id != id for t in site.all(model)):
        raise EditError(f"there is a {model.words} '{fresh.name}' already")
    return site.put(fresh)


def set_section(site: Site, section: TypicalSection) -> Site:
    """Put a typical section in place of the one with its id, or add it."""
    return site.put(section)


def set_settings(site: Site, **values: Any) -> Site:
    """Change fields of the settings."""
    fresh: Settings = changed(site.settings, **values)
    return site.model_copy(update={"settings": fresh})


def set_set_out(site: Site, **values: Any) -> Site:
    """Change how set-out points are taken."""
    fresh: SetOut = changed(site.set_out, **values)
    return site.model_copy(update={"set_out": fresh})


def remove(site: Site, model: type[Thing], id: str) -> Site:
    """Take a thing away, and all that belongs to it, at any remove."""
    the(site, model, id)
    gone = [(model.collection, id)]
    while gone:
        collection, i = gone.pop()
        site = site.replaced(collection, (t for t in site.collection(collection) if t.id != i))
        for name, things in site.things.items():
            gone += [(name, t.id) for t in things if t.owner == i and t.owned_by == collection]
    return site
