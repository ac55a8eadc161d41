"""The current ground as queries read it."""

from __future__ import annotations

import numpy as np

from humble_loop.engine.query import Engine, part
from humble_loop.ground.surface import Surface
from humble_loop.kinds.ground.model import Ground
from humble_loop.site.model import Site

NO_GROUND = Surface(np.empty((0, 3)), np.empty((0, 3), dtype=np.int64))


@part("grounds", "current_ground", "origin")
def current_surface(site: Site) -> Surface | None:
    """The current ground's surface, measured from the site's origin, or None."""
    grounds = site.all(Ground)
    found = site.find(Ground, site.current_ground) if site.current_ground else None
    found = found or next((g for g in reversed(grounds) if not g.proposed), None)
    if found is None or found.surface.empty:
        return None
    e, n = site.origin or (0.0, 0.0)
    return found.surface.shifted(-e, -n)


def ground_of(q: Engine) -> Surface:
    """The current ground, measured from the site's origin; an empty surface when there is none."""
    return current_surface(q) or NO_GROUND
