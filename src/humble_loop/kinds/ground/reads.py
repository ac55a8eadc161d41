"""The current ground as queries read it."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, part
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.model import Ground
from humble_loop.site.model import Site

NO_GROUND = Surface(np.empty((0, 3)), np.empty((0, 3), dtype=np.int64))


def _current(site: Site) -> Ground | None:
    found = site.find(Ground, site.current_ground) if site.current_ground else None
    return found or next((g for g in reversed(site.all(Ground)) if not g.proposed), None)


@part("grounds", "current_ground", "origin")
def current_surface(site: Site) -> Surface | None:
    """The current ground's surface, measured from the site's origin, or None."""
    found = _current(site)
    if found is None or found.surface.empty:
        return None
    e, n = site.origin or (0.0, 0.0)
    return found.surface.shifted(-e, -n)


@part("grounds", "current_ground", "origin")
def other_surfaces(site: Site) -> tuple[tuple[str, Surface], ...]:
    """All other surfaces by name, measured from the site's origin: designs that came in, and what was there before."""
    current, (e, n) = _current(site), site.origin or (0.0, 0.0)
    others = (g for g in site.all(Ground) if g is not current and not g.surface.empty)
    return tuple((g.name, g.surface.shifted(-e, -n)) for g in others)


@part("grounds", "origin")
def surfaces_by_id(site: Site) -> tuple[tuple[str, Surface], ...]:
    """Every surface by its id, measured from the site's origin."""
    e, n = site.origin or (0.0, 0.0)
    return tuple((g.id, g.surface.shifted(-e, -n)) for g in site.all(Ground) if not g.surface.empty)


@part("grounds", "current_ground")
def current_id(site: Site) -> str:
    """The id of the current ground; '' where there is none."""
    found = _current(site)
    return found.id if found is not None else ""


def surface_of(q: Engine, id: str) -> Surface | None:
    """A surface by its id ('': the current ground), measured from the site's origin; None where it is not there."""
    return dict(surfaces_by_id(q)).get(id) if id else ground_of(q)


def ground_of(q: Engine) -> Surface:
    """The current ground, measured from the site's origin; an empty surface when there is none."""
    return current_surface(q) or NO_GROUND
